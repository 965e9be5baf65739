//! A message that a server works on: one service, or several, each answered for itself.

use super::answer_to;
use super::requests::{TagService, Tags, Todo};
use super::table_work::CommandService;
use crate::speak::Want;
use std::collections::VecDeque;
use woodrush_core::Refusal;
use woodrush_core::protocol::Extent;
use woodrush_wire::enip::cip::{self, Reply, service};
use woodrush_wire::enip::{packet, status};

/// How a reply gets back.
#[derive(Clone, Copy)]
pub(super) enum ReplyTo {
    Context([u8; 8]),
    /// Our number of the connection, and the sequence count.
    Connection(u32, u16),
}

/// A service under way.
pub(super) enum ServiceWork {
    /// On a tag.
    Tag(TagService),
    /// A command for a data table.
    Table(CommandService),
    /// All of an assembly is read.
    Assembly(AssemblyRead),
}

/// An assembly that is read by a message.
pub(super) struct AssemblyRead {
    unit: u16,
    service: u8,
    place: Option<Extent>,
    waits: bool,
    reply: Vec<u8>,
}

impl ServiceWork {
    /// Reads all of an assembly.
    pub(super) const fn assembly(unit: u16, service: u8, place: Extent) -> Self {
        Self::Assembly(AssemblyRead { unit, service, place: Some(place), waits: false, reply: vec![] })
    }

    fn waits(&self) -> bool {
        match self {
            Self::Tag(own) => own.waits(),
            Self::Table(own) => own.waits(),
            Self::Assembly(own) => own.waits,
        }
    }

    fn next(&mut self) -> Option<Want> {
        match self {
            Self::Tag(own) => own.next(),
            Self::Table(own) => own.next(),
            Self::Assembly(own) => {
                let place = own.place.take()?;
                own.waits = true;
                Some(Want::Read(place))
            }
        }
    }

    fn given(&mut self, result: Result<&[u8], Refusal>) {
        match self {
            Self::Tag(own) => own.given(result),
            Self::Table(own) => own.given(result),
            Self::Assembly(own) => {
                own.waits = false;
                match result {
                    Ok(cells) => Reply::good(own.service, cells).emit(&mut own.reply),
                    Err(refusal) => {
                        let (general, word) = answer_to(refusal);
                        let word = word.map(u16::to_le_bytes);
                        let additional = word.as_ref().map_or(&[][..], |word| &word[..]);
                        Reply { service: own.service, status: general, additional, data: &[] }
                            .emit(&mut own.reply);
                    }
                }
            }
        }
    }

    fn reply(self) -> Vec<u8> {
        match self {
            Self::Tag(own) => own.reply(),
            Self::Table(own) => own.reply(),
            Self::Assembly(own) => own.reply,
        }
    }
}

/// A message that is being worked on.
pub(super) struct MessageWork {
    back: ReplyTo,
    /// It is several services.
    packet: bool,
    todo: VecDeque<Vec<u8>>,
    replies: Vec<Vec<u8>>,
    /// The service under way.
    asked: Option<ServiceWork>,
    /// The most bytes of the reply.
    most: usize,
    /// It came along the route on which tags are.
    tags: bool,
}

impl MessageWork {
    /// A message that is one service, which is under way.
    pub(super) fn of_one(back: ReplyTo, asked: ServiceWork) -> Self {
        Self {
            back,
            packet: false,
            todo: VecDeque::new(),
            replies: vec![],
            asked: Some(asked),
            most: 0,
            tags: true,
        }
    }

    /// A message of several services.
    pub(super) fn of_several(back: ReplyTo, todo: VecDeque<Vec<u8>>, most: usize, tags: bool) -> Self {
        Self { back, packet: true, todo, replies: vec![], asked: None, most, tags }
    }

    /// The image that something is wanted of: by the number of its inputs, 0 for that with tags.
    pub(super) const fn unit(&self) -> u16 {
        match &self.asked {
            Some(ServiceWork::Assembly(own)) => own.unit,
            _ => 0,
        }
    }

    /// Whether something is wanted of others.
    pub(super) fn waits(&self) -> bool {
        self.asked.as_ref().is_some_and(ServiceWork::waits)
    }

    /// Takes what was wanted.
    pub(super) fn given(&mut self, result: Result<&[u8], Refusal>) {
        if let Some(asked) = &mut self.asked {
            asked.given(result);
        }
    }

    /// Bytes that it holds.
    pub(super) fn held(&self) -> usize {
        self.todo.iter().chain(&self.replies).map(Vec::len).sum()
    }

    /// Works on until something is wanted; `None` once every service has its reply.
    pub(super) fn go_on(&mut self, tags: &mut Tags) -> Option<Want> {
        loop {
            if let Some(want) = self.asked.as_mut().and_then(ServiceWork::next) {
                return Some(want);
            }
            if let Some(asked) = self.asked.take() {
                self.replies.push(asked.reply());
            }
            let message = self.todo.pop_front()?;
            let room = self.room();
            match tags.asked(&message, room, self.packet, self.tags) {
                Todo::Said(reply) => self.replies.push(reply),
                Todo::Begun(asked) => self.asked = Some(asked),
            }
        }
    }

    /// Bytes that the next service's reply may take: what is left, and the heads of those behind it.
    fn room(&self) -> usize {
        let said: usize = self.replies.iter().map(Vec::len).sum();
        let count = self.replies.len() + 1 + self.todo.len();
        let heads = if self.packet { 4 + packet::overhead(count) + self.todo.len() * 4 } else { 0 };
        self.most.saturating_sub(said + heads)
    }

    /// The whole reply, and how it gets back.
    pub(super) fn reply(mut self) -> (ReplyTo, Option<Vec<u8>>) {
        if !self.packet {
            return (self.back, self.replies.pop());
        }
        let mut reply = vec![];
        let failed = self.replies.iter().any(|own| own.get(2).is_some_and(|status| *status != 0));
        let status = if failed { status::EMBEDDED_SERVICE_ERROR } else { 0 };
        cip::emit_reply_head(&mut reply, service::MULTIPLE_SERVICE_PACKET, status, &[]);
        let count = u16::try_from(self.replies.len()).unwrap_or(u16::MAX);
        packet::emit_with(&mut reply, count, |at, out| {
            out.extend_from_slice(self.replies.get(usize::from(at)).map_or(&[], Vec::as_slice));
        });
        (self.back, Some(reply))
    }
}
