//! ZIP archives that we write: they come back, others can read them, and no header is cut in two.

use crate::support::system::{set_mode, set_time, symlink};
use crate::support::zip::{CENTRAL, LOCAL};
use crate::support::{Desk, PASSWORD, noise};
use ctr::cipher::{KeyIvInit as _, StreamCipher as _};
use proptest::prelude::*;
use ring::{hmac, pbkdf2};
use rstest::rstest;
use std::fs;
use std::process::Command;
use std::slice;
use std::time::{Duration, SystemTime};
use under_seal_core::codecs::block::Squeeze;
use under_seal_core::disk::NameRules;
use under_seal_core::disk::names::name_of;
use under_seal_core::formats::registry::{Format, TAR_GZ, ZIP};
use under_seal_core::formats::zip::ZipWriteError;
use under_seal_core::tasks::pack::PackError;

/// Files of several pieces, of which some refer back into the one before; and what else may be in a folder.
fn lay_out(desk: &Desk) {
    let text: Vec<u8> =
        (0..90_000_u32).flat_map(|line| format!("level {line}, {}\n", line * 7 % 1_013).into_bytes()).collect();
    desk.source("survey/levels.csv", &text[..1_048_577]).source("photographs/noise.jpg", &noise(1_500_000));
    desk.source("Überblick – Laterne & Galerie.txt", "Die Laterne brennt.".as_bytes()).source("empty", b"");
    fs::create_dir_all(desk.path("source/nothing in here")).unwrap();
    symlink("survey/levels.csv", desk.path("source/latest"));
    set_mode(desk.path("source/empty"), 0o751);
}

fn zipping(squeeze: Squeeze) -> Desk {
    Desk { format: &ZIP, squeeze, ..Desk::new() }
}

#[rstest]
fn whatever_is_packed_comes_back(
    #[values(Squeeze::None, Squeeze::Light, Squeeze::Even, Squeeze::Hard)] squeeze: Squeeze,
    #[values("", "300KB", "5MB")] fit: &str,
    #[values(false, true)] hide_names: bool,
) {
    let desk = Desk { hide_names, ..zipping(squeeze) };
    lay_out(&desk);
    let volumes = desk.pack(fit);
    assert_eq!(volumes.len() > 1, fit == "300KB");
    assert!(
        fit.is_empty()
            || volumes
                .iter()
                .all(|path| fs::metadata(path).unwrap().len() <= if volumes.len() > 1 { 300_000 } else { 5_000_000 })
    );
    desk.open_packed(&desk.path("inbox")).unwrap();
    assert_eq!(desk.tree(&desk.path("inbox/source")), desk.tree(&desk.path("source")));
}

#[test]
fn the_bytes_are_the_same_for_any_number_of_threads() {
    assert!([false, true].map(same_for_any_number_of_threads) == [true, true]);
}

fn same_for_any_number_of_threads(hide_names: bool) -> bool {
    let made = [1, 4].map(|threads| {
        let desk = Desk { threads, hide_names, ..zipping(Squeeze::Even) };
        lay_out(&desk);
        for path in desk.tree(&desk.path("source")).into_keys() {
            let path = desk.path("source").join(path);
            if !path.is_symlink() {
                set_time(path, SystemTime::UNIX_EPOCH + Duration::from_secs(1_930_000_000));
            }
        }
        // A link's own time cannot be set here.
        let _ = fs::remove_file(desk.path("source/latest"));
        set_time(desk.path("source"), SystemTime::UNIX_EPOCH);
        fs::read(&desk.pack("")[0]).unwrap()
    });
    made[0] == made[1]
}

fn number(bytes: &[u8], at: usize, length: usize) -> u64 {
    bytes[at..at + length].iter().rev().fold(0, |value, byte| value << 8 | u64::from(*byte))
}

/// Of each entry its local header's part and place, and its name, by a walk of its own through the last part's end.
fn directory(parts: &[Vec<u8>]) -> Vec<(usize, usize, String)> {
    let last = parts.last().unwrap();
    let end = last.len() - 22;
    let (disk, offset) = (number(last, end + 6, 2) as usize, number(last, end + 16, 4) as usize);
    let mut at = (disk, offset);
    let mut found = Vec::new();
    for _ in 0..number(last, end + 10, 2) {
        if at.1 + 46 > parts[at.0].len() || number(&parts[at.0], at.1, 4) != u64::from(CENTRAL) {
            at = (at.0 + 1, 0);
        }
        let header = &parts[at.0][at.1..];
        assert_eq!(number(header, 0, 4), u64::from(CENTRAL), "a header is cut in two");
        let lengths = [28, 30, 32].map(|place| number(header, place, 2) as usize);
        let name = String::from_utf8(header[46..46 + lengths[0]].to_vec()).unwrap();
        found.push((number(header, 34, 2) as usize, number(header, 42, 4) as usize, name));
        at.1 += 46 + lengths.iter().sum::<usize>();
    }
    found
}

#[test]
fn no_header_is_cut_in_two() {
    let desk = zipping(Squeeze::None);
    for place in 0..400_usize {
        desk.source(&format!("a rather long folder name/{place:0100}"), &noise(place * 7 % 900));
    }
    let parts: Vec<Vec<u8>> = desk.pack("70KB").iter().map(|path| fs::read(path).unwrap()).collect();
    assert!(parts.len() > 3);
    for (part, at, name) in directory(&parts) {
        let header = &parts[part][at..];
        assert_eq!(number(header, 0, 4), u64::from(LOCAL), "{name}");
        assert!(header.len() >= 30 + name.len() + number(header, 28, 2) as usize, "{name}");
    }
    desk.open_packed(&desk.path("inbox")).unwrap();
}

/// Appendix E of the application note, read from its text with primitives only.
fn decrypted(data: &[u8]) -> Vec<u8> {
    let (salt, rest) = data.split_at(16);
    let mut keys = [0; 66];
    pbkdf2::derive(pbkdf2::PBKDF2_HMAC_SHA1, 1_000.try_into().unwrap(), salt, PASSWORD.as_bytes(), &mut keys);
    assert_eq!(rest[..2], keys[64..]);
    let (ciphertext, code) = rest[2..].split_at(rest.len() - 12);
    let tag = hmac::sign(&hmac::Key::new(hmac::HMAC_SHA1_FOR_LEGACY_USE_ONLY, &keys[32..64]), ciphertext);
    assert_eq!(code, &tag.as_ref()[..10]);
    let mut plain = ciphertext.to_vec();
    let counter = 1_u128.to_le_bytes();
    ctr::Ctr128LE::<aes::Aes256>::new_from_slices(&keys[..32], &counter).unwrap().apply_keystream(&mut plain);
    plain
}

#[test]
fn entries_are_encrypted_as_the_note_says() {
    let desk = zipping(Squeeze::None);
    desk.source("letter", b"The lamp is lit.");
    let parts = vec![fs::read(&desk.pack("")[0]).unwrap()];
    let (_, at, _) = directory(&parts).into_iter().find(|(.., name)| name == "source/letter").unwrap();
    let header = &parts[0][at..];
    let (flags, method, crc, compressed) =
        (number(header, 6, 2), number(header, 8, 2), number(header, 14, 4), number(header, 18, 4));
    assert_eq!((flags, method, crc, compressed), (1, 99, 0, 16 + 28));
    let (name, extra) = (number(header, 26, 2) as usize, number(header, 28, 2) as usize);
    let field = &header[30 + name..30 + name + extra];
    assert!(field.windows(11).any(|window| window == [0x01, 0x99, 7, 0, 2, 0, b'A', b'E', 3, 0, 0]), "{field:?}");
    let data = &header[30 + name + extra..][..compressed as usize];
    assert_eq!(decrypted(data), b"The lamp is lit.");
}

/// The standard library of another language reads them; where it is not at hand, this is skipped.
#[test]
fn another_language_reads_what_is_not_encrypted() {
    let desk = zipping(Squeeze::Even);
    lay_out(&desk);
    desk.pack_open("").unwrap();
    read_by_another_language(&desk, "0x800 * (not i.filename.isascii())");
}

/// Reads `out/set.zip`, each entry of which has these flags.
fn read_by_another_language(desk: &Desk, flags: &str) {
    let script = "import zipfile, hashlib\nz = zipfile.ZipFile('out/set.zip')\nassert z.testzip() is None\nassert all(i.flag_bits == FLAGS for i in z.infolist())\nz.extractall('inbox')\nprint(len(z.namelist()))";
    let script = script.replace("FLAGS", flags);
    let Ok(ran) = Command::new("python3").args(["-c", &script]).current_dir(desk.place.path()).output() else {
        assert!(std::env::var_os("CI").is_none(), "the tests of CI need Python 3");
        eprintln!("Python 3 is not here; whether it reads this is not known.");
        return;
    };
    assert_eq!(String::from_utf8_lossy(&ran.stdout), "9\n", "{}", String::from_utf8_lossy(&ran.stderr));
    for name in ["survey/levels.csv", "photographs/noise.jpg", "Überblick – Laterne & Galerie.txt", "empty"] {
        let read = |root: &str| fs::read(desk.path(root).join("source").join(name)).unwrap();
        let original = fs::read(desk.path("source").join(name)).unwrap();
        assert!(read("inbox") == original, "{name}");
    }
}

/// From outside there is one file, and what is in it is an archive for any other program.
#[test]
fn a_cover_shows_nothing_and_another_language_reads_what_is_under_it() {
    let desk = Desk { hide_names: true, ..zipping(Squeeze::Even) };
    lay_out(&desk);
    let bytes = fs::read(&desk.pack("")[0]).unwrap();
    for name in [&b"source"[..], b"levels.csv", b"noise", "Laterne".as_bytes()] {
        assert!(!bytes.windows(name.len()).any(|window| window == name));
    }
    let shown = directory(slice::from_ref(&bytes));
    assert_eq!(shown, [(0, 0, "contents.zip".to_owned())]);
    let (name, extra, compressed) = (number(&bytes, 26, 2), number(&bytes, 28, 2), number(&bytes, 18, 4));
    assert_eq!((number(&bytes, 6, 2), number(&bytes, 8, 2)), (1, 99), "encrypted with AES");
    let inside = decrypted(&bytes[30 + (name + extra) as usize..][..compressed as usize]);
    fs::create_dir_all(desk.path("out")).unwrap();
    fs::write(desk.path("out/set.zip"), inside).unwrap();
    read_by_another_language(&desk, "8 + 0x800 * (not i.filename.isascii()) - 8 * i.is_dir()");
}

/// Whatever byte is changed: it is noticed, or what comes out is what was packed.
#[test]
fn no_flipped_byte_of_a_cover_makes_other_content_land() {
    let desk = Desk { hide_names: true, ..zipping(Squeeze::Even) };
    desk.source("letters/a", b"The lamp is lit.").source("b", b"dusk");
    let path = &desk.pack("")[0];
    let (whole, mut noticed) = (fs::read(path).unwrap(), 0);
    for at in 0..whole.len() {
        let mut flipped = whole.clone();
        flipped[at] ^= 0x11;
        fs::write(path, &flipped).unwrap();
        let inbox = desk.path(&format!("inbox {at}"));
        match desk.open_packed(&inbox) {
            Err(_) => noticed += 1,
            // Without the field that marks it, a cover is a file as any other.
            Ok(_) if inbox.join("contents.zip").exists() => {}
            Ok(_) => assert_eq!(desk.tree(&inbox.join("source")), desk.tree(&desk.path("source")), "byte {at}"),
        }
    }
    assert!(noticed > whole.len() * 4 / 5, "{noticed} of {}", whole.len());
}

/// An archive that a user packs is no cover, whatever it is called and whatever is in it.
#[test]
fn an_archive_in_an_archive_comes_back_as_it_is() {
    let desk = zipping(Squeeze::Even);
    desk.source("a", &noise(900));
    let inner = fs::read(&desk.pack("")[0]).unwrap();
    let desk = zipping(Squeeze::Even);
    fs::create_dir_all(desk.path("source")).unwrap();
    desk.source("contents.zip", &inner);
    desk.pack("");
    desk.open_packed(&desk.path("inbox")).unwrap();
    assert!(fs::read(desk.path("inbox/source/contents.zip")).unwrap() == inner);
}

#[rstest]
#[case::zip(&ZIP)]
#[case::tar(&TAR_GZ)]
fn names_are_not_hidden_where_nothing_is_encrypted(#[case] format: &'static Format) {
    let desk = Desk { hide_names: true, format, ..Desk::new() };
    desk.source("a", b"1");
    let error = desk.pack_open("").unwrap_err();
    assert!(matches!(error, PackError::HidingNeedsPassword | PackError::Lacks(_)), "{error}");
    assert_eq!(fs::read_dir(desk.path("out")).map(Iterator::count).unwrap_or(0), 0);
}

#[test]
#[cfg_attr(windows, ignore = "every name is text")]
fn a_name_that_is_no_text_is_told() {
    let desk = zipping(Squeeze::Even);
    desk.source("a", b"1");
    fs::write(desk.path("source").join(name_of(b"not \xff text")), b"").unwrap();
    let error = desk.pack_until("", &|| false).unwrap_err();
    assert!(matches!(error, PackError::Zip(ZipWriteError::NotText(_))), "{error}");
    assert_eq!(fs::read_dir(desk.path("out")).map(Iterator::count).unwrap_or(0), 0);
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn random_trees_come_back(
        files in prop::collection::btree_map("[a-z ]{1,6}(/[a-zÄ-ü.]{1,8}){0,2}/[A-Z0-9-]{1,9}", (0_usize..90_000, any::<bool>()), 0..12),
        fit in prop_oneof![Just(""), Just("70KB"), Just("150KB")],
        squeeze in prop_oneof![Just(Squeeze::None), Just(Squeeze::Light), Just(Squeeze::Utmost)],
        hide_names in any::<bool>(),
    ) {
        let desk = Desk { hide_names, ..zipping(squeeze) };
        desk.source("keeper", b"1");
        let takes = |name: &str| name.split('/').all(|name| NameRules::here().take(name.as_bytes()));
        for (name, (length, is_text)) in files.iter().filter(|(name, _)| takes(name)) {
            let mut content = noise(*length);
            if *is_text {
                content.iter_mut().for_each(|byte| *byte %= 7);
            }
            desk.source(name, &content);
        }
        desk.pack(fit);
        desk.open_packed(&desk.path("inbox")).unwrap();
        prop_assert_eq!(desk.tree(&desk.path("inbox/source")), desk.tree(&desk.path("source")));
    }
}

/// For real, once: a file longer than 32 bits count, and more entries than 16 bits do.
#[rstest]
#[ignore = "takes minutes and five gigabytes"]
fn long_files_and_many_entries_come_back(#[values(false, true)] hide_names: bool) {
    let place = crate::support::Place::Temporary(tempfile::tempdir().unwrap());
    let desk = Desk { place, hide_names, ..zipping(Squeeze::Light) };
    desk.source("letter", b"1");
    let long = fs::File::create(desk.path("source/long")).unwrap();
    long.set_len(5 << 30).unwrap();
    for place in 0..70_000_u32 {
        desk.source(&format!("many/{}/{place}", place / 1_000), b"");
    }
    desk.pack("");
    desk.open_packed(&desk.path("inbox")).unwrap();
    assert_eq!(fs::metadata(desk.path("inbox/source/long")).unwrap().len(), 5 << 30);
    let count = |root: &str| {
        fs::read_dir(desk.path(root))
            .unwrap()
            .map(|folder| fs::read_dir(folder.unwrap().path()).unwrap().count())
            .sum::<usize>()
    };
    assert_eq!(count("inbox/source/many"), 70_000);
}
