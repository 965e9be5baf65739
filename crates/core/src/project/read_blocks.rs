//! Blocks of a profile, and what a device's parameters shall be.

use super::fields::Fields;
use super::reader::Reader;
use crate::finding::Finding;
use crate::protocol::{BlockParameter, DeviceBlock, DeviceBlocks};
use crate::source::Spanned;

/// Most blocks of one profile, and most parameters that one describes: far more than devices have.
const BLOCKS_MAX: usize = 64;
const PARAMETERS_MAX: usize = 1000;

/// One parameter of a device, and what it shall be.
#[derive(Debug, Clone)]
pub struct SetUpEntry {
    /// Its address, without the number of a second write.
    pub address: Spanned<String>,
    /// What it shall be, as written.
    pub value: Spanned<String>,
}

/// What a device's parameters shall be.
pub(super) fn set_up(r: &mut Reader<'_>, fields: &Fields<'_, '_>) -> Vec<SetUpEntry> {
    if !fields.has("set-up") {
        return vec![];
    }
    let mut found = vec![];
    for (name, value) in fields.values(r, "set-up") {
        let Some(value) = value else {
            let what = format!("`{}` has no value", name.value);
            r.find(Finding::new("F03", name.span, what).fix(
                "write the address in quotes, such as `\"AI1.CHANNEL\" = 1`, and the value as text or number",
            ));
            continue;
        };
        // `#2` tells two writes of one parameter apart: keys of a table are there once.
        let plain = name.value.split('#').next().unwrap_or_default().trim().to_string();
        found.push(SetUpEntry { address: Spanned { value: plain, span: name.span }, value });
    }
    found
}

/// What kind of device a profile is for.
pub(super) fn identity(r: &mut Reader<'_>, head: &Fields<'_, '_>) -> DeviceBlocks {
    DeviceBlocks {
        manufacturer: head.whole(r, "manufacturer").map(|own| own.value),
        device_type: head.whole(r, "device-type").map(|own| own.value),
        revision: head.whole(r, "device-revision").map(|own| own.value),
        ..DeviceBlocks::default()
    }
}

/// The blocks of a profile; `None` where it has none.
pub(super) fn blocks(
    r: &mut Reader<'_>,
    top: &Fields<'_, '_>,
    identity: DeviceBlocks,
    path: &str,
) -> Option<DeviceBlocks> {
    let mut found: Vec<DeviceBlock> = vec![];
    for (name, fields) in top.named(r, "blocks", "block") {
        if found.len() >= BLOCKS_MAX {
            let what = format!("a profile has more than {BLOCKS_MAX} blocks");
            r.find(Finding::new("F11", name.span, what).fix("remove what no device has"));
            break;
        }
        let kind = fields.required(r, "type", "what the block is, such as `AI`");
        let start = fields.whole(r, "start");
        if start.is_none() && !fields.has("start") {
            let what = format!("block `{}` has no `start`", name.value);
            r.find(
                Finding::new("F04", name.span, what)
                    .fix("add `start`: the index of its block object, from the device's description"),
            );
        }
        let (Some(kind), Some(start)) = (kind, start) else { continue };
        if let Some(other) = found.iter().find(|own| own.start == start.value) {
            let what = format!("`{}` and `{}` begin at one index", other.name, name.value);
            r.find(Finding::new("M10", start.span, what).fix("correct one of them"));
        }
        found.push(DeviceBlock {
            kind: kind.value,
            start: start.value,
            execution: fields.duration(r, "execution").and_then(|own| u32::try_from(own.value).ok()),
            channels: channels(r, &fields),
            parameters: parameters(r, &fields),
            name: name.value,
        });
    }
    (!found.is_empty()).then(|| DeviceBlocks { path: path.into(), blocks: found, ..identity })
}

fn channels(r: &mut Reader<'_>, fields: &Fields<'_, '_>) -> Vec<(u32, Vec<String>)> {
    let mut found = vec![];
    for (number, units) in fields.texts_by_key(r, "channels") {
        match number.value.parse() {
            Ok(channel) if !units.is_empty() => found.push((channel, units)),
            _ => {
                let what = format!("`{}` is not a channel with its units", number.value);
                r.find(Finding::new("F03", number.span, what).fix("write it as `{ 1 = \"degC\" }`"));
            }
        }
    }
    found
}

fn parameters(r: &mut Reader<'_>, fields: &Fields<'_, '_>) -> Vec<BlockParameter> {
    let mut found: Vec<BlockParameter> = vec![];
    for (name, own) in fields.named(r, "parameters", "parameter").into_iter().take(PARAMETERS_MAX) {
        let place = own.whole(r, "place");
        let type_name = own.required(r, "type", "its type, such as `DS-65`");
        if place.is_none() && !own.has("place") {
            let what = format!("parameter `{}` has no `place`", name.value);
            r.find(
                Finding::new("F04", name.span, what).fix("add `place`: its index less the block's `start`"),
            );
        }
        let (Some(place), Some(type_name)) = (place, type_name) else { continue };
        if let Some(other) = found.iter().find(|other| other.place == place.value) {
            let what = format!("`{}` and `{}` are at one place", other.name, name.value);
            r.find(Finding::new("M10", place.span, what).fix("correct one of them"));
        }
        found.push(BlockParameter {
            place: place.value,
            type_name: type_name.value,
            read_write: own.text(r, "access").is_some_and(|access| access.value == "read-write"),
            name: name.value,
        });
    }
    found
}
