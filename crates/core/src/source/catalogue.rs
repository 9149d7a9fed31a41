//! The walk: which files, folders and links lie under the named sources, and what each is called inside.

use crate::context::{Cancelled, Context};
use crate::entry::{EntryKind, EntryPath, MAX_LINK_TARGET_BYTES, PathError, Timestamp};
use crate::place::missing::missing;
use crate::place::{FileAction, FileError};
use std::collections::BTreeMap;
use std::ffi::{OsStr, OsString};
use std::fs::{self, Metadata};
use std::io;
use std::os::unix::ffi::{OsStrExt as _, OsStringExt as _};
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};

/// One thing to pack.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SourceEntry {
    /// Where it will stand in the archive.
    pub path: EntryPath,
    /// File, folder or link.
    pub kind: EntryKind,
    /// Bytes, when it was listed; 0 for folders and links.
    pub size: u64,
    /// Permission bits.
    pub mode: u32,
    /// When it was last modified.
    pub modified: Timestamp,
    /// A link's target; empty for the other kinds.
    pub link_target: Vec<u8>,
}

/// Something under the sources that cannot be packed.
#[derive(Debug)]
pub struct PassedOver {
    /// Where it is on disk.
    pub disk_path: PathBuf,
    /// Why it cannot be packed.
    pub reason: PassedOverReason,
}

/// Why something cannot be packed.
#[derive(Debug, thiserror::Error)]
pub enum PassedOverReason {
    /// A device, a pipe or a socket: it has no content of its own.
    #[error("not a file, folder or link")]
    Special,
    /// The system does not let it be read.
    #[error(transparent)]
    Unreadable(#[from] FileError),
    /// Its path inside the archive would break a rule.
    #[error("the name cannot be packed: {0}")]
    Name(#[from] PathError),
    /// A link whose target is longer than an archive holds.
    #[error("the link's target is too long")]
    LongTarget,
}

/// Why there is nothing to pack at all.
#[derive(Debug, thiserror::Error)]
pub enum SourceError {
    /// A named path does not exist.
    #[error("{} does not exist", path.display())]
    Missing {
        /// The absolute path that was tried.
        path: PathBuf,
        /// Names that do exist beside it and look alike, best first.
        similar: Vec<OsString>,
    },
    /// Two sources would have one name inside the archive.
    #[error("{} and {} have the same name", first.display(), second.display())]
    SameName {
        /// The one named first.
        first: PathBuf,
        /// The other.
        second: PathBuf,
    },
    /// A source such as `/` has no name to give to its entry.
    #[error("{} has no name", .0.display())]
    NoName(PathBuf),
    /// A named source cannot be packed.
    #[error("{} cannot be packed", .0.disk_path.display())]
    Unpackable(PassedOver),
    /// The user asked to stop.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
}

/// Everything under the sources, sorted as [`EntryPath`] sorts.
#[derive(Debug, Default)]
pub struct Catalogue {
    /// The named sources in the order of their paths, each with its path on disk.
    roots: Vec<(EntryPath, PathBuf)>,
    /// What will be packed.
    pub entries: Vec<SourceEntry>,
    /// What cannot be.
    pub passed_over: Vec<PassedOver>,
}

impl Catalogue {
    /// Walks the sources. Links inside them are listed as links; a source that is itself a link is followed.
    ///
    /// # Errors
    /// [`SourceError`] for the named sources; trouble below them goes to [`Catalogue::passed_over`].
    pub fn gather(sources: &[PathBuf], context: &Context<'_>) -> Result<Self, SourceError> {
        let mut roots: BTreeMap<EntryPath, (PathBuf, PathBuf)> = BTreeMap::new();
        for source in sources {
            let disk_path = fs::canonicalize(source).map_err(|error| unreachable_source(source, error))?;
            let name = own_name(source, &disk_path).ok_or_else(|| SourceError::NoName(source.clone()))?;
            let path = EntryPath::new(name.into_vec()).map_err(|error| unpackable(&disk_path, error.into()))?;
            if let Some((first, _)) = roots.insert(path, (source.clone(), disk_path)) {
                return Err(SourceError::SameName { first, second: source.clone() });
            }
        }
        let roots = roots.into_iter().map(|(path, (_, disk_path))| (path, disk_path)).collect();
        let mut catalogue = Self { roots, entries: Vec::new(), passed_over: Vec::new() };
        for root in 0..catalogue.roots.len() {
            catalogue.walk(root, context)?;
        }
        Ok(catalogue)
    }

    /// Where an entry of this catalogue is on disk. Put together when it is wanted: kept for a million entries, these
    /// paths would take most of the memory.
    pub fn disk_path(&self, path: &EntryPath) -> PathBuf {
        let at = self.roots.partition_point(|(root, _)| root <= path);
        let Some((root, disk_path)) = at.checked_sub(1).and_then(|at| self.roots.get(at)) else {
            return PathBuf::new();
        };
        match path.as_bytes().get(root.as_bytes().len() + 1..) {
            Some(below) => disk_path.join(OsStr::from_bytes(below)),
            None => disk_path.clone(),
        }
    }

    /// Content bytes that are to be read.
    pub fn total_bytes(&self) -> u64 {
        self.entries.iter().map(|entry| entry.size).sum()
    }

    fn walk(&mut self, root: usize, context: &Context<'_>) -> Result<(), SourceError> {
        let first = self.entries.len();
        let mut waiting = vec![self.roots[root].0.clone()];
        while let Some(path) = waiting.pop() {
            context.go_on()?;
            let disk_path = self.disk_path(&path);
            match describe(path, &disk_path) {
                Ok(entry) => {
                    if entry.kind == EntryKind::Folder {
                        self.children(&entry.path, &disk_path, &mut waiting);
                    }
                    self.entries.push(entry);
                }
                Err(reason) if self.entries.len() == first => return Err(unpackable(&disk_path, reason)),
                Err(reason) => self.passed_over.push(PassedOver { disk_path, reason }),
            }
        }
        Ok(())
    }

    /// Puts a folder's children on the stack, so that the first by name comes off first.
    fn children(&mut self, folder: &EntryPath, disk_path: &Path, waiting: &mut Vec<EntryPath>) {
        let names = fs::read_dir(disk_path)
            .and_then(|entries| entries.map(|entry| entry.map(|entry| entry.file_name())).collect())
            .map_err(FileError::on(FileAction::List, disk_path));
        let mut names: Vec<OsString> = match names {
            Ok(names) => names,
            Err(error) => {
                self.passed_over.push(PassedOver { disk_path: disk_path.to_owned(), reason: error.into() });
                return;
            }
        };
        names.sort_unstable_by(|one, other| other.cmp(one));
        for name in names {
            match folder.join(name.as_bytes()) {
                Ok(path) => waiting.push(path),
                Err(error) => {
                    self.passed_over.push(PassedOver { disk_path: disk_path.join(&name), reason: error.into() });
                }
            }
        }
    }
}

/// The last component as the user wrote it, or, for `.` and the like, as the system knows it.
fn own_name(source: &Path, canonical: &Path) -> Option<OsString> {
    let written = source.components().next_back().and_then(|last| match last {
        std::path::Component::Normal(name) => Some(name),
        _ => None,
    });
    written.or_else(|| canonical.file_name()).map(ToOwned::to_owned)
}

fn unpackable(disk_path: &Path, reason: PassedOverReason) -> SourceError {
    SourceError::Unpackable(PassedOver { disk_path: disk_path.to_owned(), reason })
}

fn unreachable_source(source: &Path, error: io::Error) -> SourceError {
    if error.kind() == io::ErrorKind::NotFound {
        let (path, similar) = missing(source);
        SourceError::Missing { path, similar }
    } else {
        unpackable(source, FileError::on(FileAction::Open, source)(error).into())
    }
}

fn describe(path: EntryPath, disk_path: &Path) -> Result<SourceEntry, PassedOverReason> {
    let metadata = fs::symlink_metadata(disk_path).map_err(FileError::on(FileAction::Open, disk_path))?;
    let (mut size, mut link_target) = (0, Vec::new());
    let kind = if metadata.is_dir() {
        EntryKind::Folder
    } else if metadata.is_file() {
        size = metadata.len();
        EntryKind::File
    } else if metadata.is_symlink() {
        let target = fs::read_link(disk_path).map_err(FileError::on(FileAction::Read, disk_path))?;
        link_target = target.into_os_string().into_vec();
        if link_target.len() > MAX_LINK_TARGET_BYTES {
            return Err(PassedOverReason::LongTarget);
        }
        EntryKind::Link
    } else {
        return Err(PassedOverReason::Special);
    };
    let (mode, modified) = mode_and_time(&metadata);
    Ok(SourceEntry { path, kind, size, mode, modified, link_target })
}

/// Permission bits and modification time, as entries hold them.
pub(super) fn mode_and_time(metadata: &Metadata) -> (u32, Timestamp) {
    let nanoseconds = u32::try_from(metadata.mtime_nsec()).unwrap_or(0);
    (metadata.mode() & 0o7777, Timestamp { seconds: metadata.mtime(), nanoseconds })
}
