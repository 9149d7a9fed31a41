//! For recipients: where the parts are, what is missing, the key file, where to; then opening.

use super::lines::{Line, Script};
use super::{Turn, ask_all, choose, read, read_paths, say, step, typed_path};
use crate::args::WorkArguments;
use crate::failure::{DAMAGED, Failure, LOOK, MISSING};
use crate::session;
use crate::ui::progress::ProgressLine;
use crate::ui::{prompt, text};
use std::path::{Path, PathBuf};
use under_seal_core::formats::sealed::volume::VolumeSet;

/// What has been answered.
#[derive(Default)]
struct Recipient {
    places: Vec<PathBuf>,
    salvage: bool,
    key_file: Option<PathBuf>,
    into: PathBuf,
}

/// Asks everything, and then opens.
pub fn run() -> Result<u8, Failure> {
    let mut recipient = Recipient::default();
    ask_all(&mut recipient, &[parts, is_all_here, key_file, whereto, last_yes])?;
    let mut script = Script::default();
    let code = script.run(recipient.open())?;
    if code > LOOK {
        return Ok(code);
    }
    what_now(&recipient, &mut script)?;
    script.show().map(|()| code)
}

/// Where the files are, and the receipt, which only sealed volumes have, and only whoever has all of them can make.
fn what_now(recipient: &Recipient, script: &mut Script) -> Result<(), Failure> {
    step("6. What now?");
    let files = format!("The files are in {}.", text::path(&recipient.into));
    // Nobody is asked which of several sets is meant: this is no question of theirs.
    let silent = ProgressLine::for_reading(None, &WorkArguments::quiet());
    let is_one_set = || VolumeSet::gather(&recipient.places, &session::context(&silent, None)).is_ok();
    if recipient.salvage || !is_one_set() {
        say(&files);
        return Ok(());
    }
    let question = format!("{files} A receipt, a short code, tells the sender that everything opened. Make it now?");
    if prompt::confirm(&question)? {
        let receipt = Line::of(&["receipt"]).with(&recipient.places);
        script.run(match &recipient.key_file {
            Some(file) => receipt.with([Path::new("--key-file"), file]),
            None => receipt,
        })?;
    }
    Ok(())
}

fn parts(recipient: &mut Recipient) -> Result<Turn, Failure> {
    step("1. Where is what you received?");
    let Some(places) = read_paths("The folder that it is in, or the files", Some("."))? else { return Ok(Turn::Back) };
    recipient.places = places;
    Ok(Turn::Next)
}

/// Looks at what is there, until all is, or somebody goes on with less.
fn is_all_here(recipient: &mut Recipient) -> Result<Turn, Failure> {
    step("2. Is everything here?");
    recipient.salvage = false;
    match Script::default().run(Line::of(&["check"]).with(&recipient.places)) {
        Ok(code) if code == MISSING || code == DAMAGED => {
            let choices = ["[a]gain, once more has arrived", "[s]alvage what is whole", "[q]uit"];
            match choose("Not everything is here.", &choices, 0)? {
                Some(0) => is_all_here(recipient),
                Some(1) => {
                    recipient.salvage = true;
                    Ok(Turn::Next)
                }
                Some(_) => Err(Failure::GivenUp),
                None => Ok(Turn::Back),
            }
        }
        Ok(_) => Ok(Turn::Next),
        Err(failure @ Failure::GivenUp) => Err(failure),
        Err(failure) => {
            say(&crate::words::explain(&failure));
            Ok(Turn::Back)
        }
    }
}

fn key_file(recipient: &mut Recipient) -> Result<Turn, Failure> {
    step("3. Did a key file come with the password?");
    let Some(typed) = read("Its path", Some("none"))? else { return Ok(Turn::Back) };
    recipient.key_file = (typed != "none").then(|| typed_path(&typed));
    if let Some(absent) = recipient.key_file.as_ref().filter(|file| !file.is_file()) {
        say(&format!("{} is not a file here.", text::path(absent)));
        return key_file(recipient);
    }
    Ok(Turn::Next)
}

fn whereto(recipient: &mut Recipient) -> Result<Turn, Failure> {
    step("4. Where to?");
    let Some(typed) = read("The folder to extract into", Some("opened"))? else { return Ok(Turn::Back) };
    recipient.into = typed_path(&typed);
    Ok(Turn::Next)
}

fn last_yes(recipient: &mut Recipient) -> Result<Turn, Failure> {
    step("5. Shall it be opened?");
    recipient.open().show();
    match choose(
        "If it has a password, that is asked for then. Nothing that is there is replaced unasked.",
        &["[y]es", "[q]uit"],
        0,
    )? {
        Some(0) => Ok(Turn::Next),
        Some(_) => Err(Failure::GivenUp),
        None => Ok(Turn::Back),
    }
}

impl Recipient {
    fn open(&self) -> Line {
        let line = Line::of(&["open"]).with(&self.places).with([Path::new("--into"), &self.into]);
        let line = if self.salvage { line.with(["--salvage"]) } else { line };
        match &self.key_file {
            Some(file) => line.with([Path::new("--key-file"), file]),
            None => line,
        }
    }
}
