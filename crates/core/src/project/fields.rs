//! One table of the file, read by the table of keys: unknown keys and wrong kinds are found once, here.

use super::Polling;
use super::keys::{PUBLISHED, keys_of, renamed};
use super::kinds::{check_kind, float, whole_number};
use super::reader::Reader;
use super::repeat;
use super::scalars::duration;
use crate::finding::Finding;
use crate::line::{Line, LineFault};
use crate::nearest::nearest;
use crate::protocol::{Key, KeyKind};
use crate::source::{Span, Spanned};
use std::borrow::Cow;
use std::ops::{ControlFlow, RangeInclusive};
use toml::Spanned as TomlSpanned;
use toml::de::{DeString, DeTable, DeValue};

/// The keys that a table may have, looked up once for all tables of a kind.
type Known = Vec<&'static Key>;

/// One table with the key list that it is read by.
pub(super) struct Fields<'a, 'i> {
    /// What it is, for messages: port `raceway`.
    what: Cow<'static, str>,
    /// Where its name or header stands.
    pub(super) span: Span,
    table: &'a DeTable<'i>,
    /// The group of its keys.
    group: &'static str,
    /// Which repetition this is, where it is one.
    n: Option<u32>,
    /// Whether it stands for several.
    repeats: bool,
}

impl<'a, 'i> Fields<'a, 'i> {
    /// The outermost table of a file.
    pub(super) fn top(
        r: &mut Reader<'_>,
        group: &'static str,
        what: &'static str,
        table: &'a DeTable<'i>,
    ) -> Self {
        let known: Known = keys_of(group).collect();
        Self::new(r, (group, &known), what.into(), Span { file: r.file, ..Span::default() }, table)
    }

    pub(super) fn new(
        r: &mut Reader<'_>,
        (group, keys): (&'static str, &Known),
        what: Cow<'static, str>,
        span: Span,
        table: &'a DeTable<'i>,
    ) -> Self {
        let repeats = table.get("repeat").is_some_and(|repeat| repeat.get_ref().is_str());
        for (key, value) in table {
            match keys.iter().find(|known| known.name == key.get_ref().as_ref()) {
                // A number may be an expression there, which is judged when it is worked out.
                Some(known) if repeats && known.kind.is_number() && value.get_ref().is_str() => {}
                Some(known) => check_kind(r, known, value),
                None => unknown_key(r, keys, group, &what, key),
            }
        }
        Self { what, span, table, group, n: None, repeats }
    }

    /// The numbers of its repetitions; `None` where it is not repeated.
    pub(super) fn repetitions(&self, r: &mut Reader<'_>) -> Option<RangeInclusive<u32>> {
        let text = if self.repeats { self.text(r, "repeat")? } else { return None };
        match repeat::range(&text.value) {
            Ok(range) => Some(range),
            Err(why) => {
                r.find(Finding::new("F03", text.span, why));
                None
            }
        }
    }

    /// One repetition: texts and numbers are worked out for it.
    pub(super) fn nth(&self, n: u32) -> Self {
        Self {
            what: self.what.clone(),
            span: self.span,
            table: self.table,
            group: self.group,
            n: Some(n),
            repeats: false,
        }
    }

    /// Finds every text and number that cannot be worked out.
    pub(super) fn check_expressions(&self, r: &mut Reader<'_>, group: &'static str, n: u32) {
        for (key, value) in self.table {
            let Some(known) = keys_of(group).find(|known| known.name == key.get_ref().as_ref()) else {
                continue;
            };
            let texts: Vec<_> = match value.get_ref() {
                DeValue::String(_) => vec![value],
                DeValue::Array(list) => list.iter().collect(),
                _ => vec![],
            };
            for (text, at) in texts.iter().filter_map(|text| Some((text.get_ref().as_str()?, text.span()))) {
                let worked = match known.kind.is_number() || known.name == "shift" {
                    true => repeat::evaluate(text, n.into()).map(|_| ()),
                    false => repeat::fill(text, n.into()).map(|_| ()),
                };
                if let Err(why) = worked {
                    let place = r.span(at);
                    r.find(Finding::new("F03", place, why));
                }
            }
        }
    }

    pub(super) fn get(&self, key: &str) -> Option<&'a TomlSpanned<DeValue<'i>>> {
        self.table.get(key)
    }

    pub(super) fn has(&self, key: &str) -> bool {
        self.get(key).is_some()
    }

    /// How many keys it has.
    pub(super) fn len(&self) -> usize {
        self.table.len()
    }

    /// The place of a key itself.
    pub(super) fn key_span(&self, r: &Reader<'_>, key: &str) -> Option<Span> {
        self.table.get_key_value(key).map(|(key, _)| r.span(key.span()))
    }

    pub(super) fn text(&self, r: &Reader<'_>, key: &str) -> Option<Spanned<String>> {
        let value = self.get(key)?;
        value.get_ref().as_str().map(|text| self.worked_out(r.text_at(text, value.span())))
    }

    /// A text of a repetition with its expressions worked out.
    fn worked_out(&self, text: Spanned<String>) -> Spanned<String> {
        match self.n.map(|n| repeat::fill(&text.value, n.into())) {
            Some(Ok(value)) => Spanned { value, span: text.span },
            _ => text,
        }
    }

    /// A text that must be there.
    pub(super) fn required(&self, r: &mut Reader<'_>, key: &str, such_as: &str) -> Option<Spanned<String>> {
        let Some(value) = self.get(key) else {
            let what = format!("{} has no `{key}`", self.what);
            r.find(Finding::new("F04", self.span, what).fix(format!("add `{key}`, {such_as}")));
            return None;
        };
        value.get_ref().as_str().map(|text| self.worked_out(r.text_at(text, value.span())))
    }

    pub(super) fn whole(&self, r: &Reader<'_>, key: &str) -> Option<Spanned<u32>> {
        let value = self.get(key)?;
        let number = self.number(value.get_ref())?;
        // One that is reported as out of its range is not used.
        let range = keys_of(self.group).find(|known| known.name == key).map(|known| known.kind);
        if let Some(KeyKind::Whole(low, high)) = range
            && !(low..=high).contains(&number)
        {
            return None;
        }
        Some(Spanned { value: u32::try_from(number).ok()?, span: r.span(value.span()) })
    }

    /// A whole number of either sign, perhaps an expression.
    pub(super) fn signed(&self, r: &mut Reader<'_>, key: &str) -> Option<Spanned<i64>> {
        let value = self.get(key)?;
        let span = r.span(value.span());
        let number = self.number(value.get_ref());
        if number.is_none() {
            let what = format!("`{key}` is neither a whole number nor an expression of n such as `16*(n-1)`");
            r.find(Finding::new("F03", span, what));
        }
        Some(Spanned { value: number?, span })
    }

    fn number(&self, value: &DeValue<'_>) -> Option<i64> {
        match (value.as_str(), self.n) {
            (Some(text), Some(n)) => repeat::evaluate(text, n.into()).ok(),
            _ => whole_number(value),
        }
    }

    /// A list of whole numbers of `low` to `high`.
    pub(super) fn wholes(
        &self,
        r: &mut Reader<'_>,
        key: &str,
        low: i64,
        high: i64,
    ) -> Option<Spanned<Vec<u64>>> {
        let value = self.get(key)?;
        let span = r.span(value.span());
        let list = value.get_ref().as_array();
        let numbers: Option<Vec<u64>> = list.and_then(|list| {
            let number = |value: &TomlSpanned<DeValue<'_>>| {
                whole_number(value.get_ref()).filter(|number| (low..=high).contains(number))
            };
            list.iter().map(|value| number(value).and_then(|number| u64::try_from(number).ok())).collect()
        });
        match numbers.filter(|numbers| !numbers.is_empty()) {
            Some(value) => Some(Spanned { value, span }),
            None => {
                let what = format!("`{key}` is not a list of whole numbers of {low} to {high}");
                r.find(Finding::new("F03", span, what).fix("write it as `[1, 2]`, hexadecimal as `[0x10]`"));
                None
            }
        }
    }

    /// One text, or a list of them.
    pub(super) fn one_or_more(&self, r: &Reader<'_>, key: &str) -> Vec<Spanned<String>> {
        match self.text(r, key) {
            Some(text) => vec![text],
            None => self.texts(r, key),
        }
    }

    pub(super) fn duration(&self, r: &Reader<'_>, key: &str) -> Option<Spanned<u64>> {
        let text = self.text(r, key)?;
        duration(&text.value).map(|micros| Spanned { value: micros, span: text.span })
    }

    /// How often something is polled, or that it comes by itself.
    pub(super) fn poll(&self, r: &Reader<'_>) -> Option<Spanned<Polling>> {
        let text = self.text(r, "poll")?;
        let value = match text.value.as_str() {
            PUBLISHED => Polling::Published,
            interval => Polling::Every(duration(interval)?),
        };
        Some(Spanned { value, span: text.span })
    }

    pub(super) fn switch(&self, _r: &Reader<'_>, key: &str) -> Option<bool> {
        self.get(key)?.get_ref().as_bool()
    }

    pub(super) fn texts(&self, r: &Reader<'_>, key: &str) -> Vec<Spanned<String>> {
        let list = self.get(key).and_then(|value| value.get_ref().as_array());
        let text = |value: &TomlSpanned<DeValue<'_>>| {
            value.get_ref().as_str().map(|text| self.worked_out(r.text_at(text, value.span())))
        };
        list.into_iter().flat_map(|list| list.iter().filter_map(text)).collect()
    }

    /// Whatever stands there, with its place between the brackets or quotes.
    pub(super) fn value_span(&self, r: &Reader<'_>, key: &str) -> Option<Span> {
        self.get(key).map(|value| r.span(value.span()))
    }

    /// Text parsed by `parse`, whose fault becomes a finding of `code`.
    pub(super) fn parsed<T>(
        &self,
        r: &mut Reader<'_>,
        key: &str,
        code: &'static str,
        parse: impl FnOnce(&str) -> Result<T, String>,
    ) -> Option<Spanned<T>> {
        let text = self.text(r, key)?;
        match parse(&text.value) {
            Ok(value) => Some(Spanned { value, span: text.span }),
            Err(why) => {
                r.find(Finding::new(code, text.span, why));
                None
            }
        }
    }

    /// Line settings.
    pub(super) fn line(&self, r: &mut Reader<'_>, key: &str) -> Option<Spanned<Line>> {
        let text = self.text(r, key)?;
        match Line::parse(&text.value) {
            Ok(value) => return Some(Spanned { value, span: text.span }),
            Err(LineFault::Shape) => {
                let what = format!("`{}` are not line settings", text.value);
                let fix = "write BAUD DATA PARITY STOP, such as `38400 8E1` or `9600 8N1`";
                r.find(Finding::new("M18", text.span, what).fix(fix));
            }
            Err(LineFault::Speed(baud, likely)) => {
                let frame = text.value.split_whitespace().nth(1).unwrap_or("8N1");
                let finding = Finding::new(
                    "M20",
                    text.span.part(0, baud.len()),
                    format!("no device has the speed {baud}"),
                );
                r.find(finding.fix(format!("write `{likely} {frame}`")));
            }
        }
        None
    }

    /// Two numbers, the lesser first.
    pub(super) fn range(&self, r: &mut Reader<'_>, key: &str) -> Option<Spanned<(f64, f64)>> {
        let value = self.get(key)?;
        let numbers: Vec<f64> =
            value.get_ref().as_array().into_iter().flatten().filter_map(|v| float(v.get_ref())).collect();
        match numbers.as_slice() {
            [low, high] if low < high => Some(Spanned { value: (*low, *high), span: r.span(value.span()) }),
            _ => {
                let what = format!("`{key}` is not two numbers, the lesser first");
                r.find(Finding::new("F03", r.span(value.span()), what).fix("write it as `[0, 20]`"));
                None
            }
        }
    }

    /// Whether a key has a table.
    pub(super) fn is_table(&self, key: &str) -> bool {
        self.get(key).is_some_and(|value| value.get_ref().is_table())
    }

    /// A table below this one.
    pub(super) fn table(
        &self,
        r: &mut Reader<'_>,
        key: &str,
        group: &'static str,
        what: &'static str,
    ) -> Option<Self> {
        let value = self.get(key)?;
        let span = self.key_span(r, key).unwrap_or(self.span);
        match value.get_ref().as_table() {
            Some(table) => Some(Self::new(r, (group, &keys_of(group).collect()), what.into(), span, table)),
            None => {
                r.find(Finding::new("F03", r.span(value.span()), format!("{what} is not a table")));
                None
            }
        }
    }

    /// The tables below `key` with their names, in file order, whose keys are those of `key` too.
    pub(super) fn named(
        &self,
        r: &mut Reader<'_>,
        key: &'static str,
        noun: &str,
    ) -> Vec<(Spanned<String>, Self)> {
        let Some(value) = self.get(key) else { return vec![] };
        let Some(tables) = value.get_ref().as_table() else {
            r.find(Finding::new("F03", r.span(value.span()), format!("`{key}` is not a table of {noun}s")));
            return vec![];
        };
        let known: Known = keys_of(key).collect();
        let mut found = vec![];
        for (name, value) in tables {
            let at = Spanned { value: name.get_ref().to_string(), span: r.span(name.span()) };
            let Some(table) = value.get_ref().as_table() else {
                let what = format!("{noun} `{}` is not a table", at.value);
                r.find(
                    Finding::new("F03", at.span, what)
                        .fix(format!("write `[{key}.{}]` above its keys", at.value)),
                );
                continue;
            };
            // Names of blocks and parameters are those of their standard.
            let is_standard = matches!(key, "blocks" | "parameters");
            if !is_name(&at.value) && !is_standard {
                let what = format!(
                    "`{}` is not a valid name (small letters, digits and `-`, a letter first)",
                    at.value
                );
                r.find(Finding::new("F06", at.span, what));
            }
            let what = format!("{noun} `{}`", at.value).into();
            let fields = Self::new(r, (key, &known), what, at.span, table);
            found.push((at, fields));
        }
        found.sort_by_key(|(name, _)| name.span);
        found
    }

    /// How many entries the list `key` has.
    pub(super) fn listed_len(&self, key: &str) -> usize {
        self.get(key).and_then(|value| value.get_ref().as_array()).map_or(0, |list| list.len())
    }

    /// The tables of `[[key]]`, in file order.
    pub(super) fn listed(
        &self,
        r: &mut Reader<'_>,
        key: &'static str,
        group: &'static str,
        what: &'static str,
    ) -> Vec<Self> {
        let mut found = vec![];
        self.each_listed(r, key, (group, what), |_, fields| {
            found.push(fields);
            ControlFlow::Continue(())
        });
        found
    }

    /// The same one after the other, for lists that are too long to be kept; until `each` breaks off.
    pub(super) fn each_listed<'r>(
        &self,
        r: &mut Reader<'r>,
        key: &'static str,
        (group, what): (&'static str, &'static str),
        mut each: impl FnMut(&mut Reader<'r>, Self) -> ControlFlow<()>,
    ) {
        let Some(value) = self.get(key) else { return };
        let Some(list) = value.get_ref().as_array() else {
            let fix = format!("write `[[{key}]]` with two brackets");
            r.find(
                Finding::new("F03", r.span(value.span()), format!("`{key}` is not a list of tables"))
                    .fix(fix),
            );
            return;
        };
        let known: Known = keys_of(group).collect();
        for value in list.iter() {
            let span = r.span(value.span());
            let Some(table) = value.get_ref().as_table() else {
                r.find(Finding::new("F03", span, format!("{what} is not a table")));
                continue;
            };
            let fields = Self::new(r, (group, &known), what.into(), span, table);
            if each(r, fields).is_break() {
                return;
            }
        }
    }
}

fn unknown_key(r: &mut Reader<'_>, keys: &Known, group: &str, what: &str, key: &TomlSpanned<DeString<'_>>) {
    let name = key.get_ref().as_ref();
    let near = renamed(group, name).or_else(|| nearest(name, keys.iter().map(|known| known.name)));
    let finding = Finding::new("F02", r.span(key.span()), format!("{what} has no key `{name}`"));
    let fix = match near {
        Some(near) => format!("write `{near}`"),
        None => {
            let known: Vec<&str> = keys.iter().map(|known| known.name).collect();
            format!("its keys are {}", known.join(", "))
        }
    };
    r.find(finding.fix(fix));
}

fn is_name(text: &str) -> bool {
    text.starts_with(|c: char| c.is_ascii_lowercase())
        && text.bytes().all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'-')
}
