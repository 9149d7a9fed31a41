//! `receipt`: the recipient's short code that everything could be unlocked and read.

use super::deliveries::{self, Delivery, Parcel};
use super::{Printing, print_lines, show};
use crate::args::{ReceiptArguments, UnlockArguments, WorkArguments};
use crate::credentials::{self, Keyring};
use crate::failure::{DONE, Failure};
use crate::places::{gather_each, searched};
use crate::session;
use crate::ui::paint::{Tone, paint};
use crate::ui::progress::ProgressLine;
use crate::ui::prompt;
use crate::ui::suggestion::{Part, command};
use crate::ui::table::{self, Column};
use crate::ui::text::{contents, count, shown, size};
use crate::words::NOT_SECRET;
use serde::Serialize;
use std::slice;
use under_seal_core::formats::reader::ArchiveReader as _;
use under_seal_core::formats::sealed::volume::VolumeSet;
use under_seal_core::formats::sealed::{SealedReader, UnlockedSet};
use under_seal_core::tasks::receipt::Receipt;

/// Runs the command; the exit code.
pub fn run(arguments: &ReceiptArguments) -> Result<u8, Failure> {
    let mut sets = gather_each(&searched(&arguments.places, arguments.search), &arguments.work)?;
    match (sets.pop(), sets.is_empty()) {
        (Some(only), true) => {
            let report = Report::of(make(only.complete()?, &arguments.unlock, &arguments.work)?);
            print_receipts(slice::from_ref(&report), &arguments.work)?;
            show(&report, &arguments.work, || lines(&report))?;
            Ok(DONE)
        }
        (last, _) => several(sets.into_iter().chain(last).collect(), arguments),
    }
}

/// A receipt of each of several archives, such as the parcels of a delivery.
fn several(sets: Vec<VolumeSet>, arguments: &ReceiptArguments) -> Result<u8, Failure> {
    let mut keyring = Keyring::given(&arguments.unlock, prompt::can_ask())?;
    let mut archives = Vec::new();
    for set in sets {
        let unlocked = keyring.unlock(&set.complete()?)?.ok_or(credentials::NO_PASSWORD)?;
        archives.push(Report::of(make_of(unlocked, &arguments.work)?));
    }
    let deliveries = deliveries::of(archives.iter().filter_map(|report| report.parcel.as_ref()));
    let exit_code = deliveries::exit_code(std::iter::once(DONE), &deliveries);
    let report = Several { command: "receipt", exit_code, archives, deliveries };
    print_receipts(&report.archives, &arguments.work)?;
    show(&report, &arguments.work, || lines_of_several(&report))?;
    Ok(exit_code)
}

/// Where nothing else is printed, receipts are: they are what the command is for.
fn print_receipts(reports: &[Report], work: &WorkArguments) -> Result<(), Failure> {
    match Printing::from(work) {
        Printing::Nothing => print_lines(&reports.iter().map(|one| one.receipt.clone()).collect::<Vec<_>>()),
        Printing::Lines | Printing::Json => Ok(()),
    }
}

/// A receipt, and the archive that it was made of.
pub(super) struct Made {
    pub archive: SealedReader,
    pub secret: bool,
    pub receipt: Receipt,
}

/// Unlocks a whole set, reads all of it, and makes its receipt.
pub(super) fn make(set: VolumeSet, unlock: &UnlockArguments, work: &WorkArguments) -> Result<Made, Failure> {
    make_of(credentials::to_unlock(&set, unlock)?, work)
}

fn make_of(unlocked: UnlockedSet, work: &WorkArguments) -> Result<Made, Failure> {
    let progress = ProgressLine::for_reading(Some(unlocked.set.geometry.data_volumes), work);
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
    parcel: Option<Parcel>,
}

impl Report {
    fn of(Made { archive, secret, receipt }: Made) -> Self {
        let totals = archive.totals();
        Self {
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
            parcel: archive.about().parcel.as_ref().map(Parcel::from),
        }
    }
}

/// The JSON object of several archives (docs/json.md).
#[derive(Serialize)]
struct Several {
    command: &'static str,
    exit_code: u8,
    archives: Vec<Report>,
    deliveries: Vec<Delivery>,
}

fn lines_of_several(report: &Several) -> Vec<String> {
    let count = count(report.archives.len() as u64, "archive");
    let heading = match deliveries::are_whole(&report.deliveries) {
        true => paint(Tone::Good, format!("The receipts are made: everything in {count} was unlocked and read.")),
        false => paint(
            Tone::Bad,
            format!("Incomplete: everything in {count} was unlocked and read, and parcels are missing."),
        ),
    };
    let row = |one: &Report| {
        let inside = contents(one.files, one.folders, one.links);
        let tone = if one.secret { Tone::Plain } else { Tone::Look };
        (tone, vec![one.archive.clone(), inside, one.receipt.clone()])
    };
    let rows: Vec<_> = report.archives.iter().map(row).collect();
    let columns = [Column::Path("archive"), Column::Text("holds"), Column::Text("receipt")];
    let mut lines = vec![heading, String::new()];
    lines.extend(table::lines(&columns, &rows));
    lines.push(String::new());
    lines.extend(report.deliveries.iter().map(|delivery| delivery.line("were read")));
    lines.push("Next: tell the sender these receipts. They give nothing away; the sender checks each with".to_owned());
    lines.push(command(&[Part::Word("confirm FOLDER RECEIPT")]));
    if report.archives.iter().any(|one| !one.secret) {
        lines.extend([String::new(), paint(Tone::Look, NOT_SECRET)]);
    }
    lines
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
