//! Who is on a link, where the link itself knows: a connection of its own, on which nothing else is asked.

use crate::moment::Clock;
use crate::port::wait::{readable, write_all};
use crate::speak::{FindAct, FinderSetup, FoundStation, LinkWords, News, speaker};
use std::net::{SocketAddr, TcpStream};
use std::time::Duration;

/// How long the connection may take to be made.
const CONNECT: Duration = Duration::from_secs(2);
/// How long a wait lasts before it is looked whether the person has ended it, in microseconds.
const LOOK: u64 = 100_000;

/// What a link said of its stations.
#[derive(Debug, Clone)]
pub struct ListedPort {
    /// What things are called there.
    pub words: &'static LinkWords,
    /// Who is there.
    pub stations: Vec<FoundStation>,
    /// What is to be said of the link as a whole.
    pub remarks: Vec<String>,
}

/// Lists who is on the link behind a socket, in its protocol.
///
/// # Errors
/// It cannot be reached, or does not say who is there; in words.
pub fn listed(
    protocol: &str,
    to: SocketAddr,
    setup: &FinderSetup<'_>,
    go_on: &dyn Fn() -> bool,
    asked: &mut dyn FnMut(),
) -> Result<ListedPort, String> {
    let make = speaker(protocol).and_then(|speaker| speaker.finder);
    let mut finder = make.ok_or("its stations are looked for one by one")?(setup);
    let stream = TcpStream::connect_timeout(&to, CONNECT).map_err(|error| error.to_string())?;
    let prepared = stream.set_nodelay(true).and_then(|()| stream.set_nonblocking(true));
    prepared.map_err(|error| error.to_string())?;
    let wire: rustix::fd::OwnedFd = stream.into();
    let clock = Clock::start();
    let mut found = ListedPort { words: finder.words(), stations: vec![], remarks: vec![] };
    finder.handle(clock.now(), News::Up);
    let mut chunk = [0; 4096];
    loop {
        let now = clock.now();
        match finder.poll(now) {
            FindAct::Send(bytes) => {
                asked();
                if write_all(&wire, &bytes).is_err() {
                    finder.handle(now, News::Down);
                }
            }
            FindAct::Found(station) => found.stations.push(*station),
            FindAct::Remark(words) => found.remarks.push(words),
            FindAct::Failed(why) => return Err(why),
            FindAct::Done => return Ok(found),
            FindAct::WaitUntil(moment) => {
                if !go_on() {
                    return Err("ended before its end".into());
                }
                if !readable(&wire, moment.since(now).clamp(1, LOOK)) {
                    continue;
                }
                match rustix::io::read(&wire, &mut chunk) {
                    Ok(0) => finder.handle(clock.now(), News::Down),
                    Ok(count) => {
                        let bytes = chunk.get(..count).unwrap_or_default();
                        finder.handle(clock.now(), News::Bytes(bytes));
                    }
                    Err(rustix::io::Errno::AGAIN | rustix::io::Errno::INTR) => {}
                    Err(_) => finder.handle(clock.now(), News::Down),
                }
            }
        }
    }
}

/// Whether a protocol's links list their stations.
#[must_use]
pub fn is_listed(protocol: &str) -> bool {
    speaker(protocol).is_some_and(|speaker| speaker.finder.is_some())
}
