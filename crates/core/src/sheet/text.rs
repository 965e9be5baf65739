//! The characters of a file that some other program wrote.

use encoding_rs::{UTF_8, WINDOWS_1252};

/// How the characters of a file are coded.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Encoding {
    /// UTF-8, with or without a mark at its beginning.
    Utf8,
    /// UTF-16, as spreadsheets save "Unicode text": said by the mark at its beginning.
    Utf16,
    /// Neither: one byte a character, taken for Windows-1252.
    Windows1252,
}

impl Encoding {
    /// Its name.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Utf8 => "UTF-8",
            Self::Utf16 => "UTF-16",
            Self::Windows1252 => "Windows-1252",
        }
    }
}

/// The text of a file, whatever wrote it. What is neither UTF-8 nor marked as UTF-16 is read one byte a character.
#[must_use]
pub fn decode(bytes: &[u8]) -> (String, Encoding) {
    let (text, used, is_damaged) = UTF_8.decode(bytes);
    if used != UTF_8 {
        return (text.into_owned(), Encoding::Utf16);
    }
    if is_damaged {
        return (WINDOWS_1252.decode_without_bom_handling(bytes).0.into_owned(), Encoding::Windows1252);
    }
    (text.into_owned(), Encoding::Utf8)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_usual_encoding_is_read_and_told() {
        let text = "Temp\u{e9}rature;\u{b0}C\n";
        let utf16 = |swap: bool| -> Vec<u8> {
            let units = std::iter::once(0xFEFF).chain(text.encode_utf16());
            units.flat_map(|unit| if swap { unit.to_be_bytes() } else { unit.to_le_bytes() }).collect()
        };
        let latin: Vec<u8> = text.chars().map(|letter| u8::try_from(u32::from(letter)).unwrap()).collect();
        for (bytes, encoding) in [
            (text.as_bytes().to_vec(), Encoding::Utf8),
            ([b"\xEF\xBB\xBF", text.as_bytes()].concat(), Encoding::Utf8),
            (utf16(false), Encoding::Utf16),
            (utf16(true), Encoding::Utf16),
            (latin, Encoding::Windows1252),
        ] {
            assert_eq!(decode(&bytes), (text.to_string(), encoding));
        }
        assert_eq!(decode(&[0x80, b'5']).0, "\u{20AC}5", "the euro sign of Windows");
        assert_eq!(decode(&[]).0, "");
    }
}
