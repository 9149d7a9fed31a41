//! The proof before sealed volumes get their names: they are read as the recipient will read them.

use super::PackError;
use super::sealing::Sealed;
use crate::disk::Interruption;
use crate::disk::staging::Staging;
use crate::formats::sealed::SealedReader;
use crate::formats::sealed::volume::VolumeSet;
use crate::formats::sealed::volume::spares::making::{SpareError, prove_staged};
use crate::ground::context::Context;
use crate::ground::entry::Totals;
use crate::ground::secrets::Credentials;
use crate::tasks::check::verify_contents;

/// Reads everything back from disk, with nothing but the staged files and the credentials, and counts it.
pub(super) fn read_back(
    sealed: &Sealed,
    credentials: &[Credentials],
    staging: &Staging,
    context: &Context<'_>,
) -> Result<Totals, PackError> {
    prove_staged(&sealed.written, staging, context).map_err(|error| match error {
        SpareError::Interrupted(unreadable @ Interruption::File(_)) => PackError::Regather(unreadable.into()),
        error => error.into(),
    })?;
    let files: Vec<_> = sealed.written.placings.iter().map(|placing| staging.path_of(placing.number)).collect();
    let set = VolumeSet::from_files(&files).map_err(PackError::Regather)?;
    let mut verified = Totals::default();
    for (place, credentials) in credentials.iter().enumerate() {
        let unlocked = SealedReader::unlock(set.clone(), credentials);
        let mut archive = unlocked.map_err(|error| PackError::ReadBack(error.into()))?;
        if archive.index_digest() != sealed.index_digest {
            return Err(PackError::ContentsDiffer);
        }
        // All keyholes lead to the same contents; once is enough.
        if place == 0 {
            verified = verify_contents(&mut archive, context).map_err(PackError::reading_back)?;
        }
    }
    if verified == sealed.totals { Ok(verified) } else { Err(PackError::ContentsDiffer) }
}
