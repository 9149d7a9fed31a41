//! Codecs: compressing and decompressing with well-kept libraries, within stated limits of memory.
//!
//! [`block`] compresses one block and says whether that was worth it; [`deflate`] makes one deflate stream of pieces that are
//! compressed each by itself; [`stream`] reads a file that is compressed as a whole.

pub mod block;
pub mod deflate;
pub mod stream;
