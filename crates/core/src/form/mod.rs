//! Forms: how a value lies in its words. `as TYPE [ORDER] [scale N] [plus N]`; value = raw × scale + plus.

mod convert;
mod decimal;
mod value;

pub use convert::{Conversion, Overflow};
pub use decimal::{Decimal, NotDecimal};
pub use value::{Value, hex_words};

use crate::grain::Grain;
use std::fmt;

/// What the bits of a value mean.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Type {
    /// One bit.
    Bool,
    /// 8 bits, unsigned.
    U8,
    /// 8 bits, two's complement.
    I8,
    /// 16 bits, unsigned.
    U16,
    /// 16 bits, two's complement.
    I16,
    /// 32 bits, unsigned.
    U32,
    /// 32 bits, two's complement.
    I32,
    /// 64 bits, unsigned.
    U64,
    /// 64 bits, two's complement.
    I64,
    /// IEEE 754 single precision.
    F32,
    /// IEEE 754 double precision.
    F64,
    /// Four decimal digits, one in four bits.
    Bcd16,
    /// Eight decimal digits, one in four bits.
    Bcd32,
    /// So many characters of one byte.
    Text(u16),
    /// The cells as they are, one at a time.
    Raw,
}

/// Every type that has a name of its own, with its IEC 61131-3 names.
const NAMED: [(Type, &str, &[&str]); 14] = [
    (Type::Bool, "bool", &["BOOL"]),
    (Type::U8, "u8", &["USINT", "BYTE"]),
    (Type::I8, "i8", &["SINT"]),
    (Type::U16, "u16", &["UINT", "WORD"]),
    (Type::I16, "i16", &["INT"]),
    (Type::U32, "u32", &["UDINT", "DWORD"]),
    (Type::I32, "i32", &["DINT"]),
    (Type::U64, "u64", &["ULINT", "LWORD"]),
    (Type::I64, "i64", &["LINT"]),
    (Type::F32, "f32", &["REAL"]),
    (Type::F64, "f64", &["LREAL"]),
    (Type::Bcd16, "bcd16", &[]),
    (Type::Bcd32, "bcd32", &[]),
    (Type::Raw, "raw", &[]),
];

impl Type {
    /// Bytes of one value; `None` for a bit and for raw cells, which are as wide as their grain.
    #[must_use]
    pub const fn bytes(self) -> Option<u32> {
        match self {
            Self::Bool | Self::Raw => None,
            Self::U8 | Self::I8 => Some(1),
            Self::U16 | Self::I16 | Self::Bcd16 => Some(2),
            Self::U32 | Self::I32 | Self::F32 | Self::Bcd32 => Some(4),
            Self::U64 | Self::I64 | Self::F64 => Some(8),
            Self::Text(characters) => Some(characters as u32),
        }
    }

    /// How many grains of a space one value takes, or why the two do not go together.
    ///
    /// # Errors
    /// The reason in words.
    pub fn width(self, grain: Grain) -> Result<u32, &'static str> {
        match (grain, self) {
            (_, Self::Raw) | (_, Self::Bool) => Ok(1),
            (Grain::Bit, _) => Err("is wider than one bit, and each address here is one bit"),
            (Grain::Bytes(2..), Self::U8 | Self::I8) => {
                Err("is one byte, and each address here is a whole word")
            }
            // Raw words may be taken apart; a value of fewer bytes than an element has is none.
            (Grain::Bytes(3..), Self::U16 | Self::I16 | Self::Bcd16) => {
                Err("is one word, and each address here has more")
            }
            (Grain::Bytes(each), _) => Ok(self.bytes().unwrap_or(1).div_ceil(u32::from(each.max(1)))),
        }
    }

    /// Whether it is characters.
    #[must_use]
    pub const fn is_text(self) -> bool {
        matches!(self, Self::Text(_))
    }

    /// Whether values below zero exist.
    #[must_use]
    pub const fn is_signed(self) -> bool {
        matches!(self, Self::I8 | Self::I16 | Self::I32 | Self::I64 | Self::F32 | Self::F64)
    }

    /// The least and the greatest whole number; `None` for what is no whole number.
    #[must_use]
    pub const fn limits(self) -> Option<(i128, i128)> {
        Some(match self {
            Self::U8 => (0, u8::MAX as i128),
            Self::I8 => (i8::MIN as i128, i8::MAX as i128),
            Self::U16 => (0, u16::MAX as i128),
            Self::I16 => (i16::MIN as i128, i16::MAX as i128),
            Self::U32 => (0, u32::MAX as i128),
            Self::I32 => (i32::MIN as i128, i32::MAX as i128),
            Self::U64 => (0, u64::MAX as i128),
            Self::I64 => (i64::MIN as i128, i64::MAX as i128),
            Self::Bcd16 => (0, 9999),
            Self::Bcd32 => (0, 99_999_999),
            Self::Bool => (0, 1),
            Self::F32 | Self::F64 | Self::Text(_) | Self::Raw => return None,
        })
    }

    /// Every type that is written without a length.
    pub(crate) fn named() -> impl Iterator<Item = Self> {
        NAMED.iter().map(|(ty, ..)| *ty)
    }

    /// What IEC 61131-3 calls it.
    pub(crate) fn iec_names(self) -> &'static [&'static str] {
        NAMED.iter().find(|(ty, ..)| *ty == self).map_or(&[], |(.., iec)| iec)
    }

    pub(crate) fn parse(word: &str) -> Option<Self> {
        if let Some(inner) = word.strip_prefix("text(").and_then(|rest| rest.strip_suffix(')')) {
            return inner.parse().ok().filter(|count| (1..=250).contains(count)).map(Self::Text);
        }
        NAMED.iter().find(|(_, name, iec)| *name == word || iec.contains(&word)).map(|(ty, ..)| *ty)
    }
}

impl fmt::Display for Type {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Text(count) => write!(f, "text({count})"),
            _ => f.write_str(NAMED.iter().find(|(ty, ..)| ty == self).map_or("?", |(_, name, _)| name)),
        }
    }
}

/// In which order the bytes of a value lie: written as one letter a byte, A the most significant.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub struct Order {
    /// The word with the least significant bytes comes first.
    pub low_word_first: bool,
    /// Within a word the less significant byte comes first.
    pub low_byte_first: bool,
}

impl Order {
    /// The most significant byte first: `AB`, `ABCD`, `ABCDEFGH`.
    pub const HIGH_FIRST: Self = Self { low_word_first: false, low_byte_first: false };

    /// All four, the commonest first.
    pub const ALL: [Self; 4] = [
        Self::HIGH_FIRST,
        Self { low_word_first: true, low_byte_first: false },
        Self { low_word_first: false, low_byte_first: true },
        Self { low_word_first: true, low_byte_first: true },
    ];

    /// Its letters for a value of `bytes` bytes; text of any length is written with two.
    #[must_use]
    pub fn letters(self, bytes: u32) -> &'static str {
        match (bytes, self.low_word_first, self.low_byte_first) {
            (4, false, false) => "ABCD",
            (4, true, false) => "CDAB",
            (4, false, true) => "BADC",
            (4, true, true) => "DCBA",
            (8, false, false) => "ABCDEFGH",
            (8, true, false) => "GHEFCDAB",
            (8, false, true) => "BADCFEHG",
            (8, true, true) => "HGFEDCBA",
            (_, _, false) => "AB",
            (_, _, true) => "BA",
        }
    }

    /// Rearranges bytes from this order to `ABCD…` or back; doing it twice changes nothing.
    pub fn apply(self, bytes: &mut [u8]) {
        if self.low_byte_first {
            for pair in bytes.chunks_exact_mut(2) {
                pair.swap(0, 1);
            }
        }
        if self.low_word_first {
            let words = bytes.len() / 2;
            for low in 0..words / 2 {
                let high = words - 1 - low;
                let (head, tail) = bytes.split_at_mut(high * 2);
                if let (Some(a), Some(b)) = (head.get_mut(low * 2..low * 2 + 2), tail.get_mut(..2)) {
                    a.swap_with_slice(b);
                }
            }
        }
    }
}

/// How a value lies in its words, as written: an order may be left open.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Form {
    /// What the bits mean.
    pub ty: Type,
    /// The order of its bytes; `None` where nothing was written.
    pub order: Option<Order>,
    /// Engineering value = raw × scale + plus.
    pub scale: Decimal,
    /// See `scale`.
    pub plus: Decimal,
    /// Two points of a straight line instead of both.
    pub linear: Option<Linear>,
}

/// A straight line through two points: what raw values stand for, such as 0 to 27648 for -50 to 150.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Linear {
    /// Two raw values.
    pub raw: (Decimal, Decimal),
    /// The engineering values that they stand for.
    pub value: (Decimal, Decimal),
}

impl Linear {
    /// Engineering value of a raw one.
    #[must_use]
    pub fn value_of(&self, raw: f64) -> f64 {
        let ((low, high), (least, most)) = (self.raw, self.value);
        let share = (raw - low.as_f64()) / (high.as_f64() - low.as_f64());
        least.as_f64() + share * (most.as_f64() - least.as_f64())
    }

    /// Raw value of an engineering one.
    #[must_use]
    pub fn raw_of(&self, value: f64) -> f64 {
        Self { raw: self.value, value: self.raw }.value_of(value)
    }

    fn parse(raw: &str, value: &str) -> Result<Self, String> {
        let pair = |text: &str| {
            let (low, high) = text.split_once("..")?;
            Some((low.parse::<Decimal>().ok()?, high.parse::<Decimal>().ok()?))
        };
        let wrong = |text: &str| format!("`{text}` is not a range of two decimal numbers, such as 0..27648");
        let ends = (pair(raw).ok_or_else(|| wrong(raw))?, pair(value).ok_or_else(|| wrong(value))?);
        if ends.0.0 == ends.0.1 || ends.1.0 == ends.1.1 {
            return Err(format!("`{raw} to {value}`: the two ends of a range differ"));
        }
        Ok(Self { raw: ends.0, value: ends.1 })
    }
}

impl Form {
    /// A type without order, scale or plus.
    #[must_use]
    pub const fn plain(ty: Type) -> Self {
        Self { ty, order: None, scale: Decimal::ONE, plus: Decimal::ZERO, linear: None }
    }

    /// All that makes an engineering value of a raw one, to be held against another form's.
    #[must_use]
    pub const fn scaling(&self) -> (Decimal, Decimal, Option<Linear>) {
        (self.scale, self.plus, self.linear)
    }

    /// Engineering value of a raw one, as near as a binary fraction gets.
    #[must_use]
    pub fn value_of(&self, raw: f64) -> f64 {
        match &self.linear {
            Some(linear) => linear.value_of(raw),
            None => raw * self.scale.as_f64() + self.plus.as_f64(),
        }
    }

    /// The order, the most significant byte first where none was written.
    #[must_use]
    pub fn order(&self) -> Order {
        self.order.unwrap_or_default()
    }

    /// Whether a raw value is not the engineering value.
    #[must_use]
    pub fn is_scaled(&self) -> bool {
        self.scale != Decimal::ONE || self.plus != Decimal::ZERO || self.linear.is_some()
    }

    /// Reads what follows `as`: `TYPE [ORDER] [scale N] [plus N]`, or `scale LOW..HIGH to LOW..HIGH` for both.
    ///
    /// # Errors
    /// What is wrong, with the word.
    pub fn parse(text: &str) -> Result<Self, FormFault> {
        let mut words = text.split_whitespace();
        let fault = |word: &str, what: String| {
            let at = text.find(word).unwrap_or_default();
            FormFault { at: at..at + word.len(), what }
        };
        let first = words.next().unwrap_or_default();
        let Some(ty) = Type::parse(first) else {
            let near = crate::nearest::nearest(first, NAMED.iter().map(|(_, name, _)| *name));
            let offer = near.map_or_else(
                || "one of bool, u16, i16, u32, i32, u64, i64, f32, f64, bcd16, bcd32, text(N), raw".into(),
                |name| format!("perhaps `{name}`"),
            );
            return Err(fault(first, format!("`{first}` is not a type ({offer})")));
        };
        let mut form = Self::plain(ty);
        while let Some(word) = words.next() {
            match word {
                "scale" | "plus" => {
                    let number = words.next().unwrap_or_default();
                    if word == "scale" && number.contains("..") {
                        let (to, value) =
                            (words.next().unwrap_or_default(), words.next().unwrap_or_default());
                        if to != "to" {
                            let what =
                                format!("`scale {number}` needs what it stands for, such as `to -50..150`");
                            return Err(fault(number, what));
                        }
                        form.linear = Some(Linear::parse(number, value).map_err(|what| fault(number, what))?);
                        continue;
                    }
                    let value: Decimal = number.parse().map_err(|why| {
                        fault(
                            if number.is_empty() { word } else { number },
                            format!("`{word} {number}` is {why}"),
                        )
                    })?;
                    if word == "plus" {
                        form.plus = value;
                    } else if value.mantissa == 0 {
                        return Err(fault(number, "a scale of 0 makes every value 0".into()));
                    } else {
                        form.scale = value;
                    }
                }
                _ => {
                    let bytes = match ty {
                        Type::Text(_) => 2,
                        _ => ty.bytes().unwrap_or(0),
                    };
                    let found =
                        Order::ALL.into_iter().find(|order| bytes > 1 && order.letters(bytes) == word);
                    form.order = Some(found.ok_or_else(|| fault(word, no_order(word, ty, bytes)))?);
                }
            }
        }
        if form.linear.is_some() && (form.scale, form.plus) != (Decimal::ONE, Decimal::ZERO) {
            return Err(fault("scale", "a range says both scale and plus: leave the others out".into()));
        }
        if form.is_scaled() && matches!(ty, Type::Text(_) | Type::Raw | Type::Bool) {
            return Err(fault(first, format!("`{ty}` is not a number and takes no scale or plus")));
        }
        Ok(form)
    }
}

fn no_order(word: &str, ty: Type, bytes: u32) -> String {
    let letters = !word.is_empty() && word.bytes().all(|byte| (b'A'..=b'H').contains(&byte));
    if !letters {
        return format!(
            "`{word}` is not understood after `{ty}` (an order such as ABCD, `scale N`, `scale LOW..HIGH to LOW..HIGH` or `plus N`)"
        );
    }
    let mut allowed: Vec<&str> = Order::ALL.iter().map(|order| order.letters(bytes)).collect();
    allowed.dedup();
    match bytes {
        0 | 1 => format!("`{ty}` has no order"),
        2 => format!("`{word}` is not an order of `{ty}` (AB or BA)"),
        _ => format!("`{word}` is not an order of `{ty}` (one of {})", allowed.join(", ")),
    }
}

impl fmt::Display for Form {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.ty)?;
        if let (Some(order), Some(bytes)) = (self.order, self.ty.bytes()) {
            // Text of any length is written with two letters.
            let letters = order.letters(if self.ty.is_text() { 2 } else { bytes });
            write!(f, " {letters}")?;
        }
        if self.scale != Decimal::ONE {
            write!(f, " scale {}", self.scale)?;
        }
        if self.plus != Decimal::ZERO {
            write!(f, " plus {}", self.plus)?;
        }
        if let Some(Linear { raw, value }) = &self.linear {
            write!(f, " scale {}..{} to {}..{}", raw.0, raw.1, value.0, value.1)?;
        }
        Ok(())
    }
}

/// Why a form is not understood.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FormFault {
    /// Which bytes of the text are meant.
    pub at: std::ops::Range<usize>,
    /// What is wrong, in words.
    pub what: String,
}

#[cfg(test)]
mod tests;
