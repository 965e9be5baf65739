//! Looks at both ends of rules: what a device says, what a reader of the image sees, and the verdict on it.

use super::{LiveValue, Subject, cells, now};
use crate::connections::{Connections, Failed};
use crate::console::Console;
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use std::collections::BTreeSet;
use std::time::{Duration, Instant};
use woodrush_core::form::hex_words;
use woodrush_core::wanted::Wanted;
use woodrush_engine::prove::Judged;
use woodrush_engine::stop::Stop;

/// How often a value is looked at before it is called wrong.
const ATTEMPTS: u32 = 6;
/// The longest wait for a poll, in microseconds: what is polled less often is judged by what stands there.
const LONGEST_WAIT: u64 = 10_000_000;
/// How soon Ctrl-C is noticed.
const SLICE: Duration = Duration::from_millis(50);

/// What one look at a rule brought.
struct ThreeReads {
    before: Vec<u8>,
    seen: Result<Vec<u8>, Failed>,
    after: Vec<u8>,
    /// How old the value was at least when the image was read, in seconds; `None` if the converter does not say.
    age: Option<f64>,
}

/// Looks at these rules at once: at the devices, at the images once whatever they show was polled after that, and at the
/// devices again. So what a reader sees lies between the two looks, however fast a value moves one way.
fn at_once(
    connections: &mut Connections,
    subjects: &[&Subject],
    wait: Duration,
    stop: &Stop,
) -> Vec<Result<ThreeReads, Failed>> {
    let before: Vec<Result<Vec<u8>, Failed>> =
        subjects.iter().map(|subject| cells(connections, &subject.device)).collect();
    until_polled(connections, subjects, wait, stop);
    let young = ages(connections, subjects);
    let seen: Vec<Result<Vec<u8>, Failed>> =
        subjects.iter().map(|subject| cells(connections, &subject.image)).collect();
    // Either may be too much: the one where a poll came between, the other where this machine stood still.
    let ages = young.into_iter().zip(ages(connections, subjects)).map(|(young, old)| match (young, old) {
        (Some(young), Some(old)) => Some(old.min(young)),
        (young, old) => old.or(young),
    });
    let ages: Vec<Option<f64>> = ages.collect();
    let ends = before.into_iter().zip(seen).zip(ages).zip(subjects);
    ends.map(|(((before, seen), age), subject)| {
        let before = before?;
        let after = cells(connections, &subject.device)?;
        Ok(ThreeReads { before, seen, after, age })
    })
    .collect()
}

/// How old each value is that the converter shows of these rules, in seconds.
fn ages(connections: &Connections, subjects: &[&Subject]) -> Vec<Option<f64>> {
    let status = connections.status();
    let age = |subject: &&Subject| crate::commands::read::age(connections, status.as_ref(), &subject.image);
    subjects.iter().map(age).collect()
}

/// Waits so long, and on for whatever the converter then still shows of before, while it counts as fresh.
fn until_polled(connections: &Connections, subjects: &[&Subject], wait: Duration, stop: &Stop) {
    #[allow(clippy::disallowed_methods, reason = "a command that keeps time for a person")]
    let began = Instant::now();
    pause(wait, stop);
    while !stop.is_asked() && began.elapsed() < wait + Duration::from_micros(LONGEST_WAIT) {
        let ages = ages(connections, subjects);
        let since = began.elapsed().as_secs_f64();
        let is_of_before = |(subject, age): (&&Subject, Option<f64>)| {
            age.is_some_and(|age| age > since && age <= subject.max_age)
        };
        if !subjects.iter().zip(ages).any(is_of_before) {
            return;
        }
        pause(SLICE, stop);
    }
}

fn pause(wait: Duration, stop: &Stop) {
    for _ in 0..wait.as_millis() / SLICE.as_millis() {
        if stop.is_asked() {
            return;
        }
        crate::commands::rig::nap(SLICE);
    }
}

/// A value with the subject and item that it belongs to.
pub(super) type Numbered = (usize, u32, LiveValue);

pub(super) fn look(
    console: &Console,
    connections: &mut Connections,
    subjects: &[Subject],
    looks: u32,
    every: u64,
    tolerance: f64,
    stop: &Stop,
) -> Vec<Numbered> {
    let mut values: Vec<Numbered> = vec![];
    for (at, subject) in subjects.iter().enumerate() {
        values.extend((0..subject.pair.count).map(|item| (at, item, blank(connections, subject, item))));
    }
    let bar = ProgressBar::with_draw_target(
        Some(u64::from(looks)),
        if console.is_watched() { ProgressDrawTarget::stderr() } else { ProgressDrawTarget::hidden() },
    );
    if let Ok(style) = ProgressStyle::with_template("  {msg:28} {bar:30} {pos}/{len}") {
        bar.set_style(style);
    }
    bar.set_message("devices and images");
    bar.tick();
    let slowest = subjects.iter().map(|subject| subject.every).max().unwrap_or(0);
    let wait = Duration::from_micros(slowest.min(LONGEST_WAIT)) + Duration::from_millis(300);
    // A device that did not answer in a whole look is asked once in each that follows: a dead device costs its timeouts.
    let mut silent: BTreeSet<usize> = BTreeSet::new();
    for round in 0..looks {
        if round > 0 {
            pause(Duration::from_micros(every), stop);
        }
        // What turns round or jumps between two looks, and an answer that noise took, is looked at again before it is
        // called wrong.
        let mut left: Vec<(usize, u32)> = values.iter().map(|(at, item, _)| (*at, *item)).collect();
        for attempt in 1..=ATTEMPTS {
            if stop.is_asked() || left.is_empty() {
                break;
            }
            let mut which: Vec<usize> = left.iter().map(|(at, _)| *at).collect();
            which.dedup();
            let these: Vec<&Subject> = which.iter().filter_map(|at| subjects.get(*at)).collect();
            let found = at_once(connections, &these, wait, stop);
            for ((at, subject), look) in which.iter().zip(these).zip(found) {
                let is_last = attempt == ATTEMPTS || silent.contains(at);
                match look.is_ok() {
                    true => silent.remove(at),
                    false => is_last && silent.insert(*at),
                };
                let good =
                    |item: u32| look.as_ref().is_ok_and(|look| judged(subject, item, look, tolerance).1);
                for (own, item, value) in values.iter_mut().filter(|(own, ..)| own == at) {
                    if left.contains(&(*own, *item)) && (is_last || good(*item)) {
                        take(value, subject, *item, &look, tolerance);
                        left.retain(|one| one != &(*own, *item));
                    }
                }
            }
        }
        bar.inc(1);
    }
    bar.finish_and_clear();
    values
}

fn blank(connections: &Connections, subject: &Subject, item: u32) -> LiveValue {
    let map = connections.checked().and_then(|checked| checked.project.maps.get(subject.pair.map));
    let name = map.and_then(|map| map.name.as_ref()).map(|name| name.value.clone());
    let many = subject.pair.count > 1;
    let rule = name.unwrap_or_else(|| (subject.pair.map + 1).to_string());
    LiveValue {
        rule: if many { format!("{rule} [{}]", item + 1) } else { rule },
        from: subject.device.written.clone(),
        to: subject.image.written.clone(),
        device_address: subject.device.address(item).canonical,
        image_address: subject.image.address(item).canonical,
        eu: subject.device.eu.clone(),
        device_before: None,
        device: None,
        device_raw: String::new(),
        image: None,
        image_raw: String::new(),
        age_s: None,
        at: String::new(),
        samples: 0,
        moved: false,
        verdict: "no_answer",
        good: false,
        why: Some("it was not sampled".into()),
        written: None,
    }
}

/// The verdict on one value, whether it is good, and why not.
fn judged(
    subject: &Subject,
    item: u32,
    look: &ThreeReads,
    tolerance: f64,
) -> (&'static str, bool, Option<String>) {
    let pair = &subject.pair;
    let (before, after) = (pair.of_device(&look.before, item), pair.of_device(&look.after, item));
    let has_value = pair.has_value(before) || pair.has_value(after);
    match &look.seen {
        Err(failed) if failed.answered && !has_value => {
            ("refused", true, Some("the device says \"no value\", and the reader is refused".into()))
        }
        Err(failed) => ("refused", false, Some(failed.diagnosis.seen.clone())),
        Ok(_) if look.age.is_some_and(|age| age > subject.max_age) => {
            ("stale", false, Some(format!("it is served although it is older than {:.1} s", subject.max_age)))
        }
        Ok(seen) => match pair.judge(before, pair.of_image(seen, item), after, tolerance) {
            Judged::Same => ("same", true, None),
            Judged::Within => ("within", true, None),
            Judged::NoValue => {
                ("differs", false, Some("the device says \"no value\", and the reader gets one".into()))
            }
            Judged::Differs(hint) => ("differs", false, Some(hint.unwrap_or_else(|| "another value".into()))),
        },
    }
}

fn take(
    value: &mut LiveValue,
    subject: &Subject,
    item: u32,
    look: &Result<ThreeReads, Failed>,
    tolerance: f64,
) {
    value.at = now();
    let look = match look {
        Ok(look) => look,
        Err(failed) => {
            (value.verdict, value.good, value.why) =
                ("no_answer", false, Some(format!("the device itself: {}", failed.diagnosis.seen)));
            return;
        }
    };
    let shown = |wanted: &Wanted, cells: &[u8]| {
        wanted.values(cells).into_iter().nth(item as usize).and_then(|shown| shown.value)
    };
    let raw = hex_words(subject.pair.of_device(&look.after, item));
    value.moved |= value.samples > 0 && raw != value.device_raw || look.before != look.after;
    value.device_before = shown(&subject.device, &look.before);
    value.device = shown(&subject.device, &look.after);
    value.device_raw = raw;
    if let Ok(seen) = &look.seen {
        value.image = shown(&subject.image, seen);
        value.image_raw = hex_words(subject.pair.of_image(seen, item));
    }
    let first = value.samples == 0;
    value.samples += 1;
    value.age_s = look.age;
    let (verdict, good, why) = judged(subject, item, look, tolerance);
    // One bad look of several is a bad value.
    if first || value.good {
        (value.verdict, value.good, value.why) = (verdict, good, why);
    }
}
