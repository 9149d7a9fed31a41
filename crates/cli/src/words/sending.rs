//! What can go wrong for a sender, in words.

use super::entries::no_path;
use super::receiving::archive;
use super::system::{interrupted, missing_path, system};
use crate::failure::BadValue;
use crate::settings::name::{FIELDS, NamePatternError};
use crate::ui::text::{self, bytes, duration, first_few, grouped, listed, path, shown};
use under_seal_core::disk::portability::{System, Trouble};
use under_seal_core::formats::sealed::volume::{SpareWish, SpareWishError};
use under_seal_core::ground::codes::CodeError;
use under_seal_core::ground::fit::FitError;
use under_seal_core::ground::passwords::{Guessing, Strength};
use under_seal_core::ground::size::SizeError;
use under_seal_core::source::{PassedOver, PassedOverReason, SourceError};
use under_seal_core::tasks::handover::note::FIELDS as NOTE_FIELDS;
use under_seal_core::tasks::handover::{DraftError, HandoverError, NoteError};
use under_seal_core::tasks::rehearse::carriers::{Carrier, LimitError};

/// What hides names.
pub(super) const HIDING_NEEDS_PASSWORD: &str =
    "Names are hidden by the password. Leave --no-password out, or --hide-names.";

/// Why a text is not a size; the option and the text stand in front.
fn size_error(text: &str, error: &SizeError) -> String {
    let number: String = text.trim().chars().take_while(|c| c.is_ascii_digit() || *c == '.').collect();
    match error {
        SizeError::TwoReadings { letter, decimal, binary } => format!(
            "{letter} can be read in two ways: write {number}{letter}B for {} or {number}{letter}iB for {}",
            bytes(*decimal),
            bytes(*binary)
        ),
        SizeError::UnknownUnit(unit) => {
            format!("'{}' is not a unit; use B, KB, MB, GB, TB, KiB, MiB, GiB or TiB", shown(unit.as_bytes()))
        }
        SizeError::NoNumber => "a size is a number and a unit, such as 300KB or 5MiB".to_owned(),
        SizeError::TooLarge => "the size is larger than any volume can be".to_owned(),
    }
}

/// Why a value is not taken: the value, the reason, and a good one.
pub fn bad_value(value: &BadValue) -> String {
    match value {
        BadValue::Fit { value, why: FitError::Size(error), .. } => {
            format!("'{}' is not a size: {}.", shown(value.as_bytes()), size_error(value, error))
        }
        BadValue::Fit { value, why: FitError::UnknownName(_), known } => format!(
            "No size is called '{}'. There are {}; or write a size such as 10MB.",
            shown(value.as_bytes()),
            listed(known)
        ),
        BadValue::Spares { value, why: SpareWishError::NoNumber } => format!(
            "'{}' is not a number of spare volumes. Write a count such as 2, or a percentage of the volumes such as 20%.",
            shown(value.as_bytes())
        ),
        BadValue::Spares { value, why: SpareWishError::TooMany } => format!(
            "'{}' is too many spare volumes: write at most {}, or at most 100%.",
            shown(value.as_bytes()),
            SpareWish::MAX_COUNT
        ),
        BadValue::Name(error) => name_pattern(error),
        BadValue::Pattern(error) => format!(
            "The pattern '{}' cannot be read: {}. A good one is '*.tmp' or 'survey/raw/'.",
            shown(error.pattern.as_bytes()),
            error.why
        ),
        BadValue::Profile { value, known } if known.is_empty() => format!(
            "There is no profile '{}': the configuration file has none. Write one under [profiles.{}].",
            shown(value.as_bytes()),
            shown(value.as_bytes())
        ),
        BadValue::Profile { value, known } => {
            format!("There is no profile '{}'. The configuration file has {}.", shown(value.as_bytes()), listed(known))
        }
        BadValue::LongForJson { limit } => {
            format!("The file is longer than {}, and is not put into a JSON object. Leave --json out.", text::size(*limit))
        }
        BadValue::Code(CodeError::Mistyped(group)) => {
            format!("Group {group} of the code is mistyped, or was heard wrong. Compare it once more.")
        }
        BadValue::Code(CodeError::Length) => {
            "The code is too short or too long: groups of five letters and digits are missing, or too many.".to_owned()
        }
        BadValue::Code(CodeError::Character(letter)) => {
            format!("'{}' does not occur in a code. Compare it once more.", letter.escape_debug())
        }
        BadValue::AllOfSome => {
            "--all opens every archive as a whole. Leave out what you want of it, or name one archive.".to_owned()
        }
        BadValue::NothingPiped => {
            "Standard input is a terminal, so nothing comes through it. Pipe something in, or name a file.".to_owned()
        }
        BadValue::ReadTwice => {
            "Standard input, or a descriptor, can be read only once, and two things are to come from it. Put one of them into a file.".to_owned()
        }
        BadValue::ListedLine { list, number, why } => {
            format!("Line {number} of the list {} {why}. Nothing was packed.", path(list))
        }
        BadValue::EmptyList => "The list names no paths, so there is nothing to pack.".to_owned(),
        BadValue::StreamOnceOnly => "What comes through standard input can be read only once, so it cannot be planned, divided into \
             parcels or compared with an older archive. Write it to a file first, and pack that."
            .to_owned(),
        BadValue::EntryName { value, error } => {
            format!("'{}' cannot be a path in an archive: {}.", shown(value.as_bytes()), no_path(*error))
        }
        BadValue::SeveralToOutput => {
            "Standard output takes one file, so leave out --fit and --parcels, or name a folder with --to.".to_owned()
        }
        BadValue::Piece(piece) => {
            format!("{} is no archive: it looks like one of several pieces of a file.", path(piece))
        }
        BadValue::PiecesOfFolder(folder) => {
            format!("{} is a folder, and `portion` cuts a file as it is.", path(folder))
        }
        BadValue::SalvageWithoutEnd => {
            "--watch waits until all is there, and then nothing is left to salvage. Add --for TIME: what is whole by then is extracted."
                .to_owned()
        }
        BadValue::OutputIsTerminal => {
            "An archive is not for a terminal. Redirect the output into a file or another program.".to_owned()
        }
        BadValue::SeveralToStream => "Several entries match, and one file is written as it is. Name one file, or add --as tar for a tar \
             archive of all of them."
            .to_owned(),
        BadValue::NoSlipIn(file) => format!(
            "No resend slip for this archive is written in {}. Ask the recipient for the code that \"under-seal check\" shows.",
            path(file)
        ),
        BadValue::Code(CodeError::Other) => "This is a code of another kind.".to_owned(),
        BadValue::NotInBrowser => {
            "The page opens sealed volumes only. Rehearse this without --in-browser.".to_owned()
        }
        BadValue::NoBrowser => {
            "No browser was found here that this program knows: Chromium, Chrome, Edge or Firefox. Name one with --browser \
             PROGRAM."
                .to_owned()
        }
        BadValue::PasswordAmongIt => {
            "The note with the password would be among what is handed over. Name a file elsewhere with --password-note.".to_owned()
        }
        BadValue::OtherReceipt => "This is the receipt of another archive. Name that one.".to_owned(),
        BadValue::SalvageOfSome => {
            "--salvage extracts everything that is whole, and takes no patterns. Leave one of them out.".to_owned()
        }
        BadValue::WayLimit { value, carrier, error: LimitError::AnotherWay } => {
            let (what, usual) = (carried_in(*carrier), carrier.usual_fit());
            format!("{what} cannot have {value} as its limit. Name a size, or a fit of that kind, such as {usual}.")
        }
        BadValue::WayLimit { carrier, error: LimitError::NoRoom { limit, overhead }, .. } => {
            let what = carried_in(*carrier);
            format!(
                "{what} of {} has no room for a volume: it needs up to {} itself. Name a larger limit.",
                bytes(*limit),
                bytes(*overhead)
            )
        }
        BadValue::HidingWithoutPassword => HIDING_NEEDS_PASSWORD.to_owned(),
        BadValue::NoOwnPlace => "The old volumes can be replaced only where they lie in one folder, each once and under the name that it was made \
                                 with. Name a place for the new ones with --to; the old ones stay then."
            .to_owned(),
        BadValue::IntoBase => "The changes would take the place of the archive that they build upon. Give them another name or folder with --to.".to_owned(),
        BadValue::NotOfChanges(what) => format!("This is an archive of changes, which cannot be {what}: it holds only what has changed since another. Pack all of it instead."),
        BadValue::WouldLose(what) => format!("In its own place the new archive would lose {what}. Name another place with --to; the old one stays then."),
        BadValue::OnlyRead(format) => {
            format!("It is a {}, which is read here and not written. Say with --as what it is to become.", format.title)
        }
        BadValue::OneNameForSeveral => {
            "Several archives cannot have one name. Name a folder with --to, ending in /.".to_owned()
        }
        BadValue::CutSo { volumes, volume_bytes, next } => {
            let volumes = text::count(u64::from(*volumes), "volume");
            let next = next.map_or_else(String::new, |next| {
                format!(
                    " Sealed cells stay whole, and the next fit that they fill is {}. With the password it can be packed anew for this one: \
                     add --as sealed.",
                    text::bytes(next)
                )
            });
            format!(
                "It is cut in this way already: {volumes} of {}. Nothing was written; a copy would be the same.{next}",
                text::bytes(*volume_bytes)
            )
        }
        BadValue::SamePasswordTwice => {
            "The same password is given twice. It opens the archive once as well: leave one out, or choose another. Nothing was written.".to_owned()
        }
        BadValue::OneToCut => {
            "Only one archive can be cut to another size at a time. Name one. With --as or --squeeze there may be several.".to_owned()
        }
        BadValue::NotRevised(why) => format!("This archive cannot be changed: {why}. Open it, change the files, and pack them again."),
        BadValue::OtherFormat(format) => format!(
            "The name says {}, and a revised archive keeps its format. Choose another name, or change the format with recast.",
            format.name
        ),
        BadValue::NoPasswordToTell => {
            "There is no password to write down: this archive is not encrypted. Leave --password-note out.".to_owned()
        }
        BadValue::SealedOnly => {
            "This command is for sealed volumes, and that is an archive of another format. It can be checked, listed, opened, \
             compared, rehearsed and handed over."
                .to_owned()
        }
        BadValue::PiecesWithoutFit => {
            "Nothing says how large a piece may be. Add --fit with a size such as 20MB, or a name (see fits).".to_owned()
        }
        BadValue::ParcelsWithoutFit => {
            "Parcels need a fit that says how large each may be. Add --fit, such as --fit mail-10.".to_owned()
        }
        BadValue::ParcelsWithSpares => {
            "Parcels cannot have spare volumes, since each is an archive of its own. Leave --parcels out, or add --spares 0."
                .to_owned()
        }
        BadValue::TwoNames => {
            "The archive is named twice, with --to and with --name. Give --to a folder (ending in /), or leave --name out."
                .to_owned()
        }
    }
}

/// Why a squeeze's name is not taken.
pub fn unknown_squeeze(value: &str) -> String {
    format!("there is no squeeze '{}'; use none, light, even, hard or utmost", shown(value.as_bytes()))
}

fn name_pattern(error: &NamePatternError) -> String {
    let fields = || listed(&FIELDS.map(|field| format!("{{{field}}}")));
    match error {
        NamePatternError::UnknownField { pattern, field } => {
            format!(
                "The name '{}' has an unknown field {{{}}}. There are {}.",
                shown(pattern.as_bytes()),
                shown(field.as_bytes()),
                fields()
            )
        }
        NamePatternError::Brace(pattern) => format!(
            "The name '{}' has a brace without its other one. A good one is '{{folder}}-{{date}}'.",
            shown(pattern.as_bytes())
        ),
        NamePatternError::NotAName(pattern) => format!(
            "'{}' makes no name for an archive: a name has no slash in it, and 1 to 200 bytes. A good one is \
             '{{folder}}-{{date}}'.",
            shown(pattern.as_bytes())
        ),
        NamePatternError::NoValue { pattern, field: "profile" } => format!(
            "The name '{}' has the recipient's profile in it, and none is chosen. Add --for PROFILE.",
            shown(pattern.as_bytes())
        ),
        NamePatternError::NoValue { pattern, .. } => format!(
            "The name '{}' has the source's name in it, and there is not just one. Write another name.",
            shown(pattern.as_bytes())
        ),
    }
}

/// What is said of a weak password, as the beginning of a question or of an error.
pub fn weak_password(strength: &Strength) -> String {
    let why = strength.why.as_ref().map(|why| format!(" {why}")).unwrap_or_default();
    let cheap = match strength.guessing {
        Guessing::Sealed => "",
        Guessing::Zip => {
            " In ZIP a try costs about a thousandth of what it costs in the sealed format, so the password must be stronger."
        }
    };
    format!(
        "This password is weak: it would be guessed within {} tries, which takes a thousand processors {}.{why}{cheap}",
        about_count(strength.guesses_log10),
        duration(strength.seconds_to_guess())
    )
}

/// A large number to glance at.
fn about_count(log10: f64) -> String {
    match log10 {
        few if few < 3.0 => grouped(10f64.powf(few).round() as u64),
        few if few < 6.0 => format!("{} thousand", (10f64.powf(few - 3.0)).round()),
        few if few < 9.0 => format!("{} million", (10f64.powf(few - 6.0)).round()),
        many => format!("{} billion", grouped(10f64.powf(many - 9.0).round() as u64)),
    }
}

/// What is wrong with a name on another system.
pub fn name_trouble(trouble: &Trouble) -> String {
    match trouble {
        Trouble::Reserved => "the name means a device".to_owned(),
        Trouble::ForbiddenCharacter(letter) => format!("no name may hold {}", shown(format!("'{letter}'").as_bytes())),
        Trouble::TrailingDotOrSpace => "a dot or space at the end is dropped".to_owned(),
        Trouble::LongPath(units) => format!("the path is long, {units} characters"),
        Trouble::LongName => "the name is too long".to_owned(),
        Trouble::NotUnicode => "the name is not Unicode".to_owned(),
        Trouble::DiffersInCase => "another name differs in capital letters only".to_owned(),
        Trouble::DiffersInForm => "another name differs only in how accents are written".to_owned(),
    }
}

/// What a system is called.
pub fn system_name(system: System) -> &'static str {
    match system {
        System::Windows => "Windows",
        System::MacOs => "macOS",
        System::Unix => "Linux",
    }
}

/// Why something was passed over, as the end of a sentence.
pub fn passed_over(reason: &PassedOverReason) -> String {
    match reason {
        PassedOverReason::Special => "a device, pipe or socket has no content to pack".to_owned(),
        PassedOverReason::Unreadable(error) => system(&error.source),
        PassedOverReason::Name(error) => format!("its name cannot be packed ({})", no_path(*error)),
        PassedOverReason::LongTarget => "the link's target is too long".to_owned(),
        PassedOverReason::Loop => "the link leads back to a folder above it".to_owned(),
    }
}

pub(super) fn unpackable(what: &PassedOver) -> String {
    format!("{} cannot be packed: {}.", path(&what.disk_path), passed_over(&what.reason))
}

/// Why what is on disk cannot be listed.
pub(super) fn source(error: &SourceError) -> String {
    match error {
        SourceError::Missing { path, similar } => missing_path(path, similar),
        SourceError::SameName { first, second } => format!(
            "{} and {} would have the same name inside the archive. Rename one, or add --keep-paths to keep the folders typed \
             before them.",
            path(first),
            path(second)
        ),
        SourceError::NoName(source) => {
            format!(
                "{} has no name that the archive could take. Name folders inside it, or add --contents.",
                path(source)
            )
        }
        SourceError::NoMatch(source) => {
            format!("{} matches nothing. Check the spelling, and the folder you are in.", path(source))
        }
        SourceError::Wildcard { wildcard, why } => format!(
            "{} cannot be read as a name with wildcards: {}. Put a backslash before what is meant as it stands.",
            path(wildcard),
            why
        ),
        SourceError::Pattern(error) => bad_value(&BadValue::Pattern(error.clone())),
        SourceError::NothingChosen => {
            "Nothing would be packed: everything is left out. Look at --leave-out and --only.".to_owned()
        }
        SourceError::NotText(names) => format!(
            "Nothing was packed: ZIP needs names that are text (UTF-8), and these are not: {}. Rename them, or pack with --as \
             sealed, which keeps them, or with --unsafe-names escape, which gives them other names.",
            first_few(&names.iter().map(|name| shown(name.as_bytes())).collect::<Vec<_>>())
        ),
        SourceError::Unpackable(what) => unpackable(what),
        SourceError::Interrupted(error) => interrupted(error, ""),
    }
}

/// What a carrier carries volumes in.
const fn carried_in(carrier: Carrier) -> &'static str {
    match carrier {
        Carrier::Mail => "A message",
        Carrier::Media => "A medium",
        Carrier::Upload => "A request",
    }
}

pub(super) fn handover(error: &HandoverError) -> String {
    match error {
        HandoverError::Taken(folder) => format!(
            "{} is there already, and nothing is mixed into it. Name another folder with --to.",
            path(folder)
        ),
        HandoverError::NotWhole { missing, damaged, made_good } => {
            let wrong = text::missing_and_damaged("volume", missing, damaged);
            let next = match made_good {
                true => "The spare volumes can recreate it: see \"under-seal help mend\"",
                false => "Pack it again",
            };
            format!("This cannot be handed over: {wrong}. {next}.")
        }
        HandoverError::DamagedEntries(names) => format!(
            "This cannot be handed over. These are damaged in it: {}. Pack it again.",
            first_few(&names.iter().map(|name| shown(name)).collect::<Vec<_>>())
        ),
        HandoverError::Archive(error) => archive(error),
        HandoverError::Note(error) => format!(
            "The note's template cannot be used: {}. The fields are {}.",
            match error {
                NoteError::UnknownField(field) => format!("there is no field {{{}}}", shown(field.as_bytes())),
                NoteError::OpenBrace => "it has a brace without its other one; one that is meant is written twice".to_owned(),
            },
            NOTE_FIELDS.map(|field| format!("{{{field}}}")).join(", ")
        ),
        HandoverError::Draft(DraftError::TooLarge { bytes: attached, limit }) => format!(
            "A message with {} attached does not stay within {}. Nothing was handed over.",
            bytes(*attached),
            bytes(*limit)
        ),
        HandoverError::Regather(_) | HandoverError::Differ => {
            "What was copied is not what was packed: the disk, or its cable, cannot be trusted. Nothing was handed over."
                .to_owned()
        }
        HandoverError::Interrupted(error) | HandoverError::Draft(DraftError::Interrupted(error)) => {
            interrupted(error, "Nothing was handed over.")
        }
    }
}
