//! `rehearse`: playing the recipient before the sender lets go.

mod note;
mod several;
mod verdicts;

use crate::archives::{Given, each_given, given};
use crate::args::{DeliveryArguments, RehearseArguments, ShapeArguments, Through};
use crate::browsers::Browser;
use crate::commands::deliveries::Parcel;
use crate::commands::open::Report as OpenReport;
use crate::commands::resend::stem;
use crate::commands::show;
use crate::credentials::{self, Tried, Wanted};
use crate::failure::{BadValue, Failure, LOOK};
use crate::places::gather;
use crate::settings::{Origin, Settings};
use crate::ui::paint::{Tone, paint};
use crate::ui::progress::ProgressLine;
use crate::ui::table::{self, Column};
use crate::ui::text::count;
use crate::words::{as_name, how_to_open, part_word, volume_word};
use crate::{leftover, session};
use note::Note;
use serde::Serialize;
use several::Inside;
use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::slice;
use under_seal_core::disk::names::name_of;
use under_seal_core::formats::abilities::TimesKept;
use under_seal_core::formats::registry::Format;
use under_seal_core::formats::sealed::CostLimit;
use under_seal_core::formats::sealed::volume::names::parcel_named;
use under_seal_core::ground::context::Context;
use under_seal_core::ground::entry::ListedEntry;
use under_seal_core::ground::secrets::Credentials;
use under_seal_core::source::{Catalogue, Choice, expand};
use under_seal_core::tasks::handover::Package;
use under_seal_core::tasks::page::PAGE_NAME;
use under_seal_core::tasks::rehearse::browser::InBrowser;
use under_seal_core::tasks::rehearse::carriers::{Carrier, Trip, Way};
use under_seal_core::tasks::rehearse::note::is_handover;
use under_seal_core::tasks::rehearse::{
    Earlier, Failed, Faults, Received, Rehearsal, RehearsalRequest, Step, rehearse,
};
use verdicts::{next, verdict, why};

/// Runs the command; the exit code.
pub fn run(arguments: &RehearseArguments) -> Result<u8, Failure> {
    let settings = settings(arguments)?;
    let (choice, way) = (settings.choice(&arguments.choice)?, way(arguments, &settings)?);
    let place = slice::from_ref(&arguments.archive);
    let is_handover = is_handover(&arguments.archive) && arguments.lose == 0 && arguments.damage == 0;
    if (arguments.all || is_handover)
        && let Given::Volumes(sets) = each_given(place, &arguments.work)?
        && sets.len() > 1
    {
        return several::run(sets, arguments, &choice, way, is_handover);
    }
    let mut alone = None;
    let played = match given(place, &arguments.work)? {
        Given::Volumes(set) => {
            let tried = credentials::tried(&set, &arguments.unlock)?;
            if parcel_named(stem(&set).as_encoded_bytes()).is_some() && set.missing().is_empty() {
                alone = Some(Inside::of(&tried)?).filter(|inside| inside.parcel.is_some());
            }
            Played::of_volumes(tried)
        }
        file => {
            let archive = file.load(&arguments.unlock, Wanted::Content, &arguments.work)?;
            let (credentials, stem) = (archive.opened_by(), name_of(&archive.name()));
            Played { package: Package::Archive(archive), credentials, limit: CostLimit::Bearable, stem }
        }
    };
    let of_it = |context: &Context<'_>| {
        let all = sources(arguments, &choice, context)?;
        // What another parcel may have says nothing of this one.
        Ok(match &alone {
            Some(inside) => all.only(&inside.paths),
            None => all,
        })
    };
    let (mut report, received) = rehearse_one(&played, arguments, way, of_it)?;
    if let (true, Some(Received { expected, times, .. })) = (is_handover && report.passed, received) {
        let open_by = match &played.package {
            Package::Archive(archive) => archive.spots().last().map(|spot| spot.name().into()),
            Package::Volumes { .. } => None,
        };
        let credentials = played.package.is_secret().then_some(&played.credentials);
        let steps = play_note(arguments, credentials, (&expected, times), open_by)?;
        report.note_was_played(steps);
    }
    report.parcel = alone.and_then(|inside| inside.parcel);
    if let Some(parcel) = report.parcel.as_ref().filter(|_| report.passed) {
        let all = parcel.take_all("rehearse", &arguments.archive, &["--all", "--against"], &arguments.against);
        report.next = all.join("\n");
    }
    show(&report, &arguments.work, || lines(&report))?;
    Ok(report.exit_code)
}

/// What is rehearsed.
struct Played {
    package: Package,
    credentials: Credentials,
    limit: CostLimit,
    stem: OsString,
}

impl Played {
    fn of_volumes(Tried { set, credentials, limit }: Tried) -> Self {
        let (stem, secret) = (stem(&set), credentials != Credentials::none());
        Self { package: Package::Volumes { set: Box::new(set), secret }, credentials, limit, stem }
    }
}

/// The files and folders that it was packed from.
fn sources(arguments: &RehearseArguments, choice: &Choice, context: &Context<'_>) -> Result<Catalogue, Failure> {
    Ok(Catalogue::gather(&expand(&arguments.against)?, choice, &|_| false, context)?)
}

/// Plays the recipient of one archive, which is compared with these sources.
fn rehearse_one(
    played: &Played,
    arguments: &RehearseArguments,
    way: Way,
    sources: impl FnOnce(&Context<'_>) -> Result<Catalogue, Failure>,
) -> Result<(Report, Option<Received>), Failure> {
    let Played { package, credentials, limit, stem } = played;
    let earlier = arguments.after.iter().map(|archive| earlier(archive, arguments)).collect::<Result<Vec<_>, _>>()?;
    let how = how_to_open(package, false, false);
    let browser = browser(arguments, package)?;
    let start = browser.as_ref().map(|browser| |open: &Path, profile: &Path| browser.start(open, profile));
    let progress = ProgressLine::for_reading(Some(package.count()), &arguments.work);
    let context = session::context(&progress, arguments.work.threads);
    let sources = sources(&context)?;
    // That of a handover, where it is one.
    let page = arguments.archive.join(PAGE_NAME);
    let place = leftover::private_folder().map_err(Failure::Temporary)?;
    let request = RehearsalRequest {
        package,
        credentials,
        limit: *limit,
        how: &how,
        way,
        stem: &stem.to_string_lossy(),
        earlier: &earlier,
        sources: &sources,
        place: place.path(),
        faults: Faults { lost: arguments.lose, damaged: arguments.damage, seed: arguments.seed },
        browser: start.as_ref().map(|start| InBrowser {
            start,
            key_file: arguments.unlock.password.key_file.as_deref(),
            page: Some(page.as_path()).filter(|page| page.is_file()),
        }),
    };
    let rehearsal = rehearse(&request, &context)?;
    let report = Report::new(package, &rehearsal, way, browser.as_ref())?;
    Ok((report, rehearsal.received))
}

/// Plays the note of the handover folder that was named, of which these entries come.
fn play_note(
    arguments: &RehearseArguments,
    credentials: Option<&Credentials>,
    (expected, times): (&[ListedEntry], TimesKept),
    open_by: Option<PathBuf>,
) -> Result<Vec<StepLine>, Failure> {
    let place = leftover::private_folder().map_err(Failure::Temporary)?;
    let progress = ProgressLine::for_reading(None, &arguments.work);
    let context = session::context(&progress, arguments.work.threads);
    let handover = &arguments.archive;
    note::play(&Note { handover, arguments, credentials, expected, times, place: place.path(), open_by }, &context)
}

/// What the recipient has opened before.
fn earlier(archive: &Path, arguments: &RehearseArguments) -> Result<Earlier, Failure> {
    let set = gather(slice::from_ref(&archive.to_owned()), &arguments.work)?.complete()?;
    let Tried { set, credentials, limit } = credentials::tried(&set, &arguments.unlock)?;
    Ok(Earlier { set, credentials, limit })
}

/// The browser in which it is opened, where that is wanted.
fn browser(arguments: &RehearseArguments, package: &Package) -> Result<Option<Browser>, Failure> {
    if !arguments.in_browser {
        return Ok(None);
    }
    if !package.format().abilities.volumes {
        return Err(Failure::Value(BadValue::NotInBrowser));
    }
    let found = Browser::find(arguments.browser.as_deref());
    found.map(Some).ok_or(Failure::Value(BadValue::NoBrowser))
}

/// What one of its files is called.
fn noun(package: &Package) -> &'static str {
    match package {
        Package::Volumes { set, .. } => volume_word(set),
        Package::Archive(archive) => archive.volumes().map_or_else(|| part_word(package.count()), volume_word),
    }
}

fn settings(arguments: &RehearseArguments) -> Result<Settings, Failure> {
    let delivery = DeliveryArguments {
        shape: ShapeArguments { fit: arguments.limit.clone(), ..ShapeArguments::default() },
        choice: arguments.choice.clone(),
    };
    Settings::resolve(&delivery, &arguments.configuration, arguments.work.threads)
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
    #[serde(serialize_with = "as_name")]
    format: &'static Format,
    set: Option<String>,
    #[serde(rename = "volume_count")]
    volumes: u32,
    passed: bool,
    /// What the recipient's own opening reports.
    opened: Option<OpenReport>,
    through: Option<&'static str>,
    limit: Option<u64>,
    browser: Option<String>,
    trips: Vec<TripLine>,
    steps: Vec<StepLine>,
    lost_on_request: Vec<u32>,
    damaged_on_request: Vec<u32>,
    missing: Vec<u32>,
    damaged: Vec<u32>,
    why: Option<String>,
    /// Which parcel it is, where it was rehearsed alone.
    parcel: Option<Parcel>,
    next: String,
    #[serde(skip)]
    noun: &'static str,
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
    #[serde(rename = "volume_numbers")]
    volumes: Vec<u32>,
    bytes: u64,
    refused: bool,
    broken_off: u32,
    #[serde(rename = "lost_on_the_way")]
    lost: bool,
}

impl TripLine {
    fn new(trip: &Trip) -> Self {
        let Trip { volumes, bytes, refused, broken_off, lost } = trip.clone();
        Self { volumes, bytes, refused, broken_off, lost }
    }
}

impl Report {
    fn new(package: &Package, rehearsal: &Rehearsal, way: Way, browser: Option<&Browser>) -> Result<Self, Failure> {
        let received = rehearsal.received.as_ref();
        let opened = received.map(|received| OpenReport::of_opened(&received.archive, &received.opened));
        let opened = opened.transpose()?;
        let all_but = opened.as_ref().and_then(OpenReport::all_but);
        let last = rehearsal.steps.len().saturating_sub(1);
        let steps = rehearsal.steps.iter().enumerate().map(|(place, (step, took))| {
            let failed = rehearsal.failed.as_ref().filter(|_| place == last);
            StepLine {
                step: name(*step),
                seconds: took.as_secs_f64(),
                passed: failed.is_none(),
                verdict: failed.map_or_else(
                    || verdict(*step, package, (rehearsal, all_but.as_deref()), (way, browser)),
                    |failed| why(failed, package, way),
                ),
            }
        });
        let (missing, damaged) = match &rehearsal.failed {
            Some(Failed::NotWhole { missing, damaged, .. }) => (missing.clone(), damaged.clone()),
            _ => (Vec::new(), Vec::new()),
        };
        let (lost_on_request, damaged_on_request) = rehearsal.done_to.clone();
        let data =
            |numbers: &[u32]| numbers.iter().copied().filter(|number| *number <= package.count()).collect::<Vec<_>>();
        let as_requested = missing == data(&lost_on_request) && damaged == data(&damaged_on_request);
        Ok(Self {
            command: "rehearse",
            exit_code: match &opened {
                Some(opened) if rehearsal.failed.is_none() => opened.exit_code,
                _ => LOOK,
            },
            format: package.format(),
            set: package.set_text(),
            volumes: package.count(),
            noun: noun(package),
            passed: rehearsal.failed.is_none(),
            through: through(way).map(|(name, _)| name),
            limit: through(way).map(|(_, limit)| limit),
            browser: browser.map(Browser::name),
            trips: rehearsal.trips.iter().map(TripLine::new).collect(),
            steps: steps.collect(),
            next: next(
                rehearsal,
                (as_requested && !(missing.is_empty() && damaged.is_empty()), opened.as_ref()),
                package,
                way,
            ),
            opened,
            parcel: None,
            lost_on_request,
            damaged_on_request,
            missing,
            damaged,
            why: rehearsal.failed.as_ref().map(|failed| why(failed, package, way)),
        })
    }
}

impl Report {
    /// Adds what came of the note, as the recipient follows it.
    fn note_was_played(&mut self, steps: Vec<StepLine>) {
        if let Some(failed) = steps.iter().find(|step| !step.passed) {
            (self.passed, self.exit_code, self.why) = (false, LOOK, Some(failed.verdict.clone()));
            self.next = "Next: do not hand this over as it is. The note leads the recipient astray.".to_owned();
        }
        self.steps.extend(steps);
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
        Step::Browse => "browse",
        Step::Open => "open",
        Step::Compare => "compare",
    }
}

fn lines(report: &Report) -> Vec<String> {
    let volumes = count(report.volumes.into(), report.noun);
    let by = report.through.map_or_else(String::new, |way| format!(" by {way}"));
    let all_but = report.opened.as_ref().and_then(OpenReport::all_but);
    let heading = match report.passed {
        true => {
            let were = if report.volumes == 1 { "was" } else { "were" };
            paint(
                if all_but.is_some() { Tone::Look } else { Tone::Good },
                format!(
                    "The recipient can open {}{}: {volumes} {were} delivered{by}, opened and compared.",
                    report.parcel.as_ref().map_or_else(|| "it".to_owned(), Parcel::told),
                    all_but.map(|all_but| format!(", {all_but}")).unwrap_or_default()
                ),
            )
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
    lines.extend(report.opened.iter().flat_map(OpenReport::left_behind_lines));
    lines.push(String::new());
    lines.extend(report.next.lines().map(str::to_owned));
    lines
}
