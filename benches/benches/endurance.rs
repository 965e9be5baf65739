//! Hours of virtual faults over every protocol and kind of rule, a hundred unless told otherwise: no wrong value, none
//! older than it may be, no write lost without an error, nothing sent from a lost source, and memory that stays as it is.
//! More of it, and other chance, by `cargo bench -p woodrush-benches --bench endurance -- HOURS SEED`.
#![allow(missing_docs, clippy::unwrap_used)]

use woodrush_benches::Limits;
use woodrush_benches::endurance::{Endurance, site};

const HOURS: u64 = 100;
const SEED: u64 = 20_261_129;

fn resident() -> f64 {
    let text = std::fs::read_to_string("/proc/self/statm").unwrap();
    let pages: f64 = text.split_whitespace().nth(1).unwrap().parse().unwrap();
    pages * 4096.0 / 1024.0 / 1024.0
}

fn main() {
    let mut given = std::env::args().skip(1).filter_map(|word| word.parse::<u64>().ok());
    let (hours, seed) = (given.next().unwrap_or(HOURS).max(11), given.next().unwrap_or(SEED));
    let checked = site::checked();
    let mut run = Endurance::new(&checked, seed);
    let mut early = 0.0;
    for hour in 0..hours {
        run.run(3600);
        if hour == 9 {
            early = resident();
        }
    }
    let grown = resident() - early;
    println!("{hours} h from seed {seed}: {:?}", run.seen);
    let mut limits = Limits::default();
    for (what, count) in run.seen.bad() {
        limits.at_most(what, count as f64, 0.0, "");
    }
    limits.at_most("growth of memory from hour 10 on", grown, 1.0, " MiB");
    limits.end();
}
