//! Folders that a run makes for what it writes. Where that comes to nothing, those that are empty go again.

use std::collections::BTreeSet;
use std::ffi::OsString;
use std::fs;
use std::path::{Path, PathBuf};

/// What was not there before the run.
pub struct MissingFolders {
    /// The folder that is written to, and those above it, as far as they were not there; the deepest first.
    missing: Vec<PathBuf>,
    /// A folder that was there, with what was directly in it: a run may make one of its own in it.
    inside: Option<(PathBuf, BTreeSet<OsString>)>,
}

impl MissingFolders {
    /// Before a run that writes to this path, or into a folder of its own there.
    pub fn before(target: Option<&Path>, makes_one_inside: bool) -> Self {
        let Some(target) = target else { return Self { missing: Vec::new(), inside: None } };
        let missing = target.ancestors().filter(|path| !path.as_os_str().is_empty());
        Self {
            missing: missing.take_while(|path| fs::symlink_metadata(path).is_err()).map(Path::to_owned).collect(),
            inside: Some(target).filter(|_| makes_one_inside).map(|target| (target.to_owned(), names_in(target))),
        }
    }

    /// Removes those that are empty.
    pub fn remove_empty(self) {
        if let Some((folder, before)) = self.inside {
            for name in names_in(&folder).difference(&before) {
                // A folder with anything in it stays, and so does what is none.
                let _ = fs::remove_dir(folder.join(name));
            }
        }
        for folder in self.missing {
            let _ = fs::remove_dir(folder);
        }
    }
}

fn names_in(folder: &Path) -> BTreeSet<OsString> {
    fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.file_name()).collect()
}
