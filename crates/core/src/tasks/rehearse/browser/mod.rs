//! The recipient in a real browser: the page is opened there, given what arrived and what unlocks it, and what it saves is taken.
//!
//! The browser opens a file in the rehearsal's closed place, which leads to a server on this machine's loopback address, under a
//! name that nobody else knows. There a script gives the page, which is the very one that recipients get, files and password
//! as a person would, and hands on what it saves. Which browsers there are and how they are started is the program's.

mod desk;

use crate::disk::{FileAction, FileError, Interruption, interruptible};
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::codes::hexadecimal;
use crate::ground::context::Context;
use crate::ground::entry::EntryPath;
use crate::ground::secrets::Password;
use crate::tasks::rehearse::loopback::Loopback;
use desk::{Desk, Given, Told};
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::process::Child;
use std::sync::Arc;
use std::time::Duration;

/// How a browser is started and what it gets.
pub struct InBrowser<'a> {
    /// Starts it, without a window, with a file to open and an empty folder for its profile. Where the process has an input, it ends by
    /// itself when that is closed.
    pub start: &'a dyn Fn(&Path, &Path) -> io::Result<Child>,
    /// The key file, where the archive is unlocked with one.
    pub key_file: Option<&'a Path>,
    /// The page that the recipient gets beside the volumes; this program's own, where none is named.
    pub page: Option<&'a Path>,
}

/// Why the browser cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum BrowserError {
    /// It cannot be started, or the server for it.
    #[error("the browser cannot be started")]
    NotStarted(#[source] io::Error),
    /// It ended, or did nothing for a long time.
    #[error("the browser does not answer")]
    Silent,
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(BrowserError);

impl Classed for BrowserError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::NotStarted(_) | Self::Silent => ErrorClass::System,
        }
    }
}

/// So often it is looked whether something came.
const LOOK_EVERY: Duration = Duration::from_millis(100);

/// A browser that asks for nothing for so long has given up.
const PATIENCE: Duration = Duration::from_secs(120);

/// A browser, ended when this is dropped.
struct Running(Child);

impl Drop for Running {
    fn drop(&mut self) {
        // Whoever attends to a browser ends it when nothing can come any more. One that has ended by itself cannot be ended.
        if self.0.stdin.take().is_none() {
            let _ = self.0.kill();
        }
        let _ = self.0.wait();
    }
}

/// The path under which the page saves an entry: bytes that are no text are replaced, and so is a backslash, which some systems
/// take for what stands between folders.
pub(super) fn saved_as(path: &EntryPath) -> EntryPath {
    let text = String::from_utf8_lossy(path.as_bytes()).replace('\\', "_");
    EntryPath::new(text).unwrap_or_else(|_| path.clone())
}

/// Plays it in an empty folder that only the user may enter; the archive that the page saved, or what the page said instead.
pub(super) fn play(
    with: &InBrowser<'_>,
    (arrived, password): (&[(u32, PathBuf)], Option<Password>),
    place: &Path,
    context: &Context<'_>,
) -> Result<Result<PathBuf, String>, BrowserError> {
    let profile = place.join("profile");
    fs::create_dir_all(&profile).map_err(FileError::on(FileAction::Create, &profile))?;
    let name = hexadecimal(&context.random::<16>()?);
    let files = arrived.iter().map(|(_, path)| path.clone()).collect();
    let saved = place.join("saved.zip");
    let given =
        Given { files, password, key_file: with.key_file.map(Path::to_owned), page: with.page.map(Path::to_owned) };
    let (desk, told) = Desk::new(name.clone(), given, saved.clone());
    let desk = Arc::new(desk);
    let served = Arc::clone(&desk);
    let loopback = Loopback::start(move |request| Arc::clone(&served).answer(request));
    let loopback = loopback.map_err(BrowserError::NotStarted)?;
    let begin = place.join("begin.html");
    let leads = format!("<!DOCTYPE html><script>location.replace('http://{}/{name}/')</script>", loopback.address());
    fs::write(&begin, leads).map_err(FileError::on(FileAction::Write, &begin))?;
    let mut browser = Running((with.start)(&begin, &profile).map_err(BrowserError::NotStarted)?);
    loop {
        context.go_on()?;
        match told.recv_timeout(LOOK_EVERY) {
            Ok(Told { saved: true, .. }) => return Ok(Ok(saved)),
            Ok(Told { said, .. }) => return Ok(Err(said)),
            Err(_) => {
                let has_ended = browser.0.try_wait().is_ok_and(|status| status.is_some());
                if desk.idle() > PATIENCE || (has_ended && desk.idle() > Duration::from_secs(10)) {
                    return Err(BrowserError::Silent);
                }
            }
        }
    }
}
