//! Comparing two folders completely: names, kinds, contents, modes, link targets and times.

use std::collections::BTreeMap;
use std::fs::{self, FileType};
use std::path::{Path, PathBuf};
use under_seal_core::disk::{FileAction, FileError, mode_of, modified_of};
use under_seal_core::ground::entry::Timestamp;

/// What was compared, and what differs.
pub struct Comparison {
    /// How many entries there are in the first folder.
    pub entries: u64,
    /// Paths of entries that differ or are in one folder only.
    pub differences: Vec<String>,
}

/// Everything that must be equal of one entry.
#[derive(PartialEq)]
struct Features {
    kind: FileType,
    mode: u32,
    modified: Timestamp,
    content: Vec<u8>,
}

/// Compares everything below two folders, the folders themselves included.
pub fn differences(one: &Path, other: &Path) -> Result<Comparison, FileError> {
    let (mut first, mut second) = (BTreeMap::new(), BTreeMap::new());
    collect(one, Path::new("."), &mut first)?;
    collect(other, Path::new("."), &mut second)?;
    let paths: std::collections::BTreeSet<&PathBuf> = first.keys().chain(second.keys()).collect();
    let differ = paths.into_iter().filter(|path| first.get(*path) != second.get(*path));
    Ok(Comparison { entries: first.len() as u64, differences: differ.map(|path| path.display().to_string()).collect() })
}

fn collect(root: &Path, below: &Path, found: &mut BTreeMap<PathBuf, Features>) -> Result<(), FileError> {
    let path = root.join(below);
    let read = || FileError::on(FileAction::Read, &path);
    let metadata = fs::symlink_metadata(&path).map_err(read())?;
    let content = if metadata.is_symlink() {
        fs::read_link(&path).map_err(read())?.into_os_string().into_encoded_bytes()
    } else if metadata.is_file() {
        fs::read(&path).map_err(read())?
    } else {
        for entry in fs::read_dir(&path).map_err(read())? {
            collect(root, &below.join(entry.map_err(read())?.file_name()), found)?;
        }
        Vec::new()
    };
    let (mode, modified) = (mode_of(&metadata), modified_of(&metadata));
    found.insert(below.to_owned(), Features { kind: metadata.file_type(), mode, modified, content });
    Ok(())
}
