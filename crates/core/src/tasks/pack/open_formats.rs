//! A delivery in an open format: written, read back from disk with nothing but what the recipient will have, compared with
//! what was read from the sources, and placed.

use super::extracting::extracting;
use super::zipping::{OldEntries, ZipJob};
use super::{
    Contents, Delivery, OldContents, PackError, Packed, PackedVolume, refuse_what_lacks, summary_of, tarring, zipping,
};
use crate::disk::Folder;
use crate::disk::staging::{Placing, Staging};
use crate::formats::archive::Archive;
use crate::formats::error::ArchiveError;
use crate::formats::reader::{ArchiveReader, Flaws};
use crate::formats::registry::{Format, TAR, Writing, ZIP};
use crate::formats::tar;
use crate::formats::zip::{Segments, ZipReader, suffixes};
use crate::ground::context::{Context, Phase, Progress};
use crate::ground::entry::{Content, EntryKind, EntryPath, Totals};
use crate::ground::secrets::Password;
use crate::source::feed::Fed;
use std::any::Any;
use std::path::PathBuf;

impl Delivery {
    /// Packs, reads back and places an archive of an open format.
    pub(super) fn pack_open(
        self,
        old: OldContents<'_>,
        password: Option<&Password>,
        context: &Context<'_>,
    ) -> Result<Packed, PackError> {
        if self.hide_names && password.is_none() {
            return Err(PackError::HidingNeedsPassword);
        }
        let staging = Staging::begin(Folder::open_or_create(&self.target.folder)?, &self.target.stem, context)?;
        context.tell(Progress::Begin(Phase::Packing, self.catalogue.total_bytes()));
        let written = match old {
            OldContents::None | OldContents::Frames { .. } => {
                self.write_open(OldEntries::None, password, &staging, context)?
            }
            OldContents::Entries { archive, as_stored } => {
                let written = match self.carried(archive).filter(|_| as_stored) {
                    Some(zip) => self.write_open(OldEntries::Stored(zip), password, &staging, context)?,
                    None => extracting(archive, &self.catalogue, self.format, context, |pipe| {
                        self.write_open(OldEntries::Piped(pipe), password, &staging, context)
                    })?,
                };
                archive.close_files();
                written
            }
        };
        context.tell(Progress::End);
        let numbers = 1..=u32::try_from(written.files.len()).unwrap_or(u32::MAX);
        let files: Vec<PathBuf> = numbers.map(|number| staging.path_of(number)).collect();
        self.finish_open(written, staging, context, &files, password)
    }

    /// The archive, where its entries go over as they are stored: from ZIP to ZIP.
    fn carried<'a>(&self, archive: &'a dyn ArchiveReader) -> Option<&'a ZipReader> {
        let zip = (archive as &dyn Any).downcast_ref::<ZipReader>()?;
        let to_zip = self.format.writing == Some(Writing::Zip);
        (to_zip && OldEntries::can_be_carried(&self.catalogue, zip)).then_some(zip)
    }

    fn write_open(
        &self,
        old: OldEntries<'_>,
        password: Option<&Password>,
        staging: &Staging,
        context: &Context<'_>,
    ) -> Result<Written, PackError> {
        Ok(match self.format.writing {
            Some(Writing::Tar(wrapping)) => {
                let (bytes, (fed, contents)) =
                    tarring::tar(&self.catalogue, old.pipe(), wrapping, self.squeeze, staging, context)?;
                Written { files: vec![(self.format.extension().to_owned(), bytes)], fed, contents }
            }
            _ => {
                let job = ZipJob {
                    catalogue: &self.catalogue,
                    old,
                    squeeze: self.squeeze,
                    comment: self.message.as_bytes(),
                    part_limit: self.fit.volume_limit(),
                    password,
                    covered: self.hide_names,
                };
                let (parts, (fed, contents)) = zipping::zip(&job, staging, context)?;
                Written { files: suffixes(parts.len()).zip(parts).collect(), fed, contents }
            }
        })
    }

    /// Reads an archive of an open format back from disk, with nothing but the staged files, and places it.
    fn finish_open(
        self,
        written: Written,
        staging: Staging,
        context: &Context<'_>,
        staged: &[PathBuf],
        password: Option<&Password>,
    ) -> Result<Packed, PackError> {
        let Written { files, fed, contents } = written;
        let escaped_names = self.catalogue.text_names.escaped();
        let packs_attributes = self.catalogue.packs_attributes;
        let (outward_links, left_out, mut passed_over) = summary_of(self.catalogue);
        passed_over.extend(fed.passed_over);
        refuse_what_lacks(&fed.totals, &mut passed_over, &self.needed, false)?;
        let verified = read_open_back(reopened(self.format, staged, password, context)?, &contents, context)?;
        if verified != fed.totals {
            return Err(PackError::ContentsDiffer);
        }
        context.go_on()?;
        let placings: Vec<Placing> =
            (1..).zip(&files).map(|(number, (suffix, _))| Placing { number, suffix: suffix.clone() }).collect();
        staging.place(&placings, &self.old.files)?;
        let volume = |(suffix, bytes): &(String, u64)| PackedVolume {
            path: self.target.path_with(suffix),
            bytes: *bytes,
            in_page: None,
            ids: None,
            totals: fed.totals,
        };
        Ok(Packed {
            parcels: false,
            totals: fed.totals,
            verified,
            volumes: files.iter().map(volume).collect(),
            spares: Vec::new(),
            replaced: self.old.replaced(&self.target),
            not_replaced: self.old.left,
            passed_over,
            kinds: Vec::new(),
            left_out,
            changed: fed.changed,
            filled_up: fed.filled_up,
            outward_links,
            lone_volumes: self.lone_volumes,
            escaped_names,
            extras: self.extras,
            packs_attributes,
        })
    }
}

/// What was written in an open format.
struct Written {
    /// What follows the archive's name in each file's name, and the file's length.
    files: Vec<(String, u64)>,
    fed: Fed,
    contents: Contents,
}

/// The archive that was staged, opened with nothing but its files and the password. Parts have other names while they are staged.
fn reopened(
    format: &'static Format,
    staged: &[PathBuf],
    password: Option<&Password>,
    context: &Context<'_>,
) -> Result<Archive, PackError> {
    let open = || -> Result<Archive, ArchiveError> {
        let archive = match format.writing {
            Some(Writing::Zip) => Archive::of(&ZIP, ZipReader::open(Segments::open(staged)?, None, context)?),
            _ => Archive::of(&TAR, tar::open(&staged[0].as_path().into(), Flaws::Refused, context)?),
        };
        match password {
            Some(password) => archive.unlock(&password.clone().into(), context),
            None => Ok(archive),
        }
    };
    open().map_err(PackError::reading_back)
}

/// Reads an archive of an open format to its end, and compares every content's digest with the one that was read from its
/// source.
fn read_open_back(mut archive: Archive, contents: &Contents, context: &Context<'_>) -> Result<Totals, PackError> {
    let found = archive.entries_with_digests(context).map_err(PackError::reading_back)?;
    let files = found.iter().filter(|listed| listed.entry.kind == EntryKind::File);
    let found = files.map(|listed| (&listed.entry.path, &listed.content));
    // What went over as it was stored has no digest here: its own checks were compared while it was read.
    let is_same = |(path, content): (&EntryPath, &Content), (found_at, found): (&EntryPath, &Content)| {
        let digest = if content.digest == [0; 32] { found.digest } else { content.digest };
        // Which of several names counts as the first is for the reader to say; the totals tell whether as many share as before.
        let expected = Content { digest, shared_with: found.shared_with, ..*content };
        path == found_at && expected == *found
    };
    let expected = contents.iter().map(|(path, content)| (path, content));
    if contents.len() == found.clone().count()
        && expected.zip(found).all(|(one, other)| is_same(one, other))
        && archive.refused().is_empty()
    {
        Ok(archive.totals())
    } else {
        Err(PackError::ContentsDiffer)
    }
}
