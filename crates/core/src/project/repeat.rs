//! Expressions of `n`: `16*(n-1)`, and `{…}` in texts of what is repeated.

use std::ops::RangeInclusive;

/// Most repetitions of one entry.
const MOST: u32 = 4096;

/// Reads a range of repetitions such as `1-47`.
pub(super) fn range(text: &str) -> Result<RangeInclusive<u32>, String> {
    let wrong = || format!("`{text}` is not a range of repetitions such as 1-47");
    let (first, last) = text.split_once('-').unwrap_or((text, text));
    let first: u32 = first.trim().parse().map_err(|_| wrong())?;
    let last: u32 = last.trim().parse().map_err(|_| wrong())?;
    match last.checked_sub(first) {
        None => Err(format!("`{text}` ends before it begins")),
        Some(more) if more >= MOST => Err(format!("`{text}` is more than {MOST} repetitions")),
        Some(_) => Ok(first..=last),
    }
}

/// The value of an expression of whole numbers, `n`, `+ - * /` and brackets.
pub(super) fn evaluate(text: &str, n: i64) -> Result<i64, String> {
    worked_out(text, n).map(|(value, _)| value)
}

/// The same, and as how many digits it is written: as many as a number in it that begins with a zero has, such as the
/// reference number of a coil.
fn worked_out(text: &str, n: i64) -> Result<(i64, usize), String> {
    let mut parser = Parser { text: text.as_bytes(), at: 0, n, depth: 0, digits: 0 };
    let value = parser.sum();
    parser.skip();
    match value {
        Some(value) if parser.at == text.len() => Ok((value, parser.digits)),
        _ => Err(format!("`{text}` is not an expression of n such as `10+n` or `16*(n-1)`")),
    }
}

/// A text with its `{…}` worked out.
pub(super) fn fill(text: &str, n: i64) -> Result<String, String> {
    let mut out = String::new();
    let mut rest = text;
    while let Some((before, after)) = rest.split_once('{') {
        let Some((inner, behind)) = after.split_once('}') else {
            return Err(format!("`{text}` has a `{{` without its `}}`"));
        };
        out.push_str(before);
        let (value, digits) = worked_out(inner, n)?;
        out.push_str(&format!("{value:0digits$}"));
        rest = behind;
    }
    out.push_str(rest);
    Ok(out)
}

struct Parser<'t> {
    text: &'t [u8],
    at: usize,
    n: i64,
    depth: u8,
    digits: usize,
}

impl Parser<'_> {
    fn skip(&mut self) {
        while self.text.get(self.at) == Some(&b' ') {
            self.at += 1;
        }
    }

    fn take(&mut self, wanted: &[u8]) -> Option<u8> {
        self.skip();
        let found = self.text.get(self.at).copied().filter(|byte| wanted.contains(byte))?;
        self.at += 1;
        Some(found)
    }

    fn sum(&mut self) -> Option<i64> {
        let mut value = self.product()?;
        while let Some(sign) = self.take(b"+-") {
            let next = self.product()?;
            value = if sign == b'+' { value.checked_add(next)? } else { value.checked_sub(next)? };
        }
        Some(value)
    }

    fn product(&mut self) -> Option<i64> {
        let mut value = self.factor()?;
        while let Some(sign) = self.take(b"*/") {
            let next = self.factor()?;
            value = if sign == b'*' { value.checked_mul(next)? } else { value.checked_div(next)? };
        }
        Some(value)
    }

    fn factor(&mut self) -> Option<i64> {
        if self.take(b"-").is_some() {
            return self.nested(Self::factor)?.checked_neg();
        }
        if self.take(b"n").is_some() {
            return Some(self.n);
        }
        if self.take(b"(").is_some() {
            let value = self.nested(Self::sum);
            return self.take(b")").and(value);
        }
        self.skip();
        let begin = self.at;
        while self.text.get(self.at).is_some_and(u8::is_ascii_digit) {
            self.at += 1;
        }
        let digits = self.text.get(begin..self.at)?;
        if digits.len() > 1 && digits.first() == Some(&b'0') {
            self.digits = self.digits.max(digits.len().min(20));
        }
        std::str::from_utf8(digits).ok()?.parse().ok()
    }

    /// Brackets within brackets, to a depth that nobody needs.
    fn nested(&mut self, inner: fn(&mut Self) -> Option<i64>) -> Option<i64> {
        self.depth = self.depth.checked_add(1).filter(|depth| *depth < 32)?;
        let value = inner(self);
        self.depth -= 1;
        value
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn expressions_are_worked_out() {
        for (text, n, value) in [
            ("10+n", 3, 13),
            ("16*(n-1)", 4, 48),
            (" 2 * n + 1 ", 5, 11),
            ("-n", 2, -2),
            ("7", 1, 7),
            ("9/n", 2, 4),
        ] {
            assert_eq!(evaluate(text, n), Ok(value), "{text}");
        }
        for text in ["", "n+", "m", "(n", "n n", "9/(n-n)", "9223372036854775807+n", &"(".repeat(99)] {
            assert!(evaluate(text, 1).is_err(), "{text}");
        }
        assert_eq!(fill("scada:{400001+2*(n-1)} as f32", 3).as_deref(), Ok("scada:400005 as f32"));
        assert_eq!(fill("meter-{n}.power-{n}", 12).as_deref(), Ok("meter-12.power-12"));
        // The reference number of a coil keeps its digits.
        assert_eq!(fill("scada:{000001+n}", 99).as_deref(), Ok("scada:000100"));
        assert_eq!(fill("{n}:{0}:{00009*n}", 2).as_deref(), Ok("2:0:00018"));
        assert!(fill("a{n", 1).is_err() && fill("a{x}", 1).is_err());
        assert_eq!(range("1-47"), Ok(1..=47));
        assert_eq!(range("5"), Ok(5..=5));
        assert!(range("9-3").is_err() && range("0-9999").is_err() && range("a-b").is_err());
    }
}
