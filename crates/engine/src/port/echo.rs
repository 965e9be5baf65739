//! An adapter that gives back what we send: the same bytes are expected once and taken out. An answer may equal its
//! request, so what is taken out is counted and not compared with what was asked.

use std::collections::VecDeque;

/// Takes our own bytes out of what comes.
#[derive(Debug, Default)]
pub(crate) struct Unecho {
    expected: VecDeque<u8>,
}

impl Unecho {
    /// These bytes went out.
    pub(crate) fn sent(&mut self, bytes: &[u8]) {
        // What did not come back by now will not.
        self.expected.clear();
        self.expected.extend(bytes);
    }

    /// What is left of what came.
    pub(crate) fn came<'b>(&mut self, bytes: &'b [u8]) -> &'b [u8] {
        let own = bytes.iter().zip(&self.expected).take_while(|(came, sent)| came == sent).count();
        self.expected.drain(..own);
        if own < bytes.len() {
            // Something else: either all of ours is through, or it was damaged on its way.
            self.expected.clear();
        }
        bytes.get(own..).unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn our_own_bytes_are_taken_out_once_and_an_equal_answer_stays() {
        let mut filter = Unecho::default();
        filter.sent(&[1, 6, 0, 1]);
        assert_eq!(filter.came(&[1, 6]), [0u8; 0]);
        assert_eq!(filter.came(&[0, 1, 1, 6, 0, 1]), [1, 6, 0, 1]);
        assert_eq!(filter.came(&[9]), [9]);
        filter.sent(&[1, 2, 3]);
        assert_eq!(filter.came(&[1, 7, 8]), [7, 8], "a damaged echo does not eat the answer");
        assert_eq!(filter.came(&[2, 3]), [2, 3]);
    }
}
