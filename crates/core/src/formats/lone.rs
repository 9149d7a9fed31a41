//! Reading a lone compressed file: an archive of one entry, whose length shows only when all of it has been read.

use super::spot::Spot;
use super::streamed::{StreamedError, WrappedFile};
use crate::codecs::stream::Wrapping;
use crate::disk::modified_of;
use crate::formats::error::ArchiveError;
use crate::formats::listing::Listing;
use crate::formats::reader::{ArchiveReader, CONTENT_BYTES, Facts, deliver_file};
use crate::ground::context::Context;
use crate::ground::entry::{Content, Entry, EntryKind, EntryPath, ListedEntry};
use crate::ground::sink::EntrySink;
use std::path::Path;

/// A lone compressed file: an archive of one entry, named after it.
pub struct LoneReader {
    file: WrappedFile,
    listed: Vec<ListedEntry>,
}

impl LoneReader {
    /// Reads all of it once, to know how long it is.
    pub fn open(file: WrappedFile, context: &Context<'_>) -> Result<Self, StreamedError> {
        let metadata = file.spot.open()?.metadata;
        let modified = modified_of(&metadata);
        let mut stream = file.open(context)?;
        let (mut size, mut buffer) = (0, vec![0; CONTENT_BYTES]);
        loop {
            match stream.read(&mut buffer)? {
                0 => break,
                read => size += read as u64,
            }
        }
        drop(stream);
        let path = EntryPath::new(name_inside(&file)).map_err(|_| StreamedError::Malformed { what: "name", at: 0 })?;
        let entry = Entry { id: 1, path, kind: EntryKind::File, mode: 0o644, modified, link_target: Vec::new() };
        let listed = vec![ListedEntry { entry, content: Content { size, ..Content::default() } }];
        Ok(Self { file, listed })
    }
}

/// The compressed file's name without what its compression added.
fn name_inside(file: &WrappedFile) -> Vec<u8> {
    let extensions: &[&str] = match file.wrapping {
        Wrapping::None => &[],
        Wrapping::Gzip => &["gz"],
        Wrapping::Zstandard => &["zst"],
        Wrapping::Xz => &["xz"],
        Wrapping::Bzip2 => &["bz2"],
    };
    let path = Path::new(file.spot.name());
    let known = path.extension().is_some_and(|end| extensions.iter().any(|known| end.eq_ignore_ascii_case(known)));
    let name = if known { path.file_stem() } else { path.file_name() };
    name.unwrap_or_default().as_encoded_bytes().to_vec()
}

impl ArchiveReader for LoneReader {
    fn listing(&self) -> Listing<'_> {
        Listing::Whole(&self.listed)
    }

    fn spots(&self) -> Vec<Spot> {
        vec![self.file.spot.clone()]
    }

    fn facts(&self) -> Facts {
        // What is in it is called after it.
        Facts { methods: self.file.wrapping.names(), needs_names: true, ..Facts::default() }
    }

    fn extract_some(
        &mut self,
        wanted: &[usize],
        sink: &mut dyn EntrySink,
        context: &Context<'_>,
    ) -> Result<(), ArchiveError> {
        if !wanted.contains(&0) {
            return Ok(());
        }
        let mut stream = self.file.open(context).map_err(StreamedError::from)?;
        deliver_file(
            &self.listed[0],
            &[],
            sink,
            context,
            || StreamedError::Changed,
            |buffer| Ok(stream.read(buffer)?),
        )?;
        Ok(())
    }
}
