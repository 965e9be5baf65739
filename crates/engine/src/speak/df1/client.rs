//! A client: in full duplex the one end of a link, in half duplex the master of a line.
//!
//! ```text
//! full  Free ──ask──► message ──ACK──► reply awaited ──reply, ACK──► Free
//!                      │ NAK: again; frame_gap: ENQ
//! half  Free ──ask──► message to the station ──ACK──► poll ──reply, ACK──► Free
//!                      │ frame_gap: again                 ▲ │ nothing yet, or damaged
//!                                                       └─┘
//! ```
//! A message that is sent again keeps its number: who has it already acknowledges it and does nothing. So noise and lost
//! acknowledgements never write twice.

use crate::Moment;
use crate::speak::tables::{Replied, Sts, TableAsk};
use crate::speak::{Act, Ask, Client, ClientSetup, Delivered, News, Ticket};
use std::collections::VecDeque;
use woodrush_core::budget::LineTime;
use woodrush_core::plan::Station;
use woodrush_core::protocol::Setup;
use woodrush_core::protocol::df1::check;
use woodrush_core::{Blame, Kind, Refusal};
use woodrush_wire::df1::{Check, Heard, Message, Scanner, Symbol, emit_message, emit_poll, emit_to_station};
use woodrush_wire::tables::COMMAND;

/// A station that has nothing to say yet is polled again after so long, in microseconds.
const POLL_PAUSE: u64 = 5_000;
/// Bytes came and then nothing for so long: the rest is not coming. Adapters deliver up to some 16 ms late.
const STALLED: u64 = 50_000;

pub(super) struct TableClient {
    half: bool,
    stations: Vec<Station>,
    line: LineTime,
    check: Check,
    own: u8,
    ack_timeout: u64,
    tries: u32,
    retries: u32,
    scanner: Scanner,
    last_byte: Moment,
    /// What goes out before anything else: responses to the other end's messages.
    responses: VecDeque<Symbol>,
    last_response: Symbol,
    last_heard: Option<(u8, u8, u16)>,
    tns: u16,
    job: Option<CommandOut>,
    phase: Phase,
    /// What was sent last is no command that the station has not had yet.
    said_before: bool,
    done: Option<(Ticket, Result<Vec<u8>, Refusal>)>,
    up: bool,
}

struct CommandOut {
    ticket: Ticket,
    node: u8,
    ask: TableAsk,
    /// The command that is open, and its frame.
    tns: u16,
    frame: Vec<u8>,
    /// It was sent at least once.
    is_out: bool,
    naks: u32,
    silences: u32,
    /// Further tries of the link, after refusals and after silences each.
    link_tries: u32,
    /// Whole commands that may still be made where this one is not answered.
    retries: u32,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Phase {
    Free,
    /// A command is to be made.
    Fresh,
    /// The frame is to be sent.
    Sending,
    /// It is out; acknowledged until then.
    Unacknowledged(Moment),
    /// The link has it; the reply comes until then.
    Waiting(Moment),
    /// Half duplex: the station is to be polled; the reply comes until then.
    Polling(Moment),
    /// It is polled: an answer to that until the first, the reply until the second.
    DeviceState(Moment, Moment),
    /// It had nothing: polled again at the first.
    Pausing(Moment, Moment),
}

impl TableClient {
    pub(super) fn new(setup: &ClientSetup<'_>, half: bool) -> Self {
        let check = check(setup.port);
        let mut client = Self {
            half,
            stations: vec![],
            line: setup.line,
            check,
            own: 0,
            ack_timeout: 0,
            tries: 0,
            retries: 0,
            scanner: Scanner::new(check, half),
            last_byte: Moment(0),
            responses: VecDeque::new(),
            last_response: Symbol::Nak,
            last_heard: None,
            tns: setup.first,
            job: None,
            phase: Phase::Free,
            said_before: false,
            done: None,
            up: true,
        };
        client.set_up(setup);
        client
    }

    fn end(&mut self, result: Result<Vec<u8>, Refusal>) {
        self.phase = Phase::Free;
        if let Some(job) = self.job.take() {
            self.done = Some((job.ticket, result));
        }
    }

    fn fail(&mut self, kind: Kind) {
        if let Some(job) = self.job.as_mut().filter(|job| job.retries > 0) {
            job.retries -= 1;
            self.phase = Phase::Fresh;
            return;
        }
        self.end(Err(Refusal::new(kind, Blame::Device)));
    }

    /// Makes the next command of the job.
    fn make(&mut self) -> Option<()> {
        self.tns = self.tns.wrapping_add(1);
        let (half, check, own, tns) = (self.half, self.check, self.own, self.tns);
        let job = self.job.as_mut()?;
        job.is_out = false;
        let mut body = vec![];
        job.ask.emit(&mut body)?;
        let mut message = vec![];
        Message { dst: job.node, src: own, cmd: COMMAND, sts: 0, tns, body: &body }.emit(&mut message);
        job.frame.clear();
        match half {
            true => emit_to_station(job.node, &message, check, &mut job.frame),
            false => emit_message(&message, check, &mut job.frame),
        }
        (job.tns, job.naks, job.silences) = (tns, 0, 0);
        self.phase = Phase::Sending;
        Some(())
    }

    fn took(&self, bytes: usize) -> u64 {
        self.line.bytes(u32::try_from(bytes).unwrap_or(u32::MAX))
    }

    /// A response to what the other end sent.
    fn respond(&mut self, symbol: Symbol) {
        self.last_response = symbol;
        self.responses.push_back(symbol);
    }

    fn take(&mut self, now: Moment, byte: u8) {
        let data = match self.scanner.push(byte) {
            Heard::Message { data, .. } => data.to_vec(),
            Heard::Nothing => return,
            Heard::Symbol(symbol) => return self.symbol(now, symbol),
            Heard::Damaged(..) if self.half => {
                if let Phase::DeviceState(_, until) = self.phase {
                    self.phase = Phase::Polling(until);
                }
                return;
            }
            Heard::Damaged(..) => return self.respond(Symbol::Nak),
            Heard::Stray => {
                self.last_response = Symbol::Nak;
                return;
            }
            Heard::Poll(_) => return,
        };
        if let Ok(message) = Message::parse(&data) {
            self.heard(message);
        }
    }

    fn symbol(&mut self, now: Moment, symbol: Symbol) {
        // A peer that says something is not silent.
        if let (Symbol::Ack | Symbol::Eot, Some(job)) = (symbol, &mut self.job) {
            job.silences = 0;
        }
        match (symbol, self.phase) {
            (Symbol::Ack, Phase::Unacknowledged(_)) => {
                let until = now + self.line.timeout;
                self.phase = if self.half { Phase::Polling(until) } else { Phase::Waiting(until) };
            }
            (Symbol::Nak, Phase::Unacknowledged(_)) => {
                let Some(job) = &mut self.job else { return };
                job.naks += 1;
                if job.naks > job.link_tries {
                    // It hears us, and never what we say: the check or the parity is another.
                    return self.fail(Kind::Damaged);
                }
                self.phase = Phase::Sending;
            }
            (Symbol::Enq, _) if !self.half => self.responses.push_back(self.last_response),
            (Symbol::Eot, Phase::DeviceState(_, until)) => {
                self.phase = Phase::Pausing(now + POLL_PAUSE, until)
            }
            _ => {}
        }
    }

    fn heard(&mut self, message: Message<'_>) {
        // A slave's message that nobody polled for is the late answer to an earlier poll: to acknowledge it now would take
        // the next one from the slave.
        if self.half && !matches!(self.phase, Phase::DeviceState(..)) {
            return;
        }
        let again = self.last_heard.replace(message.identity()) == Some(message.identity());
        self.respond(Symbol::Ack);
        if let Phase::DeviceState(_, until) = self.phase {
            self.phase = Phase::Polling(until);
        }
        let Some(job) = &self.job else { return };
        let ours = message.is_reply()
            && message.tns == job.tns
            && message.src == job.node
            && message.dst == self.own
            && message.cmd == 0x4F;
        // A reply tells that the message has come, even where its acknowledgement was lost.
        if ours && !again && !matches!(self.phase, Phase::Free | Phase::Fresh | Phase::Sending) {
            self.replied(message.outcome());
        }
    }

    fn replied(&mut self, outcome: Result<&[u8], Sts>) {
        let Some(job) = &mut self.job else { return };
        match job.ask.replied(outcome) {
            Replied::Ended(result) => self.end(result),
            Replied::More => self.phase = Phase::Fresh,
            Replied::Unfitting => self.fail(Kind::Mismatch),
        }
    }

    fn is_hearing(&self, now: Moment) -> bool {
        self.scanner.is_inside() && now < self.last_byte + STALLED
    }

    /// Nothing came in time.
    fn silent(&mut self, now: Moment) {
        let Some(job) = &mut self.job else { return };
        job.silences += 1;
        if job.silences > job.link_tries {
            return self.fail(Kind::NoAnswer);
        }
        match self.phase {
            Phase::Unacknowledged(_) if self.half => self.phase = Phase::Sending,
            Phase::Unacknowledged(_) => {
                let until = now + self.took(2) + self.ack_timeout;
                self.responses.push_back(Symbol::Enq);
                self.phase = Phase::Unacknowledged(until);
            }
            Phase::DeviceState(_, until) => self.phase = Phase::Polling(until),
            _ => {}
        }
    }
}

fn number(setup: &Setup, key: &str, default: u32) -> u32 {
    setup.number(key).unwrap_or(default)
}

impl Client for TableClient {
    fn is_free(&self) -> bool {
        self.job.is_none() && self.done.is_none()
    }

    fn ask(&mut self, ticket: Ticket, ask: Ask) {
        let (station, ask) = TableAsk::new(&self.stations, ask);
        let setup = station.map(|station| &station.setup);
        self.job = Some(CommandOut {
            ticket,
            node: setup.and_then(|setup| u8::try_from(setup.number("node")?).ok()).unwrap_or(0),
            tns: 0,
            frame: vec![],
            is_out: false,
            naks: 0,
            silences: 0,
            link_tries: self.tries,
            // A write whose reply is lost may have been done: only reads are repeated.
            retries: if ask.is_read() { self.retries } else { 0 },
            ask,
        });
        self.phase = Phase::Fresh;
    }

    fn ask_once(&mut self, ticket: Ticket, ask: Ask) {
        self.ask(ticket, ask);
        if let Some(job) = &mut self.job {
            (job.link_tries, job.retries) = (0, 0);
        }
    }

    fn said_before(&self) -> bool {
        self.said_before
    }

    fn set_up(&mut self, setup: &ClientSetup<'_>) {
        (self.stations, self.line) = (setup.stations.to_vec(), setup.line);
        self.own = u8::try_from(number(setup.port, "own-node", 0)).unwrap_or(0);
        self.ack_timeout = number(setup.port, "ack-timeout", 1_000_000).into();
        self.tries = number(setup.port, "link-retries", 3);
        self.retries = setup.retries;
    }

    fn handle(&mut self, now: Moment, news: News<'_>) {
        match news {
            News::Up => self.up = true,
            News::Down => {
                self.up = false;
                self.scanner.reset();
                self.responses.clear();
                (self.last_heard, self.last_response) = (None, Symbol::Nak);
                self.end(Err(Refusal::new(Kind::NoPath, Blame::Line)));
            }
            News::Bytes(bytes) => {
                if now.since(self.last_byte) >= STALLED {
                    self.scanner.reset();
                }
                self.last_byte = now;
                bytes.iter().for_each(|byte| self.take(now, *byte));
            }
        }
    }

    fn poll(&mut self, now: Moment) -> Act {
        loop {
            if let Some(symbol) = self.responses.pop_front() {
                self.said_before = true;
                return Act::Send(symbol.bytes().to_vec());
            }
            if let Some((ticket, result)) = self.done.take() {
                return Act::Done(ticket, result.map(Delivered::from));
            }
            match self.phase {
                Phase::Free => return Act::Rest,
                Phase::Fresh if !self.up => self.end(Err(Refusal::new(Kind::NoPath, Blame::Line))),
                Phase::Fresh => {
                    let quiet = self.last_byte + self.line.own_frame_gap;
                    if now < quiet {
                        return Act::WaitUntil(quiet);
                    }
                    if self.make().is_none() {
                        self.end(Err(Refusal::new(Kind::NoSuchCommand, Blame::File)));
                    }
                }
                Phase::Sending => {
                    let Some(job) = &mut self.job else { return Act::Rest };
                    self.said_before = std::mem::replace(&mut job.is_out, true);
                    let frame = job.frame.clone();
                    self.phase = Phase::Unacknowledged(now + self.took(frame.len()) + self.ack_timeout);
                    return Act::Send(frame);
                }
                Phase::Polling(until) if now >= until => self.fail(Kind::NoAnswer),
                Phase::Polling(until) => {
                    let mut frame = vec![];
                    self.said_before = true;
                    emit_poll(self.job.as_ref().map_or(0, |job| job.node), &mut frame);
                    self.phase = Phase::DeviceState(now + self.took(frame.len()) + self.ack_timeout, until);
                    return Act::Send(frame);
                }
                // A peer in the middle of a message is heard out.
                Phase::Unacknowledged(until) | Phase::DeviceState(until, _) | Phase::Waiting(until)
                    if now >= until && self.is_hearing(now) =>
                {
                    return Act::WaitUntil(self.last_byte + STALLED);
                }
                Phase::Unacknowledged(until) | Phase::DeviceState(until, _) if now >= until => {
                    self.silent(now)
                }
                Phase::Waiting(until) if now >= until => self.fail(Kind::NoAnswer),
                Phase::Pausing(again, until) if now >= again => self.phase = Phase::Polling(until),
                Phase::Unacknowledged(until)
                | Phase::Waiting(until)
                | Phase::DeviceState(until, _)
                | Phase::Pausing(until, _) => return Act::WaitUntil(until),
            }
        }
    }
}
