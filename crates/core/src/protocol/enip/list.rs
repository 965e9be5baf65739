//! A tag against the list of what the controller's programmer has declared.

use super::path::{self, TagPath};
use super::tag::{self, PACKED_BITS, form_type};
use crate::form::Type;
use crate::nearest::nearest;
use crate::protocol::{Access, AddressFault, Declared, DeclaredName, DeclaredSpace, Space};
use woodrush_wire::enip::tags::{TYPES, TagType};

/// What the list says of a tag.
pub(super) struct ListedTag<'d> {
    pub(super) ty: Type,
    /// As the list writes it.
    pub(super) type_name: &'d str,
}

/// The name of a path as a list has it: without indices.
fn name_of(path: &TagPath) -> String {
    let mut name = String::with_capacity(path.shown.len());
    let mut inside = false;
    for letter in path.shown.chars() {
        match letter {
            '[' => inside = true,
            ']' => inside = false,
            _ if !inside => name.push(letter),
            _ => {}
        }
    }
    name
}

/// The row of a path, and whether it is that of the path itself, or of the tag that it is a member of.
fn row<'d>(list: &'d Declared, path: &TagPath) -> Option<(&'d DeclaredName, bool)> {
    let name = name_of(path);
    let mut rest = name.as_str();
    loop {
        if let Some(row) = list.get(rest) {
            return Some((row, rest.len() == name.len()));
        }
        rest = rest.rsplit_once('.')?.0;
    }
}

/// What the list says of the space of a path.
pub(super) fn declared<'d>(list: &'d Declared, path: &TagPath) -> Option<DeclaredSpace<'d>> {
    let (row, whole) = row(list, path)?;
    let mut written = name_of(path);
    written.truncate(row.name.len());
    let elements = whole.then(|| row.dimensions.last().copied().unwrap_or(1));
    Some(DeclaredSpace { row, written, elements })
}

/// The type of a name in a list; `None` where it is a structure of the programmer's own.
pub(super) fn type_of_name(name: &str) -> Option<Type> {
    if name.eq_ignore_ascii_case("STRING") {
        return form_type(TagType::STRING);
    }
    let known = TYPES.iter().find(|(_, own, _)| own.eq_ignore_ascii_case(name));
    known.and_then(|(code, ..)| form_type(TagType::elementary(*code)))
}

/// What the list says of a path; `None` where it is a member of a structure, of whose insides the list says nothing.
///
/// # Errors
/// It has no such name, or the path is not what it says: more or fewer indices, past the end, not for others.
pub(super) fn look_up<'d>(
    list: &'d Declared,
    path: &TagPath,
    text: &str,
) -> Result<Option<ListedTag<'d>>, AddressFault> {
    let fault =
        |what: String, likely: Vec<String>| AddressFault { code: "M33", at: 0..text.len(), what, likely };
    let Some((row, whole)) = row(list, path) else {
        let name = name_of(path);
        let near = nearest(&name, list.iter().map(|row| row.name.as_str()));
        let what = format!("`{}` does not declare `{name}`", list.path);
        return Err(fault(what, near.map(str::to_string).into_iter().collect()));
    };
    if row.access == Access::None {
        let what = format!("`{}` has external access none in `{}`", row.name, list.path);
        return Err(fault(what, vec![]));
    }
    if !whole {
        return Ok(None);
    }
    let Some(ty) = type_of_name(&row.type_name) else {
        let what = format!("`{}` is a structure ({}): name one of its members", row.name, row.type_name);
        return Err(fault(what, vec![]));
    };
    let indices = indices(path);
    if !indices.is_empty() && indices.len() != row.dimensions.len() {
        let what = match row.dimensions.len() {
            0 => format!("`{}` is not an array in `{}`", row.name, list.path),
            many => {
                let index = if many == 1 { "index" } else { "indices" };
                format!(
                    "`{}` in `{}` needs {many} {index}, and this has {}",
                    row.name,
                    list.path,
                    indices.len()
                )
            }
        };
        return Err(fault(what, vec![]));
    }
    if let Some((index, size)) = indices.iter().zip(&row.dimensions).find(|(index, size)| index >= size) {
        let what =
            format!("`{}` ends at element {} in `{}`, and this is {index}", row.name, size - 1, list.path);
        return Err(fault(what, vec![]));
    }
    Ok(Some(ListedTag { ty, type_name: &row.type_name }))
}

/// The indices of the last part.
fn indices(path: &TagPath) -> Vec<u32> {
    if !path.is_indexed {
        return vec![];
    }
    let inner = path.shown.rsplit_once('[').map_or("", |(_, inner)| inner.trim_end_matches(']'));
    let before = inner.split(',').filter_map(|index| index.parse().ok());
    before.chain([path.first]).collect()
}

/// Most spaces that one row makes: each row of a grid is one.
const GRID_MAX: u32 = 4096;

/// The spaces of all rows that others may ask for, and how many elements each has; of structures there is nothing to say.
pub(super) fn spaces(list: &Declared) -> Vec<(Space, u32)> {
    let mut found = vec![];
    for row in list.iter().filter(|row| row.access != Access::None) {
        let Some(ty) = type_of_name(&row.type_name) else { continue };
        let (elements, before) = match row.dimensions.split_last() {
            Some((last, before)) => (*last, before),
            None => (1, &[][..]),
        };
        let grids = before.iter().fold(1u32, |all, size| all.saturating_mul(*size)).min(GRID_MAX);
        for grid in 0..grids {
            // The number of the row in the grid, as indices.
            let (mut rest, mut indices) = (grid, vec![]);
            for size in before.iter().rev() {
                indices.insert(0, (rest % size.max(&1)).to_string());
                rest /= size.max(&1);
            }
            indices.push("0".into());
            let shown = if row.dimensions.is_empty() {
                row.name.clone()
            } else {
                format!("{}[{}]", row.name, indices.join(","))
            };
            let Some(space) = path::parse(&shown).ok().and_then(|path| tag::space(&path, ty)) else {
                continue;
            };
            let elements =
                if tag::is_packed(&space) { elements.next_multiple_of(PACKED_BITS) } else { elements };
            found.push((Space { writable: row.access == Access::ReadWrite, ..space }, elements));
        }
    }
    found
}
