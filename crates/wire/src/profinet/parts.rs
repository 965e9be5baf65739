//! Calls and answers that are longer than a datagram: each part has the header of the whole with its own number and length,
//! and the bodies one after the other are the body of the whole (connectionless RPC of DCE 1.1, fragments).
//!
//! ```text
//! flags: 0x02 the last part, 0x04 a part, 0x08 not to be acknowledged;  number of the part from 0, serial beside it
//! body of an acknowledgement:  version 1 (0)  0 1  window in KiB 2  longest message 4  longest part 4  serial 2  list 2 (0)
//! ```
//!
//! What we send in parts needs no acknowledgement: it is some parts long, and is repeated whole where no answer comes.

use super::Uuid;
use super::rpc::{ARGS_MAX, HEADER, Header, NDR, emit_half, emit_word, kind};
use std::collections::{BTreeMap, VecDeque};

/// The most bytes of a body in one datagram: a frame's 1500 less IP, UDP and our header, in steps of eight.
pub const BODY_MAX: usize = 1392;
/// The longest message that is put together.
const WHOLE_MAX: usize = NDR + ARGS_MAX as usize;
/// The most parts of a message: four times as many as we make of the longest.
const PARTS_MAX: u16 = 64;
/// Messages of which parts are there at once: a controller's, and those of some who read.
const MESSAGES_MAX: usize = 4;
/// Flags of a part.
const LAST: u8 = 0x02;
const PART: u8 = 0x04;
const NO_ACK: u8 = 0x08;

impl Header {
    /// Whether this is one part of several.
    #[must_use]
    pub const fn is_part(&self) -> bool {
        self.flags[0] & PART != 0
    }

    /// Whether this is the last part of several.
    #[must_use]
    pub const fn is_last(&self) -> bool {
        self.flags[0] & LAST != 0
    }

    /// Whether its sender goes on once it is acknowledged.
    #[must_use]
    pub const fn wants_ack(&self) -> bool {
        self.is_part() && self.flags[0] & NO_ACK == 0
    }

    /// Appends the acknowledgement of this part: up to which one all are there.
    pub fn emit_ack(&self, out: &mut Vec<u8>, boot: u32, up_to: u16) {
        let [high, _, low] = self.serial;
        let ack = Self { fragment: up_to, serial: [0; 3], ..self.answer(kind::ACK_OF_PART, boot) };
        let datagram = u32::try_from(HEADER + BODY_MAX).unwrap_or(u32::MAX);
        ack.emit_with(out, |out| {
            out.extend_from_slice(&[0, 0]);
            emit_half(out, u16::try_from(WHOLE_MAX / 1024).unwrap_or(u16::MAX), self.little);
            emit_word(out, datagram, self.little);
            emit_word(out, datagram, self.little);
            emit_half(out, u16::from_be_bytes([high, low]), self.little);
            emit_half(out, 0, self.little);
        });
    }
}

/// Gives a message as it is sent: as it is, or in parts where it is longer than a datagram.
pub fn in_parts(message: Vec<u8>, mut send: impl FnMut(Vec<u8>)) {
    let parsed = match Header::parse(&message) {
        Ok((header, body)) if body.len() > BODY_MAX => Some((header, body)),
        _ => None,
    };
    let Some((header, body)) = parsed else { return send(message) };
    let last = body.len().div_ceil(BODY_MAX) - 1;
    for (at, piece) in body.chunks(BODY_MAX).enumerate() {
        let fragment = u16::try_from(at).unwrap_or(u16::MAX);
        let [high, low] = fragment.to_be_bytes();
        let flags = header.flags[0] & !LAST | PART | NO_ACK | if at == last { LAST } else { 0 };
        let part = Header {
            flags: [flags, header.flags[1]],
            fragment,
            serial: [high, header.serial[1], low],
            ..header
        };
        let mut out = Vec::with_capacity(HEADER + piece.len());
        part.emit_with(&mut out, |out| out.extend_from_slice(piece));
        send(out);
    }
}

/// What came of a part.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Gathering {
    /// It was the one that was missing: the body of the whole.
    Whole(Vec<u8>),
    /// Others are missing; up to which one all are there.
    More(Option<u16>),
    /// The parts contradict each other, are too many, or too long together.
    Broken,
}

/// A message of which parts are there.
#[derive(Debug)]
struct Pending {
    activity: Uuid,
    sequence: u32,
    kind: u8,
    parts: BTreeMap<u16, Vec<u8>>,
    last: Option<u16>,
}

/// Messages of which parts are there.
#[derive(Debug, Default)]
pub struct Gathered {
    pending: VecDeque<Pending>,
}

impl Gathered {
    /// Takes one part, in whatever order they come; one that is there already is no other.
    pub fn take(&mut self, header: &Header, body: &[u8]) -> Gathering {
        let of = |own: &Pending| (own.activity, own.kind) == (header.activity, header.kind);
        let at = self.pending.iter().position(of);
        let before = at.and_then(|at| self.pending.remove(at)).filter(|own| own.sequence == header.sequence);
        let mut own = before.unwrap_or_else(|| Pending {
            activity: header.activity,
            sequence: header.sequence,
            kind: header.kind,
            parts: BTreeMap::new(),
            last: None,
        });
        if header.is_last() && own.last.replace(header.fragment).is_some_and(|last| last != header.fragment) {
            return Gathering::Broken;
        }
        own.parts.entry(header.fragment).or_insert_with(|| body.to_vec());
        let beyond =
            own.parts.keys().next_back().is_some_and(|most| *most > own.last.unwrap_or(PARTS_MAX - 1));
        let bytes: usize = own.parts.values().map(Vec::len).sum();
        if beyond || bytes > WHOLE_MAX {
            return Gathering::Broken;
        }
        let in_order = (0u16..).zip(own.parts.keys()).take_while(|(at, own)| at == *own).last();
        let up_to = in_order.map(|(at, _)| at);
        if own.last.is_some() && up_to == own.last {
            return Gathering::Whole(own.parts.into_values().flatten().collect());
        }
        if self.pending.len() >= MESSAGES_MAX {
            self.pending.pop_front();
        }
        self.pending.push_back(own);
        Gathering::More(up_to)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::profinet::rpc::{DEVICE, operation};
    use proptest::prelude::*;

    fn message(bytes: usize, little: bool) -> (Header, Vec<u8>, Vec<u8>) {
        let header =
            Header { little, ..Header::call(Uuid([7; 16]), DEVICE, Uuid([9; 16]), 3, operation::CONNECT) };
        let body: Vec<u8> = (0..bytes).map(|at| u8::try_from(at % 251).unwrap()).collect();
        let mut whole = vec![];
        header.emit_with(&mut whole, |out| out.extend_from_slice(&body));
        (header, body, whole)
    }

    fn parts(whole: Vec<u8>) -> Vec<Vec<u8>> {
        let mut all = vec![];
        in_parts(whole, |part| all.push(part));
        all
    }

    fn take(gathered: &mut Gathered, datagram: &[u8]) -> Gathering {
        let (header, body) = Header::parse(datagram).unwrap();
        gathered.take(&header, body)
    }

    #[test]
    fn what_fits_goes_as_it_is_and_one_byte_more_goes_in_two_parts() {
        let (_, _, fits) = message(BODY_MAX, true);
        assert_eq!(parts(fits.clone()), [fits]);
        let (_, _, more) = message(BODY_MAX + 1, true);
        let two = parts(more);
        let heads: Vec<Header> = two.iter().map(|own| Header::parse(own).unwrap().0).collect();
        assert_eq!(two.iter().map(Vec::len).collect::<Vec<_>>(), [HEADER + BODY_MAX, HEADER + 1]);
        assert_eq!(
            heads.iter().map(|own| (own.flags[0], own.fragment)).collect::<Vec<_>>(),
            [(0x2C, 0), (0x2E, 1)]
        );
        // An answer that is whole says that it is the last; of its parts only the last one does.
        let answer = heads[0].answer(kind::RESPONSE, 5);
        assert_eq!((answer.fragment, answer.serial), (0, [0; 3]));
        let mut whole = vec![];
        answer.emit_with(&mut whole, |out| out.resize(out.len() + 3000, 1));
        let flags: Vec<u8> = parts(whole).iter().map(|own| Header::parse(own).unwrap().0.flags[0]).collect();
        assert_eq!(flags, [0x0C, 0x0C, 0x0E]);
    }

    #[test]
    fn parts_that_contradict_each_other_or_are_too_many_are_broken() {
        let (header, ..) = message(0, true);
        let part = |fragment, flags| Header { flags: [flags, 0], fragment, ..header };
        let mut own = Gathered::default();
        // Two last ones; one behind the last; one beyond what there may be; too long together.
        assert_eq!(own.take(&part(3, 0x06), b"x"), Gathering::More(None));
        assert_eq!(own.take(&part(2, 0x06), b"x"), Gathering::Broken);
        assert_eq!(own.take(&part(3, 0x06), b"x"), Gathering::More(None));
        assert_eq!(own.take(&part(4, 0x04), b"x"), Gathering::Broken);
        assert_eq!(own.take(&part(PARTS_MAX, 0x04), b"x"), Gathering::Broken);
        let much = vec![0; WHOLE_MAX / 2 + 1];
        assert_eq!(own.take(&part(0, 0x04), &much), Gathering::More(Some(0)));
        assert_eq!(own.take(&part(1, 0x04), &much), Gathering::Broken);
        // What was broken is forgotten whole.
        assert_eq!(own.take(&part(1, 0x06), b"b"), Gathering::More(None));
        assert_eq!(own.take(&part(0, 0x04), b"a"), Gathering::Whole(b"ab".to_vec()));
    }

    #[test]
    fn another_call_takes_the_place_of_one_that_was_not_completed_and_few_wait_at_once() {
        let (header, ..) = message(0, true);
        let part = |activity: u8, sequence, fragment, flags| Header {
            activity: Uuid([activity; 16]),
            sequence,
            flags: [flags, 0],
            fragment,
            ..header
        };
        let mut own = Gathered::default();
        assert_eq!(own.take(&part(1, 1, 0, 0x04), b"old"), Gathering::More(Some(0)));
        assert_eq!(own.take(&part(1, 2, 1, 0x06), b"w"), Gathering::More(None));
        assert_eq!(own.take(&part(1, 2, 0, 0x04), b"ne"), Gathering::Whole(b"new".to_vec()));
        for activity in 1..=u8::try_from(MESSAGES_MAX).unwrap() + 1 {
            assert_eq!(own.take(&part(activity, 1, 0, 0x04), b"a"), Gathering::More(Some(0)));
        }
        assert_eq!(own.pending.len(), MESSAGES_MAX);
        assert_eq!(own.take(&part(1, 1, 1, 0x06), b"b"), Gathering::More(None), "the first had to go");
    }

    #[test]
    fn an_acknowledgement_says_up_to_which_part_all_are_there() {
        let (header, ..) = message(0, false);
        let part = Header { flags: [0x24, 0], fragment: 2, serial: [1, 0, 2], ..header };
        assert!(part.wants_ack() && !Header { flags: [0x2C, 0], ..part }.wants_ack() && !header.wants_ack());
        let mut out = vec![];
        part.emit_ack(&mut out, 9, 1);
        let (own, body) = Header::parse(&out).unwrap();
        assert_eq!((own.kind, own.fragment, own.boot, own.flags), (kind::ACK_OF_PART, 1, 9, [0, 0]));
        assert_eq!((own.activity, own.sequence), (header.activity, header.sequence));
        assert_eq!(body, [0, 0, 0, 18, 0, 0, 5, 0xC0, 0, 0, 5, 0xC0, 1, 2, 0, 0]);
    }

    proptest! {
        #[test]
        fn parts_in_any_order_and_twice_are_the_whole(
            bytes in 0usize..WHOLE_MAX,
            little: bool,
            order in proptest::collection::vec(any::<proptest::sample::Index>(), 0..40),
        ) {
            let (_, body, whole) = message(bytes, little);
            let all = parts(whole);
            prop_assert!(all.iter().all(|own| own.len() <= HEADER + BODY_MAX));
            if all.len() == 1 {
                return Ok(());
            }
            let mut own = Gathered::default();
            let mut seen = std::collections::BTreeSet::new();
            let rest = (0..all.len()).rev();
            for at in order.iter().map(|at| at.index(all.len())).chain(rest) {
                seen.insert(at);
                let got = take(&mut own, &all[at]);
                if seen.len() == all.len() {
                    prop_assert_eq!(got, Gathering::Whole(body));
                    return Ok(());
                }
                prop_assert!(matches!(got, Gathering::More(_)));
            }
            prop_assert!(false, "it was never whole");
        }
    }
}
