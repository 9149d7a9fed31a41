//! Where messages lie: in the files of a folder, or in those of a mailbox that has a file for each message; and what is attached to all
//! of them.

use super::attached::{find, is_of_messages};
use super::structure::FlawedMessage;
use crate::disk::{Interruption, folder_of, resolved};
use crate::formats::spot::Spot;
use crate::ground::context::{Cancelled, Context, Phase, Progress};
use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// The folders of a mailbox that has a file for each message: those that came, and those that were seen.
const MAILDIR: [&str; 2] = ["new", "cur"];

/// The folders in which the messages of this folder lie beside itself: some, where it is such a mailbox.
pub fn mailbox_folders(folder: &Path) -> Vec<PathBuf> {
    let folders = MAILDIR.map(|name| folder.join(name));
    if folders.iter().all(|folder| folder.is_dir()) { folders.to_vec() } else { Vec::new() }
}

/// Looks into those of these files that hold messages, one after the other, and tells how far it is. Files that cannot be opened are
/// passed over.
///
/// # Errors
/// [`Cancelled`], also from `look`.
pub fn look_through(
    files: &[PathBuf],
    context: &Context<'_>,
    mut look: impl FnMut(&Path) -> Result<(), Cancelled>,
) -> Result<(), Cancelled> {
    let (mut with_messages, mut bytes) = (Vec::new(), 0_u64);
    for path in files {
        context.go_on()?;
        if is_of_messages(path) {
            with_messages.push(path);
            bytes = bytes.saturating_add(path.metadata().map_or(0, |metadata| metadata.len()));
        }
    }
    if with_messages.is_empty() {
        return Ok(());
    }
    context.tell(Progress::Begin(Phase::Searching, bytes));
    with_messages.into_iter().try_for_each(|path| look(path))?;
    context.tell(Progress::End);
    Ok(())
}

/// The files that a place speaks of: itself, or those of a folder and, where that is a mailbox with a file for each message, of that, in
/// order. What cannot be listed has none.
pub fn files_in(place: &Path) -> Vec<PathBuf> {
    if !place.is_dir() {
        return vec![place.to_owned()];
    }
    let folders = std::iter::once(place.to_owned()).chain(mailbox_folders(place));
    let listed = |folder: PathBuf| fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path());
    let mut files: Vec<PathBuf> = folders.flat_map(listed).filter(|path| path.is_file()).collect();
    files.sort();
    files
}

/// What is attached to messages.
#[derive(Debug, Default)]
pub struct Holdings {
    /// To those in the places that were named, in order.
    pub named: Vec<Spot>,
    /// To those in the same folders.
    pub beside: Vec<Spot>,
    /// What was not looked for, and in which file.
    pub flaws: Vec<(PathBuf, FlawedMessage)>,
}

impl Holdings {
    /// What is attached to the messages in these places, and beside them, as far as it is wanted by how it begins and what it is called.
    /// What cannot be read holds nothing.
    ///
    /// # Errors
    /// [`Cancelled`].
    pub fn of(
        places: &[PathBuf],
        is_wanted: &dyn Fn(&[u8], Option<&str>) -> bool,
        context: &Context<'_>,
    ) -> Result<Self, Cancelled> {
        let named: Vec<PathBuf> = places.iter().flat_map(|place| files_in(place)).collect();
        let messages = places.iter().filter(|place| place.is_file() && is_of_messages(place));
        let folders: BTreeSet<PathBuf> = messages.map(|path| folder_of(path).to_owned()).collect();
        let is_named: BTreeSet<PathBuf> = named.iter().filter_map(|path| resolved(path).ok()).collect();
        let mut beside: Vec<PathBuf> = folders.iter().flat_map(|folder| files_in(folder)).collect();
        beside.retain(|path| resolved(path).is_ok_and(|path| !is_named.contains(&path)));
        let mut holdings = Self::default();
        holdings.named = holdings.attached_to(&named, is_wanted, context)?;
        holdings.beside = holdings.attached_to(&beside, is_wanted, context)?;
        Ok(holdings)
    }

    fn attached_to(
        &mut self,
        files: &[PathBuf],
        is_wanted: &dyn Fn(&[u8], Option<&str>) -> bool,
        context: &Context<'_>,
    ) -> Result<Vec<Spot>, Cancelled> {
        let mut spots = Vec::new();
        look_through(files, context, |path| {
            match find(path, is_wanted, context) {
                Ok(found) => {
                    let found = found.unwrap_or_default();
                    let spot = |attached| Spot { path: path.to_owned(), attached: Some(Arc::new(attached)) };
                    spots.extend(found.attached.into_iter().map(spot));
                    self.flaws.extend(found.flaws.into_iter().map(|flaw| (path.to_owned(), flaw)));
                }
                Err(Interruption::Cancelled(stop)) => return Err(stop),
                Err(_) => {}
            }
            Ok(())
        })?;
        Ok(spots)
    }
}
