//! What `revise` says: for people and as JSON.

use super::place::Place;
use super::wishes::Disk;
use crate::commands::in_place::{Volume, hand_over, noun, replaced, target_folder, volume_lines};
use crate::commands::standing::Standing;
use crate::failure::{DONE, LOOK};
use crate::ui::paint::{Tone, paint};
use crate::ui::section::first_listed;
use crate::ui::table::{self, Column};
use crate::ui::text::{self, contents, count, grouped, shown, size};
use crate::words::{self, as_name};
use serde::Serialize;
use under_seal_core::formats::registry::Format;
use under_seal_core::ground::entry::{EntryPath, Totals};
use under_seal_core::ground::secrets::Credentials;
use under_seal_core::source::PassedOver;
use under_seal_core::tasks::pack::Packed;
use under_seal_core::tasks::revise::{Changes, Revision};

/// So many paths of a kind are shown.
const LISTED: usize = 20;

/// How far it went.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Outcome {
    /// Nothing would change.
    Same,
    /// It was only to be said what would.
    Planned,
    Written,
}

/// The JSON object (docs/json.md).
#[derive(Serialize)]
pub struct Report {
    command: &'static str,
    pub exit_code: u8,
    written: bool,
    #[serde(serialize_with = "as_name")]
    format: &'static Format,
    old_set: Option<String>,
    set: Option<String>,
    #[serde(rename = "kept_entries")]
    kept: u64,
    added: Vec<String>,
    changed: Vec<String>,
    only_time_or_mode: Vec<String>,
    renamed: Vec<Renamed>,
    removed: Vec<String>,
    unmatched_patterns: Vec<String>,
    unreadable: Vec<Unreadable>,
    before: Holding,
    after: Holding,
    volumes: Vec<Volume>,
    spare_volumes: Vec<Volume>,
    replaced: Vec<String>,
    verified_files: u64,
    verified_bytes: u64,
    passwords: usize,
    key_file: bool,
    folder: String,
    #[serde(skip)]
    pub outcome: Outcome,
    /// Whether other passwords opened it until now, as far as can be known.
    #[serde(skip)]
    may_have_others: bool,
}

#[derive(Serialize)]
struct Renamed {
    from: String,
    to: String,
}

#[derive(Serialize)]
struct Unreadable {
    path: String,
    why: String,
}

impl From<&PassedOver> for Unreadable {
    fn from(over: &PassedOver) -> Self {
        Self { path: text::path(&over.disk_path), why: words::passed_over(&over.reason) }
    }
}

/// What an archive holds and takes; volumes and their bytes are not known beforehand.
#[derive(Serialize)]
struct Holding {
    files: u64,
    folders: u64,
    links: u64,
    content_bytes: u64,
    #[serde(rename = "volume_count")]
    volumes: Option<u64>,
    bytes: Option<u64>,
}

impl Holding {
    const fn of(totals: Totals, taken: Option<(u64, u64)>) -> Self {
        let Totals { files, folders, links, content_bytes } = totals;
        let (volumes, bytes) = match taken {
            Some((volumes, bytes)) => (Some(volumes), Some(bytes)),
            None => (None, None),
        };
        Self { files, folders, links, content_bytes, volumes, bytes }
    }

    fn told(&self, noun: &str) -> String {
        let inside = format!("{} in {}", size(self.content_bytes), contents(self.files, self.folders, self.links));
        match (self.volumes, self.bytes) {
            (Some(volumes), Some(taken)) => format!("{inside}; {} in {}", size(taken), count(volumes, noun)),
            _ => inside,
        }
    }
}

fn paths(paths: &[EntryPath]) -> Vec<String> {
    paths.iter().map(|path| shown(path.as_bytes())).collect()
}

impl Report {
    pub fn new(revision: &Revision, place: &Place, standing: &Standing, unmatched: Vec<String>, disk: &Disk) -> Self {
        let Changes { kept, added, changed, only_around, removed, renamed } = &revision.changes;
        let mut unreadable: Vec<Unreadable> = Vec::new();
        if let Some((catalogue, found)) = &disk.refreshed {
            unreadable.extend(catalogue.passed_over.iter().map(Unreadable::from));
            unreadable.extend(found.unreadable.iter().map(|(path, error)| Unreadable {
                path: shown(found.on_disk(path).as_bytes()),
                why: words::system(&error.source),
            }));
        }
        unreadable.extend(disk.added.iter().flat_map(|catalogue| &catalogue.passed_over).map(Unreadable::from));
        let renamed =
            renamed.iter().map(|(from, to)| Renamed { from: shown(from.as_bytes()), to: shown(to.as_bytes()) });
        Self {
            command: "revise",
            exit_code: if unmatched.is_empty() && unreadable.is_empty() { DONE } else { LOOK },
            written: false,
            format: place.format,
            old_set: standing.set.clone(),
            set: None,
            kept: *kept,
            added: paths(added),
            changed: paths(changed),
            only_time_or_mode: paths(only_around),
            renamed: renamed.collect(),
            removed: paths(removed),
            unmatched_patterns: unmatched,
            unreadable,
            before: Holding::of(standing.totals, Some((standing.volumes, standing.bytes))),
            after: Holding::of(revision.totals, None),
            volumes: Vec::new(),
            spare_volumes: Vec::new(),
            replaced: Vec::new(),
            verified_files: 0,
            verified_bytes: 0,
            passwords: 0,
            key_file: false,
            folder: target_folder(&place.target),
            outcome: Outcome::Planned,
            may_have_others: place.format.abilities.keyholes,
        }
    }

    pub fn written(&mut self, revised: &Packed, credentials: &[Credentials]) {
        let volumes: Vec<_> = revised.volumes.iter().map(|volume| (volume.path.clone(), volume.bytes)).collect();
        self.outcome = Outcome::Written;
        self.written = true;
        self.set = revised.volumes.first().and_then(|volume| volume.ids).map(|ids| ids.set_text());
        self.after = Holding::of(revised.totals, Some((volumes.len() as u64, revised.bytes())));
        self.volumes = Volume::all(volumes);
        self.spare_volumes = Volume::all(revised.spares.clone());
        self.replaced = revised.replaced.iter().map(|(path, _)| text::path(path)).collect();
        (self.verified_files, self.verified_bytes) = (revised.verified.files, revised.verified.content_bytes);
        let secret = credentials.iter().filter(|given| **given != Credentials::none());
        self.passwords = secret.clone().count();
        self.key_file = secret.clone().any(|given| given.key_file.is_some());
        // What could not be read when it was packed, after it had been listed.
        let known: Vec<String> = self.unreadable.iter().map(|one| one.path.clone()).collect();
        let more = revised.passed_over.iter().map(Unreadable::from).filter(|one| !known.contains(&one.path));
        self.unreadable.extend(more);
        if !self.unreadable.is_empty() || !revised.changed.is_empty() {
            self.exit_code = LOOK;
        }
    }

    fn opened_by(&self) -> Option<String> {
        let key_file = if self.key_file { ", with the key file" } else { "" };
        match self.passwords {
            0 => None,
            1 if self.may_have_others => Some(format!("the password that was given, and no other{key_file}")),
            1 => Some("the same password".to_owned()),
            several => Some(format!("{several} passwords, and no other{key_file}")),
        }
    }
}

pub fn lines(report: &Report) -> Vec<String> {
    let heading = match report.outcome {
        Outcome::Same => paint(Tone::Strong, "Nothing would change, and nothing was written."),
        Outcome::Planned => paint(Tone::Strong, "This would change. Nothing was written."),
        Outcome::Written => {
            let volumes = count(report.volumes.len() as u64, noun(report.format));
            paint(Tone::Good, format!("The archive is changed and verified: {volumes}."))
        }
    };
    let mut lines = vec![heading];
    lines.extend(change_lines(report));
    let when_written = |line: String| (report.outcome == Outcome::Written).then_some(line).into_iter().collect();
    if report.outcome == Outcome::Written {
        lines.push(String::new());
        lines.extend(volume_lines(&report.volumes, &report.spare_volumes));
    }
    lines.push(String::new());
    lines.extend(table::summary(&[
        ("before", vec![report.before.told(noun(report.format))]),
        ("after", vec![report.after.told(noun(report.format))]),
        (
            "verified",
            when_written(format!(
                "read back from disk; {} in {}, every {} compared",
                size(report.verified_bytes),
                count(report.verified_files, "file"),
                if report.format.abilities.digests { "digest" } else { "length and checksum" }
            )),
        ),
        ("opens by", report.opened_by().into_iter().collect()),
        ("replaced", replaced(&report.replaced, report.format)),
        ("where", when_written(report.folder.clone())),
    ]));
    match report.outcome {
        Outcome::Same => {}
        Outcome::Planned => lines.extend([String::new(), "Next: run it without --dry-run.".to_owned()]),
        Outcome::Written => {
            if report.format.abilities.volumes {
                lines.extend([
                    String::new(),
                    paint(
                        Tone::Look,
                        "Old volumes that are elsewhere do not fit with these, and still hold what was removed.",
                    ),
                ]);
            }
            lines
                .extend([String::new(), "Next: send it, or put everything for the recipient together with".to_owned()]);
            lines.push(hand_over(&report.volumes, report.format));
        }
    }
    lines
}

fn change_lines(report: &Report) -> Vec<String> {
    let renamed: Vec<String> = report.renamed.iter().map(|one| format!("{} is now {}", one.from, one.to)).collect();
    let kinds: [(&str, Tone, &[String]); 5] = [
        ("added", Tone::Good, &report.added),
        ("changed", Tone::Look, &report.changed),
        ("only in time or mode", Tone::Faint, &report.only_time_or_mode),
        ("renamed", Tone::Plain, &renamed),
        ("removed", Tone::Look, &report.removed),
    ];
    let row = |what: &str, number: u64| (Tone::Plain, vec![what.to_owned(), grouped(number)]);
    let mut rows = vec![row("kept as they are", report.kept)];
    rows.extend(
        kinds.iter().filter(|(.., paths)| !paths.is_empty()).map(|(what, _, paths)| row(what, paths.len() as u64)),
    );
    let mut lines = vec![String::new()];
    lines.extend(table::lines(&[Column::Text("entries"), Column::Number("how many")], &rows));
    for (what, tone, paths) in kinds {
        let mut heading = what[..1].to_uppercase();
        heading.push_str(&what[1..]);
        heading.push(':');
        lines.extend(first_listed(tone, &heading, paths, LISTED));
    }
    lines.extend(first_listed(Tone::Look, "Nothing inside matches:", &report.unmatched_patterns, LISTED));
    let unreadable: Vec<String> = report.unreadable.iter().map(|one| format!("{}: {}", one.path, one.why)).collect();
    lines.extend(first_listed(
        Tone::Bad,
        "These cannot be read here, so the archive keeps what it had of them:",
        &unreadable,
        LISTED,
    ));
    lines
}
