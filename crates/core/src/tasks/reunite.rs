//! Reuniting: numbered pieces of whatever origin are found from any one of them, compared with their list where there is one, and joined into a file that
//! gets its name only when it is whole.

use super::portion::list::{Line, MAX_LIST_BYTES, PieceList, SUFFIX};
use crate::disk::Unfinished;
use crate::disk::missing::missing;
use crate::disk::numbered::Row;
use crate::disk::{
    FileError, Folder, Interruption, Links, NewFile, Sha256Sum, absolute, interruptible, open_regular, read_through,
    sum_of,
};
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::context::{Context, Phase, Progress};
use sha2::{Digest as _, Sha256};
use std::collections::{BTreeMap, BTreeSet};
use std::ffi::{OsStr, OsString};
use std::io::Read as _;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};

/// Temporary names begin so.
const PREFIX: &str = ".reuniting-";

/// Pieces that were found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pieces {
    /// Where each number from [`Pieces::first`] on lies; of one number there may be several files.
    pub files: BTreeMap<u32, Vec<PathBuf>>,
    /// The first one's number: 0 or 1.
    pub first: u32,
    /// How many there are, where the list or the names say so.
    pub count: Option<u32>,
    /// What the list says, where there is one.
    pub list: Option<PieceList>,
    /// A list of theirs that says nothing any more.
    pub damaged_list: Option<PathBuf>,
    /// What the whole file was called, or may have been.
    pub name: Option<OsString>,
}

/// Why no pieces were found.
#[derive(Debug, thiserror::Error)]
pub enum PiecesError {
    /// Nothing is at this path.
    #[error("{} does not exist", path.display())]
    Absent {
        /// The path, absolute.
        path: PathBuf,
        /// Names beside it that look alike.
        similar: Vec<OsString>,
    },
    /// The name of this file has no number that counts pieces.
    #[error("{} is not one of several numbered pieces", .0.display())]
    NotNumbered(PathBuf),
    /// This list was named, and says nothing any more.
    #[error("the list {} is damaged", .0.display())]
    DamagedList(PathBuf),
    /// Of the pieces that were named, this one belongs to others.
    #[error("{} is no piece of the same file", .0.display())]
    OfAnother(PathBuf),
    /// This folder holds no pieces.
    #[error("there are no pieces in {}", .0.display())]
    NoneIn(PathBuf),
    /// This folder holds pieces of several files: one of each.
    #[error("{} files are in pieces", .0.len())]
    Several(Vec<PathBuf>),
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(PiecesError);

impl Classed for PiecesError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            _ => ErrorClass::Usage,
        }
    }
}

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
        /// The files.
        files: Vec<PathBuf>,
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

impl Pieces {
    /// Finds all pieces from any of them, from their list, or from the folder that they are in. Each is sought in its own folder;
    /// where there is a list, those that have another name now are known by their content.
    pub fn find(typed: &[PathBuf], context: &Context<'_>) -> Result<Self, PiecesError> {
        if let Some(absent) = typed.iter().find(|path| !path.exists()) {
            let (path, similar) = missing(absent);
            return Err(PiecesError::Absent { path, similar });
        }
        let in_folders = typed.iter().map(|path| if path.is_dir() { one_in(path) } else { Ok(path.clone()) });
        let typed = &in_folders.collect::<Result<Vec<_>, _>>()?;
        let folders: BTreeSet<PathBuf> =
            typed.iter().filter_map(|path| Some(absolute(path).parent()?.to_owned())).collect();
        let mut names = BTreeMap::new();
        for folder in folders {
            names.insert(folder.clone(), files_in(&folder)?);
        }
        for path in typed {
            open_regular(path, Links::Follow)?;
        }
        let first = typed.first().cloned().unwrap_or_default();
        let Lists { list, damaged } = Lists::find(&first, &names);
        if let Some(damaged) = damaged.iter().find(|path| absolute(&first) == **path) {
            return Err(PiecesError::DamagedList(damaged.clone()));
        }
        let seed = seed(&first, list.as_ref());
        let among: Vec<OsString> = names.values().flatten().cloned().collect();
        let row = seed.as_deref().and_then(|seed| Row::of(seed, &among));
        let row = row.filter(|row| row.names.len() > 1 || row.count.is_some() || list.is_some());
        let row = row.ok_or_else(|| PiecesError::NotNumbered(first.clone()))?;
        let is_of = |path: &&PathBuf| {
            let name = path.file_name().unwrap_or_default();
            row.pattern.number_in(name).is_some() || has_list_name(name)
        };
        if let Some(other) = typed.iter().find(|path| !is_of(path)) {
            return Err(PiecesError::OfAnother(other.clone()));
        }
        let mut files: BTreeMap<u32, Vec<PathBuf>> = BTreeMap::new();
        for (folder, names) in &names {
            for name in names {
                if let Some(number) = row.pattern.number_in(name) {
                    files.entry(number).or_default().push(folder.join(name));
                }
            }
        }
        let whole = row.pattern.whole_name();
        let count = list.as_ref().and_then(|list| u32::try_from(list.pieces.len()).ok()).or(row.count);
        let name = list.as_ref().map(|list| list.whole.name.clone()).or_else(|| whole.clone());
        let is_theirs = |path: &PathBuf| path.file_name().and_then(whole_of_list) == whole.as_deref();
        let damaged_list = damaged.into_iter().find(is_theirs);
        let mut pieces = Self { files, first: row.first(), count, list, damaged_list, name };
        pieces.find_renamed(&names, context)?;
        Ok(pieces)
    }

    /// Looks for missing pieces among all files, by length and SHA-256.
    fn find_renamed(
        &mut self,
        names: &BTreeMap<PathBuf, Vec<OsString>>,
        context: &Context<'_>,
    ) -> Result<(), PiecesError> {
        let Some(list) = &self.list else { return Ok(()) };
        for number in self.missing() {
            let Some(line) = line_of(list, number, self.first) else { continue };
            let all = names.iter().flat_map(|(folder, names)| names.iter().map(move |name| folder.join(name)));
            for path in all {
                let Ok((_, metadata)) = open_regular(&path, Links::Follow) else { continue };
                if metadata.len() == line.bytes && sum_of(&path, context)? == line.sum {
                    self.files.entry(number).or_default().push(path);
                    break;
                }
            }
        }
        Ok(())
    }

    /// The numbers that must be there.
    fn expected(&self) -> std::ops::RangeInclusive<u32> {
        let last = self.files.keys().next_back().copied().unwrap_or(self.first);
        let last = self.count.map_or(last, |count| (self.first + count).saturating_sub(1));
        self.first..=last
    }

    /// Numbers of which every file is shorter than the list says: it may still grow.
    pub fn short(&self) -> Vec<u32> {
        let wanted = |number: u32| line_of(self.list.as_ref()?, number, self.first).map(|line| line.bytes);
        let length = |path: &PathBuf| path.metadata().map_or(0, |metadata| metadata.len());
        let is_short = |(number, files): &(&u32, &Vec<PathBuf>)| {
            wanted(**number).is_some_and(|bytes| files.iter().all(|file| length(file) < bytes))
        };
        self.files.iter().filter(is_short).map(|(number, _)| *number).collect()
    }

    /// Numbers of which no file was found.
    pub fn missing(&self) -> Vec<u32> {
        self.expected().filter(|number| !self.files.contains_key(number)).collect()
    }
}

fn files_in(folder: &Path) -> Result<Vec<OsString>, FileError> {
    let opened = Folder::open(folder)?;
    let mut names = Vec::new();
    for name in opened.names()? {
        if opened.kind_of(&name)?.is_some_and(|kind| !kind.is_dir()) {
            names.push(name);
        }
    }
    Ok(names)
}

/// A piece, or the list, of the only file that is in pieces in a folder.
fn one_in(folder: &Path) -> Result<PathBuf, PiecesError> {
    let names = files_in(folder)?;
    let lists: Vec<PathBuf> = names.iter().filter(|name| has_list_name(name)).map(|name| folder.join(name)).collect();
    let rows = || Row::all_at_the_end(&names).into_iter().filter_map(|row| row.names.into_values().flatten().next());
    let mut found = if lists.is_empty() { rows().map(|name| folder.join(name)).collect() } else { lists };
    match found.len() {
        0 => Err(PiecesError::NoneIn(folder.to_owned())),
        1 => Ok(found.remove(0)),
        _ => Err(PiecesError::Several(found)),
    }
}

fn has_list_name(name: &OsStr) -> bool {
    whole_of_list(name).is_some()
}

/// What the whole file is called that a list of this name speaks of.
fn whole_of_list(name: &OsStr) -> Option<&OsStr> {
    name.as_bytes().strip_suffix(SUFFIX.as_bytes()).map(OsStr::from_bytes)
}

/// The lists beside a piece.
struct Lists {
    /// That which names the piece, or which it is.
    list: Option<PieceList>,
    /// Where there is none: those that say nothing any more.
    damaged: Vec<PathBuf>,
}

impl Lists {
    fn find(path: &Path, names: &BTreeMap<PathBuf, Vec<OsString>>) -> Self {
        let own = path.file_name();
        let mut found = Self { list: None, damaged: Vec::new() };
        let lists = names.iter().flat_map(|(folder, names)| names.iter().map(move |name| (folder.join(name), name)));
        for (path, name) in lists.filter(|(_, name)| has_list_name(name)) {
            let speaks_of_it =
                |list: &PieceList| own == Some(name) || list.pieces.iter().any(|piece| own == Some(&piece.name));
            match read_list(&path) {
                None => found.damaged.push(path),
                Some(list) if speaks_of_it(&list) => return Self { list: Some(list), damaged: Vec::new() },
                Some(_) => {}
            }
        }
        found
    }
}

fn read_list(path: &Path) -> Option<PieceList> {
    let (file, metadata) = open_regular(path, Links::Follow).ok()?;
    let mut text = String::new();
    file.take(MAX_LIST_BYTES).read_to_string(&mut text).ok()?;
    PieceList::read(&text).filter(|_| metadata.len() <= MAX_LIST_BYTES)
}

/// The name from which the others are known: the piece's own, or, of a list, the first that it names.
fn seed(path: &Path, list: Option<&PieceList>) -> Option<OsString> {
    match path.file_name() {
        Some(name) if has_list_name(name) => Some(list?.pieces.first()?.name.clone()),
        name => name.map(ToOwned::to_owned),
    }
}

fn line_of(list: &PieceList, number: u32, first: u32) -> Option<&Line> {
    list.pieces.get(number.checked_sub(first)? as usize)
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
        let lengths = self.pieces.files.values().flatten().filter_map(|path| path.metadata().ok());
        let all = lengths.map(|metadata| metadata.len()).sum::<u64>();
        self.context.tell(Progress::Begin(Phase::Reuniting, all));
        let (mut sum, mut check, mut damaged, mut lengths) =
            (Sha256::new(), blake3::Hasher::new(), Vec::new(), Vec::new());
        for number in expected.clone() {
            self.context.tell(Progress::Volume(number));
            let Some(path) = self.right_file(number)? else {
                damaged.push(number);
                continue;
            };
            // Where a piece is damaged the others are only looked at, so that all that are wrong are told.
            let writes = damaged.is_empty();
            let copied = self.copy(&path, |bytes, file| {
                sum.update(bytes);
                check.update(bytes);
                if writes { file.write(bytes) } else { Ok(()) }
            })?;
            lengths.push(copied.bytes);
            if self.line(number).is_some_and(|line| line.sum != copied.sum) {
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

    fn line(&self, number: u32) -> Option<&Line> {
        line_of(self.pieces.list.as_ref()?, number, self.pieces.first)
    }

    /// Of the files with this number the one that may be right: without a list the only one, else the only one of the right
    /// length, or of several the first whose content is right.
    fn right_file(&mut self, number: u32) -> Result<Option<PathBuf>, ReuniteError> {
        let mut files = self.pieces.files.get(&number).cloned().unwrap_or_default();
        let Some(line) = self.line(number).cloned() else {
            return if files.len() == 1 { Ok(files.pop()) } else { Err(ReuniteError::Ambiguous { number, files }) };
        };
        files.retain(|path| path.metadata().is_ok_and(|metadata| metadata.len() == line.bytes));
        if files.len() == 1 {
            return Ok(files.pop());
        }
        for path in files {
            if self.copy(&path, |_, _| Ok(()))?.sum == line.sum {
                return Ok(Some(path));
            }
        }
        Ok(None)
    }

    fn copy(
        &mut self,
        path: &Path,
        mut take: impl FnMut(&[u8], &mut NewFile) -> Result<(), FileError>,
    ) -> Result<Copied, ReuniteError> {
        let mut sum = Sha256::new();
        let bytes = read_through(path, self.context, |bytes| {
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
