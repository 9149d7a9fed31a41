//! Where entries go when an archive is read: a sink is handed one entry after the other, each with its verified content.

use super::attributes::Attribute;
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

    /// The current file has this extended attribute; all of them come before its content.
    fn attribute(&mut self, _: &Attribute) -> Result<(), Cancelled> {
        Ok(())
    }

    /// The next bytes of the current file: authenticated, not yet complete.
    fn content(&mut self, bytes: &[u8]) -> Result<(), Cancelled>;

    /// The next bytes of the current file are so many zeros, which are stored nowhere. Whoever does not know better takes
    /// them as content.
    fn hole(&mut self, bytes: u64) -> Result<(), Cancelled> {
        zeros(bytes).try_for_each(|piece| self.content(piece))
    }

    /// A further name of a file that it was told to end before, with this content: whether it takes that so. Where it does not, the
    /// content is handed to it once more, under this name.
    fn further_name(&mut self, _: &Entry, _of: &Entry, _: &Content) -> Result<bool, Cancelled> {
        Ok(false)
    }

    /// The current entry is complete and its digest was right.
    fn end(&mut self, _: &Entry, _: &Content) -> Result<(), Cancelled> {
        Ok(())
    }
}

/// A sink that keeps no content, and is told what each entry came to.
pub struct OnlyEnds<F> {
    told: F,
}

impl<F: FnMut(&Entry, &Content)> OnlyEnds<F> {
    /// A sink that tells of each entry's end.
    pub const fn telling(told: F) -> Self {
        Self { told }
    }
}

impl<F: FnMut(&Entry, &Content)> EntrySink for OnlyEnds<F> {
    fn content(&mut self, _: &[u8]) -> Result<(), Cancelled> {
        Ok(())
    }

    fn hole(&mut self, _: u64) -> Result<(), Cancelled> {
        Ok(())
    }

    fn further_name(&mut self, entry: &Entry, _: &Entry, content: &Content) -> Result<bool, Cancelled> {
        (self.told)(entry, content);
        Ok(true)
    }

    fn end(&mut self, entry: &Entry, content: &Content) -> Result<(), Cancelled> {
        (self.told)(entry, content);
        Ok(())
    }
}
