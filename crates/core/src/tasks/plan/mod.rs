//! A delivery before it exists: what would go in, how large it would come out, and what may go wrong. Nothing is
//! written.

mod advice;
mod estimate;
mod formats;
mod measuring;
mod quick;
mod room;
mod sampling;
mod slow;
mod squeezes;
mod weigh;

pub use advice::Advice;
pub use estimate::{Estimate, Likely};
pub use formats::{InFormat, in_open_formats};
pub use room::Making;
pub use weigh::{FolderWeight, TopLevel};

use crate::codecs::block::Squeeze;
use crate::codecs::error::CodecError;
use crate::disk::is_readable;
use crate::disk::portability::Unportable;
use crate::disk::{Interruption, interruptible};
use crate::formats::registry::{Format, Writing};
use crate::formats::sealed::stream::geometry_of;
use crate::formats::sealed::volume::spares::spare_bytes;
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::context::Context;
use crate::ground::entry::{EntryKind, EntryPath, Totals};
use crate::ground::fit::Fit;
use crate::source::{Catalogue, SourceEntry};
use crate::tasks::pack::kinds::{KindWeight, kinds};
use crate::tasks::page::carrying;
use std::path::PathBuf;

/// Why there is no plan.
#[derive(Debug, thiserror::Error)]
pub enum PlanError {
    /// A compressor failed.
    #[error(transparent)]
    Codec(#[from] CodecError),
    /// The disk has no room for the archive.
    #[error("{}: {needed} bytes are needed, {free} are free", .folder.display())]
    NoRoom {
        /// Bytes that it takes, as little as is likely.
        needed: u64,
        /// Bytes that are free.
        free: u64,
        /// Where it was to go.
        folder: PathBuf,
    },
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(PlanError);

impl Classed for PlanError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::Codec(_) | Self::NoRoom { .. } => ErrorClass::System,
        }
    }
}

/// What is known of a delivery before it is made.
#[derive(Debug)]
pub struct Plan {
    /// What would be packed.
    pub totals: Totals,
    /// The top-level paths as the recipient will see them.
    pub top_level: Vec<TopLevel>,
    /// Folders, heaviest first.
    pub folders: Vec<FolderWeight>,
    /// Kinds of files, heaviest first.
    pub kinds: Vec<KindWeight>,
    /// What each squeeze that was asked for would come to, from none to utmost.
    pub estimates: Vec<Estimate>,
    /// Files that cannot be read, as far as permissions tell.
    pub unreadable: Vec<EntryPath>,
    /// Names that will not survive on other systems.
    pub unportable: Vec<Unportable>,
}

/// How an archive of one size falls into volumes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Outline {
    /// How many volumes.
    pub volumes: u32,
    /// Bytes of all of them.
    pub bytes: u64,
    /// Bytes of the last one.
    pub last_bytes: u64,
    /// The most bytes that one may have, where there is a limit.
    pub limit: Option<u64>,
    /// Bytes of a spare volume, where there is one.
    pub spare_bytes: u64,
}

impl Outline {
    /// The volumes of an archive whose inner stream has so many bytes, in a format that has volumes; `None` where the fit gives too
    /// many, or is too small for any.
    pub fn new(stream_bytes: u64, fit: Fit, format: &Format) -> Option<Self> {
        let limit = fit.volume_limit();
        let geometry = geometry_of(stream_bytes, limit)?;
        let (first, last) = (geometry.volume_bytes(1), geometry.volume_bytes(geometry.data_volumes));
        let bytes = first.checked_mul(u64::from(geometry.data_volumes - 1))?.checked_add(last)?;
        let in_file = |bytes| match format.writing {
            Some(Writing::Page) => carrying(bytes).file_bytes(),
            _ => bytes,
        };
        Some(Self {
            volumes: geometry.data_volumes,
            bytes: in_file(bytes),
            last_bytes: in_file(last),
            limit,
            spare_bytes: spare_bytes(&geometry),
        })
    }

    /// How full the last volume is, where there is a limit: 0 to 1.
    pub fn last_fill(&self) -> Option<f64> {
        self.limit.map(|limit| self.last_bytes as f64 / limit.max(1) as f64)
    }
}

/// Where holes really are is not looked at here, but only about how long they are: so much may a file with holes differ.
const UNSURE_OF_HOLES_BYTES: u64 = 8 * 1024;

/// What is not known of files with holes.
fn widened(mut estimates: Vec<Estimate>, catalogue: &Catalogue) -> Vec<Estimate> {
    let unsure = catalogue.extras().with_holes.saturating_mul(UNSURE_OF_HOLES_BYTES);
    for Estimate { stream_bytes: Likely { low, high, .. }, .. } in &mut estimates {
        *low = low.saturating_sub(unsure);
        *high = high.saturating_add(unsure);
    }
    estimates
}

impl Plan {
    /// Looks at everything, compressing samples at these squeezes, for volumes of this fit.
    pub fn make(
        catalogue: &Catalogue,
        squeezes: &[Squeeze],
        fit: Fit,
        context: &Context<'_>,
    ) -> Result<Self, PlanError> {
        let kinds = kinds(catalogue, squeezes)?;
        let mut totals = Totals::default();
        catalogue.entries.iter().for_each(|entry| totals.add(entry.kind, entry.own_bytes()));
        let is_closed = |entry: &&SourceEntry| {
            let path = catalogue.disk_path(entry);
            entry.kind == EntryKind::File && !is_readable(&path)
        };
        Ok(Self {
            totals,
            top_level: weigh::top_level(catalogue),
            folders: weigh::folders(catalogue),
            estimates: widened(squeezes::estimate(catalogue, &kinds, squeezes, fit, context)?, catalogue),
            kinds,
            unreadable: catalogue.entries.iter().filter(is_closed).map(|entry| entry.path.clone()).collect(),
            unportable: catalogue.unportable(),
        })
    }

    /// The same plan, where so many bytes come to the archive's stream beside everything.
    pub fn with_more(mut self, bytes: u64) -> Self {
        for Estimate { stream_bytes: Likely { low, likely, high }, .. } in &mut self.estimates {
            for estimate in [low, likely, high] {
                *estimate = estimate.saturating_add(bytes);
            }
        }
        self
    }

    /// The estimate for a squeeze.
    pub fn estimate(&self, squeeze: Squeeze) -> Option<&Estimate> {
        self.estimates.iter().find(|estimate| estimate.squeeze == squeeze)
    }

    /// Changes that would save volumes against this squeeze at this fit, cheapest first.
    pub fn advice(&self, catalogue: &Catalogue, squeeze: Squeeze, fit: Fit) -> Vec<Advice> {
        advice::advice(catalogue, &self.kinds, &self.estimates, squeeze, fit)
    }
}
