//! What a space of this protocol is on the wire: the path to a tag and the type of its elements.

use super::path::TagPath;
use crate::form::Type;
use crate::protocol::{BitWrite, Flow, Grain, Space};
use std::borrow::Cow;
use std::sync::Arc;
use woodrush_wire::enip::epath::{Logical, Segment, Width};
use woodrush_wire::enip::tags::{STRING_CHARACTERS, TagType, type_code};

/// Marks the key of an array of bits, which a controller packs into words.
const PACKED: &str = "[]";
/// Bits of a word of a packed array.
pub const PACKED_BITS: u32 = 32;
const PACKED_ALIGN: u8 = 32;
/// Characters of the built-in string.
const CHARACTERS: u16 = 82;
const _: () = assert!(CHARACTERS as usize == STRING_CHARACTERS);

/// Types that tags have, each as the only one that its space holds, with the codes that mean it: the first is what an
/// image of ours says.
const TYPES: [(&[Type], &[u16]); 12] = [
    (&[Type::Bool], &[type_code::BOOL]),
    (&[Type::I8], &[type_code::SINT]),
    (&[Type::U8], &[type_code::USINT, type_code::BYTE]),
    (&[Type::I16], &[type_code::INT]),
    (&[Type::U16], &[type_code::UINT, type_code::WORD]),
    (&[Type::I32], &[type_code::DINT]),
    (&[Type::U32], &[type_code::UDINT, type_code::DWORD]),
    (&[Type::I64], &[type_code::LINT]),
    (&[Type::U64], &[type_code::ULINT, type_code::LWORD]),
    (&[Type::F32], &[type_code::REAL]),
    (&[Type::F64], &[type_code::LREAL]),
    (&[Type::Text(CHARACTERS)], &[]),
];

/// The space of a path whose elements are of that type; `None` where no tag is of it.
pub(super) fn space(path: &TagPath, ty: Type) -> Option<Space> {
    let (only, _) = TYPES.iter().find(|(only, _)| only.first() == Some(&ty))?;
    let packed = ty == Type::Bool && path.is_indexed;
    let mut key = path.key();
    if packed {
        key.push_str(PACKED);
    }
    let grain = match ty {
        Type::Bool => Grain::Bit,
        ty => Grain::Bytes(u8::try_from(ty.bytes()?).ok()?),
    };
    let number = !matches!(ty, Type::Bool | Type::Text(_) | Type::F32 | Type::F64);
    Some(Space {
        shown: Some(Arc::from(path.shown.as_str())),
        key: Cow::Owned(key),
        noun: "tag element",
        grain,
        // A request reads whole words of packed bits; it can change one of them.
        align: if packed { PACKED_ALIGN } else { 1 },
        // A name without an index may be an array's first element; one bit alone is none.
        len: (ty == Type::Bool && !packed).then_some(1),
        writable: true,
        bits: if number || packed { BitWrite::Masked } else { BitWrite::Never },
        only,
        rewritten: false,
        whole: false,
        publishes: false,
        flow: Flow::Asked,
    })
}

/// Another type as wide, as a programmer may take it for the same bytes; `None` where there is none.
pub(super) fn other_type_of(ty: Type) -> Option<Type> {
    Some(match ty {
        Type::I8 => Type::U8,
        Type::U8 => Type::I8,
        Type::I16 => Type::U16,
        Type::U16 => Type::I16,
        Type::F32 | Type::U32 => Type::I32,
        Type::I32 => Type::F32,
        Type::F64 | Type::U64 => Type::I64,
        Type::I64 => Type::F64,
        _ => return None,
    })
}

/// The type of a space's elements.
fn element(space: &Space) -> Type {
    space.only.first().copied().unwrap_or(Type::Raw)
}

/// Whether the elements are bits that a controller packs into words.
#[must_use]
pub fn is_packed(space: &Space) -> bool {
    space.grain == Grain::Bit && space.key.ends_with(PACKED)
}

/// Whether a tag of that type is what the space says.
#[must_use]
pub fn is_type(space: &Space, found: TagType) -> bool {
    if is_packed(space) {
        return found == TagType::elementary(type_code::DWORD);
    }
    match element(space) {
        Type::Text(_) => found == TagType::STRING,
        ty => {
            let codes = TYPES.iter().find(|(only, _)| only.first() == Some(&ty)).map(|(_, codes)| *codes);
            found.handle.is_none() && codes.is_some_and(|codes| codes.contains(&found.code))
        }
    }
}

/// What a tag is counted in, with the type that its programmer declares.
pub(super) fn element_words(space: &Space) -> &'static str {
    match element(space) {
        Type::Bool => "BOOL element",
        Type::I8 => "SINT element",
        Type::U8 => "USINT element",
        Type::I16 => "INT element",
        Type::U16 => "UINT element",
        Type::I32 => "DINT element",
        Type::U32 => "UDINT element",
        Type::I64 => "LINT element",
        Type::U64 => "ULINT element",
        Type::F32 => "REAL element",
        Type::F64 => "LREAL element",
        Type::Text(_) => "STRING element",
        _ => "element",
    }
}

/// The type by which an image of ours shows a space.
#[must_use]
pub fn type_of(space: &Space) -> TagType {
    if is_packed(space) {
        return TagType::elementary(type_code::DWORD);
    }
    let codes = TYPES.iter().find(|(only, _)| *only == space.only).map(|(_, codes)| *codes);
    match codes.and_then(|codes| codes.first()) {
        Some(code) => TagType::elementary(*code),
        None => TagType::STRING,
    }
}

/// The type of a tag that a rule or list calls so; `None` where it is none.
#[must_use]
pub fn form_type(found: TagType) -> Option<Type> {
    if found == TagType::STRING {
        return Some(Type::Text(CHARACTERS));
    }
    let own = TYPES.iter().find(|(_, codes)| found.handle.is_none() && codes.contains(&found.code));
    own.and_then(|(only, _)| only.first().copied())
}

/// Appends the path to the elements from `first` on; of a packed array to the word that holds that bit.
pub fn emit_path(space: &Space, first: u32, out: &mut Vec<u8>) {
    let path = space.key.strip_suffix(PACKED).unwrap_or(&space.key);
    let shown = space.shown.as_deref().unwrap_or(path);
    let first = if is_packed(space) { first / PACKED_BITS } else { first };
    let mut open = false;
    for part in shown.split('.') {
        let (name, indices) = part.split_once('[').unwrap_or((part, ""));
        Segment::Symbol(name.as_bytes()).emit(out);
        let inner = indices.trim_end_matches(']');
        for index in inner.split(',').filter_map(|index| index.parse().ok()) {
            Segment::number(Logical::Member, index).emit(out);
        }
        open = inner.ends_with(',');
    }
    // The first element is what the name alone means too, and of a tag that is no array the only way to say it.
    if first > 0 || open {
        Segment::number(Logical::Member, first).emit(out);
    }
}

/// Bytes that the path takes: as [`emit_path`] writes it, counted alone, because the plan asks for it again and again.
#[must_use]
pub(super) fn path_bytes(space: &Space, first: u32) -> u32 {
    let number = |value: u32| match Width::of(value) {
        Width::Byte => 2,
        Width::Word => 4,
        Width::Long => 6,
    };
    // Every name is filled to whole words; an index stands in brackets behind it.
    let filled = |name: u32| if name > 0 { 2 + name.next_multiple_of(2) } else { 0 };
    let (mut bytes, mut name, mut open) = (0, 0u32, false);
    let (mut inside, mut index) = (false, None::<u32>);
    for byte in space.name().bytes() {
        match byte {
            b'[' => {
                bytes += filled(name);
                (name, inside, index, open) = (0, true, None, false);
            }
            b',' | b']' if inside => {
                open = byte == b',' || open && index.is_none();
                bytes += index.take().map_or(0, number);
                inside = byte == b',';
            }
            b'0'..=b'9' if inside => {
                let digit = u32::from(byte - b'0');
                index = Some(index.unwrap_or(0).saturating_mul(10).saturating_add(digit));
            }
            b'.' => {
                bytes += filled(name);
                (name, open) = (0, false);
            }
            _ => name += 1,
        }
    }
    bytes += filled(name);
    let first = if is_packed(space) { first / PACKED_BITS } else { first };
    if first > 0 || open { bytes + number(first) } else { bytes }
}

/// A path on the wire as it is written, with the last index apart: as [`TagPath`] has it. `None` where it is no path of
/// names and indices.
#[must_use]
pub fn path_of<'a>(segments: impl Iterator<Item = Segment<'a>>) -> Option<TagPath> {
    let mut text = String::new();
    let mut open = false;
    for segment in segments {
        match segment {
            Segment::Symbol(name) => {
                if open {
                    text.push(']');
                }
                if !text.is_empty() {
                    text.push('.');
                }
                open = false;
                text.push_str(std::str::from_utf8(name).ok()?);
            }
            Segment::Number { kind: Logical::Member, value, .. } if !text.is_empty() => {
                text.push(if open { ',' } else { '[' });
                open = true;
                text.push_str(&value.to_string());
            }
            _ => return None,
        }
    }
    if open {
        text.push(']');
    }
    super::path::parse(&text).ok()
}

/// The key under which a path's elements of any type lie in an image, and that of packed bits.
#[must_use]
pub fn keys_of(path: &TagPath) -> [String; 2] {
    let key = path.key();
    [key.clone(), key + PACKED]
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::protocol::enip::path;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_path_is_as_long_as_it_is_counted(
            parts in prop::collection::vec(("[A-Za-z_][A-Za-z0-9_]{0,39}", prop::collection::vec(0u32..70_000, 0..4)), 1..5),
            program in any::<bool>(), bits in any::<bool>(), more in 0u32..100_000,
        ) {
            let one = |(name, indices): &(String, Vec<u32>)| {
                let inner: Vec<String> = indices.iter().map(ToString::to_string).collect();
                if inner.is_empty() { name.clone() } else { format!("{name}[{}]", inner.join(",")) }
            };
            let text: Vec<String> = parts.iter().map(one).collect();
            let scope = if program { "Program:Main." } else { "" };
            let path = path::parse(&format!("{scope}{}", text.join("."))).unwrap();
            let space = space(&path, if bits { Type::Bool } else { Type::I16 }).unwrap();
            for first in [path.first, path.first + more] {
                let mut out = vec![];
                emit_path(&space, first, &mut out);
                prop_assert_eq!(path_bytes(&space, first) as usize, out.len(), "{}", path.shown);
            }
        }
    }
}
