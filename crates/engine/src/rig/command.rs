//! What people say to a running bench: `set`, `get`, `cut`, `mend`, … in words, answered in rows.

use super::line::LinePlace;
use super::{Bus, Change, Rig};
use crate::control::{ControlAnswer, Row};
use woodrush_core::project::{Noun, Trouble};
use woodrush_core::protocol::refusal_shown;

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
            _ if Trouble::KINDS.iter().any(|(kind, ..)| *kind == verb) => self.trouble(verb, words),
            _ => Err(format!("the rig has no command `{verb}`")),
        })
    }

    fn trouble(&self, verb: &str, words: &[String]) -> Result<(String, Vec<Row>), String> {
        let about = Trouble::KINDS.iter().find(|(kind, ..)| *kind == verb).map(|(_, noun, _)| *noun);
        if let (Some(Noun::Device), Some((name, rest))) = (about, words.split_first())
            && self.checked.project.device(name).is_none()
            && let Some(port) = self.checked.project.port(name)
        {
            return self
                .trouble_of_line(verb, port, rest)
                .unwrap_or_else(|| Err(format!("no device hangs on {name} ({})", self.names(Noun::Device))));
        }
        let text = words.join(" ");
        let trouble = Trouble::parse(verb, &text)?;
        if let Some(why) = trouble.unfit(&self.checked.project) {
            return Err(why);
        }
        self.apply(&trouble).map_err(|why| format!("{why} ({})", self.names(trouble.place().0)))?;
        let done = match trouble {
            Trouble::Cut(name) => format!("{name} is cut: bytes stop both ways, nothing closes"),
            Trouble::Mute(name) => format!("{name} no longer answers"),
            Trouble::Slow(name, by) => {
                format!("{name} answers {} later", woodrush_core::project::show_micros(by))
            }
            Trouble::Refuse(name, code) => {
                let plan = &self.checked.plan;
                let own =
                    self.checked.project.device(&name).and_then(|device| plan.devices.get(device)?.dialect);
                let shown = own.map(|dialect| refusal_shown((dialect.refusal_name(), code.into())));
                format!("{name} answers every request with {}", shown.unwrap_or_else(|| code.to_string()))
            }
            Trouble::Noise(name, share) => format!("{} in 1000 bytes on {name} are damaged", share * 1000.0),
            Trouble::Unplug(name) => format!("{name} is unplugged: its adapter or connection is gone"),
            Trouble::Late(name) => format!("{name} answers after the timeout"),
            Trouble::Twice(name) => format!("{name} sends each answer twice"),
            Trouble::Short(name) => format!("{name} ends its answers too early"),
            Trouble::DropAck(name) => {
                format!("{name} loses the first acknowledgement of each message")
            }
            Trouble::AsUnit(name, unit) => format!("{name} answers as unit {unit}"),
        };
        Ok((done, vec![]))
    }

    /// What is said of a line where a device is meant, is said of each device on it.
    fn trouble_of_line(
        &self,
        verb: &str,
        port: usize,
        rest: &[String],
    ) -> Option<Result<(String, Vec<Row>), String>> {
        let here = self.checked.project.devices.iter().filter(|device| device.is_on(port));
        let each = here.map(|device| {
            let words: Vec<String> =
                [device.name.value.clone()].into_iter().chain(rest.iter().cloned()).collect();
            self.trouble(verb, &words).map(|(said, _)| said)
        });
        match each.collect::<Result<Vec<String>, String>>() {
            Ok(said) if said.is_empty() => None,
            Ok(said) => Some(Ok((said.join("\n"), vec![]))),
            Err(why) => Some(Err(why)),
        }
    }

    fn names(&self, noun: Noun) -> String {
        let project = &self.checked.project;
        let (what, names): (&str, Vec<&str>) = match noun {
            Noun::Device => {
                ("devices", project.devices.iter().map(|device| device.name.value.as_str()).collect())
            }
            Noun::Port => (
                "lines",
                self.lines
                    .iter()
                    .filter_map(|line| Some(project.ports.get(line.port)?.name.value.as_str()))
                    .collect(),
            ),
        };
        format!("its {what} are {}", names.join(", "))
    }

    /// Splits `do-1.oxygen` or `do-1:400050` into the device and the rest.
    fn device_and_rest<'t>(&self, text: &'t str) -> Result<(usize, &'t str), String> {
        let (name, rest) = text.split_once(['.', ':']).unwrap_or((text, ""));
        let device = self
            .checked
            .project
            .device(name)
            .ok_or_else(|| format!("there is no device `{name}` ({})", self.names(Noun::Device)))?;
        Ok((device, rest))
    }

    fn set(&self, words: &[String]) -> Result<(String, Vec<Row>), String> {
        let text = words.join(" ");
        let usage = "write `set DEVICE.POINT=VALUE` or `set DEVICE:ADDRESS=VALUE`";
        let (target, value) = text.split_once('=').ok_or(usage)?;
        let (device, rest) = self.device_and_rest(target.trim())?;
        let set = self.with_device(device, |sim| {
            let spot = sim.find(&self.checked, device, rest)?;
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
            let (device, rest) = self.device_and_rest(word)?;
            if rest.is_empty() {
                rows.extend(self.points(device));
                continue;
            }
            let got = self.with_device(device, |sim| {
                let spot = sim.find(&self.checked, device, rest)?;
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
            return Ok(("all faults are undone".into(), vec![]));
        }
        for word in words {
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
                    let (lines, devices) = (self.names(Noun::Port), self.names(Noun::Device));
                    return Err(format!("nothing on this rig is called `{word}` ({lines}; {devices})"));
                }
            }
        }
        Ok((format!("{}: faults undone", words.join(", ")), vec![]))
    }

    fn mend_line(&self, port: usize) {
        let Some(line) = self.lines.iter().find(|line| line.port == port) else { return };
        let mut bus = line.bus();
        bus.change(Change::Cut(false));
        bus.change(Change::Noise(0.0));
        bus.change(Change::Unplug(false));
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
        self.lines.iter().filter_map(row).chain(ends).collect()
    }

    fn status(&self) -> Vec<Row> {
        let mut rows = self.line_rows();
        for (row, line) in rows.iter_mut().zip(&self.lines) {
            let bus = line.bus();
            let (cut, noise) = bus.faults();
            if let Some(opener) = bus.opener {
                row.detail += &format!(", opened with {opener}");
            }
            if cut {
                row.detail += ", CUT";
            }
            if bus.unplugged {
                row.detail += ", UNPLUGGED";
            }
            if noise > 0.0 {
                row.detail += &format!(", noise {noise}");
            }
        }
        for device in 0..self.checked.project.devices.len() {
            rows.extend(self.device_row(device));
        }
        for state in self.client_states() {
            let detail = format!("{} answered, {} refused; {}", state.answers, state.refused, state.last);
            rows.push(Row { name: state.client, value: state.read, detail });
        }
        rows
    }

    fn device_row(&self, device: usize) -> Option<Row> {
        self.with_device(device, |sim| {
            let own = sim.station.dialect.and_then(|dialect| {
                let (key, _) = dialect.station_key(woodrush_core::protocol::Transport::Serial)?;
                Some(format!("{key} {}", dialect.station(&sim.station.setup)?))
            });
            let ailment = sim.ailment();
            let code = |code: u8| match sim.station.dialect {
                Some(dialect) => dialect.refusal_text(code.into()),
                None => code.to_string(),
            };
            let mut ails = vec![];
            ails.extend(ailment.mute.then(|| "mute".to_string()));
            let slow = || format!("slow {}", woodrush_core::project::show_micros(ailment.slow));
            ails.extend((ailment.slow > 0).then(slow));
            ails.extend(ailment.refuse.map(|own| format!("refuses with {}", code(own))));
            ails.extend(ailment.late.then(|| "late".to_string()));
            ails.extend(ailment.twice.then(|| "twice".to_string()));
            ails.extend(ailment.short.then(|| "short".to_string()));
            ails.extend(ailment.drop_ack.then(|| "its acknowledgements get lost".to_string()));
            ails.extend(ailment.as_unit.map(|unit| format!("answers as unit {unit}")));
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

/// Takes every fault from a device.
fn mend_device(bus: &mut Bus, place: usize) {
    let well = [
        Change::Mute(place, false),
        Change::Slow(place, 0),
        Change::Refuse(place, None),
        Change::Late(place, false),
        Change::Twice(place, false),
        Change::Short(place, false),
        Change::AsUnit(place, None),
        Change::DropAck(place, false),
    ];
    well.into_iter().for_each(|change| bus.change(change));
}
