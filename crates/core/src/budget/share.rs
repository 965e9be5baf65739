//! What each device takes of its line, and what it will get where the line cannot keep what is asked of it.

use super::LineBudget;
use crate::plan::Plan;
use serde::Serialize;
use std::collections::BTreeMap;

/// One device's part of its line.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Share {
    /// The device's name.
    pub device: String,
    /// The share of the line's time that it asks for; all together are the load.
    pub load: f64,
    /// The shortest interval that is asked for, in microseconds.
    pub every_us: u64,
    /// What that becomes: the same, or more where the line cannot keep it.
    pub gets_us: u64,
}

/// What happens where some devices of a line are dead at once. Times are in microseconds.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Dying {
    /// How many.
    pub dead: usize,
    /// One round of the line while none of them counts as lost yet.
    pub cycle_until_lost_us: u64,
    /// Until all of them count as lost.
    pub until_lost_us: u64,
    /// The longest that the living are not asked afterwards: their own round, and one probe.
    pub cycle_then_us: u64,
}

/// The interval at which requests that are asked for more often are sent in truth: no request is asked more often than
/// that, the others keep theirs, and together they fill the line. 0 where the line keeps all of them. Each request is
/// what it takes and how often it is asked for.
#[must_use]
pub fn attainable(requests: &[(u64, u64)]) -> u64 {
    let load = |least: f64| {
        requests.iter().map(|(takes, every)| *takes as f64 / (*every as f64).max(least).max(1.0)).sum::<f64>()
    };
    if load(0.0) <= 1.0 {
        return 0;
    }
    // All of them once: at that interval the line keeps them in any case.
    let (mut low, mut high) = (0.0, requests.iter().map(|(takes, _)| *takes as f64).sum::<f64>());
    for _ in 0..60 {
        let middle = f64::midpoint(low, high);
        if load(middle) > 1.0 { low = middle } else { high = middle }
    }
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "between 0 and a sum of u64")]
    let interval = high.ceil() as u64;
    interval
}

/// What is asked again and again on a port: the device, what it takes, and how often.
fn asked(plan: &Plan, port: usize) -> Vec<(usize, u64, u64)> {
    let on_port = |device: usize| plan.devices.get(device).is_some_and(|station| station.port == port);
    let polls = plan.transfers.iter().filter_map(|transfer| {
        let device = transfer.asked_device().filter(|device| on_port(*device))?;
        Some((device, transfer.takes, transfer.cadence.interval()))
    });
    let sent = plan.pushes.iter().filter(|push| plan.write_port(push.device) == Some(port));
    polls.chain(sent.filter_map(|push| Some((push.device, push.takes, push.every?)))).collect()
}

/// The share of each device of a port, the largest first.
#[must_use]
pub fn shares(plan: &Plan, port: usize) -> Vec<Share> {
    let asked = asked(plan, port);
    let least = attainable(&asked.iter().map(|(_, takes, every)| (*takes, *every)).collect::<Vec<_>>());
    let mut by_device: BTreeMap<usize, (f64, u64)> = BTreeMap::new();
    for (device, takes, every) in &asked {
        let (load, shortest) = by_device.entry(*device).or_insert((0.0, u64::MAX));
        *load += *takes as f64 / (*every).max(1) as f64;
        *shortest = (*shortest).min(*every);
    }
    let share = |(device, (load, every)): (usize, (f64, u64))| {
        let device = plan.name_with_nodes(device);
        Share { device, load, every_us: every, gets_us: every.max(least) }
    };
    let mut found: Vec<Share> = by_device.into_iter().map(share).collect();
    found.sort_by(|one, other| other.load.total_cmp(&one.load));
    found
}

/// What a line does while so many of its devices are dead, those that cost the most; `None` where it has fewer.
#[must_use]
pub fn dying(line: &LineBudget, dead: usize) -> Option<Dying> {
    let mut worst: Vec<_> = line.dead.iter().collect();
    worst.sort_by_key(|device| std::cmp::Reverse(device.one_try_us));
    let worst = worst.get(..dead)?;
    let gone: u64 = worst.iter().map(|device| device.own_cycle_us).sum();
    let living = line.cycle_us.saturating_sub(gone);
    let tries: u64 = worst.iter().map(|device| device.one_try_us).sum();
    Some(Dying {
        dead,
        cycle_until_lost_us: living + tries,
        until_lost_us: worst.iter().map(|device| device.until_lost_us).sum(),
        cycle_then_us: living + worst.first().map_or(0, |device| device.one_try_us),
    })
}

#[cfg(test)]
mod tests {
    use super::attainable;

    #[test]
    fn requests_that_can_be_kept_are_and_the_others_share_what_is_left() {
        assert_eq!(attainable(&[(10, 100), (20, 100)]), 0);
        // 30 of 20: all of them get one round.
        assert_eq!(attainable(&[(10, 20), (20, 20)]), 30);
        // The slow one keeps its second; the fast ones share the other 90 %.
        let got = attainable(&[(100, 1000), (50, 60), (50, 60)]);
        assert!((111..=112).contains(&got), "{got}");
        let kept = 100.0 / 1000.0 + 2.0 * 50.0 / got as f64;
        assert!(kept <= 1.0, "followed, it holds: {kept}");
    }
}
