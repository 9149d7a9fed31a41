//! What is said of archives of each format: what it does not do for whoever relies on it, what a check of it proves, and how it is
//! opened. It is chosen by what the format can do, never by its name.

use serde::Serializer;
use under_seal_core::formats::abilities::Checks;
use under_seal_core::formats::archive::Archive;
use under_seal_core::formats::reader::{Encryption, Facts};
use under_seal_core::formats::registry::{ALL, Format};
use under_seal_core::formats::spot::Spot;
use under_seal_core::tasks::handover::Package;
use under_seal_core::tasks::page::PAGE_NAME;

/// A format in JSON is its name.
pub fn as_name<S: Serializer>(format: &Format, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_str(format.name)
}

/// What is said of a page around a volume that is not the one that this program writes.
pub const NOT_OWN_PAGE: &str = "its text is not this program's page: it is another version's, or somebody changed it";

/// What is said of an archive without a password, whenever it is made, checked or opened.
pub const NOT_SECRET: &str = "This archive is not secret: it has no password, and whoever has the volumes can open it.";

const DISC_NOTE: &str = "Nothing in it is encrypted, and a disc image has no checksums: nothing shows whether contents are as \
                         they were, or genuine.";

const OTHER_SYSTEM_NOTE: &str =
    "It has a second file system (UDF), which is not read here: some discs have other files there.";

const SHORT_NOTE: &str =
    "The image ends before it says it does: it was cut short. What check finds no fault with is whole all the same.";

const NO_END_NOTE: &str = "The archive has no mark of its end: it may have been cut short, and more may have been in it. Compare with \
                          what the sender says is in it.";

const STREAMED_NOTE: &str = "Nothing in it is encrypted, and contents have no checksum but that of the compression around them, if \
                             there is one: it finds accidents, and nothing shows whether it is genuine.";

const COVERED_NOTE: &str =
    "Everything in it is encrypted with AES, names, sizes and dates too; how long it is in all shows.";

const OLD_CIPHER_NOTE: &str =
    "Some of it is under ZIP's old cipher, which withstands nobody: take it for readable by anyone.";

const AES_NOTE: &str = "Contents are encrypted with AES; names, sizes and dates are not hidden, nor proven genuine.";

const PLAIN_NOTE: &str =
    "Nothing in it is encrypted. Checksums find accidents, and nothing shows whether it is genuine.";

const PARTLY_PLAIN_NOTE: &str =
    "Some of it is not encrypted. Checksums find accidents there, and nothing shows whether it is genuine.";

/// What an archive does not do for whoever relies on it.
pub fn notes(archive: &Archive, facts: &Facts) -> Vec<&'static str> {
    let when = |is: bool, note| is.then_some(note);
    let has = |encryption| facts.encryptions.contains(&encryption);
    let notes = match archive.format.abilities.checks {
        Checks::Authentic => vec![when(!archive.is_secret(), NOT_SECRET)],
        Checks::Checksums if facts.hides_names => vec![Some(COVERED_NOTE)],
        Checks::Checksums => vec![
            when(has(Encryption::Old), OLD_CIPHER_NOTE),
            when(has(Encryption::Aes), AES_NOTE),
            match facts.encryptions == [Encryption::None] {
                true => Some(PLAIN_NOTE),
                false => when(has(Encryption::None), PARTLY_PLAIN_NOTE),
            },
        ],
        Checks::Places => {
            vec![Some(DISC_NOTE), when(facts.has_other_system, OTHER_SYSTEM_NOTE), when(facts.is_short, SHORT_NOTE)]
        }
        Checks::HeaderSums | Checks::Compression => {
            vec![when(facts.may_lack_the_end, NO_END_NOTE), Some(STREAMED_NOTE)]
        }
    };
    notes.into_iter().flatten().collect()
}

/// What is read beside sealed volumes.
pub fn read_here() -> String {
    let open = ALL.into_iter().filter(|format| format.reading.is_some());
    open.map(|format| format!("{}s", format.title)).collect::<Vec<_>>().join(", ")
}

/// How much it proves of an archive that every checksum is right.
pub fn proof(format: &Format, facts: &Facts) -> &'static str {
    match format.abilities.checks {
        Checks::Checksums if facts.hides_names => {
            "The authentication code over all of it is right: whoever made it knew the password, and nothing \
             was changed, left out or added since."
        }
        Checks::Checksums if facts.encryptions == [Encryption::Aes] => {
            "Every authentication code is right: whoever made it knew the password. Nothing shows whether entries were left out."
        }
        Checks::Authentic | Checks::Checksums => {
            "That finds accidents. Whoever changed something on purpose could make the checksums right again."
        }
        Checks::Places => {
            "That shows only that it is not cut short: there is no checksum that could find a changed byte."
        }
        Checks::HeaderSums => {
            "That finds accidents in headers, and, where it is compressed, what the compression's own checksum finds."
        }
        Checks::Compression => "Accidents are found only where it is compressed, by the compression's own checksum.",
    }
}

/// What reading the list of contents has already shown.
pub const fn structure(format: &Format) -> Option<&'static str> {
    match format.abilities.checks {
        Checks::Checksums => {
            Some("  headers   the directory and every entry's own header say the same, and no two entries share bytes")
        }
        Checks::Places => Some("  folders   every folder and file lies where the image says, and within it"),
        Checks::HeaderSums => Some("  headers   every header's sum is right, and the archive has its end"),
        Checks::Authentic | Checks::Compression => None,
    }
}

/// Whether contents are compared with something of their own when they are read.
pub const fn verifies_contents(format: &Format) -> bool {
    matches!(format.abilities.checks, Checks::Authentic | Checks::Checksums)
}

/// How a recipient opens it: in one sentence for whoever has Under Seal, and, of an open format, in a few for whoever has never heard
/// of it.
pub fn how_to_open(package: &Package, page: bool, several: bool) -> String {
    let all = if several { " --all" } else { "" };
    let archive = match package {
        Package::Volumes { set, .. } if set.is_in_page() => {
            return "Open it in your browser, or run under-seal open . --into opened in its folder.".to_owned();
        }
        Package::Volumes { .. } if page => {
            return format!(
                "Open {PAGE_NAME} in your browser and choose the other files in it, or run under-seal open .{all} --into opened in \
                 their folder."
            );
        }
        Package::Volumes { .. } => return format!("Run under-seal open .{all} --into opened in their folder."),
        Package::Archive(archive) => archive,
    };
    let parts = archive.spots();
    let name = parts.last().map(Spot::name).unwrap_or_default().to_string_lossy().into_owned();
    let aes = if archive.is_secret() { "; it must know AES-256 in ZIP" } else { "" };
    let title = archive.format.title;
    let with = match archive.format.abilities.checks {
        _ if parts.len() > 1 => format!("with a program that knows {title}s in parts{aes}"),
        Checks::Places => "with a program for disc images, or put it onto a disc".to_owned(),
        _ => format!("with the program that you have for {title}s{aes}"),
    };
    let then = if archive.facts().hides_names {
        " Then open contents.zip, which comes out of it, in the same way."
    } else {
        ""
    };
    format!("Open {name} {with}.{then} The program Under Seal opens it in one step.")
}
