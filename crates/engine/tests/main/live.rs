//! A converter on real ptys and sockets, and somebody who asks it.

use crate::site::checked;
use std::io::{Read, Write};
use std::net::TcpStream;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use woodrush_core::plan::Plan;
use woodrush_engine::converter::{Bindings, Event, Running, start};
use woodrush_engine::rig::Rig;
use woodrush_wire::modbus::tcp;

/// One device, one image, one value that clients write and read.
pub(crate) const SMALL: &str = r#"
[ports.raceway]
serial = "/dev/ttyUSB0"
line = "115200 8E1"
protocol = "modbus-rtu"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.gauge]
port = "raceway"
unit = 23
poll = "50ms"
[images.scada]
port = "office"
[[map]]
from = "gauge:400001"
to = "scada:400001"
[[map]]
from = "scada:400101"
to = "scada:400201"
"#;

/// A converter on real ptys and sockets, with the bench where it is wanted.
pub(crate) struct Up {
    pub(crate) running: Running,
    pub(crate) told: Arc<Mutex<Vec<Event>>>,
    pub(crate) rig: Option<Rig>,
}

impl Up {
    pub(crate) fn start(text: &str, with_rig: bool, change: impl FnOnce(&mut Bindings)) -> Self {
        let checked = Arc::new(checked(text));
        let plan = Arc::new(Plan::build(&checked.project, &mut vec![]));
        let rig = with_rig.then(|| Rig::up(Arc::clone(&checked), &|_| Err(String::new())).unwrap());
        let mut bindings = rig.as_ref().map(Rig::bindings).unwrap_or_default();
        bindings.bench = Some(Arc::default());
        change(&mut bindings);
        let told: Arc<Mutex<Vec<Event>>> = Arc::default();
        let teller = Arc::clone(&told);
        let running =
            start(&checked, plan, &bindings, move |event| teller.lock().unwrap().push(event)).unwrap();
        Self { running, told, rig }
    }

    pub(crate) fn at(&self, port: usize) -> std::net::SocketAddr {
        self.running.listening().iter().find(|(own, _)| *own == port).unwrap().1
    }

    pub(crate) fn reload(&mut self, text: &str) -> String {
        let checked = checked(text);
        let plan = Arc::new(Plan::build(&checked.project, &mut vec![]));
        self.running.reload(&checked, plan).unwrap()
    }
}

/// Waits for something that must come about.
pub(crate) fn until(what: &str, mut done: impl FnMut() -> bool) {
    let begun = Instant::now();
    while !done() {
        assert!(begun.elapsed() < Duration::from_secs(20), "{what} never came about");
        std::thread::sleep(Duration::from_millis(5));
    }
}

/// Reads registers over MBAP; the values, or the exception.
pub(crate) fn ask(stream: &mut TcpStream, unit: u8, offset: u16, count: u16) -> Result<Vec<u16>, u8> {
    let [high, low] = offset.to_be_bytes();
    let mut frame = vec![];
    tcp::emit(7, unit, &[3, high, low, 0, u8::try_from(count).unwrap()], &mut frame);
    stream.write_all(&frame).unwrap();
    let mut head = [0; 9];
    stream.read_exact(&mut head).unwrap();
    if head[7] == 0x83 {
        return Err(head[8]);
    }
    let mut data = vec![0; usize::from(head[8])];
    stream.read_exact(&mut data).unwrap();
    Ok(data.chunks(2).map(|pair| u16::from_be_bytes([pair[0], pair[1]])).collect())
}
