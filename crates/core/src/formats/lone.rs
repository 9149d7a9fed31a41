//! Reading a lone compressed file: an archive of one entry, whose length shows only when all of it has been read.

use super::tar::TarError;
use crate::codecs::stream::{WrappedFile, Wrapping};
use crate::disk::{FileAction, FileError};
use crate::formats::reader::{ArchiveReader, CONTENT_BYTES, ExtractError, hand_over};
use crate::ground::context::Context;
use crate::ground::entry::{Content, Entry, EntryKind, EntryPath, EntrySink, ListedEntry, Timestamp};
use std::os::unix::fs::MetadataExt as _;
use std::path::Path;

/// A lone compressed file: an archive of one entry, named after it.
pub struct LoneReader {
    file: WrappedFile,
    listed: Vec<ListedEntry>,
}

impl LoneReader {
    /// Reads all of it once, to know how long it is.
    ///
    /// # Errors
    /// [`TarError`].
    pub fn open(file: WrappedFile, context: &Context<'_>) -> Result<Self, TarError> {
        let metadata = file.path.metadata().map_err(FileError::on(FileAction::Open, &file.path))?;
        let nanoseconds = u32::try_from(metadata.mtime_nsec()).unwrap_or(0);
        let modified = Timestamp { seconds: metadata.mtime(), nanoseconds };
        let mut stream = file.open(context)?;
        let (mut size, mut buffer) = (0, vec![0; CONTENT_BYTES]);
        loop {
            match stream.read(&mut buffer)? {
                0 => break,
                read => size += read as u64,
            }
        }
        drop(stream);
        let path = EntryPath::new(name_inside(&file)).map_err(|_| TarError::Malformed { what: "name", at: 0 })?;
        let entry = Entry { id: 1, path, kind: EntryKind::File, mode: 0o644, modified, link_target: Vec::new() };
        let listed = vec![ListedEntry { entry, content: Content { size, ..Content::default() } }];
        Ok(Self { file, listed })
    }

    /// Where it is, and how it is compressed.
    pub fn file(&self) -> &WrappedFile {
        &self.file
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
    let path: &Path = &file.path;
    let known = path.extension().is_some_and(|end| extensions.iter().any(|known| end.eq_ignore_ascii_case(known)));
    let name = if known { path.file_stem() } else { path.file_name() };
    name.unwrap_or_default().as_encoded_bytes().to_vec()
}

impl ArchiveReader for LoneReader {
    type Error = TarError;

    fn entries(&self) -> &[ListedEntry] {
        &self.listed
    }

    fn extract_some<S: EntrySink + ?Sized>(
        &mut self,
        wanted: &[usize],
        sink: &mut S,
        context: &Context<'_>,
    ) -> Result<(), ExtractError<TarError, S::Error>> {
        if !wanted.contains(&0) {
            return Ok(());
        }
        let mut stream = self.file.open(context).map_err(TarError::from)?;
        hand_over(&self.listed[0], sink, context, || TarError::Changed, |buffer| Ok(stream.read(buffer)?))
    }
}
