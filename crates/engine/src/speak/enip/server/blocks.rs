//! Messages that have to do with blocks: what the opening of a connection of class 1 is answered, and assemblies that are read
//! and set.

use super::super::judging::NotOpenedBecause;
use super::super::manager::AssemblyBlock;
use super::super::node::lock;
use super::super::work::{MessageWork, ReplyTo, ServiceWork};
use super::TagServer;
use woodrush_core::protocol::Extent;
use woodrush_wire::enip::cip::{Reply, Request, service};
use woodrush_wire::enip::connection::{ForwardOpen, NotOpened, Opened};
use woodrush_wire::enip::cpf::{Extras, Items, item};
use woodrush_wire::enip::cyclic::{self, SocketItem};
use woodrush_wire::enip::epath::Object;
use woodrush_wire::enip::status;

impl TagServer {
    /// What a connection of class 1 was answered.
    pub(super) fn say_opened(
        &mut self,
        back: ReplyTo,
        code: u8,
        open: &ForwardOpen<'_>,
        opened: Result<Opened<'_>, NotOpenedBecause>,
    ) {
        let (mut data, mut reply) = (vec![], vec![]);
        match opened {
            Ok(opened) => {
                opened.emit(&mut data);
                Reply::good(code, &data).emit(&mut reply);
            }
            Err(because) => {
                NotOpened { triad: open.triad, left: 0 }.emit(&mut data);
                let words: Vec<u8> = because.words.iter().flat_map(|word| word.to_le_bytes()).collect();
                let own = Reply { service: code, status: because.status, additional: &words, data: &data };
                own.emit(&mut reply);
            }
        }
        self.send(back, &reply);
    }

    /// A service on an assembly of the end that this belongs to; `false` where it has none of that number.
    pub(super) fn on_assembly(&mut self, back: ReplyTo, request: &Request<'_>, object: Object) -> bool {
        let Some((manager, peer)) = &self.node else { return false };
        let found = lock(manager).assembly(object.instance);
        let Some(found) = found else { return false };
        let code = request.service;
        match (code, object.attribute) {
            (service::GET_ATTRIBUTE_SINGLE, Some(3)) => {
                let key = match found.block {
                    AssemblyBlock::Inputs => "inputs",
                    AssemblyBlock::Outputs => "outputs",
                    AssemblyBlock::Config => "",
                };
                let spaces = self.images.iter().find(|(unit, _)| u32::from(*unit) == found.station);
                let place = spaces.and_then(|(_, spaces)| {
                    let id = spaces.id(key)?;
                    Some(Extent { space: id, first: 0, count: found.bytes })
                });
                match place.filter(|place| place.count > 0) {
                    Some(place) => {
                        let unit = u16::try_from(found.station).unwrap_or(u16::MAX);
                        self.work = Some(MessageWork::of_one(back, ServiceWork::assembly(unit, code, place)));
                    }
                    // Nothing is kept of a configuration.
                    None => self.refuse(back, code, 0, None, &vec![0; found.bytes as usize]),
                }
            }
            (service::GET_ATTRIBUTE_SINGLE, Some(4)) => {
                let bytes = u16::try_from(found.bytes).unwrap_or(u16::MAX);
                self.refuse(back, code, 0, None, &bytes.to_le_bytes());
            }
            (service::SET_ATTRIBUTE_SINGLE, Some(3)) => {
                let set = lock(manager).set(self.now, *peer, found, request.data);
                self.refuse(back, code, set.err().unwrap_or(0), None, &[]);
            }
            (service::SET_ATTRIBUTE_SINGLE, Some(4)) => {
                self.refuse(back, code, status::ATTRIBUTE_NOT_SETTABLE, None, &[]);
            }
            (service::GET_ATTRIBUTE_SINGLE | service::SET_ATTRIBUTE_SINGLE, _) => {
                self.refuse(back, code, status::ATTRIBUTE_NOT_SUPPORTED, None, &[]);
            }
            _ => self.refuse(back, code, status::SERVICE_NOT_SUPPORTED, None, &[]),
        }
        true
    }
}

/// The UDP port that the items behind a request say: only the port of an address counts there.
pub(super) fn frames_port(extras: &Extras<'_>) -> u16 {
    let mut bytes = extras.count.to_le_bytes().to_vec();
    bytes.extend_from_slice(extras.bytes);
    let Ok(mut items) = Items::new(&bytes) else { return cyclic::PORT };
    while let Ok(Some((kind, data))) = items.next_item() {
        if kind == item::SOCKET_TO_ORIGINATOR
            && let Ok(SocketItem(at)) = SocketItem::of(data)
            && at.port() != 0
        {
            return at.port();
        }
    }
    cyclic::PORT
}
