//! `[[forward]]`: whole requests passed from a port on which others ask to one on which we ask.

use super::fields::Fields;
use super::reader::Reader;
use crate::finding::Finding;
use crate::source::{Span, Spanned};

/// One forward.
#[derive(Debug)]
pub struct Forward {
    /// Its header.
    pub span: Span,
    /// Index of the port on which others ask.
    pub from: Option<Spanned<usize>>,
    /// Index of the port on which we ask.
    pub to: Option<Spanned<usize>>,
    /// Each unit with what it is called there, ascending; `None` where nothing was written (raw bytes).
    pub units: Option<Spanned<Vec<(u16, u16)>>>,
    /// Function codes that may pass; `None` for all.
    pub functions: Option<Spanned<Vec<u8>>>,
    /// Writes go before reads that wait.
    pub writes_first: bool,
}

/// Reads `10-20` or `1, 5, 10-20`.
pub(super) fn units(text: &str) -> Result<Vec<u16>, String> {
    let mut found = vec![];
    for part in text.split(',') {
        let number = |text: &str| {
            let unit = text.trim().parse::<u16>().ok().filter(|unit| *unit <= 255);
            unit.ok_or_else(|| format!("`{}` is not a valid unit (0 to 255)", text.trim()))
        };
        let (first, last) = part.split_once('-').unwrap_or((part, part));
        let (first, last) = (number(first)?, number(last)?);
        if last < first {
            return Err(format!("`{}` ends before it begins", part.trim()));
        }
        found.extend(first..=last);
    }
    let mut sorted = found.clone();
    sorted.sort_unstable();
    match sorted.windows(2).find(|pair| pair[0] == pair[1]) {
        Some(pair) => Err(format!("unit {} stands there twice", pair[0])),
        None => Ok(found),
    }
}

pub(super) fn read(
    r: &mut Reader<'_>,
    fields: &Fields<'_, '_>,
    port: impl Fn(&mut Reader<'_>, &str, &str) -> Option<Spanned<usize>>,
) -> Forward {
    let from = port(r, "from", "a port on which others ask");
    let to = port(r, "to", "a port on which we ask");
    let here = fields.parsed(r, "units", "F03", units);
    let there = fields.parsed(r, "as-units", "F03", units);
    let units = here.map(|here| match &there {
        None => here.map(|units| units.into_iter().map(|unit| (unit, unit)).collect()),
        Some(there) => {
            if there.value.len() != here.value.len() {
                let what = format!("{} units become {}", here.value.len(), there.value.len());
                let finding = Finding::new("F03", there.span, what).note(here.span, "the units");
                r.find(finding.fix("write as many units here as in `units`"));
            }
            let pairs = here.value.iter().copied().zip(there.value.iter().copied());
            Spanned { value: pairs.collect(), span: here.span }
        }
    });
    let functions = fields.wholes(r, "functions", 1, 127);
    Forward {
        span: fields.span,
        from,
        to,
        units: units.map(|mut units: Spanned<Vec<(u16, u16)>>| {
            units.value.sort_unstable();
            units
        }),
        functions: functions.map(|codes| {
            codes.map(|codes| codes.into_iter().filter_map(|code| u8::try_from(code).ok()).collect())
        }),
        writes_first: fields.switch(r, "writes-first").unwrap_or(false),
    }
}

#[cfg(test)]
mod tests {
    use super::units;

    #[test]
    fn lists_of_units_are_read() {
        assert_eq!(units("10-12"), Ok(vec![10, 11, 12]));
        assert_eq!(units("7, 1-2"), Ok(vec![7, 1, 2]));
        for text in ["", "a", "5-3", "256", "1-3,2"] {
            assert!(units(text).is_err(), "{text}");
        }
    }
}
