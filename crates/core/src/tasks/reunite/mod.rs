//! Reuniting: numbered pieces of whatever origin are [found](finding) from any one of them, compared with their list where there is one,
//! and joined into a file that gets its name only when it is whole.

mod finding;

pub use finding::{Pieces, PiecesError};

use crate::disk::{FileError, Folder, Interruption, NewFile, Sha256Sum, Unfinished, absolute, interruptible, read_on};
use crate::formats::spot::Spot;
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::context::{Context, Phase, Progress};
use sha2::{Digest as _, Sha256};
use std::ffi::OsStr;
use std::path::{Path, PathBuf};

/// Temporary names begin so.
const PREFIX: &str = ".reuniting-";

/// What was joined.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reunited {
    /// The file, absolute.
    pub path: PathBuf,
    /// Its length in bytes.
    pub bytes: u64,
    /// Of its content.
    pub sum: Sha256Sum,
    /// How many pieces it came from.
    pub pieces: u32,
    /// It was compared with what the list says.
    pub compared: bool,
    /// A list is there with which nothing could be compared, since it is damaged.
    pub damaged_list: Option<PathBuf>,
    /// Nothing says how many pieces there are, and the last one is no shorter than the others: one may be missing.
    pub may_lack_the_end: bool,
}

/// Why pieces were not joined.
#[derive(Debug, thiserror::Error)]
pub enum ReuniteError {
    /// These numbers are missing.
    #[error("pieces {missing:?} are missing")]
    Missing {
        /// Their numbers.
        missing: Vec<u32>,
        /// How many there are in all, where that is known.
        count: Option<u32>,
    },
    /// These pieces are not what the list says.
    #[error("pieces {0:?} are damaged")]
    Damaged(Vec<u32>),
    /// Each piece is right, and the whole is not what the list says: the list contradicts itself.
    #[error("the whole is not what the list says")]
    WholeDiffers,
    /// Several files have this number, and no list says which one is right.
    #[error("{} files have the number {number}", files.len())]
    Ambiguous {
        /// The number.
        number: u32,
        /// Where they lie.
        files: Vec<Spot>,
    },
    /// Nothing tells what the whole file is called.
    #[error("no name for the whole")]
    NoName,
    /// A file of that name is there already.
    #[error("{} is there already", .0.display())]
    Taken(PathBuf),
    /// What was read back is not what was written.
    #[error("what was read back is not what was written")]
    Differs,
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(ReuniteError);

impl Classed for ReuniteError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::Missing { .. } => ErrorClass::VolumesMissing,
            Self::Damaged(_) | Self::WholeDiffers | Self::Differs => ErrorClass::Damaged,
            Self::Ambiguous { .. } | Self::NoName => ErrorClass::Usage,
            Self::Taken(_) => ErrorClass::Unsafe,
        }
    }
}

/// Joins pieces into a file: of this path, or of the whole's own name in this folder.
///
/// # Errors
/// [`ReuniteError`]; no file is there then.
pub fn reunite(
    pieces: &Pieces,
    folder: &Path,
    name: Option<&OsStr>,
    context: &Context<'_>,
) -> Result<Reunited, ReuniteError> {
    let missing = pieces.missing();
    if !missing.is_empty() {
        return Err(ReuniteError::Missing { missing, count: pieces.count });
    }
    let name = name.or(pieces.name.as_deref()).ok_or(ReuniteError::NoName)?;
    let folder = Folder::open_or_create(&absolute(folder))?;
    if folder.kind_of(name)?.is_some() {
        return Err(ReuniteError::Taken(folder.path().join(name)));
    }
    let taken = |path: PathBuf| {
        move |error: ReuniteError| match error {
            ReuniteError::Interrupted(Interruption::File(error)) if error.is_taken() => ReuniteError::Taken(path),
            error => error,
        }
    };
    let (unfinished, file) = Unfinished::file(&folder, PREFIX, 0o666, context)?;
    let joined = Join { pieces, file, context }.write()?;
    context.go_on()?;
    let path = folder.path().join(name);
    unfinished.publish(name).map_err(ReuniteError::from).map_err(taken(path.clone()))?;
    Ok(Reunited { path, ..joined })
}

/// One joining under way.
struct Join<'a> {
    pieces: &'a Pieces,
    file: NewFile,
    context: &'a Context<'a>,
}

/// What one piece came to.
struct Copied {
    bytes: u64,
    sum: Sha256Sum,
}

impl Join<'_> {
    fn write(mut self) -> Result<Reunited, ReuniteError> {
        let expected = self.pieces.expected();
        let lengths = self.pieces.files.values().flatten().filter_map(|spot| spot.length().ok());
        let all = lengths.sum::<u64>();
        self.context.tell(Progress::Begin(Phase::Reuniting, all));
        let (mut sum, mut check, mut damaged, mut lengths) =
            (Sha256::new(), blake3::Hasher::new(), Vec::new(), Vec::new());
        for number in expected.clone() {
            self.context.tell(Progress::Volume(number));
            let Some(spot) = self.right_file(number)? else {
                damaged.push(number);
                continue;
            };
            // Where a piece is damaged the others are only looked at, so that all that are wrong are told.
            let writes = damaged.is_empty();
            let copied = self.copy(&spot, |bytes, file| {
                sum.update(bytes);
                check.update(bytes);
                if writes { file.write(bytes) } else { Ok(()) }
            })?;
            lengths.push(copied.bytes);
            if self.pieces.line(number).is_some_and(|line| line.sum != copied.sum) {
                damaged.push(number);
            }
        }
        if !damaged.is_empty() {
            return Err(ReuniteError::Damaged(damaged));
        }
        let sum: Sha256Sum = sum.finalize().into();
        if self.pieces.list.as_ref().is_some_and(|list| list.whole.sum != sum) {
            return Err(ReuniteError::WholeDiffers);
        }
        self.context.tell(Progress::End);
        self.file.sync()?;
        self.context.tell(Progress::Begin(Phase::Verifying, all));
        if !self.file.holds(&check, |bytes| self.context.tell(Progress::Advance(bytes)))? {
            return Err(ReuniteError::Differs);
        }
        self.file.close()?;
        self.context.tell(Progress::End);
        Ok(Reunited {
            path: PathBuf::new(),
            bytes: lengths.iter().sum(),
            sum,
            pieces: lengths.len() as u32,
            compared: self.pieces.list.is_some(),
            damaged_list: self.pieces.damaged_list.clone(),
            may_lack_the_end: self.pieces.count.is_none() && ends_like_the_others(&lengths),
        })
    }

    /// Of the files with this number the one that may be right: without a list the only one, else the only one of the right
    /// length, or of several the first whose content is right.
    fn right_file(&mut self, number: u32) -> Result<Option<Spot>, ReuniteError> {
        let mut files = self.pieces.files.get(&number).cloned().unwrap_or_default();
        let Some(line) = self.pieces.line(number).cloned() else {
            return if files.len() == 1 { Ok(files.pop()) } else { Err(ReuniteError::Ambiguous { number, files }) };
        };
        files.retain(|spot| spot.length().is_ok_and(|bytes| bytes == line.bytes));
        if files.len() == 1 {
            return Ok(files.pop());
        }
        for spot in files {
            if self.copy(&spot, |_, _| Ok(()))?.sum == line.sum {
                return Ok(Some(spot));
            }
        }
        Ok(None)
    }

    fn copy(
        &mut self,
        spot: &Spot,
        mut take: impl FnMut(&[u8], &mut NewFile) -> Result<(), FileError>,
    ) -> Result<Copied, ReuniteError> {
        let mut sum = Sha256::new();
        let piece = spot.open()?.into_reader();
        let bytes = read_on(piece, &spot.path, u64::MAX, self.context, |bytes| {
            take(bytes, &mut self.file)?;
            sum.update(bytes);
            self.context.tell(Progress::Advance(bytes.len() as u64));
            Ok::<_, ReuniteError>(())
        })?;
        Ok(Copied { bytes, sum: sum.finalize().into() })
    }
}

/// Whether the last of several pieces is as long as each before it: a whole file seldom ends so.
fn ends_like_the_others(lengths: &[u64]) -> bool {
    lengths.len() > 1 && lengths.iter().all(|length| Some(length) == lengths.first())
}
