//! `check` on a generated project of 100,000 `[[map]]` of one point: at most 2 times what `toml::from_str` into plain
//! structs takes for the same file, in CPU time of interleaved rounds; growth from 10,000 linear, in
//! allocations, and nearly so in time for rules that clients write through; names as many as registers: at most 3
//! times the work.
#![allow(missing_docs, clippy::unwrap_used, clippy::disallowed_methods, dead_code)]

use serde::Deserialize;
use std::collections::BTreeMap;
use std::hint::black_box;
use std::time::Instant;
use woodrush_benches::counting::{Counting, allocations};
use woodrush_benches::names::{check_names, names_site};
use woodrush_benches::{Limits, large_site, large_site_of_writes, median, tags_site};
use woodrush_core::check::check;
use woodrush_core::project::read;

#[global_allocator]
static ALLOCATOR: Counting = Counting;

#[derive(Deserialize)]
struct Plain {
    map: Vec<Map>,
    devices: BTreeMap<String, BTreeMap<String, toml::Value>>,
    ports: BTreeMap<String, BTreeMap<String, toml::Value>>,
    images: BTreeMap<String, BTreeMap<String, toml::Value>>,
}

#[derive(Deserialize)]
struct Map {
    from: String,
    to: String,
}

fn whole_check(text: &str) {
    let checked = check(read("large.toml", text.to_string(), &mut |_| Err(String::new())));
    assert!(!checked.has_errors());
    black_box(checked);
}

fn plain(text: &str) {
    black_box(toml::from_str::<Plain>(text).unwrap());
}

fn seconds(work: impl FnOnce()) -> f64 {
    let begun = Instant::now();
    work();
    begun.elapsed().as_secs_f64()
}

fn allocations_of(text: &str) -> f64 {
    let before = allocations();
    whole_check(text);
    (allocations() - before) as f64
}

fn main() {
    let (large, small) = (large_site(100_000), large_site(10_000));
    let (mut ratios, mut control) = (vec![], vec![]);
    for _ in 0..15 {
        let (own, reference, again) =
            (seconds(|| whole_check(&large)), seconds(|| plain(&large)), seconds(|| plain(&large)));
        ratios.push(own / reference);
        control.push(again / reference);
    }
    let mut limits = Limits::default();
    limits.at_most("check of 100,000 rules against toml::from_str", median(&mut ratios), 2.0, "times");
    println!("       toml::from_str against itself: {:.2} times", median(&mut control));
    limits.at_most(
        "growth of allocations from 10,000 to 100,000 rules",
        allocations_of(&large) / allocations_of(&small),
        10.5,
        "times",
    );
    // The rules that take the longest way through the checks: rings, entries and sends.
    let (large, small) = (large_site_of_writes(100_000), large_site_of_writes(10_000));
    let round = |_| seconds(|| whole_check(&large)) / seconds(|| whole_check(&small));
    let mut growth: Vec<f64> = (0..7).map(round).collect();
    limits.at_most(
        "growth of the time from 10,000 to 100,000 rules that clients write through",
        median(&mut growth),
        16.0,
        "times",
    );
    // Names instead of tables: as many spaces as rules.
    let (large, small, registers) = (names_site(100_000), names_site(10_000), large_site(100_000));
    let names = |text: &str| drop(black_box(check_names(text)));
    let round = |_| seconds(|| names(&large)) / seconds(|| whole_check(&registers));
    let mut ratios: Vec<f64> = (0..7).map(round).collect();
    limits.at_most("check of 100,000 names against 100,000 registers", median(&mut ratios), 3.0, "times");
    // Tags: their paths are read, and a message has as many of them as it carries.
    let tags = tags_site(100_000);
    let round = |_| seconds(|| whole_check(&tags)) / seconds(|| whole_check(&registers));
    let mut ratios: Vec<f64> = (0..7).map(round).collect();
    limits.at_most(
        "check of 100,000 rules of tags against 100,000 registers",
        median(&mut ratios),
        2.0,
        "times",
    );
    let counted = |text: &str| {
        let before = allocations();
        names(text);
        (allocations() - before) as f64
    };
    limits.at_most(
        "growth of allocations from 10,000 to 100,000 names",
        counted(&large) / counted(&small),
        10.5,
        "times",
    );
    limits.end();
}
