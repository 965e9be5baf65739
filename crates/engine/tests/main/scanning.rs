//! Scanning a simulated line: who is there, two of one unit, one that falls silent, and a line set otherwise.

use crate::live::until;
use std::sync::Arc;
use woodrush_core::budget::LineTime;
use woodrush_core::check::check;
use woodrush_core::plan::Station;
use woodrush_core::project::{Line, Wires, read};
use woodrush_core::protocol::{Setup, Transport};
use woodrush_core::wanted::Wanted;
use woodrush_engine::direct::{Direct, Link};
use woodrush_engine::readdress::{Move, MoveResult, MoveState, NewSetting, Stage, readdress};
use woodrush_engine::rig::Rig;
use woodrush_engine::scan::{Depth, Found, Presence, look, numbered, stations, try_line};

const SITE: &str = r#"
[ports.raceway]
serial = "/dev/ttyUSB0"
line = "115200 8E1"
protocol = "modbus-rtu"
[devices.gauge]
port = "raceway"
unit = 7
max-read = 20
tables = { holding = 90 }
[devices.left]
port = "raceway"
unit = 9
tables = { holding = 4 }
[devices.right]
port = "raceway"
unit = 9
tables = { holding = 4 }
"#;

struct Scanned {
    rig: Rig,
    link: Link,
    line: LineTime,
    base: Station,
}

fn scanned() -> Scanned {
    // Two of one unit are a fault of the project, and just what happens on site.
    let checked = Arc::new(check(read("woodrush.toml", SITE.into(), &mut |_| Err(String::new()))));
    let rig = Rig::up(Arc::clone(&checked), &|_| Err(String::new())).unwrap();
    let Some(Wires::Serial { line: Some(line), .. }) = &checked.project.ports[0].wires else { panic!() };
    let dialect = checked.project.ports[0].protocol.as_ref().unwrap().value;
    let path = rig.paths()[0].1.clone();
    Scanned {
        rig,
        link: Link::Serial { path, line: line.value, two_wires: false, echo: false },
        line: LineTime { hurry: true, ..LineTime::bare(dialect, Some(line.value), 5_000_000) },
        base: Station::bare("raceway", dialect, Setup::default()),
    }
}

impl Scanned {
    fn reach(&self, timeout: u64) -> Direct {
        Direct::open(&self.link, LineTime { timeout, ..self.line }, &self.base).unwrap()
    }

    fn look(&self, unit: u32, timeout: u64) -> Option<Found> {
        let depth = Depth { quick: false, budget: 250, go_on: &|| true };
        look(&mut self.reach(timeout), &numbered(&self.base, "unit", unit), Some(unit), depth).unwrap()
    }
}

#[test]
fn a_station_is_found_with_its_ranges_and_what_it_gives_at_once() {
    let site = scanned();
    assert_eq!(stations(&site.base, Transport::Serial), Some(("unit", 1..248)));
    let found = site.look(7, 5_000_000).unwrap();
    assert_eq!((found.presence, found.broken.as_deref()), (Presence::Answers, None));
    let table = &found.tables[0];
    assert_eq!(table.ranges, [("400001".to_string(), "400090".to_string(), 90)]);
    assert_eq!(
        (table.table.as_str(), table.largest, table.limited, table.spent),
        ("holding", 20, true, false)
    );
    // Nobody has that number.
    assert_eq!(site.look(8, 50_000), None);
}

#[test]
fn two_stations_of_one_number_are_told_by_their_damage() {
    let site = scanned();
    assert_eq!(site.look(9, 200_000).unwrap().presence, Presence::Damaged);
}

#[test]
fn a_station_that_falls_silent_keeps_what_was_found_before() {
    let site = scanned();
    let found = std::thread::scope(|scope| {
        scope.spawn(|| {
            let mut exchanges = 0;
            until("some exchanges", || {
                exchanges += site.rig.gaps(0).len();
                exchanges >= 10
            });
            site.rig.mute(0, true);
        });
        site.look(7, 200_000).unwrap()
    });
    assert_eq!(found.presence, Presence::Answers);
    assert!(
        found.broken.is_some_and(|why| why.contains("stopped answering while its holding register was read"))
    );
    assert_eq!(site.look(7, 50_000), None, "and is not there any more");
}

#[test]
fn only_the_lines_own_settings_bring_answers() {
    let site = scanned();
    let mut others = site.link.clone();
    let Link::Serial { line, .. } = &mut others else { panic!() };
    *line = "9600 8N1".parse::<Line>().unwrap();
    let tried = |link: &Link, timeout: u64| {
        let time = LineTime { timeout, ..site.line };
        let mut reach = Direct::open(link, time, &site.base).unwrap();
        try_line(&mut reach, &site.base, "unit", &[7, 8], &mut || true).unwrap()
    };
    assert!(!tried(&others, 100_000).is_it());
    // One that is there may be held up by a busy machine.
    let right = tried(&site.link, 2_000_000);
    assert_eq!((right.asked, right.answered.as_slice()), (2, &[7][..]));
}

/// A device as shipped, on a line that is set otherwise; its project is not sound before it has been moved.
const SHIPPED: &str = r#"
[ports.raceway]
serial = "/dev/ttyUSB0"
line = "115200 8E1"
protocol = "modbus-rtu"
[devices.gauge]
port = "raceway"
unit = 1
line = "9600 8N1"
profile = "gauge.toml"
"#;
const GAUGE: &str = r#"
[profile]
name = "Gauge"
[points.number]
at = "400099"
as = "u16"
access = "read-write"
role = "unit-address"
[points.speed]
at = "400100"
as = "u16"
access = "read-write"
role = "line-speed"
values = { 9600 = 0, 115200 = 5 }
[points.parity]
at = "400101"
as = "u16"
access = "read-write"
role = "line-parity"
values = { 8N1 = 0, 8E1 = 1 }
[points.take]
at = "400102"
as = "u16"
access = "read-write"
role = "apply"
"#;

#[test]
fn a_device_as_shipped_gets_the_lines_settings_and_its_own_number() {
    let checked = Arc::new(check(read("woodrush.toml", SHIPPED.into(), &mut |path| {
        if path.ends_with(".ledger") { Err(String::new()) } else { Ok(GAUGE.into()) }
    })));
    let rig = Rig::up(Arc::clone(&checked), &|_| Err(String::new())).unwrap();
    let dialect = checked.project.ports[0].protocol.as_ref().unwrap().value;
    let path = rig.paths()[0].1.clone();
    let base = Station::bare("raceway", dialect, Setup::default());
    let open = |line: &str, timeout: u64| {
        let line = line.parse::<Line>().unwrap();
        let time = LineTime { hurry: true, ..LineTime::bare(dialect, Some(line), timeout) };
        Direct::open(&Link::Serial { path: path.clone(), line, two_wires: false, echo: false }, time, &base)
    };
    let setting = |point: &str, value: &str| {
        let wanted = Wanted::of_project(&checked, &format!("gauge.{point}")).unwrap();
        NewSetting { cells: wanted.cells(value).unwrap(), wanted }
    };
    let order = Move {
        base: base.clone(),
        key: "unit",
        from: 1,
        to: 31,
        unlock: None,
        settings: vec![setting("speed", "5"), setting("parity", "1"), setting("number", "31")],
        apply: Some(setting("take", "1")),
        looks: 10,
    };
    let mut steps = vec![];
    let mut reopen = || open("115200 8E1", 1_000_000);
    let ended = readdress(open("9600 8N1", 1_000_000).unwrap(), &order, Some(&mut reopen), &mut |doing| {
        steps.push(doing);
        true
    });
    assert_eq!(ended, MoveResult { state: MoveState::There, why: None, already: false });
    assert_eq!(
        steps,
        [Stage::LookingAtNew, Stage::LookingAtOld, Stage::Writing, Stage::Applying, Stage::Finding]
    );
    let depth = Depth::quick();
    let mut old = open("9600 8N1", 200_000).unwrap();
    assert_eq!(look(&mut old, &numbered(&base, "unit", 1), Some(1), depth).unwrap(), None);
}
