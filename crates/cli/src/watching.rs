//! `--watch`: a folder is looked at again and again until all volumes, or pieces, are there and none of their files grows any more.

use crate::args::WatchArguments;
use crate::failure::Failure;
use crate::signals;
use crate::ui::text;
use std::collections::BTreeMap;
use std::fs;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant, SystemTime};
use under_seal_core::Error;
use under_seal_core::formats::sealed::volume::{GatherError, VolumeSet};
use under_seal_core::ground::context::{Cancelled, Context};
use under_seal_core::tasks::reunite::{Pieces, PiecesError};

/// The folder is looked at this often. A file that is the same at two looks does not grow.
const LOOK_EVERY: Duration = Duration::from_secs(2);

/// So often it is asked whether the wait is to end.
const HEARD_EVERY: Duration = Duration::from_millis(100);

/// What has come so far.
#[derive(Debug, Default, PartialEq, Eq)]
struct Come {
    /// How many there are to be, where that is known.
    count: Option<u32>,
    missing: Vec<u32>,
    /// Those that are shorter than they will be.
    short: Vec<u32>,
    /// Their files.
    paths: Vec<PathBuf>,
}

impl Come {
    fn is_all(&self) -> bool {
        self.count.is_some() && self.missing.is_empty() && self.short.is_empty()
    }

    fn told(&self, noun: &str) -> String {
        let Some(count) = self.count else { return format!("No {noun} has come yet.") };
        let here = count as usize - self.missing.len();
        let mut told =
            format!("{here} of {} {} here.", text::count(count.into(), noun), if here == 1 { "is" } else { "are" });
        if !self.missing.is_empty() {
            told.push_str(&format!(" Missing: {}.", text::number_list(&self.missing)));
        }
        if !self.short.is_empty() {
            told.push_str(&format!(" Still coming: {}.", text::number_list(&self.short)));
        }
        told
    }
}

/// Waits for all volumes of the set in these places, where a folder is to be watched.
///
/// # Errors
/// [`Failure`] where the user ends the wait, or what is there cannot be one set.
pub fn for_volumes(
    watch: &WatchArguments,
    places: &[PathBuf],
    quiet: bool,
    context: &Context<'_>,
) -> Result<(), Failure> {
    wait(watch, "volume", quiet, || match VolumeSet::gather(places, context) {
        Ok(set) => Ok(come(&set)),
        Err(GatherError::NoVolumes { .. } | GatherError::Unusable { .. }) => Ok(Come::default()),
        Err(error) => Err(error.into()),
    })
}

/// Waits for all pieces of a file, where a folder is to be watched.
///
/// # Errors
/// [`Failure`] where the user ends the wait, or what is there cannot be one file.
pub fn for_pieces(
    watch: &WatchArguments,
    places: &[PathBuf],
    quiet: bool,
    context: &Context<'_>,
) -> Result<(), Failure> {
    wait(watch, "piece", quiet, || match Pieces::find(places, context) {
        Ok(pieces) => {
            let paths = pieces.files.values().flatten().map(|spot| spot.path.clone()).collect();
            Ok(Come { count: pieces.count, missing: pieces.missing(), short: pieces.short(), paths })
        }
        // The list may still grow, too.
        Err(PiecesError::NoneIn(_) | PiecesError::NotNumbered(_) | PiecesError::DamagedList(_)) => Ok(Come::default()),
        Err(error) => Err(error.into()),
    })
}

fn come(set: &VolumeSet) -> Come {
    let is_whole = |number: u32, length: u64| length >= set.geometry.volume_bytes(number);
    let short = set.volumes.iter().filter(|(number, files)| !files.iter().any(|file| is_whole(**number, file.length)));
    // A supplement may make up for what a file lacks: that is seen when all is checked.
    let short = short.filter(|(_, files)| files.iter().all(|file| file.runs.is_none()));
    Come {
        count: Some(set.geometry.data_volumes),
        missing: set.missing(),
        short: short.map(|(number, _)| *number).collect(),
        paths: set.paths(),
    }
}

fn wait(
    watch: &WatchArguments,
    noun: &str,
    quiet: bool,
    mut look: impl FnMut() -> Result<Come, Failure>,
) -> Result<(), Failure> {
    let Some(folder) = &watch.watch else { return Ok(()) };
    let end = watch.watch_for.map(|time| Instant::now() + time);
    let (mut before, mut come, mut told) = (Files::new(), Come::default(), String::new());
    loop {
        let now = files_in(folder);
        // What is looked at costs a pass over messages: only where something is new.
        let is_first = told.is_empty();
        if now != before || is_first {
            come = look()?;
        }
        let tells = come.told(noun);
        if tells != told {
            say(quiet, &tells)?;
            told = tells;
        }
        if is_first && !come.is_all() {
            say(quiet, &format!("Waiting for more in {}. Ctrl-C ends the wait.", text::path(folder)))?;
        }
        let is_settled = |path: &PathBuf| {
            let one = now.get(path);
            one == before.get(path) || one.is_none_or(|(_, modified)| is_old(*modified))
        };
        if come.is_all() && come.paths.iter().all(is_settled) {
            return Ok(());
        }
        before = now;
        let next = Instant::now() + LOOK_EVERY;
        while Instant::now() < next {
            if signals::is_stopping() {
                return Err(Error::from(GatherError::from(Cancelled)).into());
            }
            if end.is_some_and(|end| Instant::now() >= end) {
                return say(quiet, "The time to wait is over.");
            }
            std::thread::sleep(HEARD_EVERY);
        }
    }
}

fn say(quiet: bool, line: &str) -> Result<(), Failure> {
    if quiet { Ok(()) } else { writeln!(anstream::stderr(), "{line}").map_err(Failure::Output) }
}

fn is_old(modified: SystemTime) -> bool {
    modified.elapsed().is_ok_and(|age| age > LOOK_EVERY)
}

/// Files by path, with their lengths and when they were last written.
type Files = BTreeMap<PathBuf, (u64, SystemTime)>;

/// The files of a folder. What cannot be read is not there yet.
fn files_in(folder: &Path) -> Files {
    let entries = fs::read_dir(folder).into_iter().flatten().filter_map(Result::ok);
    let one = |entry: fs::DirEntry| {
        let metadata = entry.metadata().ok().filter(fs::Metadata::is_file)?;
        Some((entry.path(), (metadata.len(), metadata.modified().ok()?)))
    };
    entries.filter_map(one).collect()
}
