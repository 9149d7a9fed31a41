//! `recast`: a sealed archive is cut to another size, in its own place or elsewhere.

use super::show;
use crate::args::{DeliveryArguments, RecastArguments, ShapeArguments, WorkArguments};
use crate::failure::{BadValue, DONE, Failure};
use crate::places::gather;
use crate::session;
use crate::settings::Settings;
use crate::ui::paint::{Tone, paint};
use crate::ui::progress::ProgressLine;
use crate::ui::suggestion::{self, Part};
use crate::ui::table::{self, Column};
use crate::ui::text::{self, bytes, count, grouped};
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::slice;
use under_seal_core::formats::registry::SEALED;
use under_seal_core::formats::sealed::volume::{Geometry, VolumeSet};
use under_seal_core::ground::fit::Fit;
use under_seal_core::tasks::pack::{Target, TargetWish};
use under_seal_core::tasks::recast::{Recut, complete_earlier, outline, own_place, placed, recut};

/// So many volumes are listed; of more, the first and the last.
const LISTED: usize = 12;

/// Runs the command; the exit code.
pub fn run(arguments: &RecastArguments) -> Result<u8, Failure> {
    if !arguments.dry_run {
        settled(&arguments.archive, &arguments.work)?;
    }
    let set = gather(slice::from_ref(&arguments.archive))?.complete()?;
    let fit = fit(arguments)?;
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

fn fit(arguments: &RecastArguments) -> Result<Fit, Failure> {
    if arguments.one_volume {
        return Ok(Fit::OneVolume);
    }
    let delivery = DeliveryArguments {
        shape: ShapeArguments { fit: arguments.fit.clone(), ..ShapeArguments::default() },
        configuration: arguments.configuration.clone(),
        ..DeliveryArguments::default()
    };
    Ok(Settings::resolve(&delivery, arguments.work.threads)?.fit.value.fit)
}

/// Where new volumes of a set go, and whether that is in the place of the old ones.
pub(super) fn new_place(to: Option<&Path>, set: &VolumeSet) -> Result<(Target, bool), Failure> {
    let Some(to) = to else {
        let own = own_place(set).ok_or(Failure::Value(BadValue::NoOwnPlace))?;
        return Ok((own, true));
    };
    let stem = super::resend::stem(set);
    let wish =
        TargetWish { to: Some(to), name: Some(&stem), sources: &[], format: Some(&SEALED), usual_format: &SEALED };
    Ok((Target::resolve(&wish)?.0, false))
}

/// Completes what an earlier run left there, so that all volumes of a set are.
pub(super) fn settled(archive: &Path, work: &WorkArguments) -> Result<(), Failure> {
    let progress = ProgressLine::for_reading(None, work);
    Ok(complete_earlier(archive, &session::context(&progress, work.threads))?)
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
    replaced: Vec<String>,
    folder: String,
    /// It is cut to that already.
    #[serde(skip)]
    is_cut_so: bool,
}

#[derive(Serialize)]
struct Cut {
    volumes: u32,
    bytes: u64,
}

#[derive(Serialize)]
pub(super) struct Volume {
    pub path: String,
    pub bytes: u64,
    #[serde(skip)]
    name: String,
}

impl Volume {
    /// All of a set, where they are or would be, with their lengths.
    pub fn all(placed: Vec<(PathBuf, u64)>) -> Vec<Self> {
        let one = |(path, bytes): (PathBuf, u64)| {
            let name = path.file_name().map(text::name).unwrap_or_default();
            Self { path: text::path(&path), bytes, name }
        };
        placed.into_iter().map(one).collect()
    }
}

impl Cut {
    fn of(geometry: &Geometry) -> Self {
        Self { volumes: geometry.data_volumes, bytes: geometry.total_bytes() }
    }

    fn told(&self) -> String {
        format!("{} in {}", bytes(self.bytes), count(self.volumes.into(), "volume"))
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
            replaced: recut.iter().flat_map(|recut| &recut.replaced).map(|(path, _)| text::path(path)).collect(),
            folder: folder_of(target),
            is_cut_so,
        }
    }
}

fn lines(report: &Report) -> Vec<String> {
    let volumes = count(report.after.volumes.into(), "volume");
    let heading = match (report.is_cut_so, report.written) {
        (true, _) => format!("It is cut so already: {volumes}. Nothing was changed."),
        (false, false) => format!("It would be cut to {volumes}. Nothing was written."),
        (false, true) => format!("It is cut anew and verified: {volumes}."),
    };
    let mut lines = vec![paint(if report.written { Tone::Good } else { Tone::Strong }, heading), String::new()];
    lines.extend(volume_lines(&report.volumes));
    lines.push(String::new());
    let when_written = |line: String| report.written.then_some(line).into_iter().collect::<Vec<_>>();
    lines.extend(table::summary(&[
        ("before", vec![report.before.told()]),
        ("after", vec![report.after.told()]),
        ("kept", vec!["the password, and everything inside: nothing was decrypted".to_owned()]),
        ("verified", when_written("every cell read back from disk, and compared with the old one".to_owned())),
        ("replaced", replaced(&report.replaced)),
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
                "Volumes of the old cut do not go together with these: whoever has some of them needs all of these.",
            ));
            let them = if report.after.volumes == 1 { "it" } else { "all of them" };
            lines.extend([
                String::new(),
                format!("Next: send {them}, or put everything for the recipient together with"),
            ]);
            lines.push(hand_over(&report.volumes));
        }
        false => lines.push("Next: leave --dry-run away.".to_owned()),
    }
    lines
}

/// The folder that volumes go to.
pub(super) fn folder_of(target: &Target) -> String {
    target.path_with("").parent().map(text::path).unwrap_or_default()
}

/// How many old volumes went, if any did.
pub(super) fn replaced(paths: &[String]) -> Vec<String> {
    (!paths.is_empty()).then(|| count(paths.len() as u64, "old volume")).into_iter().collect()
}

/// The command that puts them together with everything else for the recipient.
pub(super) fn hand_over(volumes: &[Volume]) -> String {
    let first = volumes.first().map_or("", |volume| volume.path.as_str());
    suggestion::command(&[Part::Word("handover"), Part::Named(first.as_ref()), Part::Word("--to NEW-FOLDER")])
}

/// A row a volume; of many, those in the middle share one.
pub(super) fn volume_lines(volumes: &[Volume]) -> Vec<String> {
    let row = |(number, volume): (usize, &Volume)| {
        (Tone::Plain, vec![number.to_string(), volume.name.clone(), grouped(volume.bytes)])
    };
    let mut rows: Vec<_> = (1..).zip(volumes).map(row).collect();
    let each = volumes.get(1).map(|volume| format!("{} each", grouped(volume.bytes))).unwrap_or_default();
    table::shorten(&mut rows, LISTED, |hidden| vec!["…".to_owned(), format!("{hidden} more"), each]);
    table::lines(&[Column::Number("volume"), Column::Text("file"), Column::Number("bytes")], &rows)
}
