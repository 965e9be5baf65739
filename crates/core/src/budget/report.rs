//! Bus time on paper: what each request takes, how full each line is, what a dead device costs, and what to change.

use super::{LineTime, Share};
use crate::plan::{Plan, Station, Transfer};
use crate::project::{Project, show_micros};
use crate::protocol::{Cost, Verb};
use serde::Serialize;

/// A gain below this share of the cycle is not worth a change.
const WORTH: f64 = 0.02;

/// One line on which we ask. Times are in microseconds.
#[derive(Debug, Clone, Serialize)]
pub struct LineBudget {
    /// The port's name.
    pub port: String,
    /// Its settings, or what carries it.
    pub line: String,
    /// One character.
    pub character_us: f64,
    /// The pause before a request.
    pub frame_gap_us: u64,
    /// All polls once, and what is sent again and again.
    pub cycle_us: u64,
    /// The share of the time that they take as they are asked for; above 1 the line cannot keep them.
    pub load: f64,
    /// Each request.
    pub requests: Vec<RequestBudget>,
    /// What each device takes, the largest share first.
    pub devices: Vec<Share>,
    /// What one exchange is assumed to take over TCP; 0 on a line.
    pub round_trip_us: u64,
    /// What comes by itself there; `None` where nothing does.
    pub published: Option<PublishedBudget>,
    /// Each device that falls silent.
    pub dead: Vec<DeadBudget>,
    /// What to change, in words, the most useful first.
    pub advice: Vec<String>,
}

/// What comes by itself on a link, turn after turn. Times are in microseconds, and about.
#[derive(Debug, Clone, Serialize)]
pub struct PublishedBudget {
    /// What its people call one turn.
    #[serde(skip)]
    pub turn: &'static str,
    /// One turn, in which each of them comes once.
    pub cycle_us: u64,
    /// Whose they are, and what.
    pub what: Vec<(String, String)>,
    /// What all of them take of a turn.
    pub takes_us: u64,
    /// The longest run of what makes one of them, with its own publication; 0 where no run is known.
    pub chain_us: u64,
    /// The share of a turn that they take; a half at most leaves enough to all else.
    pub load: f64,
    /// What one read or write takes of the rest.
    pub request_us: u64,
    /// The most reads and writes a second, whatever is asked for.
    pub requests_per_second: f64,
}

/// A turn is at least so many times as long as its publications: half of it is left to all else.
const TURN_LEAST: u64 = 2;

fn published(plan: &Plan, at: usize, time: LineTime) -> Option<PublishedBudget> {
    let own = |transfer: &&Transfer| {
        !transfer.cadence.is_asked() && plan.station(transfer.from).is_some_and(|own| own.port == at)
    };
    let all: Vec<&Transfer> = plan.transfers.iter().filter(own).collect();
    let first = all.first()?;
    let publishing = plan.publishing(first.device()?)?;
    let what = all.iter().filter_map(|transfer| {
        let station = plan.station(transfer.from)?;
        Some((station.name.clone(), station.space_at(transfer.first()?.space)?.name().to_string()))
    });
    let chain = all.iter().filter_map(|transfer| {
        let station = plan.station(transfer.from)?;
        let space = station.space_at(transfer.first()?.space)?;
        Some(station.dialect?.requests()?.execution(space, &station.setup)? + publishing.takes)
    });
    let takes = publishing.takes * u64::try_from(all.len()).unwrap_or(0);
    Some(PublishedBudget {
        turn: publishing.turn,
        cycle_us: publishing.every,
        what: what.collect(),
        takes_us: takes,
        chain_us: chain.max().unwrap_or(0),
        load: takes as f64 / publishing.every.max(1) as f64,
        request_us: publishing.request_takes,
        requests_per_second: 1e6 / time.own_frame_gap.max(1) as f64,
    })
}

impl PublishedBudget {
    /// Whether all else gets less than half of a turn.
    #[must_use]
    pub const fn is_tight(&self) -> bool {
        self.takes_us.saturating_mul(TURN_LEAST) > self.cycle_us
    }

    /// What to change where a turn is too short.
    fn advice(&self) -> Option<String> {
        let turn = self.turn;
        let why = if self.is_tight() {
            format!(
                "publications take {:.0} % of the {turn}, and half of it should be left to reads, writes and alarms",
                self.load * 100.0
            )
        } else if self.chain_us > self.cycle_us {
            format!("a block runs and publishes in {}, longer than the {turn}", show_micros(self.chain_us))
        } else {
            return None;
        };
        let least = self.takes_us.saturating_mul(TURN_LEAST).max(self.chain_us);
        let least = show_micros(least.next_multiple_of(50_000));
        Some(format!("{why}: lengthen it to {least} or more, or publish fewer"))
    }
}

/// One request that is sent again and again.
#[derive(Debug, Clone, Serialize)]
pub struct RequestBudget {
    /// The device's name.
    pub device: String,
    /// The first address and how many, in words.
    pub what: String,
    /// How often.
    pub every_us: u64,
    /// Bytes of the request, framing included.
    pub bytes_sent: u32,
    /// Bytes of the answer.
    pub bytes_received: u32,
    /// Time of the bytes of both.
    pub wire_us: u64,
    /// Silences between them.
    pub gaps_us: u64,
    /// What the device takes before it answers, at least: the silence of its line.
    pub device_us: u64,
    /// All of it.
    pub takes_us: u64,
}

/// What a device costs that does not answer.
#[derive(Debug, Clone, Serialize)]
pub struct DeadBudget {
    /// The device's name.
    pub device: String,
    /// One try: the request, the timeout with its retries, and the rest after it.
    pub one_try_us: u64,
    /// Until it counts as lost.
    pub until_lost_us: u64,
    /// The share of the line that its probes take at most, once it is lost.
    pub then: f64,
    /// What its requests take in one round while it lives.
    pub own_cycle_us: u64,
}

/// The budget of every line on which devices are asked.
#[must_use]
pub fn report(project: &Project, plan: &Plan) -> Vec<LineBudget> {
    (0..project.ports.len()).filter_map(|port| line(project, plan, port)).collect()
}

fn line(project: &Project, plan: &Plan, at: usize) -> Option<LineBudget> {
    let (port, time) = (project.ports.get(at)?, *plan.lines.get(at)?);
    let here: Vec<&Transfer> = plan
        .transfers
        .iter()
        .filter(|transfer| transfer.cadence.is_asked())
        .filter(|transfer| plan.station(transfer.from).is_some_and(|station| station.port == at))
        .collect();
    let mut requests: Vec<RequestBudget> =
        here.iter().filter_map(|transfer| request(plan, time, transfer)).collect();
    requests.extend(sent(plan, time, at));
    let published = published(plan, at, time);
    if requests.is_empty() && published.is_none() {
        return None;
    }
    let cycle = plan.cycles.get(at).copied().unwrap_or(0);
    let load = plan.load(at);
    let dead = dead(project, plan, at, time, &here);
    let shortest = here.iter().map(|transfer| transfer.cadence.interval()).min().unwrap_or(0);
    let devices = super::shares(plan, at);
    let mut advice: Vec<String> = published.as_ref().and_then(PublishedBudget::advice).into_iter().collect();
    if load > 1.0 {
        let least = devices.iter().map(|share| share.gets_us).min().unwrap_or(cycle);
        advice.push(format!(
            "the line cannot keep its polls: ask every {} or less often what is asked more often (the shortest is {})",
            show_micros(round_up(least)),
            show_micros(shortest)
        ));
    }
    // Over TCP a request less is worth a change only where they are many.
    if time.char_nanos > 0 || load > 0.5 {
        advice.extend(joins(project, plan, time, &here, cycle));
    }
    advice.extend(more_at_once(plan, at));
    if time.own_frame_gap > time.frame_gap && time.frame_gap > 0 {
        let gain = (time.own_frame_gap - time.frame_gap) * u64::try_from(requests.len()).unwrap_or(0);
        if gain as f64 > WORTH * cycle as f64 {
            advice.push(format!(
                "`frame-gap = \"{}\"` costs {} a cycle more than the protocol's {}",
                show_micros(time.own_frame_gap).replace(' ', ""),
                show_micros(gain),
                show_micros(time.frame_gap)
            ));
        }
    }
    advice.extend(faster(port, time, &requests, cycle, load));
    let own_way = port.protocol.and_then(|protocol| protocol.value.requests()?.unanswered(&port.setup));
    // Where the others are asked less often than that, they miss nothing.
    if let Some(slow) = dead
        .iter()
        .max_by_key(|dead| dead.one_try_us)
        .filter(|dead| time.char_nanos > 0 && dead.one_try_us > 2 * cycle && dead.one_try_us > shortest)
    {
        advice.push(format!(
            "a device that does not answer holds the line for {}, {} cycles: lower {}",
            show_micros(slow.one_try_us),
            slow.one_try_us / cycle.max(1),
            own_way.map_or("`timeout` to a few times the longest answer", |(_, keys)| keys)
        ));
    }
    let carried = port.line().map(|line| line.value.to_string());
    Some(LineBudget {
        port: port.name.value.clone(),
        line: carried.unwrap_or_else(|| "TCP".into()),
        character_us: time.char_nanos as f64 / 1000.0,
        frame_gap_us: time.own_frame_gap,
        cycle_us: cycle,
        load,
        requests,
        devices,
        round_trip_us: time.round_trip(),
        published,
        dead,
        advice,
    })
}

fn row(device: &str, what: String, every: u64, cost: Cost, time: LineTime) -> RequestBudget {
    let gaps = if cost.turns == 0 { 0 } else { time.own_frame_gap };
    let device_delay = u64::from(cost.turns.saturating_sub(1)) * time.frame_gap;
    RequestBudget {
        device: device.into(),
        what,
        every_us: every,
        bytes_sent: cost.out,
        bytes_received: cost.back,
        wire_us: time.bytes(cost.out) + time.bytes(cost.back),
        gaps_us: gaps,
        device_us: device_delay,
        takes_us: time.exchange(cost),
    }
}

fn request(plan: &Plan, time: LineTime, transfer: &Transfer) -> Option<RequestBudget> {
    let station = plan.station(transfer.from)?;
    let (space, first) = (station.space_at(transfer.first()?.space)?, transfer.first()?.first);
    let cost = station.cost(Verb::Read, &transfer.parts)?;
    // By what is counted: bytes, words, elements.
    let shown = station.dialect?.notation().show(space, first, 1, None, &station.setup).canonical;
    let brought = plan.brought_by(transfer);
    let name = |device: Option<&usize>| Some(plan.devices.get(*device?)?.name.as_str());
    let whose = match (name(brought.first()), name(brought.last())) {
        (Some(first), Some(last)) if first != last => format!("{first} to {last}"),
        (Some(first), _) => first.to_string(),
        _ => station.name.clone(),
    };
    Some(row(
        &whose,
        if space.whole {
            format!("reads {}", space.name())
        } else {
            format!("reads {shown} x{}", transfer.grains())
        },
        transfer.cadence.interval(),
        cost,
        time,
    ))
}

/// What is sent again and again.
fn sent(plan: &Plan, time: LineTime, at: usize) -> Vec<RequestBudget> {
    let row = |push: &crate::plan::Push| {
        let station = plan.devices.get(push.device).filter(|_| plan.write_port(push.device) == Some(at))?;
        let space = station.space_at(push.extent.space)?;
        let cost = station.dialect?.cost(Verb::Write, space, push.extent.count, &station.setup).ok()?;
        let shown =
            station.dialect?.notation().show(space, push.extent.first, 1, push.bit, &station.setup).canonical;
        Some(row(&station.name, format!("writes {shown} x{}", push.extent.count), push.every?, cost, time))
    };
    plan.pushes.iter().filter_map(row).collect()
}

fn dead(project: &Project, plan: &Plan, at: usize, time: LineTime, here: &[&Transfer]) -> Vec<DeadBudget> {
    let port = project.ports.get(at);
    let tries = u64::from(port.map_or(0, |port| port.retries)) + 1;
    let row = |(index, device): (usize, &crate::project::Device)| {
        let own = here
            .iter()
            .filter(|transfer| transfer.device() == Some(index))
            .filter_map(|t| request(plan, time, t));
        let own_round = own.clone().map(|request| request.takes_us).sum();
        let shortest = own.min_by_key(|request| request.takes_us)?;
        let silent = plan.unanswered.get(at).copied().unwrap_or(0);
        let one_try = tries * (time.own_frame_gap + time.bytes(shortest.bytes_sent)) + silent;
        let waits = device.retry.first.max(3 * one_try);
        Some(DeadBudget {
            device: plan.name_with_nodes(index),
            one_try_us: one_try,
            until_lost_us: one_try * u64::from(device.lost_after),
            then: one_try as f64 / (one_try + waits) as f64,
            own_cycle_us: own_round,
        })
    };
    let on_port = |(index, _): &(usize, &crate::project::Device)| {
        plan.devices.get(*index).is_some_and(|d| d.port == at)
    };
    project.devices.iter().enumerate().filter(on_port).filter_map(row).collect()
}

/// Neighbouring reads that would take less time as one.
fn joins(project: &Project, plan: &Plan, time: LineTime, here: &[&Transfer], cycle: u64) -> Vec<String> {
    let mut found = vec![];
    for pair in here.windows(2) {
        let [first, second] = pair else { continue };
        let ([read], [next]) = (&first.parts[..], &second.parts[..]) else { continue };
        let same = (first.from, read.space, first.cadence) == (second.from, next.space, second.cadence);
        let owner = first.device().and_then(|device| project.devices.get(device));
        let (Some(station), Some(device)) = (plan.station(first.from), owner) else { continue };
        let Some(gap) = next.first.checked_sub(read.end()).filter(|gap| same && *gap > device.read_gap)
        else {
            continue;
        };
        let count = next.end() - read.first;
        let together = station.dialect.zip(station.space_at(read.space)).and_then(|(dialect, space)| {
            dialect.cost(Verb::Read, space, count, &station.setup).ok().map(|cost| time.exchange(cost))
        });
        let apart = first.takes + second.takes;
        let Some(gain) = together.and_then(|together| apart.checked_sub(together)) else { continue };
        if gain as f64 > WORTH * cycle as f64 {
            found.push((
                gain,
                format!(
                    "`read-gap = {gap}` at `{}` makes one read of two and saves {} a cycle",
                    station.name,
                    show_micros(gain)
                ),
            ));
        }
    }
    found.sort_by_key(|(gain, _)| std::cmp::Reverse(*gain));
    found.into_iter().take(3).map(|(_, text)| text).collect()
}

/// So many messages each time are worth a word where fewer would do.
const MANY_MESSAGES: usize = 10;

/// Stations that are asked in many messages, and could be in fewer.
fn more_at_once(plan: &Plan, at: usize) -> Vec<String> {
    let stations = plan.devices.iter().enumerate().filter(|(_, station)| station.port == at);
    let row = |(index, station): (usize, &Station)| {
        let more = station.dialect?.requests()?.more_at_once(&station.setup)?;
        let own = plan.transfers.iter().filter(|transfer| transfer.asked_device() == Some(index));
        let messages = own.count();
        (messages >= MANY_MESSAGES)
            .then(|| format!("`{}` is asked in {messages} messages each time: {more}", station.name))
    };
    stations.filter_map(row).collect()
}

/// What the next usual speed would bring.
fn faster(
    port: &crate::project::Port,
    time: LineTime,
    requests: &[RequestBudget],
    cycle: u64,
    load: f64,
) -> Option<String> {
    let line = port.line()?.value;
    let speed = [9600, 19_200, 38_400, 57_600, 115_200].into_iter().find(|speed| *speed > line.baud)?;
    let next = crate::line::Line { baud: speed, ..line };
    let frame_gap = port.protocol.map_or(0, |protocol| protocol.value.framing().frame_gap(next));
    let next_time = LineTime {
        char_nanos: next.char_nanos(),
        frame_gap,
        own_frame_gap: port.frame_gap.map_or(frame_gap, |own| own.value),
        ..time
    };
    let takes = |request: &RequestBudget| {
        let gaps = if time.frame_gap == 0 { 0 } else { next_time.own_frame_gap + next_time.frame_gap };
        next_time.bytes(request.bytes_sent) + next_time.bytes(request.bytes_received) + gaps
    };
    let after: u64 = requests.iter().map(takes).sum();
    (load > 0.5 && cycle > after).then(|| {
        format!("{speed} baud would take the cycle from {} to {}", show_micros(cycle), show_micros(after))
    })
}

/// A little above, in full hundredths of a second.
fn round_up(micros: u64) -> u64 {
    (micros + micros / 10).div_ceil(10_000) * 10_000
}
