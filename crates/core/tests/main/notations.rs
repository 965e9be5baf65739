//! Addresses of controllers, against the shared vectors and in every way that people write them.

use serde::Deserialize;
use woodrush_core::protocol::tables::Spot;
use woodrush_core::protocol::{Address, AddressContext, Dialect, Setup, dialect};

#[derive(Deserialize)]
struct Vector {
    name: String,
    layer: String,
    hex: String,
    meaning: String,
    valid: bool,
}

fn vectors(layer: &str) -> Vec<Vector> {
    let text = include_str!("../../../wire/testdata/vectors-df1.json");
    let all: Vec<Vector> = serde_json::from_str(text).unwrap();
    all.into_iter().filter(|v| v.layer == layer).collect()
}

fn family(octal: bool) -> Setup {
    let word = if octal { "octal" } else { "decimal" };
    Setup { numbers: vec![], words: vec![("io-addresses", word.into())], ..Setup::default() }
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02X}")).collect::<Vec<_>>().join(" ")
}

fn tables() -> &'static dyn Dialect {
    dialect("df1").unwrap()
}

#[test]
fn every_address_of_the_vectors_is_read_or_refused() {
    let mut seen = (0, 0);
    for (layer, octal, prefix) in [("df1-address", false, "addr-"), ("df1-address-octal", true, "addr8-")] {
        for v in vectors(layer) {
            let text = v.name.strip_prefix(prefix).unwrap();
            let read = tables().notation().parse(text, &AddressContext::of_device(&family(octal)));
            if !v.valid {
                let fault = read.expect_err(text);
                assert!(!fault.what.is_empty() && fault.at.end <= text.len(), "{text}: {fault:?}");
                seen.1 += 1;
                continue;
            }
            let Address { space, first, bit, .. } = read.unwrap_or_else(|fault| panic!("{text}: {fault:?}"));
            let spot = Spot::of(&space).unwrap();
            let element = u16::try_from(first / spot.grains).unwrap();
            let mut place = vec![];
            if octal {
                spot.table(element).emit(&mut place)
            } else {
                spot.logical(element).emit(&mut place)
            }
            assert_eq!(hex(&place), v.hex, "{text}");
            let told = v.meaning.split(", ").find_map(|part| part.strip_prefix("bit ")?.parse::<u8>().ok());
            assert_eq!(bit, told, "{text}");
            seen.0 += 1;
            // What is shown is read as the same.
            let shown = tables().notation().show(&space, first, 0, bit, &family(octal)).canonical;
            let again =
                tables().notation().parse(&shown, &AddressContext::of_device(&family(octal))).unwrap();
            assert_eq!(
                (again.space.key, again.first, again.bit),
                (space.key, first, bit),
                "{text} as {shown}"
            );
        }
    }
    assert_eq!(seen, (42, 15));
}

#[test]
fn data_tables_are_read_in_every_way_and_shown_in_one() {
    let shown = |text: &str, octal: bool| {
        let Address { space, first, bit, .. } =
            tables().notation().parse(text, &AddressContext::of_device(&family(octal))).unwrap();
        tables().notation().show(&space, first, 0, bit, &family(octal)).canonical
    };
    for (written, canonical) in [
        ("n7:10", "N7:10"),
        ("$N7:0", "N7:0"),
        ("B3/21", "B3:1/5"),
        ("T4:0.DN", "T4:0/DN"),
        ("T4:0/13", "T4:0/DN"),
        ("C5:1.pre", "C5:1.PRE"),
        ("S2:1", "S:1"),
        ("I1:1/7", "I:1/7"),
        ("st9:2", "ST9:2"),
        ("ST9:2.LEN", "ST9:2.LEN"),
        ("R6:2.POS", "R6:2.POS"),
        ("O:3.2", "O:3.2"),
    ] {
        assert_eq!(shown(written, false), canonical, "{written}");
    }
    assert_eq!(shown("O:17/12", true), "O:017/12");
    assert_eq!(shown("I:7", true), "I:007");
    // The same text is another word in the other family.
    let first =
        |octal| tables().notation().parse("I:17", &AddressContext::of_device(&family(octal))).unwrap().first;
    assert_eq!((first(false), first(true)), (17, 15));
}

#[test]
fn what_is_wrong_with_an_address_is_told_with_what_was_meant() {
    for (dialect_name, octal, text, code, words, likely) in [
        ("df1", true, "I:018", "M14", "digit 8 or 9", "I:022"),
        ("df1", true, "I:001/08", "M14", "digit 8 or 9", "I:001/010"),
        ("df1", true, "L10:0", "M14", "no files of longs", ""),
        ("df1", false, "D9:0", "M14", "BCD files", ""),
        ("df1", false, "N7", "F10", "no element", "N7:0"),
        ("df1", false, "N:0", "F10", "no file number", "N7:0"),
        ("df1", false, "I3:0", "F10", "always file 1", "I:0"),
        ("df1", false, "N7:256", "M17", "end at 255", ""),
        ("df1", true, "I:300", "M17", "end at 277 (octal)", ""),
        ("df1", false, "N7:0/16", "F10", "0 to 15", ""),
        ("df1", false, "F8:2/1", "F10", "no bits", ""),
        ("df1", false, "N7/3", "F10", "only bit files", "N7:0/0"),
        ("df1", false, "T4:0.FOO", "F10", "PRE, ACC, EN, TT, DN", ""),
        ("df1", false, "Feeder.Rate", "M45", "names of a controller's own program", ""),
        ("df1", false, "Tag[3]", "M45", "names of a controller's own program", ""),
        ("fetch-write", false, "%DB10.W21", "M09", "odd", "%DB10.W20"),
        ("fetch-write", false, "%DB10", "F10", "no place in it", "%DB10.W0"),
        ("fetch-write", false, "%DB300.W0", "M34", "1 to 255", ""),
        ("fetch-write", false, "%MW70000", "F10", "65535", ""),
        ("fetch-write", false, "%IX0.8", "F10", "0 to 7", "%IX1.0"),
        ("fetch-write", false, "%M4", "F10", "how wide", "%MW4"),
        ("fetch-write", false, "DB10.DBW20.3", "F10", "written with X", "%DB10.X20.3"),
        ("fetch-write", false, "Tank.Level", "M45", "names of a controller's own program", ""),
    ] {
        let fault = dialect(dialect_name)
            .unwrap()
            .notation()
            .parse(text, &AddressContext::of_device(&family(octal)))
            .expect_err(text);
        assert!(fault.code == code && fault.what.contains(words), "{text}: {fault:?}");
        assert!(likely.is_empty() || fault.likely.iter().any(|offer| offer == likely), "{text}: {fault:?}");
    }
}

#[test]
fn blocks_are_read_in_every_way_and_shown_in_one() {
    let blocks = dialect("fetch-write").unwrap();
    let none = Setup::default();
    for (written, width, canonical, offset) in [
        ("%DB10.W20", 2, "%DB10.W20", "DB10 word 10"),
        ("DB10.DBW20", 2, "%DB10.W20", "DB10 word 10"),
        ("%db10.d24", 4, "%DB10.D24", "DB10 word 12"),
        ("%DB10.B7", 1, "%DB10.B7", "DB10 word 3"),
        ("DB10.DBX20.3", 1, "%DB10.X20.3", "DB10 word 10"),
        ("MW4", 2, "%MW4", "marker byte 4"),
        ("I0.1", 1, "%IX0.1", "input byte 0"),
        ("%Q2.7", 1, "%QX2.7", "output byte 2"),
        ("%QB2", 1, "%QB2", "output byte 2"),
        ("C3", 1, "%C3", "counter 3"),
        ("%T5", 1, "%T5", "timer 5"),
    ] {
        let Address { space, first, bit, .. } =
            blocks.notation().parse(written, &AddressContext::of_device(&none)).unwrap();
        let shown = blocks.notation().show(&space, first, width, bit, &none);
        assert_eq!((shown.canonical.as_str(), shown.offset.as_str()), (canonical, offset), "{written}");
        for (_, other) in blocks.notation().notations(&space, first, bit, &none) {
            let again = blocks
                .notation()
                .parse(&other, &AddressContext::of_device(&none))
                .unwrap_or_else(|fault| panic!("{other}: {fault:?}"));
            assert_eq!((&again.space.key, again.first), (&space.key, first), "{other}");
        }
    }
}
