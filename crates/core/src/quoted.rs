//! Texts as TOML writes them.

use crate::one_line::acts;

/// A text or a key in quotes, on one line; what would end it or command a terminal is left out.
pub(crate) fn quoted(text: &str) -> String {
    let mut out = String::with_capacity(text.len() + 2);
    out.push('"');
    for letter in text.chars() {
        match letter {
            '"' | '\\' => out.extend(['\\', letter]),
            letter if acts(letter) => out.push(' '),
            letter => out.push(letter),
        }
    }
    out.push('"');
    out
}
