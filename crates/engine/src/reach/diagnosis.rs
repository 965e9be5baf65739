//! What a failed exchange says: what was seen, and the likeliest causes with what tells them apart.

use super::{Closed, Link};
use crate::Evidence;
use std::net::IpAddr;
use woodrush_core::plan::Station;
use woodrush_core::project::Network;
use woodrush_core::protocol::{DIALECTS, refusal_cause, refusal_shown};
use woodrush_core::{Kind, Refusal};

/// Most bytes that are shown of what came.
const SHOWN: usize = 16;

/// One thing that may be wrong.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct Cause {
    /// What.
    pub what: String,
    /// What tells whether it is so: a command, or a look.
    pub test: String,
}

/// What was seen, and what it may come from.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct Diagnosis {
    /// What was seen, in words.
    pub seen: String,
    /// What may be wrong, the likeliest first.
    pub causes: Vec<Cause>,
}

fn cause(what: impl Into<String>, test: impl Into<String>) -> Cause {
    Cause { what: what.into(), test: test.into() }
}

/// How the way is written on a command line, for the commands that tell causes apart.
fn arguments(link: &Link, protocol: &str) -> String {
    match link {
        Link::Serial { path, line, .. } => {
            format!("--serial {} --line \"{line}\" --protocol {protocol}", path.display())
        }
        Link::Socket(to) => format!("{to} --protocol {protocol}"),
    }
}

/// What a way that is not open says; `own` is our own network, where it is known.
#[must_use]
pub fn unopened(link: &Link, closed: &Closed, own: Option<Network>) -> Diagnosis {
    let mut causes = vec![];
    if let (Link::Socket(to), Some(own)) = (link, own)
        && let IpAddr::V4(to) = to.ip()
        && !to.is_loopback()
        && !own.holds(to)
    {
        causes.push(cause(
            format!("{to} is in another subnet than this converter ({own})"),
            "address and prefix length of both, and the router",
        ));
    }
    causes.push(cause(closed.mend.clone(), ""));
    Diagnosis { seen: closed.what.clone(), causes }
}

/// What a failed exchange over a way of our own says.
#[must_use]
pub fn diagnose(link: &Link, station: &Station, refusal: &Refusal, evidence: &Evidence) -> Diagnosis {
    let protocol = station.dialect.map_or("", |dialect| dialect.name());
    let name = station.station_shown();
    if let Some(native) = refusal.native {
        let test =
            format!("woodrush explain \"{}\"", refusal_shown(native).split(',').next().unwrap_or_default());
        return Diagnosis {
            seen: format!("{name} answers and refuses: {}", refusal_shown(native)),
            causes: vec![cause(refusal_cause(native), test)],
        };
    }
    let took = woodrush_core::project::show_micros(evidence.took / 1000 * 1000);
    let came = &evidence.came;
    let bytes: Vec<String> = came.iter().take(SHOWN).map(|byte| format!("{byte:02X}")).collect();
    let more = if came.len() > SHOWN { " …" } else { "" };
    let bytes = format!("{}{more}", bytes.join(" "));
    if let Some(other) = other_framing(protocol, came) {
        let with = format!("woodrush scan {}", arguments(link, other));
        return Diagnosis {
            seen: format!("bytes came that are a frame of `{other}`, not of `{protocol}`: {bytes}"),
            causes: vec![cause("the framing is set differently at the two ends", with)],
        };
    }
    let serial = matches!(link, Link::Serial { .. });
    let scan = format!("woodrush scan {}", arguments(link, protocol));
    match (refusal.kind, came.is_empty()) {
        (Kind::DoesNotFit | Kind::BadValue | Kind::TooMuch, _) => {
            Diagnosis { seen: refusal.kind.words().into(), causes: vec![] }
        }
        (_, true) if evidence.closed => Diagnosis {
            seen: "the connection was made, and the other end closed it without an answer".into(),
            causes: vec![
                cause(
                    "it allows only certain addresses or so many connections",
                    "its list of who may connect; other clients that can be closed",
                ),
                cause("the framing differs: it took the request for nonsense", other_try(link, protocol)),
            ],
        },
        (Kind::NoPath, true) => Diagnosis { seen: "the way is not open any more".into(), causes: vec![] },
        (_, true) if serial => Diagnosis {
            seen: format!("nothing came back within {took}"),
            causes: vec![
                cause(
                    format!("{name} is not there: another unit, no power, or the wires cut or swapped"),
                    scan.clone(),
                ),
                cause("speed or parity differ from the device's", format!("{scan} --lines")),
                cause("the framing differs", other_try(link, protocol)),
            ],
        },
        (_, true) => Diagnosis {
            seen: format!("the connection stands, and nothing came back within {took}"),
            causes: vec![
                cause(format!("{name} is not behind it, or another unit"), scan),
                cause("the framing differs: the other end waits for other frames", other_try(link, protocol)),
                cause("the port number is that of another service", "the device's settings"),
            ],
        },
        (Kind::Mismatch, false) => Diagnosis {
            seen: format!("a sound answer came, and not to this question: {bytes}"),
            causes: vec![
                cause("a second one asks on the same line", "stop the other one, or ask through it"),
                cause("the answer to an earlier question came late", "a longer timeout: `--timeout 3s`"),
            ],
        },
        (_, false) if serial => Diagnosis {
            seen: format!("bytes came and make no frame: {bytes}"),
            causes: vec![
                cause("speed or parity differ from the device's", format!("{scan} --lines")),
                cause(
                    "two devices have the same unit and answer at once",
                    format!("join one at a time, and `{scan}`"),
                ),
                cause(
                    "noise: termination, shield or earth",
                    "`woodrush status` counts damaged frames by device",
                ),
            ],
        },
        (_, false) => Diagnosis {
            seen: format!("bytes came and make no frame of `{protocol}`: {bytes}"),
            causes: vec![
                cause("the framing differs", other_try(link, protocol)),
                cause("another service listens on that port", "the port number at both ends"),
            ],
        },
    }
}

/// Another protocol whose frames such bytes are.
fn other_framing(own: &str, came: &[u8]) -> Option<&'static str> {
    let known = DIALECTS.iter().find(|dialect| dialect.name() == own)?;
    if came.is_empty() || known.is_frame(came) {
        return None;
    }
    DIALECTS
        .iter()
        .find(|dialect| dialect.name() != own && dialect.is_frame(came))
        .map(|dialect| dialect.name())
}

/// The same question in another framing of the same family.
fn other_try(link: &Link, own: &str) -> String {
    let family = DIALECTS.iter().find(|dialect| dialect.name() == own).map(|dialect| dialect.family());
    let transport = match link {
        Link::Serial { .. } => woodrush_core::protocol::Transport::Serial,
        Link::Socket(_) => woodrush_core::protocol::Transport::Connect,
    };
    let other = DIALECTS.iter().find(|dialect| {
        dialect.name() != own && Some(dialect.family()) == family && dialect.runs_on(transport).is_ok()
    });
    other.map_or_else(
        || "the device's settings".into(),
        |other| format!("the same with `--protocol {}`", other.name()),
    )
}
