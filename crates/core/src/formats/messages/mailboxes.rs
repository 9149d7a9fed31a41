//! Where messages lie: in the files of a folder, or in those of a mailbox that has a file for each message.

use super::attached::holds_messages;
use crate::disk::{Links, open_regular};
use crate::ground::context::{Cancelled, Context, Phase, Progress};
use std::path::{Path, PathBuf};

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
        if let Ok((file, metadata)) = open_regular(path, Links::Follow)
            && holds_messages(&file).unwrap_or(false)
        {
            with_messages.push(path);
            bytes = bytes.saturating_add(metadata.len());
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
