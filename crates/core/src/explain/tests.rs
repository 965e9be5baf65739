//! Whatever the tool says can be asked about, and each name means something.

use super::*;
use crate::form::Type;

#[test]
fn everything_that_is_listed_is_explained_in_whole_sentences() {
    for (kind, names) in subjects() {
        assert!(!names.is_empty(), "{kind}");
        for name in names {
            let found = explain(&name);
            assert!(!found.is_empty(), "{kind}: {name}");
            for paragraph in found {
                let text = &paragraph.text;
                assert!(text.len() > 15 && text.ends_with(['.', '?']), "{name}: {text}");
                assert!(
                    !text.contains("..") || text.contains("`1s..30s`") || kind.starts_with("key"),
                    "{name}: {text}"
                );
                assert_eq!(text.matches('`').count() % 2, 0, "{name}: {text}");
            }
        }
    }
}

#[test]
fn a_name_means_one_term() {
    let mut names: Vec<&str> = all_terms().flat_map(|term| term.names.iter().copied()).collect();
    names.sort_unstable_by_key(|name| normal(name));
    for pair in names.windows(2) {
        assert_ne!(normal(pair[0]), normal(pair[1]));
    }
}

#[test]
fn codes_are_understood_as_people_and_we_ourselves_write_them() {
    let first =
        |asked: &str| explain(asked).first().map(|paragraph| paragraph.name.clone()).unwrap_or_default();
    for asked in ["11", "0x0B", "0x0b", "exception 11", "Exception 0x0B", "Modbus exception 11 (0x0B)"] {
        assert_eq!(first(asked), "Modbus exception 11 (0x0B)", "{asked}");
    }
    for asked in ["STS 10", "sts 0x10", "STS 0x10", "0x10"] {
        assert_eq!(first(asked), "STS 0x10", "{asked}");
    }
    assert_eq!(first("EXT STS 0B"), "EXT STS 0x0B");
    assert_eq!(first("block error 3"), first("error 3"));
    assert_eq!(first("m35"), "M35");
    assert_eq!(first("M35."), "M35");
    assert!(explain("last-error 11")[0].text.starts_with("Modbus exception 11"));
    assert!(explain("last-error 528")[0].text.starts_with("STS 0x10"));
    assert!(explain("last-error 1027")[0].text.contains("too small"));
    assert!(explain("last-error 257")[0].text.contains("amaged"));
    for unknown in ["", "exception 9", "0x", "STS 11", "last-error 70000", "nothing-of-the-kind", "é"] {
        assert!(explain(unknown).is_empty(), "{unknown}");
    }
}

#[test]
fn types_and_orders_are_explained_by_every_name_with_their_bytes() {
    for ty in Type::named() {
        for name in ty.iec_names().iter().map(ToString::to_string).chain([ty.to_string()]) {
            assert!(
                explain(&name).iter().any(|found| found.kind == "type" && found.name == ty.to_string()),
                "{name}"
            );
        }
    }
    assert!(explain("text(8)")[0].text.contains("characters"));
    // 17.46 is 418B AE14.
    for (order, lies) in
        [("ABCD", "418B AE14"), ("CDAB", "AE14 418B"), ("badc", "8B41 14AE"), ("DCBA", "14AE 8B41")]
    {
        assert!(explain(order)[0].text.contains(&format!("lies as {lies}.")), "{order}");
    }
    assert!(explain("BA")[0].text.contains("lies as D206"));
}

#[test]
fn a_slip_of_the_keyboard_finds_what_was_meant() {
    assert_eq!(likely("freshnes").as_deref(), Some("freshness"));
    assert_eq!(likely("on-los").as_deref(), Some("on-loss"));
    assert_eq!(likely("something else altogether"), None);
}
