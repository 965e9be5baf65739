//! Who is there: a controller's identity, and the tags that it lists.

use super::Tags;
use crate::one_line::one_line;
use crate::protocol::{FoundName, Search};
use woodrush_wire::enip::cip::{self, Reply, class, service};
use woodrush_wire::enip::epath::Object;
use woodrush_wire::enip::objects::Identity;
use woodrush_wire::enip::tags::{STRING_HANDLE, TagType, emit_list, parse_symbols};

/// Who it is: all attributes of its identity.
const WHO: [u8; 6] = [service::GET_ATTRIBUTES_ALL, 2, 0x20, 0x01, 0x24, 0x01];

impl Search for Tags {
    fn identity(&self) -> &'static [(u8, &'static [u8])] {
        &[(service::GET_ATTRIBUTES_ALL, &WHO)]
    }

    fn identity_shown(&self, _code: u8, answer: &[u8]) -> Option<String> {
        let reply = Reply::parse(answer).ok().filter(|reply| reply.status == 0)?;
        let own = Identity::parse(reply.data).ok()?;
        let name = one_line(own.name);
        let (major, minor) = own.revision;
        Some(format!(
            "{name}, vendor {}, type {}, product {}, revision {major}.{minor}, serial {:08X}",
            own.vendor, own.device_type, own.product, own.serial
        ))
    }

    fn names_request(&self, after: Option<&[u8]>) -> Option<Vec<u8>> {
        let from = match after {
            None => 0,
            Some(answer) => {
                let reply = Reply::parse(answer).ok()?;
                let last = parse_symbols(reply.data).ok()?.last()?.instance;
                let more = reply.status == woodrush_wire::enip::status::PARTIAL_TRANSFER;
                last.checked_add(1).filter(|_| more)?
            }
        };
        let mut request = vec![];
        let symbols = Object { class: class::SYMBOL, instance: from, attribute: None };
        cip::emit_to(&mut request, service::LIST_SYMBOLS, symbols);
        emit_list(&mut request);
        Some(request)
    }

    fn names(&self, answer: &[u8]) -> Vec<FoundName> {
        let symbols = Reply::parse(answer).ok().and_then(|reply| parse_symbols(reply.data).ok());
        let own = symbols.unwrap_or_default().into_iter().filter(|symbol| !symbol.symbol_type.is_system());
        let found = own.map(|symbol| {
            let kind = symbol.symbol_type;
            let type_name = match (kind.is_structure(), TagType::elementary(kind.code()).name()) {
                (true, _) if kind.code() == STRING_HANDLE => "STRING".to_string(),
                (true, _) => format!("structure 0x{:03X}", kind.code()),
                // Words of packed bits are told as what is declared.
                (false, Some("DWORD")) if kind.dimensions() > 0 => "BOOL".into(),
                (false, Some(name)) => name.into(),
                (false, None) => format!("type 0x{:03X}", kind.code()),
            };
            let name = one_line(symbol.name);
            FoundName { name, type_name, dimensions: vec![0; kind.dimensions().into()] }
        });
        found.collect()
    }
}
