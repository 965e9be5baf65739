//! A server: a controller's end of a link, or a slave of a line; an image that looks like one.

use crate::Moment;
use crate::speak::tables::{Begun, Sts, TableWork, native};
use crate::speak::{News, Serve, Server, ServerSetup};
use std::collections::VecDeque;
use woodrush_core::Refusal;
use woodrush_core::protocol::df1::check;
use woodrush_wire::df1::{Check, Heard, Message, Scanner, Symbol, emit_message};
use woodrush_wire::tables::reply_body;

/// Bytes came and then nothing for so long: the rest is not coming.
const STALLED: u64 = 50_000;

/// Most signs and messages that wait to be said. One message is under way at a time, so more are of a peer that does not
/// wait for an answer.
const OUT_MAX: usize = 8;

pub(super) struct TableServer {
    half: bool,
    setup: ServerSetup,
    check: Check,
    ack_timeout: u64,
    tries: u32,
    scanner: Scanner,
    last_byte: Moment,
    out: VecDeque<Vec<u8>>,
    last_response: Symbol,
    last_heard: Option<(u8, u8, u16)>,
    open: Option<OpenCommand>,
    /// A reply that is not acknowledged: its frame, when it was sent, and how often.
    reply: Option<PendingReply>,
    damaged: u64,
}

struct PendingReply {
    node: u8,
    frame: Vec<u8>,
    /// Asked after at that moment; in half duplex it is polled for.
    until: Option<Moment>,
    tries: u32,
}

/// A command that is being worked on.
struct OpenCommand {
    header: (u8, u8, u8, u16),
    work: TableWork,
}

impl TableServer {
    pub(super) fn new(setup: &ServerSetup, half: bool) -> Self {
        let check = check(&setup.own);
        let number = |key, default: u32| setup.own.number(key).unwrap_or(default);
        Self {
            half,
            setup: setup.clone(),
            check,
            ack_timeout: number("ack-timeout", 1_000_000).into(),
            tries: number("link-retries", 3),
            scanner: Scanner::new(check, half),
            last_byte: Moment(0),
            out: VecDeque::new(),
            last_response: Symbol::Nak,
            last_heard: None,
            open: None,
            reply: None,
            damaged: 0,
        }
    }

    fn is_ours(&self, node: u8) -> bool {
        self.setup.units.as_ref().is_none_or(|units| units.contains(&node.into()))
    }

    /// To be said, unless what is said already is not taken: the other end asks again.
    fn push(&mut self, bytes: Vec<u8>) {
        if self.out.len() < OUT_MAX {
            self.out.push_back(bytes);
        }
    }

    fn respond(&mut self, symbol: Symbol) {
        self.last_response = symbol;
        self.push(symbol.bytes().to_vec());
    }

    fn take(&mut self, now: Moment, byte: u8) {
        let (station, data) = match self.scanner.push(byte) {
            Heard::Nothing | Heard::Stray => return,
            Heard::Message { station, data } => (station, data.to_vec()),
            Heard::Damaged(..) => {
                self.damaged += 1;
                // A slave is silent; who is one of two says so.
                if !self.half {
                    self.respond(Symbol::Nak);
                }
                return;
            }
            Heard::Symbol(symbol) => return self.symbol(now, symbol),
            Heard::Poll(node) => return self.polled(now, node),
        };
        let Ok(message) = Message::parse(&data) else { return };
        if self.half && station.is_none_or(|station| !self.is_ours(station)) {
            return;
        }
        let again = self.last_heard == Some(message.identity());
        // While another command is open there is no room: the master comes again.
        if self.open.is_some() && !again {
            if !self.half {
                self.respond(Symbol::Nak);
            }
            return;
        }
        if self.setup.drop_ack && !again {
            self.last_response = Symbol::Ack;
        } else {
            self.respond(Symbol::Ack);
        }
        if !again && !message.is_reply() {
            self.last_heard = Some(message.identity());
            self.reply = None;
            self.asked(now, &message);
        }
    }

    fn symbol(&mut self, now: Moment, symbol: Symbol) {
        match symbol {
            // One for a message before this one: this has not been said yet.
            Symbol::Ack => self.reply = self.reply.take().filter(|reply| reply.tries == 0),
            Symbol::Nak => self.say(now),
            Symbol::Enq => self.push(self.last_response.bytes().to_vec()),
            Symbol::Eot => {}
        }
    }

    fn polled(&mut self, now: Moment, node: u8) {
        if !self.is_ours(node) {
            return;
        }
        match &self.reply {
            Some(reply) if reply.node == node => self.say(now),
            _ => self.push(Symbol::Eot.bytes().to_vec()),
        }
    }

    /// Says the reply, for the first time or again.
    fn say(&mut self, now: Moment) {
        let (half, tries, timeout) = (self.half, self.tries, self.ack_timeout);
        let Some(reply) = &mut self.reply else { return };
        reply.tries += 1;
        if reply.tries > tries + 1 {
            self.reply = None;
            return;
        }
        reply.until = (!half).then(|| now + timeout);
        let frame = reply.frame.clone();
        self.push(frame);
    }

    fn answer(&mut self, now: Moment, header: (u8, u8, u8, u16), status: Sts, data: &[u8]) {
        let (dst, src, cmd, tns) = header;
        let dst = self.setup.answer_as.and_then(|node| u8::try_from(node).ok()).unwrap_or(dst);
        let message = Message { dst, src, cmd, sts: 0, tns, body: &[] };
        let (mut bytes, mut frame) = (vec![], vec![]);
        message.reply(status.0, &reply_body(status, data)).emit(&mut bytes);
        emit_message(&bytes, self.check, &mut frame);
        self.reply = Some(PendingReply { node: header.0, frame, until: None, tries: 0 });
        if !self.half {
            self.say(now);
        }
    }

    fn asked(&mut self, now: Moment, message: &Message<'_>) {
        let header = (message.dst, message.src, message.cmd, message.tns);
        let spaces = self.setup.stations.first().map(|(_, spaces)| spaces.as_ref());
        match TableWork::begin(spaces, message.cmd, message.body) {
            Ok(Begun::Said(data)) => self.answer(now, header, (0, 0), &data),
            Ok(Begun::Work(work)) => self.open = Some(OpenCommand { header, work }),
            Err(status) => self.answer(now, header, status, &[]),
        }
    }

    fn next(&mut self, now: Moment) -> Option<Serve> {
        let open = self.open.as_mut()?;
        let unit = u16::from(open.header.0);
        if let Some(want) = open.work.next() {
            return Some(Serve::Want { unit, all: false, want });
        }
        let open = self.open.take()?;
        let (status, data) = open.work.end();
        self.answer(now, open.header, status, &data);
        None
    }
}

impl Server for TableServer {
    fn held(&self) -> usize {
        self.out.iter().map(Vec::len).sum::<usize>()
            + self.reply.as_ref().map_or(0, |reply| reply.frame.len())
    }

    fn set_up(&mut self, setup: &ServerSetup) {
        self.setup = setup.clone();
    }

    fn handle(&mut self, now: Moment, news: News<'_>) {
        match news {
            News::Bytes(bytes) => {
                if now.since(self.last_byte) >= STALLED {
                    self.scanner.reset();
                }
                self.last_byte = now;
                bytes.iter().for_each(|byte| self.take(now, *byte));
            }
            News::Up | News::Down => {
                self.scanner.reset();
                self.out.clear();
                (self.last_heard, self.last_response) = (None, Symbol::Nak);
                (self.open, self.reply) = (None, None);
            }
        }
    }

    fn give(&mut self, result: Result<&[u8], Refusal>) {
        if let Some(open) = &mut self.open {
            open.work.given(result);
        }
    }

    fn poll(&mut self, now: Moment) -> Serve {
        loop {
            // An acknowledgement goes out before the message is looked at.
            if let Some(bytes) = self.out.pop_front() {
                return Serve::Send(bytes);
            }
            if self.open.is_some() {
                match self.next(now) {
                    Some(want) => return want,
                    None => continue,
                }
            }
            match self.reply.as_ref().and_then(|reply| reply.until) {
                Some(until) if now < until => return Serve::WaitUntil(until),
                Some(_) => {
                    // No response: it is asked for.
                    if let Some(reply) = &mut self.reply {
                        reply.tries += 1;
                        reply.until = Some(now + self.ack_timeout);
                        if reply.tries > self.tries + 1 {
                            self.reply = None;
                            continue;
                        }
                    }
                    return Serve::Send(Symbol::Enq.bytes().to_vec());
                }
                None => return Serve::Rest,
            }
        }
    }

    fn damaged(&self) -> u64 {
        self.damaged
    }

    fn native(&self, refusal: Refusal) -> (u32, &'static str) {
        native(refusal)
    }
}
