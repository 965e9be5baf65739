//! Attributes of the objects that every originator asks for first, and the lists that need no session.

use super::cpf::{Items, emit_item, item};
use super::encap::VERSION;
use crate::{Reader, WireError, WireFault};
use std::net::{Ipv4Addr, SocketAddrV4};

/// The most characters of a product's name.
pub const NAME_MAX: usize = 32;

/// The identity of a device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Identity<'a> {
    /// Who made it.
    pub vendor: u16,
    /// What it is.
    pub device_type: u16,
    /// Which product of the maker's.
    pub product: u16,
    /// Major and minor revision.
    pub revision: (u8, u8),
    /// Its state, in bits.
    pub status: u16,
    /// Its own number.
    pub serial: u32,
    /// The product's name, of at most [`NAME_MAX`] characters.
    pub name: &'a [u8],
}

impl<'a> Identity<'a> {
    /// Reads attributes 1 to 7 in a row, as Get_Attributes_All gives them.
    ///
    /// # Errors
    /// They are cut or go on.
    pub fn parse(data: &'a [u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new("Identity", data);
        let identity = Self::read(&mut reader)?;
        reader.end()?;
        Ok(identity)
    }

    fn read(reader: &mut Reader<'a>) -> Result<Self, WireError> {
        let vendor = reader.u16_le("vendor")?;
        let device_type = reader.u16_le("device type")?;
        let product = reader.u16_le("product code")?;
        let revision = (reader.u8("major revision")?, reader.u8("minor revision")?);
        let status = reader.u16_le("status")?;
        let serial = reader.u32_le("serial number")?;
        let length = reader.u8("name length")?;
        let name = reader.bytes("name", length.into())?;
        Ok(Self { vendor, device_type, product, revision, status, serial, name })
    }

    /// Appends attributes 1 to 7 in a row.
    pub fn emit(&self, out: &mut Vec<u8>) {
        for attribute in 1..=7 {
            let _ = self.attribute(attribute, out);
        }
    }

    /// Appends one attribute; `None` where there is none of that number.
    pub fn attribute(&self, attribute: u32, out: &mut Vec<u8>) -> Option<()> {
        match attribute {
            1 => out.extend_from_slice(&self.vendor.to_le_bytes()),
            2 => out.extend_from_slice(&self.device_type.to_le_bytes()),
            3 => out.extend_from_slice(&self.product.to_le_bytes()),
            4 => out.extend_from_slice(&[self.revision.0, self.revision.1]),
            5 => out.extend_from_slice(&self.status.to_le_bytes()),
            6 => out.extend_from_slice(&self.serial.to_le_bytes()),
            7 => {
                out.push(u8::try_from(self.name.len()).unwrap_or(u8::MAX));
                out.extend_from_slice(self.name);
            }
            _ => return None,
        }
        Some(())
    }
}

/// What ListIdentity is answered with.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ListedIdentity<'a> {
    /// Where it is reached.
    pub address: SocketAddrV4,
    /// Who it is.
    pub identity: Identity<'a>,
    /// 3 is operational.
    pub state: u8,
}

impl<'a> ListedIdentity<'a> {
    /// Reads the data of the reply; `None` where it lists no device.
    ///
    /// # Errors
    /// The items are cut, or the first is no identity.
    pub fn parse(data: &'a [u8]) -> Result<Option<Self>, WireError> {
        let Some((kind, data)) = Items::new(data)?.next_item()? else { return Ok(None) };
        let mut reader = Reader::new("ListIdentity", data);
        if kind != item::IDENTITY {
            let allowed = "0x000C, an identity";
            return reader.fault(0, WireFault::Choice { field: "item type", got: kind, allowed });
        }
        reader.u16_le("version")?;
        reader.u16("address family")?;
        let port = reader.u16("port")?;
        let [a, b, c, d] = *reader.bytes("address", 4)?.first_chunk().unwrap_or(&[0; 4]);
        reader.bytes("fill", 8)?;
        let identity = Identity::read(&mut reader)?;
        let state = reader.u8("state")?;
        reader.end()?;
        let address = SocketAddrV4::new(Ipv4Addr::new(a, b, c, d), port);
        Ok(Some(Self { address, identity, state }))
    }

    /// Appends the data.
    pub fn emit(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&[1, 0]);
        emit_item(out, item::IDENTITY, |out| {
            out.extend_from_slice(&VERSION.to_le_bytes());
            // Socket addresses are big-endian.
            out.extend_from_slice(&[0, 2]);
            out.extend_from_slice(&self.address.port().to_be_bytes());
            out.extend_from_slice(&self.address.ip().octets());
            out.extend_from_slice(&[0; 8]);
            self.identity.emit(out);
            out.push(self.state);
        });
    }
}

/// Messages of CIP over TCP.
pub const CAPABILITY_TCP: u16 = 0x0020;

/// Appends the data of a reply to ListServices: the one service that there is, with these capabilities.
pub fn emit_services(out: &mut Vec<u8>, capabilities: u16) {
    out.extend_from_slice(&[1, 0]);
    emit_item(out, item::SERVICES, |out| {
        out.extend_from_slice(&VERSION.to_le_bytes());
        out.extend_from_slice(&capabilities.to_le_bytes());
        out.extend_from_slice(b"Communications\0\0");
    });
}

/// Appends a text as attributes have it: its length in two bytes, the characters, and 0 to an even number.
pub fn emit_text(out: &mut Vec<u8>, text: &[u8]) {
    out.extend_from_slice(&u16::try_from(text.len()).unwrap_or(u16::MAX).to_le_bytes());
    out.extend_from_slice(text);
    if text.len() % 2 == 1 {
        out.push(0);
    }
}

/// Addresses of the TCP/IP Interface, attribute 5.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Addresses<'a> {
    /// Address, mask, router and two name servers.
    pub numbers: [Ipv4Addr; 5],
    /// The domain.
    pub domain: &'a [u8],
}

impl Addresses<'_> {
    /// Appends the attribute; addresses travel as numbers, the last octet first.
    pub fn emit(&self, out: &mut Vec<u8>) {
        self.numbers.iter().for_each(|number| out.extend_from_slice(&u32::from(*number).to_le_bytes()));
        emit_text(out, self.domain);
    }
}

/// Reads the data of Get_Attribute_List: the attributes that it wants.
///
/// # Errors
/// They are cut or go on.
pub fn parse_attribute_list(data: &[u8]) -> Result<impl ExactSizeIterator<Item = u16>, WireError> {
    let mut reader = Reader::new("attribute list", data);
    let count = reader.u16_le("attributes")?;
    let ids = reader.bytes("attributes", usize::from(count) * 2)?;
    reader.end()?;
    Ok(ids.chunks_exact(2).map(|id| id.first_chunk().map_or(0, |id| u16::from_le_bytes(*id))))
}
