//! Writes that are sent without a client waiting for them: when a value changes, or again and again.

use super::{Plan, PlannedRule, Source, to_u32};
use crate::project::{OnLoss, Owner};
use crate::protocol::{Extent, Flow, Verb};

/// One write request for a device, fed by values of one rule.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Push {
    /// Index of the rule.
    pub rule: u32,
    /// Its first value here.
    pub item: u32,
    /// How many values.
    pub items: u32,
    /// Index of the device.
    pub device: usize,
    /// What is written.
    pub extent: Extent,
    /// One bit of it.
    pub bit: Option<u8>,
    /// When the value differs from what the device is known to hold.
    pub on_change: bool,
    /// Clients write the value, and each of their writes is a request of its own: it is sent again where the device has
    /// not confirmed that, or was away since.
    pub carried: bool,
    /// Again and again, in microseconds.
    pub every: Option<u64>,
    /// What is sent once the source is lost.
    pub on_loss: OnLoss,
    /// Its time on the line, in microseconds.
    pub takes: u64,
}

/// Every push of the plan: as few requests as the device takes.
pub(super) fn all(plan: &Plan) -> Vec<Push> {
    let mut found = vec![];
    for (at, rule) in plan.rules.iter().enumerate() {
        let Some(device) = plan.sink(rule) else { continue };
        let carried = matches!(rule.source, Source::ClientCells { .. });
        // What goes in cycles needs no request.
        if rule.sending.keeps() && plan.flow(Owner::Device(device), rule.target.space) == Flow::Asked {
            found.extend(of_rule(plan, to_u32(at), rule, device, carried));
        }
    }
    found
}

fn of_rule(plan: &Plan, number: u32, rule: &PlannedRule, device: usize, carried: bool) -> Vec<Push> {
    let Some(station) = plan.devices.get(device) else { return vec![] };
    let (Some(dialect), Some(space)) = (station.dialect, station.space_at(rule.target.space)) else {
        return vec![];
    };
    let cost = |items: u32| dialect.cost(Verb::Write, space, items * rule.target.width, &station.setup);
    let mut found = vec![];
    let mut item = 0;
    while item < rule.target.count {
        let mut items = 1;
        while item + items < rule.target.count && cost(items + 1).is_ok() {
            items += 1;
        }
        let first = rule.target.item(item);
        let line = plan.write_port(device).and_then(|port| plan.lines.get(port));
        found.push(Push {
            rule: number,
            item,
            items,
            device,
            extent: Extent { count: items * rule.target.width, ..first },
            bit: rule.target.bit,
            on_change: rule.sending.on_change,
            carried,
            every: rule.sending.every,
            on_loss: rule.on_loss,
            takes: line.zip(cost(items).ok()).map_or(0, |(line, cost)| line.exchange(cost)),
        });
        item += items;
    }
    found
}
