//! How addresses of a protocol are written, and what they name.

use super::listing::PlainLists;
use super::meanings::PlainMeanings;
use super::{Lists, Meanings, Setup, Space, Spaces};
use crate::form::{Form, Order, Type};
use crate::term::Term;
use std::fmt;
use std::ops::Range;

/// Whose address is read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Holder {
    /// A device's, which we ask.
    Device,
    /// An image's, which clients ask.
    Image,
}

/// What is known where an address is read, besides its text.
#[derive(Debug, Clone, Copy)]
pub struct AddressContext<'a> {
    /// The owner's keys, its port's among them.
    pub setup: &'a Setup,
    /// The form that is written beside it: where the owner's memory has names, the type decides what an address steps
    /// over.
    pub form: Option<Form>,
    /// Whose it is: what comes to a device goes from an image.
    pub holder: Holder,
    /// What is known to lie there: where memory has names, their types.
    pub spaces: Option<&'a Spaces>,
}

impl<'a> AddressContext<'a> {
    /// A device's address without a form.
    #[must_use]
    pub const fn of_device(setup: &'a Setup) -> Self {
        Self { setup, form: None, holder: Holder::Device, spaces: None }
    }

    /// An image's address without a form.
    #[must_use]
    pub const fn of_image(setup: &'a Setup) -> Self {
        Self { setup, form: None, holder: Holder::Image, spaces: None }
    }

    /// The same with a form beside it.
    #[must_use]
    pub const fn with_form(self, form: Option<Form>) -> Self {
        Self { form, ..self }
    }

    /// The same where these spaces are known to be there.
    #[must_use]
    pub const fn with_spaces(self, spaces: &'a Spaces) -> Self {
        Self { spaces: Some(spaces), ..self }
    }
}

/// What a controller's programmer does to a name that others ask for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Alteration {
    /// It has another name.
    Renamed,
    /// It has another type of the same width.
    Retyped,
}

/// How a protocol's addresses are written, and the tables that they name.
pub trait Notation {
    /// What its people call the things of a memory that is written so.
    fn terms(&self) -> &'static [Term] {
        &[]
    }
    /// Reads an address.
    ///
    /// # Errors
    /// Which part is wrong and what was likely meant.
    fn parse(&self, text: &str, context: &AddressContext<'_>) -> Result<Address, AddressFault>;
    /// The settings under which one text may be two addresses, each with how the project file says it.
    fn readings(&self) -> Vec<(&'static str, Setup)> {
        vec![("", Setup::default())]
    }
    /// Shows an address; `width` is how many grains one value there takes, 0 where that is not known.
    fn show(&self, space: &Space, first: u32, width: u32, bit: Option<u8>, setup: &Setup) -> ShownAddress;
    /// The address in other notations that people write, with what each is called.
    fn notations(
        &self,
        _space: &Space,
        _first: u32,
        _bit: Option<u8>,
        _setup: &Setup,
    ) -> Vec<(&'static str, String)> {
        vec![]
    }
    /// The table that a space is, or is a part of, as the project file names it.
    fn table<'s>(&self, space: &'s Space) -> &'s str {
        &space.key
    }
    /// Whether a name in the project file means the table of a space.
    fn is_table(&self, space: &Space, name: &str) -> bool {
        self.table(space) == name
    }
    /// Grains of a table that is so long as the project file counts it.
    fn grains_of(&self, _space: &Space, size: u32) -> u32 {
        size
    }
    /// What the project file counts a table by: `register`, `byte`, `element`.
    fn table_unit(&self, _space: &Space) -> &'static str {
        "register"
    }
    /// The spaces that every image has, mapped or not.
    fn standing(&self) -> &'static [Space] {
        &[]
    }
    /// The spaces that a station is said to have by name, in a list or in its profile, and how many elements each: what a
    /// simulated device has besides what is asked of it.
    fn named(&self, _setup: &Setup) -> Vec<(Space, u32)> {
        vec![]
    }
    /// What the values in its spaces mean, besides being numbers.
    fn meanings(&self) -> &dyn Meanings {
        &PlainMeanings
    }
    /// A named space as it is once its controller's programmer has changed it; `None` where it has no name, or nothing
    /// as wide.
    fn altered(&self, _space: &Space, _how: Alteration) -> Option<Space> {
        None
    }
    /// What lists of others say in it.
    fn lists(&self) -> &dyn Lists {
        &PlainLists
    }
    /// Default order of wider values in a space; `None` where the protocol has none and one must be written.
    fn order(&self, _space: &Space) -> Option<Order> {
        None
    }
}

/// One address as a dialect reads it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Address {
    /// Which space.
    pub space: Space,
    /// Zero-based address of the grain.
    pub first: u32,
    /// One bit of it.
    pub bit: Option<u8>,
    /// What the address says of the value that lies there.
    pub brings: ImpliedType,
}

/// What an address says of the value that lies there, besides where.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum ImpliedType {
    /// Nothing.
    Nothing,
    /// How wide it is: the type, unless a form names another one as wide.
    Width(Type),
    /// Its type.
    Type(Type),
}

/// Why an address is not understood.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AddressFault {
    /// The check's code, such as `M01`.
    pub code: &'static str,
    /// Which bytes of the text are meant.
    pub at: Range<usize>,
    /// What is wrong, in words.
    pub what: String,
    /// What was likely meant, as it would be written, the likeliest first.
    pub likely: Vec<String>,
}

/// An address in the two ways that every output shows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ShownAddress {
    /// The canonical notation, such as `400318`.
    pub canonical: String,
    /// The offset on the wire, such as `holding:317`.
    pub offset: String,
    /// The offset in hex, such as `0x013D`.
    pub hex: String,
}

impl fmt::Display for ShownAddress {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} ({})", self.canonical, self.offset)
    }
}
