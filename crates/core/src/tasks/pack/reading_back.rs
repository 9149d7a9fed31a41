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

#[cfg(test)]
mod tests {
    use super::super::arranging::Outlook;
    use super::super::sealing::Carried;
    use super::super::{Delivery, Locks, PackRequest, Target};
    use super::*;
    use crate::formats::sealed::KeyCost;
    use crate::ground::context::for_tests::in_context;
    use crate::source::Choice;
    use rstest::rstest;
    use std::fs;

    /// Volumes may be whole and agree with each other, and still not hold what was packed.
    #[rstest]
    #[case::all_as_packed(|_: &mut Sealed| {}, true)]
    #[case::another_index(|sealed: &mut Sealed| sealed.index_digest[31] ^= 1, false)]
    #[case::a_file_more(|sealed: &mut Sealed| sealed.totals.files += 1, false)]
    #[case::a_byte_more(|sealed: &mut Sealed| sealed.totals.content_bytes += 1, false)]
    fn what_is_read_has_to_be_what_was_packed(#[case] change: fn(&mut Sealed), #[case] is_right: bool) {
        let place = tempfile::tempdir().unwrap();
        let source = place.path().join("inspection.txt");
        fs::write(&source, "The lamp room is dry.").unwrap();
        let target = Target { folder: place.path().join("out"), stem: "wrenfall".into() };
        let (sources, choice, credentials) = ([source], Choice::default(), [Credentials::none()]);
        in_context(|context| {
            let delivery = Delivery::prepare(&PackRequest::new(&sources, &choice, &target), context).unwrap();
            let outlook = Outlook::new(delivery.squeeze, &[]);
            let locks = Locks { credentials: &credentials, cost: KeyCost::CHEAPEST };
            let (staging, mut archives) = delivery.seal_whole(Carried::Nothing, &outlook, locks, context).unwrap();
            change(&mut archives[0]);
            match read_back(&archives[0], &credentials, &staging, context) {
                Ok(totals) => assert!(is_right && totals.files == 1),
                Err(error) => assert!(!is_right && matches!(error, PackError::ContentsDiffer), "{error}"),
            }
        });
    }
}
