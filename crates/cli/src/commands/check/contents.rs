//! Checking an archive of an open format: what it says of itself, and every checksum that there is.

use super::super::show;
use crate::archives::{Given, NotExtracted, not_extracted, not_extracted_lines};
use crate::args::CheckArguments;
use crate::credentials::{self, Wanted};
use crate::failure::{DAMAGED, DONE, Failure, LOOK};
use crate::session;
use crate::ui::paint::{Tone, paint};
use crate::ui::progress::ProgressLine;
use crate::ui::section::listed;
use crate::ui::suggestion;
use crate::ui::text::{self, contents, count, shown, size};
use crate::words::{as_name, notes, proof, structure, verifies_contents};
use serde::Serialize;
use std::path::PathBuf;
use under_seal_core::formats::archive::Archive;
use under_seal_core::formats::registry::Format;
use under_seal_core::ground::entry::Totals;

use under_seal_core::tasks::check::{self, damaged_contents};

/// Checks it; the exit code.
pub(super) fn run(file: Given, arguments: &CheckArguments) -> Result<u8, Failure> {
    let has_password = credentials::is_given(&arguments.unlock) || arguments.ask_password;
    let wanted = if has_password { Wanted::Content } else { Wanted::Outside };
    let mut archive = file.load(&arguments.unlock, wanted, &arguments.work)?;
    if arguments.ask_password && !arguments.unlock.accept_no_password {
        archive.refuse_if_open_to_all()?;
    }
    let progress = ProgressLine::for_reading(None, &arguments.work);
    let context = session::context(&progress, arguments.work.threads);
    let read = has_password || !archive.is_secret();
    let damaged = if read { damaged_contents(&mut archive, &context)? } else { Vec::new() };
    drop(progress);
    let report = Report::new(&archive, read, &damaged, arguments.places());
    show(&report, &arguments.work, || lines(&report))?;
    Ok(report.exit_code)
}

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    archive: String,
    #[serde(serialize_with = "as_name")]
    format: &'static Format,
    parts: Vec<String>,
    secret: bool,
    hides_names: bool,
    contents_read: bool,
    files: u64,
    folders: u64,
    links: u64,
    bytes: u64,
    #[serde(rename = "damaged_entries")]
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
    fn new(archive: &Archive, contents_read: bool, damaged: &[check::DamagedEntry], typed: Vec<PathBuf>) -> Self {
        let Totals { files, folders, links, content_bytes } = archive.totals();
        let (facts, not_extracted, paths) = (archive.facts(), not_extracted(archive), archive.paths());
        Self {
            command: "check",
            exit_code: match () {
                () if !damaged.is_empty() => DAMAGED,
                () if !not_extracted.is_empty() || facts.may_lack_the_end => LOOK,
                () => DONE,
            },
            archive: shown(&archive.name()),
            format: archive.format,
            parts: paths.iter().map(|path| text::path(path)).collect(),
            secret: archive.is_secret(),
            hides_names: facts.hides_names,
            contents_read,
            files,
            folders,
            links,
            bytes: content_bytes,
            damaged: damaged.iter().map(|entry| DamagedEntry { path: shown(&entry.name), what: entry.what }).collect(),
            not_extracted,
            notes: notes(archive, &facts),
            typed,
            proof: proof(archive.format, &facts),
        }
    }
}

fn lines(report: &Report) -> Vec<String> {
    let parts = if report.parts.len() == 1 { String::new() } else { format!(" in {} parts", report.parts.len()) };
    let mut lines =
        vec![paint(Tone::Strong, format!("{}: a {}{parts}", report.archive, report.format.title)), String::new()];
    let what = contents(report.files, report.folders, report.links);
    lines.push(match report.hides_names && !report.contents_read {
        true => format!("  holds     {} that are hidden, names and number of files too", size(report.bytes)),
        false => format!("  holds     {what}, {}", size(report.bytes)),
    });
    lines.extend(structure(report.format).map(str::to_owned));
    lines.push(match report.contents_read {
        true if verifies_contents(report.format) => {
            "  contents  every entry was read to its end, and its length and checksum compared".to_owned()
        }
        true => "  contents  every entry was read to its end".to_owned(),
        false => "  contents  not read: they need the password".to_owned(),
    });
    let damaged = |entry: &DamagedEntry| format!("{}: {}", entry.path, entry.what);
    lines.extend(listed(Tone::Bad, "Damaged:", &report.damaged.iter().map(damaged).collect::<Vec<_>>()));
    lines.extend(not_extracted_lines(&report.not_extracted));
    lines.push(String::new());
    let open = suggestion::open_aside(report.typed.iter().map(PathBuf::as_path), None);
    match (report.damaged.len() as u64, report.contents_read) {
        (0, true) => {
            let sums = if verifies_contents(report.format) { ", and every checksum is right" } else { "" };
            lines.push(paint(Tone::Good, format!("Everything in it can be read{sums}.")));
            lines.push(report.proof.to_owned());
            lines.extend(["Next: open it with".to_owned(), open]);
        }
        (0, false) => {
            lines.push(paint(Tone::Good, "What can be read without the password is right."));
            lines.extend(["Next: add --ask-password to read the contents too, or open it with".to_owned(), open]);
        }
        (damaged, _) => {
            lines.push(paint(
                Tone::Bad,
                format!("{} in it {} damaged.", count(damaged, "file"), if damaged == 1 { "is" } else { "are" }),
            ));
            lines.push(
                "Next: ask the sender for it again. Files that are whole can be extracted by their path.".to_owned(),
            );
        }
    }
    lines.push(String::new());
    lines.extend(report.notes.iter().map(|note| paint(Tone::Look, note)));
    lines
}
