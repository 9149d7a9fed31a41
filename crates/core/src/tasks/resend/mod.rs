//! Sending again: from a resend slip and a whole set, exactly the bytes that the recipient lacks, as one supplement where
//! that is no larger than a volume, and otherwise as whole volumes with a supplement for the rest.

pub mod slip;
pub mod written;

pub use slip::Slip;

use crate::disk::{Folder, Interruption, Unfinished, interruptible};
use crate::formats::sealed::volume::header::{Header, VolumeKind};
use crate::formats::sealed::volume::supplement::{MAX_RUNS, Run, encode_page, without};
use crate::formats::sealed::volume::{CellError, CellReader, VolumeSet, names};
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::context::{Context, Progress};
use std::ffi::{OsStr, OsString};
use std::path::{Path, PathBuf};

/// Temporary names begin so.
const PREFIX: &str = ".resending-";

/// What was made.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Resent {
    /// Whole volumes: number, file, bytes.
    pub volumes: Vec<(u32, PathBuf, u64)>,
    /// The supplement, if one was needed, and its bytes.
    pub supplement: Option<(PathBuf, u64)>,
}

/// Why nothing, or not all, was made.
#[derive(Debug, thiserror::Error)]
pub enum ResendError {
    /// The slip speaks of another set, or of this one cut otherwise.
    #[error("the slip is of another set")]
    OtherSet,
    /// A cell of this set cannot be had either.
    #[error(transparent)]
    Cell(#[from] CellError),
    /// What was read back is not what was written.
    #[error("reading back: it differs")]
    Differs,
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(ResendError);

impl Classed for ResendError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::OtherSet => ErrorClass::Usage,
            Self::Differs => ErrorClass::Damaged,
            Self::Cell(error) => error.class(),
        }
    }
}

/// Makes what a slip asks for, in a folder; files there are never replaced.
///
/// # Errors
/// [`ResendError`]; files that were finished before stay.
pub fn resend(
    set: &VolumeSet,
    slip: &Slip,
    folder: &Path,
    stem: &OsStr,
    context: &Context<'_>,
) -> Result<Resent, ResendError> {
    let geometry = set.geometry;
    if !slip.is_of(&set.ids, &geometry) {
        return Err(ResendError::OtherSet);
    }
    let is_whole = |volume: &u32| {
        let first = geometry.first_cell(*volume);
        let end = first + u64::from(geometry.cells_in(*volume));
        slip.runs.iter().any(|run| run.first <= first && run.end() >= end)
    };
    let asked: u64 = slip.runs.iter().map(|run| u64::from(run.count)).sum();
    let fits_one = asked <= u64::from(geometry.cells_per_volume);
    let whole: Vec<u32> = (1..=geometry.data_volumes).filter(|volume| !fits_one && is_whole(volume)).collect();
    let sent_whole: Vec<Run> = whole.iter().map(|volume| Run::of_volume(&geometry, *volume)).collect();
    let rest = without(&slip.runs, &sent_whole);
    let mut work = Work { set, reader: CellReader::new(set.clone()), folder: Folder::open_or_create(folder)?, context };
    let mut resent = Resent::default();
    for number in whole {
        let name = named(stem, &names::suffix(number, geometry.data_volumes));
        let first = geometry.first_cell(number);
        let cells = first..first + u64::from(geometry.cells_in(number));
        let (path, bytes) = work.write(&name, VolumeKind::Data, number, &[], cells)?;
        resent.volumes.push((number, path, bytes));
    }
    // A slip is so short that its runs go on one page, even cut apart by whole volumes.
    if !rest.is_empty() && rest.len() <= MAX_RUNS {
        let code = slip.code();
        let mark = code.rsplit('-').next().unwrap_or_default();
        let name = named(stem, &format!("-again-{mark}{}", names::EXTENSION));
        let page = encode_page(&set.ids, &rest);
        let cells = rest.iter().flat_map(|run| run.first..run.end());
        resent.supplement = Some(work.write(&name, VolumeKind::Supplement, 1, &page, cells)?);
    }
    Ok(resent)
}

fn named(stem: &OsStr, end: &str) -> OsString {
    let mut name = stem.to_owned();
    name.push(end);
    name
}

struct Work<'a> {
    set: &'a VolumeSet,
    reader: CellReader,
    folder: Folder,
    context: &'a Context<'a>,
}

impl Work<'_> {
    /// Writes a header, a page, and cells; only a whole file gets its name.
    fn write(
        &mut self,
        name: &OsStr,
        kind: VolumeKind,
        number: u32,
        page: &[u8],
        cells: impl Iterator<Item = u64>,
    ) -> Result<(PathBuf, u64), ResendError> {
        let VolumeSet { ids, geometry, head, .. } = self.set;
        let (unfinished, mut file) = Unfinished::file(&self.folder, PREFIX, 0o644, self.context)?;
        let header = Header { kind, ids: *ids, number, geometry: *geometry, head: head.clone() };
        let mut written = blake3::Hasher::new();
        written.update(&header.encode()).update(page);
        file.write(&header.encode())?;
        file.write(page)?;
        let cutting = self.set.cutting();
        let mut buffer = Vec::with_capacity(geometry.cell_length.bytes());
        let mut bytes = (header.encode().len() + page.len()) as u64;
        for cell in cells {
            self.context.go_on()?;
            // The check was right, so it is the same again.
            let digest = self.reader.read_intact(cell)?;
            cutting.put_whole(cell, self.reader.held(), &digest, &mut buffer);
            written.update(&buffer);
            file.write(&buffer)?;
            bytes += buffer.len() as u64;
        }
        file.sync()?;
        self.context.tell(Progress::Staged);
        if !file.holds(&written, |_| ())? {
            return Err(ResendError::Differs);
        }
        file.close()?;
        unfinished.publish(name)?;
        Ok((self.folder.path().join(name), bytes))
    }
}
