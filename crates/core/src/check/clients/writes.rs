//! What clients write, and what they must be able to read.

use super::super::cells::Stretch;
use super::super::cycles;
use super::super::mapping;
use super::{ClientRead, ClientView};
use crate::finding::Finding;
use crate::plan::PlannedRule;
use crate::protocol::Verb;

impl ClientView<'_> {
    pub(super) fn write(&self, wanted: &ClientRead<'_>, findings: &mut Vec<Finding>) {
        if let (Some(dialect), Some(space)) =
            (self.station.dialect, self.station.space_at(wanted.extent.space))
            && let Err(limit) = dialect.cost(Verb::Write, space, wanted.extent.count, &self.station.setup)
        {
            let what = format!(
                "`{}` writes {} in one request, and one takes {} ({})",
                self.client.name.value, wanted.extent.count, limit.limit, limit.source
            );
            findings.push(Finding::new("M16", wanted.asked.span, what).fix("split the write"));
        }
        let stretches = self.cells.over(self.image, wanted.extent);
        findings.extend(self.one_beside(wanted, &stretches, "write"));
        for stretch in stretches {
            match stretch {
                Stretch::Bare(extent) => self.bare(wanted, extent, "writes", findings),
                Stretch::Fed(rule, part) if !rule.writable => {
                    let what = format!(
                        "`{}` writes {}, which the rule makes read-only",
                        self.client.name.value,
                        self.show(part.space, part.first)
                    );
                    let finding = Finding::new("M47", wanted.asked.span, what)
                        .fix("add `access = \"read-write\"` to the rule, or take it out of `writes`");
                    findings.push(self.note(finding, rule));
                }
                Stretch::Fed(rule, part) => {
                    let target = rule.target;
                    if (part.first - target.first) % target.width != 0
                        || (part.end() - target.first) % target.width != 0
                    {
                        let what = format!(
                            "a part of a `{}` of {} registers cannot be written",
                            rule.conversion.to.ty, target.width
                        );
                        findings.push(self.note(
                            Finding::new("M35", wanted.asked.span, what).fix("write whole values"),
                            rule,
                        ));
                    } else if let Some(form) = wanted.asked.form {
                        findings.extend(self.form_differs(wanted, rule, &form.value, form.span));
                    }
                }
            }
        }
    }

    pub(super) fn needs(&self, reads: &[ClientRead<'_>], findings: &mut Vec<Finding>) {
        for need in &self.client.must_read {
            let endpoint = match self.project.endpoint(need) {
                Ok(endpoint) => endpoint,
                Err(finding) => {
                    findings.push(finding);
                    continue;
                }
            };
            let rules: Vec<&PlannedRule> = mapping::carries(self.plan, &endpoint)
                .into_iter()
                .filter_map(|at| self.plan.rules.get(at))
                .collect();
            let here: Vec<&&PlannedRule> = rules.iter().filter(|rule| rule.board == self.image).collect();
            let Some(rule) = here.first() else {
                let what = format!(
                    "`{}` must see `{}`, and no rule brings it into `{}`",
                    self.client.name.value, need.value, self.station.name
                );
                let fix = format!("add a `[[map]]` with `from = \"{}\"`", need.value);
                findings.push(Finding::new("M11", need.span, what).fix(fix));
                continue;
            };
            let target = rule.target.extent();
            if cycles::exchanges(self.plan, self.client) {
                let seen = |rule: &&&PlannedRule| {
                    let space = self.station.space_at(rule.target.space);
                    let cyclic = self.station.dialect.and_then(|own| own.cyclic());
                    space.zip(cyclic).is_none_or(|(space, cyclic)| cyclic.has(&self.client.setup, space))
                };
                if !here.iter().any(seen) {
                    let what = format!(
                        "`{}` must see `{}` at {}, and does not have that slot",
                        self.client.name.value,
                        need.value,
                        self.show(target.space, target.first)
                    );
                    let fix = "add the slot at the controller and to its `slots`";
                    findings.push(self.note(Finding::new("M07", need.span, what), rule).fix(fix));
                }
                continue;
            }
            let seen = |w: &ClientRead<'_>| {
                w.extent.space == target.space
                    && w.extent.first <= target.first
                    && target.first < w.extent.end()
            };
            if !here.iter().any(|rule| reads.iter().any(|w| w.extent.space == rule.target.space && seen(w))) {
                let what = format!(
                    "`{}` must see `{}` at {}, and reads nothing there",
                    self.client.name.value,
                    need.value,
                    self.show(target.space, target.first)
                );
                findings.push(self.note(Finding::new("M07", need.span, what), rule));
            }
        }
    }
}
