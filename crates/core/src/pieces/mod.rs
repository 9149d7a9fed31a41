//! Plain pieces: any file cut so that concatenation joins it again anywhere, and numbered pieces of whatever origin
//! joined. Nothing is added to the pieces; what is known of them stands in a text file beside them ([`list`]).

mod cut;
mod join;
pub mod list;
pub mod numbered;

pub use cut::{PortionError, PortionRequest, Portioned, portion};
pub use join::{Pieces, PiecesError, ReuniteError, Reunited, reunite};

use std::path::PathBuf;

/// So many bytes are copied at once.
const COPIED_BYTES: usize = 1024 * 1024;

/// Whatever is cut has at most so many pieces.
pub const MAX_PIECES: u32 = 65_535;

/// A SHA-256, by which pieces are known anywhere (FIPS 180-4).
pub type Sha256Sum = [u8; 32];

/// A file that was made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MadeFile {
    /// Its absolute path.
    pub path: PathBuf,
    /// Its length in bytes.
    pub bytes: u64,
}
