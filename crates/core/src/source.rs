//! Where in which file something stands: byte spans inside, lines and columns only for people.

use serde::Serialize;
use std::ops::Deref;

/// A range of bytes of one file. The default is the very beginning of the project file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct Span {
    /// Index into [`Sources`]; 0 is the project file, the others are profiles in the order of their first use.
    pub file: u16,
    /// First byte.
    pub start: u32,
    /// One past the last byte.
    pub end: u32,
}

impl Span {
    /// The part of this span from byte `from` to `to`, both counted from its start.
    #[must_use]
    pub fn part(self, from: usize, to: usize) -> Self {
        let at = |offset: usize| {
            self.start.saturating_add(u32::try_from(offset).unwrap_or(u32::MAX)).min(self.end)
        };
        Self { file: self.file, start: at(from), end: at(to).max(at(from)) }
    }
}

/// A value and where it was written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Spanned<T> {
    /// The value.
    pub value: T,
    /// Where it stands; for text the bytes between the quotes.
    pub span: Span,
}

impl<T> Spanned<T> {
    /// The same place with another value.
    pub fn map<U>(self, change: impl FnOnce(T) -> U) -> Spanned<U> {
        Spanned { value: change(self.value), span: self.span }
    }
}

impl<T> Deref for Spanned<T> {
    type Target = T;

    fn deref(&self) -> &T {
        &self.value
    }
}

/// One file as it was read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SourceFile {
    /// The path as the user knows it.
    pub name: String,
    /// The whole text.
    pub text: String,
    /// Where each line begins.
    lines: Vec<u32>,
}

impl SourceFile {
    fn new(name: String, text: String) -> Self {
        let starts = text.match_indices('\n').map(|(at, _)| u32::try_from(at + 1).unwrap_or(u32::MAX));
        let lines = std::iter::once(0).chain(starts).collect();
        Self { name, text, lines }
    }
}

/// All files of a project: the project file first, then profiles.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Sources(Vec<SourceFile>);

/// A line and column for people, both from 1, and the line's text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct Position<'a> {
    /// The file's path as the user knows it.
    pub file: &'a str,
    /// Line, from 1.
    pub line: usize,
    /// Column in characters, from 1.
    pub column: usize,
    /// The whole line, without its end.
    #[serde(skip)]
    pub text: &'a str,
    /// How many characters of the line the span covers, at least 1.
    #[serde(skip)]
    pub width: usize,
}

impl Sources {
    /// Adds a file and returns its index for spans.
    pub fn add(&mut self, name: impl Into<String>, text: impl Into<String>) -> u16 {
        self.0.push(SourceFile::new(name.into(), text.into()));
        u16::try_from(self.0.len() - 1).unwrap_or(u16::MAX)
    }

    /// Shows nothing of a file any more.
    pub(crate) fn forget(&mut self, file: u16) {
        if let Some(source) = self.0.get_mut(usize::from(file)) {
            *source = SourceFile::new(std::mem::take(&mut source.name), String::new());
        }
    }

    /// All of a file.
    pub(crate) fn whole(&self, file: u16) -> &str {
        self.0.get(usize::from(file)).map_or("", |source| source.text.as_str())
    }

    /// The text that a span covers; empty where there is none.
    #[must_use]
    pub fn text(&self, span: Span) -> &str {
        let range = span.start as usize..span.end as usize;
        self.0.get(usize::from(span.file)).and_then(|source| source.text.get(range)).unwrap_or_default()
    }

    /// Line and column of a span's first byte; a span of several lines is cut at the end of the first.
    #[must_use]
    pub fn position(&self, span: Span) -> Position<'_> {
        let Some(source) = self.0.get(usize::from(span.file)) else {
            return Position { file: "", line: 1, column: 1, text: "", width: 1 };
        };
        let text = source.text.as_str();
        let start = text.floor_char_boundary((span.start as usize).min(text.len()));
        let end = text.floor_char_boundary((span.end as usize).clamp(start, text.len()));
        let line = source.lines.partition_point(|begin| *begin as usize <= start);
        let line_start = line.checked_sub(1).and_then(|at| source.lines.get(at)).map_or(0, |at| *at as usize);
        let line_end = source.lines.get(line).map_or(text.len(), |next| *next as usize - 1);
        let count = |from: usize, to: usize| text.get(from..to).map_or(0, |part| part.chars().count());
        Position {
            file: &source.name,
            line,
            column: count(line_start, start) + 1,
            text: text.get(line_start..line_end).unwrap_or_default().trim_end_matches('\r'),
            width: count(start, end.min(line_end)).max(1),
        }
    }
}
