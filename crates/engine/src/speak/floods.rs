//! Servers against a peer that says as much as it can and takes nothing: what they hold has a bound.

use super::{News, SPEAKERS, STREAM_MAX, Serve, Server, ServerSetup};
use crate::Moment;
use crate::exercise::{any_address, any_keys};
use woodrush_core::protocol::{Verb, dialect};

/// Bytes of one flood.
const FLOOD: usize = 2_000_000;
/// What a driver reads at once.
const READ: usize = 4096;

/// Requests that are sound, one after the other; those of the link with them.
fn requests(name: &str) -> Vec<Vec<u8>> {
    let dialect = dialect(name).unwrap();
    let setup = any_keys(1);
    let address = any_address(dialect, &setup);
    let mut found = vec![[0x10, 0x05].repeat(64), vec![0; 300], vec![0x3A; 300]];
    if let Some(address) = address {
        let cells = vec![0; 2 * address.space.grain.cell_bytes()];
        for verb in [Verb::Read, Verb::Write] {
            found.push(
                dialect
                    .requests()
                    .unwrap()
                    .example(verb, &address.space, address.first, &cells, &setup)
                    .request,
            );
        }
    }
    // A session is registered, a connection opened, or a hello said, first.
    found.push(vec![0x65, 0, 4, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0]);
    found.push(vec![
        0x48, 0x31, 0x01, 0x00, 0x00, 0x01, 0x00, 0x01, 0x00, 0x00, 0x00, 0x0B, 0x00, 0x01, 0x08, 0x77, 0x6F,
        0x6F, 0x64, 0x72, 0x75, 0x73, 0x68,
    ]);
    found.push(vec![3, 0, 0, 22, 17, 0xE0, 0, 0, 0, 1, 0, 0xC0, 1, 9, 0xC1, 2, 1, 0, 0xC2, 2, 1, 0]);
    found
}

/// The most that a server holds while it is flooded; `polled` is whether it is asked what to do meanwhile. What it wants
/// is never given to it.
fn most_held(server: &mut dyn Server, flood: &[u8], polled: bool) -> usize {
    let (mut most, mut waits, mut now) = (0, false, Moment(1_000_000));
    server.handle(now, News::Up);
    for piece in flood.chunks(READ).cycle().take(FLOOD / READ) {
        now = now + 1000;
        server.handle(now, News::Bytes(piece));
        for _ in 0..64 {
            if !polled || waits {
                break;
            }
            match server.poll(now) {
                Serve::Send(_) => {}
                Serve::Want { .. } => waits = true,
                Serve::HangUp(_) => server.handle(now, News::Down),
                Serve::WaitUntil(_) | Serve::Rest => break,
            }
        }
        most = most.max(server.held());
    }
    most
}

#[test]
fn whatever_a_peer_says_a_server_holds_no_more_than_its_bound() {
    for speaker in &SPEAKERS {
        let Some(server) = speaker.server else { continue };
        let requests = requests(speaker.name);
        let mixed: Vec<u8> = requests.iter().rev().flatten().copied().collect();
        for flood in requests.iter().chain([&mixed]) {
            let whole = flood.repeat((2 * READ).div_ceil(flood.len()));
            for polled in [false, true] {
                let mut server = server(&ServerSetup::default());
                let most = most_held(server.as_mut(), &whole, polled);
                assert!(
                    most <= STREAM_MAX + READ,
                    "{}: {most} bytes, polled {polled}, of {:02X?}",
                    speaker.name,
                    flood.get(..flood.len().min(24)).unwrap()
                );
            }
        }
    }
}
