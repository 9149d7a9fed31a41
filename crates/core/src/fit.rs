//! The fit: the rule that decides how many bytes a volume may have.
//!
//! Packing asks a fit for one number and knows nothing of where it came from.

use crate::size::{Size, SizeError};
use std::str::FromStr;

/// How large a volume may be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fit {
    /// One volume, as large as it comes.
    OneVolume,
    /// At most this many bytes a volume, headers and all.
    AtMost(Size),
}

impl Fit {
    /// The most bytes that a volume file may have, or `None` where there is no limit.
    pub const fn volume_limit(self) -> Option<u64> {
        match self {
            Self::OneVolume => None,
            Self::AtMost(size) => Some(size.bytes()),
        }
    }
}

impl FromStr for Fit {
    type Err = SizeError;

    /// Reads a size as [`Size`] does.
    ///
    /// # Errors
    /// [`SizeError`] where the text is not a size.
    fn from_str(text: &str) -> Result<Self, SizeError> {
        text.parse().map(Self::AtMost)
    }
}
