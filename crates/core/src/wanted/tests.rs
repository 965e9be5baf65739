//! Points, addresses and bare addresses, with what may be done there.

use super::*;
use crate::check::check;
use crate::project::read;
use crate::protocol::dialect;

const PROFILE: &str = r#"
[profile]
name = "Blower drive"
max-read = 8
[points.speed]
at = "400011"
as = "f32 CDAB"
eu = "Hz"
range = [0, 60]
access = "read-write"
[points.current]
at = "300001"
as = "u16 scale 0.01"
eu = "A"
[points.unit-address]
at = "400099"
as = "u16"
access = "read-write"
guarded = true
"#;

const SITE: &str = r#"
[ports.raceway]
serial = "/dev/ttyUSB0"
line = "38400 8E1"
protocol = "modbus-rtu"
[ports.office]
listen = "192.0.2.10:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.blower-1]
port = "raceway"
unit = 31
profile = "drive.toml"
[images.scada]
port = "office"
[[map]]
from = "blower-1.speed"
to = "scada:400101 as f32 ABCD"
access = "read-write"
[[map]]
from = "blower-1.current"
to = "scada:300001"
"#;

fn checked() -> Checked {
    check(read("woodrush.toml", SITE.into(), &mut |path| {
        if path.ends_with(".ledger") { Err(String::new()) } else { Ok(PROFILE.into()) }
    }))
}

fn wanted(text: &str) -> Wanted {
    Wanted::of_project(&checked(), text).unwrap_or_else(|finding| panic!("{text}: {}", finding.what))
}

fn bare(text: &str) -> Result<Wanted, Finding> {
    let setup = Setup { numbers: vec![("unit", 27)], words: vec![], ..Setup::default() };
    Wanted::bare(&Station::bare("192.0.2.40:502", dialect("modbus-tcp").unwrap(), setup), text)
}

#[test]
fn a_point_has_all_that_its_profile_says() {
    let speed = wanted("blower-1.speed");
    assert_eq!(
        (speed.form.to_string().as_str(), speed.eu.as_deref(), speed.range),
        ("f32 CDAB", Some("Hz"), Some((0.0, 60.0)))
    );
    assert_eq!((&speed.read_only, speed.guarded), (&None, false));
    let shown = speed.values(&[0xAE, 0x14, 0x41, 0x8B]);
    assert_eq!((shown[0].raw.as_str(), shown[0].value.as_deref()), ("AE14 418B", Some("17.46")));
    assert_eq!(shown[0].address.canonical, "400011");
    let current = wanted("blower-1.current");
    assert_eq!(current.read_only.as_deref(), Some("an input register cannot be written"));
    assert!(wanted("blower-1.unit-address").guarded && wanted("blower-1:400098 x3").guarded);
}

#[test]
fn an_image_shows_in_its_rules_form_and_takes_what_they_take() {
    let shown = wanted("scada:400101");
    assert_eq!((shown.form.to_string().as_str(), shown.eu.as_deref()), ("f32 ABCD", Some("Hz")));
    assert_eq!(shown.read_only, None);
    assert_eq!(wanted("scada:300001").eu.as_deref(), Some("A"));
    assert!(wanted("scada:400300").read_only.is_some_and(|why| why.contains("no rule")));
    // A part of a value is shown as the word that it is.
    assert_eq!(wanted("scada:400102").form.ty, Type::Raw);
}

#[test]
fn an_address_without_a_project_says_everything_itself() {
    let two = bare("400318 as f32 CDAB x2").unwrap();
    assert_eq!((two.place.first, two.place.width, two.place.count), (317, 2, 2));
    assert_eq!(two.requests(Verb::Read).unwrap().len(), 1);
    let many = bare("400001 x300").unwrap();
    assert_eq!(
        many.requests(Verb::Read).unwrap().iter().map(|part| part.count).collect::<Vec<_>>(),
        [125, 125, 50]
    );
    for (text, code, told) in [
        ("400318 as f32", "M35", "nothing says in which order"),
        ("37", "M03", "bare number"),
        ("000001 as u16", "M35", "is wider than one bit"),
        ("400010.3 x2", "M35", "is one bit"),
        ("465536 x2", "M17", "past the end"),
        ("400001 x0", "F03", "not a valid count"),
        ("400001 as f99", "F08", "not a type"),
    ] {
        let finding = bare(text).unwrap_err();
        assert_eq!(finding.rule.code, code, "{text}");
        assert!(finding.what.contains(told), "{text}: {}", finding.what);
    }
}

#[test]
fn a_controller_has_an_order_of_its_own() {
    let blocks = Station::bare("pumps", dialect("fetch-write").unwrap(), Setup::default());
    let float = Wanted::bare(&blocks, "%DB10.D4 as f32").unwrap();
    assert_eq!((float.place.first, float.place.count), (4, 1));
    assert_eq!(
        Wanted::bare(&blocks, "%DB10.W20 as u16").unwrap().values(&[1, 2])[0].value.as_deref(),
        Some("258")
    );
    let table = Station::bare("feeder", dialect("df1").unwrap(), Setup::default());
    let float = Wanted::bare(&table, "F8:2").unwrap();
    assert_eq!(float.form.ty, Type::F32);
}

#[test]
fn no_value_is_split_between_two_requests() {
    let long = wanted("blower-1:400001 as f32 CDAB x9");
    // The profile takes 8 registers.
    assert_eq!(
        long.requests(Verb::Read).unwrap().iter().map(|part| part.count).collect::<Vec<_>>(),
        [8, 8, 2]
    );
    assert!(
        wanted("blower-1:400001 as text(20)").requests(Verb::Read).unwrap_err().contains("max-read allows 8")
    );
}

#[test]
fn values_are_written_as_people_write_them_and_refused_where_they_do_not_fit() {
    let hex = |text: &str, value: &str| {
        bare(text).unwrap().cells(value).map(|cells| crate::form::hex_words(&cells))
    };
    for (text, value, cells) in [
        ("400001 as f32 CDAB", "17.46", "AE14 418B"),
        ("400001 as f32 ABCD", "17", "4188 0000"),
        ("400001 as i16 scale 0.01", "-0.1", "FFF6"),
        ("400001", "1746", "06D2"),
        ("400001", "0x06D2", "06D2"),
        ("400001 as u32 CDAB", "0x0001_86A0", "86A0 0001"),
        ("400001 as u64 ABCDEFGH", "18446744073709551615", "FFFF FFFF FFFF FFFF"),
        ("400001 as bcd16", "1746", "1746"),
        ("400001 as text(4)", "AB", "4142 0000"),
        ("000001", "on", "01"),
        ("400010.3", "1", "01"),
    ] {
        assert_eq!(hex(text, value).as_deref(), Ok(cells), "{text} = {value}");
    }
    for (text, value) in [
        ("400001 as u16", "-1"),
        ("400001 as u16", "65536"),
        ("400001", "70000"),
        ("400001", "0x12345"),
        ("400001 as u16 scale 0.01", "700"),
        ("400001 as u16", "1.5x"),
        ("000001", "2"),
        ("400001 as text(2)", "ABC"),
        ("400001 as u16", "nan"),
        ("400001 as bcd16", "10000"),
    ] {
        assert!(hex(text, value).is_err(), "{text} = {value}: {:?}", hex(text, value));
    }
    let bit = bare("400010.11").unwrap();
    assert_eq!(bit.bit_change(true), Some((vec![0xF7, 0xFF], vec![0x08, 0x00])));
    assert_eq!(bit.values(&[0x08, 0x00])[0].value.as_deref(), Some("1"));
}
