//! Cells of an image that nobody reads, nobody writes, or several do: seen over all clients of it.

use super::cells::Melted;
use super::clients::{ClientWrite, OnlyClients};
use crate::finding::{Finding, Severity};
use crate::plan::{Plan, PlannedRule, Source};
use crate::project::Project;
use crate::protocol::Extent;

/// Two clients that write one cell.
pub(super) fn written_twice(plan: &Plan, written: &mut [ClientWrite<'_>], findings: &mut Vec<Finding>) {
    written.sort_by_key(|(image, extent, span, _)| (*image, extent.space, extent.first, *span));
    let mut reach: Option<&ClientWrite<'_>> = None;
    for own in written.iter() {
        let (image, extent, span, name) = own;
        if let Some((.., other_span, other)) = reach.filter(|(i, before, _, other)| {
            (*i, before.space) == (*image, extent.space) && extent.first < before.end() && other != name
        }) {
            let at = plan.images.get(*image).map(|image| image.show(extent.space, extent.first, None));
            let ((first, note), (second, at_span)) = if other_span < span {
                ((other, other_span), (name, span))
            } else {
                ((name, span), (other, other_span))
            };
            let what = format!("`{first}` and `{second}` both write {}", at.unwrap_or_default());
            findings.push(Finding::new("M52", *at_span, what).note(*note, "the other"));
        }
        if reach.is_none_or(|(i, before, ..)| {
            (*i, before.space) != (*image, extent.space) || before.end() < extent.end()
        }) {
            reach = Some(own);
        }
    }
}

/// Cells that clients may write in an image whose clients are described, and that none of them writes.
pub(super) fn unwritten(
    project: &Project,
    plan: &Plan,
    described: &[usize],
    written: &Melted,
    findings: &mut Vec<Finding>,
) {
    for rule in plan.rules.iter().filter(|rule| rule.writable && described.contains(&rule.board)) {
        let (target, Some(map)) = (rule.target.extent(), project.maps.get(rule.map)) else { continue };
        let Some(image) = plan.images.get(rule.board).filter(|_| !written.meets(rule.board, target)) else {
            continue;
        };
        let entered = matches!(rule.source, Source::Client);
        let place = if entered { map.from.span } else { map.read_write.unwrap_or(map.to.span) };
        let what = format!("no described client writes {}", image.show(target.space, target.first, None));
        findings.push(
            Finding::new("M05", place, what).fix("add it to a client's `writes`, or make the rule read-only"),
        );
    }
}

/// Cells that a client reads, only clients can write, and none that is described does: a rule turned round leaves such.
pub(super) fn unfed(
    project: &Project,
    plan: &Plan,
    entered: &[OnlyClients<'_>],
    written: &Melted,
    findings: &mut Vec<Finding>,
) {
    for (image, rule, span, client) in entered {
        let target = rule.target.extent();
        let (Some(station), Some(map)) = (plan.images.get(*image), project.maps.get(rule.map)) else {
            continue;
        };
        if written.meets(*image, target) {
            continue;
        }
        let what = format!(
            "`{client}` reads {}, which only clients write, and no described one does",
            station.show(target.space, target.first, None)
        );
        findings.push(
            Finding::new("M04", *span, what)
                .severity(Severity::Warning)
                .note(map.from.span, "a rule that carries it on")
                .fix("is that rule turned round? data flows from `from` to `to`"),
        );
    }
}

/// Rules into an image whose clients are described, read by none of them.
pub(super) fn unread(
    project: &Project,
    plan: &Plan,
    described: &[usize],
    read: Vec<(usize, Extent)>,
    findings: &mut Vec<Finding>,
) {
    let read = Melted::of(read);
    let read_there = |rule: &&PlannedRule| described.contains(&rule.board) && rule.source != Source::Client;
    for rule in plan.rules.iter().filter(read_there) {
        let target = rule.target.extent();
        if read.meets(rule.board, target) {
            continue;
        }
        let (Some(map), Some(image)) = (project.maps.get(rule.map), plan.images.get(rule.board)) else {
            continue;
        };
        let what = format!("no described client reads {}", image.show(target.space, target.first, None));
        findings.push(Finding::new("M05", map.to.span, what));
    }
}
