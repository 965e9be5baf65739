//! What a controller's programmer has declared: a list of names with types, sizes and access, as a table of text.

use crate::source::Span;
use std::collections::BTreeMap;
use std::fmt;
use std::hash::{Hash, Hasher};

/// What others may do with a name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Access {
    /// Read and write.
    ReadWrite,
    /// Read.
    ReadOnly,
    /// Nothing.
    None,
}

impl fmt::Display for Access {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::ReadWrite => "read-write",
            Self::ReadOnly => "read-only",
            Self::None => "none",
        })
    }
}

/// One row of the list.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct DeclaredName {
    /// Its line.
    pub span: Span,
    /// As it is written there, with the scope before it.
    pub name: String,
    /// As it is written there, without dimensions: `REAL`.
    pub type_name: String,
    /// Elements of each dimension; none where it is no array.
    pub dimensions: Vec<u32>,
    /// What others may do with it.
    pub access: Access,
}

/// What a list says of a space.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DeclaredSpace<'d> {
    /// The row that declares it, or what it is a member of.
    pub row: &'d DeclaredName,
    /// The part of its name that the row declares, as the project writes it.
    pub written: String,
    /// Elements that lie behind one another there: those of an array's last dimension, 1 where it is not an array; `None`
    /// where the row declares what it is a member of.
    pub elements: Option<u32>,
}

/// A list of names.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Declared {
    /// The path as the project file writes it.
    pub path: String,
    rows: Vec<DeclaredName>,
    by_name: BTreeMap<String, usize>,
}

impl Hash for Declared {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.path.hash(state);
        self.rows.hash(state);
    }
}

impl Declared {
    /// A list of that path, still empty.
    #[must_use]
    pub fn new(path: &str) -> Self {
        Self { path: path.into(), ..Self::default() }
    }

    /// Adds a row; gives it back where the name is there already, whatever its capitals.
    ///
    /// # Errors
    /// The one that is there.
    pub fn add(&mut self, row: DeclaredName) -> Result<(), &DeclaredName> {
        let key = row.name.to_ascii_lowercase();
        if let Some(known) = self.by_name.get(&key) {
            return self.rows.get(*known).map_or(Ok(()), Err);
        }
        self.by_name.insert(key, self.rows.len());
        self.rows.push(row);
        Ok(())
    }

    /// The row of a name, whatever its capitals.
    #[must_use]
    pub fn get(&self, name: &str) -> Option<&DeclaredName> {
        self.rows.get(*self.by_name.get(&name.to_ascii_lowercase())?)
    }

    /// All rows, in the order of the list.
    pub fn iter(&self) -> impl ExactSizeIterator<Item = &DeclaredName> {
        self.rows.iter()
    }

    /// Whether it has no row.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.rows.is_empty()
    }
}
