//! Packing as ZIP against the one-threaded codec on the same data, in one run: `cargo bench --bench zip`.
//!
//! The codec with one thread reads every file, compresses it at the same level and writes that; with a password, each
//! file's keys are derived and its bytes encrypted too. Ours gathers, reads, compresses, encrypts, makes headers, writes and
//! syncs, with as many threads as there are cores; the read-back is not counted. Of many small files and of a single huge one
//! alike. Above 1 ours is faster.

#![allow(clippy::unwrap_used, missing_docs, reason = "a bench stops at the first thing that is not as it should be")]

#[allow(dead_code, reason = "the corpus is for the other benches")]
mod support;

use flate2::{Compression, write::DeflateEncoder};
use std::fs::{self, File};
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::time::Instant;
use support::{binary, median, text, with_context};
use under_seal_core::codecs::block::Squeeze;
use under_seal_core::formats::registry::ZIP;
use under_seal_core::formats::sealed::KeyCost;
use under_seal_core::formats::zip::{Encrypting, SALT_BYTES};
use under_seal_core::ground::context::Phase;
use under_seal_core::ground::secrets::{Credentials, Password};
use under_seal_core::source::Choice;
use under_seal_core::tasks::pack::{Delivery, PackRequest, Target};

const ROUNDS: usize = 5;

/// Seconds of packing, without the read-back.
fn ours(place: &Path, source: &Path, (password, hide_names): (Option<&Password>, bool), threads: usize) -> f64 {
    let credentials: Vec<Credentials> = password.map(|password| password.clone().into()).into_iter().collect();
    let target = Target { folder: place.join("out"), stem: "set".into() };
    let (sources, choice) = ([source.to_owned()], Choice::default());
    let request = PackRequest {
        format: &ZIP,
        squeeze: Squeeze::Even,
        hide_names,
        replace: true,
        ..PackRequest::new(&sources, &choice, &target)
    };
    let begun = Instant::now();
    let (_, phases) = with_context(threads, |context| {
        Delivery::prepare(&request, context).unwrap().pack(&credentials, KeyCost::CHEAPEST, context).unwrap()
    });
    (begun.elapsed() - phases.of(Phase::Verifying)).as_secs_f64()
}

/// Seconds of reading, compressing and writing everything with one thread, and encrypting it where there is a password; with
/// nothing of a format, and nothing synced.
fn codec(files: &[PathBuf], to: &Path, (password, hide_names): (Option<&Password>, bool)) -> f64 {
    let begun = Instant::now();
    let begin = |password: &Password| Encrypting::begin(password, [7; SALT_BYTES]).unwrap();
    // Names are hidden by encrypting everything as one.
    let mut all = password.filter(|_| hide_names).map(begin);
    let mut out = File::create(to).unwrap();
    for path in files {
        let content = fs::read(path).unwrap();
        let mut encoder = DeflateEncoder::new(Vec::with_capacity(content.len()), Compression::default());
        encoder.write_all(&content).unwrap();
        let mut compressed = encoder.finish().unwrap();
        match (&mut all, password) {
            (Some(all), _) => all.apply(&mut compressed),
            (None, Some(password)) => {
                let mut encrypting = begin(password);
                encrypting.apply(&mut compressed);
                std::hint::black_box(encrypting.code());
            }
            (None, None) => {}
        }
        out.write_all(&compressed).unwrap();
    }
    begun.elapsed().as_secs_f64()
}

fn content(seed: u64, length: usize) -> Vec<u8> {
    if seed.is_multiple_of(2) { text(seed, length) } else { binary(seed, length) }
}

fn main() {
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    for (what, count, length) in [("many small files", 4_000_u64, 16 * 1024), ("one huge file", 1, 64 * 1024 * 1024)] {
        let place = tempfile::tempdir().unwrap();
        let source = place.path().join("source");
        fs::create_dir(&source).unwrap();
        let files: Vec<PathBuf> = (0..count).map(|seed| source.join(format!("{seed:05}"))).collect();
        for (seed, path) in (0..).zip(&files) {
            fs::write(path, content(seed, length)).unwrap();
        }
        let password = Password::new("twelve panes of salted glass").unwrap();
        let locks = [
            ("no password", None, false),
            ("a password", Some(&password), false),
            ("names hidden too", Some(&password), true),
        ];
        for (locked, password, hide_names) in locks {
            let bare = place.path().join("bare");
            let ours = || ours(place.path(), &source, (password, hide_names), threads);
            let one = |_| codec(&files, &bare, (password, hide_names)) / ours();
            let ratio = median((0..ROUNDS).map(one).collect());
            println!("{what}, {locked}, {threads} threads: {ratio:.2} of the one-threaded codec's speed");
        }
    }
}
