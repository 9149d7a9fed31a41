//! What becomes of files that meet others; asked where that was not said, and somebody can be asked.

use super::refused;
use crate::args::OnClashName;
use crate::failure::Failure;
use crate::ui::{prompt, text};
use under_seal_core::ground::context::Context;
use under_seal_core::ground::entry::ListedEntry;
use under_seal_core::landing::{Destination, LandingError, OnClash};
use under_seal_core::tasks::open::foresee;

/// What is offered, and what it means.
const CHOICES: [(&str, OnClash); 4] = [
    ("[k]eep yours", OnClash::Keep),
    ("[r]eplace", OnClash::Replace),
    ("[b]oth", OnClash::Both),
    ("[n]ewer", OnClash::Newer),
];

/// What is to be done where these entries, of all that an archive holds, meet others in `into`.
pub(super) fn decide(
    typed: Option<OnClashName>,
    (all, entries): (&[ListedEntry], &[ListedEntry]),
    into: Destination<'_>,
    context: &Context<'_>,
) -> Result<OnClash, Failure> {
    match typed.map(OnClashName::decided) {
        None if !prompt::can_ask() => return Ok(OnClash::Refuse),
        Some(Some(decided)) => return Ok(decided),
        None | Some(None) => {}
    }
    let paths = match foresee(all, entries, into, context) {
        Ok(_) => return Ok(OnClash::Refuse),
        Err(LandingError::Clashes(paths)) => paths,
        Err(error) => return refused(Err(error)),
    };
    if !prompt::can_ask() {
        return refused(Err(LandingError::Clashes(paths)));
    }
    let paths: Vec<String> = paths.iter().map(|path| text::path(path)).collect();
    ask(&format!("These files exist already: {}.", text::first_few(&paths)))
}

/// Asks what to do with what is there.
pub fn ask(what: &str) -> Result<OnClash, Failure> {
    let mut choices = CHOICES.map(|(written, _)| written).to_vec();
    choices.push("[q]uit");
    match CHOICES.get(prompt::choose(&format!("{what}\nKeep yours, or replace them?"), &choices, Some(0))?) {
        Some((_, choice)) => Ok(*choice),
        None => Err(Failure::GivenUp),
    }
}
