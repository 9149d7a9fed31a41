//! `portion`: any file as plain pieces.

use super::show;
use crate::args::PortionArguments;
use crate::failure::{BadValue, DONE, Failure};
use crate::session;
use crate::settings::Settings;
use crate::ui::paint::{Tone, paint};
use crate::ui::progress::ProgressLine;
use crate::ui::suggestion::{self, Part};
use crate::ui::table::{self, Column};
use crate::ui::text::{self, count, grouped, hexadecimal, size};
use serde::Serialize;
use std::path::{Path, PathBuf};
use under_seal_core::tasks::portion::{MadeFile, PortionRequest, Portioned, portion};

/// More pieces than this are drawn together.
const PIECES_LISTED: usize = 24;

/// Runs the command; the exit code.
pub fn run(arguments: &PortionArguments) -> Result<u8, Failure> {
    if arguments.file.is_dir() {
        return Err(folder_is_packed(arguments));
    }
    let settings = Settings::for_fit(arguments.fit.as_ref(), &arguments.configuration, arguments.work.threads)?;
    let limit = settings.fit.value.fit.volume_limit().ok_or(Failure::Value(BadValue::PiecesWithoutFit))?;
    let folder = arguments.to.clone().unwrap_or_else(|| PathBuf::from("."));
    let progress = ProgressLine::for_reading(None, &arguments.work);
    let context = session::context(&progress, arguments.work.threads);
    let made = portion(&PortionRequest { file: &arguments.file, folder: &folder, limit }, &context)?;
    drop(progress);
    let report = Report::new(&made, &arguments.file);
    show(&report, &arguments.work, || lines(&report))?;
    Ok(DONE)
}

/// A folder is no file that could be cut as it is.
fn folder_is_packed(arguments: &PortionArguments) -> Failure {
    let mut pack = vec![Part::Word("pack"), Part::Named(arguments.file.as_os_str())];
    if let Some(fit) = &arguments.fit {
        pack.extend([Part::Word("--fit"), Part::Named(fit.as_ref())]);
    }
    Failure::WithWayOut {
        why: Box::new(Failure::Value(BadValue::PiecesOfFolder(arguments.file.clone()))),
        sentence: "Pack and cut it in one step with".to_owned(),
        command: Some(suggestion::command(&pack)),
    }
}

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    file: String,
    bytes: u64,
    sha256: String,
    pieces: Vec<Piece>,
    list: String,
}

#[derive(Serialize)]
struct Piece {
    path: String,
    bytes: u64,
}

impl Report {
    fn new(made: &Portioned, file: &Path) -> Self {
        let piece = |piece: &MadeFile| Piece { path: text::path(&piece.path), bytes: piece.bytes };
        Self {
            command: "portion",
            exit_code: DONE,
            file: text::path(file),
            bytes: made.bytes,
            sha256: hexadecimal(&made.sum),
            pieces: made.pieces.iter().map(piece).collect(),
            list: text::path(&made.list),
        }
    }
}

fn lines(report: &Report) -> Vec<String> {
    let pieces = count(report.pieces.len() as u64, "plain piece");
    let heading = format!("{} is cut into {pieces}; each was read back from disk.", report.file);
    let mut lines = vec![paint(Tone::Good, heading), String::new()];
    let row = |piece: &Piece| (Tone::Plain, vec![piece.path.clone(), grouped(piece.bytes)]);
    let mut rows: Vec<_> = report.pieces.iter().map(row).collect();
    if rows.len() > PIECES_LISTED {
        let between = rows.len() - 2;
        let larger = report.pieces.first().map_or(0, |piece| piece.bytes);
        let together = vec![format!("… {between} more"), grouped(larger)];
        rows.splice(1..=between, [(Tone::Plain, together)]);
    }
    lines.extend(table::lines(&[Column::Path("piece"), Column::Number("bytes")], &rows));
    lines.extend([
        String::new(),
        format!("  before   {}", size(report.bytes)),
        format!("  SHA-256  {}", report.sha256),
        format!("  list     {}", report.list),
        String::new(),
        "Next: send all pieces, and the list with them: it says how anybody joins them. With Under Seal:".to_owned(),
        suggestion::command(&[Part::Word("reunite"), Part::Named(first_name(&report.pieces).as_ref())]),
        "The pieces are not encrypted: whoever has them can read them.".to_owned(),
    ]);
    lines
}

/// Any piece will do.
fn first_name(pieces: &[Piece]) -> String {
    let path = pieces.first().map(|piece| piece.path.as_str()).unwrap_or_default();
    path.rsplit('/').next().unwrap_or_default().to_owned()
}
