//! Mending: volumes that are missing or damaged are written again out of those that are here and the spare ones, byte by byte as they were;
//! and spare volumes are added to a set that was made without, or with fewer. No password is needed, unless volumes and spare volumes
//! contradict each other: then somebody changed one or the other on purpose, and only the seals tell which. Without a judge nothing is
//! written then, since it would take one side's place.
//!
//! Nothing that is there is changed or replaced. All new volumes are complete, read back and on the disk before any of them has its name.

use crate::disk::staging::{Placing, Staging, StagingError, settle};
use crate::disk::{Folder, Interruption, NewFile, interruptible};
use crate::formats::sealed::volume::header::Header;
use crate::formats::sealed::volume::names::{spare_suffix, suffix};
use crate::formats::sealed::volume::spares::making::{SpareError, make_spares, prove_files};
use crate::formats::sealed::volume::spares::spare_bytes;
use crate::formats::sealed::volume::{CellError, CellReader, VolumeFile, VolumeKind, VolumeSet};
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::context::{Context, Phase, Progress};
use crate::ground::pipeline::ordered;
use crate::tasks::check::{SetReport, VolumeReport, VolumeState};
use crate::tasks::pack::Target;
use std::path::PathBuf;

/// A volume that was written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MendedVolume {
    /// Data or spare.
    pub kind: VolumeKind,
    /// From 1.
    pub number: u32,
    /// Where it is.
    pub path: PathBuf,
    /// Its length in bytes.
    pub bytes: u64,
}

/// Why nothing was written.
#[derive(Debug, thiserror::Error)]
pub enum MendError {
    /// Headers contradict each other, and only the password can tell which of them are right.
    #[error("headers contradict each other")]
    Contradicting(Vec<PathBuf>),
    /// Volumes and spare volumes contradict each other, and only the password can tell which are right.
    #[error("volumes and spare volumes contradict each other")]
    Disputed,
    /// More is lost than the spare volumes make good.
    #[error("the spare volumes are too few")]
    TooFew,
    /// A file of a name that is needed is there.
    #[error("{} is there", .0.display())]
    Taken(PathBuf),
    /// No more spare volumes can be added.
    #[error("a set of so many volumes has at most {0} spare volumes")]
    TooManySpares(u32),
    /// The staging folder cannot be used.
    #[error(transparent)]
    Staging(#[from] StagingError),
    /// A cell cannot be had.
    #[error(transparent)]
    Cell(#[from] CellError),
    /// A spare volume cannot be made.
    #[error(transparent)]
    Spares(#[from] SpareError),
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(MendError);

impl Classed for MendError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::Cell(error) => error.class(),
            Self::Spares(error) => error.class(),
            Self::Staging(error) => error.class(),
            Self::TooFew => ErrorClass::VolumesMissing,
            Self::Taken(_) | Self::TooManySpares(_) => ErrorClass::Usage,
            Self::Contradicting(_) | Self::Disputed => ErrorClass::Damaged,
        }
    }
}

/// What is written, and under which names.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Wanted {
    /// Numbers, and what follows the archive's name in their names.
    data: Vec<(u32, String)>,
    spares: Vec<(u32, String)>,
    /// Numbers of spare volumes that are not here and that nobody asked for.
    left: Vec<u32>,
}

impl Wanted {
    /// What is missing or damaged of a set; nothing where nothing is. Of spare volumes what is here and damaged, and at most
    /// `missing_spares` of those that are not here: how many there are says a header, which anybody can have written.
    ///
    /// # Errors
    /// [`MendError::TooFew`] where not all of it can be recreated, [`MendError::Disputed`] or [`MendError::Contradicting`] where the
    /// password is needed for that.
    pub fn lost(set: &VolumeSet, found: &SetReport, missing_spares: u32) -> Result<Self, MendError> {
        undisputed(set, found)?;
        if !found.beyond.cells.is_empty() {
            return Err(MendError::TooFew);
        }
        let is_lost = |volume: &&VolumeReport| volume.state != VolumeState::Intact;
        let numbers = |volumes: &[VolumeReport]| volumes.iter().filter(is_lost).map(|volume| volume.number).collect();
        let (data, mut spares): (Vec<u32>, Vec<u32>) = (numbers(&found.volumes), numbers(&found.spares));
        spares.extend(&found.not_fitting);
        spares.sort_unstable();
        let (mut spares, mut missing): (Vec<u32>, Vec<u32>) =
            spares.into_iter().partition(|number| set.spares.contains_key(number));
        let left = missing.split_off(missing.len().min(missing_spares as usize));
        spares.extend(missing);
        spares.sort_unstable();
        Ok(Self {
            left,
            data: data.into_iter().map(|number| (number, suffix(number, set.geometry.data_volumes))).collect(),
            spares: spares.into_iter().map(|number| (number, spare_suffix(number, set.spare_count()))).collect(),
        })
    }

    /// So many spare volumes more than there are.
    ///
    /// # Errors
    /// [`MendError::TooManySpares`]; [`MendError::Disputed`] or [`MendError::Contradicting`] where nobody knows out of what they would be
    /// made.
    pub fn added_spares(set: &VolumeSet, found: &SetReport, more: u32) -> Result<Self, MendError> {
        undisputed(set, found)?;
        let (there, most) = (set.spare_count(), set.groups().most_spares());
        let count = there.checked_add(more).filter(|count| *count <= most).ok_or(MendError::TooManySpares(most))?;
        let named = |number| (number, spare_suffix(number, count));
        Ok(Self { spares: (there + 1..=count).map(named).collect(), ..Self::default() })
    }

    /// Whether it is nothing.
    pub fn is_nothing(&self) -> bool {
        self.data.is_empty() && self.spares.is_empty()
    }

    /// Spare volumes that are not here and are not made.
    pub fn left(&self) -> &[u32] {
        &self.left
    }

    /// Data and spare volumes, by their numbers.
    pub fn numbers(&self) -> (Vec<u32>, Vec<u32>) {
        let numbers = |named: &[(u32, String)]| named.iter().map(|(number, _)| *number).collect();
        (numbers(&self.data), numbers(&self.spares))
    }
}

/// Whether nothing contradicts anything, or seals have been judged.
fn undisputed(set: &VolumeSet, found: &SetReport) -> Result<(), MendError> {
    match () {
        () if !found.seals_judged && !set.rivals.is_empty() => Err(MendError::Contradicting(set.contradicting.clone())),
        () if found.is_contradictory() => Err(MendError::Disputed),
        () => Ok(()),
    }
}

/// Writes these volumes into a folder; files there are never replaced. All of them get their names, or none does.
///
/// # Errors
/// [`MendError`].
pub fn mend(
    set: &VolumeSet,
    wanted: &Wanted,
    target: &Target,
    context: &Context<'_>,
) -> Result<Vec<MendedVolume>, MendError> {
    let folder = Folder::open_or_create(&target.folder)?;
    // What an interrupted run left there is completed or cleared.
    settle(&folder, &target.stem, context)?;
    for suffix in wanted.data.iter().chain(&wanted.spares).map(|(_, suffix)| suffix) {
        let path = target.path_with(suffix);
        if folder.kind_of(path.file_name().unwrap_or_default())?.is_some() {
            return Err(MendError::Taken(path));
        }
    }
    let staging = Staging::begin(folder, &target.stem, context)?;
    // Spare volumes are staged behind all data volumes.
    let staged = |kind, number| if kind == VolumeKind::Spare { set.geometry.data_volumes + number } else { number };
    context.tell(Progress::Begin(
        Phase::Mending,
        wanted.data.iter().map(|(number, _)| set.geometry.volume_bytes(*number)).sum(),
    ));
    let mut written = Vec::new();
    for (number, _) in &wanted.data {
        context.tell(Progress::Volume(*number));
        let file = staging.create(staged(VolumeKind::Data, *number))?;
        let digest = write_volume(set, *number, file, context)?;
        written.push((*number, staging.path_of(staged(VolumeKind::Data, *number)), digest));
    }
    context.tell(Progress::End);
    let copy = |kind, number| staging.path_of(staged(kind, number));
    let (data, spares) = wanted.numbers();
    let recreated: Vec<PathBuf> = data.iter().map(|number| copy(VolumeKind::Data, *number)).collect();
    // What has been recreated need not be again.
    let whole = with_copies(set, &recreated, &data);
    let made = make_spares(&whole, &spares, |number| staging.create(staged(VolumeKind::Spare, number)), context)?;
    written.extend(made.into_iter().map(|(number, digest)| (number, copy(VolumeKind::Spare, number), digest)));
    context.tell(Progress::Staged);
    prove_files(&written, context)?;
    context.go_on()?;
    let kinds = [(VolumeKind::Data, &wanted.data), (VolumeKind::Spare, &wanted.spares)];
    let all = || {
        kinds.iter().flat_map(|(kind, volumes)| volumes.iter().map(move |(number, suffix)| (*kind, *number, suffix)))
    };
    let placings: Vec<Placing> =
        all().map(|(kind, number, suffix)| Placing { number: staged(kind, number), suffix: suffix.clone() }).collect();
    staging.place(&placings, &[])?;
    let bytes = |kind, number| match kind {
        VolumeKind::Spare => spare_bytes(&set.geometry),
        _ => set.geometry.volume_bytes(number),
    };
    Ok(all()
        .map(|(kind, number, suffix)| MendedVolume {
            kind,
            number,
            path: target.path_with(suffix),
            bytes: bytes(kind, number),
        })
        .collect())
}

/// Writes a data volume as it was: its cells as far as they are here, and the others recreated; its BLAKE3. Each worker reads and
/// recreates one cell at a time.
fn write_volume(
    set: &VolumeSet,
    number: u32,
    mut file: NewFile,
    context: &Context<'_>,
) -> Result<blake3::Hash, MendError> {
    let mut digest = blake3::Hasher::new();
    let (ids, geometry, head) = (set.ids, set.geometry, set.head.clone());
    let header = Header { kind: VolumeKind::Data, ids, number, geometry, head }.encode();
    digest.update(&header);
    file.write(&header)?;
    let first = geometry.first_cell(number);
    let cutting = set.cutting();
    let (produced, written) = ordered(
        context.threads,
        |cells| (first..first + u64::from(geometry.cells_in(number))).try_for_each(|cell| cells.submit(cell)),
        || {
            let mut reader = CellReader::new(set.clone());
            move |cell| {
                context.go_on()?;
                let digest = reader.read_intact(cell)?;
                let mut whole = Vec::with_capacity(geometry.cell_length.bytes());
                cutting.put_whole(cell, reader.held(), &digest, &mut whole);
                Ok::<_, CellError>(whole)
            }
        },
        |cell: Result<Vec<u8>, CellError>| -> Result<(), MendError> {
            let cell = cell?;
            digest.update(&cell);
            file.write(&cell)?;
            context.tell(Progress::Advance(cell.len() as u64));
            Ok(())
        },
    )?;
    // Where writing failed, the rest was only stopped by that.
    written?;
    produced?;
    file.finish()?;
    Ok(digest.finalize())
}

/// The set with these files as further copies of its data volumes, which are asked first.
fn with_copies(set: &VolumeSet, files: &[PathBuf], numbers: &[u32]) -> VolumeSet {
    let mut set = set.clone();
    for (path, number) in files.iter().zip(numbers) {
        let file = VolumeFile::whole(path, set.geometry.volume_bytes(*number));
        set.volumes.entry(*number).or_default().insert(0, file);
    }
    set
}
