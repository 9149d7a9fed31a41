//! Several archives in one place: each is checked, and then it is said what is whole and what is not.

use super::{Report, Seen, look, name_on_files};
use crate::args::CheckArguments;
use crate::commands::deliveries::{self, Delivery};
use crate::commands::show;
use crate::credentials::Keyring;
use crate::failure::Failure;
use crate::ui::paint::{Tone, paint};
use crate::ui::suggestion::{self, Part};
use crate::ui::table::{self, Column};
use crate::ui::text::{self, count};
use crate::words;
use serde::Serialize;
use std::collections::BTreeMap;
use std::path::PathBuf;
use under_seal_core::formats::sealed::volume::VolumeSet;

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct SeveralReport {
    command: &'static str,
    exit_code: u8,
    archives: Vec<Report>,
    deliveries: Vec<Delivery>,
    #[serde(skip)]
    told: Vec<Told>,
}

/// What is told of one archive.
struct Told {
    name: String,
    volumes: String,
    /// Why it was not unlocked.
    locked: Option<String>,
    example: PathBuf,
}

/// Checks each of them; the exit code, which is that of the worst.
pub(super) fn run(sets: Vec<VolumeSet>, arguments: &CheckArguments) -> Result<u8, Failure> {
    let asks = arguments.ask_password && !arguments.unlock.accept_no_password;
    let mut keyring = Keyring::given(&arguments.unlock, asks)?.expecting(asks);
    let (mut archives, mut told) = (Vec::new(), Vec::new());
    for set in sets {
        let unlocked = keyring.unlock(&set);
        let Seen { set, found: seen, secret, inside } = look(set, unlocked, arguments)?;
        let (contents, failure) = match inside {
            Ok(contents) => (contents, None),
            Err(failure) => (None, Some(failure)),
        };
        let mut report = Report::new(&set, &seen, contents, secret)?;
        if let Some(failure) = &failure {
            report.exit_code = report.exit_code.max(failure.exit_code());
        }
        let name = report.contents.as_ref().map(|inside| inside.archive.clone()).or_else(|| name_on_files(&set));
        told.push(Told {
            name: name.unwrap_or_else(|| format!("set {}", report.set.get(..8).unwrap_or(&report.set))),
            volumes: format!("{} of {}", set.volumes.len(), set.geometry.data_volumes),
            locked: failure.as_ref().map(words::explain),
            example: set.any_file().map(|file| file.spot.path.clone()).unwrap_or_default(),
        });
        archives.push(report);
    }
    tell_apart(&mut told);
    let deliveries = deliveries::of(archives.iter().filter_map(|report| report.contents.as_ref()?.parcel.as_ref()));
    let exit_code = deliveries::exit_code(archives.iter().map(|report| report.exit_code), &deliveries);
    let report = SeveralReport { command: "check", exit_code, archives, deliveries, told };
    show(&report, &arguments.work, || lines(&report, arguments))?;
    Ok(exit_code)
}

/// Archives of one name are told by one of their files too.
fn tell_apart(told: &mut [Told]) {
    let mut counts: BTreeMap<String, usize> = BTreeMap::new();
    told.iter().for_each(|one| *counts.entry(one.name.clone()).or_default() += 1);
    for one in told.iter_mut().filter(|one| counts.get(&one.name).is_some_and(|count| *count > 1)) {
        one.name = format!("{} ({})", one.name, text::path(&one.example));
    }
}

fn lines(report: &SeveralReport, arguments: &CheckArguments) -> Vec<String> {
    let both = || report.archives.iter().zip(&report.told);
    let row = |(archive, told): (&Report, &Told)| {
        let wrong = archive.wrong();
        let (tone, state) = match (&archive.contents, &told.locked) {
            _ if !wrong.is_empty() => (Tone::Bad, format!("incomplete: {wrong}")),
            (_, Some(_)) => (Tone::Bad, "here, and not opened".to_owned()),
            (Some(_), None) if archive.secret => (Tone::Plain, "genuine and complete".to_owned()),
            (Some(_), None) => (Tone::Look, "complete; it has no password".to_owned()),
            (None, None) => (Tone::Plain, "whole".to_owned()),
        };
        (tone, vec![told.name.clone(), told.volumes.clone(), state])
    };
    let columns = [Column::Path("archive"), Column::Number("volumes"), Column::Text("state")];
    let mut lines = vec![
        paint(Tone::Strong, format!("{} are here", count(report.archives.len() as u64, "archive"))),
        String::new(),
    ];
    lines.extend(table::lines(&columns, &both().map(row).collect::<Vec<_>>()));
    lines.push(String::new());
    let is_good = |(archive, told): &(&Report, &Told)| archive.complete && told.locked.is_none();
    let (all, good) = (report.archives.len(), both().filter(is_good).count());
    let all_of = if all == 2 { "Both archives".to_owned() } else { format!("All {all} archives") };
    let opened = both().all(|(archive, _)| archive.contents.is_some());
    lines.push(match (good == all, opened) {
        (true, true) if !deliveries::are_whole(&report.deliveries) => {
            paint(Tone::Bad, "Incomplete: every archive that is here is whole, and parcels are missing.")
        }
        (true, true) => paint(Tone::Good, format!("{all_of} are whole, and everything in them is complete.")),
        (true, false) => {
            paint(Tone::Good, format!("{all_of} are whole. Add --ask-password to check that nobody changed them."))
        }
        (false, _) => paint(Tone::Bad, format!("Incomplete: {good} of {all} archives are whole.")),
    });
    lines.extend(report.deliveries.iter().map(|delivery| delivery.line("are here and whole")));
    for (_, Told { name, locked, .. }) in both() {
        lines.extend(locked.iter().map(|why| format!("{name}: {why}")));
    }
    if let Some((_, first)) = both().find(|one| !is_good(one)) {
        lines.push(format!("Next: see what {} lacks with", first.name));
        lines.push(suggestion::check([first.example.as_ref()]));
    } else if !arguments.places.is_empty() {
        let all = if deliveries::are_whole(&report.deliveries) { "all of them" } else { "those that are here" };
        lines.push(format!("Next: open {all} with"));
        let places = arguments.places.iter().map(|place| Part::Named(place.as_os_str()));
        let parts = std::iter::once(Part::Word("open")).chain(places).chain([Part::Word("--all --into opened")]);
        let parts = parts.chain(arguments.search.deep.then_some(Part::Word("--deep")));
        lines.push(suggestion::command(&parts.collect::<Vec<_>>()));
    }
    lines
}
