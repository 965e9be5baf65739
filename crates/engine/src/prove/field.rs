//! The field side alone: every device is asked once on its own line before the converter is started, so that a fault has
//! a side.

use super::Progress;
use crate::rig::Rig;
use woodrush_core::Kind;
use woodrush_core::check::Checked;
use woodrush_core::plan::Transfer;
use woodrush_core::protocol::Extent;

/// By device: why it does not answer alone; nothing for those that do, and for those that nobody asks.
pub(super) fn alone(checked: &Checked, rig: &Rig, progress: &mut dyn FnMut(Progress)) -> Vec<Option<String>> {
    let plan = &checked.plan;
    let of = u32::try_from(plan.devices.len()).unwrap_or(u32::MAX);
    let mut found = vec![];
    for (device, done) in (0..plan.devices.len()).zip(0u32..) {
        progress(Progress { doing: "the devices alone", done, of });
        let extent = plan
            .transfers
            .iter()
            .find(|transfer| transfer.device() == Some(device))
            .and_then(Transfer::first);
        found.push(extent.and_then(|extent| ask(checked, rig, device, extent)));
    }
    found
}

fn ask(checked: &Checked, rig: &Rig, device: usize, extent: Extent) -> Option<String> {
    let station = checked.plan.devices.get(device)?;
    let port = checked.project.ports.get(station.port)?;
    let mut client = rig.ask_alone(station.port, station)?.ok()?;
    // A machine that is away for a moment must not look like a dead device.
    let refusal = (0..3).map_while(|_| client.read(extent).err()).last()?;
    client.read(extent).err()?;
    let own = checked.project.line_of(device).map(|line| line.value);
    let line = port.line().map(|line| line.value);
    let likely = match (own, line, refusal.kind) {
        (Some(own), Some(line), _) if own != line => {
            format!("it is set to {own}, and its line runs at {line}")
        }
        (_, _, Kind::NoAnswer) => "is its unit right, and is it powered?".into(),
        (_, _, Kind::Damaged) => "do two devices answer at once, or differ speed or parity?".into(),
        (_, _, Kind::Mismatch) => "is its unit right?".into(),
        _ => "look at its manual".to_string(),
    };
    Some(format!("`{}` alone does not answer correctly, {}: {likely}", station.name, refusal.kind.words()))
}
