//! Checking an archive of an open format: what it says of itself, and every checksum that there is.

use super::super::show;
use crate::archives::{Given, Loaded, NotExtracted, Wanted, archive_failure, not_extracted_lines};
use crate::args::CheckArguments;
use crate::credentials;
use crate::failure::{DAMAGED, DONE, Failure, LOOK};
use crate::session;
use crate::ui::paint::{Tone, paint};
use crate::ui::progress::ProgressLine;
use crate::ui::suggestion;
use crate::ui::text::{self, bytes, contents, count, shown};
use serde::Serialize;
use std::path::PathBuf;
use under_seal_core::formats::archive::Archive;
use under_seal_core::formats::zip::Encryption;
use under_seal_core::ground::entry::Totals;

use under_seal_core::tasks::check::{self, damaged_contents};

/// Checks it; the exit code.
pub(super) fn run(given: Given, arguments: &CheckArguments) -> Result<u8, Failure> {
    let has_password = credentials::is_given(&arguments.unlock) || arguments.ask_password;
    let wanted = if has_password { Wanted::Content } else { Wanted::Outside };
    let mut loaded = given.load(&arguments.unlock, wanted, &arguments.work)?;
    if arguments.ask_password && !arguments.unlock.accept_no_password {
        loaded.archive.refuse_if_open_to_all().map_err(archive_failure)?;
    }
    let progress = ProgressLine::for_reading(None, &arguments.work);
    let context = session::context(&progress, arguments.work.threads);
    let read = has_password || !loaded.secret;
    let damaged =
        if read { damaged_contents(&mut loaded.archive, &context).map_err(archive_failure)? } else { Vec::new() };
    drop(progress);
    let report = Report::new(&loaded, read, &damaged, arguments.places.clone());
    show(&report, &arguments.work, || lines(&report))?;
    Ok(report.exit_code)
}

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    archive: String,
    format: &'static str,
    parts: Vec<String>,
    secret: bool,
    hides_names: bool,
    contents_read: bool,
    files: u64,
    folders: u64,
    links: u64,
    bytes: u64,
    damaged: Vec<DamagedEntry>,
    not_extracted: Vec<NotExtracted>,
    notes: Vec<&'static str>,
    #[serde(skip)]
    typed: Vec<PathBuf>,
    #[serde(skip)]
    proof: &'static str,
}

#[derive(Serialize)]
struct DamagedEntry {
    path: String,
    what: &'static str,
}

impl Report {
    fn new(loaded: &Loaded, contents_read: bool, damaged: &[check::DamagedEntry], typed: Vec<PathBuf>) -> Self {
        let Totals { files, folders, links, content_bytes } = loaded.archive.totals();
        let not_extracted = loaded.not_extracted();
        let paths = loaded.archive.paths();
        Self {
            command: "check",
            exit_code: match () {
                () if !damaged.is_empty() => DAMAGED,
                () if !not_extracted.is_empty() || loaded.archive.may_lack_the_end() => LOOK,
                () => DONE,
            },
            archive: shown(&loaded.name),
            format: loaded.archive.format(),
            parts: paths.iter().map(|path| text::path(path)).collect(),
            secret: loaded.secret,
            hides_names: loaded.archive.hides_names(),
            contents_read,
            files,
            folders,
            links,
            bytes: content_bytes,
            damaged: damaged.iter().map(|entry| DamagedEntry { path: shown(&entry.name), what: entry.what }).collect(),
            not_extracted,
            notes: loaded.notes.clone(),
            typed,
            proof: proof(&loaded.archive),
        }
    }
}

fn kind_of(format: &str) -> &'static str {
    match format {
        "zip" => "a ZIP archive",
        "tar" => "a tar archive",
        "disc image" => "a disc image",
        _ => "a compressed file",
    }
}

/// How much it proves that every checksum is right.
fn proof(archive: &Archive) -> &'static str {
    let archive = match archive {
        Archive::Zip(archive) => archive,
        Archive::DiscImage(_) => return DISC_PROOF,
        _ => return TAR_PROOF,
    };
    if archive.hides_names() {
        return COVERED_PROOF;
    }
    match archive.encryptions().as_slice() {
        [Encryption::Aes] => {
            "Every authentication code is right: whoever made it knew the password. Nothing shows whether entries were left out."
        }
        _ => "That finds accidents. Whoever changed something on purpose could make the checksums right again.",
    }
}

/// Under a cover one code is over everything.
const COVERED_PROOF: &str = "The authentication code over all of it is right: whoever made it knew the password, and nothing \
                             was changed, left out or added since.";

/// Disc images have no sums at all.
const DISC_PROOF: &str =
    "That shows only that it is not cut short: there is no checksum that could find a changed byte.";

/// Tar has sums of headers only; what compression keeps for itself it compares too.
const TAR_PROOF: &str =
    "That finds accidents in headers, and, where it is compressed, what the compression's own checksum finds.";

fn lines(report: &Report) -> Vec<String> {
    let parts = if report.parts.len() == 1 { String::new() } else { format!(" in {} parts", report.parts.len()) };
    let mut lines =
        vec![paint(Tone::Strong, format!("{}: {}{parts}", report.archive, kind_of(report.format))), String::new()];
    let what = contents(report.files, report.folders, report.links);
    lines.push(match report.hides_names && !report.contents_read {
        true => format!("  holds     {} that are hidden, names and number of files too", bytes(report.bytes)),
        false => format!("  holds     {what}, {}", bytes(report.bytes)),
    });
    match report.format {
        "zip" => lines.push(
            "  headers   the directory and every entry's own header say the same, and no two entries share bytes"
                .to_owned(),
        ),
        "disc image" => {
            lines.push("  folders   every folder and file lies where the image says, and within it".to_owned())
        }
        "tar" => lines.push("  headers   every header's sum is right, and the archive has its end".to_owned()),
        _ => {}
    }
    lines.push(match report.contents_read {
        true if report.format == "zip" => {
            "  contents  every entry was read to its end, and its length and checksum compared".to_owned()
        }
        true => "  contents  every entry was read to its end".to_owned(),
        false => "  contents  not read: they need the password".to_owned(),
    });
    if !report.damaged.is_empty() {
        lines.extend([String::new(), paint(Tone::Bad, "Damaged:")]);
        lines.extend(report.damaged.iter().map(|entry| format!("  {}: {}", entry.path, entry.what)));
    }
    lines.extend(not_extracted_lines(&report.not_extracted));
    lines.push(String::new());
    let open = suggestion::open(report.typed.iter().map(PathBuf::as_path), None);
    match (report.damaged.len() as u64, report.contents_read) {
        (0, true) => {
            let sums = if report.format == "zip" { ", and every checksum is right" } else { "" };
            lines.push(paint(Tone::Good, format!("Everything in it can be read{sums}.")));
            lines.push(report.proof.to_owned());
            lines.extend(["Next: open it with".to_owned(), open]);
        }
        (0, false) => {
            lines.push(paint(Tone::Good, "What can be read without the password is right."));
            lines.extend(["Next: add --ask-password to read the contents too, or open it with".to_owned(), open]);
        }
        (damaged, _) => {
            lines.push(paint(Tone::Bad, format!("{} of it cannot be had whole.", count(damaged, "file"))));
            lines.push("Next: ask the sender for it again. What is whole can be opened by its path.".to_owned());
        }
    }
    lines.push(String::new());
    lines.extend(report.notes.iter().map(|note| paint(Tone::Look, note)));
    lines
}
