//! Everything that was looked at and is, or may be, a volume; and what of it is one set.
//!
//! Names are never believed. Headers say which files belong together; a file whose header is damaged, or contradicts the
//! others, is recognised by its cells.

use super::Geometry;
use super::header::{Head, Header, HeaderError, Ids, VolumeKind};
use super::in_page::VolumeBytes;
use super::recognising::Trying;
use super::set::{GatherError, SetSummary, VolumeFile, VolumeSet, read_header};
use crate::disk::missing::missing;
use crate::disk::{FileAction, FileError, folder_of, staging};
use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::io;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};

/// So many ways in which headers contradict the others are kept for the password to judge.
const MAX_RIVALS: usize = 4;

fn unreachable_path(path: &Path, error: io::Error) -> GatherError {
    if error.kind() == io::ErrorKind::NotFound {
        let (path, similar) = missing(path);
        let mut unfinished = path.parent().map(staging::folders_in).unwrap_or_default();
        unfinished.retain(|folder| path.file_name().is_some_and(|name| staging::may_be_of(folder, name)));
        GatherError::Missing { path, similar, unfinished }
    } else {
        FileError::on(FileAction::Open, path)(error).into()
    }
}

/// Everything that was looked at and is, or may be, a volume.
#[derive(Default)]
pub(super) struct Candidates {
    seen: BTreeSet<(u64, u64)>,
    sets: BTreeMap<Ids, Vec<(Header, VolumeFile)>>,
    damaged: Vec<(VolumeFile, HeaderError)>,
    named_sets: BTreeSet<Ids>,
    /// For each folder that the user named, the sets in it.
    named_folders: Vec<BTreeSet<Ids>>,
    named_damaged: Option<(PathBuf, HeaderError)>,
}

enum Seen {
    Volume(Ids),
    Damaged(HeaderError),
    Other,
}

impl Candidates {
    /// Everything in these folders, and in those of these files.
    pub fn among(paths: &[PathBuf]) -> Result<Self, GatherError> {
        let mut found = Self::default();
        for path in paths {
            let metadata = fs::metadata(path).map_err(|error| unreachable_path(path, error))?;
            if metadata.is_dir() {
                let in_it = found.look_into(path)?;
                found.named_folders.push(in_it);
            } else {
                found.name(path)?;
                found.look_into(folder_of(path))?;
            }
        }
        Ok(found)
    }

    /// A file that the user named: it must be a volume.
    pub fn name(&mut self, path: &Path) -> Result<(), GatherError> {
        let unusable = |why| GatherError::Unusable { path: path.to_owned(), why };
        match self.look_at(path)? {
            Seen::Volume(ids) => {
                self.named_sets.insert(ids);
            }
            Seen::Damaged(why) => self.named_damaged = Some((path.to_owned(), why)),
            Seen::Other => return Err(unusable(HeaderError::NotAVolume)),
        }
        Ok(())
    }

    /// All files of a folder; what is no volume is passed over. The sets that have a volume there.
    fn look_into(&mut self, folder: &Path) -> Result<BTreeSet<Ids>, GatherError> {
        let listed = || FileError::on(FileAction::List, folder);
        let mut sets = BTreeSet::new();
        for entry in fs::read_dir(folder).map_err(listed())? {
            let entry = entry.map_err(listed())?;
            // A file that cannot be read is reported by its number's absence, or when it is named.
            if entry.file_type().is_ok_and(|kind| !kind.is_dir())
                && let Ok(Seen::Volume(ids)) = self.look_at(&entry.path())
            {
                sets.insert(ids);
            }
        }
        Ok(sets)
    }

    fn look_at(&mut self, path: &Path) -> Result<Seen, GatherError> {
        let (file, metadata) = VolumeBytes::open(path)?;
        let (length, in_page) = (file.length, file.in_page);
        let header = read_header(&file);
        let first_time = self.seen.insert((metadata.dev(), metadata.ino()));
        let volume = |header_damaged| VolumeFile { path: path.to_owned(), length, in_page, header_damaged, runs: None };
        match header {
            Ok(header) => {
                let ids = header.ids;
                if first_time {
                    self.sets.entry(ids).or_default().push((header, volume(false)));
                }
                Ok(Seen::Volume(ids))
            }
            Err(HeaderError::NotAVolume) if !looks_like_a_volume(path) => Ok(Seen::Other),
            Err(why) => {
                if first_time {
                    self.damaged.push((volume(true), why));
                }
                Ok(Seen::Damaged(why))
            }
        }
    }

    pub fn choose(&self, paths: &[PathBuf]) -> Result<Ids, GatherError> {
        // A volume chooses among the sets of a folder; a folder with nothing of that set was meant for itself.
        let mut wanted =
            if self.named_sets.is_empty() { self.sets.keys().copied().collect() } else { self.named_sets.clone() };
        if let (1, Some(only)) = (wanted.len(), wanted.first().copied()) {
            wanted.extend(self.named_folders.iter().filter(|sets| !sets.contains(&only)).flatten());
        }
        let wanted: Vec<Ids> = wanted.into_iter().collect();
        match (wanted.as_slice(), &self.named_damaged) {
            ([only], _) => Ok(*only),
            ([], Some((path, why))) => Err(GatherError::Unusable { path: path.clone(), why: *why }),
            ([], None) => match self.damaged.first() {
                Some((file, why)) => Err(GatherError::Unusable { path: file.path.clone(), why: *why }),
                None => {
                    let unfinished = paths.iter().flat_map(|path| staging::folders_in(path)).collect();
                    Err(GatherError::NoVolumes { places: paths.to_vec(), unfinished })
                }
            },
            (several, _) => {
                let mut found: Vec<SetSummary> = several.iter().filter_map(|ids| self.summary(*ids)).collect();
                found.sort_by(|one, other| one.example.cmp(&other.example));
                Err(GatherError::SeveralSets(found))
            }
        }
    }

    fn summary(&self, ids: Ids) -> Option<SetSummary> {
        let files = self.sets.get(&ids)?;
        let (header, example) = files.iter().min_by(|one, other| one.1.path.cmp(&other.1.path))?;
        let numbers: BTreeSet<u32> = files.iter().map(|(header, _)| header.number).collect();
        Some(SetSummary {
            ids,
            example: example.path.clone(),
            here: numbers.len(),
            count: header.geometry.data_volumes,
        })
    }

    /// The set of these ids. Where headers of it contradict each other, those that most of the files agree on are believed; the
    /// others' files count as volumes with damaged headers. What each of the others says is kept as a rival of the set: the
    /// password tells which is genuine.
    pub fn assemble(mut self, ids: Ids) -> Result<VolumeSet, GatherError> {
        let files = self.sets.remove(&ids).unwrap_or_default();
        let mut said: Vec<(Geometry, Head)> = Vec::new();
        for (header, _) in &files {
            if !said.iter().any(|(geometry, head)| header.geometry == *geometry && header.head == *head) {
                said.push((header.geometry, header.head.clone()));
            }
        }
        let agrees =
            |header: &Header, (geometry, head): &(Geometry, Head)| header.geometry == *geometry && header.head == *head;
        let followers = |one: &(Geometry, Head)| files.iter().filter(|(header, _)| agrees(header, one)).count();
        // Of equally many, that which the first file by name says: the same one whatever the order of the files.
        let first_path = |one: &(Geometry, Head)| {
            files.iter().filter(|(header, _)| agrees(header, one)).map(|(_, file)| &file.path).min()
        };
        said.sort_by_cached_key(|one| (Reverse(followers(one)), first_path(one).cloned()));
        let mut trying = Trying::default();
        let mut sets = said.iter().take(1 + MAX_RIVALS).map(|one| {
            let mut set = VolumeSet {
                ids,
                geometry: one.0,
                head: one.1.clone(),
                volumes: BTreeMap::new(),
                contradicting: Vec::new(),
                unrecognised: Vec::new(),
                untried: Vec::new(),
                rivals: Vec::new(),
            };
            let mut damaged: Vec<VolumeFile> = self.damaged.iter().map(|(file, _)| file.clone()).collect();
            for (header, file) in &files {
                match header.kind {
                    _ if !agrees(header, one) => {
                        set.contradicting.push(file.path.clone());
                        damaged.push(VolumeFile { header_damaged: true, ..file.clone() });
                    }
                    VolumeKind::Data => set.volumes.entry(header.number).or_default().push(file.clone()),
                    VolumeKind::Supplement => set.supplement(file.clone()),
                    VolumeKind::Spare => {}
                }
            }
            set.contradicting.sort();
            for file in damaged {
                set.add_damaged(file, &mut trying);
            }
            set.sort_copies();
            set
        });
        let mut set = sets.next().ok_or(GatherError::NoVolumes { places: Vec::new(), unfinished: Vec::new() })?;
        set.rivals = sets.collect();
        Ok(set)
    }
}

/// A file with our extension whose mark is gone is a damaged volume rather than a foreign file.
fn looks_like_a_volume(path: &Path) -> bool {
    path.extension().is_some_and(|extension| extension.eq_ignore_ascii_case("useal"))
}
