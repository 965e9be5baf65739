//! Devices and lines that do what they should not: counted by kind, never a wrong value, never more than their own time.

use crate::site::{DEVICE, HEAD, RULES, Site};
use woodrush_core::project::{AS_UNIT, CUT, FaultValue, LATE, MUTE, NOISE, REFUSE, SHORT, TWICE};
use woodrush_core::protocol::{Extent, SpaceId};
use woodrush_engine::health::Counts;
use woodrush_engine::rig::Change;

const SECOND: u64 = 1_000_000;
const TWO: &str = r#"
[devices.bad]
port = "raceway"
unit = 23
poll = "100ms"
lost-after = 100
[devices.good]
port = "raceway"
unit = 24
poll = "100ms"
[[map]]
from = "bad:400001"
count = 4
to = "scada:400001"
[[map]]
from = "good:400001"
count = 4
to = "scada:400011"
"#;
/// What both devices hold all the time; no two registers are alike.
const HELD: [[u16; 4]; 2] = [[0x1234, 0x5678, 0x9ABC, 0xDEF0], [0x0F1E, 0x2D3C, 0x4B5A, 0x6978]];

fn site(protocol: &str) -> Site {
    let head = HEAD.replace("modbus-rtu", protocol).replace("timeout = \"200ms\"", "timeout = \"100ms\"");
    let mut site = Site::new(&[&head, TWO]);
    for (device, words) in site.bus().devices.iter_mut().zip(HELD) {
        device.still = true;
        let cells: Vec<u8> = words.iter().flat_map(|word| word.to_be_bytes()).collect();
        device.poke(Extent { space: SpaceId(3), first: 0, count: 4 }, &cells);
    }
    site.bench.run(SECOND);
    assert_eq!((site.read(1, 4), site.read(11, 4)), (Ok(HELD[0].to_vec()), Ok(HELD[1].to_vec())));
    site
}

/// Runs on, and reads all the while: the right words, or the sign that there are none.
fn run_and_read(site: &mut Site, seconds: u64, why: &str) -> [u32; 2] {
    let (end, mut right) = (site.bench.now() + seconds * SECOND, [0; 2]);
    while site.bench.now() < end {
        site.bench.run(10_000);
        for (at, (first, held)) in [(1, HELD[0]), (11, HELD[1])].into_iter().enumerate() {
            match site.read(first, 4) {
                Ok(words) => {
                    assert_eq!(words, held, "{why}: a wrong value");
                    right[at] += 1;
                }
                Err(code) => assert_eq!(code, 11, "{why}"),
            }
        }
    }
    right
}

/// By kind: without an answer, damaged, of something else, refused.
fn kinds(counts: &Counts) -> [u64; 4] {
    let refused = counts.exceptions.iter().map(|(_, count)| count).sum();
    [counts.no_answer, counts.damaged, counts.mismatched, refused]
}

#[test]
fn each_fault_is_counted_by_its_kind_and_costs_only_its_own_time() {
    // The place in `kinds` where it belongs; which others may come with it, since bytes on a line are what they are.
    let faults: [(Change, Change, usize, &[usize]); 5] = [
        (Change::begin(&MUTE, 0, FaultValue::On), Change::end(&MUTE, 0), 0, &[]),
        (Change::begin(&LATE, 0, FaultValue::On), Change::end(&LATE, 0), 0, &[1, 2]),
        (Change::begin(&SHORT, 0, FaultValue::On), Change::end(&SHORT, 0), 1, &[0]),
        (Change::begin(&AS_UNIT, 0, FaultValue::Number(77)), Change::end(&AS_UNIT, 0), 2, &[0]),
        (Change::begin(&REFUSE, 0, FaultValue::Number(6)), Change::end(&REFUSE, 0), 3, &[]),
    ];
    for protocol in ["modbus-rtu", "modbus-ascii"] {
        for (fault, mend, kind, with) in &faults {
            let why = format!("{protocol} {fault:?}");
            let mut site = site(protocol);
            let before = [site.bench.counts(0), site.bench.counts(1)];
            site.bus().change(*fault);
            run_and_read(&mut site, 20, &why);
            let after = [site.bench.counts(0), site.bench.counts(1)];
            let grown: Vec<u64> = kinds(&after[0])
                .iter()
                .zip(kinds(&before[0]))
                .map(|(after, before)| after - before)
                .collect();
            assert!(grown[*kind] >= 20, "{why}: {grown:?}");
            for (other, count) in grown.iter().enumerate() {
                assert!(other == *kind || with.contains(&other) || *count == 0, "{why}: {grown:?}");
            }
            // The other device waits at most for one failed try between two of its polls: the timeout and a rest of a
            // quarter of it, or as long as the answer is late. It is spared else.
            let spoilt: u64 = kinds(&after[1]).iter().sum::<u64>() - kinds(&before[1]).iter().sum::<u64>();
            // Only a late answer can fall into an exchange with the other, and then seldom.
            let most = if fault.kind() == &LATE { 10 } else { 0 };
            assert!(spoilt <= most, "{why}: {spoilt} polls of the other spoilt");
            let polls = after[1].answers - before[1].answers;
            assert!(polls >= 20 * SECOND / 190_000, "{why}: {polls} polls in 20 s");
            site.bus().change(*mend);
            // It may have been lost meanwhile, and is then tried less often.
            site.bench.run(20 * SECOND);
            let right = run_and_read(&mut site, 2, &why);
            assert!(right[0] > 150 && right[1] > 150, "{why}: {right:?} of 200 after the repair");
        }
    }
}

#[test]
fn an_answer_said_twice_is_taken_once_and_its_echo_for_nobody() {
    for protocol in ["modbus-rtu", "modbus-ascii"] {
        let mut site = site(protocol);
        site.bus().change(Change::begin(&TWICE, 0, FaultValue::On));
        let right = run_and_read(&mut site, 20, protocol);
        assert!(right[0] > 1800 && right[1] > 1800, "{protocol}: {right:?} of 2000");
        // The second one may spoil what is asked next, and is then counted there.
        let counts = [site.bench.counts(0), site.bench.counts(1)];
        assert!(counts.iter().all(|counts| counts.answers > 100), "{protocol}: {counts:?}");
    }
}

/// Three places of one unit, read by one function and for as much: no answer says to which question it belongs.
const ALIKE: &str = r#"
[devices.bad]
port = "raceway"
unit = 23
poll = "100ms"
lost-after = 100
max-read = COUNT
[[map]]
from = "bad:400001"
count = COUNT
to = "scada:400001"
[[map]]
from = "bad:400101"
count = COUNT
to = "scada:400101"
[[map]]
from = "bad:400201"
count = COUNT
to = "scada:400201"
"#;

/// Reads them for a while, with late answers now and then, and answers that are said twice.
fn read_alike(protocol: &str, count: u16, late: bool, twice: bool) {
    let why = format!("{protocol}, {count} registers, late {late}, twice {twice}");
    let head = HEAD.replace("modbus-rtu", protocol).replace("timeout = \"200ms\"", "timeout = \"100ms\"");
    let mut site = Site::new(&[&head, &ALIKE.replace("COUNT", &count.to_string())]);
    let device = &mut site.bus().devices[0];
    device.still = true;
    let held = [0x1111u16, 0x2222, 0x3333].map(|word| vec![word; usize::from(count)]);
    for (first, words) in [0, 100, 200].into_iter().zip(&held) {
        let cells: Vec<u8> = words.iter().flat_map(|word| word.to_be_bytes()).collect();
        device.poke(Extent { space: SpaceId(3), first, count: u32::from(count) }, &cells);
    }
    if twice {
        site.bus().change(Change::begin(&TWICE, 0, FaultValue::On));
    }
    let mut right = 0;
    for round in 0..300 {
        site.bench.run(50_000);
        match round % 40 {
            20 if late => site.bus().change(Change::begin(&LATE, 0, FaultValue::On)),
            30 if late => site.bus().change(Change::end(&LATE, 0)),
            _ => {}
        }
        for (first, words) in [1, 101, 201].into_iter().zip(&held) {
            match site.read(first, count) {
                Ok(read) => assert_eq!(read, *words, "{why}: another place's value"),
                Err(_) => continue,
            }
            right += 1;
        }
    }
    assert!(right > if late { 400 } else { 880 }, "{why}: {right} reads of 900");
}

#[test]
fn no_answer_is_taken_for_that_of_another_question_that_looks_alike() {
    for protocol in ["modbus-rtu", "modbus-ascii"] {
        for count in 1..=8 {
            for (late, twice) in [(true, false), (false, true), (true, true)] {
                read_alike(protocol, count, late, twice);
            }
        }
    }
}

#[test]
fn noise_is_damage_or_silence_and_in_ascii_too() {
    for (protocol, share) in [("modbus-rtu", 0.01), ("modbus-ascii", 0.005)] {
        let mut site = site(protocol);
        site.bus().change(Change::begin(&NOISE, 0, FaultValue::Share(share)));
        let right = run_and_read(&mut site, 120, protocol);
        let [silent, damaged, other, refused] = kinds(&site.bench.counts(0));
        assert!(damaged > 20 && silent > 5, "{protocol}: {silent} silent, {damaged} damaged");
        assert!(
            other < damaged / 4 && refused == 0,
            "{protocol}: {other} of something else, {refused} refused"
        );
        assert!(right.iter().all(|right| *right > 6_000), "{protocol}: {right:?} of 12000");
    }
}

#[test]
fn a_cut_in_the_middle_of_an_answer_leaves_nothing_behind() {
    let mut site = site("modbus-rtu");
    // Each cut falls at another byte of some exchange.
    for step in 0..200 {
        site.bench.run(20_000 + step * 37);
        site.bus().change(Change::begin(&CUT, 0, FaultValue::On));
        site.bench.run(3_000);
        site.bus().change(Change::end(&CUT, 0));
        for (first, held) in [(1, HELD[0]), (11, HELD[1])] {
            match site.read(first, 4) {
                Ok(words) => assert_eq!(words, held, "after cut {step}"),
                Err(code) => assert_eq!(code, 11),
            }
        }
    }
    let failed: u64 = (0..2).map(|device| kinds(&site.bench.counts(device)).iter().sum::<u64>()).sum();
    assert!((10..200).contains(&failed), "{failed} exchanges were hit");
    site.bench.run(SECOND);
    let right = run_and_read(&mut site, 2, "after all cuts");
    assert_eq!(right, [200, 200]);
}

#[test]
fn counters_from_nought_on_leave_ages_and_states() {
    let mut site = site("modbus-rtu");
    site.bus().change(Change::begin(&MUTE, 0, FaultValue::On));
    site.bench.run(2 * SECOND);
    let before = site.bench.counts(0);
    assert!(before.no_answer > 5 && before.answers > 5 && before.last_error == 256, "{before:?}");
    site.bench.reset_counts();
    let after = site.bench.counts(0);
    assert_eq!((after.requests, after.answers, kinds(&after)), (0, 0, [0; 4]));
    assert_eq!(site.read(11, 4), Ok(HELD[1].to_vec()), "the values stay");
    site.bench.run(SECOND);
    assert!(site.bench.counts(1).answers > 5);
}

#[test]
fn frames_of_another_framing_are_counted_as_damage_with_their_bytes() {
    let mut site = Site::new(&[HEAD, DEVICE, RULES]);
    let (rtu, ascii) = ([0x01, 3, 0, 0, 0, 10, 0xC5, 0xCD], b":010300000002FA\r\n");
    for (bytes, count) in [(&rtu[..], 1), (&ascii[..], 2), (&b"GET / HTTP/1.0\r\n\r\n"[..], 3)] {
        let before = site.bench.past_counts(1).received;
        let mut other = site.bench.connect(1).unwrap();
        assert_eq!(site.bench.exchange(&mut other, bytes), None, "it is closed: {bytes:02X?}");
        assert_eq!(site.bench.damaged_requests(1), count, "{bytes:02X?}");
        drop(other);
        assert_eq!(site.bench.past_counts(1).received - before, bytes.len() as u64, "{bytes:02X?}");
    }
}
