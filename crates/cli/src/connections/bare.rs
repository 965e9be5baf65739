//! A way that is written on the command line: HOST:PORT or a serial line, what is used there, and the keys of its station.

use super::{Bare, TIMEOUT, usage};
use crate::Failure;
use crate::args::ConnectionArgs;
use std::net::SocketAddr;
use woodrush_core::budget::LineTime;
use woodrush_core::plan::Station;
use woodrush_core::project::{Line, micros};
use woodrush_core::protocol::{DIALECTS, Dialect, KeyKind, Setup, Transport, dialect, usual_protocol};
use woodrush_engine::direct::Link;

/// Out of what was typed.
///
/// # Errors
/// Which option is wrong or missing.
pub(super) fn bare_way(
    args: &ConnectionArgs,
    socket: Option<SocketAddr>,
    timeout: Option<u64>,
) -> Result<Bare, Failure> {
    let transport = if args.serial.is_some() { Transport::Serial } else { Transport::Connect };
    let spoken: &'static dyn Dialect = match &args.protocol {
        Some(name) => dialect(name).ok_or_else(|| {
            let all: Vec<&str> = DIALECTS.iter().map(|known| known.name()).collect();
            usage(format!("there is no protocol `{name}` (one of {})", all.join(", ")))
        })?,
        None => {
            usual_protocol(transport, socket.map(|at| at.port())).ok_or_else(|| usage("add `--protocol`"))?
        }
    };
    spoken
        .runs_on(transport)
        .map_err(|why| usage(format!("`{}` does not go there: {why}", spoken.name())))?;
    let line = match (&args.serial, &args.line) {
        (None, None) => None,
        (None, Some(_)) => return Err(usage("`--line` belongs to a serial line: add `--serial PATH`")),
        (Some(_), None) => return Err(usage("a serial line needs its settings: add `--line \"38400 8E1\"`")),
        (Some(_), Some(text)) => {
            Some(text.parse::<Line>().map_err(|fault| usage(format!("`{text}`: {fault}")))?)
        }
    };
    let setup = setup(spoken, args)?;
    let spoken = spoken.by_memory(&setup).unwrap_or(spoken);
    let link = match (&args.serial, line, socket) {
        (Some(path), Some(line), _) => {
            Link::Serial { path: path.clone(), line, two_wires: false, echo: args.echo }
        }
        (_, _, Some(to)) => Link::Socket(to),
        _ => return Err(usage("name HOST:PORT, or `--serial PATH`")),
    };
    let station = Station::bare(&link.shown(), spoken, setup);
    let times = LineTime::bare(spoken, line, timeout.unwrap_or(TIMEOUT));
    Ok(Bare { held: None, link, station, line: times })
}

/// The keys of the station: `--unit`, `--node`, and any other as `--set NAME=VALUE`.
pub(super) fn setup(spoken: &'static dyn Dialect, args: &ConnectionArgs) -> Result<Setup, Failure> {
    let mut setup = Setup::default();
    let named = [("unit", args.unit), ("node", args.node)].into_iter();
    let named = named.filter_map(|(key, number)| Some((key.to_string(), number?.to_string())));
    let others = args.set.iter().map(|text| {
        let parts =
            text.split_once('=').map(|(key, value)| (key.trim().to_string(), value.trim().to_string()));
        parts.ok_or_else(|| usage(format!("`{text}` is not a key (write it as NAME=VALUE)")))
    });
    let all: Vec<(String, String)> = named.map(Ok).chain(others).collect::<Result<_, _>>()?;
    for (name, value) in all {
        let key = spoken.keys().iter().find(|key| key.name == name && key.table != "images");
        let limit = ["max-read", "max-write"].into_iter().find(|limit| *limit == name);
        let Some((own, kind)) =
            key.map(|key| (key.name, key.kind)).or(limit.map(|key| (key, KeyKind::Whole(1, 65_535))))
        else {
            let known: Vec<&str> =
                spoken.keys().iter().filter(|key| key.table != "images").map(|key| key.name).collect();
            return Err(usage(format!("`{}` has no `{name}` (it has {})", spoken.name(), known.join(", "))));
        };
        let number = value.parse::<u32>().ok();
        match kind {
            KeyKind::Whole(low, high) => {
                match number.filter(|number| (low..=high).contains(&i64::from(*number))) {
                    Some(number) => setup.numbers.push((own, number)),
                    None => {
                        return Err(usage(format!("`{value}` is not a valid `{name}` ({low} to {high})")));
                    }
                }
            }
            KeyKind::Station { high, .. } => match number.filter(|number| i64::from(*number) <= high) {
                Some(number) => setup.numbers.push((own, number)),
                None => return Err(usage(format!("`{value}` is not a valid `{name}` (0 to {high})"))),
            },
            KeyKind::Duration | KeyKind::DurationOr(_) => {
                match micros(&value).and_then(|time| u32::try_from(time).ok()) {
                    Some(time) => setup.numbers.push((own, time)),
                    None => return Err(usage(format!("`{value}` is not a time (write it as 500ms or 2s)"))),
                }
            }
            KeyKind::Choice(words) if !words.contains(&value.as_str()) => {
                return Err(usage(format!(
                    "`{value}` is not a valid `{name}` (one of {})",
                    words.join(", ")
                )));
            }
            _ => setup.words.push((own, value)),
        }
    }
    Ok(setup)
}
