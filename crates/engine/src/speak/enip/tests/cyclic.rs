//! The checked vectors of connections of class 1 against the machine that answers them, and every way in which one is
//! refused.

use crate::Moment;
use crate::speak::enip::node::IoNode;
use crate::speak::{
    LinkFaults, LinkLoss, LinkNews, NetAct, NetNews, News, Node, NodeLink, NodeSetup, Produced, Serve,
    Server, Want,
};
use serde::Deserialize;
use std::net::{Ipv4Addr, SocketAddrV4};
use woodrush_core::project::Network;
use woodrush_core::protocol::Setup;
use woodrush_wire::enip::cip::{self, Reply, class, service};
use woodrush_wire::enip::connection::{CYCLIC, ForwardOpen, Opened, Parameters, Triad};
use woodrush_wire::enip::cpf::Unconnected;
use woodrush_wire::enip::cyclic::Points;
use woodrush_wire::enip::encap::{self, Header, Registration, command};
use woodrush_wire::enip::epath::{Key, Object, Path};

#[derive(Deserialize)]
struct Vector {
    name: String,
    hex: String,
}

fn vector(name: &str) -> Vec<u8> {
    let text = include_str!("../../../../../wire/testdata/vectors-enip.json");
    let all: Vec<Vector> = serde_json::from_str(text).unwrap();
    let hex = &all.iter().find(|own| own.name == name).unwrap_or_else(|| panic!("no vector {name}")).hex;
    (0..hex.len()).step_by(2).map(|at| u8::from_str_radix(&hex[at..at + 2], 16).unwrap()).collect()
}

const OURS: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 10);
const PEER: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 20);
const OTHER: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 21);

fn row(number: u32, bytes: u32) -> Setup {
    Setup { numbers: vec![("assembly", number), ("bytes", bytes)], ..Setup::default() }
}

/// The adapter of the vectors: 12 bytes in, 4 out.
fn setup() -> NodeSetup {
    let setup = Setup {
        numbers: vec![("period", 10_000)],
        rows: vec![("inputs", row(100, 12)), ("outputs", row(150, 4)), ("config", row(151, 0))],
        ..Setup::default()
    };
    let link =
        NodeLink { name: "plc".into(), setup, opens: None, writers: None, fault: LinkFaults::default() };
    NodeSetup { links: vec![link], address: Some(OURS), first: 7, ..NodeSetup::default() }
}

/// One end, and the sessions of those who ask it.
struct Bench {
    node: IoNode,
    now: Moment,
}

/// A session that is registered.
struct Asking {
    server: Box<dyn Server>,
    session: u32,
}

impl Bench {
    fn new(setup: &NodeSetup) -> Self {
        Self { node: IoNode::new(setup), now: Moment(0) }
    }

    fn connect(&mut self, peer: Ipv4Addr) -> Asking {
        let mut asking = Asking { server: self.node.server(peer).unwrap(), session: 0 };
        asking.server.handle(self.now, News::Up);
        let mut out = vec![];
        let header = Header { command: command::REGISTER_SESSION, ..Header::default() };
        header.emit_with(&mut out, |out| Registration::OURS.emit(out));
        let answer = self.said(&mut asking, &out);
        asking.session = encap::parse(&answer, 8192).unwrap().unwrap().0.header.session;
        asking
    }

    fn said(&self, asking: &mut Asking, bytes: &[u8]) -> Vec<u8> {
        asking.server.handle(self.now, News::Bytes(bytes));
        loop {
            match asking.server.poll(self.now) {
                Serve::Send(bytes) => return bytes,
                Serve::Want { want: Want::Read(extent), .. } => {
                    asking.server.give(Ok(&vec![0x5A; extent.count as usize]));
                }
                other => panic!("{other:?}"),
            }
        }
    }

    /// The reply to a message of the router.
    fn ask(&self, asking: &mut Asking, message: &[u8]) -> Vec<u8> {
        let mut out = vec![];
        let header = Header { command: command::SEND_RR_DATA, session: asking.session, ..Header::default() };
        header.emit_with(&mut out, |out| Unconnected::emit_with(out, |out| out.extend_from_slice(message)));
        let answer = self.said(asking, &out);
        let (message, _) = encap::parse(&answer, 8192).unwrap().unwrap();
        Unconnected::parse(message.data).unwrap().message.to_vec()
    }

    /// Everything that the end wants done now, with these bytes in its frames.
    fn acts(&mut self, bytes: &[u8]) -> Vec<NetAct> {
        let mut acts = vec![];
        loop {
            match self.node.poll(self.now) {
                NetAct::Produce(link) => {
                    let cells = Produced { slots: vec![bytes.to_vec()], lost: vec![] };
                    self.node.produced(self.now, link, &cells);
                }
                NetAct::WaitUntil(_) | NetAct::Rest => return acts,
                act => acts.push(act),
            }
        }
    }

    fn frame(&mut self, from: Ipv4Addr, bytes: &[u8]) {
        let from = SocketAddrV4::new(from, 2222);
        self.node.handle(self.now, NetNews::Datagram { socket: 2, from, bytes });
    }
}

/// The number by which a target has answered: general status, and the words behind it.
fn status(reply: &[u8]) -> (u8, Vec<u16>) {
    let reply = Reply::parse(reply).unwrap();
    let words = reply.additional.chunks(2).map(|own| u16::from_le_bytes(own.try_into().unwrap()));
    (reply.status, words.collect())
}

/// A request that opens, changed in one way.
fn opening(change: impl FnOnce(&mut ForwardOpen<'_>, &mut Points<'static>)) -> Vec<u8> {
    let mut points =
        Points { configuration: Some(151), to_target: 150, to_originator: 100, ..Points::default() };
    let mut open = ForwardOpen {
        tick: 10,
        ticks: 14,
        to_target_id: 0,
        to_originator_id: 0x20B3_0002,
        triad: Triad { serial: 0x42, vendor: 0xFFF2, originator: 0x5EED_B0B0 },
        multiplier: 2,
        to_target_interval: 10_000,
        to_target: Parameters::cyclic(10, false),
        to_originator_interval: 20_000,
        to_originator: Parameters::cyclic(14, false),
        transport: CYCLIC,
        path: Path::default(),
    };
    change(&mut open, &mut points);
    let mut path = vec![];
    points.emit(&mut path);
    let mut message = vec![];
    let manager = Object { class: class::CONNECTION_MANAGER, instance: 1, attribute: None };
    cip::emit_to(&mut message, service::FORWARD_OPEN, manager);
    ForwardOpen { path: Path::parse(&path).unwrap(), ..open }.emit(&mut message);
    message
}

#[test]
fn the_vectors_of_an_owner_run_through_the_machine() {
    let mut bench = Bench::new(&setup());
    let mut asking = bench.connect(PEER);
    let reply = bench.ask(&mut asking, &vector("fo_excl_req"));
    let opened = Opened::parse(Reply::parse(&reply).unwrap().data).unwrap();
    let ours = opened.to_target_id.to_le_bytes();
    // As the vector says, but for the id that the target chooses.
    let mut wanted = vector("fo_excl_rsp");
    wanted[4..8].copy_from_slice(&ours);
    assert_eq!(reply, wanted);
    // Its inputs go at once, without waiting for the other end: as the vector has them.
    let cells: Vec<u8> = (0x10..0x1C).collect();
    let acts = bench.acts(&cells);
    let sent = acts.iter().find_map(|act| match act {
        NetAct::Datagram { to, bytes, .. } => Some((*to, bytes.clone())),
        _ => None,
    });
    assert_eq!(sent, Some((SocketAddrV4::new(PEER, 2222), vector("io_to"))));
    let with_id = |name: &str| {
        let mut bytes = vector(name);
        bytes[6..10].copy_from_slice(&ours);
        bytes
    };
    for (name, wanted) in [
        ("bad_io_size", None),
        ("bad_io_item", None),
        ("bad_io_cut", None),
        ("io_ot_run", Some(NetAct::Came { link: 0, slot: 0, cells: vec![0xA1, 0xB2, 0xC3, 0xD4] })),
        ("io_ot_idle", Some(NetAct::Stopped(0, LinkLoss::Idle))),
    ] {
        bench.frame(PEER, &with_id(name));
        let acts = bench.acts(&cells);
        let told: Vec<&NetAct> = acts.iter().filter(|act| !matches!(act, NetAct::Datagram { .. })).collect();
        assert_eq!(told, wanted.iter().collect::<Vec<_>>(), "{name}");
    }
    let duplicate = bench.ask(&mut asking, &vector("fo_excl_req"));
    assert_eq!(duplicate, vector("fo_dup_rsp"));
    let closed = bench.ask(&mut asking, &vector("fc_excl_req"));
    assert_eq!(closed, vector("fc_excl_rsp"));
    let acts = bench.acts(&cells);
    assert_eq!(acts.last(), Some(&NetAct::Stopped(0, LinkLoss::Closed)));
    let again = bench.ask(&mut asking, &vector("fc_excl_req"));
    assert_eq!(status(&again), (1, vec![0x0107]));
    let multicast = bench.ask(&mut asking, &vector("fo_mcast_req"));
    assert_eq!(status(&multicast), (1, vec![0x0124]), "point to point only");
}

#[test]
fn every_refusal_has_its_exact_status() {
    type Change = fn(&mut ForwardOpen<'_>, &mut Points<'static>);
    let cases: [(&str, Change, u8, &[u16]); 24] = [
        ("a good one", |_, _| {}, 0, &[]),
        ("class 2", |open, _| open.transport = 0x02, 1, &[0x011C]),
        ("change of state", |open, _| open.transport = 0x11, 1, &[0x011D]),
        ("as a server", |open, _| open.transport = 0x81, 1, &[0x011E]),
        ("size to the target", |open, _| open.to_target = Parameters::cyclic(9, false), 1, &[0x0127, 10]),
        ("without the header", |open, _| open.to_target = Parameters::cyclic(6, false), 1, &[0x0127, 10]),
        ("size back", |open, _| open.to_originator = Parameters::cyclic(16, false), 1, &[0x0128, 14]),
        ("variable", |open, _| open.to_target = Parameters::explicit(10, false), 1, &[0x011F]),
        ("variable back", |open, _| open.to_originator = Parameters::explicit(14, false), 1, &[0x0120]),
        ("output point", |_, points| points.to_target = 149, 1, &[0x012A]),
        ("input point", |_, points| points.to_originator = 101, 1, &[0x012B]),
        ("both", |_, points| (points.to_target, points.to_originator) = (1, 2), 1, &[0x012A]),
        ("configuration", |_, points| points.configuration = Some(99), 1, &[0x0129]),
        ("configuration data", |_, points| points.data = &[1, 2, 3, 4], 1, &[0x0126, 0]),
        ("too fast", |open, _| open.to_target_interval = 2000, 1, &[0x0112, 0x0202, 10_000, 0, 10_000, 0]),
        ("too slow", |open, _| open.to_originator_interval = 20_000_000, 1, &[0x0111]),
        ("multiplier", |open, _| open.multiplier = 8, 1, &[0x0133]),
        (
            "listens alone",
            |open, points| {
                points.to_target = 153;
                open.to_target = Parameters::cyclic(2, false);
            },
            1,
            &[0x0119],
        ),
        (
            "vendor",
            |_, points| points.key = Some(Key { vendor: 1, device_type: 0, product: 0, major: 0, minor: 0 }),
            1,
            &[0x0114],
        ),
        (
            "device type",
            |_, points| {
                points.key = Some(Key { vendor: 0xFFF1, device_type: 1, product: 0, major: 0, minor: 0 })
            },
            1,
            &[0x0115],
        ),
        (
            "revision",
            |_, points| points.key = Some(Key { vendor: 0, device_type: 0, product: 0, major: 1, minor: 3 }),
            1,
            &[0x0116],
        ),
        (
            "an older minor revision that fits",
            |_, points| {
                points.key = Some(Key { vendor: 0, device_type: 0, product: 0, major: 0x81, minor: 1 })
            },
            0,
            &[],
        ),
        (
            "only reading",
            |open, points| {
                points.to_target = 152;
                open.to_target = Parameters::cyclic(2, false);
            },
            0,
            &[],
        ),
        (
            "zeros in the key",
            |_, points| points.key = Some(Key { vendor: 0, device_type: 0, product: 0, major: 0, minor: 0 }),
            0,
            &[],
        ),
    ];
    for (what, change, general, words) in cases {
        let bench = &mut Bench::new(&setup());
        let mut asking = bench.connect(PEER);
        let reply = bench.ask(&mut asking, &opening(change));
        assert_eq!(status(&reply), (general, words.to_vec()), "{what}");
        let refused =
            bench.acts(&[]).iter().any(|act| matches!(act, NetAct::Tell(0, LinkNews::Refused { .. })));
        assert_eq!(refused, general != 0, "{what}: the log hears of it");
    }
    for (name, wanted) in [("bad_fo_path", 0x13), ("bad_fo_type", 1), ("bad_fo_mult", 1)] {
        let bench = &mut Bench::new(&setup());
        let mut asking = bench.connect(PEER);
        let reply = bench.ask(&mut asking, &vector(name));
        let (general, words) = status(&reply);
        assert_eq!(general, wanted, "{name}: {words:?}");
    }
}

#[test]
fn one_owns_the_outputs_and_others_may_read_beside_it() {
    let mut bench = Bench::new(&setup());
    let (mut first, mut second) = (bench.connect(PEER), bench.connect(OTHER));
    let another = |open: &mut ForwardOpen<'_>, serial| open.triad.serial = serial;
    assert_eq!(status(&bench.ask(&mut first, &opening(|_, _| {}))).0, 0);
    let rival = bench.ask(&mut second, &opening(|open, _| another(open, 7)));
    assert_eq!(status(&rival), (1, vec![0x0106]));
    let reads = |point| {
        opening(move |open, points| {
            another(open, u16::try_from(point).unwrap());
            points.to_target = point;
            open.to_target = Parameters::cyclic(2, false);
        })
    };
    assert_eq!(status(&bench.ask(&mut second, &reads(152))).0, 0, "input only");
    assert_eq!(status(&bench.ask(&mut second, &reads(153))).0, 0, "listen only");
    let sent = bench.acts(&[1; 12]).iter().filter(|act| matches!(act, NetAct::Datagram { .. })).count();
    assert_eq!(sent, 3, "each gets a frame of its own");
    // Nobody closes what is another's.
    let close = vector("fc_excl_req");
    assert_eq!(status(&bench.ask(&mut second, &close)), (1, vec![0x0107]));
    assert_eq!(status(&bench.ask(&mut first, &close)).0, 0);
    assert_eq!(status(&bench.ask(&mut second, &opening(|open, _| another(open, 9)))).0, 0, "free again");
}

#[test]
fn who_may_not_write_may_read() {
    let mut own = setup();
    own.links[0].writers = Some(vec![Network { address: OTHER, prefix: 32 }]);
    let mut bench = Bench::new(&own);
    let mut asking = bench.connect(PEER);
    assert_eq!(status(&bench.ask(&mut asking, &opening(|_, _| {}))), (0x0F, vec![]));
    let reads = opening(|open, points| {
        points.to_target = 152;
        open.to_target = Parameters::cyclic(2, false);
    });
    assert_eq!(status(&bench.ask(&mut asking, &reads)).0, 0);
    let mut writer = bench.connect(OTHER);
    let owns = opening(|open, _| open.triad.serial = 9);
    assert_eq!(status(&bench.ask(&mut writer, &owns)).0, 0);
}

#[test]
fn openings_by_the_thousand_have_a_bound() {
    let mut bench = Bench::new(&setup());
    let mut asking = bench.connect(PEER);
    let mut good = 0;
    for serial in 1..=1000 {
        let reads = opening(|open, points| {
            open.triad.serial = serial;
            points.to_target = 152;
            open.to_target = Parameters::cyclic(2, false);
        });
        match status(&bench.ask(&mut asking, &reads)) {
            (0, _) => good += 1,
            (1, words) => assert_eq!(words, [0x0113]),
            other => panic!("{other:?}"),
        }
    }
    assert_eq!(good, 64);
    let owns = opening(|open, _| open.triad.serial = 2000);
    assert_eq!(status(&bench.ask(&mut asking, &owns)).0, 0, "who owns the outputs has a place");
    assert!(asking.server.held() < 1000);
    // None of them ever sends anything: they are gone after ten seconds.
    bench.now = Moment(10_000_001);
    let _ = bench.acts(&[]);
    let reads = opening(|open, points| {
        points.to_target = 152;
        open.to_target = Parameters::cyclic(2, false);
    });
    assert_eq!(status(&bench.ask(&mut asking, &reads)).0, 0);
}

#[test]
fn assemblies_are_read_and_set_by_messages_as_long_as_nobody_owns_them() {
    let mut bench = Bench::new(&setup());
    let mut asking = bench.connect(PEER);
    let ask = |bench: &Bench, asking: &mut Asking, code, instance, attribute, data: &[u8]| {
        let mut message = vec![];
        let object = Object { class: class::ASSEMBLY, instance, attribute: Some(attribute) };
        cip::emit_to(&mut message, code, object);
        message.extend_from_slice(data);
        let reply = bench.ask(asking, &message);
        let reply = Reply::parse(&reply).unwrap();
        (reply.status, reply.data.to_vec())
    };
    let (get, set) = (service::GET_ATTRIBUTE_SINGLE, service::SET_ATTRIBUTE_SINGLE);
    assert_eq!(ask(&bench, &mut asking, get, 100, 4, &[]), (0, vec![12, 0]));
    assert_eq!(ask(&bench, &mut asking, get, 99, 3, &[]).0, 0x05);
    assert_eq!(ask(&bench, &mut asking, set, 100, 3, &[0; 12]).0, 0x0E, "inputs are ours");
    assert_eq!(ask(&bench, &mut asking, set, 150, 3, &[0; 3]).0, 0x13);
    assert_eq!(ask(&bench, &mut asking, set, 150, 3, &[0; 5]).0, 0x15);
    assert_eq!(ask(&bench, &mut asking, set, 150, 3, &[1, 2, 3, 4]).0, 0);
    assert!(bench.acts(&[]).contains(&NetAct::Came { link: 0, slot: 0, cells: vec![1, 2, 3, 4] }));
    // One message is one frame: it counts as lost once a watchdog would have run out.
    bench.now = Moment(39_999);
    assert!(bench.acts(&[]).is_empty());
    bench.now = Moment(40_000);
    assert_eq!(bench.acts(&[]), [NetAct::Stopped(0, LinkLoss::Watchdog)]);
    let _ = bench.ask(&mut asking, &opening(|_, _| {}));
    assert_eq!(ask(&bench, &mut asking, set, 150, 3, &[1, 2, 3, 4]).0, 0x10, "an owner is there");
}

#[test]
fn lists_are_answered_over_udp_and_nothing_else_is() {
    let mut bench = Bench::new(&setup());
    let from = SocketAddrV4::new(PEER, 50_000);
    let ask = |bench: &mut Bench, bytes: &[u8]| {
        bench.node.handle(bench.now, NetNews::Datagram { socket: 1, from, bytes });
        bench.acts(&[])
    };
    let acts = ask(&mut bench, &vector("encap_listidentity_req"));
    let [NetAct::Datagram { socket: 1, to, bytes, due: None }] = &acts[..] else { panic!("{acts:?}") };
    assert_eq!(*to, from);
    let (message, _) = encap::parse(bytes, 8192).unwrap().unwrap();
    let listed = woodrush_wire::enip::objects::ListedIdentity::parse(message.data).unwrap().unwrap();
    assert_eq!((listed.address.ip(), listed.identity.name), (&OURS, &b"Woodrush IO"[..]));
    assert_eq!(message.header.context[..2], [0xF4, 1], "the context comes back");
    assert_eq!(ask(&mut bench, &vector("encap_listservices_req")).len(), 1);
    for name in
        ["encap_register_req", "bad_encap_short", "bad_encap_length", "bad_encap_options", "full_sendrr_req"]
    {
        assert!(ask(&mut bench, &vector(name)).is_empty(), "{name}");
    }
}

/// Whoever opens a connection may ask for hours without a frame: its outputs would look live for as long.
#[test]
fn a_controller_is_waited_for_ten_seconds_or_a_hundred_periods() {
    for (interval, wanted) in [(10_000, 5_120_000), (50_000, 10_000_000), (200_000, 20_000_000)] {
        let mut bench = Bench::new(&setup());
        let mut asking = bench.connect(PEER);
        let asks = opening(|open, _| (open.to_target_interval, open.multiplier) = (interval, 7));
        assert_eq!(status(&bench.ask(&mut asking, &asks)).0, 0);
        let acts = bench.acts(&[0; 12]);
        let opened = acts.iter().find_map(|act| match act {
            NetAct::Tell(_, LinkNews::Opened { lost_after, .. }) => Some(*lost_after),
            _ => None,
        });
        assert_eq!(opened, Some(wanted));
    }
}

/// A device that answers with a microsecond would have us send a million frames a second.
#[test]
fn an_interval_that_was_not_asked_for_is_refused() {
    for (interval, runs) in [(10_000, true), (20_000, true), (5_000, true), (1, false), (4_000_000, false)] {
        let mut own = setup();
        (own.links[0].opens, own.links[0].setup.numbers) = (Some(OTHER), vec![("period", 10_000)]);
        let mut bench = Bench::new(&own);
        let Some(NetAct::Dial(channel, _)) = bench.acts(&[]).pop() else { panic!() };
        bench.node.handle(bench.now, NetNews::Dialled(channel));
        assert!(matches!(bench.acts(&[])[..], [NetAct::Send(..)]), "it registers");
        let mut said = vec![];
        let header = Header { command: command::REGISTER_SESSION, session: 7, ..Header::default() };
        header.emit_with(&mut said, |out| Registration::OURS.emit(out));
        bench.node.handle(bench.now, NetNews::Bytes(channel, &said));
        let [NetAct::Send(_, asked)] = &bench.acts(&[])[..] else { panic!() };
        let (message, _) = encap::parse(asked, 8192).unwrap().unwrap();
        let request = cip::Request::parse(Unconnected::parse(message.data).unwrap().message).unwrap();
        let open = ForwardOpen::parse(request.data, false).unwrap();
        let opened = Opened {
            to_target_id: 0x77,
            to_originator_id: open.to_originator_id,
            triad: open.triad,
            to_target_interval: interval,
            to_originator_interval: open.to_originator_interval,
            application: &[],
        };
        let mut said = vec![];
        let header = Header { command: command::SEND_RR_DATA, session: 7, ..Header::default() };
        header.emit_with(&mut said, |out| {
            Unconnected::emit_with(out, |out| {
                out.extend([service::FORWARD_OPEN | cip::REPLY, 0, 0, 0]);
                opened.emit(out);
            });
        });
        bench.node.handle(bench.now, NetNews::Bytes(channel, &said));
        let acts = bench.acts(&[0; 12]);
        let frames = acts.iter().filter(|act| matches!(act, NetAct::Datagram { .. })).count();
        let why = acts.iter().find_map(|act| match act {
            NetAct::Tell(_, LinkNews::Refused { why, .. }) => Some(why.as_str()),
            _ => None,
        });
        assert_eq!((frames > 0, why.is_some()), (runs, !runs), "{interval}: {acts:?}");
        assert!(why.is_none_or(|why| why.contains("10000 us were asked for")), "{why:?}");
        let closes = acts.iter().filter(|act| matches!(act, NetAct::Send(..))).count();
        assert_eq!(closes, usize::from(!runs), "and the device is told to close it");
    }
}
