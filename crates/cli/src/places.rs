//! What is typed for an archive that is read: places with volumes in them, and behind them patterns for what is inside.

use crate::args::{ComingArguments, SearchArguments, WorkArguments};
use crate::failure::{BadValue, Failure};
use crate::ui::progress::ProgressLine;
use crate::ui::{prompt, text};
use crate::{session, standing_input, words};
use std::fs;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use under_seal_core::formats::archive::recognise;
use under_seal_core::formats::sealed::volume::{GatherError, VolumeSet};
use under_seal_core::ground::context::Context;
use under_seal_core::tasks::check::collect::{CollectError, Collection};

/// Volumes, or folders with volumes in them; and what is wanted of the archive.
#[derive(Debug, PartialEq, Eq)]
pub struct Typed {
    /// Where the volumes are.
    pub places: Vec<PathBuf>,
    /// Patterns, or paths inside the archive.
    pub inside: Vec<String>,
}

/// Tells places and patterns apart. The first is a place; of the rest, files that are there, and folders with volumes in
/// them. A folder without any may well be called like something inside.
pub fn tell_apart(typed: &[PathBuf], work: &WorkArguments) -> Typed {
    let progress = ProgressLine::for_reading(None, work);
    let context = &session::context(&progress, work.threads);
    let mut told = Typed { places: Vec::new(), inside: Vec::new() };
    for (number, path) in typed.iter().enumerate() {
        match path.to_str() {
            Some(text) if number > 0 && !is_place(path, context) => told.inside.push(text.to_owned()),
            _ => told.places.push(path.clone()),
        }
    }
    told
}

fn is_place(path: &Path, context: &Context<'_>) -> bool {
    let gathered = || VolumeSet::gather(&[path.to_owned()], context);
    path.is_file() || path.is_dir() && !matches!(gathered(), Err(GatherError::NoVolumes { .. }))
}

/// No more folders than this are searched.
const MOST_FOLDERS: usize = 10_000;

/// Places, with the folders in those that are folders where all of them are searched. Folders that cannot be listed, and links to some, are
/// passed over.
pub fn searched(places: &[PathBuf], search: SearchArguments) -> Vec<PathBuf> {
    if search.deep { with_folders_in(places, usize::MAX) } else { places.to_vec() }
}

/// Places, and the folders in them down to a depth.
pub fn with_folders_in(places: &[PathBuf], depth: usize) -> Vec<PathBuf> {
    let mut all = places.to_vec();
    let mut level: Vec<PathBuf> = places.iter().filter(|place| place.is_dir()).cloned().collect();
    for _ in 0..depth {
        let mut next: Vec<PathBuf> = level.iter().flat_map(|folder| folders_in(folder)).collect();
        next.sort();
        if next.is_empty() || all.len() + next.len() > MOST_FOLDERS {
            break;
        }
        all.extend(next.iter().cloned());
        level = next;
    }
    all
}

fn folders_in(folder: &Path) -> Vec<PathBuf> {
    let Ok(entries) = fs::read_dir(folder) else { return Vec::new() };
    let folders = entries.flatten().filter(|entry| entry.file_type().is_ok_and(|kind| kind.is_dir()));
    folders.map(|entry| entry.path()).filter(|path| fs::read_dir(path).is_ok()).collect()
}

/// What is found in these places or, where there is nothing, in the folders in them.
fn one_level_deep<T>(
    places: &[PathBuf],
    gather: impl Fn(&[PathBuf]) -> Result<T, GatherError>,
) -> Result<T, GatherError> {
    match gather(places) {
        Err(none @ GatherError::NoVolumes { .. }) => match with_folders_in(places, 1) {
            more if more.len() > places.len() => gather(&more).map_err(|error| match error {
                GatherError::NoVolumes { .. } => none,
                error => error,
            }),
            _ => Err(none),
        },
        outcome => outcome,
    }
}

/// The set that is in these places, or, with `--one-by-one`, that comes there one volume after the other.
pub fn gather_or_collect(
    places: &[PathBuf],
    coming: &ComingArguments,
    context: &Context<'_>,
) -> Result<VolumeSet, Failure> {
    if coming.one_by_one { collect(places, &coming.aside, context) } else { gather_in(places, context) }
}

/// Copies volumes aside as they come, until none is missing.
fn collect(places: &[PathBuf], aside: &Path, context: &Context<'_>) -> Result<VolumeSet, Failure> {
    if !prompt::can_ask() {
        return Err(Failure::NobodyToAsk {
            what: "Each disc is asked for on a terminal",
            instead: "Copy all volumes into one folder, and name that.",
        });
    }
    let mut collection = Collection::begin(aside, context)?;
    let say = |line: String| writeln!(anstream::stderr(), "{line}").map_err(Failure::Prompt);
    loop {
        let missing = collection.missing();
        if missing.as_ref().is_some_and(|(missing, _)| missing.is_empty()) {
            break;
        }
        match collection.take(places, context) {
            Ok(taken) => {
                for number in &taken.spares {
                    say(format!("Spare volume {number} is copied to {} and verified.", text::path(aside)))?;
                }
                for number in &taken.copied {
                    say(format!("Volume {number} is copied to {} and verified.", text::path(aside)))?;
                }
                for number in &taken.damaged {
                    say(format!(
                        "Volume {number} is damaged there, or cannot be read. Clean the disc and try again, or ask the sender for this volume."
                    ))?;
                }
            }
            Err(CollectError::Gather(error @ GatherError::Unusable { .. })) => say(words::explain(&error.into()))?,
            Err(error) => return Err(error.into()),
        }
        let question = match collection.missing() {
            Some((missing, _)) if missing.is_empty() => break,
            Some((missing, count)) => format!(
                "Still missing: {} of {count}. Put in the one with volume {}.",
                text::number_list(&missing),
                missing.first().copied().unwrap_or(1)
            ),
            None => format!("There is no volume in {} yet. Put the first one in.", text::path(&places[0])),
        };
        if prompt::choose(&question, &["[n]ext", "[q]uit"], Some(0))? == 1 {
            return Err(Failure::GivenUp);
        }
    }
    Ok(VolumeSet::gather(&[aside.to_owned()], context)?)
}

/// The set that is in these places. Where there are several, it is asked on a terminal which one.
pub fn gather(places: &[PathBuf], work: &WorkArguments) -> Result<VolumeSet, Failure> {
    let progress = ProgressLine::for_reading(None, work);
    gather_in(places, &session::context(&progress, work.threads))
}

/// The same, for whoever has a context already.
pub fn gather_in(places: &[PathBuf], context: &Context<'_>) -> Result<VolumeSet, Failure> {
    let places = &standing_input::kept(places)?;
    match one_level_deep(places, |places| VolumeSet::gather(places, context)) {
        Err(GatherError::SeveralSets(found)) if prompt::can_ask() => {
            let numbers: Vec<String> = (1..=found.len()).map(|number| number.to_string()).collect();
            let lines: Vec<String> = numbers
                .iter()
                .zip(&found)
                .map(|(number, set)| format!("  {number}  {}\n", words::one_set(set)))
                .collect();
            let question = format!("Volumes of {} archives are here:\n{}Which one?", found.len(), lines.concat());
            let written: Vec<String> = numbers.iter().map(|number| format!("[{number}]")).collect();
            let mut choices: Vec<&str> = written.iter().map(String::as_str).collect();
            choices.push("[q]uit");
            match found.get(prompt::choose(&question, &choices, None)?) {
                Some(set) => Ok(one_level_deep(places, |places| VolumeSet::gather_one(places, set.ids, context))?),
                None => Err(Failure::GivenUp),
            }
        }
        outcome => sealed_only(outcome, context),
    }
}

/// Every set that is in these places.
pub fn gather_each(places: &[PathBuf], work: &WorkArguments) -> Result<Vec<VolumeSet>, Failure> {
    let progress = ProgressLine::for_reading(None, work);
    gather_each_in(places, &session::context(&progress, work.threads))
}

/// The same, for whoever has a context already.
pub fn gather_each_in(places: &[PathBuf], context: &Context<'_>) -> Result<Vec<VolumeSet>, Failure> {
    let places = &standing_input::kept(places)?;
    sealed_only(one_level_deep(places, |places| VolumeSet::gather_each(places, context)), context)
}

/// What was found, or, of an archive in another format, that this is for sealed volumes only.
fn sealed_only<T>(outcome: Result<T, GatherError>, context: &Context<'_>) -> Result<T, Failure> {
    match outcome {
        Err(GatherError::Unusable { path, .. }) if matches!(recognise(&path, context), Ok(Some(_))) => {
            Err(Failure::Value(BadValue::SealedOnly))
        }
        outcome => Ok(outcome?),
    }
}
