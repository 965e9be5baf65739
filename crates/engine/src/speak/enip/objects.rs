//! The objects that an originator asks for before it asks for tags: who this is, and what carries it.

use std::net::Ipv4Addr;
use woodrush_core::protocol::enip::VENDOR;
use woodrush_wire::enip::cip::{Reply, class, service};
use woodrush_wire::enip::epath::Object;
use woodrush_wire::enip::objects::{Addresses, Identity, emit_text, parse_attribute_list};
use woodrush_wire::enip::status;

/// The name that it says.
const NAME: &[u8] = b"Woodrush";
/// Nothing standard.
const DEVICE_TYPE: u16 = 0x2B;
/// Seconds without a message after which a session is closed: never by itself, the port says so.
const INACTIVITY: u16 = 0;

/// Classes that are here, with their revision.
const CLASSES: [(u32, u16); 6] = [
    (class::IDENTITY, 2),
    (class::MESSAGE_ROUTER, 1),
    (class::CONNECTION_MANAGER, 1),
    (class::SYMBOL, 1),
    (class::TCP_IP, 4),
    (class::ETHERNET_LINK, 4),
];

/// Who this is.
pub(super) const fn identity() -> Identity<'static> {
    Identity {
        vendor: VENDOR,
        device_type: DEVICE_TYPE,
        product: 0x0101,
        revision: (1, 1),
        status: 0x0030,
        serial: 0xC0FF_EE01,
        name: NAME,
    }
}

/// The attributes of an object, from 1 on; `None` where there is none of that number.
fn attribute(own: &Identity<'_>, object: Object, attribute: u32, out: &mut Vec<u8>) -> Option<()> {
    if object.instance == 0 {
        let (_, revision) = CLASSES.iter().find(|(known, _)| *known == object.class)?;
        let value = match attribute {
            1 => *revision,
            2 | 3 => 1,
            _ => return None,
        };
        out.extend_from_slice(&value.to_le_bytes());
        return Some(());
    }
    match (object.class, attribute) {
        (class::IDENTITY, 8) => out.push(3),
        (class::IDENTITY, _) => return own.attribute(attribute, out),
        (class::MESSAGE_ROUTER, 1) => {
            let count = u16::try_from(CLASSES.len()).unwrap_or(0);
            out.extend_from_slice(&count.to_le_bytes());
            for (own, _) in CLASSES {
                out.extend_from_slice(&u16::try_from(own).unwrap_or(0).to_le_bytes());
            }
        }
        // Addresses are the system's, and are not told.
        (class::TCP_IP, 1..=3) => out.extend_from_slice(&0u32.to_le_bytes()),
        (class::TCP_IP, 4) => {
            out.extend_from_slice(&2u16.to_le_bytes());
            Object { class: class::ETHERNET_LINK, instance: 1, attribute: None }.emit(out);
        }
        (class::TCP_IP, 5) => Addresses { numbers: [Ipv4Addr::UNSPECIFIED; 5], domain: b"" }.emit(out),
        (class::TCP_IP, 6) => emit_text(out, b"woodrush"),
        (class::TCP_IP, 13) => out.extend_from_slice(&INACTIVITY.to_le_bytes()),
        (class::ETHERNET_LINK, 1) => out.extend_from_slice(&100u32.to_le_bytes()),
        (class::ETHERNET_LINK, 2) => out.extend_from_slice(&0x0Fu32.to_le_bytes()),
        (class::ETHERNET_LINK, 3) => out.extend_from_slice(&[2, 0, 0, 0, 0, 1]),
        _ => return None,
    }
    Some(())
}

/// The attributes that Get_Attributes_All gives of an object.
const fn all(class: u32) -> u32 {
    match class {
        class::IDENTITY => 7,
        class::TCP_IP => 6,
        class::ETHERNET_LINK => 3,
        class::MESSAGE_ROUTER => 1,
        _ => 0,
    }
}

/// Whether an object is here.
///
/// # Errors
/// The status that says that it is not.
pub(super) fn known(object: Object) -> Result<(), (u8, Option<u16>)> {
    if !CLASSES.iter().any(|(class, _)| *class == object.class) {
        return Err((status::PATH_DESTINATION_UNKNOWN, Some(0)));
    }
    if object.instance > 1 && object.class != class::SYMBOL {
        return Err((status::OBJECT_DOES_NOT_EXIST, None));
    }
    Ok(())
}

/// Answers a service on an object that carries no tags.
pub(super) fn answer(own: &Identity<'_>, code: u8, object: Object, data: &[u8], out: &mut Vec<u8>) {
    let mut values = vec![];
    let refuse = |status, out: &mut Vec<u8>| Reply::refusal(code, status).emit(out);
    if let Err((general, word)) = known(object) {
        let word = word.map(u16::to_le_bytes);
        let additional = word.as_ref().map_or(&[][..], |word| &word[..]);
        return Reply { service: code, status: general, additional, data: &[] }.emit(out);
    }
    match code {
        service::GET_ATTRIBUTE_SINGLE => match object.attribute {
            Some(id) if attribute(own, object, id, &mut values).is_some() => {
                Reply::good(code, &values).emit(out)
            }
            _ => refuse(status::ATTRIBUTE_NOT_SUPPORTED, out),
        },
        service::GET_ATTRIBUTES_ALL if object.instance == 1 && all(object.class) > 0 => {
            for id in 1..=all(object.class) {
                let _ = attribute(own, object, id, &mut values);
            }
            Reply::good(code, &values).emit(out);
        }
        service::GET_ATTRIBUTE_LIST => {
            let Ok(ids) = parse_attribute_list(data) else { return refuse(status::NOT_ENOUGH_DATA, out) };
            let mut failed = false;
            values.extend_from_slice(&u16::try_from(ids.len()).unwrap_or(u16::MAX).to_le_bytes());
            for id in ids {
                values.extend_from_slice(&id.to_le_bytes());
                let at = values.len();
                values.extend_from_slice(&[0, 0]);
                if attribute(own, object, id.into(), &mut values).is_none() {
                    failed = true;
                    if let Some(own) = values.get_mut(at) {
                        *own = status::ATTRIBUTE_NOT_SUPPORTED;
                    }
                }
            }
            let status = if failed { status::ATTRIBUTE_LIST_ERROR } else { 0 };
            Reply { service: code, status, additional: &[], data: &values }.emit(out);
        }
        service::SET_ATTRIBUTE_SINGLE => match object.attribute {
            Some(id) if attribute(own, object, id, &mut values).is_some() => {
                refuse(status::ATTRIBUTE_NOT_SETTABLE, out);
            }
            _ => refuse(status::ATTRIBUTE_NOT_SUPPORTED, out),
        },
        _ => refuse(status::SERVICE_NOT_SUPPORTED, out),
    }
}
