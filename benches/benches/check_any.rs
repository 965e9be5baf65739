//! `check` of any file of 1 MB: at most 2 s of CPU time and 256 MB of heap, and at most 6 times what a quarter of it
//! takes (linear is 4), for every kind of entry that a file can repeat.
#![allow(missing_docs, clippy::disallowed_methods)]

use std::hint::black_box;
use std::time::Instant;
use woodrush_benches::counting::{Counting, held, peak_of};
use woodrush_benches::shapes::{SHAPES, shaped};
use woodrush_benches::{Limits, median};
use woodrush_core::check::check;
use woodrush_core::project::read;

#[global_allocator]
static ALLOCATOR: Counting = Counting;

fn checked(text: &str) -> f64 {
    let begun = Instant::now();
    black_box(check(read("shape.toml", text.to_string(), &mut |_| Err(String::new()))));
    begun.elapsed().as_secs_f64()
}

fn main() {
    let mut limits = Limits::default();
    let only = std::env::args().skip(1).find(|given| !given.starts_with('-'));
    for (name, entry) in SHAPES {
        if only.as_ref().is_some_and(|only| !name.contains(only.as_str())) {
            continue;
        }
        let (large, small) = (shaped(*entry, 1_000_000), shaped(*entry, 250_000));
        let before = held();
        let peak = peak_of(|| {
            checked(&large);
        })
        .saturating_sub(before);
        let (mut times, mut growth) = (vec![], vec![]);
        for _ in 0..3 {
            let (whole, part) = (checked(&large), checked(&small));
            times.push(whole);
            // Below a fifth of a second it is the machine that is measured.
            growth.push(if whole < 0.2 { 4.0 } else { whole / part });
        }
        limits.at_most(&format!("{name}: time"), median(&mut times), 2.0, "s");
        limits.at_most(&format!("{name}: growth from a quarter"), median(&mut growth), 6.0, "times");
        limits.at_most(&format!("{name}: heap"), peak as f64 / 1e6, 256.0, "MB");
    }
    limits.end();
}
