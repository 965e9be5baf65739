//! What must hold for any bytes whatever: run over seeds by the unit tests and without end by `fuzz/`.
#![allow(clippy::panic, clippy::missing_panics_doc, reason = "a broken promise must stop the run")]

use super::rtu::{Found, Way};
use super::{Addressed, Request, Response, ascii, rtu, tcp};

/// A request that is taken comes back byte for byte.
pub fn request(pdu: &[u8]) {
    if let Ok(request) = Request::parse(pdu) {
        let mut back = vec![];
        request.emit(&mut back);
        assert_eq!(back, pdu, "{request:?}");
    }
}

/// A response that is taken comes back byte for byte.
pub fn response(pdu: &[u8]) {
    if let Ok(response) = Response::parse(pdu) {
        let mut back = vec![];
        response.emit(&mut back);
        assert_eq!(back, pdu, "{response:?}");
    }
}

/// Every framing gets through any stream, a little further each time, and what it delivers can be sent again.
pub fn framings(stream: &[u8]) {
    for waited in [false, true] {
        for way in [Way::Request, Way::Response] {
            slide(stream, |rest| rtu_step(rtu::find(way, rest, waited)));
        }
        slide(stream, |rest| rtu_step(rtu::find_either(rest, waited).1));
        slide(stream, |rest| match ascii::find(rest, waited) {
            ascii::Found::More => None,
            ascii::Found::Noise { skip, .. } => Some(skip),
            ascii::Found::Frame { used, frame } => {
                let Addressed { unit, pdu } = frame.addressed();
                let mut back = vec![];
                ascii::emit(unit, pdu, &mut back);
                assert_eq!(back.len(), used);
                Some(used)
            }
        });
    }
    slide(stream, |rest| tcp::parse(rest).ok().flatten().map(|(_, used)| used));
    let _ = (tcp::looks_like_rtu(stream), tcp::looks_like_mbap(stream));
}

fn rtu_step(found: Found<'_>) -> Option<usize> {
    match found {
        Found::More => None,
        Found::Noise { skip } => Some(skip),
        Found::Frame { skip, length, frame } => {
            let mut back = vec![];
            rtu::emit(frame.unit, frame.pdu, &mut back);
            assert_eq!(back.len(), length);
            Some(skip + length)
        }
    }
}

/// Takes steps until one asks for more.
fn slide(stream: &[u8], step: impl Fn(&[u8]) -> Option<usize>) {
    let mut at = 0;
    while let Some(used) = stream.get(at..).and_then(&step) {
        assert!(used > 0, "no step stands still");
        at += used;
    }
    assert!(at <= stream.len());
}
