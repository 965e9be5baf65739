//! From what a user names to a device that can be reached: over the project's ports, the rig's, through a running
//! converter, or over a connection that is written on the command line.

mod bare;
mod failed;
mod field;
mod frames;

use crate::Failure;
use crate::args::{ConnectionArgs, Global};
use bare::bare_way;
pub(crate) use failed::Failed;
use failed::held;
pub(crate) use field::Field;
use std::net::{Ipv4Addr, SocketAddr};
use std::path::PathBuf;
use woodrush_core::Refusal;
use woodrush_core::budget::LineTime;
use woodrush_core::check::Checked;
use woodrush_core::finding::Finding;
use woodrush_core::plan::Station;
use woodrush_core::project::{Line, Network, Owner, Parity, Port, Wires, micros};
use woodrush_core::wanted::Wanted;
use woodrush_engine::control::{Remote, Row, Whose};
use woodrush_engine::direct::{Direct, DirectAnswer, Link, diagnose, unopened};

/// How a virtual serial port is opened: it has no speed of its own.
const PTY_LINE: Line = Line { baud: 115_200, data: 8, parity: Parity::None, stop: 1 };
/// Default timeout, in microseconds.
const TIMEOUT: u64 = 1_000_000;

/// Everything that can be asked, opened when it is asked first.
pub(crate) struct Connections {
    project: Option<Project>,
    bare: Option<Bare>,
    open: Vec<OpenConnection>,
    timeout: Option<u64>,
    rig: bool,
}

struct Project {
    checked: Checked,
    /// A converter of this project runs here: what it serves where.
    running: Option<(Remote, Vec<Row>)>,
    rig: Remote,
}

struct Bare {
    /// The running converter that has the port, and its name there.
    held: Option<(Remote, String)>,
    link: Link,
    station: Station,
    line: LineTime,
}

/// The port of the project, `None` for the way that is written on the command line; whether an image is asked there; and
/// where stations have addresses of their own, that.
type ConnectionKey = (Option<usize>, bool, Option<Ipv4Addr>);

struct OpenConnection {
    key: ConnectionKey,
    reach: Direct,
    link: Option<Link>,
}

fn usage(text: impl Into<String>) -> Failure {
    Failure::Usage(text.into())
}

/// The timeout that was given, in microseconds.
fn timeout(args: &ConnectionArgs) -> Result<Option<u64>, Failure> {
    let Some(text) = &args.timeout else { return Ok(None) };
    let time = micros(text).filter(|time| *time > 0);
    time.map(Some).ok_or_else(|| usage(format!("`{text}` is not a time (write it as 500ms or 2s)")))
}

/// A fault in what was typed, with its code and mend.
pub(crate) fn fault(finding: &Finding) -> Failure {
    let fix = if finding.fix.is_empty() { String::new() } else { format!(" ({})", finding.fix) };
    usage(format!("{} {}{fix}", finding.rule.code, finding.what))
}

/// A serial line that is written on the command line: the way, who is there, and its times.
pub(crate) fn written(args: &ConnectionArgs) -> Result<(Link, Station, LineTime), Failure> {
    let Bare { link, station, line, .. } = bare_way(args, None, None)?;
    Ok((link, station, line))
}

/// The places of a device without points that the rules use, as they are written there.
fn used_of(checked: &Checked, device: usize) -> Result<Vec<String>, Failure> {
    let project = &checked.project;
    let of_it = |end: &woodrush_core::Spanned<String>| {
        project
            .endpoint(end)
            .is_ok_and(|found| found.owner == Owner::Device(device) && !end.value.contains(".health."))
    };
    let mut places: Vec<String> = vec![];
    for map in project.maps.iter().filter(|map| map.enabled) {
        for end in [&map.from, &map.to].into_iter().filter(|end| of_it(end)) {
            let count = map.count.map_or(1, |count| count.value);
            let place = if count > 1 { format!("{} x{count}", end.value) } else { end.value.clone() };
            if !places.contains(&place) {
                places.push(place);
            }
        }
    }
    if places.is_empty() {
        let name = project.devices.get(device).map_or("", |device| device.name.value.as_str());
        return Err(usage(format!(
            "`{name}` has no profile, and no rule uses an address of it: write `{name}:ADDRESS`"
        )));
    }
    Ok(places)
}

impl Connections {
    /// Sorts what was typed where the first may be a port of the project, on which a station is asked that the project
    /// need not know.
    pub(crate) fn of_station<'t>(
        global: &Global,
        args: &ConnectionArgs,
        targets: &'t [String],
    ) -> Result<(Self, &'t [String]), Failure> {
        let Some((first, rest)) = targets.split_first().filter(|(first, _)| !first.contains([':', '.', ' ']))
        else {
            return Self::sort(global, args, targets);
        };
        if args.serial.is_some() {
            return Self::sort(global, args, targets);
        }
        let path = crate::project::find(global)?;
        let checked = crate::project::load(&path)?;
        let project = &checked.project;
        let other =
            project.device(first).is_some() || project.images.iter().any(|image| image.name.value == *first);
        match project.port(first).filter(|_| !other) {
            Some(port) => Self::of_port(args, path, checked, port).map(|connections| (connections, rest)),
            None => Self::sort(global, args, targets),
        }
    }

    /// Sorts what was typed: the way, and what is wanted there.
    pub(crate) fn sort<'t>(
        global: &Global,
        args: &ConnectionArgs,
        targets: &'t [String],
    ) -> Result<(Self, &'t [String]), Failure> {
        let socket: Option<SocketAddr> = targets.first().and_then(|first| first.parse().ok());
        let timeout = timeout(args)?;
        let mut connections = Self { project: None, bare: None, open: vec![], timeout, rig: args.rig };
        let bare = args.serial.is_some() || socket.is_some();
        if !bare {
            let path = crate::project::find(global)?;
            let checked = crate::project::load(&path)?;
            if let Some(key) = args.written().first() {
                let ports = checked.project.ports.iter().map(|port| port.name.value.as_str());
                let ports = ports.take(4).collect::<Vec<_>>().join(", ");
                return Err(usage(format!(
                    "`--{key}` belongs to a way that is written here: name a port of the project first ({ports}), HOST:PORT, or `--serial PATH`; a project's devices have their own"
                )));
            }
            let remote = Remote::of(Whose::Run, &path);
            let running = remote.say("where", &[]).ok().map(|answer| (remote, answer.rows));
            connections.project = Some(Project { checked, running, rig: Remote::of(Whose::Rig, &path) });
            return Ok((connections, targets));
        }
        if args.rig {
            return Err(usage("`--rig` goes with the project's own devices and images"));
        }
        if let (Some(_), Some(socket)) = (&args.serial, socket) {
            return Err(usage(format!("both `--serial` and {socket}: name one way")));
        }
        connections.bare = Some(bare_way(args, socket, timeout)?);
        Ok((connections, if socket.is_some() { targets.get(1..).unwrap_or_default() } else { targets }))
    }

    /// A port of the project, on which a station is asked that the project need not know.
    fn of_port(args: &ConnectionArgs, path: PathBuf, checked: Checked, port: usize) -> Result<Self, Failure> {
        let timeout = timeout(args)?;
        let line = ["line", "protocol", "echo"].into_iter().find(|key| args.written().contains(key));
        let name = checked.project.ports.get(port).map_or("", |port| port.name.value.as_str()).to_string();
        if let Some(key) = line {
            return Err(usage(format!("`--{key}`: the project sets it for `{name}`; leave it out")));
        }
        let remote = Remote::of(Whose::Run, &path);
        let running = remote.say("where", &[]).ok().map(|answer| (remote, answer.rows));
        let project = Some(Project { checked, running, rig: Remote::of(Whose::Rig, &path) });
        let mut connections = Self { project, bare: None, open: vec![], timeout, rig: args.rig };
        let Field { held, link, line, station, .. } = connections.field(Some(port)).map_err(|failed| {
            usage(format!(
                "{}: {}",
                failed.diagnosis.seen,
                failed.diagnosis.causes.first().map_or("", |cause| cause.what.as_str())
            ))
        })?;
        let spoken = station.dialect.ok_or_else(|| usage(format!("`{name}` has no protocol")))?;
        let setup = bare::setup(spoken, args)?.with(Some(&station.setup));
        let station = Station::bare(&name, spoken, setup);
        connections.bare = Some(Bare { held, link, station, line });
        Ok(connections)
    }

    /// Whether a converter of the project runs here.
    pub(crate) fn is_running(&self) -> bool {
        self.project.as_ref().is_some_and(|project| project.running.is_some())
    }

    /// The timeout that was given.
    pub(crate) fn timeout(&self) -> Option<u64> {
        self.timeout
    }

    pub(crate) fn checked(&self) -> Option<&Checked> {
        self.project.as_ref().map(|project| &project.checked)
    }

    /// Asks the running converter for its status, where one runs.
    pub(crate) fn status(&self) -> Option<woodrush_engine::monitor::Status> {
        let (remote, _) = self.project.as_ref()?.running.as_ref()?;
        serde_json::from_value(remote.say("status", &[]).ok()?.data?).ok()
    }

    /// What each text stands for; the name of a device alone stands for all of its points.
    pub(crate) fn wanted(&self, texts: &[String]) -> Result<Vec<Wanted>, Failure> {
        let mut found = vec![];
        for text in texts {
            if let Some(bare) = &self.bare {
                found.push(Wanted::bare(&bare.station, text).map_err(|finding| fault(&finding))?);
                continue;
            }
            let Some(Project { checked, .. }) = &self.project else { continue };
            let points = checked.project.device(text).and_then(|device| checked.project.profile_of(device));
            match points.filter(|profile| !profile.points.is_empty()) {
                Some(profile) => {
                    for point in &profile.points {
                        let named = format!("{text}.{}", point.name.value);
                        found.push(Wanted::of_project(checked, &named).map_err(|finding| fault(&finding))?);
                    }
                }
                None => match checked.project.device(text) {
                    Some(device) => {
                        for place in used_of(checked, device)? {
                            found.push(
                                Wanted::of_project(checked, &place).map_err(|finding| fault(&finding))?,
                            );
                        }
                    }
                    None => found.push(Wanted::of_project(checked, text).map_err(|finding| fault(&finding))?),
                },
            }
        }
        if found.is_empty() {
            return Err(usage(match &self.bare {
                Some(_) => "name an address, such as `400318 as f32 CDAB x2`",
                None => {
                    "name a point or an address, such as `DEVICE.POINT`, `DEVICE:400318` or `IMAGE:400001`"
                }
            }));
        }
        Ok(found)
    }

    /// Asks; opens the way first where that is needed.
    pub(crate) fn ask(
        &mut self,
        wanted: &Wanted,
        ask: impl FnOnce(&mut Direct, &Station) -> Result<DirectAnswer, Refusal>,
    ) -> Result<DirectAnswer, Failed> {
        let opened = self.reach(wanted)?;
        let answered = ask(&mut opened.reach, &wanted.station);
        let refusal = match answered {
            Ok(answer) => return Ok(answer),
            Err(refusal) => refusal,
        };
        let diagnosis = match &opened.link {
            Some(link) => diagnose(link, &wanted.station, &refusal, opened.reach.evidence()),
            None => held(&wanted.station, &refusal, opened.reach.evidence()),
        };
        let diagnosis = self.with_leg(wanted, diagnosis, &refusal);
        // A way on which nothing came back may be broken: the next one is a new one.
        if refusal.native.is_none() {
            self.forget(wanted);
        }
        Err(Failed { diagnosis, answered: refusal.native.is_some() })
    }

    fn key(&self, wanted: &Wanted) -> ConnectionKey {
        match (&self.project, wanted.owner) {
            _ if self.bare.is_some() => (None, false, None),
            (Some(_), Some(Owner::Image(_))) => (Some(wanted.station.port), true, None),
            // Each device of a network has a connection of its own.
            (Some(_), Some(_)) => (Some(wanted.station.port), false, wanted.station.network_address()),
            _ => (None, false, None),
        }
    }

    fn forget(&mut self, wanted: &Wanted) {
        let key = self.key(wanted);
        self.open.retain(|opened| opened.key != key);
    }

    fn reach(&mut self, wanted: &Wanted) -> Result<&mut OpenConnection, Failed> {
        let key = self.key(wanted);
        let known = self.open.iter().position(|opened| opened.key == key);
        let at = match known {
            Some(at) => at,
            None => {
                let (port, image, _) = key;
                let (reach, link) = self.open(wanted, port, image)?;
                self.open.push(OpenConnection { key, reach, link });
                self.open.len() - 1
            }
        };
        self.open.get_mut(at).ok_or_else(|| Failed::of("the way is lost", "try again"))
    }

    fn open(
        &self,
        wanted: &Wanted,
        port: Option<usize>,
        image: bool,
    ) -> Result<(Direct, Option<Link>), Failed> {
        let Some(port) = port else { return self.field(None)?.open(self) };
        if let (false, Some(address)) = (image, wanted.station.network_address()) {
            return self.network_device(port, address, &wanted.station);
        }
        if !image {
            let field = self.field(Some(port))?;
            return Field { station: wanted.station.clone(), ..field }.open(self);
        }
        let (project, settings) = self.port(port)?;
        let name = &settings.name.value;
        let line = self.times(settings);
        let asking = asking(&wanted.station);
        if let Some((_, rows)) = &project.running
            && let Some(to) = served(rows, name).and_then(|at| at.parse().ok())
        {
            return self.opened(&Link::Socket(loopback(to)), line, &asking);
        }
        let bench = self.bench(project, name)?;
        match &settings.wires {
            Some(Wires::Network { at }) => {
                let own = project.checked.project.converter.address.as_ref().map(|own| own.value.address);
                let host =
                    if at.value.is_unspecified() { own.unwrap_or(Ipv4Addr::LOCALHOST) } else { at.value };
                let host = bench.and_then(|own| own.parse().ok()).unwrap_or(host);
                self.opened(&Link::Socket(SocketAddr::from((host, messages(&asking)))), line, &asking)
            }
            Some(Wires::Listen { at }) => {
                let own = project.checked.project.converter.address.as_ref().map(|own| own.value.address);
                let everywhere = at.value.host.is_unspecified();
                let host = if everywhere { own.unwrap_or(Ipv4Addr::LOCALHOST) } else { at.value.host };
                self.opened(&Link::Socket(SocketAddr::from((host, at.value.port))), line, &asking)
            }
            Some(Wires::Pty { path }) => {
                let path = PathBuf::from(bench.unwrap_or_else(|| path.value.clone()));
                self.opened(
                    &Link::Serial { path, line: PTY_LINE, two_wires: false, echo: false },
                    line,
                    &asking,
                )
            }
            _ => Err(Failed::of(
                format!(
                    "image {} answers on port {name}, which another machine controls",
                    wanted.station.name
                ),
                "ask from there, or look at it with `woodrush status`",
            )),
        }
    }

    /// A device of a network: its messages have a connection of their own beside what runs in cycles.
    fn network_device(
        &self,
        port: usize,
        address: Ipv4Addr,
        station: &Station,
    ) -> Result<(Direct, Option<Link>), Failed> {
        let (project, settings) = self.port(port)?;
        let name = &settings.name.value;
        let running =
            project.running.as_ref().and_then(|(_, rows)| served(rows, &format!("{name}/{address}")));
        let real = match running.and_then(|real| real.parse().ok()) {
            Some(real) => Some(real),
            None => {
                let rig = self.on_rig(name)?.unwrap_or_default();
                stations_of(&rig).find(|(shown, _)| *shown == address).map(|(_, real)| real)
            }
        };
        let host = real.unwrap_or(address);
        self.opened(&Link::Socket(SocketAddr::from((host, messages(station)))), self.times(settings), station)
    }

    /// What the rig says of the stations that it has on a network; `None` where the real ones are meant.
    pub(crate) fn on_rig(&self, port: &str) -> Result<Option<String>, Failed> {
        let Some(project) = self.project.as_ref().filter(|_| self.rig) else { return Ok(None) };
        let answer = project.rig.say("lines", &[]).map_err(|_| {
            Failed::of("no rig of this project is running", "start `woodrush rig up` in another terminal")
        })?;
        let row = answer.rows.iter().find(|row| row.name == port);
        Ok(Some(row.map(|row| row.detail.clone()).unwrap_or_default()))
    }

    fn opened(
        &self,
        link: &Link,
        line: LineTime,
        station: &Station,
    ) -> Result<(Direct, Option<Link>), Failed> {
        Direct::open(link, line, station).map(|reach| (reach, Some(link.clone()))).map_err(|closed| Failed {
            diagnosis: self.also(unopened(link, &closed, self.network())),
            answered: false,
        })
    }

    fn port(&self, port: usize) -> Result<(&Project, &Port), Failed> {
        let project = self.project.as_ref();
        let found = project.and_then(|project| Some((project, project.checked.project.ports.get(port)?)));
        found.ok_or_else(|| Failed::of("it has no port", "give it a `port` in the project"))
    }

    fn times(&self, settings: &Port) -> LineTime {
        let own = LineTime::of(settings);
        LineTime { timeout: self.timeout.unwrap_or(own.timeout), ..own }
    }

    /// Where the bench stands in for what is wired to a port, if it is the bench that is asked.
    fn bench(&self, project: &Project, port: &str) -> Result<Option<String>, Failed> {
        if !self.rig {
            return Ok(None);
        }
        let answer = project.rig.say("lines", &[]).map_err(|_| {
            Failed::of("no rig of this project is running", "start `woodrush rig up` in another terminal")
        })?;
        served(&answer.rows, port).map(Some).ok_or_else(|| {
            Failed::of(
                format!("the rig has nothing at port {port}"),
                "start the converter: `woodrush run --rig`",
            )
        })
    }

    /// Where a port of the project that dials leads, or what is written on the command line: the rig's end, if that is asked.
    pub(crate) fn socket(&self, port: Option<usize>) -> Result<SocketAddr, Failed> {
        if let Some(Bare { link: Link::Socket(to), .. }) = &self.bare {
            return Ok(*to);
        }
        let none = || Failed::of("no connection is made there", "name a port with `connect`");
        let (project, settings) = self.port(port.ok_or_else(none)?)?;
        let bench = self.bench(project, &settings.name.value)?;
        match &settings.wires {
            Some(Wires::Connect { to }) => {
                let own = SocketAddr::from((to.value.host, to.value.port));
                Ok(bench.and_then(|at| at.parse().ok()).unwrap_or(own))
            }
            _ => Err(none()),
        }
    }

    fn network(&self) -> Option<Network> {
        self.checked()?.project.converter.address.as_ref().map(|address| address.value)
    }
}

/// Where a port is, by what a converter or a bench says.
fn served(rows: &[Row], port: &str) -> Option<String> {
    rows.iter().find(|row| row.name == port).map(|row| row.value.clone())
}

/// The stations that a rig has on a network, as it tells them: each address of the project, and where it is in truth.
pub(crate) fn stations_of(told: &str) -> impl Iterator<Item = (Ipv4Addr, Ipv4Addr)> {
    let one = |station: &str| {
        let (shown, real) = station.split_once(" at ")?;
        Some((shown.parse().ok()?, real.parse().ok()?))
    };
    told.split(", ").filter_map(one)
}

/// The TCP port on which a station of a network takes messages.
fn messages(station: &Station) -> u16 {
    station.dialect.and_then(|dialect| dialect.framing().usual_tcp_port()).unwrap_or(0)
}

/// The other end of an image: its client.
fn asking(image: &Station) -> Station {
    let setup = image
        .dialect
        .map_or_else(|| image.setup.clone(), |dialect| dialect.stations().other_end(&image.setup));
    Station { setup, ..image.clone() }
}

/// What listens everywhere is reached here.
fn loopback(at: SocketAddr) -> SocketAddr {
    if at.ip().is_unspecified() { SocketAddr::from((Ipv4Addr::LOCALHOST, at.port())) } else { at }
}
