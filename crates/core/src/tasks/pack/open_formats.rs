//! A delivery in an open format: written, read back from disk with nothing but what the recipient will have, compared with
//! what was read from the sources, and placed.

use super::extracting::extracting;
use super::zipping::{OldEntries, ZipJob};
use super::{
    Contents, Delivery, OldContents, PackError, Packed, PackedVolume, refuse_what_lacks, summary_of, tarring, zipping,
};
use crate::codecs::stream::Wrapping;
use crate::disk::Folder;
use crate::disk::staging::{Placing, Staging};
use crate::formats::abilities::TimesKept;
use crate::formats::archive::Archive;
use crate::formats::error::ArchiveError;
use crate::formats::reader::{ArchiveReader, Flaws};
use crate::formats::registry::{TAR, Writing, ZIP};
use crate::formats::tar;
use crate::formats::zip::{Segments, ZipReader, suffixes};
use crate::ground::context::{Context, Phase, Progress};
use crate::ground::entry::{Content, Entry, EntryKind, EntryPath, ListedEntry, Timestamp, Totals};
use crate::ground::secrets::Password;
use crate::source::feed::Fed;
use crate::source::{Catalogue, SourceEntry};
use std::any::Any;
use std::collections::HashMap;
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
        Ok(match self.open_writing()? {
            OpenWriting::Tar(wrapping) => {
                let (bytes, (fed, contents)) =
                    tarring::tar(&self.catalogue, old.pipe(), wrapping, self.squeeze, staging, context)?;
                Written { files: vec![(self.format.extension().to_owned(), bytes)], fed, contents }
            }
            OpenWriting::Zip => {
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
        let writing = self.open_writing()?;
        let (as_written, times) = (entries_as_written(&self.catalogue), self.format.abilities.times);
        let escaped_names = self.catalogue.text_names.escaped();
        let packs_attributes = self.catalogue.packs_attributes;
        let (outward_links, left_out, mut passed_over) = summary_of(self.catalogue);
        passed_over.extend(fed.passed_over);
        refuse_what_lacks(&fed.totals, &mut passed_over, &self.needed, false)?;
        context.tell(Progress::Staged);
        let archive = reopened(writing, staged, password, context)?;
        let verified = read_open_back(archive, (&contents, &as_written, times), context)?;
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

/// The open formats that are written.
#[derive(Debug, Clone, Copy)]
enum OpenWriting {
    Zip,
    Tar(Wrapping),
}

impl Delivery {
    /// How it is written; no other format comes here.
    fn open_writing(&self) -> Result<OpenWriting, PackError> {
        match self.format.writing {
            Some(Writing::Zip) => Ok(OpenWriting::Zip),
            Some(Writing::Tar(wrapping)) => Ok(OpenWriting::Tar(wrapping)),
            Some(Writing::Sealed | Writing::Page) | None => Err(PackError::NotWritten(self.format)),
        }
    }
}

/// What an entry was written with beside its content.
struct AsWritten {
    kind: EntryKind,
    mode: u32,
    modified: Timestamp,
    link_target: Vec<u8>,
}

impl AsWritten {
    /// Whether an entry that was read back is that one. A link's own mode means nothing, and a time may have been brought into what the
    /// format can tell.
    fn is(&self, found: &Entry, times: TimesKept) -> bool {
        let tells_time = i32::try_from(self.modified.seconds).is_ok_and(|seconds| seconds >= EARLIEST_DOS_TIME);
        self.kind == found.kind
            && self.link_target == found.link_target
            && (self.kind == EntryKind::Link || (self.mode & 0o777) == (found.mode & 0o777))
            && !(tells_time && times.differ(self.modified, found.modified))
    }
}

/// 1980-01-02: what is older has no time in ZIP, in whatever zone (application note, 4.4.6).
const EARLIEST_DOS_TIME: i32 = 315_619_200;

/// The entries of a catalogue, by the paths that they have in an archive.
fn entries_as_written(catalogue: &Catalogue) -> HashMap<EntryPath, AsWritten> {
    let one = |entry: &SourceEntry| {
        let SourceEntry { kind, mode, modified, link_target, .. } = entry.clone();
        (catalogue.text_names.of(&entry.path).clone(), AsWritten { kind, mode, modified, link_target })
    };
    catalogue.entries.iter().map(one).collect()
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
    writing: OpenWriting,
    staged: &[PathBuf],
    password: Option<&Password>,
    context: &Context<'_>,
) -> Result<Archive, PackError> {
    let archive = match (writing, staged) {
        (OpenWriting::Zip, parts) => {
            let zip = Segments::open(parts).map_err(ArchiveError::from);
            let zip = zip.and_then(|parts| Ok(ZipReader::open(parts, None, context)?));
            Archive::of(&ZIP, zip.map_err(PackError::reading_back)?)
        }
        (OpenWriting::Tar(_), [only]) => {
            let tar = tar::open(&only.as_path().into(), Flaws::Refused, context);
            Archive::of(&TAR, tar.map_err(|error| PackError::reading_back(error.into()))?)
        }
        (OpenWriting::Tar(_), _) => return Err(PackError::ContentsDiffer),
    };
    match password {
        Some(password) => archive.unlock(&password.clone().into(), context).map_err(PackError::reading_back),
        None => Ok(archive),
    }
}

/// Reads an archive of an open format to its end, and compares every content's digest with the one that was read from its
/// source.
fn read_open_back(
    mut archive: Archive,
    (contents, as_written, times): (&Contents, &HashMap<EntryPath, AsWritten>, TimesKept),
    context: &Context<'_>,
) -> Result<Totals, PackError> {
    let found = archive.entries_with_digests(context).map_err(PackError::reading_back)?;
    // What was passed over has been left out, and what a format needs above a path it makes itself.
    let is_as_written =
        |listed: &ListedEntry| as_written.get(&listed.entry.path).is_none_or(|one| one.is(&listed.entry, times));
    if !found.iter().all(is_as_written) {
        return Err(PackError::ContentsDiffer);
    }
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
