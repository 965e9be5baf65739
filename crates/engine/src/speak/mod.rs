//! Speaking protocols: a [`Client`] asks over one port, a [`Server`] answers on one. Listed once, in [`SPEAKERS`].

mod modbus;

use crate::Moment;
use woodrush_core::Refusal;
use woodrush_core::budget::LineTime;
use woodrush_core::plan::Station;
use woodrush_core::protocol::Extent;

/// What a protocol brings to this floor.
pub struct Speaker {
    /// As the project file calls it; the same as its dialect's.
    pub name: &'static str,
    /// A client of these stations.
    pub client: fn(&ClientSetup<'_>) -> Box<dyn Client>,
    /// A server that hears these units; `None` hears all.
    pub server: fn(units: Option<Vec<u16>>) -> Box<dyn Server>,
}

/// Every protocol that can be spoken.
pub static SPEAKERS: [Speaker; 2] = [modbus::RTU, modbus::TCP];

/// The speaker of a protocol.
#[must_use]
pub fn speaker(name: &str) -> Option<&'static Speaker> {
    SPEAKERS.iter().find(|speaker| speaker.name == name)
}

/// What a client needs to know.
pub struct ClientSetup<'a> {
    /// Whom it may ask, by the index that [`Ask`] uses.
    pub stations: &'a [Station],
    /// Time on its port.
    pub line: LineTime,
    /// Further tries of one request.
    pub retries: u32,
}

/// What a port says.
#[derive(Debug)]
pub enum News<'a> {
    /// It is there.
    Up,
    /// It is gone.
    Down,
    /// Bytes came.
    Bytes(&'a [u8]),
}

/// The number of a question, so that its answer finds back.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Ticket(pub u64);

/// One request for a station, already sized by the plan.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Ask {
    /// Values, please.
    Read {
        /// Index of the station.
        station: usize,
        /// Which.
        extent: Extent,
    },
    /// Take these values.
    Write {
        /// Index of the station.
        station: usize,
        /// Where.
        extent: Extent,
        /// In canonical order.
        cells: Vec<u8>,
    },
}

/// What a client wants done next.
#[derive(Debug, PartialEq, Eq)]
#[must_use = "an action that is not carried out stalls the port"]
pub enum Act {
    /// Write these bytes to the port, then poll again.
    Send(Vec<u8>),
    /// A question is answered: cells of a read, nothing for a write.
    Done(Ticket, Result<Vec<u8>, Refusal>),
    /// Nothing to do before this moment or news.
    WaitUntil(Moment),
    /// Nothing to do before a question.
    Rest,
}

/// Asks stations over one port: everything that a protocol knows of asking, and nothing else.
pub trait Client: Send {
    /// Whether it takes a question now.
    fn is_free(&self) -> bool;
    /// Takes a question; only when free.
    fn ask(&mut self, ticket: Ticket, ask: Ask);
    /// Takes news of the port.
    fn handle(&mut self, now: Moment, news: News<'_>);
    /// What to do now.
    fn poll(&mut self, now: Moment) -> Act;
}

/// What somebody asks of us.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Want {
    /// Values.
    Read(Extent),
    /// That values are taken.
    Write {
        /// Where.
        extent: Extent,
        /// In canonical order.
        cells: Vec<u8>,
    },
}

/// What a server wants done next.
#[derive(Debug, PartialEq, Eq)]
#[must_use = "an action that is not carried out stalls the connection"]
pub enum Serve {
    /// Write these bytes, then poll again.
    Send(Vec<u8>),
    /// Somebody wants something of a unit; answer by [`Server::give`], then poll again.
    Want {
        /// Of which unit.
        unit: u16,
        /// What.
        want: Want,
    },
    /// The stream is lost; close it, for this reason.
    HangUp(String),
    /// Nothing to do before this moment or news.
    WaitUntil(Moment),
    /// Nothing to do before bytes come.
    Rest,
}

/// Answers on one connection or line, one question after the other, in their order.
pub trait Server: Send {
    /// Takes news of the port.
    fn handle(&mut self, now: Moment, news: News<'_>);
    /// The answer to the last want.
    fn give(&mut self, result: Result<&[u8], Refusal>);
    /// What to do now.
    fn poll(&mut self, now: Moment) -> Serve;
    /// The number that a refusal would be answered with, and its name, for logs and proofs.
    fn native(&self, refusal: Refusal) -> (u32, &'static str);
}

#[cfg(test)]
mod tests {
    use super::*;
    use woodrush_core::protocol::DIALECTS;

    #[test]
    fn both_floors_list_the_same_protocols() {
        let spoken: Vec<&str> = SPEAKERS.iter().map(|speaker| speaker.name).collect();
        let known: Vec<&str> = DIALECTS.iter().map(|dialect| dialect.name()).collect();
        assert_eq!(spoken, known);
    }
}
