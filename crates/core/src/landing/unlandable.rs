//! What is not landed, whatever its archive: links that could lead outside, links where there can be none, and what would come to lie
//! among unfinished work that a run of this user has provably left, which the next one clears. It is named and left; the rest lands.
//! Names alone are nobody's: what is only called like such work lands like any other.

use super::clash::{Resolution, Resolutions};
use super::made_folder::below;
use super::marker::is_arriving;
use crate::disk::names::name_of;
use crate::disk::staging::{is_own_folder, looks_staged};
use crate::disk::{FileError, Folder};
use crate::ground::entry::{Entry, EntryKind, EntryPath, ListedEntry, link_stays_inside};
use crate::ground::ownership::OwnerKey;
use std::ffi::OsStr;

/// Why something is not landed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NotLandedWhy {
    /// It would come to lie among unfinished work of this user's, which the next run clears.
    AmongUnfinished,
    /// It is a link, and the system, or the file system, lets none be made.
    NoLinks,
}

/// A link that was not made, because it could lead outside the destination.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RefusedLink {
    /// The link.
    pub path: EntryPath,
    /// Where it would have led.
    pub target: Vec<u8>,
}

/// Something that was in the archive, and is not landed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NotLanded {
    /// Its path in the archive.
    pub path: EntryPath,
    /// Why.
    pub why: NotLandedWhy,
}

/// The links of these entries that are not made, since they could lead outside; those that are not extracted anyway do not count.
pub(super) fn refused_links(entries: &[ListedEntry], resolutions: &Resolutions) -> Vec<RefusedLink> {
    let is_extracted = |path| !matches!(resolutions.get(path), Some(Resolution::Leave | Resolution::Keep));
    let refused = outward_links(entries).map(|listed| &listed.entry).filter(|entry| is_extracted(&entry.path));
    refused.map(|entry| RefusedLink { path: entry.path.clone(), target: entry.link_target.clone() }).collect()
}

/// The links of these entries that are made nowhere, since they could lead outside.
pub fn outward_links(entries: &[ListedEntry]) -> impl Iterator<Item = &ListedEntry> {
    let leads_outside = |entry: &Entry| !link_stays_inside(&entry.path, &entry.link_target);
    entries.iter().filter(move |listed| listed.entry.kind == EntryKind::Link && leads_outside(&listed.entry))
}

/// What of these entries is not landed in a folder, which has this name, in their order.
///
/// # Errors
/// [`FileError`] where it cannot be seen whose something is that looks like unfinished work.
pub(super) fn not_landed(
    root: &Folder,
    name: Option<&OsStr>,
    entries: &[ListedEntry],
    key: &OwnerKey,
) -> Result<Vec<NotLanded>, FileError> {
    let mut found = Vec::new();
    for listed in entries {
        let path = &listed.entry.path;
        if is_among_unfinished(root, name, path, key)? {
            found.push(NotLanded { path: path.clone(), why: NotLandedWhy::AmongUnfinished });
        }
    }
    Ok(found)
}

fn is_among_unfinished(
    root: &Folder,
    name: Option<&OsStr>,
    path: &EntryPath,
    key: &OwnerKey,
) -> Result<bool, FileError> {
    let mut folder_name = name.unwrap_or_default().to_owned();
    let mut above: Vec<u8> = Vec::new();
    for component in path.components() {
        let name_here = name_of(component);
        if is_arriving(root, component, key)? {
            return Ok(true);
        }
        // What is not there yet nobody has left anything in.
        if looks_staged(&folder_name, &name_here)
            && let Ok(folder) = below(root, &above)
            && is_own_folder(&folder, &folder_name, key)?
        {
            return Ok(true);
        }
        if !above.is_empty() {
            above.push(b'/');
        }
        above.extend_from_slice(component);
        folder_name = name_here;
    }
    Ok(false)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::disk::own_name;
    use crate::disk::staging::Staging;
    use crate::ground::context::for_tests::in_context;
    use rstest::rstest;
    use std::fs;

    /// In a folder where this user packs `form` right now, and others seem to have left work.
    #[rstest]
    #[case::plain("a/steps", false)]
    #[case::called_like_a_step("theirs.unfinished/steps", false)]
    #[case::called_like_a_volume("theirs.unfinished/volume-00001", false)]
    #[case::called_like_a_marker(".arriving-0123456789abcdef", false)]
    #[case::in_what_is_not_there("new.unfinished/in-use-0", false)]
    #[case::the_folder_itself("form.unfinished", false)]
    #[case::beside_what_is_staged("form.unfinished/notes", false)]
    #[case::among_what_is_staged("form.unfinished/volume-00001", true)]
    #[case::below_a_lock("form.unfinished/in-use-0/x", true)]
    fn only_what_is_provably_unfinished_is_kept_clear(#[case] path: &str, #[case] expected: bool) {
        let place = tempfile::tempdir().unwrap();
        fs::create_dir(place.path().join("theirs.unfinished")).unwrap();
        fs::write(place.path().join("theirs.unfinished/in-use-0123"), "").unwrap();
        let open = || Folder::open(place.path()).unwrap();
        in_context(|context| {
            let _staging = Staging::begin(open(), "form".as_ref(), context).unwrap();
            let found = is_among_unfinished(&open(), None, &EntryPath::new(path).unwrap(), &(context.owner_key)());
            assert_eq!(found.unwrap(), expected);
        });
    }

    #[test]
    fn a_marker_of_this_users_is_known_by_its_proof() {
        let place = tempfile::tempdir().unwrap();
        let (root, key) = (Folder::open(place.path()).unwrap(), OwnerKey::new(&[7; 32]));
        let marker = own_name(&root, ".arriving-", 3, &key).unwrap().into_string().unwrap();
        for (path, expected) in
            [(marker.clone(), true), (format!("a/{marker}-1"), true), (marker.replace('3', "4"), false)]
        {
            assert_eq!(is_among_unfinished(&root, None, &EntryPath::new(path).unwrap(), &key).unwrap(), expected);
        }
    }
}
