//! One page on an archive of an open format.

use super::{LARGEST, Largest, largest};
use crate::archives::{Loaded, NotExtracted, not_extracted_lines};
use crate::failure::{DONE, LOOK};
use crate::ui::paint::{Tone, paint};
use crate::ui::table;
use crate::ui::text::{self, bytes, contents, count, shown, shown_lines};
use serde::Serialize;
use under_seal_core::codecs::stream::Wrapping;
use under_seal_core::formats::archive::Archive;
use under_seal_core::formats::reader::ArchiveReader as _;
use under_seal_core::formats::zip::Encryption;

/// The JSON object (docs/json.md).
#[derive(Serialize)]
pub(super) struct Report {
    command: &'static str,
    pub exit_code: u8,
    archive: String,
    format: &'static str,
    parts: Vec<String>,
    bytes_in_front: u64,
    secret: bool,
    hides_names: bool,
    encryption: Vec<&'static str>,
    methods: Vec<&'static str>,
    files: u64,
    folders: u64,
    links: u64,
    before_bytes: u64,
    after_bytes: u64,
    largest: Vec<Largest>,
    label: String,
    message: String,
    not_extracted: Vec<NotExtracted>,
    notes: Vec<&'static str>,
}

impl Report {
    pub fn new(loaded: &Loaded) -> Self {
        let (archive, totals, paths) = (&loaded.archive, loaded.archive.totals(), loaded.archive.paths());
        let (bytes_in_front, encryption, methods) = match archive {
            Archive::Zip(archive) => {
                let encryption = archive.encryptions().into_iter().map(encryption).collect();
                (archive.bytes_in_front(), encryption, archive.methods())
            }
            Archive::Tar(archive) => (0, vec!["none"], wrapping(archive.file().wrapping)),
            Archive::DiscImage(archive) => (0, vec!["none"], archive.naming().into_iter().collect()),
            Archive::Lone(archive) => (0, vec!["none"], wrapping(archive.file().wrapping)),
            Archive::Sealed(_) => (0, Vec::new(), Vec::new()),
        };
        let lengths = paths.iter().filter_map(|path| path.metadata().ok());
        Self {
            command: "about",
            exit_code: if archive.refused().is_empty() { DONE } else { LOOK },
            archive: shown(&loaded.name),
            format: loaded.archive.format(),
            parts: paths.iter().map(|path| text::path(path)).collect(),
            bytes_in_front,
            secret: loaded.secret,
            hides_names: loaded.archive.hides_names(),
            encryption,
            methods,
            files: totals.files,
            folders: totals.folders,
            links: totals.links,
            before_bytes: totals.content_bytes,
            after_bytes: lengths.map(|metadata| metadata.len()).sum(),
            largest: largest(archive.entries(), LARGEST),
            label: label(archive),
            message: loaded.archive.message(),
            not_extracted: loaded.not_extracted(),
            notes: loaded.notes.clone(),
        }
    }
}

/// What a disc is called.
fn label(archive: &Archive) -> String {
    match archive {
        Archive::DiscImage(archive) => shown(archive.label()),
        _ => String::new(),
    }
}

fn wrapping(wrapping: Wrapping) -> Vec<&'static str> {
    [wrapping.name()].into_iter().filter(|name| !name.is_empty()).collect()
}

/// What people call a format.
pub(in super::super) fn format_name(format: &str) -> &str {
    if format == "zip" { "ZIP" } else { format }
}

const fn encryption(encryption: Encryption) -> &'static str {
    match encryption {
        Encryption::None => "none",
        Encryption::Old => "old cipher",
        Encryption::Aes => "AES",
    }
}

fn hidden(report: &Report) -> &'static str {
    match (report.secret, report.hides_names) {
        (true, true) => "contents, names, sizes and dates",
        (true, false) => "contents alone",
        (false, _) => "nothing",
    }
}

fn format_of(report: &Report) -> String {
    let format = format_name(report.format);
    if report.methods.is_empty() { format.to_owned() } else { format!("{format} ({})", report.methods.join(", ")) }
}

pub(super) fn lines(report: &Report) -> Vec<String> {
    let saved = 100.0 - 100.0 * report.after_bytes as f64 / report.before_bytes.max(1) as f64;
    let in_front =
        (report.bytes_in_front > 0).then(|| format!("{} stand in front of it", bytes(report.bytes_in_front)));
    let files = match report.parts.as_slice() {
        [one] => one.clone(),
        several => format!("{}, the last of them {}", count(several.len() as u64, "part"), several[several.len() - 1]),
    };
    let mut lines = vec![paint(Tone::Strong, &report.archive), String::new()];
    let label = (!report.label.is_empty()).then(|| ("label", vec![report.label.clone()]));
    let rows = [
        ("format", vec![format_of(report)]),
        ("where", [files].into_iter().chain(in_front).collect()),
        ("locked", vec![report.encryption.join(", ")]),
        ("hidden", vec![hidden(report).to_owned()]),
        (
            "holds",
            vec![format!("{} in {}", bytes(report.before_bytes), contents(report.files, report.folders, report.links))],
        ),
        ("packed", vec![format!("{}; {:.1} % saved", bytes(report.after_bytes), saved.max(0.0))]),
        ("largest", report.largest.iter().map(Largest::line).collect()),
    ];
    lines.extend(table::summary(&label.into_iter().chain(rows).collect::<Vec<_>>()));
    if !report.message.is_empty() {
        lines.extend([String::new(), paint(Tone::Strong, "The sender says:")]);
        lines.extend(shown_lines(&report.message).iter().map(|line| format!("  {line}")));
    }
    lines.extend(not_extracted_lines(&report.not_extracted));
    lines.push(String::new());
    lines.extend(report.notes.iter().map(|note| paint(Tone::Look, note)));
    lines
}
