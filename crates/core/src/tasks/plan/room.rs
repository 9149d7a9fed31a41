//! Whether a disk has room for an archive, told before it is made: an archive that fills the disk is noticed only in the end.
//!
//! As a rule there is plenty, and nothing is estimated. Only where the contents as they are would not fit, samples of them are compressed.

use super::{Estimate, InFormat, Outline, Plan, PlanError, in_open_formats};
use crate::codecs::block::Squeeze;
use crate::disk::{absolute, free_bytes_for};
use crate::formats::registry::Format;
use crate::formats::sealed::volume::SpareWish;
use crate::ground::context::Context;
use crate::ground::fit::Fit;
use crate::source::Catalogue;
use std::path::Path;

/// What an entry takes beside its content at the most, as a rule: names are short.
const ENTRY_BYTES: u64 = 1024;

/// What every archive takes beside its entries, at the most.
const ARCHIVE_BYTES: u64 = 1024 * 1024;

/// Seals and checks take less than a part of this size of everything.
const OVERHEAD_PART: u64 = 16;

/// How an archive will be made.
#[derive(Debug, Clone, Copy)]
pub struct Making<'a> {
    /// Where it goes.
    pub folder: &'a Path,
    /// Its format.
    pub format: &'static Format,
    /// How it is cut, if it is.
    pub fit: Fit,
    /// How hard it is compressed.
    pub squeeze: Squeeze,
    /// Spare volumes.
    pub spares: SpareWish,
    /// Whether names are hidden too.
    pub hide_names: bool,
    /// Bytes that come to its stream beside the entries.
    pub more: u64,
}

impl Making<'_> {
    /// Refuses what the disk has no room for, even if everything shrinks as well as is likely.
    ///
    /// # Errors
    /// [`PlanError::NoRoom`], and what can go wrong with an estimate.
    pub fn refuse_without_room(&self, catalogue: &Catalogue, context: &Context<'_>) -> Result<(), PlanError> {
        let Some(free) = free_bytes_for(self.folder) else { return Ok(()) };
        match self.more_than(free, catalogue, context)? {
            Some(needed) => Err(PlanError::NoRoom { needed, free, folder: absolute(self.folder) }),
            None => Ok(()),
        }
    }

    /// What it takes, where that is more than this, in bytes.
    fn more_than(&self, free: u64, catalogue: &Catalogue, context: &Context<'_>) -> Result<Option<u64>, PlanError> {
        if self.surely_at_most(catalogue).is_some_and(|most| most <= free) {
            return Ok(None);
        }
        Ok(self.at_least(catalogue, context)?.filter(|needed| *needed > free))
    }

    /// Bytes that it surely does not exceed; `None` where it comes to too many volumes, or too many to count.
    fn surely_at_most(&self, catalogue: &Catalogue) -> Option<u64> {
        let contents = catalogue.entries.iter().try_fold(0_u64, |sum, entry| sum.checked_add(entry.size))?;
        let entries = (catalogue.entries.len() as u64).checked_mul(ENTRY_BYTES)?;
        let plain = contents.checked_add(entries)?.checked_add(self.more)?.checked_add(ARCHIVE_BYTES)?;
        let all = plain.checked_add(plain / OVERHEAD_PART)?;
        if self.format.abilities.volumes { self.with_spares(all) } else { Some(all) }
    }

    /// The least that it is likely to take.
    fn at_least(&self, catalogue: &Catalogue, context: &Context<'_>) -> Result<Option<u64>, PlanError> {
        if self.format.abilities.volumes {
            let plan = Plan::make(catalogue, &[self.squeeze], self.fit, context)?.with_more(self.more);
            return Ok(self.least(plan.estimate(self.squeeze), &[]));
        }
        let formats = in_open_formats(catalogue, &[self.format], self.squeeze, self.hide_names, context)?;
        Ok(self.least(None, &formats))
    }

    /// The least that it is likely to take, in bytes, by what was estimated already: volumes by their stream, other archives by their
    /// format.
    pub fn least(&self, stream: Option<&Estimate>, formats: &[InFormat]) -> Option<u64> {
        if self.format.abilities.volumes {
            return stream.and_then(|estimate| self.with_spares(estimate.stream_bytes.low));
        }
        formats.iter().find(|one| one.format == self.format).map(|one| one.bytes.low)
    }

    /// Bytes of all volumes, the spare ones too, of a stream of this length.
    fn with_spares(&self, stream_bytes: u64) -> Option<u64> {
        let outline = Outline::new(stream_bytes, self.fit, self.format)?;
        let spares = u64::from(self.spares.count(outline.volumes)).checked_mul(outline.spare_bytes)?;
        outline.bytes.checked_add(spares)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::formats::registry::{SEALED, TAR, ZIP};
    use crate::ground::context::for_tests::in_context;
    use crate::source::Choice;
    use rstest::rstest;

    /// Of 400,000 bytes, of which half do not shrink, so many are needed where there are so many kilobytes.
    #[rstest]
    #[case::plenty(&SEALED, Squeeze::default(), 0, 10_000, None)]
    #[case::enough_since_it_shrinks(&SEALED, Squeeze::default(), 0, 260, None)]
    #[case::too_little_though_it_shrinks(&SEALED, Squeeze::default(), 0, 190, Some(200..260))]
    #[case::too_little_as_it_is(&SEALED, Squeeze::None, 0, 390, Some(400..460))]
    #[case::spare_volumes_count(&SEALED, Squeeze::Even, 3, 390, Some(400..560))]
    #[case::zip_that_shrinks(&ZIP, Squeeze::default(), 0, 260, None)]
    #[case::zip(&ZIP, Squeeze::default(), 0, 190, Some(195..260))]
    #[case::tar(&TAR, Squeeze::default(), 0, 390, Some(400..420))]
    fn what_does_not_fit_is_refused_before(
        #[case] format: &'static Format,
        #[case] squeeze: Squeeze,
        #[case] spares: u32,
        #[case] free_kilobytes: u64,
        #[case] expected: Option<std::ops::Range<u64>>,
    ) {
        let place = tempfile::tempdir().unwrap();
        let mut noise = vec![0; 200_000];
        blake3::Hasher::new().finalize_xof().fill(&mut noise);
        std::fs::write(place.path().join("noise"), noise).unwrap();
        std::fs::write(place.path().join("zeros"), [b'0'; 200_000]).unwrap();
        let fit = if format.abilities.volumes { "100KB".parse().unwrap() } else { Fit::OneVolume };
        let (spares, folder) = (SpareWish::Count(spares), place.path());
        let making = Making { folder, format, fit, squeeze, spares, hide_names: false, more: 0 };
        let needed = in_context(|context| {
            let sources = [place.path().to_owned()];
            let catalogue = Catalogue::gather(&sources, &Choice::default(), &|_| false, context).unwrap();
            making.more_than(free_kilobytes * 1_000, &catalogue, context).unwrap()
        });
        assert_eq!(needed.is_some(), expected.is_some(), "{needed:?}");
        assert!(needed.is_none_or(|needed| expected.unwrap().contains(&(needed / 1_000))), "{needed:?}");
    }
}
