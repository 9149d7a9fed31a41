//! `about`: one page on an archive.

mod open_format;

use super::show;
use crate::archives::{Wanted, given};
use crate::args::AboutArguments;
use crate::args::SqueezeName;
use crate::credentials::NOT_SECRET;
use crate::failure::{DONE, Failure};
use crate::ui::paint::{Tone, paint};
use crate::ui::table;
use crate::ui::text::{self, bytes, contents, grouped, shown, shown_lines};
use serde::Serialize;
use std::cmp::Reverse;
use under_seal_core::codecs::block::Squeeze;
use under_seal_core::formats::archive::Archive;
use under_seal_core::formats::sealed::{SealedReader, cost_of};
use under_seal_core::ground::entry::ListedEntry;

/// How many of the largest files are named.
const LARGEST: usize = 5;

/// Runs the command; the exit code.
pub fn run(arguments: &AboutArguments) -> Result<u8, Failure> {
    let loaded = given(&arguments.places, &arguments.work)?.load(&arguments.unlock, Wanted::List, &arguments.work)?;
    match &loaded.archive {
        Archive::Sealed(archive) => {
            let report = Report::new(archive, loaded.secret, arguments.unlock.password.key_file.is_some())?;
            show(&report, &arguments.work, || lines(&report))?;
            Ok(DONE)
        }
        _ => {
            let report = open_format::Report::new(&loaded);
            show(&report, &arguments.work, || open_format::lines(&report))?;
            Ok(report.exit_code)
        }
    }
}

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    archive: String,
    format: &'static str,
    version: u32,
    set: String,
    volumes: u32,
    missing: Vec<u32>,
    volume_bytes: u64,
    last_volume_bytes: u64,
    secret: bool,
    key_file: bool,
    memory_bytes: u64,
    passes: u32,
    made: String,
    squeeze: Option<String>,
    files: u64,
    folders: u64,
    links: u64,
    before_bytes: u64,
    after_bytes: u64,
    largest: Vec<Largest>,
    message: String,
}

#[derive(Serialize)]
struct Largest {
    path: String,
    bytes: u64,
}

impl Largest {
    fn line(&self) -> String {
        format!("{}  {}", self.path, bytes(self.bytes))
    }
}

/// The largest files, largest first.
fn largest(entries: &[ListedEntry], count: usize) -> Vec<Largest> {
    let mut files: Vec<&ListedEntry> = entries.iter().filter(|entry| entry.content.size > 0).collect();
    files.sort_by_key(|entry| Reverse(entry.content.size));
    let one = |entry: &&ListedEntry| Largest { path: shown(entry.entry.path.as_bytes()), bytes: entry.content.size };
    files.iter().take(count).map(one).collect()
}

impl Report {
    fn new(archive: &SealedReader, secret: bool, key_file: bool) -> Result<Self, Failure> {
        let (set, about, totals) = (archive.set(), archive.about(), archive.totals());
        let cost = cost_of(&set.head).map_err(under_seal_core::formats::sealed::SealedError::from)?;
        let geometry = set.geometry;
        let squeeze = about.squeeze.and_then(Squeeze::from_number);
        Ok(Self {
            command: "about",
            exit_code: DONE,
            archive: shown(&about.name),
            format: "sealed",
            version: under_seal_core::formats::sealed::volume::header::VERSION.into(),
            set: set.ids.set_text(),
            volumes: geometry.data_volumes,
            missing: set.missing(),
            volume_bytes: geometry.volume_bytes(1),
            last_volume_bytes: geometry.volume_bytes(geometry.data_volumes),
            secret,
            key_file: key_file && secret,
            memory_bytes: u64::from(cost.memory_kib) * 1024,
            passes: cost.passes,
            made: text::time(about.made_at),
            squeeze: squeeze.map(|squeeze| SqueezeName::from(squeeze).to_string()),
            files: totals.files,
            folders: totals.folders,
            links: totals.links,
            before_bytes: totals.content_bytes,
            after_bytes: (1..=geometry.data_volumes).map(|volume| geometry.volume_bytes(volume)).sum(),
            largest: largest(archive.entries(), LARGEST),
            message: about.message.clone(),
        })
    }

    fn locked(&self) -> Vec<String> {
        if !self.secret {
            return vec!["not at all: no password is needed".to_owned()];
        }
        let how = if self.key_file { "a password with a key file" } else { "a password" };
        vec![
            format!("by {how}; whether others open it too is not told"),
            format!(
                "an attempt takes {} of memory and {} (Argon2id)",
                bytes(self.memory_bytes),
                if self.passes == 1 { "1 pass".to_owned() } else { format!("{} passes", self.passes) }
            ),
        ]
    }
}

fn lines(report: &Report) -> Vec<String> {
    let missing = text::number_list(&report.missing);
    let mut volumes = vec![match report.volumes {
        1 => format!("one of {}", bytes(report.volume_bytes)),
        several => format!(
            "{}: {} of {}, the last of {}",
            grouped(several.into()),
            grouped((several - 1).into()),
            bytes(report.volume_bytes),
            bytes(report.last_volume_bytes)
        ),
    }];
    volumes.extend((!report.missing.is_empty()).then(|| format!("not here: {missing}")));
    let hidden = if report.secret { "names, sizes, dates, counts and contents" } else { "nothing" };
    let saved = 100.0 - 100.0 * report.after_bytes as f64 / report.before_bytes.max(1) as f64;
    let squeeze = report.squeeze.clone().unwrap_or_else(|| "not told".to_owned());
    let mut lines = vec![paint(Tone::Strong, &report.archive), String::new()];
    lines.extend(table::summary(&[
        ("format", vec![format!("{}, version {}", report.format, report.version)]),
        ("set", vec![report.set.clone()]),
        ("volumes", volumes),
        ("made", vec![report.made.clone()]),
        ("locked", report.locked()),
        ("hidden", vec![hidden.to_owned()]),
        (
            "holds",
            vec![format!("{} in {}", bytes(report.before_bytes), contents(report.files, report.folders, report.links))],
        ),
        ("packed", vec![format!("{}; {:.1} % saved, squeeze {squeeze}", bytes(report.after_bytes), saved.max(0.0))]),
        ("largest", report.largest.iter().map(Largest::line).collect()),
    ]));
    if !report.message.is_empty() {
        lines.extend([String::new(), paint(Tone::Strong, "The sender says:")]);
        lines.extend(shown_lines(&report.message).iter().map(|line| format!("  {line}")));
    }
    if !report.secret {
        lines.extend([String::new(), paint(Tone::Look, NOT_SECRET)]);
    }
    lines
}
