//! `open --all`: every archive that is there is opened, as if one after the other were named, and the end says what came of each.

use super::{Report, extract_from};
use crate::args::OpenArguments;
use crate::commands::deliveries::{self, Delivery, Parcel};
use crate::commands::resend::stem;
use crate::commands::show;
use crate::credentials::{Keyring, NO_PASSWORD};
use crate::failure::{CANCELLED, DONE, Failure};
use crate::places::gather_each;
use crate::session;
use crate::ui::paint::{Tone, paint};
use crate::ui::progress::ProgressLine;
use crate::ui::prompt;
use crate::ui::table::{self, Column};
use crate::ui::text::{self, contents, count, shown};
use crate::words;
use serde::Serialize;
use std::path::PathBuf;
use under_seal_core::formats::reader::ArchiveReader as _;
use under_seal_core::formats::sealed::SealedReader;
use under_seal_core::formats::sealed::volume::VolumeSet;
use under_seal_core::ground::context::Context;
use under_seal_core::source::Patterns;
use under_seal_core::tasks::open::upon::look;

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct SeveralReport {
    command: &'static str,
    exit_code: u8,
    archives: Vec<Report>,
    not_opened: Vec<NotOpened>,
    /// Those whose files were there already, and that others build upon.
    already_there: Vec<String>,
    deliveries: Vec<Delivery>,
}

/// An archive that was not opened.
#[derive(Serialize)]
struct NotOpened {
    /// As the others are called in the table.
    #[serde(skip)]
    name: String,
    path: String,
    exit_code: u8,
    reason: String,
}

impl NotOpened {
    /// Whoever stops, stops all of it.
    fn new((name, path): (String, String), failure: Failure) -> Result<Self, Failure> {
        match failure.exit_code() {
            CANCELLED => Err(failure),
            exit_code => Ok(Self { name, path, exit_code, reason: words::explain(&failure) }),
        }
    }
}

/// Opens each of them, one that others build upon before those; the exit code, which is that of the worst.
pub(super) fn run(arguments: &OpenArguments, places: &[PathBuf]) -> Result<u8, Failure> {
    let mut keyring = Keyring::given(&arguments.unlock, prompt::can_ask())?;
    let mut report = SeveralReport {
        command: "open",
        exit_code: DONE,
        archives: Vec::new(),
        not_opened: Vec::new(),
        already_there: Vec::new(),
        deliveries: Vec::new(),
    };
    let mut parcels: Vec<Parcel> = Vec::new();
    let mut readers = Vec::new();
    for set in gather_each(places, &arguments.work)? {
        let path = set.any_file().map(|file| text::path(&file.spot.path)).unwrap_or_default();
        let example = (shown(stem(&set).as_encoded_bytes()), path);
        match unlocked(set, &mut keyring) {
            Ok(reader) => readers.push((reader, example)),
            Err(failure) => report.not_opened.push(NotOpened::new(example, failure)?),
        }
    }
    let silent = ProgressLine::for_reading(None, &arguments.work);
    let context = session::context(&silent, arguments.work.threads);
    let readers = in_order(readers);
    let there = already_there(&readers, arguments, &context)?;
    for (at, (reader, example)) in readers.into_iter().enumerate() {
        if there.contains(&at) {
            report.already_there.push(shown(&reader.about().name));
            continue;
        }
        let parcel = reader.about().parcel.as_ref().map(Parcel::from);
        match extract_from(arguments, reader.into(), &Patterns::default()) {
            Ok(opened) => {
                report.archives.push(opened);
                parcels.extend(parcel);
            }
            Err(failure) => report.not_opened.push(NotOpened::new(example, failure)?),
        }
    }
    report.deliveries = deliveries::of(parcels.iter());
    let opened = report.archives.iter().map(|report| report.exit_code);
    let codes = opened.chain(report.not_opened.iter().map(|one| one.exit_code));
    report.exit_code = deliveries::exit_code(codes, &report.deliveries);
    show(&report, &arguments.work, || lines(&report))?;
    Ok(report.exit_code)
}

fn unlocked(set: VolumeSet, keyring: &mut Keyring<'_>) -> Result<SealedReader, Failure> {
    Ok(SealedReader::of(keyring.unlock(&set.complete()?)?.ok_or(NO_PASSWORD)?)?)
}

/// An unlocked archive, with what its files are called and where one of them is.
type Named = (SealedReader, (String, String));

/// Archives in an order in which each comes behind the one that it builds upon.
fn in_order(mut readers: Vec<Named>) -> Vec<Named> {
    let mut ordered = Vec::with_capacity(readers.len());
    while !readers.is_empty() {
        let is_first = |one: &Named| !readers.iter().any(|(other, _)| builds_upon(&one.0, other));
        // In a circle, which nobody can make by accident, any may be the first.
        let first = readers.iter().position(is_first).unwrap_or(0);
        ordered.push(readers.remove(first));
    }
    ordered
}

fn builds_upon(one: &SealedReader, other: &SealedReader) -> bool {
    one.base_name().is_some_and(|base| base.set == other.set().ids.set && base.index_digest == other.index_digest())
}

/// Those, by their places, whose files the folder holds already, or what later changes made of them: what builds upon one finds it there.
fn already_there(readers: &[Named], arguments: &OpenArguments, context: &Context<'_>) -> Result<Vec<usize>, Failure> {
    let mut there = Vec::new();
    for (at, (reader, _)) in readers.iter().enumerate() {
        let totals = reader.totals();
        let bears_witness = totals.files + totals.links > 0;
        for (later, _) in readers.iter().filter(|(later, _)| bears_witness && builds_upon(later, reader)) {
            if let Some(base) = later.base()?
                && !look(base, later.entries()?, &arguments.into, context)?.lacks_base
            {
                there.push(at);
                break;
            }
        }
    }
    Ok(there)
}

fn lines(report: &SeveralReport) -> Vec<String> {
    let all = report.archives.len() + report.not_opened.len();
    let heading = match (report.not_opened.len(), deliveries::are_whole(&report.deliveries)) {
        (0, true) if report.exit_code == DONE => {
            let are = if all == 1 { "is" } else { "are" };
            (Tone::Good, format!("{} {are} open.", count(all as u64, "archive")))
        }
        (0, _) => (Tone::Look, format!("{} are open, and something needs attention.", count(all as u64, "archive"))),
        _ => {
            (Tone::Bad, format!("Incomplete: {} of {} are open.", report.archives.len(), count(all as u64, "archive")))
        }
    };
    let mut lines = vec![paint(heading.0, heading.1), String::new()];
    let row = |one: &Report| {
        let inside = contents(one.files, one.folders, one.links);
        let tone = if one.exit_code == DONE { Tone::Plain } else { Tone::Look };
        (tone, vec![one.archive.clone(), inside, one.destination.clone()])
    };
    let mut rows: Vec<_> = report.archives.iter().map(row).collect();
    let lost = |one: &NotOpened| (Tone::Bad, vec![one.name.clone(), "not opened".to_owned(), "-".to_owned()]);
    rows.extend(report.not_opened.iter().map(lost));
    lines.extend(table::lines(&[Column::Path("archive"), Column::Text("extracted"), Column::Path("into")], &rows));
    lines.push(String::new());
    lines.extend(report.deliveries.iter().map(|delivery| delivery.line("were opened")));
    lines.extend(report.not_opened.iter().map(|one| format!("{}: {}", one.path, one.reason)));
    lines.extend(report.already_there.iter().map(|name| format!("{name}: its files were there already.")));
    for (one, all_but) in report.archives.iter().filter_map(|one| Some((one, one.all_but()?))) {
        lines.push(paint(Tone::Look, format!("{} was extracted, {all_but}:", one.archive)));
        lines.extend(one.left_behind_lines());
    }
    lines
}
