//! `rehearse`: playing the recipient before the sender lets go.

use super::show;
use crate::args::{DeliveryArguments, RehearseArguments, ShapeArguments, Through};
use crate::credentials;
use crate::failure::{DONE, Failure, LOOK};
use crate::places::gather;
use crate::session;
use crate::settings::{BadValue, Origin, Settings};
use crate::ui::paint::{Tone, paint};
use crate::ui::progress::ProgressLine;
use crate::ui::table::{self, Column};
use crate::ui::text::{self, bytes, contents, count, number_list};
use crate::words;
use serde::Serialize;
use std::fs::Permissions;
use std::os::unix::fs::PermissionsExt as _;
use std::slice;
use under_seal_core::Error;
use under_seal_core::carriers::{Carrier, Trip, Way};
use under_seal_core::fit::NAMED;
use under_seal_core::rehearsal::{Failed, Faults, Rehearsal, RehearsalRequest, Step, rehearse};
use under_seal_core::source::{Catalogue, expand};
use under_seal_core::volume::VolumeSet;

/// Runs the command; the exit code.
pub fn run(arguments: &RehearseArguments) -> Result<u8, Failure> {
    let settings = settings(arguments)?;
    let (choice, way) = (settings.choice(&arguments.choice)?, way(arguments, &settings)?);
    let set = gather(slice::from_ref(&arguments.archive))?;
    let (credentials, limit) = credentials::tried(&set, &arguments.unlock)?;
    let progress = ProgressLine::for_reading(Some(set.geometry.data_volumes), &arguments.work);
    let context = session::context(&progress, arguments.work.threads);
    let sources = expand(&arguments.against).map_err(|error| Error::Pack(error.into()))?;
    let sources =
        Catalogue::gather(&sources, &choice, &|_| false, &context).map_err(|error| Error::Pack(error.into()))?;
    let place = tempfile::Builder::new().prefix("under-seal-").permissions(Permissions::from_mode(0o700)).tempdir();
    let place = session::remove_at_the_end(place.map_err(Failure::Temporary)?);
    let stem = super::resend::stem(&set);
    let request = RehearsalRequest {
        set: &set,
        way,
        stem: &stem.to_string_lossy(),
        credentials: &credentials,
        limit,
        sources: &sources,
        place: place.path(),
        faults: Faults { lost: arguments.lose, damaged: arguments.damage, seed: arguments.seed },
    };
    let rehearsal = rehearse(&request, &context)?;
    drop(progress);
    let report = Report::new(&set, &rehearsal, way);
    show(&report, &arguments.work, || lines(&report))?;
    Ok(report.exit_code)
}

fn settings(arguments: &RehearseArguments) -> Result<Settings, Failure> {
    let delivery = DeliveryArguments {
        shape: ShapeArguments { fit: arguments.limit.clone(), ..ShapeArguments::default() },
        choice: arguments.choice.clone(),
        configuration: arguments.configuration.clone(),
    };
    Settings::resolve(&delivery, arguments.work.threads)
}

/// How the volumes go. A profile's fit that is one for another way does not count; a typed one is refused.
fn way(arguments: &RehearseArguments, settings: &Settings) -> Result<Way, Failure> {
    let carrier = match arguments.through {
        None => return Ok(Way::ByHand),
        Some(Through::Mail) => Carrier::Mail,
        Some(Through::Media) => Carrier::Media,
        Some(Through::Upload) => Carrier::Upload,
    };
    let fit = settings.fit.value.fit;
    let way = match settings.fit.from {
        Origin::CommandLine => carrier.with_limit(Some(fit)),
        _ => carrier.with_limit(Some(fit)).or_else(|_| carrier.with_limit(None)),
    };
    way.map_err(|error| Failure::Value(BadValue::WayLimit { value: settings.fit.value.text.clone(), carrier, error }))
}

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    set: String,
    volumes: u32,
    passed: bool,
    through: Option<&'static str>,
    limit: Option<u64>,
    trips: Vec<TripLine>,
    steps: Vec<StepLine>,
    lost_on_request: Vec<u32>,
    damaged_on_request: Vec<u32>,
    missing: Vec<u32>,
    damaged: Vec<u32>,
    why: Option<String>,
    next: String,
}

#[derive(Serialize)]
struct StepLine {
    step: &'static str,
    seconds: f64,
    passed: bool,
    verdict: String,
}

#[derive(Serialize)]
struct TripLine {
    volumes: Vec<u32>,
    bytes: u64,
    refused: bool,
    broken_off: u32,
}

impl TripLine {
    fn new(trip: &Trip) -> Self {
        let Trip { volumes, bytes, refused, broken_off } = trip.clone();
        Self { volumes, bytes, refused, broken_off }
    }
}

impl Report {
    fn new(set: &VolumeSet, rehearsal: &Rehearsal, way: Way) -> Self {
        let last = rehearsal.steps.len().saturating_sub(1);
        let steps = rehearsal.steps.iter().enumerate().map(|(place, (step, took))| {
            let failed = rehearsal.failed.as_ref().filter(|_| place == last);
            StepLine {
                step: name(*step),
                seconds: took.as_secs_f64(),
                passed: failed.is_none(),
                verdict: failed.map_or_else(|| verdict(*step, set, rehearsal, way), |failed| why(failed, way)),
            }
        });
        let (missing, damaged) = match &rehearsal.failed {
            Some(Failed::NotWhole { missing, damaged }) => (missing.clone(), damaged.clone()),
            _ => (Vec::new(), Vec::new()),
        };
        let (lost_on_request, damaged_on_request) = rehearsal.done_to.clone();
        let as_requested = missing == lost_on_request && damaged == damaged_on_request;
        Self {
            command: "rehearse",
            exit_code: if rehearsal.failed.is_none() { DONE } else { LOOK },
            set: set.ids.set_text(),
            volumes: set.geometry.data_volumes,
            passed: rehearsal.failed.is_none(),
            through: through(way).map(|(name, _)| name),
            limit: through(way).map(|(_, limit)| limit),
            trips: rehearsal.trips.iter().map(TripLine::new).collect(),
            steps: steps.collect(),
            next: next(rehearsal.failed.as_ref(), as_requested && !(missing.is_empty() && damaged.is_empty()), way),
            lost_on_request,
            damaged_on_request,
            missing,
            damaged,
            why: rehearsal.failed.as_ref().map(|failed| why(failed, way)),
        }
    }
}

/// The way's name, and how many bytes a message, a medium or a request may have.
const fn through(way: Way) -> Option<(&'static str, u64)> {
    match way {
        Way::ByHand => None,
        Way::Mail { limit } => Some(("mail", limit)),
        Way::Media { capacity, .. } => Some(("media", capacity)),
        Way::Upload { limit } => Some(("upload", limit)),
    }
}

fn name(step: Step) -> &'static str {
    match step {
        Step::Deliver => "deliver",
        Step::Gather => "gather",
        Step::Check => "check",
        Step::Unlock => "unlock",
        Step::Open => "open",
        Step::Compare => "compare",
    }
}

fn verdict(step: Step, set: &VolumeSet, rehearsal: &Rehearsal, way: Way) -> String {
    let volumes = count(set.geometry.data_volumes.into(), "volume");
    let (lost, damaged) = &rehearsal.done_to;
    let totals = rehearsal.totals;
    match step {
        Step::Deliver if lost.is_empty() && damaged.is_empty() => delivered(&volumes, &rehearsal.trips, way),
        Step::Deliver => {
            let some =
                |numbers: &[u32], what: &str| (!numbers.is_empty()).then(|| format!("{what} {}", number_list(numbers)));
            let done = [some(lost, "lost"), some(damaged, "damaged")];
            format!("on request: {}", done.into_iter().flatten().collect::<Vec<_>>().join("; "))
        }
        Step::Gather => "found by their headers".to_owned(),
        Step::Check => "all here, every check right".to_owned(),
        Step::Unlock => "unlocked, with nothing of yours but what was given for it".to_owned(),
        Step::Open => {
            format!("{}, {}", contents(totals.files, totals.folders, totals.links), bytes(totals.content_bytes))
        }
        Step::Compare => "the same as the sources, in every byte, time and mode".to_owned(),
    }
}

/// What came through, and how.
fn delivered(volumes: &str, trips: &[Trip], way: Way) -> String {
    let many = trips.len() as u64;
    match way {
        Way::ByHand => format!("{volumes} under other names, the last first"),
        Way::Mail { limit } => {
            format!("{volumes} in {} within {}; other names and order", count(many, "message"), bytes(limit))
        }
        Way::Media { capacity, .. } => {
            let media = if many == 1 { "1 medium".to_owned() } else { format!("{many} media") };
            format!("{volumes} on {media} of {}, one at a time; short names", bytes(capacity))
        }
        Way::Upload { limit } => {
            let broken: u32 = trips.iter().map(|trip| trip.broken_off).sum();
            let broken = count(broken.into(), "transfer");
            format!("{volumes} in requests within {}; {broken} broke off and went on", bytes(limit))
        }
    }
}

/// What was refused, where a volume, in what it travels, is longer than the way takes.
fn refused(trips: &[Trip], way: Way) -> String {
    let mut numbers: Vec<u32> = trips.iter().flat_map(|trip| trip.volumes.clone()).collect();
    numbers.sort_unstable();
    let longest = bytes(trips.iter().map(|trip| trip.bytes).max().unwrap_or(0));
    let limit = bytes(through(way).map_or(0, |(_, limit)| limit));
    let which = number_list(&numbers);
    match way {
        Way::Mail { .. } => format!("the mailbox takes {limit}, and refused {which}: as messages up to {longest}"),
        Way::Upload { .. } => format!("the form takes {limit}, and refused {which}: as requests up to {longest}"),
        _ => format!("a medium takes no such file: {which}, up to {longest}"),
    }
}

fn why(failed: &Failed, way: Way) -> String {
    match failed {
        Failed::Refused(trips) => refused(trips, way),
        Failed::Gather(error) => words::gather(error),
        Failed::NotWhole { missing, damaged } => text::missing_and_damaged(missing, damaged),
        Failed::Unlock(error) => words::sealed(error),
        Failed::Open(error) => words::opening(error),
        Failed::Differs => "what was extracted is not what is inside".to_owned(),
        Failed::SourcesChanged => "the archive is good, and the sources have changed since it was packed".to_owned(),
    }
}

fn next(failed: Option<&Failed>, as_requested: bool, way: Way) -> String {
    if let Some(Failed::Refused(_)) = failed {
        return smaller(way);
    }
    let next = match failed {
        None => "Next: send the volumes, and tell the password by another way.",
        Some(_) if as_requested => {
            "What was done to the delivery was named exactly. Rehearse it without that to see the rest."
        }
        Some(Failed::SourcesChanged) => {
            "Next: see what changed with compare, and pack again if the recipient needs it."
        }
        Some(Failed::Unlock(_)) => "Next: give the password that the recipient will have.",
        Some(_) => "Next: do not send these volumes. Pack again, and rehearse that.",
    };
    next.to_owned()
}

/// What to pack instead, so that it goes this way.
fn smaller(way: Way) -> String {
    let limit = way.volume_limit().unwrap_or(0);
    let named = NAMED.iter().find(|(_, fit)| fit.volume_limit() == Some(limit));
    let fit = named.map_or_else(|| limit.to_string(), |(name, _)| (*name).to_owned());
    format!("Next: pack again with --fit {fit} (volumes of at most {}), and rehearse that.", bytes(limit))
}

fn lines(report: &Report) -> Vec<String> {
    let volumes = count(report.volumes.into(), "volume");
    let by = report.through.map_or_else(String::new, |way| format!(" by {way}"));
    let heading = match report.passed {
        true => {
            paint(Tone::Good, format!("The recipient can open it: {volumes} were delivered{by}, opened and compared."))
        }
        false => paint(Tone::Bad, "The rehearsal failed.".to_owned()),
    };
    let rows: Vec<_> = report
        .steps
        .iter()
        .map(|step| {
            let tone = if step.passed { Tone::Plain } else { Tone::Bad };
            let seconds = format!("{:.1} s", step.seconds);
            (tone, vec![step.step.to_owned(), seconds, step.verdict.clone()])
        })
        .collect();
    let mut lines = vec![heading, String::new()];
    lines.extend(table::lines(&[Column::Text("step"), Column::Number("took"), Column::Text("verdict")], &rows));
    lines.extend([String::new(), report.next.clone()]);
    lines
}
