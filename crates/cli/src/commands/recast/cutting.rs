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
    let slack = slack(&planned, fit);
    // Volumes that are no longer called as they were made get their names again so.
    if is_cut_so && !in_place && own_place(&set).is_some() {
        let Geometry { data_volumes: volumes, cell_length, cells_per_volume, .. } = set.geometry;
        let next = slack.and_then(|slack| slack.filled.get(1).copied());
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
    let report = Report::new(&set, &planned, &target, recut.as_ref(), slack);
    let typed = Typed { archive, fit: arguments.fit.as_deref().unwrap_or_default() };
    show(&report, &arguments.work, || lines(&report, is_cut_so, &typed))?;
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
    unfilled: Option<Unfilled>,
}

/// The archive and the fit, as they were typed.
struct Typed<'a> {
    archive: &'a Path,
    fit: &'a str,
}

/// What the volumes leave of the fit.
#[derive(Serialize)]
struct Unfilled {
    volume_bytes: u64,
    fit_bytes: u64,
    filled_fits: Vec<u64>,
}

impl From<Slack> for Unfilled {
    fn from(Slack { volume_bytes, limit, filled }: Slack) -> Self {
        Self { volume_bytes, fit_bytes: limit, filled_fits: filled }
    }
}

impl Unfilled {
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
    fn new(set: &VolumeSet, planned: &Geometry, target: &Target, recut: Option<&Recut>, slack: Option<Slack>) -> Self {
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
            unfilled: slack.map(Unfilled::from),
        }
    }
}

/// `is_cut_so`: it is cut to that already.
fn lines(report: &Report, is_cut_so: bool, typed: &Typed<'_>) -> Vec<String> {
    let volumes = count(report.after.volumes.into(), "volume");
    let heading = match (is_cut_so, report.written) {
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
        ("unused", report.unfilled.iter().map(Unfilled::told).collect()),
        ("spare", spare_line(report.volumes.len(), &report.spare_volumes)),
        ("kept", vec!["the password, and everything inside: nothing was decrypted".to_owned()]),
        ("verified", when_written("every cell read back from disk, and compared with the old one".to_owned())),
        ("replaced", replaced(&report.replaced, &SEALED)),
        ("where", vec![report.folder.clone()]),
    ]));
    if let Some(unfilled) = &report.unfilled {
        lines.push(String::new());
        lines.extend(fuller(unfilled, report, typed));
    }
    if is_cut_so {
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
fn fuller(unfilled: &Unfilled, report: &Report, typed: &Typed<'_>) -> [String; 3] {
    let fits: Vec<String> = unfilled.filled_fits.iter().map(|fit| grouped(*fit)).collect();
    let written = report.volumes.first().filter(|_| report.written);
    let archive = written.map_or(typed.archive.as_os_str(), |volume| volume.path.as_ref());
    [
        format!("Fits that are filled: {} bytes.", text::listed(&fits)),
        "With the password, it is packed anew for this one:".to_owned(),
        suggestion::command(&[
            Part::Word("recast"),
            Part::Named(archive),
            Part::Word("--fit"),
            Part::Named(typed.fit.as_ref()),
            Part::Word("--as sealed"),
        ]),
    ]
}
