//! PROFINET IO with real-time class 1: frames of EtherType 0x8892, and calls over UDP.
//!
//! Stations are found and named by [`dcp`], their names obey [`name`]; a connection (an application relation) is made by
//! calls ([`rpc`], long ones in [`parts`]) that carry blocks ([`connect`], [`iocr`], [`submodules`], [`control`], [`records`]) and end with a
//! [`status`]; data go in cyclic frames ([`rt`]), and each end breaks off by a message of the alarm channel ([`rta`]). All fields are
//! big-endian, but what of a call follows the sender's representation.
//!
//! Frames that are wrong are dropped; a call that is wrong is answered with the number of the field that is
//! ([`status::of`]).

pub mod block;
pub mod connect;
pub mod control;
pub mod dcp;
#[cfg(any(test, feature = "exercise"))]
pub mod exercise;
pub mod iocr;
pub mod lldp;
pub mod name;
pub mod parts;
pub mod records;
pub mod rpc;
pub mod rt;
pub mod rta;
pub mod status;
pub mod submodules;
mod uuid;
#[cfg(test)]
mod vectors;

pub use uuid::Uuid;

/// The EtherType of all frames but calls.
pub const ETHERTYPE: u16 = 0x8892;
/// The UDP port of calls.
pub const RPC_PORT: u16 = 34_964;
/// The priority and VLAN identifier of frames: priority 6, no VLAN.
pub const TAG: u16 = 0xC000;
