//! Types and orders as makers write them: `UINT32 (LSW first)`, `32 bit float, swapped`, `unsigned word`.

use crate::form::{Form, Order, Type};

/// What a cell about a type says.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) struct ListedType {
    /// The type.
    pub(crate) ty: Option<Type>,
    /// The order of its words and bytes.
    pub(crate) order: Option<Order>,
    /// How many of them stand in a row.
    pub(crate) elements: Option<u32>,
    /// All of it, where it is written as the project file does with a scale, or as raw cells.
    pub(crate) form: Option<Form>,
}

const CDAB: Order = Order { low_word_first: true, low_byte_first: false };
const BADC: Order = Order { low_word_first: false, low_byte_first: true };
const DCBA: Order = Order { low_word_first: true, low_byte_first: true };

/// What people call the orders; longer phrases before those that they contain.
const ORDERS: [(&str, Order); 24] = [
    ("least significant word first", CDAB),
    ("most significant word first", Order::HIGH_FIRST),
    ("low order word first", CDAB),
    ("high order word first", Order::HIGH_FIRST),
    ("lower word first", CDAB),
    ("low word first", CDAB),
    ("high word first", Order::HIGH_FIRST),
    ("little endian byte swap", CDAB),
    ("lsw first", CDAB),
    ("msw first", Order::HIGH_FIRST),
    ("lo hi", CDAB),
    ("hi lo", Order::HIGH_FIRST),
    ("word swapped", CDAB),
    ("words swapped", CDAB),
    ("swapped words", CDAB),
    ("word swap", CDAB),
    ("byte swapped", BADC),
    ("bytes swapped", BADC),
    ("byte swap", BADC),
    ("little endian", DCBA),
    ("big endian", Order::HIGH_FIRST),
    ("not swapped", Order::HIGH_FIRST),
    ("swapped", CDAB),
    ("swap", CDAB),
];

/// A text in small letters, its words separated by one blank.
fn plain(text: &str) -> String {
    let words: Vec<String> = text
        .split(|letter: char| !letter.is_alphanumeric())
        .filter(|word| !word.is_empty())
        .map(str::to_lowercase)
        .collect();
    words.join(" ")
}

/// Where words stand in a text whose words are separated by one blank.
fn words_at(text: &str, words: &str) -> Option<usize> {
    let mut from = 0;
    while let Some(found) = text.get(from..).and_then(|rest| rest.find(words)) {
        let (begin, end) = (from + found, from + found + words.len());
        let is_apart = |edge: Option<&u8>| edge.is_none_or(|byte| *byte == b' ');
        let before = begin.checked_sub(1).and_then(|at| text.as_bytes().get(at));
        if is_apart(before) && is_apart(text.as_bytes().get(end)) {
            return Some(begin);
        }
        from = end;
    }
    None
}

/// The order that a text speaks of, and the text without it.
fn split_order(text: &str) -> (Option<Order>, String) {
    // Most say nothing of an order, and are seen to at once.
    let may = ["first", "swap", "endian", "lo hi", "hi lo", "abcd", "cdab", "badc", "dcba", "hgfe", "efcd"];
    if !may.iter().any(|part| text.contains(part)) {
        return (None, text.to_string());
    }
    let letters = Order::ALL.into_iter().flat_map(|order| [4, 8].map(|bytes| (order.letters(bytes), order)));
    let letters = letters.map(|(letters, order)| (letters.to_lowercase(), order));
    let phrases = ORDERS.iter().map(|(phrase, order)| ((*phrase).to_string(), *order));
    for (words, order) in phrases.chain(letters) {
        if let Some(at) = words_at(text, &words) {
            let (before, behind) = (text.get(..at), text.get(at + words.len()..));
            let rest = [before, behind].map(|part| part.unwrap_or_default().trim()).join(" ");
            return (Some(order), rest.trim().to_string());
        }
    }
    (None, text.to_string())
}

/// The order that a text speaks of.
pub(crate) fn order_of(text: &str) -> Option<Order> {
    split_order(&plain(text)).0
}

/// The first whole number in a text.
fn number(text: &str) -> Option<u32> {
    let digits: String =
        text.chars().skip_while(|own| !own.is_ascii_digit()).take_while(char::is_ascii_digit).collect();
    digits.parse().ok()
}

/// A type by its words, without blanks: `unsigned32bit`. `words` is how many registers it takes, where that is said.
fn type_of(text: &str, words: Option<u32>) -> Option<Type> {
    let bits = number(text);
    let has = |parts: &[&str]| parts.iter().any(|part| text.contains(part));
    let begins = |parts: &[&str]| parts.iter().any(|part| text.starts_with(part));
    if begins(&["string", "text", "ascii", "char", "visiblestring"]) {
        let length = bits.or(words.map(|words| words * 2)).and_then(|own| u16::try_from(own).ok());
        return length.filter(|length| (1..=250).contains(length)).map(Type::Text);
    }
    if has(&["float", "real", "ieee", "single", "double"]) && !has(&["doubleword"]) {
        let is_long = bits == Some(64) || has(&["double", "lreal"]) || words == Some(4);
        return Some(if is_long { Type::F64 } else { Type::F32 });
    }
    if matches!(text, "f32") {
        return Some(Type::F32);
    }
    if matches!(text, "f64") {
        return Some(Type::F64);
    }
    if begins(&["bool", "coil", "binary", "digital", "flag", "discrete"]) || text == "bit" || text == "1bit" {
        return Some(Type::Bool);
    }
    if has(&["bcd"]) {
        return Some(if bits == Some(32) || words == Some(2) { Type::Bcd32 } else { Type::Bcd16 });
    }
    let is_unsigned =
        has(&["unsigned", "word", "byte", "bitfield", "bitmap", "bitmask", "enum", "hex", "ushort", "ulong"])
            || begins(&["u"]);
    let is_signed = has(&["signed", "int", "short", "long"]) || begins(&["s", "i"]);
    if !is_unsigned && !is_signed {
        return None;
    }
    // `word` inside `dword` and the like.
    let by_name = match () {
        () if has(&["longlong", "qword", "lword", "quad"]) || begins(&["lint", "ulint"]) => Some(64),
        () if has(&["dword", "doubleword", "long"]) || begins(&["dint", "udint"]) => Some(32),
        () if has(&["short", "word"]) => Some(16),
        () if has(&["byte"]) || begins(&["sint", "usint"]) => Some(8),
        () => None,
    };
    let known = ["int", "short", "long", "word", "byte", "signed", "bit", "enum", "hex"];
    let is_abbreviated = matches!(text.chars().next(), Some('u' | 's' | 'i'))
        && text.get(1..).is_some_and(|rest| !rest.is_empty() && rest.bytes().all(|own| own.is_ascii_digit()));
    if !is_abbreviated && !has(&known) {
        return None;
    }
    let bits =
        bits.filter(|bits| [8, 16, 32, 64].contains(bits)).or(by_name).or(words.map(|words| words * 16));
    Some(match (bits.unwrap_or(16), is_unsigned) {
        (8, true) => Type::U8,
        (8, false) => Type::I8,
        (16, true) => Type::U16,
        (16, false) => Type::I16,
        (32, true) => Type::U32,
        (32, false) => Type::I32,
        (64, true) => Type::U64,
        (64, false) => Type::I64,
        _ => return None,
    })
}

impl ListedType {
    /// Reads a cell about a type; `words` is how many registers its value takes, where another cell says so.
    ///
    /// # Errors
    /// The word that is not a type.
    pub(crate) fn read(text: &str, words: Option<u32>) -> Result<Self, String> {
        let begins = text.split_whitespace().next().and_then(Type::parse).is_some();
        if let Some(form) = begins.then(|| Form::parse(text.trim()).ok()).flatten() {
            let ty = Some(form.ty).filter(|ty| *ty != Type::Raw);
            let whole = Some(form).filter(|form| form.is_scaled() || ty.is_none());
            return Ok(Self { ty, order: form.order, elements: None, form: whole });
        }
        let (outside, elements) = match text.trim().strip_suffix(']').and_then(|rest| rest.rsplit_once('[')) {
            Some((outside, count)) => (outside, count.trim().parse::<u32>().ok()),
            None => (text, None),
        };
        let (order, rest) = split_order(&plain(outside));
        let compact: String = rest.split_whitespace().collect();
        if compact.is_empty() {
            return Ok(Self { order, ..Self::default() });
        }
        // What IEC 61131-3 says in capital letters is another thing than what it says in C.
        let own = outside.split(['(', ',', ';']).next().unwrap_or_default().trim();
        let is_text = ["string", "char", "text", "ascii"].iter().any(|word| compact.starts_with(word));
        if let Some(length) = elements.filter(|_| is_text) {
            let ty = u16::try_from(length).ok().filter(|own| (1..=250).contains(own)).map(Type::Text);
            let ty = Some(ty.ok_or_else(|| text.trim().to_string())?);
            return Ok(Self { ty, order, ..Self::default() });
        }
        let ty = Type::parse(own).filter(|ty| *ty != Type::Raw).or_else(|| type_of(&compact, words));
        match ty {
            Some(ty) => Ok(Self { ty: Some(ty), order, elements, form: None }),
            None => Err(text.trim().to_string()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn types_are_read_as_makers_write_them() {
        for (text, ty) in [
            ("UINT16", Type::U16),
            ("INT16", Type::I16),
            ("uint_32", Type::U32),
            ("U32", Type::U32),
            ("s16", Type::I16),
            ("unsigned 32 bit", Type::U32),
            ("32-bit signed integer", Type::I32),
            ("Unsigned short", Type::U16),
            ("WORD", Type::U16),
            ("DWORD", Type::U32),
            ("double word", Type::U32),
            ("INT", Type::I16),
            ("DINT", Type::I32),
            ("UDINT", Type::U32),
            ("long", Type::I32),
            ("FLOAT", Type::F32),
            ("Float32", Type::F32),
            ("IEEE 754 single precision", Type::F32),
            ("double", Type::F64),
            ("LREAL", Type::F64),
            ("BOOL", Type::Bool),
            ("bit", Type::Bool),
            ("ENUM", Type::U16),
            ("Bitfield 16", Type::U16),
            ("BCD", Type::Bcd16),
            ("STRING[16]", Type::Text(16)),
            ("char(8)", Type::Text(8)),
            ("f32", Type::F32),
            ("u64", Type::U64),
        ] {
            let read = ListedType::read(text, None).unwrap_or_else(|why| panic!("{why}"));
            assert_eq!(read.ty, Some(ty), "{text}");
        }
        assert_eq!(ListedType::read("unsigned", Some(2)).unwrap().ty, Some(Type::U32));
        assert_eq!(ListedType::read("float", Some(4)).unwrap().ty, Some(Type::F64));
        assert_eq!(ListedType::read("string", Some(8)).unwrap().ty, Some(Type::Text(16)));
        let row = ListedType::read("REAL[20]", None).unwrap();
        assert_eq!((row.ty, row.elements), (Some(Type::F32), Some(20)));
        for text in ["kW", "see note", "T17", "status", "STRING[900]"] {
            assert_eq!(ListedType::read(text, None), Err(text.to_string()), "{text}");
        }
    }

    #[test]
    fn orders_are_read_beside_types_and_alone() {
        for (text, ty, order) in [
            ("UINT32 (LSW first)", Some(Type::U32), Some(CDAB)),
            ("float swapped", Some(Type::F32), Some(CDAB)),
            ("FLOAT, little-endian", Some(Type::F32), Some(DCBA)),
            ("Float (ABCD)", Some(Type::F32), Some(Order::HIGH_FIRST)),
            ("f64 GHEFCDAB", Some(Type::F64), Some(CDAB)),
            ("byte swapped", None, Some(BADC)),
            ("u32 CDAB", Some(Type::U32), Some(CDAB)),
            ("INT32", Some(Type::I32), None),
        ] {
            let read = ListedType::read(text, None).unwrap_or_else(|why| panic!("{why}"));
            assert_eq!((read.ty, read.order), (ty, order), "{text}");
        }
        assert_eq!(order_of("high word first"), Some(Order::HIGH_FIRST));
        assert_eq!(order_of("0, 5, 10, 15, 30"), None);
    }
}
