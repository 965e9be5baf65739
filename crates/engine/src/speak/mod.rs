//! Speaking protocols: a [`Client`] asks over one port, a [`Server`] answers on one, an [`Observer`] listens to both. Listed
//! once, in [`SPEAKERS`].

mod df1;
mod enip;
mod h1;
mod isotcp;
mod modbus;
mod node;
mod observer;
mod profinet;
mod raw;
mod search;
mod simulated;
mod subscription;
mod tables;

pub use node::{
    Channel, LinkFaults, LinkLoss, LinkNews, MakeNode, NetAct, NetNews, Node, NodeLink, NodeSetup, Produced,
    Socket, StationNews, ToldStations,
};
pub use observer::{AnswerMeaning, Asked, Heard, Observer, ObserverSetup, Says, Side, Touch};
pub use search::{
    Discovery, FindAct, Finder, FinderSetup, FoundPart, FoundStation, LinkWords, NewIdentity, ReadOutcome,
    ReadStation, RollCall,
};
pub use simulated::{Behaviour, Measured, Memory, OnItsLine, ServedDevice};
pub use subscription::{Subscription, subscriptions};

use crate::Moment;
use std::hash::{BuildHasher, Hasher, RandomState};
use std::sync::Arc;
use woodrush_core::budget::LineTime;
use woodrush_core::plan::Station;
use woodrush_core::project::LineFaults;
use woodrush_core::protocol::{Extent, SetUpStep, Setup, Spaces, dialect};
use woodrush_core::{Blame, Kind, Refusal};

/// Makes a client of some stations.
pub type MakeClient = fn(&ClientSetup<'_>) -> Box<dyn Client>;
/// Makes a server for the clients of a port.
pub type MakeServer = fn(&ServerSetup) -> Box<dyn Server>;
/// Makes what a simulated station works out by itself, set up by these steps; `None` where it works nothing out.
pub type MakeBehaviour = fn(&Station, &[SetUpStep]) -> Option<Box<dyn Behaviour>>;
/// Makes what lists the stations of a link.
pub type MakeFinder = fn(&FinderSetup<'_>) -> Box<dyn Finder>;

/// Makes an observer of datagrams.
pub type MakeFrameObserver = fn(&ObserverSetup<'_>, std::net::Ipv4Addr) -> Box<dyn Observer>;

/// What a protocol brings to this floor.
pub struct Speaker {
    /// As the project file calls it; the same as its dialect's.
    pub name: &'static str,
    /// A client of these stations; `None` where nothing is asked.
    pub client: Option<MakeClient>,
    /// A server for clients of a port; `None` where nothing is answered.
    pub server: Option<MakeServer>,
    /// An end of a network that exchanges blocks in cycles; `None` where nothing is.
    pub node: Option<MakeNode>,
    /// An observer of two others.
    pub observer: fn(&ObserverSetup<'_>) -> Box<dyn Observer>,
    /// What a simulated device of that description works out by itself; `None` where devices hold what they are given.
    pub behaviour: Option<MakeBehaviour>,
    /// Lists who is on a link, where the link itself knows; `None` where stations are looked for one by one.
    pub finder: Option<MakeFinder>,
    /// Asks a whole network who is there, where its stations answer to that.
    pub roll_call: Option<&'static RollCall>,
    /// Finds stations by whole frames, and names them, where they are found so.
    pub discovery: Option<&'static Discovery>,
    /// An observer of the datagrams that pass between us and one peer; `None` where there are none.
    pub frames: Option<MakeFrameObserver>,
}

/// Every protocol that can be spoken.
pub static SPEAKERS: [Speaker; 10] = [
    modbus::RTU,
    modbus::ASCII,
    modbus::TCP,
    df1::FULL,
    df1::HALF,
    isotcp::FETCH_WRITE,
    enip::TAGS,
    profinet::DEVICE,
    h1::LINK,
    raw::RAW,
];

/// The speaker of a protocol.
#[must_use]
pub fn speaker(name: &str) -> Option<&'static Speaker> {
    SPEAKERS.iter().find(|speaker| speaker.name == name)
}

/// Most bytes that wait at a server of a stream while it works on a request: more than one read of any driver, which
/// reads nothing more meanwhile.
pub(super) const STREAM_MAX: usize = 128 * 1024;
/// The same on a line, where there is one question at a time: a driver goes on reading there, and who asks on without
/// waiting is not heard.
pub(super) const LINE_MAX: usize = 4096;

/// Whether a server's own number is the one by which its protocol answers such a refusal: several may have one number.
#[must_use]
pub fn answers(refusal: &Refusal, kind: Kind) -> bool {
    let Some((name, code)) = refusal.native else { return false };
    let speaks =
        |speaker: &&Speaker| dialect(speaker.name).is_some_and(|dialect| dialect.refusals().name == name);
    let speaker = SPEAKERS.iter().find(speaks);
    let told = |speaker: &Speaker| {
        let server = (speaker.server?)(&ServerSetup::default());
        Some(server.native(Refusal::new(kind, Blame::Us)).0)
    };
    speaker.and_then(told) == Some(code)
}

/// What a client needs to know.
pub struct ClientSetup<'a> {
    /// Whom it may ask, by the index that [`Ask`] uses.
    pub stations: &'a [Station],
    /// Time on its port.
    pub line: LineTime,
    /// Further tries of one request.
    pub retries: u32,
    /// Keys of its protocol at the port.
    pub port: &'a Setup,
    /// The message before its first one has this number, where messages are numbered. Another one for each run: else the
    /// other end would take the first message for the last one of the run before.
    pub first: u16,
}

/// A number for [`ClientSetup::first`] that is another one each time.
pub(crate) fn another() -> u16 {
    u16::try_from(RandomState::new().build_hasher().finish() & 0xFFFF).unwrap_or(0)
}

/// What a server needs to know.
#[derive(Debug, Clone, Default)]
pub struct ServerSetup {
    /// The units that it answers as; `None` for all.
    pub units: Option<Vec<u16>>,
    /// The units whose requests are passed on whole.
    pub passed: Vec<u16>,
    /// Others answer on the same line: it is silent for their units, and hears what they say.
    pub shared: bool,
    /// It says of itself what it is, and counts what its line carries.
    pub tells_itself: bool,
    /// It answers as another unit than it was asked as: a fault of simulated devices.
    pub answer_as: Option<u16>,
    /// The first acknowledgement of each message gets lost: a fault of simulated devices.
    pub drop_ack: bool,
    /// Who answers, where it is known: its unit if it has one, and its tables by the index that a want names.
    pub stations: Vec<(Option<u16>, Arc<Spaces>)>,
    /// Keys of its protocol, at the station and at the port.
    pub own: Setup,
    /// All devices of its link, where one end answers for all of them; a want names one by its place here.
    pub devices: Vec<ServedDevice>,
    /// What goes wrong on its link: a fault of simulated devices.
    pub line: LineFaults,
}

/// A request or an answer of which only the frame is changed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Message {
    /// The function code, or whatever the protocol chooses its commands by.
    pub code: u8,
    /// All of it, without framing and unit.
    pub body: Vec<u8>,
    /// Whether it may change something in the device.
    pub writes: bool,
}

/// What a port says.
#[derive(Debug, Clone, Copy)]
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
        /// Which, one place after the other; several only where the protocol gathers them.
        parts: Arc<[Extent]>,
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
    /// Change some bits of one grain: new = (old AND `keep`) OR (`set` AND NOT `keep`).
    Change {
        /// Index of the station.
        station: usize,
        /// Where; one grain.
        extent: Extent,
        /// Ones keep the old bit.
        keep: Vec<u8>,
        /// Where `keep` is 0, the new bit.
        set: Vec<u8>,
    },
    /// A forwarded request, for a unit that need be no station of ours; the answer comes back whole.
    Pass {
        /// The unit on this port.
        unit: u16,
        /// The request.
        message: Message,
    },
}

impl Ask {
    /// A read of one place.
    #[must_use]
    pub fn read(station: usize, extent: Extent) -> Self {
        Self::Read { station, parts: Arc::new([extent]) }
    }

    /// Whether it may change something at the station.
    #[must_use]
    pub const fn changes_something(&self) -> bool {
        match self {
            Self::Read { .. } => false,
            Self::Write { .. } | Self::Change { .. } => true,
            Self::Pass { message, .. } => message.writes,
        }
    }
}

/// The place that a read is for, of a protocol that asks for one at a time; the plan gathers no others there.
pub(crate) fn one_place(parts: &[Extent]) -> Option<Extent> {
    match parts {
        [place] => Some(*place),
        _ => None,
    }
}

/// The cells of a request or a publication, part after part, and which of them are no values.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Delivered {
    /// All cells, 0 where nothing came.
    pub cells: Vec<u8>,
    /// Where there is no value, or one that the device itself calls bad, and why.
    pub unsound: Vec<Unsound>,
}

/// Cells that are no value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Unsound {
    /// Which of the parts they lie in.
    pub part: usize,
    /// Where they lie in the station: all of that part, or less.
    pub extent: Extent,
    /// Why.
    pub refusal: Refusal,
}

impl From<Vec<u8>> for Delivered {
    fn from(cells: Vec<u8>) -> Self {
        Self { cells, unsound: vec![] }
    }
}

impl Delivered {
    /// The cells, for one who reads `parts` by hand.
    ///
    /// # Errors
    /// A part is refused; or what the device calls bad is all that was asked for, so that nothing beside it says so.
    pub fn of_use(self, parts: &[Extent]) -> Result<Vec<u8>, Refusal> {
        let in_vain =
            |own: &&Unsound| own.refusal.kind != Kind::Unsound || parts.get(own.part) == Some(&own.extent);
        match self.unsound.iter().find(in_vain) {
            Some(own) => Err(own.refusal),
            None => Ok(self.cells),
        }
    }
}

/// What a client wants done next.
#[derive(Debug, PartialEq, Eq)]
#[must_use = "an action that is not carried out stalls the port"]
pub enum Act {
    /// Write these bytes to the port, then poll again.
    Send(Vec<u8>),
    /// A question is answered: cells of a read, nothing for a write, the body of the answer to what was passed on.
    Done(Ticket, Result<Delivered, Refusal>),
    /// Values of a transfer that nobody asked for, and how old they are: when the device had them.
    Came(usize, Moment, Delivered),
    /// The values of a transfer have stopped coming, and why.
    Stopped(usize, Refusal),
    /// Something that the people of the site should know of the port, in words.
    Tell(String),
    /// Nothing to do before this moment or news.
    WaitUntil(Moment),
    /// The stream is lost, or the connection of no use: close it, for this reason.
    HangUp(String),
    /// Nothing to do before a question.
    Rest,
}

/// Asks stations over one port: everything that a protocol knows of asking, and nothing else.
pub trait Client: Send {
    /// Whether it takes a question now.
    fn is_free(&self) -> bool;
    /// Takes a question; only when free.
    fn ask(&mut self, ticket: Ticket, ask: Ask);
    /// The same with one try only, of its link too: a station that is likely not there costs the others no more than one
    /// wait. Protocols without tries of their own have nothing to leave out.
    fn ask_once(&mut self, ticket: Ticket, ask: Ask) {
        self.ask(ticket, ask);
    }
    /// Whether a station may have taken the question under way before what was sent last, which was the same message
    /// again or belongs to the link: its answer is then as old as what was sent first.
    fn said_before(&self) -> bool {
        false
    }
    /// The project has changed; what is known of the port and its line stays. Only when free.
    fn set_up(&mut self, setup: &ClientSetup<'_>);
    /// What shall come by itself from now on. Only what differs is said to the other end; after [`News::Up`] all of it.
    fn keep(&mut self, _published: Vec<Subscription>) {}
    /// When it wants to be polled again though it has nothing to do now.
    fn wakes_at(&self) -> Option<Moment> {
        None
    }
    /// Takes news of the port.
    fn handle(&mut self, now: Moment, news: News<'_>);
    /// What to do now.
    fn poll(&mut self, now: Moment) -> Act;
}

/// What a client asks of us.
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
    /// That some bits of one grain change.
    Change(Box<BitChange>),
    /// That values are taken, and others given afterwards.
    Exchange(Box<Exchange>),
    /// That a request is passed on whole.
    Pass(Box<Message>),
}

/// Some bits of one grain: new = (old AND `keep`) OR (`set` AND NOT `keep`).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BitChange {
    /// Where.
    pub extent: Extent,
    /// Ones keep the old bit.
    pub keep: Vec<u8>,
    /// Where `keep` is 0, the new bit.
    pub set: Vec<u8>,
}

impl BitChange {
    /// The new cells out of the old ones.
    #[must_use]
    pub fn of(&self, old: &[u8]) -> Vec<u8> {
        let bits = old.iter().zip(&self.keep).zip(&self.set);
        bits.map(|((old, keep), set)| old & keep | set & !keep).collect()
    }
}

/// Values that are taken, and others that are given afterwards.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Exchange {
    /// Where they go.
    pub write: Extent,
    /// In canonical order.
    pub cells: Vec<u8>,
    /// What is given.
    pub read: Extent,
}

/// What a server wants done next.
#[derive(Debug, PartialEq, Eq)]
#[must_use = "an action that is not carried out stalls the connection"]
pub enum Serve {
    /// Write these bytes, then poll again.
    Send(Vec<u8>),
    /// A client wants something of a unit; answer by [`Server::give`], then poll again.
    Want {
        /// Of which unit.
        unit: u16,
        /// It is for every unit, and nobody answers.
        all: bool,
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

impl Serve {
    /// What is left where nothing is wanted: the bytes first, then the reason why the stream is lost.
    fn said(out: &mut Vec<u8>, lost: &mut Option<String>) -> Self {
        if !out.is_empty() {
            return Self::Send(std::mem::take(out));
        }
        lost.take().map_or(Self::Rest, Self::HangUp)
    }
}

/// What was answered at once.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct AtOnce {
    /// Bytes of the requests.
    pub used: usize,
    /// How many they were.
    pub requests: u64,
    /// Their answers, in order.
    pub answers: Vec<u8>,
}

/// Appends the cells that a unit shows, all or none.
pub type Fill<'a> = dyn FnMut(u16, Extent, &mut Vec<u8>) -> Result<(), Refusal> + 'a;

/// Answers the reads that bytes, which have just come, begin with: the same as [`Server::handle`] and [`Server::poll`]
/// would, in one go and without a look at the server. It ends before whatever takes more than a look at the cells; what
/// it has not used must be handled.
pub type FastReads = fn(&[u8], &mut Fill<'_>) -> AtOnce;

/// Answers on one connection or line, one question after the other, in their order.
pub trait Server: Send {
    /// Bytes that it holds: what came and is not looked at yet, and what is to be said.
    fn held(&self) -> usize;
    /// Takes news of the port.
    fn handle(&mut self, now: Moment, news: News<'_>);
    /// The answer to the last want.
    fn give(&mut self, result: Result<&[u8], Refusal>);
    /// The answer to the last want, where it was a read: `fill` appends its cells, all or none. A protocol whose answers
    /// carry cells as they are lets them be written where they belong.
    fn give_cells(&mut self, fill: &mut dyn FnMut(&mut Vec<u8>) -> Result<(), Refusal>) {
        let mut cells = vec![];
        let result = fill(&mut cells);
        self.give(result.map(|()| cells.as_slice()));
    }
    /// How reads can be answered at once, while nothing is under way here: until it has news again, or is set up anew.
    fn plainly(&self) -> Option<FastReads> {
        None
    }
    /// What to do now.
    fn poll(&mut self, now: Moment) -> Serve;
    /// Answers for other units from now on; what has come already is answered too, and nothing counted is lost.
    fn set_up(&mut self, setup: &ServerSetup);
    /// Damaged frames so far.
    fn damaged(&self) -> u64 {
        0
    }
    /// The number that a refusal would be answered with, and its name, for logs and proofs.
    fn native(&self, refusal: Refusal) -> (u32, &'static str);
    /// Whether an answer is for nobody any more once others are heard on the line: messages have no number by which it is
    /// known.
    fn answers_expire(&self) -> bool {
        false
    }
}

#[cfg(test)]
mod floods;

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

    #[test]
    fn what_is_asked_has_a_client_and_a_server_and_nothing_else_has() {
        for (speaker, dialect) in SPEAKERS.iter().zip(DIALECTS) {
            let asked = dialect.requests().is_some();
            assert_eq!(
                (speaker.client.is_some(), speaker.server.is_some()),
                (asked, asked),
                "{}",
                speaker.name
            );
        }
    }
}
