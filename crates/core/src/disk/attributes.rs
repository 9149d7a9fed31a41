//! Extended attributes of files on disk.

use super::{FileAction, FileError, NewFile, faults, system};
use crate::ground::attributes::{Attribute, MAX_ATTRIBUTES_BYTES, MAX_VALUE_BYTES, is_packed, is_valid};
use std::fs::File;
use std::path::Path;

/// Whether what is there has attributes that could be packed; links are not followed unless that is wished. What cannot be told has none.
pub fn has_attributes(path: &Path, follow: bool) -> bool {
    system::attributes::names_at(path, follow).iter().any(|name| is_packed(name))
}

/// The attributes of an open file that go into an archive, sorted by name; those that are longer than [`MAX_ATTRIBUTES_BYTES`] together
/// are not all among them.
///
/// # Errors
/// [`FileError`] where one is there and cannot be read.
pub fn attributes_of(file: &File, path: &Path) -> Result<Vec<Attribute>, FileError> {
    let mut names: Vec<Vec<u8>> =
        system::attributes::names_of(file).into_iter().filter(|name| is_packed(name)).collect();
    names.sort_unstable();
    let (mut attributes, mut bytes) = (Vec::new(), 0);
    for name in names {
        let value = system::attributes::value_of(file, path, &name, MAX_VALUE_BYTES);
        // One may have gone meanwhile.
        let Some(value) = value.map_err(FileError::on(FileAction::Read, path))? else { continue };
        let attribute = Attribute { name, value };
        bytes += attribute.bytes();
        if is_valid(&attribute.name, &attribute.value) && bytes <= MAX_ATTRIBUTES_BYTES {
            attributes.push(attribute);
        }
    }
    Ok(attributes)
}

impl NewFile {
    /// Sets an attribute; whether the file system takes it.
    ///
    /// # Errors
    /// [`FileError`] for whatever else is wrong with the file.
    pub fn set_attribute(&self, name: &[u8], value: &[u8]) -> Result<bool, FileError> {
        faults::before(FileAction::Write)
            .and_then(|()| system::attributes::set(&self.file, &self.path, name, value))
            .map_err(FileError::on(FileAction::Write, &self.path))
    }
}
