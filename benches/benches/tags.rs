//! Tags over EtherNet/IP. Served to 8 originators with a connection and one read open each, against a buffered echo server
//! with the same byte counts, runtime and clients: at least 85 % of its exchanges. One tag read by our client against a
//! bare TCP exchange of the same bytes with the same server: at most 1.3 times the median.
#![allow(missing_docs, clippy::unwrap_used, clippy::panic, clippy::disallowed_methods)]

use std::io::{Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use woodrush_benches::{Limits, checked, median};
use woodrush_core::plan::Plan;
use woodrush_core::protocol::{Extent, SpaceId};
use woodrush_engine::Dialer;
use woodrush_engine::converter::start;
use woodrush_engine::rig::Rig;
use woodrush_wire::enip::cip::{self, Reply, class, service};
use woodrush_wire::enip::connection::{EXPLICIT, ForwardOpen, Opened, Parameters, Triad};
use woodrush_wire::enip::cpf::{Connected, Unconnected};
use woodrush_wire::enip::encap::{self, HEADER, Header, Registration, command};
use woodrush_wire::enip::epath::{Object, Path, Segment};

const CLIENTS: usize = 8;
const ROUNDS: usize = 60;
const WINDOW: Duration = Duration::from_millis(60);

const SITE: &str = r#"
[ports.bus]
serial = "/dev/ttyS0"
line = "115200 8E1"
protocol = "modbus-rtu"
[ports.cell]
listen = "0.0.0.0:44818"
protocol = "ethernet-ip"
allow = ["192.0.2.0/24"]
max-clients = 100
[devices.meter]
port = "bus"
unit = 1
poll = "100ms"
[images.line]
port = "cell"
[[map]]
from = "meter:400001 as f32 ABCD"
to = "line:Line.MeanWeight as f32"
[clients.line-plc]
image = "line"
address = "192.0.2.60"
reads = ["Line.MeanWeight as f32"]
"#;

/// An originator with a connection open.
struct Originator {
    stream: TcpStream,
    session: u32,
    to_target: u32,
    sequence: u16,
    asks: Vec<u8>,
    gives: Vec<u8>,
}

fn reply(stream: &mut TcpStream, out: &mut Vec<u8>) {
    out.resize(HEADER, 0);
    stream.read_exact(out).unwrap();
    let length = usize::from(u16::from_le_bytes([out[2], out[3]]));
    out.resize(HEADER + length, 0);
    stream.read_exact(&mut out[HEADER..]).unwrap();
}

impl Originator {
    fn open(to: SocketAddr, number: u16) -> Self {
        let mut stream = TcpStream::connect(to).unwrap();
        stream.set_nodelay(true).unwrap();
        let (mut asks, mut gives) = (vec![], vec![]);
        Header { command: command::REGISTER_SESSION, ..Header::default() }
            .emit_with(&mut asks, |out| Registration::OURS.emit(out));
        stream.write_all(&asks).unwrap();
        reply(&mut stream, &mut gives);
        let session = encap::parse(&gives, 8192).unwrap().unwrap().0.header.session;
        let mut path = vec![];
        Object { class: class::MESSAGE_ROUTER, instance: 1, attribute: None }.emit(&mut path);
        let open = ForwardOpen {
            tick: 10,
            ticks: 14,
            to_target_id: 0,
            to_originator_id: number.into(),
            triad: Triad { serial: number, vendor: 0xFFF1, originator: 1 },
            multiplier: 3,
            to_target_interval: 2_000_000,
            to_target: Parameters::explicit(504, false),
            to_originator_interval: 2_000_000,
            to_originator: Parameters::explicit(504, false),
            transport: EXPLICIT,
            path: Path::parse(&path).unwrap(),
        };
        asks.clear();
        Header { command: command::SEND_RR_DATA, session, ..Header::default() }.emit_with(&mut asks, |out| {
            Unconnected::emit_with(out, |out| {
                cip::emit_to(
                    out,
                    open.service(),
                    Object { class: class::CONNECTION_MANAGER, instance: 1, attribute: None },
                );
                open.emit(out);
            });
        });
        stream.write_all(&asks).unwrap();
        reply(&mut stream, &mut gives);
        let data = Unconnected::parse(encap::parse(&gives, 8192).unwrap().unwrap().0.data).unwrap().message;
        let to_target = Opened::parse(Reply::parse(data).unwrap().data).unwrap().to_target_id;
        Self { stream, session, to_target, sequence: 0, asks, gives }
    }

    /// The next read of the tag, asked.
    fn ask(&mut self) {
        self.sequence = self.sequence.wrapping_add(1);
        self.asks.clear();
        let header = Header { command: command::SEND_UNIT_DATA, session: self.session, ..Header::default() };
        header.emit_with(&mut self.asks, |out| {
            Connected::emit_with(out, self.to_target, self.sequence, |out| {
                cip::emit_with(out, service::READ_TAG, |out| {
                    Segment::Symbol(b"Line").emit(out);
                    Segment::Symbol(b"MeanWeight").emit(out);
                });
                out.extend_from_slice(&[1, 0]);
            });
        });
        self.stream.write_all(&self.asks).unwrap();
    }

    fn answered(&mut self) {
        reply(&mut self.stream, &mut self.gives);
    }
}

/// Reads what is there, answers each request's worth of bytes, writes once.
async fn echo(listener: tokio::net::TcpListener, ask: usize, answer: Vec<u8>) {
    while let Ok((mut stream, _)) = listener.accept().await {
        stream.set_nodelay(true).unwrap();
        let answer = answer.clone();
        tokio::spawn(async move {
            let (mut chunk, mut held) = (vec![0; 4096], 0);
            while let Ok(count @ 1..) = stream.read(&mut chunk).await {
                held += count;
                let answers = held / ask;
                held %= ask;
                if answers > 0 && stream.write_all(&answer.repeat(answers)).await.is_err() {
                    return;
                }
            }
        });
    }
}

fn window(all: &mut [Originator]) -> f64 {
    let begun = Instant::now();
    let one = |own: &mut Originator| {
        let mut count = 0u64;
        while begun.elapsed() < WINDOW {
            own.ask();
            own.answered();
            count += 1;
        }
        count
    };
    let one = &one;
    let counts: Vec<u64> = std::thread::scope(|scope| {
        let threads: Vec<_> = all.iter_mut().map(|own| scope.spawn(move || one(own))).collect();
        threads.into_iter().map(|thread| thread.join().unwrap()).collect()
    });
    counts.iter().sum::<u64>() as f64 / begun.elapsed().as_secs_f64()
}

fn main() {
    let checked = checked(SITE.to_string());
    let rig = Rig::up(Arc::clone(&checked), &|_| Err(String::new())).unwrap();
    let plan = Arc::new(Plan::build(&checked.project, &mut vec![]));
    let running = start(&checked, plan, &rig.bindings(), |_| {}).unwrap();
    std::thread::sleep(Duration::from_millis(500));
    let served_at = running.listening()[0].1;
    let mut served: Vec<Originator> = (1..).take(CLIENTS).map(|n| Originator::open(served_at, n)).collect();
    served[0].ask();
    served[0].answered();
    let answer = served[0].gives.clone();
    let status =
        Reply::parse(Connected::parse(encap::parse(&answer, 8192).unwrap().unwrap().0.data).unwrap().message);
    assert_eq!(status.unwrap().status, 0, "the tag has a value");
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap();
    let listener = runtime.block_on(tokio::net::TcpListener::bind("127.0.0.1:0")).unwrap();
    let echo_at = listener.local_addr().unwrap();
    runtime.spawn(echo(listener, served[0].asks.len(), answer));
    let mut echoed: Vec<Originator> = (0..CLIENTS)
        .map(|_| {
            let stream = TcpStream::connect(echo_at).unwrap();
            stream.set_nodelay(true).unwrap();
            Originator { stream, session: 1, to_target: 1, sequence: 0, asks: vec![], gives: vec![] }
        })
        .collect();
    let mut limits = Limits::default();
    let (mut ratios, mut control) = (vec![], vec![]);
    for round in 0..ROUNDS {
        let (own, echo, again) = if round % 2 == 0 {
            (window(&mut served), window(&mut echoed), window(&mut echoed))
        } else {
            let (echo, again) = (window(&mut echoed), window(&mut echoed));
            (window(&mut served), echo, again)
        };
        ratios.push(own / echo * 100.0);
        control.push(again / echo * 100.0);
    }
    let name = format!("tags served against the echo, {CLIENTS} originators, one read open");
    limits.at_least(&name, median(&mut ratios), 85.0, "%");
    println!("       the echo against itself: {:.2} %", median(&mut control));
    client(&mut limits, served_at, &mut served[0]);
    drop(running);
    limits.end();
}

/// Our client against a bare exchange of the same bytes, one after the other.
fn client(limits: &mut Limits, at: SocketAddr, bare: &mut Originator) {
    let text = format!(
        "[ports.p]\nconnect = \"{at}\"\nprotocol = \"ethernet-ip\"\n[ports.office]\nlisten = \"0.0.0.0:502\"\nprotocol = \"modbus-tcp\"\nallow = [\"192.0.2.0/24\"]\n[devices.line]\nport = \"p\"\n[images.i]\nport = \"office\"\n[[map]]\nfrom = \"line:Line.MeanWeight as f32\"\nto = \"i:400001\"\n"
    );
    let checked = checked(text);
    let station = checked.plan.devices[0].clone();
    let wire = TcpStream::connect(at).unwrap();
    wire.set_nodelay(true).unwrap();
    let mut dialer = Dialer::over(wire.into(), checked.plan.lines[0], "ethernet-ip", &station).unwrap();
    let extent = Extent { space: SpaceId(0), first: 0, count: 1 };
    let (mut own, mut raw) = (vec![], vec![]);
    for _ in 0..5000 {
        let begun = Instant::now();
        dialer.read(extent).unwrap();
        own.push(begun.elapsed().as_secs_f64());
        let begun = Instant::now();
        bare.ask();
        bare.answered();
        raw.push(begun.elapsed().as_secs_f64());
    }
    let ratio = median(&mut own) / median(&mut raw);
    limits.at_most("a tag read by the client against a bare exchange", ratio, 1.3, "times");
}
