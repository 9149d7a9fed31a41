//! What could be in the way of an extraction, found before a byte is written.

use super::another_kind::tree_mark;
use super::clash::{Clash, KnownThere, OnClash, Resolution, Resolutions};
use super::destination::{Destination, OnUnsafeName};
use super::made_folder::MadeFolder;
use super::places::Places;
use super::unlandable::{NotLanded, RefusedLink, not_landed, refused_links};
use crate::disk::names::{name_of, path_of};
use crate::disk::{FileError, Folder, Interruption, absolute, free_bytes_for, interruptible};
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::context::Context;
use crate::ground::entry::{EntryKind, EntryPath, ListedEntry, is_at_or_above};
use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};

/// Why nothing can be extracted here.
#[derive(Debug, thiserror::Error)]
pub enum LandingError {
    /// These exist already and would be in the way.
    #[error("{} entries exist already", .0.len())]
    Clashes(Vec<PathBuf>),
    /// Folders are here where files or links are to be: no policy makes something else out of what is in them.
    #[error("{} folders are in the way of files", .0.len())]
    FoldersInTheWay(Vec<PathBuf>),
    /// These have names that cannot be here, and are not to be renamed.
    #[error("{} names cannot be here", .0.len())]
    UnsafeNames(Vec<EntryPath>),
    /// Whoever looked at the files before they land says no.
    #[error("{0}")]
    Screened(String),
    /// Whoever looked at the files has changed one, or taken it away.
    #[error("a file was changed while it was looked at")]
    ChangedByScreen(EntryPath),
    /// The disk has not enough room.
    #[error("{needed} bytes needed, {free} free")]
    NoRoom {
        /// Content bytes to be written.
        needed: u64,
        /// Bytes that are free.
        free: u64,
        /// Where.
        destination: PathBuf,
    },
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(LandingError);

impl Classed for LandingError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::Clashes(_)
            | Self::FoldersInTheWay(_)
            | Self::UnsafeNames(_)
            | Self::Screened(_)
            | Self::ChangedByScreen(_) => ErrorClass::Unsafe,
            Self::NoRoom { .. } => ErrorClass::System,
        }
    }
}

/// Looks at the destination without changing anything. The entries are those that the places were made for.
pub fn survey(
    into: Destination<'_>,
    places: &Places,
    entries: &[ListedEntry],
    context: &Context<'_>,
) -> Result<Foreseen, LandingError> {
    let entries = places.entries(entries);
    let renamed = places.named_otherwise.clone();
    if into.on_unsafe_name == OnUnsafeName::Refuse && !renamed.is_empty() {
        return Err(LandingError::UnsafeNames(renamed.into_iter().map(|(_, path)| path).collect()));
    }
    let destination = into.folder;
    let root = match Folder::open(destination) {
        Ok(root) => root,
        // What is not there has nothing in it; making it comes later, and tells if it cannot be made.
        Err(error) if error.source.kind() == std::io::ErrorKind::NotFound => {
            check_room(destination, entries)?;
            let refused_links = refused_links(entries, &Resolutions::default());
            return Ok(Foreseen { renamed, refused_links, ..Foreseen::default() });
        }
        Err(error) => return Err(error.into()),
    };
    let not_landed = not_landed(&root, absolute(destination).file_name(), entries, &(context.owner_key)())?;
    let left = not_landed.iter().map(|left| (left.path.clone(), Resolution::Leave)).collect();
    let (clashes, resolutions) = find_clashes((&root, places), entries, into, left, context)?;
    if !clashes.is_empty() {
        let path = |(path, _): (PathBuf, InTheWay)| path;
        let (folders, others): (Vec<_>, Vec<_>) = clashes.into_iter().partition(|(_, what)| *what == InTheWay::Folder);
        return Err(match folders.is_empty() {
            true => LandingError::Clashes(others.into_iter().map(path).collect()),
            false => LandingError::FoldersInTheWay(folders.into_iter().map(path).collect()),
        });
    }
    check_room(destination, entries)?;
    let refused_links = refused_links(entries, &resolutions);
    Ok(Foreseen { resolutions, not_landed, renamed, refused_links })
}

/// What was decided for the files that meet others.
#[derive(Debug, Default)]
pub struct Foreseen {
    pub(super) resolutions: Resolutions,
    /// What is not landed, whatever is there.
    pub not_landed: Vec<NotLanded>,
    /// What gets another name, since its own cannot be there: the path there, and that in the archive.
    pub renamed: Vec<(EntryPath, EntryPath)>,
    /// Links that are not made, since they could lead outside.
    pub refused_links: Vec<RefusedLink>,
}

impl Foreseen {
    /// How many files are kept, are replaced, and stand beside others then.
    pub fn counts(&self) -> (u64, u64, u64) {
        self.resolutions.values().fold((0, 0, 0), |(kept, replaced, beside), resolution| match resolution {
            Resolution::Leave | Resolution::Again => (kept, replaced, beside),
            Resolution::Keep => (kept + 1, replaced, beside),
            Resolution::Replace | Resolution::ReplaceTree(_) => (kept, replaced + 1, beside),
            Resolution::Beside(_) => (kept, replaced, beside + 1),
        })
    }
}

/// Whether the file system of this folder has room for all contents.
fn check_room(destination: &Path, entries: &[ListedEntry]) -> Result<(), LandingError> {
    // On a file system without holes it may turn out too little: what has landed until then goes again.
    let stored = |listed: &ListedEntry| listed.content.size.saturating_sub(listed.content.holes);
    // What further names share counts once, with the file or, where that is not among these, with one of them.
    let shared = |listed: &ListedEntry| Some((listed.content.shared_with?, stored(listed)));
    let mut shared: HashMap<u64, u64> = entries.iter().filter_map(shared).collect();
    let alone = entries.iter().filter(|listed| listed.content.shared_with.is_none());
    let of_files = alone.fold(0_u64, |needed, listed| {
        shared.remove(&listed.entry.id);
        needed.saturating_add(stored(listed))
    });
    let needed = shared.values().copied().fold(of_files, u64::saturating_add);
    match free_bytes_for(destination) {
        Some(free) if free < needed => Err(LandingError::NoRoom { needed, free, destination: absolute(destination) }),
        _ => Ok(()),
    }
}

/// What is in the way of an entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum InTheWay {
    /// A folder, where something else is to be.
    Folder,
    /// Anything else.
    Something,
}

/// Entries come sorted, so the folders on the way to the current one form a stack.
fn find_clashes(
    (root, places): (&Folder, &Places),
    entries: &[ListedEntry],
    Destination { on_clash, known, .. }: Destination<'_>,
    mut resolutions: Resolutions,
    context: &Context<'_>,
) -> Result<(Vec<(PathBuf, InTheWay)>, Resolutions), LandingError> {
    let mut clashes = Vec::new();
    // Only needed where names are made up.
    let mut given: HashSet<EntryPath> = match on_clash {
        OnClash::Both => entries.iter().map(|listed| listed.entry.path.clone()).collect(),
        _ => HashSet::new(),
    };
    let left: HashSet<EntryPath> = resolutions.keys().cloned().collect();
    let is_left = |path: &EntryPath| left.contains(path);
    let mut folders = OpenFolders { root, open: Vec::new(), closed: None };
    for listed in entries.iter().filter(|listed| !is_left(&listed.entry.path)) {
        context.go_on()?;
        let path = &listed.entry.path;
        let (parent, name) = path.parent_and_name();
        let gives_way = |path: &[u8]| {
            let path = EntryPath::new(path).ok();
            path.is_some_and(|path| resolutions.get(&path) == Some(&Resolution::Replace))
        };
        let Some(folder) = folders.to(parent, gives_way, &mut clashes)? else { continue };
        let name = &name_of(name);
        let was_known = known.and_then(|known| known.get(&places.path_in_archive(path))).copied();
        match (folder.kind_of(name)?, listed.entry.kind) {
            (None, _) => {}
            (Some(there), EntryKind::Folder) if there.is_dir() => {
                if MadeFolder::of(&listed.entry).is_as_it_was_to_be(folder, name)? {
                    resolutions.insert(path.clone(), Resolution::Again);
                }
            }
            (Some(there), EntryKind::File | EntryKind::Link) if there.is_file() || there.is_symlink() => {
                let is_there =
                    |path: &EntryPath| !matches!(folder.kind_of(&name_of(path.parent_and_name().1)), Ok(None));
                let taken = |path: &EntryPath| given.contains(path) || is_there(path);
                let beside = if given.is_empty() { None } else { path.free_beside(taken) };
                let clash = Clash { entry: &listed.entry, there: folder.size_and_time_of(name)?.1, beside };
                let known = was_known.map(|known| match known {
                    KnownThere::Outdated => Resolution::Replace,
                    KnownThere::UpToDate => Resolution::Keep,
                });
                match known.or_else(|| on_clash.resolve(clash)) {
                    Some(resolution) => {
                        if let Resolution::Beside(path) = &resolution {
                            given.insert(path.clone());
                        }
                        resolutions.insert(path.clone(), resolution);
                    }
                    None => clashes.push((place_below(root.path(), path), InTheWay::Something)),
                }
            }
            (Some(there), EntryKind::Folder)
                if (there.is_file() || there.is_symlink())
                    && (was_known == Some(KnownThere::Outdated) || known.is_some() && on_clash == OnClash::Replace) =>
            {
                resolutions.insert(path.clone(), Resolution::Replace);
            }
            (Some(there), _) if there.is_dir() && was_known == Some(KnownThere::Outdated) => {
                resolutions.insert(path.clone(), Resolution::ReplaceTree(tree_mark(folder, name)?));
            }
            // No policy makes something else out of a folder of which nothing is known, or out of a file where nobody told that it became one.
            (Some(there), _) => {
                let what = if there.is_dir() { InTheWay::Folder } else { InTheWay::Something };
                clashes.push((place_below(root.path(), path), what));
            }
        }
    }
    clashes.dedup();
    Ok((clashes, resolutions))
}

/// The folders of the destination that are open, from the top down.
struct OpenFolders<'a> {
    root: &'a Folder,
    open: Vec<(Vec<u8>, Folder)>,
    /// A path at which there is no folder, so nothing below it can be in the way.
    closed: Option<Vec<u8>>,
}

impl OpenFolders<'_> {
    /// The folder at this path of the archive, if the destination has it. What stands in its place is a clash.
    /// What gives way to a folder is none.
    fn to(
        &mut self,
        parent: Option<&[u8]>,
        gives_way: impl Fn(&[u8]) -> bool,
        clashes: &mut Vec<(PathBuf, InTheWay)>,
    ) -> Result<Option<&Folder>, FileError> {
        let Some(parent) = parent else { return Ok(Some(self.root)) };
        if self.closed.as_ref().is_some_and(|closed| is_at_or_above(closed, parent)) {
            return Ok(None);
        }
        while self.open.last().is_some_and(|(path, _)| !is_at_or_above(path, parent)) {
            self.open.pop();
        }
        let mut reached = self.open.last().map_or(0, |(path, _)| path.len());
        while reached < parent.len() {
            let from = if reached == 0 { 0 } else { reached + 1 };
            let length = parent[from..].iter().position(|byte| *byte == b'/');
            reached = length.map_or(parent.len(), |length| from + length);
            let name = &name_of(&parent[from..reached]);
            let above = self.open.last().map_or(self.root, |(_, folder)| folder);
            match above.kind_of(name)? {
                Some(kind) if kind.is_dir() => {
                    let folder = above.subfolder(name)?;
                    self.open.push((parent[..reached].to_vec(), folder));
                }
                in_the_way => {
                    if in_the_way.is_some() && !gives_way(&parent[..reached]) {
                        clashes.push((self.root.path().join(path_of(&parent[..reached])), InTheWay::Something));
                    }
                    self.closed = Some(parent[..reached].to_vec());
                    return Ok(None);
                }
            }
        }
        Ok(self.open.last().map(|(_, folder)| folder))
    }
}

/// Where an entry would stand below a destination.
pub(super) fn place_below(destination: &Path, path: &EntryPath) -> PathBuf {
    destination.join(path_of(path.as_bytes()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ground::entry::{Content, Entry, Timestamp};
    use rstest::rstest;

    const TOO_MUCH: u64 = u64::MAX / 2;

    fn file(id: u64, content: Content) -> ListedEntry {
        let path = EntryPath::new(format!("file {id}")).unwrap();
        let (kind, modified) = (EntryKind::File, Timestamp::default());
        ListedEntry { entry: Entry { id, path, kind, mode: 0o644, modified, link_target: Vec::new() }, content }
    }

    fn of(size: u64, holes: u64, shared_with: Option<u64>) -> Content {
        Content { size, holes, shared_with, ..Content::default() }
    }

    #[rstest]
    #[case::little(&[of(1, 0, None)], None)]
    #[case::more_than_any_disk_has(&[of(TOO_MUCH, 0, None), of(5, 0, None)], Some(TOO_MUCH + 5))]
    #[case::more_than_can_be_counted(&[of(u64::MAX, 0, None), of(5, 0, None)], Some(u64::MAX))]
    #[case::holes_need_none(&[of(TOO_MUCH, TOO_MUCH - 9, None)], None)]
    #[case::further_names_need_it_once(&[of(TOO_MUCH, 0, None), of(TOO_MUCH, 0, Some(1))], Some(TOO_MUCH))]
    #[case::further_names_alone(&[of(TOO_MUCH, 0, Some(7)), of(TOO_MUCH, 0, Some(7))], Some(TOO_MUCH))]
    fn what_the_disk_cannot_hold_is_refused_first(#[case] contents: &[Content], #[case] expected: Option<u64>) {
        let place = tempfile::tempdir().unwrap();
        let entries: Vec<_> = (1..).zip(contents).map(|(id, content)| file(id, *content)).collect();
        match (check_room(place.path(), &entries), expected) {
            (Ok(()), None) => {}
            (Err(LandingError::NoRoom { needed, .. }), Some(expected)) => assert_eq!(needed, expected),
            (outcome, expected) => panic!("{outcome:?} where {expected:?} bytes are needed"),
        }
    }
}
