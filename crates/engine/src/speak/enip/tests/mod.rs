mod cyclic;

use super::TAGS;
use super::job::{Services, Terms, WantedPart};
use crate::Moment;
use crate::speak::{Act, Ask, Client, ClientSetup, News, Serve, Server, ServerSetup, Ticket, Unsound, Want};
use proptest::prelude::*;
use std::collections::HashMap;
use std::sync::Arc;
use woodrush_core::budget::LineTime;
use woodrush_core::form::Form;
use woodrush_core::plan::Station;
use woodrush_core::protocol::{AddressContext, Extent, Setup, Space, SpaceId, Spaces, dialect};
use woodrush_core::{Blame, Kind, Refusal};
use woodrush_wire::enip::cip::{Reply, Request, service};
use woodrush_wire::enip::cpf::{Connected, Unconnected};
use woodrush_wire::enip::encap::{self, Header, Registration, command};
use woodrush_wire::enip::packet::{self, Parts};
use woodrush_wire::enip::tables::Execute;
use woodrush_wire::tables::COMMAND;

const LINE: LineTime = LineTime {
    char_nanos: 0,
    frame_gap: 0,
    own_frame_gap: 0,
    timeout: 1_000_000,
    turnaround: 0,
    hurry: false,
};

fn space(text: &str, form: &str) -> Space {
    let setup = Setup::default();
    let form = Form::parse(form).unwrap_or_else(|fault| panic!("{}", fault.what));
    let context = AddressContext::of_device(&setup).with_form(Some(form));
    dialect("ethernet-ip").unwrap().notation().parse(text, &context).unwrap().space
}

/// What the tests read and write: a REAL array, a DINT, packed bits, a string, one bit.
fn spaces() -> Arc<Spaces> {
    let all = [
        space("Hall.Temps[0]", "f32"),
        space("Count", "i32"),
        space("Alarms[0]", "bool"),
        space("Msg", "text(82)"),
        space("Run", "bool"),
        space("Program:Feed.Speeds[0]", "i16"),
    ];
    Arc::new(all.iter().collect())
}

fn station(setup: Setup) -> Station {
    Station { name: "press".into(), port: 0, dialect: dialect("ethernet-ip"), setup, spaces: spaces() }
}

fn client(setup: &Setup) -> Box<dyn Client> {
    (TAGS.client.unwrap())(&ClientSetup {
        stations: &[station(setup.clone())],
        line: LINE,
        retries: 0,
        port: &Setup::default(),
        first: 7,
    })
}

fn server_of(setup: &Setup, spaces: Arc<Spaces>) -> Box<dyn Server> {
    let setup = ServerSetup { stations: vec![(None, spaces)], own: setup.clone(), ..ServerSetup::default() };
    (TAGS.server.unwrap())(&setup)
}

/// A controller with so many grains of each tag, and what passes between it and a client.
struct Site {
    client: Box<dyn Client>,
    server: Box<dyn Server>,
    /// What the controller has.
    spaces: Arc<Spaces>,
    memory: HashMap<u32, Vec<u8>>,
    /// Services of the messages that went to the controller.
    asked: Vec<Vec<u8>>,
    now: Moment,
    pieces: usize,
}

/// The cells, and which of the parts was refused and why.
type Answered = (Vec<u8>, Vec<(usize, Refusal)>);

impl Site {
    fn new(setup: &Setup) -> Self {
        Self::with(setup, spaces())
    }

    /// A controller that has those tags, whatever the client takes it to have.
    fn with(setup: &Setup, spaces: Arc<Spaces>) -> Self {
        let memory =
            spaces.with_ids().map(|(id, space)| (id.0, vec![0; 4000 * space.grain.cell_bytes()])).collect();
        let (client, server) = (client(setup), server_of(setup, spaces.clone()));
        Self { client, server, spaces, memory, asked: vec![], now: Moment(0), pieces: 4000 }
    }

    fn ask(&mut self, ask: Ask) -> Result<Answered, Refusal> {
        self.client.ask(Ticket(1), ask);
        for _ in 0..100_000 {
            match self.client.poll(self.now) {
                Act::Done(_, result) => {
                    let refused = |own: Unsound| (own.part, own.refusal);
                    return result.map(|got| (got.cells, got.unsound.into_iter().map(refused).collect()));
                }
                Act::Came(..) | Act::Stopped(..) | Act::Tell(_) => panic!("nothing comes by itself"),
                Act::Send(bytes) => {
                    self.note(&bytes);
                    let pieces: Vec<Vec<u8>> = bytes.chunks(self.pieces).map(<[u8]>::to_vec).collect();
                    for piece in pieces {
                        self.server.handle(self.now, News::Bytes(&piece));
                    }
                }
                Act::WaitUntil(until) => {
                    if !self.serve() {
                        self.now = until;
                    }
                }
                Act::Rest => panic!("nothing is asked"),
                Act::HangUp(why) => panic!("{why}"),
            }
        }
        panic!("it has no end");
    }

    /// Lets the controller do one thing; whether there was any.
    fn serve(&mut self) -> bool {
        let missing = Refusal::new(Kind::NoSuchAddress, Blame::Device);
        match self.server.poll(self.now) {
            Serve::Send(bytes) => {
                for piece in bytes.chunks(self.pieces) {
                    self.client.handle(self.now, News::Bytes(piece));
                }
            }
            Serve::Want { want: Want::Read(extent), .. } => match self.room(extent) {
                Some((id, range)) => self.server.give(Ok(&self.memory[&id][range])),
                None => self.server.give(Err(missing)),
            },
            Serve::Want { want: Want::Write { extent, cells }, .. } => match self.room(extent) {
                Some((id, range)) => {
                    self.memory.get_mut(&id).unwrap()[range].copy_from_slice(&cells);
                    self.server.give(Ok(&[]));
                }
                None => self.server.give(Err(missing)),
            },
            Serve::Want { want: Want::Change(change), .. } => {
                let (id, range) = self.room(change.extent).unwrap();
                let new = change.of(&self.memory[&id][range.clone()]);
                self.memory.get_mut(&id).unwrap()[range].copy_from_slice(&new);
                self.server.give(Ok(&[]));
            }
            Serve::Rest => return false,
            other => panic!("{other:?}"),
        }
        true
    }

    fn room(&self, extent: Extent) -> Option<(u32, std::ops::Range<usize>)> {
        let each = self.spaces.get(extent.space)?.grain.cell_bytes();
        let range = extent.first as usize * each..extent.end() as usize * each;
        self.memory.get(&extent.space.0)?.get(range.clone())?;
        Some((extent.space.0, range))
    }

    fn note(&mut self, bytes: &[u8]) {
        let (message, _) = encap::parse(bytes, u16::MAX).unwrap().unwrap();
        if message.header.command != command::SEND_UNIT_DATA {
            return;
        }
        let data = Connected::parse(message.data).unwrap();
        let request = Request::parse(data.message).unwrap();
        let services = match request.service {
            service::MULTIPLE_SERVICE_PACKET => {
                Parts::parse(request.data).unwrap().iter().map(|part| part[0]).collect()
            }
            own => vec![own],
        };
        self.asked.push(services);
    }

    fn kind(&mut self, ask: Ask) -> Kind {
        self.ask(ask).unwrap_err().kind
    }
}

fn extent(space: u32, first: u32, count: u32) -> Extent {
    Extent { space: SpaceId(space), first, count }
}

fn parts(parts: &[Extent]) -> Ask {
    Ask::Read { station: 0, parts: parts.into() }
}

fn slot(slot: u32) -> Setup {
    Setup { numbers: vec![("slot", slot)], ..Setup::default() }
}

fn unconnected(slot: Option<u32>) -> Setup {
    let slot = slot.map(|slot| ("slot", slot));
    Setup { numbers: slot.into_iter().chain([("connected", 0)]).collect(), ..Setup::default() }
}

#[test]
fn several_tags_are_read_in_one_message() {
    let mut site = Site::new(&slot(3));
    site.memory.get_mut(&0).unwrap()[16..20].copy_from_slice(&23.5f32.to_be_bytes());
    site.memory.get_mut(&1).unwrap()[..4].copy_from_slice(&(-7i32).to_be_bytes());
    site.memory.get_mut(&2).unwrap()[40] = 1;
    site.memory.get_mut(&3).unwrap()[..5].copy_from_slice(b"hello");
    site.memory.get_mut(&4).unwrap()[0] = 1;
    let wanted = [extent(0, 4, 1), extent(1, 0, 1), extent(2, 32, 32), extent(3, 0, 1), extent(4, 0, 1)];
    let (cells, refused) = site.ask(parts(&wanted)).unwrap();
    assert_eq!(refused, []);
    let mut told = [23.5f32.to_be_bytes().to_vec(), (-7i32).to_be_bytes().to_vec()].concat();
    told.extend((32..64).map(|bit| u8::from(bit == 40)));
    told.extend_from_slice(b"hello");
    told.resize(told.len() + 77, 0);
    told.push(1);
    assert_eq!(cells, told);
    assert_eq!(site.asked, [vec![service::READ_TAG; 5]]);
}

#[test]
fn what_is_too_long_for_a_message_comes_in_fragments() {
    for setup in [slot(0), unconnected(None), unconnected(Some(2))] {
        let mut site = Site::new(&setup);
        let cells: Vec<u8> = (0..2000u32).flat_map(|at| (at as f32).to_be_bytes()).collect();
        let write = Ask::Write { station: 0, extent: extent(0, 10, 2000), cells: cells.clone() };
        site.ask(write).unwrap();
        assert_eq!(site.memory[&0][40..8040], cells);
        let (read, refused) = site.ask(parts(&[extent(1, 0, 1), extent(0, 10, 2000)])).unwrap();
        assert_eq!((read.len(), refused.len()), (8004, 0));
        assert_eq!(read[4..], cells);
        if setup == slot(0) {
            let all: Vec<u8> = site.asked.concat();
            assert_eq!(all.iter().filter(|own| **own == service::WRITE_TAG_FRAGMENTED).count(), 3);
            assert_eq!(all.iter().filter(|own| **own == service::READ_TAG_FRAGMENTED).count(), 3);
        }
    }
}

#[test]
fn a_tag_that_is_refused_leaves_the_others() {
    let mut site = Site::new(&Setup::default());
    site.memory.get_mut(&1).unwrap()[3] = 9;
    let (cells, refused) = site.ask(parts(&[extent(0, 9000, 1), extent(1, 0, 1)])).unwrap();
    assert_eq!(cells, [0, 0, 0, 0, 0, 0, 0, 9]);
    assert_eq!(refused.len(), 1);
    let (part, refusal) = refused[0];
    assert_eq!(
        (part, refusal.kind, refusal.native),
        (0, Kind::NoSuchAddress, Some(("CIP status", 0x0021_05FF)))
    );
    // All of them refused is a refusal.
    assert_eq!(site.kind(parts(&[extent(0, 9000, 1)])), Kind::NoSuchAddress);
}

#[test]
fn the_type_is_learnt_before_a_write_and_another_type_is_never_written() {
    let mut site = Site::new(&Setup::default());
    let write =
        |value: i32| Ask::Write { station: 0, extent: extent(1, 0, 1), cells: value.to_be_bytes().to_vec() };
    site.ask(write(5)).unwrap();
    site.ask(write(6)).unwrap();
    assert_eq!(site.asked, [[service::READ_TAG], [service::WRITE_TAG], [service::WRITE_TAG]]);
    assert_eq!(site.memory[&1][..4], 6i32.to_be_bytes());
    // The controller's programmer makes it a REAL while we run.
    let other: Spaces = [space("Hall.Temps[0]", "f32"), space("Count", "f32")].iter().collect();
    site.server.set_up(&ServerSetup { stations: vec![(None, Arc::new(other))], ..ServerSetup::default() });
    assert_eq!(site.kind(write(7)), Kind::TypeDiffers, "refused by the controller");
    let told = site.ask(write(8)).unwrap_err();
    assert_eq!(
        (told.kind, told.native),
        (Kind::TypeDiffers, Some(("CIP status", 0x0100_00CA))),
        "found to be a REAL"
    );
    assert_eq!(site.kind(parts(&[extent(1, 0, 1)])), Kind::TypeDiffers);
    assert_eq!(site.memory[&1][..4], 6i32.to_be_bytes());
}

#[test]
fn bits_are_changed_and_their_neighbours_stay() {
    let mut site = Site::new(&Setup::default());
    site.memory.get_mut(&2).unwrap()[..100].fill(1);
    let cells: Vec<u8> = (0..40).map(|at| u8::from(at % 3 == 0)).collect();
    site.ask(Ask::Write { station: 0, extent: extent(2, 30, 40), cells: cells.clone() }).unwrap();
    let told: Vec<u8> = [vec![1; 30], cells, vec![1; 30]].concat();
    assert_eq!(site.memory[&2][..100], told);
    assert_eq!(site.asked.last().unwrap(), &[service::READ_MODIFY_WRITE; 3]);
    let change = |keep: u8, set: u8| Ask::Change {
        station: 0,
        extent: extent(1, 0, 1),
        keep: vec![0xFF, 0xFF, 0xFF, keep],
        set: vec![0, 0, 0, set],
    };
    site.ask(change(0xF7, 0x08)).unwrap();
    site.ask(change(0xFE, 0x01)).unwrap();
    site.ask(change(0xF7, 0x00)).unwrap();
    assert_eq!(site.memory[&1][..4], [0, 0, 0, 1]);
}

/// Bits of several words of what turns out to be no array of bits: not one of them is changed.
#[test]
fn bits_of_another_type_are_never_written() {
    let other = [space("Hall.Temps[0]", "f32"), space("Count", "i32"), space("Alarms[0]", "i32")];
    let mut site = Site::with(&Setup::default(), Arc::new(other.iter().collect()));
    let write = Ask::Write { station: 0, extent: extent(2, 0, 96), cells: vec![1; 96] };
    assert_eq!(site.kind(write), Kind::TypeDiffers);
    assert_eq!(site.asked, [[service::READ_TAG]]);
}

#[test]
fn a_route_that_leads_nowhere_is_told() {
    let mut site = Site::new(&slot(3));
    site.server = server_of(&slot(0), spaces());
    let told = site.ask(parts(&[extent(1, 0, 1)])).unwrap_err();
    assert_eq!((told.kind, told.native), (Kind::NoPath, Some(("CIP status", 0x0003_1201))));
    site.server = server_of(&Setup::default(), spaces());
    site.client = client(&slot(3));
    assert_eq!(site.ask(parts(&[extent(1, 0, 1)])).unwrap_err().native, Some(("CIP status", 0x0003_1101)));
    // Unconnected, and the module beside the controller has no tags.
    site.server = server_of(&slot(3), spaces());
    site.client = client(&unconnected(None));
    assert_eq!(site.kind(parts(&[extent(1, 0, 1)])), Kind::NoSuchAddress);
}

#[test]
fn a_connection_that_was_not_used_is_opened_anew() {
    let mut site = Site::new(&Setup::default());
    site.ask(parts(&[extent(1, 0, 1)])).unwrap();
    site.now = site.now + 120_000_000;
    site.ask(parts(&[extent(1, 0, 1)])).unwrap();
    assert_eq!(site.asked.len(), 2, "none was lost");
}

#[test]
fn silence_ends_a_question_and_what_comes_late_is_ignored() {
    let mut site = Site::new(&Setup::default());
    site.ask(parts(&[extent(1, 0, 1)])).unwrap();
    site.client.ask(Ticket(2), parts(&[extent(1, 0, 1)]));
    let Act::Send(bytes) = site.client.poll(site.now) else { panic!() };
    site.server.handle(site.now, News::Bytes(&bytes));
    let Act::WaitUntil(until) = site.client.poll(site.now) else { panic!() };
    let Act::Done(_, Err(refusal)) = site.client.poll(until) else { panic!() };
    assert_eq!(refusal.kind, Kind::NoAnswer);
    site.memory.get_mut(&1).unwrap()[3] = 1;
    site.now = until;
    while site.serve() {}
    site.memory.get_mut(&1).unwrap()[3] = 2;
    assert_eq!(site.ask(parts(&[extent(1, 0, 1)])).unwrap().0, [0, 0, 0, 2]);
}

/// A server with a session, and what it says to a message of the message router in it.
struct Target {
    server: Box<dyn Server>,
    session: u32,
}

impl Target {
    fn new(setup: &Setup) -> Self {
        Self::with(setup, spaces())
    }

    fn with(setup: &Setup, spaces: Arc<Spaces>) -> Self {
        let mut target = Self { server: server_of(setup, spaces), session: 0 };
        let header = Header { command: command::REGISTER_SESSION, ..Header::default() };
        let said = target.say(&emitted(|out| header.emit_with(out, |out| Registration::OURS.emit(out))));
        target.session = encap::parse(&said, 8192).unwrap().unwrap().0.header.session;
        target
    }

    /// What it says to some bytes; whatever it wants is refused.
    fn say(&mut self, bytes: &[u8]) -> Vec<u8> {
        let mut said = vec![];
        self.server.handle(Moment(0), News::Bytes(bytes));
        loop {
            match self.server.poll(Moment(0)) {
                Serve::Send(bytes) => said.extend(bytes),
                Serve::Want { .. } => self.server.give(Err(Refusal::new(Kind::Lost, Blame::Device))),
                _ => return said,
            }
        }
    }

    fn rr(&mut self, message: &[u8]) -> Vec<u8> {
        let header = Header { command: command::SEND_RR_DATA, session: self.session, ..Header::default() };
        self.say(&emitted(|out| {
            header.emit_with(out, |out| Unconnected::emit_with(out, |out| out.extend_from_slice(message)));
        }))
    }

    /// The reply to a request, whose wants get what `give` has.
    fn answer<'c>(
        &mut self,
        message: &[u8],
        mut give: impl FnMut(Want) -> Result<&'c [u8], Refusal>,
    ) -> Vec<u8> {
        let header = Header { command: command::SEND_RR_DATA, session: self.session, ..Header::default() };
        let asked = emitted(|out| {
            header.emit_with(out, |out| Unconnected::emit_with(out, |out| out.extend_from_slice(message)));
        });
        let mut said = vec![];
        self.server.handle(Moment(0), News::Bytes(&asked));
        loop {
            match self.server.poll(Moment(0)) {
                Serve::Send(bytes) => said.extend(bytes),
                Serve::Want { want, .. } => self.server.give(give(want)),
                _ => break,
            }
        }
        Unconnected::parse(encap::parse(&said, 8192).unwrap().unwrap().0.data).unwrap().message.to_vec()
    }

    /// The general status and the first word of the reply to a request.
    fn status(&mut self, message: &[u8]) -> (u8, Option<u16>) {
        let said = self.rr(message);
        let data = Unconnected::parse(encap::parse(&said, 8192).unwrap().unwrap().0.data).unwrap().message;
        let reply = Reply::parse(data).unwrap();
        (reply.status, reply.word())
    }
}

fn emitted(write: impl FnOnce(&mut Vec<u8>)) -> Vec<u8> {
    let mut out = vec![];
    write(&mut out);
    out
}

fn bytes_of(hex: &str) -> Vec<u8> {
    (0..hex.len()).step_by(2).map(|at| u8::from_str_radix(&hex[at..at + 2], 16).unwrap()).collect()
}

/// Every unsound vector of the reference, said to the machine: it answers as the reference says, and goes on.
#[test]
fn unsound_messages_are_answered_as_the_reference_says_and_nothing_is_lost() {
    let all: Vec<serde_json::Value> =
        serde_json::from_str(include_str!("../../../../../wire/testdata/vectors-enip.json")).unwrap();
    let of = |name: &str| {
        bytes_of(all.iter().find(|vector| vector["name"] == name).unwrap()["hex"].as_str().unwrap())
    };
    let mut target = Target::new(&Setup::default());
    for (name, status) in [
        ("bad_path_overrun", (0x13, None)),
        ("bad_path_reply_bit", (0x08, None)),
        ("bad_msp_offset", (0x13, None)),
        ("bad_msp_count", (0x13, None)),
        ("bad_fo_path", (0x13, None)),
        ("bad_fo_path_long", (0x15, None)),
        ("bad_fo_type", (0x01, Some(0x0123))),
        ("bad_fo_mult", (0x01, Some(0x0133))),
        // Sound, and of things that are not here.
        ("id_badattr_req", (0x14, None)),
        ("id_badinst_req", (0x16, None)),
        ("id_badclass_req", (0x05, Some(0))),
        ("id_badsvc_req", (0x08, None)),
        ("tag_read_absent_req", (0x05, Some(0))),
        ("fo_excl_req", (0x01, Some(0x0117))),
        ("fc_unknown_req", (0x01, Some(0x0107))),
        ("usend_route_req", (0x01, Some(0x0311))),
        ("tcpip_status_req", (0, None)),
        ("elink_getall_req", (0, None)),
        ("mr_objlist_req", (0, None)),
        ("id_class_rev_req", (0, None)),
    ] {
        assert_eq!(target.status(&of(name)), status, "{name}");
    }
    for (name, status) in [
        ("bad_encap_command", 0x01),
        ("bad_register_len", 0x65),
        ("bad_register_flags", 0x69),
        ("encap_register_req", 0x01),
        ("full_sendrr_req", 0x64),
    ] {
        let said = target.say(&of(name));
        assert_eq!(encap::parse(&said, 8192).unwrap().unwrap().0.header.status, status, "{name}");
    }
    // Items that are none, in our own session.
    for name in
        ["bad_cpf_count", "bad_cpf_item_overrun", "bad_cpf_trailing", "bad_rr_wrong_item", "bad_iface"]
    {
        let mut bytes = of(name);
        bytes[4..8].copy_from_slice(&target.session.to_le_bytes());
        let said = target.say(&bytes);
        assert_eq!(encap::parse(&said, 8192).unwrap().unwrap().0.header.status, 3, "{name}");
    }
    assert_eq!(target.say(&of("bad_encap_options")), [0u8; 0], "ignored");
    assert_eq!(target.say(&of("encap_nop")), [0u8; 0]);
    // Several services within several are refused each for itself, and the others served.
    let inner = of("msp_req");
    let nested = emitted(|out| {
        out.extend_from_slice(&[0x0A, 2, 0x20, 2, 0x24, 1]);
        packet::emit_with(out, 2, |at, out| {
            out.extend_from_slice(if at == 0 { &inner } else { &[0x0E, 3, 0x20, 1, 0x24, 1, 0x30, 1] });
        });
    });
    let said = target.rr(&nested);
    let data = Unconnected::parse(encap::parse(&said, 8192).unwrap().unwrap().0.data).unwrap().message;
    let replies = Parts::parse(Reply::parse(data).unwrap().data).unwrap();
    let statuses: Vec<u8> = replies.iter().map(|part| Reply::parse(part).unwrap().status).collect();
    assert_eq!(statuses, [0x08, 0]);
    // It is still there.
    assert_eq!(target.status(&of("id_getsingle_req")), (0, None));
}

/// A controller whose memory is data tables.
fn of_tables() -> Setup {
    Setup { words: vec![("memory", "tables".into())], ..Setup::default() }
}

/// Some files of its.
fn files() -> Arc<Spaces> {
    let tables = dialect("ethernet-ip").unwrap().by_memory(&of_tables()).unwrap();
    let setup = Setup::default();
    let space = |text: &str| tables.notation().parse(text, &AddressContext::of_device(&setup)).unwrap().space;
    let all = ["N7:0", "F8:0", "B3:0", "T4:0", "T4:0.PRE", "T4:0.ACC", "L10:0"].map(space);
    Arc::new(all.iter().collect())
}

/// What is wanted, in words, and what is given.
type Given<'g> = (&'g str, &'g [u8]);

/// Every vector of data tables, said to the machine.
#[test]
fn commands_for_data_tables_are_answered_as_the_reference_says() {
    let all: Vec<serde_json::Value> =
        serde_json::from_str(include_str!("../../../../../wire/testdata/vectors-enip.json")).unwrap();
    let of = |name: &str| {
        bytes_of(all.iter().find(|vector| vector["name"] == name).unwrap()["hex"].as_str().unwrap())
    };
    let mut target = Target::with(&of_tables(), files());
    // What each wants, and what it is given.
    let said: [(&str, &[Given<'_>]); 6] = [
        ("pccc_read_n7", &[("read N7 10 x2", &[0, 123, 0xFF, 0xFB])]),
        ("pccc_read_f8", &[("read F8 300 x1", &[0xC2, 0x20, 0, 0])]),
        (
            "pccc_read_timer",
            &[
                ("read T4 2 x1", &[0xE0, 0]),
                ("read T4.PRE 2 x1", &[0x01, 0xF4]),
                ("read T4.ACC 2 x1", &[0, 0x7B]),
            ],
        ),
        ("pccc_write_n7", &[("write N7 0 x1 FED4", &[])]),
        ("pccc_mask_b3", &[("change B3 1 x1 FFDF 0020", &[])]),
        ("pccc_err", &[]),
    ];
    for (name, wants) in said {
        let mut wants = wants.iter();
        let answer = target.answer(&of(&format!("{name}_req")), |want| {
            let (wanted, cells) = wants.next().unwrap();
            assert_eq!(told(&want), *wanted, "{name}");
            Ok(cells)
        });
        assert_eq!(answer, of(&format!("{name}_rsp")), "{name}");
        assert!(wants.next().is_none(), "{name}");
    }
    assert_eq!(target.status(&of("bad_pccc_reqid")), (0x20, None));
    for name in ["bad_pccc_cut", "bad_pccc_short"] {
        let answer = target.answer(&of(name), |_| unreachable!("{name}"));
        assert_eq!(answer[4 + 7 + 1], 0x10, "{name}: the status of the command");
    }
    // What it has no names for, and who has names and no files.
    assert_eq!(target.status(&of("tag_read_absent_req")), (0x05, Some(0)));
    assert_eq!(Target::new(&Setup::default()).status(&of("pccc_read_n7_req")), (0x05, Some(0)));
    // A refusal is the command's, by its number.
    let lost = target.answer(&of("pccc_read_n7_req"), |_| Err(Refusal::new(Kind::Lost, Blame::Device)));
    assert_eq!(lost[4 + 7..4 + 7 + 2], [0x4F, 0x30]);
    assert_eq!(target.server.native(Refusal::new(Kind::Lost, Blame::Device)).0, 0x30);
}

/// What is wanted, in words.
fn told(want: &Want) -> String {
    let files = files();
    let hex = |cells: &[u8]| cells.iter().map(|byte| format!("{byte:02X}")).collect::<String>();
    let place = |extent: &Extent| {
        let key = files.get(extent.space).unwrap().key.to_string();
        format!("{key} {} x{}", extent.first, extent.count)
    };
    match want {
        Want::Read(extent) => format!("read {}", place(extent)),
        Want::Write { extent, cells } => format!("write {} {}", place(extent), hex(cells)),
        Want::Change(change) => {
            format!("change {} {} {}", place(&change.extent), hex(&change.keep), hex(&change.set))
        }
        other => format!("{other:?}"),
    }
}

#[test]
fn fragments_that_make_no_progress_end() {
    let mut services =
        Services::read(vec![WantedPart::new(space("Hall.Temps[0]", "f32"), extent(0, 0, 10), None)]);
    let terms = Terms { most: 500, one_by_one: false };
    assert!(services.message(terms).is_some());
    // Some, and more to come; then none, and still more to come.
    assert!(services.answered(&[0xCC, 0, 6, 0, 0xCA, 0, 1, 2, 3, 4]).is_ok());
    assert!(services.message(terms).is_some());
    let Err(refusal) = services.answered(&[0xD2, 0, 6, 0, 0xCA, 0]) else { panic!("it goes on for ever") };
    assert_eq!(refusal.kind, Kind::Mismatch);
}

proptest! {
    #[test]
    fn the_two_carry_any_values_in_any_pieces(
        cells in prop::collection::vec(any::<u8>(), 1..900), first in 0u32..40, pieces in 1usize..700, connected in any::<bool>(),
    ) {
        let setup = if connected { slot(1) } else { unconnected(Some(1)) };
        let mut site = Site::new(&setup);
        site.pieces = pieces;
        for (space, each) in [(0u32, 4usize), (5, 2), (2, 1)] {
            let whole = cells.len() / each * each;
            if whole == 0 {
                continue;
            }
            let own: Vec<u8> = cells[..whole].iter().map(|byte| if space == 2 { byte & 1 } else { *byte }).collect();
            let extent = extent(space, first, u32::try_from(whole / each).unwrap());
            site.ask(Ask::Write { station: 0, extent, cells: own.clone() }).unwrap();
            prop_assert_eq!(site.ask(parts(&[extent])).unwrap().0, own);
        }
    }

    #[test]
    fn no_bytes_do_harm(noise in prop::collection::vec(any::<u8>(), 0..80), opened in any::<bool>()) {
        let mut site = Site::new(&Setup::default());
        if opened {
            site.ask(parts(&[extent(1, 0, 1)])).unwrap();
        }
        site.server.handle(site.now, News::Bytes(&noise));
        while let Serve::Send(_) | Serve::Want { .. } = site.server.poll(site.now) {
            site.server.give(Ok(&[0, 0]));
        }
        site.client.ask(Ticket(2), parts(&[extent(1, 0, 1)]));
        site.client.handle(site.now, News::Bytes(&noise));
        for at in [0, 0, 0, 4_000_000, 4_000_000] {
            if let Act::Done(_, result) = site.client.poll(Moment(at)) {
                prop_assert!(result.is_err());
            }
        }
    }

    #[test]
    fn no_command_for_data_tables_does_harm(
        function in prop::sample::select(vec![0x00u8, 0x01, 0x26, 0x67, 0x68, 0xA1, 0xA2, 0xA9, 0xAA, 0xAB]),
        rest in prop::collection::vec(any::<u8>(), 0..40),
        cells in prop::collection::vec(any::<u8>(), 0..260),
    ) {
        let mut target = Target::with(&of_tables(), files());
        let body = [&[function][..], &rest].concat();
        let asked = Execute { requester: b"WOODRUSH", cmd: COMMAND, sts: 0, tns: 0x1746, body: &body };
        let answer = target.answer(&emitted(|out| asked.emit_request(out)), |_| Ok(&cells));
        let reply = Reply::parse(&answer).unwrap();
        prop_assert_eq!(reply.status, 0);
        prop_assert!(Execute::parse(reply.data).unwrap().replies_to(b"WOODRUSH", COMMAND, 0x1746));
        // A client may be answered anything.
        let mut site = Site::new(&of_tables());
        site.client.ask(Ticket(1), Ask::read(0, extent(0, 0, 1)));
        site.client.handle(site.now, News::Bytes(&answer));
        while let Act::Send(_) = site.client.poll(site.now) {}
    }
}
