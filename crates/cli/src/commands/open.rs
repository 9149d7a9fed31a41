//! `open`: unlock and extract everything.

use super::show;
use crate::args::OpenArguments;
use crate::credentials::{self, NOT_SECRET};
use crate::failure::{DONE, Failure, UNSAFE};
use crate::session;
use crate::ui::paint::{Tone, paint};
use crate::ui::progress::ProgressLine;
use crate::ui::table;
use crate::ui::text::{self, bytes, contents, count, shown, shown_lines};
use serde::Serialize;
use under_seal_core::opening::{Opened, open};
use under_seal_core::sealed::SealedReader;
use under_seal_core::volume::VolumeSet;

/// Runs the command; the exit code.
pub fn run(arguments: &OpenArguments) -> Result<u8, Failure> {
    let set = VolumeSet::gather(&arguments.places)?.complete()?;
    let unlocking = credentials::to_unlock(&set, &arguments.password)?;
    let progress = ProgressLine::for_reading(Some(set.geometry.data_volumes), &arguments.work);
    let mut archive = SealedReader::unlock(set, &unlocking.credentials)?;
    let opened = open(&mut archive, &arguments.into, &session::context(&progress, arguments.work.threads))?;
    drop(progress);
    let report = Report::new(&opened, &archive, unlocking.secret);
    show(&report, &arguments.work, || lines(&report))?;
    Ok(report.exit_code)
}

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    archive: String,
    set: String,
    volumes: u32,
    secret: bool,
    message: String,
    files: u64,
    folders: u64,
    links: u64,
    bytes: u64,
    destination: String,
    changed_while_read: Vec<String>,
    links_not_made: Vec<LinkNotMade>,
}

#[derive(Serialize)]
struct LinkNotMade {
    path: String,
    target: String,
}

impl Report {
    fn new(opened: &Opened, archive: &SealedReader, secret: bool) -> Self {
        let landed = &opened.landed;
        let changed = archive.entries().iter().filter(|listed| listed.content.changed_while_read);
        let link = |link: &under_seal_core::landing::RefusedLink| LinkNotMade {
            path: shown(link.path.as_bytes()),
            target: shown(&link.target),
        };
        Self {
            command: "open",
            exit_code: if landed.refused_links.is_empty() { DONE } else { UNSAFE },
            archive: shown(&archive.about().name),
            set: archive.set().ids.set_text(),
            volumes: archive.set().geometry.data_volumes,
            secret,
            message: archive.about().message.clone(),
            files: landed.files,
            folders: landed.folders,
            links: landed.links,
            bytes: landed.bytes,
            destination: text::path(&opened.destination),
            changed_while_read: changed.map(|listed| shown(listed.entry.path.as_bytes())).collect(),
            links_not_made: landed.refused_links.iter().map(link).collect(),
        }
    }
}

fn lines(report: &Report) -> Vec<String> {
    let tone = if report.exit_code == DONE { Tone::Good } else { Tone::Look };
    let mut lines =
        vec![paint(tone, format!("{} is open: every file complete and verified.", report.archive)), String::new()];
    lines.extend(table::summary(&[
        ("from", vec![count(report.volumes.into(), "volume")]),
        (
            "extracted",
            vec![format!("{} in {}", bytes(report.bytes), contents(report.files, report.folders, report.links))],
        ),
        ("verified", vec!["every file's digest compared before it got its name".to_owned()]),
        ("where", vec![report.destination.clone()]),
    ]));
    if !report.message.is_empty() {
        lines.push(String::new());
        lines.push(paint(Tone::Strong, "The sender says:"));
        lines.extend(shown_lines(&report.message).iter().map(|line| format!("  {line}")));
    }
    if !report.secret {
        lines.push(String::new());
        lines.push(paint(Tone::Look, NOT_SECRET));
    }
    if !report.changed_while_read.is_empty() {
        lines.push(String::new());
        lines.push(paint(Tone::Look, "These changed while they were packed; ask the sender whether they are good:"));
        lines.extend(report.changed_while_read.iter().map(|path| format!("  {path}")));
    }
    if !report.links_not_made.is_empty() {
        lines.push(String::new());
        lines.push(paint(Tone::Bad, "Not made, because they could lead outside this folder:"));
        lines.extend(report.links_not_made.iter().map(|link| format!("  {} -> {}", link.path, link.target)));
    }
    lines
}
