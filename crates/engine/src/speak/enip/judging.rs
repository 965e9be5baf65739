//! Whether a connection of class 1 may be opened, and which status answers one that may not.

use super::manager::{Application, Manager, Target};
use std::net::SocketAddrV4;
use woodrush_wire::enip::connection::ForwardOpen;
use woodrush_wire::enip::cyclic::{HEADER_BYTES, Points, SEQUENCE_BYTES};
use woodrush_wire::enip::epath::Key;
use woodrush_wire::enip::status::{self, connection as refused};

/// Most connections of one end that only read: a spare controller and some displays need a few.
const CONNECTIONS_MAX: usize = 64;
/// The longest interval that is accepted, in microseconds.
const INTERVAL_MAX: u32 = 10_000_000;

/// Why a connection is not opened: the general status and the words behind it, and the same in words.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct NotOpenedBecause {
    pub(super) status: u8,
    pub(super) words: Vec<u16>,
    pub(super) why: String,
}

fn because(word: u16, why: impl Into<String>) -> NotOpenedBecause {
    NotOpenedBecause { status: status::CONNECTION_FAILURE, words: vec![word], why: why.into() }
}

/// The right size of something, in words.
fn sizes(what: &str, got: u32, right: u32) -> String {
    format!("its {what} is {got} bytes, and {right} is right")
}

impl Manager {
    /// The key of a path against what we are.
    fn key_fault(&self, key: Key) -> Option<NotOpenedBecause> {
        let own = &self.identity;
        let differs = |theirs: u16, ours: u16| theirs != 0 && theirs != ours;
        if differs(key.vendor, own.vendor) || differs(key.product, own.product) {
            let why = format!(
                "its key is for vendor {} product {}, and this is {} {}",
                key.vendor, key.product, own.vendor, own.product
            );
            return Some(because(refused::KEY_VENDOR_OR_PRODUCT, why));
        }
        if differs(key.device_type, own.device_type) {
            let why =
                format!("its key is for device type {}, and this is {}", key.device_type, own.device_type);
            return Some(because(refused::KEY_DEVICE_TYPE, why));
        }
        let (major, minor) = (key.major & 0x7F, key.minor);
        let compatible = key.major & 0x80 != 0;
        let minor_fits = match compatible {
            true => own.revision.1 >= minor,
            false => minor == 0 || own.revision.1 == minor,
        };
        if major != 0 && major != own.revision.0 || !minor_fits {
            let why = format!(
                "its key is for revision {major}.{minor}, and this is {}.{}",
                own.revision.0, own.revision.1
            );
            return Some(because(refused::KEY_REVISION, why));
        }
        None
    }

    /// Whether a connection may be opened: what it is then.
    pub(super) fn judge(
        &self,
        peer: SocketAddrV4,
        open: &ForwardOpen<'_>,
        points: Option<&Points<'_>>,
        target: Option<usize>,
    ) -> Result<(usize, Application), NotOpenedBecause> {
        if let Some(word) = open.fault() {
            let why = status::additional_words(status::CONNECTION_FAILURE, word).unwrap_or_default();
            return Err(because(word, why));
        }
        match (open.transport & 0x0F, open.transport >> 4 & 7, open.transport >> 7) {
            (1, 0, 0) => {}
            (1, 0, _) => return Err(because(refused::DIRECTION, "it asks for a server's direction")),
            (1, trigger, _) => {
                let why = format!("it asks for trigger {trigger}, and 0 (cyclic) is served");
                return Err(because(refused::TRIGGER, why));
            }
            (class, ..) => {
                return Err(because(
                    refused::CLASS,
                    format!("it asks for transport class {class}, and 1 is served"),
                ));
            }
        }
        if self.connections.iter().any(|own| own.triad == open.triad) {
            return Err(because(refused::DUPLICATE, "it has this connection already"));
        }
        let Some(points) = points else {
            return Err(because(refused::INVALID_PATH, "its path does not lead to two assemblies"));
        };
        if let Some(fault) = points.key.and_then(|key| self.key_fault(key)) {
            return Err(fault);
        }
        let heads_to = |target: &Target| {
            let layout = &target.layout;
            match points.to_target {
                own if layout.outputs.is_some_and(|outputs| outputs.number == own) => {
                    Some(Application::Owner)
                }
                own if layout.input_only == own => Some(Application::InputOnly),
                own if layout.listen_only == own => Some(Application::ListenOnly),
                _ => None,
            }
        };
        let Some((at, own)) = target.and_then(|at| Some((at, self.targets.get(at)?))) else {
            let taken = self.targets.iter().any(|target| heads_to(target).is_some());
            let inputs: Vec<String> =
                self.targets.iter().map(|target| target.layout.inputs.number.to_string()).collect();
            let inputs = inputs.join(", ");
            return Err(match taken {
                true => because(
                    refused::POINT_TO_ORIGINATOR,
                    format!("its input assembly is {}, and here is {inputs}", points.to_originator),
                ),
                false => because(
                    refused::POINT_TO_TARGET,
                    format!(
                        "its assemblies are {} (out) and {} (in), and the inputs here are {inputs}",
                        points.to_target, points.to_originator
                    ),
                ),
            });
        };
        let layout = &own.layout;
        if let Some(config) = points.configuration
            && layout.config.is_some_and(|own| own.number != config)
        {
            let right = layout.config.map_or(0, |own| own.number);
            let why = format!("its configuration assembly is {config}, and {right} is right");
            return Err(because(refused::CONFIGURATION_POINT, why));
        }
        let Some(application) = heads_to(own) else {
            let right = layout.outputs.map_or(layout.input_only, |own| own.number);
            let why = format!("its output assembly is {}, and {right} is right", points.to_target);
            return Err(because(refused::POINT_TO_TARGET, why));
        };
        self.fits(peer, open, points, own, application)?;
        Ok((at, application))
    }

    /// Types, sizes, intervals, and whether it is free.
    fn fits(
        &self,
        peer: SocketAddrV4,
        open: &ForwardOpen<'_>,
        points: &Points<'_>,
        own: &Target,
        application: Application,
    ) -> Result<(), NotOpenedBecause> {
        let layout = &own.layout;
        if (open.to_target.kind(), open.to_originator.kind()) == (0, 0) {
            return Err(because(refused::NULL, "it opens nothing, neither to the target nor back"));
        }
        if open.to_target.kind() != 2 {
            return Err(because(refused::TYPE_TO_TARGET, "what it sends is not point to point"));
        }
        if open.to_originator.kind() != 2 {
            let why = "it wants its inputs by multicast, and point to point is served";
            return Err(because(refused::TYPE_TO_ORIGINATOR, why));
        }
        if open.to_target.is_variable() {
            return Err(because(
                refused::FIXED_TO_TARGET,
                "what it sends has a variable size, and a fixed one is served",
            ));
        }
        if open.to_originator.is_variable() {
            let why = "it wants its inputs of a variable size, and a fixed one is served";
            return Err(because(refused::FIXED_TO_ORIGINATOR, why));
        }
        let config = layout.config.map_or(0, |own| own.bytes);
        let data = u32::try_from(points.data.len()).unwrap_or(u32::MAX);
        // Whole words go over the wire.
        if data.div_ceil(2) != config.div_ceil(2) && (data > 0 || config > 0) {
            let right = u16::try_from(config).unwrap_or(u16::MAX);
            let mut because = because(refused::CONFIGURATION_SIZE, sizes("configuration", data, config));
            because.words.push(right);
            return Err(because);
        }
        let heads = u32::from(SEQUENCE_BYTES);
        let to_target = match application {
            Application::Owner => {
                heads + u32::from(HEADER_BYTES) + layout.outputs.map_or(0, |outputs| outputs.bytes)
            }
            _ => heads,
        };
        let wrong = |word: u16, what: &str, got: u16, right: u32| {
            let mut because = because(word, sizes(what, got.into(), right));
            because.words.push(u16::try_from(right).unwrap_or(u16::MAX));
            because
        };
        if u32::from(open.to_target.size()) != to_target {
            return Err(wrong(
                refused::SIZE_TO_TARGET,
                "size to the target",
                open.to_target.size(),
                to_target,
            ));
        }
        let to_originator = heads + layout.inputs.bytes;
        if u32::from(open.to_originator.size()) != to_originator {
            let got = open.to_originator.size();
            return Err(wrong(refused::SIZE_TO_ORIGINATOR, "size to the originator", got, to_originator));
        }
        let fast = open.to_target_interval < layout.period || open.to_originator_interval < layout.period;
        if fast {
            let shortest = open.to_target_interval.min(open.to_originator_interval);
            let shown = woodrush_core::project::show_micros;
            let why = format!(
                "it wants a frame every {}, and {} is the shortest interval here (`period`)",
                shown(shortest.into()),
                shown(layout.period.into())
            );
            let mut because = because(refused::INTERVAL, why);
            // The least that is acceptable (type 2), each way.
            because.words.push(0x0202);
            for _ in 0..2 {
                because.words.push(u16::try_from(layout.period & 0xFFFF).unwrap_or(0));
                because.words.push(u16::try_from(layout.period >> 16).unwrap_or(0));
            }
            return Err(because);
        }
        if open.to_target_interval > INTERVAL_MAX || open.to_originator_interval > INTERVAL_MAX {
            return Err(because(
                refused::INTERVAL_UNSUPPORTED,
                "it wants a frame less often than every 10 s",
            ));
        }
        let here = || self.connections.iter().filter(|connection| connection.link == own.link);
        match application {
            Application::Owner => {
                if let Some(other) = here().find(|connection| connection.application == Application::Owner) {
                    let why = format!("{} has the outputs", other.running.agreed.peer.ip());
                    return Err(because(refused::OWNED, why));
                }
                if own
                    .writers
                    .as_ref()
                    .is_some_and(|writers| !writers.iter().any(|net| net.holds(*peer.ip())))
                {
                    let why = "`writers` shuts it out".to_string();
                    return Err(NotOpenedBecause { status: status::PRIVILEGE_VIOLATION, words: vec![], why });
                }
            }
            Application::ListenOnly => {
                if !here().any(|connection| connection.application != Application::ListenOnly) {
                    let why = "it would listen beside another connection, and there is none";
                    return Err(because(refused::LISTEN_ONLY, why));
                }
            }
            Application::InputOnly => {}
        }
        // The one that owns the outputs always has its place.
        let readers = self.connections.iter().filter(|own| own.application != Application::Owner).count();
        if application != Application::Owner && readers >= CONNECTIONS_MAX {
            let why = format!("{CONNECTIONS_MAX} others read already");
            return Err(because(refused::OUT_OF_CONNECTIONS, why));
        }
        Ok(())
    }
}
