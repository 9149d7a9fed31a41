//! `receipt`: the recipient's short code that everything could be unlocked and read.

use super::show;
use crate::args::{ReceiptArguments, UnlockArguments, WorkArguments};
use crate::failure::{DONE, Failure};
use crate::places::gather;
use crate::ui::paint::{Tone, paint};
use crate::ui::progress::ProgressLine;
use crate::ui::suggestion::{Part, command};
use crate::ui::text::{contents, shown, size};
use crate::words::NOT_SECRET;
use crate::{credentials, session};
use serde::Serialize;
use under_seal_core::formats::reader::ArchiveReader as _;
use under_seal_core::formats::sealed::SealedReader;
use under_seal_core::formats::sealed::volume::VolumeSet;
use under_seal_core::tasks::receipt::Receipt;

/// Runs the command; the exit code.
pub fn run(arguments: &ReceiptArguments) -> Result<u8, Failure> {
    let set = gather(&arguments.places)?.complete()?;
    let Made { archive, secret, receipt } = make(set, &arguments.unlock, &arguments.work)?;
    let totals = archive.totals();
    let report = Report {
        command: "receipt",
        exit_code: DONE,
        archive: shown(&archive.about().name),
        set: archive.set().ids.set_text(),
        secret,
        receipt: receipt.code(),
        files: totals.files,
        folders: totals.folders,
        links: totals.links,
        bytes: totals.content_bytes,
    };
    show(&report, &arguments.work, || lines(&report))?;
    Ok(DONE)
}

/// A receipt, and the archive that it was made of.
pub(super) struct Made {
    pub archive: SealedReader,
    pub secret: bool,
    pub receipt: Receipt,
}

/// Unlocks a whole set, reads all of it, and makes its receipt.
pub(super) fn make(set: VolumeSet, unlock: &UnlockArguments, work: &WorkArguments) -> Result<Made, Failure> {
    let unlocked = credentials::to_unlock(&set, unlock)?;
    let progress = ProgressLine::for_reading(Some(set.geometry.data_volumes), work);
    let context = session::context(&progress, work.threads);
    let (key, secret) = (unlocked.key.clone(), unlocked.secret);
    let mut archive = SealedReader::of(unlocked)?;
    let receipt = Receipt::make(&mut archive, &key, &context)?;
    Ok(Made { archive, secret, receipt })
}

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    archive: String,
    set: String,
    secret: bool,
    receipt: String,
    files: u64,
    folders: u64,
    links: u64,
    bytes: u64,
}

fn lines(report: &Report) -> Vec<String> {
    let what = contents(report.files, report.folders, report.links);
    let mut lines = vec![
        paint(
            Tone::Good,
            format!(
                "The receipt is made: everything in {} was unlocked and read, {what}, {}.",
                report.archive,
                size(report.bytes)
            ),
        ),
        String::new(),
        format!("  {}", paint(Tone::Strong, &report.receipt)),
        String::new(),
        "Next: tell the sender this receipt. It gives nothing away; the sender checks it with".to_owned(),
        command(&[Part::Word("confirm VOLUME"), Part::Word(&report.receipt)]),
    ];
    if !report.secret {
        lines.extend([String::new(), paint(Tone::Look, NOT_SECRET)]);
    }
    lines
}
