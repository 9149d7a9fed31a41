//! Opening an archive of changes into the folder in which what it builds upon was opened: what of that is still as it was may be
//! replaced or removed, with consent; what the recipient has changed since is a clash like any other.

use crate::disk::names::{bytes_of, name_of, path_of};
use crate::disk::{FileError, Folder, Interruption, NameRules};
use crate::formats::sealed::{Base, BaseEntry, Becomes};
use crate::ground::context::Context;
use crate::ground::entry::{EntryKind, EntryPath, ListedEntry};
use crate::landing::{Known, KnownThere, Places};
use std::collections::BTreeSet;
use std::ffi::OsString;
use std::io;
use std::path::Path;

/// What was found in a folder before an archive of changes is opened into it.
#[derive(Debug, Default)]
pub struct Found {
    /// What is known of what is there: what may be replaced is for whoever asks for that to decide.
    pub known: Known,
    /// What is not there any more in the new state, and is here as the base left it; sorted.
    pub gone: Vec<EntryPath>,
    /// What is not there any more in the new state, and was changed here since.
    pub gone_but_changed: Vec<EntryPath>,
    /// The base does not seem to have been opened here: it had contents, and not one of them is here as it left them.
    pub lacks_base: bool,
    /// Where everything is here.
    places: Places,
}

impl Found {
    fn gives_way_above(&self, path: &EntryPath) -> bool {
        let above = std::iter::successors(path.parent(), EntryPath::parent);
        above.into_iter().any(|folder| self.known.get(&folder) == Some(&KnownThere::Outdated))
    }
}

/// Looks at a folder without changing anything.
///
/// # Errors
/// [`Interruption`].
pub fn look(base: &Base, here: &[ListedEntry], folder: &Path, context: &Context<'_>) -> Result<Found, Interruption> {
    let mut found = Found { places: places_of(base, here), ..Found::default() };
    let root = match Folder::open(folder) {
        Ok(root) => Some(root),
        Err(error) if error.source.kind() == io::ErrorKind::NotFound => None,
        Err(error) => return Err(error.into()),
    };
    let mut eyes = Eyes { root: root.as_ref(), places: &found.places, context };
    let (mut had_contents, mut has_one) = (false, false);
    for BaseEntry { listed, becomes, held } in &base.entries {
        context.go_on()?;
        let path = &listed.entry.path;
        let bears_witness = *held && listed.entry.kind != EntryKind::Folder;
        had_contents |= bears_witness;
        match becomes {
            Becomes::Stays => has_one = has_one || (bears_witness && eyes.is_there(listed)?),
            Becomes::Replaced => {
                let new = here.binary_search_by(|new| new.entry.path.cmp(path)).ok().map(|place| &here[place]);
                let is_new = new.map_or(Ok(false), |new| eyes.is_there(new))?;
                let is_old = !is_new && eyes.is_as_left(listed, base)?;
                has_one |= bears_witness && (is_new || is_old);
                if is_new {
                    found.known.insert(path.clone(), KnownThere::UpToDate);
                } else if is_old {
                    found.known.insert(path.clone(), KnownThere::Outdated);
                }
            }
            // What gives its place to a file goes as a whole.
            Becomes::Removed if found.gives_way_above(path) => {}
            Becomes::Removed => {
                if eyes.is_there(listed)? {
                    has_one |= bears_witness;
                    found.gone.push(path.clone());
                } else if eyes.is_anything_there(path)? {
                    found.gone_but_changed.push(path.clone());
                }
            }
        }
    }
    let is_new = |path: &EntryPath| base.entries.binary_search_by(|entry| entry.listed.entry.path.cmp(path)).is_err();
    for added in here.iter().filter(|listed| is_new(&listed.entry.path)) {
        if added.entry.kind != EntryKind::Folder && eyes.is_there(added)? {
            found.known.insert(added.entry.path.clone(), KnownThere::UpToDate);
        }
    }
    found.lacks_base = had_contents && !has_one;
    Ok(found)
}

/// Where everything is here that the base or the new state has.
fn places_of(base: &Base, here: &[ListedEntry]) -> Places {
    let paths = base.entries.iter().map(|entry| &entry.listed).chain(here).map(|listed| &listed.entry.path);
    // Nothing is copied where there is nothing to arrange.
    if !Places::matter(NameRules::here(), paths) {
        return Places::default();
    }
    let mut all: Vec<ListedEntry> =
        base.entries.iter().map(|entry| entry.listed.clone()).chain(here.to_vec()).collect();
    all.sort_by(|one, other| one.entry.path.cmp(&other.entry.path));
    all.dedup_by(|one, other| one.entry.path == other.entry.path);
    Places::here(&all)
}

/// Removes what is not there any more in the new state, as far as it is still as the base left it: files and links, then folders that
/// are empty. How many, and what stays.
///
/// # Errors
/// [`Interruption`]; what was removed until then is gone.
pub fn remove_gone(
    base: &Base,
    found: &Found,
    folder: &Path,
    context: &Context<'_>,
) -> Result<(u64, Vec<EntryPath>), Interruption> {
    let root = Folder::open(folder)?;
    let (mut removed, mut stays, mut touched) = (0, Vec::new(), BTreeSet::new());
    // What is in a folder comes before it.
    for path in found.gone.iter().rev() {
        context.go_on()?;
        let place = base.entries.binary_search_by(|entry| entry.listed.entry.path.cmp(path));
        let Some(listed) = place.ok().map(|place| &base.entries[place].listed) else { continue };
        let mut eyes = Eyes { root: Some(&root), places: &found.places, context };
        // It is looked at once more right before it goes.
        let is_gone = eyes.is_there(listed)? && eyes.remove(listed)?;
        if is_gone {
            removed += 1;
            touched.insert(path.parent());
        } else {
            stays.push(path.clone());
        }
    }
    let mut eyes = Eyes { root: Some(&root), places: &found.places, context };
    for above in touched {
        if let Some(folder) = eyes.folder(above.as_ref())? {
            folder.sync()?;
        }
    }
    stays.reverse();
    Ok((removed, stays))
}

/// Looks at what is below a folder, never through a link.
struct Eyes<'a> {
    root: Option<&'a Folder>,
    places: &'a Places,
    context: &'a Context<'a>,
}

impl Eyes<'_> {
    /// The folder with this path in the archive, if it is here.
    fn folder(&mut self, path: Option<&EntryPath>) -> Result<Option<Folder>, FileError> {
        let Some(root) = self.root else { return Ok(None) };
        let mut folder = root.itself()?;
        let path = path.map(|path| self.places.path_here(path));
        for name in path.iter().flat_map(EntryPath::components) {
            let name = &name_of(name);
            match folder.kind_of(name)? {
                Some(kind) if kind.is_dir() => folder = folder.subfolder(name)?,
                _ => return Ok(None),
            }
        }
        Ok(Some(folder))
    }

    /// Whether it is as the base left it, a folder with everything that is in it; some of that may be gone.
    fn is_as_left(&mut self, listed: &ListedEntry, base: &Base) -> Result<bool, Interruption> {
        let is_there = self.is_there(listed)?;
        if !is_there || listed.entry.kind != EntryKind::Folder {
            return Ok(is_there);
        }
        let path = &listed.entry.path;
        let Some(folder) = self.folder(Some(path))? else { return Ok(false) };
        for name in folder.names()? {
            let Ok(below) = path.join(&bytes_of(&name)) else { return Ok(false) };
            let place = base.entries.binary_search_by(|entry| entry.listed.entry.path.cmp(&below));
            let Ok(place) = place else { return Ok(false) };
            if !self.is_as_left(&base.entries[place].listed, base)? {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// The folder that an entry lies in, if it is there, and the entry's name.
    fn place(&mut self, path: &EntryPath) -> Result<Option<(Folder, OsString)>, FileError> {
        let name = name_of(self.places.path_here(path).parent_and_name().1);
        Ok(self.folder(path.parent().as_ref())?.map(|folder| (folder, name)))
    }

    fn is_anything_there(&mut self, path: &EntryPath) -> Result<bool, FileError> {
        match self.place(path)? {
            Some((folder, name)) => Ok(folder.kind_of(&name)?.is_some()),
            None => Ok(false),
        }
    }

    /// Whether what an entry says is there: of a file the content, of a link where it leads.
    fn is_there(&mut self, listed: &ListedEntry) -> Result<bool, Interruption> {
        let Some((folder, name)) = self.place(&listed.entry.path)? else { return Ok(false) };
        let Some(kind) = folder.kind_of(&name)? else { return Ok(false) };
        match listed.entry.kind {
            EntryKind::Folder => Ok(kind.is_dir()),
            EntryKind::Link if kind.is_symlink() => {
                let there = folder.link_target(&name)?;
                let here = self.places.place(&listed.entry);
                Ok(here.is_some_and(|here| path_of(&here.link_target).as_os_str() == there.as_os_str()))
            }
            EntryKind::File if kind.is_file() && folder.size_and_time_of(&name)?.0 == listed.content.size => {
                match folder.digest_of(&name, listed.content.in_units, self.context) {
                    Ok((size, digest)) => Ok(size == listed.content.size && digest == listed.content.digest),
                    // Of what cannot be read nobody knows that it is as it was.
                    Err(Interruption::File(_)) => Ok(false),
                    Err(other) => Err(other),
                }
            }
            EntryKind::Link | EntryKind::File => Ok(false),
        }
    }

    /// Whether it is gone now; a folder with something in it stays.
    fn remove(&mut self, listed: &ListedEntry) -> Result<bool, FileError> {
        let Some((folder, name)) = self.place(&listed.entry.path)? else { return Ok(false) };
        if listed.entry.kind != EntryKind::Folder {
            return folder.remove_file(&name).map(|()| true);
        }
        match folder.remove_subfolder(&name) {
            Err(error) if error.source.kind() == io::ErrorKind::DirectoryNotEmpty => Ok(false),
            outcome => outcome.map(|()| true),
        }
    }
}
