//! Who is on a network whose stations answer to a question for all.

use super::listed::say;
use super::{ScanArgs, only_names, unreachable};
use crate::connections::{Connections, stations_of};
use crate::console::Console;
use crate::{Failure, Verdict};
use std::collections::BTreeMap;
use std::net::Ipv4Addr;
use woodrush_core::plan::Station;
use woodrush_core::project::{Port, Wires};
use woodrush_engine::scan::{called, is_called};
use woodrush_engine::stop::Stop;

/// Longest prefix whose addresses are not asked one by one: 1022 questions take a few seconds.
const PREFIX: u8 = 22;
/// Time for answers, in microseconds: stations may wait up to half a second where all are asked at once.
const WAIT: u64 = 1_000_000;

/// Whether that port is one on which stations are asked who they are.
pub(super) fn is_here(port: &Port) -> bool {
    matches!(port.wires, Some(Wires::Network { .. }))
        && port.protocol.is_some_and(|protocol| is_called(protocol.value.name()))
}

pub(super) fn run(
    console: &mut Console,
    connections: &Connections,
    (at, port): (usize, &Port),
    args: &ScanArgs,
) -> Result<Verdict, Failure> {
    only_names(args, "the stations of a network say who they are")?;
    let Some((checked, protocol)) = connections.checked().zip(port.protocol) else {
        return Err(Failure::Usage("name a port of the project".into()));
    };
    let expected: BTreeMap<Ipv4Addr, &Station> = checked
        .plan
        .devices
        .iter()
        .filter(|device| device.port == at)
        .filter_map(|device| Some((device.network_address()?, device)))
        .collect();
    let own = checked.project.converter.address.as_ref().map(|own| own.value);
    // On the rig, stations have addresses of the loopback network.
    let rig = match connections.on_rig(&port.name.value) {
        Ok(rig) => rig,
        Err(failed) => return Ok(unreachable(console, &failed)),
    };
    let mut remarks = vec![];
    let (to, place): (Vec<Ipv4Addr>, String) = match (&rig, own) {
        (Some(rig), _) => (stations_of(rig).map(|(_, real)| real).collect(), "the rig".into()),
        (None, Some(own)) if args.broadcast => {
            let rest = u32::MAX.checked_shr(own.prefix.into()).unwrap_or(0);
            (vec![Ipv4Addr::from(u32::from(own.address) | rest)], own.to_string())
        }
        (None, None) if args.broadcast => (vec![Ipv4Addr::BROADCAST], "every network here".into()),
        (None, Some(own)) if own.prefix >= PREFIX => {
            let rest = u32::MAX.checked_shr(own.prefix.into()).unwrap_or(0);
            let first = u32::from(own.address) & !rest;
            let inner = (first + 1..first + rest).map(Ipv4Addr::from);
            let mut all: Vec<Ipv4Addr> = inner.collect();
            all.extend(expected.keys().filter(|address| !own.holds(**address)));
            (all, own.to_string())
        }
        (None, own) => {
            remarks.push(match own {
                Some(own) => format!(
                    "only the devices of the project were asked: {own} has too many addresses; `--broadcast` asks all at once"
                ),
                None => "only the devices of the project were asked: without `address` in [converter] its network is not \
                         known; `--broadcast` asks all at once"
                    .to_string(),
            });
            (expected.keys().copied().collect(), port.name.value.clone())
        }
    };
    let stop = Stop::with_terminal()
        .map_err(|error| Failure::Outside(format!("signals cannot be caught: {error}")))?;
    let wait = connections.timeout().unwrap_or(WAIT);
    let mut found =
        match called(protocol.value.name(), &to, args.broadcast && rig.is_none(), wait, &|| !stop.is_asked())
        {
            Ok(found) => found,
            Err(why) => {
                console.complain(&format!("{place}: {why}"));
                return Ok(Verdict::Outside);
            }
        };
    let shown: BTreeMap<Ipv4Addr, Ipv4Addr> =
        rig.iter().flat_map(|rig| stations_of(rig)).map(|(shown, real)| (real, shown)).collect();
    let mut missing = expected.clone();
    for station in &mut found.stations {
        let Ok(real) = station.address.parse::<Ipv4Addr>() else { continue };
        let address = shown.get(&real).copied().unwrap_or(real);
        station.address = address.to_string();
        if rig.is_some() {
            // What it says of its address is where the rig has it.
            station.remarks.clear();
        }
        if let Some(device) = missing.remove(&address) {
            station.device = Some(device.name.clone());
        } else if matches!(&port.wires, Some(Wires::Network { at }) if at.value == address) {
            station.device = Some("this converter".into());
        }
    }
    for (address, device) in &missing {
        remarks
            .push(format!("{} ({address}) does not answer: check its power, address and cable", device.name));
    }
    found.remarks.extend(remarks);
    say(console, &place, &found)?;
    let all = missing.is_empty() && !found.stations.is_empty();
    Ok(if all { Verdict::Yes } else { Verdict::No })
}
