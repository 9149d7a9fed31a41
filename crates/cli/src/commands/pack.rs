//! `pack`: seal, verify, place, and say what came of it.

use super::show;
use crate::args::PackArguments;
use crate::failure::{DONE, Failure, LOOK};
use crate::session;
use crate::ui::paint::{Tone, paint};
use crate::ui::progress::ProgressLine;
use crate::ui::prompt::{self, Purpose};
use crate::ui::table::{self, Column};
use crate::ui::text::{self, argument, bytes, count, grouped, shown};
use crate::words;
use serde::Serialize;
use under_seal_core::fit::Fit;
use under_seal_core::pack::{Delivery, PackRequest, Packed, Target};
use under_seal_core::source::Choice;

/// Sets of more volumes than this are summed up instead of listed.
const VOLUMES_LISTED: usize = 12;

/// Runs the command; the exit code.
pub fn run(arguments: &PackArguments) -> Result<u8, Failure> {
    let target = Target::resolve(arguments.to.as_deref(), &arguments.sources)?;
    let fit = arguments.fit.unwrap_or(Fit::OneVolume);
    let choice = Choice::default();
    let request = PackRequest {
        fit,
        squeeze: arguments.squeeze.into(),
        replace: arguments.replace,
        ..PackRequest::new(&arguments.sources, &choice, &target)
    };
    let progress = ProgressLine::for_writing(fit);
    let context = session::context(&progress, arguments.work.threads);
    // Whatever stands in the way is told before the password is asked for.
    let delivery = Delivery::prepare(&request, &context)?;
    let credentials = [prompt::password(&arguments.password, Purpose::Seal)?.into()];
    let packed = delivery.pack(&credentials, session::key_cost(), &context)?;
    drop(progress);
    let report = Report::new(&packed, &target);
    show(&report, arguments.work.json, || lines(&packed, &report))?;
    Ok(report.exit_code)
}

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    archive: String,
    set: String,
    files: u64,
    folders: u64,
    links: u64,
    before_bytes: u64,
    after_bytes: u64,
    verified_files: u64,
    verified_bytes: u64,
    volumes: Vec<Volume>,
    replaced: Vec<String>,
    passed_over: Vec<Passed>,
    changed_while_read: Vec<String>,
    links_leading_outside: Vec<String>,
}

#[derive(Serialize)]
struct Volume {
    number: usize,
    path: String,
    bytes: u64,
}

#[derive(Serialize)]
struct Passed {
    path: String,
    why: String,
}

impl Report {
    fn new(packed: &Packed, target: &Target) -> Self {
        let quiet = packed.passed_over.is_empty() && packed.changed.is_empty() && packed.outward_links.is_empty();
        let entry_paths = |paths: &[under_seal_core::entry::EntryPath]| -> Vec<String> {
            paths.iter().map(|path| shown(path.as_bytes())).collect()
        };
        let volume = |(number, volume): (usize, &under_seal_core::pack::PackedVolume)| Volume {
            number,
            path: text::path(&volume.path),
            bytes: volume.bytes,
        };
        Self {
            command: "pack",
            exit_code: if quiet { DONE } else { LOOK },
            archive: text::name(&target.stem),
            set: packed.ids.set_text(),
            files: packed.totals.files,
            folders: packed.totals.folders,
            links: packed.totals.links,
            before_bytes: packed.totals.content_bytes,
            after_bytes: packed.volumes.iter().map(|volume| volume.bytes).sum(),
            verified_files: packed.verified.files,
            verified_bytes: packed.verified.content_bytes,
            volumes: (1..).zip(&packed.volumes).map(volume).collect(),
            replaced: packed.replaced.iter().map(|path| text::path(path)).collect(),
            passed_over: packed
                .passed_over
                .iter()
                .map(|passed| Passed { path: text::path(&passed.disk_path), why: words::passed_over(&passed.reason) })
                .collect(),
            changed_while_read: entry_paths(&packed.changed),
            links_leading_outside: entry_paths(&packed.outward_links),
        }
    }

    /// `saved 12.3 %`, or how much was added.
    fn saved(&self) -> String {
        let (before, after) = (self.before_bytes, self.after_bytes);
        if after >= before {
            return format!("{} more than before: seals and padding", bytes(after - before));
        }
        format!("{:.1} % saved", 100.0 * (before - after) as f64 / before as f64)
    }
}

/// `20 files, 7 folders, 1 link`, leaving out what there is none of.
pub(super) fn contents(files: u64, folders: u64, links: u64) -> String {
    let all = [(files, "file"), (folders, "folder"), (links, "link")];
    let some: Vec<String> = all.iter().filter(|(n, _)| *n > 0).map(|(n, noun)| count(*n, noun)).collect();
    if some.is_empty() { "nothing".to_owned() } else { some.join(", ") }
}

fn lines(packed: &Packed, report: &Report) -> Vec<String> {
    let volumes = packed.volumes.len() as u64;
    let heading = format!("{} is packed and verified: {}.", report.archive, count(volumes, "volume"));
    let mut lines = vec![paint(Tone::Good, heading), String::new()];
    lines.extend(volume_lines(packed));
    lines.push(String::new());
    let verified = format!(
        "read back from disk and unlocked; {} in {}, every digest compared",
        bytes(report.verified_bytes),
        contents(report.verified_files, packed.verified.folders, packed.verified.links)
    );
    let folder = packed.volumes.first().and_then(|volume| volume.path.parent());
    lines.extend(table::summary(&[
        (
            "before",
            vec![format!("{} in {}", bytes(report.before_bytes), contents(report.files, report.folders, report.links))],
        ),
        ("after", vec![format!("{} in {}; {}", bytes(report.after_bytes), count(volumes, "volume"), report.saved())]),
        ("verified", vec![verified]),
        ("where", folder.map(text::path).into_iter().collect()),
    ]));
    lines.extend(notes(report));
    lines.push(String::new());
    lines.extend(next_steps(packed));
    lines
}

fn volume_lines(packed: &Packed) -> Vec<String> {
    let row = |(number, volume): (usize, &under_seal_core::pack::PackedVolume)| {
        let name = volume.path.file_name().map(text::name).unwrap_or_default();
        (Tone::Plain, vec![number.to_string(), name, grouped(volume.bytes)])
    };
    let mut rows: Vec<_> = (1..).zip(&packed.volumes).map(row).collect();
    if rows.len() > VOLUMES_LISTED {
        let hidden = rows.len() - VOLUMES_LISTED + 1;
        let between = packed.volumes.get(1).map(|volume| grouped(volume.bytes)).unwrap_or_default();
        let kept = VOLUMES_LISTED - 2;
        let gap = (Tone::Faint, vec!["…".to_owned(), format!("{hidden} more"), format!("{between} each")]);
        rows.splice(kept..kept + hidden, [gap]);
    }
    table::lines(&[Column::Number("volume"), Column::Text("file"), Column::Number("bytes")], &rows)
}

/// What the sender should look at.
fn notes(report: &Report) -> Vec<String> {
    let mut notes = Vec::new();
    let mut note = |heading: &str, items: Vec<String>| {
        if !items.is_empty() {
            notes.push(String::new());
            notes.push(paint(Tone::Look, heading));
            notes.extend(items.iter().map(|item| format!("  {item}")));
        }
    };
    let passed = |passed: &Passed| format!("{}: {}", passed.path, passed.why);
    note("Not packed:", report.passed_over.iter().map(passed).collect());
    note("These changed while they were read, twice; what was read is packed:", report.changed_while_read.clone());
    note("These links lead outside what is packed; opening will not make them:", report.links_leading_outside.clone());
    if !report.replaced.is_empty() {
        note("Replaced:", vec![count(report.replaced.len() as u64, "old volume")]);
    }
    notes
}

fn next_steps(packed: &Packed) -> Vec<String> {
    let Some(first) = packed.volumes.first() else { return Vec::new() };
    let send = match packed.volumes.len() {
        1 => "Next: send the volume, and tell the password by another way. The recipient runs".to_owned(),
        all => format!("Next: send all {all} volumes, and tell the password by another way. The recipient runs"),
    };
    let name = first.path.file_name().map(std::path::Path::new).unwrap_or(&first.path);
    vec![send, format!("  under-seal open {}", argument(name))]
}
