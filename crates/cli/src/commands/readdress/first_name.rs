//! `woodrush readdress --ethernet`: a station on an interface gets its name and its address.

use crate::args::{Format, Global, ReaddressArgs};
use crate::commands::scan::frames::{outside, switch_of, usual};
use crate::console::{Console, Tone};
use crate::{Failure, Verdict};
use std::io::IsTerminal;
use std::net::Ipv4Addr;
use woodrush_engine::scan::{FramesAt, Naming};
use woodrush_engine::speak::{FoundStation, NewIdentity};
use woodrush_engine::stop::Stop;

/// Reads a MAC address: pairs of hex digits with colons or hyphens between.
fn mac_of(text: &str) -> Option<[u8; 6]> {
    let pairs: Vec<u8> = text
        .split([':', '-'])
        .map(|pair| u8::from_str_radix(pair, 16).ok().filter(|_| pair.len() == 2))
        .collect::<Option<_>>()?;
    let mac: [u8; 6] = pairs.try_into().ok()?;
    (mac[0] & 1 == 0 && mac != [0; 6]).then_some(mac)
}

fn also<'s>(station: &'s FoundStation, what: &str) -> &'s str {
    station.also.iter().find(|(own, _)| *own == what).map_or("", |(_, value)| value.as_str())
}

/// A station in a line: its name, its address, what it is.
fn told(station: &FoundStation) -> String {
    let name =
        if station.name.is_empty() { "no name yet".to_string() } else { format!("name {}", station.name) };
    let address = match also(station, "address") {
        "" => "no address".to_string(),
        own => format!("address {own}"),
    };
    format!("{name}, {address}, {} of vendor {}", also(station, "type"), also(station, "vendor"))
}

pub(super) fn run(
    console: &mut Console,
    global: &Global,
    args: &ReaddressArgs,
    interface: &str,
) -> Result<Verdict, Failure> {
    let usage = |text: String| Failure::Usage(text);
    let mac = mac_of(&args.name).ok_or_else(|| {
        usage(format!(
            "`{}` is not the MAC address of a station, such as 02:57:52:00:00:01 (it stands on its label)",
            args.name
        ))
    })?;
    if args.station_name.is_none() && args.address.is_none() {
        return Err(usage(
            "say what it shall be: `--name raceway-box`, `--address 192.0.2.30/24`, or both".into(),
        ));
    }
    let new = NewIdentity {
        name: args.station_name.clone(),
        address: args.address.clone(),
        permanent: args.permanent,
    };
    let switch = match args.rig {
        true => {
            let path = crate::project::find(global)?;
            let checked = crate::project::load(&path)?;
            Some(switch_of(&path, &checked, interface)?)
        }
        false => None,
    };
    let at = FramesAt { interface: interface.to_string(), switch };
    let stop = Stop::with_terminal()
        .map_err(|error| Failure::Outside(format!("signals cannot be caught: {error}")))?;
    let go_on = || !stop.is_asked();
    let naming = Naming::prepare(usual()?, &at, mac, new, &go_on).map_err(|fault| outside(&fault))?;
    console.note(&format!("{} answers: {}", args.name, told(&naming.station)));
    let becomes = [
        args.station_name.as_ref().map(|own| format!("the name {own}")),
        args.address.as_ref().map(|own| format!("the address {own}")),
    ];
    let becomes: Vec<String> = becomes.into_iter().flatten().collect();
    let lasts = if args.permanent { "for good" } else { "until its power goes" };
    let asked_for = if becomes.len() > 1 { "both were asked for and are" } else { "it was asked for and is" };
    console.note(&format!("{asked_for} free: it gets {}, {lasts}", becomes.join(" and ")));
    if !args.yes {
        if !std::io::stdin().is_terminal() {
            return Err(usage(
                "nothing is changed without being asked, and there is no terminal to ask on: add --yes"
                    .into(),
            ));
        }
        if super::asked(console, "go on? (y, else nothing is changed): ")? != "y" {
            return Ok(Verdict::No);
        }
    }
    let now = naming.give(&go_on).map_err(|fault| outside(&fault))?;
    if console.format == Format::Json {
        console.json(&serde_json::json!({
            "station": now.address, "name": now.name, "address": also(&now, "address"), "permanent": args.permanent,
        }))?;
        return Ok(Verdict::Yes);
    }
    let good = console.paint(Tone::Good, "it answers");
    console.say(&format!("{good}: {}", told(&now)))?;
    if let Some(hint) = way_there(&now, interface) {
        console.note(&hint);
    }
    Ok(Verdict::Yes)
}

/// What this computer's own address must be to reach a station over IP.
fn way_there(station: &FoundStation, interface: &str) -> Option<String> {
    let (address, bits) = also(station, "address").split_once('/')?;
    let (address, bits): (Ipv4Addr, u32) = (address.parse().ok()?, bits.parse().ok()?);
    let host = u32::MAX.checked_shr(bits)?;
    let network = u32::from(address) & !host;
    // One near the end of the network, and not the station's.
    let own = (1..host).rev().skip(4).map(|last| network | last).find(|own| *own != u32::from(address))?;
    let (network, own) = (Ipv4Addr::from(network), Ipv4Addr::from(own));
    Some(format!(
        "to reach it over IP this computer needs an address of {network}/{bits} that no station has: `sudo ip addr add {own}/{bits} dev {interface}`; a controller needs none of that"
    ))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_mac_address_is_read_as_labels_write_it() {
        assert_eq!(mac_of("02:57:52:00:00:01"), Some([2, 0x57, 0x52, 0, 0, 1]));
        assert_eq!(mac_of("02-57-52-00-00-FF"), Some([2, 0x57, 0x52, 0, 0, 0xFF]));
        for wrong in ["", "do-1", "02:57:52:00:00", "2:57:52:0:0:1", "01:0e:cf:00:00:00", "00:00:00:00:00:00"]
        {
            assert_eq!(mac_of(wrong), None, "{wrong}");
        }
    }
}
