//! What is read, of whatever format: recognised by its content, unlocked where that is needed, and open.

use crate::args::{UnlockArguments, WorkArguments};
use crate::credentials::{self, Keyring, Wanted};
use crate::failure::{BadValue, Failure};
use crate::places::{gather_each_in, gather_in, with_folders_in};
use crate::ui::paint::Tone;
use crate::ui::progress::ProgressLine;
use crate::ui::prompt;
use crate::ui::section::first_listed;
use crate::ui::suggestion::{Part, command};
use crate::ui::text::{self, shown};
use crate::words;
use crate::{session, standing_input};
use serde::Serialize;
use std::path::{Path, PathBuf};
use under_seal_core::Error;
use under_seal_core::formats::archive::{Archive, Recognised};
use under_seal_core::formats::finding::{lying_in, named};
use under_seal_core::formats::members::Refused;
use under_seal_core::formats::reader::{Flaws, verify_some};
use under_seal_core::formats::registry::SEALED;
use under_seal_core::formats::sealed::volume::{GatherError, HeaderError, VolumeSet};
use under_seal_core::formats::sealed::{DeliveryReader, NotWhole, SealedReader};
use under_seal_core::ground::context::Context;
use under_seal_core::landing::NotLanded;
use under_seal_core::tasks::reunite::Pieces;

/// What the user has named.
pub enum Given<T = VolumeSet> {
    /// Sealed volumes.
    Volumes(T),
    /// A file of an open format.
    File(Recognised),
}

/// An entry that is not extracted (docs/json.md).
#[derive(Debug, Clone, Serialize)]
pub struct NotExtracted {
    pub path: String,
    pub why: String,
}

impl From<&NotLanded> for NotExtracted {
    fn from(left: &NotLanded) -> Self {
        Self { path: shown(left.path.as_bytes()), why: words::not_landed(left.why).to_owned() }
    }
}

/// What the places hold: an archive, or a whole delivery in parcels, which is read as one.
///
/// # Errors
/// [`Failure`]; where they hold several archives that are no delivery, one is chosen on a terminal.
pub fn load_all(
    places: &[PathBuf],
    unlock: &UnlockArguments,
    wanted: Wanted,
    work: &WorkArguments,
) -> Result<Archive, Failure> {
    let mut sets = match each_given(places, work)? {
        Given::File(file) => return Given::File(file).load(unlock, wanted, work),
        Given::Volumes(sets) => sets,
    };
    match (sets.pop(), sets.is_empty()) {
        (Some(only), true) => return Given::Volumes(only).load(unlock, wanted, work),
        (last, _) => sets.extend(last),
    }
    let mut keyring = Keyring::given(unlock, prompt::can_ask())?;
    let mut readers = Vec::new();
    for set in sets {
        // One that none of the passwords opens is no parcel beside those that they do.
        let Ok(Some(unlocked)) = keyring.unlock(&set) else { return given(places, work)?.load(unlock, wanted, work) };
        readers.push(SealedReader::of(unlocked)?);
    }
    match DeliveryReader::of(readers) {
        Ok(delivery) => Ok(Archive::of(&SEALED, delivery)),
        Err(NotWhole::Unreadable(error)) => Err(error.into()),
        Err(NotWhole::Missing { numbers, count }) => Err(Failure::MissingParcels { numbers, count }),
        // Somebody has to say which of them is meant.
        Err(NotWhole::NotOne) => given(places, work)?.load(unlock, wanted, work),
    }
}

/// What the places hold; where they hold several sets, the one that is chosen.
pub fn given(places: &[PathBuf], work: &WorkArguments) -> Result<Given, Failure> {
    found(places, work, gather_in)
}

/// What the places hold, all sets of it.
pub fn each_given(places: &[PathBuf], work: &WorkArguments) -> Result<Given<Vec<VolumeSet>>, Failure> {
    found(places, work, gather_each_in)
}

fn found<T>(
    places: &[PathBuf],
    work: &WorkArguments,
    gather: fn(&[PathBuf], &Context<'_>) -> Result<T, Failure>,
) -> Result<Given<T>, Failure> {
    let progress = ProgressLine::for_reading(None, work);
    let context = session::context(&progress, work.threads);
    let places = &standing_input::kept(places)?;
    if let Some(file) = named(places, &context)? {
        return Ok(Given::File(file));
    }
    match gather(places, &context).map_err(|failure| of_pieces(failure, &context)) {
        Err(none @ Failure::Core(Error::Gather(GatherError::NoVolumes { .. }))) => {
            let deeper = with_folders_in(places, 1);
            let found = match lying_in(places, &context)? {
                // What was looked through once is not again, where there is nothing more.
                None if deeper.len() > places.len() => lying_in(&deeper, &context)?,
                found => found,
            };
            found.map(Given::File).ok_or(none)
        }
        gathered => gathered.map(Given::Volumes),
    }
}

/// The command that joins the pieces of a file of which this is one by its name, where others of them are beside it. Volumes are numbered
/// too, and nobody joins those.
pub fn joining(path: &Path, context: &Context<'_>) -> Option<String> {
    let is_volume = path.extension().is_some_and(|ending| ending.eq_ignore_ascii_case("useal"));
    let is_piece = !is_volume && Pieces::find(&[path.to_owned()], context).is_ok();
    is_piece.then(|| command(&[Part::Word("reunite"), Part::Named(path.as_os_str())]))
}

/// What is one of several pieces of a file is no archive, and can be joined.
fn of_pieces(failure: Failure, context: &Context<'_>) -> Failure {
    let path = match &failure {
        Failure::Core(Error::Gather(GatherError::Unusable { path, why: HeaderError::NotAVolume })) => path.clone(),
        _ => return failure,
    };
    let Some(command) = joining(&path, context) else { return failure };
    Failure::WithWayOut {
        why: Box::new(Failure::Value(BadValue::Piece(path))),
        sentence: "Join them first with".to_owned(),
        command: Some(command),
    }
}

impl Given {
    /// Unlocks and opens it.
    pub fn load(self, unlock: &UnlockArguments, wanted: Wanted, work: &WorkArguments) -> Result<Archive, Failure> {
        match self {
            Self::Volumes(set) => Ok(SealedReader::of(credentials::to_unlock(&set, unlock)?)?.into()),
            Self::File(file) => {
                let progress = ProgressLine::for_reading(None, work);
                let context = session::context(&progress, work.threads);
                let flaws = if wanted == Wanted::WhatIsWhole { Flaws::ReadBefore } else { Flaws::Refused };
                let opened = file.open(flaws, &context).map_err(Failure::from);
                let archive = opened.map_err(|why| match file.flawed_messages.as_slice() {
                    [] => why,
                    flawed => Failure::OutOfMessages { why: Box::new(why), flawed: flawed.to_vec() },
                })?;
                drop(progress);
                if credentials::expects_password(unlock) {
                    archive.refuse_if_open_to_all()?;
                }
                match archive.is_secret() {
                    true => credentials::to_unlock_file(archive, unlock, wanted, work),
                    false => Ok(archive),
                }
            }
        }
    }
}

/// Reads a file to its end before any of it is printed, where it could turn out damaged only then: formats without digests let that
/// through.
pub fn verify_first(archive: &mut Archive, place: usize, context: &Context<'_>) -> Result<(), Failure> {
    if archive.format.abilities.digests { Ok(()) } else { Ok(verify_some(&mut **archive, &[place], context)?) }
}

/// What is in an archive and cannot be extracted.
pub fn not_extracted(archive: &Archive) -> Vec<NotExtracted> {
    let one = |refused: &Refused| NotExtracted { path: shown(&refused.name), why: words::refused(refused.why) };
    archive.refused().iter().map(one).collect()
}

/// So many of what is not extracted are named, with so many columns of each name's end.
const NOT_EXTRACTED_LISTED: usize = 20;
const NAME_COLUMNS: usize = 80;

/// What is not extracted, for people.
pub fn not_extracted_lines(refused: &[NotExtracted]) -> Vec<String> {
    let one = |one: &NotExtracted| format!("{}: {}", text::middle_shortened(&one.path, NAME_COLUMNS), one.why);
    let lines: Vec<String> = refused.iter().map(one).collect();
    first_listed(Tone::Bad, "In the archive, and not extracted:", &lines, NOT_EXTRACTED_LISTED)
}
