//! Why nothing can be divided among parcels: what [`weighing`](super::weighing) and [`parcels`](super::parcels) answer.

use crate::codecs::error::CodecError;
use crate::disk::{Interruption, interruptible};
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::entry::EntryPath;

/// How many parcels one delivery may have.
pub const MAX_PARCELS: usize = 9_999;

/// Why nothing can be divided.
#[derive(Debug, thiserror::Error)]
pub enum ParcelError {
    /// Not even one cell fits.
    #[error("the fit is too small")]
    FitTooSmall,
    /// Files that are larger than the fit by themselves, each with its bytes.
    #[error("{} files are larger than the fit", .0.len())]
    TooLarge(Vec<(EntryPath, u64)>),
    /// There would be more than [`MAX_PARCELS`].
    #[error("more than {MAX_PARCELS} parcels")]
    TooMany,
    /// A compressor failed.
    #[error(transparent)]
    Codec(#[from] CodecError),
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(ParcelError);

impl Classed for ParcelError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::Codec(_) => ErrorClass::System,
            _ => ErrorClass::Usage,
        }
    }
}
