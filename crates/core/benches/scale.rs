//! How packing and opening grow: `cargo bench --bench scale`, or with the names of some parts behind `--`: `random`,
//! `small`, `million`, `memory`, `middle`, `squeeze`. Each piece of work runs in a process of its own, whose peak memory is then
//! known. Needs about 12 GB of disk for `middle`.

#![allow(
    clippy::unwrap_used,
    clippy::panic,
    missing_docs,
    reason = "a bench stops at the first thing that is not as it should be"
)]

#[allow(dead_code, reason = "processor time is for the other benches")]
mod support;

use std::fs::{self, File};
use std::os::unix::fs::FileExt as _;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Instant;
use support::{median, noise, with_context};
use under_seal_core::codecs::block::Squeeze;
use under_seal_core::formats::reader::ArchiveReader as _;
use under_seal_core::formats::sealed::volume::VolumeSet;
use under_seal_core::formats::sealed::{KeyCost, SealedReader};
use under_seal_core::ground::context::Phase;
use under_seal_core::ground::holes::HOLE_UNIT;
use under_seal_core::ground::secrets::{Credentials, Password};
use under_seal_core::ground::sink::OnlyEnds;
use under_seal_core::source::Choice;
use under_seal_core::tasks::open::open;
use under_seal_core::tasks::pack::{Delivery, PackRequest, Target};

const ROUNDS: usize = 3;

fn credentials() -> Credentials {
    Password::new("twelve panes").unwrap().into()
}

/// Packs at the program's own key cost; seconds without the read-back and key derivation, then with the read-back.
fn pack(source: &Path, out: &Path, squeeze: Squeeze) -> [f64; 2] {
    let target = Target { folder: out.to_owned(), stem: "set".into() };
    let sources = [source.to_owned()];
    let choice = Choice::default();
    let request = PackRequest { squeeze, ..PackRequest::new(&sources, &choice, &target) };
    let began = Instant::now();
    let (gathered, phases) = with_context(2, |context| {
        let delivery = Delivery::prepare(&request, context).unwrap();
        let gathered = began.elapsed();
        delivery.pack(&[credentials()], KeyCost::DEFAULT, context).unwrap();
        gathered
    });
    let packed = gathered + phases.of(Phase::Packing);
    [packed.as_secs_f64(), (packed + phases.of(Phase::Verifying)).as_secs_f64()]
}

fn unlock(out: &Path) -> SealedReader {
    SealedReader::unlock(
        with_context(1, |context| VolumeSet::gather(&[out.to_owned()], context).unwrap()).0,
        &credentials(),
    )
    .unwrap()
}

/// One piece of work, in a process of its own: prints figures.
fn child(work: &str, from: &Path, to: &Path) {
    let figures = match work {
        "pack-none" => pack(from, to, Squeeze::None).to_vec(),
        "pack-light" => pack(from, to, Squeeze::Light).to_vec(),
        "pack-even" => pack(from, to, Squeeze::Even).to_vec(),
        "pack-hard" => pack(from, to, Squeeze::Hard).to_vec(),
        "pack-utmost" => pack(from, to, Squeeze::Utmost).to_vec(),
        "open" => {
            let ((), phases) = with_context(2, |context| drop(open(&mut unlock(from), to, context).unwrap()));
            vec![phases.of(Phase::Opening).as_secs_f64()]
        }
        "copy" => {
            let began = Instant::now();
            copy(from, to);
            rustix::fs::syncfs(File::open(to.parent().unwrap()).unwrap()).unwrap();
            vec![began.elapsed().as_secs_f64()]
        }
        "list" => {
            let began = Instant::now();
            let mut archive = unlock(from);
            let listed = began.elapsed().as_secs_f64();
            let middle =
                archive.entries().unwrap().iter().position(|listed| listed.entry.path.as_bytes().ends_with(b"/m"));
            if let Some(middle) = middle {
                with_context(1, |context| {
                    archive.extract_some(&[middle], &mut OnlyEnds::telling(|_, _| {}), context).unwrap()
                });
            }
            // The header comes on top of the cells.
            vec![archive.listing().len() as f64, listed, archive.bytes_read() as f64 + 4_096.0]
        }
        _ => panic!("{work}"),
    };
    let status = fs::read_to_string("/proc/self/status").unwrap();
    let peak = status.lines().find_map(|line| line.strip_prefix("VmHWM:")).unwrap();
    let figures: Vec<String> = figures.iter().map(f64::to_string).collect();
    println!("{} {}", peak.trim().trim_end_matches(" kB"), figures.join(" "));
}

/// Peak memory in MiB, and the figures.
fn run(work: &str, from: &Path, to: &Path) -> (f64, Vec<f64>) {
    let output =
        Command::new(std::env::current_exe().unwrap()).arg("child").arg(work).args([from, to]).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let told = String::from_utf8(output.stdout).unwrap();
    let mut figures = told.split_whitespace().map(|figure| figure.parse::<f64>().unwrap());
    (figures.next().unwrap() / 1024.0, figures.collect())
}

/// What any program would do: read each file whole and write it.
fn copy(from: &Path, to: &Path) {
    if from.is_dir() {
        fs::create_dir(to).unwrap();
        for entry in fs::read_dir(from).unwrap() {
            let entry = entry.unwrap();
            copy(&entry.path(), &to.join(entry.file_name()));
        }
    } else {
        fs::copy(from, to).unwrap();
    }
}

/// Packing and opening against copying, in turns.
fn against_copy(what: &str, source: &Path, place: &Path) {
    let (mut packing, mut whole, mut opening) = (Vec::new(), Vec::new(), Vec::new());
    for round in 0..ROUNDS {
        let desk = place.join(format!("{what}-{round}"));
        fs::create_dir(&desk).unwrap();
        let copied = run("copy", source, &desk.join("copy")).1[0];
        let packed = run("pack-even", source, &desk.join("out")).1;
        let opened = run("open", &desk.join("out"), &desk.join("inbox")).1[0];
        packing.push(packed[0] / copied);
        whole.push(packed[1] / copied);
        opening.push(opened / copied);
    }
    println!("{what}, time against copying and syncing, medians of {ROUNDS}:");
    println!(
        "  packing {:.2}, with the read-back {:.2}; opening {:.2}",
        median(packing),
        median(whole),
        median(opening)
    );
}

fn small_files(root: &Path, count: usize, folder: usize) {
    for number in 0..count {
        let place = root.join(format!("{:04}", number / folder));
        if number % folder == 0 {
            fs::create_dir_all(&place).unwrap();
        }
        fs::write(
            place.join(format!("page {number:07}.txt")),
            format!("line {number} of the survey\n").repeat(1 + number % 80),
        )
        .unwrap();
    }
}

fn random(place: &Path) {
    let source = place.join("noise");
    fs::write(&source, noise(1, 1_000_000_000)).unwrap();
    against_copy("random", &source, place);
}

fn small(place: &Path) {
    let source = place.join("pages");
    small_files(&source, 100_000, 500);
    against_copy("small", &source, place);
}

/// A million entries, on a file system in memory where there is one.
fn million(place: &Path) {
    let (source, out, inbox) = (place.join("source"), place.join("out"), place.join("inbox"));
    for number in 0..1_000_000 {
        let folder = source.join(format!("folder {:04}", number / 1_000));
        if number % 1_000 == 0 {
            fs::create_dir_all(&folder).unwrap();
        }
        File::create(folder.join(format!("drawing of the lantern gallery, sheet {number:07}.svg"))).unwrap();
    }
    let (packing, _) = run("pack-even", &source, &out);
    let (listing, listed) = run("list", &out, &inbox);
    let (opening, _) = run("open", &out, &inbox);
    println!("million entries: {} listed in {:.2} s, unlocking included", listed[0], listed[1]);
    println!("  peak MiB: packing {packing:.0}, listing {listing:.0}, opening {opening:.0}");
}

/// A file of so many bytes that takes little of the disk, and has something else than zeros in each unit that could be a hole.
fn without_holes(path: &Path, bytes: u64) {
    let file = File::create(path).unwrap();
    (0..bytes).step_by(HOLE_UNIT as usize / 2).for_each(|at| file.write_all_at(b"1", at).unwrap());
    file.set_len(bytes).unwrap();
}

fn memory(place: &Path) {
    for gigabytes in [1, 20] {
        let (source, out) = (place.join(format!("{gigabytes}")), place.join(format!("out-{gigabytes}")));
        without_holes(&source, gigabytes * 1_000_000_000);
        let (packing, _) = run("pack-even", &source, &out);
        let (opening, _) = run("open", &out, &place.join(format!("inbox-{gigabytes}")));
        println!("{gigabytes} GB, peak MiB: packing {packing:.0}, opening {opening:.0}");
        fs::remove_dir_all(place.join(format!("inbox-{gigabytes}"))).unwrap();
    }
    let source = place.join("mixed");
    support::lay_out_corpus(&source);
    let (packing, _) = run("pack-even", &source, &place.join("out-mixed"));
    println!("mixed corpus, peak MiB: packing {packing:.0}");
}

fn middle(place: &Path) {
    let source = place.join("source");
    fs::create_dir(&source).unwrap();
    for name in ["a", "z"] {
        without_holes(&source.join(name), 5_000_000_000);
    }
    fs::write(source.join("m"), noise(3, 100_000)).unwrap();
    run("pack-none", &source, &place.join("out"));
    let (_, read) = run("list", &place.join("out"), place);
    let bytes = fs::metadata(place.join("out/set.useal")).unwrap().len();
    println!("one file of 100 KB from the middle of {bytes} bytes: {} bytes read, list and all", read[2]);
}

/// What each squeeze costs and saves on the mixed corpus.
fn squeeze(place: &Path) {
    let source = place.join("mixed");
    let files = support::lay_out_corpus(&source);
    let content: u64 = files.iter().map(|file| fs::metadata(file).unwrap().len()).sum();
    let mut even = None;
    for squeeze in ["even", "none", "light", "hard", "utmost"] {
        let out = place.join(squeeze);
        let (peak, seconds) = run(&format!("pack-{squeeze}"), &source, &out);
        let bytes = fs::metadata(out.join("set.useal")).unwrap().len() as f64;
        let (even_seconds, even_bytes) = *even.get_or_insert((seconds[0], bytes));
        println!(
            "{squeeze}: {:.1} % of the content; against even: size {:.3}, time {:.2}; peak {peak:.0} MiB",
            100.0 * bytes / content as f64,
            bytes / even_bytes,
            seconds[0] / even_seconds
        );
    }
}

/// Works in the folder that it is given, and prints its figures.
type Part = fn(&Path);

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).filter(|argument| argument != "--bench").collect();
    if let [first, work, from, to] = &arguments[..]
        && first == "child"
    {
        return child(work, Path::new(from), Path::new(to));
    }
    let parts: [(&str, Part, Option<&str>); 6] = [
        ("random", random, None),
        ("small", small, None),
        ("million", million, Some("/dev/shm")),
        ("memory", memory, None),
        ("middle", middle, None),
        ("squeeze", squeeze, None),
    ];
    for (name, part, wanted_place) in parts {
        if arguments.is_empty() || arguments.iter().any(|argument| argument == name) {
            let in_memory = wanted_place.map(PathBuf::from).filter(|place| place.is_dir());
            let place = in_memory.map_or_else(tempfile::tempdir, tempfile::tempdir_in).unwrap();
            part(place.path());
        }
    }
}
