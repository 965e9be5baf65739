//! Ports as they are read, and the keys that protocols add.

use super::fields::Fields;
use super::reader::Reader;
use super::scalars::{HostPort, host_port, ipv4, network};
use super::{Network, Port, Project, Wires};
use crate::finding::Finding;
use crate::nearest::nearest;
use crate::protocol::{DIALECTS, Dialect, KeyKind, Setup, dialect};
use crate::source::{Span, Spanned};

pub(super) fn protocol(r: &mut Reader<'_>, fields: &Fields<'_, '_>) -> Option<Spanned<&'static dyn Dialect>> {
    let text = fields.text(r, "protocol")?;
    if let Some(value) = dialect(&text.value) {
        return Some(Spanned { value, span: text.span });
    }
    let near = nearest(&text.value, DIALECTS.iter().map(|dialect| dialect.name()));
    let names: Vec<String> = DIALECTS.iter().map(|dialect| dialect.name().to_string()).collect();
    let fix = near.map_or_else(|| super::asked::list_or(&names), |near| format!("`{near}`"));
    r.find(
        Finding::new("F05", text.span, format!("there is no protocol `{}`", text.value))
            .fix(format!("write {fix}")),
    );
    None
}

pub(super) fn read_port(r: &mut Reader<'_>, name: Spanned<String>, fields: &Fields<'_, '_>) -> Port {
    let kinds = ["serial", "listen", "connect", "pty", "network", "ethernet"];
    // Where its protocol has one usual TCP port, an address alone means that.
    let usual = fields.text(r, "protocol").and_then(|name| dialect(&name.value)?.framing().usual_tcp_port());
    let socket = |text: &str| match (ipv4(text), usual) {
        (Ok(host), Some(port)) => Ok(HostPort { host, port }),
        _ => host_port(text),
    };
    let written: Vec<&str> = kinds.into_iter().filter(|kind| fields.has(kind)).collect();
    let wires = match written.as_slice() {
        ["serial"] => {
            let line = fields.line(r, "line");
            if !fields.has("line") {
                let what = format!("serial port `{}` has no line settings", name.value);
                r.find(
                    Finding::new("M18", name.span, what).fix("add `line`, such as `line = \"38400 8E1\"`"),
                );
            }
            let path = fields.text(r, "serial");
            path.map(|path| Wires::Serial { path, line, wiring: fields.text(r, "wiring") })
        }
        ["listen"] => fields.parsed(r, "listen", "M29", socket).map(|at| Wires::Listen { at }),
        ["connect"] => fields.parsed(r, "connect", "M29", socket).map(|to| Wires::Connect { to }),
        ["pty"] => fields.text(r, "pty").map(|path| Wires::Pty { path }),
        ["network"] => fields.parsed(r, "network", "M29", ipv4).map(|at| Wires::Network { at }),
        ["ethernet"] => interface(r, fields).map(|interface| Wires::Ethernet { interface }),
        [] => {
            let what = format!("port `{}` has no wires", name.value);
            r.find(
                Finding::new("F04", name.span, what)
                    .fix("add `serial` or `pty` with a path, `listen` or `connect` with HOST:PORT, `network` with our address, or `ethernet` with an interface"),
            );
            None
        }
        [first, rest @ ..] => {
            let second = rest.first().unwrap_or(first);
            let what = format!("port `{}` has both `{first}` and `{second}`", name.value);
            let place = fields.value_span(r, second).unwrap_or(name.span);
            r.find(Finding::new("F04", place, what).fix("keep one of them; make two ports of it"));
            None
        }
    };
    let speaks = protocol(r, fields);
    if !fields.has("protocol") {
        let what = format!("port `{}` has no `protocol`", name.value);
        let names: Vec<&str> = DIALECTS.iter().map(|dialect| dialect.name()).collect();
        r.find(Finding::new("F04", name.span, what).fix(format!("add `protocol`: {}", names.join(" or "))));
    }
    let no_retries = speaks.and_then(|protocol| protocol.value.requests()?.no_retries());
    if let (Some(why), Some(at)) = (no_retries, fields.value_span(r, "retries")) {
        let what = format!("`retries` does nothing here: {why}");
        r.find(Finding::new("F02", at, what).fix("leave it out"));
    }
    let allow = networks(r, fields, "allow");
    let setup = setup(r, fields, "ports", speaks.map(|protocol| protocol.value));
    let settings = places_of(r, fields, &setup);
    Port {
        settings,
        setup,
        wires,
        protocol: speaks,
        frame_gap: fields.duration(r, "frame-gap"),
        timeout: fields.duration(r, "timeout").unwrap_or(Spanned { value: 1_000_000, span: name.span }),
        turnaround: fields.duration(r, "turnaround").map_or(100_000, |wait| wait.value),
        echo: fields.switch(r, "echo").unwrap_or(false),
        retries: fields.whole(r, "retries").map_or(0, |retries| retries.value),
        max_clients: fields.whole(r, "max-clients").map_or(24, |most| most.value),
        per_address: fields.whole(r, "max-clients-per-address"),
        allow,
        idle_timeout: fields.duration(r, "idle-timeout").map_or(60_000_000, |timeout| timeout.value),
        name,
    }
}

/// The longest name of an interface: that of Linux.
const INTERFACE_MAX: usize = 15;

/// The name of an interface.
fn interface(r: &mut Reader<'_>, fields: &Fields<'_, '_>) -> Option<Spanned<String>> {
    let own = fields.text(r, "ethernet")?;
    let plain = |letter: char| letter.is_ascii_graphic() && letter != '/';
    if own.value.is_empty() || own.value.len() > INTERFACE_MAX || !own.value.chars().all(plain) {
        let what = format!("`{}` is not the name of an Ethernet interface", own.value);
        r.find(Finding::new("F03", own.span, what).fix("write it as `ip link` shows it, such as `eth1`"));
    }
    Some(own)
}

/// Where each key of a setup stands.
pub(super) fn places_of(r: &Reader<'_>, fields: &Fields<'_, '_>, setup: &Setup) -> Vec<(&'static str, Span)> {
    let words = setup.words.iter().map(|(key, _)| *key);
    let keys =
        words.chain(setup.numbers.iter().map(|(key, _)| *key)).chain(setup.rows.iter().map(|(key, _)| *key));
    keys.filter_map(|key| Some((key, fields.value_span(r, key)?))).collect()
}

/// A list of networks or addresses.
pub(super) fn networks(
    r: &mut Reader<'_>,
    fields: &Fields<'_, '_>,
    key: &str,
) -> Option<Spanned<Vec<Spanned<Network>>>> {
    let span = fields.value_span(r, key)?;
    let mut value = vec![];
    for text in fields.texts(r, key) {
        match network(&text.value) {
            Ok(network) => value.push(Spanned { value: network, span: text.span }),
            Err(why) => r.find(Finding::new("M29", text.span, why)),
        }
    }
    Some(Spanned { value, span })
}

/// The keys that dialects add to a table. One of another protocol than is used there does nothing, and is told.
pub(super) fn setup(
    r: &mut Reader<'_>,
    fields: &Fields<'_, '_>,
    table: &str,
    speaks: Option<&'static dyn Dialect>,
) -> Setup {
    let mut setup = Setup::default();
    let of = |dialect: &&'static dyn Dialect| dialect.keys().iter().filter(|key| key.table == table);
    for key in DIALECTS.iter().flat_map(of) {
        if let Some(speaks) = speaks.filter(|speaks| !of(speaks).any(|own| own.name == key.name)) {
            let Some(span) = fields.value_span(r, key.name) else { continue };
            let owner = DIALECTS.iter().find(|dialect| of(dialect).any(|own| own.name == key.name));
            let owner = owner.map_or("", |dialect| dialect.family());
            let what = format!("`{}` is a key of {owner}, and here is {}", key.name, speaks.name());
            if !r.findings.iter().any(|finding| finding.rule.code == "F02" && finding.span == span) {
                r.find(Finding::new("F02", span, what).fix("leave it out, or correct the protocol"));
            }
            continue;
        }
        match key.kind {
            KeyKind::Choice(words) => {
                let word = fields.text(r, key.name).filter(|word| words.contains(&word.value.as_str()));
                if let Some(word) = word.filter(|_| setup.word(key.name).is_none()) {
                    setup.words.push((key.name, word.value));
                }
            }
            KeyKind::Text => {
                if let Some(word) = fields.text(r, key.name).filter(|_| setup.word(key.name).is_none()) {
                    setup.words.push((key.name, word.value));
                }
            }
            KeyKind::Row(group) if setup.row(key.name).is_none() && fields.is_table(key.name) => {
                if let Some(own) = fields.table(r, key.name, group, key.name) {
                    let own = self::setup(r, &own, group, None);
                    setup.rows.push((key.name, own));
                }
            }
            KeyKind::Rows(group) if setup.row(key.name).is_none() && fields.listed_len(key.name) > 0 => {
                for own in fields.listed(r, key.name, group, key.name) {
                    let own = self::setup(r, &own, group, None);
                    setup.rows.push((key.name, own));
                }
            }
            KeyKind::Row(_) | KeyKind::Rows(_) => {}
            KeyKind::Switch => {
                let on = fields.switch(r, key.name).filter(|_| setup.number(key.name).is_none());
                setup.numbers.extend(on.map(|on| (key.name, on.into())));
            }
            KeyKind::Duration => {
                let wait = fields.duration(r, key.name).filter(|_| setup.number(key.name).is_none());
                let micros = wait.map(|wait| u32::try_from(wait.value).unwrap_or(u32::MAX));
                setup.numbers.extend(micros.map(|micros| (key.name, micros)));
            }
            _ => {
                let most = if let KeyKind::Station { high, .. } = key.kind { high } else { i64::MAX };
                let number = fields.whole(r, key.name).filter(|number| i64::from(number.value) <= most);
                let number = number.filter(|_| setup.number(key.name).is_none());
                setup.numbers.extend(number.map(|number| (key.name, number.value)));
            }
        }
    }
    setup
}

/// A device that brings its own connection or line: a port of the device's name.
pub(super) fn own_port(
    r: &mut Reader<'_>,
    project: &mut Project,
    name: &Spanned<String>,
    fields: &Fields<'_, '_>,
) -> Option<Spanned<usize>> {
    if fields.has("port") {
        let place = fields.value_span(r, "port").unwrap_or(name.span);
        let what = format!("`{}` has a port and brings wires of its own", name.value);
        r.find(Finding::new("F04", place, what).fix("keep one of `port`, `connect` and `serial`"));
        return None;
    }
    if let Some(other) = project.port(&name.value).and_then(|port| project.ports.get(port)) {
        let what = format!("`{}` brings wires of its own, and a port is called so already", name.value);
        r.find(Finding::new("F06", name.span, what).note(other.name.span, "the port"));
        return None;
    }
    let port = read_port(r, name.clone(), fields);
    project.ports.push(port);
    Some(Spanned { value: project.ports.len() - 1, span: name.span })
}
