//! Clients that keep, flood or starve: each costs only itself.

use crate::live::{SMALL, Up, ask, until};
use std::io::{Read, Write};
use std::net::TcpStream;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering::Relaxed};
use std::time::Duration;
use woodrush_wire::modbus::tcp;

/// A device that is read through, beside the one that is polled, and one that nobody is.
fn site() -> String {
    SMALL.replace("[ports.office]", "timeout = \"500ms\"\n[ports.office]")
        + "[devices.blower]\nport = \"raceway\"\nunit = 24\ntables = { holding = 100 }\n[[forward]]\nfrom = \"office\"\nunits = \"24-30\"\nto = \"raceway\"\n"
}

fn connect(up: &Up) -> TcpStream {
    let stream = TcpStream::connect(up.at(1)).unwrap();
    stream.set_read_timeout(Some(Duration::from_secs(30))).unwrap();
    stream
}

fn ready(up: &Up) -> TcpStream {
    let mut stream = connect(up);
    until("a first value", || ask(&mut stream, 1, 0, 1).is_ok());
    stream
}

fn reading(unit: u8) -> Vec<u8> {
    let mut frame = vec![];
    tcp::emit(7, unit, &[3, 0, 0, 0, 1], &mut frame);
    frame
}

#[test]
fn half_a_request_holds_up_nobody_and_the_other_half_is_still_taken() {
    let up = Up::start(&site(), true, |_| {});
    let mut other = ready(&up);
    let frame = reading(1);
    let mut halves: Vec<TcpStream> = (0..8).map(|_| connect(&up)).collect();
    for (at, half) in halves.iter_mut().enumerate() {
        half.write_all(&frame[..=at]).unwrap();
    }
    for _ in 0..200 {
        assert!(ask(&mut other, 1, 0, 1).is_ok());
    }
    for (at, half) in halves.iter_mut().enumerate() {
        half.write_all(&frame[at + 1..]).unwrap();
        let mut answer = [0; 11];
        half.read_exact(&mut answer).unwrap();
        assert_eq!(answer[7..9], [3, 2]);
    }
}

#[test]
fn who_never_reads_the_answers_stops_being_asked_for_more_and_costs_only_that_connection() {
    let up = Up::start(&site(), true, |_| {});
    let mut other = ready(&up);
    let mut flood = connect(&up);
    flood.set_nonblocking(true).unwrap();
    let many: Vec<u8> = reading(1).into_iter().cycle().take(12 * 4096).collect();
    // Until neither side takes any more; what is held for it is then at its most.
    let (mut sent, mut refused) = (0, 0);
    while refused < 20 && sent < 64 << 20 {
        match flood.write(&many[sent % 12..]) {
            Ok(count) => (sent, refused) = (sent + count, 0),
            Err(_) => {
                refused += 1;
                // On a machine that stood still the value may be too old, and that is an answer too.
                let answer = ask(&mut other, 1, 0, 1);
                assert!(matches!(answer, Ok(_) | Err(11)), "the other is answered all the while: {answer:?}");
                std::thread::sleep(Duration::from_millis(5));
            }
        }
    }
    assert!(sent < 64 << 20, "somewhere it must end: {sent} bytes were taken");
    // The same through the line: requests without end, and nobody who reads.
    let mut through = connect(&up);
    through.set_nonblocking(true).unwrap();
    let many: Vec<u8> = reading(24).into_iter().cycle().take(12 * 4096).collect();
    let mut refused = 0;
    while refused < 20 {
        if through.write(&many).is_err() {
            refused += 1;
            assert!(ask(&mut other, 24, 0, 1).is_ok(), "and has its turn on the line");
        }
    }
    drop((flood, through));
    assert!(ask(&mut other, 1, 0, 1).is_ok() && ask(&mut other, 24, 0, 1).is_ok());
}

#[test]
fn a_greedy_client_gets_one_turn_for_each_of_the_others() {
    let up = Arc::new(Up::start(&site(), true, |_| {}));
    let mut slow = ready(&up);
    let (stop, served) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicUsize::new(0)));
    let greedy = {
        let (up, stop, served) = (Arc::clone(&up), Arc::clone(&stop), Arc::clone(&served));
        std::thread::spawn(move || {
            let mut stream = connect(&up);
            // Sixteen requests always wait.
            stream.write_all(&reading(24).repeat(16)).unwrap();
            while !stop.load(Relaxed) {
                stream.read_exact(&mut [0; 11]).unwrap();
                served.fetch_add(1, Relaxed);
                stream.write_all(&reading(24)).unwrap();
            }
        })
    };
    until("the greedy one's answers", || served.load(Relaxed) > 20);
    // Counted in turns, not in time: while the slow one waits, the greedy one is served the request that was on the
    // line and at most one more; threads that look late may add a little.
    let mut turns: Vec<usize> = (0..60)
        .map(|_| {
            let before = served.load(Relaxed);
            assert!(ask(&mut slow, 24, 0, 1).is_ok());
            served.load(Relaxed) - before
        })
        .collect();
    stop.store(true, Relaxed);
    greedy.join().unwrap();
    turns.sort_unstable();
    assert!(turns[30] <= 3, "half of the answers came after at most 3 turns of the greedy one: {turns:?}");
    // Behind its whole queue each would come after 16; a few may, where this thread was not let run to take its answer.
    assert!(turns[54] < 16, "and nine of ten not behind its whole queue: {turns:?}");
}

#[test]
fn requests_to_a_dead_unit_wait_their_own_time_and_not_the_others() {
    let up = Arc::new(Up::start(&site(), true, |_| {}));
    let mut living = ready(&up);
    let dead: Vec<_> = (0..4)
        .map(|n| {
            let up = Arc::clone(&up);
            std::thread::spawn(move || {
                let mut stream = connect(&up);
                (0..3).map(|_| ask(&mut stream, 25 + n, 0, 1)).collect::<Vec<_>>()
            })
        })
        .collect();
    let mut answered = 0;
    while !dead.iter().all(std::thread::JoinHandle::is_finished) {
        match ask(&mut living, 24, 0, 1) {
            Ok(_) => answered += 1,
            // On a machine that stood still its device may have been heard too late.
            other => assert_eq!(other, Err(11)),
        }
    }
    for dead in dead {
        assert_eq!(dead.join().unwrap(), vec![Err(11); 3]);
    }
    assert!(answered >= 2, "a turn in each round of the four that waited in vain: {answered}");
}
