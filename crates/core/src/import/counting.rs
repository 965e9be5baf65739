//! Whether the numbers of a list are reference numbers or bare ones, and from where bare ones count.

use super::Question;
use super::place::ListedPlace;
use crate::protocol::{AddressContext, Dialect, Setup};
use crate::sheet::count_of;

/// How the numbers of a list are read.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Counting {
    /// Numbers without a table count from here; `None` where nothing says it.
    pub(super) from: Option<u32>,
    /// All of them are bare: what looks like a reference number is one too.
    pub(super) all_bare: bool,
    /// What was found out, for people.
    pub(super) remarks: Vec<String>,
}

/// What of a list decides that.
pub(super) struct CountingFacts<'a> {
    pub(super) dialect: &'static dyn Dialect,
    /// What the person says.
    pub(super) said: Option<u32>,
    /// What the head of the addresses says, and that head.
    pub(super) head: Option<(u32, &'a str)>,
    /// Addresses with the offset that another column says.
    pub(super) places: Vec<(&'a ListedPlace, Option<u32>)>,
    /// The head of that.
    pub(super) beside: &'a str,
}

/// A whole number in decimal digits.
pub(super) fn plain_number(text: &str) -> Option<u32> {
    let is_plain = !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit());
    text.parse().ok().filter(|_| is_plain)
}

/// A number in hexadecimal, with its mark or without.
pub(super) fn hex_number(text: &str) -> Option<u32> {
    count_of(text)
        .filter(|_| plain_number(text).is_none())
        .or_else(|| u32::from_str_radix(text.trim(), 16).ok())
}

impl Counting {
    pub(super) fn of(facts: &CountingFacts<'_>) -> Self {
        let setup = Setup::default();
        let context = AddressContext::of_device(&setup);
        let notation = facts.dialect.notation();
        let numbers: Vec<(&str, u32, Option<u32>)> = facts
            .places
            .iter()
            .filter_map(|(place, beside)| Some((place.first.as_str(), plain_number(&place.first)?, *beside)))
            .collect();
        let mut counting = Self::default();
        if numbers.is_empty() || notation.lists().usual().is_none() {
            return counting;
        }
        let as_reference = |text: &str| notation.parse(text, &context).ok().map(|address| address.first);
        let references = numbers.iter().filter(|(text, ..)| as_reference(text).is_some()).count();
        let with_beside = numbers.iter().filter(|(.., beside)| beside.is_some()).count();
        let agree = |offset: &dyn Fn(&str, u32) -> Option<u32>| {
            numbers
                .iter()
                .filter(|(text, number, beside)| beside.is_some() && offset(text, *number) == *beside)
                .count()
        };
        let from_zero = agree(&|_, number| Some(number));
        let from_one = agree(&|_, number| number.checked_sub(1));
        let by_reference = agree(&|text, _| as_reference(text));
        let first = numbers.first().map_or("", |(text, ..)| *text);
        let told = |count: usize, from: u32| {
            let offset = plain_number(first).and_then(|number| number.checked_sub(from)).unwrap_or(0);
            format!(
                "{count} of {with_beside} numbers agree with `{}`: the first, {first}, is offset {offset}",
                facts.beside
            )
        };
        if references == numbers.len() && facts.said.is_none() && facts.head.is_none() {
            if with_beside > 0 {
                counting.remarks.push(format!(
                    "{by_reference} of {with_beside} reference numbers agree with `{}`",
                    facts.beside
                ));
            }
            return counting;
        }
        counting.all_bare = facts.said.is_some() || facts.head.is_some() || references == 0;
        let by_beside = match (from_zero, from_one) {
            (1.., 0) if from_zero == with_beside => Some((from_zero, 0)),
            (0, 1..) if from_one == with_beside => Some((from_one, 1)),
            _ => None,
        };
        if let Some(from) = facts.said {
            counting.from = Some(from);
            if references > 0 {
                counting.remarks.push(format!(
                    "{references} of {} numbers look like reference numbers, and are read as counted from {from} too",
                    numbers.len()
                ));
            }
            if let Some((count, other)) = by_beside.filter(|(_, other)| *other != from) {
                counting
                    .remarks
                    .push(format!("{}, counted from {other}, not from {from}", told(count, other)));
            }
        } else if let Some((from, head)) = facts.head {
            counting.from = Some(from);
            counting.remarks.push(format!("`{head}` says that addresses count from {from}"));
        } else if let Some((_, from)) = by_beside {
            counting.from = Some(from);
        }
        if let Some((count, from)) = by_beside.filter(|(_, from)| counting.from == Some(*from)) {
            counting.remarks.push(told(count, from));
        } else if with_beside > 0 && by_beside.is_none() {
            counting.remarks.push(format!(
                "the numbers do not agree with `{}`: {from_zero} of {with_beside} are the same number, {from_one} are one higher",
                facts.beside
            ));
        }
        if !counting.all_bare {
            counting.remarks.push(format!(
                "two notations are mixed: {references} of {} numbers are reference numbers, the others bare ones",
                numbers.len()
            ));
        }
        counting
    }

    /// What must be answered for numbers of which nothing says where they count from, with what each answer gives.
    pub(super) fn question(dialect: &dyn Dialect, table: &str, open: &[u32]) -> Option<Question> {
        let first = *open.first()?;
        let notation = dialect.notation();
        let setup = Setup::default();
        let readings = [0, 1].into_iter().filter_map(|from| {
            let text = notation.lists().numbered(table, first, from)?;
            let address = notation.parse(&text, &AddressContext::of_device(&setup)).ok()?;
            let shown = notation.show(&address.space, address.first, 1, None, &setup);
            Some((
                format!("--counts-from {from}"),
                format!("{first} is {} ({})", shown.canonical, shown.offset),
            ))
        });
        let shown: Vec<String> = open.iter().take(3).map(u32::to_string).collect();
        let more = if open.len() > shown.len() { ", …" } else { "" };
        Some(Question {
            what: format!(
                "{} bare numbers ({}{more}) may count from 0 or from 1, and nothing in the list says which",
                open.len(),
                shown.join(", ")
            ),
            readings: readings.collect(),
        })
    }
}
