//! Calls: one end asks again until it is answered, the other does a thing once and answers as often as it is asked. Long ones
//! come in parts.

use super::ether::Mac;
use super::ip::IpStack;
use crate::Moment;
use std::borrow::Cow;
use std::collections::VecDeque;
use std::net::SocketAddrV4;
use woodrush_wire::profinet::parts::{Gathered, Gathering, in_parts};
use woodrush_wire::profinet::rpc::{Header, kind};
use woodrush_wire::profinet::{RPC_PORT, Uuid};

/// Callers whose last answer is kept: a controller, and some who read.
const ANSWERS_MAX: usize = 8;
/// After how long a call is made again, in microseconds, and how often.
const AGAIN: u64 = 1_000_000;
const TRIES: u32 = 5;

/// The name of our own calls of a connection.
pub(super) fn activity(mac: Mac, relation: Uuid) -> Uuid {
    let mut bytes = relation.0;
    for (place, byte) in bytes.iter_mut().zip(mac) {
        *place ^= byte ^ 0xA5;
    }
    Uuid(bytes)
}

/// The last answer to each caller.
#[derive(Debug, Default)]
pub(super) struct Answers {
    kept: VecDeque<(Uuid, u32, Vec<u8>)>,
}

/// What is to be done with a call.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum CallJudgement {
    /// It is a new one.
    New,
    /// It was answered, by these bytes.
    Again(Vec<u8>),
    /// It is older than one that was answered.
    Old,
}

impl Answers {
    pub(super) fn judge(&self, header: &Header) -> CallJudgement {
        let Some((_, sequence, answer)) = self.kept.iter().find(|(own, ..)| *own == header.activity) else {
            return CallJudgement::New;
        };
        match header.sequence.wrapping_sub(*sequence) {
            0 => CallJudgement::Again(answer.clone()),
            1..0x8000_0000 => CallJudgement::New,
            _ => CallJudgement::Old,
        }
    }

    pub(super) fn keep(&mut self, header: &Header, answer: &[u8]) {
        self.kept.retain(|(own, ..)| *own != header.activity);
        if self.kept.len() >= ANSWERS_MAX {
            self.kept.pop_front();
        }
        self.kept.push_back((header.activity, header.sequence, answer.to_vec()));
    }
}

/// Sends a call or an answer, in as many datagrams as it needs.
pub(super) fn send(stack: &mut IpStack, now: Moment, to: SocketAddrV4, message: Vec<u8>) {
    in_parts(message, |datagram| stack.send(now, to, RPC_PORT, datagram));
}

/// What comes of a datagram of a call or an answer.
#[derive(Debug)]
pub(super) enum Completed<'a> {
    /// The body is whole.
    Whole(Cow<'a, [u8]>),
    /// Parts are missing; what is said to that.
    More(Option<Vec<u8>>),
    /// Its parts make no message.
    Broken,
}

/// Completes a body out of its parts; one that has none is complete.
pub(super) fn complete<'a>(
    gathered: &mut Gathered,
    header: &Header,
    body: &'a [u8],
    boot: u32,
) -> Completed<'a> {
    if !header.is_part() {
        return if header.fragment == 0 { Completed::Whole(body.into()) } else { Completed::Broken };
    }
    match gathered.take(header, body) {
        Gathering::Whole(body) => Completed::Whole(body.into()),
        Gathering::More(up_to) => Completed::More(up_to.and_then(|up_to| acknowledged(header, boot, up_to))),
        Gathering::Broken => Completed::Broken,
    }
}

/// What is said to a part whose sender waits for it before it goes on.
pub(super) fn acknowledged(header: &Header, boot: u32, up_to: u16) -> Option<Vec<u8>> {
    header.wants_ack().then(|| {
        let mut out = vec![];
        header.emit_ack(&mut out, boot, up_to);
        out
    })
}

/// What is said to a call that is not taken, with its reason.
pub(super) fn rejected(header: &Header, boot: u32, reason: u32) -> Vec<u8> {
    let mut out = vec![];
    header.answer(kind::REJECT, boot).emit_reason(&mut out, reason);
    out
}

/// A call that waits for its answer.
#[derive(Debug)]
pub(super) struct Call {
    pub(super) to: SocketAddrV4,
    bytes: Vec<u8>,
    activity: Uuid,
    sequence: u32,
    tries: u32,
    next: Moment,
}

impl Call {
    pub(super) fn new(now: Moment, to: SocketAddrV4, header: &Header, bytes: Vec<u8>) -> Self {
        Self { to, bytes, activity: header.activity, sequence: header.sequence, tries: 0, next: now }
    }

    pub(super) const fn wakes_at(&self) -> Moment {
        self.next
    }

    /// What is to be sent now, if anything is.
    ///
    /// # Errors
    /// It was tried often enough.
    pub(super) fn poll(&mut self, now: Moment) -> Result<Option<Vec<u8>>, ()> {
        if now < self.next {
            return Ok(None);
        }
        if self.tries >= TRIES {
            return Err(());
        }
        self.tries += 1;
        self.next = now + AGAIN;
        Ok(Some(self.bytes.clone()))
    }

    /// Whether a message is its answer, by activity and number and not by the port that it comes from.
    pub(super) fn is_answered_by(&self, header: &Header) -> bool {
        let answers = matches!(header.kind, kind::RESPONSE | kind::REJECT | kind::FAULT);
        answers && (header.activity, header.sequence) == (self.activity, self.sequence)
    }
}
