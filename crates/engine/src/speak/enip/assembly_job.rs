//! A question about an assembly as messages: all of it is read, and where a part is written, all of it is set with that
//! part changed.

use super::refusal;
use crate::speak::Ask;
use crate::speak::tables::Replied;
use woodrush_core::plan::Station;
use woodrush_core::protocol::Extent;
use woodrush_core::protocol::enip::Layout;
use woodrush_core::{Blame, Kind, Refusal};
use woodrush_wire::enip::cip::{self, Reply, class, service};
use woodrush_wire::enip::epath::Object;

/// What is to be done with the part that is meant.
enum CellsWanted {
    /// It is only read.
    Nothing,
    /// It becomes these cells.
    Cells(Vec<u8>),
    /// Some of its bits change: ones in the first keep the old bit, else the second has the new one.
    Bits(Vec<u8>, Vec<u8>),
}

/// One such question.
pub(super) struct AssemblyAsk {
    number: u32,
    extent: Extent,
    change: CellsWanted,
    /// What is to be set, once it has been read.
    whole: Option<Vec<u8>>,
}

impl AssemblyAsk {
    /// The question, and the index of the station; `None` where that has no assemblies, or no such one.
    pub(super) fn of(stations: &[Station], ask: &Ask) -> Option<(usize, Self)> {
        let (at, extent, change) = match ask {
            Ask::Read { station, parts } => (*station, *parts.first()?, CellsWanted::Nothing),
            Ask::Write { station, extent, cells } => (*station, *extent, CellsWanted::Cells(cells.clone())),
            Ask::Change { station, extent, keep, set } => {
                (*station, *extent, CellsWanted::Bits(keep.clone(), set.clone()))
            }
            Ask::Pass { .. } => return None,
        };
        let station = stations.get(at)?;
        let layout = Layout::of(&station.setup)?;
        let number = match station.space_at(extent.space)?.key.as_ref() {
            "outputs" => layout.outputs?.number,
            _ => layout.inputs.number,
        };
        Some((at, Self { number, extent, change, whole: None }))
    }

    /// The next message.
    pub(super) fn message(&self) -> Vec<u8> {
        let object = Object { class: class::ASSEMBLY, instance: self.number, attribute: Some(3) };
        let mut out = vec![];
        match &self.whole {
            None => cip::emit_to(&mut out, service::GET_ATTRIBUTE_SINGLE, object),
            Some(whole) => {
                cip::emit_to(&mut out, service::SET_ATTRIBUTE_SINGLE, object);
                out.extend_from_slice(whole);
            }
        }
        out
    }

    /// Takes the reply to it.
    pub(super) fn replied(&mut self, message: &[u8]) -> Replied {
        let Ok(reply) = Reply::parse(message) else { return Replied::Unfitting };
        if reply.status != 0 {
            return Replied::Ended(Err(refusal(reply.status, reply.word())));
        }
        match (reply.service & !cip::REPLY, &self.whole) {
            (service::GET_ATTRIBUTE_SINGLE, None) => {}
            (service::SET_ATTRIBUTE_SINGLE, Some(_)) => return Replied::Ended(Ok(vec![])),
            _ => return Replied::Unfitting,
        }
        let mut whole = reply.data.to_vec();
        let range = self.extent.first as usize..self.extent.end() as usize;
        // It is shorter than the project says.
        let Some(part) = whole.get_mut(range) else {
            return Replied::Ended(Err(Refusal::new(Kind::NoSuchAddress, Blame::Device)));
        };
        match &self.change {
            CellsWanted::Nothing => return Replied::Ended(Ok(part.to_vec())),
            CellsWanted::Cells(cells) if cells.len() == part.len() => part.copy_from_slice(cells),
            CellsWanted::Cells(_) => return Replied::Unfitting,
            CellsWanted::Bits(keep, set) => {
                for ((byte, keep), set) in part.iter_mut().zip(keep).zip(set) {
                    *byte = *byte & keep | set & !keep;
                }
            }
        }
        self.whole = Some(whole);
        Replied::More
    }
}
