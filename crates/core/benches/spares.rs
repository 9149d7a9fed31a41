//! What spare volumes cost, in one run: `cargo bench --bench spares`. Packing with two spare volumes in ten against packing without, and
//! mending a lost volume against reading and hashing all that is read for it, and writing and syncing as much.

#![allow(clippy::unwrap_used, missing_docs, reason = "a bench stops at the first thing that is not as it should be")]

mod support;

use std::fs;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::time::Instant;
use support::{cpu_seconds, lay_out_corpus, median, with_context};
use under_seal_core::codecs::block::Squeeze;
use under_seal_core::formats::sealed::KeyCost;
use under_seal_core::formats::sealed::volume::{SpareWish, VolumeSet};
use under_seal_core::ground::context::Phase;
use under_seal_core::ground::secrets::Password;
use under_seal_core::source::Choice;
use under_seal_core::tasks::check::inspect;
use under_seal_core::tasks::mend::{Wanted, mend};
use under_seal_core::tasks::pack::{Delivery, PackRequest, Packed, Target};

const ROUNDS: usize = 5;

/// About ten volumes of the corpus.
const FIT: &str = "16MB";

/// What packing took, in seconds.
struct Took {
    wall: f64,
    cpu: f64,
    /// Of the time on the clock, what making the spare volumes took, and reading back.
    spares: f64,
    read_back: f64,
}

/// One round.
struct Round {
    without: Took,
    with: Took,
    /// Seconds that mending took, and the bare primitives.
    mended: f64,
    bare: f64,
    /// The lost volume's length.
    bytes: f64,
}

/// Packs into a new folder.
fn pack(place: &Path, source: &Path, spares: u32, threads: usize) -> (Packed, Took) {
    let target = Target { folder: place.to_owned(), stem: "set".into() };
    let (sources, choice) = ([source.to_owned()], Choice::default());
    let request = PackRequest {
        squeeze: Squeeze::Even,
        fit: FIT.parse().unwrap(),
        spares: SpareWish::Count(spares),
        ..PackRequest::new(&sources, &choice, &target)
    };
    let credentials = [Password::new("twelve panes").unwrap().into()];
    let (watch, cpu) = (Instant::now(), cpu_seconds());
    let (packed, phases) = with_context(threads, |context| {
        Delivery::prepare(&request, context).unwrap().pack(&credentials, KeyCost::CHEAPEST, context).unwrap()
    });
    let took = Took {
        wall: watch.elapsed().as_secs_f64(),
        cpu: cpu_seconds() - cpu,
        spares: phases.of(Phase::Sparing).as_secs_f64(),
        read_back: phases.of(Phase::Verifying).as_secs_f64(),
    };
    (packed, took)
}

/// Recreates a volume; how long that took, and how long it takes to read and hash the files that it is recreated from, and to write as
/// much and wait for the disk.
fn mend_one(packed: &Packed, place: &Path, threads: usize) -> (f64, f64) {
    let lost = &packed.volumes[4];
    let here: Vec<PathBuf> =
        packed.volumes.iter().filter(|volume| volume.path != lost.path).map(|one| one.path.clone()).collect();
    let all: Vec<PathBuf> =
        here.iter().cloned().chain(packed.spares.iter().take(1).map(|(path, _)| path.clone())).collect();
    let set = VolumeSet::from_files(&all).unwrap();
    let target = Target { folder: place.to_owned(), stem: "set".into() };
    with_context(threads, |context| {
        let found = inspect(&set, context).unwrap();
        // Of the spare volumes that are not here none is to be made again.
        let found = under_seal_core::tasks::check::SetReport { spares: Vec::new(), ..found };
        let wanted = Wanted::lost(&set, &found).unwrap();
        let watch = Instant::now();
        mend(&set, &found, &wanted, &target, context).unwrap();
        let mended = watch.elapsed().as_secs_f64();
        let watch = Instant::now();
        for path in &all {
            std::hint::black_box(blake3::hash(&fs::read(path).unwrap()));
        }
        let mut file = fs::File::create(place.join("bare")).unwrap();
        file.write_all(&fs::read(&all[0]).unwrap()).unwrap();
        file.sync_all().unwrap();
        (mended, watch.elapsed().as_secs_f64())
    })
    .0
}

fn main() {
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    let place = tempfile::tempdir().unwrap();
    let source = place.path().join("source");
    lay_out_corpus(&source);
    let mut rounds = Vec::new();
    for round in 0..ROUNDS {
        let desk = |name: &str| place.path().join(format!("{name}-{round}"));
        let (_, without) = pack(&desk("without"), &source, 0, threads);
        let (packed, with) = pack(&desk("with"), &source, 2, threads);
        let (mended, bare) = mend_one(&packed, &desk("mended"), threads);
        println!("  {} volumes, round {round}", packed.volumes.len());
        rounds.push(Round { without, with, mended, bare, bytes: packed.volumes[4].bytes as f64 });
    }
    let show = |what: &str, figure: fn(&Round) -> f64| {
        println!("{what:64} {:.3}", median(rounds.iter().map(figure).collect()));
    };
    show("packing with two spare volumes, time against packing without", |round| round.with.wall / round.without.wall);
    show("the same of processor time", |round| round.with.cpu / round.without.cpu);
    show("making them, time against packing without reading back", |Round { with, .. }| {
        with.spares / (with.wall - with.spares - with.read_back)
    });
    show("mending a volume, speed against bare reading, hashing, writing", |round| round.bare / round.mended);
    show("here and now MB/s of a lost volume", |round| round.bytes / round.mended / 1e6);
}
