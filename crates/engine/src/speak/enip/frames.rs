//! Listening to frames of connections that run in cycles, and to lists over UDP, of one peer.

use super::roll_call;
use crate::Moment;
use crate::speak::observer::{AnswerMeaning, Asked, Heard, Observer, ObserverSetup, Says, Side, Touch};
use std::collections::{HashMap, VecDeque};
use std::net::Ipv4Addr;
use woodrush_core::plan::Station;
use woodrush_core::protocol::Verb;
use woodrush_core::protocol::enip::Layout;
use woodrush_wire::enip::cyclic::{CyclicData, CyclicFrame, HEADER_BYTES, SEQUENCE_BYTES};
use woodrush_wire::enip::encap::{self, command};

/// Connections whose last frame is kept; with one more, all are forgotten.
const KNOWN_MAX: usize = 256;
/// Most bytes of a list.
const LIST_MAX: u16 = 512;

/// The last frame of a connection.
struct LastFrame {
    body: Vec<u8>,
    unchanged: u64,
}

pub(super) struct FrameObserver {
    stations: Vec<Station>,
    peer: Ipv4Addr,
    known: HashMap<(Side, u32), LastFrame>,
    heard: VecDeque<Heard>,
}

/// What a frame carries, as far as its peer and its size tell.
struct Carried<'f> {
    station: &'f Station,
    /// `inputs` or `outputs`.
    block: &'static str,
    data: CyclicData<'f>,
    /// A controller is at the other end; else a device.
    controller: bool,
}

impl FrameObserver {
    pub(super) fn new(setup: &ObserverSetup<'_>, peer: Ipv4Addr) -> Self {
        let stations = setup.stations.to_vec();
        Self { stations, peer, known: HashMap::new(), heard: VecDeque::new() }
    }

    /// Which block it is: where two would fit, none is guessed.
    fn carried<'f>(&'f self, side: Side, body: &'f [u8]) -> Option<Carried<'f>> {
        let came = side == Side::Asks;
        let here = self.stations.iter().filter_map(|own| Some((own, Layout::of(&own.setup)?)));
        let (devices, images): (Vec<_>, Vec<_>) = here.partition(|(own, _)| own.network_address().is_some());
        let device = devices.into_iter().find(|(own, _)| own.network_address() == Some(self.peer));
        let (all, controller) = match device {
            Some(device) => (vec![device], false),
            None => (images, true),
        };
        let fits = |(station, layout): &(&'f Station, Layout)| {
            // What goes to the controller has no header; what comes from it has one.
            let (block, bytes) = match came == controller {
                true => ("outputs", layout.outputs.map_or(0, |own| own.bytes)),
                false => ("inputs", layout.inputs.bytes),
            };
            let header = block == "outputs" && bytes > 0;
            let size = u16::try_from(bytes).ok()? + SEQUENCE_BYTES + if header { HEADER_BYTES } else { 0 };
            let data = CyclicData::parse(body, size, header).ok()?;
            Some(Carried { station, block, data, controller })
        };
        let mut fitting = all.iter().filter_map(fits);
        fitting.next().filter(|_| fitting.next().is_none())
    }

    fn frame(&mut self, side: Side, frame: &CyclicFrame<'_>) -> Says {
        // The sequence count is new in each frame; all behind it is what may change.
        let rest = frame.body.get(usize::from(SEQUENCE_BYTES)..).unwrap_or_default();
        if self.known.len() > KNOWN_MAX {
            self.known.clear();
        }
        let key = (side, frame.connection);
        let (changed, before) = match self.known.get_mut(&key) {
            Some(last) if last.body == rest => {
                last.unchanged += 1;
                (false, last.unchanged)
            }
            last => {
                let before = last.map_or(0, |last| last.unchanged);
                self.known.insert(key, LastFrame { body: rest.to_vec(), unchanged: 0 });
                (true, before)
            }
        };
        let mut asked = Asked {
            station: None,
            number: None,
            code: 0,
            words: format!("frame of {} bytes", frame.body.len()).into(),
            touches: vec![],
            all: false,
            body: vec![],
        };
        if let Some(own) = self.carried(side, frame.body) {
            let (noun, end) = match (own.block, own.controller) {
                ("outputs", true) => ("outputs", "from the controller"),
                ("outputs", false) => ("outputs", "to the device"),
                (_, true) => ("inputs", "to the controller"),
                (_, false) => ("inputs", "from the device"),
            };
            let mode = match own.data.header.map(|_| own.data.runs()) {
                None => "",
                Some(true) => ", run",
                Some(false) => ", IDLE",
            };
            asked.words = match own.data.data.is_empty() {
                true => format!("no {noun}, {end}{mode}").into(),
                false => format!("{noun}, {end}{mode}").into(),
            };
            asked.station = own.station.id();
            let space = own.station.spaces.id(own.block).and_then(|id| own.station.space_at(id));
            if let Some(space) = space.filter(|_| !own.data.data.is_empty()) {
                asked.touches.push(Touch {
                    verb: if own.block == "outputs" { Verb::Write } else { Verb::Read },
                    space: space.clone(),
                    first: 0,
                    count: u32::try_from(own.data.data.len()).unwrap_or(0),
                    cells: Some(own.data.data.to_vec()),
                });
            }
        }
        Says::Cycle { what: Box::new(asked), changed, unchanged: before }
    }

    fn list(&self, bytes: &[u8]) -> Says {
        let sign = |words: String| Says::Sign { words: words.into(), bad: false };
        if let Some(found) = (roll_call::IDENTITIES.answer)(self.peer, bytes) {
            return sign(format!("identity: {}", found.name));
        }
        match encap::parse(bytes, LIST_MAX) {
            Ok(Some((message, _))) => match message.header.command {
                command::LIST_IDENTITY => sign("list identity".into()),
                command::LIST_SERVICES => sign("list services".into()),
                command::LIST_INTERFACES => sign("list interfaces".into()),
                other => Says::Noise(format!("command 0x{other:04X} is not for UDP")),
            },
            Ok(None) => Says::Noise("cut".into()),
            Err(error) => Says::Noise(error.to_string()),
        }
    }
}

impl Observer for FrameObserver {
    /// Takes one datagram.
    fn handle(&mut self, began: Moment, now: Moment, side: Side, bytes: &[u8]) {
        let says = match CyclicFrame::parse(bytes) {
            Ok(frame) => self.frame(side, &frame),
            Err(_) => self.list(bytes),
        };
        self.heard.push_back(Heard { side, began, ended: now, bytes: bytes.to_vec(), says });
    }

    fn poll(&mut self, _now: Moment) -> Option<Heard> {
        self.heard.pop_front()
    }

    fn answer(&self, _request: &Asked, _answer: &[u8]) -> AnswerMeaning {
        AnswerMeaning::Words(String::new())
    }

    fn reset(&mut self) {
        self.known.clear();
        self.heard.clear();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Arc;
    use woodrush_core::protocol::{AddressContext, Setup, SpaceId, Spaces, dialect};

    const PEER: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 70);
    const STRANGER: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 99);

    fn row(assembly: u32, bytes: u32) -> Setup {
        Setup { numbers: vec![("assembly", assembly), ("bytes", bytes)], ..Setup::default() }
    }

    /// A station with both blocks; at an address it is a device, else an image.
    fn station(inputs: u32, outputs: u32, address: Option<Ipv4Addr>) -> Station {
        let rows = vec![("inputs", row(100, inputs)), ("outputs", row(150, outputs))];
        let words = address.map(|own| ("address", own.to_string())).into_iter().collect();
        let setup = Setup { rows, words, ..Setup::default() };
        let dialect = dialect("ethernet-ip").unwrap().by_memory(&setup).unwrap();
        let mut own = Station::bare("station", dialect, setup);
        own.spaces = Arc::new(Spaces::default());
        for place in ["%IB0", "%QB0"] {
            let context = AddressContext::of_device(&own.setup);
            let space = dialect.notation().parse(place, &context).unwrap().space;
            let _: SpaceId = own.space(&space);
        }
        own
    }

    fn observer(stations: &[Station], peer: Ipv4Addr) -> FrameObserver {
        FrameObserver::new(&ObserverSetup { port: &Setup::default(), stations, published: &[] }, peer)
    }

    fn frame(number: u32, header: Option<u32>, data: &[u8]) -> Vec<u8> {
        let mut bytes = vec![];
        let sequence = u16::try_from(number).unwrap();
        CyclicFrame::emit_with(&mut bytes, 7, number, |out| CyclicData { sequence, header, data }.emit(out));
        bytes
    }

    fn heard(observer: &mut FrameObserver, side: Side, bytes: &[u8]) -> (String, Option<Vec<u8>>, bool, u64) {
        observer.handle(Moment(1), Moment(1), side, bytes);
        let heard = observer.poll(Moment(1)).unwrap();
        assert_eq!(heard.bytes, bytes);
        match heard.says {
            Says::Cycle { what, changed, unchanged } => {
                let cells = what.touches.first().and_then(|touch| touch.cells.clone());
                (what.words.to_string(), cells, changed, unchanged)
            }
            Says::Sign { words, .. } => (words.to_string(), None, false, 0),
            other => (format!("{other:?}"), None, false, 0),
        }
    }

    #[test]
    fn a_frame_is_told_by_its_peer_and_size_and_again_only_if_it_differs() {
        let all = [station(4, 2, Some(PEER)), station(8, 6, None)];
        let mut device = observer(&all, PEER);
        let first = heard(&mut device, Side::Asks, &frame(1, None, &[1, 2, 3, 4]));
        assert_eq!(first, ("inputs, from the device".into(), Some(vec![1, 2, 3, 4]), true, 0));
        for again in 1..=3 {
            let same = heard(&mut device, Side::Asks, &frame(1 + again, None, &[1, 2, 3, 4]));
            assert_eq!((same.2, same.3), (false, u64::from(again)));
        }
        let next = heard(&mut device, Side::Asks, &frame(5, None, &[1, 2, 3, 5]));
        assert_eq!((next.1, next.2, next.3), (Some(vec![1, 2, 3, 5]), true, 3));
        let sent = heard(&mut device, Side::Answers, &frame(1, Some(1), &[9, 9]));
        assert_eq!(sent, ("outputs, to the device, run".into(), Some(vec![9, 9]), true, 0));
        // The run bit alone is a change.
        let idle = heard(&mut device, Side::Answers, &frame(2, Some(0), &[9, 9]));
        assert_eq!((idle.0.as_str(), idle.2), ("outputs, to the device, IDLE", true));
        let mut controller = observer(&all, STRANGER);
        let wrote = heard(&mut controller, Side::Asks, &frame(1, Some(1), &[0; 6]));
        assert_eq!(wrote.0, "outputs, from the controller, run");
        let got = heard(&mut controller, Side::Answers, &frame(1, None, &[0; 8]));
        assert_eq!(got.0, "inputs, to the controller");
    }

    #[test]
    fn what_could_be_two_blocks_or_none_is_not_guessed() {
        let alike = [station(8, 6, None), station(8, 6, None)];
        let told = heard(&mut observer(&alike, STRANGER), Side::Asks, &frame(1, Some(1), &[0; 6]));
        assert_eq!(told, ("frame of 12 bytes".into(), None, true, 0));
        let one = [station(8, 6, None)];
        let told = heard(&mut observer(&one, STRANGER), Side::Asks, &frame(1, Some(1), &[0; 7]));
        assert_eq!(told.0, "frame of 13 bytes");
        let question = (roll_call::IDENTITIES.question)();
        assert_eq!(heard(&mut observer(&one, STRANGER), Side::Asks, &question).0, "list identity");
        assert!(heard(&mut observer(&one, STRANGER), Side::Asks, &[1, 2, 3]).0.starts_with("Noise"));
    }
}
