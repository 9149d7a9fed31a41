//! Names that prove themselves: what a killed run has left under one, the next run of the same user may remove; anything that
//! only looks like it came from elsewhere, and is left alone.

use super::{FileError, Folder};
use crate::ground::ownership::OwnerKey;
use std::ffi::{OsStr, OsString};

/// Digits of the number in such a name.
const NUMBER_DIGITS: usize = 16;

/// The prefix, a number, and the proof that this user's run gave the name in this very folder.
pub fn own_name(folder: &Folder, prefix: &str, number: u64, key: &OwnerKey) -> Result<OsString, FileError> {
    named(folder, prefix, &format!("{number:0NUMBER_DIGITS$x}"), key)
}

/// Whether a name in a folder is one that [`own_name`] gives there.
pub fn is_own_name(folder: &Folder, prefix: &str, name: &OsStr, key: &OwnerKey) -> Result<bool, FileError> {
    Ok(own_name_in(folder, prefix, name, key)?.is_some_and(|own| own == name))
}

/// Whether a name begins with one that [`own_name`] gives in a folder.
pub fn begins_with_own_name(folder: &Folder, prefix: &str, name: &OsStr, key: &OwnerKey) -> Result<bool, FileError> {
    let own = own_name_in(folder, prefix, name, key)?;
    Ok(own.is_some_and(|own| name.as_encoded_bytes().starts_with(own.as_encoded_bytes())))
}

/// The own name with the number that a name has in it.
fn own_name_in(folder: &Folder, prefix: &str, name: &OsStr, key: &OwnerKey) -> Result<Option<OsString>, FileError> {
    let rest = name.to_str().and_then(|name| name.strip_prefix(prefix));
    let number = rest.and_then(|rest| rest.get(..NUMBER_DIGITS));
    number.map(|number| named(folder, prefix, number, key)).transpose()
}

fn named(folder: &Folder, prefix: &str, number: &str, key: &OwnerKey) -> Result<OsString, FileError> {
    let proof = key.proof("own name", &[&folder.number()?.to_le_bytes(), prefix.as_bytes(), number.as_bytes()]);
    Ok(OsString::from(format!("{prefix}{number}-{proof}")))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::as_given(".collecting-", 1, 1, true)]
    #[case::for_something_else(".arriving-", 1, 1, false)]
    #[case::in_another_folder(".collecting-", 2, 1, false)]
    #[case::by_another_user(".collecting-", 1, 2, false)]
    fn a_name_is_own_for_one_use_one_folder_and_one_user(
        #[case] prefix: &str,
        #[case] folder: usize,
        #[case] user: u8,
        #[case] own: bool,
    ) {
        let places = [tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap()];
        let folders = places.each_ref().map(|place| Folder::open(place.path()).unwrap());
        let name = own_name(&folders[0], ".collecting-", 7, &OwnerKey::new(&[1; 32])).unwrap();
        let found = is_own_name(&folders[folder - 1], prefix, &name, &OwnerKey::new(&[user; 32])).unwrap();
        assert_eq!(found, own);
        assert!(
            !is_own_name(
                &folders[0],
                ".collecting-",
                ".collecting-0000000000000007".as_ref(),
                &OwnerKey::new(&[1; 32])
            )
            .unwrap()
        );
    }
}
