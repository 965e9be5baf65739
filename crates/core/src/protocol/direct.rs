//! Addresses of blocks of bytes in cycles, as IEC 61131-3 writes directly represented variables: `%IB4`, `%IW4`, `%ID4`,
//! `%IL8`, `%IX4.0`, and `%Q…` likewise.
//!
//! `%I` is what the controller reads and `%Q` what it writes, whichever end we are. The number always counts bytes.

use super::{AddressFault, BitWrite, Flow, Grain, Holder, ImpliedType, Space};
use crate::form::Type;
use std::borrow::Cow;
use std::fmt::Write;
use std::sync::Arc;

/// Which way a block goes, seen from the controller.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Block {
    /// The controller reads it.
    Inputs,
    /// The controller writes it.
    Outputs,
}

impl Block {
    /// The letter behind the percent sign.
    pub(super) const fn letter(self) -> char {
        match self {
            Self::Inputs => 'I',
            Self::Outputs => 'Q',
        }
    }

    /// What the other end calls it.
    pub(super) const fn seen(self) -> &'static str {
        match self {
            Self::Inputs => "input, to the controller",
            Self::Outputs => "output, from the controller",
        }
    }

    /// Its space as `holder` sees it, by key; `shown` in words, where the key is none that people know.
    pub(super) fn space(
        self,
        holder: Holder,
        key: Cow<'static, str>,
        shown: Option<Arc<str>>,
        len: Option<u32>,
    ) -> Space {
        let goes = (self == Self::Inputs) == (holder == Holder::Image);
        Space {
            key,
            shown,
            noun: if self == Self::Inputs { "input byte" } else { "output byte" },
            grain: Grain::Bytes(1),
            align: 1,
            len,
            writable: self == Self::Outputs || goes,
            bits: BitWrite::ReadBack,
            only: &[],
            rewritten: false,
            whole: true,
            publishes: false,
            flow: if goes { Flow::Goes } else { Flow::Comes },
        }
    }
}

/// One address of such a block.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Direct {
    pub(super) block: Block,
    pub(super) byte: u32,
    pub(super) bit: Option<u8>,
    /// What its letter says of the value; nothing for a bit.
    pub(super) brings: ImpliedType,
}

/// Widths by their letter: bytes and the type that is meant unless a form says another.
const WIDTHS: [(char, u32, Type); 4] =
    [('B', 1, Type::U8), ('W', 2, Type::U16), ('D', 4, Type::U32), ('L', 8, Type::U64)];

/// Reads such an address.
///
/// # Errors
/// Which part is wrong, and what was likely meant.
pub(super) fn parse(text: &str) -> Result<Direct, AddressFault> {
    let whole = || 0..text.len();
    let fault = |at, what: String, likely: Vec<String>| AddressFault { code: "F10", at, what, likely };
    let upper = text.to_ascii_uppercase();
    let rest = upper.strip_prefix('%').unwrap_or(&upper);
    let begin = upper.len() - rest.len();
    let mut letters = rest.chars();
    let block = match letters.next() {
        Some('I') => Block::Inputs,
        Some('Q') => Block::Outputs,
        _ => {
            let what = format!(
                "`{text}` is not a place in a block of bytes: `%IW0` is a word that the controller reads, `%QX0.7` a \
                 bit that it writes"
            );
            return Err(fault(whole(), what, vec![]));
        }
    };
    let letter = block.letter();
    let inner = rest.get(1..).unwrap_or_default();
    let width = inner.chars().next();
    let digits = inner.trim_start_matches(|own: char| own.is_ascii_alphabetic());
    if inner.len() - digits.len() > 1 || digits.is_empty() {
        let what = format!("`{text}` does not say which byte: the number behind the letters counts bytes");
        return Err(fault(whole(), what, vec![format!("%{letter}W0"), format!("%{letter}X0.0")]));
    }
    let (byte, bit) = digits.split_once('.').map_or((digits, None), |(byte, bit)| (byte, Some(bit)));
    let at =
        begin + upper.len() - begin - digits.len()..begin + upper.len() - begin - digits.len() + byte.len();
    let number = |digits: &str| -> Option<u32> {
        let plain = !digits.is_empty() && digits.bytes().all(|digit| digit.is_ascii_digit());
        digits.parse().ok().filter(|_| plain)
    };
    let Some(first) = number(byte) else {
        return Err(fault(at, format!("`{byte}` is not the number of a byte"), vec![]));
    };
    let shown = |width: char| format!("%{letter}{width}{first}");
    match (width, bit) {
        (Some('X') | Some('0'..='9'), Some(bit)) => match number(bit) {
            Some(own @ 0..8) => {
                Ok(Direct { block, byte: first, bit: u8::try_from(own).ok(), brings: ImpliedType::Nothing })
            }
            Some(own) => {
                let likely = vec![format!("%{letter}X{}.{}", first.saturating_add(own / 8), own % 8)];
                Err(fault(whole(), format!("bit {own} of a byte: bits count 0 to 7"), likely))
            }
            None => Err(fault(whole(), format!("`{bit}` is not the number of a bit"), vec![])),
        },
        (Some('X'), None) => {
            let what = format!("`{text}` names a bit and does not say which: bits count 0 to 7");
            Err(fault(whole(), what, vec![format!("{}.0", shown('X')), shown('B')]))
        }
        (Some(known), bit) => {
            let found = WIDTHS.iter().find(|(own, ..)| *own == known);
            match (found, bit) {
                (Some((_, _, ty)), None) => {
                    Ok(Direct { block, byte: first, bit: None, brings: ImpliedType::Width(*ty) })
                }
                (Some(_), Some(bit)) => {
                    let what = format!("`{known}` is a whole value, and a bit is written with X");
                    Err(fault(whole(), what, vec![format!("%{letter}X{first}.{bit}")]))
                }
                (None, _) => {
                    let what = format!(
                        "`{text}` does not say how wide: X a bit, B a byte, W a word, D a double word, L a long word"
                    );
                    Err(fault(whole(), what, vec![shown('W'), shown('D'), format!("{}.0", shown('X'))]))
                }
            }
        }
        (None, _) => Err(fault(whole(), format!("`{text}` names no byte"), vec![])),
    }
}

/// As it is written: with the letter of its width where there is one.
pub(super) fn show(block: Block, byte: u32, width: u32, bit: Option<u8>) -> String {
    let letter = block.letter();
    match bit {
        Some(bit) => format!("%{letter}X{byte}.{bit}"),
        None => {
            let width =
                WIDTHS.iter().find(|(_, bytes, _)| *bytes == width).map_or('B', |(letter, ..)| *letter);
            let mut out = String::with_capacity(8);
            // Writing into a text cannot fail.
            let _ = write!(out, "%{letter}{width}{byte}");
            out
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_letter_says_the_width_and_the_number_counts_bytes() {
        let place = |text: &str| parse(text).map(|own| (own.block, own.byte, own.bit, own.brings));
        assert_eq!(place("%IW4"), Ok((Block::Inputs, 4, None, ImpliedType::Width(Type::U16))));
        assert_eq!(place("%ql8"), Ok((Block::Outputs, 8, None, ImpliedType::Width(Type::U64))));
        assert_eq!(place("%QX0.7"), Ok((Block::Outputs, 0, Some(7), ImpliedType::Nothing)));
        assert_eq!(place("I4.0"), Ok((Block::Inputs, 4, Some(0), ImpliedType::Nothing)));
        for (block, byte, width, bit) in [(Block::Inputs, 7, 4, None), (Block::Outputs, 30, 1, Some(3))] {
            let shown = show(block, byte, width, bit);
            let back = parse(&shown).unwrap();
            assert_eq!((back.block, back.byte, back.bit), (block, byte, bit), "{shown}");
        }
    }

    #[test]
    fn what_is_no_such_address_says_what_was_likely_meant() {
        for (text, likely) in
            [("%I4", "%IW4"), ("%IX4", "%IX4.0"), ("%IW4.2", "%IX4.2"), ("%QX1.9", "%QX2.1"), ("%Q", "%QW0")]
        {
            let fault = parse(text).unwrap_err();
            assert_eq!(fault.likely.first().map(String::as_str), Some(likely), "{text}: {}", fault.what);
            assert!(fault.at.end <= text.len());
        }
        for text in ["", "%", "%DB1.W0", "400001", "%IWx", "%IW99999999999", "%ID4.", "Ä", "%IÄ4"] {
            assert!(parse(text).is_err_and(|fault| fault.at.end <= text.len()), "{text}");
        }
    }
}
