//! Finding a volume set: from any of its volumes, under any file names, in any order.
//!
//! What was found is told here; [`super::gathering`] finds it.

use super::header::{Bound, Head, Header, HeaderError, Ids, VolumeKind};
use super::in_page::{InPage, VolumeBytes, was_moved_as_text};
use super::spares::{Groups, Shortfall, cells_in_spare};
use super::supplement::{PAGE_BYTES, Run, decode_page, offset_in, within};
use super::{Cutting, Geometry, HEADER_BYTES, names};
use crate::disk::names::name_of;
use crate::disk::{FileError, Interruption, interruptible};
use crate::formats::messages::structure::FlawedMessage;
use crate::formats::spot::Spot;
use crate::ground::class::{Classed, ErrorClass};
use std::collections::BTreeMap;
use std::ffi::OsString;
use std::fmt::Debug;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// One file that holds a volume, or a copy of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct VolumeFile {
    /// Where it is.
    pub spot: Spot,
    /// Bytes of the volume in it.
    pub length: u64,
    /// Where the volume is in a page, if it is in one.
    pub in_page: Option<InPage>,
    /// Its header is damaged, and its cells told which volume it is.
    pub header_damaged: bool,
    /// Of a supplement, which cells it holds; `None` for a volume, which holds all of its own.
    pub runs: Option<Vec<Run>>,
}

impl VolumeFile {
    /// A file that holds a whole volume of so many bytes, and nothing else.
    pub fn whole(path: &Path, length: u64) -> Self {
        Self { spot: path.into(), length, in_page: None, header_damaged: false, runs: None }
    }

    /// Bytes of a file that holds nothing but a whole volume of so many, in the way in which this one does.
    pub fn file_bytes(&self, volume_bytes: u64) -> u64 {
        self.in_page.map_or(volume_bytes, |inside| inside.file_bytes())
    }

    /// What follows the archive's name in the name of such a file.
    pub fn suffix(&self, number: u32, count: u32) -> String {
        if self.in_page.is_some() { names::PAGE_EXTENSION.to_owned() } else { names::suffix(number, count) }
    }

    /// Opens it for reading the volume.
    ///
    /// # Errors
    /// [`FileError`] where the file cannot be opened.
    pub fn open(&self) -> Result<VolumeBytes, FileError> {
        VolumeBytes::open(&self.spot)
    }

    /// The archive's name, if this file has the name that it was written under as volume `number` of `count`.
    pub fn archive_name(&self, number: u32, count: u32) -> Option<OsString> {
        let stem = self.spot.own_name()?.as_encoded_bytes().strip_suffix(self.suffix(number, count).as_bytes())?;
        Some(name_of(stem))
    }

    /// The archive's name, if this file has the name that spare volumes of this number are written under.
    pub fn spare_archive_name(&self, number: u32) -> Option<OsString> {
        let (stem, named) = names::spare_parts(self.spot.own_name()?)?;
        (named == number).then_some(stem)
    }

    /// Where what stands behind a volume's header begins in this file, in bytes.
    pub fn cells_at(&self) -> u64 {
        self.in_page.map_or(HEADER_BYTES as u64, |inside| inside.place_of(HEADER_BYTES as u64))
    }

    /// Where a cell of volume `number` begins in the volume that this file holds, in bytes; `None` where it is not in it. A spare volume
    /// has no runs.
    pub fn offset_of(&self, geometry: &Geometry, number: u32, index: u32) -> Option<u64> {
        match &self.runs {
            None => Some(geometry.cell_length.offset_of(index)),
            Some(runs) => offset_in(runs, geometry.first_cell(number) + u64::from(index), geometry.cell_length),
        }
    }

    /// How many cells at most begin within this file, where it is no supplement.
    fn room(&self, geometry: &Geometry) -> u64 {
        self.length.saturating_sub(HEADER_BYTES as u64).div_ceil(geometry.cell_length.bytes() as u64)
    }

    /// How many cells of a spare volume begin within this file.
    pub fn held_of_spare(&self, geometry: &Geometry) -> u32 {
        u32::try_from(self.room(geometry)).unwrap_or(u32::MAX).min(cells_in_spare(geometry))
    }

    /// The cells of data volume `number` that begin within this file, in order.
    pub fn held(&self, geometry: &Geometry, number: u32) -> Vec<Run> {
        let all = Run::of_volume(geometry, number);
        let (first, end) = (all.first, all.end());
        match &self.runs {
            None => {
                let room = self.room(geometry);
                Run::between(first, end.min(first.saturating_add(room))).into_iter().collect()
            }
            Some(runs) => {
                runs.iter().filter_map(|run| Run::between(run.first.max(first), run.end().min(end))).collect()
            }
        }
    }
}

/// Tells a cell that was sealed from one that was forged. Volumes know no key: whoever has it hands this in.
pub trait SealJudge: Debug + Send + Sync {
    /// Whether these bytes, without their check, are what was sealed as this cell of the stream.
    fn is_genuine(&self, cell: u64, is_last: bool, sealed: &[u8]) -> bool;
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
    /// The spare volumes by number, each with at least one file.
    pub spares: BTreeMap<u32, Vec<VolumeFile>>,
    /// Spare volumes beside it that are of another set or another cutting, and of no use.
    pub foreign_spares: Vec<PathBuf>,
    /// Files whose headers contradict those of the others, so that they are not believed.
    pub contradicting: Vec<PathBuf>,
    /// Files with damaged headers beside the set that could not be recognised by their cells either.
    pub unrecognised: Vec<PathBuf>,
    /// Files with damaged headers that were not compared with every volume, since that would have taken too much work.
    pub untried: Vec<PathBuf>,
    /// Messages in which something was not looked for, and in which file.
    pub flawed_messages: Vec<(PathBuf, FlawedMessage)>,
    /// The same set as headers describe it that contradict these; the password tells which is genuine.
    pub rivals: Vec<VolumeSet>,
    /// Where the set is unlocked: whatever reads its cells takes those that are forged for damaged ones.
    pub judge: Option<Arc<dyn SealJudge>>,
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
        /// Folders beside it in which packing under such a name is at work, or was interrupted.
        unfinished: Vec<PathBuf>,
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
    NoVolumes {
        /// The folders.
        places: Vec<PathBuf>,
        /// Folders in them in which packing is at work, or was interrupted.
        unfinished: Vec<PathBuf>,
    },
    /// Volumes of more than one set.
    #[error("volumes of several sets")]
    SeveralSets(Vec<SetSummary>),
    /// Volumes are missing, and the job needs all of them.
    #[error("{} of {count} volumes are missing", missing.len())]
    Incomplete {
        /// The numbers that are missing.
        missing: Vec<u32>,
        /// How many volumes the set has.
        count: u32,
        /// So many spare volumes are here, which are too few.
        spares: u32,
        /// What would be enough.
        shortfalls: Vec<Shortfall>,
        /// Files beside it that may be some of them, but whose headers are damaged.
        unrecognised: Vec<PathBuf>,
    },
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(GatherError);

impl Classed for GatherError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::Unusable {
                why: HeaderError::NotAVolume | HeaderError::UnknownVersion(_) | HeaderError::UnpublishedDraft,
                ..
            }
            | Self::Missing { .. }
            | Self::NoVolumes { .. }
            | Self::SeveralSets(_) => ErrorClass::Usage,
            Self::Unusable { .. } => ErrorClass::Damaged,
            Self::Incomplete { .. } => ErrorClass::VolumesMissing,
        }
    }
}

impl VolumeSet {
    /// What its cells and its head are bound to.
    pub const fn bound(&self) -> Bound {
        Bound { set: self.ids.set, cell_length: self.geometry.cell_length }
    }

    /// Whether nothing was found beside its volumes of which it is not known whether it belongs to it.
    pub const fn is_certain(&self) -> bool {
        self.unrecognised.is_empty() && self.untried.is_empty() && self.contradicting.is_empty()
    }

    /// This set, of which cells that this judge does not take count as damaged.
    pub fn judged_by(self, judge: Arc<dyn SealJudge>) -> Self {
        Self { judge: Some(judge), ..self }
    }

    /// How its cells are cut.
    pub const fn cutting(&self) -> Cutting {
        let Geometry { cells_per_volume, cell_length, .. } = self.geometry;
        Cutting { ids: self.ids, cells_per_volume, cell_length }
    }

    /// All that holds a volume of it, the data volumes first.
    pub fn files(&self) -> impl Iterator<Item = &VolumeFile> {
        self.volumes.values().chain(self.spares.values()).flatten()
    }

    /// Where all of it lies.
    pub fn spots(&self) -> Vec<Spot> {
        self.files().map(|file| file.spot.clone()).collect()
    }

    /// All files of it.
    pub fn paths(&self) -> Vec<PathBuf> {
        self.files().map(|file| file.spot.path.clone()).collect()
    }

    /// The files of one volume; none where it is not here.
    pub fn copies_of(&self, kind: VolumeKind, number: u32) -> &[VolumeFile] {
        let all = if kind == VolumeKind::Spare { &self.spares } else { &self.volumes };
        all.get(&number).map(Vec::as_slice).unwrap_or_default()
    }

    /// How many spare volumes there are, as far as is known here: with those that were added later, if one of them or of those behind
    /// it is here.
    pub fn spare_count(&self) -> u32 {
        self.spares.last_key_value().map_or(0, |(last, _)| *last).max(self.geometry.spare_volumes)
    }

    /// How the data volumes are grouped, which spare volumes make good.
    pub const fn groups(&self) -> Groups {
        Groups::of(self.geometry.data_volumes)
    }

    /// The numbers of the data volumes that are not here.
    pub fn missing(&self) -> Vec<u32> {
        (1..=self.geometry.data_volumes).filter(|number| !self.volumes.contains_key(number)).collect()
    }

    /// Which volumes are needed so that the spare volumes that are here make good the rest.
    pub fn shortfalls(&self) -> Vec<Shortfall> {
        self.groups().shortfalls(self.missing(), self.spares.keys().copied())
    }

    /// This set, if no volume of it is missing that its spare volumes cannot make good.
    pub fn complete(self) -> Result<Self, GatherError> {
        let shortfalls = self.shortfalls();
        if shortfalls.is_empty() {
            return Ok(self);
        }
        let (missing, count) = (self.missing(), self.geometry.data_volumes);
        let spares = u32::try_from(self.spares.len()).unwrap_or(u32::MAX);
        Err(GatherError::Incomplete { missing, count, spares, shortfalls, unrecognised: self.unrecognised })
    }

    /// A supplement is a further copy of each volume that it holds cells of.
    pub(super) fn supplement(&mut self, mut file: VolumeFile) {
        let Some(runs) = read_runs(&file, &self.ids, &self.geometry) else {
            self.unrecognised.push(file.spot.path);
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

    /// The best copies first. A supplement holds little, and is asked last.
    pub(super) fn sort_copies(&mut self) {
        for copies in self.volumes.values_mut().chain(self.spares.values_mut()) {
            copies.sort_by_key(|file| {
                let place = file.spot.attached.as_ref().map(|attached| attached.begins_at());
                (file.runs.is_some(), file.header_damaged, file.spot.path.clone(), place)
            });
        }
    }

    /// Whether it is one volume, which is in a page.
    pub fn is_in_page(&self) -> bool {
        self.any_file().is_some_and(|file| file.in_page.is_some())
    }

    /// A file of the set's first volume that is here.
    pub fn any_file(&self) -> Option<&VolumeFile> {
        self.files().next()
    }
}

/// The header of a file that is a volume; `None` for any other.
pub fn header_of(path: &Path) -> Result<Option<Header>, FileError> {
    let file = VolumeBytes::open(&path.into())?;
    Ok(read_header(&file).ok())
}

/// A header that a bad disc does not give back is damaged too; its cells may still tell.
pub(super) fn read_header(file: &VolumeBytes) -> Result<Header, HeaderError> {
    let mut bytes = [0; HEADER_BYTES];
    // What a short file lacks stays zero, and fails the check.
    file.read_up_to(&mut bytes, 0).map_err(|_| HeaderError::Damaged)?;
    match Header::decode(&bytes) {
        Err(HeaderError::NotAVolume) if was_moved_as_text(&bytes) => Err(HeaderError::MovedAsText),
        // A page says that there is one.
        Err(HeaderError::NotAVolume) if file.in_page.is_some() => Err(HeaderError::Damaged),
        header => header,
    }
}

/// Which cells a supplement holds.
fn read_runs(file: &VolumeFile, ids: &Ids, geometry: &Geometry) -> Option<Vec<Run>> {
    let file = file.open().ok()?;
    let mut page = [0; PAGE_BYTES];
    file.read_up_to(&mut page, HEADER_BYTES as u64).ok()?;
    let runs = decode_page(ids, geometry, &page)?;
    // What is claimed counts as far as the file can hold it.
    let behind_page = file.length.saturating_sub((HEADER_BYTES + PAGE_BYTES) as u64);
    let held = within(runs, behind_page.div_ceil(geometry.cell_length.bytes() as u64));
    Some(held).filter(|runs| !runs.is_empty())
}
