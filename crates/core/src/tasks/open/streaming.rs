//! Extraction into a stream instead of a folder: one file as it is, or everything as a tar archive, entry by entry as they come out of
//! the archive. Whoever reads such a stream knows that all of it came by the end that tar has; after any error there is none.

use crate::formats::error::ArchiveError;
use crate::formats::holes_ahead::{HolesAhead, HolesSoFar, holes_ahead};
use crate::formats::reader::ArchiveReader;
use crate::formats::streamed::StreamedError;
use crate::formats::tar::{end, further_name, headers, headers_with_holes, padding};
use crate::ground::attributes::Attribute;
use crate::ground::context::{Cancelled, Context};
use crate::ground::entry::{Content, Entry, EntryPath, Totals};
use crate::ground::holes::Hole;
use crate::ground::sink::{EntrySink, zeros};
use std::collections::HashMap;
use std::io::{self, Write};

/// Why a stream ended before its end.
#[derive(Debug, thiserror::Error)]
pub enum StreamError {
    /// It takes no more.
    #[error("the output cannot be written: {0}")]
    Output(#[source] io::Error),
    /// The archive cannot be read on.
    #[error(transparent)]
    Archive(#[from] ArchiveError),
}

/// Writes these entries as a tar archive (POSIX pax); what was written.
///
/// # Errors
/// [`StreamError`]; what was written is no whole archive then, and every reader of tar says so.
pub fn as_tar(
    archive: &mut dyn ArchiveReader,
    wanted: &[usize],
    output: impl Write,
    context: &Context<'_>,
) -> Result<Totals, StreamError> {
    let holes = holes_ahead(archive, wanted, context)?;
    let entries = archive.entries()?;
    let listed = wanted.iter().filter_map(|place| entries.get(*place));
    let sizes = listed.map(|listed| (listed.entry.path.clone(), listed.content.size)).collect();
    let mut tar = Tar { sizes, holes, begun: None, expected: Vec::new(), found: HolesSoFar::default(), written: 0 };
    write(archive, wanted, output, Some(&mut tar), context)
}

/// Writes the content of one file.
///
/// # Errors
/// [`StreamError`]; what was written is not all of it then.
pub fn as_it_is(
    archive: &mut dyn ArchiveReader,
    place: usize,
    output: impl Write,
    context: &Context<'_>,
) -> Result<Totals, StreamError> {
    write(archive, &[place], output, None, context)
}

fn write(
    archive: &mut dyn ArchiveReader,
    wanted: &[usize],
    output: impl Write,
    tar: Option<&mut Tar>,
    context: &Context<'_>,
) -> Result<Totals, StreamError> {
    let mut stream = Stream { output, tar, totals: Totals::default(), failed: None };
    let read = archive.extract_some(wanted, &mut stream, context);
    if let Some(error) = stream.failed.take() {
        return Err(error);
    }
    read?;
    stream.finish().map_err(StreamError::Output)?;
    Ok(stream.totals)
}

/// What tar needs to know.
struct Tar {
    /// How long each file is: that stands before its content.
    sizes: HashMap<EntryPath, u64>,
    /// And where its holes are.
    holes: HolesAhead,
    /// What has begun, with its extended attributes, and has no headers yet: those come before its content.
    begun: Option<(Entry, Vec<Attribute>)>,
    /// The holes of the file that is written, and what came by of it so far.
    expected: Vec<Hole>,
    found: HolesSoFar,
    /// Bytes written so far.
    written: u64,
}

struct Stream<'a, W> {
    output: W,
    tar: Option<&'a mut Tar>,
    totals: Totals,
    failed: Option<StreamError>,
}

impl<W: Write> Stream<'_, W> {
    fn put(&mut self, bytes: &[u8]) -> Result<(), Cancelled> {
        if let Some(tar) = &mut self.tar {
            tar.written += bytes.len() as u64;
        }
        self.output.write_all(bytes).map_err(|error| {
            self.failed = Some(StreamError::Output(error));
            Cancelled
        })
    }

    /// The headers of what has begun, of which everything is known that stands in them.
    fn put_headers(&mut self) -> Result<(), Cancelled> {
        let Some(tar) = &mut self.tar else { return Ok(()) };
        let Some((entry, attributes)) = tar.begun.take() else { return Ok(()) };
        let size = tar.sizes.get(&entry.path).copied().unwrap_or(0);
        tar.expected = tar.holes.remove(&entry.path).unwrap_or_default();
        let headers = match tar.expected.as_slice() {
            [] => headers(&entry, size, &attributes),
            holes => headers_with_holes(&entry, size, holes, &attributes),
        };
        self.put(&headers)
    }

    /// The end, where there is one.
    fn finish(&mut self) -> io::Result<()> {
        if let Some(tar) = &self.tar {
            self.output.write_all(&end(tar.written))?;
        }
        self.output.flush()
    }
}

impl<W: Write> EntrySink for Stream<'_, W> {
    fn begin(&mut self, entry: &Entry) -> Result<(), Cancelled> {
        if let Some(tar) = &mut self.tar {
            tar.begun = Some((entry.clone(), Vec::new()));
        }
        Ok(())
    }

    fn attribute(&mut self, attribute: &Attribute) -> Result<(), Cancelled> {
        if let Some((_, attributes)) = self.tar.as_mut().and_then(|tar| tar.begun.as_mut()) {
            attributes.push(attribute.clone());
        }
        Ok(())
    }

    fn content(&mut self, bytes: &[u8]) -> Result<(), Cancelled> {
        self.put_headers()?;
        if let Some(tar) = &mut self.tar {
            tar.found.stored(bytes.len() as u64);
        }
        self.put(bytes)
    }

    fn hole(&mut self, bytes: u64) -> Result<(), Cancelled> {
        self.put_headers()?;
        let is_told = self.tar.as_mut().is_some_and(|tar| tar.found.hole(bytes));
        if is_told { Ok(()) } else { zeros(bytes).try_for_each(|piece| self.put(piece)) }
    }

    fn further_name(&mut self, entry: &Entry, of: &Entry, _: &Content) -> Result<bool, Cancelled> {
        if self.tar.is_none() {
            return Ok(false);
        }
        self.totals.add(entry.kind, 0);
        self.put(&further_name(entry, &of.path)).map(|()| true)
    }

    fn end(&mut self, entry: &Entry, content: &Content) -> Result<(), Cancelled> {
        self.put_headers()?;
        self.totals.add(entry.kind, content.own_bytes());
        let Some(tar) = &mut self.tar else { return Ok(()) };
        let (holes, expected) = (tar.found.take(), std::mem::take(&mut tar.expected));
        if holes != expected {
            self.failed = Some(ArchiveError::from(StreamedError::Changed).into());
            return Err(Cancelled);
        }
        let in_holes: u64 = holes.iter().map(|hole| hole.bytes).sum();
        self.put(&vec![0; padding(content.size.saturating_sub(in_holes))])
    }
}
