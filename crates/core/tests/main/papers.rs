//! What is handed over of a site, and who must follow when it changes: from texts, without files.

use woodrush_core::check::{Checked, check};
use woodrush_core::compare::{Comparison, Follower, KnownSite, asked_behind, followers};
use woodrush_core::handover::{Papers, papers};
use woodrush_core::project::read;

const SITE: &str = r#"
[project]
name = "Sallow <Beck> & sons"
[converter]
address = "192.0.2.10/24"
[ports.raceway]
serial = "/dev/ttyUSB0"
line = "38400 8E1"
protocol = "modbus-rtu"
timeout = "200ms"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.do-1]
port = "raceway"
unit = 21
line = "38400 8E1"
profile = "probe.toml"
[devices.do-2]
port = "raceway"
unit = 22
line = "38400 8E1"
profile = "probe.toml"
[images.scada]
port = "office"
[[map]]
from = "do-1.oxygen"
to = "scada:400001 as f32 ABCD"
note = "raceway 1"
[[map]]
from = "do-2.oxygen"
to = "scada:400003 as f32 ABCD"
on-loss = "hold"
[[map]]
from = "do-1.setpoint"
to = "scada:400101 as f32 CDAB"
access = "read-write"
[[map]]
from = "do-1.health.online"
to = "scada:100001"
[[map]]
from = "do-2.health.last-error"
to = "scada:400201"
[[forward]]
from = "office"
units = "31-32"
to = "raceway"
as-units = "21-22"
[clients.room]
image = "scada"
address = "192.0.2.20"
dials = "192.0.2.10:502"
list = "room.csv"
[clients.service]
port = "office"
units = { 31 = "do-1" }
address = "192.0.2.21"
dials = "192.0.2.10:502"
"#;

const PROFILE: &str = r#"
[profile]
name = "Probe"
line = "19200 8E1"
[points.oxygen]
at = "300001"
as = "u16 scale 0.01"
eu = "mg/L"
[points.setpoint]
at = "400010"
as = "f32 CDAB"
eu = "mg/L"
access = "read-write"
"#;

const LIST: &str = "Address,Name,Type,Order,Scale,Access,Source
400001,O2_1,REAL,ABCD,1,R,do-1.oxygen
400003,O2_2,REAL,ABCD,1,R,
400101,SP_1,REAL,CDAB,1,RW,do-1.setpoint
";

fn site(project: &str) -> Checked {
    site_with(project, LIST)
}

fn site_with(project: &str, list: &str) -> Checked {
    check(read("woodrush.toml", project.into(), &mut |path| match path {
        "probe.toml" => Ok(PROFILE.into()),
        "room.csv" => Ok(list.into()),
        _ => Err("is not there".into()),
    }))
}

fn changed(from: &str, to: &str) -> String {
    assert!(SITE.contains(from), "nothing to change: {from}");
    SITE.replacen(from, to, 1)
}

/// Each element of an image that is opened is closed, and no text in it is markup.
fn is_sound_svg(text: &str) -> bool {
    let mut open: Vec<&str> = vec![];
    for part in text.split('<').skip(1) {
        let Some(tag) = part.split('>').next() else { return false };
        let name = tag.trim_start_matches('/').split([' ', '\n']).next().unwrap_or_default();
        match (tag.starts_with('/'), tag.ends_with('/')) {
            (true, _) if open.pop() != Some(name) => return false,
            (true, _) | (false, true) => {}
            (false, false) => open.push(name),
        }
    }
    open.is_empty()
}

fn page() -> Papers {
    let checked = site(SITE);
    assert!(!checked.has_errors(), "{:?}", checked.findings);
    papers(&checked)
}

#[test]
fn a_line_says_what_all_of_its_devices_are_set_to_and_each_what_is_its_own() {
    let page = page();
    assert_eq!(page.lines.len(), 1);
    let line = &page.lines[0];
    assert_eq!(line.port, "raceway");
    let shown: Vec<String> = line.settings.iter().map(|(key, value)| format!("{key} {value}")).collect();
    assert_eq!(shown, ["line 38400 8E1", "protocol modbus-rtu"]);
    let [one, two] = &line.devices[..] else { panic!("{:?}", line.devices) };
    assert_eq!(
        (one.name.as_str(), one.kind.as_str(), one.as_shipped.as_str()),
        ("do-1", "Probe", "19200 8E1")
    );
    assert_eq!(one.settings, [("unit".to_string(), "21".to_string())]);
    assert_eq!(two.settings, [("unit".to_string(), "22".to_string())]);
}

#[test]
fn the_table_of_an_image_says_what_a_reader_gets_when_a_value_is_lost() {
    let page = page();
    let image = &page.images[0];
    assert_eq!((image.name.as_str(), image.unmapped), ("scada", "refused"));
    assert!(image.settings.contains(&("address".into(), "192.0.2.10".into())), "{:?}", image.settings);
    let row = |address: &str| image.values.iter().find(|value| value.address == address).unwrap();
    let oxygen = row("400001");
    assert_eq!(
        (oxygen.offset.as_str(), oxygen.ty.as_str(), oxygen.order.as_str()),
        ("holding:0", "f32", "ABCD")
    );
    assert_eq!((oxygen.unit.as_str(), oxygen.access, oxygen.on_loss.as_str()), ("mg/L", "R", "refused"));
    assert_eq!((oxygen.description.as_str(), oxygen.source.as_str()), ("raceway 1", "do-1.oxygen"));
    assert_eq!(row("400003").on_loss, "the last value");
    assert_eq!((row("400101").access, row("400101").order.as_str()), ("RW", "CDAB"));
    let health = row("100001");
    assert_eq!((health.on_loss.as_str(), health.max_age.as_str()), ("never lost", ""));
    let client = &image.clients[0];
    assert_eq!((client.name.as_str(), client.asks, client.list.as_str()), ("room", (3, 1), "room.csv"));
}

#[test]
fn health_forwards_and_the_id_are_told() {
    let page = page();
    let items: Vec<&str> = page.health.iter().map(|own| own.item.as_str()).collect();
    assert_eq!(items, ["last-error", "online"]);
    assert_eq!(page.health[1].at, ["do-1.health.online at scada:100001"]);
    assert!(
        page.last_error.contains("258"),
        "the numbers are explained where one is carried: {}",
        page.last_error
    );
    let without =
        papers(&site(&changed("from = \"do-2.health.last-error\"", "from = \"do-2.health.errors\"")));
    assert!(without.last_error.is_empty());
    assert_eq!(page.forwards[0].units, [(31, 21, "do-1".to_string()), (32, 22, "do-2".to_string())]);
    assert_eq!(page.project_id.len(), 16);
    assert_ne!(page.project_id, papers(&site(&changed("400003", "400005"))).project_id);
}

#[test]
fn the_drawing_is_sound_whatever_names_hold_and_folds_what_has_no_room() {
    let drawing = page().drawing;
    assert!(is_sound_svg(&drawing), "{drawing}");
    assert!(drawing.contains("Sallow &lt;Beck&gt; &amp; sons"), "{drawing}");
    for words in [
        "room",
        "reads 3 of scada, writes 1",
        "service",
        "do-1",
        "unit 21",
        "class=\"passed\"",
        "TCP port 502",
    ] {
        assert!(drawing.contains(words), "{words}: {drawing}");
    }
    // No client is described: one is drawn for all that may connect.
    let alone = &SITE[..SITE.find("[clients.room]").unwrap()];
    let alone = papers(&site(alone)).drawing;
    assert!(is_sound_svg(&alone) && alone.contains("not described"), "{alone}");
    // A line of forty, and names that are too long.
    let mut many = String::from(SITE);
    for at in 0..40 {
        many +=
            &format!("[devices.a-very-long-name-of-a-device-{at}]\nport = \"raceway\"\nunit = {}\n", 40 + at);
    }
    let many = papers(&site(&many)).drawing;
    assert!(is_sound_svg(&many) && many.contains("and 30 more, in the table"), "{many}");
    assert!(many.contains("a-very-long-nam…") && !many.contains("a-very-long-name-of-a-device-39"), "{many}");
    // Nothing at all.
    assert!(is_sound_svg(&papers(&site("")).drawing));
}

/// Who must follow, with the lines of the project that are named.
fn follow(old: &str, new: &Checked) -> Vec<String> {
    let comparison = Comparison::of(&KnownSite::of_project(&site(old)), &KnownSite::of_project(new));
    let line = |own: &Follower| {
        let row = |row: &woodrush_core::compare::FollowerRow| {
            let at = row.span.map(|span| new.project.sources.position(span));
            at.map_or(row.text.clone(), |at| format!("{}:{} {}", at.file, at.line, row.text))
        };
        format!("{}: {}", own.who, own.rows.iter().map(row).collect::<Vec<_>>().join(" / "))
    };
    followers(&comparison, new).iter().map(line).collect()
}

#[test]
fn a_client_that_has_the_new_one_already_need_not_follow() {
    let moved = changed("to = \"scada:400001 as f32 ABCD\"", "to = \"scada:400011 as f32 ABCD\"");
    assert_eq!(
        follow(SITE, &site(&moved)),
        ["client room: room.csv:2 do-1.oxygen is at 400011, and was at 400001"]
    );
    // Their list says so already.
    let list = LIST.replace("400001,", "400011,");
    assert!(follow(SITE, &site_with(&moved, &list)).is_empty());
    // A row that names no value follows where another row asks for the new address.
    let moved = changed("to = \"scada:400003 as f32 ABCD\"", "to = \"scada:400013 as f32 ABCD\"");
    let both = format!("{LIST}400013,O2_2B,REAL,ABCD,1,R,\n");
    assert_eq!(follow(SITE, &site(&moved)).len(), 1);
    assert!(
        follow(SITE, &site_with(&moved, &both)).is_empty(),
        "{:?}",
        follow(SITE, &site_with(&moved, &both))
    );
    // A row that means another value is not concerned by one that goes.
    let gone = changed(
        "[[map]]\nfrom = \"do-1.oxygen\"\nto = \"scada:400001 as f32 ABCD\"\nnote = \"raceway 1\"\n",
        "",
    );
    assert_eq!(follow(SITE, &site(&gone)), ["client room: room.csv:2 do-1.oxygen is gone from 400001"]);
    let other = LIST.replace("do-1.oxygen", "do-2.oxygen");
    assert!(follow(SITE, &site_with(&gone, &other)).is_empty());
}

#[test]
fn forms_and_access_concern_the_rows_that_say_otherwise() {
    let order = changed("to = \"scada:400101 as f32 CDAB\"", "to = \"scada:400101 as f32 ABCD\"");
    // Reads and writes of one row are one row.
    let told = follow(SITE, &site(&order));
    assert_eq!(told.len(), 1);
    assert!(told[0].contains("room.csv:4 400101: order ABCD, and was CDAB"), "{told:?}");
    let list = LIST.replace("CDAB", "ABCD");
    assert!(follow(SITE, &site_with(&order, &list)).is_empty());
    // Who only reads may go on when nothing may be written any more.
    let read_only = changed(
        "to = \"scada:400101 as f32 CDAB\"\naccess = \"read-write\"\n",
        "to = \"scada:400101 as f32 CDAB\"\n",
    );
    assert!(follow(SITE, &site(&read_only))[0].contains("access R, and was RW"));
    let reader = LIST.replace(",RW,", ",R,");
    assert!(follow(SITE, &site_with(&read_only, &reader)).is_empty());
    // What a lost value looks like concerns every client that reads it and does not expect it so.
    let held = changed("note = \"raceway 1\"", "on-loss = \"hold\"");
    assert!(
        follow(SITE, &site(&held))[0].contains("on-loss hold, and was refuse"),
        "{:?}",
        follow(SITE, &site(&held))
    );
    let expected = held.replace("list = \"room.csv\"", "list = \"room.csv\"\nlost = \"held\"");
    assert!(follow(SITE, &site(&expected)).is_empty());
}

#[test]
fn a_port_that_changes_concerns_clients_and_a_unit_the_device_and_who_asks_behind_it() {
    let port = changed("listen = \"0.0.0.0:502\"", "listen = \"0.0.0.0:1502\"");
    let told = follow(SITE, &site(&port));
    assert!(
        told.iter().any(|own| own.starts_with("client room") && own.contains("port 1502, and was 502")),
        "{told:?}"
    );
    let dials = port.replace("dials = \"192.0.2.10:502\"", "dials = \"192.0.2.10:1502\"");
    assert!(follow(SITE, &site(&dials)).is_empty(), "{:?}", follow(SITE, &site(&dials)));

    let unit = site(&changed("unit = 21", "unit = 41"));
    let told = follow(SITE, &unit);
    assert_eq!(told.len(), 3, "{told:?}");
    assert!(
        told[0].starts_with("device do-1:") && told[0].contains("to be set there: unit 41, and was 21"),
        "{told:?}"
    );
    assert!(told[1].contains("unit 31 goes to 21, which no device has any more; make it 41"), "{told:?}");
    assert!(told[2].starts_with("client service:") && told[2].contains("it asks for unit 31"), "{told:?}");
    // The same for `readdress`, before the file says so.
    let before = site(SITE);
    let behind = asked_behind(&before.project, &before.plan, 0, 21, 41);
    assert_eq!(
        behind.iter().map(|own| own.who.as_str()).collect::<Vec<_>>(),
        ["the [[forward]] from port office", "client service"]
    );
    assert!(asked_behind(&before.project, &before.plan, 0, 99, 41).is_empty());
    // A line's speed concerns each device on it.
    let line = site(&changed("line = \"38400 8E1\"", "line = \"19200 8E1\""));
    let told = follow(SITE, &line);
    assert_eq!(told.iter().filter(|own| own.starts_with("device do-")).count(), 2, "{told:?}");
}

#[test]
fn an_image_without_described_clients_concerns_all_of_them() {
    let alone = &SITE[..SITE.find("[clients.room]").unwrap()];
    let moved = site(&alone.replacen("scada:400003", "scada:400013", 1));
    assert_eq!(follow(alone, &moved), ["clients of scada: do-2.oxygen is at 400013, and was at 400003"]);
    // What is new concerns no client.
    let more = alone.to_string() + "[[map]]\nfrom = \"do-2.setpoint\"\nto = \"scada:400111\"\n";
    assert!(follow(alone, &site(&more)).is_empty());
}
