//! Values that are sent again and again: a device with a watchdog must never wait for longer than was written.

use crate::site::{HEAD, Site};
use woodrush_core::project::{FaultValue, MUTE};
use woodrush_core::protocol::{Extent, SpaceId};
use woodrush_engine::Moment;
use woodrush_engine::rig::Change;

const SECOND: u64 = 1_000_000;

const SITE: &str = r#"
[devices.blower]
port = "raceway"
unit = 24
poll = "500ms"
[devices.gauge]
port = "raceway"
unit = 25
poll = "100ms"
[[map]]
from = "blower:400001"
to = "scada:400001"
[[map]]
from = "gauge:400001"
to = "blower:400020"
send = ["on-change", "every 4s"]
"#;

/// The gauge has this value from now on.
fn put(site: &mut Site, word: u16) {
    let extent = Extent { space: SpaceId(3), first: 0, count: 1 };
    let gauge = &mut site.bench.devices_of("raceway")[1];
    gauge.still = true;
    gauge.poke(extent, &word.to_be_bytes());
}

/// The moments at which the device took a write; `each` is done at every one of so many steps of 10 ms.
fn taken(site: &mut Site, steps: u64, mut each: impl FnMut(&mut Site, u64)) -> Vec<Moment> {
    let written = |site: &Site| site.bench.device(0, 0).unwrap().written();
    let mut known = written(site);
    let mut taken = vec![];
    for step in 0..steps {
        each(site, step);
        site.bench.run(10_000);
        if written(site) != known {
            known = written(site);
            taken.push(site.bench.now());
        }
    }
    taken
}

fn longest(taken: &[Moment]) -> u64 {
    taken.windows(2).map(|pair| pair[1].since(pair[0])).max().unwrap()
}

#[test]
fn an_unchanged_value_is_sent_again_in_time_also_after_a_change() {
    let mut site = Site::new(&[HEAD, SITE]);
    site.bench.run(SECOND);
    let taken = taken(&mut site, 6000, |site, step| {
        // Changes at odd moments, the first of which brings the value.
        if step % 1370 == 10 {
            let word = u16::try_from(step % 999).unwrap();
            put(site, word);
        }
    });
    assert!(taken.len() >= 15, "{taken:?}");
    assert!(longest(&taken) <= 4 * SECOND + SECOND / 5, "{taken:?}");
}

#[test]
fn a_device_that_was_away_has_its_value_again_within_the_period() {
    let mut site = Site::new(&[HEAD, SITE]);
    site.bench.run(SECOND);
    put(&mut site, 7);
    site.bench.run(SECOND);
    site.bus().change(Change::begin(&MUTE, 0, FaultValue::On));
    site.bench.run(60 * SECOND);
    assert!(!site.bench.is_online(0));
    site.bus().change(Change::end(&MUTE, 0));
    assert!(site.bench.run_until(60 * SECOND, |bench| bench.is_online(0)));
    let back = site.bench.now();
    let taken = taken(&mut site, 1500, |_, _| {});
    assert!(taken[0].since(back) <= 4 * SECOND + SECOND / 5, "{taken:?} after {back:?}");
    assert!(longest(&taken) <= 4 * SECOND + SECOND / 5, "{taken:?}");
}
