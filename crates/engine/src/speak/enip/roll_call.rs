//! ListIdentity over UDP: who answers on a network, and as what.

use crate::speak::{FoundStation, LinkWords, RollCall};
use std::net::Ipv4Addr;
use woodrush_core::one_line::one_line;
use woodrush_wire::enip::encap::{self, Header, command};
use woodrush_wire::enip::objects::ListedIdentity;

/// Most bytes of an answer: the header, one item with a name of 255 letters.
const ANSWER_MAX: u16 = 512;

pub(super) static IDENTITIES: RollCall = RollCall { words: &WORDS, port: 44_818, question, answer };

static WORDS: LinkWords = LinkWords {
    link: "network",
    station: "station",
    name: "name",
    also: &[
        ("vendor", "vendor"),
        ("device-type", "device type"),
        ("product", "product"),
        ("revision", "revision"),
        ("serial", "serial"),
        ("state", "state"),
    ],
    part: "",
    of_part: ["", ""],
};

fn question() -> Vec<u8> {
    let mut out = vec![];
    // The first two bytes of the context may say how long answers may wait; 0 leaves it to them.
    let header =
        Header { command: command::LIST_IDENTITY, session: 0, status: 0, context: [0; 8], options: 0 };
    header.emit_with(&mut out, |_| {});
    out
}

fn answer(from: Ipv4Addr, bytes: &[u8]) -> Option<FoundStation> {
    let (message, _) = encap::parse(bytes, ANSWER_MAX).ok()??;
    if message.header.command != command::LIST_IDENTITY || message.header.status != 0 {
        return None;
    }
    let listed = ListedIdentity::parse(message.data).ok()??;
    let own = listed.identity;
    let mut remarks = vec![];
    let said = *listed.address.ip();
    if said != from && !said.is_unspecified() {
        remarks
            .push(format!("it says that its address is {said}: another one stands between, or it has two"));
    }
    let state = match listed.state {
        0 => "nonexistent",
        1 => "self-testing",
        2 => "standby",
        3 => "operational",
        4 => "recoverable fault",
        5 => "unrecoverable fault",
        _ => "not told",
    };
    Some(FoundStation {
        address: from.to_string(),
        name: one_line(own.name),
        device: None,
        also: vec![
            ("vendor", own.vendor.to_string()),
            ("device-type", own.device_type.to_string()),
            ("product", own.product.to_string()),
            ("revision", format!("{}.{}", own.revision.0, own.revision.1)),
            ("serial", format!("{:08X}", own.serial)),
            ("state", state.to_string()),
        ],
        remarks,
        parts: vec![],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::net::SocketAddrV4;
    use woodrush_wire::enip::objects::Identity;

    #[test]
    fn a_station_is_told_as_it_names_itself_and_what_is_no_answer_is_none() {
        let header =
            Header { command: command::LIST_IDENTITY, session: 0, status: 0, context: [0; 8], options: 0 };
        let identity = Identity {
            vendor: 65_000,
            device_type: 12,
            product: 7,
            revision: (1, 2),
            status: 0,
            serial: 0xC0FF_EE01,
            name: b"Valve\x07 block",
        };
        let mut bytes = vec![];
        let listed = ListedIdentity {
            address: SocketAddrV4::new(Ipv4Addr::new(192, 0, 2, 71), 44_818),
            identity,
            state: 3,
        };
        header.emit_with(&mut bytes, |out| listed.emit(out));
        let found = answer(Ipv4Addr::new(192, 0, 2, 70), &bytes).unwrap();
        assert_eq!((found.address.as_str(), found.name.as_str()), ("192.0.2.70", "Valve\u{FFFD} block"));
        assert_eq!(found.also[3..5], [("revision", "1.2".to_string()), ("serial", "C0FFEE01".to_string())]);
        assert!(found.remarks[0].contains("192.0.2.71"));
        for len in 0..bytes.len() {
            assert_eq!(answer(Ipv4Addr::LOCALHOST, &bytes[..len]), None, "{len}");
        }
        assert_eq!(answer(Ipv4Addr::LOCALHOST, &question()), None);
    }
}
