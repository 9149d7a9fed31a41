//! Words for what goes wrong with plain pieces.

use super::packing;
use super::system::{interrupted, missing_path};
use crate::ui::text::{self, grouped, number_list, path};
use under_seal_core::disk::numbered::MAX_PIECES;
use under_seal_core::formats::spot::Spot;
use under_seal_core::tasks::portion::PortionError;
use under_seal_core::tasks::reunite::{PiecesError, ReuniteError};

pub(super) fn portion(error: &PortionError) -> String {
    match error {
        PortionError::Absent { path, similar } => missing_path(path, similar),
        PortionError::NoRoom => "A piece has to hold at least one byte. Name a larger --fit.".to_owned(),
        PortionError::TooMany(count) => format!(
            "It would come to {} pieces; {} are the most. Name a larger --fit.",
            grouped(*count),
            grouped(MAX_PIECES.into())
        ),
        PortionError::NoName(file) => format!("{} is no file that could be cut.", path(file)),
        PortionError::Taken(files) => format!(
            "Pieces of this file are there already: {}. Nothing is mixed up with them: move them away, or name another \
             folder with --to.",
            text::first_few(
                &files.iter().map(|file| file.file_name().map(text::name).unwrap_or_default()).collect::<Vec<_>>()
            )
        ),
        PortionError::Changed => {
            "The file changed while it was cut, so no piece was kept. Cut it again when nobody works on it.".to_owned()
        }
        PortionError::Differs => {
            "What was read back is not what was written: the disk, or its cable, cannot be trusted. No piece was kept."
                .to_owned()
        }
        PortionError::Staging(error) => packing::staging(error),
        PortionError::Interrupted(error) => interrupted(error, "No piece was kept."),
    }
}

pub(super) fn find(error: &PiecesError) -> String {
    match error {
        PiecesError::Absent { path, similar } => missing_path(path, similar),
        PiecesError::NotNumbered(file) => format!(
            "{} is not one of several pieces: no number in its name tells it from others beside it. Name a piece.",
            path(file)
        ),
        PiecesError::NoneIn(folder) => {
            format!("There are no numbered pieces in {}. Name a piece, or the folder that they are in.", path(folder))
        }
        PiecesError::PartOfZip(part) => format!(
            "{} is a part of a ZIP archive. Parts are not joined: under-seal open takes any of them, and finds the others.",
            path(part)
        ),
        PiecesError::Several(files) => {
            format!(
                "Several files are in pieces there. Name one piece of the one that you want: {}.",
                text::first_few(&names(files))
            )
        }
        PiecesError::DamagedList(list) => format!(
            "{} is a damaged list of pieces. Name a piece instead, or ask the sender for the list again.",
            path(list)
        ),
        PiecesError::OfAnother(file) => {
            format!("{} is a piece of another file. Name pieces of one file only.", path(file))
        }
        PiecesError::Interrupted(error) => interrupted(error, "Nothing was joined."),
    }
}

pub(super) fn reunite(error: &ReuniteError) -> String {
    match error {
        ReuniteError::Missing { missing, count } => {
            let all = count.map(|count| format!(" of {count}")).unwrap_or_default();
            let (pieces, are) = if missing.len() == 1 { ("Piece", "is") } else { ("Pieces", "are") };
            format!(
                "{pieces} {}{all} {are} missing. Nothing was joined: put what is missing beside the others, and try again.",
                number_list(missing)
            )
        }
        ReuniteError::Damaged(numbers) => {
            let (pieces, are) = if numbers.len() == 1 { ("Piece", "is not what it was") } else { ("Pieces", "are not what they were") };
            format!(
                "{pieces} {} {are} when the file was cut. Nothing was joined: ask the sender for it again.",
                number_list(numbers)
            )
        }
        ReuniteError::WholeDiffers => {
            "Each piece is what the list says, but together they are not the file that it names: the list is wrong. Nothing \
             was joined."
                .to_owned()
        }
        ReuniteError::Ambiguous { number, files } => format!(
            "Several files are piece {number}, and no list says which is right: {}. Move the wrong ones away.",
            text::first_few(&names(files))
        ),
        ReuniteError::NoName => "Nothing says what the file is called. Add --to FILE.".to_owned(),
        ReuniteError::Taken(file) => {
            format!("{} is there already, and is not overwritten. Name another with --to.", path(file))
        }
        ReuniteError::Differs => {
            "What was read back is not what was written: the disk, or its cable, cannot be trusted. Nothing was kept."
                .to_owned()
        }
        ReuniteError::Interrupted(error) => interrupted(error, "Nothing was joined."),
    }
}

fn names(files: &[Spot]) -> Vec<String> {
    files.iter().map(text::spot).collect()
}
