//! A failed exchange as text: what was seen, the likeliest causes in order, and what tells them apart.

use crate::console::{Console, Tone};
use woodrush_engine::direct::Diagnosis;

/// Lines to stand under what was asked.
pub(crate) fn text(console: &Console, asked: &str, diagnosis: &Diagnosis) -> String {
    let mut lines = vec![format!("{asked}: {}", diagnosis.seen)];
    let several = diagnosis.causes.len() > 1;
    for (number, cause) in (1..).zip(&diagnosis.causes) {
        let lead = if several { format!("  {number}. ") } else { "  ".to_string() };
        let options = textwrap::Options::new(console.width())
            .initial_indent(&lead)
            .subsequent_indent("     ")
            .word_splitter(textwrap::WordSplitter::NoHyphenation);
        lines.push(textwrap::fill(&cause.what, options));
        if !cause.test.is_empty() {
            // A command stands on one line, to be copied.
            lines.push(format!(
                "     {} {}",
                console.paint(Tone::Faint, "next:"),
                console.paint(Tone::Accent, &cause.test)
            ));
        }
    }
    lines.join("\n")
}
