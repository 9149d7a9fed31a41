//! `check`: what is here, what is missing, what is damaged; and with the password, everything inside.

mod contents;
mod map;
mod rows;
mod several;
mod verdict;

use crate::archives::{Given, each_given, joining};
use crate::args::CheckArguments;
use crate::commands::Printing;
use crate::commands::deliveries::Parcel;
use crate::commands::since::BuildsUpon;
use crate::failure::{DAMAGED, DONE, Failure, LOOK, MISSING};
use crate::places::{gather_or_collect, searched};
use crate::ui::paint::{Tone, paint};
use crate::ui::progress::ProgressLine;
use crate::ui::table::{self, Column};
use crate::ui::text::{self, count, shown};
use crate::watching::Watching;
use crate::words::{NOT_OWN_PAGE, NOT_SECRET, message_flaw, volume_word};
use crate::{credentials, session};
use serde::Serialize;
use std::collections::BTreeSet;
use std::path::PathBuf;
use under_seal_core::Error;
use under_seal_core::disk::staging;
use under_seal_core::formats::messages::structure::FlawedMessage;
use under_seal_core::formats::reader::ArchiveReader as _;
use under_seal_core::formats::sealed::volume::{Shortfall, VolumeFile, VolumeSet};
use under_seal_core::formats::sealed::{HeadError, SealedError, SealedReader, UnlockedSet};
use under_seal_core::ground::context::Context;
use under_seal_core::tasks::check::{
    Damage, FileReport, SetReport, VolumeReport, VolumeState, inspect, verify_contents,
};
use under_seal_core::tasks::page::pages_of;
use under_seal_core::tasks::resend::Slip;
use verdict::verdict;

/// So many messages are named in which something was not looked for.
const FLAWED_LISTED: usize = 10;

/// A long slip is shown in lines of so many columns.
const SLIP_COLUMNS: usize = 72;

/// Runs the command; the exit code.
pub fn run(arguments: &CheckArguments) -> Result<u8, Failure> {
    let silent = ProgressLine::for_reading(None, &arguments.work);
    let context = session::context(&silent, arguments.work.threads);
    let places = searched(&arguments.watch.and(&arguments.places), arguments.search);
    let quiet = arguments.work.output.quiet;
    Watching { watch: &arguments.watch, places: &places, quiet, context: &context }.for_archives()?;
    let set = match arguments.coming.one_by_one {
        true => gather_or_collect(&places, &arguments.coming, &context)?,
        false => match each_given(&places, &arguments.work)? {
            Given::File(file) => return contents::run(Given::File(file), arguments),
            Given::Volumes(mut sets) => match (sets.pop(), sets.is_empty()) {
                (Some(only), true) => only,
                (last, _) => return several::run(sets.into_iter().chain(last).collect(), arguments),
            },
        },
    };
    let expects = credentials::expects_password(&arguments.unlock)
        || (arguments.ask_password && !arguments.unlock.accept_no_password);
    let unlocked = match credentials::unasked(&set, &arguments.unlock, expects) {
        Ok(None) if arguments.ask_password => credentials::asked(&set, &arguments.unlock).map(Some),
        given => given,
    };
    // What was found outside holds whatever becomes of the key; a slip in what was typed ends it at once.
    let unlocked = match unlocked {
        Err(failure @ Failure::Core(Error::Sealed(_))) => Err(failure),
        outcome => Ok(outcome?),
    };
    let Seen { set, found, secret, inside } = look(set, unlocked, arguments)?;
    let show = |contents| -> Result<u8, Failure> {
        let mut report = Report::new(&set, &found, contents, secret)?;
        report.joining = match set.paths().as_slice() {
            [only] if !report.complete => joining(only, &context),
            _ => None,
        };
        super::show(&report, &arguments.work, || lines(&set, &found, &report, arguments))?;
        Ok(report.exit_code)
    };
    match inside {
        Ok(contents) => show(contents),
        // What was found outside holds all the same; of a set that anybody can have made it would only reassure.
        Err(failure) => {
            if Printing::from(&arguments.work) == Printing::Lines && !is_open_to_all(&failure) {
                show(None)?;
            }
            Err(failure)
        }
    }
}

/// What is seen of one set, from outside and, as far as it was unlocked, inside.
struct Seen {
    set: VolumeSet,
    found: SetReport,
    secret: bool,
    inside: Result<Option<Contents>, Failure>,
}

fn look(
    set: VolumeSet,
    unlocked: Result<Option<UnlockedSet>, Failure>,
    arguments: &CheckArguments,
) -> Result<Seen, Failure> {
    // Where headers contradict each other, the key tells which are genuine.
    let set = match &unlocked {
        Ok(Some(unlocked)) => unlocked.set.clone(),
        _ => set,
    };
    let secret = !matches!(&unlocked, Ok(Some(unlocked)) if !unlocked.secret);
    let progress = ProgressLine::for_reading(Some(set.geometry.data_volumes), &arguments.work);
    let context = session::context(&progress, arguments.work.threads);
    let found = inspect(&set, &context)?;
    let inside = match unlocked {
        Ok(Some(unlocked)) if found.is_complete() => look_inside(unlocked, &context).map(Some),
        Ok(_) => Ok(None),
        Err(failure) => Err(failure),
    };
    Ok(Seen { set, found, secret, inside })
}

fn is_open_to_all(failure: &Failure) -> bool {
    matches!(failure, Failure::Core(Error::Sealed(SealedError::Head(HeadError::OpenToAll))))
}

fn look_inside(unlocked: UnlockedSet, context: &Context<'_>) -> Result<Contents, Failure> {
    let mut archive = SealedReader::of(unlocked)?;
    let verified = verify_contents(&mut archive, context)?;
    let mut changed_while_read = Vec::new();
    for listed in archive.listing().iter() {
        let listed = listed?;
        changed_while_read.extend(listed.content.changed_while_read.then(|| shown(listed.entry.path.as_bytes())));
    }
    Ok(Contents {
        archive: shown(&archive.about().name),
        files: verified.files,
        folders: verified.folders,
        links: verified.links,
        bytes: verified.content_bytes,
        changed_while_read,
        parcel: archive.about().parcel.as_ref().map(Parcel::from),
        builds_upon: archive.base_name().map(BuildsUpon::from),
    })
}

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    set: String,
    complete: bool,
    secret: bool,
    volumes: Vec<Volume>,
    spare_volumes: Vec<Volume>,
    /// The command that joins pieces, where it is one of several.
    #[serde(skip)]
    joining: Option<String>,
    #[serde(skip)]
    shortfalls: Vec<Shortfall>,
    missing: Vec<u32>,
    damaged: Vec<u32>,
    /// Those of the damaged ones whose seals are wrong, where the password was given.
    #[serde(rename = "changed_on_purpose")]
    forged: Vec<u32>,
    made_good: Vec<u32>,
    #[serde(rename = "spare_volumes_not_fitting")]
    not_fitting: Vec<u32>,
    #[serde(rename = "spare_volumes_disputed")]
    disputed: bool,
    foreign_spares: Vec<String>,
    unrecognised: Vec<String>,
    contradicting: Vec<String>,
    untried: Vec<String>,
    flawed_messages: Vec<Flawed>,
    unfinished: Vec<String>,
    other_pages: Vec<String>,
    slip: Option<String>,
    contents: Option<Contents>,
}

#[derive(Serialize)]
struct Volume {
    number: u32,
    state: &'static str,
    #[serde(rename = "found_in")]
    files: Vec<File>,
}

#[derive(Serialize)]
struct File {
    path: String,
    message_number: Option<u64>,
    attached_as: Option<String>,
    bytes: u64,
    expected_bytes: u64,
    header_damaged: bool,
    supplement: bool,
    damage: Vec<Range>,
    #[serde(rename = "changed_on_purpose")]
    forged: Vec<Range>,
}

impl File {
    fn is_blemished(&self) -> bool {
        self.header_damaged || !self.damage.is_empty() || !self.forged.is_empty()
    }
}

/// A message in which something was not looked for.
#[derive(Serialize)]
struct Flawed {
    path: String,
    message_number: u64,
    why: &'static str,
}

impl Flawed {
    fn new((path, flawed): &(PathBuf, FlawedMessage)) -> Self {
        Self { path: text::path(path), message_number: flawed.message, why: message_flaw(flawed.flaw) }
    }
}

#[derive(Serialize)]
struct Range {
    from: u64,
    to: u64,
}

#[derive(Serialize)]
struct Contents {
    archive: String,
    files: u64,
    folders: u64,
    links: u64,
    bytes: u64,
    changed_while_read: Vec<String>,
    builds_upon: Option<BuildsUpon>,
    parcel: Option<Parcel>,
}

impl Report {
    fn new(set: &VolumeSet, found: &SetReport, contents: Option<Contents>, secret: bool) -> Result<Self, Failure> {
        let (missing, damaged) = (found.numbers(VolumeState::Missing), found.numbers(VolumeState::Damaged));
        let volumes: Vec<Volume> = found.volumes.iter().map(Volume::new).collect();
        let spare_volumes: Vec<Volume> = found.spares.iter().map(Volume::new).collect();
        let spares_suffered = found.spares.iter().any(VolumeReport::is_lost) || !found.not_fitting.is_empty();
        let all = volumes.iter().chain(&spare_volumes);
        let blemished = spares_suffered || all.flat_map(|volume| &volume.files).any(File::is_blemished);
        let changed = contents.as_ref().is_some_and(|contents| !contents.changed_while_read.is_empty());
        let unfinished = unfinished_beside(set);
        let aside = [&set.unrecognised, &set.contradicting, &set.untried, &set.foreign_spares, &unfinished];
        let aside = aside.iter().any(|paths| !paths.is_empty());
        let exit_code = match () {
            () if found.needs_spares() => LOOK,
            () if !missing.is_empty() => MISSING,
            () if !damaged.is_empty() => DAMAGED,
            () if blemished || changed || aside => LOOK,
            () => DONE,
        };
        Ok(Self {
            command: "check",
            exit_code,
            set: set.ids.set_text(),
            joining: None,
            complete: found.is_complete(),
            secret,
            made_good: found.volumes.iter().filter(|volume| volume.made_good).map(|volume| volume.number).collect(),
            not_fitting: found.not_fitting.clone(),
            disputed: found.disputed,
            foreign_spares: set.foreign_spares.iter().map(|path| text::path(path)).collect(),
            volumes,
            spare_volumes,
            shortfalls: found.shortfalls(set.groups()),
            missing,
            damaged,
            forged: found.forged(),
            unrecognised: set.unrecognised.iter().map(|path| text::path(path)).collect(),
            contradicting: set.contradicting.iter().map(|path| text::path(path)).collect(),
            untried: set.untried.iter().map(|path| text::path(path)).collect(),
            flawed_messages: set.flawed_messages.iter().map(Flawed::new).collect(),
            unfinished: unfinished.iter().map(|path| text::path(path)).collect(),
            other_pages: pages_of(set)?.iter().filter(|(_, own)| !own).map(|(path, _)| text::path(path)).collect(),
            slip: Slip::of(set, found).map(|slip| slip.code()),
            contents,
        })
    }
}

impl Report {
    /// What is wrong with data volumes; nothing where nothing is.
    fn wrong(&self) -> String {
        let by_accident: Vec<u32> =
            self.damaged.iter().copied().filter(|number| !self.forged.contains(number)).collect();
        text::numbers_with_words(
            "volume",
            &[
                (&self.missing, "is missing", "are missing"),
                (&by_accident, "is damaged", "are damaged"),
                (&self.forged, "was changed on purpose", "were changed on purpose"),
            ],
        )
    }
}

impl Volume {
    fn new(report: &VolumeReport) -> Self {
        let state = match report.state {
            VolumeState::Intact => "intact",
            VolumeState::Usable => "usable",
            VolumeState::Damaged => "damaged",
            VolumeState::Missing => "missing",
        };
        let range = |damage: &Damage| Range { from: damage.from, to: damage.to };
        let file = |file: &FileReport| File {
            path: text::path(&file.spot.path),
            message_number: file.spot.attached.as_ref().map(|attached| attached.message),
            attached_as: file.spot.attached.as_ref().and_then(|attached| attached.name.clone()),
            bytes: file.bytes,
            expected_bytes: file.expected_bytes,
            header_damaged: file.header_damaged,
            supplement: file.supplement,
            damage: file.damage.iter().map(range).collect(),
            forged: file.forged.iter().map(range).collect(),
        };
        Self { number: report.number, state, files: report.files.iter().map(file).collect() }
    }
}

fn lines(set: &VolumeSet, found: &SetReport, report: &Report, typed: &CheckArguments) -> Vec<String> {
    let short = report.set.get(..8).unwrap_or(&report.set);
    let volumes = count(set.geometry.data_volumes.into(), volume_word(set));
    let heading = match report.contents.as_ref().map(|inside| inside.archive.clone()).or_else(|| name_on_files(set)) {
        Some(name) => format!("{name}: {volumes}, set {short}"),
        None => format!("{volumes}, set {short}"),
    };
    let mut lines = vec![paint(Tone::Strong, heading), String::new()];
    let rows = rows::rows(found, &report.not_fitting);
    let columns =
        [Column::Number(volume_word(set)), Column::Path("file"), Column::Number("bytes"), Column::Text("state")];
    lines.extend(table::lines(&columns, &rows));
    let aside = [
        (&report.unrecognised, Tone::Bad, "too damaged to say which volume it is"),
        (&report.contradicting, Tone::Bad, "set aside, its header contradicts the others"),
        (
            &report.foreign_spares,
            Tone::Look,
            "set aside, a spare volume of another archive, or of this one cut otherwise",
        ),
        (&report.untried, Tone::Look, "not compared further: there is too much to compare it with"),
        (&report.unfinished, Tone::Look, "a pack that is still at work here, or was interrupted"),
        (&report.other_pages, Tone::Look, NOT_OWN_PAGE),
    ];
    for (paths, tone, what) in aside {
        lines.extend(paths.iter().map(|path| paint(tone, format!("  {path}: {what}"))));
    }
    // Where nothing is missing, it does not matter what else may be in messages.
    let flawed = report.flawed_messages.iter().filter(|_| !report.complete);
    for Flawed { path, message_number, why } in flawed.take(FLAWED_LISTED) {
        lines.push(paint(Tone::Look, format!("  {path}, message {message_number}: {why}")));
    }
    if typed.map {
        lines.push(String::new());
        lines.extend(map::lines(found, &set.geometry));
    }
    lines.push(String::new());
    if !report.secret {
        lines.push(paint(Tone::Look, NOT_SECRET));
    }
    lines.extend(verdict(set, report, typed));
    lines
}

/// Where packing under the name of one of these files is at work, or was interrupted on the way to its names.
fn unfinished_beside(set: &VolumeSet) -> Vec<PathBuf> {
    let count = set.geometry.data_volumes;
    let named = |(number, file): (u32, &VolumeFile)| {
        Some((file.spot.path.parent()?.to_owned(), file.archive_name(number, count)?))
    };
    let files = set.volumes.iter().flat_map(|(number, files)| files.iter().map(|file| (*number, file)));
    // The volumes of a set mostly have one name, which is looked for once.
    let targets: BTreeSet<_> = files.filter_map(named).collect();
    targets.iter().filter_map(|(folder, stem)| staging::folder_in(folder, stem)).collect()
}

/// The archive's name, where every file still has the name that it was written with.
fn name_on_files(set: &VolumeSet) -> Option<String> {
    let count = set.geometry.data_volumes;
    let mut names = set.volumes.iter().flat_map(|(number, files)| {
        let volumes = files.iter().filter(|file| file.runs.is_none());
        volumes.map(|file| file.archive_name(*number, count))
    });
    let first = names.next()??;
    names.all(|name| name.as_ref() == Some(&first)).then(|| text::name(&first))
}

impl CheckArguments {
    /// Where the volumes are when this is done.
    fn places(&self) -> Vec<PathBuf> {
        self.coming.in_the_end(self.watch.and(&self.places))
    }
}
