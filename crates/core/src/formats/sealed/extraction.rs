//! Extracting: records become calls of a sink, each compared with the index first.

use super::error::SealedError;
use super::index::Place;
use super::record::Record;
use crate::formats::reader::hole_piece;
use crate::ground::attributes::MAX_ATTRIBUTES_BYTES;
use crate::ground::context::{Context, Progress};
use crate::ground::entry::{Content, Entry, EntryKind, ListedEntry};
use crate::ground::holes::ContentDigest;
use crate::ground::sink::EntrySink;
use crate::ground::wire::Malformed;

/// An entry that is waited for, where it begins, and what it is to the sink.
pub(super) struct Awaited {
    pub listed: ListedEntry,
    pub place: Place,
    pub comes: Comes,
}

/// How an entry comes to the sink.
pub(super) enum Comes {
    /// As it is.
    AsItIs,
    /// Under another of its names.
    As(Box<Entry>),
    /// Not at all: it is a further name, of which there is no more than this record.
    NotHere(Box<Entry>),
}

/// What is waited for next, after each call; none at the end.
type Following<'a> = dyn FnMut() -> Result<Option<Awaited>, SealedError> + 'a;

/// The file whose records are being read.
pub(super) enum Open {
    Nothing,
    Listed(Box<OpenFile>),
    Unlisted { id: u64 },
}

/// A file of the index, as far as it was read.
pub(super) struct OpenFile {
    id: u64,
    /// As the sink knows it.
    entry: Entry,
    content: Content,
    size: u64,
    holes: u64,
    digest: ContentDigest,
    /// Bytes of its attributes.
    attributes: usize,
}

impl OpenFile {
    fn new(listed: &ListedEntry, entry: Entry) -> Self {
        let (id, content) = (listed.entry.id, listed.content);
        Self { id, entry, content, size: 0, holes: 0, digest: ContentDigest::new(content.in_units), attributes: 0 }
    }

    /// Goes on by so many bytes, which stand where the ones before end, and within the length that is listed.
    fn advance(&mut self, offset: u64, bytes: u64) -> Result<(), SealedError> {
        let end = offset.saturating_add(bytes);
        if offset != self.size || end > self.content.size {
            return Err(disagreement());
        }
        self.size = end;
        Ok(())
    }
}

/// Turns records into calls of the sink, comparing all of them with the index.
pub(super) struct Extraction<'a, 'c> {
    pub sink: &'a mut dyn EntrySink,
    pub context: &'a Context<'c>,
    pub next: Option<Awaited>,
    pub open: Open,
    /// Whether only some entries are wanted, so that others may come between.
    pub selective: bool,
}

impl Extraction<'_, '_> {
    pub fn take(&mut self, place: Place, record: Record<'_>, following: &mut Following<'_>) -> Result<(), SealedError> {
        let id = record.id();
        match (record, &mut self.open) {
            (Record::Entry(entry), Open::Nothing) => self.begin(place, entry, following),
            (record, Open::Listed(file)) if id == file.id => match record {
                Record::Attribute { attribute, .. } if file.size == 0 => {
                    file.attributes += attribute.bytes();
                    if file.attributes > MAX_ATTRIBUTES_BYTES {
                        return Err(Malformed("attributes").into());
                    }
                    Ok(self.sink.attribute(&attribute)?)
                }
                Record::Data { offset, bytes, .. } => {
                    file.advance(offset, bytes.len() as u64)?;
                    file.digest.update(bytes);
                    self.context.tell(Progress::Advance(bytes.len() as u64));
                    Ok(self.sink.content(bytes)?)
                }
                Record::Hole { offset, bytes, .. } if file.content.in_units => {
                    file.advance(offset, bytes)?;
                    file.holes += bytes;
                    file.digest.hole(bytes);
                    self.hole(bytes)
                }
                Record::End { content, abandoned: false, .. } => {
                    let is_all = content == file.content && (content.size, content.holes) == (file.size, file.holes);
                    if !is_all {
                        return Err(disagreement());
                    }
                    if file.digest.finish() != content.digest {
                        return Err(SealedError::WrongDigest(file.entry.path.as_bytes().to_vec()));
                    }
                    self.sink.end(&file.entry, &content)?;
                    self.open = Open::Nothing;
                    Ok(())
                }
                _ => Err(disagreement()),
            },
            (Record::End { abandoned, .. }, Open::Unlisted { id: open })
                if id == *open && (abandoned || self.selective) =>
            {
                self.open = Open::Nothing;
                Ok(())
            }
            (Record::Data { .. } | Record::Hole { .. } | Record::Attribute { .. }, Open::Unlisted { id: open })
                if id == *open =>
            {
                Ok(())
            }
            (record, Open::Nothing) if self.selective && !matches!(record, Record::Entry(_)) => Ok(()),
            _ => Err(disagreement()),
        }
    }

    /// A hole goes to the sink in pieces, so that whoever wants to stop is heard.
    fn hole(&mut self, mut bytes: u64) -> Result<(), SealedError> {
        let most = hole_piece(bytes);
        while bytes > 0 {
            self.context.go_on()?;
            let piece = bytes.min(most);
            self.sink.hole(piece)?;
            self.context.tell(Progress::Advance(piece));
            bytes -= piece;
        }
        Ok(())
    }

    /// Whether everything that was wanted was delivered.
    pub fn is_done(&self) -> bool {
        self.next.is_none() && !matches!(self.open, Open::Listed(_))
    }

    /// The frame in which the next wanted entry begins, where nothing wanted comes before; what is passed over then is
    /// forgotten. `None` where a wanted file goes on in the next frame.
    pub fn skip_to(&mut self) -> Option<u64> {
        match self.open {
            Open::Listed(_) => None,
            _ => {
                self.open = Open::Nothing;
                self.next.as_ref().map(|awaited| awaited.place.frame_at)
            }
        }
    }

    fn begin(&mut self, place: Place, entry: Entry, following: &mut Following<'_>) -> Result<(), SealedError> {
        let Some(Awaited { listed, comes, .. }) = self.next.take_if(|awaited| awaited.place == place) else {
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
        let recorded = if let Comes::NotHere(recorded) = &comes { recorded } else { &listed.entry };
        if *recorded != entry {
            return Err(disagreement());
        }
        self.next = following()?;
        let entry = match comes {
            Comes::AsItIs => entry,
            Comes::As(other) => *other,
            Comes::NotHere(_) => return Ok(()),
        };
        self.context.tell(Progress::Entry(&entry.path));
        self.sink.begin(&entry)?;
        if entry.kind == EntryKind::File {
            self.open = Open::Listed(Box::new(OpenFile::new(&listed, entry)));
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
