//! `woodrush decode`: raw words in every type and order; or those that give a value that is known.

mod live;

use crate::args::{DecodeArgs, Format, Global};
use crate::console::{Console, Table, Tone};
use crate::{Failure, Verdict};
use live::Given;
use serde::Serialize;
use woodrush_core::decode::{Base, Fit, Reading, Sample, TOLERANCE, agreeing, parse_words, readings};
use woodrush_core::form::{Order, Type, hex_words};

/// Most words of one value and its neighbours.
const WORDS_MAX: usize = 125;
/// Most values of one form that a row shows: the newest.
const VALUES_SHOWN: usize = 4;
/// Most forms that are shown of those that fit; what comes behind is chance.
const SHOWN: usize = 8;

#[derive(Serialize)]
struct ShownReading {
    words: String,
    /// Of the first word, where that is known.
    address: Option<String>,
    form: String,
    #[serde(serialize_with = "woodrush_core::shown::maybe")]
    value: Option<String>,
    plausible: Option<&'static str>,
}

#[derive(Serialize)]
struct ShownFit {
    words: String,
    /// Of the first word, where that is known.
    address: Option<String>,
    form: String,
    values: Vec<f64>,
    off_by: f64,
    /// So many of the samples have that value.
    agrees: usize,
    profile: String,
}

pub(crate) fn run(console: &mut Console, global: &Global, args: &DecodeArgs) -> Result<Verdict, Failure> {
    let base = match (args.hex, args.dec) {
        (true, _) => Some(Base::Hex),
        (_, true) => Some(Base::Decimal),
        _ => None,
    };
    let read = |text: &str| {
        let words = parse_words(text, base)
            .map_err(|fault| Failure::Usage(format!("{} ({})", fault.what, fault.fix)))?;
        if words.len() > WORDS_MAX {
            return Err(Failure::Usage(format!(
                "{} words are more than one request brings (at most {WORDS_MAX})",
                words.len()
            )));
        }
        Ok(words)
    };
    let typed = args.words.join(" ");
    let given = if args.live {
        match live::read(console, global, args)? {
            Some(given) => Some(given),
            None => return Ok(Verdict::Outside),
        }
    } else if let Some(key) = args.way.any() {
        return Err(Failure::Usage(format!("`--{key}` goes with `--live`, which reads the words")));
    } else if typed.trim().is_empty() && !args.sample.is_empty() {
        None
    } else {
        Some(Given { words: read(&typed)?, at: vec![] })
    };
    let mut samples = vec![];
    match (&given, args.expect) {
        (_, Some(value)) if !value.is_finite() => {
            return Err(Failure::Usage("an expected value is a number".into()));
        }
        (Some(given), Some(value)) => samples.extend(match &args.keep {
            Some(path) => live::keep(path, given, value)?,
            None => vec![Sample { words: given.words.clone(), value }],
        }),
        (None, Some(_)) => {
            return Err(Failure::Usage(
                "`--expect` goes with words; a `--sample` brings its own value".into(),
            ));
        }
        (Some(_), None) if !args.sample.is_empty() => {
            return Err(Failure::Usage("the first words have no value: add `--expect VALUE`".into()));
        }
        _ => {}
    }
    for text in &args.sample {
        let fault = || {
            Failure::Usage(format!(
                "`{text}` is not a sample (write it as `WORDS = VALUE`, such as `AE14 418B = 17.46`)"
            ))
        };
        let (words, value) = text.rsplit_once('=').ok_or_else(fault)?;
        let value: f64 = value.trim().parse().map_err(|_| fault())?;
        samples.push(Sample { words: read(words)?, value });
    }
    if samples.iter().any(|sample| !sample.value.is_finite()) {
        return Err(Failure::Usage("an expected value is a number".into()));
    }
    match (samples.is_empty(), given) {
        (true, Some(given)) => every_way(console, &given),
        (_, given) => known(
            console,
            &samples,
            crate::render::share(args.tolerance.as_deref(), TOLERANCE)?,
            &given.map_or_else(Vec::new, |given| given.at),
        ),
    }
}

/// Which words: by the address of the first one, where that is known.
fn place(at: usize, words: usize, of: usize, addresses: &[String]) -> String {
    if let Some(address) = addresses.get(at) {
        return address.clone();
    }
    match (words == of, words) {
        (true, _) => "all".into(),
        (false, 1) => format!("{}", at + 1),
        (false, _) => format!("{}-{}", at + 1, at + words),
    }
}

fn hex(words: &[u16]) -> String {
    hex_words(&words.iter().flat_map(|word| word.to_be_bytes()).collect::<Vec<u8>>())
}

fn every_way(console: &mut Console, Given { words, at }: &Given) -> Result<Verdict, Failure> {
    let mut all = readings(words);
    if console.format != Format::Text {
        // The plausible ones first, otherwise as they come.
        all.sort_by_key(|reading| reading.plausible.is_none());
    }
    let shown = |reading: &Reading| ShownReading {
        words: place(reading.at, reading.words, words.len(), &[]),
        address: at.get(reading.at).cloned(),
        form: reading.form.to_string(),
        value: reading.value.clone(),
        plausible: reading.plausible,
    };
    if console.format == Format::Json {
        let readings: Vec<ShownReading> = all.iter().map(shown).collect();
        console.json(&serde_json::json!({ "format": 1, "words": hex(words), "readings": readings }))?;
        return Ok(Verdict::Yes);
    }
    if console.format == Format::Text {
        let decimal: Vec<String> = words.iter().map(ToString::to_string).collect();
        let head = console.paint(Tone::Accent, &hex(words));
        console.say(&format!("{head}   in decimal {}", decimal.join(" ")))?;
        if let [word] = words.as_slice() {
            let set: Vec<String> =
                (0..16).rev().filter(|bit| word >> bit & 1 == 1).map(|bit| bit.to_string()).collect();
            let set = if set.is_empty() { "none".to_string() } else { set.join(" ") };
            console.say(&format!("bits set: {set} (0 the least significant)"))?;
        }
        console.say("")?;
    }
    if console.format == Format::Csv {
        let rows = all.iter().map(shown).map(|one| {
            vec![
                one.form,
                one.address.unwrap_or(one.words),
                one.value.unwrap_or_default(),
                one.plausible.unwrap_or_default().to_string(),
            ]
        });
        let head = vec!["form", where_head(at), "value", "plausible"];
        console.table(&Table { head, rows: rows.collect(), whole: &[] })?;
        return Ok(Verdict::Yes);
    }
    for width in [1, 2, 4] {
        by_order(console, &all, width, words.len(), at)?;
    }
    for text in all.iter().filter(|one| one.form.ty.is_text() && one.plausible.is_some()) {
        console.say(&format!(
            "{:<10} {} *",
            text.form.to_string(),
            text.value.as_deref().unwrap_or_default()
        ))?;
    }
    console.note("\n* plausible; if you know the value, `--expect VALUE` finds the form.");
    Ok(Verdict::Yes)
}

/// Readings of one width: a row a type, a column an order.
fn by_order(
    console: &mut Console,
    all: &[Reading],
    width: usize,
    of: usize,
    addresses: &[String],
) -> Result<(), Failure> {
    let own: Vec<&Reading> = all.iter().filter(|one| one.words == width && !one.form.ty.is_text()).collect();
    let Some(first) = own.first() else { return Ok(()) };
    let bytes = first.form.ty.bytes().unwrap_or(2);
    let orders: Vec<Order> =
        Order::ALL.into_iter().filter(|order| own.iter().any(|one| one.form.order() == *order)).collect();
    let head = ["type", where_head(addresses)]
        .into_iter()
        .chain(orders.iter().map(|order| order.letters(bytes)))
        .collect();
    let mut rows: Vec<(usize, Type)> = own.iter().map(|one| (one.at, one.form.ty)).collect();
    rows.sort_by_key(|(at, ty)| (*at, !matches!(ty, Type::F32 | Type::F64)));
    rows.dedup();
    let cell = |at: usize, ty: Type, order: Order| {
        let found = own.iter().find(|one| (one.at, one.form.ty, one.form.order()) == (at, ty, order))?;
        let mark = if found.plausible.is_some() { " *" } else { "" };
        let value = found.value.clone().unwrap_or_else(|| "no value".into());
        // Digits beyond these belong to no measurement, and four columns must fit.
        let long = value.len() > 17 && ty == Type::F64;
        let value = value.parse().ok().filter(|_| long).map_or(value, |number: f64| format!("{number:.9e}"));
        Some(format!("{value}{mark}"))
    };
    let mut lines: Vec<Vec<String>> = vec![];
    for (at, ty) in rows {
        let cells = orders.iter().map(|order| cell(at, ty, *order).unwrap_or_default());
        let line: Vec<String> =
            [ty.to_string(), place(at, width, of, addresses)].into_iter().chain(cells).collect();
        let empty = line.iter().skip(2).all(|cell| cell == "no value");
        if !empty && !lines.contains(&line) {
            lines.push(line);
        }
    }
    console.table(&Table { head, rows: lines, whole: &[] })?;
    console.say("")
}

/// The head of the column that says which words.
fn where_head(addresses: &[String]) -> &'static str {
    if addresses.is_empty() { "words" } else { "address" }
}

fn profile_line(fit: &Fit) -> String {
    format!("as = \"{}\"", fit.form)
}

/// The lines to paste, with the address where it is known.
fn profile_lines(fit: &Fit, addresses: &[String]) -> Vec<String> {
    let at = addresses.get(fit.at).map(|at| format!("at = \"{at}\""));
    at.into_iter().chain([profile_line(fit)]).collect()
}

fn known(
    console: &mut Console,
    samples: &[Sample],
    tolerance: f64,
    at: &[String],
) -> Result<Verdict, Failure> {
    let found = agreeing(samples, tolerance);
    let of = samples.first().map_or(0, |sample| sample.words.len());
    let shown = |fit: &Fit| ShownFit {
        words: place(fit.at, fit.words, of, &[]),
        address: at.get(fit.at).cloned(),
        form: fit.form.to_string(),
        values: fit.values.clone(),
        off_by: fit.error,
        agrees: fit.agrees,
        profile: profile_line(fit),
    };
    let verdict = if found.is_empty() { Verdict::No } else { Verdict::Yes };
    if console.format == Format::Json {
        let given: Vec<_> = samples
            .iter()
            .map(|sample| serde_json::json!({ "words": hex(&sample.words), "expected": sample.value }))
            .collect();
        let fits: Vec<ShownFit> = found.iter().map(shown).collect();
        console.json(
            &serde_json::json!({ "format": 1, "samples": given, "tolerance": tolerance, "fits": fits }),
        )?;
        return Ok(verdict);
    }
    if console.format == Format::Text {
        for sample in samples {
            let words = match (at.first(), sample.words.len()) {
                (Some(first), 9..) => format!("{} words from {first}", sample.words.len()),
                _ => hex(&sample.words),
            };
            let head = console.paint(Tone::Accent, &words);
            console.say(&format!("{head}   {} is expected", sample.value))?;
        }
    }
    if found.is_empty() {
        console.complain(&format!(
            "no type, order and power of ten gives {} within {} % (is it the right register, one beside, or has the value moved? `--tolerance 5%` allows more)",
            if samples.len() == 1 { "that" } else { "all of that" },
            percent(tolerance)
        ));
        return Ok(verdict);
    }
    let row = |fit: &Fit| {
        let one = shown(fit);
        let values: Vec<String> = one.values.iter().map(|value| short(*value)).collect();
        let values = if values.len() > VALUES_SHOWN {
            format!("… {}", values.get(values.len() - VALUES_SHOWN..).unwrap_or_default().join("  "))
        } else {
            values.join("  ")
        };
        let mut row =
            vec![one.form, one.address.unwrap_or(one.words), values, format!("{} %", percent(one.off_by))];
        if samples.len() > 1 {
            row.push(format!("{} of {}", one.agrees, samples.len()));
        }
        row
    };
    let mut head = vec!["form, the likeliest first", where_head(at), "value", "off by"];
    if samples.len() > 1 {
        head.push("agree");
    }
    if console.format == Format::Csv {
        let rows = found.iter().map(row).collect();
        if let Some(first) = head.first_mut() {
            *first = "form";
        }
        console.table(&Table { head, rows, whole: &[] })?;
        return Ok(verdict);
    }
    console.say("")?;
    let rows: Vec<Vec<String>> = found.iter().take(SHOWN).map(row).collect();
    console.table(&Table { head, rows, whole: &[0] })?;
    if found.len() > SHOWN {
        console.note(&format!("and {} less likely ones", found.len() - SHOWN));
    }
    if let Some(best) = found.first() {
        console.say("\nfor the profile:")?;
        for line in profile_lines(best, at) {
            let line = console.paint(Tone::Good, &line);
            console.say(&format!("  {line}"))?;
        }
    }
    doubts(console, samples, &found, !at.is_empty());
    Ok(verdict)
}

/// What one should not yet believe.
fn doubts(console: &mut Console, samples: &[Sample], found: &[Fit], live: bool) {
    let certain = |fit: &Fit| fit.is_plain() && fit.words > 1;
    if found.first().is_some_and(|fit| fit.agrees < samples.len()) {
        console.note("\nNo form gives all of the looks: one of them was taken while the value moved, or was read off wrongly.");
    } else if samples.iter().all(|sample| sample.value == 0.0) {
        console.note("\n0 is 0 in nearly every form: look at a value that is not 0.");
    } else if samples.len() == 1 && found.len() > 1 && !found.first().is_some_and(certain) {
        console.note(match live {
            true => "\nOne look fits several forms: look again once the value has moved, with `--keep FILE` both times.",
            false => "\nOne sample fits several forms: add another once the value has moved, `--sample \"WORDS = VALUE\"`.",
        });
    } else if found.first().is_some_and(|fit| fit.form.plus.mantissa != 0) && samples.len() == 2 {
        console.note("\nA line goes through any two points: a third sample makes sure of the offset.");
    }
}

fn percent(share: f64) -> String {
    let percent = share * 100.0;
    if percent == 0.0 || percent >= 0.005 { trimmed(format!("{percent:.2}")) } else { "<0.01".into() }
}

fn trimmed(text: String) -> String {
    if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.').to_string() } else { text }
}

/// A value as a person reads it: not more digits than words can mean.
fn short(value: f64) -> String {
    if value != 0.0 && !(1e-4..1e9).contains(&value.abs()) {
        return format!("{value:.5e}");
    }
    let digits =
        6i32.saturating_sub(if value == 0.0 { 0 } else { value.abs().log10().floor() as i32 }).clamp(0, 9);
    trimmed(format!("{value:.*}", usize::try_from(digits).unwrap_or(0)))
}
