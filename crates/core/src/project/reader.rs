//! A file while it is read: its text, where things stand in it, and what was found.

use crate::finding::Finding;
use crate::source::{Span, Spanned};
use std::ops::Range;
use toml::de::DeTable;

/// What a reader carries along: the file, its text, and what was found so far.
pub(super) struct Reader<'t> {
    pub(super) file: u16,
    pub(super) text: &'t str,
    pub(super) findings: Vec<Finding>,
    /// No text in it can hold anything but what is printed: there are no other characters, no escapes, and no texts over
    /// several lines.
    pub(super) is_printed: bool,
}

impl<'t> Reader<'t> {
    pub(super) fn new(file: u16, text: &'t str) -> Self {
        // Many bytes at once.
        let of_lines = text.bytes().fold(true, |plain, byte| {
            plain & (matches!(byte, b' '..=b'~') & (byte != b'\\') | (byte == b'\n'))
        });
        let is_printed = of_lines && !has_three(text, b'"') && !has_three(text, b'\'');
        Self { file, text, findings: vec![], is_printed }
    }

    pub(super) fn find(&mut self, finding: Finding) {
        self.findings.push(finding);
    }

    pub(super) fn span(&self, range: Range<usize>) -> Span {
        let at = |offset: usize| u32::try_from(offset).unwrap_or(u32::MAX);
        Span { file: self.file, start: at(range.start), end: at(range.end) }
    }

    /// Text and its place between the quotes; where escapes make the two differ, the quotes belong to the place.
    pub(super) fn text_at(&self, value: &str, range: Range<usize>) -> Spanned<String> {
        let inner = range.start + 1..range.end.saturating_sub(1);
        let same = self.text.get(inner.clone()) == Some(value);
        Spanned { value: value.to_string(), span: self.span(if same { inner } else { range }) }
    }

    /// The whole file as a table, as far as it is one.
    pub(super) fn document(&mut self) -> DeTable<'t> {
        let (document, errors) = DeTable::parse_recoverable(self.text);
        // One slip makes the parser stumble several times in a line; the first says what it is.
        let mut ends: Vec<usize> = vec![];
        if !errors.is_empty() {
            ends.extend(self.text.match_indices('\n').map(|(at, _)| at));
        }
        let mut last_line = None;
        for error in errors {
            let span = self.span(error.span().unwrap_or_default());
            let line = ends.partition_point(|end| *end < span.start as usize);
            if last_line != Some(line) {
                self.find(Finding::new("F01", span, error.message().to_string()));
            }
            last_line = Some(line);
        }
        document.into_inner()
    }
}

/// The text of a file that the project names; `what` is what it should be.
pub(super) fn load_text(
    what: &str,
    path: &Spanned<String>,
    load: &mut dyn FnMut(&str) -> Result<String, String>,
) -> Result<String, Finding> {
    load(&path.value).map_err(|why| {
        Finding::new("F07", path.span, format!("the {what} `{}` cannot be read: {why}", path.value))
            .fix("check the path; it is taken from the project file's folder")
    })
}

/// Whether a mark stands three times in a row; many bytes at once.
fn has_three(text: &str, mark: u8) -> bool {
    let at = |from: usize| text.as_bytes().get(from..).unwrap_or_default().iter();
    let three = at(0).zip(at(1)).zip(at(2));
    three.fold(false, |found, ((one, two), three)| {
        found | ((*one == mark) & (*two == mark) & (*three == mark))
    })
}
