//! The values at both ends of each rule, at one moment.

use super::status::{LinkStatus, Names, PortStatus, RuleName, links, ports, rule_age, seconds};
use crate::Moment;
use crate::hex::hex;
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
    pub uptime_s: u64,
    /// What tells this project's rules, ports and forwards from others; as 16 hex digits.
    pub project_id: String,
    /// In file order.
    pub ports: Vec<PortStatus>,
    /// What is exchanged in cycles, in file order.
    #[serde(default)]
    pub links: Vec<LinkStatus>,
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
    pub age_s: Option<f64>,
    /// What a reader gets.
    pub state: ValueState,
    /// The last failure, as `health.last-error` shows it; 0 for none.
    pub last_error: u16,
}

/// What a reader of a rule's target gets.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ValueState {
    /// The value.
    Fresh,
    /// Something in place of a value that is too old: the last one, or what the project says.
    Held,
    /// A refusal: the source is lost, or its value too old.
    Lost,
    /// A refusal: there has been no value yet.
    Never,
}

pub(super) fn look(shared: &Shared, names: &Names, now: Moment) -> Values {
    let mut room = vec![];
    Values {
        format: 1,
        site: names.site.clone(),
        uptime_s: now.0 / 1_000_000,
        project_id: names.map.clone(),
        ports: ports(shared, now),
        links: links(shared, now),
        rules: names.rules.iter().filter_map(|name| rule(shared, name, now, &mut room)).collect(),
    }
}

fn rule(shared: &Shared, name: &RuleName, now: Moment, room: &mut Vec<u8>) -> Option<RuleValues> {
    let planned = shared.plan.rules.get(name.number as usize)?;
    // How old a value is, is told by its polls: what is sent on change only is not older for not being sent.
    let (age, polls) = rule_age(shared, name, now);
    let not_taken = shared.health.sends.get(&name.number).map_or(0, |sends| sends.counts().last_error);
    let source = match planned.source {
        Source::Values { .. } => shared.brought(name.number, &name.transfers),
        Source::ClientCells { image, place, .. } => shared.peek(image, place.extent()),
        Source::Health(_) | Source::Client => None,
    };
    let extent = planned.target.extent();
    room.clear();
    let image = planned.board < shared.plan.images.len();
    let read = match planned.source {
        _ if image => shared.read_values(planned.board, now, extent, room),
        // What a device shall be sent is there once a client has written it.
        Source::ClientCells { image, place, .. } => shared.read(Some(image), now, place.extent(), room),
        _ => Ok(()),
    };
    let old = age.is_none_or(|age| age > planned.max_age);
    let polled = matches!(planned.source, Source::Values { .. });
    let state = match read {
        Ok(()) if polled && age.is_none() => ValueState::Never,
        Ok(()) if !image && not_taken != 0 => ValueState::Lost,
        Ok(()) if polled && old && image => ValueState::Held,
        Ok(()) if polled && old => ValueState::Lost,
        Ok(()) => ValueState::Fresh,
        Err(Refusal { kind: Kind::NeverSeen, .. }) => ValueState::Never,
        Err(_) => ValueState::Lost,
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
        target: target.filter(|_| state != ValueState::Never),
        age_s: age.map(seconds),
        state,
        last_error: if not_taken == 0 { polls.last_error } else { not_taken },
    })
}

#[cfg(test)]
#[allow(clippy::unwrap_used, clippy::panic)]
mod tests {
    use super::*;
    use crate::image::ClientCells;
    use std::sync::Arc;
    use woodrush_core::check::{Checked, check};
    use woodrush_core::plan::Plan;

    const SITE: &str = r#"
[project]
name = "Small"
[ports.line]
serial = "/dev/ttyS7"
line = "19200 8E1"
protocol = "modbus-rtu"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.gauge]
port = "line"
unit = 7
[devices.panel]
port = "line"
unit = 8
[images.scada]
port = "office"
[[map]]
from = "gauge:400001"
to = "scada:400001"
count = 2
[[map]]
from = "gauge:400003"
to = "scada:400011"
on-loss = "hold"
[[map]]
from = "gauge:400001"
to = "panel:400101"
[[map]]
from = "scada:400021"
to = "panel:400111"
[[map]]
from = "gauge.health.online"
to = "scada:100001"
"#;

    struct Site {
        checked: Checked,
        shared: Arc<Shared>,
    }

    impl Site {
        fn new() -> Self {
            Self::of(SITE)
        }

        fn of(text: &str) -> Self {
            let mut none = |_: &str| Err("no files".to_string());
            let checked = check(woodrush_core::project::read("test", text.into(), &mut none));
            assert!(!checked.has_errors(), "{:?}", checked.findings);
            let plan = Arc::new(Plan::build(&checked.project, &mut vec![]));
            let shared = Shared::new(&checked, plan, |_| {});
            Self { checked, shared }
        }

        /// The poll of the gauge is answered: three registers.
        fn answered(&self, now: Moment, words: [u16; 3]) {
            let cells: Vec<u8> = words.iter().flat_map(|word| word.to_be_bytes()).collect();
            let at = self.shared.plan.transfers.iter().position(|transfer| transfer.grains() == 3).unwrap();
            self.shared.land(at, now, &cells, std::iter::empty());
            self.shared.health.transfers[at].count(now, Ok(()), |_| None);
        }

        /// What is told of each rule: source, target, state.
        fn look(&self, now: Moment) -> Vec<(Option<String>, Option<String>, ValueState)> {
            let names = Names::of(&self.checked, &self.shared.plan);
            let values = look(&self.shared, &names, now);
            assert_eq!((values.format, values.rules.len()), (1, 5));
            values.rules.into_iter().map(|rule| (rule.source, rule.target, rule.state)).collect()
        }
    }

    fn cells(hex: &str) -> Option<String> {
        Some(hex.to_string())
    }

    #[test]
    fn both_ends_are_told_from_the_first_answer_on() {
        let site = Site::new();
        let before = site.look(Moment(1));
        assert!(before[..3].iter().all(|rule| *rule == (None, None, ValueState::Never)), "{before:?}");
        site.answered(Moment(1_000), [1, 2, 3]);
        let after = site.look(Moment(2_000));
        assert_eq!(after[0], (cells("00010002"), cells("00010002"), ValueState::Fresh));
        assert_eq!(after[1], (cells("0003"), cells("0003"), ValueState::Fresh));
        assert_eq!(
            after[2],
            (cells("0001"), cells("0001"), ValueState::Fresh),
            "what is to be sent to a device"
        );
        assert_eq!(after[4].0, None, "health has no source");
        assert_eq!(after[4].2, ValueState::Fresh);
    }

    #[test]
    fn what_is_too_old_is_refused_or_held_as_the_project_says() {
        let site = Site::new();
        site.answered(Moment(1_000), [1, 2, 3]);
        let later = site.look(Moment(60_000_000));
        assert_eq!(later[0], (cells("00010002"), None, ValueState::Lost), "a reader gets nothing");
        assert_eq!(later[1], (cells("0003"), cells("0003"), ValueState::Held), "the last value stands in");
        assert_eq!(later[2].2, ValueState::Lost, "an old value is not sent on");
        site.answered(Moment(60_000_000), [4, 5, 6]);
        assert_eq!(site.look(Moment(60_000_001))[0].1, cells("00040005"));
    }

    #[test]
    fn of_two_writes_at_once_all_that_shows_them_ends_with_the_same_one() {
        let site = Site::new();
        let entry = (0u32..).zip(&site.shared.plan.rules).find(|(_, rule)| rule.source == Source::Client);
        let rule = entry.unwrap().0;
        // Two who begin together; what both ends hold once they are done.
        let turn = std::sync::Barrier::new(2);
        for round in 0..1500u64 {
            std::thread::scope(|scope| {
                for word in [[1, 1], [2, 2]] {
                    let (site, turn) = (&site, &turn);
                    scope.spawn(move || {
                        let entered = ClientCells { rule, item: 0, cells: word.to_vec() };
                        turn.wait();
                        (0..20).for_each(|_| site.shared.enter(Moment(round), &entered));
                    });
                }
            });
            let (source, target, _) = &site.look(Moment(round))[3];
            assert_eq!(source, target, "round {round}");
        }
    }

    #[test]
    fn what_clients_write_is_there_once_they_have() {
        let site = Site::new();
        assert_eq!(site.look(Moment(5))[3], (cells("0000"), None, ValueState::Never), "no client wrote");
        let entry = (0u32..).zip(&site.shared.plan.rules).find(|(_, rule)| rule.source == Source::Client);
        let entered = ClientCells { rule: entry.unwrap().0, item: 0, cells: vec![0x12, 0x34] };
        site.shared.enter(Moment(10), &entered);
        assert_eq!(site.look(Moment(20))[3], (cells("1234"), cells("1234"), ValueState::Fresh));
    }

    /// A block is never refused, but the controller is told that its slot is bad: so are those who look.
    #[test]
    fn what_no_client_has_written_into_a_slot_is_no_value() {
        const SLOTS: &str = r#"
[ports.machine]
ethernet = "eth1"
protocol = "profinet"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[images.scada]
port = "office"
[images.io]
port = "machine"
station-name = "raceway-box"
slots = [{ slot = 1, in = 4 }]
[[map]]
from = "scada:400021"
to = "io:1:%IW0"
"#;
        let site = Site::of(SLOTS);
        let shared = &site.shared;
        let names = Names::of(&site.checked, &shared.plan);
        let told = |now| {
            let rule = look(shared, &names, now).rules.remove(0);
            let status = crate::monitor::status::look(shared, &names, now);
            (rule.state, rule.target, status.rules[0].fresh)
        };
        assert_eq!(told(Moment(5)), (ValueState::Never, None, false));
        let entry = shared.plan.rules.iter().position(|rule| rule.source == Source::Client).unwrap();
        let rule = u32::try_from(entry).unwrap();
        shared.enter(Moment(6), &ClientCells { rule, item: 0, cells: vec![0x12, 0x34] });
        assert_eq!(told(Moment(7)), (ValueState::Fresh, cells("1234"), true));
    }
}
