//! `woodrush budget`: bus time on paper, and what to change.

use crate::args::Format;
use crate::console::{Console, Table, Tone};
use crate::{Failure, Verdict};
use std::path::Path;
use woodrush_core::budget::{
    BlockBudget, LineBudget, LinkBudget, NETWORK_BITS, NetworkBudget, PROMISED_US, PublishedBudget, Share,
    dying, networks, report,
};
use woodrush_core::project::show_micros;

pub(crate) fn run(console: &mut Console, path: &Path, dead: Option<usize>) -> Result<Verdict, Failure> {
    let Some(checked) = crate::project::load_sound(console, path)? else { return Ok(Verdict::No) };
    let lines = report(&checked.project, &checked.plan);
    let nets = networks(&checked.project, &checked.plan);
    let kept = lines.iter().all(|line| line.load <= 1.0);
    match console.format {
        Format::Json => {
            let mut all = serde_json::json!({ "format": 1, "lines": lines, "networks": nets });
            if let Some(dead) = dead {
                let dying: Vec<_> = lines.iter().map(|line| dying(line, dead)).collect();
                all["dying"] = serde_json::json!(dying);
            }
            console.json(&all)?;
        }
        Format::Csv => console.table(&whole(&lines, &nets))?,
        Format::Text if lines.is_empty() && nets.is_empty() => {
            console.note("nothing is polled: no rule reads a device")
        }
        Format::Text => {
            for (at, line) in lines.iter().enumerate() {
                if at > 0 {
                    console.say("")?;
                }
                text(console, line)?;
                if let Some(dead) = dead {
                    dies(console, line, dead)?;
                }
            }
            for (at, net) in nets.iter().enumerate() {
                if at > 0 || !lines.is_empty() {
                    console.say("")?;
                }
                network(console, net)?;
            }
        }
    }
    Ok(if kept { Verdict::Yes } else { Verdict::No })
}

fn text(console: &mut Console, line: &LineBudget) -> Result<(), Failure> {
    let name = console.paint(Tone::Accent, &format!("line {}", line.port));
    let speed = match line.character_us {
        none if none <= 0.0 => format!(
            "over TCP, with {} assumed for each exchange (`woodrush read` measures yours)",
            show_micros(line.round_trip_us)
        ),
        micros if line.frame_gap_us == 0 => format!("at {}, {micros:.1} us a character", line.line),
        micros => format!(
            "at {}, {micros:.1} us a character, a gap of {} before a request",
            line.line,
            show_micros(line.frame_gap_us)
        ),
    };
    console.say(&format!("{name} {speed}"))?;
    let row = |request: &woodrush_core::budget::RequestBudget| {
        vec![
            request.device.clone(),
            request.what.clone(),
            show_micros(request.every_us),
            format!("{} + {}", request.bytes_sent, request.bytes_received),
            show_micros(request.wire_us),
            show_micros(request.gaps_us),
            show_micros(request.device_us),
            show_micros(request.takes_us),
        ]
    };
    if let Some(published) = &line.published {
        comes(console, line, published)?;
        if line.requests.is_empty() {
            return advise(console, line);
        }
    }
    let head = vec!["device", "request", "every", "bytes", "on the wire", "gaps", "device", "takes"];
    console.table(&Table { head, rows: line.requests.iter().map(row).collect(), whole: &[0, 1] })?;
    let tone = if line.load > 1.0 { Tone::Bad } else { Tone::Good };
    let load = console.paint(tone, &format!("{:.0} %", line.load * 100.0));
    console
        .say(&format!("one cycle takes {}; the polls take {load} of the line", show_micros(line.cycle_us)))?;
    if line.devices.len() > 1 || line.load > 1.0 {
        let row = |share: &Share| {
            vec![
                share.device.clone(),
                format!("{:.1} %", share.load * 100.0),
                show_micros(share.every_us),
                show_micros(share.gets_us),
            ]
        };
        let mut head = vec!["device", "of the line", "asked every", "gets every"];
        let mut rows: Vec<Vec<String>> = line.devices.iter().map(row).collect();
        // A line that keeps what is asked of it says so once.
        if line.load <= 1.0 {
            head.truncate(3);
            rows.iter_mut().for_each(|row| row.truncate(3));
        }
        console.table(&Table { head, rows, whole: &[0] })?;
    }
    if let Some(worst) = line.dead.iter().max_by_key(|dead| dead.one_try_us) {
        console.say(&format!(
            "a device that stops answering holds the line for {} a try, {} until it counts as lost;",
            show_micros(worst.one_try_us),
            show_micros(worst.until_lost_us)
        ))?;
        console.say(&format!("then its probes take at most {:.0} % of the line", worst.then * 100.0))?;
    }
    advise(console, line)
}

/// What is exchanged in cycles on one network.
fn network(console: &mut Console, net: &NetworkBudget) -> Result<(), Failure> {
    let name = console.paint(Tone::Accent, &format!("network {}", net.port));
    console.say(&format!("{name} at {}, blocks in cycles", net.address))?;
    let block = |own: &BlockBudget| {
        vec![own.bytes.to_string(), own.frame_bytes.to_string(), format!("{:.0}", own.bytes_per_second())]
    };
    let row = |link: &LinkBudget| {
        let every = show_micros(link.every_us);
        let mut row = vec![
            link.with.clone(),
            if link.at_least { format!("{every} at least") } else { every },
            show_micros(link.watchdog_us),
            format!("{:.0}", link.sent.frames_per_second),
        ];
        row.extend(block(&link.sent));
        row.extend(block(&link.received));
        row
    };
    let head = vec![
        "with",
        "every",
        "watchdog",
        "frames/s",
        "sent bytes",
        "frame",
        "bytes/s",
        "received bytes",
        "frame",
        "bytes/s",
    ];
    console.table(&Table { head, rows: net.links.iter().map(row).collect(), whole: &[0, 1] })?;
    let tone = if net.share > 0.5 { Tone::Bad } else { Tone::Good };
    let share = console.paint(tone, &format!("{:.2} %", net.share * 100.0));
    console.say(&format!(
        "all frames both ways take {share} of {} Mbit/s, preambles and pauses counted",
        NETWORK_BITS / 1_000_000
    ))?;
    if net.least_period_us < PROMISED_US {
        console.say(&format!(
            "the shortest period is {}: below {} no program can promise it; `woodrush status` says how late frames leave",
            show_micros(net.least_period_us),
            show_micros(PROMISED_US)
        ))?;
    }
    Ok(())
}

fn advise(console: &mut Console, line: &LineBudget) -> Result<(), Failure> {
    for advice in &line.advice {
        let mark = console.paint(Tone::Doubt, "change");
        console.say(&format!("{mark}  {advice}"))?;
    }
    Ok(())
}

/// What comes by itself, and what it leaves to reads and writes.
fn comes(console: &mut Console, line: &LineBudget, published: &PublishedBudget) -> Result<(), Failure> {
    let row = |(device, what): &(String, String)| vec![device.clone(), what.clone()];
    let rows = published.what.iter().map(row).collect();
    console.table(&Table { head: vec!["device", "published"], rows, whole: &[0, 1] })?;
    let tone = if published.is_tight() { Tone::Bad } else { Tone::Good };
    let load = console.paint(tone, &format!("{:.0} %", published.load * 100.0));
    let count = u64::try_from(published.what.len()).unwrap_or(1).max(1);
    console.say(&format!(
        "every {}, about {} each on the link: {load} of its {}, and no request",
        show_micros(published.cycle_us),
        show_micros(published.takes_us / count),
        published.turn
    ))?;
    if published.chain_us > 0 {
        let chain = show_micros(published.chain_us);
        console.say(&format!("the longest run of a block with its publication takes {chain}"))?;
    }
    // `sum` of nothing is -0.0, which would be shown so.
    let asked = line.requests.iter().fold(0.0, |asked, own| asked + 1e6 / own.every_us.max(1) as f64);
    console.say(&format!(
        "a read or write takes about {} of what is left: at most {} a second are sent, {asked:.1} are asked for",
        show_micros(published.request_us),
        published.requests_per_second
    ))
}

/// What so many dead devices cost the others.
fn dies(console: &mut Console, line: &LineBudget, dead: usize) -> Result<(), Failure> {
    let Some(dying) = dying(line, dead) else {
        return console
            .say(&format!("{dead} dead devices: the line has {} that are polled", line.dead.len()));
    };
    console.say(&format!(
        "with {dead} dead, those that cost the most: a cycle takes {} for {}, until all of them count as lost;",
        show_micros(dying.cycle_until_lost_us),
        show_micros(dying.until_lost_us)
    ))?;
    console.say(&format!(
        "then the others wait {} at most, for their own cycle and one probe",
        show_micros(dying.cycle_then_us)
    ))
}

fn whole(lines: &[LineBudget], nets: &[NetworkBudget]) -> Table {
    let head = vec![
        "port",
        "device",
        "request",
        "every_us",
        "bytes_sent",
        "bytes_received",
        "wire_us",
        "gaps_us",
        "device_us",
        "takes_us",
        "cycle_us",
        "load",
    ];
    let row = |line: &LineBudget, request: &woodrush_core::budget::RequestBudget| {
        vec![
            line.port.clone(),
            request.device.clone(),
            request.what.clone(),
            request.every_us.to_string(),
            request.bytes_sent.to_string(),
            request.bytes_received.to_string(),
            request.wire_us.to_string(),
            request.gaps_us.to_string(),
            request.device_us.to_string(),
            request.takes_us.to_string(),
            line.cycle_us.to_string(),
            format!("{:.3}", line.load),
        ]
    };
    // A frame each way is bytes on the wire; it has no answer to wait for.
    let exchanged = |net: &NetworkBudget, link: &LinkBudget| {
        let mut row = vec![
            net.port.clone(),
            link.with.clone(),
            "a frame each way".into(),
            link.every_us.to_string(),
            link.sent.frame_bytes.to_string(),
            link.received.frame_bytes.to_string(),
        ];
        row.resize(head.len() - 1, String::new());
        row.push(format!("{:.5}", net.share));
        row
    };
    let rows = lines.iter().flat_map(|line| line.requests.iter().map(move |request| row(line, request)));
    let exchanged = nets.iter().flat_map(|net| net.links.iter().map(move |link| exchanged(net, link)));
    let rows = rows.chain(exchanged).collect();
    Table { head, rows, whole: &[] }
}
