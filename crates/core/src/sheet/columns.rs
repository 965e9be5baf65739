//! What columns of tables hold, and the heads that they usually have.

/// What a column holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Column {
    /// An address, in any notation.
    Address,
    /// The same as an offset from 0; in the list of a client, what is added behind the scale.
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
pub(super) const COLUMNS: [(Column, &str, &[&str]); 25] = [
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

    pub(super) fn of_word(word: &str) -> Option<Self> {
        COLUMNS.iter().find(|(_, own, _)| *own == word).map(|(own, ..)| *own)
    }

    pub(super) fn of_spelling(head: &str) -> Option<Self> {
        COLUMNS.iter().find(|(.., spellings)| spellings.contains(&head)).map(|(own, ..)| *own)
    }
}
