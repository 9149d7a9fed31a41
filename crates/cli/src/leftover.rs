//! A folder that must not be left behind, however the program ends.

use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use tempfile::TempDir;

/// What must not be left behind, however the program ends.
static LEFTOVER: Mutex<Option<TempDir>> = Mutex::new(None);

/// A folder that is removed when this is dropped, or a signal ends the program.
pub struct Leftover(PathBuf);

impl Leftover {
    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.0
    }
}

impl Drop for Leftover {
    fn drop(&mut self) {
        remove_leftover();
    }
}

/// Has a folder removed when what is returned is dropped, or a signal ends the program. One at a time.
pub fn remove_at_the_end(folder: TempDir) -> Leftover {
    let path = folder.path().to_owned();
    *LEFTOVER.lock().unwrap_or_else(PoisonError::into_inner) = Some(folder);
    Leftover(path)
}

/// Removes it now.
pub fn remove_leftover() {
    drop(LEFTOVER.lock().unwrap_or_else(PoisonError::into_inner).take());
}
