//! Papers of large sites: a list of 10,000 rows held against 10,000 rules adds at most 0.5 times the check without it; a
//! register list of 5,000 rows is imported within a second; addresses are given out to 10,000 values in a time that
//! grows like their number; `handover` of 10,000 values takes at most 2 s, and 64 MiB more than `map`.
#![allow(missing_docs, clippy::unwrap_used, clippy::disallowed_methods)]

use std::fmt::Write;
use std::hint::black_box;
use std::time::{Duration, Instant};
use woodrush_benches::programs::Site;
use woodrush_benches::{Limits, median};
use woodrush_core::assign::assign;
use woodrush_core::check::{Checked, check};
use woodrush_core::import::{ImportOptions, import};
use woodrush_core::ledger::Ledger;
use woodrush_core::project::read;

const HEAD: &str = r#"
[ports.bus]
serial = "/dev/ttyUSB0"
line = "115200 8E1"
protocol = "modbus-rtu"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.meter]
port = "bus"
unit = 1
poll = "60s"
[images.scada]
port = "office"
[areas.values]
image = "scada"
range = "300001-365536"
"#;

fn seconds(work: impl FnOnce()) -> f64 {
    let begun = Instant::now();
    work();
    begun.elapsed().as_secs_f64()
}

fn site(rules: usize, to: impl Fn(usize) -> String) -> String {
    let mut text = String::from(HEAD);
    for at in 0..rules {
        let _ = write!(text, "[[map]]\nfrom = \"meter:holding:{at} as u16\"\nto = \"scada:{}\"\n", to(at));
    }
    text
}

fn whole(text: &str, list: &str) -> Checked {
    check(read("large.toml", text.to_string(), &mut |path| match path {
        "list.csv" => Ok(list.to_string()),
        _ => Err(String::new()),
    }))
}

fn main() {
    let mut limits = Limits::default();
    // The same site, with and without its client's list.
    let plain = site(10_000, |at| format!("holding:{at} as u16"));
    let listed =
        format!("{plain}[clients.room]\nimage = \"scada\"\nnotation = \"offset\"\nlist = \"list.csv\"\n");
    let mut list = String::from("Address;Tag;Type;Scale;Access;Poll;Source\n");
    for at in 0..10_000 {
        let _ = writeln!(list, "{at};V{at};UINT;1;R;60s;meter:holding:{at}");
    }
    let checked = whole(&listed, &list);
    assert_eq!(checked.project.clients[0].reads.len(), 10_000);
    assert!(!checked.has_errors(), "{:?}", checked.findings.first());
    let round = |_| {
        let without = seconds(|| drop(black_box(whole(&plain, ""))));
        seconds(|| drop(black_box(whole(&listed, &list)))) / without
    };
    let mut ratios: Vec<f64> = (0..9).map(round).collect();
    limits.at_most(
        "check with a list of 10,000 rows against the check without it",
        median(&mut ratios),
        1.5,
        "times",
    );

    let mut table = String::from("Register;Name;Type;Factor;Unit;Access;States\n");
    for at in 0..5_000 {
        let _ = writeln!(table, "{};Value {at};INT16;0,1;kW;R/W;0=off 1=on", 40_001 + at);
    }
    let mut took: Vec<f64> = (0..5)
        .map(|_| {
            seconds(|| {
                let found = import(table.as_bytes(), &ImportOptions::default()).unwrap();
                assert_eq!(found.points.len(), 5_000);
            })
        })
        .collect();
    limits.at_most("import of 5,000 rows", median(&mut took), 1.0, "s");

    // Twice as much for one, since what is measured is short.
    let given = |rules: usize| {
        let checked = whole(&site(rules, |_| "@values".into()), "");
        move || assert_eq!(assign(&checked, &Ledger::default(), false).given.len(), rules)
    };
    let (many, few) = (given(10_000), given(1_000));
    let round = |_| seconds(&many) / seconds(&few);
    let mut growth: Vec<f64> = (0..9).map(round).collect();
    limits.at_most(
        "growth of giving out addresses from 1,000 to 10,000 values",
        median(&mut growth),
        16.0,
        "times",
    );
    handover(&mut limits);
    limits.end();
}

/// The papers of 10,000 values with the built program: how long it takes, and its memory against that of `map`.
fn handover(limits: &mut Limits) {
    let site = Site::new(
        &[&site(10_000, |at| format!("holding:{at} as u16")), "[clients.room]\nimage = \"scada\"\n"].concat(),
    );
    let peak = |args: &[&str]| {
        let mut running = site.begin(args);
        let (mut most, status) = (0.0f64, format!("/proc/{}/status", running.0.id()));
        loop {
            // The kernel keeps the highest of them itself; the last look is the one that counts.
            let text = std::fs::read_to_string(&status).unwrap_or_default();
            let line = text.lines().find_map(|line| line.strip_prefix("VmHWM:"));
            let kilobytes = line.and_then(|line| line.split_whitespace().next()?.parse::<f64>().ok());
            most = most.max(kilobytes.unwrap_or(0.0) / 1024.0);
            if let Some(ended) = running.0.try_wait().unwrap() {
                assert!(ended.success(), "{args:?}");
                return most;
            }
            std::thread::sleep(Duration::from_millis(1));
        }
    };
    let mut took: Vec<f64> = vec![];
    let mut more: Vec<f64> = vec![];
    for _ in 0..5 {
        let map = peak(&["map"]);
        let begun = Instant::now();
        let own = peak(&["handover", "papers", "--issue", "first"]);
        took.push(begun.elapsed().as_secs_f64());
        more.push(own - map);
    }
    limits.at_most("handover of 10,000 values", median(&mut took), 2.0, "s");
    limits.at_most("memory of handover above that of map", median(&mut more), 64.0, "MiB");
}
