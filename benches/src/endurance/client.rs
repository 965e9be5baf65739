//! Somebody who asks an image in its protocol, on the virtual bench.

use std::sync::Arc;
use woodrush_core::budget::LineTime;
use woodrush_core::form::Form;
use woodrush_core::plan::{Plan, Station};
use woodrush_core::protocol::{AddressContext, Extent, Setup};
use woodrush_core::wanted::form_at;
use woodrush_core::{Blame, Kind, Refusal};
use woodrush_engine::bench::{Bench, BenchClient};
use woodrush_engine::speak::{Act, Ask, Client, ClientSetup, News, Ticket, speaker};

const TIMES: LineTime = LineTime {
    char_nanos: 0,
    frame_gap: 0,
    own_frame_gap: 0,
    timeout: 30_000_000,
    turnaround: 0,
    hurry: false,
};

/// A place in a station, with the form of what lies there.
#[derive(Debug, Clone, Copy)]
pub struct Spot {
    /// Where.
    pub extent: Extent,
    /// One bit of it.
    pub bit: Option<u8>,
    /// How it is written.
    pub form: Form,
}

/// Finds what an address of a station means.
///
/// # Panics
/// It means nothing, which is a bug of the site.
#[must_use]
pub fn spot(station: &Station, address: &str, form: Option<&str>) -> Spot {
    let dialect = station.dialect.expect("every station here speaks");
    let (address, own) = address.split_once(" as ").map_or((address, None), |(at, own)| (at, Some(own)));
    let written = form.or(own).map(|form| Form::parse(form).expect("a form of the site"));
    let context = AddressContext::of_device(&station.setup).with_form(written).with_spaces(&station.spaces);
    let found = dialect.notation().parse(address, &context).expect("an address of the site");
    let form = form_at(Some(dialect), &found, written);
    let space = station.spaces.id(&found.space.key).expect("a table of the site");
    let count = if found.bit.is_some() { 1 } else { form.ty.width(found.space.grain).unwrap_or(1) };
    Spot { extent: Extent { space, first: found.first, count }, bit: found.bit, form }
}

impl Spot {
    /// The number that cells hold there.
    #[must_use]
    pub fn number(&self, cells: &[u8]) -> u32 {
        let mut bytes = cells.to_vec();
        self.form.order().apply(&mut bytes);
        bytes.iter().fold(0, |number, byte| number << 8 | u32::from(*byte))
    }

    /// The cells of a word there.
    #[must_use]
    pub fn word(&self, value: u16) -> Vec<u8> {
        let mut bytes = value.to_be_bytes().to_vec();
        self.form.order().apply(&mut bytes);
        bytes
    }
}

/// One client of one image.
pub struct ClientIdentity {
    port: usize,
    line: BenchClient,
    machine: Box<dyn Client>,
    next: u64,
    /// Whom it asks.
    pub station: Station,
    own: Setup,
}

impl ClientIdentity {
    /// Of an image of the plan.
    ///
    /// # Panics
    /// Nobody answers there, which is a bug of the site.
    #[must_use]
    pub fn new(bench: &Bench, plan: &Arc<Plan>, image: usize) -> Self {
        let station = plan.images[image].clone();
        let dialect = station.dialect.expect("every image speaks");
        let own = dialect.stations().other_end(&station.setup);
        let stations = std::slice::from_ref(&station);
        let setup = ClientSetup { stations, line: TIMES, retries: 0, port: &own, first: 0 };
        let mut machine =
            (speaker(dialect.name()).and_then(|own| own.client).expect("it can be spoken"))(&setup);
        machine.handle(bench.now(), News::Up);
        let line = bench.connect(station.port).expect("an image answers there");
        Self { port: station.port, line, machine, next: 0, station, own }
    }

    /// Asks, and lets time pass until the answer is there; `seen` looks at every step.
    ///
    /// # Errors
    /// What was answered instead.
    ///
    /// # Panics
    /// A question has no end.
    pub fn ask(
        &mut self,
        bench: &mut Bench,
        ask: Ask,
        seen: &mut dyn FnMut(&mut Bench),
    ) -> Result<Vec<u8>, Refusal> {
        self.next += 1;
        self.machine.ask(Ticket(self.next), ask);
        for _ in 0..10_000 {
            match self.machine.poll(bench.now()) {
                Act::Send(bytes) => {
                    let Some(back) = bench.exchange_seen(&mut self.line, &bytes, seen) else {
                        self.again(bench);
                        continue;
                    };
                    if !back.is_empty() {
                        self.machine.handle(bench.now(), News::Bytes(&back));
                    }
                }
                Act::Done(_, result) => return result.and_then(|values| values.of_use(&[])),
                Act::Came(..) | Act::Stopped(..) | Act::Tell(_) => {}
                Act::HangUp(_) => self.again(bench),
                Act::WaitUntil(moment) => {
                    bench.run_seen(moment.since(bench.now()).max(1), seen);
                    // A server that waits for its moment speaks then.
                    if let Some(back) =
                        bench.exchange_seen(&mut self.line, &[], seen).filter(|back| !back.is_empty())
                    {
                        self.machine.handle(bench.now(), News::Bytes(&back));
                    }
                }
                Act::Rest => return Err(Refusal::new(Kind::NoAnswer, Blame::Us)),
            }
        }
        panic!("a question to `{}` has no end", self.station.name);
    }

    /// Makes its connection again.
    fn again(&mut self, bench: &Bench) {
        self.machine.handle(bench.now(), News::Down);
        self.line = bench.connect(self.port).expect("an image answers there");
        let stations = std::slice::from_ref(&self.station);
        self.machine.set_up(&ClientSetup { stations, line: TIMES, retries: 0, port: &self.own, first: 0 });
        self.machine.handle(bench.now(), News::Up);
    }
}
