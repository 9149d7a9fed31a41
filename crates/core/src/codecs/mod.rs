//! Codecs: compressing and decompressing with well-kept libraries, within stated limits of memory.
//!
//! [`block`] compresses one block and says whether that was worth it, the slow squeezes with [`lzma`], both by the [`entropy`]
//! of its bytes; [`deflate`] makes one deflate stream of pieces that are compressed each by itself; [`stream`] reads a file that
//! is compressed as a whole.
//!
//! A newcomer may add a codec here; what stands around its bytes belongs to a format.

pub mod block;
pub mod deflate;
pub mod entropy;
pub mod error;
pub mod lzma;
pub mod stream;
