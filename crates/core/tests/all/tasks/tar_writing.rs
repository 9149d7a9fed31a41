//! Tar archives that we write: they come back exactly, and others can read them.

use crate::support::system::{links, set_time, symlink};
use crate::support::{Desk, noise};
use rstest::rstest;
use std::fs::{self, File};
use std::process::Command;
use std::time::{Duration, SystemTime};
use under_seal_core::codecs::block::Squeeze;
use under_seal_core::disk::names::name_of;
use under_seal_core::formats::registry::{Format, TAR, TAR_GZ, TAR_ZST};

/// One of everything that tar keeps: long names, names that are no text, times before 1970, files of several pieces.
fn lay_out(desk: &Desk) {
    let text: Vec<u8> = (0..120_000_u32).flat_map(|line| format!("level {line}\n").into_bytes()).collect();
    desk.source("survey/levels.csv", &text).source("photographs/noise.jpg", &noise(1_100_000)).source("empty", b"");
    let long = "n".repeat(120);
    desk.source(&format!("{long}/{long}/Überblick – Laterne.txt"), b"lit").source("x", &noise(512));
    fs::write(desk.path("source").join(name_of(b"not \xff text")), b"latin").unwrap();
    fs::create_dir_all(desk.path("source/nothing in here")).unwrap();
    symlink(format!("{long}/../survey/levels.csv"), desk.path("source/latest"));
    let old = SystemTime::UNIX_EPOCH - Duration::new(1_218_000_000, 123_456_700);
    set_time(desk.path("source/x"), old);
}

#[rstest]
fn whatever_is_packed_comes_back(
    #[values(&TAR, &TAR_GZ, &TAR_ZST)] format: &'static Format,
    #[values(1, 3)] threads: usize,
) {
    let desk = Desk { format, threads, squeeze: Squeeze::Light, ..Desk::new() };
    lay_out(&desk);
    // A link whose target has a step back in its middle is not made: it could lead out.
    let refused = desk.path("source/latest");
    desk.pack("");
    let opened = desk.open_packed(&desk.path("inbox")).unwrap();
    assert_eq!(opened.landed.refused_links.len() as u64, links(1));
    let _ = fs::remove_file(refused);
    let without_top = |root: &str| {
        let mut tree = desk.tree(&desk.path(root));
        // Its time changed with the link that went.
        tree.remove(std::path::Path::new(""));
        tree
    };
    assert_eq!(without_top("inbox/source"), without_top("source"));
    let bytes = fs::metadata(desk.path(&format!("out/set{}", format.extension()))).unwrap().len();
    assert_eq!(format == &TAR, bytes.is_multiple_of(10_240) && bytes > 2_000_000);
}

/// A file that shrinks while it is read, at some question whether to go on: how long it is, whether it is gone then, and how
/// much of it is in the archive. A second reading counts; where there is none, what is only zeros is told.
#[rstest]
#[case::short(3_000_000, false, 1_000)]
#[case::long(20_000_000, false, 1_000)]
#[case::long_and_gone(20_000_000, true, 20_000_000)]
fn a_file_that_changes_meanwhile_is_read_again_or_told(
    #[case] bytes: usize,
    #[case] gone: bool,
    #[case] packed_bytes: u64,
) {
    let desk = Desk { format: &TAR, ..Desk::new() };
    desk.source("a", &vec![7; bytes]).source("b", b"2");
    let path = desk.path("source/a");
    let asked = std::sync::atomic::AtomicU64::new(0);
    let packed = desk.pack_until("", &|| {
        if asked.fetch_add(1, std::sync::atomic::Ordering::Relaxed) == 5 {
            File::options().write(true).open(&path).unwrap().set_len(1_000).unwrap();
            if gone {
                fs::remove_file(&path).unwrap();
            }
        }
        false
    });
    let packed = packed.unwrap();
    assert_eq!((packed.changed.len(), packed.passed_over.len()), (0, 0));
    assert_eq!(packed.totals.content_bytes, packed_bytes + 1);
    let filled =
        packed.filled_up.iter().map(|filled| (filled.real_bytes > 0, filled.real_bytes < 20_000_000, filled.bytes));
    assert_eq!(filled.collect::<Vec<_>>(), if gone { vec![(true, true, 20_000_000)] } else { vec![] });
    desk.open_packed(&desk.path("inbox")).unwrap();
    let landed = fs::read(desk.path("inbox/source/a")).unwrap();
    assert_eq!(landed.len() as u64, packed_bytes);
    let real = landed.iter().take_while(|byte| **byte == 7).count() as u64;
    assert_eq!(real, packed.filled_up.first().map_or(packed_bytes, |filled| filled.real_bytes));
}

/// The standard library of another language reads them; where it is not at hand, this is skipped.
#[rstest]
fn another_language_reads_them(#[values(&TAR, &TAR_GZ)] format: &'static Format) {
    let desk = Desk { format, ..Desk::new() };
    let long = "n".repeat(120);
    desk.source(&format!("{long}/Überblick.txt"), b"lit").source("noise", &noise(2_200_000)).source("empty", b"");
    desk.pack("");
    let script = format!(
        "import tarfile\nt = tarfile.open('out/set{}')\nt.extractall('inbox')\nprint(len(t.getmembers()))",
        format.extension()
    );
    let Ok(ran) = Command::new("python3").args(["-c", &script]).current_dir(desk.place.path()).output() else {
        assert!(std::env::var_os("CI").is_none(), "the tests of CI need Python 3");
        eprintln!("Python 3 is not here; whether it reads this is not known.");
        return;
    };
    assert_eq!(String::from_utf8_lossy(&ran.stdout), "5\n", "{}", String::from_utf8_lossy(&ran.stderr));
    for name in [&format!("{long}/Überblick.txt"), "noise", "empty"] {
        let [one, other] = ["inbox/source", "source"].map(|root| fs::read(desk.path(root).join(name)).unwrap());
        assert!(one == other, "{name}");
    }
}
