//! Further names of files (hard links): a content that several names share is stored once.
//!
//! To a reader that does not know them they are symbolic links to the file, so that nothing is lost to it. A property of the root says
//! which links are files in truth (docs/format.md 3.4). Here the two are turned into each other: an entry as it is *recorded*, in its
//! record and its page, and as it is *listed*, a file with the content of another.

use crate::ground::context::Cancelled;
use crate::ground::entry::{Content, Entry, EntryKind, EntryPath, ListedEntry, MAX_LINK_TARGET_BYTES};
use crate::ground::sink::EntrySink;
use crate::ground::wire::Malformed;
use std::collections::HashMap;
use std::collections::hash_map::Entry as Slot;

/// The most further names of files in an archive; with the ids of both, 4 MiB of its root.
pub const MAX_FURTHER_NAMES: usize = 262_144;

/// A further name, and the file whose content it has, by their ids.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Sharing {
    /// The further name.
    pub id: u64,
    /// The file that has the content.
    pub owner: u64,
}

/// Another path, time or mode that a further name or its file was given would leave the name too far from the file to be one (see
/// [`recorded`]).
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("a further name too far from its file")]
pub struct TooFar(pub EntryPath);

/// A further name in a list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct FurtherName {
    /// The place in the list of the file that has the content.
    pub owner: usize,
    /// Its entry as it is recorded.
    pub recorded: Entry,
}

/// The further names in a list, by their places.
pub(super) type FurtherNames = HashMap<usize, FurtherName>;

/// A further name as it is recorded: a symbolic link that leads from it to the file with the content. `None` where that is too long
/// for one.
pub fn recorded(listed: &ListedEntry, owner: &EntryPath) -> Option<ListedEntry> {
    let link_target = target_from(&listed.entry.path, owner);
    let fits = can_be_recorded(&listed.entry.path, owner);
    let entry = Entry { kind: EntryKind::Link, link_target, ..listed.entry.clone() };
    let content = Content { shared_with: listed.content.shared_with, ..Content::default() };
    fits.then_some(ListedEntry { entry, content })
}

/// Whether a name is not too far from its file in the tree.
pub fn can_be_recorded(path: &EntryPath, owner: &EntryPath) -> bool {
    target_from(path, owner).len() <= MAX_LINK_TARGET_BYTES
}

/// What an entry is in truth that is recorded so.
pub(super) const fn kind_of(entry: &Entry, content: &Content) -> EntryKind {
    if content.shared_with.is_some() { EntryKind::File } else { entry.kind }
}

/// Turns those that are recorded as links into the files that they are in truth.
pub(super) fn listed(entries: &mut [ListedEntry], sharing: &[Sharing]) -> Result<FurtherNames, Malformed> {
    if sharing.is_empty() {
        return Ok(FurtherNames::new());
    }
    let malformed = Malformed("further name");
    let places: HashMap<u64, usize> = entries.iter().enumerate().map(|(at, listed)| (listed.entry.id, at)).collect();
    let place_of = |id: u64| places.get(&id).copied().ok_or(malformed);
    let mut further = FurtherNames::new();
    for Sharing { id, owner } in sharing {
        let (at, owner_at) = (place_of(*id)?, place_of(*owner)?);
        let (name, file) = (&entries[at].entry, &entries[owner_at].entry);
        let is_same_file = (name.mode, name.modified) == (file.mode, file.modified);
        let leads_there = name.kind == EntryKind::Link && name.link_target == target_from(&name.path, &file.path);
        // One further name cannot be the owner of another: by now it is a file, which its content tells apart.
        let is_owner = file.kind == EntryKind::File && entries[owner_at].content.shared_with.is_none();
        if !is_same_file || !leads_there || !is_owner {
            return Err(malformed);
        }
        let content = Content { shared_with: Some(*owner), ..entries[owner_at].content };
        let entry = Entry { kind: EntryKind::File, link_target: Vec::new(), ..name.clone() };
        let recorded = std::mem::replace(&mut entries[at], ListedEntry { entry, content }).entry;
        further.insert(at, FurtherName { owner: owner_at, recorded });
    }
    Ok(further)
}

/// Hands further names to a sink, given under which of its names each file was handed over before, by the files' places in the list.
/// Those that the sink does not take so, `deliver` hands to it with the content of their owner: it is told which owner under which name.
pub(super) fn hand_over<E: From<Cancelled>>(
    mut left: Vec<usize>,
    mut delivered: HashMap<usize, usize>,
    (entries, further): (&[ListedEntry], &FurtherNames),
    sink: &mut dyn EntrySink,
    mut deliver: impl FnMut(&HashMap<usize, usize>, &mut dyn EntrySink) -> Result<(), E>,
) -> Result<(), E> {
    loop {
        let (mut anew, mut later) = (HashMap::new(), Vec::new());
        for at in left {
            let Some(FurtherName { owner, .. }) = further.get(&at) else { continue };
            if let Some(before) = delivered.get(owner)
                && sink.further_name(&entries[at].entry, &entries[*before].entry, &entries[at].content)?
            {
                continue;
            }
            match anew.entry(*owner) {
                Slot::Vacant(slot) => drop(slot.insert(at)),
                Slot::Occupied(_) => later.push(at),
            }
        }
        if anew.is_empty() {
            return Ok(());
        }
        deliver(&anew, sink)?;
        delivered.extend(anew);
        left = later;
    }
}

/// Whether so many further names, and one more, still go into an archive.
pub const fn has_room(already: usize) -> bool {
    already < MAX_FURTHER_NAMES
}

/// What a link at `from` says to lead to `to`.
fn target_from(from: &EntryPath, to: &EntryPath) -> Vec<u8> {
    let folder: Vec<&[u8]> = from.components().take(from.depth() - 1).collect();
    let to: Vec<&[u8]> = to.components().collect();
    let common = folder.iter().zip(&to).take_while(|(one, other)| one == other).count();
    let up = std::iter::repeat_n(&b".."[..], folder.len() - common);
    up.chain(to[common..].iter().copied()).collect::<Vec<_>>().join(&b'/')
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ground::entry::Timestamp;
    use rstest::rstest;

    #[rstest]
    #[case("a/b/c", "a/b/d", "d")]
    #[case("a/b/c", "a/d", "../d")]
    #[case("a/b/c", "d/e", "../../d/e")]
    #[case("c", "d/e", "d/e")]
    #[case("d/e/f", "d/e/e", "e")]
    fn a_link_leads_from_one_path_to_the_other(#[case] from: &str, #[case] to: &str, #[case] target: &str) {
        let [from, to] = [from, to].map(|path| EntryPath::new(path).unwrap());
        assert_eq!(target_from(&from, &to), target.as_bytes());
    }

    fn file(id: u64, path: &str) -> ListedEntry {
        let (path, modified) = (EntryPath::new(path).unwrap(), Timestamp::default());
        let entry = Entry { id, path, kind: EntryKind::File, mode: 0o644, modified, link_target: Vec::new() };
        ListedEntry { entry, content: Content { size: 9, digest: [3; 32], ..Content::default() } }
    }

    fn further(id: u64, path: &str, owner: &ListedEntry) -> ListedEntry {
        let shared_with = Some(owner.entry.id);
        let listed = ListedEntry { content: Content { shared_with, ..owner.content }, ..file(id, path) };
        recorded(&listed, &owner.entry.path).unwrap()
    }

    fn lamp() -> Vec<ListedEntry> {
        let lamp = file(1, "lamp");
        vec![lamp.clone(), further(2, "tower/lamp", &lamp), further(3, "tower/light", &lamp)]
    }

    /// What a hostile sender changes, what it says of which file has which content, and how many further names are found then.
    #[rstest]
    #[case::as_it_is(|_: &mut [ListedEntry]| {}, &[(2, 1), (3, 1)], Some(2))]
    #[case::one_is_a_link(|_: &mut [ListedEntry]| {}, &[(3, 1)], Some(1))]
    #[case::of_itself(|_: &mut [ListedEntry]| {}, &[(2, 2)], None)]
    #[case::of_a_further_name(|_: &mut [ListedEntry]| {}, &[(2, 1), (3, 2)], None)]
    #[case::of_nothing(|_: &mut [ListedEntry]| {}, &[(2, 9)], None)]
    #[case::nothing(|_: &mut [ListedEntry]| {}, &[(9, 1)], None)]
    #[case::a_file(|_: &mut [ListedEntry]| {}, &[(1, 2)], None)]
    #[case::of_a_folder(|all: &mut [ListedEntry]| all[0].entry.kind = EntryKind::Folder, &[(2, 1)], None)]
    #[case::leading_out(|all: &mut [ListedEntry]| all[1].entry.link_target = b"../../lamp".to_vec(), &[(2, 1)], None)]
    #[case::leading_elsewhere(|all: &mut [ListedEntry]| all[1].entry.link_target = b"light".to_vec(), &[(2, 1)], None)]
    #[case::with_another_mode(|all: &mut [ListedEntry]| all[1].entry.mode = 0o600, &[(2, 1)], None)]
    fn what_is_recorded_as_a_link_is_a_file_or_refused(
        #[case] change: fn(&mut [ListedEntry]),
        #[case] sharing: &[(u64, u64)],
        #[case] expected: Option<usize>,
    ) {
        let mut entries = lamp();
        change(&mut entries);
        let sharing: Vec<Sharing> = sharing.iter().map(|&(id, owner)| Sharing { id, owner }).collect();
        let found = listed(&mut entries, &sharing).ok();
        assert_eq!(found.as_ref().map(HashMap::len), expected);
        for (at, FurtherName { owner, recorded: link }) in found.into_iter().flatten() {
            assert_eq!((entries[at].content.size, entries[at].entry.kind), (9, EntryKind::File));
            assert_eq!(recorded(&entries[at], &entries[owner].entry.path).unwrap().entry, link);
        }
    }
}
