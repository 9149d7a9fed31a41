//! Finding a volume set: from any of its volumes, under any file names, in any order.
//!
//! Names are never believed. Headers say which files belong together; a file whose header is damaged
//! is recognised by its cells, whose checks fit one number of one set only.

use super::cell;
use super::header::{Head, Header, HeaderError, Ids, VolumeKind};
use super::supplement::{PAGE_BYTES, Run, decode_page, offset_in};
use super::{CELL_BYTES, Geometry, HEADER_BYTES, cell_offset};
use crate::place::missing::missing;
use crate::place::{FileAction, FileError, Links, open_regular};
use std::collections::{BTreeMap, BTreeSet};
use std::ffi::OsString;
use std::fs::{self, File};
use std::io;
use std::os::unix::fs::{FileExt as _, MetadataExt as _};
use std::path::{Path, PathBuf};

/// How many of a volume's first cells are tried when its header is damaged.
const CELLS_TRIED: u32 = 4;

/// Sets of more volumes than this do not have their present volumes tried for a damaged copy.
const COPIES_TRIED: u32 = 1_000;

/// One file that holds a volume, or a copy of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct VolumeFile {
    /// Where it is.
    pub path: PathBuf,
    /// Its length in bytes.
    pub length: u64,
    /// Its header is damaged, and its cells told which volume it is.
    pub header_damaged: bool,
    /// Of a supplement, which cells it holds; `None` for a volume, which holds all of its own.
    pub runs: Option<Vec<Run>>,
}

impl VolumeFile {
    /// Where a cell of volume `number` begins in this file, in bytes; `None` where it is not in it.
    pub fn offset_of(&self, geometry: &Geometry, number: u32, index: u32) -> Option<u64> {
        match &self.runs {
            None => Some(cell_offset(index)),
            Some(runs) => offset_in(runs, geometry.first_cell(number) + u64::from(index)),
        }
    }
}

/// A set's volumes as far as they are here.
#[derive(Debug, Clone)]
pub struct VolumeSet {
    /// Set and cutting.
    pub ids: Ids,
    /// How the stream is cut.
    pub geometry: Geometry,
    /// How it is unlocked.
    pub head: Head,
    /// The data volumes by number, each with at least one file.
    pub volumes: BTreeMap<u32, Vec<VolumeFile>>,
    /// Files with damaged headers beside the set that could not be recognised by their cells either.
    pub unrecognised: Vec<PathBuf>,
}

/// A set that was found among others, for the choice.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SetSummary {
    /// Which one it is.
    pub ids: Ids,
    /// One of its files.
    pub example: PathBuf,
    /// How many of its volumes are here.
    pub here: usize,
    /// How many it has.
    pub count: u32,
}

/// Why no single set was found.
#[derive(Debug, thiserror::Error)]
pub enum GatherError {
    /// A named path does not exist.
    #[error("{} does not exist", path.display())]
    Missing {
        /// The absolute path that was tried.
        path: PathBuf,
        /// Names beside it that look alike.
        similar: Vec<OsString>,
    },
    /// A named file cannot be used as a volume.
    #[error("{}: {why}", path.display())]
    Unusable {
        /// The file.
        path: PathBuf,
        /// What is wrong with its header.
        why: HeaderError,
    },
    /// The named folders hold no volume.
    #[error("no volumes found")]
    NoVolumes(Vec<PathBuf>),
    /// Volumes of more than one set.
    #[error("volumes of several sets")]
    SeveralSets(Vec<SetSummary>),
    /// Two volumes of one set whose headers are undamaged and yet disagree.
    #[error("{} and {} contradict each other", .0.display(), .1.display())]
    Contradiction(PathBuf, PathBuf),
    /// Volumes are missing, and the job needs all of them.
    #[error("{} of {count} volumes are missing", missing.len())]
    Incomplete {
        /// The numbers that are missing.
        missing: Vec<u32>,
        /// How many volumes the set has.
        count: u32,
        /// Files beside it that may be some of them, but whose headers are damaged.
        unrecognised: Vec<PathBuf>,
    },
    /// The system refused to let a file or folder be read.
    #[error(transparent)]
    File(#[from] FileError),
}

impl VolumeSet {
    /// Finds the one set that the paths speak of. A volume stands for its whole set, sought in its
    /// folder; a folder stands for the set in it.
    ///
    /// # Errors
    /// [`GatherError`].
    pub fn gather(paths: &[PathBuf]) -> Result<Self, GatherError> {
        let found = Candidates::among(paths)?;
        let wanted = found.choose(paths)?;
        found.assemble(wanted)
    }

    /// The set of these ids among those that the paths speak of.
    ///
    /// # Errors
    /// [`GatherError`]; [`GatherError::NoVolumes`] where none of its volumes is there.
    pub fn gather_one(paths: &[PathBuf], wanted: Ids) -> Result<Self, GatherError> {
        Candidates::among(paths)?.assemble(wanted)
    }

    /// The set that these very files make up; nothing else is looked at.
    ///
    /// # Errors
    /// [`GatherError`].
    pub fn from_files(paths: &[PathBuf]) -> Result<Self, GatherError> {
        let mut found = Candidates::default();
        for path in paths {
            found.name(path)?;
        }
        let wanted = found.choose(paths)?;
        found.assemble(wanted)
    }

    /// The numbers of the data volumes that are not here.
    pub fn missing(&self) -> Vec<u32> {
        (1..=self.geometry.data_volumes).filter(|number| !self.volumes.contains_key(number)).collect()
    }

    /// This set, if no volume of it is missing.
    ///
    /// # Errors
    /// [`GatherError::Incomplete`].
    pub fn complete(self) -> Result<Self, GatherError> {
        let missing = self.missing();
        if missing.is_empty() {
            return Ok(self);
        }
        Err(GatherError::Incomplete { missing, count: self.geometry.data_volumes, unrecognised: self.unrecognised })
    }

    /// A supplement is a further copy of each volume that it holds cells of.
    fn supplement(&mut self, mut file: VolumeFile) {
        let Some(runs) = read_runs(&file.path, &self.ids, &self.geometry) else {
            self.unrecognised.push(file.path);
            return;
        };
        let mut numbers: Vec<u32> = runs
            .iter()
            .flat_map(|run| self.geometry.locate(run.first).0..=self.geometry.locate(run.end() - 1).0)
            .collect();
        numbers.dedup();
        file.runs = Some(runs);
        for number in numbers {
            self.volumes.entry(number).or_default().push(file.clone());
        }
    }

    /// A file of the set's first volume that is here.
    pub fn any_file(&self) -> Option<&VolumeFile> {
        self.volumes.values().flatten().next()
    }
}

fn unreachable_path(path: &Path, error: io::Error) -> GatherError {
    if error.kind() == io::ErrorKind::NotFound {
        let (path, similar) = missing(path);
        GatherError::Missing { path, similar }
    } else {
        FileError::on(FileAction::Open, path)(error).into()
    }
}

/// Everything that was looked at and is, or may be, a volume.
#[derive(Default)]
struct Candidates {
    seen: BTreeSet<(u64, u64)>,
    sets: BTreeMap<Ids, Vec<(Header, VolumeFile)>>,
    damaged: Vec<(VolumeFile, HeaderError)>,
    named_sets: BTreeSet<Ids>,
    /// For each folder that the user named, the sets in it.
    named_folders: Vec<BTreeSet<Ids>>,
    named_damaged: Option<(PathBuf, HeaderError)>,
}

enum Seen {
    Volume(Ids),
    Damaged(HeaderError),
    Other,
}

impl Candidates {
    /// Everything in these folders, and in those of these files.
    fn among(paths: &[PathBuf]) -> Result<Self, GatherError> {
        let mut found = Self::default();
        for path in paths {
            let metadata = fs::metadata(path).map_err(|error| unreachable_path(path, error))?;
            if metadata.is_dir() {
                let in_it = found.look_into(path)?;
                found.named_folders.push(in_it);
            } else {
                found.name(path)?;
                found.look_into(path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new(".")))?;
            }
        }
        Ok(found)
    }

    /// A file that the user named: it must be a volume.
    fn name(&mut self, path: &Path) -> Result<(), GatherError> {
        let unusable = |why| GatherError::Unusable { path: path.to_owned(), why };
        match self.look_at(path)? {
            Seen::Volume(ids) => {
                self.named_sets.insert(ids);
            }
            Seen::Damaged(why) => self.named_damaged = Some((path.to_owned(), why)),
            Seen::Other => return Err(unusable(HeaderError::NotAVolume)),
        }
        Ok(())
    }

    /// All files of a folder; what is no volume is passed over. The sets that have a volume there.
    fn look_into(&mut self, folder: &Path) -> Result<BTreeSet<Ids>, GatherError> {
        let listed = || FileError::on(FileAction::List, folder);
        let mut sets = BTreeSet::new();
        for entry in fs::read_dir(folder).map_err(listed())? {
            let entry = entry.map_err(listed())?;
            // A file that cannot be read is reported by its number's absence, or when it is named.
            if entry.file_type().is_ok_and(|kind| !kind.is_dir())
                && let Ok(Seen::Volume(ids)) = self.look_at(&entry.path())
            {
                sets.insert(ids);
            }
        }
        Ok(sets)
    }

    fn look_at(&mut self, path: &Path) -> Result<Seen, GatherError> {
        let (file, metadata) = open_regular(path, Links::Follow)?;
        let length = metadata.len();
        let header = read_header(&file);
        let first_time = self.seen.insert((metadata.dev(), metadata.ino()));
        let volume = |header_damaged| VolumeFile { path: path.to_owned(), length, header_damaged, runs: None };
        match header {
            Ok(header) => {
                let ids = header.ids;
                if first_time {
                    self.sets.entry(ids).or_default().push((header, volume(false)));
                }
                Ok(Seen::Volume(ids))
            }
            Err(HeaderError::NotAVolume) if !looks_like_a_volume(path) => Ok(Seen::Other),
            Err(why) => {
                if first_time {
                    self.damaged.push((volume(true), why));
                }
                Ok(Seen::Damaged(why))
            }
        }
    }

    fn choose(&self, paths: &[PathBuf]) -> Result<Ids, GatherError> {
        // A volume chooses among the sets of a folder; a folder with nothing of that set was meant for itself.
        let mut wanted =
            if self.named_sets.is_empty() { self.sets.keys().copied().collect() } else { self.named_sets.clone() };
        if let (1, Some(only)) = (wanted.len(), wanted.first().copied()) {
            wanted.extend(self.named_folders.iter().filter(|sets| !sets.contains(&only)).flatten());
        }
        let wanted: Vec<Ids> = wanted.into_iter().collect();
        match (wanted.as_slice(), &self.named_damaged) {
            ([only], _) => Ok(*only),
            ([], Some((path, why))) => Err(GatherError::Unusable { path: path.clone(), why: *why }),
            ([], None) => match self.damaged.first() {
                Some((file, why)) => Err(GatherError::Unusable { path: file.path.clone(), why: *why }),
                None => Err(GatherError::NoVolumes(paths.to_vec())),
            },
            (several, _) => {
                let mut found: Vec<SetSummary> = several.iter().filter_map(|ids| self.summary(*ids)).collect();
                found.sort_by(|one, other| one.example.cmp(&other.example));
                Err(GatherError::SeveralSets(found))
            }
        }
    }

    fn summary(&self, ids: Ids) -> Option<SetSummary> {
        let files = self.sets.get(&ids)?;
        let (header, example) = files.iter().min_by(|one, other| one.1.path.cmp(&other.1.path))?;
        let numbers: BTreeSet<u32> = files.iter().map(|(header, _)| header.number).collect();
        Some(SetSummary {
            ids,
            example: example.path.clone(),
            here: numbers.len(),
            count: header.geometry.data_volumes,
        })
    }

    fn assemble(mut self, ids: Ids) -> Result<VolumeSet, GatherError> {
        let mut files = self.sets.remove(&ids).unwrap_or_default().into_iter();
        let Some((first, first_file)) = files.next() else { return Err(GatherError::NoVolumes(Vec::new())) };
        let mut set = VolumeSet {
            ids,
            geometry: first.geometry,
            head: first.head.clone(),
            volumes: BTreeMap::new(),
            unrecognised: Vec::new(),
        };
        let first_path = first_file.path.clone();
        for (header, file) in std::iter::once((first, first_file)).chain(files) {
            if header.geometry != set.geometry || header.head != set.head {
                return Err(GatherError::Contradiction(first_path, file.path));
            }
            match header.kind {
                VolumeKind::Data => set.volumes.entry(header.number).or_default().push(file),
                VolumeKind::Supplement => set.supplement(file),
                VolumeKind::Spare => {}
            }
        }
        for (file, _) in self.damaged {
            match recognise(&set, &file) {
                Some(number) => set.volumes.entry(number).or_default().push(file),
                None => set.unrecognised.push(file.path),
            }
        }
        for copies in set.volumes.values_mut() {
            // A supplement holds little, and is asked last.
            let order = |file: &VolumeFile| (file.runs.is_some(), file.header_damaged, file.path.clone());
            copies.sort_by_key(order);
        }
        Ok(set)
    }
}

/// A file with our extension whose mark is gone is a damaged volume rather than a foreign file.
fn looks_like_a_volume(path: &Path) -> bool {
    path.extension().is_some_and(|extension| extension.eq_ignore_ascii_case("useal"))
}

/// The header of a file that is a volume; `None` for any other.
///
/// # Errors
/// [`FileError`] from the system.
pub fn header_of(path: &Path) -> Result<Option<Header>, FileError> {
    let (file, _) = open_regular(path, Links::Follow)?;
    Ok(read_header(&file).ok())
}

/// A header that a bad disc does not give back is damaged too; its cells may still tell.
fn read_header(file: &File) -> Result<Header, HeaderError> {
    let mut bytes = [0; HEADER_BYTES];
    // What a short file lacks stays zero, and fails the check.
    read_up_to(file, &mut bytes, 0).map_err(|_| HeaderError::Damaged)?;
    Header::decode(&bytes)
}

/// Which cells a supplement holds.
fn read_runs(path: &Path, ids: &Ids, geometry: &Geometry) -> Option<Vec<Run>> {
    let (file, metadata) = open_regular(path, Links::Follow).ok()?;
    let mut page = [0; PAGE_BYTES];
    read_up_to(&file, &mut page, HEADER_BYTES as u64).ok()?;
    let runs = decode_page(ids, geometry, &page)?;
    // What is claimed counts as far as the file can hold it.
    let mut room = metadata.len().saturating_sub((HEADER_BYTES + PAGE_BYTES) as u64).div_ceil(CELL_BYTES as u64);
    let held = runs.into_iter().map_while(|run| {
        let count = run.count.min(u32::try_from(room).unwrap_or(u32::MAX));
        room -= u64::from(count);
        (count > 0).then_some(Run { count, ..run })
    });
    Some(held.collect::<Vec<_>>()).filter(|runs| !runs.is_empty())
}

/// Reads until the buffer is full or the file ends; how many bytes.
fn read_up_to(file: &File, buffer: &mut [u8], offset: u64) -> io::Result<usize> {
    let mut filled = 0;
    while filled < buffer.len() {
        match file.read_at(&mut buffer[filled..], offset + filled as u64) {
            Ok(0) => break,
            Ok(count) => filled += count,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
    Ok(filled)
}

/// Which volume a file with a damaged header is, told by the checks of its first cells: one that is absent, or, in
/// sets that are not very large, another copy of one that is here.
fn recognise(set: &VolumeSet, file: &VolumeFile) -> Option<u32> {
    let (open, _) = open_regular(&file.path, Links::Follow).ok()?;
    let mut numbers = set.missing();
    if set.geometry.data_volumes <= COPIES_TRIED {
        numbers.extend(set.volumes.keys());
    }
    let mut buffer = vec![0; CELL_BYTES];
    for index in 0..CELLS_TRIED.min(set.geometry.cells_per_volume) {
        let Ok(filled) = read_up_to(&open, &mut buffer, cell_offset(index)) else { continue };
        for &number in numbers.iter().filter(|number| index < set.geometry.cells_in(**number)) {
            let length = set.geometry.cell_bytes(set.geometry.first_cell(number) + u64::from(index));
            let Some(bytes) = buffer[..filled].get(..length) else { continue };
            if cell::is_intact(&set.ids, VolumeKind::Data, number, index, bytes) {
                return Some(number);
            }
        }
    }
    None
}
