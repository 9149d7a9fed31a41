//! Why there was no rehearsal. What a rehearsal found wrong is its result, and told with it.

use super::receiving::archive;
use super::sending::source;
use super::system::{interrupted, system};
use under_seal_core::tasks::handover::DraftError;
use under_seal_core::tasks::rehearse::RehearsalError;
use under_seal_core::tasks::rehearse::browser::BrowserError;
use under_seal_core::tasks::rehearse::carriers::CarryError;

pub(super) fn rehearsal(error: &RehearsalError) -> String {
    match error {
        RehearsalError::Interrupted(error)
        | RehearsalError::Browser(BrowserError::Interrupted(error))
        | RehearsalError::Carry(CarryError::Interrupted(error) | CarryError::Draft(DraftError::Interrupted(error))) => {
            interrupted(error, "What had been extracted for the rehearsal was removed.")
        }
        RehearsalError::Browser(BrowserError::NotStarted(error)) => {
            format!("The browser cannot be started: {}. Name another with --browser PROGRAM.", system(error))
        }
        RehearsalError::Browser(BrowserError::Silent) => {
            "The browser ended, or did nothing for two minutes. Name another with --browser PROGRAM.".to_owned()
        }
        RehearsalError::Source(error) => source(error),
        RehearsalError::Archive(error) => archive(error),
        RehearsalError::InMessages => {
            "This archive is attached to messages. Only a sender rehearses, before sending: name the archive's own files, or copy \
             them out of the messages with handover first."
                .to_owned()
        }
        RehearsalError::Carry(CarryError::NotSoMany { wished, there }) => format!(
            "{wished} were to be lost on the way, and there {} only {there}. Give --lose a smaller number.",
            if *there == 1 { "is" } else { "are" }
        ),
        RehearsalError::Carry(CarryError::NoServer(error)) => format!(
            "This machine does not let a program listen to itself: {}. Rehearse it without --through upload.",
            system(error)
        ),
        RehearsalError::Carry(CarryError::Upload(_)) => {
            "The upload to this machine itself did not come to its end. Try it again, or rehearse it without --through \
             upload."
                .to_owned()
        }
        RehearsalError::Carry(CarryError::Unreadable | CarryError::Draft(_) | CarryError::Note(_)) => {
            "A message that was composed for the rehearsal cannot be used. Rehearse it without --through mail."
                .to_owned()
        }
    }
}
