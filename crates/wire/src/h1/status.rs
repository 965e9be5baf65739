//! The status byte of a value: quality in bits 7 and 6, sub-status in bits 5 to 2, limits in bits 1 and 0.

use std::fmt;

/// What a device says of a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub struct Status(pub u8);

/// Whether a value is one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Quality {
    /// It is none.
    Bad,
    /// It may be.
    Uncertain,
    /// It is, and nothing else depends on it.
    Good,
    /// It is, and belongs to a cascade.
    GoodCascade,
}

impl Status {
    /// Bad, not specific: what was never written.
    pub const BAD: Self = Self(0x00);
    /// Bad, configuration error.
    pub const CONFIGURATION_ERROR: Self = Self(0x04);
    /// Bad, sensor failure.
    pub const SENSOR_FAILURE: Self = Self(0x10);
    /// Bad, no communication, with the last usable value.
    pub const NO_COMMUNICATION: Self = Self(0x14);
    /// Bad, out of service.
    pub const OUT_OF_SERVICE: Self = Self(0x1C);
    /// Good, nothing to say.
    pub const GOOD: Self = Self(0x80);
    /// Good, and nothing moves it.
    pub const GOOD_CONSTANT: Self = Self(0x83);

    /// Its quality.
    #[must_use]
    pub const fn quality(self) -> Quality {
        match self.0 >> 6 {
            0 => Quality::Bad,
            1 => Quality::Uncertain,
            2 => Quality::Good,
            _ => Quality::GoodCascade,
        }
    }

    /// The number of its sub-status, 0 to 15.
    #[must_use]
    pub const fn sub(self) -> u8 {
        self.0 >> 2 & 0x0F
    }

    /// Its limits: 0 not limited, 1 low, 2 high, 3 constant.
    #[must_use]
    pub const fn limits(self) -> u8 {
        self.0 & 3
    }

    /// The same with another quality, not specific.
    #[must_use]
    pub const fn with_quality(self, quality: Quality) -> Self {
        let bits = match quality {
            Quality::Bad => 0,
            Quality::Uncertain => 1,
            Quality::Good => 2,
            Quality::GoodCascade => 3,
        };
        Self(bits << 6 | self.limits())
    }

    /// Its sub-status in words; `None` where the standard has none for that number.
    #[must_use]
    pub const fn sub_words(self) -> Option<&'static str> {
        Some(match (self.quality(), self.sub()) {
            (_, 0) => "non-specific",
            (Quality::Bad, 1) => "configuration error",
            (Quality::Bad, 2) => "not connected",
            (Quality::Bad, 3) => "device failure",
            (Quality::Bad, 4) => "sensor failure",
            (Quality::Bad, 5) => "no communication, last usable value",
            (Quality::Bad, 6) => "no communication, no usable value",
            (Quality::Bad, 7) => "out of service",
            (Quality::Uncertain, 1) => "last usable value",
            (Quality::Uncertain, 2) => "substitute",
            (Quality::Uncertain, 3) => "initial value",
            (Quality::Uncertain, 4) => "sensor conversion not accurate",
            (Quality::Uncertain, 5) => "engineering unit range violation",
            (Quality::Uncertain, 6) => "sub-normal",
            (Quality::Good, 1) => "active block alarm",
            (Quality::Good, 2) => "active advisory alarm",
            (Quality::Good, 3) => "active critical alarm",
            (Quality::Good, 4) => "unacknowledged block alarm",
            (Quality::Good, 5) => "unacknowledged advisory alarm",
            (Quality::Good, 6) => "unacknowledged critical alarm",
            (Quality::GoodCascade, 1) => "initialisation acknowledged",
            (Quality::GoodCascade, 2) => "initialisation request",
            (Quality::GoodCascade, 3) => "not invited",
            (Quality::GoodCascade, 4) => "not selected",
            (Quality::GoodCascade, 6) => "local override",
            (Quality::GoodCascade, 7) => "fault state active",
            (Quality::GoodCascade, 8) => "initiate fault state",
            _ => return None,
        })
    }
}

impl fmt::Display for Quality {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Bad => "bad",
            Self::Uncertain => "uncertain",
            Self::Good => "good",
            Self::GoodCascade => "good (cascade)",
        })
    }
}

/// As people read it: `bad, sensor failure`; `uncertain, engineering unit range violation, high limited`.
impl fmt::Display for Status {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.quality().fmt(f)?;
        match self.sub_words() {
            // Good says all where there is nothing more to say.
            Some(_) if self.sub() == 0 && self.quality() >= Quality::Good => {}
            Some(words) => write!(f, ", {words}")?,
            None => write!(f, ", sub-status {}", self.sub())?,
        }
        f.write_str(match self.limits() {
            1 => ", low limited",
            2 => ", high limited",
            3 => ", constant",
            _ => "",
        })
    }
}
