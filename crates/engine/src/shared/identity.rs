//! What a port is opened by: a port whose identity is the same in a changed project stays open.

use woodrush_core::check::Checked;
use woodrush_core::plan::Plan;
use woodrush_core::protocol::Setup;

/// What a port is opened by.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Identity {
    /// The path, socket address or interface, with the settings of a line.
    pub wires: String,
    /// The protocol's name.
    pub protocol: &'static str,
    /// What is done there.
    pub role: Role,
    /// The adapter gives back what we send.
    pub echo: bool,
    /// Keys of its protocol: both ends of a connection or link go by them.
    pub setup: Setup,
    /// The other ports that have devices in common with it, by name: they are opened and closed together.
    pub together: Vec<(String, Self)>,
}

/// What is done on a port.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Role {
    /// We ask.
    Asks,
    /// Others ask.
    Answers,
    /// Bytes pass unread between it and the port of this name.
    Pipes(String),
    /// Nothing.
    Idle,
}

impl Identity {
    /// Of a port; `None` for one that no wires are written for, or that another port's pipe opens.
    #[must_use]
    pub fn of(checked: &Checked, plan: &Plan, at: usize) -> Option<Self> {
        let others = plan.ports_together(at).into_iter().filter(|other| *other != at);
        let named = |other: usize| {
            let name = checked.project.ports.get(other)?.name.value.clone();
            Some((name, Self::alone(checked, plan, other)?))
        };
        Some(Self { together: others.filter_map(named).collect(), ..Self::alone(checked, plan, at)? })
    }

    /// The same without the others.
    fn alone(checked: &Checked, plan: &Plan, at: usize) -> Option<Self> {
        let port = checked.project.ports.get(at)?;
        let wires = port.wires.as_ref()?.identity();
        let piped = plan.forwards.iter().find(|own| own.raw && (own.from == at || own.to == at));
        let role = match piped {
            Some(forward) if forward.from == at => {
                Role::Pipes(checked.project.ports.get(forward.to)?.name.value.clone())
            }
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
        Some(Self { wires, protocol, role, echo: port.echo, setup: port.setup.clone(), together: vec![] })
    }
}
