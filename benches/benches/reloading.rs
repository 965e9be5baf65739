//! A reload of 10,000 rules under 64 busy clients: their reads of an unchanged image while it swaps, in the middle at most
//! 50 ms and at worst 250 ms.
#![allow(missing_docs, clippy::unwrap_used, clippy::disallowed_methods)]

use std::io::{Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use woodrush_benches::{Limits, checked, large_site, median};
use woodrush_core::plan::Plan;
use woodrush_engine::converter::start;
use woodrush_engine::rig::Rig;

const RULES: usize = 10_000;
const THREADS: usize = 8;
const CLIENTS_EACH: usize = 8;
const RELOADS: usize = 20;
const ASK: [u8; 12] = [0, 1, 0, 0, 0, 6, 1, 3, 0, 0, 0, 16];

/// Whether it was answered with values.
fn ask(stream: &mut TcpStream) -> bool {
    stream.write_all(&ASK).unwrap();
    let mut head = [0; 6];
    stream.read_exact(&mut head).unwrap();
    let mut body = vec![0; usize::from(head[5])];
    stream.read_exact(&mut body).unwrap();
    body[1] == 3
}

/// Asks one after the other, and keeps how long each answer took while somebody looks.
fn client(at: SocketAddr, ends: &AtomicBool, looks: &AtomicBool, took: &Mutex<Vec<f64>>) {
    let mut streams: Vec<TcpStream> = (0..CLIENTS_EACH)
        .map(|_| {
            let stream = TcpStream::connect(at).unwrap();
            stream.set_nodelay(true).unwrap();
            stream
        })
        .collect();
    let mut own = vec![];
    while !ends.load(Relaxed) {
        for stream in &mut streams {
            let (looked, begun) = (looks.load(Relaxed), Instant::now());
            assert!(ask(stream), "a value that was read before is there");
            if looked || looks.load(Relaxed) {
                own.push(begun.elapsed().as_secs_f64() * 1000.0);
            }
        }
    }
    took.lock().unwrap().extend(own);
}

fn main() {
    let most = "protocol = \"modbus-tcp\"\nmax-clients = 128\nmax-clients-per-address = 128\n";
    let text = large_site(RULES).replace("protocol = \"modbus-tcp\"\n", most);
    let one = checked(text.clone());
    let other = checked(text.replace("poll = \"60s\"", "poll = \"61s\""));
    let rig = Rig::up(Arc::clone(&one), &|_| Err(String::new())).unwrap();
    let mut bindings = rig.bindings();
    bindings.bench = Some(Arc::default());
    let plan = |checked: &woodrush_core::check::Checked| Arc::new(Plan::build(&checked.project, &mut vec![]));
    let mut running = start(&one, plan(&one), &bindings, |_| {}).unwrap();
    let at = running.listening()[0].1;
    let mut first = TcpStream::connect(at).unwrap();
    while !ask(&mut first) {
        std::thread::sleep(Duration::from_millis(50));
    }
    let (ends, looks, took) = (AtomicBool::new(false), AtomicBool::new(false), Mutex::new(vec![]));
    let mut reloads = vec![];
    std::thread::scope(|scope| {
        for _ in 0..THREADS {
            scope.spawn(|| client(at, &ends, &looks, &took));
        }
        for round in 0..RELOADS {
            let next = if round % 2 == 0 { &other } else { &one };
            let plan = plan(next);
            std::thread::sleep(Duration::from_millis(100));
            looks.store(true, Relaxed);
            let begun = Instant::now();
            running.reload(next, plan).unwrap();
            reloads.push(begun.elapsed().as_secs_f64() * 1000.0);
            looks.store(false, Relaxed);
        }
        ends.store(true, Relaxed);
    });
    let mut took = took.into_inner().unwrap();
    let worst = took.iter().copied().fold(0.0, f64::max);
    println!(
        "       {RELOADS} reloads, {:.0} ms each in the middle, {} reads meanwhile",
        median(&mut reloads),
        took.len()
    );
    let mut limits = Limits::default();
    limits.at_most("a read while 10,000 rules are reloaded, in the middle", median(&mut took), 50.0, "ms");
    limits.at_most("the same at worst", worst, 250.0, "ms");
    limits.end();
}
