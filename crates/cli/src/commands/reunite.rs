//! `reunite`: numbered pieces of whatever origin, joined.

use super::show;
use crate::args::ReuniteArguments;
use crate::failure::{DONE, Failure, LOOK};
use crate::session;
use crate::ui::paint::{Tone, paint};
use crate::ui::progress::ProgressLine;
use crate::ui::text::{self, count, hexadecimal, size};
use crate::watching::Watching;
use serde::Serialize;
use std::ffi::OsStr;
use std::path::{Path, PathBuf};
use under_seal_core::tasks::pack::Target;
use under_seal_core::tasks::reunite::{Pieces, Reunited, reunite};

/// Runs the command; the exit code.
pub fn run(arguments: &ReuniteArguments) -> Result<u8, Failure> {
    let silent = ProgressLine::for_reading(None, &arguments.work);
    let context = session::context(&silent, arguments.work.threads);
    let typed = match (&arguments.watch.watch, arguments.pieces.as_slice()) {
        (Some(folder), []) => vec![folder.clone()],
        (_, pieces) => pieces.to_vec(),
    };
    let quiet = arguments.work.output.quiet;
    Watching { watch: &arguments.watch, places: &typed, quiet, context: &context }.for_pieces()?;
    let pieces = Pieces::find(&typed, &context)?;
    let (folder, name) = target(arguments, &typed);
    let progress = ProgressLine::for_reading(pieces.count, &arguments.work);
    let context = session::context(&progress, arguments.work.threads);
    let made = reunite(&pieces, &folder, name, &context)?;
    drop(progress);
    let report = Report::new(&made);
    show(&report, &arguments.work, || lines(&report))?;
    Ok(report.exit_code)
}

/// The folder, and the name where one was typed.
fn target<'a>(arguments: &'a ReuniteArguments, typed: &[PathBuf]) -> (PathBuf, Option<&'a OsStr>) {
    let parent = |path: &Path| match path.parent() {
        Some(parent) if parent != Path::new("") => parent.to_owned(),
        _ => PathBuf::from("."),
    };
    match arguments.to.as_deref() {
        None => {
            let place = |piece: &PathBuf| if piece.is_dir() { piece.clone() } else { parent(piece) };
            (typed.first().map_or_else(|| PathBuf::from("."), place), None)
        }
        Some(to) if Target::is_folder(to) => (to.to_owned(), None),
        Some(to) => (parent(to), to.file_name()),
    }
}

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    path: String,
    bytes: u64,
    sha256: String,
    #[serde(rename = "piece_count")]
    pieces: u32,
    compared: bool,
    may_lack_the_end: bool,
    damaged_list: Option<String>,
}

impl Report {
    fn new(made: &Reunited) -> Self {
        Self {
            command: "reunite",
            exit_code: if made.may_lack_the_end || made.damaged_list.is_some() { LOOK } else { DONE },
            path: text::path(&made.path),
            bytes: made.bytes,
            sha256: hexadecimal(&made.sum),
            pieces: made.pieces,
            compared: made.compared,
            may_lack_the_end: made.may_lack_the_end,
            damaged_list: made.damaged_list.as_deref().map(text::path),
        }
    }
}

fn lines(report: &Report) -> Vec<String> {
    let pieces = count(report.pieces.into(), "piece");
    let verdict = match (report.compared, report.may_lack_the_end, &report.damaged_list) {
        (true, _, _) => (Tone::Good, format!("{pieces} are one file again, and it is the one that was cut.")),
        (false, true, _) => {
            (Tone::Look, format!("Incomplete, perhaps: {pieces} are one file now, but its end may be missing."))
        }
        (false, false, Some(_)) => (Tone::Look, format!("{pieces} are one file now, compared with nothing.")),
        (false, false, None) => (Tone::Good, format!("{pieces} are one file now.")),
    };
    let proof = match (report.compared, &report.damaged_list) {
        (true, _) => "every piece and the whole compared with the list beside them".to_owned(),
        (false, Some(list)) => format!("with nothing, since {list} is damaged: ask the sender for it again"),
        (false, None) => "with nothing, since no list lies beside them: ask the sender for its SHA-256".to_owned(),
    };
    let mut lines = vec![
        paint(verdict.0, verdict.1),
        String::new(),
        format!("  size      {}", size(report.bytes)),
        format!("  SHA-256   {}", report.sha256),
        format!("  compared  {proof}"),
        format!("  where     {}", report.path),
    ];
    if report.may_lack_the_end {
        lines.extend([
            String::new(),
            "Nothing says how many pieces there are, and the last one is no shorter than the others. Ask the sender how many \
             there are."
                .to_owned(),
        ]);
    }
    lines
}
