//! The site of the endurance run: a device behind every protocol, an image of every protocol, and each kind of rule
//! between them.
//!
//! Every device shows the time of each read in two places, in its own number range, so that a value tells from whom it
//! comes, how old it is to the hundredth of a second, and whether it is whole.

use std::fmt::Write;
use std::sync::Arc;
use woodrush_core::check::Checked;

/// A value stands for so many microseconds.
pub const STEP: u64 = 10_000;
/// How many values one device has before it begins again; its number stands above them.
pub const ROUND: u32 = 1 << 26;

/// A device of the site.
pub struct Device {
    /// Its name.
    pub name: &'static str,
    keys: &'static str,
    /// Index of the port.
    pub port: usize,
    kind: Kind,
}

/// An image of the site.
pub struct Image {
    /// Its name.
    pub name: &'static str,
    keys: &'static str,
    kind: Kind,
}

/// Which addresses there are.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    Registers,
    Table,
    Blocks,
    Tags,
}

const PORTS: &str = r#"
[converter]
write-log = "writes.csv"
[ports.bus]
serial = "/dev/ttyS0"
line = "38400 8E1"
protocol = "modbus-rtu"
timeout = "150ms"
[ports.old]
serial = "/dev/ttyS1"
line = "19200 7E1"
protocol = "modbus-ascii"
timeout = "400ms"
[ports.hall]
connect = "192.0.2.31:502"
protocol = "modbus-tcp"
timeout = "300ms"
[ports.gateway]
connect = "192.0.2.32:4001"
protocol = "modbus-rtu"
timeout = "300ms"
[ports.link]
serial = "/dev/ttyS2"
line = "19200 8N1"
protocol = "df1"
timeout = "500ms"
ack-timeout = "150ms"
[ports.multidrop]
serial = "/dev/ttyS3"
line = "19200 8N1"
protocol = "df1-half"
timeout = "500ms"
ack-timeout = "150ms"
[ports.fetching]
connect = "192.0.2.33:2000"
protocol = "fetch-write"
local-tsap = "01.00"
remote-tsap = "'FETCH'"
timeout = "500ms"
[ports.writing]
connect = "192.0.2.33:2001"
protocol = "fetch-write"
local-tsap = "01.00"
remote-tsap = "'WRITE'"
timeout = "500ms"
[ports.press]
connect = "192.0.2.34:44818"
protocol = "ethernet-ip"
timeout = "300ms"
[ports.packer]
connect = "192.0.2.35:44818"
protocol = "ethernet-ip"
timeout = "300ms"
[ports.office]
listen = "0.0.0.0:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[ports.panel]
serial = "/dev/ttyS4"
line = "19200 8E1"
protocol = "modbus-rtu"
[ports.mimic]
serial = "/dev/ttyS5"
line = "19200 7E1"
protocol = "modbus-ascii"
[ports.desk]
serial = "/dev/ttyS6"
line = "19200 8N1"
protocol = "df1"
[ports.board]
serial = "/dev/ttyS7"
line = "19200 8N1"
protocol = "df1-half"
[ports.cells]
listen = "0.0.0.0:2000"
protocol = "fetch-write"
allow = ["192.0.2.0/24"]
[ports.names]
listen = "0.0.0.0:44818"
protocol = "ethernet-ip"
allow = ["192.0.2.0/24"]
[[forward]]
from = "office"
units = "101-102"
to = "bus"
as-units = "1-2"
"#;

/// What the programmer of the controller with tags has declared: bits are of a word whose width something must state.
const TAGS: &str = "name,type,elements\nHall.Clock,DINT,2\nSetpoint,INT,\nProgram:Pace.Commands,INT,7\nFlags,INT,\nTold.Time,DINT,\nTold.Setpoint,INT,\nTold.Online,BOOL,\nTold.Heartbeat,UINT,\n";

/// Ports on which the converter asks.
pub const ASKED: usize = 10;

/// Every device.
pub const DEVICES: [Device; 11] = [
    Device { name: "rtu-1", keys: "port = \"bus\"\nunit = 1", port: 0, kind: Kind::Registers },
    Device { name: "rtu-2", keys: "port = \"bus\"\nunit = 2", port: 0, kind: Kind::Registers },
    Device { name: "ascii", keys: "port = \"old\"\nunit = 3", port: 1, kind: Kind::Registers },
    Device { name: "tcp-1", keys: "port = \"hall\"\nunit = 1", port: 2, kind: Kind::Registers },
    Device { name: "tcp-2", keys: "port = \"hall\"\nunit = 2", port: 2, kind: Kind::Registers },
    Device { name: "box", keys: "port = \"gateway\"\nunit = 7", port: 3, kind: Kind::Registers },
    Device { name: "full", keys: "port = \"link\"\nnode = 1", port: 4, kind: Kind::Table },
    Device { name: "half", keys: "port = \"multidrop\"\nnode = 4", port: 5, kind: Kind::Table },
    Device {
        name: "blocks",
        keys: "port = \"fetching\"\nwrite-port = \"writing\"",
        port: 6,
        kind: Kind::Blocks,
    },
    Device {
        name: "press",
        keys: "port = \"press\"\nslot = 0\ntags = \"press.csv\"",
        port: 8,
        kind: Kind::Tags,
    },
    Device { name: "packer", keys: "port = \"packer\"\nmemory = \"tables\"", port: 9, kind: Kind::Table },
];

/// Every image.
pub const IMAGES: [Image; 7] = [
    Image { name: "scada", keys: "port = \"office\"\nunit = 1", kind: Kind::Registers },
    Image { name: "slave", keys: "port = \"panel\"\nunit = 5", kind: Kind::Registers },
    Image { name: "text", keys: "port = \"mimic\"\nunit = 6", kind: Kind::Registers },
    Image { name: "table", keys: "port = \"desk\"\nnode = 8", kind: Kind::Table },
    Image { name: "node", keys: "port = \"board\"\nnode = 9", kind: Kind::Table },
    Image { name: "cells-of-blocks", keys: "port = \"cells\"\non-loss = \"refuse\"", kind: Kind::Blocks },
    Image { name: "tags", keys: "port = \"names\"", kind: Kind::Tags },
];

impl Device {
    /// Where it shows the time, in two places next to each other, with their forms.
    #[must_use]
    pub const fn clocks(&self) -> [(&'static str, &'static str); 2] {
        match self.kind {
            Kind::Registers => [("400001", "u32 ABCD"), ("400003", "u32 CDAB")],
            Kind::Table => [("L10:0", "i32"), ("L10:1", "i32")],
            Kind::Blocks => [("%DB10.D0", "u32"), ("%DB10.D4", "u32")],
            Kind::Tags => [("Hall.Clock[0]", "i32"), ("Hall.Clock[1]", "i32")],
        }
    }

    /// What all clients set.
    #[must_use]
    pub const fn setpoint(&self) -> &'static str {
        match self.kind {
            Kind::Registers => "400011",
            Kind::Table => "N7:0",
            Kind::Blocks => "%DB10.W20",
            Kind::Tags => "Setpoint as i16",
        }
    }

    /// What the clients of one image send it.
    #[must_use]
    pub fn command(&self, image: usize) -> String {
        match self.kind {
            Kind::Registers => format!("{}", 400_021 + image),
            Kind::Table => format!("N7:{}", 20 + image),
            Kind::Blocks => format!("%DB10.W{}", 40 + 2 * image),
            Kind::Tags => format!("Program:Pace.Commands[{image}] as i16"),
        }
    }

    /// A word of which the clients of each image set one bit.
    #[must_use]
    pub const fn bits(&self) -> &'static str {
        match self.kind {
            Kind::Registers => "400013",
            Kind::Table => "N7:2",
            Kind::Blocks => "%DB10.W24",
            Kind::Tags => "Flags as i16",
        }
    }

    fn bit(&self, at: usize) -> String {
        match self.kind {
            Kind::Registers => format!("400013.{at}"),
            Kind::Table => format!("N7:2/{at}"),
            // Bits of a word are counted from its low byte, which is the one behind.
            Kind::Blocks => format!("%DB10.X{}.{}", 25 - at / 8, at % 8),
            Kind::Tags => format!("Flags.{at}"),
        }
    }

    /// Where it is sent another device's time.
    #[must_use]
    pub const fn told_time(&self) -> (&'static str, &'static str) {
        match self.kind {
            Kind::Registers => ("400031", "u32 CDAB"),
            Kind::Table => ("L11:0", "i32"),
            Kind::Blocks => ("%DB11.D0", "u32"),
            Kind::Tags => ("Told.Time", "i32"),
        }
    }

    /// Where it is sent another device's setpoint.
    #[must_use]
    pub const fn told_setpoint(&self) -> &'static str {
        match self.kind {
            Kind::Registers => "400041",
            Kind::Table => "N12:0",
            Kind::Blocks => "%DB12.W0",
            Kind::Tags => "Told.Setpoint as i16",
        }
    }

    /// Where it is told whether another device answers, and the converter's heartbeat.
    const fn told_health(&self) -> [&'static str; 2] {
        match self.kind {
            Kind::Registers => ["000033", "400045"],
            Kind::Table => ["N13:0/3", "N13:2"],
            Kind::Blocks => ["%DB13.X0.3", "%DB13.W2"],
            Kind::Tags => ["Told.Online as bool", "Told.Heartbeat as u16"],
        }
    }
}

impl Image {
    /// Where it shows the times of a device.
    #[must_use]
    pub fn clocks(&self, device: usize) -> [(String, &'static str); 2] {
        match self.kind {
            Kind::Registers => [
                (format!("{}", 400_001 + 10 * device), "u32 CDAB"),
                (format!("{}", 400_003 + 10 * device), "u32 ABCD"),
            ],
            Kind::Table => {
                [(format!("L20:{}", 2 * device), "i32"), (format!("L20:{}", 2 * device + 1), "i32")]
            }
            Kind::Blocks => {
                [(format!("%DB20.D{}", 16 * device), "u32"), (format!("%DB20.D{}", 16 * device + 4), "u32")]
            }
            Kind::Tags => {
                [(format!("Clocks[{}]", 2 * device), "i32"), (format!("Clocks[{}]", 2 * device + 1), "i32")]
            }
        }
    }

    fn word(&self, file: usize, at: usize) -> String {
        match self.kind {
            Kind::Registers => format!("{}", 400_001 + 1000 * (file - 30) + at),
            Kind::Table => format!("N{file}:{at}"),
            Kind::Blocks => format!("%DB{file}.W{}", 2 * at),
            Kind::Tags => format!("Words{file}[{at}] as i16"),
        }
    }

    /// A device's setpoint.
    #[must_use]
    pub fn setpoint(&self, device: usize) -> String {
        self.word(31, device)
    }

    /// What its clients send a device.
    #[must_use]
    pub fn command(&self, device: usize) -> String {
        self.word(32, device)
    }

    /// The age of a device's values.
    #[must_use]
    pub fn age(&self, device: usize) -> String {
        self.word(33, device)
    }

    /// What the clients of two images exchange.
    #[must_use]
    pub fn exchanged(&self, with: usize) -> String {
        self.word(34, with)
    }

    /// A device's bit that its clients set.
    #[must_use]
    pub fn bit(&self, device: usize) -> String {
        match self.kind {
            Kind::Registers => format!("{:06}", 101 + device),
            Kind::Table => format!("B35:{device}/0"),
            Kind::Blocks => format!("%DB35.X{}.0", 2 * device),
            Kind::Tags => format!("Bits[{device}] as bool"),
        }
    }

    /// Whether a device answers.
    #[must_use]
    pub fn online(&self, device: usize) -> String {
        match self.kind {
            Kind::Registers => format!("{}", 100_001 + device),
            Kind::Table => format!("B36:{device}/0"),
            Kind::Blocks => format!("%DB36.X{}.0", 2 * device),
            Kind::Tags => format!("Online[{device}] as bool"),
        }
    }
}

/// Whether writes of an image's clients to a device are answered before the device has answered.
#[must_use]
pub const fn is_unconfirmed(image: usize, device: usize) -> bool {
    (image + device) % 3 == 2
}

/// The device that a device sends its time to.
#[must_use]
pub const fn next(device: usize) -> usize {
    (device + 1) % DEVICES.len()
}

/// What a device is sent once the other one is lost: nothing, the last time, or this.
#[must_use]
pub const fn on_loss(device: usize) -> &'static str {
    match device % 4 {
        1 => "hold",
        3 => "fill 0x0505",
        _ => "stop",
    }
}

/// The site, read and checked.
///
/// # Panics
/// It has errors, which is a bug here.
#[must_use]
pub fn checked() -> Arc<Checked> {
    crate::checked_with(text(), &|path| {
        if path == "press.csv" { Ok(TAGS.into()) } else { Err(String::new()) }
    })
}

/// The site as a file.
fn text() -> String {
    let mut text = String::from(PORTS);
    let mut say = |more: std::fmt::Arguments<'_>| {
        // Writing into a text cannot fail.
        let _ = text.write_fmt(more);
    };
    for device in &DEVICES {
        say(format_args!(
            "[devices.{}]\n{}\npoll = \"1s\"\nretry-lost = \"1s..5s\"\n",
            device.name, device.keys
        ));
    }
    for image in &IMAGES {
        say(format_args!("[images.{}]\n{}\n", image.name, image.keys));
    }
    for (d, device) in DEVICES.iter().enumerate() {
        let name = device.name;
        for (i, image) in IMAGES.iter().enumerate() {
            let shown = image.name;
            for (own, there) in device.clocks().iter().zip(image.clocks(d)) {
                say(format_args!(
                    "[[map]]\nfrom = \"{name}:{} as {}\"\nto = \"{shown}:{} as {}\"\ntogether = \"g-{d}-{i}\"\n",
                    own.0, own.1, there.0, there.1
                ));
            }
            say(format_args!(
                "[[map]]\nfrom = \"{name}:{}\"\nto = \"{shown}:{}\"\naccess = \"read-write\"\n",
                device.setpoint(),
                image.setpoint(d)
            ));
            say(format_args!(
                "[[map]]\nfrom = \"{name}:{}\"\nto = \"{shown}:{}\"\naccess = \"read-write\"\n",
                device.bit(i),
                image.bit(d)
            ));
            say(format_args!(
                "[[map]]\nfrom = \"{shown}:{}\"\nto = \"{name}:{}\"\nanswer = \"{}\"\nsend = \"on-write\"\n",
                image.command(d),
                device.command(i),
                if is_unconfirmed(i, d) { "at-once" } else { "after-device" }
            ));
            say(format_args!(
                "[[map]]\nfrom = \"{name}.health.online\"\nto = \"{shown}:{}\"\n[[map]]\nfrom = \"{name}.health.age\"\nto = \"{shown}:{}\"\n",
                image.online(d),
                image.age(d)
            ));
        }
        let (to, clock, told) = (&DEVICES[next(d)], device.clocks()[0], DEVICES[next(d)].told_time());
        let send = if d % 2 == 0 { "on-change" } else { "every 2s" };
        say(format_args!(
            "[[map]]\nfrom = \"{name}:{} as {}\"\nto = \"{}:{} as {}\"\nsend = \"{send}\"\non-loss = \"{}\"\n",
            clock.0,
            clock.1,
            to.name,
            told.0,
            told.1,
            on_loss(d)
        ));
        say(format_args!(
            "[[map]]\nfrom = \"{name}:{}\"\nto = \"{}:{}\"\n",
            device.setpoint(),
            to.name,
            to.told_setpoint()
        ));
        let [online, heartbeat] = to.told_health();
        say(format_args!(
            "[[map]]\nfrom = \"{name}.health.online\"\nto = \"{0}:{online}\"\n[[map]]\nfrom = \"converter.health.heartbeat\"\nto = \"{0}:{heartbeat}\"\nsend = \"every 5s\"\n",
            to.name
        ));
    }
    for (i, image) in IMAGES.iter().enumerate() {
        let other = (i + 1) % IMAGES.len();
        say(format_args!(
            "[[map]]\nfrom = \"{}:{}\"\nto = \"{}:{}\"\naccess = \"read-write\"\n",
            image.name,
            image.exchanged(other),
            IMAGES[other].name,
            IMAGES[other].exchanged(i)
        ));
    }
    say(format_args!("[rig]\nseed = 7\n"));
    for (number, device) in (0u32..).zip(&DEVICES) {
        let low = number * ROUND;
        say(format_args!("[rig.devices.{}]\n", device.name));
        for (at, form) in device.clocks() {
            say(format_args!("\"{at} as {form}\" = \"count {low}..{} every 10ms\"\n", low + ROUND - 1));
        }
    }
    text
}
