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
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct FurtherName {
    /// Its place in the list.
    pub at: usize,
    /// The place in the list of the file that has the content.
    pub owner: usize,
    /// What it has for content: that of the file, which it says.
    content: Content,
}

/// The further names in a list, by their places.
#[derive(Debug, Default)]
pub(super) struct FurtherNames(Vec<FurtherName>);

impl FurtherNames {
    /// Finds those that are recorded as links and are files in truth. `entry` gives what is recorded at a place of a list of `count`.
    pub fn find<E: From<Malformed>>(
        count: usize,
        entry: impl Fn(usize) -> Result<ListedEntry, E>,
        sharing: &[Sharing],
    ) -> Result<Self, E> {
        let mut ids: Vec<u64> = sharing.iter().flat_map(|Sharing { id, owner }| [*id, *owner]).collect();
        ids.sort_unstable();
        ids.dedup();
        let mut places = vec![None; ids.len()];
        for at in (0..count).take_while(|_| !ids.is_empty()) {
            if let Ok(found) = ids.binary_search(&entry(at)?.entry.id) {
                places[found] = Some(at);
            }
        }
        let malformed = Malformed("further name");
        let place_of = |id: u64| ids.binary_search(&id).ok().and_then(|found| places[found]).ok_or(malformed);
        let at_places = |Sharing { id, owner }: &Sharing| Ok((place_of(*id)?, place_of(*owner)?));
        let mut pairs = sharing.iter().map(at_places).collect::<Result<Vec<_>, Malformed>>()?;
        pairs.sort_unstable();
        let shared = |(at, owner): (usize, usize)| -> Result<FurtherName, E> {
            let (name, file) = (entry(at)?.entry, entry(owner)?);
            let is_same_file = (name.mode, name.modified) == (file.entry.mode, file.entry.modified);
            let leads_there =
                name.kind == EntryKind::Link && name.link_target == target_from(&name.path, &file.entry.path);
            // One further name cannot be the owner of another, which it is recorded as a link for.
            if !is_same_file || !leads_there || file.entry.kind != EntryKind::File {
                return Err(malformed.into());
            }
            Ok(FurtherName::of(at, owner, &file))
        };
        Ok(Self(pairs.into_iter().map(shared).collect::<Result<_, _>>()?))
    }

    /// How many there are.
    pub const fn count(&self) -> usize {
        self.0.len()
    }

    /// The further name at a place, if there is one.
    pub fn get(&self, at: usize) -> Option<&FurtherName> {
        self.0.binary_search_by_key(&at, |further| further.at).ok().map(|found| &self.0[found])
    }

    /// Whether at a place there is one.
    pub fn contains(&self, at: usize) -> bool {
        self.get(at).is_some()
    }

    /// All of them, by their places.
    pub fn iter(&self) -> impl Iterator<Item = &FurtherName> {
        self.0.iter()
    }

    /// What is recorded at a place, as it is in truth.
    pub fn listed(&self, at: usize, recorded: ListedEntry) -> ListedEntry {
        let Some(FurtherName { content, .. }) = self.get(at) else { return recorded };
        let entry = Entry { kind: EntryKind::File, link_target: Vec::new(), ..recorded.entry };
        ListedEntry { entry, content: *content }
    }
}

impl FromIterator<FurtherName> for FurtherNames {
    fn from_iter<T: IntoIterator<Item = FurtherName>>(names: T) -> Self {
        let mut names: Vec<FurtherName> = names.into_iter().collect();
        names.sort_unstable_by_key(|further| further.at);
        Self(names)
    }
}

impl FurtherName {
    /// The further name at a place of the file at another.
    pub fn of(at: usize, owner: usize, file: &ListedEntry) -> Self {
        Self { at, owner, content: Content { shared_with: Some(file.entry.id), ..file.content } }
    }
}

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

/// Hands further names to a sink, given under which of its names each file was handed over before, by the files' places in the list.
/// Those that the sink does not take so, `deliver` hands to it with the content of their owner: it is told which owner under which name.
/// `entry` gives what is listed at a place.
pub(super) fn hand_over<E: From<Cancelled>>(
    mut left: Vec<usize>,
    mut delivered: HashMap<usize, usize>,
    (entry, further): (impl Fn(usize) -> Result<ListedEntry, E>, &FurtherNames),
    sink: &mut dyn EntrySink,
    mut deliver: impl FnMut(&HashMap<usize, usize>, &mut dyn EntrySink) -> Result<(), E>,
) -> Result<(), E> {
    loop {
        let (mut anew, mut later) = (HashMap::new(), Vec::new());
        for at in left {
            let Some(FurtherName { owner, .. }) = further.get(at) else { continue };
            if let Some(before) = delivered.get(owner) {
                let (name, before) = (entry(at)?, entry(*before)?);
                if sink.further_name(&name.entry, &before.entry, &name.content)? {
                    continue;
                }
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
        let found = FurtherNames::find(entries.len(), |at| Ok::<_, Malformed>(entries[at].clone()), &sharing).ok();
        assert_eq!(found.as_ref().map(FurtherNames::count), expected);
        let Some(found) = found else { return };
        assert!(found.iter().map(|further| further.at).eq((0..entries.len()).filter(|at| found.contains(*at))));
        for FurtherName { at, owner, .. } in found.iter() {
            let listed = found.listed(*at, entries[*at].clone());
            let Content { size, shared_with, .. } = listed.content;
            assert_eq!((size, shared_with), (9, Some(entries[*owner].entry.id)));
            assert_eq!((listed.entry.kind, listed.entry.link_target.as_slice()), (EntryKind::File, &b""[..]));
            let again = recorded(&listed, &entries[*owner].entry.path).unwrap();
            assert_eq!((again.entry, again.content.shared_with), (entries[*at].entry.clone(), shared_with));
        }
    }

    #[rstest]
    #[case(MAX_FURTHER_NAMES - 1, true)]
    #[case(MAX_FURTHER_NAMES, false)]
    fn an_archive_has_room_for_so_many(#[case] already: usize, #[case] has: bool) {
        assert_eq!(has_room(already), has);
    }

    #[rstest]
    #[case(MAX_LINK_TARGET_BYTES, true)]
    #[case(MAX_LINK_TARGET_BYTES + 1, false)]
    fn a_name_may_be_so_far_from_its_file(#[case] bytes: usize, #[case] near: bool) {
        let owner = EntryPath::new(vec![b'a'; bytes]).unwrap();
        let name = further_at("b");
        assert_eq!((can_be_recorded(&name.entry.path, &owner), recorded(&name, &owner).is_some()), (near, near));
    }

    fn further_at(path: &str) -> ListedEntry {
        ListedEntry { content: Content { shared_with: Some(1), ..Content::default() }, ..file(2, path) }
    }
}
