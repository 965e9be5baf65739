//! What the numbers or bits of a register mean, out of a sentence: `0=stop 1=run`, `bit 3 = high level`.

/// What a text says of numbers or bits.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum ListedCodes {
    /// Words for numbers.
    Values(Vec<(String, u32)>),
    /// Words for bits.
    Bits(Vec<(u8, String)>),
}

/// Most of them in one cell: bits of two registers, states of a machine.
const CODES_MAX: usize = 64;

/// A number with a mark behind it: where it begins with what belongs to it, the number, and where its word begins.
struct Mark {
    begins: usize,
    number: u32,
    word: usize,
    is_bit: bool,
}

fn marks(text: &str) -> Vec<Mark> {
    let mut found = vec![];
    let mut at = 0;
    while let Some(start) = text.get(at..).and_then(|rest| rest.find(|own: char| own.is_ascii_digit())) {
        let start = at + start;
        let rest = text.get(start..).unwrap_or_default();
        let length = rest.find(|own: char| !own.is_ascii_alphanumeric()).unwrap_or(rest.len());
        at = start + length.max(1);
        let before = text.get(..start).unwrap_or_default();
        let lead = before.trim_end();
        let small = lead.to_lowercase();
        let own = ["bit", "b", "d"].iter().find(|word| {
            small.strip_suffix(**word).is_some_and(|rest| !rest.ends_with(|own: char| own.is_alphanumeric()))
                && (word.len() == 3 || lead.len() == before.len())
        });
        if own.is_none() && before.ends_with(|own: char| own.is_alphanumeric() || own == '.' || own == '-') {
            continue;
        }
        let Some(number) = rest.get(..length).and_then(super::super::sheet::count_of) else { continue };
        let behind = rest.get(length..).unwrap_or_default();
        let trimmed = behind.trim_start();
        let is_apart = trimmed.starts_with("- ") || trimmed.starts_with("\u{2013} ");
        let Some(sign) = trimmed.chars().next().filter(|own| matches!(own, '=' | ':') || is_apart) else {
            continue;
        };
        let word = start + length + (behind.len() - trimmed.len()) + sign.len_utf8();
        let begins = own.map_or(start, |own| lead.len() - own.len());
        found.push(Mark { begins, number, word, is_bit: own.is_some() });
        at = word;
    }
    found
}

/// What a text says of numbers or bits; `bits` where its column is about bits. `None` where it says nothing of them.
pub(super) fn codes_of(text: &str, bits: bool) -> Option<ListedCodes> {
    let marks = marks(text);
    let ends = marks.iter().skip(1).map(|mark| mark.begins).chain([text.len()]);
    let words: Vec<(u32, String)> = marks
        .iter()
        .zip(ends)
        .take(CODES_MAX)
        .filter_map(|(mark, end)| {
            let word = text.get(mark.word..end)?;
            // A sentence behind the last of them is not its name.
            let word = word.split([';', '\n']).next()?.split(". ").next()?;
            let word = word.trim().trim_matches([',', '/', '|', '"', '.']).trim();
            (!word.is_empty()).then(|| (mark.number, word.to_string()))
        })
        .collect();
    if bits || marks.iter().any(|mark| mark.is_bit) {
        let bits: Vec<(u8, String)> = words
            .into_iter()
            .filter_map(|(number, word)| Some((u8::try_from(number).ok().filter(|own| *own < 32)?, word)))
            .collect();
        return (!bits.is_empty()).then_some(ListedCodes::Bits(bits));
    }
    let mut values: Vec<(String, u32)> = vec![];
    for (number, word) in words {
        if !values.iter().any(|(own, known)| *own == word || *known == number) {
            values.push((word, number));
        }
    }
    (values.len() > 1).then_some(ListedCodes::Values(values))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn values(text: &str) -> Vec<(String, u32)> {
        match codes_of(text, false) {
            Some(ListedCodes::Values(values)) => values,
            other => panic!("{text}: {other:?}"),
        }
    }

    #[test]
    fn enumerations_are_read_in_the_usual_ways() {
        for text in
            ["0=stop 1=run", "0: stop, 1: run", "0 - stop; 1 - run", "0 = stop / 1 = run", "0=stop\n1=run"]
        {
            assert_eq!(values(text), [("stop".into(), 0), ("run".into(), 1)], "{text}");
        }
        let long = values("Mode: 0=off by hand, 2=low (night), 0x10=high. Writes are kept.");
        assert_eq!(long, [("off by hand".into(), 0), ("low (night)".into(), 2), ("high".into(), 16)]);
        for text in [
            "0, 5, 10, 15, 30",
            "1..247, takes effect after restart",
            "at 12:30",
            "",
            "-40 to 150",
            "A1.00=5",
        ] {
            assert_eq!(codes_of(text, false), None, "{text}");
        }
    }

    #[test]
    fn bits_are_read_where_they_are_called_so() {
        for text in ["bit 0: run, bit 3: high level", "Bit0=run; Bit3=high level", "b0 = run b3 = high level"]
        {
            let bits = codes_of(text, false);
            assert_eq!(
                bits,
                Some(ListedCodes::Bits(vec![(0, "run".into()), (3, "high level".into())])),
                "{text}"
            );
        }
        assert_eq!(
            codes_of("16 alarms, bit 3 = high level", false),
            Some(ListedCodes::Bits(vec![(3, "high level".into())]))
        );
        assert_eq!(codes_of("0=run", true), Some(ListedCodes::Bits(vec![(0, "run".into())])));
    }
}
