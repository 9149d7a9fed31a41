//! Landing: extraction to disk, from whatever format, without harm to what is there.
//!
//! [`Landing::prepare`] looks at the whole list of entries and at the destination, and refuses before a byte is
//! written, or decides what becomes of files that meet others. Then the landing is an [`EntrySink`]: each file is
//! written under a temporary name beside its place and appears under its own name only when it is complete, verified
//! and held by the disk, for which many files wait together. Links come after all files, so nothing is ever written through them;
//! folders get their modes and times last.
//!
//! A newcomer who changes this floor runs `crates/core/tests/crash.rs` too: it makes the disk fail, and the process die, at every single
//! operation.

mod another_kind;
mod clash;
mod destination;
mod folders;
mod further;
mod made_folder;
mod marker;
mod places;
mod screening;
mod survey;
mod undo;
mod unlandable;
mod waiting;

pub use clash::{Known, KnownThere, OnClash};
pub use destination::{Attributes, Destination, Landed, OnUnsafeName, Screen};
pub use places::Places;
pub(crate) use survey::survey;
pub use survey::{Foreseen, LandingError};
pub use unlandable::{NotLanded, NotLandedWhy, RefusedLink, outward_links};

use crate::disk::names::path_of;
use crate::disk::{FileError, Folder, NameRules, NewFile, OriginMark};
use crate::ground::attributes::{Attribute, is_set};
use crate::ground::context::Context;
use crate::ground::entry::{Content, Entry, EntryKind, EntryPath, ListedEntry, link_stays_inside};
use clash::{Resolution, Resolutions};
use made_folder::{MadeFolder, RESTORED_MODE};
use marker::Marker;
use std::collections::{HashMap, HashSet};
use std::ffi::OsString;
use std::path::Path;
use std::rc::Rc;

/// An extraction under way. Dropped before [`Landing::finish`], it removes what has no name of its own yet.
pub struct Landing {
    root: Rc<Folder>,
    /// The folder that was used last: its path in the archive, and it and those above it, open, from the top down, each with
    /// the length of its path.
    way: (Vec<u8>, Vec<(usize, Rc<Folder>)>),
    arriving: Option<Arriving>,
    /// Complete and verified files that wait for the disk.
    waiting: Vec<Waiting>,
    waiting_bytes: u64,
    resolutions: Resolutions,
    links: Vec<Entry>,
    /// Further names of files, which come when those have theirs.
    further: Vec<FurtherName>,
    /// Files that had got a number before they came here: the path here, and that in the archive.
    numbered: Vec<(EntryPath, EntryPath)>,
    made_folders: Vec<MadeFolder>,
    /// Folders that were there as this archive has them, for another parcel brought them: they get their modes and times again.
    met_folders: Vec<MadeFolder>,
    /// Folders that are there since a run was killed that had made them, by their paths in the archive: they count as made.
    left_folders: HashSet<EntryPath>,
    /// The folders in which something got its name, or was made, by their paths in the archive; the topmost is empty.
    touched: HashSet<Vec<u8>>,
    landed: Landed,
    /// What can be taken back: the ids of what has landed, and of nothing that took another's place; with the numbers by which
    /// the file system knows each, and the bytes that it was counted with.
    landed_files: HashMap<u64, (u64, u64)>,
    keep_complete: bool,
    /// The folders have got their modes and times.
    settled: bool,
    /// It is the closed folder in which files are looked at: nobody else may enter, and the user may read everything. Here is
    /// what came into it, by the entries' ids.
    closed: Option<Contents>,
    origin_marks: Vec<OriginMark>,
    /// The name of the closed folder, as long as it is there.
    staging: Option<OsString>,
    /// `None` once nothing can be unfinished any more.
    marker: Option<Marker>,
    /// Something temporary could not be removed, so the marker stays for the next run.
    litter: bool,
    arrivals: u64,
}

/// What came of preparing a landing.
pub enum Prepared {
    /// It can begin.
    Ready(Box<Landing>),
    /// The destination, which is there now, takes other names than the places were made for: they are to be made again.
    TakesOther(NameRules),
}

/// What files came to, by their entries' ids.
pub(crate) type Contents = HashMap<u64, Content>;

/// The file that is being written.
struct Arriving {
    place: Rc<Folder>,
    temporary: OsString,
    file: NewFile,
}

/// A further name of a file that lands.
struct FurtherName {
    entry: Entry,
    /// The file, as it is called in the archive.
    of: Entry,
    content: Content,
}

/// A file that only lacks its name.
struct Waiting {
    id: u64,
    path: EntryPath,
    /// A file of that name is there, and is to be replaced.
    replaces: bool,
    temporary: OsString,
    bytes: u64,
    /// Open until the disk holds it.
    file: Option<NewFile>,
}

impl Landing {
    /// Looks at everything that could be in the way, and makes the destination if it is not there. The entries are those that the
    /// places were made for.
    ///
    /// # Errors
    /// [`LandingError`]; nothing was written then, but what a killed run had left may have been removed.
    pub fn prepare(
        destination: Destination<'_>,
        places: &Places,
        entries: &[ListedEntry],
        context: &Context<'_>,
    ) -> Result<Prepared, LandingError> {
        let mut landing = Self::set_up(destination, places, entries, context)?;
        let Some(marker) = &landing.marker else { return Ok(Prepared::Ready(Box::new(landing))) };
        let rules = landing.root.name_rules(marker.name())?;
        if rules == places.rules {
            return Ok(Prepared::Ready(Box::new(landing)));
        }
        landing.end_marker()?;
        Ok(Prepared::TakesOther(rules))
    }

    /// The landing in a closed folder, in which files are only looked at before they go on to where these places are.
    ///
    /// # Errors
    /// [`LandingError`].
    pub(crate) fn prepare_closed(
        destination: Destination<'_>,
        places: &Places,
        entries: &[ListedEntry],
        context: &Context<'_>,
    ) -> Result<Self, LandingError> {
        let mut landing = Self::set_up(destination, places, entries, context)?;
        landing.closed = Some(Contents::new());
        Ok(landing)
    }

    fn set_up(
        destination: Destination<'_>,
        places: &Places,
        entries: &[ListedEntry],
        context: &Context<'_>,
    ) -> Result<Self, LandingError> {
        let Destination { folder, keep_complete, origin_marks, .. } = destination;
        let left = Folder::open(folder).map(|root| marker::clear_leftovers(&root, &(context.owner_key)()));
        let left_folders = left.unwrap_or_default().into_iter().map(|made| made.path).collect();
        let Foreseen { resolutions, not_landed, renamed, refused_links } =
            survey(destination, places, entries, context)?;
        let run = u64::from_le_bytes(context.random()?);
        let root = Folder::open_or_create(folder)?;
        let marker = Marker::begin(&root, run, &(context.owner_key)())?;
        Ok(Self {
            resolutions,
            root: Rc::new(root),
            way: (Vec::new(), Vec::new()),
            arriving: None,
            waiting: Vec::new(),
            waiting_bytes: 0,
            links: Vec::new(),
            further: Vec::new(),
            made_folders: Vec::new(),
            met_folders: Vec::new(),
            left_folders,
            touched: HashSet::new(),
            landed: Landed { not_landed, renamed, refused_links, flat_links: places.flat_links, ..Landed::default() },
            numbered: places.numbered.clone(),
            landed_files: HashMap::new(),
            keep_complete,
            settled: false,
            closed: None,
            origin_marks: origin_marks.to_vec(),
            staging: None,
            marker: Some(marker),
            litter: false,
            arrivals: 0,
        })
    }

    /// The destination's absolute path.
    pub fn destination(&self) -> &Path {
        self.root.path()
    }

    /// What has landed so far.
    pub fn landed(&self) -> &Landed {
        &self.landed
    }

    /// Names what is complete, makes the links, gives folders their modes and times, deepest first, and syncs.
    ///
    /// # Errors
    /// [`LandingError`]; [`Landing::stop`] then ends it.
    pub fn finish(&mut self) -> Result<(), LandingError> {
        self.name_waiting()?;
        self.name_further()?;
        for link in std::mem::take(&mut self.links) {
            // Those that are refused were found before anything was written.
            if link_stays_inside(&link.path, &link.link_target) {
                self.make_link(&link)?;
            }
        }
        self.remove_staging()?;
        self.settle_folders()?;
        self.landed.beside = self.beside();
        self.sync_folders()?;
        self.end_marker()?;
        Ok(self.root.sync()?)
    }

    /// A link never takes a name that is taken; where it is to replace something, that gives its name up to it.
    fn make_link(&mut self, link: &Entry) -> Result<(), FileError> {
        let Some((path, replaces)) = self.place_for(link) else { return Ok(()) };
        let (place, name) = self.place_of(&path)?;
        let target = &path_of(&link.link_target);
        if replaces {
            self.arrivals += 1;
            let folder = path.parent_and_name().0.unwrap_or_default();
            let Some(marker) = &mut self.marker else { return Ok(()) };
            let temporary = marker.temporary(folder, self.arrivals)?;
            if !place.create_link(&temporary, target.as_os_str(), link.modified)? {
                self.has_no_links(link);
                return Ok(());
            }
            if let Err(error) =
                self.clear_tree(&path, &place, &name).and_then(|()| place.replace(&temporary, &place, &name))
            {
                self.litter |= place.remove_file(&temporary).is_err();
                return Err(error);
            }
            self.landed.replaced += 1;
        } else {
            if !place.create_link(&name, target.as_os_str(), link.modified)? {
                self.has_no_links(link);
                return Ok(());
            }
            if let Ok(number) = place.number_of(&name) {
                self.landed_files.insert(link.id, (number, 0));
            }
        }
        self.touch(&path);
        self.landed.links += 1;
        Ok(())
    }

    fn has_no_links(&mut self, link: &Entry) {
        self.landed.not_landed.push(NotLanded { path: link.path.clone(), why: NotLandedWhy::NoLinks });
    }

    fn end_marker(&mut self) -> Result<(), FileError> {
        self.marker.take().map_or(Ok(()), |marker| marker.end(&self.root))
    }

    /// Ends an extraction of these entries that stopped on the way. What is complete gets its name if it was wished so;
    /// otherwise what has landed goes again. Everything else goes, and folders get their modes and times. What has landed
    /// and stays, and how many files went; of further failures nobody is told, since something else came first.
    pub fn stop(mut self, entries: &[ListedEntry]) -> (Landed, u64) {
        let removed = if self.keep_complete {
            let _ = self.name_waiting();
            let _ = self.sync_folders();
            0
        } else {
            let removed = self.take_back(entries);
            // What has gone again need not be held, nor made once more.
            self.touched.clear();
            let _ = self.root.sync();
            removed
        };
        (std::mem::take(&mut self.landed), removed)
    }

    /// Files that stand beside others, sorted.
    fn beside(&self) -> Vec<(EntryPath, EntryPath)> {
        let mut beside: Vec<(EntryPath, EntryPath)> = self
            .resolutions
            .iter()
            .filter_map(|(path, resolution)| match resolution {
                Resolution::Beside(instead) => Some((instead.clone(), path.clone())),
                _ => None,
            })
            .collect();
        beside.extend(self.numbered.iter().cloned());
        beside.sort();
        beside
    }

    fn remove_staging(&mut self) -> Result<(), FileError> {
        if let Some(name) = &self.staging {
            self.root.remove_tree(name)?;
            self.staging = None;
        }
        Ok(())
    }

    /// Where a file stands, and whether it takes another's place there; `None` where it is not extracted.
    fn place_for(&self, entry: &Entry) -> Option<(EntryPath, bool)> {
        match self.resolutions.get(&entry.path) {
            Some(Resolution::Leave | Resolution::Keep) => None,
            Some(Resolution::Beside(path)) => Some((path.clone(), false)),
            Some(Resolution::Replace | Resolution::ReplaceTree(_)) => Some((entry.path.clone(), true)),
            Some(Resolution::Again) | None => Some((entry.path.clone(), false)),
        }
    }

    /// Whether anything of an entry comes to disk; counts what is kept in its stead.
    fn lands(&mut self, entry: &Entry) -> bool {
        let resolution = self.resolutions.get(&entry.path);
        self.landed.kept += u64::from(resolution == Some(&Resolution::Keep));
        !matches!(resolution, Some(Resolution::Keep | Resolution::Leave))
    }

    /// Links come after everything else.
    fn keep_link(&mut self, entry: &Entry) {
        if self.lands(entry) {
            self.links.push(entry.clone());
        }
    }

    fn begin_file(&mut self, entry: &Entry) -> Result<(), FileError> {
        if !self.lands(entry) {
            return Ok(());
        }
        self.arrivals += 1;
        let folder = entry.path.parent_and_name().0.unwrap_or_default();
        let temporary = match &mut self.marker {
            Some(marker) => marker.temporary(folder, self.arrivals)?,
            None => return Ok(()),
        };
        let (place, _) = self.place_of(&entry.path)?;
        let file = place.create_file(&temporary, 0o600)?;
        self.arriving = Some(Arriving { place, temporary, file });
        Ok(())
    }

    /// The file is complete. It waits for the disk with others.
    fn end_file(&mut self, entry: &Entry, content: &Content) -> Result<(), FileError> {
        // Until it is in the waiting list it stays in `arriving`, so that whatever fails here, it is removed.
        let Some(Arriving { file, .. }) = &self.arriving else { return Ok(()) };
        let mode = if self.closed.is_some() { 0o600 } else { entry.mode & RESTORED_MODE };
        let mut marked = !self.origin_marks.is_empty();
        for mark in &self.origin_marks {
            marked &= file.mark_origin(mark)?;
        }
        self.landed.marked += u64::from(marked);
        file.set_mode_and_time(mode, entry.modified)?;
        let Some(Arriving { temporary, file, .. }) = self.arriving.take() else { return Ok(()) };
        let Some((path, replaces)) = self.place_for(entry) else { return Ok(()) };
        let file = Some(file);
        self.waiting.push(Waiting { id: entry.id, path, replaces, temporary, bytes: content.size, file });
        self.waiting_bytes += content.size;
        if self.has_many_waiting() { self.name_waiting() } else { Ok(()) }
    }

    fn remove_arriving(&mut self) {
        if let Some(arriving) = self.arriving.take() {
            self.litter |= arriving.place.remove_file(&arriving.temporary).is_err();
        }
    }
}

/// What a sink of entries does (see [`EntrySink`](crate::ground::sink::EntrySink)).
impl Landing {
    /// A new entry begins.
    pub fn begin(&mut self, entry: &Entry) -> Result<(), LandingError> {
        match entry.kind {
            EntryKind::Folder => self.make_folder(entry)?,
            EntryKind::File => self.begin_file(entry)?,
            EntryKind::Link => self.keep_link(entry),
        }
        Ok(())
    }

    /// The next bytes of the current file.
    pub fn content(&mut self, bytes: &[u8]) -> Result<(), LandingError> {
        match &mut self.arriving {
            Some(arriving) => Ok(arriving.file.write(bytes)?),
            None => Ok(()),
        }
    }

    /// The current file has this extended attribute.
    ///
    /// # Errors
    /// [`LandingError`] for whatever is wrong with the file itself.
    pub fn attribute(&mut self, attribute: &Attribute) -> Result<(), LandingError> {
        let Some(arriving) = &self.arriving else { return Ok(()) };
        if is_set(&attribute.name) && arriving.file.set_attribute(&attribute.name, &attribute.value)? {
            self.landed.attributes.set += 1;
        } else {
            self.landed.attributes.leave(&attribute.name);
        }
        Ok(())
    }

    /// The next bytes of the current file are so many zeros.
    pub fn hole(&mut self, bytes: u64) -> Result<(), LandingError> {
        match &mut self.arriving {
            Some(arriving) => Ok(arriving.file.append_hole(bytes)?),
            None => Ok(()),
        }
    }

    /// The current entry is complete.
    pub fn end(&mut self, entry: &Entry, content: &Content) -> Result<(), LandingError> {
        if let Some(contents) = self.closed.as_mut().filter(|_| entry.kind == EntryKind::File) {
            contents.insert(entry.id, *content);
        }
        if entry.kind == EntryKind::File {
            self.end_file(entry, content)?;
        }
        Ok(())
    }
}

impl Drop for Landing {
    /// What has no name of its own goes, and folders get their modes and times. Failures here have nobody left to be
    /// told to.
    fn drop(&mut self) {
        self.remove_arriving();
        self.remove_waiting();
        self.litter |= self.remove_staging().is_err();
        if !self.settled {
            let _ = self.settle_folders();
        }
        if !self.litter {
            let _ = self.end_marker();
        }
    }
}
