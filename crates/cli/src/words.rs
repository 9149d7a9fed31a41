//! The one place that turns an error into words: what happened, to which file, and what to do next.

use crate::failure::Failure;
use crate::ui::text::{self, argument, bytes, first_few, grouped, name, number_list, path, shown};
use std::ffi::OsString;
use std::io;
use std::path::{Path, PathBuf};
use under_seal_core::Error;
use under_seal_core::landing::LandingError;
use under_seal_core::opening::{OpenError, Stopped};
use under_seal_core::pack::{PackError, TargetError, WayError};
use under_seal_core::place::staging::StagingError;
use under_seal_core::place::{FileAction, FileError};
use under_seal_core::proof::InspectError;
use under_seal_core::sealed::password::MAX_PASSWORD_BYTES;
use under_seal_core::sealed::record::RecordError;
use under_seal_core::sealed::stream::StreamError;
use under_seal_core::sealed::{ExtractError, HeadError, PasswordError, SealError, SealedError};
use under_seal_core::size::SizeError;
use under_seal_core::source::{PassedOver, PassedOverReason, SourceError};
use under_seal_core::volume::{
    CellError, GatherError, HeaderError, MAX_VOLUMES, MIN_VOLUME_BYTES, SetSummary, WriteError,
};

const MIB_IN_KIB: u32 = 1024;

/// What happened and what to do.
pub fn explain(failure: &Failure) -> String {
    match failure {
        Failure::Core(error) => core(error),
        Failure::PasswordFile { path: file, source } => {
            format!("The password file {} cannot be read: {}.", path(file), system(source))
        }
        Failure::PasswordFileTooLong(file) => {
            format!("{} is too long to be a password file. Name a file that holds the password alone.", path(file))
        }
        Failure::PasswordVariable => {
            "The variable UNDER_SEAL_PASSWORD holds bytes that are not text. Set it anew, or use --password-from."
                .to_owned()
        }
        Failure::NobodyToAsk => {
            "A password is needed, and there is no terminal to ask on. Give it with --password-from FILE or in the \
             variable UNDER_SEAL_PASSWORD."
                .to_owned()
        }
        Failure::PasswordsDiffer => "The two passwords are not the same. Nothing was done; try again.".to_owned(),
        Failure::GivenUp => "Cancelled. Nothing was done.".to_owned(),
        Failure::Prompt(source) => {
            format!("The password cannot be asked for: {}. Use --password-from FILE instead.", system(source))
        }
        Failure::Output(source) => format!("The result cannot be printed: {}.", system(source)),
        Failure::File(error) => file_error(error),
        Failure::Demonstration(what) => format!("The demonstration did not go as told: {what}."),
    }
}

fn core(error: &Error) -> String {
    match error {
        Error::Target(TargetError::NeedsName) => {
            "The archive needs a name of its own, since there are several sources, or one without a name: add --to NAME, \
             or --to FOLDER/NAME."
                .to_owned()
        }
        Error::Password(error) => password_error(*error),
        Error::Pack(error) => pack(error),
        // No command cuts anew yet; the technical words are all there is to say.
        Error::Recut(error) => format!("The set was not cut anew: {error}."),
        Error::Gather(error) => gather(error),
        Error::Inspect(InspectError::File(error)) => file_error(error),
        Error::Inspect(InspectError::Cancelled(_)) => "Cancelled.".to_owned(),
        Error::Sealed(error) => sealed(error),
        Error::Open(OpenError::Refused(error)) => landing(error),
        Error::Open(OpenError::Stopped(stopped)) => self::stopped(stopped),
    }
}

/// Why a text is not a size; clap puts the option and the text in front.
pub fn size_error(text: &str, error: &SizeError) -> String {
    let number: String = text.trim().chars().take_while(|c| c.is_ascii_digit() || *c == '.').collect();
    match error {
        SizeError::TwoReadings { letter, decimal, binary } => format!(
            "{letter} can be read in two ways: write {number}{letter}B for {} or {number}{letter}iB for {}",
            bytes(*decimal),
            bytes(*binary)
        ),
        SizeError::UnknownUnit(unit) => {
            format!("'{}' is no unit; use B, KB, MB, GB, TB, KiB, MiB, GiB or TiB", shown(unit.as_bytes()))
        }
        SizeError::NoNumber => "a size is a number and a unit, such as 300KB or 5MiB".to_owned(),
        SizeError::TooLarge => "the size is larger than any volume can be".to_owned(),
    }
}

fn password_error(error: PasswordError) -> String {
    match error {
        PasswordError::Empty => "The password is empty. Give one with at least one character.".to_owned(),
        PasswordError::NotText => "The password is not UTF-8 text. Save the password file as UTF-8.".to_owned(),
        PasswordError::ControlCharacter => {
            "The password contains a control character or a line break, which cannot be typed everywhere. A password \
             file holds one line."
                .to_owned()
        }
        PasswordError::TooLong => format!("The password is longer than {} bytes.", grouped(MAX_PASSWORD_BYTES as u64)),
    }
}

/// What the system said, as the end of a sentence.
pub fn system(error: &io::Error) -> String {
    match error.kind() {
        io::ErrorKind::NotFound => "it is not there".to_owned(),
        io::ErrorKind::PermissionDenied => "permission denied".to_owned(),
        io::ErrorKind::AlreadyExists => "it is there already".to_owned(),
        io::ErrorKind::StorageFull => "the disk is full".to_owned(),
        io::ErrorKind::QuotaExceeded => "your quota on this disk is used up".to_owned(),
        io::ErrorKind::FileTooLarge => "the file system holds no file that large".to_owned(),
        io::ErrorKind::ReadOnlyFilesystem => "the disk is read-only".to_owned(),
        io::ErrorKind::NotADirectory => "it, or something on the way to it, is no folder".to_owned(),
        io::ErrorKind::IsADirectory => "it is a folder".to_owned(),
        _ => {
            let text = error.to_string();
            text.split(" (os error").next().unwrap_or(&text).to_lowercase()
        }
    }
}

fn file_error(error: &FileError) -> String {
    let what = match error.action {
        FileAction::Open => "cannot be opened",
        FileAction::Read => "cannot be read",
        FileAction::List => "cannot be listed",
        FileAction::Create => "cannot be made",
        FileAction::Write | FileAction::Sync | FileAction::Close => "cannot be written",
        FileAction::Rename => "cannot be given its name",
        FileAction::Remove => "cannot be removed",
    };
    let next = match error.source.kind() {
        io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded => " Make room, or choose another place.",
        io::ErrorKind::PermissionDenied | io::ErrorKind::ReadOnlyFilesystem
            if !matches!(error.action, FileAction::Open | FileAction::Read | FileAction::List) =>
        {
            " Choose a place where you may write."
        }
        io::ErrorKind::PermissionDenied => " Ask its owner for the right to read it.",
        _ => "",
    };
    let reason = match (error.action, error.source.kind()) {
        (FileAction::Create, io::ErrorKind::NotFound) => "the system allows nothing to be made there".to_owned(),
        _ => system(&error.source),
    };
    format!("{} {what}: {reason}.{next}", path(&error.path))
}

fn missing_path(at: &Path, similar: &[OsString]) -> String {
    if at.is_symlink() {
        return format!("{} is a link that leads nowhere. Name what it should lead to.", path(at));
    }
    let there = match similar {
        [] => "Check the spelling.".to_owned(),
        similar => {
            let names: Vec<String> = similar.iter().map(|similar| name(similar)).collect();
            format!("Beside it there is: {}.", names.join(", "))
        }
    };
    format!("{} does not exist. {there}", path(at))
}

/// Why something was passed over, as the end of a sentence.
pub fn passed_over(reason: &PassedOverReason) -> String {
    match reason {
        PassedOverReason::Special => "a device, pipe or socket has no content to pack".to_owned(),
        PassedOverReason::Unreadable(error) => system(&error.source),
        PassedOverReason::Name(error) => format!("its name cannot be packed ({error})"),
        PassedOverReason::LongTarget => "the link's target is too long".to_owned(),
    }
}

fn unpackable(what: &PassedOver) -> String {
    format!("{} cannot be packed: {}.", path(&what.disk_path), passed_over(&what.reason))
}

fn pack(error: &PackError) -> String {
    match error {
        PackError::Source(SourceError::Missing { path, similar }) => missing_path(path, similar),
        PackError::Source(SourceError::SameName { first, second }) => format!(
            "{} and {} would have the same name inside the archive. Pack them apart, or rename one.",
            path(first),
            path(second)
        ),
        PackError::Source(SourceError::NoName(source)) => {
            format!("{} has no name to give to the archive's folder. Name folders inside it.", path(source))
        }
        PackError::Source(SourceError::Unpackable(what)) => unpackable(what),
        PackError::Source(SourceError::Cancelled(_)) | PackError::Cancelled(_) => {
            "Cancelled. What had been written was removed, and the sources are untouched.".to_owned()
        }
        PackError::NothingPacked(all) => {
            let whats: Vec<String> = all.iter().map(unpackable).collect();
            format!("Nothing was packed. {}", whats.join(" "))
        }
        PackError::Way(error) => way(error),
        PackError::Staging(error) => staging(error),
        PackError::File(error) => file_error(error),
        PackError::Seal(error) => seal(error),
        PackError::Regather(_) | PackError::ReadBack(_) | PackError::ContentsDiffer => format!(
            "What was read back from the disk is not what was written ({error}). Nothing was kept; try another disk, \
             and look after this one."
        ),
        PackError::NoRandomness(_) | PackError::Stopped(_) => format!("Nothing was packed: {error}."),
    }
}

fn way(error: &WayError) -> String {
    match error {
        WayError::Taken(paths) => format!(
            "{} there already: {}. Nothing was written; choose another name with --to, or add --replace.",
            if paths.len() == 1 { "A volume of this name is" } else { "Volumes of this name are" },
            first_few(&paths.iter().map(|path| text::path(path)).collect::<Vec<_>>())
        ),
        WayError::EarlierRunCompleted(paths) => format!(
            "An earlier pack was cut off while it gave its verified volumes their names. That is now completed: {}. \
             Nothing new was packed; check them, or pack again with --replace.",
            first_few(&paths.iter().map(|path| text::path(path)).collect::<Vec<_>>())
        ),
        WayError::Staging(error) => staging(error),
        WayError::File(error) => file_error(error),
    }
}

fn staging(error: &StagingError) -> String {
    match error {
        StagingError::File(error) => file_error(error),
        StagingError::InUse(at) => {
            format!("Another pack of this name is at work ({}). Wait for it, or choose another name.", path(at))
        }
        StagingError::InTheWay(at) => {
            format!("{} is in the way, and is not ours to remove. Move it, or choose another name.", path(at))
        }
    }
}

fn seal(error: &SealError) -> String {
    match error {
        SealError::Write(WriteError::FitTooSmall) => format!(
            "The fit is too small: a volume needs at least {}, a header and one cell. Nothing was written.",
            bytes(MIN_VOLUME_BYTES)
        ),
        SealError::Write(WriteError::TooManyVolumes) => format!(
            "The fit is too small for this much: there would be more than {} volumes. Nothing was kept; choose a \
             larger fit.",
            grouped(MAX_VOLUMES.into())
        ),
        SealError::Write(WriteError::File(error)) => file_error(error),
        SealError::Write(WriteError::TooManyCells) | SealError::TooManyEntries => {
            "This is more than one archive can hold. Nothing was kept; pack it as several.".to_owned()
        }
        SealError::Head(_)
        | SealError::Codec(_)
        | SealError::Seal(_)
        | SealError::OutOfOrder
        | SealError::Stopped(_) => format!("Nothing was packed: {error}."),
    }
}

fn sets(found: &[SetSummary]) -> String {
    let each = |set: &SetSummary| {
        let short = set.set.get(..8).unwrap_or(&set.set);
        format!("{} (set {short}, {} of {} volumes)", argument(&set.example), set.here, set.count)
    };
    first_few(&found.iter().map(each).collect::<Vec<_>>())
}

fn gather(error: &GatherError) -> String {
    match error {
        GatherError::Missing { path, similar } => missing_path(path, similar),
        GatherError::Unusable { path: file, why } => format!("{} {}", path(file), header(*why)),
        GatherError::NoVolumes(places) => {
            let places: Vec<String> = places.iter().map(|place| path(place)).collect();
            format!("There is no Under Seal volume in {}. Name a volume, or the folder it is in.", first_few(&places))
        }
        GatherError::SeveralSets(found) => {
            format!(
                "Volumes of {} archives are here. Name one volume of the one you want: {}.",
                found.len(),
                sets(found)
            )
        }
        GatherError::Contradiction(one, other) => format!(
            "{} and {} say that they belong together, and contradict each other: one of them was changed on purpose. \
             Ask the sender for both again.",
            path(one),
            path(other)
        ),
        GatherError::Incomplete { missing, count, unrecognised } => incomplete(missing, *count, unrecognised),
        GatherError::File(error) => file_error(error),
    }
}

fn incomplete(missing: &[u32], count: u32, unrecognised: &[PathBuf]) -> String {
    let (volumes, them) = if missing.len() == 1 { ("Volume", "it") } else { ("Volumes", "them") };
    let verb = if missing.len() == 1 { "is" } else { "are" };
    let damaged = match unrecognised {
        [] => String::new(),
        [only] => format!(" ({} may be it, but is too damaged to tell.)", path(only)),
        several => format!(" ({} files here are too damaged to tell which they are.)", several.len()),
    };
    format!(
        "{volumes} {} of {count} {verb} missing. Put {them} beside the others, under any name, or ask the sender for \
         {them}.{damaged}",
        number_list(missing)
    )
}

fn header(why: HeaderError) -> String {
    match why {
        HeaderError::NotAVolume => {
            "is not an Under Seal volume. Name one of the files that the sender sent.".to_owned()
        }
        HeaderError::MovedAsText => {
            "was changed on its way: some program moved it as if it were text. Ask for it again, sent as a binary file."
                .to_owned()
        }
        HeaderError::Damaged => {
            "is a volume whose header is damaged, and no other volume of its set is here to tell more. Put the others \
             beside it, or ask the sender for it again."
                .to_owned()
        }
        HeaderError::UnknownVersion(version) => {
            format!("was made by a newer Under Seal (format version {version}). Use that one to open it.")
        }
        HeaderError::Inconsistent => {
            "has a header that contradicts itself: it was changed on purpose. Ask the sender for it again.".to_owned()
        }
    }
}

fn sealed(error: &SealedError) -> String {
    const TAMPERED: &str = "was changed on purpose after it was sealed";
    match error {
        SealedError::Head(HeadError::WrongPassword) => {
            "Wrong password. The volumes' headers are undamaged, so it is the password: check the spelling, capital \
             letters and the keyboard's language."
                .to_owned()
        }
        SealedError::Head(HeadError::Tampered) => {
            format!(
                "The password fits, but the archive's head {TAMPERED}. Trust nothing in it; ask the sender for it again."
            )
        }
        SealedError::Head(HeadError::Costly(cost)) => format!(
            "Unlocking this archive would take {} MiB of memory and {} passes, more than is done unasked: it may be \
             meant to harm. Nothing was unlocked.",
            grouped((cost.memory_kib / MIB_IN_KIB).into()),
            grouped(cost.passes.into())
        ),
        SealedError::Head(HeadError::NoMemory(_)) => {
            "There is not enough memory to unlock the archive. Close other programs and try again.".to_owned()
        }
        SealedError::Stream(StreamError::Cell(CellError::Missing(volume))) => {
            format!("Volume {volume} is missing. Put it beside the others, under any name.")
        }
        SealedError::Stream(StreamError::Cell(CellError::Damaged { volume, path: file, offset })) => format!(
            "Volume {volume} ({}) is damaged at byte {}. Ask the sender for this volume again.",
            path(file),
            grouped(*offset)
        ),
        SealedError::Stream(StreamError::Cell(CellError::File(error))) => file_error(error),
        SealedError::Stream(StreamError::NotAuthentic { volume, path: file, offset }) => format!(
            "Volume {volume} ({}) {TAMPERED}, at byte {}. Trust nothing in it; ask the sender for it again.",
            path(file),
            grouped(*offset)
        ),
        SealedError::Record(RecordError::UnsafePath { path, why }) => format!(
            "The archive was refused: it holds an entry that could leave the folder it is extracted into, '{}' ({why}). \
             Whoever sealed it may mean harm.",
            shown(path)
        ),
        SealedError::WrongDigest(path) => {
            format!(
                "'{}' in the archive is not what was packed: its digest is wrong. Ask the sender to pack it again.",
                shown(path)
            )
        }
        SealedError::Cancelled(_) => "Cancelled.".to_owned(),
        error if error.needs_newer_version() => {
            "The archive needs a newer Under Seal than this one. Use that to open it.".to_owned()
        }
        error => format!(
            "The archive breaks the rules of its own format ({error}), although its seal is right. It was refused; ask \
             the sender what it was made with."
        ),
    }
}

fn landing(error: &LandingError) -> String {
    match error {
        LandingError::Clashes(paths) => {
            let paths: Vec<String> = paths.iter().map(|path| text::path(path)).collect();
            let (subject, them) = if paths.len() == 1 { ("This is", "it") } else { ("These are", "them") };
            format!(
                "{subject} there already and would be in the way: {}. Nothing was extracted; choose another folder with \
                 --into, or move {them}.",
                first_few(&paths)
            )
        }
        LandingError::LongName(entry) => format!(
            "The archive holds a name that is too long for this system: '{}'. Nothing was extracted.",
            shown(entry.as_bytes())
        ),
        LandingError::NoRoom { needed, free, destination } => format!(
            "There is not enough room in {}: {} are needed, {} are free. Nothing was extracted; make room, or choose \
             another folder with --into.",
            path(destination),
            bytes(*needed),
            bytes(*free)
        ),
        LandingError::File(error) => file_error(error),
        LandingError::NoRandomness(error) => format!("Nothing was extracted: {error}."),
    }
}

fn stopped(stopped: &Stopped) -> String {
    let why = match &stopped.why {
        ExtractError::Archive(error) => sealed(error),
        ExtractError::Sink(LandingError::File(error)) if error.is_taken() => {
            format!("{} appeared while this was being extracted, and was not touched.", path(&error.path))
        }
        ExtractError::Sink(error) => landing(error),
    };
    let kept = match stopped.landed.files {
        0 => "No file was extracted".to_owned(),
        files => format!(
            "{} had landed in {} before, complete and verified",
            text::count(files, "file"),
            path(&stopped.destination)
        ),
    };
    format!("{why} {kept}; nothing half-written is left.")
}
