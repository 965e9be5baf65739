//! What must hold for any bytes whatever: run over seeds by the unit tests and without end by `fuzz/`.
#![allow(clippy::panic, clippy::missing_panics_doc, reason = "a broken promise must stop the run")]

use super::cotp::{self, Assembly, Tpdu};
use super::fetch::{Answer, Request};
use super::tpkt;

/// A stream is cut into packets and units up to the first that is wrong; what a unit says is said again the same.
pub fn stream(stream: &[u8]) -> Vec<Vec<u8>> {
    let (mut at, mut messages, mut assembly) = (0, vec![], Assembly::default());
    while let Ok(Some((tpdu, used))) = tpkt::parse(stream.get(at..).unwrap_or_default()) {
        assert!(used > tpdu.len());
        at += used;
        let Ok(unit) = cotp::parse(tpdu) else { break };
        let mut back = vec![];
        unit.emit(&mut back);
        match tpkt::parse(&back) {
            Ok(Some((again, length))) => {
                assert_eq!((cotp::parse(again), length), (Ok(unit), back.len()));
            }
            other => panic!("{unit:?} came back as {other:?}"),
        }
        match unit {
            Tpdu::Data { last, data } => match assembly.take(last, data) {
                Ok(message) => messages.extend(message),
                Err(_) => break,
            },
            Tpdu::Request(opening) | Tpdu::Confirm(opening) => {
                let _ = (opening.size(), opening.calling(), opening.called(), opening.takes_class_0());
                let _ = opening.agreed(1, cotp::SIZE);
            }
            _ => {}
        }
    }
    messages
}

/// A request that is taken comes back byte for byte; an answer but for its fill.
pub fn message(message: &[u8]) {
    let mut back = vec![];
    if let Ok(request) = Request::parse(message) {
        request.emit(&mut back);
        assert_eq!(back, message, "{request:?}");
        let data = request.data();
        assert!(data.is_none_or(|data| data.len() <= message.len()));
        for answer in [Answer::Fetched(0, &[1, 2]), Answer::Wrote(0), Answer::Wrote(3)] {
            let _ = answer.to(&request);
        }
        back.clear();
    }
    if let Ok(answer) = Answer::parse(message) {
        answer.emit(&mut back);
        assert_eq!((back.get(..11), back.get(16..)), (message.get(..11), message.get(16..)), "{answer:?}");
    }
}
