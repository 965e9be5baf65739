//! Where a port of a network is: at an address of this machine, on one of its interfaces, or on the rig's switch.

use super::frame_socket::FrameSocket;
use super::sockets::{Sockets, open_sockets};
use crate::port::tty::OpenFault;
use crate::speak::Socket;
use std::fmt;
use std::net::Ipv4Addr;

/// Where a port is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Place {
    /// All sockets of an address.
    Address(Ipv4Addr),
    /// Frames of an interface.
    Interface(String),
    /// Frames of the rig's switch of that name.
    Switch(String),
}

impl Place {
    /// Our own address, where it has one.
    pub(crate) const fn address(&self) -> Option<Ipv4Addr> {
        match self {
            Self::Address(own) => Some(*own),
            Self::Interface(_) | Self::Switch(_) => None,
        }
    }

    /// Opens what a node needs there; of `spare` what is open there already.
    ///
    /// # Errors
    /// What cannot be opened, in words.
    pub(crate) fn open(&self, sockets: &[Socket], spare: Option<&Sockets>) -> Result<Sockets, OpenFault> {
        match self {
            Self::Address(own) => open_sockets(*own, sockets, spare),
            _ => Ok(Sockets { listeners: vec![], datagrams: vec![], frames: Some(self.frames(sockets)?) }),
        }
    }

    /// What carries whole frames there.
    ///
    /// # Errors
    /// It cannot be opened, in words; nothing does at an address.
    pub(crate) fn frames(&self, sockets: &[Socket]) -> Result<FrameSocket, OpenFault> {
        match self {
            Self::Address(own) => {
                Err(OpenFault::new(format!("{own} is an address, and frames go by an interface"), "name one"))
            }
            Self::Interface(name) => FrameSocket::of_interface(name, sockets),
            Self::Switch(name) => FrameSocket::of_switch(name),
        }
    }

    /// What is not there while it cannot be opened yet.
    pub(crate) fn missing(&self) -> String {
        match self {
            Self::Address(own) => format!("{own} is not an address of this machine yet"),
            Self::Interface(name) => format!("there is no interface `{name}` yet"),
            Self::Switch(name) => format!("the rig's switch `{name}` is not there yet"),
        }
    }
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Address(own) => write!(f, "all sockets of {own}"),
            Self::Interface(name) => write!(f, "the Ethernet interface {name}"),
            Self::Switch(name) => write!(f, "the rig's switch {name}"),
        }
    }
}
