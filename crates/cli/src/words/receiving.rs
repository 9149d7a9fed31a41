//! What can go wrong for a recipient, in words.

use super::enough_of;
use super::entries::no_path;
use super::formats::read_here;
use super::system::{TOO_LITTLE_MEMORY, interrupted, missing_path};
use crate::ui::suggestion::quoted;
use crate::ui::text::{self, bytes, first_few, grouped, number_list, path, shown};
use std::path::PathBuf;
use under_seal_core::codecs::error::CodecError;
use under_seal_core::disk::Interruption;
use under_seal_core::formats::error::ArchiveError;
use under_seal_core::formats::iso::IsoError;
use under_seal_core::formats::messages::structure::{Flaw, FlawedMessage};
use under_seal_core::formats::sealed::record::RecordError;
use under_seal_core::formats::sealed::stream::StreamError;
use under_seal_core::formats::sealed::volume::{CellError, GatherError, HeaderError, SetSummary, Shortfall};
use under_seal_core::formats::sealed::{HeadError, KeyCost, SealedError};
use under_seal_core::formats::streamed::StreamedError;
use under_seal_core::formats::zip::ZipError;
use under_seal_core::landing::LandingError;
use under_seal_core::tasks::open::{OpenError, StopReason, Stopped};

/// What is said where a password was given for an archive that has none.
const OPEN_TO_ALL: &str = "This is not the archive that your password belongs to: it has no password, so anybody can have made \
                           it. Ask the sender. If you know that this one has none, add --accept-no-password.";

const MIB_IN_KIB: u32 = 1024;

fn sets(found: &[SetSummary]) -> String {
    first_few(&found.iter().map(one_set).collect::<Vec<_>>())
}

/// One of several sets, for the choice among them.
pub fn one_set(set: &SetSummary) -> String {
    let id = set.ids.set_text();
    let short = id.get(..8).unwrap_or(&id);
    let volumes = match (set.here, set.count) {
        (1, 1) => "1 volume".to_owned(),
        (here, count) => format!("{here} of {count} volumes"),
    };
    format!("{} (set {short}, {volumes})", quoted(set.example.as_os_str()))
}

/// Where volumes may still come from, though none has its name yet.
fn packing_at_work(unfinished: &[PathBuf]) -> String {
    let folders: Vec<String> = unfinished.iter().map(|folder| path(folder)).collect();
    format!(
        "But {} shows that packing is still at work there, or was interrupted. Let it end, or pack again under this name: that \
         completes what was interrupted, or clears it.",
        first_few(&folders)
    )
}

/// Why no set was found.
pub fn gather(error: &GatherError) -> String {
    match error {
        GatherError::Missing { path: at, unfinished, .. } if !unfinished.is_empty() => {
            format!("{} does not exist. {}", path(at), packing_at_work(unfinished))
        }
        GatherError::Missing { path, similar, .. } => missing_path(path, similar),
        GatherError::Unusable { path: file, why } => format!("{} {}", path(file), header(*why)),
        GatherError::NoVolumes { places, unfinished } => {
            let places: Vec<String> = places.iter().map(|place| path(place)).collect();
            let next = match unfinished.as_slice() {
                [] => "Name a volume, the folder it is in, or a message that it is attached to.".to_owned(),
                some => packing_at_work(some),
            };
            format!("There is no Under Seal volume in {}. {next}", first_few(&places))
        }
        GatherError::SeveralSets(found) => {
            format!(
                "Volumes of {} archives are here: {}. Name one volume of the one you want.",
                found.len(),
                sets(found)
            )
        }
        GatherError::Incomplete { missing, count, unrecognised, spares, shortfalls } => {
            incomplete(missing, *count, unrecognised, (*spares, shortfalls))
        }
        GatherError::Interrupted(error) => interrupted(error, ""),
    }
}

fn incomplete(
    missing: &[u32],
    count: u32,
    unrecognised: &[PathBuf],
    (spares, shortfalls): (u32, &[Shortfall]),
) -> String {
    let (volumes, them) = if missing.len() == 1 { ("Volume", "it") } else { ("Volumes", "them") };
    let verb = if missing.len() == 1 { "is" } else { "are" };
    let damaged = match unrecognised {
        [] => String::new(),
        [only] => format!(" ({} may be it, but is too damaged to tell.)", path(only)),
        several => format!(" ({} files here are too damaged to tell which they are.)", several.len()),
    };
    if spares > 0 {
        return format!(
            "{volumes} {} of {count} {verb} missing, and {} {} too few to recreate {them}. With {} everything can be recreated. Put what \
             you have beside the others, or ask the sender.{damaged}",
            number_list(missing),
            text::count(spares.into(), "spare volume"),
            if spares == 1 { "is" } else { "are" },
            enough_of(shortfalls),
        );
    }
    format!(
        "{volumes} {} of {count} {verb} missing. Put {them} beside the others, under any name, or ask the sender for \
         {them}.{damaged}",
        number_list(missing)
    )
}

/// What an attempt at a password takes.
pub fn costly(cost: KeyCost) -> String {
    let memory = cost.memory_kib.div_ceil(MIB_IN_KIB);
    format!("{} MiB of memory and {} passes over it", grouped(memory.into()), grouped(cost.passes.into()))
}

fn header(why: HeaderError) -> String {
    match why {
        HeaderError::NotAVolume => format!(
            "is not an Under Seal volume, nor anything else that is read here: {}. Name one of the files that the sender sent.",
            read_here()
        ),
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
        HeaderError::UnpublishedDraft => {
            "was made by an unpublished draft of this format, which is not read any more. Open it with the program that made \
             it, and pack it again."
                .to_owned()
        }
        HeaderError::Inconsistent => {
            "has a header that contradicts itself: it was changed on purpose. Ask the sender for it again.".to_owned()
        }
    }
}

/// Why an archive cannot be read.
pub fn sealed(error: &SealedError) -> String {
    const TAMPERED: &str = "was changed on purpose after it was sealed";
    match error {
        SealedError::Head(HeadError::WrongPassword { with_key_file: false }) => {
            "Wrong password. The volumes' headers are undamaged; the password was given without a key file, and opens nothing alone: check the \
             spelling, capital letters and the keyboard's language. If the archive was sealed with a key file too, add --key-file."
                .to_owned()
        }
        SealedError::Head(HeadError::WrongPassword { with_key_file: true }) => {
            "Wrong password or key file. Both were given, and open nothing, neither together nor the password alone. The volumes' headers \
             are undamaged. Check the password's spelling, capital letters and the keyboard's language, and that the key file is the \
             sender's, with not a byte changed."
                .to_owned()
        }
        SealedError::Head(HeadError::OpenToAll) => OPEN_TO_ALL.to_owned(),
        SealedError::Head(HeadError::Tampered) => {
            format!(
                "The archive's key fits, but its head {TAMPERED}. Trust nothing in it; ask the sender for it again."
            )
        }
        SealedError::Head(HeadError::Costly(cost)) => format!(
            "Unlocking this archive would take {}, more than is done unasked: it may be \
             meant to harm. Nothing was unlocked. If you trust its sender and have that memory, add --allow-costly-key.",
            costly(*cost)
        ),
        SealedError::Head(HeadError::NoMemory(_)) => {
            "There is not enough memory to unlock the archive. Close other programs and try again.".to_owned()
        }
        SealedError::Codec(CodecError::Compressor) => TOO_LITTLE_MEMORY.to_owned(),
        SealedError::Stream(StreamError::Cell(error)) => cell(error),
        SealedError::Stream(StreamError::NotAuthentic { volume, path: file, offset }) => format!(
            "Volume {volume} ({}) {TAMPERED}, at byte {}. Trust nothing in it; ask the sender for it again.",
            path(file),
            grouped(*offset)
        ),
        SealedError::Record(RecordError::UnsafePath { path, why }) => format!(
            "The archive was refused: it holds an entry that could leave the folder it is extracted into, '{}' ({}). \
             Whoever sealed it may mean harm.",
            shown(path),
            no_path(*why)
        ),
        SealedError::WrongDigest(path) => {
            format!(
                "'{}' in the archive is not what was packed: its digest is wrong. Ask the sender to pack it again.",
                shown(path)
            )
        }
        SealedError::Interrupted(error) => interrupted(error, ""),
        error if error.needs_newer_version() => {
            "The archive needs a newer Under Seal than this one. Use that to open it.".to_owned()
        }
        _ => "The archive breaks the rules of its own format, although its seal is right. It was refused; ask the sender what it was \
              made with."
            .to_owned(),
    }
}

pub(super) fn cell(error: &CellError) -> String {
    match error {
        CellError::Missing(volume) => format!("Volume {volume} is missing. Put it beside the others, under any name."),
        CellError::Damaged { volume, path: file, offset } => format!(
            "Volume {volume} ({}) is damaged at byte {}. Ask the sender for this volume again.",
            path(file),
            grouped(*offset)
        ),
        CellError::BeyondSpares { volume, is_here } => format!(
            "Volume {volume} is {}, and the spare volumes do not make all of it good. \"under-seal check\" says how little is enough, and how \
             to ask the sender for it.",
            if *is_here { "damaged" } else { "missing" }
        ),
        CellError::Disputed(volume) => format!(
            "The spare volumes contradict each other on volume {volume}: somebody changed one of them on purpose. With the password it \
             shows which; without it, ask the sender for volume {volume} again."
        ),
        CellError::Interrupted(error) => interrupted(error, ""),
    }
}

fn landing(error: &LandingError) -> String {
    match error {
        LandingError::Clashes(paths) => {
            let paths: Vec<String> = paths.iter().map(|path| text::path(path)).collect();
            let (subject, them) = if paths.len() == 1 { ("This is", "it") } else { ("These are", "them") };
            format!(
                "{subject} there already: {}. Nothing was extracted. Choose another folder with --into, or say with --on-clash whether to keep or replace {them}.",
                first_few(&paths)
            )
        }
        LandingError::FoldersInTheWay(paths) => {
            let paths: Vec<String> = paths.iter().map(|path| text::path(path)).collect();
            let (subject, them) = if paths.len() == 1 { ("A folder is", "it") } else { ("Folders are", "them") };
            format!(
                "{subject} where a file or link goes: {}. Nothing was extracted. Move {them} away, or choose another folder with --into.",
                first_few(&paths)
            )
        }
        LandingError::UnsafeNames(paths) => {
            let paths: Vec<String> = paths.iter().map(|path| shown(path.as_bytes())).collect();
            let (cannot, them) = if paths.len() == 1 {
                ("This cannot have its name", "it")
            } else {
                ("These cannot have their names", "them")
            };
            format!(
                "{cannot} here: {}. Nothing was extracted. Choose a folder on another disk with --into, or have {them} called \
                 otherwise with --on-unsafe-name rename.",
                first_few(&paths)
            )
        }
        LandingError::Screened(why) => format!("The screening command says no: {why}."),
        LandingError::ChangedByScreen(entry) => {
            format!("The screening command changed '{}', or took it away.", shown(entry.as_bytes()))
        }
        LandingError::NoRoom { needed, free, destination } => format!(
            "There is not enough room in {}: {} are needed, {} are free. Nothing was extracted; make room, or choose \
             another folder with --into.",
            path(destination),
            bytes(*needed),
            bytes(*free)
        ),
        LandingError::Interrupted(error) => interrupted(error, "Nothing was extracted."),
    }
}

/// Why an extraction did not come to its end.
pub fn opening(error: &OpenError) -> String {
    match error {
        OpenError::Refused(error) => landing(error),
        OpenError::Unreadable(error) => archive(error),
        OpenError::Stopped(stopped) => self::stopped(stopped),
    }
}

/// Why something in a message was not looked for.
pub fn message_flaw(flaw: Flaw) -> &'static str {
    match flaw {
        Flaw::Cut => "it is cut off, so a part of what was attached may be missing",
        Flaw::TooDeep => "it has parts within parts too deep to follow",
        Flaw::UnknownEncoding => "a part has an encoding that is not known",
        Flaw::TooMany => "too much is attached; the rest was not looked at",
    }
}

/// Messages in which something was not looked for, the first few of them.
pub(super) fn flawed_messages(flawed: &[(PathBuf, FlawedMessage)]) -> String {
    let one = |(file, flawed): &(PathBuf, FlawedMessage)| {
        format!("{}, message {}: {}", path(file), flawed.message, message_flaw(flawed.flaw))
    };
    text::first_few(&flawed.iter().map(one).collect::<Vec<_>>())
}

/// Why an archive of whatever format cannot be read.
pub fn archive(error: &ArchiveError) -> String {
    match error {
        ArchiveError::Sealed(error) => sealed(error),
        ArchiveError::Zip(error) => zip(error),
        ArchiveError::Streamed(error) => streamed(error),
        ArchiveError::Iso(error) => disc_image(error),
        ArchiveError::OpenToAll => OPEN_TO_ALL.to_owned(),
        ArchiveError::Several => "These are several archives. Name one, or parts of one.".to_owned(),
        ArchiveError::NoKeyFile => "An archive of this format has no key file. Leave --key-file out.".to_owned(),
        ArchiveError::Interrupted(error) => interrupted(error, ""),
    }
}

/// What can be done with an archive that is whole up to some place.
const TAKE_OUT: &str = "Ask the sender for it again. Meanwhile open --salvage extracts what is whole before that.";

fn streamed(error: &StreamedError) -> String {
    match error {
        StreamedError::CutShort => format!("This archive is cut short: it ends in the middle. {TAKE_OUT}"),
        StreamedError::Header(at) => {
            format!("A header of this archive is damaged, {} in. {TAKE_OUT}", bytes(*at))
        }
        StreamedError::Malformed { what, at } => {
            format!("This archive is damaged ({what}), {} in. {TAKE_OUT}", bytes(*at))
        }
        StreamedError::TooMany => "This archive has more entries than are read here.".to_owned(),
        StreamedError::Changed => {
            "This archive changed while it was read. Try again when nobody works on it.".to_owned()
        }
        StreamedError::Damaged => {
            format!("What this is compressed with does not decompress: it is damaged or cut short. {TAKE_OUT}")
        }
        StreamedError::Interrupted(error) => interrupted(error, ""),
    }
}

fn disc_image(error: &IsoError) -> String {
    match error {
        IsoError::NoVolume => {
            "This disc image does not say where its files are. Ask the sender for it again.".to_owned()
        }
        IsoError::Malformed { what, at } => {
            format!("This disc image is damaged ({what}), {} in. Ask the sender for it again.", bytes(*at))
        }
        IsoError::FolderTwice(at) => format!(
            "In this disc image a folder lies in two places, or within itself, {} in. It is not opened: no honest disc image is made so, and harmful ones are.",
            bytes(*at)
        ),
        IsoError::TooMany => "This disc image has more entries than are read here.".to_owned(),
        IsoError::Expands => {
            "The files in this disc image come to many times its length. It is not opened: no honest disc image is made so, and harmful ones are."
                .to_owned()
        }
        IsoError::CutShort(at) => format!(
            "This disc image is cut short: a folder should be {} in, and nothing is there. Ask the sender for it again.",
            bytes(*at)
        ),
        IsoError::BeyondEnd { name } => format!(
            "This disc image is cut short: {} lies beyond its end. What is whole can be opened by its path.",
            shown(name)
        ),
        IsoError::Interrupted(error) => interrupted(error, ""),
    }
}

fn parts_missing(missing: &[u32], count: Option<u32>) -> String {
    let all = count.map(|count| format!(" of {count}")).unwrap_or_default();
    let which = match missing {
        [] => "The last part of the archive is missing".to_owned(),
        [one] => format!("Part {one}{all} of the archive is missing"),
        several => format!("Parts {}{all} of the archive are missing", number_list(several)),
    };
    format!("{which}. Put all parts into one folder, under the names that they were sent with.")
}

fn zip(error: &ZipError) -> String {
    match error {
        ZipError::NoEnd => {
            "This ZIP archive has no end: it was cut short on its way, or is only a part. Ask the sender for it again."
                .to_owned()
        }
        ZipError::TwoEnds => {
            "This ZIP archive has two ends, and programs would differ about what is in it. It is not opened.".to_owned()
        }
        ZipError::Malformed(what) => {
            format!("This ZIP archive is damaged ({what}). Ask the sender for it again.")
        }
        ZipError::LargeDirectory(length) => {
            format!("This ZIP archive's directory has {}, more than is read here.", bytes(*length))
        }
        ZipError::Parts { parts, given } => {
            format!("This ZIP archive is in {parts} parts, and {given} of them can be found. Put all into one folder.")
        }
        ZipError::MissingParts { missing, count } => parts_missing(missing, *count),
        ZipError::Contradiction { name, what } => format!(
            "This ZIP archive says two things about {} ({what}), and programs would differ about it. It is not opened.",
            shown(name)
        ),
        ZipError::Unsupported { name, what } => {
            format!("{} in this ZIP archive uses {what}, which is not read here.", shown(name))
        }
        ZipError::NeedsPassword => "A password is needed for this ZIP archive.".to_owned(),
        ZipError::WrongPassword => {
            "Wrong password. Check the spelling, capital letters and the keyboard's language.".to_owned()
        }
        ZipError::Damaged { name, what, or_password } => {
            let or = if *or_password { ", or the password is wrong after all" } else { "" };
            format!("{} in this ZIP archive is damaged: {what}{or}. Ask the sender for it again.", shown(name))
        }
        ZipError::Interrupted(error) => interrupted(error, ""),
    }
}

fn stopped(stopped: &Stopped) -> String {
    let why = match &stopped.why {
        StopReason::Archive(error) => archive(error),
        StopReason::Landing(LandingError::Interrupted(Interruption::File(error))) if error.is_taken() => {
            format!("{} appeared while this was being extracted, and was not touched.", path(&error.path))
        }
        StopReason::Landing(error) => landing(error),
    };
    let landed = &stopped.landed;
    let left = match (landed.files, stopped.removed) {
        (0, 0) => "No file was extracted; nothing half-written is left.".to_owned(),
        (0, removed) => format!(
            "{} had been extracted and removed again, so nothing is left that could pass for all of it. With --keep-complete \
             what is complete stays.",
            text::count(removed, "file")
        ),
        (files, _) => {
            let replaced = if landed.replaced > 0 { ", some of them in the place of others," } else { "" };
            format!(
                "{}{replaced} had landed in {} before, complete and verified; nothing half-written is left.",
                text::count(files, "file"),
                path(&stopped.destination)
            )
        }
    };
    let salvage = match &stopped.why {
        StopReason::Archive(ArchiveError::Sealed(SealedError::Stream(StreamError::Cell(error)))) => {
            matches!(error, CellError::Missing(_) | CellError::Damaged { .. } | CellError::BeyondSpares { .. })
        }
        StopReason::Archive(ArchiveError::Zip(ZipError::Damaged { .. })) => true,
        StopReason::Archive(ArchiveError::Iso(IsoError::BeyondEnd { .. })) => true,
        _ => false,
    };
    let advice = if salvage { " --salvage extracts what is whole." } else { "" };
    format!("{why} {left}{advice}")
}
