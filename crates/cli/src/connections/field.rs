//! The field side of a port: whom requests go to there, and over what.

use super::{Connections, Failed};
use std::net::SocketAddr;
use std::path::PathBuf;
use woodrush_core::budget::LineTime;
use woodrush_core::plan::Station;
use woodrush_core::project::Wires;
use woodrush_core::protocol::{Setup, Transport};
use woodrush_engine::control::Remote;
use woodrush_engine::direct::{Direct, Link};

/// A port on which stations can be asked.
#[derive(Clone)]
pub(crate) struct Field {
    /// The running converter that has it, and its name there.
    pub(crate) held: Option<(Remote, String)>,
    pub(crate) link: Link,
    pub(crate) line: LineTime,
    /// The one that is asked first.
    pub(crate) station: Station,
    pub(crate) transport: Transport,
}

impl Field {
    /// Opens it, or goes through who has it.
    pub(crate) fn open(&self, connections: &Connections) -> Result<(Direct, Option<Link>), Failed> {
        match &self.held {
            Some((remote, port)) => Ok((Direct::through(remote.clone(), port), None)),
            None => connections.opened(&self.link, self.line, &self.station),
        }
    }
}

impl Connections {
    /// The field side of a port of the project, or the way that is written on the command line.
    pub(crate) fn field(&self, port: Option<usize>) -> Result<Field, Failed> {
        if let Some(bare) = &self.bare {
            let serial = matches!(bare.link, Link::Serial { .. });
            return Ok(Field {
                held: bare.held.clone(),
                link: bare.link.clone(),
                line: bare.line,
                station: bare.station.clone(),
                transport: if serial { Transport::Serial } else { Transport::Connect },
            });
        }
        let none = || Failed::of("it has no port", "give it a `port` in the project");
        let (project, settings) = self.port(port.ok_or_else(none)?)?;
        let name = &settings.name.value;
        let spoken = settings.protocol.ok_or_else(none)?.value;
        // Who has the line is asked, whatever the bench says.
        let held = project.running.as_ref().map(|(remote, _)| remote.clone());
        let bench = if held.is_some() { None } else { self.bench(project, name)? };
        let (link, transport) = match settings.wires.as_ref().ok_or_else(none)? {
            Wires::Serial { path, line: Some(at), wiring } => (
                Link::Serial {
                    path: PathBuf::from(bench.unwrap_or_else(|| path.value.clone())),
                    line: at.value,
                    two_wires: wiring.as_ref().is_some_and(|wiring| wiring.value == "rs485"),
                    echo: settings.echo,
                },
                Transport::Serial,
            ),
            Wires::Connect { to } => {
                let own = SocketAddr::from((to.value.host, to.value.port));
                let to = bench.and_then(|at| at.parse().ok()).unwrap_or(own);
                (Link::Socket(to), Transport::Connect)
            }
            _ => {
                return Err(Failed::of(
                    format!("no request can be sent on port {name}"),
                    "hang the device on a port that asks",
                ));
            }
        };
        // Where a port leads to one station, that is its device: the way there, and what its memory is.
        let alone = spoken.stations().station_key(transport).is_none();
        let mut here =
            project.checked.project.devices.iter().filter(|device| device.is_on(port.unwrap_or(usize::MAX)));
        let setup = match (here.next().filter(|_| alone), here.next()) {
            (Some(device), None) => Setup { declared: None, ..device.setup.with(Some(&settings.setup)) },
            _ => settings.setup.clone(),
        };
        let station = Station::bare(name, spoken.by_memory(&setup).unwrap_or(spoken), setup);
        let held = held.map(|remote| (remote, name.clone()));
        Ok(Field { held, link, line: self.times(settings), station, transport })
    }
}
