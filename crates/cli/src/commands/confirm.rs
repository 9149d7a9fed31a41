//! `confirm`: whether a receipt is right, and a ledger of those that were.

use super::receipt::{Made, make};
use super::show;
use crate::args::ConfirmArguments;
use crate::failure::{BadValue, DONE, Failure, LOOK};
use crate::named_file::MAX_TEXT_BYTES;
use crate::owner;
use crate::places::gather;
use crate::ui::paint::{Tone, paint};
use crate::ui::text::{self, shown};
use rustix::fs::{Mode, OFlags};
use serde::{Deserialize, Serialize};
use std::fs::File;
use std::io::{self, Read as _, Write as _};
use std::path::{Path, PathBuf};
use std::slice;
use under_seal_core::disk::{FileAction, FileError, Links, open_regular};
use under_seal_core::formats::sealed::volume::VolumeSet;
use under_seal_core::ground::entry::Timestamp;
use under_seal_core::tasks::receipt::Receipt;

/// What the ledger's name ends in.
const LEDGER: &str = ".confirmed.jsonl";

/// Runs the command; the exit code.
pub fn run(arguments: &ConfirmArguments) -> Result<u8, Failure> {
    // Told in groups, it may be typed in groups.
    let told = Receipt::read(&arguments.receipt.join("-")).map_err(|error| Failure::Value(BadValue::Code(error)))?;
    let set = gather(slice::from_ref(&arguments.archive))?.complete()?;
    if !told.is_of(&set.ids.set) {
        return Err(Failure::Value(BadValue::OtherReceipt));
    }
    let Made { archive, receipt: right, .. } = make(set, &arguments.unlock, &arguments.work)?;
    let name = shown(&archive.about().name);
    let ledger = ledger_path(archive.set(), &archive.about().name);
    if right.confirms(&told) {
        let line = Line {
            when: jiff::Timestamp::now().to_string(),
            who: arguments.by.clone(),
            archive: name.clone(),
            set: archive.set().ids.set_text(),
            receipt: told.code(),
            proof: None,
        };
        let line = Line { proof: Some(line.right_proof()), ..line };
        write_line(&ledger, &line).map_err(|error| Failure::File(FileError::on(FileAction::Write, &ledger)(error)))?;
    }
    let report = Report {
        command: "confirm",
        exit_code: if right.confirms(&told) { DONE } else { LOOK },
        archive: name,
        set: archive.set().ids.set_text(),
        confirmed: right.confirms(&told),
        ledger: text::path(&ledger),
        confirmations: read_lines(&ledger),
    };
    show(&report, &arguments.work, || lines(&report))?;
    Ok(report.exit_code)
}

/// Beside the volumes, under the archive's name.
fn ledger_path(set: &VolumeSet, name: &[u8]) -> PathBuf {
    let folder = set.any_file().and_then(|file| file.path.parent()).unwrap_or(Path::new("."));
    // Whoever made the archive chose its name; it must lead nowhere else.
    let safe: String = shown(name).chars().map(|letter| if letter == '/' { '_' } else { letter }).collect();
    let path = folder.join(format!("{safe}{LEDGER}"));
    std::path::absolute(&path).unwrap_or(path)
}

/// A line of the ledger.
#[derive(Serialize, Deserialize)]
struct Line {
    when: String,
    who: Option<String>,
    archive: String,
    set: String,
    receipt: String,
    /// That a run of this user's has written the line, by a key that nobody else has.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    proof: Option<String>,
}

impl Line {
    fn right_proof(&self) -> String {
        let Self { when, who, archive, set, receipt, .. } = self;
        // Nobody, and somebody without a name, are not the same.
        let who = who.as_ref().map_or(String::new(), |who| format!("by {who}"));
        let parts = [when, &who, archive, set, receipt].map(|part| part.as_bytes());
        owner::key().proof("confirmation", &parts)
    }
}

fn write_line(ledger: &Path, line: &Line) -> io::Result<()> {
    let mut text = serde_json::to_string(line)?;
    text.push('\n');
    // The name comes out of the archive: what has it must be a file itself, no link and nothing that would be waited for.
    let flags =
        OFlags::WRONLY | OFlags::CREATE | OFlags::APPEND | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    let mut file = File::from(rustix::fs::open(ledger, flags, Mode::from_raw_mode(0o666))?);
    if !file.metadata()?.is_file() {
        return Err(io::Error::new(io::ErrorKind::InvalidInput, "it is not a file"));
    }
    file.write_all(text.as_bytes())?;
    file.sync_all()
}

/// What the ledger holds; lines of somebody else's making are passed over.
fn read_lines(ledger: &Path) -> Vec<Confirmation> {
    let Ok((file, _)) = open_regular(ledger, Links::Refuse) else { return Vec::new() };
    let mut text = String::new();
    if file.take(MAX_TEXT_BYTES).read_to_string(&mut text).is_err() {
        return Vec::new();
    }
    let confirmation = |mut line: Line| {
        let own = line.proof.take().is_some_and(|proof| proof == line.right_proof());
        Confirmation { line, own }
    };
    text.lines().filter_map(|line| serde_json::from_str(line).ok().map(confirmation)).collect()
}

/// A ledger's point in time, here and to the minute; as it stands, where it is none.
fn here(when: &str) -> String {
    match when.parse::<jiff::Timestamp>() {
        Ok(when) => text::time(Timestamp { seconds: when.as_second(), nanoseconds: 0 }),
        Err(_) => shown(when.as_bytes()),
    }
}

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    archive: String,
    set: String,
    confirmed: bool,
    ledger: String,
    confirmations: Vec<Confirmation>,
}

/// A line of the ledger, and whether the user's own run has written it so.
#[derive(Serialize)]
struct Confirmation {
    #[serde(flatten)]
    line: Line,
    own: bool,
}

fn lines(report: &Report) -> Vec<String> {
    let mut lines = match report.confirmed {
        true => vec![paint(
            Tone::Good,
            format!("Yes. Whoever made this receipt had the password and every byte of {}.", report.archive),
        )],
        false => vec![
            paint(Tone::Bad, format!("No. This is not the receipt of {}, although it is well typed.", report.archive)),
            "Next: ask the recipient to check the volumes, and to make the receipt again.".to_owned(),
        ],
    };
    let of_this = || report.confirmations.iter().filter(|confirmation| confirmation.line.set == report.set);
    if of_this().next().is_some() {
        lines.extend([String::new(), paint(Tone::Strong, "Confirmed so far:")]);
        lines.extend(of_this().map(|Confirmation { line, own }| {
            let who = line.who.as_deref().map_or("somebody".to_owned(), |who| shown(who.as_bytes()));
            let whose = if *own { "" } else { " (not noted by you, or changed since)" };
            format!("  {}  {who}{whose}", here(&line.when))
        }));
        lines.push(format!("Kept in {}", report.ledger));
    }
    lines
}
