//! One question as services: how many go into one message, what comes back of each, and what is left.

use super::{NATIVE, refusal};
use crate::speak::{self, Unsound};
use std::collections::VecDeque;
use std::sync::Arc;
use woodrush_core::protocol::enip::{
    PACKED_BITS, data_bytes, emit_path, from_wire_into, is_packed, is_type, other_type, packed_words,
    to_wire, type_of,
};
use woodrush_core::protocol::{Extent, Space};
use woodrush_core::{Blame, Kind, Refusal};
use woodrush_wire::enip::cip::{self, Reply, class, service};
use woodrush_wire::enip::epath::Object;
use woodrush_wire::enip::packet::{self, Parts, SERVICES_MAX};
use woodrush_wire::enip::status;
use woodrush_wire::enip::tags::{Fragment, Masks, TagType, Values, Write};

/// Bytes of a reply that carries nothing.
const REPLY: usize = 4;
/// Service, path size and the path to the message router.
const TO_ROUTER: usize = 6;

/// What is wanted of one place.
#[derive(Debug, Clone)]
pub(super) enum TagTask {
    /// Its elements, from that byte of them on.
    Read { offset: usize },
    /// That it takes these bytes from that one of them on; all of them at once where they fit.
    Write { data: Arc<[u8]>, offset: usize },
    /// That bits of its one element change.
    Change { or: Vec<u8>, and: Vec<u8> },
    /// Its type, before it is written.
    Learn,
}

/// One service.
#[derive(Debug, Clone)]
pub(super) struct Service {
    /// Which part of the question it is for.
    pub(super) part: usize,
    pub(super) task: TagTask,
    /// It is asked for by bytes, because all of it at once is too much.
    pub(super) by_bytes: bool,
    /// Bytes that the message under way writes of it.
    piece: usize,
}

/// One place of the question.
#[derive(Debug, Clone)]
pub(super) struct WantedPart {
    pub(super) space: Space,
    pub(super) extent: Extent,
    /// The type that the controller was found to have there.
    found: Option<TagType>,
    /// Its bytes, as far as they came.
    data: Vec<u8>,
    refused: Option<Refusal>,
}

impl WantedPart {
    pub(super) fn new(space: Space, extent: Extent, found: Option<TagType>) -> Self {
        Self { space, extent, found, data: vec![], refused: None }
    }

    /// Elements as a service counts them.
    fn elements(&self) -> u16 {
        let count = if is_packed(&self.space) {
            packed_words(self.extent.first, self.extent.count).1
        } else {
            self.extent.count
        };
        u16::try_from(count).unwrap_or(u16::MAX)
    }

    fn bytes(&self) -> usize {
        data_bytes(&self.space, self.extent) as usize
    }

    fn element_bytes(&self) -> usize {
        type_of(&self.space).bytes().unwrap_or(1)
    }
}

/// The question as it stands.
#[derive(Debug, Default)]
pub(super) struct Services {
    pub(super) parts: Vec<WantedPart>,
    /// What is still to be asked.
    pub(super) todo: VecDeque<Service>,
    /// What was asked in the message under way.
    asked: Vec<Service>,
    /// What was found of the types of tags, by part.
    found: Vec<(usize, Option<TagType>)>,
}

/// What a message may be, and what is known of the one who gets it.
#[derive(Clone, Copy)]
pub(super) struct Terms {
    /// The most bytes of a request and of a reply.
    pub(super) most: usize,
    pub(super) one_by_one: bool,
}

impl Services {
    /// A read of some places.
    pub(super) fn read(parts: Vec<WantedPart>) -> Self {
        let service = |part| Service { part, task: TagTask::Read { offset: 0 }, by_bytes: false, piece: 0 };
        Self { todo: (0..parts.len()).map(service).collect(), parts, ..Self::default() }
    }

    /// What goes before a write: the type is learnt where it is not known.
    fn learn(part: &WantedPart) -> VecDeque<Service> {
        let learn = Service { part: 0, task: TagTask::Learn, by_bytes: false, piece: 0 };
        Some(learn).filter(|_| part.found.is_none()).into_iter().collect()
    }

    /// A write of one place; the type is learnt first where it is not known.
    pub(super) fn write(part: WantedPart, cells: &[u8]) -> Self {
        let mut todo = Self::learn(&part);
        if is_packed(&part.space) {
            return Self::bits(&part, cells, todo);
        }
        let data = to_wire(&part.space, part.extent.first, cells).into();
        todo.push_back(Service {
            part: 0,
            task: TagTask::Write { data, offset: 0 },
            by_bytes: false,
            piece: 0,
        });
        Self { parts: vec![part], todo, ..Self::default() }
    }

    /// Packed bits: each word that holds some of them is a part of its own.
    fn bits(whole: &WantedPart, cells: &[u8], mut todo: VecDeque<Service>) -> Self {
        let mut parts = vec![];
        let mut rest = cells;
        let mut first = whole.extent.first;
        while !rest.is_empty() {
            let count =
                (PACKED_BITS - first % PACKED_BITS).min(u32::try_from(rest.len()).unwrap_or(u32::MAX));
            let (own, behind) = rest.split_at_checked(count as usize).unwrap_or((rest, &[]));
            let (mut or, mut and) = (0u32, u32::MAX);
            for (at, cell) in (first % PACKED_BITS..PACKED_BITS).zip(own) {
                if *cell == 0 { and &= !(1 << at) } else { or |= 1 << at }
            }
            let task = TagTask::Change { or: or.to_le_bytes().to_vec(), and: and.to_le_bytes().to_vec() };
            todo.push_back(Service { part: parts.len(), task, by_bytes: false, piece: 0 });
            let extent = Extent { first, count, ..whole.extent };
            parts.push(WantedPart::new(whole.space.clone(), extent, whole.found));
            (rest, first) = (behind, first + count);
        }
        Self { parts, todo, ..Self::default() }
    }

    /// A change of bits of one element.
    pub(super) fn change(part: WantedPart, keep: &[u8], set: &[u8]) -> Self {
        let mut todo = Self::learn(&part);
        // Canonical cells have the most significant byte first.
        let or = set.iter().zip(keep).rev().map(|(set, keep)| set & !keep).collect();
        let and = set.iter().zip(keep).rev().map(|(set, keep)| set | keep).collect();
        todo.push_back(Service { part: 0, task: TagTask::Change { or, and }, by_bytes: false, piece: 0 });
        Self { parts: vec![part], todo, ..Self::default() }
    }

    /// The next message; `None` once nothing is left.
    pub(super) fn message(&mut self, terms: Terms) -> Option<Vec<u8>> {
        let mut services: Vec<Vec<u8>> = vec![];
        let (mut out, mut back) = (0, 0);
        self.asked.clear();
        while let Some(next) = self.todo.front_mut() {
            let Some(part) = self.parts.get(next.part) else { break };
            // A type must be there before what it decides.
            let learns = self.asked.iter().any(|own| matches!(own.task, TagTask::Learn));
            if learns
                || terms.one_by_one && !services.is_empty()
                || services.len() >= usize::from(SERVICES_MAX)
            {
                break;
            }
            let (mut bytes, mut answer) = next.emit(part, terms);
            let around = |count: usize| if count > 1 { TO_ROUTER + packet::overhead(count) } else { 0 };
            let many = around(services.len() + 1);
            let behind = if services.is_empty() { 0 } else { REPLY + packet::overhead(services.len() + 1) };
            if out + bytes.len() + many > terms.most || back + answer + behind > terms.most {
                if !services.is_empty() {
                    break;
                }
                // Alone it is too much: it goes by bytes.
                next.by_bytes = true;
                (bytes, answer) = next.emit(part, terms);
            }
            (out, back) = (out + bytes.len(), back + answer);
            services.push(bytes);
            let alone = next.by_bytes;
            self.asked.extend(self.todo.pop_front());
            if alone {
                break;
            }
        }
        if services.len() < 2 {
            return services.pop();
        }
        let mut message = Vec::with_capacity(out + TO_ROUTER + packet::overhead(services.len()));
        let router = Object { class: class::MESSAGE_ROUTER, instance: 1, attribute: None };
        cip::emit_to(&mut message, service::MULTIPLE_SERVICE_PACKET, router);
        let count = u16::try_from(services.len()).unwrap_or(SERVICES_MAX);
        packet::emit_with(&mut message, count, |at, out| {
            out.extend_from_slice(services.get(usize::from(at)).map_or(&[], Vec::as_slice));
        });
        Some(message)
    }

    /// Takes the reply to the message under way.
    ///
    /// # Errors
    /// It is no reply to that, or the whole message is refused.
    pub(super) fn answered(&mut self, message: &[u8]) -> Result<Outcome, Refusal> {
        let damaged = |_| Refusal::new(Kind::Mismatch, Blame::Device);
        let reply = Reply::parse(message).map_err(damaged)?;
        let asked = std::mem::take(&mut self.asked);
        if asked.len() < 2 {
            let Some(service) = asked.into_iter().next() else {
                return Err(Refusal::new(Kind::Mismatch, Blame::Device));
            };
            self.one_answered(service, &reply)?;
            return Ok(Outcome::Taken);
        }
        if reply.service != service::MULTIPLE_SERVICE_PACKET {
            // A refusal on the way there.
            return match reply.status {
                0 => Err(Refusal::new(Kind::Mismatch, Blame::Device)),
                status => Err(refusal(status, reply.word())),
            };
        }
        if !matches!(reply.status, 0 | status::EMBEDDED_SERVICE_ERROR) {
            let unserved = matches!(reply.status, status::SERVICE_NOT_SUPPORTED | status::REPLY_TOO_LARGE);
            if !unserved {
                return Err(refusal(reply.status, reply.word()));
            }
            asked.into_iter().rev().for_each(|own| self.todo.push_front(own));
            return Ok(Outcome::OneByOne);
        }
        let parts = Parts::parse(reply.data).map_err(damaged)?;
        if usize::from(parts.count()) != asked.len() {
            return Err(Refusal::new(Kind::Mismatch, Blame::Device));
        }
        for (service, part) in asked.into_iter().zip(parts.iter()) {
            let reply = Reply::parse(part).map_err(damaged)?;
            self.one_answered(service, &reply)?;
        }
        Ok(Outcome::Taken)
    }

    fn one_answered(&mut self, asked: Service, reply: &Reply<'_>) -> Result<(), Refusal> {
        let mismatch = Refusal::new(Kind::Mismatch, Blame::Device);
        let Some(part) = self.parts.get_mut(asked.part) else { return Err(mismatch) };
        let more = reply.status == status::PARTIAL_TRANSFER;
        if reply.service != asked.code() && reply.status == 0 {
            return Err(mismatch);
        }
        if reply.status != 0 && !more {
            // Less at once may do.
            if reply.status == status::REPLY_TOO_LARGE && !asked.by_bytes && asked.is_read() {
                self.todo.push_front(Service { by_bytes: true, ..asked });
                return Ok(());
            }
            if reply.status == status::TAG_ERROR && reply.word() == Some(status::tag::TYPE_MISMATCH) {
                // What was found before does not hold any more.
                part.found = None;
                self.found.push((asked.part, None));
            }
            if matches!(asked.task, TagTask::Learn) && reply.status == status::DEVICE_STATE_CONFLICT {
                // It has no value yet. A write states its type, and the device compares that with its own.
                return Ok(());
            }
            part.refused = Some(refusal(reply.status, reply.word()));
            self.drop_after(&asked);
            return Ok(());
        }
        match asked.task {
            TagTask::Read { .. } | TagTask::Learn => {
                let values = Values::parse(reply.data).map_err(|_| mismatch)?;
                if !is_type(&part.space, values.tag_type) {
                    let native = Some((NATIVE, other_type(values.tag_type)));
                    part.refused = Some(Refusal { native, ..Refusal::new(Kind::TypeDiffers, Blame::Device) });
                    self.drop_after(&asked);
                    return Ok(());
                }
                part.found = Some(values.tag_type);
                self.found.push((asked.part, part.found));
                if matches!(asked.task, TagTask::Learn) {
                    return Ok(());
                }
                part.data.extend_from_slice(values.data);
                if part.data.len() > part.bytes() || more && values.data.is_empty() {
                    // It goes on and on, or nowhere.
                    return Err(mismatch);
                }
                if more {
                    let task = TagTask::Read { offset: part.data.len() };
                    self.todo.push_front(Service { part: asked.part, task, by_bytes: true, piece: 0 });
                } else if part.data.len() < part.bytes() {
                    return Err(mismatch);
                }
            }
            TagTask::Write { ref data, offset } if asked.by_bytes => {
                let next = offset + asked.piece;
                if next < data.len() {
                    let task = TagTask::Write { data: data.clone(), offset: next };
                    self.todo.push_front(Service { task, ..asked });
                }
            }
            TagTask::Write { .. } | TagTask::Change { .. } => {}
        }
        Ok(())
    }

    /// What need not be asked any more, because this was refused: the rest of that part of a read, all of a write.
    fn drop_after(&mut self, refused: &Service) {
        if refused.is_read() {
            self.todo.retain(|service| service.part != refused.part);
        } else {
            self.todo.clear();
        }
    }

    /// What the replies since the last look say of the types of tags; `None` where what was known does not hold.
    pub(super) fn found(&mut self) -> impl Iterator<Item = (&Space, Option<TagType>)> {
        let parts = &self.parts;
        self.found.drain(..).filter_map(|(part, found)| Some((&parts.get(part)?.space, found)))
    }

    /// What came of it all: cells of a read one part after the other, and the parts that were refused.
    ///
    /// # Errors
    /// All of it was refused, or a write.
    pub(super) fn end(self, reads: bool) -> Result<speak::Delivered, Refusal> {
        let refused = |(at, part): (usize, &WantedPart)| {
            Some(Unsound { part: at, extent: part.extent, refusal: part.refused? })
        };
        let unsound: Vec<Unsound> = self.parts.iter().enumerate().filter_map(refused).collect();
        match unsound.first() {
            Some(first) if !reads || unsound.len() == self.parts.len() => return Err(first.refusal),
            _ if !reads => return Ok(speak::Delivered::default()),
            _ => {}
        }
        let mut cells = vec![];
        for part in &self.parts {
            let begin = cells.len();
            let each = part.space.grain.cell_bytes() * part.extent.count as usize;
            if part.refused.is_some()
                || from_wire_into(&part.space, part.extent, &part.data, &mut cells).is_none()
            {
                cells.truncate(begin);
                cells.resize(begin + each, 0);
            }
        }
        Ok(speak::Delivered { cells, unsound })
    }
}

/// What a reply brought.
pub(super) enum Outcome {
    /// It was.
    Taken,
    /// Several services in one message are not served: one after the other from now on.
    OneByOne,
}

impl Service {
    fn is_read(&self) -> bool {
        matches!(self.task, TagTask::Read { .. })
    }

    fn code(&self) -> u8 {
        match (&self.task, self.by_bytes) {
            (TagTask::Read { .. }, false) | (TagTask::Learn, _) => service::READ_TAG,
            (TagTask::Read { .. }, true) => service::READ_TAG_FRAGMENTED,
            (TagTask::Write { .. }, false) => service::WRITE_TAG,
            (TagTask::Write { .. }, true) => service::WRITE_TAG_FRAGMENTED,
            (TagTask::Change { .. }, _) => service::READ_MODIFY_WRITE,
        }
    }

    /// Its bytes, and how long the reply is at most.
    fn emit(&mut self, part: &WantedPart, terms: Terms) -> (Vec<u8>, usize) {
        let mut out = vec![];
        cip::emit_with(&mut out, self.code(), |out| emit_path(&part.space, part.extent.first, out));
        let type_bytes = type_of(&part.space).wire_bytes();
        let tag_type = part.found.unwrap_or_else(|| type_of(&part.space));
        let back = match &self.task {
            TagTask::Learn => {
                out.extend_from_slice(&1u16.to_le_bytes());
                REPLY + type_bytes + part.element_bytes()
            }
            TagTask::Read { offset } if self.by_bytes => {
                let offset = u32::try_from(*offset).unwrap_or(u32::MAX);
                Fragment { elements: part.elements(), offset }.emit(&mut out);
                terms.most.min(REPLY + type_bytes + part.bytes())
            }
            TagTask::Read { .. } => {
                out.extend_from_slice(&part.elements().to_le_bytes());
                REPLY + type_bytes + part.bytes()
            }
            TagTask::Write { data, offset } => {
                let piece = if self.by_bytes {
                    // Type, elements and offset stand before the bytes, of which whole elements go.
                    let room = terms.most.saturating_sub(out.len() + type_bytes + 2 + 4);
                    let each = part.element_bytes();
                    (room / each * each).max(each).min(data.len() - (*offset).min(data.len()))
                } else {
                    data.len()
                };
                self.piece = piece;
                let own = data.get(*offset..*offset + piece).unwrap_or_default();
                let offset = self.by_bytes.then(|| u32::try_from(*offset).unwrap_or(u32::MAX));
                Write { tag_type, elements: part.elements(), offset, data: own }.emit(&mut out);
                REPLY
            }
            TagTask::Change { or, and } => {
                Masks { or, and }.emit(&mut out);
                REPLY
            }
        };
        (out, back)
    }
}
