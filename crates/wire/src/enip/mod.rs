//! EtherNet/IP: the encapsulation on TCP, the common packet format in it, and CIP messages in that.
//!
//! Five layers, each with its own borders: the stream ([`encap`]), items ([`cpf`]), message router requests and replies
//! ([`cip`]) with their paths ([`epath`]), and what a service carries: connections ([`connection`]), tags ([`tags`]),
//! several services in one ([`packet`]), frames of connections that run ([`cyclic`]), attributes of objects ([`objects`]), commands for data tables ([`tables`]). All fields are little-endian but the
//! socket addresses.
//!
//! Whatever is wrong costs what encloses it: a header that cannot be the connection, items the message (encapsulation
//! status 3), a request the request ([`cip::status_of`]).

pub mod cip;
pub mod connection;
pub mod cpf;
pub mod cyclic;
pub mod encap;
pub mod epath;
#[cfg(any(test, feature = "exercise"))]
pub mod exercise;
pub mod objects;
pub mod packet;
pub mod status;
pub mod tables;
pub mod tags;
#[cfg(test)]
mod vectors;
