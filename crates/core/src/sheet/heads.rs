//! Which column of a table is what: by its head, by what stands there in brackets, or as a person says.

use super::columns::Column;
use crate::nearest::nearest;
use crate::protocol::notations;

/// What a person says of columns whose heads are not understood: `address=Reg`.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ColumnChoice {
    named: Vec<(Column, String)>,
}

impl ColumnChoice {
    /// Reads `address=Reg,name=Signal`; `name=` alone says that no column is that.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub fn parse(text: &str) -> Result<Self, String> {
        let mut choice = Self::default();
        for part in text.split(',').map(str::trim).filter(|part| !part.is_empty()) {
            let (word, head) = part
                .split_once('=')
                .ok_or_else(|| format!("`{part}` is not COLUMN=HEAD, such as address=Reg"))?;
            choice.add(word.trim(), head.trim())?;
        }
        Ok(choice)
    }

    /// Says that the column with that head is what `word` calls.
    ///
    /// # Errors
    /// No column is called so, or it has been said already, in words.
    pub fn add(&mut self, word: &str, head: &str) -> Result<(), String> {
        let column = Column::of_word(word).ok_or_else(|| {
            let near = nearest(word, Column::words());
            let offer = near.map_or_else(
                || Column::words().collect::<Vec<_>>().join(", "),
                |near| format!("perhaps `{near}`"),
            );
            format!("`{word}` is not a kind of column ({offer})")
        })?;
        if self.named.iter().any(|(own, _)| *own == column) {
            return Err(format!("`{word}` is said of two columns"));
        }
        self.named.push((column, head.to_string()));
        Ok(())
    }

    /// Heads that were said and that no column has.
    #[must_use]
    pub fn missing<'c>(&self, cells: impl Iterator<Item = &'c str> + Clone) -> Vec<&str> {
        let heads = self.named.iter().map(|(_, head)| head.as_str());
        heads.filter(|head| !head.is_empty() && !cells.clone().any(|cell| same(cell, head))).collect()
    }
}

fn same(one: &str, other: &str) -> bool {
    one.trim().to_lowercase() == other.trim().to_lowercase()
}

/// The columns of a header.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Heads {
    columns: Vec<(Column, usize)>,
    /// Heads that are of no column: their places.
    pub unknown: Vec<usize>,
    /// Heads of a column that another one is already: their places.
    pub doubled: Vec<usize>,
    /// From which number the addresses count, where a head says so.
    pub counts_from: Option<u32>,
}

impl Heads {
    /// What the cells of a row would be as heads.
    #[must_use]
    pub fn of<'c>(cells: impl Iterator<Item = &'c str>, choice: &ColumnChoice) -> Self {
        let mut heads = Self::default();
        for (at, cell) in cells.enumerate().filter(|(_, cell)| !cell.is_empty()) {
            let said = choice.named.iter().find(|(_, head)| same(head, cell)).map(|(column, _)| *column);
            let column = said.or_else(|| {
                let (column, from) = understood(cell)?;
                if column == Column::Address {
                    heads.counts_from = heads.counts_from.or(from);
                }
                // Said of another column, or of none.
                choice.named.iter().all(|(own, _)| *own != column).then_some(column)
            });
            match column {
                Some(column) if heads.at(column).is_some() => heads.doubled.push(at),
                Some(column) => heads.columns.push((column, at)),
                None => heads.unknown.push(at),
            }
        }
        heads
    }

    /// Where a column is.
    #[must_use]
    pub fn at(&self, column: Column) -> Option<usize> {
        self.columns.iter().find(|(own, _)| *own == column).map(|(_, at)| *at)
    }

    /// How many columns are known.
    #[must_use]
    pub fn known(&self) -> usize {
        self.columns.len()
    }

    /// Columns in the order of the table.
    pub fn columns(&self) -> impl Iterator<Item = (Column, usize)> + '_ {
        self.columns.iter().copied()
    }

    /// Whether a row with these cells is a header: it says where values are, or what they are called, and something more.
    #[must_use]
    pub fn is_header(&self) -> bool {
        let has = |column| self.at(column).is_some();
        has(Column::Address)
            || has(Column::Offset)
            || has(Column::Hex)
            || has(Column::Name) && self.known() > 1
    }
}

/// A head in small letters, its words separated by one blank.
fn plain(head: &str) -> String {
    let mut words: Vec<String> = vec![];
    for word in head.split(|letter: char| !letter.is_alphanumeric()).filter(|word| !word.is_empty()) {
        words.push(word.to_lowercase());
    }
    words.join(" ")
}

/// A head without the name of a protocol's family: every address of such a list is one of it.
fn without_family(head: &str) -> String {
    let is_family = |word: &str| notations().any(|dialect| dialect.family().eq_ignore_ascii_case(word));
    head.split(' ').filter(|word| !is_family(word)).collect::<Vec<_>>().join(" ")
}

/// What a head says: its column, and from which number addresses count.
fn understood(head: &str) -> Option<(Column, Option<u32>)> {
    // What stands in brackets is about the column, and not what it is.
    let (outside, inside) = match head.split_once(['(', '[', '{']) {
        Some((outside, inside)) if !plain(outside).is_empty() => (plain(outside), plain(inside)),
        _ => (plain(head), String::new()),
    };
    let about = format!(" {outside} {inside} ");
    let has = |words: &[&str]| words.iter().any(|word| about.contains(&format!(" {word} ")));
    let from = match () {
        () if has(&["0 based", "zero based", "from 0", "starting at 0", "base 0", "offset"]) => Some(0),
        () if has(&["1 based", "one based", "from 1", "starting at 1", "base 1"]) => Some(1),
        () => None,
    };
    let whole = plain(head);
    let column =
        [&whole, &outside].into_iter().find_map(|head| Column::of_spelling(&without_family(head)))?;
    // An address in hexadecimal stands beside one in decimal.
    let is_hex = has(&["hex", "hexadecimal"]) && !has(&["dec", "decimal"]);
    let column = if column == Column::Address && is_hex { Column::Hex } else { column };
    Some((column, from))
}

#[cfg(test)]
mod tests {
    use super::super::columns::COLUMNS;
    use super::*;
    use std::collections::HashSet;

    fn heads(text: &str, choice: &str) -> Heads {
        Heads::of(text.split('|'), &ColumnChoice::parse(choice).unwrap())
    }

    #[test]
    fn a_spelling_is_of_one_column_and_written_as_it_is_looked_for() {
        let mut seen = HashSet::new();
        for (column, word, spellings) in COLUMNS {
            assert_eq!(Column::of_word(word), Some(column));
            for spelling in spellings {
                assert!(seen.insert(*spelling), "`{spelling}` is of two columns");
                assert_eq!(plain(spelling), *spelling);
            }
        }
    }

    #[test]
    fn heads_in_the_usual_spellings_are_understood() {
        for (head, column, from) in [
            ("Modbus addr (dec, 0-based)", Column::Address, Some(0)),
            ("Register No. (1-based)", Column::Address, Some(1)),
            ("Address [hex]", Column::Hex, None),
            ("Hex", Column::Hex, None),
            ("R/W", Column::Access, None),
            ("DATA_TYPE", Column::Type, None),
            ("Par.", Column::Id, None),
            ("Eng. low", Column::Low, None),
            ("Unit (SI)", Column::Unit, None),
            ("Offset", Column::Offset, Some(0)),
        ] {
            assert_eq!(understood(head), Some((column, from)), "{head}");
        }
        assert_eq!(understood("Voltage A"), None);
        let all = heads("Register|Name|Words|Type|Factor|Unit|R/W|Remark", "");
        assert_eq!((all.known(), all.unknown.len()), (8, 0));
        assert!(all.is_header());
        assert!(!heads("30121|Voltage A|2", "").is_header());
    }

    #[test]
    fn what_a_person_says_goes_before_what_a_head_says() {
        let said = heads("Reg|Signal|Name", "address=Reg,description=Signal");
        assert_eq!((said.at(Column::Description), said.at(Column::Name)), (Some(1), Some(2)));
        let none = heads("Address|Value|Name", "name=Name");
        assert_eq!((none.at(Column::Name), &none.unknown), (Some(2), &vec![1]));
        assert_eq!(heads("Address|Register", "").doubled, [1]);
        let choice = ColumnChoice::parse("address=Where").unwrap();
        assert_eq!(choice.missing(["Address"].into_iter()), ["Where"]);
        for (text, why) in [
            ("adress=Reg", "perhaps `address`"),
            ("address", "is not COLUMN=HEAD"),
            ("unit=A,unit=B", "said of two columns"),
        ] {
            let told = ColumnChoice::parse(text).unwrap_err();
            assert!(told.contains(why), "{told}");
        }
    }
}
