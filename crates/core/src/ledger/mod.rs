//! The ledger of a project: which address each value of an area was given, one line a value, sorted, so that it is read
//! in a difference and merged by a version control system.

mod issue;
mod reading;

pub use issue::{EndSettings, Issue, IssuedValue};

use crate::quoted::quoted;
use crate::source::Span;
use std::collections::BTreeMap;
use std::fmt::Write;

/// The first lines of a ledger.
const HEAD: &str = "\
# Addresses that `woodrush map --assign` has given out, one line a value. What stands here never changes by itself.
# Keep this file with the project; `[retired.…]` holds the addresses of rules that are gone.
";

/// An address that was given out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GivenAddress {
    /// As it is written.
    pub at: String,
    /// How many addresses it takes: registers, bits or elements.
    pub takes: u32,
    /// Its line, where it was read.
    pub span: Span,
}

/// Values of an area by what they are called.
pub type GivenAddresses = BTreeMap<String, GivenAddress>;

/// All addresses that were given out.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Ledger {
    /// By area: those of values that are there.
    pub areas: BTreeMap<String, GivenAddresses>,
    /// By area: those of values that are gone; nothing else gets them.
    pub retired: BTreeMap<String, GivenAddresses>,
    /// What was handed over, the first issue first.
    pub issues: Vec<Issue>,
}

impl Ledger {
    /// The name of the ledger of a project file: `woodrush.ledger` beside `woodrush.toml`.
    #[must_use]
    pub fn name(project: &str) -> String {
        let name = project.rsplit(['/', '\\']).next().unwrap_or_default();
        format!("{}.ledger", name.strip_suffix(".toml").unwrap_or(name))
    }

    /// Whether nothing was given out.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.issues.is_empty() && self.areas.values().chain(self.retired.values()).all(BTreeMap::is_empty)
    }

    /// As it is written.
    #[must_use]
    pub fn text(&self) -> String {
        let mut out = String::from(HEAD);
        for (kind, areas) in [("areas", &self.areas), ("retired", &self.retired)] {
            for (area, given) in areas.iter().filter(|(_, given)| !given.is_empty()) {
                let _ = writeln!(out, "\n[{kind}.{area}]");
                for (value, own) in given {
                    let takes = if own.takes > 1 { format!(" x{}", own.takes) } else { String::new() };
                    let _ = writeln!(out, "{} = \"{}{takes}\"", quoted(value), own.at);
                }
            }
        }
        for issue in &self.issues {
            let _ = writeln!(out, "\n[[issue]]\nnumber = {}\ndate = {}", issue.number, quoted(&issue.date));
            let _ = writeln!(out, "note = {}\nproject = {}", quoted(&issue.note), quoted(&issue.project));
            for (kind, ends) in [("images", &issue.images), ("devices", &issue.devices)] {
                if !ends.is_empty() {
                    let _ = writeln!(out, "\n[issue.{kind}]");
                }
                for (name, settings) in ends {
                    let _ = writeln!(out, "{} = {}", quoted(name), quoted(&settings.to_string()));
                }
            }
            let _ = writeln!(out, "\n[issue.values]");
            for (address, value) in &issue.values {
                let _ = writeln!(out, "{} = {}", quoted(address), quoted(&value.to_string()));
            }
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ledger(rows: &[(&str, &str, &str, u32)]) -> Ledger {
        let mut ledger = Ledger::default();
        for (area, value, at, takes) in rows {
            let given = GivenAddress { at: (*at).into(), takes: *takes, span: Span::default() };
            ledger.areas.entry((*area).into()).or_default().insert((*value).into(), given);
        }
        ledger
    }

    fn without_places(mut ledger: Ledger) -> Ledger {
        for value in ledger.issues.iter_mut().flat_map(|issue| issue.values.values_mut()) {
            value.span = Span::default();
        }
        for given in
            ledger.areas.values_mut().chain(ledger.retired.values_mut()).flat_map(BTreeMap::values_mut)
        {
            given.span = Span::default();
        }
        ledger
    }

    #[test]
    fn a_ledger_is_read_as_it_was_written_and_sorted() {
        let mut own = ledger(&[
            ("values", "do-2.oxygen", "300003", 2),
            ("values", "do-1.oxygen", "300001", 2),
            ("states", "do-1:40\"1\\ as u16", "304001.3", 1),
        ]);
        own.retired = ledger(&[("values", "old.one", "300005", 1)]).areas;
        let text = own.text();
        assert!(text.ends_with("[areas.values]\n\"do-1.oxygen\" = \"300001 x2\"\n\"do-2.oxygen\" = \"300003 x2\"\n\n[retired.values]\n\"old.one\" = \"300005\"\n"), "{text}");
        let read = Ledger::read(&text, 0).unwrap();
        assert_eq!(without_places(read.clone()), own);
        assert_eq!(read.text(), text);
        assert_eq!(Ledger::read("", 0).unwrap(), Ledger::default());
    }

    #[test]
    fn an_issue_is_read_as_it_was_written() {
        let value = |source: &str| IssuedValue {
            source: source.into(),
            form: "f32 ABCD".into(),
            eu: "mg/L".into(),
            access: "R".into(),
            span: Span::default(),
        };
        let settings = |items: &[(&str, &str)]| EndSettings {
            items: items.iter().map(|(name, value)| ((*name).into(), (*value).into())).collect(),
            span: Span::default(),
        };
        let values = [("scada:300001", value("do-1.oxygen")), ("scada:400101", value("a | b"))];
        let values = values.into_iter().map(|(at, value)| (at.to_string(), value)).collect();
        let issue = Issue {
            number: 1,
            date: "2026-11-30".into(),
            note: "first \"handover\"\nof two".into(),
            project: "00f3".into(),
            images: [("scada".to_string(), settings(&[("port", "502"), ("unit", "1")]))].into(),
            devices: [("do-1".to_string(), settings(&[("line", "38400 8E1"), ("unit", "23")]))].into(),
            values,
        };
        let own = Ledger { issues: vec![issue], ..ledger(&[("values", "do-1.oxygen", "300001", 2)]) };
        let text = own.text();
        assert!(text.contains("\"scada:300001\" = \"do-1.oxygen | f32 ABCD | mg/L | R\""), "{text}");
        let read = without_places(Ledger::read(&text, 0).unwrap());
        assert!(text.contains("[issue.devices]\n\"do-1\" = \"line 38400 8E1 | unit 23\"\n"), "{text}");
        assert_eq!(read.issues[0].images["scada"].items, own.issues[0].images["scada"].items);
        assert_eq!(
            (read.issues[0].note.as_str(), &read.issues[0].values),
            ("first \"handover\" of two", &own.issues[0].values)
        );
        assert_eq!(read.text(), text);
        for (text, words) in [
            ("[[issue]]\nnumber = 1\n[issue.values]\n\"a:1\" = \"x\"\n", "is not what was handed over"),
            ("[[issue]]\nnumber = 1\n[issue.devices]\na = \"x\"\n", "`a` has no settings"),
            ("[[issue]]\nnumber = 0\n", "`number` of an issue"),
            ("issue = 3\n", "`issue` is not a list"),
        ] {
            let told = Ledger::read(text, 0).unwrap_err();
            assert!(told[0].what.contains(words), "{text}: {}", told[0].what);
        }
    }

    #[test]
    fn what_a_merge_or_a_slip_has_left_is_told_with_its_lines() {
        let conflict =
            "[areas.v]\n<<<<<<< ours\n\"a\" = \"300001\"\n=======\n\"b\" = \"300001\"\n>>>>>>> theirs\n";
        let told = Ledger::read(conflict, 3).unwrap_err();
        assert_eq!(told.len(), 1);
        assert!(told[0].what.contains("merge conflict"), "{}", told[0].what);
        assert_eq!((told[0].notes.len(), told[0].span.file), (2, 3));
        for (text, words) in [
            ("[areas.v]\na = 300001\n", "`a` has no address"),
            ("[areas.v]\na = \"300001 y2\"\n", "`300001 y2` is not an address"),
            ("[areas.v]\na = \"300001 x0\"\n", "`300001 x0` is not an address"),
            ("[other]\n", "`other` is not"),
            ("areas = 3\n", "`areas` is not"),
            ("[areas.v]\na = \"1\"\na = \"2\"\n", "duplicate key"),
            ("[areas\n", ""),
        ] {
            let told = Ledger::read(text, 0).unwrap_err();
            assert!(told[0].what.contains(words), "{text}: {}", told[0].what);
        }
    }

    #[test]
    fn a_ledger_is_called_like_its_project() {
        for (project, name) in [
            ("woodrush.toml", "woodrush.ledger"),
            ("a/b/site.toml", "site.ledger"),
            ("plain", "plain.ledger"),
        ] {
            assert_eq!(Ledger::name(project), name);
        }
    }
}
