//! Real devices: what a device itself says against what a reader of the image gets, judged by the same oracle as on the
//! bench. Nothing here asks; the caller brings the cells.

use super::subject::{Feed, Subject};
use woodrush_core::check::Checked;
use woodrush_core::protocol::Extent;

/// One rule whose two ends can both be read.
pub struct Pair {
    /// Index of its `[[map]]`.
    pub map: usize,
    /// Index of the device.
    pub device: usize,
    /// Index of the image.
    pub image: usize,
    /// Values in it.
    pub count: u32,
    /// A client may write it.
    pub writable: bool,
    subject: Subject,
}

/// How one value at the reader's side compares.
#[derive(Debug, Clone, PartialEq)]
pub enum Judged {
    /// What the device held before or after the look.
    Same,
    /// Between both, or within the tolerance: it moves.
    Within,
    /// Something else; with what it looks like, if it looks like something.
    Differs(Option<String>),
    /// The device's bits mean no value, and the reader should have been refused.
    NoValue,
}

/// Every rule that shows a device's values, in file order.
#[must_use]
pub fn pairs(checked: &Checked) -> Vec<Pair> {
    let maps = 0..checked.project.maps.len();
    let subjects = maps.filter(|map| checked.project.maps.get(*map).is_some_and(|map| map.enabled));
    let pair = |map: usize| {
        let subject = Subject::of(checked, map)?;
        let (Feed::Cells(_), Some(device), Some(image)) = (&subject.feed, subject.device, subject.image())
        else {
            return None;
        };
        Some(Pair { map, device, image, count: subject.count, writable: subject.writable, subject })
    };
    subjects.filter_map(pair).collect()
}

impl Pair {
    /// The cells of all values at the device.
    #[must_use]
    pub fn at_device(&self) -> Option<Extent> {
        let end = self.subject.source()?;
        let first = end.item(0);
        Some(Extent { count: first.count * self.count, ..first })
    }

    /// The cells of all values at the image.
    #[must_use]
    pub fn at_image(&self) -> Extent {
        let first = self.subject.target.item(0);
        Extent { count: first.count * self.count, ..first }
    }

    /// One value's part of cells at the device.
    #[must_use]
    pub fn of_device<'c>(&self, cells: &'c [u8], item: u32) -> &'c [u8] {
        let bytes = self.subject.source().map_or(0, |end| end.bytes());
        cells.get(item as usize * bytes..(item as usize + 1) * bytes).unwrap_or_default()
    }

    /// One value's part of cells at the image.
    #[must_use]
    pub fn of_image<'c>(&self, cells: &'c [u8], item: u32) -> &'c [u8] {
        let bytes = self.subject.target.bytes();
        cells.get(item as usize * bytes..(item as usize + 1) * bytes).unwrap_or_default()
    }

    /// Whether the device's bits mean a value that can be shown.
    #[must_use]
    pub fn has_value(&self, device: &[u8]) -> bool {
        self.subject.shown(device).is_some()
    }

    /// Whether a device holds what a reader of the image sees there.
    #[must_use]
    pub fn arrived(&self, device: &[u8], image: &[u8]) -> bool {
        let own = self.subject.target.own(image);
        self.subject.taken(&own).is_some_and(|wanted| self.subject.arrived(device, &wanted))
    }

    /// Judges what a reader saw between two looks at the device; `tolerance` is a share of the value.
    #[must_use]
    pub fn judge(&self, before: &[u8], seen: &[u8], after: &[u8], tolerance: f64) -> Judged {
        let wanted: Vec<Vec<u8>> =
            [before, after].into_iter().filter_map(|cells| self.subject.shown(cells)).collect();
        if wanted.is_empty() {
            return Judged::NoValue;
        }
        if wanted.iter().any(|wanted| self.subject.agrees(seen, wanted)) {
            return Judged::Same;
        }
        let lay = &self.subject.target.lay;
        let number = |cells: &[u8]| lay.number(cells);
        let own = self.subject.target.own(seen);
        let bounds: Vec<f64> = wanted.iter().filter_map(|cells| number(cells)).collect();
        let (Some(value), false) = (number(&own), bounds.is_empty()) else { return Judged::Differs(None) };
        let low = bounds.iter().copied().fold(f64::INFINITY, f64::min);
        let high = bounds.iter().copied().fold(f64::NEG_INFINITY, f64::max);
        let room = low.abs().max(high.abs()) * tolerance + lay.step();
        if value >= low - room && value <= high + room {
            return Judged::Within;
        }
        Judged::Differs(self.looks_like(&own, &wanted, value, (low + high) / 2.0))
    }

    /// What a wrong value has probably come from.
    fn looks_like(&self, seen: &[u8], wanted: &[Vec<u8>], value: f64, expected: f64) -> Option<String> {
        if wanted.iter().any(|wanted| wanted != seen && rearranged(wanted, seen)) {
            return Some(
                "the same bytes in another order (M35): word or byte order differs at one end".into(),
            );
        }
        let ratio = value / expected;
        let power = ratio.abs().log10().round();
        let tenfold = ratio.is_finite() && power != 0.0 && power.abs() <= 4.0;
        if tenfold && (ratio.abs() / 10f64.powf(power) - 1.0).abs() < 0.02 {
            let by = 10f64.powf(power.abs());
            let way = if power > 0.0 { "greater" } else { "smaller" };
            return Some(format!("{by} times {way} (M36): a scale is missing or applied twice"));
        }
        None
    }
}

/// Whether words, or the bytes in each word, are in another order.
fn rearranged(one: &[u8], other: &[u8]) -> bool {
    let words = |cells: &[u8]| -> Vec<[u8; 2]> {
        cells
            .chunks_exact(2)
            .map(|pair| [pair.first().copied().unwrap_or(0), pair.get(1).copied().unwrap_or(0)])
            .collect()
    };
    if one.len() != other.len() || one.len() < 2 || !one.len().is_multiple_of(2) {
        return false;
    }
    let swapped: Vec<[u8; 2]> = words(one).iter().map(|[high, low]| [*low, *high]).collect();
    let (plain, seen) = (words(one), words(other));
    let back = |words: &[[u8; 2]]| words.iter().rev().copied().collect::<Vec<_>>();
    seen == back(&plain) || seen == swapped || seen == back(&swapped)
}

#[cfg(test)]
mod tests {
    use super::*;
    use woodrush_core::check::check;
    use woodrush_core::project::read;

    const SITE: &str = r#"
[ports.line]
serial = "/dev/ttyUSB0"
line = "38400 8E1"
protocol = "modbus-rtu"
[ports.office]
listen = "192.0.2.10:502"
protocol = "modbus-tcp"
allow = ["192.0.2.0/24"]
[devices.gauge]
port = "line"
unit = 7
[images.scada]
port = "office"
[[map]]
from = "gauge:400001 as f32 CDAB"
to = "scada:400001 as f32 ABCD"
[[map]]
from = "gauge:400011 as i16 scale 0.1"
to = "scada:400011 as i16 scale 0.1"
count = 2
[[map]]
from = "gauge.health.online"
to = "scada:100001"
"#;

    fn all() -> Vec<Pair> {
        pairs(&check(read("woodrush.toml", SITE.into(), &mut |_| Err(String::new()))))
    }

    #[test]
    fn only_what_has_two_ends_is_compared() {
        let all = all();
        assert_eq!(all.iter().map(|pair| (pair.map, pair.count)).collect::<Vec<_>>(), [(0, 1), (1, 2)]);
        assert_eq!(all[1].at_device().map(|extent| (extent.first, extent.count)), Some((10, 2)));
        assert_eq!(all[1].of_device(&[1, 2, 3, 4], 1), [3, 4]);
    }

    #[test]
    fn a_value_is_judged_against_what_the_device_held_before_and_after() {
        let pair = &all()[0];
        // 17.46 in CDAB at the device, in ABCD at the reader.
        let device = [0xAE, 0x14, 0x41, 0x8B];
        let judge = |seen: f32, after: f32, tolerance| {
            let words = after.to_be_bytes();
            pair.judge(&device, &seen.to_be_bytes(), &[words[2], words[3], words[0], words[1]], tolerance)
        };
        assert_eq!(judge(17.46, 17.46, 0.0), Judged::Same);
        assert_eq!(judge(18.0, 19.0, 0.0), Judged::Within, "it moved from 17.46 to 19");
        assert_eq!(judge(17.5, 17.46, 0.01), Judged::Within);
        assert_eq!(judge(17.9, 17.46, 0.01), Judged::Differs(None));
        let Judged::Differs(Some(scale)) = judge(1746.0, 17.46, 0.01) else { panic!() };
        assert!(scale.contains("100 times greater (M36)"), "{scale}");
        let Judged::Differs(Some(order)) = pair.judge(&device, &device, &device, 0.01) else { panic!() };
        assert!(order.contains("M35"), "{order}");
    }

    #[test]
    fn one_step_of_a_scaled_number_is_no_difference() {
        let pair = &all()[1];
        assert_eq!(pair.judge(&[0, 100], &[0, 101], &[0, 100], 0.0), Judged::Within);
        assert_eq!(pair.judge(&[0, 100], &[0, 103], &[0, 100], 0.0), Judged::Differs(None));
        assert!(pair.arrived(&[0, 100], &[0, 100]) && !pair.arrived(&[0, 100], &[0, 101]));
    }
}
