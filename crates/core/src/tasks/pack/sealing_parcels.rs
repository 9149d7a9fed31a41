//! Sealing a delivery that is divided: an archive for each parcel, which opens alone and knows how many there are. What came out larger
//! than the fit is divided anew.

use super::arranging::Outlook;
use super::sealing::{self, Carried, Job, Sealed, SoFar};
use super::{Delivery, Locks, PackError};
use crate::disk::staging::Staging;
use crate::formats::sealed::ParcelOf;
use crate::formats::sealed::volume::names;
use crate::ground::context::{Context, Progress};

/// How often a division is mended: what is compressed together can come out longer than each by itself.
const DIVISIONS: u32 = 8;

impl Delivery {
    /// Seals everything into staged volumes, a parcel each.
    pub(super) fn seal_parcels(
        &mut self,
        outlook: &Outlook<'_>,
        locks: Locks<'_>,
        context: &Context<'_>,
    ) -> Result<(Staging, Vec<Sealed>), PackError> {
        let mut reserve = self.message.len() as u64;
        for attempt in 0..DIVISIONS {
            let staging = self.staging(0, context)?;
            let archives = self.seal_all_parcels(outlook, locks, &staging, context)?;
            context.tell(Progress::End);
            let Some(division) = &mut self.parcels else { return Ok((staging, archives)) };
            let lengths = archives.iter().map(|archive| archive.written.geometry.volume_bytes(1));
            match lengths.max().unwrap_or(0).checked_sub(division.volume_limit).filter(|over| *over > 0) {
                None => return Ok((staging, archives)),
                // Another division may come out longer again by a little: each time more is left free.
                Some(over) => reserve += over << attempt,
            }
            division.parcels = division.weights.divide(&self.catalogue, division.volume_limit, reserve)?;
        }
        Err(PackError::ParcelTooLarge)
    }

    fn seal_all_parcels(
        &self,
        outlook: &Outlook<'_>,
        locks: Locks<'_>,
        staging: &Staging,
        context: &Context<'_>,
    ) -> Result<Vec<Sealed>, PackError> {
        let whole = self.job(outlook, locks);
        let (mut sealed, mut before) = (Vec::new(), SoFar::default());
        let parcels = self.parcels.as_ref().map_or(&[][..], |division| &division.parcels);
        let count = parcels.len() as u32;
        let delivery = context.random()?;
        for (number, parcel) in (1..).zip(parcels) {
            let entries: Vec<_> = parcel.members.iter().map(|place| &self.catalogue.entries[*place]).collect();
            let suffix = names::parcel_suffix(number, count);
            let name = [whole.name, suffix.trim_end_matches(names::EXTENSION).as_bytes()].concat();
            let parcel = Some(ParcelOf { delivery, number, count });
            let own = Job { entries: &entries, name: &name, volume_limit: None, parcel, ..whole };
            let job = Job { first_staged: number, before, ..own };
            let mut archive = sealing::seal(&job, Carried::Nothing, staging, context)?;
            archive.written.placings.iter_mut().for_each(|placing| placing.suffix.clone_from(&suffix));
            before = archive.so_far;
            sealed.push(archive);
        }
        Ok(sealed)
    }
}
