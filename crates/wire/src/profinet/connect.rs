//! Blocks that open a connection: the application relation and its alarm channel.

use super::block::{self, Block, kind};
use super::{ETHERTYPE, TAG, Uuid};
use crate::{Reader, WireError};

pub(super) const AR_FIELDS: [&str; 10] = [
    "AR type",
    "AR UUID",
    "session key",
    "MAC address",
    "object",
    "AR properties",
    "activity timeout",
    "port",
    "name length",
    "name",
];
pub(super) const ALARM_FIELDS: [&str; 9] = [
    "alarm CR type",
    "EtherType",
    "properties",
    "timeout factor",
    "retries",
    "local reference",
    "longest alarm",
    "tag of high priority",
    "tag of low priority",
];

/// The type of relation that an IO controller opens.
pub const AR_CONTROLLER: u16 = 1;
/// Bits 2 to 0 of the properties: the relation is active.
pub const AR_ACTIVE: u32 = 1;
/// Bit 4: parameters come from the controller.
pub const AR_PARAMETERS: u32 = 0x10;
/// Bit 3: a supervisor takes over.
pub const AR_TAKEOVER: u32 = 0x08;
/// Bit 8: records alone, without frames.
pub const AR_DEVICE_ACCESS: u32 = 0x100;
/// The least and the most bytes of an alarm.
pub const ALARM_BYTES: (u16, u16) = (200, 1432);
/// Tags of alarms: priority 6 and 5.
const ALARM_TAGS: [u16; 2] = [TAG, 0xA000];

pub(super) fn ether_type(reader: &mut Reader<'_>) -> Result<(), WireError> {
    reader.choice("EtherType", "0x8892", |own| (own == ETHERTYPE).then_some(()))
}

/// Who opens a relation, and how.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ArRequest<'a> {
    /// [`AR_CONTROLLER`] or another.
    pub ar_type: u16,
    /// The relation's name.
    pub uuid: Uuid,
    /// Tells relations of one name apart.
    pub session: u16,
    /// The controller's MAC address.
    pub mac: [u8; 6],
    /// The controller as an object: whom the device calls.
    pub object: Uuid,
    /// Bits, see [`AR_ACTIVE`].
    pub properties: u32,
    /// How long a step of the opening may take, in units of 100 ms.
    pub activity_timeout: u16,
    /// The controller's name of station.
    pub name: &'a [u8],
}

impl<'a> ArRequest<'a> {
    /// Reads the block.
    ///
    /// # Errors
    /// It is cut or goes on, or a field is out of its range.
    pub fn parse(block: &Block<'a>) -> Result<Self, WireError> {
        let mut reader = block.reader();
        let ar_type = reader.u16("AR type")?;
        let uuid = Uuid(reader.array("AR UUID")?);
        let session = reader.u16("session key")?;
        let mac = reader.array("MAC address")?;
        let object = Uuid(reader.array("object")?);
        let properties = reader.u32("AR properties")?;
        let activity_timeout = reader.u16_in("activity timeout", 1, 1000)?;
        reader.choice("port", "0x8892", |own| (own == ETHERTYPE).then_some(()))?;
        let length = reader.u16_in("name length", 1, 240)?;
        let name = reader.bytes("name", length.into())?;
        reader.end()?;
        Ok(Self { ar_type, uuid, session, mac, object, properties, activity_timeout, name })
    }

    /// Appends the block.
    pub fn emit(&self, out: &mut Vec<u8>) {
        block::emit_with(out, kind::AR, 0, |out| {
            out.extend_from_slice(&self.ar_type.to_be_bytes());
            out.extend_from_slice(&self.uuid.0);
            out.extend_from_slice(&self.session.to_be_bytes());
            out.extend_from_slice(&self.mac);
            out.extend_from_slice(&self.object.0);
            out.extend_from_slice(&self.properties.to_be_bytes());
            let length = u16::try_from(self.name.len()).unwrap_or(u16::MAX);
            for field in [self.activity_timeout, ETHERTYPE, length] {
                out.extend_from_slice(&field.to_be_bytes());
            }
            out.extend_from_slice(self.name);
        });
    }
}

/// The answer to it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ArAnswer {
    /// As asked.
    pub ar_type: u16,
    /// As asked.
    pub uuid: Uuid,
    /// As asked.
    pub session: u16,
    /// The device's MAC address.
    pub mac: [u8; 6],
}

impl ArAnswer {
    /// Reads the block.
    ///
    /// # Errors
    /// It is cut or goes on.
    pub fn parse(block: &Block<'_>) -> Result<Self, WireError> {
        let mut reader = block.reader();
        let ar_type = reader.u16("AR type")?;
        let uuid = Uuid(reader.array("AR UUID")?);
        let (session, mac) = (reader.u16("session key")?, reader.array("MAC address")?);
        ether_type(&mut reader)?;
        reader.end()?;
        Ok(Self { ar_type, uuid, session, mac })
    }

    /// Appends the block.
    pub fn emit(&self, out: &mut Vec<u8>) {
        block::emit_with(out, kind::AR_ANSWER, 0, |out| {
            out.extend_from_slice(&self.ar_type.to_be_bytes());
            out.extend_from_slice(&self.uuid.0);
            out.extend_from_slice(&self.session.to_be_bytes());
            out.extend_from_slice(&self.mac);
            out.extend_from_slice(&ETHERTYPE.to_be_bytes());
        });
    }
}

/// The alarm channel.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct AlarmRequest {
    /// Bits; 0.
    pub properties: u32,
    /// After how long a message is sent again, in units of 100 ms.
    pub timeout: u16,
    /// How often.
    pub retries: u16,
    /// By what the controller names it.
    pub reference: u16,
    /// The most bytes of a message.
    pub longest: u16,
}

impl AlarmRequest {
    /// Reads the block.
    ///
    /// # Errors
    /// It is cut or goes on, or a field is out of its range.
    pub fn parse(block: &Block<'_>) -> Result<Self, WireError> {
        let mut reader = block.reader();
        reader.u16_in("alarm CR type", 1, 1)?;
        ether_type(&mut reader)?;
        let properties = reader.u32("properties")?;
        let timeout = reader.u16_in("timeout factor", 1, 0x64)?;
        let retries = reader.u16_in("retries", 3, 15)?;
        let reference = reader.u16("local reference")?;
        let (least, most) = ALARM_BYTES;
        let longest = reader.u16_in("longest alarm", least, most)?;
        for (field, tag) in ["tag of high priority", "tag of low priority"].into_iter().zip(ALARM_TAGS) {
            reader.choice(field, "0xC000 and 0xA000", |own| (own == tag).then_some(()))?;
        }
        reader.end()?;
        Ok(Self { properties, timeout, retries, reference, longest })
    }

    /// Appends the block.
    pub fn emit(&self, out: &mut Vec<u8>) {
        block::emit_with(out, kind::ALARM_CR, 0, |out| {
            for field in [1, ETHERTYPE] {
                out.extend_from_slice(&field.to_be_bytes());
            }
            out.extend_from_slice(&self.properties.to_be_bytes());
            let [high, low] = ALARM_TAGS;
            for field in [self.timeout, self.retries, self.reference, self.longest, high, low] {
                out.extend_from_slice(&field.to_be_bytes());
            }
        });
    }
}

/// The answer to it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct AlarmAnswer {
    /// By what the device names it.
    pub reference: u16,
    /// The most bytes of a message.
    pub longest: u16,
}

impl AlarmAnswer {
    /// Reads the block.
    ///
    /// # Errors
    /// It is cut or goes on, or a field is out of its range.
    pub fn parse(block: &Block<'_>) -> Result<Self, WireError> {
        let mut reader = block.reader();
        reader.u16_in("alarm CR type", 1, 1)?;
        let (reference, longest) = (reader.u16("local reference")?, reader.u16("longest alarm")?);
        reader.end()?;
        Ok(Self { reference, longest })
    }

    /// Appends the block.
    pub fn emit(&self, out: &mut Vec<u8>) {
        block::emit_with(out, kind::ALARM_CR_ANSWER, 0, |out| {
            for field in [1, self.reference, self.longest] {
                out.extend_from_slice(&field.to_be_bytes());
            }
        });
    }
}
