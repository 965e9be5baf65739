//! Everything that is counted, at one moment.

use crate::Moment;
use crate::health::{Counts, LinkCounts, PortTally, Tally, freshness};
use crate::shared::Shared;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::Ordering::Relaxed;
use woodrush_core::check::Checked;
use woodrush_core::plan::{CyclicLink, Plan, Source};
use woodrush_core::project::Owner;

/// A converter at one moment. `format` is the version of this shape.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Status {
    /// 1.
    pub format: u32,
    /// The site.
    pub site: String,
    /// The version of the program.
    pub version: String,
    /// Seconds since it was started.
    pub uptime_s: u64,
    /// What tells this project's rules, ports and forwards from others; as 16 hex digits.
    pub project_id: String,
    /// In file order.
    pub ports: Vec<PortStatus>,
    /// In file order.
    pub devices: Vec<DeviceStatus>,
    /// What is exchanged in cycles; nothing where nothing is.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub links: Vec<LinkStatus>,
    /// In file order.
    pub rules: Vec<RuleStatus>,
    /// The clients that are connected.
    pub clients: Vec<ClientStatus>,
}

/// One port.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct PortStatus {
    /// Its name.
    pub name: String,
    /// Whether it is open.
    pub up: bool,
    /// What became of our requests.
    pub counts: Counts,
    /// Damaged frames of those who ask there.
    pub damaged_requests: u64,
    /// Share of time in use, in per cent.
    pub load_percent: u64,
    /// Connections now.
    pub clients: u64,
    /// Connections turned away.
    pub turned_away: u64,
    /// Answers of ours that came too late for who asked on a line, and were not sent.
    #[serde(default)]
    pub late_answers: u64,
    /// How many exchanges in cycles go over it.
    #[serde(default)]
    pub cycles: u64,
}

/// One device.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct DeviceStatus {
    /// Its name.
    pub name: String,
    /// Whether it was asked at all: of one that was not, nobody knows whether it is lost.
    #[serde(default)]
    pub asked: bool,
    /// Whether it answers.
    pub online: bool,
    /// Age of its oldest value, in seconds; nothing while one was never read.
    pub age_s: Option<f64>,
    /// What became of the requests to it.
    pub counts: Counts,
}

/// One exchange in cycles.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct LinkStatus {
    /// The image or the device.
    pub with: String,
    /// A controller opens it; else we do.
    pub controller: bool,
    /// Age of the last frame in which the other end was in run, in seconds; nothing while none came.
    pub age_s: Option<f64>,
    /// What is counted.
    #[serde(flatten)]
    pub counts: LinkCounts,
}

/// One rule.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct RuleStatus {
    /// Its name, or its place in the file.
    pub name: String,
    /// As written.
    pub from: String,
    /// As written.
    pub to: String,
    /// Age of its oldest value, in seconds; nothing while there was none.
    pub age_s: Option<f64>,
    /// Whether its values are fresh.
    pub fresh: bool,
    /// What became of the requests that carry it.
    pub counts: Counts,
}

/// A client.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct ClientStatus {
    /// The port's name.
    pub port: String,
    /// Who.
    pub who: String,
    /// They are connected: always so, since who has left is not told any more.
    #[serde(default = "connected")]
    pub connected: bool,
    /// What became of their requests.
    pub counts: Counts,
}

const fn connected() -> bool {
    true
}

/// Names for what the plan only numbers.
pub(super) struct Names {
    pub(super) site: String,
    pub(super) map: String,
    pub(super) rules: Vec<RuleName>,
}

pub(super) struct RuleName {
    name: String,
    from: String,
    to: String,
    /// In the plan.
    pub(super) number: u32,
    pub(super) transfers: Vec<usize>,
}

impl Names {
    pub(super) fn of(checked: &Checked, plan: &Plan) -> Self {
        let mut fed: HashMap<u32, Vec<usize>> = HashMap::new();
        for (at, transfer) in plan.transfers.iter().enumerate() {
            for step in
                plan.steps.get(transfer.steps.start as usize..transfer.steps.end as usize).unwrap_or_default()
            {
                let feeds = fed.entry(step.rule).or_default();
                if feeds.last() != Some(&at) {
                    feeds.push(at);
                }
            }
        }
        let rules = (0u32..).zip(&plan.rules).filter(|(_, rule)| rule.source != Source::Client);
        let rules = rules.filter_map(|(number, rule)| {
            let map = checked.project.maps.get(rule.map)?;
            Some(RuleName {
                name: map.name.as_ref().map_or_else(|| (rule.map + 1).to_string(), |name| name.value.clone()),
                from: map.from.value.clone(),
                to: map.to.value.clone(),
                number,
                transfers: fed.remove(&number).unwrap_or_default(),
            })
        });
        Self {
            site: checked.project.name.value.clone(),
            map: format!("{:016x}", plan.fingerprint(&checked.project)),
            rules: rules.collect(),
        }
    }
}

pub(super) fn seconds(micros: u64) -> f64 {
    (micros as f64 / 1e5).round() / 10.0
}

pub(super) fn ports(shared: &Shared, now: Moment) -> Vec<PortStatus> {
    let health = &shared.health;
    let clients = health.clients();
    let asked = |port: &Arc<PortTally>| {
        let here = clients.iter().filter(|client| Arc::ptr_eq(&client.port, port));
        here.map(|client| client.tally.counts()).fold(port.past(), Counts::plus)
    };
    let over = |port: usize| {
        let here =
            |link: &&CyclicLink| shared.plan.station(link.with).is_some_and(|station| station.port == port);
        shared.plan.links.iter().filter(here).count() as u64
    };
    let ports = shared.ports.iter().zip(&health.ports).enumerate().map(|(at, (port, tally))| PortStatus {
        name: port.name.clone(),
        up: tally.up.load(Relaxed),
        counts: tally.tally.counts().plus(asked(tally)),
        damaged_requests: tally.noise.load(Relaxed),
        load_percent: tally.load(now),
        clients: tally.clients.load(Relaxed),
        turned_away: tally.turned_away.load(Relaxed),
        late_answers: tally.late_answers.load(Relaxed),
        cycles: over(at),
    });
    ports.collect()
}

pub(super) fn links(shared: &Shared, now: Moment) -> Vec<LinkStatus> {
    let links = shared.plan.links.iter().zip(&shared.health.links).map(|(link, known)| LinkStatus {
        with: shared.plan.station(link.with).map(|station| station.name.clone()).unwrap_or_default(),
        controller: matches!(link.with, Owner::Image(_)),
        age_s: known.age(now).map(seconds),
        counts: known.counts(),
    });
    links.collect()
}

pub(super) fn look(shared: &Shared, names: &Names, now: Moment) -> Status {
    let health = &shared.health;
    let clients = health.clients();
    let devices = shared.plan.devices.iter().zip(&health.devices).map(|(device, known)| DeviceStatus {
        name: device.name.clone(),
        asked: known.is_online() || known.counts().2 != 0 || known.tally.counts().requests > 0,
        online: known.is_online(),
        age_s: known.age(now).map(seconds),
        counts: known.tally.counts(),
    });
    let rules = names.rules.iter().map(|name| rule(shared, name, now));
    let port = |own: &Arc<PortTally>| {
        let at = health.ports.iter().position(|port| Arc::ptr_eq(port, own))?;
        Some(shared.ports.get(at)?.name.clone())
    };
    let clients = clients.iter().map(|client| ClientStatus {
        port: port(&client.port).unwrap_or_default(),
        who: client.who.clone(),
        connected: true,
        counts: client.tally.counts(),
    });
    Status {
        format: 1,
        site: names.site.clone(),
        version: env!("CARGO_PKG_VERSION").into(),
        uptime_s: now.0 / 1_000_000,
        project_id: names.map.clone(),
        ports: ports(shared, now),
        devices: devices.collect(),
        links: links(shared, now),
        rules: rules.collect(),
        clients: clients.collect(),
    }
}

/// Age of a rule's oldest value by its polls, in microseconds, and what became of them.
pub(super) fn rule_age(shared: &Shared, name: &RuleName, now: Moment) -> (Option<u64>, Counts) {
    let polls = name.transfers.iter().filter_map(|at| shared.health.transfers.get(*at));
    together(polls.map(|poll| poll.of(name.number)), now)
}

/// The greatest age of all of these, and their counts together; no age where one of them has none.
fn together<'t>(tallies: impl Iterator<Item = &'t Tally>, now: Moment) -> (Option<u64>, Counts) {
    let tallies: Vec<&Tally> = tallies.collect();
    let ages: Option<Vec<u64>> = tallies.iter().map(|tally| tally.age(now)).collect();
    let age = ages.filter(|ages| !ages.is_empty()).and_then(|ages| ages.into_iter().max());
    (age, tallies.iter().map(|tally| tally.counts()).reduce(Counts::plus).unwrap_or_default())
}

fn rule(shared: &Shared, name: &RuleName, now: Moment) -> RuleStatus {
    let messages = || name.transfers.iter().filter_map(|at| shared.health.transfers.get(*at));
    let polls: Vec<&Tally> = messages().map(|poll| poll.of(name.number)).collect();
    let sends: Vec<&Tally> = shared.health.sends.get(&name.number).into_iter().collect();
    let carried = !polls.is_empty() || !sends.is_empty();
    let max_age = shared.plan.rules.get(name.number as usize).map_or(u64::MAX, |rule| rule.max_age);
    let (age, fresh) = freshness(&polls, &sends, max_age, now);
    let asked = messages().map(|poll| poll.counts_of(name.number));
    let counts = asked.chain(sends.iter().map(|tally| tally.counts())).reduce(Counts::plus);
    RuleStatus {
        name: name.name.clone(),
        from: name.from.clone(),
        to: name.to.clone(),
        age_s: age.map(seconds),
        // What is told is as fresh as it gets; and what clients write, once they have where others read it.
        fresh: if carried { fresh } else { !is_refused(shared, name, now) },
        counts: counts.unwrap_or_default(),
    }
}

/// Whether those who read what clients write into another image are refused: none has written it yet.
fn is_refused(shared: &Shared, name: &RuleName, now: Moment) -> bool {
    let Some(planned) = shared.plan.rules.get(name.number as usize) else { return false };
    let between = matches!(planned.source, Source::ClientCells { .. });
    between
        && planned.board < shared.plan.images.len()
        && shared.read_values(planned.board, now, planned.target.extent(), &mut vec![]).is_err()
}
