//! What must hold for any bytes whatever: run over seeds by the unit tests and without end by `fuzz/`.
#![allow(clippy::panic, clippy::missing_panics_doc, reason = "a broken promise must stop the run")]

use super::{Check, Heard, Message, Scanner, Symbol, emit_message, emit_to_station};
use crate::tables::Command;

/// Every byte is taken, and each message that is found comes out of its own frame again.
pub fn stream(stream: &[u8]) {
    for (check, half) in [(Check::Bcc, false), (Check::Crc, false), (Check::Bcc, true), (Check::Crc, true)] {
        let mut scanner = Scanner::new(check, half);
        for byte in stream {
            let Heard::Message { station, data } = scanner.push(*byte) else { continue };
            let mut frame = vec![];
            match station {
                None => emit_message(data, check, &mut frame),
                Some(station) => emit_to_station(station, data, check, &mut frame),
            }
            let data = data.to_vec();
            let mut again = Scanner::new(check, half);
            let (last, before) = frame.split_last().unwrap_or((&0, &[]));
            before.iter().for_each(|byte| assert_eq!(again.push(*byte), Heard::Nothing));
            assert_eq!(again.push(*last), Heard::Message { station, data: &data });
            message(&data);
        }
    }
}

/// A command that is taken comes back, and says the same again.
pub fn message(data: &[u8]) {
    let Ok(message) = Message::parse(data) else { return };
    let mut back = vec![];
    message.emit(&mut back);
    assert_eq!(back, data);
    let _ = (message.outcome(), message.is_reply(), message.identity());
    if let Ok(command) = Command::parse(message.cmd, message.body) {
        let mut body = vec![];
        command.emit(&mut body);
        // A small number may be written long; said again it is short.
        assert_eq!(Command::parse(message.cmd, &body), Ok(command));
        assert!(body.len() <= message.body.len());
    }
}

/// What a scanner hears, in words, for tests.
#[must_use]
pub fn heard(check: Check, half: bool, stream: &[u8]) -> Vec<String> {
    let mut scanner = Scanner::new(check, half);
    let mut said = vec![];
    for byte in stream {
        said.extend(match scanner.push(*byte) {
            Heard::Nothing => None,
            Heard::Message { station, data } => {
                let hex: Vec<String> = data.iter().map(|byte| format!("{byte:02X}")).collect();
                let to = station.map_or(String::new(), |station| format!(" to {station}"));
                Some(format!("message{to} {}", hex.join(" ")))
            }
            Heard::Damaged(..) => Some("damaged".into()),
            Heard::Symbol(symbol) => Some(
                match symbol {
                    Symbol::Ack => "ACK",
                    Symbol::Nak => "NAK",
                    Symbol::Enq => "ENQ",
                    Symbol::Eot => "EOT",
                }
                .into(),
            ),
            Heard::Poll(station) => Some(format!("poll {station}")),
            Heard::Stray => Some("stray".into()),
        });
    }
    said
}
