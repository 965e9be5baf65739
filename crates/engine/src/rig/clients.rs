//! Simulated clients: each reads as its entry of the project says, over a real socket.

use super::master::Master;
use super::stand_in;
use crate::Dialer;
use serde::Serialize;
use std::net::SocketAddr;
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;
use woodrush_core::Refusal;
use woodrush_core::budget::LineTime;
use woodrush_core::check::Checked;
use woodrush_core::form::{Conversion, Form, Overflow, Type};
use woodrush_core::plan::Station;
use woodrush_core::project::{Asked, Client};
use woodrush_core::protocol::{AddressContext, Extent, Grain, Setup, Spaces, Transport, refusal_shown};

/// What one entry of a client's list has seen.
#[derive(Debug, Clone, Serialize)]
pub struct ClientState {
    /// The client.
    pub client: String,
    /// The entry, as written.
    pub read: String,
    /// Good answers.
    pub answers: u64,
    /// Refusals and failures.
    pub refused: u64,
    /// The last answer: values, or the refusal in words.
    pub last: String,
}

/// The clients of a project, each with a thread.
#[derive(Default)]
pub(super) struct SimClients {
    threads: Vec<JoinHandle<()>>,
    stop: Arc<(Mutex<bool>, Condvar)>,
    states: Arc<Mutex<Vec<ClientState>>>,
}

impl Drop for SimClients {
    fn drop(&mut self) {
        *self.stop.0.lock().unwrap_or_else(PoisonError::into_inner) = true;
        self.stop.1.notify_all();
        for thread in self.threads.drain(..) {
            // A panic there has been printed already.
            let _ = thread.join();
        }
    }
}

struct Played {
    extent: Extent,
    form: Option<Form>,
    every: u64,
    /// Where its state is kept.
    state: usize,
    /// The most grains of one request.
    most: u32,
    /// It writes instead of reading.
    writes: bool,
}

/// Where clients ask: sockets that a converter serves, and far ends of lines.
pub(super) struct Ends {
    pub(super) listening: Vec<(usize, SocketAddr)>,
    pub(super) masters: Vec<Arc<Master>>,
}

/// Whom a client asks: an image, or units behind a port.
fn asked(checked: &Checked, client: &Client) -> Vec<Station> {
    if let Some(image) = client.image.and_then(|image| checked.plan.images.get(image.value)) {
        return vec![image.clone()];
    }
    let (Some(port), Some(units)) = (client.port, &client.units) else { return vec![] };
    let Some(dialect) = checked.project.ports.get(port.value).and_then(|port| port.protocol) else {
        return vec![];
    };
    let Some((key, _)) = dialect.value.stations().station_key(Transport::Listen) else { return vec![] };
    let station = |unit: &u16| Station {
        name: format!("{key} {unit}"),
        port: port.value,
        dialect: Some(dialect.value),
        setup: Setup { numbers: vec![(key, u32::from(*unit))], words: vec![], ..Setup::default() },
        spaces: Spaces::standing(dialect.value),
    };
    units.value.iter().map(station).collect()
}

impl SimClients {
    pub(super) fn spawn(checked: &Checked, ends: &Ends, line: &dyn Fn(usize) -> LineTime) -> Self {
        let mut clients = Self::default();
        for (index, client) in checked.project.clients.iter().enumerate() {
            for image in asked(checked, client) {
                let to = ends.listening.iter().find(|(port, _)| *port == image.port).map(|(_, at)| *at);
                let master = ends.masters.iter().find(|master| master.port == image.port).cloned();
                if to.is_none() && master.is_none() {
                    continue;
                }
                let own = client.protocol.map(|protocol| protocol.value);
                let Some(dialect) = own.or(image.dialect) else { continue };
                let mut entries = vec![];
                // What it writes now and then is a person's affair; what it writes every so often is played.
                let regular =
                    client.writes.iter().filter(|asked| asked.every.is_some()).map(|asked| (asked, true));
                for (asked, writes) in client.reads.iter().map(|asked| (asked, false)).chain(regular) {
                    let Some(mut entry) = entry(&image, asked, client.max_read) else { continue };
                    entry.writes = writes;
                    let mut states = clients.states.lock().unwrap_or_else(PoisonError::into_inner);
                    entry.state = states.len();
                    let text = checked.project.sources.text(asked.span);
                    let whom =
                        if client.image.is_some() { String::new() } else { format!("{} ", image.name) };
                    let read = if writes { format!("{whom}writes {text}") } else { format!("{whom}{text}") };
                    states.push(ClientState {
                        client: client.name.value.clone(),
                        read,
                        answers: 0,
                        refused: 0,
                        last: "not yet".into(),
                    });
                    entries.push(entry);
                }
                let timeout = client.timeout.map_or(1_000_000, |timeout| timeout.value);
                let (station, protocol, line) = (image.clone(), dialect.name(), line(image.port));
                let line = LineTime { timeout, ..line };
                let (stop, states) = (Arc::clone(&clients.stop), Arc::clone(&clients.states));
                let from = client.address.is_some().then(|| stand_in(index));
                clients.threads.push(std::thread::spawn(move || {
                    let dial = || match (&master, to) {
                        (Some(master), _) => master.dial(line, protocol, &station),
                        (None, Some(to)) => Dialer::connect(to, from, protocol, &station, timeout),
                        (None, None) => Err(std::io::ErrorKind::NotConnected.into()),
                    };
                    live(&dial, &station, &entries, &stop, &states);
                }));
            }
        }
        clients
    }

    pub(super) fn states(&self) -> Vec<ClientState> {
        self.states.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

fn entry(image: &Station, asked: &Asked, max_read: Option<u32>) -> Option<Played> {
    let context = AddressContext::of_image(&image.setup).with_form(asked.form.map(|form| form.value));
    let address = image.dialect?.notation().parse(&asked.address.value, &context).ok()?;
    let space = image.spaces.id(&address.space.key)?;
    let ty = asked.form.map_or(Type::Raw, |form| form.value.ty);
    let width = ty.width(address.space.grain).ok()?;
    let extent = Extent { space, first: address.first, count: width * asked.count };
    let mut most = max_read.unwrap_or(u32::MAX).min(extent.count);
    let cost = |count| {
        image.dialect?.cost(woodrush_core::protocol::Verb::Read, &address.space, count, &image.setup).ok()
    };
    while most > 1 && cost(most).is_none() {
        most -= 1;
    }
    Some(Played {
        extent,
        form: asked.form.map(|form| form.value),
        every: asked.every.unwrap_or(1_000_000),
        state: 0,
        most,
        writes: false,
    })
}

/// Reads what is due, again and again, until told to stop.
fn live(
    dial: &dyn Fn() -> std::io::Result<Dialer>,
    image: &Station,
    entries: &[Played],
    stop: &(Mutex<bool>, Condvar),
    states: &Mutex<Vec<ClientState>>,
) {
    let clock = crate::moment::Clock::start();
    let mut due: Vec<u64> = vec![0; entries.len()];
    let mut dialer: Option<Dialer> = None;
    let mut turn = 0u32;
    loop {
        let now = clock.now().0;
        let next = due.iter().zip(entries).min_by_key(|(due, _)| **due);
        let wait = next.map_or(1_000_000, |(due, _)| due.saturating_sub(now));
        let guard = stop.0.lock().unwrap_or_else(PoisonError::into_inner);
        let patience = Duration::from_micros(wait);
        let (stopped, _) = stop
            .1
            .wait_timeout_while(guard, patience, |stopped| !*stopped)
            .unwrap_or_else(PoisonError::into_inner);
        if *stopped {
            return;
        }
        drop(stopped);
        for (due, entry) in due.iter_mut().zip(entries) {
            let now = clock.now().0;
            if *due > now {
                continue;
            }
            *due = now - (now - *due) % entry.every + entry.every;
            turn += 1;
            let serve = |open: &mut Dialer| {
                if entry.writes { write_next(open, image, entry, turn) } else { read_whole(open, entry) }
            };
            let result = match &mut dialer {
                Some(open) => serve(open),
                None => match dial() {
                    Ok(open) => serve(dialer.insert(open)),
                    Err(error) => Err(format!("no connection: {error}")),
                },
            };
            if matches!(&result, Err(why) if why.starts_with("no ")) {
                dialer = None;
            }
            let mut states = states.lock().unwrap_or_else(PoisonError::into_inner);
            let Some(state) = states.get_mut(entry.state) else { continue };
            match result {
                Ok(cells) => {
                    state.answers += 1;
                    state.last = shown(image, entry, &cells);
                }
                Err(why) => {
                    state.refused += 1;
                    state.last = why;
                }
            }
        }
    }
}

/// Writes a value that differs from the one before: 1 to 50, and again.
fn write_next(dialer: &mut Dialer, image: &Station, entry: &Played, turn: u32) -> Result<Vec<u8>, String> {
    let grain = image.space_at(entry.extent.space).map_or(Grain::Bytes(2), |space| space.grain);
    let each = grain.cell_bytes();
    let form = entry.form.unwrap_or(Form::plain(match grain {
        Grain::Bit => Type::Bool,
        Grain::Bytes(1) => Type::U8,
        Grain::Bytes(_) => Type::U16,
    }));
    let bytes = form.ty.bytes().map_or(each, |bytes| (bytes as usize).max(each));
    let mut cells = vec![0; entry.extent.count as usize * each];
    for (place, value) in cells.chunks_mut(bytes).zip(turn..) {
        let number = f64::from(value % if form.ty == Type::Bool { 2 } else { 50 })
            + f64::from(u8::from(form.ty != Type::Bool));
        let made = Conversion { from: Form::plain(Type::F64), to: form, overflow: Overflow::Clamp };
        made.convert(&number.to_be_bytes(), place).map_err(|()| "its form takes no number".to_string())?;
    }
    dialer.write(entry.extent, cells.clone()).map_err(|refusal| told(&refusal))?;
    Ok(cells)
}

/// Reads an entry in as many requests as the client's limit makes of it.
fn read_whole(dialer: &mut Dialer, entry: &Played) -> Result<Vec<u8>, String> {
    let mut cells = vec![];
    let mut first = entry.extent.first;
    while first < entry.extent.end() {
        let count = entry.most.min(entry.extent.end() - first);
        let part = Extent { space: entry.extent.space, first, count };
        cells.extend(dialer.read(part).map_err(|refusal| told(&refusal))?);
        first += count;
    }
    Ok(cells)
}

/// A refusal as a client would log it.
pub(crate) fn told(refusal: &Refusal) -> String {
    match refusal.native {
        Some(native) => format!("refused: {}", refusal_shown(native)),
        None => format!("no correct answer: {}", refusal.kind.words()),
    }
}

fn shown(image: &Station, entry: &Played, cells: &[u8]) -> String {
    let each = image.space_at(entry.extent.space).map_or(2, |space| space.grain.cell_bytes());
    let bytes = entry.form.and_then(|form| form.ty.bytes()).map_or(each, |bytes| (bytes as usize).max(each));
    let form = entry.form.unwrap_or(Form::plain(Type::Raw));
    let values = cells.chunks(bytes).take(8).filter_map(|value| Conversion::shown(&form, value));
    let mut text = values.collect::<Vec<_>>().join(" ");
    if cells.len() / bytes > 8 {
        text += " …";
    }
    text
}
