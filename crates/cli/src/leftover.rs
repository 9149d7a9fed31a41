//! A private folder that must not be left behind, however the program ends: a signal removes it, and what a run that was killed has left
//! is removed by the next run that makes one.

use crate::owner;
use crate::system::privacy;
use std::env;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use std::thread;
use std::time::Duration;
use tempfile::TempDir;
use under_seal_core::disk::{HeldFolder, clear_unheld};

/// What must not be left behind, however the program ends, each by the folder in it. It is held until right before it goes.
static LEFTOVERS: Mutex<Vec<(PathBuf, HeldFolder, TempDir)>> = Mutex::new(Vec::new());

/// So often it is tried to remove a folder, and so long apart.
const TRIES: u32 = 20;
const APART: Duration = Duration::from_millis(50);

/// In the folder, beside what tells that it is held.
const INSIDE: &str = "private";

/// A folder that is removed when this is dropped, or a signal ends the program.
pub struct Leftover(PathBuf);

impl Leftover {
    /// Where it is; nothing is in it at first.
    pub fn path(&self) -> &Path {
        &self.0
    }
}

impl Drop for Leftover {
    fn drop(&mut self) {
        remove(|inside| *inside == self.0);
    }
}

/// Makes a folder that only the user may enter, where temporary files go. It is removed when what is returned is dropped, or a signal ends
/// the program.
pub fn private_folder() -> io::Result<Leftover> {
    let key = owner::key();
    clear_unheld(&env::temp_dir(), privacy::PREFIX, &key);
    let folder = privacy::temporary_folder()?;
    let held = HeldFolder::hold(folder.path(), &key).map_err(|error| error.source)?;
    let inside = folder.path().join(INSIDE);
    privacy::create_folders(&inside)?;
    LEFTOVERS.lock().unwrap_or_else(PoisonError::into_inner).push((inside.clone(), held, folder));
    Ok(Leftover(inside))
}

/// Removes all of them now.
pub fn remove_leftovers() {
    remove(|_| true);
}

fn remove(which: impl Fn(&PathBuf) -> bool) {
    let mut all = LEFTOVERS.lock().unwrap_or_else(PoisonError::into_inner);
    for (_, held, folder) in all.extract_if(.., |(inside, ..)| which(inside)) {
        drop(held);
        // A browser's own processes may still be ending, and write there until then.
        for _ in 0..TRIES {
            if fs::remove_dir_all(folder.path()).is_ok() {
                break;
            }
            thread::sleep(APART);
        }
        drop(folder);
    }
}
