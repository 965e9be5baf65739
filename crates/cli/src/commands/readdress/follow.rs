//! Who else must follow when a device has another number.

use woodrush_core::check::Checked;

/// In words, each with what is to be done.
pub(super) fn list(checked: &Checked, device: usize, from: u32, to: u32) -> Vec<String> {
    let project = &checked.project;
    let mut found = vec![];
    let port = checked.plan.devices.get(device).map(|device| device.port);
    for forward in checked.plan.forwards.iter().filter(|forward| Some(forward.to) == port) {
        for (asked, answers) in &forward.units {
            if u32::from(*answers) == from {
                let name = project.ports.get(forward.from).map_or("", |port| port.name.value.as_str());
                found.push(format!(
                    "the [[forward]] from port {name}: unit {asked} goes to {from}, which no device has any more; make it {to} (`as-units`)"
                ));
                for client in project.clients.iter().filter(|client| {
                    client.port.as_ref().is_some_and(|port| port.value == forward.from)
                        && client.units.as_ref().is_some_and(|units| units.value.contains(asked))
                }) {
                    found.push(format!("client {}: it asks for unit {asked}", client.name.value));
                }
            }
        }
    }
    found.push("a running converter: with `run --follow` it reloads the file, otherwise send SIGHUP".into());
    found.push("papers and labels that show the unit".into());
    found
}
