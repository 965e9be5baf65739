//! Types and orders, with an example worked out.

use super::Paragraph;
use crate::form::{Form, Order, Type, hex_words};

/// The example: a temperature.
const EXAMPLE: f64 = 17.46;
const EXAMPLE_SINGLE: f32 = 17.46;

pub(super) fn types() -> impl Iterator<Item = Type> {
    Type::named().chain([Type::Text(16)])
}

/// Orders by their letters, those of two bytes first.
pub(super) fn orders() -> impl Iterator<Item = &'static str> {
    let of = |bytes: u32| Order::ALL.into_iter().map(move |order| order.letters(bytes));
    ["AB", "BA"].into_iter().chain(of(4)).chain(of(8))
}

pub(super) fn forms(asked: &str) -> Option<Paragraph> {
    let upper = asked.to_uppercase();
    if let Some(letters) = orders().find(|letters| *letters == upper) {
        return Some(order(letters));
    }
    let lower = asked.to_lowercase();
    let found = Type::parse(&lower).or_else(|| Type::parse(&upper));
    let found = found.or_else(|| (lower == "text").then_some(Type::Text(16)));
    found.map(describe).or_else(|| whole(asked))
}

/// A whole form, such as `f32 CDAB scale 0.1`: its type, its order, and what scale and plus make of a raw value.
fn whole(asked: &str) -> Option<Paragraph> {
    let written = asked.strip_prefix("as ").unwrap_or(asked);
    let form = Form::parse(written).ok()?;
    let mut text = describe(form.ty).text;
    let mut words = written.split_whitespace().map(str::to_uppercase);
    if let Some(letters) = orders().find(|letters| words.any(|word| word == *letters)) {
        text += &format!(" {letters}: {}", order(letters).text);
    }
    if form.linear.is_some() {
        text += " Its two ranges are the ends of a straight line: the raw value on the left, what it stands for on the right.";
    } else if form.is_scaled() {
        text += &format!(" The value is raw × {} + {}.", form.scale, form.plus);
    }
    Some(Paragraph::new(form.to_string(), "form", text))
}

fn order(letters: &'static str) -> Paragraph {
    let bytes = u32::try_from(letters.len()).unwrap_or(2);
    let order = Order::ALL.into_iter().find(|order| order.letters(bytes) == letters).unwrap_or_default();
    let how = match (order.low_word_first, order.low_byte_first) {
        (false, false) => "the most significant byte comes first, as most field buses send each word",
        (true, false) => {
            "the words are exchanged: the one with the least significant bytes comes first; each word has its high byte first"
        }
        (false, true) => "the words are in order and the two bytes of each exchanged",
        (true, true) => "the least significant byte comes first: words and bytes are exchanged",
    };
    let example = match bytes {
        2 => "1746 (hex 06D2) lies as ".to_string() + &hex_words(&laid(&[0x06, 0xD2], order)),
        4 => {
            let plain = EXAMPLE_SINGLE.to_be_bytes();
            let swapped = hex_words(&laid(&plain, order));
            format!("{EXAMPLE} as f32 is {}; in {letters} it lies as {swapped}", hex_words(&plain))
        }
        _ => {
            let plain = EXAMPLE.to_be_bytes();
            let swapped = hex_words(&laid(&plain, order));
            format!("{EXAMPLE} as f64 is {}; in {letters} it lies as {swapped}", hex_words(&plain))
        }
    };
    let text = format!(
        "One letter a byte, A the most significant. Here {how}. {example}. To find the order of a value that you know: `woodrush decode WORDS --expect VALUE`."
    );
    Paragraph::new(letters, "order", text)
}

fn laid(bytes: &[u8], order: Order) -> Vec<u8> {
    let mut bytes = bytes.to_vec();
    order.apply(&mut bytes);
    bytes
}

fn describe(ty: Type) -> Paragraph {
    let what = match ty {
        Type::Bool => {
            "One bit: a coil, a discrete input, a bit of a register (`400010.3`) or of a word; 1 is true."
        }
        Type::U8 | Type::I8 => "One byte of a data block; where each address is a whole word, there is none.",
        Type::F32 => {
            "A number with decimals, IEEE 754 single precision, good for about seven digits. NaN and infinity are not values."
        }
        Type::F64 => {
            "A number with decimals, IEEE 754 double precision, good for about fifteen digits. NaN and infinity are not values."
        }
        Type::Bcd16 | Type::Bcd32 => {
            "Decimal digits, one in each four bits: hex 1746 means 1746. A digit from A to F is not a number, and counts as lost."
        }
        Type::Text(_) => {
            "So many characters of one byte, the first one in the high byte of the first word; `text(16) BA` has it in the low byte. What is shorter ends with a 0 byte or with spaces."
        }
        Type::Raw => {
            "The cells as they are, one at a time: nothing is converted, and no order or scale applies."
        }
        _ if ty.is_signed() => "A whole number with a sign, in two's complement: all bits set is -1.",
        _ => {
            "A whole number without a sign. Read as such, a negative number shows as a large one: -1 as all bits set."
        }
    };
    let limits = match (ty, ty.limits()) {
        (Type::Bool, _) | (_, None) => String::new(),
        (_, Some((low, high))) => format!(" From {low} to {high}."),
    };
    let width = match (ty, ty.bytes()) {
        (Type::Text(_), _) => " Two characters a register.".to_string(),
        (_, None | Some(1)) => String::new(),
        (_, Some(bytes)) => format!(
            " {bytes} bytes: {}; in the orders {}.",
            match bytes / 2 {
                1 => "one register".to_string(),
                words => format!("{words} registers"),
            },
            letters(bytes).join(", ")
        ),
    };
    let iec: Vec<&str> = ty.iec_names().to_vec();
    let also =
        if iec.is_empty() { String::new() } else { format!(" IEC 61131-3 calls it {}.", iec.join(" or ")) };
    let name = if ty.is_text() { "text(N)".to_string() } else { ty.to_string() };
    Paragraph::new(name, "type", format!("{what}{limits}{width}{also}"))
}

fn letters(bytes: u32) -> Vec<&'static str> {
    let mut letters: Vec<&str> = Order::ALL.iter().map(|order| order.letters(bytes)).collect();
    letters.dedup();
    letters
}
