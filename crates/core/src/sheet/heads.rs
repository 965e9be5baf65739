//! Which column of a table is what: heads in the usual spellings, and what they say in brackets.

use crate::nearest::nearest;
use crate::protocol::notations;

/// What a column holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Column {
    /// An address, in any notation.
    Address,
    /// The same as an offset from 0.
    Offset,
    /// The same in hexadecimal.
    Hex,
    /// What the maker numbers it by.
    Id,
    /// A short name.
    Name,
    /// What it is, in words.
    Description,
    /// A remark.
    Remark,
    /// The type of its value.
    Type,
    /// How many registers it takes.
    Words,
    /// How many values stand in a row.
    Elements,
    /// The order of its words or bytes.
    Order,
    /// What the raw value is multiplied with.
    Factor,
    /// What the raw value is divided by.
    Divisor,
    /// The engineering unit.
    Unit,
    /// Least and greatest engineering value, in one cell.
    Range,
    /// The least engineering value.
    Low,
    /// The greatest engineering value.
    High,
    /// The raw value that stands for the least.
    RawLow,
    /// The raw value that stands for the greatest.
    RawHigh,
    /// Read or write.
    Access,
    /// The function code that reads it.
    Function,
    /// The table that it is in.
    Table,
    /// What its numbers or bits mean.
    Values,
    /// How often it is asked.
    Interval,
    /// Where the value comes from, as the one who asks understands it.
    Source,
}

/// Every column: as an option calls it, and its heads in small letters, without signs.
const COLUMNS: [(Column, &str, &[&str]); 25] = [
    (
        Column::Address,
        "address",
        &[
            "address",
            "addr",
            "register",
            "reg",
            "register address",
            "register addr",
            "reg address",
            "reg addr",
            "register no",
            "register number",
            "reg no",
            "start address",
            "start register",
            "starting address",
            "plc address",
            "device address",
        ],
    ),
    (
        Column::Offset,
        "offset",
        &[
            "offset",
            "register offset",
            "address offset",
            "protocol address",
            "pdu address",
            "zero based address",
        ],
    ),
    (Column::Hex, "hex", &["hex", "hex address", "hex addr", "address hex", "register hex", "hexadecimal"]),
    (
        Column::Id,
        "id",
        &[
            "id",
            "no",
            "nr",
            "par",
            "par no",
            "parameter no",
            "parameter number",
            "item",
            "index",
            "line",
            "rule",
        ],
    ),
    (
        Column::Name,
        "name",
        &[
            "name",
            "tag",
            "tag name",
            "tagname",
            "signal",
            "signal name",
            "symbol",
            "variable",
            "variable name",
            "point",
            "point name",
            "parameter",
            "parameter name",
            "register name",
            "value",
            "label",
        ],
    ),
    (
        Column::Description,
        "description",
        &["description", "desc", "designation", "meaning", "contents", "text", "long name", "title"],
    ),
    (Column::Remark, "remark", &["remark", "remarks", "comment", "comments", "note", "notes", "explanation"]),
    (
        Column::Type,
        "type",
        &[
            "type",
            "data type",
            "datatype",
            "format",
            "data format",
            "form",
            "fmt",
            "encoding",
            "representation",
        ],
    ),
    (
        Column::Words,
        "words",
        &[
            "words",
            "length",
            "len",
            "size",
            "registers",
            "regs",
            "count",
            "no of registers",
            "number of registers",
            "quantity",
            "qty",
        ],
    ),
    (Column::Elements, "elements", &["elements", "dimension", "dimensions", "dim", "array", "array size"]),
    (Column::Order, "order", &["order", "word order", "byte order", "endian", "endianness", "swap"]),
    (
        Column::Factor,
        "factor",
        &[
            "factor",
            "scale",
            "scaling",
            "scale factor",
            "scaling factor",
            "multiplier",
            "multiply",
            "mult",
            "resolution",
            "gain",
            "lsb",
        ],
    ),
    (Column::Divisor, "divisor", &["divisor", "divider", "div", "divide by"]),
    (
        Column::Unit,
        "unit",
        &["unit", "units", "eu", "eng unit", "engineering unit", "engineering units", "uom", "physical unit"],
    ),
    (Column::Range, "range", &["range", "value range", "limits", "span", "measuring range", "eng range"]),
    (
        Column::Low,
        "low",
        &[
            "min",
            "low",
            "minimum",
            "lower limit",
            "min value",
            "eng low",
            "eng min",
            "range low",
            "lo",
            "from",
        ],
    ),
    (
        Column::High,
        "high",
        &[
            "max",
            "high",
            "maximum",
            "upper limit",
            "max value",
            "eng high",
            "eng max",
            "range high",
            "hi",
            "to",
        ],
    ),
    (Column::RawLow, "raw-low", &["raw low", "raw min", "raw minimum", "raw lo"]),
    (Column::RawHigh, "raw-high", &["raw high", "raw max", "raw maximum", "raw hi"]),
    (
        Column::Access,
        "access",
        &[
            "access",
            "r w",
            "rw",
            "ro rw",
            "read write",
            "rights",
            "permission",
            "external access",
            "access type",
            "mode",
            "attribute",
        ],
    ),
    (
        Column::Function,
        "function",
        &[
            "function code",
            "function codes",
            "function",
            "fc",
            "func",
            "fcode",
            "f code",
            "function code read",
        ],
    ),
    (
        Column::Table,
        "table",
        &[
            "table",
            "register type",
            "reg type",
            "object type",
            "object",
            "area",
            "memory",
            "memory area",
            "register table",
            "data block",
        ],
    ),
    (
        Column::Values,
        "values",
        &[
            "values",
            "enumeration",
            "enum",
            "states",
            "options",
            "codes",
            "value list",
            "bits",
            "possible values",
            "choices",
            "settings",
        ],
    ),
    (
        Column::Interval,
        "interval",
        &[
            "interval",
            "poll",
            "poll interval",
            "scan rate",
            "scan time",
            "update",
            "update rate",
            "cycle",
            "every",
        ],
    ),
    (
        Column::Source,
        "source",
        &["source", "origin", "value source", "endpoint", "is", "signal source", "measuring point"],
    ),
];

impl Column {
    /// As an option calls it.
    #[must_use]
    pub fn word(self) -> &'static str {
        COLUMNS.iter().find(|(own, ..)| *own == self).map_or("", |(_, word, _)| word)
    }

    /// The words of all.
    pub fn words() -> impl Iterator<Item = &'static str> {
        COLUMNS.iter().map(|(_, word, _)| *word)
    }

    fn of_word(word: &str) -> Option<Self> {
        COLUMNS.iter().find(|(_, own, _)| *own == word).map(|(own, ..)| *own)
    }

    fn of_spelling(head: &str) -> Option<Self> {
        COLUMNS.iter().find(|(.., spellings)| spellings.contains(&head)).map(|(own, ..)| *own)
    }
}

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
