//! The one place that turns an error into words: what happened, to which file, and what to do next.

mod entries;
mod formats;
mod keeping;
mod mending;
mod packing;
mod pieces;
mod receiving;
mod rehearsing;
mod sending;
mod system;
mod typing;

pub use entries::{OUTWARD_LINKS, all_but, not_landed, refused};
pub use formats::{NOT_OWN_PAGE, NOT_SECRET, as_name, how_to_open, notes, proof, structure, verifies_contents};
pub use keeping::not_kept;
pub use packing::{lacks, loss, mail_hint};
pub use receiving::{archive, costly, gather, message_flaw, one_set, opening, sealed};
pub use sending::{bad_value, name_trouble, passed_over, system_name, unknown_squeeze, weak_password};

pub use system::system;

use crate::failure::Failure;
use crate::ui::text::{self, grouped, path};
use std::io;
use std::path::Path;
use system::{file_error, interrupted};
use under_seal_core::Error;
use under_seal_core::formats::sealed::volume::{GatherError, Groups, Shortfall, VolumeSet};
use under_seal_core::ground::secrets::PasswordError;
use under_seal_core::ground::secrets::password::MAX_PASSWORD_BYTES;
use under_seal_core::tasks::check::collect::CollectError;
use under_seal_core::tasks::handover::dividing::Losses;
use under_seal_core::tasks::pack::TargetError;
use under_seal_core::tasks::plan::PlanError;
use under_seal_core::tasks::recast::converting::ConvertError;
use under_seal_core::tasks::resend::ResendError;
use under_seal_core::tasks::revise::ReviseError;

/// What happened and what to do.
pub fn explain(failure: &Failure) -> String {
    match failure {
        Failure::Core(error) => core(error),
        Failure::Mistyped(what) => typing::mistyped(what),
        Failure::PasswordFile { path: file, source } => {
            format!("The password file {} cannot be read: {}.", path(file), system(source))
        }
        Failure::PasswordFileTooLong(file) => {
            format!("{} is too long to be a password file. Name a file that holds the password alone.", path(file))
        }
        Failure::KeyFile { path: file, source } if source.kind() == io::ErrorKind::UnexpectedEof => {
            format!("The key file {} is empty, and everybody has such a one. Choose a file that nobody else has.", path(file))
        }
        Failure::KeyFile { path: file, source } => {
            format!("The key file {} cannot be read: {}.", path(file), system(source))
        }
        Failure::PassphraseFile { path: file, source } => {
            format!(
                "The passphrase cannot be written to {}: {}. Nothing was packed; name another file.",
                path(file),
                system(source)
            )
        }
        Failure::NowhereToShow => {
            "A made passphrase is shown on a terminal only, and there is none. Add --passphrase-to FILE.".to_owned()
        }
        Failure::WeakPassword(strength) => format!(
            "{} Nothing was written: choose a longer one, let one be made with --make-passphrase, or add --weak-ok.",
            weak_password(strength)
        ),
        Failure::TextFile { path: file, source } => format!("{} cannot be read: {}.", path(file), system(source)),
        Failure::LongMessage { length, limit } => format!(
            "The message has {} bytes, and an archive holds {}. Pack it as a file.",
            grouped(*length as u64),
            grouped(*limit as u64)
        ),
        Failure::Configuration { path: file, line, why } => {
            let line = line.map(|line| format!(", line {line}")).unwrap_or_default();
            let why = why.trim().trim_end_matches('.').replace('\n', " ");
            format!("The configuration file {}{line} cannot be used: {why}.", path(file))
        }
        Failure::Value(value) => bad_value(value),
        Failure::NothingInside { was_search: true, sought, alike } if alike.is_empty() => {
            format!("Nothing in the archive has '{sought}' in its name. See what is there with list.")
        }
        Failure::NothingInside { sought, alike, .. } if alike.is_empty() => {
            format!("Nothing in the archive is called '{sought}'. See what is there with list.")
        }
        Failure::NothingInside { sought, alike, .. } => {
            format!("Nothing in the archive is called '{sought}'. There is: {}.", alike.join(", "))
        }
        Failure::ForgedBeside(paths) => format!(
            "The password opens none of these volumes whose headers were tried, and the headers of {} contradict the others: somebody may \
             have put forged volumes beside yours, and not all of them are tried. Move them aside, and try again: {}.",
            text::count(paths.len() as u64, "file"),
            text::first_few(&paths.iter().map(|one| path(one)).collect::<Vec<_>>())
        ),
        Failure::TooManyLocked => {
            "It was not tried to unlock this: the password opens none of the archives before it, and each attempt takes time. Name the \
             archive that you mean."
                .to_owned()
        }
        Failure::NoBase { archive, made, folder } => format!(
            "Nothing was extracted: this holds only what has changed since {archive} of {made}, and nothing of that is in {folder} as it was packed. \
             Open {archive} there first, and whatever came after it in turn; or name the folder in which it was opened with --into. If it is there and \
             everything was changed since, add --accept-other-base."
        ),
        Failure::Outdated { archive, paths } => format!(
            "Nothing was extracted: {} would be replaced that {} here as {archive} left {}: {}. Add --update to have that done.",
            text::count(paths.len() as u64, "file"),
            if paths.len() == 1 { "is" } else { "are" },
            if paths.len() == 1 { "it" } else { "them" },
            text::first_few(paths)
        ),
        Failure::SeveralInside { sought, found } => {
            format!(
                "Several files in the archive are called '{sought}'. Name one by its path: {}.",
                text::first_few(found)
            )
        }
        Failure::Temporary(source) => {
            format!("There is no place for temporary files: {}. Free some room, or set TMPDIR.", system(source))
        }
        Failure::Viewer(source) => format!("The file cannot be shown: {}.", system(source)),
        Failure::SeveralToPeek => {
            "Only one file can be peeked at. Name its volume or folder, then its path inside.".to_owned()
        }
        Failure::NoText(path) => format!(
            "'{}' is not text, and could upset this terminal. Send it to a file or a program, or add --raw.",
            text::shown(path.as_bytes())
        ),
        Failure::PasswordVariable => {
            "The variable UNDER_SEAL_PASSWORD holds bytes that are not text. Set it again, or use --password-from."
                .to_owned()
        }
        Failure::MissingParcels { numbers, count } => format!(
            "Only {} of {count} parcels of this delivery are here. Missing: {}. Ask the sender for {}, or name one parcel by its file.",
            *count as usize - numbers.len(),
            text::number_list(numbers),
            if numbers.len() == 1 { "it" } else { "them" }
        ),
        Failure::NobodyToAsk { what, instead } => format!("{what}, and there is no terminal to ask on. {instead}"),
        Failure::PasswordsDiffer => "The two passwords are not the same. Nothing was done; try again.".to_owned(),
        Failure::GivenUp => system::CANCELLED.to_owned(),
        Failure::Prompt(source) => {
            format!("The password cannot be asked for: {}. Use --password-from FILE instead.", system(source))
        }
        Failure::Output(source) => format!("The result cannot be printed: {}.", system(source)),
        Failure::File(error) => file_error(error),
        Failure::OutOfMessages { why, flawed } => {
            format!("{} It was looked for in messages: {}.", explain(why), receiving::flawed_messages(flawed))
        }
        Failure::NotWhole { why, also, slip } => {
            let also = if also.is_empty() { String::new() } else { format!(" {also}.") };
            let salvage = match why.as_ref() {
                Failure::Core(Error::Gather(_)) => " Until then --salvage extracts what is whole.",
                _ => "",
            };
            let slip = match slip {
                Some(Some(slip)) => format!(" This resend slip asks the sender for exactly what is needed: {slip}."),
                Some(None) => " Check shows a resend slip, which asks the sender for exactly what is needed.".to_owned(),
                None => String::new(),
            };
            format!("{}{also}{slip}{salvage}", explain(why))
        }
        Failure::WithWayOut { why, sentence, command } => {
            let command = command.as_ref().map(|command| format!("\n{command}")).unwrap_or_default();
            format!("{} {sentence}{command}", explain(why))
        }
        // The options without "since" are those of the new archive.
        Failure::OfBase(why) => {
            let why = explain(why).replace("--key-file", "--since-key-file").replace("--password-from", "--since-password-from");
            format!("The archive that the changes are to build upon cannot be opened. {why}")
        }
        Failure::Demonstration(what) => format!("The demonstration did not go as told: {what}."),
    }
}

/// What went wrong, as the command of this name tells it: some take several archives at once.
pub fn explain_of(command: &str, failure: &Failure) -> String {
    let message = explain(failure);
    match failure {
        Failure::Core(Error::Gather(GatherError::SeveralSets(_))) if TAKE_ALL.contains(&command) => {
            format!("{message} Or add --all, which takes all of them.")
        }
        _ => message,
    }
}

/// Commands that take every archive of a place with `--all`.
const TAKE_ALL: [&str; 3] = ["open", "rehearse", "handover"];

/// What is said where the usual configuration file is not the user's to read.
pub fn unreadable_configuration(file: &Path) -> String {
    format!(
        "The configuration file {} may not be read, so none is used. To use another, add --config FILE.",
        path(file)
    )
}

/// What a file of a sealed archive is called.
pub fn volume_word(set: &VolumeSet) -> &'static str {
    if set.is_in_page() { "page" } else { "volume" }
}

/// What a file of an archive of another format is called, of which there are so many.
pub const fn part_word(files: u32) -> &'static str {
    if files == 1 { "file" } else { "part" }
}

/// How much of a set may be lost that has so many data and spare volumes.
pub fn survives(data_volumes: u32, spares: u32) -> String {
    let groups = Groups::of(data_volumes);
    let volumes = |number: u32| text::count(number.into(), "volume");
    match (groups.count(), groups.survives_any(spares)) {
        (1, number) => format!("any {} may be lost or damaged", volumes(number)),
        (groups, 0) => format!("one volume may be lost or damaged in {spares} of the {groups} groups of volumes"),
        (groups, any) => format!(
            "any {} may be lost or damaged, and up to {spares} if they are spread evenly over the {groups} groups of volumes",
            volumes(any)
        ),
    }
}

/// What losing messages, media or files comes to, which one and several are called so.
pub fn losses(losses: Losses, (one, several): (&str, &str)) -> String {
    match losses {
        Losses { any: 0, worst: Some((lost, spares)) } => format!(
            "losing any {one} can lose {}; there {} {} spare {}",
            text::count(lost as u64, "volume"),
            if spares == 1 { "is" } else { "are" },
            if spares == 0 { "no".to_owned() } else { spares.to_string() },
            if spares == 1 { "one" } else { "ones" },
        ),
        Losses { any: 1, .. } => format!("any {one} may be lost"),
        Losses { any, .. } => format!("any {any} {several} may be lost"),
    }
}

/// Volumes that are to be sent again, as few as are enough.
pub fn enough_of(shortfalls: &[Shortfall]) -> String {
    let of_group = |Shortfall { missing, needed }: &Shortfall| match (needed, missing.as_slice()) {
        (1, [only]) => format!("volume {only}"),
        (needed, all) if *needed == all.len() => format!("volumes {}", text::number_list(all)),
        (1, all) => format!("any one of volumes {}", text::number_list(all)),
        (needed, all) => format!("any {needed} of volumes {}", text::number_list(all)),
    };
    shortfalls.iter().map(of_group).collect::<Vec<_>>().join(", and ")
}

fn core(error: &Error) -> String {
    match error {
        Error::Target(TargetError::NeedsName) => {
            "The archive needs a name of its own, since there are several sources, or one without a name: add --to NAME, \
             or --to FOLDER/NAME."
                .to_owned()
        }
        Error::Target(TargetError::NotWritten(ending)) => format!(
            "Archives that end in {ending} are not written here. Let the name end in .useal, .zip, .tar, .tar.gz (.tgz) or .tar.zst, or \
             say the format with --as."
        ),
        Error::Password(error) => password_error(*error),
        Error::Source(error) => sending::source(error),
        Error::Parcels(error) => packing::parcels(error),
        Error::Pack(error) => packing::pack(error),
        Error::Interrupted(error) | Error::Plan(PlanError::Interrupted(error)) => interrupted(error, ""),
        Error::Plan(PlanError::NoRoom { needed, free, folder }) => format!(
            "There is not enough room in {}: at least {} are needed, {} are free. Nothing was written; make room, or choose another \
             place with --to.",
            text::path(folder),
            text::bytes(*needed),
            text::bytes(*free)
        ),
        Error::Plan(PlanError::Codec(_)) => format!("There is no plan. {}", system::TOO_LITTLE_MEMORY),
        Error::Recut(error) => keeping::recut(error),
        Error::Relock(error) => keeping::relock(error),
        Error::Revise(ReviseError(error)) | Error::Convert(ConvertError(error)) => keeping::remake(error),
        Error::Staging(error) => packing::staging(error),
        Error::Edit(error) => keeping::edit(error),
        Error::Rehearsal(error) => rehearsing::rehearsal(error),
        Error::Lacks(error) => lacks(error),
        Error::Archive(error) => archive(error),
        Error::Portion(error) => pieces::portion(error),
        Error::Pieces(error) => pieces::find(error),
        Error::Reunite(error) => pieces::reunite(error),
        Error::Handover(error) => sending::handover(error),
        Error::Mend(error) => mending::mend(error),
        Error::Resend(ResendError::OtherSet) => {
            "This slip is of another archive, or of this one cut otherwise. Name the volumes that were sent.".to_owned()
        }
        Error::Resend(ResendError::Differs) => {
            "What was written reads back differently, so nothing was kept of it. Try another disk.".to_owned()
        }
        Error::Resend(ResendError::Cell(error)) => receiving::cell(error),
        Error::Resend(ResendError::Interrupted(error)) => interrupted(error, ""),
        Error::Collect(CollectError::Gather(error)) | Error::Gather(error) => receiving::gather(error),
        Error::Collect(CollectError::Interrupted(error)) => interrupted(error, "What was copied stays."),
        Error::Sealed(error) => receiving::sealed(error),
        Error::Open(error) => receiving::opening(error),
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
        PasswordError::Undefined => {
            "The password contains a character that Unicode does not define, so other programs may read it otherwise. Leave \
             it out."
                .to_owned()
        }
        PasswordError::TooLong => format!("The password is longer than {} bytes.", grouped(MAX_PASSWORD_BYTES as u64)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn short(missing: &[u32], needed: usize) -> Shortfall {
        Shortfall { missing: missing.to_vec(), needed }
    }

    #[rstest]
    #[case::all(&[short(&[3], 1)], "volume 3")]
    #[case::all_of_several(&[short(&[3, 5], 2)], "volumes 3 and 5")]
    #[case::some(&[short(&[1, 4, 51], 1)], "any one of volumes 1, 4 and 51")]
    #[case::of_two_groups(&[short(&[1, 4, 51], 2), short(&[171], 1)], "any 2 of volumes 1, 4 and 51, and volume 171")]
    fn what_is_enough_is_told_by_groups(#[case] shortfalls: &[Shortfall], #[case] expected: &str) {
        assert_eq!(enough_of(shortfalls), expected);
    }
}
