//! A raw value out of its bytes and back: no scale, no order, the most significant byte first.

use super::Type;
use std::fmt;

/// A raw value, before scale and plus.
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// A bit.
    Bit(bool),
    /// A whole number of any width and sign.
    Whole(i128),
    /// A fraction.
    Float(f64),
    /// Characters, without trailing NULs and blanks.
    Text(Vec<u8>),
}

impl Value {
    /// Reads a value of `ty` from bytes in `ABCD…` order; a bit is any byte but 0. `None` where the bytes mean no
    /// value (a BCD digit above 9, too few bytes).
    #[must_use]
    pub fn read(ty: Type, bytes: &[u8]) -> Option<Self> {
        let unsigned = bytes.iter().take(8).fold(0i128, |sum, byte| sum << 8 | i128::from(*byte));
        let signed =
            |bits: u32| if unsigned >> (bits - 1) & 1 == 1 { unsigned - (1 << bits) } else { unsigned };
        if ty.bytes().is_some_and(|wanted| bytes.len() < wanted as usize) {
            return None;
        }
        Some(match ty {
            Type::Bool => Self::Bit(bytes.iter().any(|byte| *byte != 0)),
            Type::U8 | Type::U16 | Type::U32 | Type::U64 | Type::Raw => Self::Whole(unsigned),
            Type::I8 => Self::Whole(signed(8)),
            Type::I16 => Self::Whole(signed(16)),
            Type::I32 => Self::Whole(signed(32)),
            Type::I64 => Self::Whole(signed(64)),
            Type::F32 => Self::Float(f32::from_be_bytes(*bytes.first_chunk()?).into()),
            Type::F64 => Self::Float(f64::from_be_bytes(*bytes.first_chunk()?)),
            Type::Bcd16 | Type::Bcd32 => {
                let digits = bytes.iter().flat_map(|byte| [byte >> 4, byte & 15]);
                Self::Whole(
                    digits
                        .into_iter()
                        .try_fold(0i128, |sum, digit| (digit <= 9).then_some(sum * 10 + i128::from(digit)))?,
                )
            }
            Type::Text(count) => {
                let text = bytes.get(..usize::from(count))?;
                let end = text.iter().rposition(|byte| *byte != 0 && *byte != b' ').map_or(0, |at| at + 1);
                Self::Text(text.get(..end)?.to_vec())
            }
        })
    }

    /// Writes the value into bytes in `ABCD…` order. `false` where it does not fit; the bytes are then unchanged.
    #[allow(clippy::cast_possible_truncation, reason = "to single precision is what is asked")]
    pub fn write(&self, ty: Type, out: &mut [u8]) -> bool {
        let whole = match (self, ty) {
            (Self::Bit(bit), _) => i128::from(*bit),
            (Self::Whole(number), _) => *number,
            (Self::Float(number), Type::F32) => {
                let single = *number as f32;
                if number.is_finite() && single.is_infinite() {
                    return false;
                }
                return put(out, &single.to_be_bytes());
            }
            (Self::Float(number), Type::F64) => return put(out, &number.to_be_bytes()),
            (Self::Float(_), _) => return false,
            (Self::Text(text), Type::Text(count)) => {
                let room = usize::from(count);
                if text.len() > room || out.len() < room {
                    return false;
                }
                out.fill(0);
                return put(out, text);
            }
            (Self::Text(_), _) => return false,
        };
        match ty {
            Type::Bool => {
                // A whole word that stands for a bit is 1, not 0x0100.
                let last = out.len().saturating_sub(1);
                out.fill(0);
                out.get_mut(last).map(|byte| *byte = u8::from(whole != 0)).is_some()
            }
            Type::F32 => put(out, &(whole as f32).to_be_bytes()),
            Type::F64 => put(out, &(whole as f64).to_be_bytes()),
            Type::Bcd16 | Type::Bcd32 => {
                let digits = ty.bytes().unwrap_or(0) * 2;
                if !ty.limits().is_some_and(|(low, high)| (low..=high).contains(&whole)) {
                    return false;
                }
                let coded =
                    (0..digits).fold(0i128, |sum, at| sum | (whole / 10i128.pow(at) % 10) << (4 * at));
                put_low_bytes(out, coded, ty)
            }
            Type::Text(_) => false,
            Type::Raw => put_low_bytes_of(out, whole, out.len().min(8)),
            _ => {
                let fits = ty.limits().is_some_and(|(low, high)| (low..=high).contains(&whole));
                fits && put_low_bytes(out, whole, ty)
            }
        }
    }
}

fn put(out: &mut [u8], bytes: &[u8]) -> bool {
    let Some(room) = out.get_mut(..bytes.len()) else { return false };
    room.copy_from_slice(bytes);
    true
}

fn put_low_bytes(out: &mut [u8], number: i128, ty: Type) -> bool {
    put_low_bytes_of(out, number, ty.bytes().unwrap_or(0) as usize)
}

fn put_low_bytes_of(out: &mut [u8], number: i128, count: usize) -> bool {
    let all = number.to_be_bytes();
    all.get(all.len() - count..).is_some_and(|low| put(out, low))
}

/// Cells as words in hex, blank-separated, as people compare them: `AE14 418B`.
#[must_use]
pub fn hex_words(cells: &[u8]) -> String {
    let word = |word: &[u8]| word.iter().map(|byte| format!("{byte:02X}")).collect::<String>();
    cells.chunks(2).map(word).collect::<Vec<_>>().join(" ")
}

impl fmt::Display for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Bit(bit) => write!(f, "{}", u8::from(*bit)),
            Self::Whole(number) => write!(f, "{number}"),
            Self::Float(number) => write!(f, "{number}"),
            Self::Text(text) => write!(f, "{:?}", String::from_utf8_lossy(text)),
        }
    }
}
