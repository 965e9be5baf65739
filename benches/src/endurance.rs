//! Hours of virtual faults: cuts, noise, mutes, slow, late, doubled, short and misaddressed answers, broken clients. Every
//! value tells where and when it comes from, so that a wrong or an old one shows.

use std::sync::Arc;
use woodrush_core::check::Checked;
use woodrush_core::plan::Plan;
use woodrush_core::protocol::{Extent, SpaceId};
use woodrush_engine::Moment;
use woodrush_engine::bench::{Bench, BenchClient};
use woodrush_engine::rig::Change;
use woodrush_wire::modbus::tcp;

const SECOND: u64 = 1_000_000;
const DEVICES: usize = 4;
const HOLDING: SpaceId = SpaceId(3);
/// What sets one device's words apart, in the low word of each value.
const MARK: u16 = 0x5AA5;

/// What was seen.
#[derive(Debug, Default)]
pub struct Seen {
    /// Values that were served and right.
    pub right: u64,
    /// Values that were served and were not the device's, or torn.
    pub wrong: u64,
    /// Values that were served and older than they may be.
    pub old: u64,
    /// Reads and writes that were refused.
    pub refused: u64,
    /// Writes that were answered as done and had arrived.
    pub written: u64,
    /// Writes that were answered as done and had not.
    pub lost: u64,
    /// Answers to forwarded requests that were right.
    pub passed: u64,
    /// Those that were not.
    pub passed_wrong: u64,
    /// Faults that were made.
    pub faults: u64,
}

/// The site: four devices on one line, read, written and passed through.
#[must_use]
pub fn site() -> String {
    let mut text = String::from(
        "[ports.bus]\nserial = \"/dev/ttyS0\"\nline = \"38400 8E1\"\nprotocol = \"modbus-rtu\"\ntimeout = \"150ms\"\n[ports.office]\nlisten = \"0.0.0.0:502\"\nprotocol = \"modbus-tcp\"\nallow = [\"192.0.2.0/24\"]\n[images.scada]\nport = \"office\"\n[[forward]]\nfrom = \"office\"\nunits = \"101-104\"\nto = \"bus\"\nas-units = \"1-4\"\n",
    );
    for n in 1..=DEVICES {
        text += &format!(
            "[devices.d{n}]\nport = \"bus\"\nunit = {n}\npoll = \"500ms\"\nretry-lost = \"1s..5s\"\n[[map]]\nfrom = \"d{n}:400001 as u32 ABCD\"\nto = \"scada:{} as u32 CDAB\"\n[[map]]\nfrom = \"d{n}:400003\"\nto = \"scada:{}\"\naccess = \"read-write\"\n[[map]]\nfrom = \"d{n}:400011 as u32 ABCD\"\nto = \"scada:{} as u32\"\n",
            400_001 + 10 * n,
            400_003 + 10 * n,
            400_004 + 10 * n,
        );
    }
    text
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
}

/// One run on the virtual clock.
pub struct Endurance {
    bench: Bench,
    client: BenchClient,
    port: usize,
    dice: Dice,
    max_age: u64,
    transaction: u16,
    mends: Vec<(Moment, Change)>,
    /// What was seen so far.
    pub seen: Seen,
}

impl Endurance {
    /// Builds the site; the same `seed` makes the same run.
    ///
    /// # Panics
    /// The site has faults, which is a bug here.
    #[must_use]
    #[allow(clippy::expect_used, reason = "a site of our own that does not stand is a bug")]
    pub fn new(checked: &Checked, seed: u64) -> Self {
        let plan = Arc::new(Plan::build(&checked.project, &mut vec![]));
        let max_age = plan.rules.first().map_or(0, |rule| rule.max_age);
        let port = checked.project.port("office").expect("the site has it");
        let mut bench = Bench::new(checked, plan).expect("no signals, so none that does not fit");
        for device in bench.bus(0).into_iter().flat_map(|bus| &mut bus.devices) {
            device.still = true;
        }
        let client = bench.connect(port).expect("an image is there");
        let dice = Dice(seed | 1);
        let mut run =
            Self { bench, client, port, dice, max_age, transaction: 0, mends: vec![], seen: Seen::default() };
        run.tick();
        run
    }

    /// Tenths of a second, as far as a value can hold them.
    fn tenths(&self) -> u16 {
        u16::try_from(self.bench.now().0 / 100_000 % 4096).unwrap_or(0)
    }

    /// Lets every device show who it is and what time it is.
    fn tick(&mut self) {
        let time = self.tenths();
        for (n, device) in (0u16..).zip(self.bench.bus(0).into_iter().flat_map(|bus| &mut bus.devices)) {
            for (first, kind) in [(0, 0u16), (10, 1)] {
                let high = (n * 2 + kind) << 12 | time;
                let cells = [high.to_be_bytes(), (high ^ MARK).to_be_bytes()].concat();
                device.poke(Extent { space: HOLDING, first, count: 2 }, &cells);
            }
        }
    }

    fn ask(&mut self, unit: u8, pdu: &[u8]) -> Vec<u8> {
        self.transaction = self.transaction.wrapping_add(1);
        let mut frame = vec![];
        tcp::emit(self.transaction, unit, pdu, &mut frame);
        match self.bench.exchange(&mut self.client, &frame) {
            Some(back) => back.get(7..).unwrap_or_default().to_vec(),
            None => {
                self.client =
                    self.bench.connect(self.port).unwrap_or_else(|| unreachable!("it was there before"));
                vec![]
            }
        }
    }

    /// Runs for so many virtual seconds.
    pub fn run(&mut self, seconds: u64) {
        let end = self.bench.now() + seconds * SECOND;
        while self.bench.now() < end {
            self.bench.run(100_000 + self.dice.roll(400_000));
            self.tick();
            self.mend();
            if self.dice.roll(20) == 0 {
                self.spoil();
            }
            let device = u16::try_from(self.dice.roll(DEVICES as u64)).unwrap_or(0);
            match self.dice.roll(8) {
                0 => self.write(device),
                1 | 2 => self.pass(device),
                3 => self.half(),
                _ => self.read(device),
            }
        }
    }

    fn mend(&mut self) {
        let now = self.bench.now();
        let (due, later): (Vec<_>, Vec<_>) =
            std::mem::take(&mut self.mends).into_iter().partition(|(at, _)| *at <= now);
        self.mends = later;
        for (_, change) in due {
            self.bench.bus(0).into_iter().for_each(|bus| bus.change(change.clone()));
        }
    }

    fn spoil(&mut self) {
        let device = usize::try_from(self.dice.roll(DEVICES as u64)).unwrap_or(0);
        let (begin, end) = match self.dice.roll(9) {
            0 => (Change::Cut(true), Change::Cut(false)),
            1 => (Change::Noise(0.002), Change::Noise(0.0)),
            2 => (Change::Mute(device, true), Change::Mute(device, false)),
            3 => (Change::Slow(device, 30_000 + self.dice.roll(200_000)), Change::Slow(device, 0)),
            4 => (Change::Late(device, true), Change::Late(device, false)),
            5 => (Change::Twice(device, true), Change::Twice(device, false)),
            6 => (Change::Short(device, true), Change::Short(device, false)),
            7 => (Change::AsUnit(device, Some(9)), Change::AsUnit(device, None)),
            _ => (Change::Refuse(device, Some(4)), Change::Refuse(device, None)),
        };
        self.seen.faults += 1;
        let until = self.bench.now() + SECOND + self.dice.roll(20 * SECOND);
        self.bench.bus(0).into_iter().for_each(|bus| bus.change(begin.clone()));
        self.mends.push((until, end));
    }

    /// Whether a value is the device's own, whole and young enough.
    fn judge(&mut self, who: u16, high: u16, low: u16, most: u64) {
        if low != high ^ MARK || high >> 12 != who {
            self.seen.wrong += 1;
            return;
        }
        let age = u64::from(self.tenths().wrapping_sub(high & 0x0FFF) & 0x0FFF) * 100_000;
        // The device shows a new time every half second at most.
        if age > most + 600_000 { self.seen.old += 1 } else { self.seen.right += 1 }
    }

    fn read(&mut self, device: u16) {
        let first = 10 + 10 * device;
        let [high, low] = first.to_be_bytes();
        let back = self.ask(1, &[3, high, low, 0, 5]);
        let word = |at: usize| back.get(at..at + 2).map_or(0, |pair| u16::from_be_bytes([pair[0], pair[1]]));
        if back.first() != Some(&3) {
            self.seen.refused += 1;
            return;
        }
        // The first value with its low word first, the third as it is.
        let (one, three) = ((word(4), word(2)), (word(8), word(10)));
        self.judge(device * 2, one.0, one.1, self.max_age);
        self.judge(device * 2 + 1, three.0, three.1, self.max_age);
    }

    fn write(&mut self, device: u16) {
        let value = u16::try_from(self.dice.roll(65_536)).unwrap_or(0);
        let [high, low] = (12 + 10 * device).to_be_bytes();
        let [a, b] = value.to_be_bytes();
        let back = self.ask(1, &[6, high, low, a, b]);
        if back.first() != Some(&6) {
            self.seen.refused += 1;
            return;
        }
        let place = Extent { space: HOLDING, first: 2, count: 1 };
        let held = self.bench.bus(0).and_then(|bus| bus.devices.get(usize::from(device))?.peek(place));
        if held == Some(vec![a, b]) { self.seen.written += 1 } else { self.seen.lost += 1 }
    }

    /// Through the forward, one of two ranges that look the same from outside.
    fn pass(&mut self, device: u16) {
        let kind = u16::try_from(self.dice.roll(2)).unwrap_or(0);
        let unit = 101 + u8::try_from(device).unwrap_or(0);
        let begun = self.bench.now();
        let back = self.ask(unit, &[3, 0, if kind == 0 { 0 } else { 10 }, 0, 2]);
        let took = self.bench.now().since(begun);
        let word = |at: usize| back.get(at..at + 2).map_or(0, |pair| u16::from_be_bytes([pair[0], pair[1]]));
        if back.first() != Some(&3) {
            self.seen.refused += 1;
            return;
        }
        let before = (self.seen.wrong, self.seen.old, self.seen.right);
        self.judge(device * 2 + kind, word(2), word(4), took);
        let sound = self.seen.right > before.2;
        (self.seen.wrong, self.seen.old, self.seen.right) = before;
        if sound { self.seen.passed += 1 } else { self.seen.passed_wrong += 1 }
    }

    /// Somebody sends half a request and goes.
    fn half(&mut self) {
        if let Some(mut other) = self.bench.connect(self.port) {
            let count = usize::try_from(self.dice.roll(11)).unwrap_or(0);
            let request = [0, 1, 0, 0, 0, 6, 1, 3, 0, 10, 0, 2];
            let _ = self.bench.exchange(&mut other, request.get(..count).unwrap_or_default());
        }
    }

    /// Events are of no use here, and would grow.
    pub fn forget_events(&mut self) {
        self.bench.forget_events();
    }
}
