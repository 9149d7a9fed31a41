//! Archives that are read from their beginning to their end, maybe out of a compression around them: they have no directory, so all of
//! one is read once to know what is in it, and again for contents. A format of this kind tells how to [walk](Walk) from one entry to the
//! next; the rest is the same for all of them.

mod described;
mod error;
mod filled;
mod reader;
mod wrapped;

pub(super) use described::{Described, FileNumber, Kind};
pub use error::StreamedError;
pub(super) use filled::Filled;
pub use reader::StreamedReader;
pub(super) use reader::Walk;
pub(super) use wrapped::Unwrapped;
pub use wrapped::WrappedFile;

use crate::ground::context::Context;

/// Whether what is inside a file begins with so many bytes that are as they should be.
///
/// # Errors
/// [`StreamedError`] from the system; what does not decompress begins with nothing.
pub(super) fn begins<const BYTES: usize>(
    file: &WrappedFile,
    context: &Context<'_>,
    is_so: impl Fn(&[u8; BYTES]) -> bool,
) -> Result<bool, StreamedError> {
    let mut beginning = [0; BYTES];
    let filled = file.open(context).and_then(|mut stream| stream.fill(&mut beginning)).map_err(StreamedError::from);
    match filled {
        Ok(filled) => Ok(filled == BYTES && is_so(&beginning)),
        Err(StreamedError::Damaged) => Ok(false),
        Err(error) => Err(error),
    }
}
