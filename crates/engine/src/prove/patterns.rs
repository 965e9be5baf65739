//! Values that tell errors apart: each differs from its neighbours in rank, sign, byte and bit.

use super::oracle::{Layout, Repr};

/// Patterns for one value of a lay, as cells in `ABCD…` order of `bytes` bytes. No two in a row are the same.
pub(super) fn patterns(lay: &Layout, bytes: usize, ends: &[Vec<u8>]) -> Vec<Vec<u8>> {
    let whole = |number: u128| number.to_be_bytes().get(16 - bytes..).map(<[u8]>::to_vec).unwrap_or_default();
    let mut found: Vec<Vec<u8>> = vec![];
    match lay.kind {
        Repr::Bit => found.extend([vec![1], vec![0], vec![1], vec![0]]),
        Repr::Float { .. } => {
            let float = |number: f64| {
                if bytes == 4 {
                    (number as f32).to_be_bytes().to_vec()
                } else {
                    number.to_be_bytes().to_vec()
                }
            };
            let tiny = if bytes == 4 { f64::from(f32::MIN_POSITIVE) } else { f64::MIN_POSITIVE };
            let huge = if bytes == 4 { f64::from(f32::MAX) } else { f64::MAX };
            found.extend(
                [0.0, 1.0, -1.0, 17.46, -12.625, tiny, huge, -huge, f64::INFINITY, f64::NEG_INFINITY]
                    .map(float),
            );
            found.extend([distinct(bytes), float(f64::NAN), float(65_536.0)]);
        }
        Repr::Digits { count } => {
            for digits in [0u128, 1, 1234, 5678, 9999, 87_654_321, 99_999_999] {
                let text = format!("{digits:08}");
                let kept: String = text.chars().skip(8 - count as usize).collect();
                found.push(whole(u128::from_str_radix(&kept, 16).unwrap_or(0)));
            }
        }
        Repr::Text { length } => {
            for text in ["A", "RACEWAY-3", "0123456789abcdefghij", "z"] {
                let mut cells = vec![0; bytes];
                for (room, byte) in cells.iter_mut().zip(text.bytes().take(length)) {
                    *room = byte;
                }
                found.push(cells);
            }
        }
        Repr::Raw if bytes == 1 => found.extend([vec![1], vec![0], vec![1], vec![0]]),
        Repr::Whole { .. } | Repr::Raw => {
            let most = if bytes >= 16 { u128::MAX } else { (1u128 << (bytes * 8)) - 1 };
            let sign = 1u128 << (bytes * 8 - 1);
            found.extend([0, 1, most, sign, sign - 1].map(whole));
            found.push(distinct(bytes));
            // One bit a byte, at another place in each, walking: eight rounds move every bit both ways.
            for round in 0..8 {
                found.push((0..bytes).map(|byte| 1u8 << ((round + byte) % 8)).collect());
            }
        }
    }
    found.extend(ends.iter().cloned());
    found.dedup();
    found
}

/// 0x12, 0x34, 0x56, …: no two bytes alike.
fn distinct(bytes: usize) -> Vec<u8> {
    [0x12, 0x34, 0x56, 0x78, 0x9A, 0xBC, 0xDE, 0xF1].into_iter().cycle().take(bytes).collect()
}

/// A register as sixteen bits, bit 0 first, or the reverse.
pub(super) fn spread(cells: &[u8]) -> Vec<u8> {
    match cells {
        [high, low] => {
            let word = u16::from(*high) << 8 | u16::from(*low);
            (0..16).map(|bit| u8::from(word >> bit & 1 == 1)).collect()
        }
        bits => {
            let word =
                bits.iter().enumerate().fold(0u16, |word, (bit, on)| word | u16::from(*on != 0) << bit);
            word.to_be_bytes().to_vec()
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_move_every_bit_both_ways_and_never_repeat_in_a_row() {
        for (text, bytes) in [("u16", 2), ("i32 CDAB", 4), ("u64", 8), ("raw", 2)] {
            let all = patterns(&Layout::read(text).unwrap(), bytes, &[]);
            assert!(all.windows(2).all(|pair| pair[0] != pair[1]), "{text}");
            for bit in 0..bytes * 8 {
                let of = |cells: &Vec<u8>| cells[bit / 8] >> (bit % 8) & 1;
                assert!(
                    all.iter().any(|cells| of(cells) == 1) && all.iter().any(|cells| of(cells) == 0),
                    "{text} bit {bit}"
                );
            }
            // Any exchange of two bytes shows.
            let told = |a: usize, b: usize| all.iter().any(|cells| cells[a] != cells[b]);
            assert!((0..bytes).all(|a| (0..a).all(|b| told(a, b))), "{text}");
        }
        assert!(
            patterns(&Layout::read("f32").unwrap(), 4, &[]).iter().any(|cells| cells == &[0x7F, 0x80, 0, 0]),
            "infinity"
        );
    }
}
