//! Numbers of sixteen bytes that name objects, interfaces and relations.

use std::fmt;

/// A UUID in the order in which it is written; on the wire its first three parts may be turned round.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub struct Uuid(pub [u8; 16]);

impl Uuid {
    /// An object: instance, device and vendor number in the frame that all of them have.
    #[must_use]
    pub const fn object(instance: u16, device: u16, vendor: u16) -> Self {
        let ([i, j], [d, e], [v, w]) = (instance.to_be_bytes(), device.to_be_bytes(), vendor.to_be_bytes());
        Self([0xDE, 0xA0, 0, 0, 0x6C, 0x97, 0x11, 0xD1, 0x82, 0x71, i, j, d, e, v, w])
    }

    /// The interface of this number: 1 device, 2 controller, 3 supervisor, 4 parameter server.
    #[must_use]
    pub const fn interface(number: u8) -> Self {
        Self([0xDE, 0xA0, 0, number, 0x6C, 0x97, 0x11, 0xD1, 0x82, 0x71, 0, 0xA0, 0x24, 0x42, 0xDF, 0x7D])
    }

    /// Instance, device and vendor number of an object; `None` for whatever else.
    #[must_use]
    pub fn of_object(&self) -> Option<(u16, u16, u16)> {
        let [.., i, j, d, e, v, w] = self.0;
        let numbers = [[i, j], [d, e], [v, w]].map(u16::from_be_bytes);
        (*self == Self::object(numbers[0], numbers[1], numbers[2])).then_some(numbers.into())
    }

    /// The same with its first three parts turned round, as a sender of little-endian numbers writes it.
    #[must_use]
    pub const fn turned(self) -> Self {
        let [a, b, c, d, e, f, g, h, i, j, k, l, m, n, o, p] = self.0;
        Self([d, c, b, a, f, e, h, g, i, j, k, l, m, n, o, p])
    }

    /// Whether all of it is 0.
    #[must_use]
    pub const fn is_nil(&self) -> bool {
        u128::from_be_bytes(self.0) == 0
    }
}

impl fmt::Display for Uuid {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (at, byte) in self.0.iter().enumerate() {
            let dash = if matches!(at, 4 | 6 | 8 | 10) { "-" } else { "" };
            write!(f, "{dash}{byte:02x}")?;
        }
        Ok(())
    }
}
