//! What tells one project's working from another's: names and notes may change, rules and wires may not.

use super::Plan;
use crate::project::Project;
use crate::protocol::Setup;
use std::fmt::Write;

/// FNV-1a over whatever is written: the same in every build, and no secret.
struct Hash(u64);

impl Write for Hash {
    fn write_str(&mut self, text: &str) -> std::fmt::Result {
        for byte in text.bytes() {
            self.0 = (self.0 ^ u64::from(byte)).wrapping_mul(0x0100_0000_01B3);
        }
        Ok(())
    }
}

impl Plan {
    /// A number that differs where what the converter does differs: rules, requests, forwards, stations, ports.
    #[must_use]
    pub fn fingerprint(&self, project: &Project) -> u64 {
        let mut hash = Hash(0xCBF2_9CE4_8422_2325);
        for port in &project.ports {
            let wires = match &port.wires {
                Some(crate::project::Wires::Serial { path, line, .. }) => {
                    format!(
                        "serial {} {}",
                        path.value,
                        line.map(|line| line.value.to_string()).unwrap_or_default()
                    )
                }
                Some(crate::project::Wires::Listen { at }) => format!("listen {}", at.value),
                Some(crate::project::Wires::Connect { to }) => format!("connect {}", to.value),
                Some(crate::project::Wires::Pty { path }) => format!("pty {}", path.value),
                Some(crate::project::Wires::Network { at }) => format!("network {}", at.value),
                Some(crate::project::Wires::Ethernet { interface }) => {
                    format!("ethernet {}", interface.value)
                }
                None => String::new(),
            };
            let protocol = port.protocol.map_or("", |protocol| protocol.value.name());
            // Writing into a number cannot fail, here and below.
            let _ = write!(hash, "{} {wires} {protocol};", port.name.value);
        }
        for station in self.devices.iter().chain(&self.images) {
            let Setup { numbers, words, rows, declared, blocks } = &station.setup;
            let _ = write!(
                hash,
                "{} {} Setup {{ numbers: {numbers:?}, words: {words:?}, declared: {declared:?}, blocks: {blocks:?} }};",
                station.name, station.port
            );
            if !rows.is_empty() {
                let _ = write!(hash, "{rows:?};");
            }
        }
        for rule in &self.rules {
            let _ = write!(
                hash,
                "{:?} {} {:?} {:?} {} {}{} {} {:?} {:?} {} {:?};",
                rule.source,
                rule.board,
                rule.target,
                rule.conversion,
                rule.writable,
                rule.every,
                if rule.published { "p" } else { "" },
                rule.max_age,
                rule.on_loss,
                rule.sending,
                rule.after_device,
                rule.invalid
            );
        }
        for forward in &self.forwards {
            let _ = write!(
                hash,
                "{} {} {:?} {:?} {};",
                forward.from, forward.to, forward.units, forward.functions, forward.writes_first
            );
        }
        hash.0
    }
}
