//! What must hold for any text whatever: run over seeds by the unit tests and without end by `fuzz/`.
#![allow(clippy::panic, clippy::missing_panics_doc, reason = "a broken promise must stop the run")]

use crate::check::check;
use crate::form::{Form, Order};
use crate::import::{ImportOptions, import, profile_text};
use crate::ledger::Ledger;
use crate::plan::demands;
use crate::project::{Fault, Signal, micros, read};
use crate::protocol::{AddressContext, DIALECTS};
use crate::trace::trace;
use crate::{Span, Spanned};

/// A project whose rules use a profile, which is the fuzzed text.
const AROUND: &str = r#"
[ports.bus]
serial = "/dev/ttyUSB0"
line = "19200 8E1"
protocol = "modbus-rtu"
[ports.o]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
[devices.d]
port = "bus"
unit = 1
profile = "p.toml"
[images.i]
port = "o"
[[map]]
from = "d.p"
to = "i:400001"
[[map]]
from = "d.p-2"
to = "i:400101 as f32"
access = "read-write"
"#;

/// A project is read, checked and planned whatever it says, and every finding has its place and its words.
pub fn project(text: &[u8]) {
    let text = String::from_utf8_lossy(text).into_owned();
    let profile = text.clone();
    whole(text, &profile);
}

/// The same of a profile.
pub fn profile(text: &[u8]) {
    whole(AROUND.to_string(), &String::from_utf8_lossy(text));
}

/// A register list is read whatever it says: each row is a point, a note, open, or told; and what is written of it is read
/// back, point by point.
pub fn list(bytes: &[u8]) {
    if bytes.len() > 20_000 {
        return;
    }
    let options = [
        ImportOptions::default(),
        ImportOptions { counts_from: Some(1), order: Some(Order::HIGH_FIRST), ..ImportOptions::default() },
    ];
    for options in options {
        let Ok(found) = import(bytes, &options) else { return };
        let text = profile_text(&found, "list.csv");
        assert!(!text.contains(|letter: char| letter.is_control() && letter != '\n'));
        let mut load = |path: &str| if path == "p.toml" { Ok(text.clone()) } else { Err(String::new()) };
        let checked = check(read("project.toml", AROUND.to_string(), &mut load));
        let wanted: usize =
            found.points.iter().map(|point| point.repeat.map_or(1, |(count, _)| count as usize)).sum();
        let known = checked.project.profile_of(0).map_or(0, |profile| profile.points.len());
        assert!(known == wanted, "{known} points of {wanted}:\n{text}");
    }
}

/// A ledger is read or refused whole; what is read is written as it was understood.
pub fn ledger(bytes: &[u8]) {
    let Ok(found) = Ledger::read(&String::from_utf8_lossy(bytes), 0) else { return };
    let text = found.text();
    let again = Ledger::read(&text, 0).map(|again| again.text());
    assert!(again.is_ok_and(|again| again == text), "{text}");
}

fn whole(text: String, profile: &str) {
    // What is large takes its time, and has benchmarks.
    if text.len() > 20_000 || profile.len() > 20_000 {
        return;
    }
    let checked = check(read("project.toml", text, &mut |path| {
        if path.ends_with(".ledger") { Err(String::new()) } else { Ok(profile.to_string()) }
    }));
    for finding in &checked.findings {
        let position = checked.project.sources.position(finding.span);
        assert!(position.line > 0 && position.column > 0 && !finding.what.is_empty());
        assert!(finding.count > 0);
    }
    if checked.has_errors() || checked.plan.rules.iter().map(|rule| rule.target.count).sum::<u32>() > 500 {
        return;
    }
    let _ = demands(&checked.project, &checked.plan);
    for map in checked.project.maps.iter().take(20) {
        if let Ok(end) = checked.project.endpoint(&map.to) {
            let _ = trace(&checked, &end);
        }
    }
}

/// An address that is understood is shown so that it is understood again, in every notation.
pub fn address(text: &[u8]) {
    let text = String::from_utf8_lossy(text);
    for dialect in DIALECTS {
        for (_, setup) in dialect.notation().readings() {
            let context = AddressContext::of_device(&setup);
            let Ok(address) = dialect.notation().parse(&text, &context) else { continue };
            let shown = dialect.notation().show(&address.space, address.first, 0, address.bit, &setup);
            let again = dialect.notation().parse(&shown.canonical, &context);
            assert!(
                again.as_ref().is_ok_and(|again| (&again.space.key, again.first, again.bit)
                    == (&address.space.key, address.first, address.bit)),
                "{} reads {text:?} and shows {}: {again:?}",
                dialect.name(),
                shown.canonical
            );
            let _ = dialect.notation().notations(&address.space, address.first, address.bit, &setup);
        }
    }
}

/// What is typed as a form, a signal, a fault or a time: a form that is understood is shown as itself.
pub fn typed(text: &[u8]) {
    let text = String::from_utf8_lossy(text);
    if let Ok(form) = Form::parse(&text) {
        assert_eq!(Form::parse(&form.to_string()), Ok(form), "{text:?}");
    }
    let _ = (Signal::parse(&text), micros(&text));
    let (kind, rest) = text.split_once(' ').unwrap_or((&text, ""));
    let _ = Fault::parse(kind, rest);
    let checked = check(read("around.toml", AROUND.to_string(), &mut |_| Err(String::new())));
    let _ = checked.project.endpoint(&Spanned { value: text.to_string(), span: Span::default() });
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const SEEDS: [&str; 8] = [
        AROUND,
        "[points.p]\nat = \"400001\"\nas = \"f32 CDAB\"\nrepeat = 3\nstride = 4\nrange = [0, 1]\n",
        "repeat = \"1-3\"\nshift = \"16*(n-1)\"\n[rig]\n[[rig.faults]]\nat = \"1s\"\ncut = \"bus\"\n",
        "I:017/12 as i16 scale 0.01 plus -40 %DB10.X20.3 T4:0.ACC N7:10 holding:0x13D",
        "# l\n[areas.values]\n\"do-1.oxygen\" = \"300001 x2\"\na-b = \"400001.3\"\n[retired.v]\n\"x\\\"y\" = \"1\"\n",
        "Address,Hex,Name,Type,Length,Factor,Unit,Access,Values\n16,0x10,A b,UINT32 (LSW first),2,0.1,kW,R/W,0=off 1=on\n",
        "Register;Signal;Range;FC\n40001-40008;\"x\";-5..40;3/6\n400110.0..15;bit 3 = high;;\n4x7;c;0 to 9;\n;note;;\n",
        "[clients.c]\nimage = \"i\"\nreads = [\"400001 as f32 CDAB x2 every 1s\"]\n[[forward]]\nfrom = \"o\"\n",
    ];

    fn spoilt() -> impl Strategy<Value = Vec<u8>> {
        let seed = prop::sample::select(SEEDS.to_vec());
        let change = (any::<prop::sample::Index>(), any::<u8>(), 0..3u8);
        (seed, prop::collection::vec(change, 0..6)).prop_map(|(seed, changes)| {
            let mut text = seed.as_bytes().to_vec();
            for (at, byte, how) in changes {
                let at = at.index(text.len().max(1)).min(text.len().saturating_sub(1));
                match how {
                    0 if !text.is_empty() => text[at] = byte & 0x7F,
                    1 => text.insert(at, byte & 0x7F),
                    _ if !text.is_empty() => drop(text.remove(at)),
                    _ => {}
                }
            }
            text
        })
    }

    proptest! {
        #[test]
        fn no_text_stops_it(text in spoilt(), from in any::<prop::sample::Index>(), len in 0..24usize) {
            project(&text);
            profile(&text);
            let from = from.index(text.len().max(1)).min(text.len());
            let part = &text[from..(from + len).min(text.len())];
            address(part);
            typed(part);
            list(&text);
            ledger(&text);
        }
    }
}
