//! Chance that repeats: the same seed gives the same course.

/// A small generator of random numbers, repeatable from its seed.
#[derive(Debug, Clone)]
pub(crate) struct Dice(u64);

impl Dice {
    pub(crate) const fn new(seed: u64) -> Self {
        Self(seed)
    }

    /// The next 64 random bits (splitmix64).
    pub(crate) const fn roll(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut z = self.0;
        z = (z ^ z >> 30).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ z >> 27).wrapping_mul(0x94D0_49BB_1331_11EB);
        z ^ z >> 31
    }

    /// A number of 0 to below 1.
    pub(crate) fn share(&mut self) -> f64 {
        (self.roll() >> 11) as f64 / (1u64 << 53) as f64
    }
}
