//! Who is on a network whose stations answer to a question for all: datagrams, and nothing that changes anything.

use super::ListedPort;
use crate::moment::Clock;
use crate::speak::{RollCall, speaker};
use std::collections::HashSet;
use std::net::{Ipv4Addr, SocketAddr, SocketAddrV4, UdpSocket};
use std::time::Duration;

/// Pause between two questions: the network's own work goes before.
const PAUSE: Duration = Duration::from_millis(1);
/// Most stations that are told: a subnet of 22 bits, the largest whose addresses are asked one by one.
const STATIONS_MAX: usize = 1024;
/// How long a wait lasts before it is looked whether the person has ended it, in microseconds.
const LOOK: u64 = 100_000;

fn roll_call(protocol: &str) -> Option<&'static RollCall> {
    speaker(protocol).and_then(|speaker| speaker.roll_call)
}

/// Whether a network of that protocol can be asked who is there.
#[must_use]
pub fn is_called(protocol: &str) -> bool {
    roll_call(protocol).is_some()
}

/// Asks these addresses who they are, twice, and waits `wait` microseconds for the answers after the last question. Where
/// `broadcast` is true, they may be addresses for all.
///
/// # Errors
/// Nothing can be sent; in words.
pub fn called(
    protocol: &str,
    to: &[Ipv4Addr],
    broadcast: bool,
    wait: u64,
    go_on: &dyn Fn() -> bool,
) -> Result<ListedPort, String> {
    let call = roll_call(protocol).ok_or("its stations do not answer to a question for all")?;
    let socket = UdpSocket::bind((Ipv4Addr::UNSPECIFIED, 0)).map_err(|error| error.to_string())?;
    let prepared = socket.set_broadcast(broadcast);
    prepared.map_err(|error| error.to_string())?;
    let question = (call.question)();
    let mut found = ListedPort { words: call.words, stations: vec![], remarks: vec![] };
    let mut known: HashSet<Ipv4Addr> = HashSet::new();
    let mut told = |bytes: &[u8], from: Ipv4Addr| {
        if known.len() < STATIONS_MAX
            && !known.contains(&from)
            && let Some(station) = (call.answer)(from, bytes)
        {
            known.insert(from);
            found.stations.push(station);
        }
    };
    let clock = Clock::start();
    let (mut sent, mut failed) = (0_u32, None);
    // A datagram may be lost, and the first to an address is where its hardware address is not known yet.
    for _ in 0..2 {
        for host in to {
            if !go_on() {
                return Err("ended before its end".into());
            }
            match socket.send_to(&question, SocketAddrV4::new(*host, call.port)) {
                Ok(_) => sent += 1,
                Err(error) => failed = Some(format!("{host}: {error}")),
            }
            hear(&socket, PAUSE, &mut told);
        }
        let until = clock.now() + wait / 2;
        while clock.now() < until && go_on() {
            let left = until.since(clock.now()).clamp(1, LOOK);
            hear(&socket, Duration::from_micros(left), &mut told);
        }
    }
    match failed {
        Some(why) if sent == 0 => Err(why),
        _ => {
            found.stations.sort_by_key(|own| own.address.parse().unwrap_or(Ipv4Addr::UNSPECIFIED));
            Ok(found)
        }
    }
}

/// Takes what comes until it is quiet for that long.
fn hear(socket: &UdpSocket, patience: Duration, told: &mut dyn FnMut(&[u8], Ipv4Addr)) {
    let mut bytes = [0; 1024];
    if socket.set_read_timeout(Some(patience)).is_err() {
        return;
    }
    // Who floods does not hold up the questions.
    for _ in 0..64 {
        let Ok((count, SocketAddr::V4(from))) = socket.recv_from(&mut bytes) else { return };
        told(bytes.get(..count).unwrap_or_default(), *from.ip());
    }
}
