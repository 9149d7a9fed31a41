//! Plain pieces: any file cut so that concatenation joins it again anywhere, and numbered pieces of whatever origin
//! joined. Nothing is added to the pieces; what is known of them stands in a text file beside them ([`list`]).

mod cut;
mod join;
pub mod list;

pub use cut::{PortionError, PortionRequest, Portioned, portion};
pub use join::{Pieces, PiecesError, ReuniteError, Reunited, reunite};

use crate::context::{Cancelled, Context};
use crate::place::{FileError, read_through};
use sha2::{Digest as _, Sha256};
use std::path::{Path, PathBuf};

/// So many bytes are copied at once.
const COPIED_BYTES: usize = 1024 * 1024;

/// A SHA-256, by which pieces are known anywhere (FIPS 180-4).
pub type Sha256Sum = [u8; 32];

/// A file's SHA-256, read from its beginning to its end.
pub(crate) fn sum_of<E: From<FileError> + From<Cancelled>>(path: &Path, context: &Context<'_>) -> Result<Sha256Sum, E> {
    let mut sum = Sha256::new();
    read_through(path, context, |bytes| {
        sum.update(bytes);
        Ok::<_, E>(())
    })?;
    Ok(sum.finalize().into())
}

/// A file that was made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MadeFile {
    /// Its absolute path.
    pub path: PathBuf,
    /// Its length in bytes.
    pub bytes: u64,
}
