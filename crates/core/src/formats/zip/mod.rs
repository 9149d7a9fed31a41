//! ZIP archives, as the public application note describes them: a directory at the end names entries, each of which
//! stands somewhere before it behind a header of its own. The note's sections are named where a layout is read.
//!
//! Reading believes nothing twice said that is not said alike: directory and local headers must agree, entries lie apart and
//! before the directory, and there is one end only. What comes out is held to its declared size and CRC, and, where it is
//! encrypted with AES-256, to its authentication code.
//!
//! An archive may lie under a [cover](`COVER_NAME`), which hides names too: it is written as an entry of another, and read as
//! if that were not there.

mod agreement;
mod carrying;
mod cipher;
mod cover;
mod directory;
mod encryption;
mod error;
mod headers;
mod methods;
mod names;
mod parts;
mod reader;
mod segments;
mod times;
mod writer;

pub use carrying::StoredEntry;
pub use cover::COVER_NAME;
pub use directory::{END_BYTES, MAX_COMMENT_BYTES};
pub use encryption::{ENCRYPTION_BYTES, Encrypting, SALT_BYTES};
pub use error::ZipError;
pub use headers::{Described, Finished, may_need_64};
pub use methods::Method;
pub use parts::{begins_like_zip, is_part_name, is_part_suffix, is_zip, open_parts, suffixes};
pub use reader::ZipReader;
pub use segments::Segments;
pub use writer::{ZipWriteError, ZipWriter};

/// No directory is longer than this, in bytes: some million entries.
pub const MAX_DIRECTORY_BYTES: u64 = 1 << 28;

/// There are at most so many parts (`.z01` to `.z99` and on; the number of a part has 16 bits).
pub const MAX_PARTS: u32 = 65_535;
