//! The schedule of a line and a session with a client, both in a whole converter, whatever bytes come.

use super::{chosen, pieces};
use crate::Moment;
use crate::image::{DeviceWrite, Shown};
use crate::line::{LineAct, Schedule};
use crate::session::{ClientIdentity, Session, SessionAct};
use crate::shared::{
    AskedAt, ClientId, Inbox, LineRequest, Message, Queued, Reply, ReplyTicket, Shared, Site,
};
use crate::speak::{News, SPEAKERS};
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};
use std::sync::{Arc, OnceLock};
use woodrush_core::check::{Checked, check};
use woodrush_core::plan::Plan;
use woodrush_core::project::read;
use woodrush_core::{Blame, Kind, Refusal};

/// Of the file below: the port on which a device is asked, and the one on which an image answers.
const ASKS: usize = 0;
const ANSWERS: usize = 1;
/// The name of the first.
const NAME: &str = "bus";

/// What differs from protocol to protocol.
struct Particulars {
    asks: &'static str,
    answers: &'static str,
    /// The protocol of the port that answers, where it is another one.
    answering: Option<&'static str>,
    device: &'static str,
    image: &'static str,
    /// What is read, and where it goes.
    read: [&'static str; 2],
    /// What is written, and where from.
    written: [&'static str; 2],
}

impl Particulars {
    /// One protocol on both sides, with the same addresses.
    const fn same(wires: [&'static str; 2], keys: [&'static str; 2], words: [&'static str; 2]) -> Self {
        let ([asks, answers], [device, image], [read, written]) = (wires, keys, words);
        Self { asks, answers, answering: None, device, image, read: [read; 2], written: [written; 2] }
    }
}

fn particulars(protocol: &str) -> Option<Particulars> {
    let serial =
        ["serial = \"/dev/ttyS0\"\nline = \"9600 8N1\"", "serial = \"/dev/ttyS1\"\nline = \"9600 8N1\""];
    let sevens =
        ["serial = \"/dev/ttyS0\"\nline = \"9600 7E1\"", "serial = \"/dev/ttyS1\"\nline = \"9600 7E1\""];
    let tcp = ["connect = \"192.0.2.2:2000\"", "listen = \"0.0.0.0:2000\"\nallow = [\"192.0.2.0/24\"]"];
    let named = [
        "connect = \"192.0.2.2:2000\"\nlocal-tsap = \"01.00\"\nremote-tsap = \"01.02\"",
        "listen = \"0.0.0.0:2000\"\nallow = [\"192.0.2.0/24\"]",
    ];
    let units = ["unit = 1", "unit = 1"];
    let registers = ["400001", "400009"];
    Some(match protocol {
        "modbus-rtu" => Particulars::same(serial, units, registers),
        "modbus-ascii" => Particulars::same(sevens, units, registers),
        "modbus-tcp" => Particulars::same(tcp, units, registers),
        "df1" | "df1-half" => Particulars::same(serial, ["node = 1", "node = 1"], ["N7:0", "N7:8"]),
        "fetch-write" => Particulars::same(named, ["", ""], ["%DB10.W0", "%DB10.W16"]),
        "ethernet-ip" => {
            Particulars::same(tcp, ["slot = 0", ""], ["Tank.Level as i16", "Tank.Rates[8] as i16"])
        }
        "h1-link" => Particulars {
            answering: Some("modbus-tcp"),
            image: "unit = 1",
            read: ["AI1.CHANNEL", "400001"],
            written: ["AI1.STRATEGY", "400009"],
            ..Particulars::same(tcp, ["tag = \"TT-101\"\nprofile = \"h1.toml\"", ""], ["", ""])
        },
        _ => return None,
    })
}

/// The profile of a device that is made of blocks.
const BLOCKS: &str = "[profile]\nname = \"Transmitter\"\n[blocks.AI1]\ntype = \"AI\"\nstart = 500\n";

fn file(protocol: &str) -> Option<String> {
    let Particulars { asks, answers, answering, device, image, read: [from, to], written: [into, out] } =
        particulars(protocol)?;
    let answering = answering.unwrap_or(protocol);
    Some(format!(
        "[ports.bus]\n{asks}\nprotocol = \"{protocol}\"\ntimeout = \"200ms\"\n[ports.office]\n{answers}\nprotocol = \"{answering}\"\n[devices.d]\nport = \"bus\"\n{device}\npoll = \"100ms\"\n[images.i]\nport = \"office\"\n{image}\n[[map]]\nfrom = \"d:{from}\"\nto = \"i:{to}\"\naccess = \"read-write\"\n[[map]]\nfrom = \"i:{out}\"\nto = \"d:{into}\"\nsend = [\"on-write\", \"every 1s\"]\n"
    ))
}

/// The site of the protocol of that number in the list; built once.
fn site_of(at: usize) -> Option<&'static Checked> {
    static SITES: OnceLock<Vec<Option<Checked>>> = OnceLock::new();
    let built = |protocol: &str| {
        let checked = check(read("site.toml", file(protocol)?, &mut |path| {
            if path.ends_with(".ledger") { Err(String::new()) } else { Ok(BLOCKS.into()) }
        }));
        assert!(!checked.has_errors(), "{protocol}: {:?}", checked.findings);
        Some(checked)
    };
    SITES.get_or_init(|| SPEAKERS.iter().map(|speaker| built(speaker.name)).collect()).get(at)?.as_ref()
}

fn shared(bytes: &[u8]) -> Option<Arc<Shared>> {
    let (speaker, _) = chosen(bytes)?;
    let checked = site_of(SPEAKERS.iter().position(|own| own.name == speaker.name)?)?;
    Some(Shared::new(checked, Arc::new(Plan::clone(&checked.plan)), |_| {}))
}

/// A line on which anything is heard, while clients want this and that: each of them is told once how it ended.
pub fn schedule(bytes: &[u8]) {
    let Some(shared) = shared(bytes) else { return };
    let Some(asking) = Schedule::new(&Site::new(Arc::clone(&shared)), ASKS) else { return };
    let Some(queue) = shared.queues.get(ASKS) else { return };
    let mut port = DrivenPort { asking, now: Moment(1_000_000), again: None };
    let mut wanted = 0;
    let ended: Arc<AtomicU64> = Arc::default();
    let place = shared.plan.pushes.first().map(|push| push.extent);
    port.asking.handle(NAME, port.now, News::Up);
    for (pause, kind, piece) in pieces(bytes.get(1..).unwrap_or_default()) {
        let line_request = match (kind, place) {
            (1 | 2, Some(extent)) => Some(LineRequest::Write(DeviceWrite {
                device: 0,
                extent,
                cells: vec![0x55; 2],
                // Whole, or some of its bits.
                keep: (kind == 2).then(|| vec![0xF0; 2]),
                shown: Shown::Nothing,
                rule: 0,
                after_device: true,
            })),
            (3, _) => {
                let message =
                    Message { code: *piece.first().unwrap_or(&3), body: piece.to_vec(), writes: false };
                let asked = AskedAt { port: "office".into(), unit: 1 };
                Some(LineRequest::Pass { unit: 1, message, first: false, asked })
            }
            _ => None,
        };
        if let Some(line_request) = line_request {
            wanted += 1;
            let told = Arc::clone(&ended);
            let reply = Reply::new(ReplyTicket(wanted), move |_, _| {
                told.fetch_add(1, Relaxed);
            });
            queue.push(Queued::new(ClientId(u64::from(kind)), line_request, reply));
        }
        port.act(port.now + pause);
        if port.again.is_none() {
            port.asking.handle(NAME, port.now, News::Bytes(piece));
        }
    }
    // Nothing is heard any more: whatever was wanted has its end.
    for _ in 0..1000 {
        if ended.load(Relaxed) == wanted {
            break;
        }
        port.act(port.now + 1_000_000);
    }
    assert_eq!(ended.load(Relaxed), wanted, "each is told once");
}

/// A port and its driver on a clock of their own.
struct DrivenPort {
    asking: Schedule,
    now: Moment,
    /// While there is no connection: when it is made again.
    again: Option<Moment>,
}

impl DrivenPort {
    /// Lets time pass, as the driver of a port does.
    fn act(&mut self, until: Moment) {
        for _ in 0..10_000 {
            if self.again.is_some_and(|again| again <= self.now) {
                self.again = None;
                self.asking.handle(NAME, self.now, News::Up);
            }
            let next = match self.asking.poll(self.now).1 {
                LineAct::Send(bytes) => {
                    assert!(!bytes.is_empty());
                    continue;
                }
                LineAct::HangUp(_) => {
                    self.asking.handle(NAME, self.now, News::Down);
                    self.again = Some(self.now + 1_000_000);
                    continue;
                }
                LineAct::WaitUntil(moment) => moment,
                LineAct::Rest => Moment::NEVER,
            };
            let next = next.min(self.again.unwrap_or(Moment::NEVER));
            if next >= until {
                break;
            }
            self.now = next.max(self.now + 1);
        }
        self.now = until;
    }
}

/// A client says anything: nothing that is handed over is asked for twice, and nothing is shown that was never
/// there.
pub fn session(bytes: &[u8]) {
    let Some(shared) = shared(bytes) else { return };
    let client = ClientIdentity { id: ClientId(1), who: "somebody".into(), address: None };
    let Some(mut answering) = Session::new(Site::new(Arc::clone(&shared)), ANSWERS, client) else { return };
    let mut now = Moment(1_000_000);
    answering.handle(now, News::Up);
    for (pause, kind, piece) in pieces(bytes.get(1..).unwrap_or_default()) {
        now = now + pause;
        let (used, answers) = answering.answer_reads(now, piece);
        assert!(used <= piece.len() && (used > 0 || answers.is_empty()));
        let Some(rest) = piece.get(used..).filter(|rest| !rest.is_empty()) else { continue };
        answering.handle(now, News::Bytes(rest));
        for _ in 0..200 {
            match answering.poll(now) {
                SessionAct::Send(sent) => assert!(!sent.is_empty()),
                SessionAct::HangUp(_) => {
                    answering.handle(now, News::Down);
                    answering.handle(now, News::Up);
                }
                SessionAct::WaitUntil(_) | SessionAct::Rest => break,
                SessionAct::Hand(ticket) => {
                    assert!(answering.is_waiting());
                    let inbox = Inbox::default();
                    answering.submit(inbox.reply(ticket, || {}));
                    shared.queues.iter().for_each(|queue| queue.refuse_all());
                    assert!(inbox.take().is_some() && inbox.take().is_none(), "told once");
                    let refused = Err(Refusal::new(Kind::NoAnswer, Blame::Device));
                    answering.ended(now, ticket, if kind == 1 { refused } else { Ok(vec![]) });
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use woodrush_core::protocol::dialect;

    #[test]
    fn every_protocol_that_reads_values_has_a_site_here() {
        for (at, speaker) in SPEAKERS.iter().enumerate() {
            let reads = dialect(speaker.name).is_some_and(|dialect| dialect.requests().is_some());
            assert_eq!(site_of(at).is_some(), reads, "{}", speaker.name);
        }
    }
}
