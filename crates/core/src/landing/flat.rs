//! Without folders: every file right in the destination, and a number behind a name that several files have.

use crate::ground::entry::{EntryKind, EntryPath, ListedEntry};
use std::collections::{HashMap, HashSet};

/// What lands where, without folders.
pub(crate) struct Flat {
    /// The files, with the paths under which they land.
    pub entries: Vec<ListedEntry>,
    /// From the path in the archive to that under which it lands.
    places: HashMap<EntryPath, EntryPath>,
    /// How many links have no place.
    pub links: u64,
    /// What got a number: the path under which it lands, and that in the archive.
    pub numbered: Vec<(EntryPath, EntryPath)>,
}

impl Flat {
    /// Arranges these entries. Of several files of one name the first in the order of the paths has it.
    pub fn of(entries: &[ListedEntry]) -> Self {
        let files = || entries.iter().filter(|listed| listed.entry.kind == EntryKind::File);
        let name_of = |path: &EntryPath| EntryPath::new(path.parent_and_name().1).unwrap_or_else(|_| path.clone());
        let mut given: HashSet<EntryPath> = files().map(|listed| name_of(&listed.entry.path)).collect();
        let mut first: HashSet<EntryPath> = HashSet::new();
        let mut flat = Self { entries: Vec::new(), places: HashMap::new(), links: 0, numbered: Vec::new() };
        for listed in files() {
            let path = &listed.entry.path;
            let name = name_of(path);
            let place = if first.insert(name.clone()) {
                name
            } else {
                // So many files of one name that no number is left stay where they are.
                let place = name.free_beside(|path| given.contains(path)).unwrap_or_else(|| path.clone());
                given.insert(place.clone());
                flat.numbered.push((place.clone(), path.clone()));
                place
            };
            flat.places.insert(path.clone(), place.clone());
            let mut moved = listed.clone();
            moved.entry.path = place;
            flat.entries.push(moved);
        }
        flat.entries.sort_by(|one, other| one.entry.path.cmp(&other.entry.path));
        flat.links = entries.iter().filter(|listed| listed.entry.kind == EntryKind::Link).count() as u64;
        flat
    }

    /// Where the file at this path of the archive lands; `None` for what has no place.
    pub fn place_of(&self, path: &EntryPath) -> Option<&EntryPath> {
        self.places.get(path)
    }
}
