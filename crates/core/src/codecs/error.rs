//! Why a codec fails.

/// Why a block cannot be compressed or decompressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum CodecError {
    /// The compressor failed, for want of memory.
    #[error("there is too little memory for the compressor")]
    Compressor,
    /// Not one well-formed frame or stream of the stated size within the limits.
    #[error("a compressed block is malformed")]
    Malformed,
}
