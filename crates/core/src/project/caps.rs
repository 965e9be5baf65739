//! How large a project may be: far above what sites have, and far below what a machine cannot take. Counted before
//! anything is built, so that a few bytes of a file never become gigabytes.

use super::reader::Reader;
use crate::finding::Finding;
use crate::source::Span;

/// Ports, images, clients and forwards, each.
pub(super) const ENTRIES: usize = 4096;
/// Devices, those of `repeat` each for itself.
pub(super) const DEVICES: usize = 20_000;
/// Rules, those of `repeat` each for itself.
pub(super) const RULES: usize = 400_000;
/// Most points that one `repeat` makes: an array of a controller.
pub(crate) const REPEATS: u32 = 4096;
/// Points of one profile, those of `repeat` each for itself.
pub(crate) const POINTS: usize = 100_000;
/// Values of all rules together.
pub(crate) const VALUES: u64 = 2_000_000;
/// Cells of all images together, unused ones between used ones among them: each takes some 7 bytes.
pub(crate) const CELLS: u64 = 16_000_000;

/// How many of so many may be taken; more than there may be is told once.
pub(super) fn capped(r: &mut Reader<'_>, at: Span, noun: &str, count: usize, most: usize) -> usize {
    if count > most {
        r.find(too_many(at, noun, count as u64, most as u64));
    }
    count.min(most)
}

/// More than there may be.
pub(crate) fn too_many(at: Span, noun: &str, count: u64, most: u64) -> Finding {
    let what = format!("the project has {count} {noun}, and {most} is the most that one converter takes");
    Finding::new("M31", at, what).fix("split it into several projects, each for a converter of its own")
}
