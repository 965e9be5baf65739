//! A small site to test on, and a client that speaks bytes.

use std::sync::Arc;
use woodrush_core::check::{Checked, check};
use woodrush_core::project::read;
use woodrush_engine::bench::{Bench, BenchClient};
use woodrush_wire::modbus::{Request, Response, Table, tcp};

pub(crate) const PROBE: &str = r#"
[profile]
name = "Dissolved-oxygen probe"
line = "38400 8E1"
[points.oxygen]
at = "300001"
as = "u16 scale 0.01"
range = [0, 20]
[points.setpoint]
at = "400010"
as = "f32 CDAB"
access = "read-write"
"#;

pub(crate) const HEAD: &str = r#"
[ports.raceway]
serial = "/dev/ttyUSB0"
line = "38400 8E1"
protocol = "modbus-rtu"
timeout = "200ms"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[images.scada]
port = "office"
"#;

pub(crate) const DEVICE: &str = r#"
[devices.do-1]
port = "raceway"
unit = 23
profile = "probe.toml"
poll = "500ms"
"#;

pub(crate) const RULES: &str = r#"
[[map]]
from = "do-1.oxygen"
to = "scada:400001"
[[map]]
from = "do-1.setpoint"
to = "scada:400101 as f32 ABCD"
access = "read-write"
"#;

/// Checks a project whose only profile is [`PROBE`].
pub(crate) fn checked(text: &str) -> Checked {
    checked_with(text, PROBE)
}

/// The same with another profile.
pub(crate) fn checked_with(text: &str, profile: &str) -> Checked {
    let checked = check(read("woodrush.toml", text.into(), &mut |path| {
        if path.ends_with(".ledger") { Err(String::new()) } else { Ok(profile.into()) }
    }));
    let told: Vec<_> = checked.findings.iter().map(|f| format!("{} {}", f.rule.code, f.what)).collect();
    assert!(!checked.has_errors(), "{told:#?}");
    checked
}

/// The bench of a project.
pub(crate) struct Site {
    pub(crate) bench: Bench,
    pub(crate) client: BenchClient,
    transaction: u16,
}

impl Site {
    pub(crate) fn new(parts: &[&str]) -> Self {
        Self::of(&mut checked(&parts.concat()))
    }

    pub(crate) fn of(checked: &mut Checked) -> Self {
        let plan = Arc::new(std::mem::take(&mut checked.plan));
        checked.plan = woodrush_core::plan::Plan::build(&checked.project, &mut vec![]);
        let bench = Bench::new(checked, plan).unwrap();
        let client = bench.connect(checked.project.port("office").unwrap()).unwrap();
        Self { bench, client, transaction: 0 }
    }

    /// Asks and returns the answer's PDU.
    pub(crate) fn ask(&mut self, unit: u8, request: &Request<'_>) -> Vec<u8> {
        self.transaction += 1;
        let (mut pdu, mut frame) = (vec![], vec![]);
        request.emit(&mut pdu);
        tcp::emit(self.transaction, unit, &pdu, &mut frame);
        let back = self.bench.exchange(&mut self.client, &frame).unwrap();
        let (answer, used) = tcp::parse(&back).unwrap().unwrap();
        assert_eq!((answer.transaction, answer.body.unit, used), (self.transaction, unit, back.len()));
        answer.body.pdu.to_vec()
    }

    /// Registers from a reference number on, or the exception's code.
    pub(crate) fn read(&mut self, reference: u16, count: u16) -> Result<Vec<u16>, u8> {
        let request = Request::Read { table: Table::HoldingRegister, offset: reference - 1, count };
        let pdu = self.ask(1, &request);
        match Response::parse(&pdu).unwrap() {
            Response::Read { data, .. } => {
                Ok(data.chunks(2).map(|pair| u16::from_be_bytes([pair[0], pair[1]])).collect())
            }
            Response::Refused { exception, .. } => Err(exception.0),
            other => panic!("{other:?}"),
        }
    }

    /// Writes registers from a reference number on; the exception's code where it is refused.
    pub(crate) fn write(&mut self, reference: u16, words: &[u16]) -> Result<(), u8> {
        let bytes: Vec<u8> = words.iter().flat_map(|word| word.to_be_bytes()).collect();
        let pdu = self.ask(1, &Request::WriteRegisters { offset: reference - 1, words: &bytes });
        match Response::parse(&pdu).unwrap() {
            Response::Wrote { .. } => Ok(()),
            Response::Refused { exception, .. } => Err(exception.0),
            other => panic!("{other:?}"),
        }
    }

    pub(crate) fn bus(&mut self) -> &mut woodrush_engine::rig::Bus {
        self.bench.bus(0).unwrap()
    }
}
