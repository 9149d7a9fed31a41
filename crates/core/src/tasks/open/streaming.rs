//! Extraction into a stream instead of a folder: one file as it is, or everything as a tar archive, entry by entry as they come out of
//! the archive. Whoever reads such a stream knows that all of it came by the end that tar has; after any error there is none.

use crate::formats::error::ArchiveError;
use crate::formats::reader::ArchiveReader;
use crate::formats::tar::{end, further_name, headers, padding};
use crate::ground::context::{Cancelled, Context};
use crate::ground::entry::{Content, Entry, EntryPath, Totals};
use crate::ground::sink::EntrySink;
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
    let entries = archive.entries();
    let listed = wanted.iter().filter_map(|place| entries.get(*place));
    let sizes = listed.map(|listed| (listed.entry.path.clone(), listed.content.size)).collect();
    let mut tar = Tar { sizes, written: 0 };
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
        return Err(StreamError::Output(error));
    }
    read?;
    stream.finish().map_err(StreamError::Output)?;
    Ok(stream.totals)
}

/// What tar needs to know.
struct Tar {
    /// How long each file is: that stands before its content.
    sizes: HashMap<EntryPath, u64>,
    /// Bytes written so far.
    written: u64,
}

struct Stream<'a, W> {
    output: W,
    tar: Option<&'a mut Tar>,
    totals: Totals,
    failed: Option<io::Error>,
}

impl<W: Write> Stream<'_, W> {
    fn put(&mut self, bytes: &[u8]) -> Result<(), Cancelled> {
        if let Some(tar) = &mut self.tar {
            tar.written += bytes.len() as u64;
        }
        self.output.write_all(bytes).map_err(|error| {
            self.failed = Some(error);
            Cancelled
        })
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
        let Some(tar) = &self.tar else { return Ok(()) };
        let size = tar.sizes.get(&entry.path).copied().unwrap_or(0);
        self.put(&headers(entry, size, &[]))
    }

    fn content(&mut self, bytes: &[u8]) -> Result<(), Cancelled> {
        self.put(bytes)
    }

    fn further_name(&mut self, entry: &Entry, of: &Entry, _: &Content) -> Result<bool, Cancelled> {
        if self.tar.is_none() {
            return Ok(false);
        }
        self.totals.add(entry.kind, 0);
        self.put(&further_name(entry, &of.path)).map(|()| true)
    }

    fn end(&mut self, entry: &Entry, content: &Content) -> Result<(), Cancelled> {
        self.totals.add(entry.kind, content.own_bytes());
        let filling = if self.tar.is_some() { padding(content.size) } else { 0 };
        self.put(&vec![0; filling])
    }
}
