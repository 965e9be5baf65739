//! Which value a client takes what it reads for, held against the one that the rule shows.

use super::{ClientRead, ClientView};
use crate::finding::Finding;
use crate::plan::{PlannedRule, Source};
use crate::project::{Owner, Target};
use crate::protocol::Extent;
use crate::source::Spanned;

impl ClientView<'_> {
    /// Another value than the one that the client means.
    pub(super) fn means_another(
        &self,
        wanted: &ClientRead<'_>,
        rule: &PlannedRule,
        part: Extent,
    ) -> Option<Finding> {
        let is = wanted.asked.is.as_ref()?;
        let map = self.project.maps.get(rule.map)?;
        let shown = self.shown_from(rule, part);
        let meant = self.place_of(is);
        let differs = match (&meant, &shown) {
            (Some(meant), Some(shown)) => meant != shown,
            // Health and the like are known by their names.
            (Some(_), None) => is.value != map.from.value,
            // In words: those of another rule are another value, and those of none say nothing.
            (None, _) => !self.is_described(rule, &is.value) && self.others(rule, &is.value).is_some(),
        };
        if !differs {
            return None;
        }
        let at = self.show(part.space, part.first);
        let what = format!(
            "`{}` takes {at} for `{}`, and the rule shows `{}` there",
            self.client.name.value, is.value, map.from.value
        );
        let mut finding = Finding::new("M63", is.span, what);
        let other = self.plan.rules.iter().find(|other| {
            other.board == self.image
                && other.map != rule.map
                && match &meant {
                    Some(meant) => self.shown_from(other, other.target.extent()).as_ref() == Some(meant),
                    None => self.is_described(other, &is.value),
                }
        });
        if let Some(other) = other {
            let there = self.show(other.target.space, other.target.first);
            finding = finding.fix(format!("`{}` is at {there}: correct the address in the list", is.value));
        }
        Some(self.note(finding, rule))
    }

    /// Where the first value of a part comes from: whose cells, their first, and the bit.
    fn shown_from(&self, rule: &PlannedRule, part: Extent) -> Option<(Owner, String, u32, Option<u8>)> {
        let Source::Values { owner, place, .. } = rule.source else { return None };
        let item = (part.first.saturating_sub(rule.target.first)) / rule.target.width.max(1);
        let source = place.item(item.min(place.count.saturating_sub(1)));
        let space = self.plan.station(owner)?.space_at(source.space)?;
        Some((owner, space.key.to_string(), source.first, place.bit))
    }

    /// The place that an endpoint names; `None` where it is none of the project's.
    fn place_of(&self, is: &Spanned<String>) -> Option<(Owner, String, u32, Option<u8>)> {
        let end = self.project.endpoint(is).ok()?;
        let Target::Cells(address, _) = end.target else { return None };
        Some((end.owner, address.space.key.to_string(), address.first, address.bit))
    }

    /// Whether words are those by which the project describes a rule: its name, its note, its point's name or note.
    fn is_described(&self, rule: &PlannedRule, words: &str) -> bool {
        let Some(map) = self.project.maps.get(rule.map) else { return false };
        let same = |text: &str| text.trim().eq_ignore_ascii_case(words.trim());
        let point = match rule.source {
            Source::Values { owner: Owner::Device(device), point, .. } => {
                self.project.profile_of(device).and_then(|profile| profile.points.get(point?))
            }
            _ => None,
        };
        same(&map.from.value)
            || map.name.as_ref().is_some_and(|name| same(&name.value))
            || map.note.as_deref().is_some_and(same)
            || point.and_then(|point| point.note.as_deref()).is_some_and(same)
    }

    /// Another rule of the image that is described so.
    fn others(&self, rule: &PlannedRule, words: &str) -> Option<&PlannedRule> {
        let mut others = self.plan.rules.iter();
        others.find(|other| {
            other.board == self.image && other.map != rule.map && self.is_described(other, words)
        })
    }
}
