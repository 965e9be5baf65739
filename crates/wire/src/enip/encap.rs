//! The encapsulation on a TCP stream: 24 bytes of header, then so many as its length says.
//!
//! ```text
//! command 2  length 2  session 4  status 4  sender context 8  options 4  data
//! ```

use crate::{Reader, WireError, WireFault};

const LAYER: &str = "encapsulation header";
/// Bytes of a header.
pub const HEADER: usize = 24;
/// The most that the length field may say.
pub const LENGTH_MAX: u16 = 65_511;
/// The only version there is.
pub const VERSION: u16 = 1;

/// What a message is for.
pub mod command {
    /// Nothing; never answered.
    pub const NOP: u16 = 0x0000;
    /// Which services there are.
    pub const LIST_SERVICES: u16 = 0x0004;
    /// Who this is.
    pub const LIST_IDENTITY: u16 = 0x0063;
    /// Which other interfaces there are: none.
    pub const LIST_INTERFACES: u16 = 0x0064;
    /// Opens the session of a connection.
    pub const REGISTER_SESSION: u16 = 0x0065;
    /// Ends it; not answered, the connection is closed.
    pub const UNREGISTER_SESSION: u16 = 0x0066;
    /// A message outside connections, answered under the same sender context.
    pub const SEND_RR_DATA: u16 = 0x006F;
    /// A message of a connection.
    pub const SEND_UNIT_DATA: u16 = 0x0070;
}

/// What a header's status says.
pub mod status {
    /// Good.
    pub const SUCCESS: u32 = 0x0000;
    /// There is no such command, or not now.
    pub const INVALID_COMMAND: u32 = 0x0001;
    /// No memory for it.
    pub const NO_MEMORY: u32 = 0x0002;
    /// The data are not what the command wants.
    pub const BAD_DATA: u32 = 0x0003;
    /// The session is not this connection's.
    pub const INVALID_SESSION: u32 = 0x0064;
    /// The length is not what the command wants.
    pub const INVALID_LENGTH: u32 = 0x0065;
    /// Another version is asked for.
    pub const UNSUPPORTED_REVISION: u32 = 0x0069;
}

/// What a header's status says, in words.
#[must_use]
pub const fn status_words(code: u32) -> &'static str {
    match code {
        status::SUCCESS => "good",
        status::INVALID_COMMAND => "invalid or unsupported command",
        status::NO_MEMORY => "no memory",
        status::BAD_DATA => "badly formed data",
        status::INVALID_SESSION => "invalid session handle",
        status::INVALID_LENGTH => "invalid length",
        status::UNSUPPORTED_REVISION => "unsupported protocol revision",
        0x006A => "service not allowed on this port",
        _ => "unknown status",
    }
}

/// All of a header but the length.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Header {
    /// One of [`command`]; others are answered with [`status::INVALID_COMMAND`].
    pub command: u16,
    /// 0 until it is registered.
    pub session: u32,
    /// One of [`status`]; 0 in requests.
    pub status: u32,
    /// Comes back as it was sent.
    pub context: [u8; 8],
    /// 0; a message with others is ignored.
    pub options: u32,
}

impl Header {
    /// Appends a message whose data, of at most [`LENGTH_MAX`] bytes, are appended by `data`.
    pub fn emit_with(&self, out: &mut Vec<u8>, data: impl FnOnce(&mut Vec<u8>)) {
        let begin = out.len();
        out.extend_from_slice(&self.command.to_le_bytes());
        out.extend_from_slice(&[0, 0]);
        out.extend_from_slice(&self.session.to_le_bytes());
        out.extend_from_slice(&self.status.to_le_bytes());
        out.extend_from_slice(&self.context);
        out.extend_from_slice(&self.options.to_le_bytes());
        data(out);
        let length = u16::try_from(out.len() - begin - HEADER).unwrap_or(u16::MAX);
        if let Some(field) = out.get_mut(begin + 2..begin + 4) {
            field.copy_from_slice(&length.to_le_bytes());
        }
    }
}

/// One message.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Message<'a> {
    /// Its header.
    pub header: Header,
    /// What its command carries.
    pub data: &'a [u8],
}

impl Message<'_> {
    /// Appends it.
    pub fn emit(&self, out: &mut Vec<u8>) {
        self.header.emit_with(out, |out| out.extend_from_slice(self.data));
    }
}

/// The first message and how many bytes it takes; `None` while it is incomplete. `most` is what is taken of data.
///
/// # Errors
/// It is longer than `most`: close the connection.
pub fn parse(stream: &[u8], most: u16) -> Result<Option<(Message<'_>, usize)>, WireError> {
    let Some(head) = stream.get(..HEADER) else { return Ok(None) };
    let mut reader = Reader::new(LAYER, head);
    let command = reader.u16_le("command")?;
    let length = reader.u16_le("length")?;
    if length > most {
        let fault = WireFault::Range { field: "length", got: length.into(), low: 0, high: most.into() };
        return Err(WireError { layer: LAYER, at: 2, fault });
    }
    let session = reader.u32_le("session handle")?;
    let status = reader.u32_le("status")?;
    let mut context = [0; 8];
    context.copy_from_slice(reader.bytes("sender context", 8)?);
    let options = reader.u32_le("options")?;
    let whole = HEADER + usize::from(length);
    let header = Header { command, session, status, context, options };
    Ok(stream.get(HEADER..whole).map(|data| (Message { header, data }, whole)))
}

/// What RegisterSession asks for, and what its reply says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Registration {
    /// [`VERSION`]; in a refusal the highest that there is.
    pub version: u16,
    /// None is defined.
    pub flags: u16,
}

impl Registration {
    /// The only one that is taken.
    pub const OURS: Self = Self { version: VERSION, flags: 0 };

    /// Reads the data of the command.
    ///
    /// # Errors
    /// They are not four bytes: [`status::INVALID_LENGTH`].
    pub fn parse(data: &[u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new("RegisterSession", data);
        let registration = Self { version: reader.u16_le("version")?, flags: reader.u16_le("options")? };
        reader.end()?;
        Ok(registration)
    }

    /// Appends the data.
    pub fn emit(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&self.version.to_le_bytes());
        out.extend_from_slice(&self.flags.to_le_bytes());
    }
}
