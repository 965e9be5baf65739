//! Addresses of parameters: `BLOCK.PARAMETER[.MEMBER]`, and what a space is on the link.

use super::lists::{BlockKind, Member, ParameterAccess, ParameterType, type_of, type_of_code};
use crate::form::Type;
use crate::nearest::nearest;
use crate::protocol::{
    Address, AddressContext, AddressFault, BitWrite, DeviceBlock, DeviceBlocks, Flow, Grain, ImpliedType,
    ShownMember, Space,
};
use std::borrow::Cow;
use std::sync::Arc;

/// A parameter of a device, as its profile and the standard lists say.
#[derive(Debug, Clone, Copy)]
pub struct Parameter<'b> {
    /// Its block.
    pub block: &'b DeviceBlock,
    /// Its name.
    pub name: &'b str,
    /// Its place in the block, from 1.
    pub place: u16,
    /// Its type.
    pub ty: &'static ParameterType,
    /// How it may be written.
    pub access: ParameterAccess,
    /// Whether it can come by itself.
    pub publishes: bool,
}

impl Parameter<'_> {
    /// Its index in the device's object dictionary.
    #[must_use]
    pub fn index(&self) -> u16 {
        u16::try_from(self.block.start).unwrap_or(u16::MAX).saturating_add(self.place)
    }

    /// Its space: its bytes, one after the other.
    #[must_use]
    pub fn space(&self) -> Space {
        Space {
            key: Cow::Owned(format!("{}:{}", self.index(), self.ty.code)),
            shown: Some(Arc::from(format!("{}.{}", self.block.name, self.name))),
            noun: "parameter byte",
            grain: Grain::Bytes(1),
            align: 1,
            len: Some(self.ty.bytes.into()),
            writable: self.access != ParameterAccess::Read,
            bits: BitWrite::Never,
            only: &[],
            rewritten: false,
            whole: true,
            publishes: self.publishes,
            flow: Flow::Asked,
        }
    }
}

/// What a space of this protocol stands for, for the engine.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Located {
    /// Index in the device's object dictionary.
    pub index: u16,
    /// Its type.
    pub ty: &'static ParameterType,
}

impl Located {
    /// Of a space; `None` where it is none of this protocol's.
    #[must_use]
    pub fn of(space: &Space) -> Option<Self> {
        let (index, code) = space.key.split_once(':')?;
        Some(Self { index: index.parse().ok()?, ty: type_of_code(code.parse().ok()?)? })
    }

    /// The sub-index of these bytes: 0 for all of them; `None` where they are no whole member.
    #[must_use]
    pub fn sub_index(&self, first: u32, count: u32) -> Option<u8> {
        if first == 0 && count == u32::from(self.ty.bytes) {
            return Some(0);
        }
        let own = self.ty.members.iter().find(|own| u32::from(own.at) == first)?;
        (own.ty.bytes().unwrap_or(u32::from(self.ty.bytes)) == count).then_some(own.sub)
    }

    /// The bytes of a sub-index: where they begin, how many they are, and their type on the link.
    #[must_use]
    pub fn bytes_of(&self, sub: u8) -> Option<(u32, u32, u8)> {
        if sub == 0 {
            return Some((0, self.ty.bytes.into(), self.ty.code));
        }
        let own = self.ty.members.iter().find(|own| own.sub == sub)?;
        Some((own.at.into(), own.ty.bytes()?, self.ty.member_code(own)))
    }

    /// Where the status is that judges the value, and where that lies, where it is a value with a status.
    #[must_use]
    pub fn judged(&self) -> Option<(u32, u32)> {
        let value = self.ty.members.iter().find(|own| own.name == "VALUE")?;
        Some((value.at.into(), value.ty.bytes()?))
    }
}

impl ParameterType {
    /// The type of one of its members on the link.
    fn member_code(&self, member: &Member) -> u8 {
        use woodrush_wire::h1::kind;
        match member.ty {
            // A mode is a set of bits.
            _ if self.code == kind::DS_69 => kind::BIT_STRING,
            Type::I8 => kind::INTEGER8,
            Type::U16 => kind::UNSIGNED16,
            Type::F32 => kind::FLOAT,
            _ => kind::UNSIGNED8,
        }
    }
}

/// The parameters of a block: those that the profile says, then those of its kind that it does not say.
pub fn parameters(block: &DeviceBlock) -> impl Iterator<Item = Parameter<'_>> {
    let own = block.parameters.iter().filter_map(|own| {
        Some(Parameter {
            block,
            name: &own.name,
            place: u16::try_from(own.place).ok()?,
            ty: type_of(&own.type_name)?,
            access: if own.read_write { ParameterAccess::Static } else { ParameterAccess::Read },
            publishes: false,
        })
    });
    let said = |name: &str, place: u16| {
        block.parameters.iter().any(|own| own.name == name || own.place == u32::from(place))
    };
    let kind = BlockKind::of_word(&block.kind);
    let standard = kind.into_iter().flat_map(BlockKind::parameters);
    let standard = standard.filter(move |own| !said(own.name, own.place)).map(move |own| Parameter {
        block,
        name: own.name,
        place: own.place,
        ty: own.ty,
        access: own.access,
        publishes: own.publishes,
    });
    own.chain(standard)
}

/// The parameter that a text names, and the text of its member; empty where it has none.
///
/// # Errors
/// There is no such block or parameter.
pub fn find<'b, 't>(
    blocks: Option<&'b DeviceBlocks>,
    text: &'t str,
) -> Result<(Parameter<'b>, &'t str), AddressFault> {
    let fault = |at, what: String, likely: Vec<String>| AddressFault { code: "F10", at, what, likely };
    let whole = 0..text.len();
    let Some(blocks) = blocks.filter(|blocks| !blocks.blocks.is_empty()) else {
        let what =
            format!("`{text}` names a block, and the device has no profile that says where its blocks begin");
        return Err(fault(whole, what, vec![]));
    };
    let (block_name, rest) = text.split_once('.').unwrap_or((text, ""));
    let Some(block) = blocks.block(block_name) else {
        let names = blocks.blocks.iter().map(|block| block.name.as_str());
        let near = nearest(block_name, names.clone());
        let what = format!(
            "`{}` has no block `{block_name}`; its blocks are {}",
            blocks.path,
            names.collect::<Vec<_>>().join(", ")
        );
        let likely = near.map(|near| format!("{near}.{rest}")).into_iter().collect();
        return Err(fault(0..block_name.len(), what, likely));
    };
    let (name, member) = rest.split_once('.').unwrap_or((rest, ""));
    if name.is_empty() {
        let what = format!("`{text}` is a block: name one of its parameters, such as `{block_name}.OUT`");
        return Err(fault(whole, what, vec![]));
    }
    let found = parameters(block).find(|own| own.name.eq_ignore_ascii_case(name));
    let Some(found) = found else {
        let names: Vec<&str> = parameters(block).map(|own| own.name).collect();
        let likely = nearest(name, names.iter().copied()).map(|near| format!("{block_name}.{near}"));
        let why = match name.ends_with("_ALM") || name.ends_with("_EVT") || name == "SIMULATE_D" {
            true => "is a record that the link does not give",
            false => "is not a parameter of such a block, or of a type that the link does not give",
        };
        let what = format!("`{block_name}.{name}` {why}");
        let at = block_name.len() + 1..block_name.len() + 1 + name.len();
        return Err(fault(at, what, likely.into_iter().collect()));
    };
    Ok((found, member))
}

/// The member that a text names behind a parameter; that of the value where it names none and there is one.
fn member_of(parameter: &Parameter<'_>, text: &str) -> Result<&'static Member, (String, Vec<String>)> {
    let members = parameter.ty.members;
    let own = |name: &str| members.iter().find(|own| own.name.eq_ignore_ascii_case(name));
    if let Some(found) = own(if text.is_empty() && members.len() > 1 { "VALUE" } else { text }) {
        return Ok(found);
    }
    let shown = format!("{}.{}", parameter.block.name, parameter.name);
    let names: Vec<&str> = members.iter().map(|own| own.name).collect();
    if members.len() == 1 {
        return Err((format!("`{shown}` has no members"), vec![shown]));
    }
    let likely: Vec<String> =
        nearest(text, names.iter().copied()).map(|near| format!("{shown}.{near}")).into_iter().collect();
    let what = match text {
        "" => format!("`{shown}` is a structure: name one of its members, {}", names.join(", ")),
        _ => format!("`{shown}` has no member `{text}`; its members are {}", names.join(", ")),
    };
    Err((what, likely))
}

/// Reads an address.
pub(super) fn parse(text: &str, context: &AddressContext<'_>) -> Result<Address, AddressFault> {
    let (parameter, member) = find(context.setup.blocks.as_deref(), text)?;
    let fault = |code, what: String, likely| AddressFault { code, at: 0..text.len(), what, likely };
    let own = member_of(&parameter, member).map_err(|(what, likely)| fault("F10", what, likely))?;
    if let Some(form) = context.form {
        if form.ty != own.ty {
            let what = format!("`{text}` is `{}` in its block, not `{}`", own.ty, form.ty);
            return Err(fault("M57", what, vec![]));
        }
        if form.order.is_some() {
            let what = format!("a parameter has no order of bytes: leave it out behind `{}`", form.ty);
            return Err(fault("F08", what, vec![]));
        }
    }
    Ok(Address {
        space: parameter.space(),
        first: own.at.into(),
        bit: None,
        brings: ImpliedType::Type(own.ty),
    })
}

/// An address of a space as it is written: with the member, where it is not the value or the only one.
pub(super) fn show(space: &Space, first: u32) -> String {
    let name = space.name();
    let member = Located::of(space).and_then(|own| {
        own.ty
            .members
            .iter()
            .find(|member| u32::from(member.at) == first && !matches!(member.name, "" | "VALUE"))
    });
    member.map_or_else(|| name.to_string(), |member| format!("{name}.{}", member.name))
}

/// The parameter's own name, without its block's.
fn name_of(space: &Space) -> &str {
    space.name().rsplit_once('.').map_or("", |(_, name)| name)
}

/// The member that begins at a byte of a parameter.
fn member_at(space: &Space, first: u32) -> Option<&'static Member> {
    Located::of(space)?.ty.members.iter().find(|own| u32::from(own.at) == first)
}

/// What the member at `first` says in words; `None` where it is a number or a text and nothing else.
pub(super) fn words_of(space: &Space, first: u32, cells: &[u8]) -> Option<String> {
    let member = member_at(space, first)?;
    let bytes = cells.get(..member.ty.bytes()? as usize)?;
    super::words::in_words(name_of(space), member, bytes)
}

/// The bytes of the member at `first` that is written in words; `None` where it has none.
pub(super) fn cells_of_words(space: &Space, first: u32, text: &str) -> Option<Result<Vec<u8>, String>> {
    let member = member_at(space, first)?;
    let plain = text.trim().starts_with(|letter: char| letter.is_ascii_digit() || letter == '-');
    (!plain && super::words::has_words(name_of(space), member))
        .then(|| super::words::read(name_of(space), member, text))
}

/// A member with its value in words, for people: `TARGET`, `AUTO`.
#[must_use]
pub fn members(space: &Space, cells: &[u8]) -> Vec<ShownMember> {
    let Some(own) = Located::of(space) else { return vec![] };
    let parameter = name_of(space);
    let shown = |member: &'static Member| {
        let bytes = cells.get(member.at.into()..)?;
        let bytes = bytes.get(..member.ty.bytes().map_or(bytes.len(), |count| count as usize))?;
        Some(ShownMember {
            name: member.name,
            first: member.at.into(),
            count: u32::try_from(bytes.len()).unwrap_or(0),
            shown: super::words::shown(parameter, member, bytes),
        })
    };
    own.ty.members.iter().filter_map(shown).collect()
}
