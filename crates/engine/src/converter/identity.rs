//! What a port is opened by: what stays the same in a changed project stays open.

use woodrush_core::check::Checked;
use woodrush_core::plan::Plan;
use woodrush_core::protocol::Setup;

/// What a port is opened by.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Identity {
    pub(super) wires: String,
    pub(super) protocol: &'static str,
    pub(super) role: Role,
    pub(super) echo: bool,
    /// Keys of its protocol: both ends of a connection or link go by them.
    pub(super) setup: Setup,
    /// The other ports that have devices in common with it, by name: they are opened and closed together.
    pub(super) together: Vec<(String, Self)>,
}

/// What is done on a port.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Role {
    /// We ask.
    Asks,
    /// Others ask.
    Answers,
    /// Bytes pass between it and another port.
    Pipes(usize),
    /// Nothing.
    Idle,
}

/// What a port is opened by; `None` for one that no wires are written for, or that another port's pipe opens.
pub(super) fn kept(checked: &Checked, plan: &Plan, at: usize) -> Option<Identity> {
    let others = plan.ports_together(at).into_iter().filter(|other| *other != at);
    let named = |other: usize| {
        let name = checked.project.ports.get(other)?.name.value.clone();
        Some((name, alone(checked, plan, other)?))
    };
    Some(Identity { together: others.filter_map(named).collect(), ..alone(checked, plan, at)? })
}

/// The same without the others.
fn alone(checked: &Checked, plan: &Plan, at: usize) -> Option<Identity> {
    let port = checked.project.ports.get(at)?;
    let wires = port.wires.as_ref()?.identity();
    let role =
        match plan.forwards.iter().find(|forward| forward.raw && (forward.from == at || forward.to == at)) {
            Some(forward) if forward.from == at => Role::Pipes(forward.to),
            Some(_) => return None,
            None => {
                let asks = (0..plan.devices.len()).any(|device| plan.is_on(device, at))
                    || plan.forwards.iter().any(|forward| forward.to == at);
                let answers = plan.images.iter().any(|image| image.port == at)
                    || plan.forwards.iter().any(|forward| forward.from == at);
                match (asks, answers) {
                    (true, _) => Role::Asks,
                    (_, true) => Role::Answers,
                    _ => Role::Idle,
                }
            }
        };
    let protocol = port.protocol.map_or("", |protocol| protocol.value.name());
    Some(Identity { wires, protocol, role, echo: port.echo, setup: port.setup.clone(), together: vec![] })
}
