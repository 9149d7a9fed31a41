//! Bringing a set together whose volumes come one after the other, each on a disc or stick of its own: whatever is still
//! missing is copied aside, verified cell by cell, and only then gets its name.

use crate::disk::{FileError, Folder, Interruption, Unfinished, interruptible, is_own_name, own_name, read_on};
use crate::formats::sealed::volume::names::spare_suffix;
use crate::formats::sealed::volume::{
    CellCopy, CellReader, GatherError, Geometry, Groups, Ids, VolumeFile, VolumeKind, VolumeSet,
};
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::context::{Cancelled, Context};
use std::collections::BTreeMap;
use std::ffi::OsString;
use std::path::{Path, PathBuf};

/// Temporary names begin so.
const PREFIX: &str = ".collecting-";

/// Why volumes cannot be brought together.
#[derive(Debug, thiserror::Error)]
pub enum CollectError {
    /// The volumes here are not those of one set.
    #[error(transparent)]
    Gather(#[from] GatherError),
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(CollectError);

impl Classed for CollectError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::Gather(error) => error.class(),
        }
    }
}

/// What was found in one place.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Taken {
    /// The numbers of the volumes that were copied.
    pub copied: Vec<u32>,
    /// The numbers of spare volumes that were copied.
    pub spares: Vec<u32>,
    /// The numbers of those that are damaged there, or cannot be read.
    pub damaged: Vec<u32>,
}

/// A folder in which a set is brought together.
pub struct Collection {
    folder: Folder,
    set: Option<(Ids, Geometry)>,
    /// By kind and number.
    here: BTreeMap<(VolumeKind, u32), PathBuf>,
}

impl Collection {
    /// Opens the folder, making it where it is not there. What an earlier run has copied to it counts.
    ///
    /// # Errors
    /// [`CollectError`]; [`GatherError::SeveralSets`] where the folder holds volumes of several.
    pub fn begin(folder: &Path, context: &Context<'_>) -> Result<Self, CollectError> {
        let folder = Folder::open_or_create(folder)?;
        for name in folder.names()? {
            if is_own_name(&folder, PREFIX, &name, &(context.owner_key)())? {
                folder.remove_file(&name)?;
            }
        }
        let mut collection = Self { folder, set: None, here: BTreeMap::new() };
        match VolumeSet::gather(&[collection.folder.path().to_owned()], context) {
            Ok(set) => {
                collection.set = Some((set.ids, set.geometry));
                let files = volumes_of(&set).filter_map(|(volume, files)| Some((volume, files.first()?)));
                let intact = files.filter(|(volume, file)| is_intact(&set, *volume, file));
                collection.here = intact.map(|(volume, file)| (volume, file.spot.path.clone())).collect();
            }
            Err(GatherError::NoVolumes { .. }) => {}
            Err(error) => return Err(error.into()),
        }
        Ok(collection)
    }

    /// The numbers that are still missing, of how many, without those that the spare volumes that are here make good. `None` before the
    /// first volume was found.
    pub fn missing(&self) -> Option<(Vec<u32>, u32)> {
        let count = self.set?.1.data_volumes;
        let is_missing = |number: &u32| !self.here.contains_key(&(VolumeKind::Data, *number));
        let missing = (1..=count).filter(is_missing);
        let spares = self.here.keys().filter(|(kind, _)| *kind == VolumeKind::Spare).map(|(_, number)| *number);
        let shortfalls = Groups::of(count).shortfalls(missing, spares);
        Some((shortfalls.into_iter().flat_map(|short| short.missing).collect(), count))
    }

    /// Copies what is still missing from these places. Nothing there is no error: the disc may not be in yet.
    pub fn take(&mut self, places: &[PathBuf], context: &Context<'_>) -> Result<Taken, CollectError> {
        let found = match self.set {
            None => VolumeSet::gather(places, context),
            Some((ids, _)) => VolumeSet::gather_one(places, ids, context),
        };
        let found = match found {
            Ok(found) => found,
            Err(GatherError::NoVolumes { .. } | GatherError::Missing { .. }) => return Ok(Taken::default()),
            Err(error) => return Err(error.into()),
        };
        self.set = Some((found.ids, found.geometry));
        let mut taken = Taken::default();
        for (volume, files) in volumes_of(&found) {
            if self.here.contains_key(&volume) {
                continue;
            }
            let mut copied = false;
            // A supplement holds no volume of its own.
            for file in files.iter().filter(|file| file.runs.is_none()) {
                copied = copied || self.copy(&found, volume, file, context)?;
            }
            match volume {
                (VolumeKind::Spare, number) if copied => taken.spares.push(number),
                (VolumeKind::Spare, _) => {}
                (_, number) if copied => taken.copied.push(number),
                (_, number) => taken.damaged.push(number),
            }
        }
        Ok(taken)
    }

    /// Copies one file; whether the copy is whole. What cannot be read is as bad as what is damaged.
    fn copy(
        &mut self,
        set: &VolumeSet,
        volume: (VolumeKind, u32),
        file: &VolumeFile,
        context: &Context<'_>,
    ) -> Result<bool, CollectError> {
        let run = u64::from_le_bytes(context.random()?);
        let temporary = own_name(&self.folder, PREFIX, run, &(context.owner_key)())?;
        let (unfinished, mut copy) = Unfinished::file_named(&self.folder, temporary, 0o600)?;
        let Ok(original) = file.spot.open() else { return Ok(false) };
        let mut written = Ok(());
        let read = read_on(original.into_reader(), &file.spot.path, u64::MAX, context, |bytes| {
            written = copy.write(bytes);
            if written.is_ok() { Ok(()) } else { Err(Interruption::from(Cancelled)) }
        });
        written?;
        match read {
            Ok(_) => {}
            Err(Interruption::File(_)) => return Ok(false),
            Err(interruption) => return Err(interruption.into()),
        }
        copy.sync()?;
        copy.close()?;
        let copied = VolumeFile { spot: unfinished.path().into(), ..file.clone() };
        if file.header_damaged || !is_intact(set, volume, &copied) {
            return Ok(false);
        }
        let name = self.free_name(set, volume, file)?;
        unfinished.publish(&name)?;
        self.here.insert(volume, self.folder.path().join(name));
        Ok(true)
    }

    /// The name that the file has, or, where that is taken here, one after its set.
    fn free_name(
        &self,
        set: &VolumeSet,
        (kind, number): (VolumeKind, u32),
        file: &VolumeFile,
    ) -> Result<OsString, FileError> {
        let own = file.spot.own_name().unwrap_or_default();
        if !own.is_empty() && self.folder.kind_of(own)?.is_none() {
            return Ok(own.to_owned());
        }
        let suffix = match kind {
            VolumeKind::Spare => spare_suffix(number, set.spare_count()),
            _ => file.suffix(number, set.geometry.data_volumes),
        };
        Ok(OsString::from(format!("{}{suffix}", set.ids.set_text())))
    }
}

/// All volumes of a set that are here, the spare ones last.
fn volumes_of(set: &VolumeSet) -> impl Iterator<Item = ((VolumeKind, u32), &Vec<VolumeFile>)> {
    let data = set.volumes.iter().map(|(number, files)| ((VolumeKind::Data, *number), files));
    data.chain(set.spares.iter().map(|(number, files)| ((VolumeKind::Spare, *number), files)))
}

/// Whether every cell of a volume's file passes its check.
fn is_intact(set: &VolumeSet, (kind, number): (VolumeKind, u32), file: &VolumeFile) -> bool {
    let only = BTreeMap::from([(number, vec![file.clone()])]);
    let (volumes, spares) = if kind == VolumeKind::Spare { (BTreeMap::new(), only) } else { (only, BTreeMap::new()) };
    let mut reader = CellReader::new(VolumeSet { volumes, spares, ..set.clone() });
    let is_cell = |index: &u32| set.geometry.cell_bytes_in(kind, number, *index).is_some();
    let mut cells = (0..set.geometry.cells_per_volume).take_while(is_cell);
    !file.header_damaged
        && cells.all(|index| matches!(reader.read_copy(kind, number, 0, index), Ok(CellCopy::Intact { .. })))
}
