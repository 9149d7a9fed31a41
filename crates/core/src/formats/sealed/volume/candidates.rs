//! Everything that was looked at and is, or may be, a volume; and what of it is one set.
//!
//! Names are never believed. Headers say which files belong together; a file whose header is damaged, or contradicts the
//! others, is recognised by its cells.

use super::Geometry;
use super::header::{Head, Header, HeaderError, Ids, VolumeKind, may_be_a_header};
use super::in_page::{VolumeBytes, may_be_in_page};
use super::recognising::Trying;
use super::set::{GatherError, SetSummary, VolumeFile, VolumeSet, read_header};
use crate::disk::missing::missing;
use crate::disk::{FileAction, FileError, FileIdentity, Interruption, folder_of, identity_of, staging};
use crate::formats::messages::attached::find;
use crate::formats::messages::mailboxes::{look_through, mailbox_folders};
use crate::formats::messages::structure::FlawedMessage;
use crate::formats::spot::Spot;
use crate::ground::context::Context;
use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet};
use std::ffi::OsStr;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

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
    /// Files, and where in each a volume is carried.
    seen: BTreeSet<(FileIdentity, u64)>,
    sets: BTreeMap<Ids, Vec<(Header, VolumeFile)>>,
    damaged: Vec<(VolumeFile, HeaderError)>,
    named_sets: BTreeSet<Ids>,
    /// For each folder that the user named, the sets in it.
    named_folders: Vec<BTreeSet<Ids>>,
    named_damaged: Option<(PathBuf, HeaderError)>,
    /// Files of messages, with the sets of which something is attached there.
    messages: BTreeMap<FileIdentity, BTreeSet<Ids>>,
    flawed_messages: Vec<(PathBuf, FlawedMessage)>,
}

enum Seen {
    Volume(Ids),
    Damaged(HeaderError),
    /// Messages, to which volumes of these sets are attached.
    Messages(BTreeSet<Ids>),
    Other,
}

/// Whether messages are looked into. Beside a volume that somebody named they are not: there may be many, and none was spoken of.
#[derive(Clone, Copy)]
enum Messages<'a> {
    LookedInto(&'a Context<'a>),
    PassedOver,
}

impl Candidates {
    /// Everything in these folders, and in those of these files.
    pub fn among(paths: &[PathBuf], context: &Context<'_>) -> Result<Self, GatherError> {
        let mut found = Self::default();
        let mut beside: BTreeMap<PathBuf, bool> = BTreeMap::new();
        for path in paths {
            let metadata = fs::metadata(path).map_err(|error| unreachable_path(path, error))?;
            if metadata.is_dir() {
                let mut in_it = found.look_into(path, Messages::LookedInto(context))?;
                for folder in mailbox_folders(path) {
                    in_it.append(&mut found.look_into(&folder, Messages::LookedInto(context))?);
                }
                found.named_folders.push(in_it);
            } else {
                let holds_messages = found.name(path, Messages::LookedInto(context))?;
                *beside.entry(folder_of(path).to_owned()).or_default() |= holds_messages;
            }
        }
        for (folder, holds_messages) in beside {
            let messages = if holds_messages { Messages::LookedInto(context) } else { Messages::PassedOver };
            found.look_into(&folder, messages)?;
        }
        Ok(found)
    }

    /// A file that the user named: it must be a volume, or hold messages, of which not all have one. Whether it holds messages, so that
    /// those beside it are spoken of too.
    fn name(&mut self, path: &Path, messages: Messages<'_>) -> Result<bool, GatherError> {
        let unusable = |why| GatherError::Unusable { path: path.to_owned(), why };
        let mut seen = None;
        if let Messages::LookedInto(context) = messages {
            look_through(&[path.to_owned()], context, |path| {
                seen = Some(self.look_at(path, messages));
                Ok(())
            })?;
        }
        match seen.unwrap_or_else(|| self.look_at(path, Messages::PassedOver))? {
            Seen::Volume(ids) => {
                self.named_sets.insert(ids);
            }
            Seen::Damaged(why) => self.named_damaged = Some((path.to_owned(), why)),
            Seen::Messages(mut sets) => {
                self.named_sets.append(&mut sets);
                return Ok(true);
            }
            Seen::Other => return Err(unusable(HeaderError::NotAVolume)),
        }
        Ok(false)
    }

    /// The very files that are named, which are volumes.
    pub fn only(paths: &[PathBuf]) -> Result<Self, GatherError> {
        let mut found = Self::default();
        for path in paths {
            found.name(path, Messages::PassedOver)?;
        }
        Ok(found)
    }

    /// All files of a folder; what is no volume is passed over. The sets that have a volume there. Messages are looked into only where
    /// what lies there otherwise is not a whole set, since there may be many of them.
    fn look_into(&mut self, folder: &Path, messages: Messages<'_>) -> Result<BTreeSet<Ids>, GatherError> {
        let listed = || FileError::on(FileAction::List, folder);
        let (mut sets, mut others) = (BTreeSet::new(), Vec::new());
        for entry in fs::read_dir(folder).map_err(listed())? {
            let entry = entry.map_err(listed())?;
            // A file that cannot be read is reported by its number's absence, or when it is named.
            if entry.file_type().is_ok_and(|kind| !kind.is_dir()) {
                match self.look_at(&entry.path(), Messages::PassedOver) {
                    Ok(Seen::Volume(ids)) => drop(sets.insert(ids)),
                    Ok(Seen::Other) => others.push(entry.path()),
                    _ => {}
                }
            }
        }
        if let Messages::LookedInto(context) = messages
            && !self.are_whole(&sets)
        {
            others.sort();
            look_through(&others, context, |path| {
                match self.look_at(path, messages) {
                    Ok(Seen::Messages(mut attached)) => sets.append(&mut attached),
                    Err(GatherError::Interrupted(Interruption::Cancelled(stop))) => return Err(stop),
                    _ => {}
                }
                Ok(())
            })?;
        }
        Ok(sets)
    }

    /// Whether these are sets, and no volume of any of them is missing.
    fn are_whole(&self, sets: &BTreeSet<Ids>) -> bool {
        let is_whole = |files: &Vec<(Header, VolumeFile)>| {
            let data = files.iter().filter(|(header, _)| header.kind == VolumeKind::Data);
            let numbers: BTreeSet<u32> = data.map(|(header, _)| header.number).collect();
            files.first().is_some_and(|(header, _)| numbers.len() == header.geometry.data_volumes as usize)
        };
        let all_are = sets.iter().all(|ids| self.sets.get(ids).is_some_and(is_whole));
        !sets.is_empty() && self.damaged.is_empty() && all_are
    }

    fn look_at(&mut self, path: &Path, messages: Messages<'_>) -> Result<Seen, GatherError> {
        let spot = Spot::from(path);
        let file = VolumeBytes::open(&spot)?;
        let opened = FileError::on(FileAction::Open, path);
        let origin = identity_of(file.file(), file.metadata()).map_err(opened)?;
        match (self.judge(spot, origin, &file), messages) {
            (Seen::Other, Messages::LookedInto(context)) => {
                if let Some(sets) = self.messages.get(&origin) {
                    return Ok(Seen::Messages(sets.clone()));
                }
                let Some(found) = find(path, &may_be_a_volume, context)? else { return Ok(Seen::Other) };
                let mut sets = BTreeSet::new();
                for attached in found.attached.into_iter().map(Arc::new) {
                    let spot = Spot { path: path.to_owned(), attached: Some(attached) };
                    let volume = VolumeBytes::open(&spot)?;
                    if let Seen::Volume(ids) = self.judge(spot, origin, &volume) {
                        sets.insert(ids);
                    }
                }
                self.flawed_messages.extend(found.flaws.into_iter().map(|flaw| (path.to_owned(), flaw)));
                self.messages.insert(origin, sets.clone());
                Ok(Seen::Messages(sets))
            }
            (seen, _) => Ok(seen),
        }
    }

    /// What a file is, or what is attached to a message in it; a volume is remembered once.
    fn judge(&mut self, spot: Spot, origin: FileIdentity, bytes: &VolumeBytes) -> Seen {
        let carried_at = spot.attached.as_ref().map_or(0, |attached| attached.begins_at());
        let file = VolumeFile { spot, length: bytes.length, in_page: bytes.in_page, header_damaged: false, runs: None };
        match read_header(bytes) {
            Ok(header) => {
                let ids = header.ids;
                if self.seen.insert((origin, carried_at)) {
                    self.sets.entry(ids).or_default().push((header, file));
                }
                Seen::Volume(ids)
            }
            Err(HeaderError::NotAVolume) if !file.spot.own_name().is_some_and(looks_like_a_volume) => Seen::Other,
            Err(why) => {
                if self.seen.insert((origin, carried_at)) {
                    self.damaged.push((VolumeFile { header_damaged: true, ..file }, why));
                }
                Seen::Damaged(why)
            }
        }
    }

    /// The one set that the paths speak of.
    pub fn choose(&self, paths: &[PathBuf]) -> Result<Ids, GatherError> {
        match self.wanted(paths)?.as_slice() {
            [only] => Ok(*only),
            several => Err(GatherError::SeveralSets(several.iter().filter_map(|ids| self.summary(*ids)).collect())),
        }
    }

    /// Every set that the paths speak of, at least one, in the order of their files.
    pub fn wanted(&self, paths: &[PathBuf]) -> Result<Vec<Ids>, GatherError> {
        // A volume chooses among the sets of a folder; a folder with nothing of that set was meant for itself.
        let mut wanted =
            if self.named_sets.is_empty() { self.sets.keys().copied().collect() } else { self.named_sets.clone() };
        if let (1, Some(only)) = (wanted.len(), wanted.first().copied()) {
            wanted.extend(self.named_folders.iter().filter(|sets| !sets.contains(&only)).flatten());
        }
        if self.named_sets.is_empty() && !wanted.iter().all(|ids| self.is_of_spares_only(ids)) {
            wanted.retain(|ids| !self.is_of_spares_only(ids));
        }
        let mut wanted: Vec<Ids> = wanted.into_iter().collect();
        wanted.sort_by_cached_key(|ids| self.summary(*ids).map(|summary| summary.example));
        match (wanted.first(), &self.named_damaged) {
            (Some(_), _) => Ok(wanted),
            (None, Some((path, why))) => Err(GatherError::Unusable { path: path.clone(), why: *why }),
            (None, None) => match self.damaged.first() {
                Some((file, why)) => Err(GatherError::Unusable { path: file.spot.path.clone(), why: *why }),
                None => {
                    let unfinished = paths.iter().flat_map(|path| staging::folders_in(path)).collect();
                    Err(GatherError::NoVolumes { places: paths.to_vec(), unfinished })
                }
            },
        }
    }

    /// Whether of this set there are spare volumes and nothing else, beside other sets: nobody means them.
    fn is_of_spares_only(&self, ids: &Ids) -> bool {
        let only_spares =
            |files: &Vec<(Header, VolumeFile)>| files.iter().all(|(header, _)| header.kind == VolumeKind::Spare);
        self.sets.get(ids).is_some_and(only_spares)
    }

    /// The spare volumes of other sets, of which nothing else is here.
    fn foreign_spares(&self, ids: Ids) -> Vec<PathBuf> {
        let others = self.sets.iter().filter(|(other, _)| **other != ids && self.is_of_spares_only(other));
        let mut paths: Vec<PathBuf> =
            others.flat_map(|(_, files)| files).map(|(_, file)| file.spot.path.clone()).collect();
        paths.sort();
        paths
    }

    fn summary(&self, ids: Ids) -> Option<SetSummary> {
        let files = self.sets.get(&ids)?;
        let (header, example) = files.iter().min_by(|one, other| one.1.spot.path.cmp(&other.1.spot.path))?;
        let data = files.iter().filter(|(header, _)| header.kind == VolumeKind::Data);
        let numbers: BTreeSet<u32> = data.map(|(header, _)| header.number).collect();
        Some(SetSummary {
            ids,
            example: example.spot.path.clone(),
            here: numbers.len(),
            count: header.geometry.data_volumes,
        })
    }

    /// The set of these ids. Where headers of it contradict each other, those that most of the files agree on are believed; the
    /// others' files count as volumes with damaged headers. What each of the others says is kept as a rival of the set: the
    /// password tells which is genuine. What `trying` has left limits how much is tried for damaged files.
    pub fn assemble(&self, ids: Ids, trying: &mut Trying) -> Result<VolumeSet, GatherError> {
        let files = self.sets.get(&ids).map(Vec::as_slice).unwrap_or_default();
        let mut said: Vec<(Geometry, Head)> = Vec::new();
        for (header, _) in files {
            if !said.iter().any(|(geometry, head)| header.geometry == *geometry && header.head == *head) {
                said.push((header.geometry, header.head.clone()));
            }
        }
        let agrees =
            |header: &Header, (geometry, head): &(Geometry, Head)| header.geometry == *geometry && header.head == *head;
        let followers = |one: &(Geometry, Head)| files.iter().filter(|(header, _)| agrees(header, one)).count();
        // Of equally many, that which the first file by name says: the same one whatever the order of the files.
        let first_path = |one: &(Geometry, Head)| {
            files.iter().filter(|(header, _)| agrees(header, one)).map(|(_, file)| &file.spot.path).min()
        };
        said.sort_by_cached_key(|one| (Reverse(followers(one)), first_path(one).cloned()));
        let mut sets = said.iter().take(1 + MAX_RIVALS).map(|one| {
            let mut set = VolumeSet {
                ids,
                geometry: one.0,
                head: one.1.clone(),
                volumes: BTreeMap::new(),
                spares: BTreeMap::new(),
                foreign_spares: self.foreign_spares(ids),
                contradicting: Vec::new(),
                unrecognised: Vec::new(),
                untried: Vec::new(),
                flawed_messages: self.flawed_messages.clone(),
                rivals: Vec::new(),
                judge: None,
            };
            let mut damaged: Vec<VolumeFile> = self.damaged.iter().map(|(file, _)| file.clone()).collect();
            for (header, file) in files {
                match header.kind {
                    _ if !agrees(header, one) => {
                        set.contradicting.push(file.spot.path.clone());
                        damaged.push(VolumeFile { header_damaged: true, ..file.clone() });
                    }
                    VolumeKind::Data => set.volumes.entry(header.number).or_default().push(file.clone()),
                    VolumeKind::Supplement => set.supplement(file.clone()),
                    VolumeKind::Spare => set.spares.entry(header.number).or_default().push(file.clone()),
                }
            }
            set.contradicting.sort();
            for file in damaged {
                set.add_damaged(file, trying);
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
fn looks_like_a_volume(name: &OsStr) -> bool {
    Path::new(name).extension().is_some_and(|extension| extension.eq_ignore_ascii_case("useal"))
}

/// Whether what begins so, and is called so, is looked at more closely.
fn may_be_a_volume(beginning: &[u8], name: Option<&str>) -> bool {
    may_be_a_header(beginning)
        || may_be_in_page(beginning)
        || name.is_some_and(|name| looks_like_a_volume(name.as_ref()))
}
