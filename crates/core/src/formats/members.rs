//! Members of archives in open formats: what they call things, made into safe paths, sorted, with the folders that only
//! their names imply. Whoever wrote such an archive may be hostile, so what cannot be a path here is refused by name, and
//! the rest goes on.

use crate::ground::entry::{Content, Entry, EntryKind, EntryPath, ListedEntry, PathError, Timestamp};
use std::collections::BTreeMap;
use std::collections::btree_map::Entry as Slot;

/// Permission bits of a folder that no member describes.
const IMPLIED_FOLDER_MODE: u32 = 0o755;

/// A member as its format describes it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Member {
    /// Its name: components joined by slashes.
    pub name: Vec<u8>,
    /// File, folder or link; `None` for a device or whatever else cannot be extracted.
    pub kind: Option<EntryKind>,
    /// Permission bits.
    pub mode: u32,
    /// When it was modified.
    pub modified: Timestamp,
    /// Content bytes.
    pub size: u64,
    /// A link's target.
    pub link_target: Vec<u8>,
}

/// Where contents share what is stored, they come to no more than so many times as much: else they would cost an archive nothing,
/// and a disk a lot.
pub const MAX_SHARING: u64 = 64;

/// Second names of files come out without being stored: they cost an archive nothing, and a disk a lot where they become copies. In all
/// they come to no more than this many bytes, or than [`MAX_SHARING`] times what is stored where that is more.
pub const MAX_UNSTORED_BYTES: u64 = 64 * 1024 * 1024 * 1024;

/// Holes come out as holes, which most disks have for nothing. All of an archive come to no more than this many bytes: as large a file as
/// most systems can have.
pub const MAX_HOLES_BYTES: u64 = 16 * 1024 * 1024 * 1024 * 1024;

/// No archive in an open format has more entries than this.
pub const MAX_ENTRIES: usize = 10_000_000;

/// All paths in an archive in an open format together, with those of the folders that they imply, are no longer than this, in bytes:
/// deep folders, and long names that compress well, could make much of little.
pub const MAX_PATHS_BYTES: usize = 256 * 1024 * 1024;

/// A member that is not extracted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refused {
    /// What the archive calls it.
    pub name: Vec<u8>,
    /// Why.
    pub why: RefusedReason,
}

/// Why a member is refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum RefusedReason {
    /// Its name cannot be a path inside a folder.
    #[error(transparent)]
    Path(#[from] PathError),
    /// The paths of all members, with the folders that they imply, are longer than [`MAX_PATHS_BYTES`].
    #[error("paths too long together")]
    LongPaths,
    /// A link whose target is empty.
    #[error("a link without a target")]
    EmptyLink,
    /// Its content, or what describes it, ends before it should.
    #[error("cut short or damaged")]
    CutShort,
    /// It is compressed in a way that is not read here.
    #[error("compression method {0}")]
    Method(u16),
    /// It is encrypted in a way that is not read here.
    #[error("unknown encryption")]
    Encryption,
    /// Another member has that name.
    #[error("a name that stands twice")]
    Twice,
    /// It would lie in something that is no folder.
    #[error("below no folder")]
    InNoFolder,
    /// A file with holes that are stored in a way that is not read.
    #[error("unknown storage of holes")]
    Sparse,
    /// Holes, or a second name of a file: there are too many of them, and nothing of them is stored.
    #[error("too much that is not stored")]
    Unstored,
    /// It is compressed within a disc image, in a way that is not read here.
    #[error("compressed within the image")]
    Compressed,
    /// Its name would be a path of its own.
    #[error("a slash within a name")]
    Separator,
    /// A second name for something that does not stand before it in the archive.
    #[error("a link to nothing")]
    NoTarget,
    /// A device, a pipe or the like.
    #[error("neither file, folder nor link")]
    Special,
}

/// Members in the order of their paths.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Tree {
    /// Every entry, sorted by path; the digests are zero.
    pub listed: Vec<ListedEntry>,
    /// For each of them the member's place in the archive; `None` for a folder that only names imply.
    pub members: Vec<Option<usize>>,
    /// What is not among them.
    pub refused: Vec<Refused>,
}

/// Which of two members with one name counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SameName {
    /// The later one: an archive that is appended to replaces so.
    LaterCounts,
    /// The earlier one, and the later is refused: readers would differ about it.
    LaterRefused,
}

/// A path as a member's name gives it: without `.` and empty components, which change nothing.
pub fn path_of(name: &[u8]) -> Result<EntryPath, PathError> {
    if name.first() == Some(&b'/') {
        return Err(PathError::Absolute);
    }
    let components = name.split(|byte| *byte == b'/').filter(|component| !matches!(*component, b"" | b"."));
    EntryPath::new(components.collect::<Vec<_>>().join(&b'/'))
}

impl Tree {
    /// Sorts members into a tree. It takes time and memory for the bytes of all paths, and no more.
    pub fn grow(members: &[Member], same_name: SameName) -> Self {
        let mut growing = GrowingTree { members, ..GrowingTree::default() };
        let mut chosen: BTreeMap<EntryPath, usize> = BTreeMap::new();
        for (place, member) in members.iter().enumerate() {
            if let Err(why) = choose(&mut chosen, place, members, same_name) {
                growing.refuse(place, why);
            } else {
                growing.paths_bytes += member.name.len();
            }
        }
        // A folder comes before what is in it, so each finds what it lies in.
        for (path, place) in chosen {
            if let Err(why) = growing.add(path, place) {
                growing.refuse(place, why);
            }
        }
        growing.finish()
    }
}

/// Lets a member have its path, unless another has it.
fn choose(
    chosen: &mut BTreeMap<EntryPath, usize>,
    place: usize,
    members: &[Member],
    same_name: SameName,
) -> Result<(), RefusedReason> {
    let member = &members[place];
    let kind = member.kind.ok_or(RefusedReason::Special)?;
    // Where a link's target is encrypted, it has a length all the same.
    if kind == EntryKind::Link && member.link_target.is_empty() && member.size == 0 {
        return Err(RefusedReason::EmptyLink);
    }
    let path = match path_of(&member.name) {
        // The folder that everything lies in, as some archives name it.
        Err(PathError::Empty) if kind == EntryKind::Folder => return Ok(()),
        path => path?,
    };
    match chosen.entry(path) {
        Slot::Vacant(slot) => {
            slot.insert(place);
        }
        Slot::Occupied(mut slot) => {
            let both_folders = |other: Option<EntryKind>| other == Some(EntryKind::Folder);
            let same = both_folders(members[*slot.get()].kind) == both_folders(Some(kind));
            if same_name == SameName::LaterRefused || !same {
                return Err(RefusedReason::Twice);
            }
            slot.insert(place);
        }
    }
    Ok(())
}

/// A tree as far as it has grown: what was added last, with the folders above it, can still change.
#[derive(Default)]
struct GrowingTree<'a> {
    members: &'a [Member],
    grown: Vec<(EntryPath, Growing)>,
    /// The places, in what has grown, of the last entry and the folders above it, from the top down.
    way: Vec<usize>,
    paths_bytes: usize,
    refused: Vec<Refused>,
}

impl GrowingTree<'_> {
    fn refuse(&mut self, place: usize, why: RefusedReason) {
        self.refused.push(Refused { name: self.members[place].name.clone(), why });
    }

    /// Adds a member behind those whose paths come before its own, with the folders above it that are not there.
    fn add(&mut self, path: EntryPath, place: usize) -> Result<(), RefusedReason> {
        while self.way.last().is_some_and(|last| !path.is_below(&self.grown[*last].0)) {
            self.leave();
        }
        let depth = path.depth();
        let member = &self.members[place];
        let kind = member.kind.unwrap_or(EntryKind::File);
        if self.way.last().is_some_and(|last| self.grown[*last].1.kind != EntryKind::Folder) {
            return Err(RefusedReason::InNoFolder);
        }
        for above in self.way.len() + 1..depth {
            let Some(folder) = path.first_components(above) else { continue };
            self.paths_bytes = self.paths_bytes.saturating_add(folder.as_bytes().len());
            if self.paths_bytes > MAX_PATHS_BYTES {
                return Err(RefusedReason::LongPaths);
            }
            self.enter(folder, Growing { member: None, kind: EntryKind::Folder, latest: None });
        }
        self.enter(path, Growing { member: Some(place), kind, latest: Some(member.modified) });
        Ok(())
    }

    fn enter(&mut self, path: EntryPath, grown: Growing) {
        self.way.push(self.grown.len());
        self.grown.push((path, grown));
    }

    /// Nothing more comes below the last entry: the folder above it is as young as that, at least.
    fn leave(&mut self) {
        let Some(last) = self.way.pop() else { return };
        let latest = self.grown[last].1.latest;
        if let Some(above) = self.way.last() {
            let above = &mut self.grown[*above].1;
            above.latest = above.latest.max(latest);
        }
    }

    fn finish(mut self) -> Tree {
        while !self.way.is_empty() {
            self.leave();
        }
        let mut tree = Tree { refused: self.refused, ..Tree::default() };
        for (id, (path, grown)) in (1..).zip(self.grown) {
            tree.listed.push(grown.listed(id, path, self.members));
            tree.members.push(grown.member);
        }
        tree
    }
}

/// An entry while the tree grows.
struct Growing {
    member: Option<usize>,
    kind: EntryKind,
    /// When it, or the youngest thing in it, was modified, for a folder of which nothing else says.
    latest: Option<Timestamp>,
}

impl Growing {
    fn listed(&self, id: u64, path: EntryPath, members: &[Member]) -> ListedEntry {
        let entry = match self.member.map(|place| &members[place]) {
            Some(member) => Entry {
                id,
                path,
                kind: self.kind,
                mode: member.mode,
                modified: member.modified,
                link_target: member.link_target.clone(),
            },
            None => Entry {
                id,
                path,
                kind: EntryKind::Folder,
                mode: IMPLIED_FOLDER_MODE,
                modified: self.latest.unwrap_or_default(),
                link_target: Vec::new(),
            },
        };
        let size = self.member.filter(|_| self.kind == EntryKind::File).map_or(0, |place| members[place].size);
        ListedEntry { entry, content: Content { size, ..Content::default() } }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn member(name: &str) -> Member {
        let kind = match name.chars().last() {
            Some('/') => Some(EntryKind::Folder),
            Some('|') => None,
            _ => Some(EntryKind::File),
        };
        let modified = Timestamp { seconds: name.len() as i64, nanoseconds: 0 };
        Member { name: name.into(), kind, mode: 0o644, modified, size: 1, link_target: Vec::new() }
    }

    /// Names, the paths that come of them, and what is refused.
    #[rstest]
    #[case::folders_are_implied(&["a/b/c"], &["a", "a/b", "a/b/c"], &[])]
    #[case::what_changes_nothing_goes(&["./", "./a//b/"], &["a", "a/b"], &[])]
    #[case::leading_elsewhere(&["/etc/passwd", "../x", "a/../../x", "ok"], &["ok"], &["/etc/passwd", "../x", "a/../../x"])]
    #[case::nothing_and_nul(&["", "a\0b"], &[], &["", "a\0b"])]
    #[case::inside_a_file(&["a", "a/b"], &["a"], &["a/b"])]
    #[case::a_file_that_is_a_folder_too(&["a/", "a"], &["a"], &["a"])]
    #[case::twice(&["a", "b", "a"], &["a", "b"], &["a"])]
    #[case::device(&["tty|"], &[], &["tty|"])]
    fn names_become_paths_or_are_refused(#[case] names: &[&str], #[case] paths: &[&str], #[case] refused: &[&str]) {
        let members: Vec<Member> = names.iter().map(|name| member(name)).collect();
        let tree = Tree::grow(&members, SameName::LaterRefused);
        let found: Vec<_> = tree.listed.iter().map(|listed| listed.entry.path.as_bytes()).collect();
        assert_eq!(found, paths.iter().map(|path| path.as_bytes()).collect::<Vec<_>>());
        let found: Vec<_> = tree.refused.iter().map(|refused| refused.name.as_slice()).collect();
        assert_eq!(found, refused.iter().map(|name| name.as_bytes()).collect::<Vec<_>>());
    }

    #[rstest]
    #[case::as_deep_as_can_be(256, &[])]
    #[case::deeper(257, &[PathError::TooDeep.into()])]
    fn paths_are_only_so_deep(#[case] depth: usize, #[case] refused: &[RefusedReason]) {
        let tree = Tree::grow(&[member(&vec!["a"; depth].join("/"))], SameName::LaterRefused);
        assert_eq!(tree.refused.iter().map(|refused| refused.why).collect::<Vec<_>>(), refused);
        assert_eq!(tree.listed.len(), if refused.is_empty() { depth } else { 0 });
    }

    #[test]
    fn an_implied_folder_is_as_old_as_the_youngest_thing_in_it() {
        let tree = Tree::grow(&[member("a/b"), member("a/long name")], SameName::LaterCounts);
        assert_eq!(tree.listed[0].entry.modified.seconds, 11);
    }

    #[test]
    fn where_the_later_counts_it_takes_the_place_of_the_earlier() {
        let tree = Tree::grow(&[member("a"), member("b"), member("a")], SameName::LaterCounts);
        assert_eq!((tree.members, tree.refused), (vec![Some(2), Some(1)], vec![]));
    }
}
