//! Rules in every direction on the virtual clock: what clients write, what devices are sent, bits and words.

use crate::site::{HEAD, Site};
use woodrush_core::project::{FaultValue, MUTE, REFUSE};
use woodrush_core::protocol::{Extent, SpaceId};
use woodrush_engine::converter::Event;
use woodrush_engine::rig::Change;
use woodrush_wire::modbus::{Request, Response, Table};

const SECOND: u64 = 1_000_000;
const COIL: SpaceId = SpaceId(0);
const HOLDING: SpaceId = SpaceId(3);

const TWO: &str = r#"
[devices.gauge]
port = "raceway"
unit = 23
poll = "500ms"
[devices.blower]
port = "raceway"
unit = 24
tables = { holding = 100, coil = 64 }
"#;

fn site(rules: &str) -> Site {
    site_of(&[HEAD, TWO, rules])
}

fn site_of(parts: &[&str]) -> Site {
    let mut site = Site::new(parts);
    for device in &mut site.bus().devices {
        device.still = true;
    }
    site
}

fn holding(first: u32, count: u32) -> Extent {
    Extent { space: HOLDING, first, count }
}

/// Registers of a simulated device.
fn words(site: &mut Site, device: usize, first: u32, count: u32) -> Vec<u16> {
    let cells = site.bus().devices[device].peek(holding(first, count)).unwrap();
    cells.chunks(2).map(|pair| u16::from_be_bytes([pair[0], pair[1]])).collect()
}

fn poke(site: &mut Site, device: usize, first: u32, word: u16) {
    site.bus().devices[device].poke(holding(first, 1), &word.to_be_bytes());
}

#[test]
fn what_a_client_writes_is_sent_each_time_and_shown_once_it_has_arrived() {
    let mut site = site("[[map]]\nfrom = \"scada:400001\"\nto = \"blower:400011\"\ncount = 2\n");
    assert_eq!(site.read(1, 1), Err(11), "nobody has written it");
    assert_eq!(site.write(1, &[7, 8]), Ok(()));
    assert_eq!((words(&mut site, 1, 10, 2), site.read(1, 2)), (vec![7, 8], Ok(vec![7, 8])));
    poke(&mut site, 1, 10, 0);
    assert_eq!(site.write(1, &[7]), Ok(()), "also when the value is the same");
    assert_eq!(words(&mut site, 1, 10, 2), [7, 8]);
    site.bench.run(3600 * SECOND);
    assert_eq!(site.read(1, 2), Ok(vec![7, 8]), "what was written does not grow old by itself");
    site.bus().change(Change::begin(&MUTE, 1, FaultValue::On));
    assert_eq!(site.write(1, &[9]), Err(11));
    assert_eq!(site.read(1, 2), Ok(vec![7, 8]), "what did not arrive is not shown");
    site.bus().change(Change::end(&MUTE, 1));
    site.bus().change(Change::begin(&REFUSE, 1, FaultValue::Number(4)));
    assert_eq!(site.write(1, &[9]), Err(4), "the device's own refusal");
}

#[test]
fn on_change_spares_the_device_and_every_sends_without_a_client() {
    let mut site = site(
        "[[map]]\nfrom = \"scada:400001\"\nto = \"blower:400011\"\nsend = \"on-change\"\n[[map]]\nfrom = \"scada:400002\"\nto = \"blower:400012\"\nsend = \"every 2s\"\n",
    );
    assert_eq!(site.write(1, &[7]), Ok(()));
    poke(&mut site, 1, 10, 0);
    assert_eq!(site.write(1, &[7]), Ok(()));
    assert_eq!(words(&mut site, 1, 10, 1), [0], "the same value is not sent again");
    assert_eq!(site.write(1, &[8]), Ok(()));
    assert_eq!(words(&mut site, 1, 10, 1), [8]);
    poke(&mut site, 1, 11, 0);
    site.bench.run(5 * SECOND);
    assert_eq!(words(&mut site, 1, 11, 1), [0], "nothing is sent before there was a value");
    assert_eq!(site.write(2, &[3]), Ok(()));
    for _ in 0..3 {
        poke(&mut site, 1, 11, 0);
        site.bench.run(2 * SECOND + 100_000);
        assert_eq!(words(&mut site, 1, 11, 1), [3]);
    }
}

#[test]
fn an_unconfirmed_write_is_answered_at_once_and_its_failure_shows_in_health() {
    let mut site = site(
        "[[map]]\nname = \"push\"\nfrom = \"scada:400001\"\nto = \"blower:400011\"\nanswer = \"at-once\"\n[[map]]\nfrom = \"rules.push.health.last-error\"\nto = \"scada:400201\"\n[[map]]\nfrom = \"rules.push.health.online\"\nto = \"scada:400202\"\n",
    );
    site.bus().change(Change::begin(&MUTE, 1, FaultValue::On));
    let begun = site.bench.now();
    assert_eq!(site.write(1, &[7]), Ok(()));
    assert_eq!(site.bench.now(), begun, "nobody waited for the device");
    site.bench.run(SECOND);
    assert_eq!(site.read(201, 2), Ok(vec![256, 0]));
    site.bus().change(Change::end(&MUTE, 1));
    assert_eq!(site.write(1, &[9]), Ok(()));
    site.bench.run(SECOND);
    assert_eq!((site.read(201, 2), words(&mut site, 1, 10, 1)), (Ok(vec![0, 1]), vec![9]));
}

#[test]
fn a_value_of_one_device_is_sent_to_another_when_it_changes_and_stops_when_it_is_lost() {
    let mut site = site(
        "[[map]]\nfrom = \"gauge:400001 as i16 scale 0.1\"\nto = \"blower:400011 as f32 CDAB\"\n[[map]]\nfrom = \"gauge.health.online\"\nto = \"blower:000005\"\n",
    );
    poke(&mut site, 0, 0, 174);
    site.bench.run(2 * SECOND);
    let float = |value: f32| {
        let [a, b, c, d] = value.to_be_bytes();
        vec![u16::from_be_bytes([c, d]), u16::from_be_bytes([a, b])]
    };
    let coil = Extent { space: COIL, first: 4, count: 1 };
    assert_eq!(words(&mut site, 1, 10, 2), float(17.4));
    assert_eq!(site.bus().devices[1].peek(coil), Some(vec![1]));
    // Unchanged: the device is left alone.
    site.bus().devices[1].poke(holding(10, 2), &[0; 4]);
    site.bench.run(5 * SECOND);
    assert_eq!(words(&mut site, 1, 10, 2), [0, 0]);
    poke(&mut site, 0, 0, 175);
    site.bench.run(SECOND);
    assert_eq!(words(&mut site, 1, 10, 2), float(17.5));
    site.bus().change(Change::begin(&MUTE, 0, FaultValue::On));
    site.bench.run(5 * SECOND);
    assert_eq!(words(&mut site, 1, 10, 2), float(17.5), "nothing is sent from a lost source");
    assert_eq!(site.bus().devices[1].peek(coil), Some(vec![0]), "and the other device is told");
}

#[test]
fn towards_a_device_a_loss_is_filled_once_or_held_again_and_again() {
    let mut site = site(
        "[[map]]\nfrom = \"gauge:400001\"\nto = \"blower:400011\"\non-loss = \"fill 0x8000\"\n[[map]]\nfrom = \"gauge:400002\"\nto = \"blower:400012\"\non-loss = \"hold\"\nsend = \"every 1s\"\n",
    );
    poke(&mut site, 0, 0, 5);
    poke(&mut site, 0, 1, 6);
    site.bench.run(3 * SECOND);
    assert_eq!(words(&mut site, 1, 10, 2), [5, 6]);
    site.bus().change(Change::begin(&MUTE, 0, FaultValue::On));
    site.bench.run(10 * SECOND);
    assert_eq!(words(&mut site, 1, 10, 2), [0x8000, 6]);
    site.bus().devices[1].poke(holding(10, 2), &[0; 4]);
    site.bench.run(5 * SECOND);
    assert_eq!(words(&mut site, 1, 10, 2), [0, 6], "filled once, held again and again");
    site.bus().change(Change::end(&MUTE, 0));
    site.bench.run(40 * SECOND);
    assert_eq!(words(&mut site, 1, 10, 2), [5, 6], "and the value again once it is back");
}

#[test]
fn what_is_not_taken_is_told_once_and_tried_again() {
    let mut site = site("[[map]]\nfrom = \"gauge:400001\"\nto = \"blower:400011\"\n");
    site.bus().change(Change::begin(&REFUSE, 1, FaultValue::Number(6)));
    site.bench.run(20 * SECOND);
    let told = |site: &Site| {
        let events = site.bench.events();
        events.iter().filter(|(_, event)| matches!(event, Event::NotTaken { .. })).count()
    };
    assert_eq!(told(&site), 1);
    poke(&mut site, 0, 0, 9);
    site.bus().change(Change::end(&REFUSE, 1));
    site.bench.run(40 * SECOND);
    assert_eq!((words(&mut site, 1, 10, 1), told(&site)), (vec![9], 1));
}

#[test]
fn what_one_client_writes_another_reads_in_its_own_form() {
    let head =
        HEAD.replace("[images.scada]\nport = \"office\"", "[images.scada]\nport = \"office\"\nunit = 1");
    let rules = "[images.board]\nport = \"office\"\nunit = 2\n[[map]]\nfrom = \"scada:400001 as i16 scale 0.1\"\nto = \"board:400011 as f32\"\n";
    let mut site = Site::new(&[&head, rules]);
    let board = Request::Read { table: Table::HoldingRegister, offset: 10, count: 2 };
    assert_eq!(site.ask(2, &board), [0x83, 11]);
    assert_eq!(site.write(1, &[0xFFFF]), Ok(()), "-1 tenth");
    let float = (-0.1f32).to_be_bytes();
    assert_eq!(site.ask(2, &board), [&[3, 4][..], &float].concat());
    assert_eq!(site.read(1, 1), Ok(vec![0xFFFF]));
    let write = Request::WriteRegister { offset: 10, value: 1 };
    assert_eq!(site.ask(2, &write), [0x86, 2], "the reader's side is read-only");
}

/// A second image on the same port, both ways with the first one.
fn two_images(rules: &str) -> Site {
    let head =
        HEAD.replace("[images.scada]\nport = \"office\"", "[images.scada]\nport = \"office\"\nunit = 1");
    site_of(&[&head, TWO, "[images.board]\nport = \"office\"\nunit = 2\n", rules])
}

#[test]
fn what_either_client_writes_both_read_and_devices_are_sent() {
    let mut site = two_images(
        "[[map]]\nfrom = \"scada:400001 as i16 scale 0.1\"\nto = \"board:400011 as f32\"\naccess = \"read-write\"\ncount = 2\n[[map]]\nfrom = \"scada:400001 as i16 scale 0.1\"\nto = \"blower:400011\"\ncount = 2\nsend = \"on-change\"\n",
    );
    let board = Request::Read { table: Table::HoldingRegister, offset: 10, count: 4 };
    let write = |site: &mut Site, value: f32| {
        let data = [value.to_be_bytes(), 20f32.to_be_bytes()].concat();
        site.ask(2, &Request::WriteRegisters { offset: 10, words: &data })
    };
    assert_eq!(site.ask(2, &board), [0x83, 11], "nobody has written it");
    let pdu = write(&mut site, 17.46);
    assert_eq!(
        Response::parse(&pdu),
        Ok(Response::Wrote { table: Table::HoldingRegister, offset: 10, count: 4 })
    );
    assert_eq!(words(&mut site, 1, 10, 2), [175, 200]);
    assert_eq!(site.read(1, 2), Ok(vec![175, 200]));
    let shown = [&[3, 8][..], &17.5f32.to_be_bytes(), &20f32.to_be_bytes()].concat();
    assert_eq!(site.ask(2, &board), shown, "what the other side holds, not what was meant");
    // The same value in other words: on-change spares the device.
    poke(&mut site, 1, 10, 0);
    write(&mut site, 17.54);
    assert_eq!(words(&mut site, 1, 10, 2), [0, 200]);
    assert_eq!(site.write(1, &[300]), Ok(()), "and the other way");
    assert_eq!(site.ask(2, &board)[2..6], 30f32.to_be_bytes());
    assert_eq!(words(&mut site, 1, 10, 2), [300, 200]);
    // What does not fit, half a value, and what no device takes: refused, and nothing changes.
    assert_eq!(write(&mut site, 4000.0), [0x90, 3]);
    assert_eq!(site.ask(2, &Request::WriteRegister { offset: 10, value: 1 }), [0x86, 2]);
    site.bus().change(Change::begin(&MUTE, 1, FaultValue::On));
    assert_eq!(write(&mut site, 1.0), [0x90, 11]);
    assert_eq!(site.read(1, 2), Ok(vec![300, 200]));
    assert_eq!(site.ask(2, &board)[2..6], 30f32.to_be_bytes());
}

#[test]
fn bits_of_one_image_are_written_from_another_as_coils_or_in_a_register() {
    let mut site = two_images(
        "[[map]]\nfrom = \"scada:000001\"\nto = \"board:400011.0\"\naccess = \"read-write\"\n[[map]]\nfrom = \"scada:000002\"\nto = \"board:400011.7\"\naccess = \"read-write\"\n[[map]]\nfrom = \"scada:000017\"\ncount = 16\nto = \"board:400012\"\naccess = \"read-write\"\n",
    );
    let coils = |site: &mut Site, offset: u16, count: u16| {
        site.ask(1, &Request::Read { table: Table::Coil, offset, count })
    };
    let write =
        |site: &mut Site, offset: u16, value: u16| site.ask(2, &Request::WriteRegister { offset, value });
    assert_eq!(coils(&mut site, 0, 2), [0x81, 11]);
    assert_eq!(write(&mut site, 10, 0x0080), [6, 0, 10, 0, 0x80]);
    assert_eq!(coils(&mut site, 0, 2), [1, 1, 0b10]);
    assert_eq!(site.ask(1, &Request::WriteCoil { offset: 0, on: true })[0], 5);
    let register = Request::Read { table: Table::HoldingRegister, offset: 10, count: 1 };
    assert_eq!(site.ask(2, &register), [3, 2, 0, 0x81]);
    assert_eq!(write(&mut site, 11, 0x8003), [6, 0, 11, 0x80, 3]);
    assert_eq!(coils(&mut site, 16, 16), [1, 2, 3, 0x80], "sixteen coils, bit 0 first");
}

#[test]
fn bits_and_registers_go_into_each_other_both_ways() {
    let mut site = site(
        "[[map]]\nfrom = \"blower:400021\"\nto = \"scada:000001\"\naccess = \"read-write\"\npoll = \"200ms\"\n[[map]]\nfrom = \"blower:000017\"\ncount = 16\nto = \"scada:400031\"\npoll = \"200ms\"\naccess = \"read-write\"\n[[map]]\nfrom = \"blower:400022.3\"\nto = \"scada:000033\"\naccess = \"read-write\"\npoll = \"200ms\"\n[[map]]\nfrom = \"gauge.health.online\"\nto = \"scada:400041.0\"\n[[map]]\nfrom = \"blower:400022.3\"\nto = \"scada:400041.9\"\npoll = \"200ms\"\n",
    );
    poke(&mut site, 1, 20, 0x8005);
    site.bus().devices[1]
        .poke(Extent { space: COIL, first: 16, count: 16 }, &[[1, 1].as_slice(), &[0; 13], &[1]].concat());
    site.bench.run(2 * SECOND);
    let coils = |site: &mut Site, offset: u16, count: u16| {
        let pdu = site.ask(1, &Request::Read { table: Table::Coil, offset, count });
        match Response::parse(&pdu).unwrap() {
            Response::Read { data, .. } => Ok(woodrush_wire::modbus::unpack(Table::Coil, data, count)),
            Response::Refused { exception, .. } => Err(exception.0),
            other => panic!("{other:?}"),
        }
    };
    assert_eq!(coils(&mut site, 0, 16), Ok([&[1, 0, 1][..], &[0; 12], &[1]].concat()));
    assert_eq!(site.read(31, 1), Ok(vec![0x8003]));
    // Two coils in the middle of the register: the others stay.
    let pdu = site.ask(1, &Request::WriteCoils { offset: 1, count: 2, bits: &[0b01] });
    assert!(matches!(Response::parse(&pdu), Ok(Response::Wrote { .. })), "{pdu:?}");
    assert_eq!(words(&mut site, 1, 20, 1), [0x8003]);
    assert_eq!(site.write(31, &[0x0101]), Ok(()));
    let sixteen = site.bus().devices[1].peek(Extent { space: COIL, first: 16, count: 16 });
    assert_eq!(sixteen, Some([&[1][..], &[0; 7], &[1], &[0; 7]].concat()));
    // One bit of a register that other things share.
    poke(&mut site, 1, 21, 0xF0F0);
    let pdu = site.ask(1, &Request::WriteCoil { offset: 32, on: true });
    assert!(matches!(Response::parse(&pdu), Ok(Response::WroteCoil { .. })), "{pdu:?}");
    assert_eq!(words(&mut site, 1, 21, 1), [0xF0F8]);
    site.bench.run(SECOND);
    assert_eq!(
        site.read(41, 1),
        Ok(vec![0x0200]),
        "bits of two rules in one register; nobody polls the gauge"
    );
    assert_eq!(site.write(41, &[0]), Err(2), "one of them is read-only");
    site.bus().change(Change::begin(&MUTE, 1, FaultValue::On));
    site.bench.run(20 * SECOND);
    assert_eq!(site.read(41, 1), Err(11), "one lost bit blanks the register");
}

#[test]
fn a_mask_changes_some_bits_of_a_register_through_the_image_and_an_exchange_writes_before_it_reads() {
    let mut site = site(
        "[[map]]\nfrom = \"blower:400021\"\nto = \"scada:400001\"\ncount = 2\naccess = \"read-write\"\npoll = \"200ms\"\n",
    );
    poke(&mut site, 1, 20, 0x1234);
    site.bench.run(SECOND);
    let pdu = site.ask(1, &Request::MaskWrite { offset: 0, and: 0xFF0F, or: 0x0050 });
    assert_eq!(Response::parse(&pdu), Ok(Response::MaskWrote { offset: 0, and: 0xFF0F, or: 0x0050 }));
    assert_eq!(words(&mut site, 1, 20, 1), [0x1254], "the standard's own example");
    let exchange = Request::Exchange { offset: 0, count: 2, write_offset: 1, words: &[0xAB, 0xCD] };
    let pdu = site.ask(1, &exchange);
    assert_eq!(Response::parse(&pdu), Ok(Response::Exchanged(&[0x12, 0x54, 0xAB, 0xCD])));
}

#[test]
fn ports_and_the_box_tell_about_themselves() {
    let mut site = site(
        "[[map]]\nfrom = \"blower:400021\"\nto = \"scada:400001\"\npoll = \"100ms\"\n[[map]]\nfrom = \"ports.raceway.health.timeouts\"\nto = \"scada:400201\"\n[[map]]\nfrom = \"ports.raceway.health.load\"\nto = \"scada:400202\"\n[[map]]\nfrom = \"converter.health.heartbeat\"\nto = \"scada:400203\"\n[[map]]\nfrom = \"converter.health.uptime\"\nto = \"scada:400204\"\n",
    );
    site.bench.run(10 * SECOND);
    let told = site.read(201, 5).unwrap();
    assert_eq!((told[0], told[2], &told[3..]), (0, 10, &[0, 10][..]));
    assert!((5..15).contains(&told[1]), "one poll of 9 ms every 100 ms: {} %", told[1]);
    site.bus().change(Change::begin(&MUTE, 1, FaultValue::On));
    site.bench.run(2 * SECOND);
    assert!(site.read(201, 1).unwrap()[0] >= 3);
}

#[test]
fn a_value_that_means_none_counts_as_lost() {
    let profile = crate::site::PROBE.replace("range = [0, 20]", "invalid = [0x8000, 0xFFFF]");
    let mut checked = crate::site::checked_with(
        &[HEAD, "[devices.do-1]\nport = \"raceway\"\nunit = 23\nprofile = \"p\"\npoll = \"200ms\"\n[[map]]\nfrom = \"do-1.oxygen\"\nto = \"scada:400001\"\n"].concat(),
        &profile,
    );
    let mut site = Site::of(&mut checked);
    let oxygen = Extent { space: SpaceId(2), first: 0, count: 1 };
    for (word, read) in
        [(0x1234, Ok(vec![0x1234])), (0x8000, Err(11)), (0xFFFF, Err(11)), (0x7FFF, Ok(vec![0x7FFF]))]
    {
        site.bus().devices[0].still = true;
        site.bus().devices[0].poke(oxygen, &u16::to_be_bytes(word));
        site.bench.run(SECOND);
        assert_eq!(site.read(1, 1), read, "{word:04X}");
    }
}

#[test]
fn repeated_devices_and_rules_reach_each_their_own() {
    let mut checked = crate::site::checked_with(
        &[HEAD, "[devices.do]\nrepeat = \"1-3\"\nport = \"raceway\"\nunit = \"20+n\"\nshift = \"10*(n-1)\"\nprofile = \"p\"\npoll = \"200ms\"\n[[map]]\nrepeat = \"1-3\"\nname = \"oxygen-{n}\"\nfrom = \"do-{n}.oxygen\"\nto = \"scada:{400001+n}\"\n"].concat(),
        crate::site::PROBE,
    );
    let mut site = Site::of(&mut checked);
    for at in 0..3u16 {
        let extent = Extent { space: SpaceId(2), first: 10 * u32::from(at), count: 1 };
        let device = &mut site.bus().devices[usize::from(at)];
        device.still = true;
        device.poke(extent, &(100 + at).to_be_bytes());
    }
    site.bench.run(SECOND);
    assert_eq!(site.read(2, 3), Ok(vec![100, 101, 102]));
}
