//! One service at a time of what an originator asks of tags: what it wants of an image, and its reply.

use super::table_work::{CommandService, TableTodo};
use super::work::ServiceWork;
use super::{answer_to, objects};
use crate::speak::{BitChange, Want};
use std::collections::{HashMap, VecDeque};
use std::sync::Arc;
use woodrush_core::Refusal;
use woodrush_core::protocol::enip::{
    OwnIdentity, PACKED_BITS, data_bytes, from_wire, is_packed, is_type, keys_of, path_of, to_wire_into,
    type_of,
};
use woodrush_core::protocol::{Extent, Grain, Space, SpaceId, Spaces};
use woodrush_wire::enip::cip::{self, Reply, Request, class, service};
use woodrush_wire::enip::epath::{Logical, Path, Segment};
use woodrush_wire::enip::objects::{Identity, parse_attribute_list};
use woodrush_wire::enip::status;
use woodrush_wire::enip::tags::{
    Fragment, Masks, SYMBOL_ATTRIBUTES, Symbol, SymbolType, Write, is_tag, parse_read,
};

/// So many paths are remembered with where they lead.
const PATHS_MAX: usize = 4096;

/// The tags that there are, or the files.
#[derive(Default)]
pub(super) struct Tags {
    spaces: Arc<Spaces>,
    /// The files instead, where the memory is data tables: nothing has a name then.
    files: Option<Arc<Spaces>>,
    /// Paths that were asked for, as they came, with the space and the index there: an originator asks for the same ones
    /// again and again.
    paths: HashMap<Box<[u8]>, (SpaceId, u32)>,
    /// Who this is, where its port says so.
    own: Option<OwnIdentity>,
}

/// What becomes of a service.
pub(super) enum Todo {
    /// It is answered at once.
    Said(Vec<u8>),
    /// Something is wanted first.
    Begun(ServiceWork),
}

/// A service under way.
pub(super) struct TagService {
    service: u8,
    /// What is wanted next, and what behind it.
    want: Option<Want>,
    wants: VecDeque<Want>,
    /// A want was given away, and what came of it is not known.
    waits: bool,
    refused: Option<Refusal>,
    /// What a read says behind its status, as far as it is known.
    read: Option<Read>,
}

struct Read {
    spaces: Arc<Spaces>,
    extent: Extent,
    /// More follows.
    more: bool,
    /// The whole reply, once its values came.
    reply: Option<Vec<u8>>,
}

impl Read {
    fn space(&self) -> Option<&Space> {
        self.spaces.get(self.extent.space)
    }
}

/// A place in the memory of an image.
struct TagPlace<'t> {
    id: SpaceId,
    spaces: &'t Arc<Spaces>,
    space: &'t Space,
    /// In grains.
    first: u32,
}

fn refuse(service: u8, status: u8, word: Option<u16>) -> Vec<u8> {
    let word = word.map(u16::to_le_bytes);
    let additional = word.as_ref().map_or(&[][..], |word| &word[..]);
    let mut reply = vec![];
    Reply { service, status, additional, data: &[] }.emit(&mut reply);
    reply
}

impl Tags {
    pub(super) fn set_up(&mut self, spaces: Arc<Spaces>, is_tables: bool) {
        (self.spaces, self.files) = if is_tables { (Arc::default(), Some(spaces)) } else { (spaces, None) };
        self.paths.clear();
    }

    /// Says who this is.
    pub(super) fn name(&mut self, own: OwnIdentity) {
        self.own = Some(own);
    }

    fn identity(&self) -> Identity<'_> {
        let Some(own) = &self.own else { return objects::identity() };
        Identity {
            vendor: own.vendor,
            device_type: own.device_type,
            product: own.product,
            revision: own.revision,
            serial: own.serial,
            name: own.name.as_bytes(),
            ..objects::identity()
        }
    }

    fn found(&self, id: SpaceId, index: u32) -> Option<TagPlace<'_>> {
        let space = self.spaces.get(id)?;
        let first = if is_packed(space) { index.checked_mul(PACKED_BITS)? } else { index };
        Some(TagPlace { id, spaces: &self.spaces, space, first })
    }

    /// Where a path leads: the space, and the index there.
    fn at(&mut self, path: &Path<'_>) -> Option<(SpaceId, u32)> {
        if let Some(known) = self.paths.get(path.bytes()) {
            return Some(*known);
        }
        let found = self.looked_up(path)?;
        if self.paths.len() >= PATHS_MAX {
            self.paths.clear();
        }
        self.paths.insert(path.bytes().into(), found);
        Some(found)
    }

    fn looked_up(&self, path: &Path<'_>) -> Option<(SpaceId, u32)> {
        let mut segments = path.segments();
        if let Some(Segment::Number { kind: Logical::Class, value: class::SYMBOL, .. }) = segments.next() {
            // By the number that the list gives it.
            let Some(Segment::Number { kind: Logical::Instance, value, .. }) = segments.next() else {
                return None;
            };
            let index = match (segments.next(), segments.next()) {
                (None, _) => 0,
                (Some(Segment::Number { kind: Logical::Member, value, .. }), None) => value,
                _ => return None,
            };
            return Some((SpaceId(value.checked_sub(1)?), index));
        }
        let path = path_of(path.segments())?;
        let id = keys_of(&path).iter().find_map(|key| self.spaces.id(key))?;
        Some((id, path.first))
    }

    /// Looks at one service; `room` is how long its reply may be, `packet` whether it is one of several, and `tags`
    /// whether it came along the way on which tags are.
    pub(super) fn asked(&mut self, message: &[u8], room: usize, packet: bool, tags: bool) -> Todo {
        let request = match Request::parse(message) {
            Ok(request) => request,
            Err(error) => {
                let service = message.first().copied().unwrap_or(0) & !cip::REPLY;
                return Todo::Said(refuse(service, cip::status_of(&error), None));
            }
        };
        if tags && is_tag(&request.path) {
            return self.on_tag(&request, room);
        }
        let Some(object) = request.path.object() else {
            // A name where nothing has one.
            return Todo::Said(refuse(request.service, status::PATH_SEGMENT_ERROR, Some(0)));
        };
        if tags && object.class == class::SYMBOL && request.service == service::LIST_SYMBOLS {
            return Todo::Said(self.list(object.instance, request.data, room));
        }
        if let Some(files) = self.files.as_ref().filter(|_| tags && object.class == class::PCCC) {
            let code = request.service;
            if code != service::EXECUTE_PCCC {
                return Todo::Said(refuse(code, status::SERVICE_NOT_SUPPORTED, None));
            }
            return match CommandService::begin(files, request.data, room) {
                TableTodo::Refused(status) => Todo::Said(refuse(code, status, None)),
                TableTodo::Said(reply) => Todo::Said(reply),
                TableTodo::Begun(own) => Todo::Begun(ServiceWork::Table(own)),
            };
        }
        if packet && matches!(request.service, service::MULTIPLE_SERVICE_PACKET | service::UNCONNECTED_SEND) {
            return Todo::Said(refuse(request.service, status::SERVICE_NOT_SUPPORTED, None));
        }
        let mut reply = vec![];
        objects::answer(&self.identity(), request.service, object, request.data, &mut reply);
        if reply.len() > room {
            reply = refuse(request.service, status::REPLY_TOO_LARGE, None);
        }
        Todo::Said(reply)
    }

    fn on_tag(&mut self, request: &Request<'_>, room: usize) -> Todo {
        let code = request.service;
        let place = self.at(&request.path);
        let Some(found) = place.and_then(|(id, index)| self.found(id, index)) else {
            return Todo::Said(refuse(code, status::PATH_DESTINATION_UNKNOWN, Some(0)));
        };
        let asked = match code {
            service::READ_TAG => parse_read(request.data)
                .map_err(|error| (cip::status_of(&error), None))
                .and_then(|elements| found.read(code, Fragment { elements, offset: 0 }, room)),
            service::READ_TAG_FRAGMENTED => Fragment::parse(request.data)
                .map_err(|error| (cip::status_of(&error), None))
                .and_then(|fragment| found.read(code, fragment, room)),
            service::WRITE_TAG | service::WRITE_TAG_FRAGMENTED => {
                Write::parse(request.data, code == service::WRITE_TAG_FRAGMENTED)
                    .map_err(|error| (cip::status_of(&error), None))
                    .and_then(|write| found.write(code, &write))
            }
            service::READ_MODIFY_WRITE => Masks::parse(request.data)
                .map_err(|error| (cip::status_of(&error), None))
                .and_then(|masks| found.change(code, &masks)),
            _ => Err((status::SERVICE_NOT_SUPPORTED, None)),
        };
        match asked {
            Ok(asked) => Todo::Begun(ServiceWork::Tag(asked)),
            Err((status, word)) => Todo::Said(refuse(code, status, word)),
        }
    }

    /// The tags from that number on, as many as there is room for.
    fn list(&self, from: u32, data: &[u8], room: usize) -> Vec<u8> {
        let wanted: Option<Vec<u16>> = parse_attribute_list(data).ok().map(Iterator::collect);
        if wanted.as_deref() != Some(&SYMBOL_ATTRIBUTES) {
            return refuse(service::LIST_SYMBOLS, status::ATTRIBUTE_LIST_ERROR, None);
        }
        let (mut listed, mut more) = (vec![], false);
        for (id, space) in self.spaces.with_ids() {
            let instance = id.0.saturating_add(1);
            if instance < from {
                continue;
            }
            let shown = space.name();
            // Each row of a grid is a space; the first one stands for all of it.
            let (name, dimensions) = match shown.split_once('[') {
                Some((name, indices)) => {
                    let before = indices.trim_end_matches(']').split(',');
                    if before.clone().any(|index| !matches!(index, "" | "0")) {
                        continue;
                    }
                    (name, u16::try_from(before.count()).unwrap_or(3).min(3))
                }
                None => (shown, 0),
            };
            let own = type_of(space);
            let mut kind = own.handle.map_or(own.code, |handle| handle & 0x0FFF | 0x8000);
            kind |= dimensions << 13;
            let begin = listed.len();
            Symbol { instance, name: name.as_bytes(), symbol_type: SymbolType(kind) }.emit(&mut listed);
            if listed.len() + 4 > room {
                listed.truncate(begin);
                more = true;
                break;
            }
        }
        let status = if more { status::PARTIAL_TRANSFER } else { 0 };
        let mut reply = vec![];
        Reply { service: service::LIST_SYMBOLS, status, additional: &[], data: &listed }.emit(&mut reply);
        reply
    }
}

type StatusWord = (u8, Option<u16>);

const PAST_END: StatusWord = (status::TAG_ERROR, Some(status::tag::ELEMENTS_PAST_END));
const OFFSET: StatusWord = (status::TAG_ERROR, Some(status::tag::OFFSET_PAST_END));

impl TagPlace<'_> {
    /// Grains of one element as services count them.
    fn grains(&self) -> u32 {
        if is_packed(self.space) { PACKED_BITS } else { 1 }
    }

    fn element_bytes(&self) -> u32 {
        u32::try_from(type_of(self.space).bytes().unwrap_or(1)).unwrap_or(1).max(1)
    }

    fn extent(&self, from: u32, elements: u32) -> Result<Extent, StatusWord> {
        let first =
            self.first.checked_add(from.checked_mul(self.grains()).ok_or(PAST_END)?).ok_or(PAST_END)?;
        let count = elements.checked_mul(self.grains()).ok_or(PAST_END)?;
        let end = first.checked_add(count).ok_or(PAST_END)?;
        if count == 0 {
            return Err((status::INVALID_ATTRIBUTE_VALUE, None));
        }
        if self.space.len.is_some_and(|len| end > len) {
            return Err(PAST_END);
        }
        Ok(Extent { space: self.id, first, count })
    }

    fn read(self, service: u8, fragment: Fragment, room: usize) -> Result<TagService, StatusWord> {
        let each = self.element_bytes();
        let elements = u32::from(fragment.elements);
        let from = fragment.offset / each;
        if !fragment.offset.is_multiple_of(each) || from > 0 && from >= elements {
            return Err(OFFSET);
        }
        let head = 4 + type_of(self.space).wire_bytes();
        let fits = u32::try_from(room.saturating_sub(head)).unwrap_or(u32::MAX) / each;
        let left = elements - from.min(elements);
        let now = left.min(fits);
        if now == 0 && left > 0 {
            return Err((status::REPLY_TOO_LARGE, None));
        }
        let extent = self.extent(from, now)?;
        let read = Read { spaces: Arc::clone(self.spaces), extent, more: now < left, reply: None };
        Ok(TagService {
            service,
            want: Some(Want::Read(extent)),
            wants: VecDeque::new(),
            waits: false,
            refused: None,
            read: Some(read),
        })
    }

    fn write(self, service: u8, write: &Write<'_>) -> Result<TagService, StatusWord> {
        if !is_type(self.space, write.tag_type) {
            return Err((status::TAG_ERROR, Some(status::tag::TYPE_MISMATCH)));
        }
        let each = self.element_bytes();
        let bytes = u32::try_from(write.data.len()).unwrap_or(u32::MAX);
        let all = u32::from(write.elements) * each;
        let offset = write.offset.unwrap_or(0);
        let end = offset.checked_add(bytes).ok_or(OFFSET)?;
        if write.offset.is_none() && bytes != all || bytes == 0 || !bytes.is_multiple_of(each) {
            return Err((if bytes < all { status::NOT_ENOUGH_DATA } else { status::TOO_MUCH_DATA }, None));
        }
        if !offset.is_multiple_of(each) || end > all {
            return Err(OFFSET);
        }
        let extent = self.extent(offset / each, bytes / each)?;
        let cells = from_wire(self.space, extent, write.data).ok_or((status::NOT_ENOUGH_DATA, None))?;
        let want = Some(Want::Write { extent, cells });
        Ok(TagService { service, want, wants: VecDeque::new(), waits: false, refused: None, read: None })
    }

    fn change(self, service: u8, masks: &Masks<'_>) -> Result<TagService, StatusWord> {
        let each = self.element_bytes() as usize;
        if masks.or.len() != each || self.space.grain == Grain::Bit && !is_packed(self.space) {
            return Err((status::INVALID_PARAMETER, None));
        }
        let extent = self.extent(0, 1)?;
        let wants = if is_packed(self.space) {
            bits(extent, masks)
        } else {
            let keep = masks.and.iter().zip(masks.or).rev().map(|(and, or)| and & !or).collect();
            let set = masks.and.iter().zip(masks.or).rev().map(|(and, or)| and & or).collect();
            VecDeque::from([Want::Change(Box::new(BitChange { extent, keep, set }))])
        };
        Ok(TagService { service, want: None, wants, waits: false, refused: None, read: None })
    }
}

/// The bits of a packed word that masks set and clear, as writes of bits in a row.
fn bits(word: Extent, masks: &Masks<'_>) -> VecDeque<Want> {
    let mask = |bytes: &[u8]| bytes.first_chunk().map_or(0, |bytes| u32::from_le_bytes(*bytes));
    let (or, and) = (mask(masks.or), mask(masks.and));
    let mut wants: VecDeque<Want> = VecDeque::new();
    for at in 0..PACKED_BITS {
        let (sets, keeps) = (or >> at & 1, and >> at & 1);
        let cell = match (sets, keeps) {
            (0, 1) => continue,
            (sets, keeps) => u8::try_from(sets & keeps).unwrap_or(0),
        };
        let first = word.first + at;
        match wants.back_mut() {
            Some(Want::Write { extent, cells }) if extent.end() == first => {
                extent.count += 1;
                cells.push(cell);
            }
            _ => {
                wants.push_back(Want::Write { extent: Extent { first, count: 1, ..word }, cells: vec![cell] })
            }
        }
    }
    wants
}

impl TagService {
    /// What is wanted next; `None` once its reply can be said.
    pub(super) fn next(&mut self) -> Option<Want> {
        if self.refused.is_some() {
            return None;
        }
        let want = self.want.take().or_else(|| self.wants.pop_front())?;
        self.waits = true;
        Some(want)
    }

    /// Whether something is wanted of others.
    pub(super) const fn waits(&self) -> bool {
        self.waits
    }

    pub(super) fn given(&mut self, result: Result<&[u8], Refusal>) {
        self.waits = false;
        match (result, &mut self.read) {
            (Err(refusal), _) => self.refused = Some(refusal),
            (Ok(cells), Some(read)) => {
                let (service, status) = (self.service, if read.more { status::PARTIAL_TRANSFER } else { 0 });
                let reply = read.space().and_then(|space| {
                    let bytes = data_bytes(space, read.extent) as usize;
                    let mut reply = Vec::with_capacity(8 + bytes);
                    cip::emit_reply_head(&mut reply, service, status, &[]);
                    type_of(space).emit(&mut reply);
                    let begin = reply.len();
                    to_wire_into(space, read.extent.first, cells, &mut reply);
                    (reply.len() - begin == bytes).then_some(reply)
                });
                read.reply = reply;
            }
            (Ok(_), None) => {}
        }
    }

    pub(super) fn reply(self) -> Vec<u8> {
        if let Some(refusal) = self.refused {
            let (status, word) = answer_to(refusal);
            return refuse(self.service, status, word);
        }
        match self.read {
            Some(Read { reply: Some(reply), .. }) => reply,
            Some(_) => refuse(self.service, status::DEVICE_STATE_CONFLICT, None),
            None => {
                let mut reply = vec![];
                Reply::good(self.service, &[]).emit(&mut reply);
                reply
            }
        }
    }
}
