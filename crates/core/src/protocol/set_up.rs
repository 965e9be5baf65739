//! What the parameters of a device shall be: what is written for each, and why a block does not do what it shall.

use super::{Setup, Space};

/// One parameter, or a member of one, and what it shall be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SetUpStep {
    /// The block's name.
    pub block: String,
    /// The parameter.
    pub space: Space,
    /// Its bytes that are written, from the first one on.
    pub first: u32,
    /// What they shall be; `None` where they stay as they are.
    pub wanted: Vec<Option<u8>>,
    /// The block must be out of service for it.
    pub out_of_service: bool,
    /// It changes the block's mode.
    pub is_mode: bool,
}

impl SetUpStep {
    /// The bytes to write, out of the whole parameter as it is.
    #[must_use]
    pub fn target(&self, present: &[u8]) -> Vec<u8> {
        let own = present.get(self.first as usize..).unwrap_or_default();
        let at = |(at, wanted): (usize, &Option<u8>)| wanted.or(own.get(at).copied()).unwrap_or(0);
        self.wanted.iter().enumerate().map(at).collect()
    }

    /// The whole parameter as it shall be.
    #[must_use]
    pub fn whole(&self, present: &[u8]) -> Vec<u8> {
        let mut all = present.to_vec();
        let target = self.target(present);
        if let Some(room) = all.get_mut(self.first as usize..self.first as usize + target.len()) {
            room.copy_from_slice(&target);
        }
        all
    }

    /// Whether the parameter is as it shall be.
    #[must_use]
    pub fn is_met(&self, present: &[u8]) -> bool {
        present.get(self.first as usize..self.first as usize + self.wanted.len())
            == Some(self.target(present).as_slice())
    }
}

/// Why a step cannot be one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StepFault {
    /// The check's code.
    pub code: &'static str,
    /// It is about the value, not the address.
    pub of_value: bool,
    /// What is wrong, in words.
    pub what: String,
    /// What was likely meant.
    pub likely: Option<String>,
}

/// What a list of steps brings a block to, and should not.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StepsFault {
    /// The step that it is about.
    pub step: usize,
    /// What is wrong, in words.
    pub what: String,
    /// What to do.
    pub fix: String,
}

/// How devices of a protocol are set up, where they are.
pub trait SetUp {
    /// Reads one line of a device's `set-up`.
    ///
    /// # Errors
    /// The address names nothing, or the value does not fit.
    fn step(&self, setup: &Setup, address: &str, value: &str) -> Result<SetUpStep, StepFault>;
    /// What the steps bring their blocks to that cannot work, from the file alone.
    fn judge(&self, setup: &Setup, steps: &[(usize, SetUpStep)]) -> Vec<StepsFault>;
    /// The parameter that holds a block's mode, and the step that puts it out of service; `None` where there is no such
    /// block.
    fn out_of_service(&self, setup: &Setup, block: &str) -> Option<SetUpStep>;
    /// The step that gives a block the mode that it has by a parameter's bytes.
    fn restore(&self, setup: &Setup, block: &str, mode: &[u8]) -> Option<SetUpStep>;
    /// The parameter that counts the changes of a block.
    fn revision(&self, setup: &Setup, block: &str) -> Option<Space>;
    /// What says how a block is and why.
    fn looked_at(&self, setup: &Setup, block: &str) -> Vec<Space>;
    /// What a block is in, by what was read of [`Self::looked_at`]: its mode and errors in words, and whether it is in the
    /// mode that is wanted.
    fn state(&self, setup: &Setup, block: &str, read: &dyn Fn(&Space) -> Option<Vec<u8>>) -> (String, bool);
    /// Why it is not, or why its value is not what it looks like; none where all is well.
    fn causes(&self, setup: &Setup, block: &str, read: &dyn Fn(&Space) -> Option<Vec<u8>>) -> Vec<String>;
    /// A whole parameter in words.
    fn shown(&self, space: &Space, cells: &[u8]) -> String;
}
