//! The record stream of an archive that does not exist yet: what would stand where, so that any stretch of it can be
//! made without the rest.

use super::arranging::Outlook;
use crate::formats::sealed::index::{IndexEntry, PageBuilder, Place};
use crate::formats::sealed::record::{
    DATA_PREFIX_BYTES, RECORD_HEADER_BYTES, begin_data, entry_bytes, grow_data, put_end, put_entry,
};
use crate::ground::entry::{Content, EntryKind, ListedEntry};
use crate::source::{Catalogue, SourceEntry};

/// Bytes of an end record, header and all: id 8, content description 48.
const END_RECORD_BYTES: u64 = (RECORD_HEADER_BYTES + 8 + 48) as u64;

/// Where each entry's records begin in the stream before compression.
pub(in crate::tasks) struct Layout<'a> {
    catalogue: &'a Catalogue,
    outlook: &'a Outlook<'a>,
    entries: Vec<&'a SourceEntry>,
    starts: Vec<u64>,
    /// Bytes of all records.
    pub total: u64,
}

/// A part of the stream.
pub(in crate::tasks) struct Stretch {
    /// Its records.
    pub records: Vec<u8>,
    /// The share that squeezing is expected to leave of its content, 0 to 1.
    pub kept: f64,
}

impl<'a> Layout<'a> {
    /// Of everything in a catalogue, in the order in which it is packed.
    pub fn new(catalogue: &'a Catalogue, outlook: &'a Outlook<'a>) -> Self {
        let by_path: Vec<_> = catalogue.entries.iter().collect();
        let entries = outlook.in_order(&by_path);
        let (mut starts, mut total) = (Vec::with_capacity(entries.len()), 0);
        for source in &entries {
            starts.push(total);
            total += (RECORD_HEADER_BYTES + entry_bytes(&source.entry(0))) as u64;
            if source.kind == EntryKind::File {
                total += (RECORD_HEADER_BYTES + DATA_PREFIX_BYTES) as u64 + source.stored_bytes() + END_RECORD_BYTES;
            }
        }
        Self { catalogue, outlook, entries, starts, total }
    }

    /// Each entry, by its place in the catalogue, with where its records begin and end, in the order in which they are packed.
    pub fn spans(&self) -> impl Iterator<Item = (usize, u64, u64)> {
        let ends = self.starts.iter().skip(1).copied().chain([self.total]);
        let spans = self.entries.iter().zip(&self.starts).zip(ends);
        spans.filter_map(|((entry, start), end)| {
            let place = self.catalogue.entries.binary_search_by(|other| other.path.cmp(&entry.path)).ok()?;
            Some((place, *start, end))
        })
    }

    /// The records from one place of the stream up to another. Files that cannot be read are left out.
    pub fn stretch(&self, from: u64, to: u64) -> Stretch {
        let (mut content, mut kept) = (0, 0.0);
        let mut output = Vec::with_capacity((to.saturating_sub(from)) as usize + 1024);
        let first = self.starts.partition_point(|start| *start <= from).saturating_sub(1);
        for (id, (source, start)) in (1..).zip(self.entries.iter().zip(&self.starts)).skip(first) {
            if *start >= to {
                break;
            }
            let entry = source.entry(id);
            let content_at = start + (RECORD_HEADER_BYTES + entry_bytes(&entry)) as u64;
            if *start >= from {
                put_entry(&entry, &mut output);
            }
            if source.kind == EntryKind::File {
                let skipped = from.saturating_sub(content_at).min(source.stored_bytes());
                let wanted = to.saturating_sub(content_at + skipped).min(source.stored_bytes() - skipped);
                content += wanted;
                kept += wanted as f64 * self.outlook.kept(&source.path);
                let data_at = begin_data(id, skipped, &mut output);
                self.read(source, skipped, wanted as usize, &mut output);
                grow_data(&mut output, data_at);
                if content_at + source.stored_bytes() < to {
                    put_end(id, &stand_in(source), false, &mut output);
                }
            }
        }
        Stretch { records: output, kept: if content == 0 { 1.0 } else { kept / content as f64 } }
    }

    fn read(&self, source: &SourceEntry, from: u64, wanted: usize, output: &mut Vec<u8>) {
        if let Ok(mut file) = self.catalogue.open(source) {
            // Unreadable files are told from the catalogue; here they only count for nothing.
            let _ = file.read_stored(from, output, wanted);
        }
    }

    /// The index page of these entries by path, before compression. Where they are thought to begin is about as far apart as it
    /// will be.
    pub fn index_page(&self, first: usize, count: usize) -> Vec<u8> {
        let mut page = PageBuilder::default();
        let entries = (1..).zip(self.catalogue.entries.iter().zip(&self.starts)).skip(first).take(count);
        for (id, (source, start)) in entries {
            let listed = ListedEntry { entry: source.entry(id), content: stand_in(source) };
            page.add(&IndexEntry {
                listed,
                place: Place { frame_at: start >> 20 << 20, record_at: *start as u32 & 0xF_FFFF },
            });
        }
        page.finish().0
    }
}

/// A content description that compresses as badly as the real one: its digest is unknown before the file is read.
fn stand_in(source: &SourceEntry) -> Content {
    match source.kind {
        EntryKind::File => {
            let digest = *blake3::hash(source.path.as_bytes()).as_bytes();
            Content { size: source.size, digest, ..Content::default() }
        }
        _ => Content::default(),
    }
}
