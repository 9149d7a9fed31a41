//! Packing and opening against the bare primitives, on one mixed corpus, in one run: `cargo bench --bench speed`.
//!
//! Each round runs the program's core and the bare primitives one after the other; a ratio is the median of the rounds'
//! ratios, and beside it stands that of the two least disturbed rounds, the quickest of either side. Above 1 the core is
//! faster. Packing is counted without the read-back, which is shown beside it.

#![allow(clippy::unwrap_used, missing_docs, reason = "a bench stops at the first thing that is not as it should be")]

#[path = "support/bare.rs"]
mod bare;
mod support;

use std::fs;
use std::path::{Path, PathBuf};
use std::time::Instant;
use support::{cpu_seconds, lay_out_corpus, median, with_context};
use under_seal_core::codecs::block::Squeeze;
use under_seal_core::formats::sealed::volume::VolumeSet;
use under_seal_core::formats::sealed::{KeyCost, SealedReader};
use under_seal_core::ground::context::Phase;
use under_seal_core::ground::secrets::Password;
use under_seal_core::source::Choice;
use under_seal_core::tasks::check::verify_contents;
use under_seal_core::tasks::open::open;
use under_seal_core::tasks::pack::{Delivery, PackRequest, Target};

const ROUNDS: usize = 9;

/// What a part of a round took: seconds on the clock, and seconds of all processors.
#[derive(Clone, Copy)]
struct Took {
    wall: f64,
    cpu: f64,
}

/// Runs from now on.
struct Watch(Instant, f64);

impl Watch {
    fn start() -> Self {
        Self(Instant::now(), cpu_seconds())
    }

    fn stop(&self) -> Took {
        Took { wall: self.0.elapsed().as_secs_f64(), cpu: cpu_seconds() - self.1 }
    }
}

/// One round of one of the two sides.
struct Round {
    pack: Took,
    open: Took,
    /// Ours: reading back and verifying, by the clock. Bare: compressing and sealing in memory, nothing read or written.
    beside: f64,
    bytes: f64,
}

/// Packing without the read-back, which is taken off by the clock; its processor time is measured as that of a
/// verification of the same volumes.
fn ours(place: &Path, source: &Path, squeeze: Squeeze, threads: usize) -> Round {
    let credentials = [Password::new("twelve panes").unwrap().into()];
    let target = Target { folder: place.join("out"), stem: "set".into() };
    let sources = [source.to_owned()];
    let choice = Choice::default();
    let request = PackRequest { squeeze, ..PackRequest::new(&sources, &choice, &target) };
    let watch = Watch::start();
    let (packed, phases) = with_context(threads, |context| {
        Delivery::prepare(&request, context).unwrap().pack(&credentials, KeyCost::CHEAPEST, context).unwrap()
    });
    let beside = phases.of(Phase::Verifying).as_secs_f64();
    let both = watch.stop();
    let unlock = || {
        let set = VolumeSet::from_files(&[packed.volumes[0].path.clone()]).unwrap();
        SealedReader::unlock(set, &credentials[0]).unwrap()
    };
    let watch = Watch::start();
    with_context(threads, |context| verify_contents(&mut unlock(), context).unwrap());
    let pack = Took { wall: both.wall - beside, cpu: both.cpu - watch.stop().cpu };
    let watch = Watch::start();
    with_context(threads, |context| open(&mut unlock(), &place.join("inbox"), context).unwrap());
    let open = watch.stop();
    let bytes = packed.volumes[0].bytes as f64;
    Round { pack, open, beside, bytes }
}

fn bare_round(
    place: &Path,
    names: &[PathBuf],
    files: &[PathBuf],
    blocks: &[Vec<bare::Piece>],
    level: i32,
    threads: usize,
) -> Round {
    let (file, inbox) = (place.join("bare"), place.join("bare-inbox"));
    let watch = Watch::start();
    let packed = bare::pack(files, blocks, level, threads, &file);
    let pack = watch.stop();
    fs::create_dir(&inbox).unwrap();
    let watch = Watch::start();
    bare::open(names, blocks, &packed, threads, &file, &inbox);
    let open = watch.stop();
    let bytes = fs::metadata(&file).unwrap().len() as f64;
    let loaded = bare::load(files, blocks);
    let watch = Watch::start();
    bare::pack_in_memory(&loaded, level, threads);
    Round { pack, open, beside: watch.stop().wall, bytes }
}

fn main() {
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    let place = tempfile::tempdir().unwrap();
    let source = place.path().join("source");
    let files = lay_out_corpus(&source);
    let names: Vec<_> = files.iter().map(|file| file.strip_prefix(&source).unwrap().to_owned()).collect();
    let blocks = bare::blocks_of(&files);
    let content: u64 = files.iter().map(|file| fs::metadata(file).unwrap().len()).sum();
    println!("{} files, {content} bytes, {threads} threads, {ROUNDS} rounds", files.len());
    for (name, squeeze, level) in [("light", Squeeze::Light, 1), ("even", Squeeze::Even, 3)] {
        let mut rounds = Vec::new();
        for round in 0..ROUNDS {
            // Every round has folders of its own, and nothing is removed before the end: file systems are slow to make
            // files where many were just removed.
            let desk = place.path().join(format!("{name}-{round}"));
            fs::create_dir(&desk).unwrap();
            let run_bare = || bare_round(&desk, &names, &files, &blocks, level, threads);
            let run_ours = || ours(&desk, &source, squeeze, threads);
            // Who goes first changes, so that neither always finds the machine as the other left it.
            rounds.push(if round % 2 == 0 {
                let bare = run_bare();
                (run_ours(), bare)
            } else {
                let ours = run_ours();
                (ours, run_bare())
            });
        }
        let of = |figure: fn(&Round, &Round) -> f64| median(rounds.iter().map(|(o, b)| figure(o, b)).collect());
        println!(
            "{name}, as medians of ratios (above 1: faster, or smaller, than bare), and quickest against quickest:"
        );
        let show = |what: &str, ratio: f64| println!("  {what:58} {ratio:.3}");
        let quickest = |of: fn(&Round) -> f64| {
            let least = |side: fn(&(Round, Round)) -> &Round| {
                rounds.iter().map(|round| of(side(round))).fold(f64::INFINITY, f64::min)
            };
            least(|round| &round.1) / least(|round| &round.0)
        };
        let show_speed = |what: &str, took: fn(&Round) -> f64, ratio: fn(&Round, &Round) -> f64| {
            println!("  {what:58} {:.3}  {:.3}", of(ratio), quickest(took));
        };
        show_speed(
            "packing, speed against bare",
            |round| round.pack.wall,
            |ours, bare| bare.pack.wall / ours.pack.wall,
        );
        show("packing, processor time against bare", of(|ours, bare| bare.pack.cpu / ours.pack.cpu));
        show("packing, speed against bare in memory without any files", of(|ours, bare| bare.beside / ours.pack.wall));
        show_speed(
            "opening, speed against bare",
            |round| round.open.wall,
            |ours, bare| bare.open.wall / ours.open.wall,
        );
        show("opening, processor time against bare", of(|ours, bare| bare.open.cpu / ours.open.cpu));
        show("reading back, speed against opening", of(|ours, _| ours.open.wall / ours.beside));
        show("packed size, bare against ours", of(|ours, bare| bare.bytes / ours.bytes));
        let rate = |seconds: f64| content as f64 / seconds / 1e6;
        let (pack, open) = (of(|ours, _| ours.pack.wall), of(|ours, _| ours.open.wall));
        println!("  here and now {:.0} MB/s packed, {:.0} MB/s opened", rate(pack), rate(open));
    }
}
