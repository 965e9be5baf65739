//! What `set-up` found, as a table and the state of each block.

use super::blocks::BlockState;
use crate::Failure;
use crate::args::Format;
use crate::console::{Console, Table, Tone};
use serde::Serialize;

/// What becomes of a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub(super) enum Mark {
    /// It is as it shall be.
    Met,
    /// A mode on the way, written only where something else is.
    Mode,
    Differs,
    Written,
    NotWritten,
}

impl Mark {
    const fn words(self) -> &'static str {
        match self {
            Self::Met => "as it shall be",
            Self::Mode => "on the way",
            Self::Differs => "differs",
            Self::Written => "written",
            Self::NotWritten => "not written",
        }
    }
}

/// One line of `set-up`.
#[derive(Debug, Clone, Serialize)]
pub(super) struct SetUpRow {
    pub(super) address: String,
    pub(super) is: String,
    pub(super) shall: String,
    pub(super) mark: Mark,
}

/// Shows all of it. `only` says that nothing is written.
pub(super) fn say(
    console: &mut Console,
    device: &str,
    rows: &[SetUpRow],
    blocks: &[BlockState],
    only: bool,
) -> Result<(), Failure> {
    let table = |head: [&'static str; 4]| Table {
        head: head.to_vec(),
        rows: rows
            .iter()
            .map(|row| {
                vec![row.address.clone(), row.is.clone(), row.shall.clone(), row.mark.words().to_string()]
            })
            .collect(),
        whole: &[0],
    };
    match console.format {
        Format::Json => {
            return console.json(&serde_json::json!({
                "format": 1, "device": device, "parameters": rows, "blocks": blocks, "only_compared": only,
            }));
        }
        Format::Csv => return console.table(&table(["parameter", "is", "shall_be", "verdict"])),
        Format::Text => console.table(&table(["parameter", "is", "shall be", "verdict"]))?,
    }
    for block in blocks {
        let tone = if block.met && block.causes.is_empty() {
            Tone::Good
        } else if block.met {
            Tone::Doubt
        } else {
            Tone::Bad
        };
        console.say("")?;
        console.say(&format!("{}  {}", console.paint(tone, &block.name), block.state))?;
        for cause in &block.causes {
            let options = textwrap::Options::new(console.width())
                .initial_indent("  ")
                .subsequent_indent("  ")
                .word_splitter(textwrap::WordSplitter::NoHyphenation);
            console.say(&textwrap::fill(cause, options))?;
        }
    }
    if only && rows.iter().any(|row| matches!(row.mark, Mark::Differs)) {
        console.say("")?;
        console
            .say(&format!("nothing is written: `woodrush set-up {device}` asks, and writes what differs"))?;
    }
    Ok(())
}
