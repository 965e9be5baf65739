//! What is handed over, as a page that prints and as Markdown.

use super::changes::ComparedRow;
use crate::Failure;
use minijinja::{Environment, Error, Output, State, Value};
use serde::Serialize;
use std::collections::BTreeMap;
use woodrush_core::Sources;
use woodrush_core::compare::Follower;
use woodrush_core::handover::Papers;
use woodrush_core::ledger::Issue;
use woodrush_core::one_line::acts;

/// An issue, as the page names it.
#[derive(Serialize)]
pub(crate) struct IssueHead {
    number: u32,
    date: String,
    note: String,
}

impl IssueHead {
    pub(crate) fn of(issue: &Issue) -> Self {
        Self { number: issue.number, date: issue.date.clone(), note: issue.note.clone() }
    }
}

/// A client or device that must follow.
#[derive(Serialize)]
struct FollowerOnPage {
    who: String,
    rows: Vec<FollowerLine>,
}

#[derive(Serialize)]
struct FollowerLine {
    at: String,
    text: String,
}

/// A proof or an acceptance that was made before.
#[derive(Serialize)]
pub(crate) struct ResultOnPage {
    pub(crate) title: String,
    pub(crate) holds: bool,
    pub(crate) verdict: String,
    pub(crate) when: String,
    /// From, to, and what is wrong.
    pub(crate) wrong: Vec<(String, String, String)>,
    /// The project id that it was made of, where it is not this one's.
    pub(crate) of_another: String,
}

/// All that the page is made of.
pub(crate) struct Page<'p> {
    pub(crate) papers: &'p Papers,
    /// The issue that these papers are of.
    pub(crate) issue: Option<IssueHead>,
    /// The issue before it, or the last one where none is closed.
    pub(crate) since: Option<IssueHead>,
    /// Whether the project is no longer as `issue` says.
    pub(crate) differs: bool,
    pub(crate) changes: Vec<ComparedRow>,
    pub(crate) followers: Vec<Follower>,
    pub(crate) sources: &'p Sources,
    /// The file of each client's list, by client; empty where it has none.
    pub(crate) lists: BTreeMap<String, String>,
    pub(crate) results: Vec<ResultOnPage>,
    /// The day.
    pub(crate) date: String,
}

impl Page<'_> {
    /// As a page without outside parts.
    pub(crate) fn html(&self) -> Result<String, Failure> {
        self.render(super::environment(), "handover.html", include_str!("handover.html"))
    }

    /// As Markdown, whose drawing is a file beside it.
    pub(crate) fn markdown(&self) -> Result<String, Failure> {
        let mut environment = super::environment();
        environment.set_auto_escape_callback(|_| minijinja::AutoEscape::None);
        environment.set_formatter(markdown);
        self.render(environment, "handover.md", include_str!("handover.md"))
    }

    fn render(
        &self,
        mut environment: Environment<'static>,
        name: &'static str,
        template: &'static str,
    ) -> Result<String, Failure> {
        environment.add_template(name, template).map_err(|error| Failure::Outside(error.to_string()))?;
        let line = |row: &woodrush_core::compare::FollowerRow| {
            let at = row.span.map(|span| {
                let at = self.sources.position(span);
                format!("{}:{}", at.file, at.line)
            });
            FollowerLine { at: at.unwrap_or_default(), text: row.text.clone() }
        };
        let followers: Vec<FollowerOnPage> = self
            .followers
            .iter()
            .map(|own| FollowerOnPage { who: own.who.clone(), rows: own.rows.iter().map(line).collect() })
            .collect();
        let values = minijinja::context! {
            papers => minijinja::value::Serde(self.papers),
            issue => minijinja::value::Serde(&self.issue),
            since => minijinja::value::Serde(&self.since),
            differs => self.differs,
            changes => minijinja::value::Serde(&self.changes),
            followers => minijinja::value::Serde(&followers),
            lists => minijinja::value::Serde(&self.lists),
            results => minijinja::value::Serde(&self.results),
            date => &self.date,
            version => env!("CARGO_PKG_VERSION"),
        };
        let made = environment.get_template(name).and_then(|template| template.render(values));
        made.map_err(|error| Failure::Outside(format!("{error:#}")))
    }
}

/// Text out of files neither ends a cell nor becomes markup.
fn markdown(out: &mut Output<'_>, _state: &mut State<'_, '_>, value: &Value) -> Result<(), Error> {
    let Some(text) = value.as_str() else {
        return out.write_str(&value.to_string()).map_err(|_| Error::from(std::fmt::Error));
    };
    let mut clean = String::with_capacity(text.len());
    for letter in text.chars() {
        match letter {
            '\\' | '`' | '*' | '_' | '[' | ']' | '<' | '>' | '|' | '#' => clean.extend(['\\', letter]),
            letter if acts(letter) => clean.push(' '),
            letter => clean.push(letter),
        }
    }
    out.write_str(&clean).map_err(|_| Error::from(std::fmt::Error))
}
