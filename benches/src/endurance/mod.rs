//! Hours of virtual faults over every protocol and kind of rule: cuts, noise, mutes, restarts, slow, late, doubled, short
//! and misaddressed answers, refusals, lost acknowledgements, broken clients. Every value tells where and when it comes
//! from, so that a wrong, a torn or an old one shows.

mod client;
mod faults;
pub mod site;
mod watch;

use client::{ClientIdentity, Spot, spot};
use faults::Faults;
use site::{DEVICES, IMAGES, ROUND, STEP};
use std::sync::Arc;
use watch::{Watch, report};
use woodrush_core::check::Checked;
use woodrush_core::plan::Plan;
use woodrush_engine::Moment;
use woodrush_engine::bench::Bench;
use woodrush_engine::shared::Event;
use woodrush_engine::speak::Ask;
use woodrush_wire::modbus::tcp;

const SECOND: u64 = 1_000_000;
/// Between two looks at whether all is well once nothing is wrong.
const CALM_EVERY: u64 = 1800 * SECOND;
/// How long nothing is wrong before that look: longer than a lost device waits for its next try, twice.
const CALM: u64 = 60 * SECOND;
/// Longer than anything that a client does not wait for takes to be done or told.
const TOLD_WITHIN: u64 = 120 * SECOND;

/// What was seen.
#[derive(Debug, Default)]
pub struct Seen {
    /// Values that were served and right.
    pub right: u64,
    /// Values that were served and were not the device's, or torn.
    pub wrong: u64,
    /// Values that were served and older than they may be.
    pub old: u64,
    /// Values whose age beside them was less than the truth, or that were served while the device is told to be lost.
    pub untold: u64,
    /// Reads and writes that were refused.
    pub refused: u64,
    /// Writes that were answered as done and had arrived.
    pub written: u64,
    /// Writes that were answered before, and told in the end as done or not.
    pub told: u64,
    /// Writes that were answered as done and had not arrived, or whose end was not told.
    pub lost: u64,
    /// Values that devices were sent, and right.
    pub sent: u64,
    /// Values that devices were sent and were not another device's.
    pub sent_wrong: u64,
    /// Values that devices were sent and were older than they may be.
    pub sent_old: u64,
    /// Answers to forwarded requests that were right.
    pub passed: u64,
    /// Those that were not.
    pub passed_wrong: u64,
    /// What was not there a minute after the last fault.
    pub not_back: u64,
    /// Faults that were made.
    pub faults: u64,
}

impl Seen {
    /// What may not be, by what it is called.
    #[must_use]
    pub const fn bad(&self) -> [(&'static str, u64); 8] {
        [
            ("wrong values served", self.wrong),
            ("values served older than they may be", self.old),
            ("values whose health did not tell the truth", self.untold),
            ("writes lost without an error", self.lost),
            ("wrong values sent to devices", self.sent_wrong),
            ("values sent to devices that were older than they may be", self.sent_old),
            ("wrong answers to forwarded requests", self.passed_wrong),
            ("values and devices not back a minute after the last fault", self.not_back),
        ]
    }
}

/// A generator that is the same every time.
struct Dice(u64);

impl Dice {
    fn roll(&mut self, sides: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0 % sides
    }

    fn pick(&mut self, sides: usize) -> usize {
        usize::try_from(self.roll(sides as u64)).unwrap_or(0)
    }
}

/// What a time says: of whose, and how many microseconds ago; `None` of nobody's.
fn told(number: u32, now: Moment) -> Option<(usize, u64)> {
    let device = usize::try_from(number / ROUND).ok().filter(|device| *device < DEVICES.len())?;
    let ticks = (now.0 / STEP) % u64::from(ROUND);
    let age = (ticks + u64::from(ROUND) - u64::from(number % ROUND)) % u64::from(ROUND);
    Some((device, age * STEP))
}

/// What clients of one image look at of one device.
struct Places {
    clocks: [Spot; 2],
    max_age: u64,
    setpoint: Spot,
    command: Spot,
    bit: Spot,
    online: Spot,
    age: Spot,
}

/// One run on the virtual clock.
pub struct Endurance {
    bench: Bench,
    clients: Vec<ClientIdentity>,
    /// By image, then by device.
    places: Vec<Vec<Places>>,
    watch: Watch,
    faults: Faults,
    /// By device and image: the bit that its clients set last, where that is known.
    bits: Vec<[Option<bool>; IMAGES.len()]>,
    plan: Arc<Plan>,
    dice: Dice,
    transaction: u16,
    calm_at: Moment,
    /// What was seen so far.
    pub seen: Seen,
}

impl Endurance {
    /// Builds the site; the same `seed` makes the same run.
    ///
    /// # Panics
    /// The site has faults, which is a bug here.
    #[must_use]
    pub fn new(checked: &Checked, seed: u64) -> Self {
        let plan = Arc::new(Plan::build(&checked.project, &mut vec![]));
        let bench = Bench::new(checked, Arc::clone(&plan)).expect("its signals fit");
        let clients: Vec<ClientIdentity> =
            (0..IMAGES.len()).map(|image| ClientIdentity::new(&bench, &plan, image)).collect();
        let places = (0..IMAGES.len())
            .map(|image| (0..DEVICES.len()).map(|device| places(&plan, image, device)).collect())
            .collect();
        let watch = Watch::new(checked, &plan);
        Self {
            faults: Faults::new(checked),
            bits: vec![[None; IMAGES.len()]; DEVICES.len()],
            bench,
            clients,
            places,
            watch,
            plan,
            dice: Dice(seed | 1),
            transaction: 0,
            calm_at: Moment(CALM_EVERY),
            seen: Seen::default(),
        }
    }

    /// Runs for so many virtual seconds.
    pub fn run(&mut self, seconds: u64) {
        let end = self.bench.now() + seconds * SECOND;
        while self.bench.now() < end {
            if self.bench.now() >= self.calm_at {
                self.calm();
                self.calm_at = self.bench.now() + CALM_EVERY;
            }
            let pause = 200_000 + self.dice.roll(2 * SECOND);
            self.pass(pause);
            self.faults.mend(&mut self.bench);
            if self.dice.roll(8) == 0 {
                self.seen.faults += 1;
                if let Some(device) = self.faults.spoil(&mut self.bench, &mut self.dice) {
                    self.watch.restarted(&mut self.bench, device);
                    self.bits[device] = [Some(false); IMAGES.len()];
                }
            }
            let (image, device) = (self.dice.pick(IMAGES.len()), self.dice.pick(DEVICES.len()));
            match self.dice.roll(10) {
                0 => self.set(image, device),
                1 => self.command(image, device),
                2 => self.set_bit(image, device),
                3 => self.exchange(image),
                4 => self.forward(device % 2),
                5 => self.half(image),
                _ => drop(self.read(image, device)),
            }
            self.bench.forget_events();
        }
        self.seen.sent = self.watch.sent;
        self.seen.sent_wrong = self.watch.wrong;
        self.seen.sent_old = self.watch.old;
    }

    fn pass(&mut self, micros: u64) {
        let watch = &mut self.watch;
        self.bench.run_seen(micros, &mut |bench| watch.look(bench));
    }

    fn ask(&mut self, image: usize, ask: Ask) -> Result<Vec<u8>, ()> {
        let watch = &mut self.watch;
        let answer = self.clients[image].ask(&mut self.bench, ask, &mut |bench| watch.look(bench));
        answer.map_err(|_| self.seen.refused += 1)
    }

    fn read_spot(&mut self, image: usize, spot: Spot) -> Result<Vec<u8>, ()> {
        self.ask(image, Ask::read(0, spot.extent))
    }

    /// Reads a device's times, in one request, and what is told of it; whether they were served.
    fn read(&mut self, image: usize, device: usize) -> bool {
        let Places { clocks, max_age, online, age, .. } = &self.places[image][device];
        let (clocks, max_age, online, age) = (*clocks, *max_age, *online, *age);
        let mut extent = clocks[0].extent;
        extent.count += clocks[1].extent.count;
        let Ok(cells) = self.ask(image, Ask::read(0, extent)) else { return false };
        let now = self.bench.now();
        let (first, second) = cells.split_at(cells.len() / 2);
        let numbers = (clocks[0].number(first), clocks[1].number(second));
        let real = match told(numbers.0, now) {
            Some((of, old)) if of == device && numbers.0 == numbers.1 => old,
            _ => {
                self.seen.wrong += 1;
                return true;
            }
        };
        // What a time stands for began up to a step earlier.
        if real > max_age + STEP {
            let name = DEVICES[device].name;
            report(
                now,
                &format!("image {image} serves the time of {name}, {real} us old (at most {max_age})"),
            );
            self.seen.old += 1
        } else {
            self.seen.right += 1
        }
        let Ok(cells) = self.read_spot(image, age) else { return true };
        let tenths = u64::from(age.number(&cells));
        let Ok(cells) = self.read_spot(image, online) else { return true };
        let is_online = cells.iter().any(|byte| byte & 1 != 0 && online.bit.is_none()) || {
            online.bit.is_some() && cells.iter().any(|byte| *byte != 0)
        };
        let passed = self.bench.now().since(now);
        if !is_online && passed == 0 || (tenths + 1) * 100_000 + STEP < real {
            let name = DEVICES[device].name;
            report(
                now,
                &format!("health of {name}: online {is_online}, {tenths} tenths, and it is {real} us old"),
            );
            self.seen.untold += 1;
        }
        true
    }

    /// The device's cells, whatever becomes of them on the way.
    fn held(&self, device: usize, spot: Spot) -> Vec<u8> {
        let (port, place) = self.faults.places[device];
        let device = self.bench.device(port, place);
        device.and_then(|device| device.peek(spot.extent)).unwrap_or_default()
    }

    /// Clients set what is polled.
    fn set(&mut self, image: usize, device: usize) {
        let here = self.places[image][device].setpoint;
        let there = spot(&self.plan.devices[device], DEVICES[device].setpoint(), None);
        self.write(image, device, here, there);
    }

    /// Clients write what only goes to the device.
    fn command(&mut self, image: usize, device: usize) {
        let here = self.places[image][device].command;
        let there = spot(&self.plan.devices[device], &DEVICES[device].command(image), None);
        if !site::is_unconfirmed(image, device) {
            self.write(image, device, here, there);
            return;
        }
        let value = u16::try_from(self.dice.roll(65_536)).unwrap_or(0);
        self.bench.forget_events();
        if self.ask(image, Ask::Write { station: 0, extent: here.extent, cells: here.word(value) }).is_err() {
            return;
        }
        let end = self.bench.now() + TOLD_WITHIN;
        let outcome = loop {
            let written = self.bench.events().into_iter().find_map(|(_, event)| match event {
                Event::Written(record) => Some(record.outcome),
                _ => None,
            });
            if written.is_some() || self.bench.now() >= end {
                break written;
            }
            self.pass(SECOND / 4);
            self.faults.mend(&mut self.bench);
        };
        let arrived = self.held(device, there) == there.word(value);
        match outcome.as_deref() {
            Some("done") if arrived => self.seen.written += 1,
            None | Some("done") => self.seen.lost += 1,
            Some(_) => self.seen.told += 1,
        }
    }

    fn write(&mut self, image: usize, device: usize, here: Spot, there: Spot) {
        let value = u16::try_from(self.dice.roll(65_536)).unwrap_or(0);
        if self.ask(image, Ask::Write { station: 0, extent: here.extent, cells: here.word(value) }).is_err() {
            return;
        }
        if self.held(device, there) == there.word(value) {
            self.seen.written += 1
        } else {
            self.seen.lost += 1
        }
    }

    /// Clients of every image set bits of one word of a device; none may undo another's.
    fn set_bit(&mut self, image: usize, device: usize) {
        let here = self.places[image][device].bit;
        let there = spot(&self.plan.devices[device], DEVICES[device].bits(), None);
        let on = self.dice.roll(2) == 1;
        let answer = match here.bit {
            None => {
                self.ask(image, Ask::Write { station: 0, extent: here.extent, cells: vec![u8::from(on)] })
            }
            // The first bit of a grain, however its protocol counts the bytes of it.
            Some(_) => {
                let width = self.read_width(image, here);
                let set = [vec![0; width - 1], vec![u8::from(on)]].concat();
                let keep = [vec![0xFF; width - 1], vec![0xFE]].concat();
                self.ask(image, Ask::Change { station: 0, extent: here.extent, keep, set })
            }
        };
        // What was refused may have been done.
        self.bits[device][image] = answer.is_ok().then_some(on);
        if answer.is_err() {
            return;
        }
        let cells = self.held(device, there);
        let word = there.number(&cells);
        let known = self.bits[device].iter().enumerate();
        let wrong = known.filter(|(at, bit)| bit.is_some_and(|bit| bit != (word >> at & 1 == 1))).count();
        if wrong == 0 {
            self.seen.written += 1
        } else {
            self.seen.lost += 1
        }
        if wrong > 0 {
            self.bits[device] = std::array::from_fn(|at| Some(word >> at & 1 == 1));
        }
    }

    fn read_width(&self, image: usize, here: Spot) -> usize {
        self.plan.images[image].space_at(here.extent.space).map_or(1, |space| space.grain.cell_bytes())
    }

    /// What one image's clients write, the next one's read at once, and the other way round.
    fn exchange(&mut self, image: usize) {
        let other = (image + 1) % IMAGES.len();
        let places = [(image, other), (other, image)];
        let spots =
            places.map(|(own, with)| spot(&self.plan.images[own], &IMAGES[own].exchanged(with), None));
        let from = self.dice.pick(2);
        let value = u16::try_from(self.dice.roll(65_536)).unwrap_or(0);
        let (here, there) = (spots[from], spots[1 - from]);
        let ask = Ask::Write { station: 0, extent: here.extent, cells: here.word(value) };
        if self.ask(places[from].0, ask).is_err() {
            self.seen.lost += 1;
            return;
        }
        match self.read_spot(places[1 - from].0, there) {
            Ok(cells) if cells == there.word(value) => self.seen.written += 1,
            _ => self.seen.lost += 1,
        }
    }

    /// Through the forward, one of two ranges that look the same from outside.
    fn forward(&mut self, device: usize) {
        let place = self.dice.pick(2);
        let unit = u8::try_from(101 + device).unwrap_or(0);
        let begun = self.bench.now();
        self.transaction = self.transaction.wrapping_add(1);
        let mut frame = vec![];
        tcp::emit(self.transaction, unit, &[3, 0, if place == 0 { 0 } else { 2 }, 0, 2], &mut frame);
        let Some(mut line) = self.bench.connect(self.clients[0].station.port) else { return };
        let watch = &mut self.watch;
        let back = self.bench.exchange_seen(&mut line, &frame, &mut |bench| watch.look(bench));
        let back = back.unwrap_or_default();
        let Some(cells) = back.get(9..13).filter(|_| back.get(7) == Some(&3)) else {
            self.seen.refused += 1;
            return;
        };
        let own = DEVICES[device].clocks()[place];
        let own = spot(&self.plan.devices[device], own.0, Some(own.1));
        let took = self.bench.now().since(begun);
        match told(own.number(cells), self.bench.now()) {
            Some((of, old)) if of == device && old <= took + STEP => self.seen.passed += 1,
            _ => self.seen.passed_wrong += 1,
        }
    }

    /// Somebody says a part of something and goes.
    fn half(&mut self, image: usize) {
        let Some(mut line) = self.bench.connect(self.clients[image].station.port) else { return };
        let count = self.dice.pick(24);
        let bytes: Vec<u8> = (0..count).map(|_| u8::try_from(self.dice.roll(256)).unwrap_or(0)).collect();
        let request = [0, 1, 0, 0, 0, 6, 1, 3, 0, 10, 0, 2];
        let said = if self.dice.roll(2) == 0 { &bytes[..] } else { &request[..count.min(12)] };
        let watch = &mut self.watch;
        let _ = self.bench.exchange_seen(&mut line, said, &mut |bench| watch.look(bench));
    }

    /// Nothing is wrong for a while: everything must be live again, and devices hold what they shall hold.
    fn calm(&mut self) {
        // Each fault has its time: a restart that ended early would be none.
        while self.faults.mend(&mut self.bench) {
            self.pass(SECOND);
        }
        self.pass(CALM);
        for image in 0..IMAGES.len() {
            for device in 0..DEVICES.len() {
                if !self.read(image, device) {
                    self.seen.not_back += 1;
                }
            }
        }
        for (device, own) in DEVICES.iter().enumerate() {
            let to = site::next(device);
            let own = spot(&self.plan.devices[device], own.setpoint(), None);
            let there = spot(&self.plan.devices[to], DEVICES[to].told_setpoint(), None);
            let (own, there) = (own.number(&self.held(device, own)), there.number(&self.held(to, there)));
            if own != there {
                self.seen.not_back += 1;
            }
        }
        self.seen.not_back += self.watch.stale(&self.bench);
    }
}

fn places(plan: &Arc<Plan>, image: usize, device: usize) -> Places {
    let station = &plan.images[image];
    let shown = &IMAGES[image];
    let clocks = shown.clocks(device).map(|(address, form)| spot(station, &address, Some(form)));
    let rule = plan.rules.iter().find(|rule| {
        rule.board == image
            && (rule.target.space, rule.target.first) == (clocks[0].extent.space, clocks[0].extent.first)
    });
    Places {
        max_age: rule.map_or(0, |rule| rule.max_age),
        clocks,
        setpoint: spot(station, &shown.setpoint(device), None),
        command: spot(station, &shown.command(device), None),
        bit: spot(station, &shown.bit(device), None),
        online: spot(station, &shown.online(device), None),
        age: spot(station, &shown.age(device), None),
    }
}
