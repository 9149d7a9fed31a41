//! The page: one HTML file that opens sealed volumes in a browser, where nothing is installed. It is built from `page/` of
//! this repository, whose reader is written from docs/format.md, and embedded as it is.

use crate::disk::{FileAction, FileError, Folder, Interruption, Sha256Sum, Unfinished, absolute};
use crate::formats::sealed::volume::in_page::{Form, InPage};
use crate::formats::sealed::volume::{VolumeFile, VolumeSet};
use crate::ground::context::Context;
use crate::ground::fit::message_bytes;
use sha2::{Digest as _, Sha256};
use std::ffi::OsStr;
use std::path::{Path, PathBuf};

/// What it is called beside volumes.
pub const PAGE_NAME: &str = "open-me.html";

/// Its bytes.
pub const PAGE: &[u8] = include_bytes!("../../assets/open-me.html");

/// A volume of at most so many bytes goes into a page in base 64, which a browser reads with the page, so that it opens by itself:
/// beyond, that takes long and much memory, and the volume stands there as it is, for which the page asks for its own file.
pub const MAX_BYTES_IN_BASE64: u64 = 30_000_000;

/// Temporary names begin so.
const PREFIX: &str = ".page-";

/// What it is known by: sender and recipient compare it where the way between them is not trusted.
pub fn page_sum() -> Sha256Sum {
    Sha256::digest(PAGE).into()
}

/// How the page carries a volume of so many bytes.
pub fn carrying(volume_bytes: u64) -> InPage {
    let form = if volume_bytes <= MAX_BYTES_IN_BASE64 { Form::Base64 } else { Form::Raw };
    InPage::behind(PAGE, form, volume_bytes)
}

/// Every page of a set that carries a volume, and whether its text is this program's: it is not in another version's, nor where
/// somebody changed it.
///
/// # Errors
/// [`FileError`] where one cannot be read.
pub fn pages_of(set: &VolumeSet) -> Result<Vec<(PathBuf, bool)>, FileError> {
    let pages = set.volumes.values().flatten().filter(|file| file.in_page.is_some());
    let is_own = |file: &VolumeFile| -> Result<_, FileError> {
        let is_own = file.open()?.is_in(PAGE).map_err(FileError::on(FileAction::Read, &file.spot.path))?;
        Ok((file.spot.path.clone(), is_own))
    };
    pages.map(is_own).collect()
}

/// How the page goes by mail, which `handover` drafts so.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ByMail {
    /// With the first volume, in one message.
    WithTheFirst,
    /// In a message of its own, before the first volume's.
    Alone,
    /// Not at all: it is larger than a message may be.
    NotAtAll,
}

impl ByMail {
    /// For messages of at most so many bytes, and a first volume of so many.
    pub fn of(first_volume: u64, limit: u64) -> Self {
        let page = message_bytes(PAGE.len() as u64);
        if page > limit {
            Self::NotAtAll
        } else if page + message_bytes(first_volume) > limit {
            Self::Alone
        } else {
            Self::WithTheFirst
        }
    }
}

/// Writes it under a name that must be free; where it lies.
///
/// # Errors
/// [`Interruption`], also where something has that name.
pub fn write_page(path: &Path, context: &Context<'_>) -> Result<PathBuf, Interruption> {
    let path = absolute(path);
    let folder = Folder::open_or_create(path.parent().unwrap_or(&path))?;
    let (unfinished, mut file) = Unfinished::file(&folder, PREFIX, 0o644, context)?;
    file.write(PAGE)?;
    file.sync()?;
    file.close()?;
    unfinished.publish(path.file_name().unwrap_or(OsStr::new(PAGE_NAME)))?;
    Ok(path)
}
