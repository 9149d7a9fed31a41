//! A file of an archive in the system's own viewer: through a private copy that is removed afterwards.

use crate::failure::Failure;
use crate::leftover::{self, Leftover};
use crate::system::privacy;
use crate::system::programs::{self, OPENER};
use crate::ui::prompt;
use std::fs::File;
use std::io::{self, Write as _};
use std::path::PathBuf;
use std::process::Stdio;
use under_seal_core::disk::names::name_of;
use under_seal_core::formats::error::ArchiveError;
use under_seal_core::ground::context::Cancelled;
use under_seal_core::ground::entry::{Content, Entry};
use under_seal_core::ground::sink::EntrySink;

/// A private copy, in a folder that only the user may enter. It goes when this is dropped, or the program is ended.
pub(super) struct PrivateCopy {
    folder: Leftover,
    path: PathBuf,
    file: Option<File>,
    /// Why it is not complete.
    failed: Option<io::Error>,
}

impl PrivateCopy {
    pub fn begin() -> Result<Self, Failure> {
        let folder = leftover::private_folder().map_err(Failure::Viewer)?;
        Ok(Self { folder, path: PathBuf::new(), file: None, failed: None })
    }

    /// Shows the copy that was read, and waits until the user has seen enough.
    pub fn shown_after(mut self, read: Result<(), ArchiveError>) -> Result<(), Failure> {
        if let Some(error) = self.failed.take() {
            return Err(Failure::Viewer(error));
        }
        read?;
        self.show()
    }

    fn noting(&mut self, outcome: io::Result<()>) -> Result<(), Cancelled> {
        outcome.map_err(|error| {
            self.failed = Some(error);
            Cancelled
        })
    }

    fn show(self) -> Result<(), Failure> {
        let mut opener = programs::opener(&self.path);
        opener.stdin(Stdio::null()).stdout(Stdio::null());
        let status = opener.status().map_err(|error| match error.kind() {
            io::ErrorKind::NotFound => Failure::Viewer(io::Error::other(format!("there is no {OPENER} here"))),
            _ => Failure::Viewer(error),
        })?;
        if !status.success() {
            return Err(Failure::Viewer(io::Error::other(format!("{OPENER} knows no program for it"))));
        }
        prompt::wait_for_enter(
            "You see a copy, and changes to it are not kept. Press Enter when you have seen enough: ",
        )
    }

    fn create(&mut self, name: &[u8]) -> io::Result<()> {
        self.path = self.folder.path().join(name_of(name));
        self.file = Some(privacy::create_copy(&self.path)?);
        Ok(())
    }
}

impl EntrySink for PrivateCopy {
    fn begin(&mut self, entry: &Entry) -> Result<(), Cancelled> {
        let made = self.create(entry.path.parent_and_name().1);
        self.noting(made)
    }

    fn content(&mut self, bytes: &[u8]) -> Result<(), Cancelled> {
        let written = self.file.as_mut().map_or(Ok(()), |file| file.write_all(bytes));
        self.noting(written)
    }

    fn end(&mut self, _: &Entry, _: &Content) -> Result<(), Cancelled> {
        let synced = self.file.take().map_or(Ok(()), |file| file.sync_all());
        self.noting(synced)
    }
}
