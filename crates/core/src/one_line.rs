//! Text of others, such as what a device says of itself, on one line and harmless wherever it is shown or written.

use std::borrow::Cow;

/// What stands for a letter that may not be shown.
pub const UNSHOWN: char = '\u{FFFD}';
/// Letters of a text of others that are kept: more than any name, and little enough for a line.
const LETTERS_MAX: usize = 200;

/// Whether a letter does something instead of being seen: it commands a terminal, ends a line, or turns the direction in which
/// the letters around it are read (Unicode, bidirectional marks), so that a text reads as another one than it is.
#[must_use]
pub fn acts(letter: char) -> bool {
    letter.is_control()
        || matches!(
            letter,
            '\u{061C}' | '\u{200B}'..='\u{200F}' | '\u{2028}'..='\u{202E}' | '\u{2060}'..='\u{2069}' | '\u{FEFF}'
        )
}

/// Bytes of others as text of one line, at most 200 letters of it; each letter that [acts] is replaced.
#[must_use]
pub fn one_line(bytes: &[u8]) -> String {
    // Fields of a fixed length are filled up with zeros.
    let end = bytes.iter().rposition(|byte| *byte != 0).map_or(0, |last| last + 1);
    let bytes = bytes.get(..end).unwrap_or_default();
    let mut text: String = String::from_utf8_lossy(bytes)
        .chars()
        .map(|letter| if acts(letter) { UNSHOWN } else { letter })
        .collect();
    if let Some((end, _)) = text.char_indices().nth(LETTERS_MAX) {
        text.truncate(end);
        text.push('…');
    }
    text
}

/// A text on one line: each letter that [acts] is a space.
#[must_use]
pub fn spaced(text: &str) -> Cow<'_, str> {
    if text.contains(acts) { Cow::Owned(text.replace(acts, " ")) } else { Cow::Borrowed(text) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_device_says_is_one_line_that_commands_nothing() {
        for hostile in
            ["a\n[ports.x]", "a\r\u{1b}[2J", "a\u{202E}txet", "a\u{2028}b", "a\0\u{85}\u{9b}31m", "\u{FEFF}a"]
        {
            let shown = one_line(hostile.as_bytes());
            assert!(!shown.contains(acts) && shown.contains(UNSHOWN), "{shown:?}");
            assert!(!spaced(hostile).contains(acts));
        }
        assert_eq!(one_line("Sauerstoff-Fühler 50 % Ω".as_bytes()), "Sauerstoff-Fühler 50 % Ω");
        assert_eq!(one_line(&[0xC3, 0x28, b'x', 0, 0]), "\u{FFFD}(x");
        assert_eq!(one_line(&[b'x'; 4000]).chars().count(), 201);
    }
}
