//! A paced line polled without pause: from the last byte of an answer to our next request, less the silence, a median
//! of at most 150 µs, alone and beside 64 busy TCP clients.
#![allow(missing_docs, clippy::unwrap_used, clippy::disallowed_methods)]

use std::io::{Read, Write};
use std::net::TcpStream;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::time::Duration;
use woodrush_benches::{Limits, checked, median, small_site};
use woodrush_core::plan::Plan;
use woodrush_engine::converter::start;
use woodrush_engine::rig::Rig;

fn main() {
    let mut limits = Limits::default();
    for baud in [19_200, 115_200] {
        // Two that are asked in turn: the same question twice in a row waits longer, lest an echo be taken for its answer.
        let other = "[devices.other]\nport = \"bus\"\nunit = 2\npoll = \"1ms\"\n[[map]]\nfrom = \"other:400001\"\nto = \"scada:400101\"\ncount = 16\n";
        let checked = checked(small_site(baud, "1ms") + other);
        let frame_gap = checked.plan.lines[0].own_frame_gap as f64;
        let rig = Rig::up(Arc::clone(&checked), &|_| Err(String::new())).unwrap();
        let plan = Arc::new(Plan::build(&checked.project, &mut vec![]));
        let running = start(&checked, plan, &rig.bindings(), |_| {}).unwrap();
        let to = running.listening()[0].1;
        for clients in [0, 64] {
            let stop = Arc::new(AtomicBool::new(false));
            let busy: Vec<_> = (0..clients)
                .map(|_| {
                    let stop = Arc::clone(&stop);
                    std::thread::spawn(move || {
                        let mut stream = TcpStream::connect(to).unwrap();
                        stream.set_nodelay(true).unwrap();
                        let mut answer = [0; 41];
                        while !stop.load(Relaxed) {
                            stream.write_all(&[0, 1, 0, 0, 0, 6, 1, 3, 0, 0, 0, 16]).unwrap();
                            stream.read_exact(&mut answer).unwrap();
                        }
                    })
                })
                .collect();
            std::thread::sleep(Duration::from_millis(700));
            let _ = rig.gaps(0);
            std::thread::sleep(Duration::from_secs(6));
            let mut gaps: Vec<f64> = rig.gaps(0).into_iter().map(|gap| gap as f64 - frame_gap).collect();
            stop.store(true, Relaxed);
            busy.into_iter().for_each(|thread| drop(thread.join()));
            let count = gaps.len();
            let name =
                format!("{baud} baud, {clients} busy clients, {count} exchanges: added to the silence");
            limits.at_most(&name, median(&mut gaps), 150.0, "us");
        }
    }
    limits.end();
}
