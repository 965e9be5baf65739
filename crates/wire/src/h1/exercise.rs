//! What must hold for any bytes whatever: run over seeds by the unit tests and without end by `fuzz/`.
#![allow(clippy::panic, clippy::missing_panics_doc, reason = "a broken promise must stop the run")]

use super::frame::{self, Frame, Kind};
use super::status::Status;
use super::structure::{Analog, Discrete, Mode, Scaling, Simulate};
use super::{LinkError, Publication, Request, Response};

/// A stream is cut into frames up to the first that is wrong, and each comes out the same again.
pub fn stream(stream: &[u8]) -> usize {
    let (mut at, mut frames) = (0, 0);
    while let Ok(Some((frame, used))) = frame::parse(stream.get(at..).unwrap_or_default()) {
        let Frame { kind, op, invoke, payload } = frame;
        let mut back = vec![];
        frame::emit_with(kind, op, invoke, &mut back, |out| out.extend_from_slice(payload));
        assert_eq!(Some(back.as_slice()), stream.get(at..at + used));
        message(kind, op, payload);
        at += used;
        frames += 1;
    }
    frames
}

/// What is taken comes back byte for byte.
pub fn message(kind: Kind, op: u16, payload: &[u8]) {
    let mut back = vec![];
    match kind {
        Kind::Request => match Request::parse(op, payload) {
            Ok(Some(request)) => request.emit(&mut back),
            _ => return,
        },
        Kind::Response => match Response::parse(op, payload) {
            Ok(Some(response)) => response.emit(&mut back),
            _ => return,
        },
        Kind::Error => match LinkError::parse(payload) {
            Ok(error) => error.emit(&mut back),
            _ => return,
        },
        Kind::Publication => match Publication::parse(op, payload) {
            Ok(Some(publication)) => publication.emit(&mut back),
            _ => return,
        },
    }
    assert_eq!(back, payload);
}

/// A structure that is taken comes back byte for byte, and its status is told in words.
pub fn structure(bytes: &[u8]) {
    let mut back = vec![];
    if let Ok(analog) = Analog::parse(bytes) {
        analog.emit(&mut back);
    } else if let Ok(scaling) = Scaling::parse(bytes) {
        scaling.emit(&mut back);
    } else if let Ok(mode) = Mode::parse(bytes) {
        mode.emit(&mut back);
    } else if let Ok(discrete) = Discrete::parse(bytes) {
        discrete.emit(&mut back);
    }
    assert!(back.is_empty() || back == bytes);
    if let Ok(simulate) = Simulate::parse(bytes) {
        back.clear();
        simulate.emit(&mut back);
        assert_eq!(back, bytes);
    }
    for byte in bytes {
        assert!(!Status(*byte).to_string().is_empty());
    }
}
