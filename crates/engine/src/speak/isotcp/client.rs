//! A client on one ISO connection: it opens the connection, and has one job open at a time. Jobs have no number, so that
//! after a timeout only a new connection is safe: a late answer would be taken for the next job's.

use super::{Window, refusal};
use crate::Moment;
use crate::speak::{Act, Ask, Client, ClientSetup, Delivered, News, Ticket, one_place};
use woodrush_core::plan::Station;
use woodrush_core::protocol::Extent;
use woodrush_core::protocol::isotcp::tsap;
use woodrush_core::{Blame, Kind, Refusal};
use woodrush_wire::isotcp::cotp::{self, Assembly, Opening, Tpdu, emit_message, refusal_words};
use woodrush_wire::isotcp::fetch::{Answer, Request};
use woodrush_wire::isotcp::tpkt;

/// Our reference; a connection of its own number space has only this one.
const REFERENCE: u16 = 1;

pub(super) struct BlockClient {
    stations: Vec<Station>,
    timeout: u64,
    /// Ours and theirs.
    tsaps: (Vec<u8>, Vec<u8>),
    link: TcpLink,
    came: Vec<u8>,
    assembly: Assembly,
    asked: Option<Job>,
    done: Option<(Ticket, Result<Vec<u8>, Refusal>)>,
    hang_up: Option<String>,
}

enum TcpLink {
    /// There is no connection.
    Down,
    /// There is one, and nothing was said on it.
    Fresh,
    /// We asked for it to be opened; given up at that moment.
    Opening(Moment),
    /// Open, with a TPDU size.
    Open(u8),
}

struct Job {
    ticket: Ticket,
    window: Option<Window>,
    kind: JobKind,
    /// Given up at that moment, once it is sent.
    give_up: Option<Moment>,
}

enum JobKind {
    Read,
    /// New bytes; `keep` has ones where old bits stay. `old` are those of the window, where they are needed and known.
    Write {
        cells: Vec<u8>,
        keep: Option<Vec<u8>>,
        old: Option<Vec<u8>>,
    },
    /// What this protocol has no message for.
    Nothing,
}

impl Job {
    /// Whether the bytes around must be known before it can be written.
    fn must_fetch(&self) -> bool {
        match (&self.kind, &self.window) {
            (JobKind::Read, _) => true,
            (JobKind::Write { keep, old, .. }, Some(window)) => {
                old.is_none() && (keep.is_some() || !window.is_whole())
            }
            _ => false,
        }
    }

    /// The data of a write: the window with the new bytes in it, and a byte more that fills its last word.
    fn data(&self) -> Vec<u8> {
        let (JobKind::Write { cells, keep, old }, Some(window)) = (&self.kind, &self.window) else {
            return vec![];
        };
        let mut data = old.clone().unwrap_or_else(|| cells.clone());
        if let Some(room) = data.get_mut(window.lead..window.lead + window.bytes) {
            for (at, (byte, new)) in room.iter_mut().zip(cells).enumerate() {
                let keep = keep.as_ref().and_then(|keep| keep.get(at)).copied().unwrap_or(0);
                *byte = *byte & keep | new & !keep;
            }
        }
        data.resize(data.len().next_multiple_of(2), 0);
        data
    }
}

impl BlockClient {
    pub(super) fn new(setup: &ClientSetup<'_>) -> Self {
        let name = |key| setup.port.word(key).and_then(|text| tsap(text).ok()).unwrap_or_default();
        Self {
            stations: setup.stations.to_vec(),
            timeout: setup.line.timeout,
            tsaps: (name("local-tsap"), name("remote-tsap")),
            link: TcpLink::Fresh,
            came: vec![],
            assembly: Assembly::default(),
            asked: None,
            done: None,
            hang_up: None,
        }
    }

    fn end(&mut self, result: Result<Vec<u8>, Refusal>) {
        if let Some(job) = self.asked.take() {
            self.done = Some((job.ticket, result));
        }
    }

    /// The connection is of no use any more.
    fn give_up(&mut self, kind: Kind, why: String) {
        self.end(Err(Refusal::new(kind, Blame::Device)));
        (self.link, self.hang_up) = (TcpLink::Down, Some(why));
        self.came.clear();
        self.assembly = Assembly::default();
    }

    fn look(&mut self) {
        while self.hang_up.is_none() {
            let came = std::mem::take(&mut self.came);
            let used = match tpkt::parse(&came) {
                Ok(None) => {
                    self.came = came;
                    return;
                }
                Err(error) => return self.give_up(Kind::Damaged, error.to_string()),
                Ok(Some((tpdu, used))) => {
                    match cotp::parse(tpdu) {
                        Ok(unit) => self.take(unit),
                        Err(error) => self.give_up(Kind::Damaged, error.to_string()),
                    }
                    used
                }
            };
            if self.hang_up.is_none() {
                self.came = came.get(used..).unwrap_or_default().to_vec();
            }
        }
    }

    fn take(&mut self, unit: Tpdu<'_>) {
        match (unit, &self.link) {
            (Tpdu::Confirm(opening), TcpLink::Opening(_)) => match opening.agreed(REFERENCE, cotp::SIZE) {
                Ok(size) => self.link = TcpLink::Open(size),
                Err(error) => self.give_up(Kind::NoPath, error.to_string()),
            },
            (Tpdu::Refuse { reason, .. }, TcpLink::Opening(_)) => {
                let why = format!(
                    "the controller refuses the ISO connection: {} (0x{reason:02X}); are local and remote TSAP swapped, \
                     rack and slot right, and is nobody else connected?",
                    refusal_words(reason)
                );
                self.give_up(Kind::NoPath, why);
            }
            (Tpdu::Data { last, data }, TcpLink::Open(_)) => match self.assembly.take(last, data) {
                Ok(None) => {}
                Ok(Some(message)) => self.answered(&message),
                Err(error) => self.give_up(Kind::Damaged, error.to_string()),
            },
            // Class 0 has no use for it.
            (Tpdu::Closed { .. }, _) => {}
            (Tpdu::Error { cause, .. }, _) => {
                self.give_up(
                    Kind::Mismatch,
                    format!("the controller did not understand a data unit (cause {cause})"),
                );
            }
            (Tpdu::Refuse { reason, .. }, _) => {
                self.give_up(
                    Kind::NoPath,
                    format!("the controller ends the ISO connection: {}", refusal_words(reason)),
                );
            }
            _ => self.give_up(Kind::Mismatch, "the controller's data units come out of order".into()),
        }
    }

    fn answered(&mut self, message: &[u8]) {
        let Some(job) = &mut self.asked else {
            return self.give_up(Kind::Mismatch, "an answer came without a request".into());
        };
        let (Some(window), fetched) = (job.window, job.must_fetch()) else { return };
        let data = job.data();
        let request =
            if fetched { Request::Fetch(window.range) } else { Request::Write(window.range, &data) };
        let told = Answer::parse(message).and_then(|answer| answer.to(&request));
        match told {
            Err(error) => self.give_up(Kind::Mismatch, error.to_string()),
            Ok(Err(code)) => self.end(Err(refusal(code))),
            Ok(Ok(data)) => match &mut job.kind {
                JobKind::Write { old, .. } if fetched => (*old, job.give_up) = (Some(data.to_vec()), None),
                JobKind::Write { .. } | JobKind::Nothing => self.end(Ok(vec![])),
                JobKind::Read => {
                    let cells = window.cut(data).map(<[u8]>::to_vec);
                    self.end(cells.ok_or(Refusal::new(Kind::Mismatch, Blame::Device)));
                }
            },
        }
    }

    fn opening(&self) -> Vec<u8> {
        let (mut parameters, mut out) = (vec![], vec![]);
        cotp::parameters(cotp::SIZE, &self.tsaps.0, &self.tsaps.1, &mut parameters);
        Tpdu::Request(Opening::new(0, REFERENCE, &parameters)).emit(&mut out);
        out
    }

    /// What goes out for the job now, if anything.
    fn request(&mut self, now: Moment, size: u8) -> Option<Vec<u8>> {
        let timeout = self.timeout;
        let job = self.asked.as_mut().filter(|job| job.give_up.is_none())?;
        let window = job.window?;
        let (data, mut message, mut out) = (job.data(), vec![], vec![]);
        match job.must_fetch() {
            true => Request::Fetch(window.range).emit(&mut message),
            false => Request::Write(window.range, &data).emit(&mut message),
        }
        emit_message(&message, size, &mut out);
        job.give_up = Some(now + timeout);
        Some(out)
    }
}

impl Client for BlockClient {
    fn is_free(&self) -> bool {
        self.asked.is_none() && self.done.is_none()
    }

    fn ask(&mut self, ticket: Ticket, ask: Ask) {
        let window = |station: usize, extent: Extent| {
            let space = self.stations.get(station)?.space_at(extent.space)?;
            Window::of(space, extent)
        };
        let (window, kind) = match ask {
            Ask::Read { station, parts } => {
                (one_place(&parts).and_then(|place| window(station, place)), JobKind::Read)
            }
            Ask::Write { station, extent, cells } => {
                (window(station, extent), JobKind::Write { cells, keep: None, old: None })
            }
            Ask::Change { station, extent, keep, set } => {
                (window(station, extent), JobKind::Write { cells: set, keep: Some(keep), old: None })
            }
            Ask::Pass { .. } => (None, JobKind::Nothing),
        };
        self.asked = Some(Job { ticket, window, kind, give_up: None });
    }

    fn set_up(&mut self, setup: &ClientSetup<'_>) {
        (self.stations, self.timeout) = (setup.stations.to_vec(), setup.line.timeout);
    }

    fn handle(&mut self, _now: Moment, news: News<'_>) {
        match news {
            News::Up => {
                (self.link, self.hang_up) = (TcpLink::Fresh, None);
                self.came.clear();
                self.assembly = Assembly::default();
            }
            News::Down => {
                self.link = TcpLink::Down;
                self.hang_up = None;
                self.came.clear();
                self.assembly = Assembly::default();
                self.end(Err(Refusal::new(Kind::NoPath, Blame::Line)));
            }
            News::Bytes(bytes) => {
                self.came.extend_from_slice(bytes);
                self.look();
            }
        }
    }

    fn poll(&mut self, now: Moment) -> Act {
        if let Some((ticket, result)) = self.done.take() {
            return Act::Done(ticket, result.map(Delivered::from));
        }
        if let Some(why) = self.hang_up.take() {
            return Act::HangUp(why);
        }
        if self.asked.as_ref().is_some_and(|job| job.window.is_none()) {
            self.end(Err(Refusal::new(Kind::NoSuchCommand, Blame::File)));
            return self.poll(now);
        }
        match self.link {
            TcpLink::Down if self.asked.is_some() => {
                self.end(Err(Refusal::new(Kind::NoPath, Blame::Line)));
                self.poll(now)
            }
            TcpLink::Down => Act::Rest,
            TcpLink::Fresh => {
                self.link = TcpLink::Opening(now + self.timeout);
                Act::Send(self.opening())
            }
            TcpLink::Opening(give_up) if now < give_up => Act::WaitUntil(give_up),
            TcpLink::Opening(_) => {
                let why =
                    "no answer to the request for an ISO connection: is it the right port, and set up there?";
                self.give_up(Kind::NoPath, why.into());
                self.poll(now)
            }
            TcpLink::Open(size) => {
                if let Some(bytes) = self.request(now, size) {
                    return Act::Send(bytes);
                }
                match self.asked.as_ref().and_then(|job| job.give_up) {
                    None => Act::Rest,
                    Some(give_up) if now < give_up => Act::WaitUntil(give_up),
                    Some(_) => {
                        let why = "no answer in time; what comes later could be taken for another job's";
                        self.give_up(Kind::NoAnswer, why.into());
                        self.poll(now)
                    }
                }
            }
        }
    }
}
