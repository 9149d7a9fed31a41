//! `--watch`: a folder is looked at again and again until all volumes, parcels, or pieces are there and none of their files grows any more.

use crate::args::WatchArguments;
use crate::failure::Failure;
use crate::signals;
use crate::ui::text;
use std::collections::{BTreeMap, BTreeSet};
use std::io::Write as _;
use std::path::PathBuf;
use std::time::{Duration, Instant, SystemTime};
use under_seal_core::Error;
use under_seal_core::formats::messages::mailboxes::files_in;
use under_seal_core::formats::sealed::volume::names::parcel_named;
use under_seal_core::formats::sealed::volume::spares::spare_bytes;
use under_seal_core::formats::sealed::volume::{GatherError, VolumeFile, VolumeSet};
use under_seal_core::ground::context::{Cancelled, Context};
use under_seal_core::tasks::reunite::{Pieces, PiecesError};

/// The folder is looked at this often. A file that is the same at two looks does not grow.
const LOOK_EVERY: Duration = Duration::from_secs(2);

/// So often it is asked whether the wait is to end.
const HEARD_EVERY: Duration = Duration::from_millis(100);

/// What has come so far.
#[derive(Debug, Default, PartialEq, Eq)]
struct Come {
    /// It in words.
    told: String,
    /// Nothing more is to come.
    is_all: bool,
    /// Its files.
    paths: Vec<PathBuf>,
}

/// What has come of something that is in several files.
#[derive(Debug, Default)]
struct InFiles {
    /// How many there are to be, where that is known.
    count: Option<u32>,
    missing: Vec<u32>,
    /// Those that need not come, since spare volumes make them good.
    made_good: Vec<u32>,
    /// Those that are shorter than they will be.
    short: Vec<u32>,
}

impl InFiles {
    fn of(set: &VolumeSet) -> Self {
        let is_whole = |number: u32, length: u64| length >= set.geometry.volume_bytes(number);
        let is_short = |(number, files): &(&u32, &Vec<VolumeFile>)| {
            // A supplement may make up for what a file lacks: that is seen when all is checked.
            files.iter().all(|file| file.runs.is_none() && !is_whole(**number, file.length))
        };
        let is_whole_spare = |file: &VolumeFile| file.length >= spare_bytes(&set.geometry);
        let spares = set.spares.iter().filter(|(_, files)| files.iter().any(is_whole_spare));
        let shortfalls = set.groups().shortfalls(set.missing(), spares.map(|(number, _)| *number));
        let missing: Vec<u32> = shortfalls.into_iter().flat_map(|short| short.missing).collect();
        let made_good = set.missing().into_iter().filter(|number| !missing.contains(number)).collect();
        Self {
            count: Some(set.geometry.data_volumes),
            missing,
            made_good,
            short: set.volumes.iter().filter(is_short).map(|(number, _)| *number).collect(),
        }
    }

    fn is_all(&self) -> bool {
        self.count.is_some() && self.missing.is_empty() && self.short.is_empty()
    }

    fn told(&self, noun: &str) -> String {
        let Some(count) = self.count else { return format!("No {noun} has come yet.") };
        let here = count as usize - self.missing.len() - self.made_good.len();
        let mut told =
            format!("{here} of {} {} here.", text::count(count.into(), noun), if here == 1 { "is" } else { "are" });
        if !self.missing.is_empty() {
            told.push_str(&format!(" Missing: {}.", text::number_list(&self.missing)));
        }
        if !self.made_good.is_empty() {
            told.push_str(&format!(" Spare volumes make good: {}.", text::number_list(&self.made_good)));
        }
        if !self.short.is_empty() {
            told.push_str(&format!(" Still coming: {}.", text::number_list(&self.short)));
        }
        told
    }

    fn come(&self, noun: &str, paths: Vec<PathBuf>) -> Come {
        Come { told: self.told(noun), is_all: self.is_all(), paths }
    }
}

/// A folder to be watched, where one is, and what is looked for there.
pub struct Watching<'a> {
    pub watch: &'a WatchArguments,
    /// The folder, and whatever else was typed.
    pub places: &'a [PathBuf],
    pub quiet: bool,
    pub context: &'a Context<'a>,
}

impl Watching<'_> {
    /// Waits for all volumes of one set.
    ///
    /// # Errors
    /// [`Failure`] where the user ends the wait, or what is there cannot be one set.
    pub fn for_volumes(&self) -> Result<(), Failure> {
        let gather = || VolumeSet::gather(self.places, self.context).map(|set| vec![set]);
        self.for_sets(gather, |sets| match sets {
            [set] => InFiles::of(set).come("volume", set.paths()),
            _ => InFiles::default().come("volume", Vec::new()),
        })
    }

    /// Waits for all volumes of every set, and for all parcels of those that are parcels by their names.
    ///
    /// # Errors
    /// [`Failure`] where the user ends the wait.
    pub fn for_archives(&self) -> Result<(), Failure> {
        self.for_sets(|| VolumeSet::gather_each(self.places, self.context), archives_come)
    }

    /// Waits for all pieces of a file.
    ///
    /// # Errors
    /// [`Failure`] where the user ends the wait, or what is there cannot be one file.
    pub fn for_pieces(&self) -> Result<(), Failure> {
        self.wait(|| match Pieces::find(self.places, self.context) {
            Ok(pieces) => {
                let paths = pieces.files.values().flatten().map(|spot| spot.path.clone()).collect();
                let come = InFiles {
                    count: pieces.count,
                    missing: pieces.missing(),
                    short: pieces.short(),
                    ..InFiles::default()
                };
                Ok(come.come("piece", paths))
            }
            // The list may still grow, too.
            Err(PiecesError::NoneIn(_) | PiecesError::NotNumbered(_) | PiecesError::DamagedList(_)) => {
                Ok(InFiles::default().come("piece", Vec::new()))
            }
            Err(error) => Err(error.into()),
        })
    }

    fn for_sets(
        &self,
        gather: impl Fn() -> Result<Vec<VolumeSet>, GatherError>,
        come: impl Fn(&[VolumeSet]) -> Come,
    ) -> Result<(), Failure> {
        self.wait(|| match gather() {
            Ok(sets) => Ok(come(&sets)),
            Err(GatherError::NoVolumes { .. } | GatherError::Unusable { .. }) => Ok(come(&[])),
            Err(error) => Err(error.into()),
        })
    }

    fn wait(&self, mut look: impl FnMut() -> Result<Come, Failure>) -> Result<(), Failure> {
        let Some(folder) = &self.watch.watch else { return Ok(()) };
        let end = self.watch.watch_for.map(|time| Instant::now() + time);
        let (mut before, mut come, mut told) = (Files::new(), Come::default(), String::new());
        loop {
            let now = files_of(self.places);
            // What is looked at costs a pass over messages: only where something is new.
            let is_first = told.is_empty();
            if now != before || is_first {
                come = look()?;
            }
            if come.told != told {
                say(self.quiet, &come.told)?;
                told.clone_from(&come.told);
            }
            if is_first && !come.is_all {
                say(self.quiet, &format!("Waiting for more in {}. Ctrl-C ends the wait.", text::path(folder)))?;
            }
            let is_settled = |path: &PathBuf| {
                let one = now.get(path);
                one == before.get(path) || one.is_none_or(|(_, modified)| is_old(*modified))
            };
            if come.is_all && come.paths.iter().all(is_settled) {
                return Ok(());
            }
            before = now;
            let next = Instant::now() + LOOK_EVERY;
            while Instant::now() < next {
                if signals::is_stopping() {
                    return Err(Error::from(GatherError::from(Cancelled)).into());
                }
                if end.is_some_and(|end| Instant::now() >= end) {
                    return say(self.quiet, "The time to wait is over.");
                }
                std::thread::sleep(HEARD_EVERY);
            }
        }
    }
}

/// What has come of several archives. Without the password nothing but their names says which of them are parcels: names may lie, and
/// then it is waited for too long, or not long enough.
fn archives_come(sets: &[VolumeSet]) -> Come {
    let parcels = parcels_come(sets);
    if let ([set], []) = (sets, parcels.as_slice()) {
        return InFiles::of(set).come("volume", set.paths());
    }
    let unfinished: Vec<InFiles> = sets.iter().map(InFiles::of).filter(|come| !come.is_all()).collect();
    let mut told = match (sets.len() as u64, unfinished.as_slice()) {
        (0, _) => "No volume has come yet.".to_owned(),
        (1, []) => "1 archive is here and whole.".to_owned(),
        (1, [one]) => one.told("volume"),
        (all, []) => format!("{all} archives are here and whole."),
        (all, [one]) => format!("{}, 1 of them not whole yet: {}", text::count(all, "archive"), one.told("volume")),
        (all, several) => format!("{}, {} of them not whole yet.", text::count(all, "archive"), several.len()),
    };
    for parcels in &parcels {
        told.push_str(&format!(" By their names, {}", parcels.told("parcel")));
    }
    let is_all = !sets.is_empty() && unfinished.is_empty() && parcels.iter().all(InFiles::is_all);
    Come { told, is_all, paths: sets.iter().flat_map(VolumeSet::paths).collect() }
}

/// The deliveries in parcels that names speak of, as far as they have come.
fn parcels_come(sets: &[VolumeSet]) -> Vec<InFiles> {
    let mut here: BTreeMap<(Vec<u8>, u32), BTreeSet<u32>> = BTreeMap::new();
    for file in sets.iter().flat_map(|set| set.volumes.values().flatten()) {
        if let Some(named) = file.spot.own_name().and_then(|name| parcel_named(name.as_encoded_bytes())) {
            here.entry((named.delivery.to_vec(), named.count)).or_default().insert(named.number);
        }
    }
    let one = |((_, count), here): ((Vec<u8>, u32), BTreeSet<u32>)| InFiles {
        count: Some(count),
        missing: (1..=count).filter(|number| !here.contains(number)).collect(),
        ..InFiles::default()
    };
    here.into_iter().map(one).collect()
}

fn say(quiet: bool, line: &str) -> Result<(), Failure> {
    if quiet { Ok(()) } else { writeln!(anstream::stderr(), "{line}").map_err(Failure::Output) }
}

fn is_old(modified: SystemTime) -> bool {
    modified.elapsed().is_ok_and(|age| age > LOOK_EVERY)
}

/// Files by path, with their lengths and when they were last written.
type Files = BTreeMap<PathBuf, (u64, SystemTime)>;

/// The files of these places. What cannot be read is not there yet.
fn files_of(places: &[PathBuf]) -> Files {
    let one = |path: PathBuf| {
        let metadata = path.metadata().ok()?;
        Some((path, (metadata.len(), metadata.modified().ok()?)))
    };
    places.iter().flat_map(|place| files_in(place)).filter_map(one).collect()
}
