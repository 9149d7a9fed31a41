//! Landing: extraction to disk, from whatever format, without harm to what is there.
//!
//! [`Landing::prepare`] looks at the whole list of entries and at the destination, and refuses before
//! a byte is written. Then the landing is an [`EntrySink`]: each file is written under a temporary name
//! beside its place and appears under its own name only when complete and verified. Links come after
//! all files, so nothing is ever written through them; folders get their modes and times last.

mod survey;

pub use survey::LandingError;

use crate::context::{Context, NoRandomness};
use crate::entry::{Content, Entry, EntryKind, EntryPath, EntrySink, ListedEntry, Timestamp, link_stays_inside};
use crate::place::{FileError, Folder, NewFile};
use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::{OsStrExt as _, OsStringExt as _};
use std::path::{Path, PathBuf};

/// Permission bits that are restored: no set-user-id, set-group-id or sticky bit.
const RESTORED_MODE: u32 = 0o777;

/// A link that was not made, because it could lead outside the destination.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RefusedLink {
    /// The link.
    pub path: EntryPath,
    /// Where it would have led.
    pub target: Vec<u8>,
}

/// What has landed, complete and under its own name.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Landed {
    /// Regular files.
    pub files: u64,
    /// Folders, not counting those that were there.
    pub folders: u64,
    /// Symbolic links.
    pub links: u64,
    /// Content bytes of the files.
    pub bytes: u64,
    /// Links that were not made.
    pub refused_links: Vec<RefusedLink>,
}

/// An extraction under way. Dropped before [`Landing::finish`], it removes the file that was not complete.
pub struct Landing {
    root: Folder,
    /// The folder that was used last, with its path in the archive.
    current: Option<(Vec<u8>, Folder)>,
    arriving: Option<Arriving>,
    links: Vec<Entry>,
    made_folders: Vec<(EntryPath, u32, Timestamp)>,
    landed: Landed,
    run: [u8; 8],
    arrivals: u64,
}

struct Arriving {
    folder: Folder,
    temporary: OsString,
    file: NewFile,
}

impl Landing {
    /// Looks at everything that could be in the way, and makes the destination if it is not there.
    ///
    /// # Errors
    /// [`LandingError`]; nothing was written then.
    pub fn prepare(destination: &Path, entries: &[ListedEntry], context: &Context<'_>) -> Result<Self, LandingError> {
        survey::survey(destination, entries)?;
        Ok(Self {
            root: Folder::open_or_create(destination)?,
            current: None,
            arriving: None,
            links: Vec::new(),
            made_folders: Vec::new(),
            landed: Landed::default(),
            run: context.random()?,
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

    /// Makes the links, gives folders their modes and times, deepest first, and syncs.
    ///
    /// # Errors
    /// [`LandingError`].
    pub fn finish(mut self) -> Result<Landed, LandingError> {
        for link in std::mem::take(&mut self.links) {
            if link_stays_inside(&link.path, &link.link_target) {
                let (folder, name) = self.place_of(&link.path)?;
                folder.create_link(&name, OsStr::from_bytes(&link.link_target), link.modified)?;
                self.landed.links += 1;
            } else {
                self.landed.refused_links.push(RefusedLink { path: link.path, target: link.link_target });
            }
        }
        self.settle_folders()?;
        self.root.sync()?;
        Ok(std::mem::take(&mut self.landed))
    }

    fn settle_folders(&mut self) -> Result<(), LandingError> {
        let mut made = std::mem::take(&mut self.made_folders);
        made.sort_by(|one, other| other.0.cmp(&one.0));
        for (path, mode, modified) in made {
            let folder = self.open(path.as_bytes())?;
            folder.sync()?;
            folder.set_mode_and_time(mode & RESTORED_MODE, modified)?;
        }
        Ok(())
    }

    /// Opens a folder of the tree, component by component, never through a link, making what is missing.
    fn open(&mut self, path: &[u8]) -> Result<&Folder, FileError> {
        if self.current.as_ref().is_none_or(|(open, _)| open != path) {
            let mut folder = self.root.itself()?;
            for component in path.split(|byte| *byte == b'/') {
                let name = OsStr::from_bytes(component);
                folder = match folder.kind_of(name)? {
                    Some(_) => folder.subfolder(name)?,
                    None => folder.create_subfolder(name)?,
                };
            }
            self.current = Some((path.to_vec(), folder));
        }
        Ok(self.current.as_ref().map_or(&self.root, |(_, folder)| folder))
    }

    fn place_of(&mut self, path: &EntryPath) -> Result<(&Folder, OsString), FileError> {
        let (parent, name) = path.parent_and_name();
        let name = OsString::from_vec(name.to_vec());
        let folder = match parent {
            Some(parent) => self.open(parent)?,
            None => &self.root,
        };
        Ok((folder, name))
    }

    fn make_folder(&mut self, entry: &Entry) -> Result<(), FileError> {
        let (parent, name) = self.place_of(&entry.path)?;
        if parent.kind_of(&name)?.is_none() {
            parent.create_subfolder(&name)?;
            self.made_folders.push((entry.path.clone(), entry.mode, entry.modified));
            self.landed.folders += 1;
        }
        Ok(())
    }

    fn begin_file(&mut self, entry: &Entry) -> Result<(), FileError> {
        self.arrivals += 1;
        let run = u64::from_le_bytes(self.run);
        let temporary = OsString::from(format!(".arriving-{run:016x}-{}", self.arrivals));
        let (folder, _) = self.place_of(&entry.path)?;
        let folder = folder.itself()?;
        let file = folder.create_file(&temporary, 0o600)?;
        self.arriving = Some(Arriving { folder, temporary, file });
        Ok(())
    }

    fn end_file(&mut self, entry: &Entry, content: &Content) -> Result<(), FileError> {
        // Until it is published it stays in `arriving`, so that whatever fails here, it is removed.
        let Some(Arriving { folder, temporary, file }) = &self.arriving else { return Ok(()) };
        file.set_mode_and_time(entry.mode & RESTORED_MODE, entry.modified)?;
        file.sync()?;
        let (_, name) = entry.path.parent_and_name();
        folder.publish(temporary, folder, OsStr::from_bytes(name))?;
        self.arriving = None;
        self.landed.files += 1;
        self.landed.bytes += content.size;
        Ok(())
    }
}

impl EntrySink for Landing {
    type Error = LandingError;

    fn begin(&mut self, entry: &Entry) -> Result<(), LandingError> {
        match entry.kind {
            EntryKind::Folder => self.make_folder(entry)?,
            EntryKind::File => self.begin_file(entry)?,
            EntryKind::Link => self.links.push(entry.clone()),
        }
        Ok(())
    }

    fn content(&mut self, bytes: &[u8]) -> Result<(), LandingError> {
        match &mut self.arriving {
            Some(arriving) => Ok(arriving.file.write(bytes)?),
            None => Ok(()),
        }
    }

    fn end(&mut self, entry: &Entry, content: &Content) -> Result<(), LandingError> {
        if entry.kind == EntryKind::File {
            self.end_file(entry, content)?;
        }
        Ok(())
    }
}

impl Drop for Landing {
    /// What was not complete goes; folders are given their modes even after an error. Failures here have
    /// nobody left to be told to.
    fn drop(&mut self) {
        if let Some(arriving) = self.arriving.take() {
            let _ = arriving.folder.remove_file(&arriving.temporary);
        }
        let _ = self.settle_folders();
    }
}

impl From<NoRandomness> for LandingError {
    fn from(error: NoRandomness) -> Self {
        Self::NoRandomness(error)
    }
}

/// Where an entry would stand below a destination.
pub(crate) fn place_below(destination: &Path, path: &EntryPath) -> PathBuf {
    destination.join(OsStr::from_bytes(path.as_bytes()))
}
