//! Where entries go when an archive is read: a sink is handed one entry after the other, each with its verified content.

use super::context::Cancelled;
use super::entry::{Content, Entry};

/// What is in a hole of so many bytes, in pieces.
pub fn zeros(mut bytes: u64) -> impl Iterator<Item = &'static [u8]> {
    static ZEROS: [u8; 64 * 1024] = [0; 64 * 1024];
    std::iter::from_fn(move || {
        let piece = &ZEROS[..ZEROS.len().min(usize::try_from(bytes).unwrap_or(usize::MAX))];
        bytes -= piece.len() as u64;
        (!piece.is_empty()).then_some(piece)
    })
}

/// Receives entries and their verified content, one entry at a time. A sink that cannot go on, or needs no more, cancels the
/// extraction, and keeps the reason for whoever asked for it.
pub trait EntrySink {
    /// A new entry begins. Folders and links have no content and end at once.
    fn begin(&mut self, _: &Entry) -> Result<(), Cancelled> {
        Ok(())
    }

    /// The next bytes of the current file: authenticated, not yet complete.
    fn content(&mut self, bytes: &[u8]) -> Result<(), Cancelled>;

    /// The next bytes of the current file are so many zeros, which are stored nowhere. Whoever does not know better takes
    /// them as content.
    fn hole(&mut self, bytes: u64) -> Result<(), Cancelled> {
        zeros(bytes).try_for_each(|piece| self.content(piece))
    }

    /// Whether it makes use of digests. Where it does not, that of a file with holes may be left at zero, since holes need
    /// not be read then.
    fn needs_digests(&self) -> bool {
        true
    }

    /// The current entry is complete and its digest was right.
    fn end(&mut self, _: &Entry, _: &Content) -> Result<(), Cancelled> {
        Ok(())
    }
}

/// A sink that keeps no content, and is told what each entry came to.
pub struct OnlyEnds<F> {
    told: F,
    needs_digests: bool,
}

impl<F: FnMut(&Entry, &Content)> OnlyEnds<F> {
    /// A sink that tells of each entry's end, with its digest.
    pub const fn telling(told: F) -> Self {
        Self { told, needs_digests: true }
    }

    /// A sink that tells of each entry's end, for whoever makes no use of digests.
    pub const fn without_digests(told: F) -> Self {
        Self { told, needs_digests: false }
    }
}

impl<F: FnMut(&Entry, &Content)> EntrySink for OnlyEnds<F> {
    fn content(&mut self, _: &[u8]) -> Result<(), Cancelled> {
        Ok(())
    }

    fn hole(&mut self, _: u64) -> Result<(), Cancelled> {
        Ok(())
    }

    fn needs_digests(&self) -> bool {
        self.needs_digests
    }

    fn end(&mut self, entry: &Entry, content: &Content) -> Result<(), Cancelled> {
        (self.told)(entry, content);
        Ok(())
    }
}
