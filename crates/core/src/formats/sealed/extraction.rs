//! Extracting: records become calls of a sink, each compared with the index first.

use super::error::SealedError;
use super::index::Place;
use super::record::Record;
use crate::ground::context::{Context, Progress};
use crate::ground::entry::{Content, Entry, EntryKind, ListedEntry};
use crate::ground::sink::EntrySink;
use crate::ground::wire::Malformed;

/// The file whose records are being read.
pub(super) enum Open {
    Nothing,
    Listed { entry: Entry, content: Content, size: u64, hasher: Box<blake3::Hasher> },
    Unlisted { id: u64 },
}

/// Turns records into calls of the sink, comparing all of them with the index.
pub(super) struct Extraction<'a, 'c> {
    pub sink: &'a mut dyn EntrySink,
    pub context: &'a Context<'c>,
    pub next: Option<(&'a ListedEntry, Place)>,
    pub open: Open,
    /// Whether only some entries are wanted, so that others may come between.
    pub selective: bool,
}

impl<'a> Extraction<'a, '_> {
    pub fn take(
        &mut self,
        place: Place,
        record: Record<'_>,
        following: impl FnMut() -> Option<(&'a ListedEntry, Place)>,
    ) -> Result<(), SealedError> {
        match (record, &mut self.open) {
            (Record::Entry(entry), Open::Nothing) => self.begin(place, entry, following),
            (Record::Data { id, offset, bytes }, Open::Listed { entry, content, size, hasher }) => {
                let end = offset.saturating_add(bytes.len() as u64);
                if id != entry.id || offset != *size || end > content.size {
                    return Err(disagreement());
                }
                *size = end;
                hasher.update(bytes);
                self.context.tell(Progress::Advance(bytes.len() as u64));
                Ok(self.sink.content(bytes)?)
            }
            (Record::End { id, content, abandoned: false }, Open::Listed { entry, content: listed, size, hasher }) => {
                if id != entry.id || content != *listed || content.size != *size {
                    return Err(disagreement());
                }
                if hasher.finalize().as_bytes() != &content.digest {
                    return Err(SealedError::WrongDigest(entry.path.as_bytes().to_vec()));
                }
                self.sink.end(entry, &content)?;
                self.open = Open::Nothing;
                Ok(())
            }
            (Record::Data { id, .. }, Open::Unlisted { id: open }) if id == *open => Ok(()),
            (Record::End { id, abandoned, .. }, Open::Unlisted { id: open })
                if id == *open && (abandoned || self.selective) =>
            {
                self.open = Open::Nothing;
                Ok(())
            }
            (Record::Data { .. } | Record::End { .. }, Open::Nothing) if self.selective => Ok(()),
            _ => Err(disagreement()),
        }
    }

    /// Whether everything that was wanted was delivered.
    pub fn is_done(&self) -> bool {
        self.next.is_none() && !matches!(self.open, Open::Listed { .. })
    }

    /// The frame in which the next wanted entry begins, where nothing wanted comes before; what is passed over then is
    /// forgotten. `None` where a wanted file goes on in the next frame.
    pub fn skip_to(&mut self) -> Option<u64> {
        match self.open {
            Open::Listed { .. } => None,
            _ => {
                self.open = Open::Nothing;
                self.next.map(|(_, place)| place.frame_at)
            }
        }
    }

    fn begin(
        &mut self,
        place: Place,
        entry: Entry,
        mut following: impl FnMut() -> Option<(&'a ListedEntry, Place)>,
    ) -> Result<(), SealedError> {
        let Some((listed, _)) = self.next.filter(|(_, expected)| *expected == place) else {
            if entry.kind != EntryKind::File {
                if self.selective {
                    return Ok(());
                }
                // Only a file that was abandoned may be missing from the index.
                return Err(disagreement());
            }
            self.open = Open::Unlisted { id: entry.id };
            return Ok(());
        };
        if listed.entry != entry {
            return Err(disagreement());
        }
        self.next = following();
        self.context.tell(Progress::Entry(&entry.path));
        self.sink.begin(&entry)?;
        if entry.kind == EntryKind::File {
            self.open = Open::Listed { entry, content: listed.content, size: 0, hasher: Box::default() };
        } else {
            self.sink.end(&entry, &listed.content)?;
        }
        Ok(())
    }
}

/// Records and index do not say the same: whoever sealed this wanted to mislead, or had a broken program.
fn disagreement() -> SealedError {
    Malformed("record order").into()
}
