//! Raw words as people write them: hex as every output shows them, or decimal as many tools do; never guessed.

/// How words are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Base {
    /// Four hex digits.
    Hex,
    /// 0 to 65535, or -32768 to -1.
    Decimal,
}

/// Why words are not understood.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WordsFault {
    /// What is wrong, in words.
    pub what: String,
    /// What to write instead.
    pub fix: String,
}

fn fault(what: String, fix: impl Into<String>) -> WordsFault {
    WordsFault { what, fix: fix.into() }
}

/// Reads words that blanks or commas part; `0x` and hex letters say hex, other lengths than four digits decimal.
/// Where neither is so, `base` must say it.
///
/// # Errors
/// Which word is wrong, or that it could be both.
pub fn parse_words(text: &str, base: Option<Base>) -> Result<Vec<u16>, WordsFault> {
    let words: Vec<&str> = text.split([' ', ',', '\t', '\n']).filter(|word| !word.is_empty()).collect();
    if words.is_empty() {
        return Err(fault("there are no words".into(), "write them as in `AE14 418B` or `44564 16779`"));
    }
    let letters = |word: &str| word.starts_with("0x") || word.bytes().any(|byte| byte.is_ascii_alphabetic());
    let base = match base {
        Some(base) => base,
        None if words.iter().any(|word| letters(word)) => Base::Hex,
        None if words.iter().any(|word| word.len() != 4) => Base::Decimal,
        None => {
            let first = words.first().copied().unwrap_or_default();
            let hex = u16::from_str_radix(first, 16).unwrap_or(0);
            return Err(fault(
                format!(
                    "`{first}` could be hex ({hex} in decimal) or decimal (hex {:04X})",
                    first.parse::<u16>().unwrap_or(0)
                ),
                format!("write `0x{first}`, or add `--hex` or `--dec`"),
            ));
        }
    };
    words.iter().map(|word| one(word, base)).collect()
}

fn one(word: &str, base: Base) -> Result<u16, WordsFault> {
    match base {
        Base::Hex => {
            let digits = word.strip_prefix("0x").or_else(|| word.strip_prefix("0X")).unwrap_or(word);
            let sound =
                (1..=4).contains(&digits.len()) && digits.bytes().all(|byte| byte.is_ascii_hexdigit());
            let whole = digits.len() == 4 || digits.len() < word.len();
            match u16::from_str_radix(digits, 16) {
                Ok(number) if sound && whole => Ok(number),
                _ => Err(fault(
                    format!("`{word}` is not a word in hex"),
                    "write each word with four hex digits, such as `AE14`, or all of them in decimal",
                )),
            }
        }
        Base::Decimal => {
            let number = word.parse::<i32>().ok().filter(|number| (-32_768..=65_535).contains(number));
            let low = number.map(|number| u16::try_from(number.rem_euclid(0x1_0000)).unwrap_or(0));
            low.ok_or_else(|| {
                fault(
                    format!("`{word}` is not a word"),
                    "write 0 to 65535, or -32768 to -1; a wider value is several words",
                )
            })
        }
    }
}
