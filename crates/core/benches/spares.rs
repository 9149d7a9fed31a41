//! What spare volumes cost, in one run: `cargo bench --bench spares`. Packing with two spare volumes in ten against packing without, and
//! mending a lost volume of 100 MB in ten against reading and hashing all that is read for it, and writing and syncing as much.

#![allow(clippy::unwrap_used, missing_docs, reason = "a bench stops at the first thing that is not as it should be")]

mod support;

use std::fs;
use std::io::{Read as _, Write as _};
use std::path::{Path, PathBuf};
use std::time::Instant;
use support::{cpu_seconds, lay_out_corpus, median, noise, with_context};
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

/// What mending is measured with: so many bytes that nothing compresses, in ten volumes.
const LARGE_BYTES: usize = 990_000_000;
const LARGE_FIT: &str = "100MB";

/// What packing took, in seconds.
struct Took {
    wall: f64,
    cpu: f64,
    /// Of the time on the clock, what making the spare volumes took, and reading back.
    spares: f64,
    read_back: f64,
}

/// One round of packing.
struct Round {
    without: Took,
    with: Took,
}

/// What mending a volume took, in seconds.
struct Mended {
    wall: f64,
    /// Of that, recreating it.
    recreating: f64,
    /// The bare primitives on one thread, and on as many as mending has.
    bare: f64,
    bare_threads: f64,
    /// The lost volume's length.
    bytes: f64,
}

/// Packs into a new folder.
fn pack(place: &Path, source: &Path, (squeeze, fit, spares): (Squeeze, &str, u32), threads: usize) -> (Packed, Took) {
    let target = Target { folder: place.to_owned(), stem: "set".into() };
    let (sources, choice) = ([source.to_owned()], Choice::default());
    let request = PackRequest {
        squeeze,
        fit: fit.parse().unwrap(),
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

/// Recreates a volume, and does the same with bare primitives: reads and hashes the files that it is recreated from, writes as much, and
/// waits for the disk.
fn mend_one(packed: &Packed, place: &Path, threads: usize) -> Mended {
    let lost = &packed.volumes[4];
    let here: Vec<PathBuf> =
        packed.volumes.iter().filter(|volume| volume.path != lost.path).map(|one| one.path.clone()).collect();
    let all: Vec<PathBuf> = here.iter().cloned().chain(packed.spares.iter().map(|(path, _)| path.clone())).collect();
    let set = VolumeSet::from_files(&all).unwrap();
    let target = Target { folder: place.to_owned(), stem: "set".into() };
    let (wanted, _) = with_context(threads, |context| {
        let found = inspect(&set, context).unwrap();
        Wanted::lost(&set, &found, u32::MAX).unwrap()
    });
    let watch = Instant::now();
    let (_, phases) = with_context(threads, |context| mend(&set, &wanted, &target, context).unwrap());
    let wall = watch.elapsed().as_secs_f64();
    let bare = |threads: usize| {
        let watch = Instant::now();
        std::thread::scope(|scope| {
            for share in all.chunks(all.len().div_ceil(threads)) {
                scope.spawn(move || {
                    let mut buffer = vec![0; 1 << 20];
                    for path in share {
                        let (mut file, mut hasher) = (fs::File::open(path).unwrap(), blake3::Hasher::new());
                        while let Some(read) = Some(file.read(&mut buffer).unwrap()).filter(|read| *read > 0) {
                            hasher.update(&buffer[..read]);
                        }
                        std::hint::black_box(hasher.finalize());
                    }
                });
            }
        });
        let mut file = fs::File::create(place.join("bare")).unwrap();
        file.write_all(&fs::read(&all[0]).unwrap()).unwrap();
        file.sync_all().unwrap();
        watch.elapsed().as_secs_f64()
    };
    let recreating = phases.of(Phase::Mending).as_secs_f64();
    Mended { wall, recreating, bare: bare(1), bare_threads: bare(threads), bytes: lost.bytes as f64 }
}

fn main() {
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    let place = tempfile::tempdir().unwrap();
    let source = place.path().join("source");
    lay_out_corpus(&source);
    let mut rounds = Vec::new();
    for round in 0..ROUNDS {
        let desk = |name: &str| place.path().join(format!("{name}-{round}"));
        let (_, without) = pack(&desk("without"), &source, (Squeeze::Even, FIT, 0), threads);
        let (packed, with) = pack(&desk("with"), &source, (Squeeze::Even, FIT, 2), threads);
        println!("  {} volumes, round {round}", packed.volumes.len());
        rounds.push(Round { without, with });
        fs::remove_dir_all(desk("without")).unwrap();
        fs::remove_dir_all(desk("with")).unwrap();
    }
    let show = |what: &str, figures: Vec<f64>| println!("{what:64} {:.3}", median(figures));
    let packing = |what, figure: fn(&Round) -> f64| show(what, rounds.iter().map(figure).collect());
    packing("packing with two spare volumes, time against packing without", |round| {
        round.with.wall / round.without.wall
    });
    packing("the same of processor time", |round| round.with.cpu / round.without.cpu);
    packing("making them, time against packing without reading back", |Round { with, .. }| {
        with.spares / (with.wall - with.spares - with.read_back)
    });

    let large = place.path().join("large");
    fs::write(&large, noise(1, LARGE_BYTES)).unwrap();
    let (packed, _) = pack(&place.path().join("lost"), &large, (Squeeze::None, LARGE_FIT, 1), threads);
    println!("  {} volumes of {} bytes", packed.volumes.len(), packed.volumes[0].bytes);
    let mended: Vec<Mended> =
        (0..ROUNDS).map(|round| mend_one(&packed, &place.path().join(format!("mended-{round}")), threads)).collect();
    let mending = |what, figure: fn(&Mended) -> f64| show(what, mended.iter().map(figure).collect());
    mending("mending a volume, speed against bare primitives on one thread", |one| one.bare / one.wall);
    mending("the same against as many threads", |one| one.bare_threads / one.wall);
    mending("recreating it, share of the time", |one| one.recreating / one.wall);
    mending("here and now MB/s of the lost volume", |one| one.bytes / one.wall / 1e6);
    mending("here and now MB/s of what is read", |one| one.bytes * 10.0 / one.wall / 1e6);
}
