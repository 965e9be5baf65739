//! States of a site against each other, without files.

use super::*;
use crate::ledger::IssuedValue;

fn site(values: &[(&str, &str, &str)], devices: &[(&str, &str)]) -> KnownSite {
    let known = |(at, source, form): &(&str, &str, &str)| {
        let issued = IssuedValue {
            source: (*source).into(),
            form: (*form).into(),
            eu: "m".into(),
            access: "R".into(),
            span: Span::default(),
        };
        ((*at).to_string(), KnownValue { issued, map: None, every: None, on_loss: None })
    };
    let settings = |(name, unit): &(&str, &str)| {
        let items =
            vec![("line".to_string(), "9600 8N1".to_string()), ("unit".to_string(), (*unit).to_string())];
        ((*name).to_string(), EndSettings { items, span: Span::default() })
    };
    KnownSite {
        values: values.iter().map(known).collect(),
        devices: devices.iter().map(settings).collect(),
        images: BTreeMap::new(),
    }
}

fn told(old: &KnownSite, new: &KnownSite) -> Vec<String> {
    let comparison = Comparison::of(old, new);
    let at = |at: &Option<String>| at.clone().unwrap_or_default();
    let value = |own: &ValueChange| {
        let differs: Vec<String> =
            own.differs.iter().map(|own| format!("{} {}>{}", own.what, own.was, own.is)).collect();
        format!("{:?} {} {}>{} {}", own.kind, own.source, at(&own.was_at), at(&own.is_at), differs.join(","))
    };
    let end = |own: &EndChange| {
        let differs: Vec<String> =
            own.differs.iter().map(|own| format!("{} {}>{}", own.what, own.was, own.is)).collect();
        format!("{}: {}", own.name, differs.join(","))
    };
    comparison.values.iter().map(value).chain(comparison.devices.iter().map(end)).collect()
}

#[test]
fn values_that_all_move_by_one_place_are_each_moved() {
    let old = site(&[("s:1", "a.x", "u16"), ("s:2", "a.y", "u16"), ("s:3", "a.z", "u16")], &[]);
    let new = site(&[("s:2", "a.x", "u16"), ("s:3", "a.y", "u16"), ("s:4", "a.z", "u16")], &[]);
    assert_eq!(told(&old, &new), ["Moved a.x s:1>s:2 ", "Moved a.y s:2>s:3 ", "Moved a.z s:3>s:4 "],);
    let taken = Comparison::of(&old, &new);
    assert_eq!(taken.values[1].taken_by.as_deref(), Some("a.x | u16 | m | R"));
    // Exchanged ones too.
    let crossed = site(&[("s:1", "a.y", "u16"), ("s:2", "a.x", "u16"), ("s:3", "a.z", "u16")], &[]);
    assert_eq!(told(&old, &crossed), ["Moved a.x s:1>s:2 ", "Moved a.y s:2>s:1 "]);
}

#[test]
fn a_value_that_is_shown_twice_has_not_moved_and_one_of_two_that_goes_is_gone() {
    let old = site(&[("s:1", "a.x", "u16"), ("s:2", "a.x", "u16")], &[]);
    let new = site(&[("s:1", "a.x", "u16")], &[]);
    assert_eq!(told(&old, &new), ["Gone a.x s:2> "]);
    assert_eq!(told(&new, &old), ["New a.x >s:2 "]);
    // What clients write is known by its address only.
    let old = site(&[("s:1", WRITTEN_BY_CLIENTS, "u16")], &[]);
    let new = site(&[("s:9", WRITTEN_BY_CLIENTS, "u16")], &[]);
    assert_eq!(told(&old, &new), ["Gone written by clients s:1> ", "New written by clients >s:9 "]);
}

#[test]
fn the_parts_of_a_form_are_told_apart() {
    let one = |form: &str| site(&[("s:1", "a.x", form)], &[]);
    for (was, is, words) in [
        ("f32 ABCD", "f32 CDAB", "order ABCD>CDAB"),
        ("u16", "i16", "type u16>i16"),
        ("u16 scale 0.1", "u16 scale 0.01", "scale scale 0.1>scale 0.01"),
        ("u16", "u16 plus 5", "scale scale 1>plus 5"),
        ("u16", "u32 CDAB", "type u16>u32"),
        ("nonsense", "u16", "type nonsense>u16"),
    ] {
        assert_eq!(told(&one(was), &one(is)), [format!("Changed a.x s:1>s:1 {words}")]);
    }
    assert!(told(&one("f32"), &one("f32 ABCD")).is_empty(), "the order that is meant without one");
}

#[test]
fn devices_that_are_called_otherwise_are_the_same_and_replaced_ones_are_not() {
    let old = site(&[("s:1", "a.x", "u16"), ("s:2", "b.x", "u16")], &[("a", "1"), ("b", "2")]);
    let renamed = site(&[("s:1", "c.x", "u16"), ("s:2", "b.x", "u16")], &[("c", "1"), ("b", "2")]);
    assert!(told(&old, &renamed).is_empty(), "{:?}", told(&old, &renamed));
    // Called otherwise and given another unit at once: its values say that it is the same.
    let moved = site(&[("s:1", "c.x", "u16"), ("s:2", "b.x", "u16")], &[("c", "9"), ("b", "2")]);
    assert_eq!(told(&old, &moved), ["c: unit 1>9"]);
    // Two that exchange their places are two changes, not two names.
    let crossed = site(&[("s:1", "b.x", "u16"), ("s:2", "a.x", "u16")], &[("a", "1"), ("b", "2")]);
    assert_eq!(told(&old, &crossed).len(), 2);
    // Another point of another device is another value.
    let replaced = site(&[("s:1", "c.y", "u16"), ("s:2", "b.x", "u16")], &[("c", "9"), ("b", "2")]);
    let words = told(&old, &replaced);
    assert_eq!(words[0], "Changed c.y s:1>s:1 source a.x>c.y");
    assert_eq!(words.len(), 3, "{words:?}");
}
