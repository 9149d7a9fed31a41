//! Unlocking a set: its key, for whoever has the right credentials, or, where it has no password, for everybody.

use super::cells::CellSeal;
use super::error::SealedError;
use super::head::{HeadError, open_head, open_head_by, open_to_all};
use super::keys::{ArchiveKey, CostLimit};
use super::volume::VolumeSet;
use crate::ground::secrets::Credentials;
use crate::ground::wire::Malformed;
use std::sync::Arc;

/// The key of a set, for whoever has the right credentials: the one costly step of unlocking.
pub fn unlock(set: &VolumeSet, credentials: &Credentials, limit: CostLimit) -> Result<ArchiveKey, SealedError> {
    Ok(open_head(&set.head, &set.bound(), credentials, limit)?)
}

/// A set that is unlocked: as those of its headers describe it that the key proves genuine.
#[derive(Debug)]
pub struct UnlockedSet {
    /// The volumes, of which cells that the key did not seal count as damaged.
    pub set: VolumeSet,
    /// Their key.
    pub key: ArchiveKey,
    /// Whether it needs a password.
    pub secret: bool,
    /// Whether it was opened with a key file.
    pub key_file: bool,
}

/// Unlocks a set with what was given, or, where it has no password, with nothing; `None` where something is needed and nothing
/// was given. Where headers contradict each other, each of what they say is tried. A set without a password is refused where
/// one is expected: anybody can have made it.
///
/// # Errors
/// [`SealedError::Head`]: the first error of what most headers say; [`HeadError::OpenToAll`].
pub fn unlock_given(
    set: &VolumeSet,
    given: Option<&Credentials>,
    limit: CostLimit,
    password_expected: bool,
) -> Result<Option<UnlockedSet>, SealedError> {
    let mut first_error = None;
    if let Some(given) = given {
        for candidate in std::iter::once(set).chain(&set.rivals) {
            match open_head_by(&candidate.head, &candidate.bound(), given, limit) {
                Ok((key, key_file)) => {
                    return Ok(Some(UnlockedSet { set: judged(candidate, &key)?, key, secret: true, key_file }));
                }
                Err(error) => first_error = first_error.or(Some(error.into())),
            }
        }
    }
    if let Some(key) = key_of_open_to_all(set, password_expected)? {
        return Ok(Some(UnlockedSet { set: judged(set, &key)?, key, secret: false, key_file: false }));
    }
    first_error.map_or(Ok(None), Err)
}

/// A set whose cells are judged with its key.
fn judged(set: &VolumeSet, key: &ArchiveKey) -> Result<VolumeSet, SealedError> {
    let seal = CellSeal::new(key, &set.bound()).map_err(|_| Malformed("key"))?;
    Ok(set.clone().judged_by(Arc::new(seal)))
}

/// The key of a set that is open to all, since it has no password; `None` for one that has. Whoever was given a password
/// for it (`password_given`) expects another archive, and must not get this one instead: anybody can have made it.
///
/// # Errors
/// [`SealedError::Head`]; [`HeadError::OpenToAll`] where a password was given and there is none.
pub fn key_of_open_to_all(set: &VolumeSet, password_given: bool) -> Result<Option<ArchiveKey>, SealedError> {
    match open_to_all(&set.head, &set.bound())? {
        Some(_) if password_given => Err(HeadError::OpenToAll.into()),
        key => Ok(key),
    }
}
