//! Renderings of data: the same findings, tables and proofs as text, JSON, CSV, HTML or JUnit XML.

pub(crate) mod changes;
pub(crate) mod diagnosis;
pub(crate) mod findings;
pub(crate) mod handover;
pub(crate) mod proof;
pub(crate) mod schema;

use crate::Failure;
use woodrush_core::one_line::acts;

/// A tolerance as it is written: `5%`, or `0.05`.
pub(crate) fn share(text: Option<&str>, default: f64) -> Result<f64, Failure> {
    let Some(text) = text else { return Ok(default) };
    let (digits, unit) = match text.trim().strip_suffix('%') {
        Some(digits) => (digits, 100.0),
        None => (text.trim(), 1.0),
    };
    let share = digits.trim().parse::<f64>().ok().map(|number| number / unit);
    share.filter(|share| (0.0..=1.0).contains(share)).ok_or_else(|| {
        Failure::Usage(format!("`{text}` is not a valid tolerance (a share of the value, such as 5%)"))
    })
}

/// Templates of pages and of XML: values out of files are escaped, and hold nothing that XML does not allow.
pub(crate) fn environment() -> minijinja::Environment<'static> {
    let mut environment = minijinja::Environment::new();
    // A field that is not there any more is a fault of the template, not an empty cell.
    environment.set_undefined_behavior(minijinja::UndefinedBehavior::Strict);
    environment.set_auto_escape_callback(|_| minijinja::AutoEscape::Html);
    environment.set_formatter(|out, state, value| {
        let forbidden = |letter: char| {
            acts(letter) && !matches!(letter, '\n' | '\t') || matches!(letter, '\u{FFFE}' | '\u{FFFF}')
        };
        match value.as_str().filter(|text| text.contains(forbidden)) {
            Some(text) => {
                let clean = text.replace(forbidden, "\u{FFFD}");
                minijinja::escape_formatter(out, state, &clean.into())
            }
            None => minijinja::escape_formatter(out, state, value),
        }
    });
    environment
}

/// Opens a report's file before anything is proven: a path that cannot be written is told at once. What is there stays
/// until the report is ready.
pub(crate) fn can_be_written(path: &std::path::Path) -> Result<(), crate::Failure> {
    let opened = std::fs::OpenOptions::new().create(true).append(true).open(path);
    opened.map(drop).map_err(|error| {
        crate::Failure::Outside(format!(
            "{} cannot be written: {error}, so nothing was begun",
            path.display()
        ))
    })
}

#[cfg(test)]
mod tests {
    use super::environment;

    #[test]
    fn what_comes_out_of_files_neither_ends_an_element_nor_breaks_xml() {
        let mut environment = environment();
        environment.add_template("t", "<a b=\"{{ name }}\">{{ number }}</a>").unwrap();
        let name = "x\"/><script>\u{0}\u{1b}[2J\u{FFFE} & é";
        let made = environment
            .get_template("t")
            .unwrap()
            .render(minijinja::context! { name, number => 4.5 })
            .unwrap();
        assert_eq!(
            made,
            "<a b=\"x&quot;&#x2f;&gt;&lt;script&gt;\u{FFFD}\u{FFFD}[2J\u{FFFD} &amp; é\">4.5</a>"
        );
    }
}
