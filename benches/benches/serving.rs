//! Served reads of 16 registers against a buffered echo server with the same byte counts, runtime and clients: at least
//! 95 % of its exchanges by 256 clients with one request open each, the same by 8 clients, and at least 85 % by 8 clients
//! with 16 pipelined.
#![allow(missing_docs, clippy::unwrap_used, clippy::disallowed_methods)]

use std::io::{Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use woodrush_benches::{Limits, checked, median, small_site};
use woodrush_core::plan::Plan;
use woodrush_engine::converter::start;
use woodrush_engine::rig::Rig;

/// Each thread has so many clients: it asks for all of them, then takes all answers.
const THREADS: usize = 8;
const ROUNDS: usize = 60;
const WINDOW: Duration = Duration::from_millis(60);
const ASK: usize = 12;
const ANSWER: usize = 41;

/// Reads what is there, answers each request's worth of bytes, writes once.
async fn echo(listener: tokio::net::TcpListener) {
    while let Ok((mut stream, _)) = listener.accept().await {
        stream.set_nodelay(true).unwrap();
        tokio::spawn(async move {
            let (mut chunk, mut held) = (vec![0; 4096], 0);
            while let Ok(count @ 1..) = stream.read(&mut chunk).await {
                held += count;
                let answers = held / ASK;
                held %= ASK;
                if answers > 0 && stream.write_all(&vec![0; answers * ANSWER]).await.is_err() {
                    return;
                }
            }
        });
    }
}

/// Exchanges in one window by clients that are connected already.
fn window(streams: &mut [TcpStream], open: usize) -> f64 {
    let begun = Instant::now();
    let ask: Vec<u8> = (0..open).flat_map(|n| [0, n as u8, 0, 0, 0, 6, 1, 3, 0, 0, 0, 16]).collect();
    let one = |streams: &mut [TcpStream]| {
        let (mut answer, mut count) = (vec![0; ANSWER * open], 0);
        while begun.elapsed() < WINDOW {
            for stream in &mut *streams {
                stream.write_all(&ask).unwrap();
            }
            for stream in &mut *streams {
                stream.read_exact(&mut answer).unwrap();
            }
            count += (open * streams.len()) as u64;
        }
        count
    };
    let one = &one;
    let counts: Vec<u64> = std::thread::scope(|scope| {
        let each = streams.len().div_ceil(THREADS);
        let threads: Vec<_> = streams.chunks_mut(each).map(|some| scope.spawn(move || one(some))).collect();
        threads.into_iter().map(|thread| thread.join().unwrap()).collect()
    });
    counts.iter().sum::<u64>() as f64 / begun.elapsed().as_secs_f64()
}

fn connect(to: SocketAddr, clients: usize) -> Vec<TcpStream> {
    let one = |_| {
        let stream = TcpStream::connect(to).unwrap();
        stream.set_nodelay(true).unwrap();
        stream
    };
    (0..clients).map(one).collect()
}

fn main() {
    let checked = checked(small_site(115_200, "100ms"));
    let rig = Rig::up(Arc::clone(&checked), &|_| Err(String::new())).unwrap();
    let plan = Arc::new(Plan::build(&checked.project, &mut vec![]));
    let running = start(&checked, plan, &rig.bindings(), |_| {}).unwrap();
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap();
    let listener = runtime.block_on(tokio::net::TcpListener::bind("127.0.0.1:0")).unwrap();
    let echo_at = listener.local_addr().unwrap();
    runtime.spawn(echo(listener));
    let served_at = running.listening()[0].1;
    let mut limits = Limits::default();
    for (clients, open, limit) in [(8, 1, 95.0), (256, 1, 95.0), (8, 16, 85.0)] {
        let (mut served, mut echoed) = (connect(served_at, clients), connect(echo_at, clients));
        std::thread::sleep(Duration::from_millis(500));
        let (mut ratios, mut control) = (vec![], vec![]);
        for round in 0..ROUNDS {
            // The order changes, so that a machine that slows down hurts both alike.
            let (own, echo, again) = if round % 2 == 0 {
                let own = window(&mut served, open);
                (own, window(&mut echoed, open), window(&mut echoed, open))
            } else {
                let (echo, again) = (window(&mut echoed, open), window(&mut echoed, open));
                (window(&mut served, open), echo, again)
            };
            ratios.push(own / echo * 100.0);
            control.push(again / echo * 100.0);
        }
        let name = format!("served reads against the echo, {clients} clients, {open} open");
        limits.at_least(&name, median(&mut ratios), limit, "%");
        println!("       the echo against itself: {:.2} %", median(&mut control));
    }
    limits.end();
}
