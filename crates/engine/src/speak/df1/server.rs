//! A server: a controller's end of a link, or a slave of a line; an image that looks like one.

use super::split::{File, FilePart, Sts, pieces, word};
use super::{EXTENDED, ILLEGAL, NOTHING_THERE, OTHER_TYPE, PROTECTED, status};
use crate::Moment;
use crate::speak::{BitChange, News, Serve, Server, ServerSetup, Want};
use std::collections::VecDeque;
use woodrush_core::Refusal;
use woodrush_core::protocol::SpaceId;
use woodrush_core::protocol::df1::{Spot, check, from_wire, to_wire};
use woodrush_wire::df1::{
    Check, Command, Heard, Logical, Message, Scanner, Symbol, Table, emit_message, sets, sts_words,
};

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
    work: CommandWork,
}

enum CommandWork {
    /// What is still to be read, what came, and how many bytes the reply has.
    Read { pieces: VecDeque<FilePart>, current: Option<FilePart>, data: Vec<u8> },
    /// What is still to be changed.
    Write(VecDeque<Want>),
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

    fn answer(&mut self, now: Moment, header: (u8, u8, u8, u16), (sts, ext): (u8, u8), data: &[u8]) {
        let (dst, src, cmd, tns) = header;
        let dst = self.setup.answer_as.and_then(|node| u8::try_from(node).ok()).unwrap_or(dst);
        let extended = [ext];
        let body = if sts == EXTENDED { &extended[..] } else { data };
        let message = Message { dst, src, cmd, sts: 0, tns, body: &[] };
        let (mut bytes, mut frame) = (vec![], vec![]);
        message.reply(sts, body).emit(&mut bytes);
        emit_message(&bytes, self.check, &mut frame);
        self.reply = Some(PendingReply { node: header.0, frame, until: None, tries: 0 });
        if !self.half {
            self.say(now);
        }
    }

    fn asked(&mut self, now: Moment, message: &Message<'_>) {
        let header = (message.dst, message.src, message.cmd, message.tns);
        let work = match Command::parse(message.cmd, message.body) {
            Ok(Command::Echo(data)) => return self.answer(now, header, (0, 0), data),
            Ok(Command::DiagnosticStatus) => return self.answer(now, header, (0, 0), &STATUS),
            Ok(command) => self.work(&command),
            Err(_) => Err(ILLEGAL),
        };
        match work {
            Ok(work) => self.open = Some(OpenCommand { header, work }),
            Err(status) => self.answer(now, header, status, &[]),
        }
    }

    fn work(&self, command: &Command<'_>) -> Result<CommandWork, Sts> {
        match *command {
            Command::Read { size, at } => self.read(self.logical(at)?, usize::from(size)),
            Command::RangeRead { offset, at, size, .. } => {
                self.read(self.ranged(at, offset)?, usize::from(size))
            }
            Command::Write { at, data } => self.write(self.logical(at)?, data),
            Command::RangeWrite { offset, at, data, .. } => self.write(self.ranged(at, offset)?, data),
            Command::MaskedWrite { at, mask, data } => {
                let (file, word) = self.logical(at)?;
                let words = data
                    .chunks(2)
                    .map(|pair| pair.iter().rev().fold(0, |sum, byte| sum << 8 | u16::from(*byte)));
                let changes =
                    (word..).zip(words).map(|(word, new)| self.change(&file, word, !mask, new & mask));
                Ok(CommandWork::Write(changes.collect::<Result<_, _>>()?))
            }
            Command::Change(bytes) => {
                let sets = sets(bytes).map_err(|_| ILLEGAL)?;
                let change = |set: &woodrush_wire::df1::Set<'_>| {
                    let (file, word) = self.ranged(set.at, 0)?;
                    self.change(&file, word, set.and & !set.or, set.or)
                };
                Ok(CommandWork::Write(sets.iter().map(change).collect::<Result<_, _>>()?))
            }
            _ => Err(ILLEGAL),
        }
    }

    fn logical(&self, at: Logical) -> Result<File, Sts> {
        let file = self.file(at.file)?;
        if file.iter().any(|(_, spot)| spot.kind != at.kind) {
            return Err(OTHER_TYPE);
        }
        let word = word(&file, at.element, at.sub);
        Ok((file, word))
    }

    fn ranged(&self, at: Table<'_>, offset: u16) -> Result<File, Sts> {
        let Table::Levels { file, element, sub, .. } = at else { return Err(ILLEGAL) };
        let file = self.file(file)?;
        let word = word(&file, element, sub) + u32::from(offset);
        Ok((file, word))
    }

    fn file(&self, number: u16) -> Result<Vec<(SpaceId, Spot)>, Sts> {
        let own = self.setup.stations.first().map(|(_, spaces)| spaces.with_ids());
        let spot = |space| Spot::of(space).filter(|spot| spot.file == number);
        let file: Vec<_> =
            own.into_iter().flatten().filter_map(|(id, space)| Some((id, spot(space)?))).collect();
        if file.is_empty() { Err(NOTHING_THERE) } else { Ok(file) }
    }

    fn read(&self, (file, word): File, size: usize) -> Result<CommandWork, Sts> {
        let pieces = pieces(&file, word, size)?;
        let data = if pieces.iter().any(|piece| piece.stride > 0) { vec![0; size] } else { vec![] };
        Ok(CommandWork::Read { pieces: pieces.into(), current: None, data })
    }

    fn write(&self, (file, word): File, data: &[u8]) -> Result<CommandWork, Sts> {
        let pieces = pieces(&file, word, data.len())?;
        let [piece] = pieces.as_slice() else { return Err(PROTECTED) };
        if piece.stride > 0 {
            return Err(PROTECTED);
        }
        let cells = from_wire(&piece.spot, piece.extent.count, data).ok_or(ILLEGAL)?;
        Ok(CommandWork::Write([Want::Write { extent: piece.extent, cells }].into()))
    }

    fn change(&self, file: &[(SpaceId, Spot)], word: u32, keep: u16, set: u16) -> Result<Want, Sts> {
        let pieces = pieces(file, word, 2)?;
        let piece = pieces.first().filter(|piece| piece.spot.bytes != 4).ok_or(ILLEGAL)?;
        let (keep, set) = (keep.to_be_bytes().to_vec(), set.to_be_bytes().to_vec());
        Ok(Want::Change(Box::new(BitChange { extent: piece.extent, keep, set })))
    }

    fn next(&mut self, now: Moment) -> Option<Serve> {
        let open = self.open.as_mut()?;
        let unit = u16::from(open.header.0);
        let want = match &mut open.work {
            CommandWork::Read { pieces, current, .. } => pieces.pop_front().map(|piece| {
                *current = Some(piece);
                Want::Read(piece.extent)
            }),
            CommandWork::Write(wants) => wants.pop_front(),
        };
        if let Some(want) = want {
            return Some(Serve::Want { unit, all: false, want });
        }
        let open = self.open.take()?;
        let data = if let CommandWork::Read { data, .. } = open.work { data } else { vec![] };
        self.answer(now, open.header, (0, 0), &data);
        None
    }
}

/// What it says of itself: no controller that there is.
const STATUS: [u8; 24] = *b"\x00\xEE\x34\x5B\x20FEEDER     \x00\x00\x06\x00\xD2\x04\x10\x3F";

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
        let now = self.last_byte;
        let cells = match result {
            Ok(cells) => cells,
            Err(refusal) => {
                if let Some(open) = self.open.take() {
                    self.answer(now, open.header, status(refusal), &[]);
                }
                return;
            }
        };
        if let Some(OpenCommand { work: CommandWork::Read { current, data, .. }, .. }) = &mut self.open
            && let Some(piece) = current.take()
        {
            if piece.stride == 0 {
                data.extend(to_wire(&piece.spot, piece.extent.count, cells));
                return;
            }
            let at = usize::from(piece.spot.sub.unwrap_or(0)) * 2;
            for (element, cell) in data.chunks_mut(piece.stride * 2).zip(cells.chunks(2)) {
                let room = element.get_mut(at..at + 2).into_iter().flatten();
                room.zip(cell.iter().rev()).for_each(|(room, byte)| *room = *byte);
            }
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

/// The number that a refusal is answered with: STS, or 256 and the EXT STS.
pub(super) fn native(refusal: Refusal) -> (u32, &'static str) {
    let (sts, ext) = status(refusal);
    match sts {
        EXTENDED => (256 + u32::from(ext), woodrush_wire::df1::ext_words(ext)),
        sts => (sts.into(), sts_words(sts)),
    }
}
