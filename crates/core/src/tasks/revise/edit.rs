//! What an archive is to hold, as wishes change it one after another. Nothing is read or written here but lists.

use crate::ground::class::{Classed, ErrorClass};
use crate::ground::entry::{Entry, EntryKind, EntryPath, ListedEntry, PathError, Timestamp};
use crate::landing::OnClash;
use crate::source::{Catalogue, Origin, Patterns, SourceEntry};
use crate::tasks::compare::Comparison;
use std::collections::{BTreeMap, HashSet};

/// The mode of a folder that is made so that something can be put into it.
const MADE_FOLDER_MODE: u32 = 0o755;

/// Why an archive cannot be changed so. Nothing was written then.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum EditError {
    /// Nothing in it has this path.
    #[error("nothing inside has this path")]
    NotThere(EntryPath),
    /// Something in it has this path, and another cannot be renamed to it.
    #[error("something inside has this path already")]
    Taken(EntryPath),
    /// A folder cannot be put into itself.
    #[error("a folder cannot be put into itself")]
    IntoItself(EntryPath),
    /// What has this path inside is no folder, where one is needed, or a folder, where there is to be something else.
    #[error("it is in the way")]
    InTheWay(EntryPath),
    /// What is added meets these files and links inside.
    #[error("{} files are there already", .0.len())]
    Clashes(Vec<EntryPath>),
    /// Archive and disk have not one path in common.
    #[error("archive and disk have nothing in common")]
    NothingInCommon,
    /// A path that cannot be one inside an archive.
    #[error(transparent)]
    Path(#[from] PathError),
}

impl Classed for EditError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Clashes(_) => ErrorClass::Unsafe,
            _ => ErrorClass::Usage,
        }
    }
}

/// An entry that the archive is to hold.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Planned {
    /// What the archive has at this place of its list, described so.
    Old { place: usize, entry: Entry },
    /// From disk, or a folder that is made.
    Fresh(SourceEntry),
}

impl Planned {
    fn kind(&self) -> EntryKind {
        match self {
            Self::Old { entry, .. } => entry.kind,
            Self::Fresh(entry) => entry.kind,
        }
    }

    fn modified(&self) -> Timestamp {
        match self {
            Self::Old { entry, .. } => entry.modified,
            Self::Fresh(entry) => entry.modified,
        }
    }

    fn at(self, path: EntryPath) -> Self {
        match self {
            Self::Old { place, entry } => Self::Old { place, entry: Entry { path, ..entry } },
            Self::Fresh(entry) => Self::Fresh(SourceEntry { path, ..entry }),
        }
    }
}

/// An archive's entries, as they are to be.
#[derive(Debug)]
pub struct Edit<'a> {
    pub(super) listed: &'a [ListedEntry],
    /// The ids of files that have further names.
    owners: HashSet<u64>,
    pub(super) planned: BTreeMap<EntryPath, Planned>,
    /// What was renamed.
    pub(super) renamed: Vec<(EntryPath, EntryPath)>,
    /// When folders that are made were modified.
    now: Timestamp,
}

impl<'a> Edit<'a> {
    /// An archive that stays as it is.
    pub fn new(listed: &'a [ListedEntry], now: Timestamp) -> Self {
        let old = |(place, listed): (usize, &ListedEntry)| {
            let entry = listed.entry.clone();
            (entry.path.clone(), Planned::Old { place, entry })
        };
        let planned = listed.iter().enumerate().map(old).collect();
        let owners = listed.iter().filter_map(|listed| listed.content.shared_with).collect();
        Self { listed, owners, planned, renamed: Vec::new(), now }
    }

    /// Brings it up to date with a folder on disk, with which it was compared. Where that has only some of what stands at the
    /// archive's top, the rest stays; what cannot be read stays too.
    ///
    /// What goes by that, since it is not on disk any more.
    ///
    /// # Errors
    /// [`EditError::NothingInCommon`].
    pub fn refresh(&mut self, disk: &Catalogue, found: &Comparison) -> Result<Vec<EntryPath>, EditError> {
        // One folder at the top is taken for another of another name, so that alone says nothing.
        let says_something = |path: &EntryPath, kind: EntryKind| kind != EntryKind::Folder || path.depth() > 1;
        let is_in_common = found.both.iter().any(|compared| says_something(&compared.path, compared.kind));
        let could_be = self.listed.iter().any(|listed| says_something(&listed.entry.path, listed.entry.kind));
        let is_another = found.is_renamed() || found.both.is_empty();
        if could_be && is_another && !is_in_common && found.unreadable.is_empty() {
            return Err(EditError::NothingInCommon);
        }
        let tops: Vec<EntryPath> = found.both.iter().filter_map(|compared| compared.path.first_components(1)).collect();
        let is_compared =
            |path: &&EntryPath| path.first_components(1).is_some_and(|top| tops.binary_search(&top).is_ok());
        let gone: Vec<EntryPath> = found.removed.iter().filter(is_compared).cloned().collect();
        for path in &gone {
            self.planned.remove(path);
        }
        for entry in &disk.entries {
            let path = found.in_archive(&entry.path);
            if found.added.binary_search(&path).is_ok() {
                self.planned.insert(path.clone(), fresh(disk, entry, path));
                continue;
            }
            let Ok(at) = found.both.binary_search_by(|compared| compared.path.cmp(&path)) else { continue };
            let differences = found.both[at].differences;
            // Names that share a file share its mode and time; one of another is a file of its own now.
            let is_apart = differences.any() && self.is_shared(&path);
            if differences.kind || differences.content || is_apart {
                self.planned.insert(path.clone(), fresh(disk, entry, path));
            } else if differences.any()
                && let Some(Planned::Old { entry: old, .. }) = self.planned.get_mut(&path)
            {
                (old.mode, old.modified) = (entry.mode, entry.modified);
            }
        }
        Ok(gone)
    }

    /// Whether what the archive has at this path is a name of a file with several.
    fn is_shared(&self, path: &EntryPath) -> bool {
        let at = self.listed.binary_search_by(|listed| listed.entry.path.cmp(path));
        at.is_ok_and(|at| {
            let ListedEntry { entry, content } = &self.listed[at];
            content.shared_with.is_some() || self.owners.contains(&entry.id)
        })
    }

    /// Takes out what these patterns match, with all that lies in it. The patterns that matched nothing.
    pub fn remove(&mut self, patterns: &Patterns) -> Vec<String> {
        let mut used = vec![false; patterns.len()];
        let mut gone: Option<EntryPath> = None;
        self.planned.retain(|path, planned| {
            let matched = patterns.matching(path, planned.kind() == EntryKind::Folder);
            matched.iter().for_each(|pattern| used[*pattern] = true);
            if gone.as_ref().is_some_and(|folder| path.is_below(folder)) {
                return false;
            }
            if !matched.is_empty() {
                gone = Some(path.clone());
            }
            matched.is_empty()
        });
        patterns.written().iter().zip(used).filter(|(_, used)| !used).map(|(text, _)| text.clone()).collect()
    }

    /// Gives something another path, with all that lies in it.
    ///
    /// # Errors
    /// [`EditError`].
    pub fn rename(&mut self, old: &EntryPath, new: &EntryPath) -> Result<(), EditError> {
        let is_moved = |path: &EntryPath| path == old || path.is_below(old);
        if !self.planned.keys().any(is_moved) {
            return Err(EditError::NotThere(old.clone()));
        }
        if new.is_below(old) {
            return Err(EditError::IntoItself(old.clone()));
        }
        if self.planned.contains_key(new) || self.planned.keys().any(|path| path.is_below(new)) {
            return Err(EditError::Taken(new.clone()));
        }
        self.make_folders_above(new)?;
        let moved: Vec<EntryPath> = self.planned.keys().filter(|path| is_moved(path)).cloned().collect();
        for path in moved {
            let below = &path.as_bytes()[old.as_bytes().len()..];
            let renamed = EntryPath::new([new.as_bytes(), below].concat())?;
            if let Some(planned) = self.planned.remove(&path) {
                self.planned.insert(renamed.clone(), planned.at(renamed));
            }
        }
        self.renamed.push((old.clone(), new.clone()));
        Ok(())
    }

    /// Adds what is on disk, at the top or inside a folder.
    ///
    /// # Errors
    /// [`EditError`]; [`EditError::Clashes`] names all of them, where nothing is to be done about them unasked.
    pub fn add(&mut self, disk: &Catalogue, inside: Option<&EntryPath>, on_clash: OnClash) -> Result<(), EditError> {
        let mut clashes = Vec::new();
        for entry in &disk.entries {
            let path = match inside {
                Some(folder) => EntryPath::new([folder.as_bytes(), b"/", entry.path.as_bytes()].concat())?,
                None => entry.path.clone(),
            };
            self.make_folders_above(&path)?;
            let Some(there) = self.planned.get(&path) else {
                self.planned.insert(path.clone(), fresh(disk, entry, path));
                continue;
            };
            match (there.kind() == EntryKind::Folder, entry.kind == EntryKind::Folder) {
                (true, true) => continue,
                (false, false) => {}
                _ => return Err(EditError::InTheWay(path)),
            }
            let place = match on_clash {
                OnClash::Refuse => {
                    clashes.push(path);
                    continue;
                }
                OnClash::Replace => Some(path),
                OnClash::Newer => (entry.modified > there.modified()).then_some(path),
                OnClash::Keep => None,
                OnClash::Both => path.free_beside(|path| self.planned.contains_key(path)),
            };
            if let Some(path) = place {
                self.planned.insert(path.clone(), fresh(disk, entry, path));
            }
        }
        if clashes.is_empty() { Ok(()) } else { Err(EditError::Clashes(clashes)) }
    }

    /// Makes the folder, where it is not there.
    ///
    /// # Errors
    /// [`EditError::InTheWay`].
    fn make_folders_above(&mut self, path: &EntryPath) -> Result<(), EditError> {
        for folder in path.folders_above() {
            match self.planned.get(&folder).map(Planned::kind) {
                Some(EntryKind::Folder) => break,
                Some(_) => return Err(EditError::InTheWay(folder)),
                None => {
                    let made = Entry {
                        id: 0,
                        path: folder.clone(),
                        kind: EntryKind::Folder,
                        mode: MADE_FOLDER_MODE,
                        modified: self.now,
                        link_target: Vec::new(),
                    };
                    self.planned.insert(folder, Planned::Fresh(SourceEntry::folder(&made)));
                }
            }
        }
        Ok(())
    }
}

/// What is on disk, under a path in the archive.
fn fresh(disk: &Catalogue, entry: &SourceEntry, path: EntryPath) -> Planned {
    let origin = Origin::Disk(Box::new(disk.disk_path(entry)));
    Planned::Fresh(SourceEntry { path, origin, ..entry.clone() })
}
