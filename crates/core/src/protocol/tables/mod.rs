//! Data tables: the memory of a controller as numbered files of one type each, whatever link leads there. Notation, limits
//! and costs of the commands.

mod commands;
mod files;
mod notation;
mod refusals;
mod spot;
mod terms;

pub use files::spaces_of;
pub use spot::{Spot, from_wire, to_wire};

pub(super) use commands::{asking, changing, fitting};
pub(super) use refusals::REFUSALS;

use super::{
    Address, AddressContext, AddressFault, Key, KeyKind, Notation, Setup, ShownAddress, Space, Territory,
};
use crate::form::Order;
use crate::term::Term;
use files::FILES;

/// How addresses of data tables are written.
#[derive(Debug)]
pub(super) struct Tables;

/// Whether a device takes the word-range commands.
#[must_use]
pub fn by_ranges(setup: &Setup) -> bool {
    match setup.word("commands") {
        Some(commands) => commands == "word-range",
        None => octal(setup),
    }
}

/// Whether a controller numbers its inputs and outputs in octal.
#[must_use]
pub fn octal(setup: &Setup) -> bool {
    setup.word("io-addresses") == Some("octal")
}

/// How a device numbers its inputs and outputs.
pub(super) const DEVICE_NUMBERING: Key = Key {
    table: "devices",
    name: "io-addresses",
    kind: KeyKind::Choice(&["decimal", "octal"]),
    doc: "how the controller numbers words and bits of inputs and outputs; default `decimal`",
};
/// Which commands a device takes.
pub(super) const DEVICE_COMMANDS: Key = Key {
    table: "devices",
    name: "commands",
    kind: KeyKind::Choice(&["logical", "word-range"]),
    doc: "the read and write commands it takes: `logical` (default with decimal) or `word-range` (default with octal)",
};
/// How an image numbers its inputs and outputs.
pub(super) const IMAGE_NUMBERING: Key = Key {
    table: "images",
    name: "io-addresses",
    kind: KeyKind::Choice(&["decimal", "octal"]),
    doc: "how words and bits of inputs and outputs are numbered; default `decimal`",
};

/// The files that every programmer finds made.
pub(super) static TERRITORIES: [Territory; 7] = [
    Territory { begins: "N7:0", anchors: &[0] },
    Territory { begins: "B3:0", anchors: &[0] },
    Territory { begins: "F8:0", anchors: &[0] },
    Territory { begins: "T4:0.ACC", anchors: &[0] },
    Territory { begins: "C5:0.ACC", anchors: &[0] },
    Territory { begins: "S:0", anchors: &[0] },
    Territory { begins: "N10:0", anchors: &[0] },
];

impl Notation for Tables {
    fn terms(&self) -> &'static [Term] {
        terms::TERMS
    }

    fn table_unit(&self, _space: &Space) -> &'static str {
        "element"
    }

    fn table<'s>(&self, space: &'s Space) -> &'s str {
        // Parts of elements are spaces of their own.
        space.key.split('.').next().unwrap_or_default()
    }

    fn is_table(&self, space: &Space, name: &str) -> bool {
        // Of the files that there is one of each, people leave the number out, as in addresses.
        let alone = |file: &&files::File| file.fixed.is_some() && file.letter == name;
        let whole = FILES.iter().find(alone).and_then(|file| Some(format!("{name}{}", file.fixed?)));
        self.table(space) == whole.as_deref().unwrap_or(name)
    }

    fn grains_of(&self, space: &Space, size: u32) -> u32 {
        size.saturating_mul(Spot::of(space).map_or(1, |spot| spot.grains))
    }

    fn parse(&self, text: &str, context: &AddressContext<'_>) -> Result<Address, AddressFault> {
        notation::parse(text, octal(context.setup))
    }

    fn readings(&self) -> Vec<(&'static str, Setup)> {
        let octal = Setup { words: vec![("io-addresses", "octal".into())], ..Setup::default() };
        vec![("io-addresses = \"decimal\"", Setup::default()), ("io-addresses = \"octal\"", octal)]
    }

    fn show(&self, space: &Space, first: u32, _width: u32, bit: Option<u8>, setup: &Setup) -> ShownAddress {
        notation::show(space, first, bit, octal(setup))
    }

    fn notations(
        &self,
        space: &Space,
        first: u32,
        bit: Option<u8>,
        setup: &Setup,
    ) -> Vec<(&'static str, String)> {
        notation::all(space, first, bit, octal(setup))
    }

    fn order(&self, _space: &Space) -> Option<Order> {
        // Little-endian throughout: of two words that are one value the low one comes first.
        Some(Order { low_word_first: true, low_byte_first: false })
    }
}
