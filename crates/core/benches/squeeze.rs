//! What each squeeze makes of ordinary files, and how long it takes, against LZMA at its highest level over all of them as one
//! stream, in one run: `cargo bench --bench squeeze`.
//!
//! The corpus is a quarter each of what lies in `/usr/share`, of libraries below `/usr/lib`, of tables and of sound, the last
//! two made here. Ratios of bytes and of processor time to those of LZMA; opening by the clock; and how near `plan` came.

#![allow(
    clippy::unwrap_used,
    dead_code,
    missing_docs,
    reason = "a bench stops at the first thing that is not as it should be"
)]

mod support;

use liblzma::stream::{Action, Check, Status, Stream};
use std::fs;
use std::path::{Path, PathBuf};
use std::time::Instant;
use support::{cpu_seconds, noise, with_context};
use under_seal_core::codecs::block::Squeeze;
use under_seal_core::formats::sealed::volume::VolumeSet;
use under_seal_core::formats::sealed::{KeyCost, SealedReader};
use under_seal_core::ground::secrets::Password;
use under_seal_core::source::Choice;
use under_seal_core::tasks::open::open;
use under_seal_core::tasks::pack::{Delivery, PackRequest, Target};
use under_seal_core::tasks::plan::{Outline, Plan};

/// A quarter of the corpus, and the longest file that is taken into it, in bytes.
const QUARTER: u64 = 14_000_000;
const LONGEST: u64 = 4_000_000;

/// LZMA's level 9 in its extreme form, as liblzma counts levels.
const HIGHEST_LEVEL: u32 = 9 | 1 << 31;

fn main() {
    let place = tempfile::tempdir().unwrap();
    let source = place.path().join("corpus");
    let everything = lay_out(&source);
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    println!("{} bytes, {threads} threads", everything.len());
    let began = cpu_seconds();
    let lzma_bytes = lzma(&everything) as f64;
    let lzma_seconds = cpu_seconds() - began;
    println!("LZMA, highest level, one stream: {:.4} of the bytes", lzma_bytes / everything.len() as f64);
    for squeeze in Squeeze::ALL {
        let credentials = [Password::new("twelve panes").unwrap().into()];
        let target = Target { folder: place.path().join("out"), stem: format!("{squeeze:?}").into() };
        let (sources, choice) = ([source.clone()], Choice::default());
        let request = PackRequest { squeeze, ..PackRequest::new(&sources, &choice, &target) };
        let (plan, _) = with_context(threads, |context| {
            let delivery = Delivery::prepare(&request, context).unwrap();
            Plan::make(delivery.catalogue(), &[squeeze], request.fit, context).unwrap()
        });
        let began = cpu_seconds();
        let (packed, _) = with_context(threads, |context| {
            Delivery::prepare(&request, context).unwrap().pack(&credentials, KeyCost::CHEAPEST, context).unwrap()
        });
        let seconds = cpu_seconds() - began;
        let bytes = packed.volumes[0].bytes as f64;
        let set = VolumeSet::from_files(&[packed.volumes[0].path.clone()]).unwrap();
        let mut archive = SealedReader::unlock(set, &credentials[0]).unwrap();
        let began = Instant::now();
        with_context(threads, |context| open(&mut archive, &place.path().join(&target.stem), context).unwrap());
        let opened = everything.len() as f64 / began.elapsed().as_secs_f64() / 1e6;
        let estimate = plan.estimates[0].stream_bytes.likely;
        println!(
            "{:8} bytes {:.4} of LZMA's, processor time {:.3} of LZMA's, opened at {opened:.0} MB/s, planned {:.4} of the real size",
            format!("{squeeze:?}"),
            bytes / lzma_bytes,
            seconds / lzma_seconds,
            Outline::new(estimate, request.fit, request.format).unwrap().bytes as f64 / bytes,
        );
    }
}

fn lzma(bytes: &[u8]) -> usize {
    let mut output = Vec::with_capacity(bytes.len());
    let mut stream = Stream::new_easy_encoder(HIGHEST_LEVEL, Check::Crc64).unwrap();
    assert_eq!(stream.process_vec(bytes, &mut output, Action::Finish), Ok(Status::StreamEnd));
    output.len()
}

/// Lays the corpus out, and gives all of its content in order.
fn lay_out(root: &Path) -> Vec<u8> {
    let mut all = Vec::new();
    copy("/usr/share".as_ref(), &root.join("documents"), |_| true, &mut all);
    copy("/usr/lib".as_ref(), &root.join("libraries"), |bytes| bytes.starts_with(b"\x7fELF"), &mut all);
    let mut put = |folder: &str, name: String, bytes: Vec<u8>| {
        fs::create_dir_all(root.join(folder)).unwrap();
        fs::write(root.join(folder).join(name), &bytes).unwrap();
        all.extend_from_slice(&bytes);
    };
    for number in 0..QUARTER / 350_000 {
        put("tables", format!("survey-{number:02}.csv"), table(number, 350_000));
    }
    for number in 0..QUARTER / 1_000_000 {
        put("sound", format!("horn-{number:02}.wav"), sound(number, 1_000_000));
    }
    all
}

/// Copies files until there are enough bytes: every folder's in turn, by their names.
fn copy(from: &Path, to: &Path, is_wanted: impl Fn(&[u8]) -> bool, all: &mut Vec<u8>) {
    fs::create_dir_all(to).unwrap();
    let (mut folders, mut taken) = (vec![from.to_owned()], 0);
    while let Some(folder) = folders.pop() {
        let Ok(entries) = fs::read_dir(&folder) else { continue };
        let mut paths: Vec<PathBuf> = entries.flatten().map(|entry| entry.path()).collect();
        paths.sort();
        for path in paths {
            let Ok(about) = path.symlink_metadata() else { continue };
            if about.is_dir() {
                folders.push(path);
            } else if about.is_file() && (1..=LONGEST).contains(&about.len()) && taken < QUARTER {
                let Some(bytes) = fs::read(&path).ok().filter(|bytes| is_wanted(bytes)) else { continue };
                let inner = to.join(path.strip_prefix(from).unwrap());
                fs::create_dir_all(inner.parent().unwrap()).unwrap();
                fs::write(inner, &bytes).unwrap();
                taken += bytes.len() as u64;
                all.extend_from_slice(&bytes);
            }
        }
    }
}

/// A survey's readings: time, place, level, part, number.
fn table(seed: u64, length: usize) -> Vec<u8> {
    let (mut lines, mut level) = (String::with_capacity(length + 64), 10_000_i32);
    let mut time = 1_700_000_000 + seed * 86_400;
    for (number, die) in noise(seed, length / 4).chunks_exact(8).enumerate() {
        level += i32::from(die[0] % 41) - 20;
        time += 60 + u64::from(die[1] % 3);
        let part = ["lamp", "lens", "gallery", "stair"][usize::from(die[2] % 4)];
        let (place, reading) = (541_000_000 + number * 100 + usize::from(die[3]), u16::from_le_bytes([die[4], die[5]]));
        lines.push_str(&format!(
            "{time};{:.7};{:.2};{part};{}\n",
            place as f64 / 1e7,
            f64::from(level) / 100.0,
            reading % 1000
        ));
        if lines.len() >= length {
            break;
        }
    }
    lines.into_bytes()
}

/// A foghorn, 44,100 samples of 16 bits a second in two channels: six partial tones that swell, wind, and a microphone's noise.
fn sound(seed: u64, length: usize) -> Vec<u8> {
    const PARTIALS: [f64; 6] = [1.0, 2.0, 3.01, 4.2, 5.5, 7.0];
    let dice = noise(1_000 + seed, length);
    let at = |place: usize| f64::from(dice[place % dice.len()]) / 127.5 - 1.0;
    // A RIFF header: format 1 (PCM), channels, samples and bytes a second, bytes and bits a sample.
    let (bytes, mut wind) = ((length / 4 * 4) as u32, 0.0);
    let mut samples = [&b"RIFF"[..], &(bytes + 36).to_le_bytes(), b"WAVEfmt ", &16_u32.to_le_bytes()].concat();
    [1_u16, 2].iter().for_each(|field| samples.extend_from_slice(&field.to_le_bytes()));
    [44_100_u32, 176_400].iter().for_each(|field| samples.extend_from_slice(&field.to_le_bytes()));
    [4_u16, 16].iter().for_each(|field| samples.extend_from_slice(&field.to_le_bytes()));
    samples.extend_from_slice(b"data");
    samples.extend_from_slice(&bytes.to_le_bytes());
    let base = 110.0 * (1.0 + seed as f64 * 0.1);
    for place in 0..length / 4 {
        let swell = 3_000.0 * (0.5 + 0.5 * (place as f64 / 20_000.0).sin());
        let turns = |partial: &f64| (std::f64::consts::TAU * base * partial * place as f64 / 44_100.0).sin();
        let tone: f64 = PARTIALS.iter().zip(1..).map(|(partial, number)| turns(partial) / f64::from(number)).sum();
        wind += (at(4 * place) * 200.0 - wind) * 0.3;
        let left = tone * swell + wind + at(4 * place + 1) * 10.0;
        let right = 0.8 * tone * swell + 0.9 * wind + at(4 * place + 2) * 10.0;
        samples.extend_from_slice(&(left as i16).to_le_bytes());
        samples.extend_from_slice(&(right as i16).to_le_bytes());
    }
    samples
}
