//! `rehearse`: playing the recipient before the sender lets go.

use super::show;
use crate::args::RehearseArguments;
use crate::credentials;
use crate::failure::{DONE, Failure, LOOK};
use crate::places::gather;
use crate::session;
use crate::settings::Settings;
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
use under_seal_core::rehearsal::{Failed, Faults, Rehearsal, RehearsalRequest, Step, rehearse};
use under_seal_core::source::{Catalogue, expand};
use under_seal_core::volume::VolumeSet;

/// Runs the command; the exit code.
pub fn run(arguments: &RehearseArguments) -> Result<u8, Failure> {
    let choice = Settings::choice_alone(&arguments.choice, &arguments.configuration, arguments.work.threads)?;
    let set = gather(slice::from_ref(&arguments.archive))?;
    let (credentials, limit) = credentials::tried(&set, &arguments.unlock)?;
    let progress = ProgressLine::for_reading(Some(set.geometry.data_volumes), &arguments.work);
    let context = session::context(&progress, arguments.work.threads);
    let sources = expand(&arguments.against).map_err(|error| Error::Pack(error.into()))?;
    let sources =
        Catalogue::gather(&sources, &choice, &|_| false, &context).map_err(|error| Error::Pack(error.into()))?;
    let place = tempfile::Builder::new().prefix("under-seal-").permissions(Permissions::from_mode(0o700)).tempdir();
    let place = session::remove_at_the_end(place.map_err(Failure::Temporary)?);
    let request = RehearsalRequest {
        set: &set,
        credentials: &credentials,
        limit,
        sources: &sources,
        place: place.path(),
        faults: Faults { lost: arguments.lose, damaged: arguments.damage, seed: arguments.seed },
    };
    let rehearsal = rehearse(&request, &context)?;
    drop(progress);
    let report = Report::new(&set, &rehearsal);
    show(&report, &arguments.work, || lines(&report))?;
    Ok(report.exit_code)
}

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    set: String,
    volumes: u32,
    passed: bool,
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

impl Report {
    fn new(set: &VolumeSet, rehearsal: &Rehearsal) -> Self {
        let last = rehearsal.steps.len().saturating_sub(1);
        let steps = rehearsal.steps.iter().enumerate().map(|(place, (step, took))| {
            let failed = rehearsal.failed.as_ref().filter(|_| place == last);
            StepLine {
                step: name(*step),
                seconds: took.as_secs_f64(),
                passed: failed.is_none(),
                verdict: failed.map_or_else(|| verdict(*step, set, rehearsal), why),
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
            steps: steps.collect(),
            next: next(rehearsal.failed.as_ref(), as_requested && !(missing.is_empty() && damaged.is_empty()))
                .to_owned(),
            lost_on_request,
            damaged_on_request,
            missing,
            damaged,
            why: rehearsal.failed.as_ref().map(why),
        }
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

fn verdict(step: Step, set: &VolumeSet, rehearsal: &Rehearsal) -> String {
    let volumes = count(set.geometry.data_volumes.into(), "volume");
    let (lost, damaged) = &rehearsal.done_to;
    let totals = rehearsal.totals;
    match step {
        Step::Deliver if lost.is_empty() && damaged.is_empty() => {
            format!("{volumes} under other names, the last first")
        }
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

fn why(failed: &Failed) -> String {
    match failed {
        Failed::Gather(error) => words::gather(error),
        Failed::NotWhole { missing, damaged } => text::missing_and_damaged(missing, damaged),
        Failed::Unlock(error) => words::sealed(error),
        Failed::Open(error) => words::opening(error),
        Failed::Differs => "what was extracted is not what is inside".to_owned(),
        Failed::SourcesChanged => "the archive is good, and the sources have changed since it was packed".to_owned(),
    }
}

fn next(failed: Option<&Failed>, as_requested: bool) -> &'static str {
    match failed {
        None => "Next: send the volumes, and tell the password by another way.",
        Some(_) if as_requested => {
            "What was done to the delivery was named exactly. Rehearse it without that to see the rest."
        }
        Some(Failed::SourcesChanged) => {
            "Next: see what changed with compare, and pack again if the recipient needs it."
        }
        Some(Failed::Unlock(_)) => "Next: give the password that the recipient will have.",
        Some(_) => "Next: do not send these volumes. Pack again, and rehearse that.",
    }
}

fn lines(report: &Report) -> Vec<String> {
    let volumes = count(report.volumes.into(), "volume");
    let heading = match report.passed {
        true => paint(Tone::Good, format!("The recipient can open it: {volumes} were delivered, opened and compared.")),
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
