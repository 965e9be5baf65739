//! What a protocol exchanges in cycles: blocks of bytes that one end sends again and again, and the other takes as they
//! come.
//!
//! *Input* and *output* are named from the controller's side, whichever end we are: inputs go to the controller, outputs
//! come from it.

use super::{Holder, Setup, Space};
use std::ops::RangeInclusive;

/// What a station exchanges with its other end by itself, again and again.
pub trait Cyclic: Sync {
    /// Its blocks in the order of the frame, as the keys say; what comes and what goes is seen from `holder`: an image
    /// sends inputs, a device's come.
    fn slots(&self, setup: &Setup, holder: Holder) -> Vec<Slot>;
    /// How often a frame goes each way, and how long nothing may come.
    fn times(&self, setup: &Setup) -> CyclicTimes;
    /// Bytes of one frame on the wire, all layers with it, to the controller or from it; also one that carries no block and
    /// only says that its sender is there.
    fn frame_bytes(&self, setup: &Setup, to_controller: bool) -> u32;
    /// Whether a frame can say of a part of itself that it is lost. Where it cannot, a lost value must show as something.
    fn tells_loss(&self) -> bool;
    /// The periods that it knows, in microseconds.
    fn periods(&self) -> RangeInclusive<u64>;
    /// The most bytes of one space.
    fn most_bytes(&self, space: &Space) -> u32;
    /// A frame with the bytes of a whole space, as it goes over the wire.
    fn example(&self, space: &Space, bytes: &[u8], setup: &Setup) -> FrameExample;
    /// The file that describes these images of a port to an engineering system; `date` is the day on which it is made, as
    /// year, month and day. `None` where the protocol has no such file.
    fn device_file(&self, images: &[(&str, &Setup)], port: &Setup, date: (i16, i8, i8))
    -> Option<DeviceFile>;
    /// The numbers by which the other end names its blocks, each with its key: no two stations may have the same.
    fn numbers(&self, setup: &Setup) -> Vec<(&'static str, u32)>;
    /// The address that a station says it has for itself, with the bits of its network: none of the machine's.
    fn own_address(&self, setup: &Setup) -> Option<(std::net::Ipv4Addr, u8)> {
        let _ = setup;
        None
    }
    /// Whether only one controller may exchange with an image at a time.
    fn takes_one(&self) -> bool {
        false
    }
    /// How the keys of two ends of one exchange differ, each with what is wrong; `theirs` is the controller's.
    fn differences(&self, ours: &Setup, theirs: &Setup) -> Vec<super::SettingFault>;
    /// Whether a controller that is set up so exchanges a space of ours.
    fn has(&self, theirs: &Setup, space: &Space) -> bool;
    /// Says how many bytes a space of a station has, where its keys leave that open.
    fn settle(&self, setup: &mut Setup, space: &Space, bytes: u32);
}

/// One block of a frame: each way a space of bytes whose length is known.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Slot {
    /// What comes in it.
    pub comes: Option<Space>,
    /// What goes in it.
    pub goes: Option<Space>,
}

/// How often frames go, in microseconds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct CyclicTimes {
    /// From one frame to the next.
    pub period: u64,
    /// Without a frame for so long, what came counts as lost.
    pub lost_after: u64,
}

/// A file that describes a device to an engineering system.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DeviceFile {
    /// Its format, as the option of `map` that writes it: `eds`.
    pub format: &'static str,
    /// The suffix that such files have.
    pub suffix: &'static str,
    /// The name that it must have, where engineering systems insist on one.
    pub name: Option<String>,
    /// All of it.
    pub text: String,
}

/// One frame as bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FrameExample {
    /// What it is, in words: `inputs, to the controller`.
    pub words: String,
    /// All of it.
    pub bytes: Vec<u8>,
    /// Where in it the bytes of the space begin.
    pub begins: usize,
}
