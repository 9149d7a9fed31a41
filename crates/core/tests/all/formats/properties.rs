//! The thirteen properties that the sealed format promises (at the beginning of docs/format.md), each with a test of its name.
//! Other files go deeper into some of them.

use crate::support::draft::{Draft, entry};
use crate::support::system::set_time;
use crate::support::{Desk, PASSWORD, gather, mend_checks, noise, tree};
use rstest::rstest;
use std::cmp::Reverse;
use std::collections::BTreeSet;
use std::ffi::OsStr;
use std::fs::{self, File};
use std::io::{Seek as _, SeekFrom, Write as _};
use std::path::PathBuf;
use std::process::Command;
use std::time::SystemTime;
use under_seal_core::ErrorClass;
use under_seal_core::codecs::block::Squeeze;
use under_seal_core::formats::reader::ArchiveReader as _;
use under_seal_core::formats::sealed::volume::VolumeSet;
use under_seal_core::formats::sealed::{CostLimit, Salvage, SealedReader, unlock};
use under_seal_core::ground::context::Cancelled;
use under_seal_core::ground::entry::{Content, EntryKind, ListedEntry};
use under_seal_core::ground::fit::Fit;
use under_seal_core::ground::holes::HOLE_UNIT;
use under_seal_core::ground::secrets::Password;
use under_seal_core::ground::sink::EntrySink;
use under_seal_core::landing::Destination;
use under_seal_core::tasks::check::{VolumeState, inspect};
use under_seal_core::tasks::open::open;
use under_seal_core::tasks::pack::Target;
use under_seal_core::tasks::recast::recut;

/// Two archives of the same shape and different contents cannot be told apart but for what is random; lengths are
/// rounded up.
#[test]
fn silent() {
    let headers = ["Wrenfall ledger.txt", "Wrenfall letter.txt"].map(|name| {
        let desk = Desk::new();
        desk.source(name, b"bronze astragals, twelve").source("plans/tower", name.as_bytes());
        let bytes = fs::read(&desk.pack("")[0]).unwrap();
        for secret in [&b"Wrenfall"[..], b"ledger", b"letter", b"astragals", b"tower", b"source"] {
            assert!(!bytes.windows(secret.len()).any(|window| window == secret));
        }
        assert_eq!(bytes.len() % 4_096, 0);
        // Nothing but ids, salts, keys and tags, all from the same randomness here, could differ; and does not.
        (bytes.len(), bytes[..4_096].to_vec())
    });
    assert!(headers[0] == headers[1], "a header tells the archives apart");
}

#[test]
fn self_describing() {
    let desk = Desk::new();
    let volumes = desk.source("noise", &noise(350_000)).pack("150KB");
    for (place, name) in ["c (1).useal", "ATT00003.bin", "a"].iter().enumerate() {
        fs::rename(&volumes[place], desk.path("out").join(name)).unwrap();
    }
    desk.open(&[desk.path("out/ATT00003.bin")], &desk.path("inbox")).unwrap();
    // Every volume by itself names exactly what is missing, and carries what is needed to unlock.
    fs::create_dir(desk.path("alone")).unwrap();
    fs::copy(desk.path("out/a"), desk.path("alone/x")).unwrap();
    let set = gather(&[desk.path("alone")]).unwrap();
    assert_eq!(set.missing(), [1, 2]);
    let salvaged = salvage(&desk, set);
    assert!(salvaged.is_ok(), "{:?}", salvaged.err());
}

fn salvage(desk: &Desk, set: VolumeSet) -> Result<Salvage, under_seal_core::formats::sealed::SealedError> {
    let key = unlock(&set, &Password::new(PASSWORD).unwrap().into(), CostLimit::Bearable)?;
    desk.with_context(&|| false, |context| Salvage::survey(set, &key, context))
}

#[test]
fn checkable_without_the_password() {
    let desk = Desk::new();
    let volumes = desk.source("noise", &noise(350_000)).pack("150KB");
    let mut bytes = fs::read(&volumes[1]).unwrap();
    bytes[70_000] ^= 1;
    fs::write(&volumes[1], bytes).unwrap();
    let set = gather(&volumes[..1]).unwrap();
    let report = desk.with_context(&|| false, |context| inspect(&set, context)).unwrap();
    assert_eq!((report.numbers(VolumeState::Intact), report.numbers(VolumeState::Damaged)), (vec![1, 3], vec![2]));
    let damage = &report.volumes[1].files[0].damage[..];
    let offset = |cell| set.geometry.cell_length.offset_of(cell);
    assert!(matches!(damage, [only] if (only.from, only.to) == (offset(1), offset(2))), "{damage:?}");
}

/// Whoever mends every check after a change is found out by the seal, before anything of it is released.
#[test]
fn authentic() {
    let desk = Desk::new();
    let path = desk.source("a", b"first").source("b", &noise(3_000_000)).source("c", b"third").pack("").remove(0);
    let mut bytes = fs::read(&path).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    mend_checks(&mut bytes);
    fs::write(&path, &bytes).unwrap();
    let inbox = desk.path("inbox");
    for (keep_complete, expected) in [(false, &[""][..]), (true, &["", "source", "source/a"])] {
        let into = Destination { keep_complete, ..Destination::from(&inbox) };
        let refused = desk.open_with(std::slice::from_ref(&path), into).unwrap_err();
        assert_eq!(refused.class(), ErrorClass::Damaged);
        let landed: Vec<_> = tree(&inbox).into_keys().collect();
        assert_eq!(landed, expected.iter().map(PathBuf::from).collect::<Vec<_>>());
    }
}

/// Keeps what it is given.
#[derive(Default)]
struct Kept(Vec<u8>);

impl EntrySink for Kept {
    fn content(&mut self, bytes: &[u8]) -> Result<(), Cancelled> {
        self.0.extend_from_slice(bytes);
        Ok(())
    }
}

fn read_one(desk: &Desk, archive: &mut SealedReader, path: &[u8]) -> Vec<u8> {
    let place = archive.entries().unwrap().iter().position(|listed| listed.entry.path.as_bytes() == path).unwrap();
    let mut kept = Kept::default();
    desk.with_context(&|| false, |context| archive.extract_some(&[place], &mut kept, context)).unwrap();
    kept.0
}

/// Listing reads the index only; one file reads its own frames only.
#[rstest]
#[case::small_among_others("source/m", 200)]
#[case::over_several_frames("source/large", 2_500_000)]
fn random_access(#[case] path: &str, #[case] size: usize) {
    let desk = Desk::new();
    desk.source("a", &noise(8_000_000)).source("m", &noise(200)).source("z", &noise(8_000_000));
    desk.source("large", &noise(2_500_000)).source("none", b"");
    let mut archive = desk.unlock(&desk.pack("")).unwrap();
    assert_eq!(archive.entries().unwrap().len(), 6);
    let listing = archive.bytes_read();
    assert!(listing <= 2 * 65_536, "{listing} bytes for the list");
    assert_eq!(read_one(&desk, &mut archive, path.as_bytes()), noise(size));
    // Two frames more than the file fills, and a cell at either end.
    let one = archive.bytes_read() - listing;
    assert!(one <= size as u64 + 2 * 1_100_000 + 2 * 65_536, "{one} bytes for one file");
    assert_eq!(read_one(&desk, &mut archive, b"source/none"), b"");
}

#[test]
fn salvageable() {
    let desk = Desk::new();
    for name in ["a", "b", "c", "d", "e", "f"] {
        desk.source(name, &noise(1_500_000));
    }
    let volumes = desk.pack("1MB");
    fs::remove_file(&volumes[4]).unwrap();
    let mut archive = salvage(&desk, gather(&volumes[..1]).unwrap()).unwrap();
    let (inbox, lost) = (desk.path("inbox"), archive.lost().unwrap().len());
    let opened = desk.with_context(&|| false, |context| open(&mut archive, &inbox, context)).unwrap();
    assert!(opened.landed.files >= 3 && opened.landed.files + lost as u64 == 6, "{opened:?}, {lost} lost");
    for path in tree(&inbox.join("source")).into_keys().filter(|path| inbox.join("source").join(path).is_file()) {
        assert_eq!(fs::read(inbox.join("source").join(path)).unwrap(), noise(1_500_000));
    }
}

/// A lost volume that is not the last takes little more with it than its share, where no file is nearly as long as a volume.
#[rstest]
#[case::fast(Squeeze::Even, 2.0)]
#[case::slow(Squeeze::Hard, 3.0)]
fn local_loss(#[case] squeeze: Squeeze, #[case] at_most: f64) {
    let desk = Desk { squeeze, ..Desk::new() };
    let (mut whole, dice) = (0, noise(60 * 15_000));
    for number in 0..60 {
        let steps: String = (0..500).map(|step| format!("{} steps; ", step * step * (number + 7) % 8_191)).collect();
        desk.source(&format!("letters/{number:02}.txt"), steps.as_bytes());
        let photograph = &dice[number * 15_000..][..9_000 + 100 * number];
        desk.source(&format!("photographs/{number:02}.jpg"), photograph);
        whole += steps.len() + photograph.len();
    }
    let volumes = desk.pack("100KB");
    assert!(volumes.len() >= 7, "{}", volumes.len());
    let mut lost = Vec::new();
    for volume in &volumes[..volumes.len() - 1] {
        let rest: Vec<_> = volumes.iter().filter(|other| *other != volume).cloned().collect();
        let away = desk.path("away");
        fs::rename(volume, &away).unwrap();
        let archive = salvage(&desk, gather(&rest[..1]).unwrap()).unwrap();
        fs::rename(&away, volume).unwrap();
        let content = |entries: &[ListedEntry]| entries.iter().map(|listed| listed.content.size).sum::<u64>() as f64;
        lost.push(whole as f64 - content(archive.entries().unwrap()));
    }
    let share = whole as f64 / volumes.len() as f64;
    let mean = lost.iter().sum::<f64>() / lost.len() as f64 / share;
    assert!(mean <= at_most, "{mean} times its share");
}

/// The threads decide how fast, never what.
#[rstest]
fn parallel(#[values(Squeeze::Even, Squeeze::Hard)] squeeze: Squeeze) {
    let packed = [1, 2, 5].map(|threads| {
        let mut desk = Desk { squeeze, ..Desk::new() };
        desk.threads = threads;
        desk.source("noise", &noise(2_500_000)).source("text", &[b'x'; 3_000_000]).source("small/a", b"1");
        for name in ["noise", "text", "small/a", "small", ""] {
            set_time(desk.path("source").join(name), SystemTime::UNIX_EPOCH);
        }
        desk.pack("1MB").iter().map(|path| fs::read(path).unwrap()).collect::<Vec<_>>()
    });
    assert!(packed[0].len() > 2);
    assert!(packed.windows(2).all(|two| two[0] == two[1]));
}

/// Where a child process finds how many bytes to pack, or what to read.
const CHILD: &str = "UNDER_SEAL_TEST_BYTES";

/// Packs a file of so many bytes, nearly all of them zeros and none of them in a hole, and opens it again; run as a process of its own, whose memory is then known.
#[test]
#[ignore = "the test of the property runs it"]
fn child() {
    let Ok(bytes) = std::env::var(CHILD) else { return };
    let desk = Desk::new();
    let mut large = File::create(desk.source("a", b"1").path("source/large")).unwrap();
    let bytes: u64 = bytes.parse().unwrap();
    for at in (0..bytes).step_by(HOLE_UNIT as usize / 2) {
        large.seek(SeekFrom::Start(at)).unwrap();
        large.write_all(b"1").unwrap();
    }
    large.set_len(bytes).unwrap();
    let volumes = desk.pack("");
    desk.open(&volumes, &desk.path("inbox")).unwrap();
    tell_peak();
}

/// Reads the list in an archive that is named so, in one order and in another; run as a process of its own, too.
#[test]
#[ignore = "the test of the property runs it"]
fn listing_child() {
    let Ok(path) = std::env::var(CHILD) else { return };
    let set = gather(&[PathBuf::from(path)]).unwrap();
    let reader = SealedReader::unlock(set, &Password::new(PASSWORD).unwrap().into()).unwrap();
    let listing = reader.listing();
    let names: usize = listing.iter().map(|listed| listed.unwrap().entry.path.as_bytes().len()).sum();
    let newest = listing.in_order(|| 0..listing.len(), |place, _| Ok(Reverse(place)));
    assert_eq!(newest.map(|item| item.unwrap().1.entry.path.as_bytes().len()).sum::<usize>(), names);
    tell_peak();
}

/// Tells the most memory that this process has had.
fn tell_peak() {
    let status = fs::read_to_string("/proc/self/status").unwrap();
    println!("{}", status.lines().find(|line| line.starts_with("VmHWM:")).unwrap());
}

/// The most memory, in KiB, of a process that does what a child here does with this.
fn peak_kib(child: &str, with: impl AsRef<OsStr>) -> u64 {
    let mut command = Command::new(std::env::current_exe().unwrap());
    let name = format!("formats::properties::{child}");
    command.args(["--exact", &name, "--ignored", "--nocapture"]).env(CHILD, with);
    let shown = String::from_utf8(command.output().unwrap().stdout).unwrap();
    let peak = shown.lines().find_map(|line| line.split_once("VmHWM:")).unwrap_or_else(|| panic!("{shown}")).1;
    peak.trim().trim_end_matches(" kB").parse().unwrap()
}

#[test]
#[cfg_attr(not(target_os = "linux"), ignore = "only Linux tells the most memory that a process had in a file")]
fn flat() {
    let (small, large) = (peak_kib("child", (64 << 20).to_string()), peak_kib("child", (512 << 20).to_string()));
    assert!(large < 128 * 1024 && large < small + 24 * 1024, "{small} KiB, then {large} KiB");
}

/// A list takes the same memory however long it is, and however small the archive is that claims to have it: what is kept of it is
/// bounded, and so is what is put into another order at once.
#[test]
#[cfg_attr(not(target_os = "linux"), ignore = "only Linux tells the most memory that a process had in a file")]
fn flat_list() {
    let peak = |count: u64| {
        let (desk, mut draft) = (Desk::new(), Draft::empty());
        (0..count).for_each(|id| draft.list(entry(id, &format!("{id:07}"), EntryKind::Folder), Content::default()));
        peak_kib("listing_child", draft.seal(&desk))
    };
    let (few, many) = (peak(40_000), peak(400_000));
    assert!(many < few + 40 * 1024, "{few} KiB, then {many} KiB");
}

/// What a header claims costs nothing to refuse: Argon2 with a terabyte, or so many passes that it would never end.
#[rstest]
#[case::memory(135, 0x40)]
#[case::passes(139, 0x7F)]
#[case::lanes(141, 0x10)]
fn bounded(#[case] at: usize, #[case] value: u8) {
    let desk = Desk::new();
    let path = desk.source("a", b"1").pack("").remove(0);
    let mut bytes = fs::read(&path).unwrap();
    // Enough memory that so many lanes would be possible.
    bytes[133..135].copy_from_slice(&[0x00, 0x08]);
    bytes[at] = value;
    mend_checks(&mut bytes);
    fs::write(&path, &bytes).unwrap();
    assert_eq!(desk.unlock(&[path]).err().unwrap().class(), ErrorClass::Unsafe);
}

/// A reader of version 1 passes over what it may and refuses what it must not.
#[rstest]
#[case::record_that_may_be_skipped(&[0x89, 0, 0, 0, 2, 0, 0, 0, 7, 7], None)]
#[case::record_that_must_be_understood(&[9, 0, 0, 0, 2, 0, 0, 0, 7, 7], Some(ErrorClass::Usage))]
fn extensible(#[case] record: &[u8], #[case] expected: Option<ErrorClass>) {
    let desk = Desk::new();
    let mut draft = Draft::honest();
    draft.records.extend_from_slice(record);
    let opened = desk.open(&[draft.seal(&desk)], &desk.path("inbox"));
    assert_eq!(opened.err().map(|error| error.class()), expected);
}

/// Only these primitive crates do cryptography and compression here; each has a counterpart in browsers and in other
/// languages (docs/security.md). That nothing else is needed to read an archive is shown by `format_page.rs`.
#[test]
fn portable() {
    let manifest = fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/Cargo.toml")).unwrap();
    // Those of tests alone are no part of it.
    let sections = manifest.split("\n[").filter(|section| section.split(']').next().unwrap().ends_with("dependencies"));
    let dependencies: String = sections.filter(|section| !section.contains("dev-dependencies]")).collect();
    let primitives = ["argon2", "blake3", "hkdf", "liblzma", "ring", "sha2", "unicode-normalization", "zstd"];
    // For open formats only.
    let others = ["aes", "bzip2", "crc32fast", "ctr", "deflate64", "flate2", "hmac", "libdeflater", "pbkdf2", "sha1"];
    let plumbing = [
        "bip39",
        "cap-fs-ext",
        "cap-std",
        "crossbeam-channel",
        "data-encoding",
        "dunce",
        "fs4",
        "glob",
        "globset",
        "http-body-util",
        "hyper",
        "hyper-util",
        "jiff",
        "mail-builder",
        "mail-parser",
        "memchr",
        "multer",
        "nix",
        "region",
        "rustix",
        "strsim",
    ];
    let plumbing = plumbing.into_iter().chain([
        "serde",
        "serde_json",
        "subtle",
        "tempfile",
        "thiserror",
        "tokio",
        "ureq",
        "winapi-util",
        "zeroize",
        "zxcvbn",
    ]);
    let named: BTreeSet<&str> = dependencies.lines().filter_map(|line| line.split_once(" =")).map(|(n, _)| n).collect();
    let known: BTreeSet<&str> = primitives.into_iter().chain(others).chain(plumbing).collect();
    assert_eq!(named, known, "a new primitive must be one that other languages have");
}

#[test]
fn repairable_without_the_password() {
    let desk = Desk::new();
    let volumes = desk.source("noise", &noise(700_000)).pack("150KB");
    let target = Target { folder: desk.path("new"), stem: "set".into() };
    let set = gather(&volumes).unwrap();
    let fit: Fit = "400KB".parse().unwrap();
    let new = desk.with_context(&|| false, |context| recut(&set, &target, fit, false, context)).unwrap();
    assert_eq!(new.volumes.len(), 2);
    fs::remove_dir_all(desk.path("out")).unwrap();
    desk.open(&[new.volumes[0].0.clone()], &desk.path("inbox")).unwrap();
    assert_eq!(tree(&desk.path("inbox/source")), tree(&desk.path("source")));
}
