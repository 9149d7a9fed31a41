//! A rehearsal of several archives, such as the parcels of a delivery: each is played by itself, against what of the sources it holds, and
//! in the end nothing of the sources may be in none of them.

use super::{Played, Report, StepLine, rehearse_one, sources};
use crate::args::RehearseArguments;
use crate::commands::deliveries::{self, Delivery, Parcel};
use crate::commands::open::Report as OpenReport;
use crate::commands::show;
use crate::credentials::{Keyring, NO_PASSWORD, Tried};
use crate::failure::{DONE, Failure, LOOK};
use crate::session;
use crate::ui::paint::{Tone, paint};
use crate::ui::progress::ProgressLine;
use crate::ui::prompt;
use crate::ui::section::first_listed;
use crate::ui::table::{self, Column};
use crate::ui::text::{count, shown};
use crate::words;
use serde::Serialize;
use std::collections::{BTreeMap, HashSet};
use under_seal_core::formats::abilities::TimesKept;
use under_seal_core::formats::error::ArchiveError;
use under_seal_core::formats::reader::ArchiveReader as _;
use under_seal_core::formats::sealed::SealedReader;
use under_seal_core::formats::sealed::volume::VolumeSet;
use under_seal_core::ground::context::Context;
use under_seal_core::ground::entry::EntryPath;
use under_seal_core::source::Choice;
use under_seal_core::tasks::rehearse::carriers::Way;

/// So many paths are shown.
const LISTED: usize = 20;

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct SeveralReport {
    command: &'static str,
    exit_code: u8,
    archives: Vec<Report>,
    /// What came of the note of a handover, as the recipient follows it.
    note: Vec<StepLine>,
    deliveries: Vec<Delivery>,
    /// What of the sources is in none of them.
    in_none: Vec<String>,
    #[serde(skip)]
    names: Vec<String>,
}

/// What an archive says of itself once it is unlocked.
pub(super) struct Inside {
    pub paths: HashSet<EntryPath>,
    pub parcel: Option<Parcel>,
    name: String,
}

impl Inside {
    pub fn of(tried: &Tried) -> Result<Self, Failure> {
        let reader = SealedReader::unlock(tried.set.clone(), &tried.credentials)?;
        let paths = reader.listing().iter().map(|listed| Ok(listed?.entry.path.clone()));
        Ok(Self {
            paths: paths.collect::<Result<_, ArchiveError>>()?,
            parcel: reader.about().parcel.as_ref().map(Parcel::from),
            name: shown(&reader.about().name),
        })
    }
}

/// Plays each of them; the exit code.
pub(super) fn run(
    sets: Vec<VolumeSet>,
    arguments: &RehearseArguments,
    choice: &Choice,
    way: Way,
    is_handover: bool,
) -> Result<u8, Failure> {
    let mut keyring = Keyring::given(&arguments.unlock, prompt::can_ask())?;
    let (mut archives, mut parcels, mut names) = (Vec::new(), Vec::new(), Vec::new());
    let (mut expected, mut credentials) = (BTreeMap::new(), None);
    let mut times = TimesKept::Neither;
    let mut inside: HashSet<EntryPath> = HashSet::new();
    for set in sets {
        let tried = keyring.tried(&set)?.ok_or(NO_PASSWORD)?;
        let Inside { paths: here, parcel, name } = Inside::of(&tried)?;
        parcels.extend(parcel);
        names.push(name);
        let of_it = |context: &Context<'_>| Ok(sources(arguments, choice, context)?.only(&here));
        let played = Played::of_volumes(tried);
        let (report, received) = rehearse_one(&played, arguments, way, of_it)?;
        archives.push(report);
        if let Some(received) = received {
            // Archives of one delivery are of one format.
            times = received.times;
            expected.extend(received.expected.into_iter().map(|listed| (listed.entry.path.clone(), listed)));
        }
        credentials = credentials.or_else(|| played.package.is_secret().then(|| played.credentials.clone()));
        inside.extend(here);
    }
    let progress = ProgressLine::for_reading(None, &arguments.work);
    let context = session::context(&progress, arguments.work.threads);
    let all = sources(arguments, choice, &context)?;
    let in_none = all.entries.iter().map(|entry| &entry.path).filter(|path| !inside.contains(*path));
    let in_none: Vec<String> = in_none.map(|path| shown(path.as_bytes())).collect();
    drop(progress);
    let note = match is_handover && archives.iter().all(|one| one.passed) {
        true => {
            let expected: Vec<_> = expected.into_values().collect();
            super::play_note(arguments, credentials.as_ref(), (&expected, times), None)?
        }
        false => Vec::new(),
    };
    let deliveries = deliveries::of(parcels.iter());
    let led_astray = note.iter().any(|step| !step.passed);
    let worst =
        archives.iter().map(|report| report.exit_code).chain((!in_none.is_empty() || led_astray).then_some(LOOK));
    let exit_code = deliveries::exit_code(worst, &deliveries);
    let report = SeveralReport { command: "rehearse", exit_code, archives, note, deliveries, in_none, names };
    show(&report, &arguments.work, || lines(&report))?;
    Ok(exit_code)
}

fn lines(report: &SeveralReport) -> Vec<String> {
    let all = count(report.archives.len() as u64, "archive");
    let passed = report.archives.iter().filter(|one| one.passed).count();
    let led_astray = report.note.iter().any(|step| !step.passed);
    let all_here = !led_astray && report.in_none.is_empty() && deliveries::are_whole(&report.deliveries);
    let opened = report.archives.iter().filter_map(|one| one.opened.as_ref()).map(OpenReport::left_behind);
    let (links, others) = opened.fold((0, 0), |(links, others), (more, further)| (links + more, others + further));
    let all_but = words::all_but(links, others);
    let heading = match (report.exit_code, passed == report.archives.len()) {
        (DONE, _) => {
            paint(Tone::Good, format!("The recipient can open all of it: {all} were delivered, opened and compared."))
        }
        (_, true) if all_here && all_but.is_some() => paint(
            Tone::Look,
            format!(
                "The recipient can open it, {}: {all} were delivered, opened and compared.",
                all_but.unwrap_or_default()
            ),
        ),
        (_, true) if led_astray => {
            paint(Tone::Bad, format!("The rehearsal failed: {all} can be opened, but not by the note."))
        }
        (_, true) => paint(Tone::Bad, format!("Incomplete: {all} can be opened, and that is not all.")),
        (_, false) => paint(
            Tone::Bad,
            format!("The rehearsal failed: {passed} of {all} came through, and were as the sources are."),
        ),
    };
    let row = |(one, name): (&Report, &String)| {
        let seconds: f64 = one.steps.iter().map(|step| step.seconds).sum();
        let verdict = one.why.clone().unwrap_or_else(|| "opened, and the same as the sources".to_owned());
        let tone = if one.passed { Tone::Plain } else { Tone::Bad };
        (tone, vec![name.clone(), format!("{seconds:.1} s"), verdict])
    };
    let mut rows: Vec<_> = report.archives.iter().zip(&report.names).map(row).collect();
    rows.extend(report.note.iter().map(|step| {
        let tone = if step.passed { Tone::Plain } else { Tone::Bad };
        (tone, vec![format!("({})", step.step), format!("{:.1} s", step.seconds), step.verdict.clone()])
    }));
    let mut lines = vec![heading, String::new()];
    lines.extend(table::lines(&[Column::Path("archive"), Column::Number("took"), Column::Text("verdict")], &rows));
    lines.extend(report.archives.iter().filter_map(|one| one.opened.as_ref()).flat_map(OpenReport::left_behind_lines));
    lines.push(String::new());
    lines.extend(report.deliveries.iter().map(|delivery| delivery.own_line("were rehearsed")));
    lines.extend(first_listed(Tone::Bad, "These sources are in none of them:", &report.in_none, LISTED));
    let next = match report.exit_code {
        DONE => "Next: send all of them, and share the password another way, for example by phone.",
        _ => "Next: rehearse what failed by itself, or pack again.",
    };
    lines.push(next.to_owned());
    lines
}
