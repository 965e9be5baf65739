//! Those who ask: several at once, and one that is set to another framing.

use super::Progress;
use super::runner::{Runner, told};
use crate::Dialer;
use crate::moment::nap;
use crate::speak::answers;
use std::sync::atomic::{AtomicU32, Ordering::Relaxed};
use woodrush_core::Kind;
use woodrush_core::plan::Station;
use woodrush_core::protocol::{DIALECTS, Extent, Transport};

/// How often a value that has grown too old is asked for again.
const AGED: u32 = 100;
/// How often all of it is done again because the values moved.
const MOVED: u32 = 3;
/// Clients at once, and how often each asks.
const CLIENTS: u32 = 8;
const ROUNDS: u32 = 25;
/// How long a client with the wrong framing waits for what must not come, in microseconds.
const WRONG_PATIENCE: u64 = 300_000;

impl Runner<'_> {
    /// Several clients of each listening port at once, and one with another framing.
    pub(super) fn together(&mut self, progress: &mut dyn FnMut(Progress)) {
        let checked = self.checked;
        let listening = |station: &Station| {
            let port = checked.project.ports.get(station.port);
            port.and_then(|port| port.transport()) == Some(Transport::Listen)
        };
        let of = u32::try_from(checked.plan.images.len()).unwrap_or(u32::MAX);
        for (image, station) in
            checked.plan.images.iter().enumerate().filter(|(_, station)| listening(station))
        {
            progress(Progress { doing: "clients at once", done: u32::try_from(image).unwrap_or(0), of });
            // A rule that is not proven has said why; its value cannot be asked for.
            let subject = self.subjects.iter().zip(&self.results).find(|(subject, result)| {
                let asked = subject.image() == Some(image) && subject.source().is_some();
                asked && subject.device.is_some() && result.why.is_none()
            });
            let Some(extent) = subject.map(|(subject, _)| subject.target.item(0)) else { continue };
            let mut before = self.read(image, extent).ok();
            let mut seen = self.steadily(|runner| runner.answer_reads(image, station, extent));
            // Values that moved meanwhile tell nothing of the clients.
            for _ in 0..MOVED {
                let after = self.read(image, extent).ok();
                if seen.is_ok() || std::mem::replace(&mut before, after.clone()) == after {
                    break;
                }
                seen = self.steadily(|runner| runner.answer_reads(image, station, extent));
            }
            let right = seen.is_ok();
            let (Ok(what) | Err(what)) = seen;
            self.others.push((what, right));
            self.other_framing(station, extent);
        }
    }

    /// What came of several clients that ask at once, in words; `Err` where one of them got something else.
    fn answer_reads(&mut self, image: usize, station: &Station, extent: Extent) -> Result<String, String> {
        let told = |refusal| format!("{} answers {}", station.name, told(&Err(refusal)));
        let wanted = self.read(image, extent).map_err(told)?;
        let dialect = station.dialect.ok_or("the image has no protocol")?;
        let most = self.checked.project.ports.get(station.port).map_or(1, |port| port.max_clients);
        // One place is the reader's own.
        let clients = CLIENTS.min(most.saturating_sub(2)).max(1);
        let right = AtomicU32::new(0);
        let (rig, right_ones, wanted) = (&self.rig, &right, &wanted);
        std::thread::scope(|scope| {
            for _ in 0..clients {
                scope.spawn(move || {
                    let Ok(mut client) = rig.dial(station.port, dialect.name(), station, None, 5_000_000)
                    else {
                        return;
                    };
                    for _ in 0..ROUNDS {
                        let mut seen = client.read(extent);
                        // On a busy machine a value can grow too old for a moment: that is refused, rightly, and asked
                        // for again.
                        for _ in 0..AGED {
                            if !matches!(&seen, Err(refusal) if answers(refusal, Kind::Lost)) {
                                break;
                            }
                            nap(5000);
                            seen = client.read(extent);
                        }
                        if seen.as_ref() == Ok(wanted) {
                            right_ones.fetch_add(1, Relaxed);
                        }
                    }
                });
            }
        });
        let (right, of) = (right.load(Relaxed), clients * ROUNDS);
        let what = format!("{clients} clients of {} at once: {right} of {of} reads are right", station.name);
        if right == of { Ok(what) } else { Err(what) }
    }

    /// A client that is set to another framing gets nothing, and nothing wrong.
    fn other_framing(&mut self, station: &Station, extent: Extent) {
        let Some(own) = station.dialect else { return };
        let others =
            DIALECTS.iter().filter(|other| other.family() == own.family() && other.name() != own.name());
        let mut wrong = vec![];
        for other in others {
            let dialed = self.rig.dial(station.port, other.name(), station, None, WRONG_PATIENCE);
            let seen = dialed.ok().map(|mut client: Dialer| client.read(extent));
            if let Some(Ok(_)) = seen {
                wrong.push(other.name());
            }
        }
        let what = format!("a client of {} that is set to another framing gets no value", station.name);
        self.others.push(match wrong.as_slice() {
            [] => (what, true),
            names => (format!("{what}: not with {}", names.join(", ")), false),
        });
    }
}
