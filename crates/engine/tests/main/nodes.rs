//! Several nodes of one box, at one unit: asked together, known apart, lost and back together.

use crate::site::{HEAD, Site, checked_with};
use woodrush_core::project::{FaultValue, MUTE, REFUSE};
use woodrush_core::protocol::{Extent, SpaceId};
use woodrush_engine::converter::Event;
use woodrush_engine::rig::Change;

const SECOND: u64 = 1_000_000;

const NODE: &str = r#"
[profile]
name = "Node of a gas box"
[points.level]
at = "400001"
as = "u16"
[points.limit]
at = "400003"
as = "u16"
access = "read-write"
"#;

const BOX: &str = r#"
[devices.node]
port = "raceway"
unit = 5
repeat = "1-3"
shift = "4*(n-1)"
read-gap = 1
profile = "node.toml"
poll = "500ms"
[[map]]
repeat = "1-3"
from = "node-{n}.level"
to = "scada:{400001+10*(n-1)}"
[[map]]
repeat = "1-3"
from = "node-{n}.limit"
to = "scada:{400002+10*(n-1)}"
access = "read-write"
"#;

fn site() -> Site {
    Site::of(&mut checked_with(&format!("{HEAD}{BOX}"), NODE))
}

#[test]
fn nodes_of_one_box_are_read_in_one_request_and_written_apart() {
    let mut site = site();
    site.bench.run(SECOND);
    site.bench.reset_counts();
    site.bench.run(10 * SECOND);
    let asked = site.bench.port_counts(0).requests;
    assert!((19..=21).contains(&asked), "{asked} requests in ten seconds, where one each half would do");
    for node in 0..3 {
        assert_eq!(site.bench.polls(node), asked, "each node is as well as what brings its values");
    }
    for node in 0..3u16 {
        assert_eq!(site.write(2 + 10 * node, &[100 + node]), Ok(()));
    }
    site.bench.run(SECOND);
    for node in 0..3u16 {
        assert_eq!(site.read(2 + 10 * node, 1), Ok(vec![100 + node]));
        let held = Extent { space: SpaceId(3), first: 2 + 4 * u32::from(node), count: 1 };
        let [high, low] = (100 + node).to_be_bytes();
        assert_eq!(site.bus().devices[0].peek(held), Some(vec![high, low]), "all of it is in one box");
    }
}

#[test]
fn a_box_is_lost_and_back_with_all_of_its_nodes() {
    let mut site = site();
    site.bench.run(SECOND);
    assert!((0..3).all(|node| site.bench.is_online(node)));
    // Whichever node is named, it is the box that falls silent.
    site.bus().change(Change::begin(&MUTE, 2, FaultValue::On));
    site.bench.run(10 * SECOND);
    assert!((0..3).all(|node| !site.bench.is_online(node)));
    assert!((0..3).all(|node| site.read(1 + 10 * node, 1) == Err(11)));
    let lost =
        |event: &Event| if let Event::DeviceLost { device, .. } = event { Some(*device) } else { None };
    let told: Vec<usize> = site.bench.events().iter().filter_map(|(_, event)| lost(event)).collect();
    assert_eq!(told, [0, 1, 2], "each is told once");
    // A write to one of them is a probe of the box, and refused at once between two of them.
    let begun = site.bench.now();
    let refused = (0..5).filter(|_| site.write(12, &[7]) == Err(11)).count();
    assert!(refused == 5 && site.bench.now().since(begun) < SECOND);
    site.bus().change(Change::end(&MUTE, 2));
    site.bench.run(40 * SECOND);
    assert!((0..3).all(|node| site.bench.is_online(node)));
    assert!((0..3).all(|node| site.read(1 + 10 * node, 1).is_ok()));
}

#[test]
fn an_exception_leaves_every_node_there_and_its_values_refused() {
    let mut site = site();
    site.bench.run(SECOND);
    site.bus().change(Change::begin(&REFUSE, 1, FaultValue::Number(4)));
    site.bench.run(10 * SECOND);
    assert!((0..3).all(|node| site.bench.is_online(node)));
    assert!((0..3).all(|node| site.read(1 + 10 * node, 1) == Err(11)));
}
