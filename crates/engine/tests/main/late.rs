//! A line on which others ask: an answer that comes too late is for nobody, and would stand in somebody else's exchange.

use crate::site::checked;
use std::sync::Arc;
use std::sync::atomic::Ordering::Relaxed;
use woodrush_core::plan::Plan;
use woodrush_engine::Moment;
use woodrush_engine::line::LineAct;
use woodrush_engine::session::{ClientIdentity, LineSession, LineStep, Session};
use woodrush_engine::shared::{ClientId, Inbox, Shared, Site};
use woodrush_engine::speak::News;
use woodrush_wire::modbus::rtu;

const SITE: &str = r#"
[ports.office]
serial = "/dev/ttyUSB1"
line = "9600 8N1"
protocol = "modbus-rtu"
timeout = "500ms"
[ports.raceway]
serial = "/dev/ttyUSB0"
line = "9600 8N1"
protocol = "modbus-rtu"
[devices.gauge]
port = "raceway"
unit = 23
poll = "500ms"
[images.scada]
port = "office"
unit = 1
[[map]]
from = "gauge:400001"
to = "scada:400001"
access = "read-write"
[[map]]
from = "scada:400101"
to = "scada:400201"
"#;

struct Line {
    shared: Arc<Shared>,
    session: LineSession,
    inbox: Inbox,
}

impl Line {
    fn new() -> Self {
        let checked = checked(SITE);
        let plan = Arc::new(Plan::build(&checked.project, &mut vec![]));
        let shared = Shared::new(&checked, plan, |_| {});
        let client = ClientIdentity { id: ClientId(1), who: "office".into(), address: None };
        let session = Session::new(Site::new(Arc::clone(&shared)), 0, client).unwrap();
        Self { shared, session: LineSession::new(session), inbox: Inbox::default() }
    }

    fn heard(&mut self, now: u64, unit: u8, pdu: &[u8]) {
        let mut frame = vec![];
        rtu::emit(unit, pdu, &mut frame);
        self.session.handle(Moment(now), News::Bytes(&frame));
    }

    /// What is sent by then.
    fn sent(&mut self, mut now: u64, until: u64) -> Vec<Vec<u8>> {
        let mut sent = vec![];
        loop {
            while let Some((ticket, outcome)) = self.inbox.take() {
                self.session.ended(Moment(now), ticket, outcome);
            }
            match self.session.poll(Moment(now)) {
                LineStep::Act(LineAct::Send(bytes)) => sent.push(bytes),
                LineStep::Hand(ticket) => self.session.submit(self.inbox.reply(ticket, || {})),
                LineStep::Act(LineAct::WaitUntil(moment)) if moment.0 <= until => now = moment.0,
                LineStep::Act(_) => return sent,
            }
        }
    }

    /// The device has taken whatever waits.
    fn taken(&self) {
        while let Some(job) = self.shared.queues[1].take() {
            job.end(Ok(vec![]));
        }
    }

    fn late(&self) -> u64 {
        self.shared.health.ports[0].late_answers.load(Relaxed)
    }
}

const WRITE: [u8; 5] = [6, 0, 0, 0, 7];

#[test]
fn an_answer_that_is_in_time_is_sent() {
    let mut line = Line::new();
    line.heard(1_000_000, 1, &WRITE);
    assert!(line.sent(1_000_000, 1_300_000).is_empty());
    line.taken();
    assert_eq!(line.sent(1_400_000, 1_450_000).len(), 1);
    assert_eq!(line.late(), 0);
}

#[test]
fn once_others_are_heard_an_answer_is_dropped_and_a_read_does_not_wait_for_it() {
    let mut line = Line::new();
    line.heard(1_000_000, 1, &WRITE);
    assert!(line.sent(1_000_000, 1_000_000).is_empty());
    // The master asks another station, and then us.
    line.heard(1_200_000, 9, &[3, 0, 0, 0, 1]);
    line.heard(1_250_000, 9, &[3, 2, 0, 1]);
    assert!(line.sent(1_250_000, 1_260_000).is_empty());
    line.heard(1_300_000, 1, &[3, 0, 100, 0, 1]);
    let answers = line.sent(1_300_000, 1_310_000);
    assert_eq!(answers.len(), 1, "the read is answered, and does not wait for the device");
    assert_eq!(answers[0][..2], [1, 0x83]);
    line.taken();
    assert!(line.sent(1_400_000, 1_500_000).is_empty(), "and the write by nobody");
    assert_eq!(line.late(), 1);
    // What comes next is answered as ever.
    line.heard(1_600_000, 1, &WRITE);
    assert!(line.sent(1_600_000, 1_610_000).is_empty());
    line.taken();
    assert_eq!(line.sent(1_650_000, 1_660_000).len(), 1);
}

#[test]
fn an_answer_for_which_the_master_no_longer_waits_is_dropped() {
    let mut line = Line::new();
    line.heard(1_000_000, 1, &WRITE);
    assert!(line.sent(1_000_000, 1_000_000).is_empty());
    line.taken();
    assert!(line.sent(1_600_000, 1_700_000).is_empty());
    assert_eq!(line.late(), 1);
}

#[test]
fn a_byte_that_an_adapter_adds_when_it_turns_round_takes_no_answer_away() {
    let mut line = Line::new();
    line.heard(1_000_000, 1, &WRITE);
    assert!(line.sent(1_000_000, 1_000_000).is_empty());
    line.session.handle(Moment(1_001_000), News::Bytes(&[0]));
    line.taken();
    assert_eq!(line.sent(1_100_000, 1_200_000).len(), 1);
    assert_eq!(line.late(), 0);
}

/// An adapter that was pulled comes back while an older write is still on its way.
#[test]
fn the_outcome_of_an_older_write_is_not_told_for_a_newer_one() {
    let mut line = Line::new();
    line.heard(1_000_000, 1, &WRITE);
    assert!(line.sent(1_000_000, 1_000_000).is_empty());
    line.session.handle(Moment(1_100_000), News::Down);
    line.session.handle(Moment(1_200_000), News::Up);
    line.heard(1_300_000, 1, &[6, 0, 0, 0, 8]);
    assert!(line.sent(1_300_000, 1_300_000).is_empty());
    let older = line.shared.queues[1].take().unwrap();
    older.end(Ok(vec![]));
    assert!(line.sent(1_350_000, 1_360_000).is_empty(), "the newer one is still on its way");
    line.taken();
    assert_eq!(line.sent(1_400_000, 1_410_000).len(), 1);
}

/// What would have told the outcome is gone, as the thread of a port that was closed.
#[test]
fn a_request_that_is_dropped_unanswered_is_answered_all_the_same() {
    let mut line = Line::new();
    line.heard(1_000_000, 1, &WRITE);
    assert!(line.sent(1_000_000, 1_000_000).is_empty());
    drop(line.shared.queues[1].take());
    let answers = line.sent(1_050_000, 1_060_000);
    assert_eq!(answers[0][..3], [1, 0x86, 11]);
    line.heard(1_100_000, 1, &[3, 0, 100, 0, 1]);
    assert_eq!(line.sent(1_100_000, 1_110_000).len(), 1, "the line goes on");
}
