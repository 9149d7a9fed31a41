//! The marker of an extraction under way: a file at the top of the destination that is there as long as anything else
//! there may be unfinished.
//!
//! It is named `.arriving-`, the run's number and a proof that this user's run made it in this very folder; it is locked while
//! the run lives. It lists the folders in which the run has put temporary files, which are called by the marker's name, `-` and a
//! count; and the folders that it has made, or met as they were left, with what they are to get in the end. If a run was killed, the next one of the same
//! user finds the marker unlocked, removes those files, settles those folders, and then removes the marker.
//!
//! Several runs may be at work in one place. Whoever begins puts a note beside each marker that is locked, so that no run
//! takes back what another has found there and counts on.

use super::made_folder::{MadeFolder, below};
use crate::disk::names::name_of;
use crate::disk::{FileError, Folder, NewFile, begins_with_own_name, is_own_name, own_name};
use crate::ground::entry::{EntryPath, Timestamp};
use crate::ground::ownership::OwnerKey;
use std::ffi::{OsStr, OsString};
use std::io;

const PREFIX: &str = ".arriving-";

/// What every marker begins with, for people. A NUL ends it.
const HEAD: &[u8] = b"Under Seal is extracting files here. If it was cut off, its next run in this folder clears up.\0";

/// What follows a marker's name in that of the note: temporary files are counted from 1.
const NOTE: &str = "-0";

/// An item of a made folder begins so, and one of a folder that was met with one more of them; no path in an archive does.
const MADE: &[u8] = b"/";
const MET: &[u8] = b"//";

/// A marker that stands.
pub(super) struct Marker {
    file: NewFile,
    name: OsString,
    /// The folder that was listed last.
    last: Option<Vec<u8>>,
    /// Another run was at work when this one began.
    has_met: bool,
}

impl Marker {
    /// Sets up the marker of the run with this random number.
    pub fn begin(root: &Folder, run: u64, key: &OwnerKey) -> Result<Self, FileError> {
        let (file, name) = Self::create(root, run, key)?;
        let mut marker = Self { file, name, last: None, has_met: false };
        match marker.file.write(HEAD).and_then(|()| marker.meet_others(root, key)) {
            Ok(()) => Ok(marker),
            Err(error) => {
                let _ = marker.end(root);
                Err(error)
            }
        }
    }

    /// Makes the file and locks it. Another run that looks for leftovers just then may have taken it for one, and away.
    fn create(root: &Folder, run: u64, key: &OwnerKey) -> Result<(NewFile, OsString), FileError> {
        let mut number = run;
        loop {
            let name = own_name(root, PREFIX, number, key)?;
            let file = root.create_file(&name, 0o600)?;
            // Where the file system has no locks, the run's number still keeps two runs apart.
            file.lock();
            if root.kind_of(&name)?.is_some() {
                return Ok((file, name));
            }
            number = number.wrapping_add(1);
        }
    }

    fn meet_others(&mut self, root: &Folder, key: &OwnerKey) -> Result<(), FileError> {
        for name in root.names()? {
            if name == self.name || !is_own_name(root, PREFIX, &name, key)? {
                continue;
            }
            // It may have ended meanwhile.
            let Ok(other) = root.reopen_file(&name) else { continue };
            if other.try_lock() {
                continue;
            }
            self.has_met = true;
            match root.create_file(&note_of(&name), 0o600) {
                Err(error) if !error.is_taken() => return Err(error),
                _ if root.kind_of(&name)?.is_none() => remove_note(root, &name)?,
                _ => {}
            }
        }
        Ok(())
    }

    /// Whether another run was at work here in this one's time.
    pub fn has_met_another(&self, root: &Folder) -> bool {
        self.has_met || !matches!(root.kind_of(&note_of(&self.name)), Ok(None))
    }

    /// Notes a folder that is going to be made.
    pub fn note_folder(&mut self, folder: &MadeFolder) -> Result<(), FileError> {
        self.note(MADE, folder)
    }

    /// Notes a folder that was there, and gets its mode and time again.
    pub fn note_met(&mut self, folder: &MadeFolder) -> Result<(), FileError> {
        self.note(MET, folder)
    }

    fn note(&mut self, mark: &[u8], folder: &MadeFolder) -> Result<(), FileError> {
        let MadeFolder { path, mode, modified } = folder;
        let what = format!("{mode:o} {} {} ", modified.seconds, modified.nanoseconds);
        self.file.write(&[mark, what.as_bytes(), path.as_bytes(), b"\0"].concat())
    }

    /// The name of the run's temporary file of this number, in the folder at this path of the archive.
    pub fn temporary(&mut self, folder: &[u8], number: u64) -> Result<OsString, FileError> {
        if self.last.as_deref() != Some(folder) {
            // Names cannot hold a NUL, so it ends each.
            self.file.write(&[folder, b"\0"].concat())?;
            self.last = Some(folder.to_vec());
        }
        let mut name = self.name.clone();
        name.push(format!("-{number}"));
        Ok(name)
    }

    /// Its name: small letters, digits and a dot.
    pub fn name(&self) -> &OsStr {
        &self.name
    }

    /// Takes the marker away: nothing is unfinished any more.
    pub fn end(self, root: &Folder) -> Result<(), FileError> {
        root.remove_file(&self.name)?;
        // Behind the marker: whoever notes something later finds that gone.
        remove_note(root, &self.name)
    }
}

/// Whether a file of this name is a marker that a run of this user gives in this folder, or what one speaks of.
pub(super) fn is_arriving(root: &Folder, name: &[u8], key: &OwnerKey) -> Result<bool, FileError> {
    match name.starts_with(PREFIX.as_bytes()) {
        true => begins_with_own_name(root, PREFIX, &name_of(name), key),
        false => Ok(false),
    }
}

fn note_of(marker: &OsStr) -> OsString {
    let mut note = marker.to_owned();
    note.push(NOTE);
    note
}

/// Two runs may do this at once.
fn remove_note(root: &Folder, marker: &OsStr) -> Result<(), FileError> {
    if root.kind_of(&note_of(marker))?.is_none() {
        return Ok(());
    }
    match root.remove_file(&note_of(marker)) {
        Err(error) if error.source.kind() == io::ErrorKind::NotFound => Ok(()),
        outcome => outcome,
    }
}

/// Removes what killed runs of this user have left, and gives the folders that they have made what they were to get; those
/// folders. What cannot be removed stays for the next run.
pub(super) fn clear_leftovers(root: &Folder, key: &OwnerKey) -> Vec<MadeFolder> {
    let mut made = Vec::new();
    let names = root.names().unwrap_or_default();
    for name in &names {
        if is_own_name(root, PREFIX, name, key).unwrap_or(false) {
            made.extend(clear(root, name).unwrap_or_default());
        }
        let noted = name.as_encoded_bytes().strip_suffix(NOTE.as_bytes()).map(name_of);
        // Its run was killed right between two removals.
        if let Some(marker) = &noted.filter(|marker| is_own_name(root, PREFIX, marker, key).unwrap_or(false))
            && matches!(root.kind_of(marker), Ok(None))
        {
            let _ = remove_note(root, marker);
        }
    }
    made
}

fn clear(root: &Folder, marker: &OsStr) -> Result<Vec<MadeFolder>, FileError> {
    let file = root.reopen_file(marker)?;
    if !file.try_lock() {
        return Ok(Vec::new());
    }
    let content = root.read_bytes(marker)?.unwrap_or_default();
    // A run that was killed at once had not even written the whole head.
    let Some(items) = content.strip_prefix(HEAD).or_else(|| HEAD.starts_with(&content).then_some(&[])) else {
        return Ok(Vec::new());
    };
    let items: Vec<&[u8]> =
        items.split_inclusive(|byte| *byte == 0).filter_map(|item| item.strip_suffix(b"\0")).collect();
    for path in items.iter().filter(|item| !item.starts_with(MADE)) {
        clear_folder(root, path, marker)?;
    }
    let noted = |mark: &'static [u8]| items.iter().filter_map(move |item| noted_folder(mark, item));
    let mut all: Vec<(MadeFolder, bool)> =
        noted(MADE).map(|made| (made, true)).chain(noted(MET).map(|met| (met, false))).collect();
    all.sort_by(|(one, _), (other, _)| other.path.cmp(&one.path));
    all.retain(|(folder, _)| folder.settle_if_untouched(root).unwrap_or(false));
    let made = all.into_iter().filter_map(|(folder, was_made)| was_made.then_some(folder)).collect();
    root.remove_file(marker)?;
    remove_note(root, marker)?;
    Ok(made)
}

/// Removes a run's temporary files from a folder. One that is gone, or became something else, holds nothing of that run.
fn clear_folder(root: &Folder, path: &[u8], marker: &OsStr) -> Result<(), FileError> {
    let Ok(folder) = below(root, path) else { return Ok(()) };
    let prefix = [marker.as_encoded_bytes(), b"-"].concat();
    for name in folder.names()?.into_iter().filter(|name| name.as_encoded_bytes().starts_with(&prefix)) {
        match folder.kind_of(&name)? {
            Some(kind) if kind.is_dir() => folder.remove_tree(&name)?,
            _ => folder.remove_file(&name)?,
        }
    }
    Ok(())
}

/// The folder of which an item with this mark speaks: mode, seconds, nanoseconds, path.
fn noted_folder(mark: &[u8], item: &[u8]) -> Option<MadeFolder> {
    let mut fields = item.strip_prefix(mark)?.splitn(4, |byte| *byte == b' ');
    let mut field = || std::str::from_utf8(fields.next()?).ok();
    let mode = u32::from_str_radix(field()?, 8).ok()?;
    let modified = Timestamp { seconds: field()?.parse().ok()?, nanoseconds: field()?.parse().ok()? };
    Some(MadeFolder { path: EntryPath::new(fields.next()?).ok()?, mode, modified })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// A run is killed while a folder is open to it: it gets its mode and time again, and counts as made only where the run made it.
    #[rstest]
    #[case::made(Marker::note_folder, true)]
    #[case::met(Marker::note_met, false)]
    #[cfg_attr(windows, ignore = "there are no modes")]
    fn folders_that_a_killed_run_opened_are_closed_again(
        #[case] note: fn(&mut Marker, &MadeFolder) -> Result<(), FileError>,
        #[case] was_made: bool,
    ) {
        let place = tempfile::tempdir().unwrap();
        let (root, key) = (Folder::open(place.path()).unwrap(), OwnerKey::new(&[7; 32]));
        let modified = Timestamp { seconds: 1_700_000_000, nanoseconds: 5 };
        let noted = MadeFolder { path: EntryPath::new("closed").unwrap(), mode: 0o555, modified };
        let mut marker = Marker::begin(&root, 3, &key).unwrap();
        note(&mut marker, &noted).unwrap();
        root.create_subfolder("closed".as_ref()).unwrap();
        drop(marker);
        assert_eq!(clear_leftovers(&root, &key), if was_made { vec![noted] } else { vec![] });
        assert_eq!(root.subfolder("closed".as_ref()).unwrap().mode().unwrap(), 0o555);
        assert_eq!(root.size_and_time_of("closed".as_ref()).unwrap().1, modified);
        assert_eq!(root.names().unwrap(), ["closed"]);
    }
}
