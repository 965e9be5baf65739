//! Tables whose keys are the user's own: sizes, values and texts by names that no table of keys knows.

use super::fields::Fields;
use super::kinds::whole_number;
use super::reader::Reader;
use crate::finding::Finding;
use crate::source::Spanned;
use toml::Spanned as TomlSpanned;
use toml::de::{DeString, DeValue};

/// Most items of one table of a device: twice what a request can address.
const SIZE_MAX: u32 = 131_072;

/// Keys of the user's own with their texts.
pub(super) type Entries = Vec<(Spanned<String>, Spanned<String>)>;

impl Fields<'_, '_> {
    /// `{ holding = 400 }`.
    pub(super) fn sizes(&self, r: &mut Reader<'_>, key: &str) -> Vec<(Spanned<String>, u32)> {
        let Some(value) = self.get(key) else { return vec![] };
        let Some(table) = value.get_ref().as_table() else {
            r.find(Finding::new(
                "F03",
                r.span(value.span()),
                format!("`{key}` is not a table such as {{ holding = 400 }}"),
            ));
            return vec![];
        };
        let mut sizes = vec![];
        for (name, size) in table {
            let number = whole_number(size.get_ref()).and_then(|number| u32::try_from(number).ok());
            match number.filter(|number| *number <= SIZE_MAX) {
                Some(number) => sizes
                    .push((Spanned { value: name.get_ref().to_string(), span: r.span(name.span()) }, number)),
                None => r.find(Finding::new(
                    "F03",
                    r.span(size.span()),
                    format!("a size is a whole number of items, at most {SIZE_MAX}"),
                )),
            }
        }
        sizes
    }

    /// Every key of the table `key` with what stands there, in the order of the file; `None` where that is a table again.
    pub(super) fn values(
        &self,
        r: &Reader<'_>,
        key: &str,
    ) -> Vec<(Spanned<String>, Option<Spanned<String>>)> {
        let table = self.get(key).and_then(|value| value.get_ref().as_table());
        let mut found = vec![];
        for (name, value) in table.into_iter().flatten() {
            let at = r.text_at(name.get_ref(), name.span());
            let span = r.span(value.span());
            let value = match value.get_ref() {
                DeValue::String(text) => Some(r.text_at(text, value.span())),
                DeValue::Table(_) | DeValue::Array(_) => None,
                _ => Some(Spanned { value: r.text.get(value.span()).unwrap_or_default().to_string(), span }),
            };
            found.push((at, value));
        }
        found.sort_by_key(|(name, _)| name.span);
        found
    }

    /// Texts by a key of the user's own: one, or a list.
    pub(super) fn texts_by_key(&self, r: &Reader<'_>, key: &str) -> Vec<(Spanned<String>, Vec<String>)> {
        let table = self.get(key).and_then(|value| value.get_ref().as_table());
        let texts = |value: &DeValue<'_>| match value {
            DeValue::String(text) => vec![text.to_string()],
            DeValue::Array(list) => {
                list.iter().filter_map(|own| own.get_ref().as_str().map(str::to_string)).collect()
            }
            _ => vec![],
        };
        let one = |(name, value): (&TomlSpanned<DeString<'_>>, &TomlSpanned<DeValue<'_>>)| {
            let at = Spanned { value: name.get_ref().to_string(), span: r.span(name.span()) };
            (at, texts(value.get_ref()))
        };
        table.into_iter().flatten().map(one).collect()
    }

    /// Every key of a table without a fixed list, with its text.
    pub(super) fn entries(&self, r: &mut Reader<'_>, key: &str) -> Vec<(Spanned<String>, Entries)> {
        let tables = self.get(key).and_then(|value| value.get_ref().as_table());
        let mut found = vec![];
        for (name, value) in tables.into_iter().flatten() {
            let at = Spanned { value: name.get_ref().to_string(), span: r.span(name.span()) };
            let mut entries = vec![];
            for (key, value) in value.get_ref().as_table().into_iter().flatten() {
                match value.get_ref().as_str() {
                    Some(text) => {
                        let place = r.text_at(key.get_ref(), key.span());
                        entries.push((place, r.text_at(text, value.span())));
                    }
                    None => r.find(Finding::new(
                        "F03",
                        r.span(value.span()),
                        "a signal is a text such as \"steady 4\"".to_string(),
                    )),
                }
            }
            entries.sort_by_key(|(key, _)| key.span);
            found.push((at, entries));
        }
        found
    }
}
