//! What is kept of a client's write: from whom, to what, old and new, and how it ended.

/// One write of a client.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WriteRecord {
    /// Who, as the port knows them.
    pub who: String,
    /// Name of the image.
    pub image: String,
    /// The first address, in both notations.
    pub address: String,
    /// The cells before, in hex; empty where they were not known.
    pub old: String,
    /// The cells that were written, in hex.
    pub new: String,
    /// `done`, or the refusal in words.
    pub outcome: String,
}
