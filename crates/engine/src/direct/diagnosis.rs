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
    causes.push(cause(closed.fix.clone(), ""));
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
                    "it allows only certain addresses, or its connections are all used",
                    "its list of who may connect; other clients that can be closed",
                ),
                cause("the framing differs: it took the request for nonsense", other_try(link, protocol)),
            ],
        },
        (Kind::NoPath, true) => Diagnosis { seen: "the connection is no longer open".into(), causes: vec![] },
        (_, true) if serial => Diagnosis {
            seen: format!("nothing came back within {took}"),
            causes: vec![
                cause(
                    format!("{name} is not there: another unit, no power, or the wires cut or swapped"),
                    scan.clone(),
                ),
                cause("speed or parity differ from the device's", format!("{scan} --find-settings")),
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
            seen: format!("a correct answer came, but not to this request: {bytes}"),
            causes: vec![
                cause("a second client asks on the same line", "stop the other one, or ask through it"),
                cause("the answer to an earlier request came late", "a longer timeout: `--timeout 3s`"),
            ],
        },
        (_, false) if serial => Diagnosis {
            seen: format!("bytes came that make no frame: {bytes}"),
            causes: vec![
                cause("speed or parity differ from the device's", format!("{scan} --find-settings")),
                cause(
                    "two devices have the same unit and answer at once",
                    format!("connect one at a time, and `{scan}`"),
                ),
                cause(
                    "noise: termination, shield or earth",
                    "`woodrush status` counts damaged frames by device",
                ),
            ],
        },
        (_, false) => Diagnosis {
            seen: format!("bytes came that make no frame of `{protocol}`: {bytes}"),
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
    if came.is_empty() || known.framing().is_frame(came) {
        return None;
    }
    DIALECTS
        .iter()
        .find(|dialect| dialect.name() != own && dialect.framing().is_frame(came))
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

#[cfg(test)]
mod tests {
    use super::*;
    use std::net::SocketAddr;
    use woodrush_core::Blame;
    use woodrush_core::protocol::{Setup, dialect};

    fn station(protocol: &str) -> Station {
        Station::bare(
            "there",
            dialect(protocol).unwrap(),
            Setup { numbers: vec![("unit", 27)], words: vec![], ..Setup::default() },
        )
    }

    fn socket() -> Link {
        Link::Socket(SocketAddr::from(([192, 0, 2, 40], 502)))
    }

    fn serial() -> Link {
        let line = "38400 8E1".parse().unwrap();
        Link::Serial { path: "/dev/ttyUSB0".into(), line, two_wires: false, echo: false }
    }

    fn seen(link: &Link, protocol: &str, kind: Kind, came: &[u8], closed: bool) -> Diagnosis {
        let evidence =
            Evidence { sent: vec![1], came: came.to_vec(), closed, took: 1_000_000, unasked: None };
        diagnose(link, &station(protocol), &Refusal::new(kind, Blame::Device), &evidence)
    }

    #[test]
    fn a_frame_of_another_framing_is_recognised_in_both_directions() {
        // Unit 27, function 3, one register: over MBAP, and with a CRC.
        let mbap = [0, 1, 0, 0, 0, 5, 27, 3, 2, 0x06, 0xD2];
        let mut rtu = vec![];
        woodrush_wire::modbus::rtu::emit(27, &[3, 2, 0x06, 0xD2], &mut rtu);
        let other = seen(&socket(), "modbus-rtu", Kind::Damaged, &mbap, false);
        assert!(other.seen.contains("a frame of `modbus-tcp`, not of `modbus-rtu`"), "{}", other.seen);
        assert_eq!(other.causes[0].test, "woodrush scan 192.0.2.40:502 --protocol modbus-tcp");
        let other = seen(&socket(), "modbus-tcp", Kind::Damaged, &rtu, false);
        assert!(other.seen.contains("a frame of `modbus-rtu`"), "{}", other.seen);
        // A frame of its own that was to another question is no other framing.
        let own = seen(&socket(), "modbus-rtu", Kind::Mismatch, &rtu, false);
        assert!(own.seen.contains("not to this request"), "{}", own.seen);
    }

    #[test]
    fn silence_damage_and_a_closed_connection_have_causes_of_their_own_with_a_test_each() {
        let cases = [
            (
                serial(),
                Kind::NoAnswer,
                &[][..],
                false,
                "nothing came back within 1 s",
                "unit 27 is not there",
            ),
            (
                serial(),
                Kind::Damaged,
                &[0xFF, 0x80][..],
                false,
                "make no frame: FF 80",
                "speed or parity differ",
            ),
            (socket(), Kind::NoAnswer, &[], false, "the connection stands", "unit 27 is not behind it"),
            (
                socket(),
                Kind::NoAnswer,
                &[],
                true,
                "closed it without an answer",
                "allows only certain addresses",
            ),
            (
                socket(),
                Kind::Damaged,
                &[1, 2, 3],
                false,
                "make no frame of `modbus-rtu`",
                "the framing differs",
            ),
        ];
        for (link, kind, came, closed, what, first) in cases {
            let told = seen(&link, "modbus-rtu", kind, came, closed);
            assert!(told.seen.contains(what), "{}", told.seen);
            assert!(told.causes[0].what.contains(first), "{:?}", told.causes);
            assert!(
                told.causes.len() >= 2 && told.causes.iter().all(|cause| !cause.test.is_empty()),
                "{:?}",
                told.causes
            );
        }
        let lines = seen(&serial(), "modbus-rtu", Kind::NoAnswer, &[], false);
        let all: Vec<&str> = lines.causes.iter().map(|cause| cause.test.as_str()).collect();
        assert!(all[1].ends_with("--line \"38400 8E1\" --protocol modbus-rtu --find-settings"), "{all:?}");
        assert_eq!(all[2], "the same with `--protocol modbus-ascii`");
    }

    #[test]
    fn another_subnet_is_told_where_ours_is_known() {
        let closed =
            Closed { what: "192.0.2.40:502 does not answer".into(), fix: "is the machine on?".into() };
        let own = |last, prefix| Some(Network { address: [192, 0, 2, last].into(), prefix });
        let far = unopened(&socket(), &closed, own(200, 27));
        assert!(far.causes[0].what.contains("another subnet"), "{:?}", far.causes);
        assert_eq!(unopened(&socket(), &closed, own(10, 24)).causes.len(), 1);
        assert_eq!(unopened(&socket(), &closed, None).causes.len(), 1);
    }
}
