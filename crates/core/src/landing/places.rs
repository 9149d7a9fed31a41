//! What lands where: at its path in the archive, or right in the destination where no folders are wanted; and under a name that can be
//! there.
//!
//! What a place does not take as a name, and what would be one with another name there, gets the name that [`NameRules`] make of it.
//! That depends on the archive and the place alone, so whoever looks at a folder later ([`Places`] of the same archive) knows what is
//! what. No two entries ever meet: names that can be there stay, and the others get numbers until they are free.

use crate::disk::NameRules;
use crate::ground::entry::{Entry, EntryKind, EntryPath, ListedEntry, is_at_or_above, link_stays_inside};
use std::borrow::Cow;
use std::collections::{HashMap, HashSet, VecDeque};

/// So many links are followed to see where one leads (Linux's `MAXSYMLINKS`).
const MOST_LINKS_FOLLOWED: usize = 40;

/// What lands where.
#[derive(Debug, Default)]
pub struct Places {
    pub(super) rules: NameRules,
    /// The names that things have here, by their paths in the archive, where they are others.
    renamed: HashMap<EntryPath, Vec<u8>>,
    /// Where links lead here, by their paths in the archive, where that is called otherwise.
    targets: HashMap<EntryPath, Vec<u8>>,
    /// Where files lie, by their paths in the archive, if there are no folders.
    flat: Option<HashMap<EntryPath, EntryPath>>,
    /// What lands, by the paths that it has here; `None` where these are all those in the archive.
    moved: Option<Vec<ListedEntry>>,
    /// Paths in the archive, by those here, where they are others.
    in_archive: HashMap<EntryPath, EntryPath>,
    /// Files that got a number, since there are no folders: the path here, and that in the archive; sorted.
    pub(super) numbered: Vec<(EntryPath, EntryPath)>,
    /// What is called otherwise, of what lands: the path here, and that in the archive, sorted by that. What is in such a folder is not
    /// told apart.
    pub(super) named_otherwise: Vec<(EntryPath, EntryPath)>,
    /// How many links have no place, since there are no folders.
    pub(super) flat_links: u64,
}

impl Places {
    /// Arranges what lands of an archive that holds `all`; both sorted by path.
    pub fn of(all: &[ListedEntry], landing: &[ListedEntry], rules: NameRules, flat: bool) -> Self {
        let mut places = Self { rules, ..Self::default() };
        if flat {
            places.flatten(landing);
        } else {
            places.rename(all);
            places.move_all(landing);
        }
        places
    }

    /// Those in a folder of which nothing is known but the system, for all that an archive holds.
    pub fn here(all: &[ListedEntry]) -> Self {
        Self::of(all, all, NameRules::here(), false)
    }

    /// What lands of these entries, which are those that it was made for, by the paths that they have here.
    pub fn entries<'a>(&'a self, landing: &'a [ListedEntry]) -> &'a [ListedEntry] {
        self.moved.as_deref().unwrap_or(landing)
    }

    /// An entry as it lands; `None` for what has no place.
    pub fn place<'a>(&self, entry: &'a Entry) -> Option<Cow<'a, Entry>> {
        if self.moved.is_none() {
            return Some(Cow::Borrowed(entry));
        }
        let path = match &self.flat {
            Some(flat) => flat.get(&entry.path).filter(|_| entry.kind == EntryKind::File)?.clone(),
            None => self.path_here(&entry.path),
        };
        Some(Cow::Owned(self.moved_to(path, entry)))
    }

    /// An entry at its path here, leading where it leads here.
    fn moved_to(&self, path: EntryPath, entry: &Entry) -> Entry {
        let link_target = self.targets.get(&entry.path).unwrap_or(&entry.link_target).clone();
        Entry { path, link_target, ..entry.clone() }
    }

    /// Whether everything has the path here that it has in the archive.
    pub fn are_those_of_the_archive(&self) -> bool {
        self.in_archive.is_empty()
    }

    /// Whether there is anything to arrange for things with these paths: some place does not take what they are called, or could take
    /// two for one.
    pub(crate) fn matter<'a>(rules: NameRules, mut paths: impl Iterator<Item = &'a EntryPath>) -> bool {
        rules.folds || paths.any(|path| !path.components().all(|name| rules.take(name)))
    }

    /// What has this path in the archive has this one here, where there are folders.
    pub fn path_here(&self, path: &EntryPath) -> EntryPath {
        if self.renamed.is_empty() {
            return path.clone();
        }
        let names = prefixes(path).map(|prefix| match self.renamed.get(&prefix) {
            Some(name) => name.clone(),
            None => prefix.parent_and_name().1.to_vec(),
        });
        EntryPath::new(names.collect::<Vec<_>>().join(&b'/')).unwrap_or_else(|_| path.clone())
    }

    /// What has this path here has this one in the archive, or would have it.
    pub fn path_in_archive(&self, path: &EntryPath) -> EntryPath {
        if self.are_those_of_the_archive() {
            return path.clone();
        }
        let whole_and_above = std::iter::once(path.clone()).chain(path.folders_above());
        let known = whole_and_above.filter_map(|here| Some((self.in_archive.get(&here)?, here))).next();
        let below = |(there, here): (&EntryPath, EntryPath)| {
            EntryPath::new([there.as_bytes(), &path.as_bytes()[here.as_bytes().len()..]].concat()).ok()
        };
        known.and_then(below).unwrap_or_else(|| path.clone())
    }

    /// Names everything that is in folders.
    fn rename(&mut self, all: &[ListedEntry]) {
        if !Self::matter(self.rules, all.iter().map(|listed| &listed.entry.path)) {
            return;
        }
        // Sorted, so that what a path shares with the one before has been seen.
        let mut folders: HashMap<&[u8], Vec<&[u8]>> = HashMap::new();
        let mut before: &[u8] = b"";
        for path in all.iter().map(|listed| listed.entry.path.as_bytes()) {
            let ends = path.iter().enumerate().filter(|(_, byte)| **byte == b'/').map(|(at, _)| at);
            for whole in ends.chain([path.len()]).map(|end| &path[..end]).filter(|whole| !is_at_or_above(whole, before))
            {
                let slash = whole.iter().rposition(|byte| *byte == b'/');
                let folder = slash.map_or(&whole[..0], |slash| &whole[..slash]);
                folders.entry(folder).or_default().push(whole);
            }
            before = path;
        }
        for paths in folders.values() {
            let names: Vec<&[u8]> = paths.iter().filter_map(|path| path.rsplit(|byte| *byte == b'/').next()).collect();
            let here = names_in_one_folder(self.rules, &names);
            for ((path, name), here) in paths.iter().zip(&names).zip(here) {
                if let Ok(path) = EntryPath::new(*path)
                    && here != *name
                {
                    self.renamed.insert(path, here);
                }
            }
        }
        self.lead_links(all);
    }

    /// Leads links within the archive to where things are here. What stands in one may mean another place here, whatever is there.
    fn lead_links(&mut self, all: &[ListedEntry]) {
        let links = || all.iter().map(|listed| &listed.entry).filter(|entry| entry.kind == EntryKind::Link);
        let targets: HashMap<&EntryPath, &[u8]> =
            links().map(|link| (&link.path, link.link_target.as_slice())).collect();
        for link in links().filter(|link| link_stays_inside(&link.path, &link.link_target)) {
            let target = self.target_here(link, &targets);
            if target != link.link_target {
                self.targets.insert(link.path.clone(), target);
            }
        }
    }

    /// Where a link leads, in the names that things have here. What it goes through may be a link too, so that what follows lies
    /// elsewhere.
    fn target_here(&self, link: &Entry, links: &HashMap<&EntryPath, &[u8]>) -> Vec<u8> {
        let mut place: Vec<Vec<u8>> = link.path.components().map(<[u8]>::to_vec).collect();
        place.pop();
        let mut target: Vec<Vec<u8>> = Vec::new();
        // The names on the way, and whether they stand in this link.
        let mut way: VecDeque<(Vec<u8>, bool)> = split(&link.link_target).map(|name| (name, true)).collect();
        let mut followed = 0;
        while let Some((name, is_own)) = way.pop_front() {
            let is_name = !matches!(name.as_slice(), b"" | b"." | b"..");
            if name == b".." {
                place.pop();
            } else if is_name {
                place.push(name.clone());
            }
            let path = EntryPath::new(place.join(&b'/')).ok().filter(|_| is_name);
            if is_own {
                target.push(match &path {
                    Some(path) => self.name_here(path, &name),
                    None => name,
                });
            }
            if let Some(through) = path.as_ref().and_then(|path| links.get(path)).filter(|_| !way.is_empty())
                && followed < MOST_LINKS_FOLLOWED
            {
                followed += 1;
                place.pop();
                split(through).rev().for_each(|name| way.push_front((name, false)));
            }
        }
        target.join(&b'/')
    }

    /// The name here of what has this path in the archive, or would have it.
    fn name_here(&self, path: &EntryPath, name: &[u8]) -> Vec<u8> {
        match self.renamed.get(path) {
            Some(here) => here.clone(),
            None if self.rules.take(name) => name.to_vec(),
            None => self.rules.safe(name, None),
        }
    }

    /// Moves what lands to where it is here.
    fn move_all(&mut self, landing: &[ListedEntry]) {
        if self.renamed.is_empty() && self.targets.is_empty() {
            return;
        }
        let mut told: HashSet<EntryPath> = HashSet::new();
        let mut moved = Vec::new();
        for ListedEntry { entry, content } in landing {
            for path in prefixes(&entry.path) {
                if self.renamed.contains_key(&path) && told.insert(path.clone()) {
                    self.named_otherwise.push((self.path_here(&path), path));
                }
            }
            let path = self.path_here(&entry.path);
            if path != entry.path {
                self.in_archive.insert(path.clone(), entry.path.clone());
            }
            moved.push(ListedEntry { entry: self.moved_to(path, entry), content: *content });
        }
        moved.sort_by(|one, other| one.entry.path.cmp(&other.entry.path));
        self.moved = Some(moved);
    }

    /// Puts every file right in the destination, and a number behind a name that several have.
    fn flatten(&mut self, landing: &[ListedEntry]) {
        let files: Vec<&ListedEntry> = landing.iter().filter(|listed| listed.entry.kind == EntryKind::File).collect();
        let names: Vec<&[u8]> = files.iter().map(|listed| listed.entry.path.parent_and_name().1).collect();
        let here = names_in_one_folder(self.rules, &names);
        let (mut moved, mut flat) = (Vec::new(), HashMap::new());
        for ((listed, name), here) in files.iter().zip(&names).zip(here) {
            let path = &listed.entry.path;
            let place = EntryPath::new(here.as_slice()).unwrap_or_else(|_| path.clone());
            if here != *name {
                let told = if self.rules.take(name) { &mut self.numbered } else { &mut self.named_otherwise };
                told.push((place.clone(), path.clone()));
            }
            flat.insert(path.clone(), place.clone());
            let mut listed = (*listed).clone();
            listed.entry.path = place;
            moved.push(listed);
        }
        moved.sort_by(|one, other| one.entry.path.cmp(&other.entry.path));
        self.flat_links = landing.iter().filter(|listed| listed.entry.kind == EntryKind::Link).count() as u64;
        (self.moved, self.flat) = (Some(moved), Some(flat));
    }
}

/// What these names become in one folder, in which each is to be something else. Those that can be there stay, the first of several that
/// are one there.
fn names_in_one_folder(rules: NameRules, names: &[&[u8]]) -> Vec<Vec<u8>> {
    let mut taken: HashSet<Vec<u8>> = HashSet::new();
    let stays: Vec<bool> = names.iter().map(|name| rules.take(name) && taken.insert(rules.key_of(name))).collect();
    // The number to try next, so that many of one name do not try all numbers each.
    let mut next: HashMap<Vec<u8>, u32> = HashMap::new();
    let mut named = |name: &[u8]| {
        let plain = rules.safe(name, None);
        if taken.insert(rules.key_of(&plain)) {
            return plain;
        }
        let number = next.entry(rules.key_of(&rules.safe(name, Some(2)))).or_insert(2);
        loop {
            let numbered = rules.safe(name, Some(*number));
            *number = number.saturating_add(1);
            if taken.insert(rules.key_of(&numbered)) {
                return numbered;
            }
        }
    };
    names.iter().zip(stays).map(|(name, stays)| if stays { name.to_vec() } else { named(name) }).collect()
}

/// The folders above a path from the top down, then itself.
fn prefixes(path: &EntryPath) -> impl Iterator<Item = EntryPath> {
    (1..=path.depth()).filter_map(|count| path.first_components(count))
}

fn split(target: &[u8]) -> impl DoubleEndedIterator<Item = Vec<u8>> {
    target.split(|byte| *byte == b'/').map(<[u8]>::to_vec)
}
