//! A sealed archive is cut to another size, in its own place or elsewhere, without the password.

use crate::args::RecastArguments;
use crate::commands::in_place::{
    Volume, hand_over, new_place, replaced, settled, spare_line, target_folder, volume_lines,
};
use crate::commands::show;
use crate::failure::{BadValue, DONE, Failure};
use crate::places::gather;
use crate::session;
use crate::ui::paint::{Tone, paint};
use crate::ui::progress::ProgressLine;
use crate::ui::suggestion::{self, Part};
use crate::ui::table;
use crate::ui::text::{self, count, grouped, size};
use serde::Serialize;
use std::path::Path;
use std::slice;
use under_seal_core::formats::registry::SEALED;
use under_seal_core::formats::sealed::volume::{Geometry, VolumeSet};
use under_seal_core::ground::fit::Fit;
use under_seal_core::tasks::in_place::{own_place, placed, placed_spares};
use under_seal_core::tasks::pack::Target;
use under_seal_core::tasks::recast::{Recut, Slack, outline, recut, slack};

/// Cuts it; the exit code.
pub fn cut(archive: &Path, fit: Fit, arguments: &RecastArguments) -> Result<u8, Failure> {
    if !arguments.dry_run {
        settled(archive, &arguments.work)?;
    }
    let set = gather(slice::from_ref(&archive.to_owned()), &arguments.work)?.complete()?;
    let (target, in_place) = new_place(arguments.to.as_deref(), &set)?;
    let planned = outline(&set, fit)?;
    let is_cut_so = planned.cells_per_volume == set.geometry.cells_per_volume;
    // Volumes that are no longer called as they were made get their names again so.
    if is_cut_so && !in_place && own_place(&set).is_some() {
        let Geometry { data_volumes: volumes, cell_length, cells_per_volume, .. } = set.geometry;
        let next = slack(&planned, fit).and_then(|slack| slack.filled.get(1).copied());
        let volume_bytes = cell_length.offset_of(cells_per_volume);
        return Err(Failure::Value(BadValue::CutSo { volumes, volume_bytes, next }));
    }
    let is_cut_so = is_cut_so && in_place;
    let recut = match arguments.dry_run || is_cut_so {
        true => None,
        false => {
            let progress = ProgressLine::for_writing(fit, &arguments.work);
            let context = session::context(&progress, arguments.work.threads);
            Some(recut(&set, &target, fit, in_place, &context)?)
        }
    };
    let slack = slack(&planned, fit).map(|slack| Unfilled::of(slack, arguments.fit.as_deref().unwrap_or_default()));
    let told = Report::new(&set, &planned, &target, recut.as_ref());
    let report = Report { slack, is_cut_so, archive: text::path(archive), ..told };
    show(&report, &arguments.work, || lines(&report))?;
    Ok(DONE)
}

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    set: String,
    written: bool,
    before: Cut,
    after: Cut,
    volumes: Vec<Volume>,
    spare_volumes: Vec<Volume>,
    replaced: Vec<String>,
    folder: String,
    #[serde(rename = "unfilled")]
    slack: Option<Unfilled>,
    /// As it was named.
    #[serde(skip)]
    archive: String,
    /// It is cut to that already.
    #[serde(skip)]
    is_cut_so: bool,
}

/// What the volumes leave of the fit.
#[derive(Serialize)]
struct Unfilled {
    volume_bytes: u64,
    fit_bytes: u64,
    #[serde(rename = "filled_fits")]
    filled: Vec<u64>,
    /// The fit as it was typed.
    #[serde(skip)]
    typed: String,
}

impl Unfilled {
    fn of(Slack { volume_bytes, limit, filled }: Slack, typed: &str) -> Self {
        Self { volume_bytes, fit_bytes: limit, filled, typed: typed.to_owned() }
    }

    fn told(&self) -> String {
        let unused = self.fit_bytes.saturating_sub(self.volume_bytes);
        format!("{} of {} in each volume: sealed cells stay whole", grouped(unused), text::bytes(self.fit_bytes))
    }
}

#[derive(Serialize)]
struct Cut {
    #[serde(rename = "volume_count")]
    volumes: u32,
    bytes: u64,
}

impl Cut {
    fn of(geometry: &Geometry) -> Self {
        Self { volumes: geometry.data_volumes, bytes: geometry.total_bytes() }
    }

    fn told(&self) -> String {
        format!("{} in {}", size(self.bytes), count(self.volumes.into(), "volume"))
    }
}

impl Report {
    fn new(set: &VolumeSet, planned: &Geometry, target: &Target, recut: Option<&Recut>) -> Self {
        Self {
            command: "recast",
            exit_code: DONE,
            set: set.ids.set_text(),
            written: recut.is_some(),
            before: Cut::of(&set.geometry),
            after: Cut::of(planned),
            volumes: Volume::all(recut.map_or_else(|| placed(target, planned), |recut| recut.volumes.clone())),
            spare_volumes: Volume::all(
                recut.map_or_else(|| placed_spares(target, planned), |recut| recut.spares.clone()),
            ),
            replaced: recut.iter().flat_map(|recut| &recut.replaced).map(|(path, _)| text::path(path)).collect(),
            folder: target_folder(target),
            slack: None,
            archive: String::new(),
            is_cut_so: false,
        }
    }
}

fn lines(report: &Report) -> Vec<String> {
    let volumes = count(report.after.volumes.into(), "volume");
    let heading = match (report.is_cut_so, report.written) {
        (true, _) => format!("It is cut in this way already: {volumes}. Nothing was changed."),
        (false, false) => format!("It would be cut to {volumes}. Nothing was written."),
        (false, true) => format!("The archive is cut anew and verified: {volumes}."),
    };
    let mut lines = vec![paint(if report.written { Tone::Good } else { Tone::Strong }, heading), String::new()];
    lines.extend(volume_lines(&report.volumes, &report.spare_volumes));
    lines.push(String::new());
    let when_written = |line: String| report.written.then_some(line).into_iter().collect::<Vec<_>>();
    lines.extend(table::summary(&[
        ("before", vec![report.before.told()]),
        ("after", vec![report.after.told()]),
        ("unused", report.slack.iter().map(Unfilled::told).collect()),
        ("spare", spare_line(report.volumes.len(), &report.spare_volumes)),
        ("kept", vec!["the password, and everything inside: nothing was decrypted".to_owned()]),
        ("verified", when_written("every cell read back from disk, and compared with the old one".to_owned())),
        ("replaced", replaced(&report.replaced, &SEALED)),
        ("where", vec![report.folder.clone()]),
    ]));
    if let Some(unfilled) = &report.slack {
        lines.push(String::new());
        lines.extend(fuller(unfilled, report));
    }
    if report.is_cut_so {
        return lines;
    }
    lines.push(String::new());
    match report.written {
        true => {
            lines.push(paint(
                Tone::Look,
                "Volumes of the old size do not fit with these: whoever has some of them needs all of the new ones.",
            ));
            let them = if report.after.volumes == 1 { "it" } else { "all of them" };
            lines.extend([
                String::new(),
                format!("Next: send {them}, or put everything for the recipient together with"),
            ]);
            lines.push(hand_over(&report.volumes, &SEALED));
        }
        false => lines.push("Next: run it without --dry-run.".to_owned()),
    }
    lines
}

/// What to do where a part of the fit stays unused.
fn fuller(unfilled: &Unfilled, report: &Report) -> [String; 3] {
    let fits: Vec<String> = unfilled.filled.iter().map(|fit| grouped(*fit)).collect();
    let written = report.volumes.first().filter(|_| report.written);
    let archive = written.map_or(report.archive.as_str(), |volume| volume.path.as_str());
    [
        format!("Fits that are filled: {} bytes.", text::listed(&fits)),
        "With the password, it is packed anew for this one:".to_owned(),
        suggestion::command(&[
            Part::Word("recast"),
            Part::Named(archive.as_ref()),
            Part::Word("--fit"),
            Part::Named(unfilled.typed.as_ref()),
            Part::Word("--as sealed"),
        ]),
    ]
}
