//! Which value a client takes what it reads for, held against the one that the rule shows.

use super::{ClientRead, ClientView};
use crate::finding::Finding;
use crate::plan::{Plan, PlannedRule, Source};
use crate::project::{Owner, Project, Target, at_form};
use crate::protocol::Extent;
use crate::source::Spanned;
use std::borrow::Cow;
use std::cell::OnceCell;
use std::collections::HashMap;

/// Where a value comes from: whose cells, their table, the first of them, and one bit.
type Origin<'a> = (Owner, Cow<'a, str>, u32, Option<u8>);

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
        // Most are called as the rule calls them.
        if rule.target.count == 1
            && at_form(&map.from.value).map_or(map.from.value.as_str(), |(end, _)| end) == is.value
        {
            return None;
        }
        let shown = origin(self.plan, rule, part);
        let meant = self.place_of(is);
        let differs = match (&meant, &shown) {
            (Some(meant), Some(shown)) => meant != shown,
            // Health and the like are known by their names.
            (Some(_), None) => is.value != map.from.value,
            // In words: those of another rule are another value, and those of none say nothing.
            (None, _) => {
                let known = self.described.called(self.image, &is.value);
                !known.is_empty() && !known.contains(&rule.map)
            }
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
        let other = match &meant {
            Some(meant) => self.described.from(self.image, meant),
            None => self.described.called(self.image, &is.value).first().copied(),
        };
        let other = other.and_then(|map| self.plan.rules.iter().find(|rule| rule.map == map));
        if let Some(other) = other {
            let there = self.show(other.target.space, other.target.first);
            finding = finding.fix(format!("`{}` is at {there}: correct the address in the list", is.value));
        }
        Some(self.note(finding, rule))
    }

    /// The place that an endpoint names; `None` where it is none of the project's.
    fn place_of(&self, is: &Spanned<String>) -> Option<Origin<'static>> {
        let end = self.project.endpoint(is).ok()?;
        let Target::Cells(address, _) = end.target else { return None };
        Some((end.owner, address.space.key, address.first, address.bit))
    }
}

/// Where the first value of a part of a rule comes from.
fn origin<'p>(plan: &'p Plan, rule: &PlannedRule, part: Extent) -> Option<Origin<'p>> {
    let Source::Values { owner, place, .. } = rule.source else { return None };
    let item = (part.first.saturating_sub(rule.target.first)) / rule.target.width.max(1);
    let source = place.item(item.min(place.count.saturating_sub(1)));
    let space = plan.station(owner)?.space_at(source.space)?;
    Some((owner, Cow::Borrowed(space.key.as_ref()), source.first, place.bit))
}

/// What the project calls the values of each image, and where they come from. Found out when a client means another
/// value than they get: a large site of which all is well has no use for it.
pub(super) struct Described<'p> {
    project: &'p Project,
    plan: &'p Plan,
    words: OnceCell<HashMap<(usize, String), Vec<usize>>>,
    origins: OnceCell<HashMap<(usize, Origin<'p>), usize>>,
}

impl<'p> Described<'p> {
    pub(super) fn of(project: &'p Project, plan: &'p Plan) -> Self {
        Self { project, plan, words: OnceCell::new(), origins: OnceCell::new() }
    }

    /// The rules of an image that are called so: by their names and notes, or those of their points.
    fn called(&self, image: usize, words: &str) -> &[usize] {
        let all = self.words.get_or_init(|| {
            let mut all: HashMap<(usize, String), Vec<usize>> = HashMap::new();
            for rule in &self.plan.rules {
                for words in self.words_of(rule).into_iter().flatten() {
                    all.entry((rule.board, normal(words))).or_default().push(rule.map);
                }
            }
            all
        });
        all.get(&(image, normal(words))).map_or(&[], Vec::as_slice)
    }

    fn words_of(&self, rule: &PlannedRule) -> [Option<&'p str>; 4] {
        let Some(map) = self.project.maps.get(rule.map) else { return [None; 4] };
        let point = match rule.source {
            Source::Values { owner: Owner::Device(device), point, .. } => {
                self.project.profile_of(device).and_then(|profile| profile.points.get(point?))
            }
            _ => None,
        };
        let name = map.name.as_ref().map(|name| name.value.as_str());
        let note = point.and_then(|point| point.note.as_deref());
        [Some(map.from.value.as_str()), name, map.note.as_deref(), note]
    }

    /// The rule of an image whose first value comes from there.
    fn from(&self, image: usize, origin_of: &Origin<'static>) -> Option<usize> {
        let all = self.origins.get_or_init(|| {
            let rules = self.plan.rules.iter().rev();
            let known = rules.filter_map(|rule| {
                Some(((rule.board, origin(self.plan, rule, rule.target.extent())?), rule.map))
            });
            known.collect()
        });
        all.get(&(image, origin_of.clone())).copied()
    }
}

fn normal(words: &str) -> String {
    words.trim().to_lowercase()
}
