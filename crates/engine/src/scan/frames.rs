//! Who is on an Ethernet interface, and a name and an address for one of them: frames, and no right but to send them.

use super::ListedPort;
use crate::hex::mac_shown;
use crate::moment::Clock;
use crate::net::{FRAME_MAX, FrameSocket, Place};
use crate::port::wait::{wait_any, waker};
use crate::speak::{Discovery, FoundStation, NewIdentity, another, speaker};
use rustix::fd::OwnedFd;
use std::collections::BTreeMap;
use std::net::Ipv4Addr;
use std::sync::Arc;

/// Most stations that are told.
const STATIONS_MAX: usize = 1024;
/// How long it is listened before it is looked whether the person has ended it, in microseconds.
const LOOK: u64 = 100_000;
/// How long answers to one question are waited for, in microseconds.
const LISTENS: u64 = 500_000;

/// Where frames go: an interface, or the rig's switch that stands for it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FramesAt {
    /// As the system calls it.
    pub interface: String,
    /// The rig's switch.
    pub switch: Option<String>,
}

/// Why nothing was found or done: in words, with what to do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FramesFault {
    /// What is in the way.
    pub what: String,
    /// What to do.
    pub fix: String,
}

impl FramesFault {
    fn new(what: impl Into<String>, fix: impl Into<String>) -> Self {
        Self { what: what.into(), fix: fix.into() }
    }
}

/// Whether stations of that protocol are found by frames.
#[must_use]
pub fn is_found_by_frames(protocol: &str) -> bool {
    speaker(protocol).is_some_and(|own| own.discovery.is_some())
}

/// Asking on one interface.
struct FrameCaller {
    discovery: &'static Discovery,
    socket: FrameSocket,
    fds: Vec<OwnedFd>,
    waker: Arc<OwnedFd>,
    clock: Clock,
    number: u32,
}

impl FrameCaller {
    fn open(protocol: &str, at: &FramesAt) -> Result<Self, FramesFault> {
        let discovery = speaker(protocol).and_then(|own| own.discovery);
        let discovery = discovery.ok_or_else(|| {
            FramesFault::new(format!("stations of {protocol} are not found by frames"), "name another port")
        })?;
        let place = match &at.switch {
            Some(switch) => Place::Switch(switch.clone()),
            None => Place::Interface(at.interface.clone()),
        };
        let socket =
            place.frames(discovery.sockets).map_err(|fault| FramesFault::new(fault.what, fault.fix))?;
        let gone = |error: String| FramesFault::new(error, "raise the limit of open files");
        let fds: Result<Vec<OwnedFd>, _> = socket.fds().map(|fd| fd.try_clone_to_owned()).collect();
        let fds = fds.map_err(|error| gone(error.to_string()))?;
        let waker = waker().map_err(|errno| gone(errno.to_string()))?;
        let number = u32::from(another()) << 16;
        Ok(Self { discovery, socket, fds, waker, clock: Clock::start(), number })
    }

    /// Sends a frame, and gives each that comes to `take` until that is content or `wait` microseconds are over.
    fn ask(&self, frame: &[u8], wait: u64, go_on: &dyn Fn() -> bool, take: &mut dyn FnMut(&[u8]) -> bool) {
        self.socket.send(frame);
        let until = self.clock.now() + wait;
        let fds: Vec<&OwnedFd> = self.fds.iter().collect();
        let mut room = [0; FRAME_MAX];
        while self.clock.now() < until && go_on() {
            let now = self.clock.now();
            wait_any(&fds, &self.waker, until.min(now + LOOK), now);
            for which in 0..fds.len() {
                // Who floods does not hold up the end.
                for _ in 0..64 {
                    let Some(count) = self.socket.receive(which, &mut room) else { break };
                    if take(room.get(..count).unwrap_or_default()) {
                        return;
                    }
                }
            }
        }
    }

    /// Who answers to a name, or at all, by MAC address; asked twice, as a frame may be lost.
    fn stations(
        &mut self,
        name: Option<&str>,
        wait: u64,
        go_on: &dyn Fn() -> bool,
    ) -> BTreeMap<[u8; 6], FoundStation> {
        let mut found = BTreeMap::new();
        for _ in 0..2 {
            self.number = self.number.wrapping_add(1);
            let (number, answer) = (self.number, self.discovery.answer);
            let question = (self.discovery.question)(self.socket.mac(), number, name);
            self.ask(&question, wait / 2, go_on, &mut |bytes| {
                if let Some((mac, station)) = answer(bytes, number)
                    && found.len() < STATIONS_MAX
                {
                    found.insert(mac, station);
                }
                false
            });
        }
        found
    }

    /// Who has an address; asked, never assumed.
    fn holder(&self, address: Ipv4Addr, go_on: &dyn Fn() -> bool) -> Option<[u8; 6]> {
        let mut found = None;
        for _ in 0..2 {
            let probe = (self.discovery.probe)(self.socket.mac(), address);
            self.ask(&probe, LISTENS / 2, go_on, &mut |bytes| {
                found = (self.discovery.holder)(bytes, address).filter(|mac| *mac != self.socket.mac());
                found.is_some()
            });
            if found.is_some() {
                break;
            }
        }
        found
    }
}

/// Everyone on an interface; answers are waited for so many microseconds.
///
/// # Errors
/// No frame can be sent.
pub fn stations_on(
    protocol: &str,
    at: &FramesAt,
    wait: u64,
    go_on: &dyn Fn() -> bool,
) -> Result<ListedPort, FramesFault> {
    let mut caller = FrameCaller::open(protocol, at)?;
    let found = caller.stations(None, wait, go_on);
    let mut names: BTreeMap<&str, usize> = BTreeMap::new();
    for station in found.values().filter(|own| !own.name.is_empty()) {
        *names.entry(&station.name).or_default() += 1;
    }
    let twice = names.iter().filter(|(_, count)| **count > 1);
    let remarks = twice
        .map(|(name, count)| {
            format!("{count} stations have the name `{name}`: a controller connects to none of them")
        })
        .collect();
    Ok(ListedPort { words: caller.discovery.words, stations: found.into_values().collect(), remarks })
}

/// What a station is to be called and addressed, and what is known of it before anything is changed.
pub struct Naming {
    caller: FrameCaller,
    mac: [u8; 6],
    new: NewIdentity,
    /// The station as it is.
    pub station: FoundStation,
}

impl Naming {
    /// Looks whether the station is there, and whether name and address are free.
    ///
    /// # Errors
    /// It is not there, or one of them is taken, and by whom; nothing has been changed.
    pub fn prepare(
        protocol: &str,
        at: &FramesAt,
        mac: [u8; 6],
        new: NewIdentity,
        go_on: &dyn Fn() -> bool,
    ) -> Result<Self, FramesFault> {
        let mut caller = FrameCaller::open(protocol, at)?;
        (caller.discovery.check)(&new).map_err(|why| {
            FramesFault::new(
                why,
                "write small letters, digits and hyphens, and an address such as 192.0.2.30/24",
            )
        })?;
        let mut all = caller.stations(None, LISTENS, go_on);
        let Some(station) = all.remove(&mac) else {
            let there = if all.is_empty() {
                "no station answers at all".into()
            } else {
                format!("{} others answer", all.len())
            };
            return Err(FramesFault::new(
                format!("{} does not answer: {there}", mac_shown(mac)),
                "look at the MAC address on its label, its power and its cable; `woodrush scan --ethernet` lists all",
            ));
        };
        if let Some(name) = new.name.as_deref() {
            let taken = caller.stations(Some(name), LISTENS, go_on);
            if let Some(other) = taken.keys().find(|other| **other != mac) {
                return Err(FramesFault::new(
                    format!("the name `{name}` is that of {} already", mac_shown(*other)),
                    "choose another one: two stations of one name are connected to by no controller",
                ));
            }
        }
        if let Some(address) = new.host()
            && let Some(other) = caller.holder(address, go_on).filter(|other| *other != mac)
        {
            return Err(FramesFault::new(
                format!("{} has the address {address} already", mac_shown(other)),
                "choose a free one",
            ));
        }
        Ok(Self { caller, mac, new, station })
    }

    /// Gives both to it, and shows how it answers afterwards.
    ///
    /// # Errors
    /// It refuses or does not answer; what is known of its state is said.
    pub fn give(mut self, go_on: &dyn Fn() -> bool) -> Result<FoundStation, FramesFault> {
        let mut said = None;
        for _ in 0..3 {
            self.caller.number = self.caller.number.wrapping_add(1);
            let (number, mac, outcome) = (self.caller.number, self.mac, self.caller.discovery.outcome);
            let order = (self.caller.discovery.order)(self.caller.socket.mac(), mac, number, &self.new);
            self.caller.ask(&order, LISTENS, go_on, &mut |bytes| {
                said = outcome(bytes, number, mac);
                said.is_some()
            });
            if said.is_some() || !go_on() {
                break;
            }
        }
        match said {
            Some(Ok(())) => {}
            Some(Err(why)) => {
                return Err(FramesFault::new(
                    why,
                    "stop its controller first if one is connected; else look at its manual",
                ));
            }
            None => {
                return Err(FramesFault::new(
                    "it was told, and did not answer: it may have taken both or neither",
                    "`woodrush scan --ethernet` shows what it is now",
                ));
            }
        }
        let now = self.caller.stations(self.new.name.as_deref(), LISTENS, go_on).remove(&self.mac);
        now.ok_or_else(|| {
            FramesFault::new(
                "it took both, and is not found by its new name",
                "look again with `woodrush scan --ethernet`",
            )
        })
    }
}
