//! An archive as it is, for whoever makes another one of it.

use crate::failure::Failure;
use under_seal_core::codecs::block::Squeeze;
use under_seal_core::disk::Interruption;
use under_seal_core::formats::abilities::Ability;
use under_seal_core::formats::reader::ArchiveReader;
use under_seal_core::formats::registry::Format;
use under_seal_core::formats::sealed::volume::{SpareWish, VolumeSet};
use under_seal_core::ground::entry::Totals;
use under_seal_core::ground::fit::Fit;
use under_seal_core::ground::size::Size;

/// The archive as it is, as far as the new one takes after it.
pub struct Standing {
    pub fit: Fit,
    pub squeeze: Squeeze,
    /// As many spare volumes as it has.
    spares: SpareWish,
    pub message: String,
    pub hides_names: bool,
    /// What it holds.
    pub totals: Totals,
    /// What it takes on disk, spare volumes too.
    pub bytes: u64,
    pub volumes: u64,
    pub set: Option<String>,
}

impl Standing {
    /// How many spare volumes an archive of this format gets: as many, where it can have any.
    pub fn spares_in(&self, format: &Format) -> SpareWish {
        if format.can(Ability::Spares) { self.spares } else { SpareWish::NONE }
    }

    pub fn of(reader: &dyn ArchiveReader) -> Result<Self, Failure> {
        let squeeze = reader.about().and_then(|about| about.squeeze).and_then(Squeeze::from_number);
        let mut lengths = Vec::new();
        for spot in reader.spots() {
            lengths.push(spot.length().map_err(Interruption::from)?);
        }
        let (facts, set) = (reader.facts(), reader.volumes());
        let first = set.map_or(lengths.first().copied(), |set| Some(set.geometry.volume_bytes(1)));
        let first = first.unwrap_or_default();
        // A supplement is a file of its own, and no volume.
        let count = set.map_or(lengths.len() as u64, |set| set.geometry.data_volumes.into());
        // One volume that is larger than was wished when it was made has been cut anew since.
        let wished = reader.about().and_then(|about| about.volume_limit).filter(|limit| first <= *limit);
        let fit = match wished {
            _ if count > 1 => Fit::AtMost(Size::of(first)),
            Some(limit) => Fit::AtMost(Size::of(limit)),
            None => Fit::OneVolume,
        };
        Ok(Self {
            fit,
            squeeze: squeeze.unwrap_or_default(),
            spares: SpareWish::Count(set.map_or(0, VolumeSet::spare_count)),
            message: facts.message,
            hides_names: facts.hides_names && set.is_none(),
            totals: reader.totals(),
            bytes: lengths.iter().sum(),
            volumes: count,
            set: set.map(|set| set.ids.set_text()),
        })
    }
}
