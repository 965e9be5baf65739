//! Steps of a connection once it is open: the parameters are complete, the device is ready, it ends.

use super::Uuid;
use super::block::{self, Block, kind};
use crate::{WireError, WireFault};

/// What a step is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Step {
    /// The parameters are complete: the controller says so.
    ParametersEnd,
    /// The device is ready: it says so.
    Ready,
    /// The connection ends: the controller says so.
    Release,
}

impl Step {
    const fn of(kind: u16) -> Option<Self> {
        match kind & !kind::ANSWER {
            kind::PARAMETERS_END => Some(Self::ParametersEnd),
            kind::READY => Some(Self::Ready),
            kind::RELEASE => Some(Self::Release),
            _ => None,
        }
    }

    const fn kind(self) -> u16 {
        match self {
            Self::ParametersEnd => kind::PARAMETERS_END,
            Self::Ready => kind::READY,
            Self::Release => kind::RELEASE,
        }
    }

    const fn command(self) -> u16 {
        match self {
            Self::ParametersEnd => 1,
            Self::Ready => 2,
            Self::Release => 4,
        }
    }
}

/// The command of an answer: it is done.
const DONE: u16 = 8;

/// One step, or the answer to it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Control {
    /// Which step.
    pub step: Step,
    /// It is done; else it is to be done.
    pub done: bool,
    /// The relation.
    pub uuid: Uuid,
    /// As at the opening.
    pub session: u16,
    /// Bits; 0.
    pub properties: u16,
}

impl Control {
    /// Reads the block.
    ///
    /// # Errors
    /// It is cut or goes on, or its command is not that of its type.
    pub fn parse(block: &Block<'_>) -> Result<Self, WireError> {
        let mut reader = block.reader();
        let Some(step) = Step::of(block.kind) else {
            let allowed = "0x0110, 0x0112, 0x0114 and their answers";
            return reader.fault(0, WireFault::Choice { field: "block type", got: block.kind, allowed });
        };
        reader.u16_in("reserved", 0, 0)?;
        let uuid = Uuid(reader.array("AR UUID")?);
        let session = reader.u16("session key")?;
        reader.u16_in("reserved", 0, 0)?;
        let done = block.kind & kind::ANSWER != 0;
        let wanted = if done { DONE } else { step.command() };
        reader.u16_in("control command", wanted, wanted)?;
        let properties = reader.u16("properties")?;
        reader.end()?;
        Ok(Self { step, done, uuid, session, properties })
    }

    /// Appends the block.
    pub fn emit(&self, out: &mut Vec<u8>) {
        let answer = if self.done { kind::ANSWER } else { 0 };
        block::emit_with(out, self.step.kind() | answer, 0, |out| {
            out.extend_from_slice(&[0, 0]);
            out.extend_from_slice(&self.uuid.0);
            out.extend_from_slice(&self.session.to_be_bytes());
            out.extend_from_slice(&[0, 0]);
            let command = if self.done { DONE } else { self.step.command() };
            out.extend_from_slice(&command.to_be_bytes());
            out.extend_from_slice(&self.properties.to_be_bytes());
        });
    }
}
