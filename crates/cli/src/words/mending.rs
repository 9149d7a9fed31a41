//! Why volumes were not recreated, and no spare ones made.

use super::packing::{spares, staging};
use super::receiving::cell;
use super::system::interrupted;
use crate::ui::text::{first_few, grouped, path};
use under_seal_core::tasks::mend::MendError;

pub(super) fn mend(error: &MendError) -> String {
    match error {
        MendError::Contradicting(paths) => format!(
            "Headers contradict each other, and only the password tells which of them are genuine: {}. Nothing was written. Run the same \
             command with --ask-password, and --to FOLDER.",
            first_few(&paths.iter().map(|one| path(one)).collect::<Vec<_>>())
        ),
        MendError::Disputed => {
            "The volumes and the spare volumes contradict each other: somebody changed one or the other on purpose, and only the password \
             tells which. Nothing was written. Run the same command with --ask-password, and --to FOLDER."
                .to_owned()
        }
        MendError::TooFew => {
            "The spare volumes are too few to recreate what is missing or damaged. Nothing was written.".to_owned()
        }
        MendError::Taken(there) => format!(
            "{} exists already, and nothing is replaced. Nothing was written. Name another folder with --to.",
            path(there)
        ),
        MendError::TooManySpares(most) => format!(
            "An archive of so many volumes has at most {} spare volumes. Nothing was written. Name a smaller number.",
            grouped((*most).into())
        ),
        MendError::Staging(error) => staging(error),
        MendError::Cell(error) => cell(error),
        MendError::Spares(error) => spares(error, "Nothing was written."),
        MendError::Interrupted(error) => interrupted(error, "Nothing was written."),
    }
}
