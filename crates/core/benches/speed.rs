//! Packing and opening against the bare primitives, on one mixed corpus, in one run: `cargo bench --bench speed`.
//!
//! Each round runs the program's core and the bare primitives one after the other; a ratio is the median of the rounds'
//! ratios. Above 1 the core is faster. Packing is counted without the read-back, which is shown beside it.

#![allow(clippy::unwrap_used, missing_docs, reason = "a bench stops at the first thing that is not as it should be")]

mod support;
#[path = "support/bare.rs"]
mod bare;

use std::fs;
use std::path::{Path, PathBuf};
use std::time::Instant;
use support::{lay_out_corpus, median, with_context};
use under_seal_core::codec::Squeeze;
use under_seal_core::context::Phase;
use under_seal_core::fit::Fit;
use under_seal_core::opening::open;
use under_seal_core::pack::{Delivery, PackRequest, Target};
use under_seal_core::sealed::{KeyCost, Password, SealedReader};
use under_seal_core::volume::VolumeSet;

const ROUNDS: usize = 5;

/// Seconds that each part of a round took, and bytes packed.
struct Round {
    pack: f64,
    read_back: f64,
    open: f64,
    bytes: f64,
}

fn ours(place: &Path, source: &Path, squeeze: Squeeze, threads: usize) -> Round {
    let credentials = [Password::new("twelve panes").unwrap().into()];
    let target = Target { folder: place.join("out"), stem: "set".into() };
    let sources = [source.to_owned()];
    let request = PackRequest { sources: &sources, target: &target, fit: Fit::OneVolume, squeeze, replace: false };
    let began = Instant::now();
    let (packed, phases) = with_context(threads, |context| {
        Delivery::prepare(&request, context).unwrap().pack(&credentials, KeyCost::CHEAPEST, context).unwrap()
    });
    let read_back = phases.of(Phase::Verifying).as_secs_f64();
    let pack = began.elapsed().as_secs_f64() - read_back;
    let began = Instant::now();
    with_context(threads, |context| {
        let set = VolumeSet::gather(&[packed.volumes[0].path.clone()]).unwrap();
        let mut archive = SealedReader::unlock(set, &credentials[0]).unwrap();
        open(&mut archive, &place.join("inbox"), context).unwrap();
    });
    let open = began.elapsed().as_secs_f64();
    let bytes = packed.volumes[0].bytes as f64;
    fs::remove_dir_all(place.join("out")).unwrap();
    fs::remove_dir_all(place.join("inbox")).unwrap();
    Round { pack, read_back, open, bytes }
}

/// The bare primitives; `read_back` is the time that they take in memory, without any reading and writing.
fn bare_round(place: &Path, files: &[PathBuf], blocks: &[Vec<bare::Piece>], level: i32, threads: usize) -> Round {
    let names: Vec<_> = files.iter().map(|file| file.strip_prefix(place.join("source")).unwrap().to_owned()).collect();
    let (file, inbox) = (place.join("bare"), place.join("bare-inbox"));
    let began = Instant::now();
    let packed = bare::pack(files, blocks, level, threads, &file);
    let pack = began.elapsed().as_secs_f64();
    fs::create_dir(&inbox).unwrap();
    let began = Instant::now();
    bare::open(&names, blocks, &packed, threads, &file, &inbox);
    let open = began.elapsed().as_secs_f64();
    let bytes = fs::metadata(&file).unwrap().len() as f64;
    fs::remove_file(&file).unwrap();
    fs::remove_dir_all(&inbox).unwrap();
    let loaded = bare::load(files, blocks);
    let began = Instant::now();
    bare::pack_in_memory(&loaded, level, threads);
    Round { pack, read_back: began.elapsed().as_secs_f64(), open, bytes }
}

fn main() {
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    let place = tempfile::tempdir().unwrap();
    let source = place.path().join("source");
    let files = lay_out_corpus(&source);
    let blocks = bare::blocks_of(&files);
    let content: u64 = files.iter().map(|file| fs::metadata(file).unwrap().len()).sum();
    println!("{} files, {content} bytes, {threads} threads, {ROUNDS} rounds", files.len());
    println!("squeeze  pack/bare  pack/memory  open/bare  read-back/open  size/bare  MB/s pack  open  size");
    for (name, squeeze, level) in [("light", Squeeze::Light, 1), ("even", Squeeze::Even, 3)] {
        let rounds: Vec<(Round, Round)> = (0..ROUNDS)
            .map(|_| {
                let bare = bare_round(place.path(), &files, &blocks, level, threads);
                (ours(place.path(), &source, squeeze, threads), bare)
            })
            .collect();
        let of = |figure: fn(&Round, &Round) -> f64| median(rounds.iter().map(|(ours, bare)| figure(ours, bare)).collect());
        let rate = |seconds: f64| content as f64 / seconds / 1e6;
        println!(
            "{name:8} {:9.2}  {:11.2}  {:9.2}  {:14.2}  {:9.4}  {:9.0} {:5.0}  {:.4}",
            of(|ours, bare| bare.pack / ours.pack),
            of(|ours, bare| bare.read_back / ours.pack),
            of(|ours, bare| bare.open / ours.open),
            of(|ours, _| ours.read_back / ours.open),
            of(|ours, bare| ours.bytes / bare.bytes),
            rate(of(|ours, _| ours.pack)),
            rate(of(|ours, _| ours.open)),
            of(|ours, _| ours.bytes) / content as f64,
        );
    }
}
