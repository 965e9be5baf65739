//! What a client expects of an image as a whole: the unit that it asks, and what a lost value looks like there.

use super::super::cells::Stretch;
use super::ClientView;
use crate::finding::{Finding, Severity};
use crate::plan::{PlannedRule, Source};
use crate::project::OnLoss;
use std::collections::BTreeMap;

impl ClientView<'_> {
    /// A unit at which its image does not answer.
    pub(super) fn asks_another_unit(&self) -> Option<Finding> {
        let unit = self.client.unit?;
        let image = self.project.images.get(self.image)?;
        let own = self.station.number()?;
        if own == unit.value {
            return None;
        }
        let client = &self.client.name.value;
        let what = format!(
            "`{client}` asks unit {}, and its image `{}` answers as unit {own}",
            unit.value, image.name.value
        );
        Some(
            Finding::new("M04", unit.span, what)
                .note(image.station_at, "the image's unit")
                .why("requests for another unit are left without an answer, and the client waits for each of them")
                .fix(format!("set unit {own} at the client, or change the image's")),
        )
    }

    /// Values that look otherwise when they are lost than the client expects: one finding for each way.
    pub(super) fn expects_another_loss(&self, reads: &[super::ClientRead<'_>]) -> Vec<Finding> {
        let Some(lost) = self.client.lost else { return vec![] };
        let can_be_lost = |rule: &&PlannedRule| !matches!(rule.source, Source::Client | Source::Health(_));
        let read = reads.iter().flat_map(|wanted| self.cells.over(self.image, wanted.extent));
        let mut rules: BTreeMap<usize, &PlannedRule> = read
            .filter_map(|stretch| match stretch {
                Stretch::Fed(rule, _) => Some((rule.map, rule)),
                Stretch::Bare(_) => None,
            })
            .collect();
        if reads.is_empty() {
            // What it reads is not said: anything of the image.
            let all = self.plan.rules.iter().filter(|rule| rule.board == self.image);
            rules.extend(all.map(|rule| (rule.map, rule)));
        }
        let mut differing: Vec<(OnLoss, Vec<&PlannedRule>)> = vec![];
        for rule in rules.into_values().filter(can_be_lost).filter(|rule| rule.on_loss != lost.value) {
            match differing.iter_mut().find(|(on_loss, _)| *on_loss == rule.on_loss) {
                Some((_, rules)) => rules.push(rule),
                None => differing.push((rule.on_loss, vec![rule])),
            }
        }
        let told = |(on_loss, rules): (OnLoss, Vec<&PlannedRule>)| {
            let first = *rules.first()?;
            let at = self.show(first.target.space, first.target.first);
            let more = match rules.len() {
                1 => String::new(),
                count => format!(" and {} more", count - 1),
            };
            let what = format!(
                "`{}` expects a lost value to be {}, and at {at}{more} it is {}",
                self.client.name.value,
                looks(lost.value),
                looks(on_loss)
            );
            // What is refused cannot be taken for a value.
            let (severity, why) = match on_loss {
                OnLoss::Refuse => {
                    (Severity::Warning, "the client shows an error where it was to show a value")
                }
                _ => (Severity::Error, "a value that is no longer measured looks live at the client"),
            };
            let fix = format!(
                "write `on-loss = \"{}\"` at the image or the rule, or let the client know",
                lost.value
            );
            Some(self.note(Finding::new("M51", lost.span, what).severity(severity).why(why).fix(fix), first))
        };
        differing.into_iter().filter_map(told).collect()
    }
}

/// What a reader gets for a lost value, to stand behind "is".
fn looks(on_loss: OnLoss) -> String {
    match on_loss {
        OnLoss::Refuse => "refused".into(),
        OnLoss::Hold => "held at its last".into(),
        OnLoss::Fill(word) => format!("filled with 0x{word:04X}"),
        OnLoss::Stop => "no longer sent".into(),
    }
}
