//! Controllers with tags that are not what the project says: a tag that is not there, one whose type is changed while we
//! run, one that may not be written, and a connection that is not given.

use crate::live::{Up, ask, until};
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::sync::{Arc, Mutex};
use woodrush_core::form::Form;
use woodrush_core::protocol::{AddressContext, Setup, Space, Spaces, dialect};
use woodrush_core::{Blame, Kind, Refusal};
use woodrush_engine::Moment;
use woodrush_engine::converter::Event;
use woodrush_engine::speak::{News, Serve, ServerSetup, Want, speaker};

const SITE: &str = r#"
[ports.hall]
connect = "192.0.2.60:44818"
protocol = "ethernet-ip"
timeout = "500ms"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.press]
port = "hall"
poll = "50ms"
[images.scada]
port = "office"
[[map]]
from = "press:Level as i16"
to = "scada:400001"
[[map]]
from = "press:Speed as i16"
to = "scada:400002"
[[map]]
from = "scada:400011 as i16"
to = "press:Setpoint as i16"
"#;

/// What a stand-in has and does; it may be changed while it is asked.
#[derive(Clone)]
struct Controller(Arc<Mutex<State>>);

struct State {
    tags: Vec<(&'static str, &'static str)>,
    /// What is written to a tag of that name is refused.
    read_only: bool,
    written: Vec<Vec<u8>>,
    /// Requests of that service are answered as not served.
    unserved: Vec<u8>,
}

fn space(name: &str, form: &str) -> Space {
    let setup = Setup::default();
    let context = AddressContext::of_device(&setup).with_form(Some(Form::parse(form).unwrap()));
    dialect("ethernet-ip").unwrap().notation().parse(name, &context).unwrap().space
}

impl Controller {
    fn with(tags: &[(&'static str, &'static str)]) -> Self {
        let state = State { tags: tags.to_vec(), read_only: false, written: vec![], unserved: vec![] };
        Self(Arc::new(Mutex::new(state)))
    }

    fn change(&self, change: impl FnOnce(&mut State)) {
        change(&mut self.0.lock().unwrap());
    }

    fn setup(&self) -> ServerSetup {
        let spaces: Spaces = self
            .0
            .lock()
            .unwrap()
            .tags
            .iter()
            .map(|(name, form)| space(name, form))
            .collect::<Vec<_>>()
            .iter()
            .collect();
        ServerSetup { stations: vec![(None, Arc::new(spaces))], ..ServerSetup::default() }
    }

    /// Begins to listen.
    fn listen(&self) -> SocketAddr {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let (at, own) = (listener.local_addr().unwrap(), self.clone());
        std::thread::spawn(move || {
            for stream in listener.incoming() {
                own.answer(&mut stream.unwrap());
            }
        });
        at
    }

    fn answer(&self, stream: &mut TcpStream) {
        let mut server = (speaker("ethernet-ip").unwrap().server.unwrap())(&self.setup());
        let mut chunk = [0; 4096];
        server.handle(Moment(0), News::Up);
        while let Ok(count @ 1..) = stream.read(&mut chunk) {
            server.set_up(&self.setup());
            let mut bytes = chunk[..count].to_vec();
            // The service stands behind the headers of a message without a connection.
            if let Some(service) =
                bytes.get_mut(40).filter(|service| self.0.lock().unwrap().unserved.contains(service))
            {
                *service = 0x32;
            }
            server.handle(Moment(0), News::Bytes(&bytes));
            loop {
                match server.poll(Moment(0)) {
                    Serve::Send(bytes) => stream.write_all(&bytes).unwrap(),
                    Serve::Want { want: Want::Read(extent), .. } => {
                        server.give(Ok(&[0x06, 0xD2].repeat(extent.count as usize)));
                    }
                    Serve::Want { want: Want::Write { cells, .. }, .. } => {
                        let mut state = self.0.lock().unwrap();
                        if state.read_only {
                            server.give(Err(Refusal::new(Kind::ReadOnly, Blame::Device)));
                        } else {
                            state.written.push(cells);
                            server.give(Ok(&[]));
                        }
                    }
                    Serve::Rest | Serve::WaitUntil(_) => break,
                    Serve::HangUp(_) => return,
                    other => panic!("{other:?}"),
                }
            }
        }
    }
}

fn up(controller: &Controller) -> (Up, TcpStream) {
    let at = controller.listen();
    let up = Up::start(SITE, false, |bindings| {
        bindings.connect.insert(0, at);
    });
    let stream = TcpStream::connect(up.at(1)).unwrap();
    (up, stream)
}

/// Writes one register; the exception where it is refused.
fn write(stream: &mut TcpStream, offset: u8, value: u8) -> Option<u8> {
    stream.write_all(&[0, 9, 0, 0, 0, 6, 1, 6, 0, offset, 0, value]).unwrap();
    let mut head = [0; 9];
    stream.read_exact(&mut head).unwrap();
    if head[7] & 0x80 != 0 {
        return Some(head[8]);
    }
    stream.read_exact(&mut [0; 3]).unwrap();
    None
}

fn told(up: &Up) -> Vec<(Kind, u32)> {
    let told = up.told.lock().unwrap();
    let of = |event: &Event| match event {
        Event::PartRefused { refusal, .. } | Event::Refused { refusal, .. } => {
            Some((refusal.kind, refusal.native.map_or(0, |(_, code)| code)))
        }
        _ => None,
    };
    told.iter().filter_map(of).collect()
}

#[test]
fn a_tag_that_is_not_there_costs_itself_alone() {
    let controller = Controller::with(&[("Level", "i16"), ("Setpoint", "i16")]);
    let (up, mut stream) = up(&controller);
    until("the one that is there", || ask(&mut stream, 1, 0, 1) == Ok(vec![1746]));
    assert_eq!(ask(&mut stream, 1, 1, 1), Err(11), "the other has no value");
    assert_eq!(told(&up), [(Kind::NoSuchAddress, 0x05)], "and is told once");
    // Its programmer makes it: it is there with the next poll.
    controller.change(|state| state.tags.push(("Speed", "i16")));
    until("the other", || ask(&mut stream, 1, 0, 2) == Ok(vec![1746, 1746]));
}

#[test]
fn a_type_that_changes_while_we_run_is_told_and_nothing_of_it_is_shown_or_written() {
    let controller = Controller::with(&[("Level", "i16"), ("Speed", "i16"), ("Setpoint", "i16")]);
    let (up, mut stream) = up(&controller);
    until("both values", || ask(&mut stream, 1, 0, 2) == Ok(vec![1746, 1746]));
    assert_eq!(write(&mut stream, 10, 7), None);
    assert_eq!(controller.0.lock().unwrap().written, [[0, 7]]);
    controller.change(|state| state.tags = vec![("Level", "i16"), ("Speed", "u16"), ("Setpoint", "u16")]);
    until("the loss", || ask(&mut stream, 1, 1, 1) == Err(11));
    assert_eq!(ask(&mut stream, 1, 0, 1), Ok(vec![1746]));
    assert_eq!(told(&up), [(Kind::TypeDiffers, 0x0100_00C7)], "a UINT, where the project says INT");
    for _ in 0..2 {
        assert!(
            write(&mut stream, 10, 8).is_some(),
            "the controller refuses it, then the type is known to differ"
        );
    }
    assert_eq!(controller.0.lock().unwrap().written.len(), 1);
    controller.change(|state| state.tags = vec![("Level", "i16"), ("Speed", "i16"), ("Setpoint", "i16")]);
    until("both again", || ask(&mut stream, 1, 0, 2) == Ok(vec![1746, 1746]));
    assert_eq!(write(&mut stream, 10, 9), None);
}

#[test]
fn a_tag_that_may_not_be_written_is_an_exception_to_the_client() {
    let controller = Controller::with(&[("Level", "i16"), ("Speed", "i16"), ("Setpoint", "i16")]);
    controller.change(|state| state.read_only = true);
    let (_up, mut stream) = up(&controller);
    until("both values", || ask(&mut stream, 1, 0, 2) == Ok(vec![1746, 1746]));
    assert_eq!(write(&mut stream, 10, 7), Some(2));
    controller.change(|state| state.read_only = false);
    assert_eq!(write(&mut stream, 10, 7), None);
}

#[test]
fn without_a_large_connection_an_ordinary_one_is_taken_and_without_both_none() {
    for unserved in [vec![0x5B], vec![0x5B, 0x54]] {
        let controller = Controller::with(&[("Level", "i16"), ("Speed", "i16"), ("Setpoint", "i16")]);
        controller.change(|state| state.unserved = unserved);
        let (up, mut stream) = up(&controller);
        until("both values", || ask(&mut stream, 1, 0, 2) == Ok(vec![1746, 1746]));
        assert_eq!(told(&up), []);
    }
}
