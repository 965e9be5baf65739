//! A simulated serial line: bytes take their time, devices hear and answer, faults happen. A state machine.
//!
//! ```text
//! opener ──bytes──► the wire, at the line's speed ──► every device ──► answers, one silence later ──► opener
//! ```

use super::device::SimDevice;
use super::talk::{BusTalk, Opener, TALKS_MAX, is_joint, joint_setup, server_setup};
use crate::Moment;
use crate::dice::Dice;
use crate::speak::{News, Serve, Server, Want};
use std::collections::BTreeMap;
use woodrush_core::budget::LineTime;
use woodrush_core::project::{
    CUT, Changes, DeviceFaults, FaultKind, FaultValue, Line, LineFaults, Parity, UNPLUG,
};
use woodrush_core::protocol::{Setup, Verb};
use woodrush_core::{Blame, Kind, Refusal};

/// Answers are handed over in pieces of this time, as drivers of adapters do.
const PIECE: u64 = 2_000;
/// Most bytes that wait on the wire: what a pty holds.
const WAITING_MAX: usize = 20_000;

/// A fault that begins or ends on a line, now or at its time.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Change {
    kind: &'static FaultKind,
    /// The device's place on the line; 0 where the line itself is meant.
    place: usize,
    /// `None` ends it.
    value: Option<FaultValue>,
}

impl Change {
    /// A fault begins.
    #[must_use]
    pub const fn begin(kind: &'static FaultKind, place: usize, value: FaultValue) -> Self {
        Self { kind, place, value: Some(value) }
    }

    /// A fault ends.
    #[must_use]
    pub const fn end(kind: &'static FaultKind, place: usize) -> Self {
        Self { kind, place, value: None }
    }

    /// A fault that takes no value begins or ends.
    #[must_use]
    pub fn switch(kind: &'static FaultKind, place: usize, on: bool) -> Self {
        Self { kind, place, value: on.then_some(FaultValue::On) }
    }

    /// Which fault it is.
    #[must_use]
    pub const fn kind(&self) -> &'static FaultKind {
        self.kind
    }
}

/// What the driver of a simulated line must do next.
#[derive(Debug, PartialEq, Eq)]
#[must_use = "an action that is not carried out stalls the line"]
pub enum BusAct {
    /// Give these bytes to the opener, then poll again.
    Deliver(Vec<u8>),
    /// Nothing to do before this moment or bytes.
    WaitUntil(Moment),
    /// Nothing to do before bytes come.
    Rest,
}

/// One simulated line with its devices.
pub struct Bus {
    /// The devices, by their place on this line.
    pub devices: Vec<SimDevice>,
    /// What the opener is set to; `None` is what the line should be.
    pub opener: Option<Line>,
    /// How long each exchange of ours waited from the last byte of an answer to the next request, silence included,
    /// in microseconds; kept while it is wanted.
    pub gaps: Option<Vec<u64>>,
    /// The adapter gives back what the opener sends.
    pub echo: bool,
    protocol: &'static str,
    line: Option<Line>,
    time: LineTime,
    paced: bool,
    dice: Dice,
    faults: LineFaults,
    /// Keys of its protocol at the port.
    port: Setup,
    schedule: Vec<(Moment, Change)>,
    /// Those who have it open: one on a line, several on a socket.
    talks: BTreeMap<Opener, BusTalk>,
}

impl Bus {
    /// A line with its devices; unpaced, bytes take no time. `None` where the protocol cannot be spoken.
    #[must_use]
    pub fn new(
        devices: Vec<SimDevice>,
        protocol: &'static str,
        line: Option<Line>,
        time: LineTime,
        paced: bool,
        seed: u64,
        port: &Setup,
    ) -> Option<Self> {
        let faults = LineFaults::default();
        let talks = BTreeMap::from([(Opener::FIRST, BusTalk::new(protocol, &devices, port, faults)?)]);
        Some(Self {
            devices,
            opener: None,
            gaps: None,
            echo: false,
            protocol,
            talks,
            line,
            time,
            paced,
            dice: Dice::new(seed),
            faults,
            port: port.clone(),
            schedule: vec![],
        })
    }

    /// Somebody has connected to its socket. `None` where there are too many.
    pub fn connected(&mut self, now: Moment) -> Option<Opener> {
        let is_free = |one: &Opener| self.talks.get(one).is_none_or(|talk| !talk.is_open);
        let opener = (0..TALKS_MAX).map(Opener).find(is_free)?;
        let mut talk = BusTalk::new(self.protocol, &self.devices, &self.port, self.faults)?;
        talk.is_open = true;
        talk.servers.iter_mut().for_each(|server| server.handle(now, News::Up));
        self.talks.insert(opener, talk);
        Some(opener)
    }

    /// One who had connected has gone: what was said is over.
    pub fn left(&mut self, opener: Opener) {
        if let Some(talk) = self.talks.get_mut(&opener) {
            talk.is_open = false;
            talk.clear();
        }
    }

    /// Whether a device has closed its connection to this one since it was asked last.
    pub fn hung_up(&mut self, opener: Opener) -> bool {
        self.talks.get_mut(&opener).is_some_and(|talk| std::mem::take(&mut talk.hung_up))
    }

    /// Lets a change happen at its time.
    pub fn schedule(&mut self, at: Moment, change: Change) {
        self.schedule.push((at, change));
    }

    /// Lets a change happen now.
    pub fn change(&mut self, change: Change) {
        let Change { kind, place, value } = change;
        match kind.changes {
            Changes::Line(set) => {
                set(&mut self.faults, value);
                // What was under way is lost where bytes stop, and is not heard later either.
                if kind == &CUT || kind == &UNPLUG {
                    self.talks.values_mut().for_each(BusTalk::clear);
                }
                self.set_up_joint();
            }
            Changes::Device(set, _) if kind.of_station => {
                let at = self.devices.get(place).and_then(|device| device.node_of).unwrap_or(place);
                self.set_fault(at, |faults| set(faults, value));
                self.set_up(at);
            }
            Changes::Device(set, _) => {
                self.set_fault(place, |faults| set(faults, value));
                self.set_up_joint();
            }
        }
    }

    /// Lets the machine that answers for all devices know how they are now.
    fn set_up_joint(&mut self) {
        if !is_joint(&self.devices) {
            return;
        }
        let setup = joint_setup(&self.devices, &self.port, self.faults);
        let own = self.talks.values_mut().flat_map(|talk| &mut talk.servers);
        own.for_each(|server| server.set_up(&setup));
    }

    /// Whether the device at this place is a node that another one answers for.
    fn is_node(&self, at: usize) -> bool {
        self.devices.get(at).is_some_and(|device| device.node_of.is_some())
    }

    /// Lets every machine of a device know how it is set now.
    fn set_up(&mut self, at: usize) {
        if is_joint(&self.devices) {
            return self.set_up_joint();
        }
        let Some(setup) = self.devices.get(at).map(server_setup) else { return };
        let own = self.talks.values_mut().filter_map(|talk| talk.servers.get_mut(at));
        own.for_each(|server| server.set_up(&setup));
    }

    fn set_fault(&mut self, at: usize, change: impl FnOnce(&mut DeviceFaults)) {
        if let Some(device) = self.devices.get_mut(at) {
            device.set_fault(change);
        }
    }

    /// What is wrong on the line itself.
    #[must_use]
    pub const fn faults(&self) -> LineFaults {
        self.faults
    }

    fn takes(&self, bytes: usize) -> u64 {
        if self.paced { self.time.bytes(u32::try_from(bytes).unwrap_or(u32::MAX)) } else { 0 }
    }

    /// Takes bytes of one who has it open.
    pub fn handle(&mut self, opener: Opener, now: Moment, bytes: &[u8]) {
        let takes = self.takes(bytes.len());
        let lost = self.faults.cut || self.faults.unplugged;
        let Some(talk) = self.talks.get_mut(&opener) else { return };
        if let (Some(gaps), Some(answered)) = (&mut self.gaps, talk.answered.take()) {
            gaps.push(now.since(answered));
        }
        let waiting: usize = talk.to_devices.iter().map(|(_, bytes)| bytes.len()).sum();
        if lost || waiting + bytes.len() > WAITING_MAX {
            return;
        }
        let end = now.max(talk.said) + takes;
        talk.said = end;
        if self.echo {
            talk.to_opener.push_back((end, bytes.to_vec()));
        }
        let noisy = self.with_noise(bytes.to_vec());
        if let Some(talk) = self.talks.get_mut(&opener) {
            talk.to_devices.push_back((end, noisy));
        }
    }

    /// What to do now for one who has it open.
    pub fn poll(&mut self, opener: Opener, now: Moment) -> BusAct {
        self.due_changes(now);
        let Some(mut talk) = self.talks.remove(&opener) else { return BusAct::Rest };
        let act = self.go_on(&mut talk, now);
        self.talks.insert(opener, talk);
        for at in 0..self.devices.len() {
            if self.devices.get_mut(at).is_some_and(|device| std::mem::take(&mut device.moved)) {
                self.set_up(at);
            }
        }
        act
    }

    fn go_on(&mut self, talk: &mut BusTalk, now: Moment) -> BusAct {
        while let Some((at, bytes)) = talk.to_devices.pop_front_if(|(at, _)| *at <= now) {
            for device in 0..self.devices.len() {
                if self.is_node(device) {
                    continue;
                }
                let heard = self.heard(device, &bytes);
                if let Some(server) = talk.servers.get_mut(device) {
                    server.handle(at, News::Bytes(&heard));
                }
            }
        }
        let next_server = self.answer(talk, now);
        if let Some((at, bytes)) = talk.to_opener.pop_front_if(|(at, _)| *at <= now) {
            if talk.to_opener.is_empty() {
                // Measured from the true delivery, so that our own lateness is not held against the client.
                talk.answered = Some(now.max(at));
            }
            return BusAct::Deliver(bytes);
        }
        let waiting = [
            talk.to_devices.front().map(|(at, _)| *at),
            talk.to_opener.front().map(|(at, _)| *at),
            next_server,
            self.schedule.iter().map(|(at, _)| *at).min(),
        ];
        waiting.into_iter().flatten().min().map_or(BusAct::Rest, BusAct::WaitUntil)
    }

    fn due_changes(&mut self, now: Moment) {
        let (mut due, later): (Vec<_>, Vec<_>) =
            std::mem::take(&mut self.schedule).into_iter().partition(|(at, _)| *at <= now);
        self.schedule = later;
        due.sort_by_key(|(at, _)| *at);
        for (_, change) in due {
            self.change(change);
        }
    }

    /// Lets every device answer what it heard; says when one of them wants to be asked again.
    fn answer(&mut self, talk: &mut BusTalk, now: Moment) -> Option<Moment> {
        let mut next: Option<Moment> = None;
        let mut answers: Vec<DeviceSaid> = vec![];
        let joint = is_joint(&self.devices);
        let devices = &mut self.devices;
        for (place, server) in talk.servers.iter_mut().enumerate() {
            let Some(device) = devices.get(place) else { continue };
            let begun = answers.len();
            // What changes its line is still answered as before.
            let (line, ailment) = (device.line, device.ailment());
            loop {
                match server.poll(now) {
                    Serve::Want { unit, want, .. } => {
                        let at = if joint { unit.into() } else { place };
                        match devices.get_mut(at) {
                            Some(device) => serve(server.as_mut(), device, now, want),
                            None => server.give(Err(Refusal::new(Kind::NoPath, Blame::Us))),
                        }
                    }
                    Serve::Send(bytes) if joint => {
                        let said = DeviceSaid { slow: 0, line, bytes };
                        match answers.get_mut(begun) {
                            Some(before) => before.bytes.extend(said.bytes),
                            None => answers.push(said),
                        }
                    }
                    Serve::Send(_) if ailment.mute => {}
                    Serve::Send(mut bytes) => {
                        if ailment.twice {
                            bytes.extend_from_within(..);
                        }
                        if ailment.short {
                            bytes.truncate(bytes.len().saturating_sub(3).max(1));
                        }
                        // Late is after the client has given up and rested.
                        let late =
                            if ailment.late { self.time.timeout + self.time.timeout / 4 + 20_000 } else { 0 };
                        // One device says one thing after the other; two at once are in each other's way.
                        match answers.get_mut(begun) {
                            Some(said) => said.bytes.append(&mut bytes),
                            None => answers.push(DeviceSaid { slow: ailment.slow + late, line, bytes }),
                        }
                    }
                    Serve::WaitUntil(moment) => {
                        next = Some(next.map_or(moment, |next| next.min(moment)));
                        break;
                    }
                    Serve::HangUp(_) => {
                        talk.hung_up = true;
                        break;
                    }
                    Serve::Rest => break,
                }
            }
        }
        if !answers.is_empty() && !self.faults.cut {
            self.send(talk, now, answers);
        }
        next
    }

    fn send(&mut self, talk: &mut BusTalk, now: Moment, mut answers: Vec<DeviceSaid>) {
        answers.sort_by_key(|answer| answer.slow);
        let mut answers = answers.into_iter();
        let Some(DeviceSaid { slow, line, mut bytes }) = answers.next() else { return };
        for other in answers {
            collide(&mut bytes, &other.bytes);
        }
        let bytes = garbled(bytes, line.or(self.line), self.opener.or(self.line), &mut self.dice);
        let bytes = self.with_noise(bytes);
        let frame_gap = if self.paced { self.time.frame_gap } else { 0 };
        let begin = now.max(talk.free).max(talk.said) + frame_gap + slow;
        let characters = (PIECE * 1000).checked_div(self.time.char_nanos).unwrap_or(u64::MAX);
        let piece = usize::try_from(characters).unwrap_or(usize::MAX);
        let mut sent = 0;
        for part in bytes.chunks(piece.max(1)) {
            sent += part.len();
            talk.to_opener.push_back((begin + self.takes(sent), part.to_vec()));
        }
        talk.free = begin + self.takes(bytes.len());
    }

    /// What a device hears of the opener's bytes.
    fn heard(&mut self, device: usize, bytes: &[u8]) -> Vec<u8> {
        let own = self.devices.get(device).and_then(|device| device.line);
        garbled(bytes.to_vec(), self.opener.or(self.line), own.or(self.line), &mut self.dice)
    }

    fn with_noise(&mut self, mut bytes: Vec<u8>) -> Vec<u8> {
        if self.faults.noise > 0.0 {
            for byte in &mut bytes {
                if self.dice.share() < self.faults.noise {
                    *byte ^= 1 << (self.dice.roll() % 8);
                }
            }
        }
        bytes
    }
}

/// What one device says.
struct DeviceSaid {
    slow: u64,
    line: Option<Line>,
    bytes: Vec<u8>,
}

/// Does what a server wants of its device.
fn serve(server: &mut dyn Server, device: &mut SimDevice, now: Moment, want: Want) {
    if let Some(code) = device.ailment().refuse {
        let native = device.station.dialect.map(|dialect| (dialect.refusals().name, u32::from(code)));
        return server.give(Err(Refusal { native, ..Refusal::new(Kind::Fault, Blame::Device) }));
    }
    // Each connection of a controller that keeps two is for one direction.
    let verb = if matches!(want, Want::Read(_)) { Verb::Read } else { Verb::Write };
    if device.only.is_some_and(|only| only != verb) {
        return server.give(Err(Refusal::new(Kind::Fault, Blame::Device)));
    }
    match want {
        Want::Read(extent) => match device.read(now, extent) {
            Ok(cells) => server.give(Ok(&cells)),
            Err(refusal) => server.give(Err(refusal)),
        },
        Want::Write { extent, cells } => server.give(device.write(extent, &cells).map(|()| &[][..])),
        Want::Change(change) => {
            let old = device.read(now, change.extent);
            let changed = old.and_then(|old| device.write(change.extent, &change.of(&old)));
            server.give(changed.map(|()| &[][..]));
        }
        Want::Exchange(exchange) => {
            let taken = device.write(exchange.write, &exchange.cells);
            let done = taken.and_then(|()| device.read(now, exchange.read));
            match done {
                Ok(cells) => server.give(Ok(&cells)),
                Err(refusal) => server.give(Err(refusal)),
            }
        }
        // A device passes nothing on.
        Want::Pass(_) => server.give(Err(Refusal::new(Kind::NoPath, Blame::Device))),
    }
}

/// Two devices that answer at once: a zero of one pulls the other down, and they are never quite in step.
fn collide(bytes: &mut Vec<u8>, other: &[u8]) {
    bytes.resize(bytes.len().max(other.len() + 1), 0xFF);
    for (byte, other) in bytes.iter_mut().skip(1).zip(other) {
        *byte &= other;
    }
}

/// What a receiver with other settings than the sender's makes of bytes.
fn garbled(bytes: Vec<u8>, sender: Option<Line>, receiver: Option<Line>, dice: &mut Dice) -> Vec<u8> {
    let (Some(sender), Some(receiver)) = (sender, receiver) else { return bytes };
    let character = |line: Line| (line.data, line.parity);
    if sender.baud == receiver.baud && character(sender) == character(receiver) {
        // A stop bit more or less is heard as a longer or shorter pause.
        return bytes;
    }
    if sender.baud != receiver.baud {
        // The receiver samples at the wrong places: as many characters as its own clock makes of the time.
        let count =
            (bytes.len() as u64 * u64::from(receiver.baud)).div_ceil(u64::from(sender.baud.max(1))).min(512);
        return (0..count).map(|_| (dice.roll() & 0xFF) as u8).collect();
    }
    let ones = |byte: u8| byte.count_ones() % 2 == 1;
    let heard = bytes.into_iter().filter_map(|byte| match (sender.parity, receiver.parity) {
        // The parity that comes is never the one that is awaited.
        (Parity::Even, Parity::Odd) | (Parity::Odd, Parity::Even) => None,
        // The stop bit is taken for the parity bit: right by chance only.
        (Parity::None, Parity::Even) => ones(byte).then_some(byte),
        (Parity::None, Parity::Odd) => (!ones(byte)).then_some(byte),
        // The parity bit is taken for the stop bit: where it is 0, the frame is broken.
        (Parity::Even, Parity::None) => ones(byte).then_some(byte),
        (Parity::Odd, Parity::None) => (!ones(byte)).then_some(byte),
        // Seven data bits against eight.
        _ => Some(byte & 0x7F),
    });
    heard.collect()
}
