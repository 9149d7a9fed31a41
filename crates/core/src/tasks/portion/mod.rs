//! Portioning: any file is cut into plain pieces, so that concatenation joins it again anywhere. Nothing is added to the pieces; what is
//! known of them stands in a text file beside them ([`list`]). All of them are written and read back before any gets its name.

pub mod list;

use crate::disk::missing::missing;
use crate::disk::numbered::{MAX_PIECES, Row, suffix};
use crate::disk::read_on;
use crate::disk::staging::{Placing, Staging, StagingError, settle};
use crate::disk::{
    FileAction, FileError, Folder, Interruption, Links, Sha256Sum, absolute, interruptible, open_regular,
};
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::context::{Context, Phase, Progress};
use crate::ground::retrying::uninterrupted;
use list::{Line, PieceList, SUFFIX};
use sha2::{Digest as _, Sha256};
use std::ffi::{OsStr, OsString};
use std::fs::{File, Metadata};
use std::io::Read as _;
use std::path::{Path, PathBuf};

/// A file that was made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MadeFile {
    /// Its absolute path.
    pub path: PathBuf,
    /// Its length in bytes.
    pub bytes: u64,
}

/// What is cut, and into what.
#[derive(Debug, Clone, Copy)]
pub struct PortionRequest<'a> {
    /// The file.
    pub file: &'a Path,
    /// Where the pieces go; the folder is made if it is not there.
    pub folder: &'a Path,
    /// The most bytes of a piece.
    pub limit: u64,
}

/// What was made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Portioned {
    /// The pieces in order.
    pub pieces: Vec<MadeFile>,
    /// The list beside them.
    pub list: PathBuf,
    /// The file's length in bytes.
    pub bytes: u64,
    /// Of the whole file.
    pub sum: Sha256Sum,
}

/// Why a file was not cut.
#[derive(Debug, thiserror::Error)]
pub enum PortionError {
    /// A piece of no bytes would never come to an end.
    #[error("a piece has to hold at least one byte")]
    NoRoom,
    /// It would come to more pieces than [`MAX_PIECES`].
    #[error("{0} pieces are too many")]
    TooMany(u64),
    /// Nothing is at this path.
    #[error("{} does not exist", path.display())]
    Absent {
        /// The path, absolute.
        path: PathBuf,
        /// Names beside it that look alike.
        similar: Vec<OsString>,
    },
    /// The path names no file.
    #[error("{} names no file", .0.display())]
    NoName(PathBuf),
    /// Pieces of this file, or its list, are there already.
    #[error("{} pieces are there already", .0.len())]
    Taken(Vec<PathBuf>),
    /// The file changed while it was cut.
    #[error("it changed while it was cut")]
    Changed,
    /// What was read back is not what was written.
    #[error("what was read back is not what was written")]
    Differs,
    /// The pieces could not be staged or placed.
    #[error(transparent)]
    Staging(#[from] StagingError),
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(PortionError);

impl Classed for PortionError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::NoRoom | Self::TooMany(_) | Self::NoName(_) | Self::Absent { .. } => ErrorClass::Usage,
            Self::Taken(_) | Self::Changed => ErrorClass::Unsafe,
            Self::Differs => ErrorClass::Damaged,
            Self::Staging(error) => error.class(),
        }
    }
}

/// Cuts a file.
///
/// # Errors
/// [`PortionError`]; no piece is there then.
pub fn portion(request: &PortionRequest<'_>, context: &Context<'_>) -> Result<Portioned, PortionError> {
    let name = request.file.file_name().ok_or_else(|| PortionError::NoName(request.file.to_owned()))?;
    if !request.file.exists() {
        let (path, similar) = missing(request.file);
        return Err(PortionError::Absent { path, similar });
    }
    let (original, metadata) = open_regular(request.file, Links::Follow)?;
    if request.limit == 0 {
        return Err(PortionError::NoRoom);
    }
    let pieces = metadata.len().div_ceil(request.limit).max(1);
    let count = u32::try_from(pieces).ok().filter(|count| *count <= MAX_PIECES).ok_or(PortionError::TooMany(pieces))?;
    let folder = Folder::open_or_create(&absolute(request.folder))?;
    settle(&folder, name, context)?;
    refuse_taken(&folder, name)?;
    let staging = Staging::begin(folder.itself()?, name, context)?;
    context.tell(Progress::Begin(Phase::Portioning, metadata.len()));
    let cut = Cut { request, name, original: &original, metadata: &metadata, count, staging: &staging, context };
    let list = cut.write()?;
    cut.check_unchanged()?;
    let mut file = staging.create(count + 1)?;
    let text = list.text();
    file.write(text.as_bytes())?;
    file.sync()?;
    context.tell(Progress::Staged);
    if !file.holds(blake3::Hasher::new().update(text.as_bytes()), |_| ())? {
        return Err(PortionError::Differs);
    }
    file.close()?;
    let suffixes = (1..=count).map(|number| (number, suffix(number, count))).chain([(count + 1, SUFFIX.to_owned())]);
    let placings: Vec<Placing> = suffixes.map(|(number, suffix)| Placing { number, suffix }).collect();
    context.go_on()?;
    staging.place(&placings, &[])?;
    context.tell(Progress::End);
    let path = |name: &OsStr| folder.path().join(name);
    Ok(Portioned {
        pieces: list.pieces.iter().map(|line| MadeFile { path: path(&line.name), bytes: line.bytes }).collect(),
        list: path(&with_suffix(name, SUFFIX)),
        bytes: list.whole.bytes,
        sum: list.whole.sum,
    })
}

/// Pieces of another cutting would be mixed up with these.
fn refuse_taken(folder: &Folder, name: &OsStr) -> Result<(), PortionError> {
    let names = folder.names()?;
    let ours = Row::of(&with_suffix(name, &suffix(1, 1)), &[]).map(|row| row.pattern.whole_name());
    let is_piece = |other: &&OsString| {
        let row = Row::of(other, &[]).filter(|row| row.count.is_some());
        **other == with_suffix(name, SUFFIX) || row.is_some_and(|row| Some(row.pattern.whole_name()) == ours)
    };
    let taken: Vec<PathBuf> = names.iter().filter(is_piece).map(|name| folder.path().join(name)).collect();
    if taken.is_empty() { Ok(()) } else { Err(PortionError::Taken(taken)) }
}

fn with_suffix(name: &OsStr, suffix: &str) -> OsString {
    let mut name = name.to_owned();
    name.push(suffix);
    name
}

/// One cutting under way.
struct Cut<'a> {
    request: &'a PortionRequest<'a>,
    name: &'a OsStr,
    original: &'a File,
    metadata: &'a Metadata,
    count: u32,
    staging: &'a Staging,
    context: &'a Context<'a>,
}

impl Cut<'_> {
    fn write(&self) -> Result<PieceList, PortionError> {
        let (mut whole, mut pieces, mut left) = (Sha256::new(), Vec::new(), self.metadata.len());
        for number in 1..=self.count {
            self.context.tell(Progress::Volume(number));
            let bytes = left.min(self.request.limit);
            let sum = self.write_piece(number, bytes, &mut whole)?;
            pieces.push(Line { name: with_suffix(self.name, &suffix(number, self.count)), bytes, sum });
            left -= bytes;
        }
        let whole = Line { name: self.name.to_owned(), bytes: self.metadata.len(), sum: whole.finalize().into() };
        Ok(PieceList { whole, pieces })
    }

    /// Writes a piece and reads it back from the disk.
    fn write_piece(&self, number: u32, bytes: u64, whole: &mut Sha256) -> Result<Sha256Sum, PortionError> {
        let mut piece = self.staging.create(number)?;
        let (mut sum, mut check) = (Sha256::new(), blake3::Hasher::new());
        let read = read_on(self.original, self.request.file, bytes, self.context, |bytes| {
            piece.write(bytes)?;
            whole.update(bytes);
            sum.update(bytes);
            check.update(bytes);
            // A byte is half done when it is written, and done when it is read back.
            self.context.tell(Progress::Advance(bytes.len().div_ceil(2) as u64));
            Ok::<_, PortionError>(())
        })?;
        if read < bytes {
            return Err(PortionError::Changed);
        }
        piece.sync()?;
        self.context.tell(Progress::Staged);
        if !piece.holds(&check, |bytes| self.context.tell(Progress::Advance(bytes / 2)))? {
            return Err(PortionError::Differs);
        }
        piece.close()?;
        Ok(sum.finalize().into())
    }

    /// The file is as long and as old as when it was opened, and nothing stands behind what was read.
    fn check_unchanged(&self) -> Result<(), PortionError> {
        let now = self.original.metadata().map_err(FileError::on(FileAction::Read, self.request.file))?;
        let mut more = [0];
        let behind = uninterrupted(|| (&mut &*self.original).read(&mut more));
        let behind = behind.map_err(FileError::on(FileAction::Read, self.request.file))?;
        let same_time = now.modified().ok() == self.metadata.modified().ok();
        if behind == 0 && now.len() == self.metadata.len() && same_time { Ok(()) } else { Err(PortionError::Changed) }
    }
}
