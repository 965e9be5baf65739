//! The values at both ends of each rule, at one moment.

use super::status::{Names, PortStatus, RuleName, ports, rule_age, seconds};
use crate::Moment;
use crate::shared::Shared;
use serde::{Deserialize, Serialize};
use woodrush_core::plan::Source;
use woodrush_core::{Kind, Refusal};

/// What each rule carries, at one moment. `format` is the version of this shape.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Values {
    /// 1.
    pub format: u32,
    /// The site.
    pub site: String,
    /// Seconds since the start.
    pub uptime: u64,
    /// What tells this project's rules, ports and forwards from others; as 16 hex digits.
    pub map: String,
    /// In file order.
    pub ports: Vec<PortStatus>,
    /// In file order.
    pub rules: Vec<RuleValues>,
}

/// One rule.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct RuleValues {
    /// Its number in the plan.
    pub rule: u32,
    /// Cells of its source as they came last, in hex; nothing while they never came, or where none come.
    pub source: Option<String>,
    /// Cells of its target in hex, as a reader gets them, or as a device is sent them; nothing where that is a refusal.
    pub target: Option<String>,
    /// Age of its oldest value, in seconds; nothing while there was none, or where it is told at each look.
    pub age: Option<f64>,
    /// What a reader gets.
    pub state: State,
    /// The last failure, as `health.last-error` shows it; 0 for none.
    pub last_error: u16,
}

/// What a reader of a rule's target gets.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum State {
    /// The value.
    Fresh,
    /// Something in place of a value that is too old: the last one, or what the project says.
    Held,
    /// A refusal: the source is lost, or its value too old.
    Lost,
    /// A refusal: there has been no value yet.
    Never,
}

fn hex(cells: &[u8]) -> String {
    use std::fmt::Write;
    let mut text = String::with_capacity(cells.len() * 2);
    for byte in cells {
        // Writing into a text cannot fail.
        let _ = write!(text, "{byte:02X}");
    }
    text
}

pub(super) fn look(shared: &Shared, names: &Names, now: Moment) -> Values {
    let mut room = vec![];
    Values {
        format: 1,
        site: names.site.clone(),
        uptime: now.0 / 1_000_000,
        map: names.map.clone(),
        ports: ports(shared, now),
        rules: names.rules.iter().filter_map(|name| rule(shared, name, now, &mut room)).collect(),
    }
}

fn rule(shared: &Shared, name: &RuleName, now: Moment, room: &mut Vec<u8>) -> Option<RuleValues> {
    let planned = shared.plan.rules.get(name.number as usize)?;
    // How old a value is, is told by its polls: what is sent on change only is not older for not being sent.
    let (age, polls) = rule_age(shared, name, now);
    let not_taken = shared.health.sends.get(&name.number).map_or(0, |sends| sends.counts().last_error);
    let source = match planned.source {
        Source::Poll { .. } => shared.brought(name.number, &name.transfers),
        Source::Entry { image, place, .. } => shared.peek(image, place.extent()),
        Source::Told(_) | Source::Client => None,
    };
    let extent = planned.target.extent();
    room.clear();
    let image = planned.board < shared.plan.images.len();
    let read = match planned.source {
        _ if image => shared.read(Some(planned.board), now, extent, room),
        // What a device shall be sent is there once a client has written it.
        Source::Entry { image, place, .. } => shared.read(Some(image), now, place.extent(), room),
        _ => Ok(()),
    };
    let old = age.is_none_or(|age| age > planned.max_age);
    let polled = matches!(planned.source, Source::Poll { .. });
    let state = match read {
        Ok(()) if polled && age.is_none() => State::Never,
        Ok(()) if !image && not_taken != 0 => State::Lost,
        Ok(()) if polled && old && image => State::Held,
        Ok(()) if polled && old => State::Lost,
        Ok(()) => State::Fresh,
        Err(Refusal { kind: Kind::NeverSeen, .. }) => State::Never,
        Err(_) => State::Lost,
    };
    // What a reader gets, and nothing where that is a refusal; what a device is sent as it stands.
    let target = match read {
        Ok(()) if image => Some(hex(room)),
        Err(_) if image => None,
        _ => shared.peek(planned.board, extent).map(|cells| hex(&cells)),
    };
    Some(RuleValues {
        rule: name.number,
        source: source.map(|cells| hex(&cells)),
        target: target.filter(|_| state != State::Never),
        age: age.map(seconds),
        state,
        last_error: if not_taken == 0 { polls.last_error } else { not_taken },
    })
}
