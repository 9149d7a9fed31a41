//! A delivery in an open format: written, read back from disk with nothing but what the recipient will have, compared with
//! what was read from the sources, and placed.

use super::zipping::ZipJob;
use super::{Delivery, FilledUp, PackError, Packed, PackedVolume, refuse_nothing, tarring, told_of, zipping};
use crate::codecs::stream::WrappedFile;
use crate::disk::Folder;
use crate::disk::staging::{Placing, Staging};
use crate::formats::archive::{Archive, ArchiveError};
use crate::formats::tar::{TarError, TarReader};
use crate::formats::zip::{Segments, ZipError, ZipReader};
use crate::ground::context::{Context, Phase, Progress};
use crate::ground::entry::{Content, EntryKind, EntryPath, Totals};
use crate::ground::fit::Fit;
use crate::ground::secrets::Credentials;
use crate::source::PassedOver;
use std::path::PathBuf;

impl Delivery {
    /// Packs, reads back and places a ZIP archive.
    pub(super) fn pack_zip(
        self,
        credentials: Option<&Credentials>,
        context: &Context<'_>,
    ) -> Result<Packed, PackError> {
        let password = credentials.filter(|given| **given != Credentials::none()).map(|given| &given.password);
        if self.hide_names && password.is_none() {
            return Err(PackError::HidingNeedsPassword);
        }
        let staging = Staging::begin(Folder::open_or_create(&self.target.folder)?, &self.target.stem, context)?;
        context.tell(Progress::Begin(Phase::Packing, self.catalogue.total_bytes()));
        let job = ZipJob {
            catalogue: &self.catalogue,
            squeeze: self.squeeze,
            comment: self.message.as_bytes(),
            part_limit: self.fit.volume_limit(),
            password,
            covered: self.hide_names,
        };
        let (parts, read) = zipping::zip(&job, &staging, context)?;
        context.tell(Progress::End);
        let numbers = 1..=u32::try_from(parts.len()).unwrap_or(u32::MAX);
        let files: Vec<PathBuf> = numbers.map(|number| staging.path_of(number)).collect();
        let suffixes: Vec<String> = zipping::suffixes(parts.len()).collect();
        let written = Written { files: suffixes.into_iter().zip(parts).collect(), read };
        self.finish_open(written, staging, context, || {
            let archive = ZipReader::open(Segments::open(&files)?, None, context);
            let archive = archive.and_then(|archive| match password {
                Some(password) => archive.unlocked(password.clone(), context),
                None => Ok(archive),
            });
            Ok(Archive::Zip(Box::new(archive.map_err(zip_read_back)?)))
        })
    }

    /// Packs, reads back and places a tar archive.
    pub(super) fn pack_tar(
        self,
        credentials: Option<&Credentials>,
        context: &Context<'_>,
    ) -> Result<Packed, PackError> {
        if credentials.is_some_and(|given| *given != Credentials::none()) {
            return Err(PackError::NotInTar("password"));
        }
        if self.fit != Fit::OneVolume {
            return Err(PackError::NotInTar("volumes"));
        }
        if self.hide_names {
            return Err(PackError::NotInTar("way to hide names"));
        }
        let staging = Staging::begin(Folder::open_or_create(&self.target.folder)?, &self.target.stem, context)?;
        context.tell(Progress::Begin(Phase::Packing, self.catalogue.total_bytes()));
        let (bytes, read) = tarring::tar(&self.catalogue, self.format, self.squeeze, &staging, context)?;
        context.tell(Progress::End);
        let file = staging.path_of(1);
        let written = Written { files: vec![(self.format.extension().to_owned(), bytes)], read };
        self.finish_open(written, staging, context, || {
            let archive = TarReader::open(WrappedFile::look_at(&file)?, context);
            Ok(Archive::Tar(Box::new(archive.map_err(PackError::TarReadBack)?)))
        })
    }

    /// Reads an archive of an open format back from disk, with nothing but the staged files, and places it.
    fn finish_open(
        self,
        written: Written,
        staging: Staging,
        context: &Context<'_>,
        open: impl FnOnce() -> Result<Archive, PackError>,
    ) -> Result<Packed, PackError> {
        let Written { files, read } = written;
        let escaped_names = self.catalogue.text_names.escaped();
        let (outward_links, left_out, mut passed_over) = told_of(self.catalogue);
        passed_over.extend(read.passed_over);
        refuse_nothing(&read.totals, &mut passed_over)?;
        let verified = read_open_back(open()?, &read.contents, context)?;
        if verified != read.totals {
            return Err(PackError::ContentsDiffer);
        }
        context.go_on()?;
        let placings: Vec<Placing> =
            (1..).zip(&files).map(|(number, (suffix, _))| Placing { number, suffix: suffix.clone() }).collect();
        staging.place(&placings, &self.old.files)?;
        let volume = |(suffix, bytes): &(String, u64)| PackedVolume {
            path: self.target.path_with(suffix),
            bytes: *bytes,
            ids: None,
            totals: read.totals,
        };
        Ok(Packed {
            parcels: false,
            totals: read.totals,
            verified,
            volumes: files.iter().map(volume).collect(),
            replaced: self.old.replaced(&self.target),
            not_replaced: self.old.left,
            passed_over,
            kinds: Vec::new(),
            left_out,
            changed: read.changed,
            filled_up: read.filled_up,
            outward_links,
            lone_volumes: self.lone_volumes,
            escaped_names,
        })
    }
}

/// What was written in an open format.
struct Written {
    /// What follows the archive's name in each file's name, and the file's length.
    files: Vec<(String, u64)>,
    read: Read,
}

/// What came of reading all sources.
#[derive(Default)]
pub(super) struct Read {
    pub totals: Totals,
    /// Every file's content, by its path in the archive, sorted.
    pub contents: Vec<(EntryPath, Content)>,
    pub passed_over: Vec<PassedOver>,
    pub changed: Vec<EntryPath>,
    pub filled_up: Vec<FilledUp>,
}

fn zip_read_back(error: ZipError) -> PackError {
    match error {
        ZipError::Cancelled(cancelled) => cancelled.into(),
        error => PackError::ZipReadBack(error),
    }
}

/// Reads an archive of an open format to its end, and compares every content's digest with the one that was read from its
/// source.
fn read_open_back(
    mut archive: Archive,
    contents: &[(EntryPath, Content)],
    context: &Context<'_>,
) -> Result<Totals, PackError> {
    let found = archive.entries_with_digests(context).map_err(|error| match error {
        ArchiveError::Cancelled(cancelled) | ArchiveError::Tar(TarError::Cancelled(cancelled)) => cancelled.into(),
        ArchiveError::Zip(error) => zip_read_back(error),
        ArchiveError::Tar(error) => PackError::TarReadBack(error),
        _ => PackError::ContentsDiffer,
    })?;
    let files = found.iter().filter(|listed| listed.entry.kind == EntryKind::File);
    let found = files.map(|listed| (&listed.entry.path, &listed.content));
    if found.eq(contents.iter().map(|(path, content)| (path, content))) && archive.refused().is_empty() {
        Ok(archive.totals())
    } else {
        Err(PackError::ContentsDiffer)
    }
}
