//! An archive that comes through standard input: it is kept in a private file while the program runs, since archives are read at more than
//! one place, and some from their end.

use crate::args::is_standard_stream;
use crate::failure::Failure;
use crate::leftover::{Leftover, private_folder};
use crate::system::privacy;
use crate::{inflow, session, signals};
use std::io;
use std::path::PathBuf;
use std::sync::{Mutex, PoisonError};
use under_seal_core::ground::context::Cancelled;

/// What the file is called, so that words about it tell what it is.
const NAME: &str = "standard input";

/// Where it is kept, once it has come.
static KEPT: Mutex<Option<Leftover>> = Mutex::new(None);

/// These places, with the file that standard input is kept in where one of them stands for that.
///
/// # Errors
/// [`Failure`] where nothing is piped in, where it is read already, or where it cannot be kept.
pub fn kept(places: &[PathBuf]) -> Result<Vec<PathBuf>, Failure> {
    let real = |place: &PathBuf| if is_standard_stream(place) { file() } else { Ok(place.clone()) };
    places.iter().map(real).collect()
}

fn file() -> Result<PathBuf, Failure> {
    let mut kept = KEPT.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(folder) = kept.as_ref() {
        return Ok(folder.path().join(NAME));
    }
    let from = inflow::standard_input()?.map_err(Failure::Temporary)?;
    session::mention(
        "Standard input is kept in a private file while this runs: an archive is read at more than one place.",
    );
    let folder = private_folder().map_err(Failure::Temporary)?;
    let file = folder.path().join(NAME);
    let mut to = privacy::create_file(&file).map_err(Failure::Temporary)?;
    io::copy(&mut inflow::stoppable(from), &mut to).map_err(Failure::Temporary)?;
    if signals::is_stopping() {
        return Err(Cancelled.into());
    }
    *kept = Some(folder);
    Ok(file)
}

/// Removes it.
pub fn remove() {
    drop(KEPT.lock().unwrap_or_else(PoisonError::into_inner).take());
}
