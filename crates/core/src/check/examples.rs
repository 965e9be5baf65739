//! The maker's own example of a value, held against the type, order and scale of its point.

use crate::decode::{Base, Sample, TOLERANCE, fits, parse_words};
use crate::finding::{Finding, Severity};
use crate::form::{Conversion, Form};
use crate::project::{Point, Project};
use crate::source::Spanned;

/// Runs the check on every point that has an example.
pub(super) fn check(project: &Project, findings: &mut Vec<Finding>) {
    for point in project.profiles.iter().flat_map(|profile| &profile.points) {
        // Points of a row share the example of the first.
        if let Some(example) = point.example.as_ref().filter(|_| point.later == 0) {
            findings.extend(differs(point, example));
        }
    }
}

/// The words of an example, and the value that they stand for.
fn parts(text: &str) -> Result<(Vec<u16>, f64), String> {
    let (words, value) = text
        .split_once('=')
        .ok_or_else(|| format!("`{text}` is not WORDS = VALUE, such as `0B54 = 29.00`"))?;
    let words = parse_words(words.trim(), Some(Base::Hex)).map_err(|fault| fault.what)?;
    // A unit may stand behind.
    let number = value.split_whitespace().next().unwrap_or_default();
    let value = number.parse().map_err(|_| format!("`{number}` is not a number"))?;
    Ok((words, value))
}

/// How far a value may be off: half of the last digit that the maker prints.
fn slack(text: &str) -> f64 {
    let number = text.split_once('=').map_or("", |(_, value)| value.trim());
    let number = number.split_whitespace().next().unwrap_or_default();
    let places = number.split_once('.').map_or(0, |(_, places)| places.len());
    0.5 / 10f64.powi(i32::try_from(places).unwrap_or(0)) * 1.0001
}

fn differs(point: &Point, example: &Spanned<String>) -> Option<Finding> {
    let (words, value) = match parts(&example.value) {
        Ok(found) => found,
        Err(what) => {
            let fix = "write the raw words in hexadecimal and the value, such as `0B54 = 29.00`";
            return Some(Finding::new("F03", example.span, what).fix(fix));
        }
    };
    let form = point.form?;
    let wrong = |what: String| {
        Finding::new("M36", example.span, what)
            .severity(Severity::Error)
            .note(form.span, "the form is said here")
    };
    let wanted = form.value.ty.bytes()?.div_ceil(2) as usize;
    if wanted != words.len() {
        let what = format!(
            "`{}` takes {wanted} word{} of 16 bits, and its example has {}",
            form.value,
            if wanted == 1 { "" } else { "s" },
            words.len()
        );
        return Some(wrong(what).fix("write the type that the manual says, or all words of the example"));
    }
    let cells: Vec<u8> = words.iter().flat_map(|word| word.to_be_bytes()).collect();
    let shown = Conversion::shown(&form.value, &cells);
    let read = shown.as_ref().and_then(|shown| shown.parse::<f64>().ok());
    if read.is_some_and(|read| (read - value).abs() <= slack(&example.value)) {
        return None;
    }
    let seen = shown.unwrap_or_else(|| "no value".into());
    let what =
        format!("the example of `{}` is {value}, and `{}` reads it as {seen}", point.name.value, form.value);
    let likely = fits(&[Sample { words, value }], TOLERANCE).into_iter().next();
    let finding = wrong(what);
    Some(match likely {
        Some(fit) => finding.fix(format!("`{}` gives it: look at the manual", fitted(&fit.form))),
        None => finding.fix("no type, order and usual scale gives it: is the example copied rightly?"),
    })
}

/// A form without the order of bytes, where it is the usual one of a single register.
fn fitted(form: &Form) -> Form {
    let is_single = form.ty.bytes() == Some(2) && !form.order().low_byte_first;
    Form { order: form.order.filter(|_| !is_single), ..*form }
}
