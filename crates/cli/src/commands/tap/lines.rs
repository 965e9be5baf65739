//! Messages as lines, as rows of CSV, and as JSON.

use super::filter::Message;
use super::said::{MessageKind, Place, ShownMessage, Value, hex_bytes};
use crate::console::{Console, Table, Tone, cut};
use woodrush_engine::speak::Side;

/// Bytes of a damaged message that stand in its line.
const HEX_SHOWN: usize = 12;

/// How wide the columns before the text are.
#[derive(Debug, Clone, Copy)]
pub(super) struct LineColumns {
    pub(super) port: usize,
    pub(super) station: usize,
}

/// One message as a line of the terminal, and with `-v` its bytes below.
pub(super) fn line(console: &Console, said: &ShownMessage, columns: LineColumns) -> String {
    let LineColumns { port, station } = columns;
    let arrow = match said.side {
        Side::Asks => "->",
        Side::Answers => "<-",
        Side::Either => "--",
    };
    let time = super::clock(said.unix);
    let head = format!("{time} {:<port$} {arrow} {:<station$} ", cut(&said.port, port), said.station_shown);
    let room = console.line_width().saturating_sub(head.chars().count()).max(24);
    // Every parameter of an opening is told, below it where it has no room.
    let (first, below) = match said.words.split_once(": ") {
        Some(parts) if said.kind == MessageKind::Request && said.words.chars().count() > room => parts,
        _ => ("", ""),
    };
    let (text, tone) = match first {
        "" => text(said, room),
        first => (cut(first, room), None),
    };
    let text = match tone {
        Some(tone) => console.paint(tone, &text),
        None => text,
    };
    let head = match said.kind {
        MessageKind::Request => {
            let (time, rest) = head.split_at(time.len());
            format!("{}{}", console.paint(Tone::Faint, time), console.paint(Tone::Accent, rest))
        }
        _ => console.paint(Tone::Faint, &head),
    };
    let mut line = format!("{head}{text}").trim_end().to_string();
    for part in below.split("; ").filter(|part| !part.is_empty()) {
        line += &console.paint(Tone::Faint, &format!("\n{:13}  {part}", ""));
    }
    if console.verbose && !said.bytes.is_empty() {
        let bytes = hex_bytes(&said.bytes);
        for row in chunks(&bytes, console.width().saturating_sub(13) / 3 * 3) {
            line += &console.paint(Tone::Faint, &format!("\n{:13}{row}", ""));
        }
    }
    line
}

fn chunks(text: &str, width: usize) -> impl Iterator<Item = &str> {
    let bytes = text.as_bytes();
    bytes.chunks(width.max(3)).map(|row| std::str::from_utf8(row).unwrap_or_default().trim_end())
}

fn text(said: &ShownMessage, room: usize) -> (String, Option<Tone>) {
    let again = if said.again { "again: " } else { "" };
    match said.kind {
        MessageKind::Request => {
            let mut text = format!("{again}{}", said.words);
            for place in &said.places {
                text += &format!("  {}", placed(place));
            }
            let written = values(said, room.saturating_sub(text.chars().count() + 3));
            if !written.is_empty() && said.writes {
                text += &format!(" = {written}");
            }
            if let Some(who) = &said.who {
                let from = format!("  from {who}");
                if text.chars().count() + from.chars().count() <= room {
                    text += &from;
                }
            }
            (cut(&text, room), said.again.then_some(Tone::Doubt))
        }
        MessageKind::Answer => {
            let took = format!("{:>8}  ", super::span(said.took_us.unwrap_or(0)));
            let left = room.saturating_sub(took.chars().count());
            if said.failed {
                let mut text = failed(said);
                // What came of it all the same.
                if !said.values.is_empty() {
                    let room = left.saturating_sub(text.chars().count() + 2);
                    text += &format!("  {}", values(said, room));
                }
                return (took + &cut(&text, left), Some(Tone::Bad));
            }
            let told = match &said.why {
                Some(why) if said.values.is_empty() => why.clone(),
                Some(why) => format!("{}  {why}", values(said, left)),
                None if said.places.is_empty() => "done".into(),
                None => values(said, left),
            };
            (took + &cut(&told, left), None)
        }
        MessageKind::Published => {
            let mut text = said.words.clone();
            text += "  ";
            let left = room.saturating_sub(text.chars().count());
            let told = said.why.clone().unwrap_or_else(|| values(said, left));
            (cut(&(text + &told), room), None)
        }
        MessageKind::Cycle => {
            let mut text = format!("{}  ", said.words);
            text += &values(said, room.saturating_sub(text.chars().count()));
            let before = said.unchanged.map_or_else(String::new, |count| format!("  ({count} alike before)"));
            // The values go before the count.
            if text.chars().count() + before.chars().count() <= room {
                text += &before;
            }
            (cut(&text, room), (said.changed == Some(false)).then_some(Tone::Faint))
        }
        MessageKind::NoAnswer => (cut(&failed(said), room), Some(Tone::Bad)),
        MessageKind::Mismatched => (cut(said.why.as_deref().unwrap_or_default(), room), Some(Tone::Bad)),
        MessageKind::Sign => {
            let tone = if said.failed { Tone::Doubt } else { Tone::Faint };
            (cut(&said.words, room), Some(tone))
        }
        MessageKind::Damaged => {
            let hex = hex_bytes(said.bytes.get(..said.bytes.len().min(HEX_SHOWN)).unwrap_or_default());
            let rest = if said.bytes.len() > HEX_SHOWN { " …" } else { "" };
            let why = said.why.as_deref().unwrap_or_default();
            let text = match said.side {
                // Who listens to a line with other settings hears this for ever.
                Side::Either => format!(
                    "{} bytes make no frame (speed or parity?): [{hex}{rest}] {why}",
                    said.bytes.len()
                ),
                _ => format!("damaged: [{hex}{rest}] {why}"),
            };
            (cut(&text, room), Some(Tone::Bad))
        }
    }
}

/// Why an exchange failed, and the values that it was about.
fn failed(said: &ShownMessage) -> String {
    let why = said.short.as_deref().or(said.why.as_deref()).unwrap_or("failed");
    match said.about.as_slice() {
        [] => {
            said.places.first().map_or_else(|| why.to_string(), |place| format!("{why}: {}", placed(place)))
        }
        names => format!("{why}: {}", names.join(", ")),
    }
}

fn placed(place: &Place) -> String {
    let count = if place.count == 1 { String::new() } else { format!(" x{}", place.count) };
    let offset = if place.offset.is_empty() { String::new() } else { format!(" ({})", place.offset) };
    format!("{}{count}{offset}", place.address)
}

/// Values by name, as many as fit; a name's device stands once for all of its values that follow.
fn values(said: &ShownMessage, room: usize) -> String {
    if said.values.is_empty() {
        let raw = said.places.iter().filter_map(|place| place.raw.as_deref());
        return cut(&raw.collect::<Vec<_>>().join(" "), room);
    }
    let (mut text, mut before, mut left) = (String::new(), "", said.values.len() + said.more);
    for value in &said.values {
        let (owner, own) = value.name.split_at(value.name.find(['.', ':']).map_or(0, |at| at + 1));
        let owner = owner.get(..owner.len().saturating_sub(1)).unwrap_or_default();
        let name = if owner == before { own.to_string() } else { format!("{owner} {own}") };
        let one = format!("{}{name} {}", if text.is_empty() { "" } else { ", " }, shown(value));
        // Room for how many more there are.
        let reserve = if left > 1 { 6 } else { 0 };
        if text.chars().count() + one.chars().count() + reserve > room && !text.is_empty() {
            break;
        }
        text += &one;
        before = owner;
        left -= 1;
    }
    if left > 0 {
        text += &format!(", +{left}");
    }
    text
}

fn shown(value: &Value) -> String {
    let own = value.value.clone().unwrap_or_else(|| format!("no value ({})", value.raw));
    [Some(own), value.eu.clone()].into_iter().flatten().collect::<Vec<_>>().join(" ")
}

/// What we make of a message, for the capture.
pub(super) fn comment(said: &ShownMessage) -> String {
    let who = said.owner.as_deref().unwrap_or(&said.port);
    let station =
        if said.station_shown.is_empty() { String::new() } else { format!(" {}", said.station_shown) };
    let (text, _) = text(said, 2000);
    format!("woodrush: {who}{station}: {}", text.trim())
}

/// Messages as rows of one table.
pub(super) fn table(messages: &[Message]) -> Table {
    let row = |(said, _): &Message| {
        let values = said.values.iter().map(|value| format!("{} = {}", value.name, shown(value)));
        let places = said.places.iter().map(placed);
        vec![
            super::stamp(said.unix),
            said.port.clone(),
            said.who.clone().unwrap_or_default(),
            said.exchange.map(|exchange| exchange.to_string()).unwrap_or_default(),
            format!("{:?}", said.kind).to_lowercase(),
            said.station.as_ref().map(ToString::to_string).unwrap_or_default(),
            said.owner.clone().unwrap_or_default(),
            said.code.map(|code| code.to_string()).unwrap_or_default(),
            said.words.clone(),
            places.collect::<Vec<_>>().join("; "),
            values.collect::<Vec<_>>().join("; "),
            said.took_us.map(|took| took.to_string()).unwrap_or_default(),
            said.why.clone().unwrap_or_default(),
            hex_bytes(&said.bytes),
        ]
    };
    let head = vec![
        "time", "port", "who", "exchange", "kind", "station", "owner", "code", "words", "places", "values",
        "took_us", "why", "bytes",
    ];
    Table { head, rows: messages.iter().map(row).collect(), whole: &[] }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::commands::small_site;
    use crate::commands::tap::said::MessageTeller;
    use woodrush_engine::Moment;
    use woodrush_engine::speak::{ObserverSetup, speaker};
    use woodrush_engine::tap::Conversation;

    const RULES: &str = r#"
[[map]]
from = "gauge:400001 as i16 scale 0.01"
to = "scada:400001 as f32 ABCD"
count = 9
access = "read-write"
"#;

    fn hex(text: &str) -> Vec<u8> {
        text.split_whitespace().map(|pair| u8::from_str_radix(pair, 16).unwrap()).collect()
    }

    /// What is said of frames on the line, each one after the other.
    fn said(frames: &[(Side, &str)]) -> Vec<ShownMessage> {
        let checked = small_site::with(RULES);
        let teller = MessageTeller::new(Some(&checked), 100);
        let port = &checked.project.ports[0].setup;
        let observer = (speaker("modbus-rtu").unwrap().observer)(&ObserverSetup {
            port,
            stations: &checked.plan.devices,
            published: &[],
        });
        let mut conversation = Conversation::new(observer, 500_000);
        let mut found = vec![];
        for (at, (side, frame)) in (1u64..).zip(frames) {
            let moment = Moment(at * 5_000);
            conversation.handle(moment, moment, *side, &hex(frame));
            found.extend(std::iter::from_fn(|| conversation.poll(moment)));
        }
        found.extend(std::iter::from_fn(|| conversation.poll(Moment(60_000_000))));
        found.iter().map(|passed| teller.tell("line", None, passed, 0)).collect()
    }

    fn texts(frames: &[(Side, &str)], room: usize) -> Vec<String> {
        said(frames).iter().map(|said| text(said, room).0.trim().to_string()).collect()
    }

    const ASKED: &str = "07 03 00 00 00 03 05 AD";
    const ANSWERED: &str = "07 03 06 06 D2 06 D3 FF 9C 02 49";

    #[test]
    fn a_request_and_its_answer_have_the_projects_names() {
        let both = [(Side::Asks, ASKED), (Side::Answers, ANSWERED)];
        assert_eq!(
            texts(&both, 80),
            [
                "read holding registers  400001 x3 (holding:0)",
                "5 ms  gauge 400001 17.46, 400002 17.47, 400003 -1"
            ]
        );
        // What does not fit is counted, and nothing is wider than its room.
        let narrow = texts(&both, 40);
        assert_eq!(narrow[1], "5 ms  gauge 400001 17.46, +2");
        assert!(texts(&both, 24).iter().all(|line| line.chars().count() <= 24));
        let comment = comment(&said(&both)[1]);
        assert!(comment.starts_with("woodrush: gauge unit 7: 5 ms  gauge 400001 17.46"), "{comment}");
    }

    #[test]
    fn what_fails_says_why_and_for_which_values() {
        let refused = [(Side::Asks, ASKED), (Side::Answers, "07 83 02 20 F0")];
        assert_eq!(
            texts(&refused, 90)[1],
            "5 ms  refused: Modbus exception 2 (0x02): gauge:400001, gauge:400002, gauge:400003"
        );
        let silent = texts(&[(Side::Asks, ASKED)], 90);
        assert_eq!(silent[1], "no answer within 500 ms: gauge:400001, gauge:400002, gauge:400003");
        let noise = texts(&[(Side::Asks, ASKED), (Side::Answers, "FF 00 13")], 90);
        assert!(noise[1].starts_with("damaged: [FF 00 13] RTU frame, byte"), "{noise:?}");
    }

    #[test]
    fn a_listener_gets_back_into_step_behind_bytes_that_make_no_frame() {
        let line = |frame| (Side::Either, frame);
        let garbage = "FF 80 FE 00 E0 80 FE 80 E0 C7 07 80 FF FE";
        let heard =
            said(&[line(ASKED), line(ANSWERED), line(garbage), line(garbage), line(ASKED), line(ANSWERED)]);
        let kinds: Vec<MessageKind> = heard.iter().map(|said| said.kind).collect();
        let (asked, answered, damaged) = (MessageKind::Request, MessageKind::Answer, MessageKind::Damaged);
        assert_eq!(kinds, [asked, answered, damaged, asked, answered]);
        assert_eq!(heard[4].took_us, Some(5_000), "each piece keeps its own time");
        let told = text(&heard[2], 200).0;
        assert!(told.starts_with("28 bytes make no frame (speed or parity?)"), "{told}");
    }

    #[test]
    fn a_write_shows_what_is_written() {
        let written = texts(&[(Side::Asks, "07 06 00 01 06 D2 5B 91")], 90);
        assert_eq!(written[0], "write register  400002 (holding:1) = gauge 400002 17.46");
    }
}
