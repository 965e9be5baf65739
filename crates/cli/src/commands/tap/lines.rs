//! Messages as lines, as rows of CSV, and as JSON.

use super::filter::Message;
use super::said::{Kind, Place, Said, Value, hex_bytes};
use crate::console::{Console, Table, Tone};
use woodrush_engine::speak::Side;

/// Bytes of a damaged message that stand in its line.
const HEX_SHOWN: usize = 12;

/// How wide the columns before the text are.
#[derive(Debug, Clone, Copy)]
pub(super) struct Columns {
    pub(super) port: usize,
    pub(super) station: usize,
}

/// One message as a line of the terminal, and with `-v` its bytes below.
pub(super) fn line(console: &Console, said: &Said, columns: Columns) -> String {
    let Columns { port, station } = columns;
    let arrow = match said.side {
        Side::Asks => "->",
        Side::Answers => "<-",
        Side::Either => "--",
    };
    let time = super::clock(said.unix);
    let head = format!("{time} {:<port$} {arrow} {:<station$} ", cut(&said.port, port), said.station_shown);
    let room = console.width().saturating_sub(head.chars().count()).max(24);
    let (text, tone) = text(said, room);
    let text = match tone {
        Some(tone) => console.paint(tone, &text),
        None => text,
    };
    let head = match said.kind {
        Kind::Request => {
            let (time, rest) = head.split_at(time.len());
            format!("{}{}", console.paint(Tone::Faint, time), console.paint(Tone::Accent, rest))
        }
        _ => console.paint(Tone::Faint, &head),
    };
    let mut line = format!("{head}{text}").trim_end().to_string();
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

fn text(said: &Said, room: usize) -> (String, Option<Tone>) {
    let again = if said.again { "again: " } else { "" };
    match said.kind {
        Kind::Request => {
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
        Kind::Answer => {
            let took = format!("{:>8}  ", super::span(said.took_us.unwrap_or(0)));
            let left = room.saturating_sub(took.chars().count());
            if said.failed {
                return (took + &cut(&failed(said), left), Some(Tone::Bad));
            }
            let told = match &said.why {
                Some(why) => why.clone(),
                None if said.places.is_empty() => "done".into(),
                None => values(said, left),
            };
            (took + &cut(&told, left), None)
        }
        Kind::Silence => (cut(&failed(said), room), Some(Tone::Bad)),
        Kind::Stray => (cut(said.why.as_deref().unwrap_or_default(), room), Some(Tone::Bad)),
        Kind::Sign => {
            let tone = if said.failed { Tone::Doubt } else { Tone::Faint };
            (cut(&said.words, room), Some(tone))
        }
        Kind::Damaged => {
            let hex = hex_bytes(said.bytes.get(..said.bytes.len().min(HEX_SHOWN)).unwrap_or_default());
            let rest = if said.bytes.len() > HEX_SHOWN { " …" } else { "" };
            let why = said.why.as_deref().unwrap_or_default();
            let text = format!("damaged: [{hex}{rest}] {why}");
            (cut(&text, room), Some(Tone::Bad))
        }
    }
}

/// Why an exchange failed, and the values that it was about.
fn failed(said: &Said) -> String {
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
fn values(said: &Said, room: usize) -> String {
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

/// A text that is no longer than this; a longer one ends with a mark.
fn cut(text: &str, room: usize) -> String {
    if text.chars().count() <= room {
        return text.to_string();
    }
    text.chars().take(room.saturating_sub(1)).chain(['…']).collect()
}

/// What we make of a message, for the capture.
pub(super) fn comment(said: &Said) -> String {
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
            said.station.map(|station| station.to_string()).unwrap_or_default(),
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
