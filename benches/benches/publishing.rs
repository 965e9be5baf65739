//! What values that come by themselves cost: a converter that takes 100 publications a second serves at least 97 % of the
//! reads that it serves while none come. The program is that which `cargo build --release` makes.
#![allow(missing_docs, clippy::unwrap_used, clippy::disallowed_methods)]

use std::fmt::Write as _;
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::Relaxed};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use woodrush_benches::programs::{Site, until, window};
use woodrush_benches::{Limits, median};
use woodrush_wire::h1::frame::{self, Kind};
use woodrush_wire::h1::{LinkState, LiveEntry, Publication, Request, Response, Typed, live};

/// Blocks, each of which publishes once in a macrocycle of 250 ms.
const BLOCKS: u16 = 25;
const CYCLE: Duration = Duration::from_millis(250);
const ROUNDS: usize = 30;
const CLIENTS: usize = 8;
/// A read of all blocks' values, and how long its answer is.
const ASKS: [u8; 12] = [0, 1, 0, 0, 0, 6, 1, 4, 0, 0, 0, 2 * BLOCKS.to_be_bytes()[1]];
const ANSWER: usize = 9 + 4 * BLOCKS as usize;

/// A link of one device that publishes while it is told to.
struct Link {
    publishes: Arc<AtomicBool>,
    sent: Arc<AtomicU64>,
    subscribed: Arc<Mutex<Vec<u16>>>,
}

fn respond(stream: &Mutex<TcpStream>, invoke: u16, response: &Response<'_>) {
    let mut bytes = vec![];
    frame::emit_with(Kind::Response, response.op(), invoke, &mut bytes, |out| response.emit(out));
    stream.lock().unwrap().write_all(&bytes).unwrap();
}

fn answer(stream: &Mutex<TcpStream>, subscribed: &Mutex<Vec<u16>>, invoke: u16, request: &Request<'_>) {
    let cycle = u32::try_from(CYCLE.as_millis()).unwrap();
    match request {
        Request::Hello { .. } => {
            let hello = Response::Hello {
                version: 1,
                payload_max: frame::PAYLOAD_MAX,
                subscriptions_max: 256,
                server: "bench",
                link: "bench",
            };
            respond(stream, invoke, &hello);
        }
        Request::Link => {
            let link = LinkState {
                state: 1,
                scheduler: 0x10,
                first_unpolled: 0,
                unpolled: 0,
                macrocycle_ms: cycle,
                version: 1,
            };
            respond(stream, invoke, &Response::Link(link));
        }
        Request::LiveList => {
            let entry = |node, flags, tag| LiveEntry { node, flags, tag, device_id: "FFF1010203-WR-000101" };
            let entries = vec![
                entry(0x10, live::LIVE | live::SCHEDULER | live::LINK_MASTER, "LINK"),
                entry(0x14, live::LIVE, "TT-101"),
            ];
            respond(stream, invoke, &Response::LiveList { version: 1, entries });
        }
        Request::Subscribe { id, .. } => {
            subscribed.lock().unwrap().push(*id);
            respond(stream, invoke, &Response::Subscribe { id: *id, granted_ms: cycle });
        }
        Request::Ping => respond(stream, invoke, &Response::Ping),
        other => panic!("{other:?}"),
    }
}

impl Link {
    fn serve(listener: TcpListener) -> Self {
        let own = Self { publishes: Arc::default(), sent: Arc::default(), subscribed: Arc::default() };
        let (publishes, sent) = (Arc::clone(&own.publishes), Arc::clone(&own.sent));
        let subscribed = Arc::clone(&own.subscribed);
        std::thread::spawn(move || {
            let (stream, _) = listener.accept().unwrap();
            stream.set_nodelay(true).unwrap();
            let (mut reader, writer) = (stream.try_clone().unwrap(), Arc::new(Mutex::new(stream)));
            let (talking, asked) = (Arc::clone(&writer), Arc::clone(&subscribed));
            std::thread::spawn(move || {
                let (mut came, mut chunk) = (vec![], [0; 4096]);
                while let Ok(count @ 1..) = reader.read(&mut chunk) {
                    came.extend_from_slice(&chunk[..count]);
                    while let Some((frame, used)) = frame::parse(&came).unwrap() {
                        let request = Request::parse(frame.op, frame.payload).unwrap().unwrap();
                        answer(&talking, &asked, frame.invoke, &request);
                        came.drain(..used);
                    }
                }
            });
            // One publication after the other, evenly over the macrocycle.
            let mut next = Instant::now();
            for sequence in 0u16.. {
                next += CYCLE / u32::from(BLOCKS);
                std::thread::sleep(next.saturating_duration_since(Instant::now()));
                let ids = subscribed.lock().unwrap().clone();
                let Some(id) = ids.get(usize::from(sequence) % ids.len().max(1)) else { continue };
                if !publishes.load(Relaxed) {
                    continue;
                }
                let cells = [&[0x80], f32::from(sequence).to_be_bytes().as_slice()].concat();
                let value = Typed { kind: 65, data: &cells };
                let data =
                    Publication::Data { id: *id, sequence, stale: false, more_flags: 0, age_ms: 0, value };
                let mut bytes = vec![];
                frame::emit_with(Kind::Publication, data.op(), 0, &mut bytes, |out| data.emit(out));
                if writer.lock().unwrap().write_all(&bytes).is_err() {
                    return;
                }
                sent.fetch_add(1, Relaxed);
            }
        });
        own
    }
}

fn project(link: SocketAddr, office: SocketAddr) -> String {
    let mut text = format!(
        "[project]\nname = \"Published\"\n[ports.field]\nconnect = \"{link}\"\nprotocol = \"h1-link\"\nmacrocycle = \"250ms\"\n[ports.office]\nlisten = \"{office}\"\nprotocol = \"modbus-tcp\"\nallow = [\"127.0.0.0/8\"]\n[devices.tt]\nport = \"field\"\ntag = \"TT-101\"\nprofile = \"tt.toml\"\npoll = \"published\"\n[images.scada]\nport = \"office\"\non-loss = \"hold\"\n"
    );
    for block in 0..BLOCKS {
        let address = 300_001 + 2 * u32::from(block);
        writeln!(text, "[[map]]\nfrom = \"tt:AI{block}.OUT\"\nto = \"scada:{address} as f32 ABCD\"").unwrap();
    }
    text
}

/// Publications a second, and how reads are served while they come.
fn served(limits: &mut Limits) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let at = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let site = Site::new(&project(listener.local_addr().unwrap(), at));
    let blocks = (0..BLOCKS)
        .map(|block| format!("[blocks.AI{block}]\ntype = \"AI\"\nstart = {}\n", 500 + 100 * block));
    let profile = format!("[profile]\nname = \"Transmitter\"\n{}", blocks.collect::<String>());
    site.write("tt.toml", &profile);
    let link = Link::serve(listener);
    let _run = site.begin(&["run"]);
    until("the subscriptions", || link.subscribed.lock().unwrap().len() == usize::from(BLOCKS));
    link.publishes.store(true, Relaxed);
    until("a value of each", || link.sent.load(Relaxed) > 2 * u64::from(BLOCKS));
    let connect = || {
        let stream = TcpStream::connect(at).unwrap();
        stream.set_nodelay(true).unwrap();
        stream
    };
    let mut streams: Vec<TcpStream> = (0..CLIENTS).map(|_| connect()).collect();
    let (mut ratios, mut control) = (vec![], vec![]);
    let mut sent = 0;
    for round in 0..ROUNDS {
        link.publishes.store(false, Relaxed);
        let mut alone = || {
            std::thread::sleep(Duration::from_millis(100));
            window(&mut streams, &ASKS, ANSWER)
        };
        let (one, other) = (alone(), alone());
        link.publishes.store(true, Relaxed);
        std::thread::sleep(Duration::from_millis(100));
        let before = link.sent.load(Relaxed);
        let published = window(&mut streams, &ASKS, ANSWER);
        sent += link.sent.load(Relaxed) - before;
        let (alone, again) = if round % 2 == 0 { (one, other) } else { (other, one) };
        ratios.push(published / alone * 100.0);
        control.push(again / alone * 100.0);
    }
    let a_second = sent as f64 / (ROUNDS as f64 * 0.25);
    println!("       {a_second:.0} publications a second");
    limits.at_least(
        "served reads while values come, against those while none do",
        median(&mut ratios),
        97.0,
        "%",
    );
    println!("       without any against itself: {:.2} %", median(&mut control));
}

fn main() {
    let mut limits = Limits::default();
    served(&mut limits);
    limits.end();
}
