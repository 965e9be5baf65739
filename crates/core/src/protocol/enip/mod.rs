//! Controllers with named tags, asked by explicit messages of EtherNet/IP: notation, keys, limits and costs.

mod assembly;
mod eds;
mod ends;
mod layout;
mod list;
mod path;
mod refusals;
mod requests;
mod search;
mod tables;
mod tag;
mod terms;

pub use layout::{Assembly, Layout, OwnIdentity};
pub use path::{PART_MAX, TagPath};
pub use refusals::other_type;
pub use requests::{
    CONNECTION_LARGE, CONNECTION_SMALL, Way, data_bytes, from_wire, from_wire_into, packed_words, to_wire,
    to_wire_into,
};
pub use tables::REQUESTER;
pub use tag::{PACKED_BITS, emit_path, form_type, is_packed, is_type, keys_of, path_of, type_of};

use super::tables::{DEVICE_COMMANDS, DEVICE_NUMBERING, IMAGE_NUMBERING, Spot};
use super::{
    Address, AddressContext, AddressFault, Alteration, BitWrite, Declared, DeclaredSpace, Dialect, Framing,
    ImpliedType, Key, KeyKind, Link, Lists, Notation, PortKeys, Refusals, Requests, Search, SettingFault,
    Setup, ShownAddress, Space, Stations, Transport,
};
use crate::form::{Order, Type};
use crate::term::Term;
use woodrush_wire::enip::encap;
use woodrush_wire::enip::epath::{Path, Segment};

/// `ethernet-ip`.
#[derive(Debug)]
pub(super) struct Tags;

/// `ethernet-ip`.
pub(super) static TAGS: Tags = Tags;

/// Our vendor number. No vendor's: the last ones of the range are not assigned.
pub const VENDOR: u16 = 0xFFF1;
/// The most steps of a route, far more than racks have.
const ROUTE_MAX: usize = 8;

/// Those of tags, and those of exchanges in cycles.
static KEYS: [Key; OF_TAGS.len() + layout::KEYS.len()] = {
    let mut all = [IMAGE_NUMBERING; OF_TAGS.len() + layout::KEYS.len()];
    let mut at = 0;
    while at < all.len() {
        all[at] = if at < OF_TAGS.len() { OF_TAGS[at] } else { layout::KEYS[at - OF_TAGS.len()] };
        at += 1;
    }
    all
};

const OF_TAGS: [Key; 8] = [
    Key {
        table: "devices",
        name: "slot",
        kind: KeyKind::Whole(0, 255),
        doc: "the slot of the controller in its rack, where the port's address is that of a module beside it",
    },
    Key {
        table: "devices",
        name: "route",
        kind: KeyKind::Text,
        doc: "the way from the port's address on: pairs of port and address there, such as `1,0`: out of the backplane to slot 0",
    },
    Key {
        table: "devices",
        name: "connected",
        kind: KeyKind::Switch,
        doc: "`true` (default): a connection is opened, large where the controller takes it; `false`: unconnected messages of about 500 bytes",
    },
    Key {
        table: "devices",
        name: "memory",
        kind: KeyKind::Choice(&["tags", "tables"]),
        doc: "what the controller's memory is: `tags` (default), or `tables` of the older ones, with addresses such as `N7:0`",
    },
    DEVICE_NUMBERING,
    DEVICE_COMMANDS,
    Key {
        table: "images",
        name: "memory",
        kind: KeyKind::Choice(&["tags", "tables"]),
        doc: "what it looks like: a controller with `tags` (default), or an older one with data `tables`",
    },
    IMAGE_NUMBERING,
];

/// Whether a station's memory is data tables.
#[must_use]
pub fn has_tables(setup: &Setup) -> bool {
    setup.word("memory") == Some("tables")
}

/// The bytes of a route as the project file writes it.
///
/// # Errors
/// It is none, in words.
pub fn route(text: &str) -> Result<Vec<u8>, String> {
    let wrong = || format!("`{text}` is not a route (pairs of port and address, such as `1,0`)");
    let steps: Vec<&str> = text.split(',').map(str::trim).collect();
    if steps.len() % 2 == 1 || steps.len() > 2 * ROUTE_MAX {
        return Err(wrong());
    }
    let mut bytes = vec![];
    for pair in steps.chunks(2) {
        let [port, link] = pair else { return Err(wrong()) };
        let port: u16 = port.parse().map_err(|_| wrong())?;
        if port == 0 || link.is_empty() || link.len() > 64 {
            return Err(wrong());
        }
        let slot = link.parse::<u8>().map(|slot| [slot]);
        let link = slot.as_ref().map_or_else(|_| link.as_bytes(), |slot| slot.as_slice());
        Segment::Port { port, link }.emit(&mut bytes);
    }
    Ok(bytes)
}

/// The route to a device by its keys; empty where it is the peer itself.
#[must_use]
pub fn route_of(setup: &Setup) -> Vec<u8> {
    if let Some(text) = setup.word("route") {
        return route(text).unwrap_or_default();
    }
    let mut bytes = vec![];
    if let Some(slot) = setup.number("slot").and_then(|slot| u8::try_from(slot).ok()) {
        Segment::Port { port: 1, link: &[slot] }.emit(&mut bytes);
    }
    bytes
}

/// What is wrong with the way to a device.
fn route_fault(setup: &Setup) -> Option<SettingFault> {
    let fault = |what, fix: &str| Some(SettingFault { code: "F03", key: "route", what, fix: fix.into() });
    match (setup.word("route"), setup.number("slot")) {
        (Some(_), Some(slot)) => fault(
            format!("`route` and `slot = {slot}` are both set"),
            "keep one of them: `slot = 0` is the route `1,0`",
        ),
        (Some(text), None) => fault(
            route(text).err()?,
            "write the port and the address there: out of the backplane to slot 0 is `1,0`",
        ),
        (None, _) => None,
    }
}

impl Dialect for Tags {
    fn name(&self) -> &'static str {
        "ethernet-ip"
    }

    fn family(&self) -> &'static str {
        "tags"
    }

    fn notation(&self) -> &dyn Notation {
        self
    }

    fn stations(&self) -> &dyn Stations {
        self
    }

    fn framing(&self) -> &dyn Framing {
        self
    }

    fn runs_on(&self, transport: Transport) -> Result<(), &'static str> {
        if transport.is_tcp() || transport == Transport::Network {
            return Ok(());
        }
        Err("it goes over TCP: write `connect`, `listen`, or `network` for exchanges in cycles")
    }

    fn refusals(&self) -> &'static Refusals {
        &refusals::REFUSALS
    }

    fn terms(&self) -> &'static [Term] {
        terms::TERMS
    }

    fn keys(&self) -> &'static [Key] {
        &KEYS
    }

    fn station_faults(&self, setup: &Setup, _port: PortKeys<'_>) -> Vec<SettingFault> {
        let stray = ["io-addresses", "commands"].into_iter().filter(|key| setup.word(key).is_some());
        let stray = stray.map(|key| SettingFault {
            code: "F03",
            key,
            what: format!("`{key}` is about data tables, and tags have none"),
            fix: format!("remove `{key}`, or add `memory = \"tables\"` where it is an older controller"),
        });
        let cyclic = ["period", "multiplier", "input-only", "listen-only"].into_iter();
        let cyclic = cyclic.filter(|key| setup.number(key).is_some()).map(|key| SettingFault {
            code: "F03",
            key,
            what: format!(
                "`{key}` does nothing without blocks that are exchanged in cycles: `inputs` is missing"
            ),
            fix: format!("remove `{key}`, or add `inputs = {{ assembly = 100 }}`"),
        });
        route_fault(setup).into_iter().chain(stray).chain(cyclic).collect()
    }

    fn by_memory(&self, setup: &Setup) -> Option<&'static dyn Dialect> {
        if setup.row("inputs").is_some() || setup.row("outputs").is_some() {
            return Some(&assembly::ASSEMBLIES);
        }
        has_tables(setup).then_some(&tables::TABLES)
    }

    fn notation_of(&self, space: &Space) -> &dyn Notation {
        // Files have letters in capitals, and tags are found by small ones.
        match Spot::of(space) {
            Some(_) => tables::TABLES.notation(),
            None => self,
        }
    }

    fn requests(&self) -> Option<&dyn Requests> {
        Some(self)
    }
}

impl Lists for Tags {
    fn type_of(&self, word: &str) -> Option<Type> {
        list::type_of_name(word)
    }

    fn declared<'d>(&self, list: &'d Declared, space: &Space) -> Option<DeclaredSpace<'d>> {
        list::declared(list, &path::parse(&path::show(space.name(), 0)).ok()?)
    }
}

impl Notation for Tags {
    fn parse(&self, text: &str, context: &AddressContext<'_>) -> Result<Address, AddressFault> {
        let path = path::parse(text).map_err(|fault| match tables::TABLES.notation().parse(text, context) {
            Ok(_) => AddressFault {
                at: 0..text.len(),
                what: format!("`{text}` is a place in a data table; add `memory = \"tables\"` to the device if it is an older controller"),
                likely: vec![],
                ..fault
            },
            Err(_) => fault,
        })?;
        let fault = |code, what: String| Err(AddressFault { code, at: 0..text.len(), what, likely: vec![] });
        if let Some(form) = context.form.filter(|form| form.order.is_some()) {
            let what = format!("a tag has no order of bytes: leave it out behind `{}`", form.ty);
            return fault("F08", what);
        }
        let written = context.form.map(|form| form.ty);
        let declared = context.setup.declared.as_deref();
        let listed = declared.map(|list| list::look_up(list, &path, text)).transpose()?.flatten();
        let known = || {
            let spaces = context.spaces?;
            let id = keys_of(&path).iter().find_map(|key| spaces.id(key))?;
            spaces.get(id)?.only.first().copied()
        };
        // The list comes first, then the form; a bit's form says nothing of the integer that it is a bit of.
        let ty = match (&listed, written) {
            (Some(own), Some(written)) if path.bit.is_none() && own.ty != written => {
                let what = format!("`{text}` is declared as {}, but `{written}` here", own.type_name);
                return fault("M33", what);
            }
            (Some(own), _) => Some(own.ty),
            (None, Some(written)) if path.bit.is_none() => Some(written),
            _ => known(),
        };
        let Some(ty) = ty else {
            let what = match path.bit {
                Some(_) => format!("`{text}` is a bit of an integer whose width nothing states"),
                None => format!("nothing states the type of the tag `{text}`"),
            };
            return fault("M33", what);
        };
        let Some(space) = tag::space(&path, ty) else {
            return fault("M33", format!("a tag cannot have the type `{ty}`"));
        };
        let Some(bit) = path.bit else {
            return Ok(Address { space, first: path.first, bit: None, brings: ImpliedType::Type(ty) });
        };
        match ty.bytes().filter(|_| space.bits == BitWrite::Masked).map(|bytes| bytes * 8) {
            Some(bits) if u32::from(bit) < bits => {
                Ok(Address { space, first: path.first, bit: Some(bit), brings: ImpliedType::Nothing })
            }
            Some(bits) => fault("M33", format!("a `{ty}` has bits 0 to {}, and this is {bit}", bits - 1)),
            None => fault("M33", format!("a `{ty}` has no bits of its own; only integers do")),
        }
    }

    fn show(&self, space: &Space, first: u32, _width: u32, bit: Option<u8>, _setup: &Setup) -> ShownAddress {
        let shown = space.name();
        let mut canonical = path::show(shown, first);
        if let Some(bit) = bit {
            canonical.push_str(&format!(".{bit}"));
        }
        // Bits of an array are told as the controller's programmer declares them, wherever they lie.
        let name = if is_packed(space) { "BOOL" } else { type_of(space).name().unwrap_or("structure") };
        let offset = format!("{name}, element {first}");
        ShownAddress { canonical, offset, hex: format!("0x{first:04X}") }
    }

    fn table<'s>(&self, space: &'s Space) -> &'s str {
        space.name()
    }

    fn is_table(&self, space: &Space, name: &str) -> bool {
        path::parse(name).is_ok_and(|path| keys_of(&path).iter().any(|key| *key == space.key))
    }

    fn lists(&self) -> &dyn Lists {
        self
    }

    fn named(&self, setup: &Setup) -> Vec<(Space, u32)> {
        setup.declared.as_deref().map(list::spaces).unwrap_or_default()
    }

    fn altered(&self, space: &Space, how: Alteration) -> Option<Space> {
        let mut path = path::parse(&path::show(space.name(), 0)).ok()?;
        let own = *space.only.first()?;
        let ty = match how {
            Alteration::Renamed => {
                path = path::renamed(&path)?;
                own
            }
            Alteration::Retyped => tag::other_type_of(own)?,
        };
        tag::space(&path, ty).map(|other| Space { writable: space.writable, ..other })
    }

    fn table_unit(&self, space: &Space) -> &'static str {
        tag::element_words(space)
    }

    fn order(&self, _space: &Space) -> Option<Order> {
        Some(Order::HIGH_FIRST)
    }
}

impl Stations for Tags {
    fn shared_keys(&self) -> &'static [&'static str] {
        &["route", "slot"]
    }

    fn to_set_up(&self, link: &Link<'_>) -> Option<String> {
        if link.image {
            return Some("message instructions (read tag and write tag) to this address".into());
        }
        let access = if link.writes { "read and write" } else { "read" };
        Some(format!("the tags with external access to {access}"))
    }
}

impl Framing for Tags {
    fn odd_tcp_port(&self, port: u16) -> Option<&'static str> {
        match port {
            102 | 502 => Some("that is the usual port of another protocol; EtherNet/IP has 44818"),
            _ => None,
        }
    }

    fn dissector(&self) -> Option<&'static str> {
        Some("enip")
    }

    fn usual_tcp_port(&self) -> Option<u16> {
        Some(44_818)
    }

    fn is_frame(&self, bytes: &[u8]) -> bool {
        use encap::command;
        const KNOWN: [u16; 6] = [
            command::LIST_SERVICES,
            command::LIST_IDENTITY,
            command::LIST_INTERFACES,
            command::REGISTER_SESSION,
            command::SEND_RR_DATA,
            command::SEND_UNIT_DATA,
        ];
        let message = encap::parse(bytes, encap::LENGTH_MAX).ok().flatten();
        message.is_some_and(|(message, _)| {
            let header = message.header;
            KNOWN.contains(&header.command) && header.options == 0 && header.status <= 0xFF
        })
    }
}

/// A route in words: `port 1, address 0`.
#[must_use]
pub fn route_shown(route: &Path<'_>) -> String {
    let steps = route.segments().filter_map(|segment| match segment {
        Segment::Port { port, link: [slot] } => Some(format!("port {port}, address {slot}")),
        Segment::Port { port, link } => Some(format!("port {port}, address {}", link.escape_ascii())),
        _ => None,
    });
    steps.collect::<Vec<_>>().join(", ")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::form::Form;
    use crate::protocol::Grain;

    fn parsed(text: &str, form: &str) -> Result<Address, String> {
        let setup = Setup::default();
        let form =
            (!form.is_empty()).then(|| Form::parse(form).unwrap_or_else(|fault| panic!("{}", fault.what)));
        TAGS.parse(text, &AddressContext::of_device(&setup).with_form(form)).map_err(|fault| fault.what)
    }

    #[test]
    fn a_tag_is_what_its_form_says() {
        let told = |text: &str, form: &str| {
            let address = parsed(text, form).unwrap();
            (
                address.space.key.to_string(),
                address.space.grain,
                address.first,
                type_of(&address.space).name(),
            )
        };
        let key = |key: &str| key.to_string();
        assert_eq!(told("Hall.Temps[4]", "f32"), (key("hall.temps"), Grain::Bytes(4), 4, Some("REAL")));
        assert_eq!(told("Run", "bool"), (key("run"), Grain::Bit, 0, Some("BOOL")));
        assert_eq!(told("Alarms[40]", "bool"), (key("alarms[]"), Grain::Bit, 40, Some("DWORD")));
        assert_eq!(told("Msg", "text(82)"), (key("msg"), Grain::Bytes(82), 0, Some("STRING")));
        assert_eq!(told("Total", "LINT"), (key("total"), Grain::Bytes(8), 0, Some("LINT")));
        for (text, form, what) in [
            ("Level", "", "nothing states the type"),
            ("Level", "f32 CDAB", "no order"),
            ("Level", "raw", "cannot have the type `raw`"),
            ("Level", "bcd16", "cannot have the type"),
            ("Name", "text(40)", "cannot have the type"),
            ("Flags.3", "bool", "whose width"),
        ] {
            let said = parsed(text, form).unwrap_err();
            assert!(said.contains(what), "{text} as {form}: {said}");
        }
        let space = |form: &str| parsed("Hall.Temps[4]", form).unwrap().space;
        let shown = TAGS.show(&space("f32"), 4, 1, None, &Setup::default());
        assert_eq!((shown.canonical.as_str(), shown.offset.as_str()), ("Hall.Temps[4]", "REAL, element 4"));
        assert!(
            is_type(&space("u16"), woodrush_wire::enip::tags::TagType::elementary(0xD2)),
            "a WORD is a u16"
        );
        assert!(!is_type(&space("i16"), woodrush_wire::enip::tags::TagType::elementary(0xD2)));
    }

    #[test]
    fn paths_go_to_the_wire_and_come_back() {
        let bytes = |text: &str, form: &str| {
            let address = parsed(text, form).unwrap();
            let mut out = vec![];
            emit_path(&address.space, address.first, &mut out);
            out
        };
        for (text, form) in [
            ("Line[2].Motor.Amps[300]", "f32"),
            ("Program:Feed.Oxygen", "f32"),
            ("Grid[2,3,0]", "i16"),
            ("Level", "i32"),
            ("Temps[70000]", "i32"),
        ] {
            let wire = bytes(text, form);
            let path = path_of(Path::parse(&wire).unwrap().segments()).unwrap();
            assert_eq!(path::show(&path.shown, path.first), text);
        }
        let wire = bytes("Alarms[40]", "bool");
        let path = path_of(Path::parse(&wire).unwrap().segments()).unwrap();
        assert_eq!((path.key().as_str(), path.first), ("alarms", 1), "the word that holds bit 40");
        assert_eq!(bytes("Temps[0]", "f32"), bytes("Temps", "f32"), "the first element is the name alone");
    }

    #[test]
    fn routes_are_pairs() {
        assert_eq!(route("1,0"), Ok(vec![1, 0]));
        assert_eq!(route("2, 192.0.2.77, 1, 3").unwrap()[..3], [0x12, 10, b'1']);
        assert!(["1", "", "0,1", "1,", "x,1", "1,0,2"].iter().all(|text| route(text).is_err()));
        let slot = Setup { numbers: vec![("slot", 3)], ..Setup::default() };
        assert_eq!(route_of(&slot), [1, 3]);
        assert_eq!(route_shown(&Path::parse(&[1, 3]).unwrap()), "port 1, address 3");
    }
}
