//! Whatever is packed comes back exactly, however the volumes are cut, named, ordered and spread.

use crate::support::system::{has_mode, set_mode, set_time, symlink};
use crate::support::{Desk, noise, tree};
use proptest::prelude::*;
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, SystemTime};
use under_seal_core::ErrorClass;
use under_seal_core::codecs::block::Squeeze;
use under_seal_core::disk::NameRules;
use under_seal_core::disk::names::name_of;
use under_seal_core::formats::reader::ArchiveReader as _;
use under_seal_core::tasks::open::open;
use under_seal_core::tasks::pack::{PackError, WayError};

/// A tree with one of everything that an archive keeps, sizes at the seams of cells and frames included.
fn lay_out_one_of_everything(root: &Path) {
    fs::create_dir_all(root.join("empty folder/inner")).unwrap();
    let odd = name_of(b"not \xff UTF-8");
    fs::write(root.join(odd), b"latin").unwrap();
    let names = ["-dash", "line\nbreak", " space ", "Überblick – ä", "a.b", "a", "empty folder.txt"];
    for name in names.into_iter().filter(|name| NameRules::here().take(name.as_bytes())) {
        fs::write(root.join(name), name).unwrap();
    }
    for size in [0, 1, 65_459, 65_460, 65_500, 1_048_551, 1_048_552, 1_048_576, 1_048_577] {
        let mut content = vec![0; size];
        blake3::Hasher::new().finalize_xof().fill(&mut content);
        fs::write(root.join(format!("noise-{size}")), content).unwrap();
        fs::write(root.join(format!("zeros-{size}")), vec![0; size]).unwrap();
    }
    set_mode(root.join("a"), 0o751);
    let old = SystemTime::UNIX_EPOCH - Duration::new(1_218_000_000, 123_456_700);
    set_time(root.join("a.b"), old);
    symlink("a.b", root.join("link"));
    symlink("../a", root.join("empty folder/link up"));
    set_mode(root.join("empty folder/inner"), 0o500);
}

#[test]
fn one_of_everything_comes_back() {
    let desk = Desk::new();
    lay_out_one_of_everything(&desk.path("source"));
    let volumes = desk.pack("1MB");
    assert!(volumes.len() > 2);
    desk.open(&volumes[1..2], &desk.path("inbox")).unwrap();
    assert_eq!(tree(&desk.path("inbox/source")), tree(&desk.path("source")));
}

#[test]
fn copies_are_used_cell_by_cell_and_a_damaged_header_is_recognised() {
    let desk = Desk::new();
    desk.source("noise", &noise(400_000));
    let volumes = desk.pack("150KB");
    let spoil = |path: &Path, at: usize| {
        let mut bytes = fs::read(path).unwrap();
        bytes[at] ^= 0x40;
        fs::write(path, bytes).unwrap();
    };
    // Two copies of volume 1, each damaged elsewhere; the header of volume 2 damaged.
    fs::copy(&volumes[0], desk.path("out/copy")).unwrap();
    spoil(&volumes[0], 5_000);
    spoil(&desk.path("out/copy"), 80_000);
    spoil(&volumes[1], 300);
    desk.open(&[desk.path("out")], &desk.path("inbox")).unwrap();
    assert_eq!(tree(&desk.path("inbox/source")), tree(&desk.path("source")));
}

/// Cancels at every point where the work asks whether to go on: nothing may be left.
#[test]
fn a_cancelled_pack_leaves_nothing() {
    let desk = Desk::new();
    desk.source("a", &[7; 300_000]).source("b/c", b"text");
    for point in 0.. {
        let asked = AtomicU64::new(0);
        let outcome = desk.pack_until("100KB", &|| asked.fetch_add(1, Ordering::Relaxed) == point);
        let left = fs::read_dir(desk.path("out")).map(Iterator::count).unwrap_or(0);
        match outcome {
            Err(error) => {
                let error = under_seal_core::Error::Pack(error);
                assert_eq!((error.class(), left), (ErrorClass::Cancelled, 0), "point {point}");
            }
            Ok(packed) => {
                assert!(point > 10 && left == packed.volumes.len());
                break;
            }
        }
    }
}

/// The same for opening: a file is there whole or not at all, and nothing temporary stays.
#[test]
fn a_cancelled_opening_leaves_whole_files_only() {
    let desk = Desk::new();
    desk.source("a", &[7; 300_000]).source("b/c", &[8; 2_500_000]).source("d", b"text");
    let volumes = desk.pack("");
    let whole = tree(&desk.path("source"));
    for point in 0.. {
        let inbox = desk.path(&format!("inbox{point}"));
        let mut archive = desk.unlock(&volumes).unwrap();
        let asked = AtomicU64::new(0);
        let cancel = || asked.fetch_add(1, Ordering::Relaxed) == point;
        let outcome = desk.with_context(&cancel, |context| open(&mut archive, &inbox, context));
        for path in tree(&inbox).into_keys().filter(|path| inbox.join(path).is_file()) {
            let below = path.strip_prefix("source").unwrap();
            assert!(whole.contains_key(below), "point {point}: {path:?} should not be there");
            assert_eq!(fs::read(inbox.join(&path)).unwrap(), fs::read(desk.path("source").join(below)).unwrap());
        }
        if outcome.is_ok() {
            assert!(point > 2);
            break;
        }
    }
}

/// A folder that is there already takes what is new, and keeps its own mode and what it holds.
#[test]
fn opening_into_a_folder_that_is_there_adds_to_it() {
    let desk = Desk::new();
    desk.source("plans/new.svg", b"new").source("letters/note", b"note");
    let volumes = desk.pack("");
    fs::create_dir_all(desk.path("inbox/source/plans")).unwrap();
    fs::write(desk.path("inbox/source/plans/old.svg"), b"old").unwrap();
    set_mode(desk.path("inbox/source/plans"), 0o700);
    let opened = desk.open(&volumes, &desk.path("inbox")).unwrap();
    assert_eq!((opened.landed.files, opened.landed.folders), (2, 1));
    assert_eq!(fs::read(desk.path("inbox/source/plans/old.svg")).unwrap(), b"old");
    assert_eq!(fs::read(desk.path("inbox/source/plans/new.svg")).unwrap(), b"new");
    assert!(has_mode(desk.path("inbox/source/plans"), 0o700));
}

#[test]
fn a_file_that_grows_while_it_is_read_is_read_again_and_then_named() {
    let desk = Desk::new();
    desk.source("log", &vec![b'x'; 2_000_000]);
    let log = desk.path("source/log");
    let grow = || {
        let mut file = File::options().append(true).open(&log).unwrap();
        std::io::Write::write_all(&mut file, b"more").unwrap();
        false
    };
    // What is read changes whenever the work asks whether to go on.
    let packed = desk.pack_until("", &grow).unwrap();
    let changed: Vec<_> = packed.changed.iter().map(|path| path.as_bytes()).collect();
    assert_eq!(changed, [b"source/log"]);
    desk.open(&[packed.volumes[0].path.clone()], &desk.path("inbox")).unwrap();
    assert!(fs::metadata(desk.path("inbox/source/log")).unwrap().len() >= 2_000_000);
}

/// It grows in the middle of the first reading only: the second one counts, and nothing of the first is released.
#[test]
fn a_file_that_changes_once_is_read_again_and_is_then_as_it_should_be() {
    let desk = Desk::new();
    desk.source("log", &vec![b'x'; 2_000_000]);
    let (log, asked) = (desk.path("source/log"), AtomicU64::new(0));
    let grow_once = || {
        // The walk asks twice and each of the two entries once; after that, before every piece that is read.
        if asked.fetch_add(1, Ordering::Relaxed) == 6 {
            let mut file = File::options().append(true).open(&log).unwrap();
            std::io::Write::write_all(&mut file, b"more").unwrap();
        }
        false
    };
    let packed = desk.pack_until("", &grow_once).unwrap();
    assert!(packed.changed.is_empty());
    // Eight pieces of 256 KiB, twice.
    assert!(asked.load(Ordering::Relaxed) >= 4 + 2 * 8, "it was read only once");
    let archive = desk.unlock(&[desk.path("out")]).unwrap();
    assert_eq!(archive.entries().unwrap()[1].entry.id, 2, "read again under the same id");
    drop(archive);
    desk.open(&[desk.path("out")], &desk.path("inbox")).unwrap();
    assert_eq!(tree(&desk.path("inbox/source")), tree(&desk.path("source")));
    assert_eq!(fs::metadata(desk.path("inbox/source/log")).unwrap().len(), 2_000_004);
}

#[test]
#[cfg_attr(windows, ignore = "there are no links")]
fn a_file_in_the_way_is_found_before_anything_is_written() {
    let desk = Desk::new();
    desk.source("a", b"1").source("folder/b", b"2");
    let volumes = desk.pack("");
    fs::create_dir_all(desk.path("inbox/source")).unwrap();
    symlink(desk.place.path(), desk.path("inbox/source/folder"));
    let before = tree(&desk.path("inbox"));
    let error = desk.open(&volumes, &desk.path("inbox")).unwrap_err();
    assert_eq!(error.class(), ErrorClass::Unsafe);
    assert_eq!(tree(&desk.path("inbox")), before);
}

#[test]
fn old_volumes_of_the_same_name_are_not_touched_unasked() {
    let desk = Desk::new();
    desk.source("a", b"1");
    fs::create_dir(desk.path("out")).unwrap();
    fs::write(desk.path("out/set-3of9.useal"), b"old").unwrap();
    let before = tree(&desk.path("out"));
    assert!(matches!(desk.pack_until("", &|| false), Err(PackError::Way(WayError::Taken { .. }))));
    assert_eq!(tree(&desk.path("out")), before);
}

/// A file: where, how long, of what.
fn a_file() -> impl Strategy<Value = (Vec<String>, usize, u8)> {
    (prop::collection::vec("[a-c]{1,2}", 1..4), 0..200_000_usize, any::<u8>())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn random_trees_come_back_from_shuffled_renamed_and_spread_volumes(
        files in prop::collection::vec(a_file(), 1..12),
        fit in prop::sample::select(vec!["", "70KB", "150KB", "400KB"]),
        squeeze in 0_u8..5,
        order in any::<u64>(),
    ) {
        let mut desk = Desk::new();
        desk.squeeze = Squeeze::from_number(squeeze).unwrap();
        fs::create_dir(desk.path("source")).unwrap();
        for (place, (path, length, seed)) in files.iter().enumerate() {
            // Folders and files draw from the same names, so files get an ending of their own.
            let name = format!("{}.{place}", path.join("/"));
            let mut content = vec![*seed; *length];
            if seed % 2 == 0 {
                blake3::Hasher::new().update(&[*seed]).finalize_xof().fill(&mut content);
            }
            desk.source(&name, &content);
        }
        let volumes = desk.pack(fit);
        let mut arrived: Vec<PathBuf> = Vec::new();
        for (place, volume) in volumes.iter().enumerate() {
            let jumbled = blake3::hash(&[place as u8, order as u8]).to_hex();
            let folder = desk.path(if order >> (place % 64) & 1 == 0 { "one" } else { "two" });
            fs::create_dir_all(&folder).unwrap();
            arrived.push(folder.join(&jumbled[..9]));
            fs::rename(volume, &arrived[place]).unwrap();
        }
        arrived.rotate_left(order as usize % volumes.len());
        desk.open(&arrived, &desk.path("inbox")).unwrap();
        prop_assert_eq!(tree(&desk.path("inbox/source")), tree(&desk.path("source")));
    }
}
