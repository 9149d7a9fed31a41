//! Why an archive stays as it is: it was not cut, locked or made anew.

use super::entries::no_path;
use super::packing::{OWN_FAULT, head, other_than_written, pack, spares, staging, taken, way, write};
use super::receiving::{cell, sealed};
use super::system::{CANCELLED, TOO_LITTLE_MEMORY, interrupted};
use crate::ui::text::{self, first_few, shown};
use under_seal_core::disk::Interruption;
use under_seal_core::formats::sealed::volume::MIN_VOLUME_BYTES;
use under_seal_core::ground::entry::EntryPath;
use under_seal_core::tasks::pack::{PackError, WayError};
use under_seal_core::tasks::recast::RecutError;
use under_seal_core::tasks::recast::converting::NotKept;
use under_seal_core::tasks::relock::RelockError;
use under_seal_core::tasks::revise::EditError;

/// What another format does not keep.
pub fn not_kept(what: NotKept) -> String {
    let entries = |number: usize| text::entries(number as u64);
    match what {
        NotKept::Secrecy => "the password: whoever has the new archive can read it".to_owned(),
        NotKept::HiddenNames => "hidden names: anyone can read the names, sizes and dates of what is inside".to_owned(),
        NotKept::Authenticity => "the proof that it is genuine: checks of the new one find accidents".to_owned(),
        NotKept::Message => "the message".to_owned(),
        NotKept::ExactTimes(number) => format!("parts of a second, in the times of {}", entries(number)),
        NotKept::Refused(number) => format!("{} that cannot be extracted", entries(number)),
        NotKept::HardLinks(1) => {
            "that 1 file shares its content with another: it is a file of its own there".to_owned()
        }
        NotKept::HardLinks(number) => {
            format!("that {number} files share their content with others: each is a file of its own there")
        }
        NotKept::Holes(number) => {
            format!("the holes of {}: the zeros in them are stored", text::count(number as u64, "file"))
        }
        NotKept::Names(number) => {
            format!("the names of {} as they are, since they are no text: they get %XX in them", entries(number))
        }
    }
}

/// Another archive was not made of an old one.
pub(super) fn remake(error: &PackError) -> String {
    match error {
        PackError::Way(WayError::Taken { paths, .. }) => taken(paths),
        PackError::Interrupted(Interruption::Cancelled(_)) => CANCELLED.to_owned(),
        PackError::NothingPacked(unreadable) if unreadable.is_empty() => {
            "Nothing would be left in the archive. It is as it was: to do without it, delete its files yourself."
                .to_owned()
        }
        error => pack(error),
    }
}

/// A set was not cut to another size.
pub(super) fn recut(error: &RecutError) -> String {
    match error {
        RecutError::Way(WayError::Taken { paths, .. }) => taken(paths),
        RecutError::Contradicting(paths) => format!(
            "Headers contradict each other, and only the password tells which of them are genuine: {}. Nothing was cut anew. Move those \
             aside that do not open.",
            first_few(&paths.iter().map(|path| text::path(path)).collect::<Vec<_>>())
        ),
        RecutError::CellsTooLong { cell_bytes, least } => format!(
            "The fit is too small for this archive without its password: its cells of {} stay whole, so a volume has at least {}. With the \
             password it can be packed anew, for any fit from {}: add --as sealed. Nothing was written.",
            text::bytes(*cell_bytes),
            text::bytes(*least),
            text::bytes(MIN_VOLUME_BYTES)
        ),
        RecutError::Way(error) => way(error),
        RecutError::Staging(error) => staging(error),
        RecutError::Cell(error) => cell(error),
        RecutError::Write(error) => write(error),
        RecutError::Spares(error) => spares(error, "Nothing was cut anew."),
        RecutError::Regather(_) | RecutError::CellsDiffer => other_than_written(),
        RecutError::Interrupted(error) => interrupted(error, "Nothing was cut anew."),
    }
}

/// An archive was not locked anew.
pub(super) fn relock(error: &RelockError) -> String {
    match error {
        RelockError::Way(WayError::Taken { paths, .. }) => taken(paths),
        RelockError::Way(error) => way(error),
        RelockError::Staging(error) => staging(error),
        RelockError::Old(error) => sealed(error),
        RelockError::Head(error) => head(*error),
        RelockError::Write(error) => write(error),
        RelockError::Spares(error) => spares(error, "Nothing was locked anew."),
        RelockError::Seal(_) => OWN_FAULT.to_owned(),
        RelockError::ReadBack(error) if error.is_lack_of_memory() => {
            format!("Nothing was locked anew. {TOO_LITTLE_MEMORY}")
        }
        RelockError::Regather(_) | RelockError::ReadBack(_) | RelockError::ContentsDiffer => other_than_written(),
        RelockError::Interrupted(error) => interrupted(error, "Nothing was locked anew."),
    }
}

/// Why an archive is not changed so.
pub(super) fn edit(error: &EditError) -> String {
    let name = |path: &EntryPath| shown(path.as_bytes());
    let unchanged = "Nothing was changed.";
    match error {
        EditError::NotThere(path) => format!("Nothing in the archive is called '{}'. {unchanged}", name(path)),
        EditError::Taken(path) => format!(
            "Something in the archive is called '{}' already. {unchanged} Take that out with --remove, or choose another name.",
            name(path)
        ),
        EditError::IntoItself(path) => format!("'{}' cannot be put into itself. {unchanged}", name(path)),
        EditError::InTheWay(path) => format!(
            "'{}' is a file inside where a folder is needed, or a folder where a file is to be. {unchanged} Take it out with --remove, rename it with --rename, or put what is added elsewhere with --inside.",
            name(path)
        ),
        EditError::Clashes(paths) => {
            let names: Vec<String> = paths.iter().map(name).collect();
            let files = text::count(paths.len() as u64, "file");
            let (are, them) = if paths.len() == 1 { ("is", "it") } else { ("are", "them") };
            format!(
                "{files} of what is added {are} inside already: {}. {unchanged} Say with --on-clash what becomes of {them}: keep, replace, newer or \
                 both.",
                first_few(&names)
            )
        }
        EditError::NothingInCommon => format!(
            "Nothing of what is in the archive is there, so this is not what it was packed from. {unchanged} Name what was packed behind --refresh, as \
                 it was named then."
        ),
        EditError::Path(error) => format!("This cannot be a path inside an archive: {}. {unchanged}", no_path(*error)),
    }
}
