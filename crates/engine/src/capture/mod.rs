//! Captures: traffic as a packet analyser reads it, and back.
//!
//! The file is pcapng (*PCAP Now Generic*, IETF draft-ietf-opsawg-pcapng). Each port is an interface of its own. What goes
//! over TCP on the port that its protocol always has is written as raw IPv4 (link type 101) with made-up headers;
//! everything else as an exported PDU (link type 252), which names the protocol, so that an analyser needs no settings.
//! What we make of a message stands beside it as a comment.

mod pcapng;
mod read;
mod write;

pub use read::{BrokenCapture, Capture, Caught};
pub use write::{CaptureWriter, CapturedMessage, Flow};

/// Packets begin with an IPv4 or IPv6 header.
const RAW_IP: u16 = 101;
/// Link type of whole Ethernet frames.
const ETHERNET: u16 = 1;
/// Packets begin with tags that say what follows.
const EXPORTED_PDU: u16 = 252;
/// The tag that names the protocol of an exported PDU.
const TAG_PROTOCOL: u16 = 12;
/// Tags for the kind of port, its number at the sender, and at the receiver.
const TAG_PORT_TYPE: u16 = 24;
const TAG_FROM: u16 = 25;
const TAG_TO: u16 = 26;
/// The kind of port that TCP has.
const PORT_TYPE: u32 = 2;
/// The numbers by which the two sides of a line are told apart: the client and the server.
const ASKS: u32 = 40_000;
const ANSWERS: u32 = 5_020;
/// The protocol of bytes that an analyser does not know.
const UNKNOWN: &str = "data";
