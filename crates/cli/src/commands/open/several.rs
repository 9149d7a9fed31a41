//! `open --all`: every archive that is there is opened, as if one after the other were named, and the end says what came of each.

use super::{Report, extract_from};
use crate::args::OpenArguments;
use crate::commands::deliveries::{self, Delivery, Parcel};
use crate::commands::show;
use crate::credentials::{Keyring, NO_PASSWORD};
use crate::failure::{CANCELLED, DONE, Failure};
use crate::places::gather_each;
use crate::ui::paint::{Tone, paint};
use crate::ui::prompt;
use crate::ui::table::{self, Column};
use crate::ui::text::{self, contents, count};
use crate::words;
use serde::Serialize;
use std::path::PathBuf;
use under_seal_core::formats::sealed::SealedReader;
use under_seal_core::formats::sealed::volume::VolumeSet;
use under_seal_core::source::Patterns;

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct SeveralReport {
    command: &'static str,
    exit_code: u8,
    archives: Vec<Report>,
    not_opened: Vec<NotOpened>,
    deliveries: Vec<Delivery>,
}

/// An archive that was not opened.
#[derive(Serialize)]
struct NotOpened {
    path: String,
    exit_code: u8,
    reason: String,
}

/// Opens each of them; the exit code, which is that of the worst.
pub(super) fn run(arguments: &OpenArguments, places: &[PathBuf]) -> Result<u8, Failure> {
    let mut keyring = Keyring::given(&arguments.unlock, prompt::can_ask())?;
    let mut report = SeveralReport {
        command: "open",
        exit_code: DONE,
        archives: Vec::new(),
        not_opened: Vec::new(),
        deliveries: Vec::new(),
    };
    let mut parcels: Vec<Parcel> = Vec::new();
    for set in gather_each(places, &arguments.work)? {
        let example = set.any_file().map(|file| text::path(&file.spot.path)).unwrap_or_default();
        match open_one(arguments, set, &mut keyring) {
            Ok((opened, parcel)) => {
                report.archives.push(opened);
                parcels.extend(parcel);
            }
            // Whoever stops, stops all of it.
            Err(failure) if failure.exit_code() == CANCELLED => return Err(failure),
            Err(failure) => report.not_opened.push(NotOpened {
                path: example,
                exit_code: failure.exit_code(),
                reason: words::explain(&failure),
            }),
        }
    }
    report.deliveries = deliveries::of(parcels.iter());
    let opened = report.archives.iter().map(|report| report.exit_code);
    let codes = opened.chain(report.not_opened.iter().map(|one| one.exit_code));
    report.exit_code = deliveries::exit_code(codes, &report.deliveries);
    show(&report, &arguments.work, || lines(&report))?;
    Ok(report.exit_code)
}

fn open_one(
    arguments: &OpenArguments,
    set: VolumeSet,
    keyring: &mut Keyring<'_>,
) -> Result<(Report, Option<Parcel>), Failure> {
    let unlocked = keyring.unlock(&set.complete()?)?.ok_or(NO_PASSWORD)?;
    let reader = SealedReader::of(unlocked)?;
    let parcel = reader.about().parcel.as_ref().map(Parcel::from);
    Ok((extract_from(arguments, reader.into(), &Patterns::default())?, parcel))
}

fn lines(report: &SeveralReport) -> Vec<String> {
    let all = report.archives.len() + report.not_opened.len();
    let heading = match (report.not_opened.len(), deliveries::are_whole(&report.deliveries)) {
        (0, true) if report.exit_code == DONE => (Tone::Good, format!("{} are open.", count(all as u64, "archive"))),
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
    let lost = |one: &NotOpened| (Tone::Bad, vec![one.path.clone(), "not opened".to_owned(), "-".to_owned()]);
    rows.extend(report.not_opened.iter().map(lost));
    lines.extend(table::lines(&[Column::Path("archive"), Column::Text("extracted"), Column::Path("into")], &rows));
    lines.push(String::new());
    lines.extend(report.deliveries.iter().map(|delivery| delivery.line("were opened")));
    lines.extend(report.not_opened.iter().map(|one| format!("{}: {}", one.path, one.reason)));
    for (one, all_but) in report.archives.iter().filter_map(|one| Some((one, one.all_but()?))) {
        lines.push(paint(Tone::Look, format!("{} was extracted, {all_but}:", one.archive)));
        lines.extend(one.left_behind_lines());
    }
    lines
}
