//! Entries that go from one archive into another as they are stored: neither decompressed nor deciphered.

use super::ZipError;
use super::agreement::{Cipher, Stored};
use super::headers::{Aes, Described, Finished, may_need_64};
use super::reader::ZipReader;
use super::segments::Range;
use crate::ground::entry::Entry;
use std::io::Read as _;

/// An entry as it is stored.
pub struct StoredEntry<'a> {
    /// What its headers say.
    pub described: Described,
    /// What it comes to.
    pub finished: Finished,
    stored: &'a Stored,
    data: Range<'a>,
}

impl StoredEntry<'_> {
    /// Its next bytes, at most so many; none at its end.
    ///
    /// # Errors
    /// [`ZipError`] from the system, or where it ends before it should.
    pub fn next(&mut self, wanted: usize) -> Result<Vec<u8>, ZipError> {
        let now = self.data.left().min(wanted as u64);
        let mut bytes = Vec::new();
        let read = self.data.by_ref().take(now).read_to_end(&mut bytes);
        read.map_err(|error| self.stored.read_error(error))?;
        if bytes.len() as u64 == now { Ok(bytes) } else { Err(self.stored.damaged("it is cut short")) }
    }
}

impl ZipReader {
    /// The entry at this place of the list, to be described so. `None` for one that is under the old cipher, which is not written,
    /// and for what has no content.
    pub fn as_stored(&self, place: usize, becomes: &Entry) -> Option<StoredEntry<'_>> {
        let (stored, segments) = self.stored_at(place)?;
        let encryption = match stored.cipher {
            Cipher::None => None,
            Cipher::Aes(strength) => Some(Aes { version: if stored.crc.is_some() { 1 } else { 2 }, strength }),
            Cipher::Old { .. } => return None,
        };
        let described = Described::of(becomes, stored.size, stored.method, false);
        let wide = may_need_64(stored.size.max(stored.compressed), false);
        let crc = stored.crc.unwrap_or(0);
        Some(StoredEntry {
            described: Described { encryption, wide, ..described },
            finished: Finished { crc, compressed: stored.compressed, size: stored.size },
            stored,
            data: segments.range(stored.data_at, stored.compressed),
        })
    }
}
