//! The walk: which files, folders and links lie under the named sources, and what each is called inside.

use super::choice::{Choice, LITTER, Naming, Patterns};
use super::entry::{FileNumber, Origin, SourceEntry};
use super::error::{PassedOver, PassedOverReason, SourceError, unpackable};
use super::extras::{Extras, WithAttributes};
use super::reading::SourceFile;
use super::roots::{Root, roots_of};
use super::stream::StreamSource;
use super::text_names::{self, TextNames, UnsafeNames};
use crate::disk::names::{bytes_of, path_bytes_of, path_of};
use crate::disk::portability::{Unportable, unportable};
use crate::disk::{FileAction, FileError, FileIdentity, Links, bytes_in_holes, identity_at, mode_of, modified_of};
use crate::ground::context::Context;
use crate::ground::entry::{EntryKind, EntryPath, MAX_LINK_TARGET_BYTES};
use std::collections::{HashMap, HashSet};
use std::ffi::OsString;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

/// Everything that is chosen, sorted as [`EntryPath`] sorts.
#[derive(Debug, Default)]
pub struct Catalogue {
    /// Where the walks began, in the order of their paths.
    roots: Vec<Root>,
    /// What will be packed.
    pub entries: Vec<SourceEntry>,
    /// What cannot be.
    pub passed_over: Vec<PassedOver>,
    /// How many files, links and whole folders were left out, by patterns or as litter.
    pub left_out: u64,
    /// Folders on other file systems that were left out.
    pub other_systems: Vec<EntryPath>,
    /// Files of the caller's own making that were left out, so that an archive is not packed into itself.
    pub own_output: u64,
    /// Patterns that matched nothing, as they were written.
    pub unmatched: Vec<String>,
    /// What was left out since its name is no text, without what lies below it.
    pub not_text: Vec<EntryPath>,
    /// How entries are called in the archive, where names must be text.
    pub text_names: TextNames,
    /// Whether links are followed.
    pub follows: bool,
    /// Whether extended attributes are packed.
    pub packs_attributes: bool,
    /// How many files and folders have such.
    pub with_attributes: WithAttributes,
    /// What comes in as a stream.
    stream: Option<StreamSource>,
}

/// Answers whether a file on disk is of the caller's own making.
pub type IsOwn<'a> = &'a dyn Fn(&Path) -> bool;

impl Catalogue {
    /// Walks the sources and takes what is chosen. A source that is itself a link is followed; links below are listed
    /// as links, unless they are all to be followed.
    ///
    /// # Errors
    /// [`SourceError`] for the named sources; trouble below them goes to [`Catalogue::passed_over`].
    pub fn gather(
        sources: &[PathBuf],
        choice: &Choice,
        is_own: IsOwn<'_>,
        context: &Context<'_>,
    ) -> Result<Self, SourceError> {
        let catalogue = Self {
            roots: roots_of(sources, choice.naming)?,
            follows: choice.follow,
            packs_attributes: choice.attributes,
            ..Self::default()
        };
        let mut walk = Walk {
            catalogue,
            choice,
            is_own,
            litter: Patterns::new(if choice.no_litter { &LITTER[..] } else { &[] })?,
            left_out_by: vec![false; choice.leave_out.len()],
            chosen_by: vec![false; choice.only.len()],
            chosen: HashSet::new(),
            above: Vec::new(),
            entered: HashMap::new(),
        };
        for root in walk.catalogue.roots.clone() {
            walk.go(&root, context)?;
        }
        walk.finish()
    }

    /// Names that will not survive on other systems.
    pub fn unportable(&self) -> Vec<Unportable> {
        unportable(self.entries.iter().map(|entry| self.text_names.of(&entry.path)))
    }

    /// The same with a stream as one file more, and the folders above it.
    ///
    /// # Errors
    /// [`SourceError::SameName`] where something has its path, or is a file or link above it, or lies below it.
    pub fn with_stream(mut self, stream: StreamSource) -> Result<Self, SourceError> {
        let path = stream.path();
        let is_in_the_way = |entry: &&SourceEntry| {
            let is_above = path.is_below(&entry.path) && entry.kind != EntryKind::Folder;
            entry.path == *path || entry.path.is_below(path) || is_above
        };
        if let Some(other) = self.entries.iter().find(is_in_the_way) {
            return Err(SourceError::SameName { first: self.disk_path(other), second: StreamSource::disk_path() });
        }
        for new in stream.folders().chain([stream.entry()]) {
            if let Err(at) = self.entries.binary_search_by(|entry| entry.path.cmp(&new.path)) {
                self.entries.insert(at, new);
            }
        }
        self.stream = Some(stream);
        Ok(self)
    }

    /// A catalogue of these entries, sorted by path, each of which says where its content comes from. What was listed on disk for it, but
    /// for entries, is told with it.
    ///
    /// # Errors
    /// [`SourceError::NotText`], as far as names must be text.
    pub fn put_together(
        entries: Vec<SourceEntry>,
        gathered: Vec<Self>,
        text_names: Option<UnsafeNames>,
    ) -> Result<Self, SourceError> {
        let mut whole = Self::assembled(entries, gathered);
        whole.settle_names(text_names)?;
        whole.find_further_names();
        Ok(whole)
    }

    /// The same, where names may be any bytes.
    pub fn assembled(entries: Vec<SourceEntry>, gathered: Vec<Self>) -> Self {
        let mut whole = Self { entries, ..Self::default() };
        whole.find_further_names();
        for mut part in gathered {
            whole.passed_over.append(&mut part.passed_over);
            whole.left_out += part.left_out;
            whole.other_systems.append(&mut part.other_systems);
            whole.own_output += part.own_output;
            whole.unmatched.append(&mut part.unmatched);
            whole.follows |= part.follows;
            whole.packs_attributes |= part.packs_attributes;
            whole.with_attributes.files += part.with_attributes.files;
            whole.with_attributes.folders += part.with_attributes.folders;
        }
        whole
    }

    /// What becomes of names that are no text.
    fn settle_names(&mut self, wish: Option<UnsafeNames>) -> Result<(), SourceError> {
        let Self { entries, not_text, text_names, .. } = self;
        match wish {
            None => {}
            Some(UnsafeNames::Escape) => *text_names = TextNames::escape(entries),
            Some(wish) => {
                let found = text_names::leave_out(entries);
                let nothing_stays = !found.is_empty() && entries.is_empty();
                if nothing_stays || (wish == UnsafeNames::Refuse && !found.is_empty()) {
                    return Err(SourceError::NotText(found));
                }
                *not_text = found;
            }
        }
        Ok(())
    }

    /// Which of several names of a file come after the first. Of a file with one name among those that are chosen, nothing is to be told.
    fn find_further_names(&mut self) {
        let mut first = HashSet::new();
        for entry in &mut self.entries {
            entry.is_further_name = entry.file_number.as_ref().is_some_and(|number| !first.insert(**number));
        }
    }

    /// What of it has one of these paths.
    pub fn only(mut self, paths: &HashSet<EntryPath>) -> Self {
        self.entries.retain(|entry| paths.contains(&entry.path));
        self.find_further_names();
        self
    }

    /// What files have beside their content, as it was found.
    pub fn extras(&self) -> Extras {
        let count = |is: fn(&SourceEntry) -> bool| self.entries.iter().filter(|entry| is(entry)).count() as u64;
        Extras {
            further_names: count(|entry| entry.is_further_name),
            with_holes: count(|entry| entry.holes > 0),
            with_attributes: self.with_attributes,
        }
    }

    /// From now on files are what a format makes of them that keeps several names of one file as such, and holes, or not.
    pub fn as_kept(mut self, hard_links: bool, holes: bool) -> Self {
        for entry in &mut self.entries {
            if !hard_links {
                (entry.file_number, entry.is_further_name) = (None, false);
            }
            entry.holes = if holes { entry.holes } else { 0 };
        }
        self
    }

    /// Where an entry of this catalogue is on disk; nowhere, if it comes from an archive.
    pub fn disk_path(&self, entry: &SourceEntry) -> PathBuf {
        match &entry.origin {
            Origin::Walk => self.walked_path(&entry.path),
            Origin::Disk(path) => path.as_ref().clone(),
            Origin::Archive(_) => PathBuf::new(),
            Origin::Stream => StreamSource::disk_path(),
        }
    }

    /// Where the walk finds what has this path. Put together when it is wanted: kept for a million entries, these paths
    /// would take most of the memory.
    fn walked_path(&self, path: &EntryPath) -> PathBuf {
        let at = self.roots.partition_point(|root| root.path <= *path);
        let Some(root) = at.checked_sub(1).and_then(|at| self.roots.get(at)) else { return PathBuf::new() };
        match path.as_bytes().get(root.path.as_bytes().len() + 1..) {
            Some(below) => root.disk_path.join(path_of(below)),
            None => root.disk_path.clone(),
        }
    }

    /// Whether what has this path on disk could not be read, or lies in something that could not.
    pub fn is_passed_over(&self, path: &EntryPath) -> bool {
        if self.passed_over.is_empty() {
            return false;
        }
        let there = self.walked_path(path);
        self.passed_over.iter().any(|over| there.starts_with(&over.disk_path))
    }

    /// Whether more than one thing stands at the top.
    pub fn has_several_tops(&self) -> bool {
        self.entries.first().is_some_and(|first| {
            self.entries.last().is_some_and(|last| last.path != first.path && !last.path.is_below(&first.path))
        })
    }

    /// Opens an entry's file, through a link where links are followed, to look at it or to read it.
    ///
    /// # Errors
    /// [`FileError`] from the system, or where it is no regular file any more; for a stream, which only [`Catalogue::open_once`] reads.
    pub fn open(&self, entry: &SourceEntry) -> Result<SourceFile, FileError> {
        if entry.origin == Origin::Stream {
            let once = io::Error::new(io::ErrorKind::Unsupported, "it can be read only once");
            return Err(FileError::on(FileAction::Open, &self.disk_path(entry))(once));
        }
        let links = if self.follows { Links::Follow } else { Links::Refuse };
        SourceFile::open(&self.disk_path(entry), links)
    }

    /// Opens what is to be packed now: a stream can be read only once.
    ///
    /// # Errors
    /// As of [`Catalogue::open`].
    pub(super) fn open_once(&self, entry: &SourceEntry) -> Result<SourceFile, FileError> {
        match self.stream.as_ref().filter(|_| entry.origin == Origin::Stream).and_then(StreamSource::take) {
            Some(from) => Ok(SourceFile::stream(entry, from)),
            None if self.packs_attributes => self.open(entry)?.with_attributes(),
            None => self.open(entry),
        }
    }

    /// The most that all contents may come to, in bytes, if nothing grows: of a stream that is not known.
    pub fn most_bytes(&self) -> u64 {
        self.entries.iter().fold(0, |sum: u64, entry| sum.saturating_add(entry.most_bytes()))
    }

    /// Content bytes that are to be read, or passed over.
    pub fn total_bytes(&self) -> u64 {
        self.entries.iter().map(|entry| entry.size).fold(0, u64::saturating_add)
    }
}

/// Where links are followed, a folder is entered no more often than this.
const MOST_TIMES_ENTERED: u32 = 64;

/// A walk under way.
struct Walk<'a> {
    catalogue: Catalogue,
    choice: &'a Choice,
    is_own: IsOwn<'a>,
    litter: Patterns,
    /// Which patterns matched something so far.
    left_out_by: Vec<bool>,
    chosen_by: Vec<bool>,
    /// Where only some things are wanted: those, and the folders above them.
    chosen: HashSet<EntryPath>,
    /// The folders that the walk is in, from the top down, with their devices and numbers.
    above: Vec<(EntryPath, FileIdentity)>,
    /// How often each folder was entered, where links are followed.
    entered: HashMap<FileIdentity, u32>,
}

/// A path that the walk has not come to yet, and whether a folder above it was chosen by name.
struct Waiting {
    path: EntryPath,
    chosen: bool,
}

impl Walk<'_> {
    fn go(&mut self, root: &Root, context: &Context<'_>) -> Result<(), SourceError> {
        let mut waiting = vec![Waiting { path: root.path.clone(), chosen: false }];
        let mut device = None;
        while let Some(Waiting { path, chosen }) = waiting.pop() {
            context.go_on()?;
            let disk_path = self.catalogue.walked_path(&path);
            if (self.is_own)(&disk_path) {
                self.catalogue.own_output += 1;
                continue;
            }
            let is_named = path == root.path && self.choice.naming != Naming::Contents;
            let (entry, identity) = match describe(path, &disk_path, self.choice.follow) {
                Ok(described) => described,
                Err(reason) if is_named => return Err(unpackable(&disk_path, reason)),
                Err(reason) => {
                    self.catalogue.passed_over.push(PassedOver { disk_path, reason });
                    continue;
                }
            };
            let is_folder = entry.kind == EntryKind::Folder;
            if self.is_left_out(&entry.path, is_folder) {
                self.catalogue.left_out += 1;
                continue;
            }
            if is_folder && self.choice.one_system && *device.get_or_insert(identity.device) != identity.device {
                self.catalogue.other_systems.push(entry.path);
                continue;
            }
            if is_folder && (self.is_loop(&entry.path, identity) || self.is_too_often(identity)) {
                self.catalogue.passed_over.push(PassedOver { disk_path, reason: PassedOverReason::Loop });
                continue;
            }
            self.catalogue.with_attributes.count(entry.kind, &disk_path, self.choice.follow);
            let chosen = self.is_chosen(&entry.path, is_folder) || chosen;
            if is_folder && root.whole {
                self.children(&entry.path, &disk_path, chosen, &mut waiting);
            }
            self.take(entry, chosen);
        }
        Ok(())
    }

    fn is_left_out(&mut self, path: &EntryPath, is_folder: bool) -> bool {
        let matching = self.choice.leave_out.matching(path, is_folder);
        matching.iter().for_each(|place| self.left_out_by[*place] = true);
        !matching.is_empty() || !self.litter.matching(path, is_folder).is_empty()
    }

    fn is_chosen(&mut self, path: &EntryPath, is_folder: bool) -> bool {
        let matching = self.choice.only.matching(path, is_folder);
        matching.iter().for_each(|place| self.chosen_by[*place] = true);
        !matching.is_empty()
    }

    /// Whether a followed link has led back to a folder that the walk is in.
    fn is_loop(&mut self, path: &EntryPath, identity: FileIdentity) -> bool {
        while self.above.last().is_some_and(|(folder, _)| !path.is_below(folder)) {
            self.above.pop();
        }
        let back = self.above.iter().any(|(_, above)| *above == identity);
        if !back {
            self.above.push((path.clone(), identity));
        }
        back
    }

    /// Whether followed links have led to a folder very often: links to links could lead to it without end.
    fn is_too_often(&mut self, identity: FileIdentity) -> bool {
        if !self.choice.follow {
            return false;
        }
        let times = self.entered.entry(identity).or_default();
        *times += 1;
        *times > MOST_TIMES_ENTERED
    }

    fn take(&mut self, entry: SourceEntry, chosen: bool) {
        if chosen && !self.choice.only.is_empty() {
            self.chosen.insert(entry.path.clone());
            for folder in entry.path.folders_above() {
                if !self.chosen.insert(folder) {
                    // Those above one that is known are known too.
                    break;
                }
            }
        }
        self.catalogue.entries.push(entry);
    }

    /// Puts a folder's children on the stack, so that the first by name comes off first.
    fn children(&mut self, folder: &EntryPath, disk_path: &Path, chosen: bool, waiting: &mut Vec<Waiting>) {
        let names = fs::read_dir(disk_path)
            .and_then(|entries| entries.map(|entry| entry.map(|entry| entry.file_name())).collect())
            .map_err(FileError::on(FileAction::List, disk_path));
        let mut names: Vec<OsString> = match names {
            Ok(names) => names,
            Err(error) => {
                let reason = error.into();
                self.catalogue.passed_over.push(PassedOver { disk_path: disk_path.to_owned(), reason });
                return;
            }
        };
        names.sort_unstable_by(|one, other| other.cmp(one));
        for name in names {
            match folder.join(&bytes_of(&name)) {
                Ok(path) => waiting.push(Waiting { path, chosen }),
                Err(error) => {
                    let reason = error.into();
                    self.catalogue.passed_over.push(PassedOver { disk_path: disk_path.join(&name), reason });
                }
            }
        }
    }

    fn finish(mut self) -> Result<Catalogue, SourceError> {
        if !self.choice.only.is_empty() {
            let before = self.catalogue.entries.len();
            self.catalogue.entries.retain(|entry| self.chosen.contains(&entry.path));
            self.catalogue.left_out += (before - self.catalogue.entries.len()) as u64;
        }
        let written = [&self.choice.leave_out, &self.choice.only].into_iter().flat_map(|all| all.written());
        let used = self.left_out_by.iter().chain(&self.chosen_by);
        self.catalogue.unmatched =
            written.zip(used).filter(|(_, used)| !**used).map(|(text, _)| text.clone()).collect();
        self.catalogue.settle_names(self.choice.text_names)?;
        self.catalogue.find_further_names();
        if self.catalogue.entries.is_empty() && self.catalogue.passed_over.is_empty() {
            return Err(SourceError::NothingChosen);
        }
        Ok(self.catalogue)
    }
}

fn describe(path: EntryPath, disk_path: &Path, follow: bool) -> Result<(SourceEntry, FileIdentity), PassedOverReason> {
    let metadata = if follow { fs::metadata(disk_path) } else { fs::symlink_metadata(disk_path) };
    let metadata = metadata.map_err(FileError::on(FileAction::Open, disk_path))?;
    let (mut size, mut link_target) = (0, Vec::new());
    let kind = if metadata.is_dir() {
        EntryKind::Folder
    } else if metadata.is_file() {
        size = metadata.len();
        EntryKind::File
    } else if metadata.is_symlink() {
        let target = fs::read_link(disk_path).map_err(FileError::on(FileAction::Read, disk_path))?;
        link_target = path_bytes_of(&target).into_owned();
        if link_target.len() > MAX_LINK_TARGET_BYTES {
            return Err(PassedOverReason::LongTarget);
        }
        EntryKind::Link
    } else {
        return Err(PassedOverReason::Special);
    };
    let (mode, modified) = (mode_of(&metadata), modified_of(&metadata));
    let links = if follow { Links::Follow } else { Links::Refuse };
    let (identity, names) = identity_at(disk_path, &metadata, links)?;
    let has_several_names = kind == EntryKind::File && names > 1;
    let number = FileNumber { device: Some(identity.device), number: identity.number };
    Ok((
        SourceEntry {
            path,
            kind,
            size,
            mode,
            modified,
            link_target,
            origin: Origin::Walk,
            file_number: has_several_names.then(|| Box::new(number)),
            is_further_name: false,
            holes: if kind == EntryKind::File { bytes_in_holes(&metadata) } else { 0 },
        },
        identity,
    ))
}
