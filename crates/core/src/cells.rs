//! Bits and fills of cells: a cell is one grain, its most significant byte first. The one place that knows where a bit
//! of a cell lies and how a word fills cells of any width.

use crate::grain::Grain;

/// The byte of a cell that holds bit `bit`, 0 the least significant; `None` beyond its width.
fn byte_of(len: usize, bit: u8) -> Option<usize> {
    len.checked_sub(1 + usize::from(bit / 8))
}

/// Bit `bit` of a cell, 0 the least significant; `false` beyond its width.
#[must_use]
pub fn bit_of(cell: &[u8], bit: u8) -> bool {
    let byte = byte_of(cell.len(), bit).and_then(|at| cell.get(at));
    byte.is_some_and(|byte| byte >> (bit % 8) & 1 == 1)
}

/// Cells of a value: of one bit of wider cells, that bit.
#[must_use]
pub(crate) fn cells_of(bit: Option<u8>, cells: &[u8]) -> Vec<u8> {
    let Some(bit) = bit else { return cells.to_vec() };
    vec![u8::from(bit_of(cells, bit))]
}

/// Sets or clears bit `bit` of a cell, 0 the least significant; nothing beyond its width.
pub fn set_bit(cell: &mut [u8], bit: u8, on: bool) {
    if let Some(byte) = byte_of(cell.len(), bit).and_then(|at| cell.get_mut(at)) {
        *byte = *byte & !(1 << (bit % 8)) | u8::from(on) << (bit % 8);
    }
}

/// A cell of so many bytes in which all bits but one are set: what a change of that bit keeps.
#[must_use]
pub fn all_but(bytes: usize, bit: u8) -> Vec<u8> {
    let mut keep = vec![0xFF; bytes];
    set_bit(&mut keep, bit, false);
    keep
}

/// The cells of a range from `first` on, filled with one word of 16 bits again and again: bits are 0 for 0 and 1 for
/// anything else; bytes come in pairs that are words and begin at even addresses; wider cells hold the word as often as
/// it goes into them.
#[must_use]
pub fn filled(word: u16, grain: Grain, first: u32, count: u32) -> Vec<u8> {
    let [high, low] = word.to_be_bytes();
    match grain {
        Grain::Bit => vec![u8::from(word != 0); count as usize],
        Grain::Bytes(1) => (first..first.saturating_add(count))
            .map(|at| if at.is_multiple_of(2) { high } else { low })
            .collect(),
        Grain::Bytes(bytes) => {
            let cell = (0..bytes).map(|at| if at.is_multiple_of(2) { high } else { low });
            cell.collect::<Vec<u8>>().repeat(count as usize)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bits_count_from_the_least_significant_in_cells_of_any_width() {
        for width in [1usize, 2, 4, 8] {
            for bit in 0..u8::try_from(width * 8).unwrap() {
                let mut cell = vec![0; width];
                set_bit(&mut cell, bit, true);
                let value = cell.iter().fold(0u64, |sum, byte| sum << 8 | u64::from(*byte));
                assert_eq!(value, 1 << bit, "bit {bit} of {width} bytes");
                assert!(bit_of(&cell, bit));
                assert_eq!(
                    cell.iter().zip(all_but(width, bit)).map(|(a, b)| a ^ b).fold(0xFF, |a, b| a & b),
                    0xFF
                );
                set_bit(&mut cell, bit, false);
                assert_eq!(cell, vec![0; width]);
            }
            let mut cell = vec![0; width];
            set_bit(&mut cell, u8::try_from(width * 8).unwrap(), true);
            assert!(cell == vec![0; width] && !bit_of(&[0xFF], 8), "beyond its width there is nothing");
        }
    }

    #[test]
    fn a_word_fills_cells_of_any_grain() {
        assert_eq!(filled(77, Grain::Bytes(2), 5, 2), [0, 77, 0, 77]);
        assert_eq!(filled(0x1234, Grain::Bytes(4), 0, 1), [0x12, 0x34, 0x12, 0x34]);
        assert_eq!(
            filled(77, Grain::Bytes(1), 20, 3),
            [0, 77, 0],
            "bytes of a block are halves of its words"
        );
        assert_eq!(filled(0x1234, Grain::Bytes(1), 7, 2), [0x34, 0x12]);
        assert_eq!((filled(2, Grain::Bit, 0, 2), filled(0, Grain::Bit, 0, 1)), (vec![1, 1], vec![0]));
    }
}
