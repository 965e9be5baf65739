//! How register lists name Modbus tables and registers.

use super::ITEMS;
use crate::protocol::{ListNumber, ListTable, Lists};

/// Register lists of Modbus devices.
pub(super) struct ModbusLists;

/// Words for each table, in small letters and without blanks or signs.
const WORDS: [(&str, &[&str]); 4] = [
    (
        "coil",
        &["coil", "coils", "0x", "do", "digitaloutput", "digitaloutputs", "outputcoil", "statuscoil", "qx"],
    ),
    (
        "discrete",
        &[
            "discrete",
            "discretes",
            "discreteinput",
            "discreteinputs",
            "inputstatus",
            "inputbit",
            "1x",
            "di",
            "digitalinput",
            "digitalinputs",
            "contact",
        ],
    ),
    (
        "input",
        &[
            "input",
            "inputs",
            "inputregister",
            "inputregisters",
            "ir",
            "3x",
            "iw",
            "analoginput",
            "readonlyregister",
        ],
    ),
    (
        "holding",
        &[
            "holding",
            "holdings",
            "holdingregister",
            "holdingregisters",
            "hr",
            "4x",
            "mw",
            "outputregister",
            "readwriteregister",
        ],
    ),
];

/// Function codes of each table: those that read, then those that write.
const FUNCTIONS: [(u32, &str, bool); 8] = [
    (1, "coil", false),
    (2, "discrete", false),
    (3, "holding", false),
    (4, "input", false),
    (5, "coil", true),
    (6, "holding", true),
    (15, "coil", true),
    (16, "holding", true),
];

fn plain(text: &str) -> String {
    text.chars().filter(|letter| letter.is_alphanumeric()).flat_map(char::to_lowercase).collect()
}

fn word(text: &str) -> Option<&'static str> {
    let text = plain(text);
    WORDS.iter().find(|(_, words)| words.contains(&text.as_str())).map(|(key, _)| *key)
}

impl Lists for ModbusLists {
    fn table(&self, text: &str) -> Option<ListTable> {
        if let Some(key) = word(text) {
            return Some(ListTable { key, writes: false });
        }
        let code = plain(text);
        let code = code.trim_start_matches("function").trim_start_matches("code").trim_start_matches("fc");
        let code: u32 = match code.strip_prefix("0x") {
            Some(hex) => u32::from_str_radix(hex, 16).ok()?,
            None => code.parse().ok()?,
        };
        FUNCTIONS
            .iter()
            .find(|(own, ..)| *own == code)
            .map(|(_, key, writes)| ListTable { key, writes: *writes })
    }

    fn tables(&self) -> &'static [&'static str] {
        &["coil", "discrete", "input", "holding"]
    }

    fn usual(&self) -> Option<&'static str> {
        Some("holding")
    }

    fn numbered(&self, table: &str, number: u32, from: u32) -> Option<String> {
        let offset = number.checked_sub(from).filter(|offset| *offset < ITEMS)?;
        Some(format!("{table}:{offset}"))
    }

    fn prefixed(&self, text: &str) -> Option<ListNumber> {
        let text = text.trim();
        let digits = text.len() - text.trim_end_matches(|letter: char| letter.is_ascii_digit()).len();
        let (head, number) = text.split_at_checked(text.len() - digits)?;
        let number = number.parse().ok()?;
        // `%MW100` is the controller's word 100, which it shows as that offset.
        if let Some(area) = head.strip_prefix('%') {
            let table = word(area).filter(|_| matches!(plain(area).as_str(), "mw" | "iw"))?;
            return Some(ListNumber { table, number, from: Some(0) });
        }
        // `4x0120`, `4-00120`: the table's digit, a mark, a reference number.
        let mark = head.strip_suffix(['x', 'X', '-', '/']).filter(|digit| digit.len() == 1);
        if let Some(digit) = mark {
            let table = word(&format!("{digit}x"))?;
            return Some(ListNumber { table, number, from: Some(1) });
        }
        let table = word(head).filter(|_| head.chars().any(char::is_alphabetic))?;
        Some(ListNumber { table, number, from: None })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tables_are_named_by_words_and_by_function_codes() {
        for (text, key, writes) in [
            ("Holding Register", "holding", false),
            ("4x", "holding", false),
            ("03", "holding", false),
            ("FC04", "input", false),
            ("16", "holding", true),
            ("0x10", "holding", true),
            ("5", "coil", true),
            ("Input status", "discrete", false),
        ] {
            assert_eq!(ModbusLists.table(text), Some(ListTable { key, writes }), "{text}");
        }
        assert_eq!(ModbusLists.table("7"), None);
        assert_eq!(ModbusLists.table("kW"), None);
    }

    #[test]
    fn a_number_behind_its_table_is_read_and_one_that_counts_from_somewhere_says_so() {
        for (text, table, number, from) in [
            ("%MW100", "holding", 100, Some(0)),
            ("%IW5", "input", 5, Some(0)),
            ("4x0120", "holding", 120, Some(1)),
            ("3-00001", "input", 1, Some(1)),
            ("HR16", "holding", 16, None),
            ("Coil 3", "coil", 3, None),
        ] {
            assert_eq!(ModbusLists.prefixed(text), Some(ListNumber { table, number, from }), "{text}");
        }
        for text in ["400001", "%MX5", "MB7", "", "HR"] {
            assert_eq!(ModbusLists.prefixed(text), None, "{text}");
        }
        assert_eq!(ModbusLists.numbered("holding", 16, 1).as_deref(), Some("holding:15"));
        assert_eq!(ModbusLists.numbered("holding", 0, 1), None);
        assert_eq!(ModbusLists.numbered("holding", 65_536, 0), None);
    }
}
