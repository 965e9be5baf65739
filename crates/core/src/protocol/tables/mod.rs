//! Controllers with a data table, asked over DF1: notation, keys, limits and costs.

mod notation;

use super::{
    Address, AddressFault, BitWrite, Brings, Cost, Dialect, Example, Grain, Key, KeyKind, Setup, Shown,
    Space, TooMuch, Transport, Verb,
};
use crate::form::{Order, Type};
use crate::line::Line;
use std::borrow::Cow;
use std::ops::Range;
use woodrush_wire::df1::{
    Check, Command, Logical, Message, Table, emit_message, emit_to_station, ext_words, sts_words,
};

/// DF1, in full or half duplex.
#[derive(Debug)]
pub(super) struct Tables {
    half: bool,
}

/// `df1`.
pub(super) static FULL: Tables = Tables { half: false };
/// `df1-half`.
pub(super) static HALF: Tables = Tables { half: true };

/// One kind of file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct File {
    letter: &'static str,
    noun: &'static str,
    /// Type code in the logical commands.
    kind: u8,
    /// Bytes of an element on the wire.
    bytes: u32,
    /// The file number, where there is only one.
    fixed: Option<u32>,
    /// The file that a new program begins with.
    default: Option<u32>,
}

const fn file(letter: &'static str, noun: &'static str, kind: u8, bytes: u32, default: Option<u32>) -> File {
    File { letter, noun, kind, bytes, fixed: None, default }
}

const fn single(letter: &'static str, noun: &'static str, kind: u8, number: u32) -> File {
    File { letter, noun, kind, bytes: 2, fixed: Some(number), default: Some(number) }
}

/// Characters of a string element.
const CHARACTERS: u16 = 82;
/// Its characters in words, behind the word with its length.
const STRING_WORDS: u32 = 41;

static FILES: [File; 13] = [
    single("O", "output word", 0x8B, 0),
    single("I", "input word", 0x8C, 1),
    single("S", "status word", 0x84, 2),
    file("B", "bit word", 0x85, 2, Some(3)),
    file("T", "timer", 0x86, 6, Some(4)),
    file("C", "counter", 0x87, 6, Some(5)),
    file("R", "control element", 0x88, 6, Some(6)),
    file("N", "integer", 0x89, 2, Some(7)),
    file("F", "float", 0x8A, 4, Some(8)),
    file("ST", "string", 0x8D, 84, None),
    file("A", "character word", 0x8E, 2, None),
    file("D", "BCD word", 0x8F, 2, None),
    file("L", "long", 0x91, 4, None),
];

impl File {
    fn is_io(self) -> bool {
        matches!(self.letter, "I" | "O")
    }

    fn has_bits(self) -> bool {
        !matches!(self.letter, "F" | "ST")
    }

    fn a(self) -> String {
        let article = if self.noun.starts_with(['a', 'e', 'i', 'o', 'u']) { "an" } else { "a" };
        format!("{article} {}", self.noun)
    }

    /// Why the family does not have it.
    fn not_in(self, octal: bool) -> Option<&'static str> {
        match (self.letter, octal) {
            ("L", true) => Some("controllers with octal inputs and outputs have no files of longs"),
            ("D", false) => Some(
                "only controllers with octal inputs and outputs have BCD files: is `io-addresses` right?",
            ),
            _ => None,
        }
    }

    /// Grains from one element to the next.
    fn grains(self) -> u32 {
        if self.letter == "ST" { STRING_WORDS } else { 1 }
    }

    fn brings(self, sub: u16) -> Brings {
        Brings::Type(match self.letter {
            "N" => Type::I16,
            "F" => Type::F32,
            "L" => Type::I32,
            "ST" => Type::Text(CHARACTERS),
            "D" => Type::Bcd16,
            "T" | "C" | "R" if sub > 0 => Type::I16,
            "B" => Type::U16,
            _ => return Brings::Width(Type::U16),
        })
    }
}

/// Elements of a file; of inputs and outputs in octal so many words.
const fn elements(io: bool, octal: bool) -> u32 {
    match (octal, io) {
        (true, true) => 0o300,
        (true, false) => 1000,
        (false, _) => 256,
    }
}

fn space_of(file: File, number: u32, sub: u16, octal: bool) -> Space {
    let part = match (file.letter, sub) {
        ("T" | "C", 1) => ".PRE".to_string(),
        ("T" | "C", 2) => ".ACC".to_string(),
        ("R", 1) => ".LEN".to_string(),
        ("R", 2) => ".POS".to_string(),
        (_, 0) => String::new(),
        (_, word) => format!(".{word}"),
    };
    let wide = file.bytes == 4;
    Space {
        key: Cow::Owned(format!("{}{number}{part}", file.letter)),
        noun: file.noun,
        grain: Grain::Bytes(if wide { 4 } else { 2 }),
        align: if file.letter == "ST" { 41 } else { 1 },
        len: Some(elements(file.is_io(), octal) * file.grains()),
        writable: file.letter != "I",
        bits: if file.has_bits() { BitWrite::Masked } else { BitWrite::Never },
        only: match file.letter {
            "F" => &[Type::F32],
            "L" => &[Type::I32, Type::U32],
            "ST" => &[Type::Text(CHARACTERS)],
            _ => &[],
        },
        rewritten: file.letter == "O",
    }
}

/// The lengths of the strings of a file.
fn length_space(number: u32) -> Space {
    Space {
        key: Cow::Owned(format!("ST{number}.LEN")),
        noun: "string length",
        grain: Grain::Bytes(2),
        align: 1,
        len: Some(256),
        writable: true,
        bits: BitWrite::Masked,
        only: &[],
        rewritten: false,
    }
}

/// The file of a space, its number, and the name of its part.
fn named(space: &Space) -> Option<(File, u32, Option<&str>)> {
    let (whole, part) = match space.key.split_once('.') {
        Some((whole, part)) => (whole, Some(part)),
        None => (space.key.as_ref(), None),
    };
    let digits = whole.find(|c: char| c.is_ascii_digit())?;
    let (letter, number) = whole.split_at(digits);
    let file = FILES.iter().find(|file| file.letter == letter)?;
    Some((*file, number.parse().ok()?, part))
}

/// What a space of this protocol stands for, for whoever asks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Spot {
    /// Number of the file.
    pub file: u16,
    /// Its type code in the logical commands.
    pub kind: u8,
    /// Bytes of an element on the wire.
    pub bytes: usize,
    /// Grains from one element to the next.
    pub grains: u32,
    /// The word of each element that the space is of; `None` where it is of whole elements.
    pub sub: Option<u16>,
}

impl Spot {
    /// Of a space.
    #[must_use]
    pub fn of(space: &Space) -> Option<Self> {
        let (file, number, part) = named(space)?;
        let sub = match (file.letter, part) {
            ("T" | "C" | "R", None) | ("ST", Some("LEN")) => Some(0),
            ("T" | "C" | "R", Some("PRE" | "LEN")) => Some(1),
            ("T" | "C" | "R", Some("ACC" | "POS")) => Some(2),
            (_, None) => None,
            (_, Some(word)) => Some(word.parse().ok()?),
        };
        let whole = file.letter == "ST" && part.is_none();
        Some(Self {
            file: u16::try_from(number).ok()?,
            kind: file.kind,
            bytes: file.bytes as usize,
            grains: if whole { STRING_WORDS } else { 1 },
            sub,
        })
    }

    /// Whether it is of strings.
    #[must_use]
    pub const fn is_text(&self) -> bool {
        self.kind == 0x8D && self.sub.is_none()
    }

    /// Whether it is of inputs or outputs, whose slots have as many words as they have.
    #[must_use]
    pub const fn is_io(&self) -> bool {
        matches!(self.kind, 0x8B | 0x8C)
    }

    /// Where element `element` is, for the logical commands.
    #[must_use]
    pub fn logical(&self, element: u16) -> Logical {
        Logical { file: self.file, kind: self.kind, element, sub: Some(self.sub.unwrap_or(0)) }
    }

    /// Where it is, for the word-range and read-modify-write commands.
    #[must_use]
    pub const fn table(&self, element: u16) -> Table<'static> {
        Table::of(self.file, element, self.sub)
    }

    /// Bytes on the wire of so many grains: a part alone, or whole elements where several of them are asked for.
    #[must_use]
    pub fn wire_bytes(&self, count: u32) -> usize {
        match self.sub {
            Some(_) if count == 1 => 2,
            _ => (count / self.grains.max(1)) as usize * self.bytes,
        }
    }
}

/// Whether a device takes the word-range commands.
#[must_use]
pub fn by_ranges(setup: &Setup) -> bool {
    match setup.word("commands") {
        Some(commands) => commands == "word-range",
        None => octal(setup),
    }
}

/// How the link is checked.
#[must_use]
pub fn check(setup: &Setup) -> Check {
    if setup.word("check-field") == Some("bcc") { Check::Bcc } else { Check::Crc }
}

fn octal(setup: &Setup) -> bool {
    setup.word("io-addresses") == Some("octal")
}

static KEYS: [Key; 9] = [
    Key {
        table: "ports",
        name: "check-field",
        kind: KeyKind::Choice(&["crc", "bcc"]),
        doc: "how messages are checked: `crc` (default) or `bcc`, the same at both ends",
    },
    Key { table: "ports", name: "own-node", kind: KeyKind::Whole(0, 254), doc: "our node number; default 0" },
    Key {
        table: "ports",
        name: "ack-timeout",
        kind: KeyKind::Duration,
        doc: "wait for the link's acknowledgement; default 1s",
    },
    Key {
        table: "ports",
        name: "link-retries",
        kind: KeyKind::Whole(0, 100),
        doc: "how often the link tries again, after refusals and after silence each; default 3",
    },
    Key {
        table: "devices",
        name: "node",
        kind: KeyKind::Station { high: 254, any: false },
        doc: "DF1 node, 0 to 254",
    },
    Key {
        table: "devices",
        name: "io-addresses",
        kind: KeyKind::Choice(&["decimal", "octal"]),
        doc: "how the controller numbers words and bits of inputs and outputs; default `decimal`",
    },
    Key {
        table: "devices",
        name: "commands",
        kind: KeyKind::Choice(&["logical", "word-range"]),
        doc: "the read and write commands it takes: `logical` (default with decimal) or `word-range` (default with octal)",
    },
    Key {
        table: "images",
        name: "node",
        kind: KeyKind::Station { high: 254, any: true },
        doc: "the DF1 node that it answers as",
    },
    Key {
        table: "images",
        name: "io-addresses",
        kind: KeyKind::Choice(&["decimal", "octal"]),
        doc: "how words and bits of inputs and outputs are numbered; default `decimal`",
    },
];

/// Most data bytes of one command, each way.
const LOGICAL: (u32, u32) = (236, 234);
const RANGES: (u32, u32) = (244, 236);

impl Dialect for Tables {
    fn name(&self) -> &'static str {
        if self.half { "df1-half" } else { "df1" }
    }

    fn family(&self) -> &'static str {
        "data tables"
    }

    fn runs_on(&self, transport: Transport) -> Result<(), &'static str> {
        match transport {
            Transport::Serial | Transport::Connect => Ok(()),
            Transport::Listen | Transport::Pty => Err(
                "it is spoken on a serial line, or through a serial server that is dialled: write `serial` or `connect`",
            ),
        }
    }

    fn refusal_name(&self) -> &'static str {
        "DF1 status"
    }

    fn refusal_text(&self, code: u32) -> String {
        match code.checked_sub(256) {
            None => format!("STS 0x{code:02X}"),
            Some(ext) => format!("EXT STS 0x{ext:02X}"),
        }
    }

    fn refusal_words(&self, code: u32) -> (&'static str, &'static str) {
        let ext = code.checked_sub(256).and_then(|ext| u8::try_from(ext).ok());
        let sts = u8::try_from(code).unwrap_or(0xF0);
        let words = ext.map_or(sts_words(sts), ext_words);
        let cause = match (sts, ext) {
            (0x10, None) => {
                "the controller does not know the command: is `commands` right for its family, and the file of that type?"
            }
            (0x50, None) | (_, Some(0x06 | 0x07 | 0x13)) => {
                "is the file there, of that type, and long enough?"
            }
            (0x60, None) | (_, Some(0x0B | 0x10 | 0x1A | 0x1B | 0x1E)) => {
                "the file is protected, or somebody else holds it"
            }
            (0x70, None) => "turn its key switch to run",
            (_, Some(0x09 | 0x0A)) => "ask for less at once: set `max-read`",
            (0x01 | 0x90 | 0xA0 | 0xB0 | 0xC0, None) | (_, Some(0x1F)) => {
                "the controller is busy; poll it less often"
            }
            (0x02 | 0x05 | 0x07 | 0x30, None) => "a node on the way does not reach the controller",
            _ => "look at the controller's manual",
        };
        (words, cause)
    }

    fn grains_of(&self, space: &Space, size: u32) -> u32 {
        size.saturating_mul(Spot::of(space).map_or(1, |spot| spot.grains))
    }

    fn health_codes(&self) -> Range<u32> {
        512..1024
    }

    fn lost_answer(&self) -> &'static str {
        "STS 0x30"
    }

    fn odd_tcp_port(&self, port: u16) -> Option<&'static str> {
        (port == 502).then_some("port 502 is where everybody expects Modbus")
    }

    fn keys(&self) -> &'static [Key] {
        &KEYS
    }

    fn parse(&self, text: &str, setup: &Setup) -> Result<Address, AddressFault> {
        notation::parse(text, octal(setup))
    }

    fn show(&self, space: &Space, first: u32, _width: u32, bit: Option<u8>, setup: &Setup) -> Shown {
        notation::show(space, first, bit, octal(setup))
    }

    fn notations(&self, space: &Space, first: u32, bit: Option<u8>) -> Vec<(&'static str, String)> {
        notation::all(space, first, bit, false)
    }

    fn standing(&self) -> &'static [Space] {
        &[]
    }

    fn silence(&self, _line: Line) -> u64 {
        0
    }

    fn acknowledges(&self) -> bool {
        true
    }

    fn unanswered(&self, port: &Setup) -> Option<u64> {
        let tries = u64::from(port.number("link-retries").unwrap_or(3)) + 1;
        Some(tries * u64::from(port.number("ack-timeout").unwrap_or(1_000_000)))
    }

    fn order(&self) -> Option<Order> {
        // Little-endian throughout: of two words that are one value the low one comes first.
        Some(Order { low_word_first: true, low_byte_first: false })
    }

    fn cost(&self, verb: Verb, space: &Space, count: u32, setup: &Setup) -> Result<Cost, TooMuch> {
        let Some(spot) = Spot::of(space) else { return Err(TooMuch { limit: 0, source: "the notation" }) };
        let ranges = by_ranges(setup);
        let standard = if ranges { RANGES } else { LOGICAL };
        let (most, key) = match verb {
            Verb::Read => (standard.0, "max-read"),
            Verb::Write => (standard.1, "max-write"),
        };
        let own = setup.number(key).filter(|own| *own < most);
        let (most, source) = own.map_or((most, "the command"), |own| (own, key));
        let per_element = u32::try_from(spot.bytes).unwrap_or(2);
        let alone = match (verb, spot.sub) {
            // The parts between belong to others; and slots have as many words as they have.
            (Verb::Write, Some(_)) => true,
            (Verb::Read, Some(_)) => spot.is_io() || spot.bytes > 6,
            _ => spot.is_io() && !octal(setup),
        };
        let limit =
            if alone { 1 } else { (most / per_element).max(u32::from(spot.sub.is_some())) * spot.grains };
        if count > limit {
            return Err(TooMuch { limit, source });
        }
        let data = u32::try_from(spot.wire_bytes(count)).unwrap_or(u32::MAX);
        // Places take more bytes for large numbers; the budget counts small ones.
        let mut place = vec![];
        if ranges {
            spot.table(0).emit(&mut place)
        } else {
            spot.logical(0).emit(&mut place)
        }
        let place = u32::try_from(place.len()).unwrap_or(4);
        let check = if check(setup) == Check::Bcc { 1 } else { 2 };
        let frame = |body: u32| 4 + 6 + body + check;
        let parameters = if ranges { 1 + 4 + place } else { 1 + 1 + place };
        let (asked, answered) = match verb {
            Verb::Read => (parameters + u32::from(ranges), data),
            Verb::Write => (parameters + data, 0),
        };
        // Each message has its acknowledgement the other way; in half duplex the reply is polled for.
        let (polls, station) = if self.half { (4, 3) } else { (0, 0) };
        Ok(Cost { out: station + frame(asked) + polls + 2, back: 2 + frame(answered), turns: 2 })
    }

    fn station(&self, setup: &Setup) -> Option<u32> {
        setup.number("node")
    }

    fn station_key(&self, _transport: Transport) -> Option<(&'static str, Range<u32>)> {
        Some(("node", 0..255))
    }

    fn request_code(&self, _request: &[u8]) -> Option<u8> {
        None
    }

    fn example(&self, verb: Verb, space: &Space, first: u32, cells: &[u8], setup: &Setup) -> Example {
        let nothing = || Example { words: "no such place".into(), request: vec![], answer: vec![] };
        let Some(spot) = Spot::of(space) else { return nothing() };
        let count = u32::try_from(cells.len() / space.grain.cell_bytes()).unwrap_or(1);
        let data = to_wire(&spot, count, cells);
        let element = u16::try_from(first / spot.grains.max(1)).unwrap_or(u16::MAX);
        let size = u8::try_from(data.len()).unwrap_or(u8::MAX);
        let words = u16::from(size / 2);
        let (offset, total) = (0, words);
        let command = match (verb, by_ranges(setup)) {
            (Verb::Read, false) => Command::Read { size, at: spot.logical(element) },
            (Verb::Write, false) => Command::Write { at: spot.logical(element), data: &data },
            (Verb::Read, true) => Command::RangeRead { offset, total, at: spot.table(element), size },
            (Verb::Write, true) => {
                Command::RangeWrite { offset, total, at: spot.table(element), data: &data }
            }
        };
        let mut body = vec![];
        command.emit(&mut body);
        let node = u8::try_from(setup.number("node").unwrap_or(1)).unwrap_or(1);
        let own = u8::try_from(setup.number("own-node").unwrap_or(0)).unwrap_or(0);
        let asked = Message { dst: node, src: own, cmd: 0x0F, sts: 0, tns: 1, body: &body };
        let answered = asked.reply(0, if verb == Verb::Read { &data } else { &[] });
        let check = check(setup);
        let framed = |message: &Message<'_>, to: Option<u8>| {
            let (mut bytes, mut out) = (vec![], vec![]);
            message.emit(&mut bytes);
            match to {
                Some(station) => emit_to_station(station, &bytes, check, &mut out),
                None => emit_message(&bytes, check, &mut out),
            }
            out
        };
        let name = match (verb, by_ranges(setup)) {
            (Verb::Read, false) => "typed logical read",
            (Verb::Write, false) => "typed logical write",
            (Verb::Read, true) => "word-range read",
            (Verb::Write, true) => "word-range write",
        };
        Example {
            words: format!("{name}, file {} element {element}, {size} bytes", spot.file),
            request: framed(&asked, self.half.then_some(node)),
            answer: framed(&answered, None),
        }
    }
}

/// Cells as the bytes of a command: words the low byte first, longs and floats too; a string with its length. The parts of
/// elements that `cells` have nothing of are 0.
#[must_use]
pub fn to_wire(spot: &Spot, count: u32, cells: &[u8]) -> Vec<u8> {
    if spot.is_text() {
        let mut out = vec![];
        for string in cells.chunks(2 * STRING_WORDS as usize) {
            let length = string.iter().rposition(|byte| *byte != 0).map_or(0, |at| at + 1);
            out.extend_from_slice(&u16::try_from(length).unwrap_or(0).to_le_bytes());
            out.extend(string.chunks(2).flat_map(|pair| pair.iter().rev().copied()));
        }
        return out;
    }
    let grain = if spot.bytes == 4 { 4 } else { 2 };
    let turned = |cell: &[u8]| cell.iter().rev().copied().collect::<Vec<u8>>();
    match spot.sub {
        Some(sub) if count > 1 => {
            let mut out = vec![0; count as usize * spot.bytes];
            for (element, cell) in out.chunks_mut(spot.bytes).zip(cells.chunks(grain)) {
                let at = usize::from(sub) * 2;
                element.get_mut(at..at + 2).into_iter().for_each(|room| room.copy_from_slice(&turned(cell)));
            }
            out
        }
        _ => cells.chunks(grain).flat_map(turned).collect(),
    }
}

/// The way back; `None` where there are too few bytes.
#[must_use]
pub fn from_wire(spot: &Spot, count: u32, data: &[u8]) -> Option<Vec<u8>> {
    if data.len() != spot.wire_bytes(count) {
        return None;
    }
    if spot.is_text() {
        let mut cells = vec![];
        for string in data.chunks(spot.bytes) {
            let length = string.first_chunk::<2>().map_or(0, |pair| usize::from(u16::from_le_bytes(*pair)));
            let characters = string.get(2..)?.chunks(2).flat_map(|pair| pair.iter().rev().copied());
            // What stands behind the length is left over from a longer string.
            cells.extend(characters.enumerate().map(|(at, byte)| if at < length { byte } else { 0 }));
        }
        return Some(cells);
    }
    let grain = if spot.bytes == 4 { 4 } else { 2 };
    let turned = |cell: &[u8]| cell.iter().rev().copied().collect::<Vec<u8>>();
    Some(match spot.sub {
        Some(sub) if count > 1 => {
            let at = usize::from(sub) * 2;
            data.chunks(spot.bytes).filter_map(|element| element.get(at..at + 2)).flat_map(turned).collect()
        }
        _ => data.chunks(grain).flat_map(turned).collect(),
    })
}
