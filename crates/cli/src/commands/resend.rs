//! `resend`: from a recipient's slip, exactly the bytes that are missing there.

use super::show;
use crate::args::ResendArguments;
use crate::failure::{BadValue, DONE, Failure};
use crate::places::gather_in;
use crate::session;
use crate::ui::paint::{Tone, paint};
use crate::ui::progress::ProgressLine;
use crate::ui::table::{self, Column};
use crate::ui::text::{self, count, grouped, size};
use serde::Serialize;
use std::ffi::OsString;
use std::path::Path;
use std::slice;
use under_seal_core::formats::sealed::volume::VolumeSet;
use under_seal_core::ground::context::Context;
use under_seal_core::tasks::resend::written::asked_in;
use under_seal_core::tasks::resend::{Resent, Slip, resend};

/// Runs the command; the exit code.
pub fn run(arguments: &ResendArguments) -> Result<u8, Failure> {
    let progress = ProgressLine::for_reading(None, &arguments.work);
    let context = session::context(&progress, arguments.work.threads);
    let set = gather_in(slice::from_ref(&arguments.archive), &context)?;
    let slip = slip(&arguments.slip, &set, &context)?;
    let resent = resend(&set, &slip, &arguments.to, &stem(&set), &context)?;
    let report = Report::new(&set, &resent);
    show(&report, &arguments.work, || lines(&report))?;
    Ok(DONE)
}

/// The slip that was typed; or, where a file was named, what all slips in its text ask for.
fn slip(typed: &[String], set: &VolumeSet, context: &Context<'_>) -> Result<Slip, Failure> {
    match typed {
        [file] if Path::new(file).is_file() => {
            asked_in(Path::new(file), set, context)?.ok_or(Failure::Value(BadValue::NoSlipIn(file.into())))
        }
        typed => Slip::read(&typed.join("-")).map_err(|error| Failure::Value(BadValue::Code(error))),
    }
}

/// The archive's name, as its files have it; where they have other names, the set's.
pub(super) fn stem(set: &VolumeSet) -> OsString {
    let count = set.geometry.data_volumes;
    let named = set.volumes.iter().flat_map(|(number, files)| files.iter().map(move |file| (*number, file)));
    let spares = set.spares.iter().flat_map(|(number, files)| files.iter().map(move |file| (*number, file)));
    let spares = spares.filter_map(|(number, file)| file.spare_archive_name(number));
    let mut stems = named.filter_map(|(number, file)| file.archive_name(number, count)).chain(spares);
    stems.next().unwrap_or_else(|| set.ids.set_text().into())
}

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    set: String,
    #[serde(rename = "made_files")]
    files: Vec<File>,
    bytes: u64,
}

#[derive(Serialize)]
struct File {
    path: String,
    volume: Option<u32>,
    bytes: u64,
}

impl Report {
    fn new(set: &VolumeSet, resent: &Resent) -> Self {
        let file = |path: &Path, volume, bytes| File { path: text::path(path), volume, bytes };
        let mut files: Vec<File> =
            resent.volumes.iter().map(|(number, path, bytes)| file(path, Some(*number), *bytes)).collect();
        files.extend(resent.supplement.iter().map(|(path, bytes)| file(path, None, *bytes)));
        let bytes = files.iter().map(|file| file.bytes).sum();
        Self { command: "resend", exit_code: DONE, set: set.ids.set_text(), files, bytes }
    }
}

fn lines(report: &Report) -> Vec<String> {
    let files = count(report.files.len() as u64, "file");
    let heading = format!("Recreated what was missing: {files}, {}.", size(report.bytes));
    let mut lines = vec![paint(Tone::Good, heading), String::new()];
    let row = |file: &File| {
        let what = file.volume.map_or("supplement".to_owned(), |number| format!("volume {number}"));
        (Tone::Plain, vec![file.path.clone(), grouped(file.bytes), what])
    };
    let columns = [Column::Path("file"), Column::Number("bytes"), Column::Text("what")];
    lines.extend(table::lines(&columns, &report.files.iter().map(row).collect::<Vec<_>>()));
    let them = if report.files.len() == 1 { "it" } else { "them" };
    lines.extend([
        String::new(),
        format!("Next: send {them}. The recipient puts {them} beside the others, under any name, and checks again."),
    ]);
    lines
}
