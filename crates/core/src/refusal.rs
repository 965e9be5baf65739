//! Why a request was not granted, in words that belong to no protocol.

/// A refusal on its way back to the client.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Refusal {
    /// What is wrong.
    pub kind: Kind,
    /// Whose fault it is.
    pub blame: Blame,
    /// The device's own number with the name of its protocol's family, for the log and for a client who speaks the
    /// same.
    pub native: Option<(&'static str, u32)>,
    /// It went out, and nothing sound came back: it may have been done or not.
    pub outcome_unknown: bool,
}

impl Refusal {
    /// A refusal without a number of its own.
    #[must_use]
    pub const fn new(kind: Kind, blame: Blame) -> Self {
        Self { kind, blame, native: None, outcome_unknown: false }
    }

    /// The same with the number by which a device refused.
    #[must_use]
    pub const fn with_native(self, family: &'static str, code: u32) -> Self {
        Self { native: Some((family, code)), ..self }
    }

    /// The same of a request that had gone out.
    #[must_use]
    pub const fn with_unknown_outcome(self) -> Self {
        Self { outcome_unknown: true, ..self }
    }

    /// Whether the device that was asked has refused by itself: then it has not done it.
    #[must_use]
    pub const fn is_by_device(&self) -> bool {
        self.native.is_some() && matches!(self.blame, Blame::Device)
    }

    /// Why, in words, to stand after "because".
    #[must_use]
    pub const fn words(&self) -> &'static str {
        match self.kind {
            Kind::NoPath if self.outcome_unknown => "the connection was lost before an answer came",
            kind => kind.words(),
        }
    }
}

/// What is wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum Kind {
    /// The command is unknown or not allowed.
    NoSuchCommand,
    /// Some part of the address does not exist, or no rule feeds it.
    NoSuchAddress,
    /// The structure of the request is wrong, or a value does not fit.
    BadValue,
    /// More is asked for at once than it gives or takes in one request.
    TooMuch,
    /// Nothing may be written here.
    ReadOnly,
    /// Too much to do; ask again later.
    Busy,
    /// Not in the device's present mode.
    WrongMode,
    /// The device failed while doing it.
    Fault,
    /// No way leads there: nothing serves it, or the line is down.
    NoPath,
    /// It went out and no sound answer came.
    NoAnswer,
    /// Bytes came and made no sense.
    Damaged,
    /// A sound answer to something else: another unit, function or length.
    Mismatch,
    /// The value's source is lost, or the value is too old.
    Lost,
    /// The value has never been read.
    NeverSeen,
    /// The value does not fit the form at the other end.
    DoesNotFit,
    /// What lies there is of another type than the project says.
    TypeDiffers,
    /// The device itself says that the value is bad.
    Unsound,
}

impl Kind {
    /// In words, to stand after "because".
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::NoSuchCommand => "the command is not served",
            Self::NoSuchAddress => "the address does not exist",
            Self::BadValue => "the value or the request's structure is wrong",
            Self::TooMuch => "it is more than it takes in one request",
            Self::ReadOnly => "nothing may be written there",
            Self::Busy => "it is busy",
            Self::WrongMode => "it is not in a mode for that",
            Self::Fault => "the device failed while doing it",
            Self::NoPath => "no way leads there",
            Self::NoAnswer => "no answer came",
            Self::Damaged => "the answer was damaged",
            Self::Mismatch => "the answer was to another question",
            Self::Lost => "its source is lost or its value too old",
            Self::NeverSeen => "it has not been read yet",
            Self::DoesNotFit => "the value does not fit",
            Self::TypeDiffers => "it is of another type",
            Self::Unsound => "the device itself calls the value bad",
        }
    }
}

/// Whose fault a refusal is; it picks the sentence and the exit status.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum Blame {
    /// The project file.
    File,
    /// The wires.
    Line,
    /// The device that was asked.
    Device,
    /// The client.
    ClientIdentity,
    /// A bug here.
    Us,
}
