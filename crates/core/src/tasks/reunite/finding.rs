//! Finding pieces: from any one of them, from their list, from the folder that they are in, or in messages that they are attached to.

use crate::disk::missing::missing;
use crate::disk::names::name_of;
use crate::disk::numbered::Row;
use crate::disk::{
    FileError, Folder, Interruption, Links, Sha256Sum, absolute, folder_of, interruptible, open_regular, sum_on,
};
use crate::formats::messages::attached::is_of_messages;
use crate::formats::messages::mailboxes::{Holdings, files_in};
use crate::formats::spot::Spot;
use crate::formats::zip::is_part_suffix;
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::context::Context;
use crate::tasks::portion::list::{Line, MAX_LIST_BYTES, PieceList, SUFFIX};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::ffi::{OsStr, OsString};
use std::io::Read as _;
use std::path::{Path, PathBuf};

/// Names are compared with each other, so no more than this of what is attached to messages is looked among.
const MOST_ATTACHED: usize = 5_000;

/// Where nothing says how many pieces there are, so many numbers may lack for each that is here.
const LACKING_A_PIECE: u32 = 16;

/// Pieces that were found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pieces {
    /// Where each number from [`Pieces::first`] on lies; of one number there may be several files.
    pub files: BTreeMap<u32, Vec<Spot>>,
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
    /// This folder, or these messages, hold no pieces.
    #[error("there are no pieces in {}", .0.display())]
    NoneIn(PathBuf),
    /// This is a part of a ZIP archive in parts, which is read as it is: joined in the order of their numbers they would be none.
    #[error("{} is a part of a ZIP archive", .0.display())]
    PartOfZip(PathBuf),
    /// Pieces of several files are there: one of each.
    #[error("{} files are in pieces", .0.len())]
    Several(Vec<Spot>),
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

impl Pieces {
    /// Finds all pieces from any of them, from their list, or from the folder that they are in. Each is sought in its own folder;
    /// where there is a list, those that have another name now are known by their content. In the messages of a folder, or of a file
    /// that was named, pieces are sought too where others are missing.
    pub fn find(typed: &[PathBuf], context: &Context<'_>) -> Result<Self, PiecesError> {
        if let Some(absent) = typed.iter().find(|path| !path.exists()) {
            let (path, similar) = missing(absent);
            return Err(PiecesError::Absent { path, similar });
        }
        for path in typed.iter().filter(|path| !path.is_dir()) {
            open_regular(path, Links::Follow)?;
        }
        let files = files_around(typed)?;
        // Of what a message is called nothing is said: drafts are numbered too.
        let names_messages = typed.iter().any(|path| !path.is_dir() && is_of_messages(path));
        let among_files = if names_messages { None } else { Some(Self::among(typed, &files, context)) };
        match among_files {
            Some(Ok(pieces)) if pieces.missing().is_empty() => return Ok(pieces),
            Some(outcome) if !typed.iter().any(|path| path.is_dir()) => return outcome,
            _ => {}
        }
        let Holdings { mut named, mut beside, .. } = Holdings::of(typed, &|_, name| name.is_some(), context)?;
        named.truncate(MOST_ATTACHED);
        beside.truncate(MOST_ATTACHED);
        let found = Self::among(typed, &[files, named, beside].concat(), context);
        found.or_else(|error| among_files.and_then(Result::ok).ok_or(error))
    }

    fn among(typed: &[PathBuf], pool: &[Spot], context: &Context<'_>) -> Result<Self, PiecesError> {
        let seeds = typed.iter().map(|path| match one_in(path, pool) {
            // A piece may begin like a message.
            Err(PiecesError::NoneIn(_)) if !path.is_dir() => Ok(Spot::from(path)),
            found => found,
        });
        let seeds: Vec<Spot> = seeds.collect::<Result<_, _>>()?;
        let Some(first) = seeds.first() else { return Err(PiecesError::NoneIn(PathBuf::new())) };
        let Lists { list, damaged } = Lists::find(first, pool);
        if damaged.iter().any(|damaged| is_same(damaged, first)) {
            return Err(PiecesError::DamagedList(first.path.clone()));
        }
        let among: Vec<OsString> = pool.iter().filter_map(|spot| Some(spot.own_name()?.to_owned())).collect();
        let row = seed(first, list.as_ref()).and_then(|seed| Row::of(&seed, &among));
        let row = row.filter(|row| row.names.len() > 1 || row.count.is_some() || list.is_some());
        // Messages are numbered too, and so are the pieces of a mailbox that was cut; those have their numbers at the end.
        let is_message = first.attached.is_none() && is_of_messages(&first.path);
        let row = row.filter(|row| !is_message || row.is_at_the_end() || list.is_some());
        let row = row.ok_or_else(|| match is_message {
            true => PiecesError::NoneIn(first.path.clone()),
            false => PiecesError::NotNumbered(first.path.clone()),
        })?;
        if is_part_of_zip(first, pool) {
            return Err(PiecesError::PartOfZip(first.path.clone()));
        }
        let is_of = |spot: &&Spot| {
            let name = spot.own_name().unwrap_or_default();
            row.pattern.number_in(name).is_some() || has_list_name(name)
        };
        if let Some(other) = seeds.iter().find(|spot| !is_of(spot)) {
            return Err(PiecesError::OfAnother(other.path.clone()));
        }
        let mut files: BTreeMap<u32, Vec<Spot>> = BTreeMap::new();
        for spot in pool {
            if let Some(number) = spot.own_name().and_then(|name| row.pattern.number_in(name)) {
                files.entry(number).or_default().push(spot.clone());
            }
        }
        // A year or a date is a number too, and counts nothing.
        let highest = files.last_key_value().map_or(0, |(number, _)| *number);
        let counts = row.count.is_some() || list.is_some() || highest / LACKING_A_PIECE <= files.len() as u32;
        if !counts {
            return Err(PiecesError::NotNumbered(first.path.clone()));
        }
        let whole = row.pattern.whole_name();
        let count = list.as_ref().and_then(|list| u32::try_from(list.pieces.len()).ok()).or(row.count);
        let name = list.as_ref().map(|list| list.whole.name.clone()).or_else(|| whole.clone());
        let is_theirs = |spot: &Spot| spot.own_name().and_then(whole_of_list) == whole;
        let damaged_list = damaged.into_iter().find(is_theirs).map(|spot| spot.path);
        let mut pieces = Self { files, first: row.first(), count, list, damaged_list, name };
        pieces.find_renamed(pool, context)?;
        Ok(pieces)
    }

    /// Looks for missing pieces among everything, by length and SHA-256.
    fn find_renamed(&mut self, pool: &[Spot], context: &Context<'_>) -> Result<(), PiecesError> {
        let (Some(list), missing) = (&self.list, self.missing()) else { return Ok(()) };
        if missing.is_empty() {
            return Ok(());
        }
        // A list may name very many, and there may be very much to look among: each is opened, and read, once.
        let mut by_length: HashMap<u64, Vec<&Spot>> = HashMap::new();
        for spot in pool {
            if let Ok(bytes) = spot.length() {
                by_length.entry(bytes).or_default().push(spot);
            }
        }
        let mut sums: HashMap<u64, HashMap<Sha256Sum, &Spot>> = HashMap::new();
        for number in missing {
            let Some(line) = line_of(list, number, self.first) else { continue };
            if let Some(spots) = by_length.remove(&line.bytes) {
                let of_length = sums.entry(line.bytes).or_default();
                for spot in spots {
                    of_length.entry(sum_of(spot, context)?).or_insert(spot);
                }
            }
            if let Some(spot) = sums.get(&line.bytes).and_then(|sums| sums.get(&line.sum)) {
                self.files.entry(number).or_default().push((*spot).clone());
            }
        }
        Ok(())
    }

    /// The numbers that must be there.
    pub(super) fn expected(&self) -> std::ops::RangeInclusive<u32> {
        let last = self.files.keys().next_back().copied().unwrap_or(self.first);
        let last = self.count.map_or(last, |count| (self.first + count).saturating_sub(1));
        self.first..=last
    }

    /// Numbers of which every file is shorter than the list says: it may still grow.
    pub fn short(&self) -> Vec<u32> {
        let wanted = |number: u32| self.line(number).map(|line| line.bytes);
        let is_short = |(number, files): &(&u32, &Vec<Spot>)| {
            wanted(**number).is_some_and(|bytes| files.iter().all(|file| file.length().unwrap_or(0) < bytes))
        };
        self.files.iter().filter(is_short).map(|(number, _)| *number).collect()
    }

    /// Numbers of which no file was found.
    pub fn missing(&self) -> Vec<u32> {
        self.expected().filter(|number| !self.files.contains_key(number)).collect()
    }

    /// What the list says of a piece.
    pub(super) fn line(&self, number: u32) -> Option<&Line> {
        line_of(self.list.as_ref()?, number, self.first)
    }
}

/// The files of the folders that were typed, and of those that files which were typed lie in.
fn files_around(typed: &[PathBuf]) -> Result<Vec<Spot>, FileError> {
    let folder = |path: &PathBuf| if path.is_dir() { path.clone() } else { folder_of(&absolute(path)).to_owned() };
    let folders: BTreeSet<PathBuf> = typed.iter().map(folder).collect();
    let mut spots = Vec::new();
    for folder in &folders {
        // One that cannot be listed is told.
        Folder::open(folder)?;
        spots.extend(files_in(folder).into_iter().map(Spot::from));
    }
    Ok(spots)
}

/// A piece, or the list, of the only file that is in pieces in a folder, or attached to messages.
fn one_in(place: &Path, pool: &[Spot]) -> Result<Spot, PiecesError> {
    let lies_in = |spot: &&Spot| match place.is_dir() {
        true => spot.path.starts_with(place),
        false => spot.attached.is_some() && spot.path == place,
    };
    let inside: Vec<&Spot> = pool.iter().filter(lies_in).collect();
    let name = |spot: &Spot| spot.own_name().unwrap_or_default().to_owned();
    let named = |wanted: &OsString| inside.iter().find(|spot| name(spot) == *wanted).map(|spot| (*spot).clone());
    let names: Vec<OsString> = inside.iter().map(|spot| name(spot)).collect();
    let lists: Vec<Spot> = names.iter().filter(|name| has_list_name(name)).filter_map(named).collect();
    let rows = || Row::all_at_the_end(&names).into_iter().filter_map(|row| row.names.into_values().flatten().next());
    let mut found = if lists.is_empty() { rows().filter_map(|name| named(&name)).collect() } else { lists };
    match found.len() {
        0 => Err(PiecesError::NoneIn(place.to_owned())),
        1 => Ok(found.remove(0)),
        _ => Err(PiecesError::Several(found)),
    }
}

/// Whether the last part is there of an archive that this is a part of by its name.
fn is_part_of_zip(spot: &Spot, pool: &[Spot]) -> bool {
    let name = Path::new(spot.own_name().unwrap_or_default());
    let is_part = name.extension().and_then(OsStr::to_str).is_some_and(|end| is_part_suffix(&format!(".{end}")));
    let last = name.with_extension("zip");
    is_part && pool.iter().any(|other| other.own_name() == Some(last.as_os_str()))
}

fn has_list_name(name: &OsStr) -> bool {
    whole_of_list(name).is_some()
}

/// What the whole file is called that a list of this name speaks of.
fn whole_of_list(name: &OsStr) -> Option<OsString> {
    name.as_encoded_bytes().strip_suffix(SUFFIX.as_bytes()).map(name_of)
}

fn is_same(one: &Spot, other: &Spot) -> bool {
    absolute(&one.path) == absolute(&other.path) && one.attached == other.attached
}

/// The lists beside a piece.
struct Lists {
    /// That which names the piece, or which it is.
    list: Option<PieceList>,
    /// Where there is none: those that say nothing any more.
    damaged: Vec<Spot>,
}

impl Lists {
    fn find(first: &Spot, pool: &[Spot]) -> Self {
        let own = first.own_name();
        let mut found = Self { list: None, damaged: Vec::new() };
        for spot in pool.iter().filter(|spot| spot.own_name().is_some_and(has_list_name)) {
            let speaks_of_it =
                |list: &PieceList| own == spot.own_name() || list.pieces.iter().any(|piece| own == Some(&piece.name));
            match read_list(spot) {
                None => found.damaged.push(spot.clone()),
                Some(list) if speaks_of_it(&list) => return Self { list: Some(list), damaged: Vec::new() },
                Some(_) => {}
            }
        }
        found
    }
}

fn read_list(spot: &Spot) -> Option<PieceList> {
    let file = spot.open().ok()?;
    let length = file.length();
    let mut text = String::new();
    file.into_reader().take(MAX_LIST_BYTES).read_to_string(&mut text).ok()?;
    PieceList::read(&text).filter(|_| length <= MAX_LIST_BYTES)
}

/// The name from which the others are known: the piece's own, or, of a list, the first that it names.
fn seed(spot: &Spot, list: Option<&PieceList>) -> Option<OsString> {
    match spot.own_name() {
        Some(name) if has_list_name(name) => Some(list?.pieces.first()?.name.clone()),
        name => name.map(ToOwned::to_owned),
    }
}

fn line_of(list: &PieceList, number: u32, first: u32) -> Option<&Line> {
    list.pieces.get(number.checked_sub(first)? as usize)
}

fn sum_of(spot: &Spot, context: &Context<'_>) -> Result<Sha256Sum, Interruption> {
    sum_on(spot.open()?.into_reader(), &spot.path, context)
}
