//! Screening: all files are extracted into a closed folder, somebody looks at them there, and only then they land.
//!
//! That folder is named like the run's other temporary things, so that the next run clears it if this one is killed.
//! What was looked at is compared with its digest once more before it lands: whoever looked may have changed it.

use super::made_folder::{RESTORED_MODE, below};
use super::{Attributes, Contents, Landing, LandingError, Waiting};
use crate::disk::Folder;
use crate::disk::names::name_of;
use crate::ground::entry::{Content, Entry, EntryKind, ListedEntry};
use crate::ground::holes::ContentDigest;

impl Landing {
    /// A closed folder in the destination.
    pub(crate) fn make_staging(&mut self) -> Result<Folder, LandingError> {
        self.arrivals += 1;
        let Some(marker) = &mut self.marker else { return Ok(self.root.itself()?) };
        let name = marker.temporary(b"", self.arrivals)?;
        let folder = self.root.create_subfolder(&name)?;
        self.staging = Some(name);
        Ok(folder)
    }

    /// Names every file and ends, as a staging folder's own landing; what the files came to. No links are made, and folders stay open to the user.
    pub(crate) fn finish_staging(&mut self) -> Result<Contents, LandingError> {
        self.name_waiting()?;
        self.name_further()?;
        self.made_folders.clear();
        self.met_folders.clear();
        self.end_marker()?;
        Ok(self.closed.take().unwrap_or_default())
    }

    /// Lets everything land that was extracted into the closed folder, where it came to these contents, and so many files got
    /// marks.
    ///
    /// # Errors
    /// [`LandingError`]; [`LandingError::ChangedByScreen`] where a file is no longer what was extracted.
    pub(crate) fn adopt(
        &mut self,
        staging: &Folder,
        (contents, marked, attributes): (&Contents, u64, Attributes),
        entries: &[ListedEntry],
    ) -> Result<(), LandingError> {
        (self.landed.marked, self.landed.attributes) = (marked, attributes);
        let mut reached: Option<(Vec<u8>, Folder)> = None;
        for listed in entries {
            match listed.entry.kind {
                EntryKind::Folder => self.make_folder(&listed.entry)?,
                EntryKind::Link => self.keep_link(&listed.entry),
                EntryKind::File => {
                    let parent = listed.entry.path.parent_and_name().0.unwrap_or_default();
                    let folder = match reached.take() {
                        Some((path, folder)) if path == parent => folder,
                        _ => below(staging, parent)?,
                    };
                    let content = contents.get(&listed.entry.id);
                    self.adopt_file(&folder, &listed.entry, content)?;
                    reached = Some((parent.to_vec(), folder));
                }
            }
        }
        Ok(())
    }

    fn adopt_file(&mut self, from: &Folder, entry: &Entry, content: Option<&Content>) -> Result<(), LandingError> {
        if !self.lands(entry) {
            return Ok(());
        }
        let Some((path, replaces)) = self.place_for(entry) else { return Ok(()) };
        let name = &name_of(entry.path.parent_and_name().1);
        let changed = || LandingError::ChangedByScreen(entry.path.clone());
        let is_file = from.kind_of(name)?.is_some_and(|kind| kind.is_file());
        let Some(content) = content.filter(|_| is_file) else { return Err(changed()) };
        let file = from.reopen_file(name)?;
        let mut digest = ContentDigest::new(content.in_units);
        let size = file.read_through(|bytes| {
            digest.update(bytes);
            Ok(())
        })?;
        if size != content.size || digest.finish() != content.digest {
            return Err(changed());
        }
        file.set_mode_and_time(entry.mode & RESTORED_MODE, entry.modified)?;
        file.close()?;
        let waiting = Waiting {
            id: entry.id,
            path,
            replaces,
            temporary: name.to_owned(),
            bytes: content.own_bytes(),
            file: None,
        };
        self.name_from(from, &waiting)?;
        self.landed.further_names += u64::from(content.shared_with.is_some());
        Ok(())
    }
}
