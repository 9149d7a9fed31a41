//! Why nothing was packed or cut anew, and what a format cannot do.

use super::receiving::{archive, cell};
use super::sending::{HIDING_NEEDS_PASSWORD, source, unpackable};
use super::system::{CANCELLED, TOO_LITTLE_MEMORY, file_error, interrupted};
use crate::ui::text::{self, bytes, first_few, grouped, path, shown, size};
use std::ffi::OsStr;
use std::io;
use std::path::PathBuf;
use under_seal_core::codecs::error::CodecError;
use under_seal_core::disk::staging::StagingError;
use under_seal_core::disk::{FileError, Interruption};
use under_seal_core::formats::abilities::Ability;
use under_seal_core::formats::registry::Lacks;
use under_seal_core::formats::sealed::head::KEYHOLES;
use under_seal_core::formats::sealed::volume::spares::making::SpareError;
use under_seal_core::formats::sealed::volume::{GatherError, MAX_VOLUMES, MIN_VOLUME_BYTES, WriteError};
use under_seal_core::formats::sealed::{HeadError, SealError, TooFar};
use under_seal_core::formats::zip::{MAX_PARTS, ZipWriteError};
use under_seal_core::ground::entry::EntryPath;
use under_seal_core::ground::fit::Fit;
use under_seal_core::source::SourceError;
use under_seal_core::tasks::pack::parcels::{MAX_PARCELS, ParcelError};
use under_seal_core::tasks::pack::{Loss, PackError, WayError};
use under_seal_core::tasks::page::PAGE_NAME;

/// What a sender should know who named a size that mailboxes have as their limit.
pub fn mail_hint(fit: Fit) -> Option<String> {
    let (name, mailbox) = fit.of_the_mailbox()?;
    let limit = fit.volume_limit().map(size)?;
    Some(format!(
        "If it goes by mail: a {} mailbox takes volumes of {}: --fit {name}",
        limit.replace(".0 ", " "),
        size(mailbox.volume_limit()?)
    ))
}

pub(super) fn pack(error: &PackError) -> String {
    match error {
        PackError::Source(SourceError::Interrupted(Interruption::Cancelled(_))) | PackError::Interrupted(Interruption::Cancelled(_)) => {
            CANCELLED.to_owned()
        }
        PackError::Source(error) => source(error),
        PackError::NothingPacked(all) => {
            let whats: Vec<String> = all.iter().map(unpackable).collect();
            format!("Nothing was packed. {}", whats.join(" "))
        }
        PackError::Needed(over) => format!("{} Nothing was changed.", unpackable(over)),
        PackError::Parcels(error) => parcels(error),
        PackError::ParcelTooLarge => {
            "A parcel came out larger than the fit, however it was divided: files grow while they are packed. Nothing was \
             kept; try again, or choose a larger fit."
                .to_owned()
        }
        PackError::Way(error) => way(error),
        PackError::Staging(error) => staging(error),
        PackError::Zip(ZipWriteError::PartTooSmall(_)) => {
            "The parts are too small for what an entry's header needs. Name a larger --fit.".to_owned()
        }
        PackError::Zip(ZipWriteError::TooManyParts) => {
            format!("It would come to more than {} parts. Name a larger --fit.", grouped(MAX_PARTS.into()))
        }
        PackError::Zip(ZipWriteError::NotText(name)) => format!(
            "The name {} is not text that every system can read, so ZIP cannot keep it. Nothing was packed: rename it, or pack \
             with --as sealed.",
            shown(name)
        ),
        PackError::Zip(ZipWriteError::LongName(length)) => format!(
            "A name of {} is longer than ZIP can hold. Nothing was packed: shorten it, or pack with --as sealed.",
            bytes(*length as u64)
        ),
        PackError::Zip(ZipWriteError::LongComment(length)) => format!(
            "A message of {} is longer than ZIP can hold. Nothing was packed: shorten it, or pack with --as sealed.",
            bytes(*length as u64)
        ),
        PackError::Zip(ZipWriteError::Grown) => {
            "A file grew past 4 GiB while it was packed. Nothing was packed: try again when nobody writes to it.".to_owned()
        }
        PackError::Zip(ZipWriteError::Interrupted(error)) => interrupted(error, "Nothing was packed."),
        PackError::Lacks(lacks) => self::lacks(lacks),
        PackError::HidingNeedsPassword => HIDING_NEEDS_PASSWORD.to_owned(),
        PackError::NotWritten(format) => {
            format!("{} archives are read here, and not written. Name another format with --as.", format.title)
        }
        PackError::Regather(GatherError::Interrupted(Interruption::File(error))) => not_there_any_more(error),
        PackError::Compressor | PackError::Seal(SealError::Codec(CodecError::Compressor)) => no_memory_to_pack(),
        PackError::Interrupted(error) | PackError::Seal(SealError::Interrupted(error)) => {
            interrupted(error, "Nothing was packed.")
        }
        PackError::Seal(error) => seal(error),
        PackError::ReadBack(why) => match why.interruption() {
            Some(Interruption::File(error)) => not_there_any_more(error),
            _ if why.is_lack_of_memory() => no_memory_to_pack(),
            _ => other_than_written(),
        },
        PackError::Spares(error) => spares(error, "Nothing was packed."),
        PackError::Old(error) => archive(error),
        PackError::Regather(_) | PackError::ContentsDiffer => other_than_written(),
    }
}

/// Spare volumes were not made. `outcome` is a sentence on what there is then.
pub(super) fn spares(error: &SpareError, outcome: &str) -> String {
    match error {
        SpareError::Cell(error) => cell(error),
        SpareError::Interrupted(error) => interrupted(error, outcome),
        SpareError::Regather(_) | SpareError::Damaged(_) => other_than_written(),
    }
}

pub(super) fn other_than_written() -> String {
    "What was read back from the disk is not what was written. Nothing was kept; try another disk, and look after this one."
        .to_owned()
}

/// What can only be a fault of the program's.
pub(super) const OWN_FAULT: &str = "Nothing was packed: this program itself failed at something that it should be able to do. Your files are \
                         as they were.";

fn no_memory_to_pack() -> String {
    format!("Nothing was packed. {TOO_LITTLE_MEMORY}")
}

/// What was just written cannot be read, mostly since its folder has another name now.
fn not_there_any_more(error: &FileError) -> String {
    match error.source.kind() {
        io::ErrorKind::NotFound => format!(
            "{} is not there any more: the folder was moved, renamed or emptied while it was packed into. Nothing was kept; pack again, \
             and leave the folder as it is until that is done.",
            path(&error.path)
        ),
        _ => file_error(error),
    }
}

pub(super) fn parcels(error: &ParcelError) -> String {
    match error {
        ParcelError::FitTooSmall => {
            format!("The fit is too small: a parcel needs at least {}. Nothing was written.", bytes(MIN_VOLUME_BYTES))
        }
        ParcelError::TooLarge(files) => {
            let each = |(path, size): &(EntryPath, u64)| format!("{} ({})", shown(path.as_bytes()), bytes(*size));
            let files: Vec<String> = files.iter().map(each).collect();
            format!(
                "No file is cut for parcels, and {} larger than the fit even when compressed: {}. Nothing was written; choose a \
                 larger fit, leave that out, or pack without --parcels.",
                if files.len() == 1 { "this one is" } else { "these are" },
                first_few(&files)
            )
        }
        ParcelError::TooMany => {
            format!("There would be more than {} parcels. Choose a larger fit.", grouped(MAX_PARCELS as u64))
        }
        ParcelError::Interrupted(error) => interrupted(error, "Nothing was written."),
        ParcelError::Codec(CodecError::Compressor) => format!("Nothing was packed. {TOO_LITTLE_MEMORY}"),
        ParcelError::Codec(_) => OWN_FAULT.to_owned(),
    }
}

pub(super) fn way(error: &WayError) -> String {
    match error {
        WayError::Taken { paths, bytes } => {
            let is = if paths.len() == 1 { "An archive of this name is" } else { "Volumes of this name are" };
            format!(
                "{is} there already: {}. Nothing was written. To add to it, run `revise` with --add. To pack beside it, choose another \
                 name with --to. With --replace it would be gone ({}), with everything that is in it.",
                first_few(&paths.iter().map(|path| text::path(path)).collect::<Vec<_>>()),
                text::size(*bytes)
            )
        }
        WayError::SomethingElse(at) => format!(
            "{} has this archive's name and is something else, so it is not replaced. Nothing was written; move it away, or choose \
             another name with --to.",
            path(at)
        ),
        WayError::SeveralArchives(paths) => format!(
            "Volumes of several archives have this name, and it is not clear which is to be replaced: {}. Nothing was written; move those \
             away that shall stay, or choose another name with --to.",
            first_few(&paths.iter().map(|path| text::path(path)).collect::<Vec<_>>())
        ),
        WayError::EarlierRunCompleted(paths) => format!(
            "An earlier pack was cut off while it gave its verified volumes their names. That is now completed: {}. \
             Nothing new was packed; check them, or pack again with --replace.",
            first_few(&paths.iter().map(|path| text::path(path)).collect::<Vec<_>>())
        ),
        WayError::Staging(error) => staging(error),
        WayError::Interrupted(error) => interrupted(error, ""),
    }
}

/// What goes with an old archive, as the beginning of a question; `None` where nothing does.
pub fn loss(loss: &Loss, stem: &OsStr) -> Option<String> {
    let old = text::name(stem);
    match loss {
        Loss::Known(gone) if gone.is_empty() => None,
        Loss::Known(gone) => {
            let names: Vec<String> = gone.iter().map(|path| shown(path.as_bytes())).collect();
            let files = text::count(gone.len() as u64, "file");
            Some(format!(
                "{files} of the {old} that is there would be gone, since the new one does not have them: {}.",
                first_few(&names)
            ))
        }
        Loss::Unknown => Some(format!(
            "What is in the {old} that is there cannot be seen (it has another password, or is damaged); it would be gone."
        )),
    }
}

pub(super) fn staging(error: &StagingError) -> String {
    match error {
        StagingError::Interrupted(error) => interrupted(error, ""),
        StagingError::InUse(at) => {
            format!("Another pack of this name is at work ({}). Wait for it, or choose another name.", path(at))
        }
        StagingError::InTheWay(at) => {
            format!(
                "{} is in the way, and nothing proves that an interrupted run of yours left it, so it is not touched. Look \
                 into it: files named set-aside- in it are older volumes. Move it away, or choose another name.",
                path(at)
            )
        }
        StagingError::Changed(at) => {
            format!(
                "{} was to be replaced, and has changed meanwhile. Nothing was replaced; look at it first.",
                path(at)
            )
        }
    }
}

const TOO_MUCH: &str = "This is more than one archive can hold. Nothing was kept; pack it as several.";

pub(super) fn write(error: &WriteError) -> String {
    match error {
        WriteError::FitTooSmall { least } => format!(
            "The fit is too small: a volume needs at least {}, a header and one cell. Nothing was written.",
            bytes(*least)
        ),
        WriteError::TooManyVolumes => format!(
            "The fit is too small for this much: there would be more than {} volumes. Nothing was kept; choose a \
             larger fit.",
            grouped(MAX_VOLUMES.into())
        ),
        WriteError::TooManyCells => TOO_MUCH.to_owned(),
        WriteError::Interrupted(error) => interrupted(error, "Nothing was packed."),
    }
}

pub(super) fn seal(error: &SealError) -> String {
    match error {
        SealError::Write(error) => write(error),
        SealError::Interrupted(error) => interrupted(error, "Nothing was packed."),
        SealError::TooManyEntries => TOO_MUCH.to_owned(),
        SealError::TooFar(TooFar(path)) => format!(
            "'{}' is a further name of a file (a hard link), and would lie too deep, and too far from it, for that. Nothing was changed. \
             Give it a shorter path, or remove it from the archive.",
            shown(path.as_bytes())
        ),
        SealError::Head(error) => head(*error),
        SealError::Codec(_) | SealError::Seal(_) | SealError::OutOfOrder => OWN_FAULT.to_owned(),
    }
}

/// No head could be made.
pub(super) fn head(error: HeadError) -> String {
    match error {
        HeadError::KeyholeCount(count) => {
            format!(
                "An archive can have 1 to {KEYHOLES} passwords, and {count} are named. Nothing was written; name fewer."
            )
        }
        HeadError::NoMemory(_) => format!("Nothing was written. {TOO_LITTLE_MEMORY}"),
        HeadError::NoRandomness(error) => interrupted(&error.into(), "Nothing was written."),
        _ => OWN_FAULT.to_owned(),
    }
}

/// New volumes would have names that are taken.
pub(super) fn taken(paths: &[PathBuf]) -> String {
    format!(
        "Volumes of that name are there already: {}. Nothing was written; name another place with --to.",
        first_few(&paths.iter().map(|path| text::path(path)).collect::<Vec<_>>())
    )
}

/// What a format cannot do.
pub fn lacks(lacks: &Lacks) -> String {
    let format = lacks.format.name;
    let what = match lacks.what {
        Ability::Password => {
            return format!(
                "An archive of the format {format} has no password. Add --no-password if anybody may read it, or pack it with --as \
                 sealed or --as zip."
            );
        }
        Ability::Volumes if lacks.format.abilities.volumes => {
            return format!(
                "A page with the archive in it is one file, which opens itself, and is not cut to a size. Leave --fit away, or pack \
                 it with --as sealed: handover puts a page ({PAGE_NAME}) beside the volumes that opens them all the same."
            );
        }
        Ability::Parcels => "parcels",
        Ability::KeyFile => "a key file",
        Ability::SeveralPasswords => "several passwords",
        Ability::Volumes => "volumes",
        Ability::Message => "a message",
        Ability::HiddenNames => "hidden names",
        Ability::Changes => "changes alone",
        Ability::Attributes => "extended attributes",
        Ability::Spares => "spare volumes",
        Ability::Streams => "contents of unknown length, such as standard input",
    };
    format!("An archive of the format {format} cannot have {what}. Leave that out, or pack it with --as sealed.")
}
