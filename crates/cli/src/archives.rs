//! What is read, of whatever format: recognised by its content, unlocked where that is needed, and open.

use crate::args::{UnlockArguments, WorkArguments};
use crate::credentials::{self, NOT_SECRET};
use crate::failure::Failure;
use crate::places::gather;
use crate::session;
use crate::settings::BadValue;
use crate::ui::paint::{Tone, paint};
use crate::ui::progress::ProgressLine;
use crate::ui::text::{self, shown};
use serde::Serialize;
use std::fs;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};
use under_seal_core::Error;
use under_seal_core::disk::{FileAction, FileError};
use under_seal_core::formats::archive::{Archive, ArchiveError, OpenFormat, open_format_of};
use under_seal_core::formats::members::Refused;
use under_seal_core::formats::sealed::SealedReader;
use under_seal_core::formats::sealed::volume::{GatherError, VolumeSet};
use under_seal_core::formats::zip::{Encryption, ZipReader, open_parts};
use under_seal_core::ground::context::Context;
use under_seal_core::landing::NotLanded;

/// What the user has named.
pub enum Given {
    /// Sealed volumes.
    Sealed(VolumeSet),
    /// A file of an open format.
    Open(OpenFormat, PathBuf),
}

/// What content is wanted for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wanted {
    /// Nothing inside need be seen.
    Outside,
    /// Nothing but the list of entries is read.
    List,
    /// Content is read too, so a password may be needed.
    Content,
    /// The same, of what is whole.
    WhatIsWhole,
}

/// An archive that is open for reading.
pub struct Loaded {
    /// The archive.
    pub archive: Archive,
    /// What it is called.
    pub name: Vec<u8>,
    /// Whether a password keeps its contents.
    pub secret: bool,
    /// What its format does not do for whoever relies on it.
    pub notes: Vec<&'static str>,
    /// How many files it is read from.
    pub files: u32,
}

/// An entry that is not extracted (docs/json.md).
#[derive(Debug, Clone, Serialize)]
pub struct NotExtracted {
    pub path: String,
    pub why: String,
}

impl From<&NotLanded> for NotExtracted {
    fn from(left: &NotLanded) -> Self {
        Self { path: shown(left.path.as_bytes()), why: left.why.to_string() }
    }
}

/// What the places hold.
pub fn given(places: &[PathBuf], work: &WorkArguments) -> Result<Given, Failure> {
    let progress = ProgressLine::for_reading(None, work);
    let context = session::context(&progress, work.threads);
    let first = places.first().filter(|first| first.is_file());
    let format = first.map(|first| open_format_of(first, &context)).transpose().map_err(archive_failure)?.flatten();
    if let ([path], Some(format)) = (places, format) {
        return Ok(Given::Open(format, path.clone()));
    }
    if let ([first, others @ ..], Some(OpenFormat::Zip)) = (places, format) {
        let absolute = |path: &PathBuf| std::path::absolute(path).unwrap_or_else(|_| path.clone());
        let parts: Vec<PathBuf> =
            open_parts(first).map_err(archive_failure)?.paths().map(|path| absolute(&path.to_owned())).collect();
        if others.iter().all(|other| parts.contains(&absolute(other))) {
            return Ok(Given::Open(OpenFormat::Zip, first.clone()));
        }
        return Err(Failure::Value(BadValue::SeveralArchives));
    }
    match (gather(places), places) {
        (Err(none @ Failure::Core(Error::Gather(GatherError::NoVolumes { .. }))), [folder]) if folder.is_dir() => {
            match open_archives_in(folder, &context)?.as_slice() {
                [] => Err(none),
                [(path, format)] => Ok(Given::Open(*format, path.clone())),
                _ => Err(Failure::Value(BadValue::SeveralArchives)),
            }
        }
        (gathered, _) => gathered.map(Given::Sealed),
    }
}

/// The archives of open formats that lie in a folder, parts of one taken together.
fn open_archives_in(folder: &Path, context: &Context<'_>) -> Result<Vec<(PathBuf, OpenFormat)>, Failure> {
    let unreadable = FileError::on(FileAction::List, folder);
    let listed = fs::read_dir(folder).and_then(Iterator::collect::<Result<Vec<_>, _>>);
    let mut paths: Vec<PathBuf> =
        listed.map_err(|error| Failure::File(unreadable(error)))?.iter().map(fs::DirEntry::path).collect();
    paths.sort();
    let mut found: Vec<(PathBuf, OpenFormat)> = Vec::new();
    for path in paths.into_iter().filter(|path| path.is_file()) {
        // What cannot be read here is not what is looked for.
        let Ok(Some(format)) = open_format_of(&path, context) else { continue };
        // Parts of one archive differ in their ends only.
        let is_part =
            |(other, kind): &(PathBuf, OpenFormat)| *kind == OpenFormat::Zip && other.file_stem() == path.file_stem();
        if format != OpenFormat::Zip || !found.iter().any(is_part) {
            found.push((path, format));
        }
    }
    Ok(found)
}

impl Given {
    /// Unlocks and opens it.
    pub fn load(self, unlock: &UnlockArguments, wanted: Wanted, work: &WorkArguments) -> Result<Loaded, Failure> {
        match self {
            Self::Sealed(set) => {
                let unlocked = credentials::to_unlock(&set, unlock)?;
                let archive = SealedReader::with_key(unlocked.set, &unlocked.key)?;
                let name = archive.about().name.clone();
                let notes = if unlocked.secret { Vec::new() } else { vec![NOT_SECRET] };
                let files = archive.set().geometry.data_volumes;
                Ok(Loaded { archive: Archive::Sealed(Box::new(archive)), name, secret: unlocked.secret, notes, files })
            }
            Self::Open(format, path) => {
                let progress = ProgressLine::for_reading(None, work);
                let context = session::context(&progress, work.threads);
                let archive = match wanted {
                    Wanted::WhatIsWhole => Archive::open_what_is_whole(format, &path, &context),
                    _ => Archive::open(format, &path, &context),
                };
                let archive = archive.map_err(archive_failure)?;
                drop(progress);
                load_open(archive, unlock, wanted, work)
            }
        }
    }
}

fn load_open(
    archive: Archive,
    unlock: &UnlockArguments,
    wanted: Wanted,
    work: &WorkArguments,
) -> Result<Loaded, Failure> {
    if credentials::expects_password(unlock) {
        archive.refuse_if_open_to_all().map_err(archive_failure)?;
    }
    let files = archive.paths();
    let path = files.last().cloned().unwrap_or_default();
    let (mut name, mut secret) = (path.file_stem().unwrap_or_default().as_bytes().to_vec(), false);
    let (archive, notes) = match archive {
        Archive::Zip(archive) => {
            secret = archive.is_encrypted();
            let archive = match secret {
                true => Box::new(credentials::to_unlock_zip(*archive, unlock, wanted, work)?),
                false => archive,
            };
            let notes = zip_notes(&archive);
            (Archive::Zip(archive), notes)
        }
        Archive::DiscImage(archive) => {
            let other_system = archive.has_other_system().then_some(OTHER_SYSTEM_NOTE);
            let short = archive.is_short().then_some(SHORT_NOTE);
            let notes = [Some(DISC_NOTE), other_system, short].into_iter().flatten().collect();
            (Archive::DiscImage(archive), notes)
        }
        archive => {
            name = name_of_tar(&path);
            let short = archive.may_lack_the_end().then_some(NO_END_NOTE);
            (archive, short.into_iter().chain([TAR_NOTE]).collect())
        }
    };
    Ok(Loaded { archive, name, secret, notes, files: u32::try_from(files.len()).unwrap_or(u32::MAX) })
}

const DISC_NOTE: &str = "Nothing in it is encrypted, and a disc image has no checksums: nothing shows whether contents are as \
                         they were, or genuine.";

const OTHER_SYSTEM_NOTE: &str =
    "It has a second file system (UDF), which is not read here: some discs have other files there.";

const SHORT_NOTE: &str =
    "The image ends before it says it does: it was cut short. What check finds no fault with is whole all the same.";

const NO_END_NOTE: &str = "The archive has no mark of its end: it may have been cut short, and more may have been in it. Compare with \
                          what the sender says is in it.";

const TAR_NOTE: &str = "Nothing in it is encrypted, and contents have no checksum but that of the compression around them, if \
                        there is one: it finds accidents, and nothing shows whether it is genuine.";

fn name_of_tar(path: &Path) -> Vec<u8> {
    let stem = path.file_stem().unwrap_or_default();
    let whole = Path::new(stem);
    let is_tar = whole.extension().is_some_and(|extension| extension.eq_ignore_ascii_case("tar"));
    if is_tar { whole.file_stem().unwrap_or_default().as_bytes().to_vec() } else { stem.as_bytes().to_vec() }
}

/// A failure to read an archive.
pub fn archive_failure(error: impl Into<ArchiveError>) -> Failure {
    Failure::Core(Error::Archive(error.into()))
}

const COVERED_NOTE: &str =
    "Everything in it is encrypted with AES, names, sizes and dates too; how long it is in all shows.";

/// What a ZIP archive does not do.
fn zip_notes(archive: &ZipReader) -> Vec<&'static str> {
    let (encryptions, mut notes) = (archive.encryptions(), Vec::new());
    if archive.hides_names() {
        return vec![COVERED_NOTE];
    }
    if encryptions.contains(&Encryption::Old) {
        notes.push("Some of it is under ZIP's old cipher, which withstands nobody: take it for readable by anyone.");
    }
    if encryptions.contains(&Encryption::Aes) {
        notes.push("Contents are encrypted with AES; names, sizes and dates are not hidden, nor proven genuine.");
    }
    if encryptions == [Encryption::None] {
        notes.push("Nothing in it is encrypted. Checksums find accidents, and nothing shows whether it is genuine.");
    } else if encryptions.contains(&Encryption::None) {
        notes.push(
            "Some of it is not encrypted. Checksums find accidents there, and nothing shows whether it is genuine.",
        );
    }
    notes
}

/// The files of a set of volumes.
pub fn volume_paths(set: &VolumeSet) -> Vec<PathBuf> {
    set.volumes.values().flatten().map(|file| file.path.clone()).collect()
}

impl Loaded {
    /// What is in it and cannot be extracted.
    pub fn not_extracted(&self) -> Vec<NotExtracted> {
        let one = |refused: &Refused| NotExtracted { path: shown(&refused.name), why: refused.why.to_string() };
        self.archive.refused().iter().map(one).collect()
    }
}

/// So many of what is not extracted are named, with so many columns of each name's end.
const NOT_EXTRACTED_LISTED: usize = 20;
const NAME_COLUMNS: usize = 80;

/// What is not extracted, for people.
pub fn not_extracted_lines(refused: &[NotExtracted]) -> Vec<String> {
    if refused.is_empty() {
        return Vec::new();
    }
    let heading = paint(Tone::Bad, "In the archive, and never extracted:");
    let one = |one: &NotExtracted| format!("  {}: {}", text::ending(&one.path, NAME_COLUMNS), one.why);
    let lines = refused.iter().take(NOT_EXTRACTED_LISTED).map(one);
    let more = refused.len().saturating_sub(NOT_EXTRACTED_LISTED);
    let more = (more > 0).then(|| format!("  and {more} more (--json lists all)"));
    [String::new(), heading].into_iter().chain(lines).chain(more).collect()
}
