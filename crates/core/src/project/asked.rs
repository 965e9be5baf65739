//! `ADDRESS [as FORM] [xN] [every T]`: what a client reads or writes, and the targets of rig signals.

use super::scalars::duration;
use crate::finding::{Finding, PAST_THE_END};
use crate::form::Form;
use crate::protocol::{Address, AddressContext, Dialect};
use crate::source::{Span, Spanned};

/// One entry, with the address not yet read: its notation is that of the device or image.
#[derive(Debug, Clone)]
pub struct Asked {
    /// The whole entry.
    pub span: Span,
    /// The address as written.
    pub address: Spanned<String>,
    /// The form as written.
    pub form: Option<Spanned<Form>>,
    /// Values of the form, or registers or bits.
    pub count: u32,
    /// How often, in microseconds.
    pub every: Option<u64>,
    /// Which value it is taken for: an endpoint, or in words.
    pub is: Option<Spanned<String>>,
    /// Where a scale or an offset is stated, so that they are held against the rule's.
    pub scale_at: Option<Span>,
    /// It stands in a list of the client's programmer.
    pub is_listed: bool,
}

/// Splits an entry into its parts.
///
/// # Errors
/// Which part is wrong, and why, as a finding.
pub fn parse_asked(entry: &Spanned<String>) -> Result<Asked, Finding> {
    let text = entry.value.as_str();
    let span = |from: usize, to: usize| entry.span.part(from, to);
    let (rest, every) = match text.split_once(" every ") {
        Some((rest, every)) => {
            let at = rest.len() + " every ".len();
            let micros = duration(every.trim()).filter(|micros| *micros > 0);
            let wrong = || {
                Finding::new(
                    "F03",
                    span(at, text.len()),
                    format!("`{every}` is not an interval such as 250ms"),
                )
            };
            (rest, Some(micros.ok_or_else(wrong)?))
        }
        None => (text, None),
    };
    let (rest, is) = match rest.split_once(" is ") {
        Some((before, source)) => {
            let at = before.len() + " is ".len();
            let trimmed = source.trim();
            let lead = source.len() - source.trim_start().len();
            let place = span(at + lead, at + lead + trimmed.len());
            (before, Some(Spanned { value: trimmed.to_string(), span: place }))
        }
        None => (rest, None),
    };
    let (rest, count) = match rest.trim_end().rsplit_once(" x") {
        Some((before, digits)) if !digits.is_empty() && digits.bytes().all(|b| b.is_ascii_digit()) => {
            let count = digits.parse().ok().filter(|count| (1..=65_536).contains(count));
            let at = before.len() + 2;
            let wrong = || {
                Finding::new(
                    "F03",
                    span(at, at + digits.len()),
                    format!("`{digits}` is not a valid count (1 to 65536)"),
                )
            };
            (before, count.ok_or_else(wrong)?)
        }
        _ => (rest, 1),
    };
    let (address, form) = split_form(rest, entry.span)?;
    let trimmed = address.trim();
    let lead = address.len() - address.trim_start().len();
    let address = Spanned { value: trimmed.to_string(), span: span(lead, lead + trimmed.len()) };
    // What a client leaves out it may work out by itself; what it writes is a statement.
    let states_scale = [" scale", " plus"].iter().any(|word| rest.contains(word));
    let scale_at = form.filter(|_| states_scale).map(|form| form.span);
    Ok(Asked { span: entry.span, address, form, count, every, is, scale_at, is_listed: false })
}

/// The two sides of the first ` as `. Every end of a large site is asked this: bytes are compared, and no searcher is
/// built for four of them.
pub(crate) fn at_form(text: &str) -> Option<(&str, &str)> {
    let at = text.as_bytes().windows(4).position(|part| part == b" as ")?;
    Some((text.get(..at)?, text.get(at + 4..)?))
}

/// Splits `X as FORM`; `span` is that of the whole text.
pub(super) fn split_form(text: &str, span: Span) -> Result<(&str, Option<Spanned<Form>>), Finding> {
    let Some((before, form)) = at_form(text) else { return Ok((text, None)) };
    let at = before.len() + " as ".len();
    let place = span.part(at, text.len());
    match Form::parse(form) {
        Ok(value) => Ok((before, Some(Spanned { value, span: place }))),
        Err(fault) => {
            let here = place.part(fault.at.start, fault.at.end);
            Err(Finding::new("F08", here, fault.what))
        }
    }
}

/// Reads an address in a dialect; a fault becomes a finding with what was likely meant.
pub(crate) fn address(
    dialect: &dyn Dialect,
    text: &str,
    span: Span,
    context: &AddressContext<'_>,
) -> Result<Address, Finding> {
    dialect.notation().parse(text, context).map_err(|fault| {
        let place = span.part(fault.at.start, fault.at.end);
        let mut finding = Finding::new(fault.code, place, fault.what);
        if fault.code == "M17" {
            finding = finding.why(PAST_THE_END);
        }
        if !fault.likely.is_empty() {
            finding = finding.fix(format!("write {}", list_or(&fault.likely)));
        }
        finding
    })
}

/// `a`, `a or b`, `a, b or c`, each in marks.
pub(crate) fn list_or(words: &[String]) -> String {
    let marked: Vec<String> = words.iter().map(|word| format!("`{word}`")).collect();
    match marked.split_last() {
        Some((last, [])) => last.clone(),
        Some((last, before)) => format!("{} or {last}", before.join(", ")),
        None => String::new(),
    }
}
