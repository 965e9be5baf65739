//! What explicit messages cost, and how they look.

use super::{PACKED_BITS, Search, Tags, emit_path, is_packed, route_of, tag, type_of};
use crate::protocol::{Cost, Example, Extent, Grain, Requests, Setup, Space, TooMuch, Verb};
use woodrush_wire::enip::cip::{self, Reply, class, service};
use woodrush_wire::enip::connection::UnconnectedSend;
use woodrush_wire::enip::cpf::{Connected, Unconnected};
use woodrush_wire::enip::encap::{HEADER, Header, command};
use woodrush_wire::enip::epath::{Object, Path};
use woodrush_wire::enip::packet;
use woodrush_wire::enip::tags::{Masks, Values, Write};

/// Bytes of a large connection's messages, the sequence count with them: what is asked for first.
pub const CONNECTION_LARGE: u16 = 4002;
/// The same of an ordinary one.
pub const CONNECTION_SMALL: u16 = 504;
/// Bytes of a message without a connection that every controller takes.
const UNCONNECTED: u16 = 500;
/// Interface handle, timeout and item count.
const ITEMS: u32 = 4 + 2 + 2;
/// Service, path size and the path to the message router or the connection manager.
pub(super) const TO_OBJECT: u32 = 2 + 4;
/// Service, reserved byte, status and size of the additional one.
pub(super) const REPLY: u32 = 4;

/// How messages get to a device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Way {
    /// Whether there is a connection.
    pub connected: bool,
    /// The route from the peer on; empty where it is the peer itself.
    pub route: Vec<u8>,
    /// The most bytes of a request and of a reply.
    pub most: u32,
}

impl Way {
    /// By a device's keys.
    #[must_use]
    pub fn of(setup: &Setup) -> Self {
        // What is exchanged in cycles is asked for now and then by hand: that needs no connection of its own.
        let cyclic = setup.row("inputs").is_some() || setup.row("outputs").is_some();
        let connected = setup.number("connected") != Some(0) && !cyclic;
        let route = route_of(setup);
        Self::sized(connected.then_some(CONNECTION_LARGE), route)
    }

    /// Over a connection of that size; `None` is without one.
    #[must_use]
    pub fn sized(connection: Option<u16>, route: Vec<u8>) -> Self {
        let most = match connection {
            // The sequence count is a part of its size.
            Some(size) => u32::from(size.saturating_sub(2)),
            // The request goes within another one, where it goes on from there.
            None => u32::from(UNCONNECTED) - if route.is_empty() { 0 } else { 16 },
        };
        Self { connected: connection.is_some(), route, most }
    }

    /// Bytes around a request, and around a reply.
    pub(super) fn around(&self) -> (u32, u32) {
        let header = u32::try_from(HEADER).unwrap_or(24) + ITEMS;
        if self.connected {
            // A connection's id, and a sequence count before the message.
            let items = 4 + 4 + 4 + 2;
            return (header + items, header + items);
        }
        let items = 4 + 4;
        let route = match u32::try_from(self.route.len()).unwrap_or(0) {
            0 => 0,
            // Ticks and the request's size, the route and its size.
            bytes => TO_OBJECT + 4 + 2 + bytes,
        };
        (header + items + route, header + items)
    }
}

/// The words of a packed array that hold some bits: the first one and how many.
#[must_use]
pub const fn packed_words(first: u32, count: u32) -> (u32, u32) {
    let begin = first / PACKED_BITS;
    (begin, (first + count).div_ceil(PACKED_BITS) - begin)
}

/// Bytes of an extent's elements on the wire.
#[must_use]
pub fn data_bytes(space: &Space, extent: Extent) -> u32 {
    if is_packed(space) {
        return packed_words(extent.first, extent.count).1 * 4;
    }
    let bytes = type_of(space).bytes().unwrap_or(1);
    extent.count.saturating_mul(u32::try_from(bytes).unwrap_or(1))
}

/// Bytes of a type field.
fn type_bytes(space: &Space) -> u32 {
    u32::try_from(type_of(space).wire_bytes()).unwrap_or(2)
}

/// Bytes of the services that one part takes, out and back, and how many they are.
fn part(verb: Verb, space: &Space, extent: Extent) -> (u32, u32, u32) {
    let head = 2 + tag::path_bytes(space, extent.first);
    match verb {
        Verb::Read => (head + 2, REPLY + type_bytes(space) + data_bytes(space, extent), 1),
        // Each word of packed bits is changed by a service of its own.
        Verb::Write if is_packed(space) => {
            let words = packed_words(extent.first, extent.count).1;
            (words * (head + 4 + 2 + 8), words * REPLY, words)
        }
        Verb::Write => (head + type_bytes(space) + 2 + data_bytes(space, extent), REPLY, 1),
    }
}

impl Requests for Tags {
    fn search(&self) -> Option<&dyn Search> {
        Some(self)
    }

    fn no_retries(&self) -> Option<&'static str> {
        Some("each answer has the number of its request; the next poll asks again")
    }

    fn gathers(&self) -> bool {
        true
    }

    fn more_at_once(&self, setup: &Setup) -> Option<&'static str> {
        let is_without = setup.number("connected") == Some(0);
        is_without
            .then_some("leave out `connected = false`: a message on a connection carries eight times as much")
    }

    fn cost(&self, verb: Verb, parts: &[(&Space, Extent)], setup: &Setup) -> Result<Cost, TooMuch> {
        let way = Way::of(setup);
        let (own, key) = match verb {
            Verb::Read => (setup.number("max-read"), "max-read"),
            Verb::Write => (setup.number("max-write"), "max-write"),
        };
        let (mut out, mut back, mut services, mut data) = (0u32, 0u32, 0u32, 0u32);
        for (space, extent) in parts {
            let (asks, answers, count) = part(verb, space, *extent);
            out = out.saturating_add(asks);
            back = back.saturating_add(answers);
            services += count;
            data = data.saturating_add(data_bytes(space, *extent));
        }
        if services > 1 {
            let many = u32::try_from(packet::overhead(services as usize)).unwrap_or(u32::MAX);
            out = out.saturating_add(TO_OBJECT).saturating_add(many);
            back = back.saturating_add(REPLY).saturating_add(many);
        }
        // What of one part alone fits, for the message.
        let limit = |source| {
            let (space, extent) = parts.first().copied()?;
            let fits = |count: &u32| {
                let (asks, answers, services) = part(verb, space, Extent { count: *count, ..extent });
                asks.max(answers) + if services > 1 { TO_OBJECT + 2 + 2 * services } else { 0 } <= way.most
            };
            let (mut low, mut high) = (0, extent.count);
            while low < high {
                let middle = (low + high).div_ceil(2);
                if fits(&middle) { low = middle } else { high = middle - 1 }
            }
            Some(TooMuch { limit: low, source })
        };
        let too_much = |source| limit(source).unwrap_or(TooMuch { limit: 0, source });
        if let Some(own) = own.filter(|own| data > *own) {
            let each =
                parts.first().map_or(1, |(space, _)| u32::try_from(space.grain.cell_bytes()).unwrap_or(1));
            return Err(TooMuch { limit: own / each.max(1), source: key });
        }
        if out > way.most || back > way.most {
            let source = if way.connected { "a large connection" } else { "a message without a connection" };
            return Err(too_much(source));
        }
        if services > u32::from(packet::SERVICES_MAX) {
            return Err(too_much("the services of one message"));
        }
        let (around, behind) = way.around();
        // The request within another one is filled to whole words.
        let fill = if way.connected || way.route.is_empty() { 0 } else { out % 2 };
        Ok(Cost { out: around + out + fill, back: behind + back, turns: 0 })
    }

    fn example(&self, verb: Verb, space: &Space, first: u32, cells: &[u8], setup: &Setup) -> Example {
        let each = space.grain.cell_bytes().max(1);
        let mut count = u32::try_from(cells.len() / each).unwrap_or(1);
        let tag_type = type_of(space);
        let (mut request, mut answer) = (vec![], vec![]);
        let elements = |count: u32| u16::try_from(count).unwrap_or(u16::MAX);
        let path = |out: &mut Vec<u8>| emit_path(space, first, out);
        let data = to_wire(space, first, cells);
        let words = match verb {
            Verb::Read => {
                if is_packed(space) {
                    count = packed_words(first, count).1;
                }
                cip::emit_with(&mut request, service::READ_TAG, path);
                request.extend_from_slice(&elements(count).to_le_bytes());
                let mut values = vec![];
                Values { tag_type, data: &data }.emit(&mut values);
                Reply::good(service::READ_TAG, &values).emit(&mut answer);
                "read tag"
            }
            Verb::Write if is_packed(space) => {
                let (mask, set) = masks(first, cells);
                cip::emit_with(&mut request, service::READ_MODIFY_WRITE, path);
                Masks { or: &set, and: &mask }.emit(&mut request);
                Reply::good(service::READ_MODIFY_WRITE, &[]).emit(&mut answer);
                "read-modify-write tag"
            }
            Verb::Write => {
                cip::emit_with(&mut request, service::WRITE_TAG, path);
                Write { tag_type, elements: elements(count), offset: None, data: &data }.emit(&mut request);
                Reply::good(service::WRITE_TAG, &[]).emit(&mut answer);
                "write tag"
            }
        };
        let shown = super::path::show(space.name(), first);
        let plural = if count == 1 { "" } else { "s" };
        let name = tag_type.name().unwrap_or("structure");
        Example {
            words: format!("{words} {shown}, {count} element{plural} of {name}"),
            request: wrapped(&Way::of(setup), true, &request),
            answer: wrapped(&Way::of(setup), false, &answer),
        }
    }
}

/// A message with everything around it, the numbers of session and connection 0.
pub(super) fn wrapped(way: &Way, asks: bool, message: &[u8]) -> Vec<u8> {
    let mut out = vec![];
    let put = |out: &mut Vec<u8>| out.extend_from_slice(message);
    let header = |command| Header { command, ..Header::default() };
    if way.connected {
        let unit = |out: &mut Vec<u8>| Connected::emit_with(out, 0, 1, put);
        header(command::SEND_UNIT_DATA).emit_with(&mut out, unit);
        return out;
    }
    let route = Path::parse(&way.route).unwrap_or_default();
    let rr = |out: &mut Vec<u8>| {
        Unconnected::emit_with(out, |out| {
            if !asks || way.route.is_empty() {
                return put(out);
            }
            let manager = Object { class: class::CONNECTION_MANAGER, instance: 1, attribute: None };
            cip::emit_to(out, service::UNCONNECTED_SEND, manager);
            UnconnectedSend::emit_with(out, UnconnectedSend::ticks_of(1000), route, put);
        });
    };
    header(command::SEND_RR_DATA).emit_with(&mut out, rr);
    out
}

/// The AND and the OR mask of the word that holds the first of some bits.
fn masks(first: u32, cells: &[u8]) -> ([u8; 4], [u8; 4]) {
    let (mut and, mut or) = (u32::MAX, 0u32);
    for (at, cell) in (first % PACKED_BITS..PACKED_BITS).zip(cells) {
        if *cell == 0 {
            and &= !(1 << at);
        } else {
            or |= 1 << at;
        }
    }
    (and.to_le_bytes(), or.to_le_bytes())
}

/// Cells of elements from `first` on as they travel: the lowest byte first, bits packed into words.
#[must_use]
pub fn to_wire(space: &Space, first: u32, cells: &[u8]) -> Vec<u8> {
    let mut data = Vec::with_capacity(cells.len());
    to_wire_into(space, first, cells, &mut data);
    data
}

/// The same, appended.
pub fn to_wire_into(space: &Space, first: u32, cells: &[u8], data: &mut Vec<u8>) {
    if is_packed(space) {
        let count = u32::try_from(cells.len()).unwrap_or(u32::MAX);
        let begin = data.len();
        data.resize(begin + packed_words(first, count).1 as usize * 4, 0);
        for (at, cell) in ((first % PACKED_BITS) as usize..).zip(cells) {
            if let Some(byte) = data.get_mut(begin + at / 8).filter(|_| *cell != 0) {
                *byte |= 1 << (at % 8);
            }
        }
        return;
    }
    match space.grain {
        Grain::Bit => data.extend_from_slice(cells),
        Grain::Bytes(82) => cells.chunks(82).for_each(|text| string_to_wire(text, data)),
        Grain::Bytes(bytes) => {
            cells.chunks(usize::from(bytes.max(1))).for_each(|cell| data.extend(cell.iter().rev()));
        }
    }
}

/// A string of 82 characters: its length, the characters, two bytes of fill.
fn string_to_wire(text: &[u8], data: &mut Vec<u8>) {
    let length = text.iter().rposition(|byte| *byte != 0).map_or(0, |last| last + 1);
    data.extend_from_slice(&u32::try_from(length).unwrap_or(0).to_le_bytes());
    data.extend_from_slice(text);
    data.resize(data.len() + 2, 0);
}

/// Cells of elements out of what came, the reverse of [`to_wire`]; `None` where that is not as long as they are.
#[must_use]
pub fn from_wire(space: &Space, extent: Extent, data: &[u8]) -> Option<Vec<u8>> {
    let mut cells = vec![];
    from_wire_into(space, extent, data, &mut cells)?;
    Some(cells)
}

/// The same, appended.
#[must_use]
pub fn from_wire_into(space: &Space, extent: Extent, data: &[u8], cells: &mut Vec<u8>) -> Option<()> {
    if data.len() != data_bytes(space, extent) as usize {
        return None;
    }
    if is_packed(space) {
        let begin = (extent.first % PACKED_BITS) as usize;
        for at in begin..begin + extent.count as usize {
            cells.push(data.get(at / 8)? >> (at % 8) & 1);
        }
        return Some(());
    }
    match space.grain {
        Grain::Bit => cells.extend(data.iter().map(|byte| u8::from(*byte != 0))),
        Grain::Bytes(82) => {
            for string in data.chunks(88) {
                let length: [u8; 4] = *string.first_chunk()?;
                let length = usize::try_from(u32::from_le_bytes(length)).ok()?.min(82);
                let text = string.get(4..4 + length)?;
                cells.extend_from_slice(text);
                // What stands behind its length is what was there before, and no part of it.
                cells.resize(cells.len() + 82 - length, 0);
            }
        }
        Grain::Bytes(bytes) => {
            for element in data.chunks(usize::from(bytes.max(1))) {
                cells.extend(element.iter().rev());
            }
        }
    }
    Some(())
}
