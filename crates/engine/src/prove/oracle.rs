//! What a value must look like at the other end, worked out from what the file says and nothing else.
//!
//! On purpose this shares no code with the converter's forms and plan: it reads the written form itself and computes
//! with plain numbers. Slow and simple is right here.

/// How a value lies in its words, as written: `f32 CDAB scale 0.1 plus -40`.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Layout {
    pub(super) kind: Repr,
    /// One letter a byte, A the most significant; empty where bytes stay as they are.
    letters: String,
    scale: Fraction,
    plus: Fraction,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Repr {
    Bit,
    Whole { bytes: usize, signed: bool },
    Float { bytes: usize },
    Digits { count: u32 },
    Text { length: usize },
    Raw,
}

type Fraction = (i128, i128);

/// A value on its way, as exactly as it can be had.
#[derive(Debug, Clone, PartialEq)]
enum Amount {
    Exact(Fraction),
    Near(f64),
    Text(Vec<u8>),
}

impl Layout {
    /// Reads a written form; `None` where it is not understood.
    pub(super) fn read(text: &str) -> Option<Self> {
        let mut words = text.split_whitespace();
        let kind = match words.next()? {
            "bool" | "BOOL" => Repr::Bit,
            "u8" | "USINT" | "BYTE" => Repr::Whole { bytes: 1, signed: false },
            "i8" | "SINT" => Repr::Whole { bytes: 1, signed: true },
            "u16" | "UINT" | "WORD" => Repr::Whole { bytes: 2, signed: false },
            "i16" | "INT" => Repr::Whole { bytes: 2, signed: true },
            "u32" | "UDINT" | "DWORD" => Repr::Whole { bytes: 4, signed: false },
            "i32" | "DINT" => Repr::Whole { bytes: 4, signed: true },
            "u64" | "ULINT" | "LWORD" => Repr::Whole { bytes: 8, signed: false },
            "i64" | "LINT" => Repr::Whole { bytes: 8, signed: true },
            "f32" | "REAL" => Repr::Float { bytes: 4 },
            "f64" | "LREAL" => Repr::Float { bytes: 8 },
            "bcd16" => Repr::Digits { count: 4 },
            "bcd32" => Repr::Digits { count: 8 },
            "raw" => Repr::Raw,
            other => Repr::Text { length: other.strip_prefix("text(")?.strip_suffix(')')?.parse().ok()? },
        };
        let mut lay = Self { kind, letters: String::new(), scale: (1, 1), plus: (0, 1) };
        while let Some(word) = words.next() {
            match word {
                "scale" => {
                    let first = words.next()?;
                    match first.split_once("..") {
                        None => lay.scale = fraction(first)?,
                        Some(raw) => {
                            let value = words.next().filter(|to| *to == "to").and_then(|_| words.next())?;
                            (lay.scale, lay.plus) = line(raw, value.split_once("..")?)?;
                        }
                    }
                }
                "plus" => lay.plus = fraction(words.next()?)?,
                letters => lay.letters = letters.into(),
            }
        }
        Some(lay)
    }

    pub(super) fn plain(kind: Repr) -> Self {
        Self { kind, letters: String::new(), scale: (1, 1), plus: (0, 1) }
    }

    /// The same without its order: what the other end gets where it says nothing.
    pub(super) fn unordered(&self) -> Self {
        Self { letters: String::new(), ..self.clone() }
    }

    /// In this order, unless it has one.
    pub(super) fn or_order(self, letters: &str) -> Self {
        if self.letters.is_empty() { Self { letters: letters.into(), ..self } } else { self }
    }

    /// Whether the less significant byte of a word comes first.
    pub(super) fn low_byte_first(&self) -> bool {
        matches!(self.letters.as_str(), "BA" | "BADC" | "DCBA" | "BADCFEHG" | "HGFEDCBA")
    }

    /// Of another kind.
    pub(super) fn of_kind(self, kind: Repr) -> Self {
        Self { kind, ..self }
    }

    /// With the other's scale, where that one has any and this is a number.
    pub(super) fn scaled_as(self, other: &Self) -> Self {
        let number = matches!(self.kind, Repr::Whole { .. } | Repr::Float { .. } | Repr::Digits { .. });
        if number { Self { scale: other.scale, plus: other.plus, ..self } } else { self }
    }

    /// The raw word of cells, the most significant byte first.
    pub(super) fn raw(&self, cells: &[u8]) -> u64 {
        self.arrange(cells, false).iter().fold(0, |sum, byte| sum << 8 | u64::from(*byte))
    }

    /// The value of cells as a fraction; `None` for characters and what means none.
    pub(super) fn number(&self, cells: &[u8]) -> Option<f64> {
        let number = match self.amount(cells)? {
            Amount::Exact((upper, lower)) => upper as f64 / lower as f64,
            Amount::Near(number) => number,
            Amount::Text(_) => return None,
        };
        number.is_finite().then_some(number)
    }

    /// By how much two neighbouring values differ; nothing for floats and bits.
    pub(super) fn step(&self) -> f64 {
        match self.kind {
            Repr::Whole { .. } | Repr::Digits { .. } => {
                (self.scale.0 as f64 / self.scale.1 as f64).abs() * 1.000_001
            }
            Repr::Bit | Repr::Float { .. } | Repr::Text { .. } | Repr::Raw => 0.0,
        }
    }

    /// Bytes of one value; 0 for a bit and for raw cells.
    pub(super) fn bytes(&self) -> usize {
        match self.kind {
            Repr::Bit | Repr::Raw => 0,
            Repr::Whole { bytes, .. } | Repr::Float { bytes } => bytes,
            Repr::Digits { count } => count as usize / 2,
            Repr::Text { length } => length,
        }
    }

    /// Bytes most significant first out of cells, or back: letter by letter.
    fn arrange(&self, cells: &[u8], back: bool) -> Vec<u8> {
        let letters: Vec<usize> = self.letters.bytes().map(|letter| usize::from(letter - b'A')).collect();
        if letters.is_empty() {
            return cells.to_vec();
        }
        let mut out = vec![0; cells.len()];
        for (group, chunk) in cells.chunks(letters.len()).enumerate() {
            for (position, rank) in letters.iter().enumerate() {
                let base = group * letters.len();
                let (from, to) = if back { (*rank, position) } else { (position, *rank) };
                if let (Some(byte), Some(room)) = (chunk.get(from), out.get_mut(base + to)) {
                    *room = *byte;
                }
            }
        }
        out
    }

    fn amount(&self, cells: &[u8]) -> Option<Amount> {
        let bytes = self.arrange(cells, false);
        let bits = bytes.iter().fold(0u128, |sum, byte| sum << 8 | u128::from(*byte));
        let raw = match self.kind {
            Repr::Bit => i128::from(bits != 0),
            Repr::Whole { bytes, signed: true } if bits >> (bytes * 8 - 1) & 1 == 1 => {
                bits as i128 - (1 << (bytes * 8))
            }
            Repr::Whole { .. } | Repr::Raw => bits as i128,
            Repr::Digits { .. } => format!("{bits:0width$x}", width = bytes.len() * 2).parse().ok()?,
            Repr::Float { bytes: width } => {
                let number = if width == 4 {
                    f64::from(f32::from_bits(bits as u32))
                } else {
                    f64::from_bits(bits as u64)
                };
                if self.scale == (1, 1) && self.plus == (0, 1) {
                    return Some(Amount::Near(number));
                }
                return Some(Amount::Near(
                    number * self.scale.0 as f64 / self.scale.1 as f64
                        + self.plus.0 as f64 / self.plus.1 as f64,
                ));
            }
            Repr::Text { length } => {
                let text = bytes.get(..length)?;
                let end = text.iter().rposition(|byte| !matches!(byte, 0 | b' ')).map_or(0, |at| at + 1);
                return Some(Amount::Text(text.get(..end)?.to_vec()));
            }
        };
        let upper = raw
            .checked_mul(self.scale.0)?
            .checked_mul(self.plus.1)?
            .checked_add(self.plus.0.checked_mul(self.scale.1)?)?;
        Some(Amount::Exact((upper, self.scale.1 * self.plus.1)))
    }

    fn cells(&self, amount: &Amount, clamp: bool, room: usize) -> Option<Vec<u8>> {
        let float = |amount: &Amount| match amount {
            Amount::Exact((upper, lower)) => *upper as f64 / *lower as f64,
            Amount::Near(number) => *number,
            Amount::Text(_) => f64::NAN,
        };
        let mut bytes = vec![0; room];
        if let (Amount::Text(text), Repr::Text { length }) = (amount, self.kind) {
            if text.len() > length {
                return None;
            }
            bytes.get_mut(..text.len())?.copy_from_slice(text);
            return Some(self.arrange(&bytes, true));
        }
        if let Repr::Float { bytes: width } = self.kind {
            let plain = self.scale == (1, 1) && self.plus == (0, 1);
            let number = if plain {
                float(amount)
            } else {
                (float(amount) - self.plus.0 as f64 / self.plus.1 as f64) * self.scale.1 as f64
                    / self.scale.0 as f64
            };
            if width == 8 {
                return Some(self.arrange(&number.to_be_bytes(), true));
            }
            let mut single = number as f32;
            if single.is_infinite() && number.is_finite() {
                if !clamp {
                    return None;
                }
                single = f32::MAX.copysign(single);
            }
            return Some(self.arrange(&single.to_be_bytes(), true));
        }
        let whole = match amount {
            Amount::Exact((upper, lower)) => {
                // (value - plus) / scale, as one fraction.
                let top = upper
                    .checked_mul(self.plus.1)?
                    .checked_sub(self.plus.0.checked_mul(*lower)?)?
                    .checked_mul(self.scale.1)?;
                let bottom = lower.checked_mul(self.plus.1)?.checked_mul(self.scale.0)?;
                nearest(top, bottom)
            }
            Amount::Near(number) if number.is_nan() => return None,
            Amount::Near(number) => {
                let moved = (number - self.plus.0 as f64 / self.plus.1 as f64) * self.scale.1 as f64
                    / self.scale.0 as f64;
                moved.round() as i128
            }
            Amount::Text(_) => return None,
        };
        let (least, most) = match self.kind {
            Repr::Bit => return Some(one_at_end(room, whole != 0)),
            Repr::Whole { bytes, signed: false } => (0, (1i128 << (bytes * 8)) - 1),
            Repr::Whole { bytes, signed: true } => {
                (-(1i128 << (bytes * 8 - 1)), (1i128 << (bytes * 8 - 1)) - 1)
            }
            Repr::Digits { count } => (0, 10i128.pow(count) - 1),
            Repr::Raw => (0, (1i128 << (room * 8)) - 1),
            Repr::Float { .. } | Repr::Text { .. } => return None,
        };
        let whole = if clamp { whole.clamp(least, most) } else { whole };
        if whole < least || whole > most {
            return None;
        }
        let bits = match self.kind {
            Repr::Digits { .. } => i128::from_str_radix(&whole.to_string(), 16).ok()?,
            _ => whole,
        };
        let all = bits.to_be_bytes();
        Some(self.arrange(all.get(all.len() - room..)?, true))
    }
}

/// What must arrive in `room` bytes of cells; `None` where the value does not fit and must be refused.
pub(super) fn expected(
    from: &Layout,
    to: &Layout,
    clamp: bool,
    cells: &[u8],
    room: usize,
) -> Option<Vec<u8>> {
    // The same in another order: every bit pattern, NaN included.
    if from.unordered() == to.unordered() && !matches!(from.kind, Repr::Bit | Repr::Digits { .. }) {
        return Some(to.arrange(&from.arrange(cells, false), true));
    }
    to.cells(&from.amount(cells)?, clamp, room)
}

/// Whether the last digit of a computed fraction may differ: one side is a float that was scaled.
pub(super) fn is_approximate(from: &Layout, to: &Layout) -> bool {
    matches!(to.kind, Repr::Float { .. }) && from.unordered() != to.unordered()
}

/// Whether two floats of a lay are the same but for the last digits.
pub(super) fn nearly(lay: &Layout, seen: &[u8], wanted: &[u8]) -> bool {
    // As they stand there, against the greatest number on their way: near nought a scale and an offset make the last digit
    // of one the first of the other.
    let plain = Layout { scale: (1, 1), plus: (0, 1), ..lay.clone() };
    let number = |cells: &[u8]| match plain.amount(cells) {
        Some(Amount::Near(number)) => number,
        _ => f64::NAN,
    };
    let (seen, wanted) = (number(seen), number(wanted));
    let share = |(upper, lower): Fraction| upper as f64 / lower as f64;
    let size = wanted.abs() + (share(lay.plus) / share(lay.scale)).abs();
    let close = if lay.bytes() == 4 { 1e-6 } else { 1e-13 };
    seen == wanted || (seen - wanted).abs() <= size * close || seen.is_nan() && wanted.is_nan()
}

fn one_at_end(room: usize, on: bool) -> Vec<u8> {
    let mut cells = vec![0; room.max(1)];
    if let Some(last) = cells.last_mut() {
        *last = u8::from(on);
    }
    cells
}

/// The nearest whole number, halves away from zero.
fn nearest(top: i128, bottom: i128) -> i128 {
    let (top, bottom) = if bottom < 0 { (-top, -bottom) } else { (top, bottom) };
    let doubled = 2 * top.abs() + bottom;
    let whole = doubled / (2 * bottom);
    if top < 0 { -whole } else { whole }
}

/// Slope and height of the line through two points.
fn line(raw: (&str, &str), value: (&str, &str)) -> Option<(Fraction, Fraction)> {
    let minus = |one: Fraction, other: Fraction| {
        Some((
            one.0.checked_mul(other.1)?.checked_sub(other.0.checked_mul(one.1)?)?,
            one.1.checked_mul(other.1)?,
        ))
    };
    let times = |one: Fraction, other: Fraction| {
        Some(reduced((one.0.checked_mul(other.0)?, one.1.checked_mul(other.1)?)))
    };
    let (low, high) = (fraction(raw.0)?, fraction(raw.1)?);
    let (least, most) = (fraction(value.0)?, fraction(value.1)?);
    let (wide, tall) = (minus(high, low)?, minus(most, least)?);
    let scale = times(tall, (wide.1, wide.0))?;
    Some((scale, reduced(minus(least, times(scale, low)?)?)))
}

/// With the least numbers, and nothing negative below.
fn reduced((upper, lower): Fraction) -> Fraction {
    let (mut a, mut b) = (upper.abs(), lower.abs());
    while b != 0 {
        (a, b) = (b, a % b);
    }
    let by = a.max(1) * lower.signum();
    (upper / by, lower / by)
}

fn fraction(text: &str) -> Option<Fraction> {
    let (digits, power) = text.split_once(['e', 'E']).unwrap_or((text, "0"));
    let (whole, part) = digits.split_once('.').unwrap_or((digits, ""));
    let upper: i128 = format!("{whole}{part}").parse().ok()?;
    let places = i32::try_from(part.len()).ok()? - power.parse::<i32>().ok()?;
    let ten = 10i128.checked_pow(places.unsigned_abs())?;
    Some(if places >= 0 { (upper, ten) } else { (upper * ten, 1) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use woodrush_core::form::{Conversion, Form, Overflow};

    #[test]
    fn a_line_through_two_points_is_worked_out_here_too() {
        let middle = made("i16 scale 0..27648 to -50..150", "i16 scale 0.01", &13_824i16.to_be_bytes());
        assert_eq!(middle, Some(5000i16.to_be_bytes().to_vec()));
        let back = made("i16 scale 0.01", "i16 scale 0..27648 to -50..150", &15_000i16.to_be_bytes());
        assert_eq!(back, Some(27_648i16.to_be_bytes().to_vec()));
        let falling = made("u16 scale 4..20 to 100..0", "i16", &8u16.to_be_bytes());
        assert_eq!(falling, Some(75i16.to_be_bytes().to_vec()));
    }

    fn made(from: &str, to: &str, cells: &[u8]) -> Option<Vec<u8>> {
        let (from, to) = (Layout::read(from).unwrap(), Layout::read(to).unwrap());
        let room = to.bytes().max(2);
        expected(&from, &to, false, cells, room)
    }

    #[test]
    fn the_last_digit_counts_where_it_stands() {
        // 16.004, and the float beside it, both 0.01 with a scale of 2.5 and an offset of -40.
        let lay = Layout::read("f64 scale 2.5 plus -40").unwrap();
        let here = 16.004f64;
        let beside = f64::from_bits(here.to_bits() - 1);
        assert!(nearly(&lay, &here.to_be_bytes(), &beside.to_be_bytes()));
        assert!(!nearly(&lay, &here.to_be_bytes(), &(here + 1e-9).to_be_bytes()));
        // Lost beside an offset of 1000 on the way there and back.
        let lay = Layout::read("f64 plus 1000").unwrap();
        assert!(nearly(&lay, &0f64.to_be_bytes(), &1e-45f64.to_be_bytes()));
        assert!(!nearly(&Layout::read("f64").unwrap(), &0f64.to_be_bytes(), &1e-45f64.to_be_bytes()));
    }

    #[test]
    fn the_oracle_agrees_with_the_tables_of_the_reference() {
        assert_eq!(made("f32 CDAB", "f32", &[0xAE, 0x14, 0x41, 0x8B]), Some(vec![0x41, 0x8B, 0xAE, 0x14]));
        assert_eq!(made("f32", "f32 BADC", &[0x41, 0x8B, 0xAE, 0x14]), Some(vec![0x8B, 0x41, 0x14, 0xAE]));
        assert_eq!(
            made("u16 scale 0.01", "f32", &1746u16.to_be_bytes()),
            Some(17.46f32.to_be_bytes().to_vec())
        );
        assert_eq!(
            made("f32", "u16 scale 0.01", &17.46f32.to_be_bytes()),
            Some(1746u16.to_be_bytes().to_vec())
        );
        assert_eq!(
            made("i16 scale 0.1 plus -40", "i16", &655i16.to_be_bytes()),
            Some(26i16.to_be_bytes().to_vec())
        );
        assert_eq!(
            made("i16", "i16 scale 10", &(-25i16).to_be_bytes()),
            Some((-3i16).to_be_bytes().to_vec())
        );
        assert_eq!(made("bcd16", "u16", &[0x12, 0x34]), Some(1234u16.to_be_bytes().to_vec()));
        assert_eq!(made("u16", "bcd16", &12_345u16.to_be_bytes()), None);
        assert_eq!(made("f32", "u16", &f32::NAN.to_be_bytes()), None);
        assert_eq!(made("u32 CDAB", "u16", &[0, 9, 0, 1]), None);
    }

    /// Types that the property below draws from, with every order that they have.
    const FORMS: &[(&str, &[&str])] = &[
        ("u16", &["", " AB", " BA"]),
        ("i16", &["", " BA"]),
        ("u32", &[" ABCD", " CDAB", " BADC", " DCBA"]),
        ("i32", &[" ABCD", " CDAB", " BADC", " DCBA"]),
        ("f32", &[" ABCD", " CDAB", " BADC", " DCBA"]),
        ("u64", &[" ABCDEFGH", " GHEFCDAB", " BADCFEHG", " HGFEDCBA"]),
        ("i64", &[" ABCDEFGH", " HGFEDCBA"]),
        ("f64", &[" ABCDEFGH", " GHEFCDAB"]),
        ("bcd16", &["", " BA"]),
        ("bcd32", &[" ABCD", " CDAB"]),
    ];
    const SCALES: &[&str] =
        &["", " scale 0.1", " scale 0.01", " scale 10", " scale 2.5 plus -40", " scale -1", " plus 1000"];

    fn any_form() -> impl Strategy<Value = String> {
        let chosen = (0..FORMS.len(), any::<prop::sample::Index>(), prop::sample::select(SCALES));
        chosen.prop_map(|(at, order, scale)| {
            let (ty, orders) = FORMS[at];
            format!("{ty}{}{scale}", orders[order.index(orders.len())])
        })
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(4000))]
        /// Two codes that share nothing must agree on every form, value and refusal.
        #[test]
        fn the_converter_and_the_oracle_agree(from in any_form(), to in any_form(), bits: u64, small: bool, clamp: bool) {
            let overflow = if clamp { Overflow::Clamp } else { Overflow::Refuse };
            let forms = (Form::parse(&from).unwrap(), Form::parse(&to).unwrap());
            let conversion = Conversion { from: forms.0, to: forms.1, overflow };
            let lays = (Layout::read(&from).unwrap(), Layout::read(&to).unwrap());
            // Small numbers are those that fit somewhere else.
            let bits = if small { bits % 30_000 } else { bits };
            let bytes = lays.0.bytes();
            let mut cells = match lays.0.kind {
                Repr::Float { bytes: 4 } if small => ((bits as f32) / 7.0).to_be_bytes().to_vec(),
                Repr::Float { .. } if small => ((bits as f64) / 7.0).to_be_bytes().to_vec(),
                _ => bits.to_be_bytes()[8 - bytes..].to_vec(),
            };
            cells = lays.0.arrange(&cells, true);
            let wanted = expected(&lays.0, &lays.1, clamp, &cells, lays.1.bytes());
            let mut out = vec![0; lays.1.bytes()];
            let made = conversion.convert(&cells, &mut out).ok().map(|()| out);
            let agree = match (&made, &wanted) {
                (Some(made), Some(wanted)) => {
                    let float = |lay: &Layout| matches!(lay.kind, Repr::Float { .. });
                    // A float that was scaled and lands on a half or on an end may round either way.
                    let tie = float(&lays.0) && !float(&lays.1) && apart(&lays.1, made, wanted) <= 1.0;
                    made == wanted || tie || is_approximate(&lays.0, &lays.1) && nearly(&lays.1, made, wanted)
                }
                (None, None) => true,
                // At the very end of a range the last digit of a scaled float decides.
                _ => matches!(lays.0.kind, Repr::Float { .. }) && (lays.0.scale, lays.0.plus) != (lays.1.scale, lays.1.plus),
            };
            prop_assert!(agree, "{} -> {}: {:02X?} made {:02X?}, wanted {:02X?}", from, to, cells, made, wanted);
        }
    }

    /// How many raw steps two values of a whole type are apart, as a share of the greater where that is large.
    fn apart(lay: &Layout, a: &[u8], b: &[u8]) -> f64 {
        let plain = Layout { scale: (1, 1), plus: (0, 1), ..lay.clone() };
        let raw = |cells: &[u8]| match plain.amount(cells) {
            Some(Amount::Exact((upper, lower))) => upper as f64 / lower as f64,
            _ => f64::NAN,
        };
        let (a, b) = (raw(a), raw(b));
        (a - b).abs() / (a.abs() * 1e-12).max(1.0)
    }
}
