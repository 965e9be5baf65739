//! Reads of registers over MBAP, which most of the world asks for: answered in one go, each cell written once.

use super::{exception, within};
use crate::speak::{AtOnce, Fill};
use woodrush_core::Refusal;
use woodrush_core::protocol::Extent;
use woodrush_wire::modbus::{Request, Response, tcp};

/// Room that is taken for answers in one go.
pub(super) const ROOM: usize = 1024;

/// A read of registers over MBAP, which most of the world asks for.
#[derive(Clone, Copy)]
pub(super) struct Registers {
    pub(super) transaction: u16,
    pub(super) unit: u8,
    pub(super) function: u8,
    pub(super) extent: Extent,
}

/// The sound read of registers that a stream begins with, and its bytes.
fn plain_read(stream: &[u8]) -> Option<(usize, Registers)> {
    let (frame, length) = tcp::parse(stream).ok()??;
    let pdu = frame.body.pdu;
    let Ok(Request::Read { table, offset, count }) = Request::parse(pdu) else { return None };
    let extent = within(table, offset, count).ok().filter(|_| !table.is_bits() && frame.protocol == 0)?;
    let function = *pdu.first()?;
    Some((length, Registers { transaction: frame.transaction, unit: frame.body.unit, function, extent }))
}

/// Answers the sound reads of registers that bytes begin with.
pub(super) fn answer_reads(bytes: &[u8], fill: &mut Fill<'_>) -> AtOnce {
    let mut done = AtOnce::default();
    while let Some((length, read)) = plain_read(bytes.get(done.used..).unwrap_or_default()) {
        if done.answers.capacity() == 0 {
            done.answers = Vec::with_capacity(ROOM);
        }
        let (begin, mut refused) = (done.answers.len(), false);
        registers(read, &mut done.answers, |out| {
            let filled = fill(u16::from(read.unit), read.extent, out);
            refused = filled.is_err();
            filled
        });
        if refused {
            done.answers.truncate(begin);
            break;
        }
        done.used += length;
        done.requests += 1;
    }
    done
}

/// The answer to such a read, its cells written once, where they belong.
pub(super) fn registers(
    read: Registers,
    out: &mut Vec<u8>,
    mut fill: impl FnMut(&mut Vec<u8>) -> Result<(), Refusal>,
) {
    let Registers { transaction, unit, function, extent } = read;
    tcp::emit_with(transaction, unit, out, |out| {
        let begin = out.len();
        out.extend([function, u8::try_from(2 * extent.count).unwrap_or(u8::MAX)]);
        if let Err(refusal) = fill(out) {
            out.truncate(begin);
            Response::Refused { function, exception: exception(refusal) }.emit(out);
        }
    });
}

#[cfg(test)]
mod tests {
    use crate::Moment;
    use crate::speak::modbus::TCP;
    use crate::speak::{News, Serve, Server, ServerSetup, Want};
    use proptest::prelude::*;
    use woodrush_core::protocol::Extent;
    use woodrush_core::{Blame, Kind, Refusal};
    use woodrush_wire::modbus::tcp;

    /// Cells that tell unit, table and place; some are lost.
    fn cells(unit: u16, extent: Extent, out: &mut Vec<u8>) -> Result<(), Refusal> {
        let lost = (extent.first..extent.end()).any(|cell| cell % 11 == 7);
        if lost {
            return Err(Refusal::new(Kind::Lost, Blame::Device));
        }
        for cell in extent.first..extent.end() {
            let word =
                u16::try_from(cell & 0xFF).unwrap() << 8 | unit << 4 | u16::try_from(extent.space.0).unwrap();
            out.extend_from_slice(&word.to_be_bytes());
        }
        Ok(())
    }

    /// Polls until there is nothing more to do; `false` once it hangs up.
    fn drain(server: &mut dyn Server, out: &mut Vec<u8>) -> bool {
        loop {
            match server.poll(Moment(0)) {
                Serve::Send(bytes) => out.extend(bytes),
                Serve::Want { unit, want: Want::Read(extent), .. } => {
                    server.give_cells(&mut |out| cells(unit, extent, out));
                }
                Serve::Want { .. } => server.give(Ok(&[])),
                Serve::HangUp(_) => return false,
                Serve::WaitUntil(_) | Serve::Rest => return true,
            }
        }
    }

    fn request() -> impl Strategy<Value = Vec<u8>> {
        let pdu = prop_oneof![
            6 => (3u8..=4, 0u8..30, 0u8..8).prop_map(|(function, first, count)| vec![function, 0, first, 0, count]),
            1 => (1u8..=2).prop_map(|function| vec![function, 0, 0, 0, 4]),
            1 => Just(vec![6, 0, 1, 0, 9]),
            1 => Just(vec![3, 0xFF, 0xFF, 0, 2]),
            1 => Just(vec![3, 0, 1, 0, 1, 0]),
            1 => Just(vec![99]),
        ];
        (any::<u16>(), 0u8..4, pdu, 0u8..20).prop_map(|(transaction, unit, pdu, odd)| {
            let mut frame = vec![];
            tcp::emit(transaction, unit, &pdu, &mut frame);
            // Now and then another protocol.
            frame[3] = u8::from(odd == 0);
            frame
        })
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(1000))]
        /// However a stream is cut, both ways of answering give the same bytes and end alike.
        #[test]
        fn what_is_answered_at_once_is_what_would_be_answered_anyhow(
            requests in prop::collection::vec(request(), 1..20), cuts in prop::collection::vec(1usize..60, 1..30), noise: bool,
        ) {
            let mut stream = requests.concat();
            if noise {
                stream.extend([0, 1, 0, 0, 9, 9, 9]);
            }
            let mut pieces = vec![];
            let mut rest = stream.as_slice();
            for cut in cuts {
                let (piece, more) = rest.split_at(cut.min(rest.len()));
                pieces.push(piece);
                rest = more;
            }
            pieces.push(rest);
            let setup = ServerSetup::default();
            let (mut slow, mut quick) = ((TCP.server.unwrap())(&setup), (TCP.server.unwrap())(&setup));
            let (mut wanted, mut made, mut open, mut answer_reads) = (vec![], vec![], (true, true), 0);
            for piece in pieces.into_iter().filter(|piece| !piece.is_empty()) {
                if open.0 {
                    slow.handle(Moment(0), News::Bytes(piece));
                    open.0 = drain(slow.as_mut(), &mut wanted);
                }
                if open.1 {
                    let done = quick.plainly().map(|plainly| plainly(piece, &mut |unit, extent, out| cells(unit, extent, out)));
                    let done = done.unwrap_or_default();
                    made.extend(done.answers);
                    answer_reads += done.requests;
                    if done.used < piece.len() {
                        quick.handle(Moment(0), News::Bytes(&piece[done.used..]));
                        open.1 = drain(quick.as_mut(), &mut made);
                    }
                }
            }
            prop_assert_eq!(wanted, made, "{} at once", answer_reads);
            prop_assert_eq!(open.0, open.1);
        }
    }

    #[test]
    fn the_first_message_tells_what_a_connection_speaks_and_the_next_ones_are_answered_at_once() {
        let mut server = (TCP.server.unwrap())(&ServerSetup::default());
        assert!(server.plainly().is_none(), "nothing was heard");
        let ask = [0, 1, 0, 0, 0, 6, 1, 3, 0, 0, 0, 2];
        server.handle(Moment(0), News::Bytes(&ask));
        assert!(server.plainly().is_none(), "a request waits");
        let mut first = vec![];
        assert!(drain(server.as_mut(), &mut first));
        let two = [ask, ask].concat();
        let done = server.plainly().unwrap()(&two, &mut |unit, extent, out| cells(unit, extent, out));
        assert_eq!((done.used, done.requests), (24, 2));
        assert_eq!(done.answers, [first.clone(), first].concat());
        let passes = (TCP.server.unwrap())(&ServerSetup { passed: vec![1], ..ServerSetup::default() });
        assert!(passes.plainly().is_none());
    }
}
