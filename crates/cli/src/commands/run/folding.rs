//! Bounding the log lines that one peer can cause: the first of a kind is shown at once, and those that follow within ten
//! seconds as one line with their number.

use super::log::LogEntry;
use std::collections::HashMap;
use std::time::Duration;
use woodrush_engine::converter::Event;
use woodrush_engine::speak::LinkNews;

/// How long lines of one kind and peer are counted instead of shown.
const WINDOW: Duration = Duration::from_secs(10);
/// Lines of one kind about one thing of ours, such as a device that comes and goes, that are shown within that time.
const OWN_MOST: u64 = 20;
/// Most kinds and peers that are counted apart, some 100 KB; all others are counted together.
const KEYS_MAX: usize = 512;

/// What lines have in common: the kind, what it is about, and who caused it.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Default)]
struct FoldKey {
    kind: &'static str,
    name: String,
    peer: String,
    why: String,
}

struct Fold {
    began: Duration,
    /// Those that were shown, and those that were not.
    shown: u64,
    more: u64,
    last: LogEntry,
}

/// The lines of the last seconds.
#[derive(Default)]
pub(super) struct Folding(HashMap<FoldKey, Fold>);

/// Who has caused an event, and why it is told: of clients without their port, which is another one each time.
fn peer(event: &Event) -> Option<(String, String)> {
    match event {
        Event::Client { who, why, .. } => {
            let address = who.rsplit_once(':').map_or(who.as_str(), |(address, _)| address);
            Some((address.to_string(), why.clone()))
        }
        Event::Link { news, .. } => {
            let (peer, why) = match news {
                LinkNews::Opened { peer, .. } => (peer, String::new()),
                LinkNews::Refused { peer, why, .. } => (peer, why.clone()),
                LinkNews::OneLess { peer, why } => (peer, why.word().to_string()),
                LinkNews::Ended { peer, how } => (peer, (*how).to_string()),
            };
            Some((peer.to_string(), why))
        }
        _ => None,
    }
}

impl Folding {
    /// Takes an entry; gives it back where it is to be shown now. `now` counts from any moment.
    pub(super) fn take(&mut self, now: Duration, event: &Event, entry: LogEntry) -> Option<LogEntry> {
        let known = peer(event);
        let most = if known.is_some() { 1 } else { OWN_MOST };
        let (peer, why) = known.unwrap_or_default();
        let mut key = FoldKey { kind: entry.kind(), name: entry.name().to_string(), peer, why };
        if self.0.len() >= KEYS_MAX && !self.0.contains_key(&key) {
            key = FoldKey::default();
        }
        let fold =
            self.0.entry(key).or_insert_with(|| Fold { began: now, shown: 0, more: 0, last: entry.clone() });
        fold.last = entry;
        if fold.shown < most {
            fold.shown += 1;
            return Some(fold.last.clone());
        }
        fold.more += 1;
        None
    }

    /// What was counted, of the kinds and peers whose time is over.
    pub(super) fn due(&mut self, now: Duration) -> Vec<LogEntry> {
        let mut due = vec![];
        self.0.retain(|_, fold| {
            let is_over = now.saturating_sub(fold.began) >= WINDOW;
            if is_over && fold.more > 0 {
                due.push(fold.last.and_more(fold.more, WINDOW));
            }
            !is_over
        });
        due
    }
}

#[cfg(test)]
mod tests {
    use super::super::log::Names;
    use super::*;
    use woodrush_core::plan::Plan;

    fn turned_away(port: u32) -> Event {
        Event::Client {
            port: 0,
            who: format!("192.0.2.{}:{port}", port % 250),
            why: "turned away: no".into(),
        }
    }

    #[test]
    fn one_peer_causes_two_lines_in_ten_seconds_however_often_it_knocks() {
        let (names, plan) = (Names::default(), Plan::default());
        let mut folding = Folding::default();
        let entry = |event: &Event| names.entry(&plan, event).unwrap();
        let mut shown = vec![];
        for round in 0..100_000u32 {
            let event = turned_away(250 * round);
            shown.extend(folding.take(Duration::from_micros(round.into()), &event, entry(&event)));
        }
        assert_eq!(shown.len(), 1);
        assert!(folding.due(Duration::from_secs(9)).is_empty());
        let due = folding.due(Duration::from_secs(10));
        assert_eq!(due.len(), 1);
        assert!(due[0].json().contains("and 99999 more in 10 s"), "{}", due[0].json());
        let event = turned_away(0);
        assert!(folding.take(Duration::from_secs(11), &event, entry(&event)).is_some(), "and then anew");
    }

    #[test]
    fn peers_without_number_are_counted_within_a_bound() {
        let (names, plan) = (Names::default(), Plan::default());
        let mut folding = Folding::default();
        let mut shown = 0;
        for round in 0..70_000u32 {
            let (high, low) = (round >> 8, round & 0xFF);
            let event = Event::Client { port: 0, who: format!("127.{high}.{low}.1:9"), why: "no".into() };
            let entry = names.entry(&plan, &event).unwrap();
            shown += usize::from(folding.take(Duration::ZERO, &event, entry).is_some());
        }
        assert_eq!((shown, folding.0.len()), (KEYS_MAX + 1, KEYS_MAX + 1));
    }

    #[test]
    fn a_device_that_comes_and_goes_is_told_each_time_as_long_as_that_is_readable() {
        let (names, plan) = (Names::default(), Plan::default());
        let mut folding = Folding::default();
        let event = Event::DeviceBack { device: 0 };
        let mut take = || folding.take(Duration::ZERO, &event, names.entry(&plan, &event).unwrap()).is_some();
        assert_eq!((0..50).filter(|_| take()).count() as u64, OWN_MOST);
    }
}
