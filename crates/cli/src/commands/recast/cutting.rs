//! A sealed archive is cut to another size, in its own place or elsewhere, without the password.

use crate::args::RecastArguments;
use crate::commands::in_place::{
    Volume, hand_over, new_place, replaced, settled, spare_line, target_folder, volume_lines,
};
use crate::commands::show;
use crate::failure::{DONE, Failure};
use crate::places::gather;
use crate::session;
use crate::ui::paint::{Tone, paint};
use crate::ui::progress::ProgressLine;
use crate::ui::table;
use crate::ui::text::{self, count, size};
use serde::Serialize;
use std::path::Path;
use std::slice;
use under_seal_core::formats::registry::SEALED;
use under_seal_core::formats::sealed::volume::{Geometry, VolumeSet};
use under_seal_core::ground::fit::Fit;
use under_seal_core::tasks::in_place::{placed, placed_spares};
use under_seal_core::tasks::pack::Target;
use under_seal_core::tasks::recast::{Recut, outline, recut};

/// Cuts it; the exit code.
pub fn cut(archive: &Path, fit: Fit, arguments: &RecastArguments) -> Result<u8, Failure> {
    if !arguments.dry_run {
        settled(archive, &arguments.work)?;
    }
    let set = gather(slice::from_ref(&archive.to_owned()), &arguments.work)?.complete()?;
    let (target, in_place) = new_place(arguments.to.as_deref(), &set)?;
    let planned = outline(&set, fit)?;
    let is_cut_so = in_place && planned.cells_per_volume == set.geometry.cells_per_volume;
    let recut = match arguments.dry_run || is_cut_so {
        true => None,
        false => {
            let progress = ProgressLine::for_writing(fit, &arguments.work);
            let context = session::context(&progress, arguments.work.threads);
            Some(recut(&set, &target, fit, in_place, &context)?)
        }
    };
    let report = Report::new(&set, &planned, &target, recut.as_ref(), is_cut_so);
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
    /// It is cut to that already.
    #[serde(skip)]
    is_cut_so: bool,
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
    fn new(set: &VolumeSet, planned: &Geometry, target: &Target, recut: Option<&Recut>, is_cut_so: bool) -> Self {
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
            is_cut_so,
        }
    }
}

fn lines(report: &Report) -> Vec<String> {
    let volumes = count(report.after.volumes.into(), "volume");
    let heading = match (report.is_cut_so, report.written) {
        (true, _) => format!("It is cut in this way already: {volumes}. Nothing was changed."),
        (false, false) => format!("It would be cut to {volumes}. Nothing was written."),
        (false, true) => format!("The archive is cut to the new size and verified: {volumes}."),
    };
    let mut lines = vec![paint(if report.written { Tone::Good } else { Tone::Strong }, heading), String::new()];
    lines.extend(volume_lines(&report.volumes, &report.spare_volumes));
    lines.push(String::new());
    let when_written = |line: String| report.written.then_some(line).into_iter().collect::<Vec<_>>();
    lines.extend(table::summary(&[
        ("before", vec![report.before.told()]),
        ("after", vec![report.after.told()]),
        ("spare", spare_line(report.volumes.len(), &report.spare_volumes)),
        ("kept", vec!["the password, and everything inside: nothing was decrypted".to_owned()]),
        ("verified", when_written("every cell read back from disk, and compared with the old one".to_owned())),
        ("replaced", replaced(&report.replaced, &SEALED)),
        ("where", vec![report.folder.clone()]),
    ]));
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
