//! What people say to a running bench: `set`, `get`, `cut`, `mend`, … in words, answered in rows.

use super::line::LinePlace;
use super::{Bus, Change, Rig, SimDevice};
use crate::control::{ControlAnswer, Row};
use std::net::Ipv4Addr;
use std::sync::PoisonError;
use woodrush_core::project::{
    Changes, FAULTS, Fault, FaultKind, FaultNumber, FaultValue, LineFaults, Owner, Takes,
};
use woodrush_core::protocol::refusal_shown;

/// Whose cells a person means.
#[derive(Debug, Clone, Copy)]
enum SimName {
    Device(usize),
    Client(usize),
}

impl Rig {
    /// Carries out a command given as words, such as `set do-1.oxygen=9.1`.
    #[must_use]
    pub fn command(&self, verb: &str, words: &[String]) -> ControlAnswer {
        ControlAnswer::of(match verb {
            "set" => self.set(words),
            "get" => self.get(words),
            "mend" => self.mend(words),
            "status" => Ok((String::new(), self.status())),
            "lines" => Ok((String::new(), self.line_rows())),
            "serving" => self.serving(words),
            _ => match FAULTS.iter().find(|kind| kind.word() == verb) {
                Some(kind) => self.fault(kind, words),
                None => Err(format!("the rig has no command `{verb}`")),
            },
        })
    }

    fn fault(&self, kind: &FaultKind, words: &[String]) -> Result<(String, Vec<Row>), String> {
        if let (false, Some((name, rest))) = (kind.is_of_line(), words.split_first())
            && self.checked.project.device(name).is_none()
            && let Some(port) = self.checked.project.port(name)
        {
            return self
                .fault_of_line(kind, port, rest)
                .unwrap_or_else(|| Err(format!("no device is on {name} ({})", self.names(false))));
        }
        let fault = Fault::parse(kind.word(), &words.join(" "))?;
        if let Some(why) = fault.unfit(&self.checked.project) {
            return Err(why);
        }
        if self.place_of(&fault).is_none() && !self.is_on_network(&fault) {
            return Err(self.nothing_called(&fault.place, &self.names(kind.is_of_line())));
        }
        self.apply(&fault)?;
        let dialect = self.checked.project.device(&fault.place);
        let dialect = dialect.and_then(|device| self.checked.plan.devices.get(device)?.dialect);
        let code = |code| dialect.map(|own| refusal_shown((own.refusals().name, code)));
        let value = fault.name.clone().unwrap_or_else(|| told(kind, fault.value, code));
        Ok((format!("{} {}", fault.place, kind.says.replace("{}", &value)), vec![]))
    }

    /// That nothing here has a name, or not yet.
    fn nothing_called(&self, name: &str, names: &str) -> String {
        let client = self.checked.project.client(name).and_then(|at| self.checked.project.clients.get(at));
        match client.and_then(|client| client.image.as_ref()) {
            Some(image) if self.checked.plan.link_of(Owner::Image(image.value)).is_some() => {
                format!("`{name}` begins when a converter does: start `woodrush run --rig` first")
            }
            _ => format!("nothing on this rig is called `{name}` ({names})"),
        }
    }

    /// What is said of a line where a device is meant, is said of each device on it.
    fn fault_of_line(
        &self,
        kind: &FaultKind,
        port: usize,
        rest: &[String],
    ) -> Option<Result<(String, Vec<Row>), String>> {
        let here = self.checked.project.devices.iter().filter(|device| device.is_on(port));
        let each = here.map(|device| {
            let words: Vec<String> =
                [device.name.value.clone()].into_iter().chain(rest.iter().cloned()).collect();
            self.fault(kind, &words).map(|(said, _)| said)
        });
        match each.collect::<Result<Vec<String>, String>>() {
            Ok(said) if said.is_empty() => None,
            Ok(said) => Some(Ok((said.join("\n"), vec![]))),
            Err(why) => Some(Err(why)),
        }
    }

    /// The names of all lines, or of all devices.
    fn names(&self, lines: bool) -> String {
        let project = &self.checked.project;
        let (what, names): (&str, Vec<&str>) = if lines {
            let here = self.lines.iter().map(|line| line.port);
            let here = here.chain(self.networks.iter().map(|network| network.port));
            ("lines", here.filter_map(|port| Some(project.ports.get(port)?.name.value.as_str())).collect())
        } else {
            ("devices", project.devices.iter().map(|device| device.name.value.as_str()).collect())
        };
        format!("its {what} are {}", names.join(", "))
    }

    /// Splits `do-1.oxygen` or `do-1:400050` into the device, or the controller, and the rest.
    fn sim_and_rest<'t>(&self, text: &'t str) -> Result<(SimName, &'t str), String> {
        let (name, rest) = text.split_once(['.', ':']).unwrap_or((text, ""));
        if let Some(device) = self.checked.project.device(name) {
            return Ok((SimName::Device(device), rest));
        }
        let client = self.checked.project.client(name).map(SimName::Client);
        let client = client.filter(|client| self.with_sim(*client, |_, _| ()).is_some());
        let none = || format!("there is no device `{name}` ({})", self.names(false));
        Ok((client.ok_or_else(none)?, rest))
    }

    /// Does something with a device or a controller; it gets the index of the device in the project.
    fn with_sim<T>(&self, whom: SimName, act: impl FnOnce(&mut SimDevice, usize) -> T) -> Option<T> {
        match whom {
            SimName::Device(device) => self.with_device(device, |sim| act(sim, device)),
            // A controller has no points.
            SimName::Client(client) => self.with_client(client, |sim| act(sim, usize::MAX)),
        }
    }

    fn set(&self, words: &[String]) -> Result<(String, Vec<Row>), String> {
        let text = words.join(" ");
        let usage = "write `set DEVICE.POINT=VALUE` or `set DEVICE:ADDRESS=VALUE`";
        let (target, value) = text.split_once('=').ok_or(usage)?;
        let (device, rest) = self.sim_and_rest(target.trim())?;
        let set = self.with_sim(device, |sim, index| {
            let spot = sim.find(&self.checked, index, rest)?;
            sim.set(&spot, value.trim())?;
            sim.get(&spot, self.now()).ok_or_else(|| "it cannot be read back".to_string())
        });
        let (value, raw) = set.ok_or("the device is not on this rig")??;
        let row = Row { name: target.trim().into(), value: value.clone(), detail: raw };
        Ok((format!("{} is {value} now", target.trim()), vec![row]))
    }

    fn get(&self, words: &[String]) -> Result<(String, Vec<Row>), String> {
        let mut rows = vec![];
        for word in words {
            let (device, rest) = self.sim_and_rest(word)?;
            if let (SimName::Device(device), true) = (device, rest.is_empty()) {
                rows.extend(self.points(device));
                continue;
            }
            let got = self.with_sim(device, |sim, index| {
                let spot = sim.find(&self.checked, index, rest)?;
                sim.get(&spot, self.now()).ok_or_else(|| format!("`{word}` does not exist in the device"))
            });
            let (value, raw) = got.ok_or("the device is not on this rig")??;
            rows.push(Row { name: word.clone(), value, detail: raw });
        }
        if rows.is_empty() {
            return Err("write `get DEVICE`, `get DEVICE.POINT` or `get DEVICE:ADDRESS`".into());
        }
        Ok((String::new(), rows))
    }

    fn points(&self, device: usize) -> Vec<Row> {
        let project = &self.checked.project;
        let (Some(profile), Some(own)) = (project.profile_of(device), project.devices.get(device)) else {
            return vec![];
        };
        let row = |point: &woodrush_core::project::Point| {
            let name = &point.name.value;
            let got = self.with_device(device, |sim| {
                let spot = sim.find(&self.checked, device, name).ok()?;
                sim.get(&spot, self.now())
            });
            let (value, raw) = got.flatten()?;
            let value = [Some(value), point.eu.clone()].into_iter().flatten().collect::<Vec<_>>().join(" ");
            Some(Row { name: format!("{}.{name}", own.name.value), value, detail: raw })
        };
        profile.points.iter().filter_map(row).collect()
    }

    fn mend(&self, words: &[String]) -> Result<(String, Vec<Row>), String> {
        let project = &self.checked.project;
        if words.is_empty() || words == ["all"] {
            for line in &self.lines {
                self.mend_line(line.port);
            }
            for network in &self.networks {
                self.mend_network(network.port);
            }
            return Ok(("all faults are undone".into(), vec![]));
        }
        for word in words {
            if self.mend_on_network(word) {
                continue;
            }
            let port = project.port(word).filter(|port| self.lines.iter().any(|line| line.port == *port));
            let seat = project.device(word).and_then(|device| self.seat(device));
            match (port, seat) {
                (Some(port), _) => self.mend_line(port),
                (None, Some(seat)) => {
                    if let Some(line) = self.lines.get(seat.line) {
                        let mut bus = line.bus();
                        mend_device(&mut bus, seat.place);
                    }
                }
                (None, None) => {
                    let names = format!("{}; {}", self.names(true), self.names(false));
                    return Err(self.nothing_called(word, &names));
                }
            }
        }
        Ok((format!("{}: faults undone", words.join(", ")), vec![]))
    }

    fn mend_line(&self, port: usize) {
        let Some(line) = self.lines.iter().find(|line| line.port == port) else { return };
        let mut bus = line.bus();
        for kind in FAULTS.into_iter().filter(|kind| kind.is_of_line()) {
            bus.change(Change::end(kind, 0));
        }
        for place in 0..bus.devices.len() {
            mend_device(&mut bus, place);
        }
        drop(bus);
        line.changed();
    }

    fn line_rows(&self) -> Vec<Row> {
        let project = &self.checked.project;
        let row = |line: &super::line::RigLine| {
            let port = project.ports.get(line.port)?;
            let detail = port.line().map(|line| line.value.to_string()).unwrap_or_default();
            let value = match &line.place {
                LinePlace::Path(path) => path.display().to_string(),
                LinePlace::Socket(at) => at.to_string(),
            };
            Some(Row { name: port.name.value.clone(), value, detail })
        };
        let ends =
            self.masters.iter().filter_map(|master| {
                let port = project.ports.get(master.port)?;
                let path = master.serial().or(master.pty()).map(|path| path.display().to_string());
                let value = path.or(master.socket().map(|at| at.to_string()))?;
                let raw =
                    self.checked.plan.forwards.iter().any(|forward| {
                        forward.raw && (forward.from == master.port || forward.to == master.port)
                    });
                let detail = if raw { "bytes pass unread" } else { "clients ask here" };
                Some(Row { name: port.name.value.clone(), value, detail: detail.into() })
            });
        let networks = self.networks.iter().filter_map(|network| {
            let port = project.ports.get(network.port)?;
            let stations = self.stations_of(network);
            let one = |(own, real): &(Ipv4Addr, Ipv4Addr)| match own == real {
                true => own.to_string(),
                false => format!("{own} at {real}"),
            };
            let detail = stations.iter().map(one).collect::<Vec<_>>().join(", ");
            Some(Row { name: port.name.value.clone(), value: network.ground.to_string(), detail })
        });
        self.lines.iter().filter_map(row).chain(ends).chain(networks).collect()
    }

    fn status(&self) -> Vec<Row> {
        let mut rows = self.line_rows();
        for (row, line) in rows.iter_mut().zip(&self.lines) {
            let bus = line.bus();
            let LineFaults { cut, unplugged, noise, closed, no_master } = bus.faults();
            let more = [
                bus.opener.map(|opener| format!("opened with {opener}")),
                cut.then(|| "CUT".into()),
                unplugged.then(|| "UNPLUGGED".into()),
                closed.then(|| "CLOSED".into()),
                no_master.then(|| "NO LINK ACTIVE SCHEDULER".into()),
                (noise > 0.0).then(|| format!("noise {noise}")),
            ];
            let own = (!row.detail.is_empty()).then(|| std::mem::take(&mut row.detail));
            row.detail = own.into_iter().chain(more.into_iter().flatten()).collect::<Vec<_>>().join(", ");
        }
        for device in 0..self.checked.project.devices.len() {
            rows.extend(self.device_row(device));
        }
        rows.extend(self.controller_rows());
        for state in self.client_states() {
            let detail = format!("{} answered, {} refused; {}", state.answers, state.refused, state.last);
            rows.push(Row { name: state.client, value: state.read, detail });
        }
        rows
    }

    /// The controllers that exchange blocks, and what each sees of its connection.
    fn controller_rows(&self) -> Vec<Row> {
        let none = self.no_controllers.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let why = none.map(|why| Row { name: "controllers".into(), value: String::new(), detail: why });
        let row = |station: &super::network::NetStation| {
            let (sim, seen) = (station.sim(), station.seen());
            let state = match (seen.online, &seen.refused) {
                (true, None) => format!("connected, {} frames came", seen.frames),
                (true, Some(why)) => format!("connected, {} frames came, refused: {why}", seen.frames),
                (false, Some(why)) => format!("refused: {why}"),
                (false, None) => "not connected".to_string(),
            };
            let ails = ailments(&sim);
            let detail = if ails.is_empty() { state } else { format!("{state}; {}", ails.join(", ")) };
            Row { name: sim.name.clone(), value: station.address.to_string(), detail }
        };
        self.controllers().iter().map(row).chain(why).collect()
    }

    fn device_row(&self, device: usize) -> Option<Row> {
        self.with_device(device, |sim| {
            let own = sim.station.dialect.and_then(|dialect| {
                let (key, _) = dialect.stations().station_key(woodrush_core::protocol::Transport::Serial)?;
                Some(format!("{key} {}", sim.station.id()?))
            });
            let ails = ailments(sim);
            let detail = if ails.is_empty() { "online".into() } else { ails.join(", ") };
            Row { name: sim.name.clone(), value: own.unwrap_or_default(), detail }
        })
    }

    /// A converter says where it serves: `PORT=ADDRESS` each; the clients of the project dial there.
    fn serving(&self, words: &[String]) -> Result<(String, Vec<Row>), String> {
        let mut listening = vec![];
        for word in words {
            let (name, address) = word.split_once('=').ok_or("write `serving PORT=ADDRESS`")?;
            let port = self.checked.project.port(name).ok_or_else(|| format!("there is no port `{name}`"))?;
            listening
                .push((port, address.parse().map_err(|_| format!("`{address}` is not a socket address"))?));
        }
        self.serve_clients(&listening);
        Ok(("the clients of the project dial there".into(), vec![]))
    }
}

/// What is wrong with a simulated device or controller, in words.
fn ailments(sim: &SimDevice) -> Vec<String> {
    let ailment = sim.ailment();
    let code = |code: u32| Some((sim.station.dialect?.refusals().shown)(code));
    let shown = |kind: &&FaultKind| {
        let Changes::Device(_, get) = kind.changes else { return None };
        let value = match get(&ailment)? {
            FaultValue::Space(space) => {
                let (dialect, own) = (sim.station.dialect?, sim.station.space_at(space)?);
                dialect.notation().show(own, 0, 1, None, &sim.station.setup).canonical
            }
            value => told(kind, value, code),
        };
        Some(kind.shown.replace("{}", &value))
    };
    FAULTS.iter().filter_map(shown).collect()
}

/// Takes every fault from a device.
fn mend_device(bus: &mut Bus, place: usize) {
    for kind in FAULTS.into_iter().filter(|kind| !kind.is_of_line()) {
        bus.change(Change::end(kind, place));
    }
}

/// What a fault takes, as its kind's words have it; `code` shows a number of the device's protocol.
fn told(kind: &FaultKind, value: FaultValue, code: impl Fn(u32) -> Option<String>) -> String {
    let own = match (value, kind.takes) {
        (FaultValue::Number(own), Takes::Number(FaultNumber::Exception | FaultNumber::Status)) => {
            code(own.into())
        }
        (FaultValue::Number(own), Takes::Number(FaultNumber::Node)) => Some(format!("0x{own:02X}")),
        _ => None,
    };
    own.unwrap_or_else(|| value.shown())
}
