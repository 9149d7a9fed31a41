//! Receipts: a short code with which a recipient shows that everything could be unlocked and read, to the last byte.
//!
//! It is a keyed digest of all contents in stream order, under a key that only the archive key gives. Whoever has the
//! password and the index alone knows every file's digest, but not this one. docs/format.md gives the bytes.

use crate::formats::error::ArchiveError;
use crate::formats::reader::ArchiveReader as _;
use crate::formats::sealed::keys::KeyPurpose;
use crate::formats::sealed::{ArchiveKey, SealedReader};
use crate::ground::codes::{self, CodeError};
use crate::ground::context::{Cancelled, Context, Phase, Progress};
use crate::ground::entry::{Content, Entry};
use crate::ground::sink::EntrySink;
use subtle::ConstantTimeEq as _;

/// The first byte of every receipt, by which other codes are told from it.
const RECEIPT: u8 = 0x52;

/// Bytes of the set's id in a receipt.
const SET_BYTES: usize = 2;

/// Bytes of the keyed digest in a receipt: 56 bits.
const DIGEST_BYTES: usize = 7;

/// A receipt.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Receipt([u8; 1 + SET_BYTES + DIGEST_BYTES]);

impl Receipt {
    /// Reads and verifies everything, and makes the receipt for it.
    ///
    /// # Errors
    /// [`ArchiveError`], the first thing that is not right.
    pub fn make(archive: &mut SealedReader, key: &ArchiveKey, context: &Context<'_>) -> Result<Self, ArchiveError> {
        let set = archive.set().ids.set;
        context.tell(Progress::Begin(Phase::Verifying, archive.totals().content_bytes));
        let mut all = Everything(blake3::Hasher::new_keyed(&key.derive(&set, KeyPurpose::Receipt)));
        let read = archive.extract(&mut all, context);
        context.tell(Progress::End);
        read?;
        // The index is part of it: an archive of empty files has no content to speak of.
        all.0.update(&archive.index_digest());
        let mut receipt = [RECEIPT; 1 + SET_BYTES + DIGEST_BYTES];
        receipt[1..=SET_BYTES].copy_from_slice(&set[..SET_BYTES]);
        receipt[1 + SET_BYTES..].copy_from_slice(&all.0.finalize().as_bytes()[..DIGEST_BYTES]);
        Ok(Self(receipt))
    }

    /// The receipt as it is told.
    pub fn code(&self) -> String {
        codes::encode(&self.0)
    }

    /// Reads a receipt that was told.
    ///
    /// # Errors
    /// [`CodeError`]; [`CodeError::Other`] for a code of another kind.
    pub fn read(code: &str) -> Result<Self, CodeError> {
        let bytes = codes::decode(code)?;
        match <[u8; 1 + SET_BYTES + DIGEST_BYTES]>::try_from(bytes) {
            Ok(bytes) if bytes[0] == RECEIPT => Ok(Self(bytes)),
            Ok(_) => Err(CodeError::Other),
            Err(_) => Err(CodeError::Length),
        }
    }

    /// Whether it speaks of this set at all.
    pub fn is_of(&self, set: &[u8; 16]) -> bool {
        self.0[1..=SET_BYTES] == set[..SET_BYTES]
    }

    /// Whether it is the same as another.
    pub fn confirms(&self, other: &Self) -> bool {
        bool::from(self.0.ct_eq(&other.0))
    }
}

/// A sink that only digests.
struct Everything(blake3::Hasher);

impl EntrySink for Everything {
    fn content(&mut self, bytes: &[u8]) -> Result<(), Cancelled> {
        self.0.update(bytes);
        Ok(())
    }

    fn hole(&mut self, _: u64) -> Result<(), Cancelled> {
        Ok(())
    }

    /// What is stored counts, and it is stored once.
    fn further_name(&mut self, _: &Entry, _: &Entry, _: &Content) -> Result<bool, Cancelled> {
        Ok(true)
    }
}
