//! ISO transport on TCP (RFC 1006) in class 0 (ISO 8073 / X.224), and the FETCH/WRITE messages on it.
//!
//! Four layers, each with its own borders: the TCP stream, packets ([`tpkt`]), transport data units ([`cotp`]) and
//! messages ([`fetch`]). All fields are big-endian. There is no check sum and no way back into step: whatever is wrong
//! costs the connection.

pub mod cotp;
#[cfg(any(test, feature = "exercise"))]
pub mod exercise;
pub mod fetch;
pub mod tpkt;
#[cfg(test)]
mod vectors;
