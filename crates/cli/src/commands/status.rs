//! `woodrush status`: what a running converter counts, and whether it has the project's map.

use crate::args::Format;
use crate::console::{Console, Table, Tone};
use crate::{Failure, Verdict};
use std::net::SocketAddr;
use std::path::Path;
use woodrush_core::project::show_micros;
use woodrush_core::protocol::health_shown;
use woodrush_engine::control::{Remote, Whose};
use woodrush_engine::health::Counts;
use woodrush_engine::monitor::{LinkStatus, Status, fetch};

pub(crate) fn run(
    console: &mut Console,
    path: &Path,
    monitor: Option<SocketAddr>,
    reset: bool,
) -> Result<Verdict, Failure> {
    let remote = Remote::of(Whose::Run, path);
    if reset {
        let answer = remote.say("reset", &[]).map_err(not_running)?;
        console.note(&answer.said);
        return Ok(Verdict::Yes);
    }
    let status = match monitor {
        Some(at) => fetch(at).map_err(|error| Failure::Outside(format!("no status from {at}: {error}")))?,
        None => {
            let answer = remote.say("status", &[]).map_err(not_running)?;
            let data = answer.data.ok_or(Failure::Outside(answer.said))?;
            serde_json::from_value(data)
                .map_err(|error| Failure::Outside(format!("the status is not understood: {error}")))?
        }
    };
    // The map on paper, if there is a project here to hold it against.
    let same = match crate::project::load(path) {
        Ok(checked) => {
            Some(format!("{:016x}", checked.plan.fingerprint(&checked.project)) == status.project_id)
        }
        Err(_) => None,
    };
    match console.format {
        Format::Json => {
            let mut value = serde_json::to_value(&status).unwrap_or_default();
            if let Some(entries) = value.as_object_mut() {
                entries.insert("runs_this_project".into(), same.into());
            }
            console.json(&value)?;
        }
        Format::Csv => console.table(&table(&status))?,
        Format::Text => text(console, &status)?,
    }
    if same == Some(false) {
        let rule = woodrush_core::check::rule("M38").map_or("", |rule| rule.fix);
        let head = console.paint(Tone::Bad, "M38");
        console.note(&format!("{head} the running converter does not run this project ({rule})"));
        return Ok(Verdict::No);
    }
    if same == Some(true) && console.format == Format::Text {
        console.note("the running converter runs this project");
    }
    Ok(Verdict::Yes)
}

fn not_running(error: std::io::Error) -> Failure {
    match error.kind() {
        std::io::ErrorKind::NotFound | std::io::ErrorKind::ConnectionRefused => Failure::Outside(
            "no converter of this project is running here (`woodrush run` starts one; `--monitor HOST:PORT` asks one elsewhere)".into(),
        ),
        _ => Failure::Outside(format!("the converter does not answer: {error}")),
    }
}

/// A column of its own only where something comes by itself.
fn with_published(
    head: &mut Vec<&'static str>,
    rows: &mut [Vec<String>],
    at: usize,
    counts: impl Iterator<Item = u64> + Clone,
) {
    if counts.clone().any(|count| count > 0) {
        head.insert(at, "published");
        rows.iter_mut().zip(counts).for_each(|(row, count)| row.insert(at, count.to_string()));
    }
}

/// What went wrong, in words, with the counts.
fn troubles(counts: &Counts) -> String {
    let mut found = vec![];
    let kinds = [
        (counts.no_answer, "no answer"),
        (counts.damaged, "damaged"),
        (counts.mismatched, "mismatched"),
        (counts.unreachable, "not connected"),
    ];
    found.extend(kinds.iter().filter(|(count, _)| *count > 0).map(|(count, what)| format!("{count} {what}")));
    found.extend(
        counts.exceptions.iter().map(|(code, count)| format!("{count} {}", health_shown(u32::from(*code)))),
    );
    found.join("; ")
}

fn age(age: Option<f64>) -> String {
    age.map_or_else(|| "never".into(), |age| format!("{age:.1} s"))
}

fn bytes(counts: &Counts) -> String {
    format!("{} / {}", counts.sent, counts.received)
}

fn text(console: &mut Console, status: &Status) -> Result<(), Failure> {
    // A project need not have a name.
    let site = if status.site.is_empty() { "the converter" } else { &status.site };
    let name = console.paint(Tone::Accent, site);
    console.say(&format!("{name}, running for {} s, project id {}", status.uptime_s, status.project_id))?;
    let port = |port: &woodrush_engine::monitor::PortStatus| {
        let mut wrong = troubles(&port.counts);
        let own = [
            (port.damaged_requests, "damaged requests"),
            (port.turned_away, "turned away"),
            (port.late_answers, "answers too late"),
        ];
        for (count, what) in own.into_iter().filter(|(count, _)| *count > 0) {
            wrong += &format!("{}{count} {what}", if wrong.is_empty() { "" } else { "; " });
        }
        vec![
            port.name.clone(),
            if port.up { "up".into() } else { "down".into() },
            port.counts.requests.to_string(),
            port.counts.answers.to_string(),
            bytes(&port.counts),
            format!("{} %", port.load_percent),
            port.clients.to_string(),
            wrong,
        ]
    };
    let mut head =
        vec!["port", "state", "requests", "answers", "sent/received", "load", "clients", "trouble"];
    let mut rows: Vec<Vec<String>> = status.ports.iter().map(port).collect();
    with_published(&mut head, &mut rows, 4, status.ports.iter().map(|port| port.counts.published));
    console.table(&Table { head, rows, whole: &[0, 1] })?;
    console.say("")?;
    let device = |device: &woodrush_engine::monitor::DeviceStatus| {
        vec![
            device.name.clone(),
            match (device.online, device.asked) {
                (true, _) => "online".into(),
                (false, true) => "LOST".into(),
                (false, false) => "not asked".into(),
            },
            age(device.age_s),
            device.counts.requests.to_string(),
            device.counts.answers.to_string(),
            bytes(&device.counts),
            troubles(&device.counts),
        ]
    };
    let mut head = vec!["device", "state", "age", "requests", "answers", "sent/received", "trouble"];
    let mut rows: Vec<Vec<String>> = status.devices.iter().map(device).collect();
    with_published(&mut head, &mut rows, 5, status.devices.iter().map(|device| device.counts.published));
    console.table(&Table { head, rows, whole: &[0, 1] })?;
    console.say("")?;
    links(console, status)?;
    // Rules that are well say nothing; a large project has many.
    let ill: Vec<_> = status.rules.iter().filter(|rule| !rule.fresh).collect();
    if ill.is_empty() {
        console.say(&format!("all {} rules are fresh", status.rules.len()))?;
    } else {
        let are = if ill.len() == 1 { "is" } else { "are" };
        console.say(&format!("{} of {} rules {are} not fresh", ill.len(), status.rules.len()))?;
        let row = |rule: &&woodrush_engine::monitor::RuleStatus| {
            vec![
                if rule.name.parse::<u32>().is_ok() { "-".into() } else { rule.name.clone() },
                format!("{} -> {}", rule.from, rule.to),
                age(rule.age_s),
                troubles(&rule.counts),
            ]
        };
        let head = vec!["rule", "carries", "age", "trouble"];
        console.table(&Table { head, rows: ill.iter().take(20).map(row).collect(), whole: &[0] })?;
    }
    if !status.clients.is_empty() {
        console.say("")?;
        let row = |client: &woodrush_engine::monitor::ClientStatus| {
            vec![
                client.port.clone(),
                client.who.clone(),
                client.counts.requests.to_string(),
                client.counts.answers.to_string(),
                bytes(&client.counts),
                troubles(&client.counts),
            ]
        };
        let head = vec!["port", "client", "requests", "answers", "sent/received", "refused"];
        console.table(&Table { head, rows: status.clients.iter().map(row).collect(), whole: &[0, 1] })?;
    }
    Ok(())
}

/// What is exchanged in cycles, where something is.
fn links(console: &mut Console, status: &Status) -> Result<(), Failure> {
    if status.links.is_empty() {
        return Ok(());
    }
    let row = |link: &LinkStatus| {
        let counts = &link.counts;
        let known = |micros: u64| if micros == 0 { "-".into() } else { show_micros(micros) };
        let late = |micros: Option<u64>| micros.map_or_else(|| "-".into(), show_micros);
        vec![
            link.with.clone(),
            counts.state.word().into(),
            counts.peer.map(|peer| peer.to_string()).unwrap_or_default(),
            age(link.age_s),
            known(counts.period_us),
            known(counts.watchdog_us),
            counts.sent.to_string(),
            counts.came.to_string(),
            counts.skipped.to_string(),
            late(counts.late_p99_us),
            late(counts.late_p99_us.map(|_| counts.late_max_us)),
        ]
    };
    let head = vec![
        "link", "state", "peer", "age", "period", "watchdog", "sent", "came", "skipped", "late p99", "max",
    ];
    console.table(&Table { head, rows: status.links.iter().map(row).collect(), whole: &[0, 1, 2] })?;
    for link in status.links.iter().filter(|link| !link.counts.station.is_empty()) {
        console.say(&station(link))?;
    }
    console.say("")
}

/// What a station is called and addressed by now, where others may say that.
fn station(link: &LinkStatus) -> String {
    let own = |key: &str| link.counts.station.get(key).map(String::as_str).filter(|own| !own.is_empty());
    let name = own("station-name")
        .map_or_else(|| "it has no name".into(), |own| format!("its name of station is {own}"));
    let address =
        own("address").map_or_else(|| "it has no address yet".into(), |own| format!("its address {own}"));
    format!(
        "{}: {name}, {address}; what is changed for good is kept in the project's `.state` file",
        link.with
    )
}

/// Everything in one table: a row a thing.
fn table(status: &Status) -> Table {
    let head = vec![
        "kind",
        "name",
        "state",
        "age_s",
        "requests",
        "answers",
        "published",
        "no_answer",
        "damaged",
        "mismatched",
        "unreachable",
        "exceptions",
        "sent",
        "received",
        "frames_sent",
        "frames_came",
        "frames_skipped",
        "late_p99_us",
        "late_max_us",
    ];
    let row = |kind: &str, name: &str, state: &str, age: Option<f64>, counts: &Counts| {
        let exceptions: Vec<String> =
            counts.exceptions.iter().map(|(code, count)| format!("{code}:{count}")).collect();
        vec![
            kind.into(),
            name.into(),
            state.into(),
            age.map(|age| age.to_string()).unwrap_or_default(),
            counts.requests.to_string(),
            counts.answers.to_string(),
            counts.published.to_string(),
            counts.no_answer.to_string(),
            counts.damaged.to_string(),
            counts.mismatched.to_string(),
            counts.unreachable.to_string(),
            exceptions.join(" "),
            counts.sent.to_string(),
            counts.received.to_string(),
            String::new(),
            String::new(),
            String::new(),
            String::new(),
            String::new(),
        ]
    };
    let links = status.links.iter().map(|link| {
        let counts = &link.counts;
        let mut row = row("link", &link.with, counts.state.word(), link.age_s, &Counts::default());
        let late = counts.late_p99_us.map(|late| late.to_string()).unwrap_or_default();
        let own = [counts.sent, counts.came, counts.skipped].map(|count| count.to_string());
        for (place, value) in
            row.iter_mut().skip(14).zip(own.into_iter().chain([late, counts.late_max_us.to_string()]))
        {
            *place = value;
        }
        row
    });
    let word = |good: bool, yes: &'static str, no: &'static str| if good { yes } else { no };
    let ports = status.ports.iter().map(|p| row("port", &p.name, word(p.up, "up", "down"), None, &p.counts));
    let devices = status.devices.iter().map(|d| {
        row(
            "device",
            &d.name,
            if d.asked { word(d.online, "online", "lost") } else { "not asked yet" },
            d.age_s,
            &d.counts,
        )
    });
    let rules = status
        .rules
        .iter()
        .map(|r| row("rule", &r.name, word(r.fresh, "fresh", "stale"), r.age_s, &r.counts));
    let clients = status.clients.iter().map(|c| row("client", &c.who, "connected", None, &c.counts));
    Table { head, rows: ports.chain(devices).chain(links).chain(rules).chain(clients).collect(), whole: &[] }
}
