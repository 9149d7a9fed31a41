//! ZIP archives that others have written: what is read, and what is refused.

use crate::support::Desk;
use crate::support::system::has_mode;
use crate::support::zip::{Archive, Behind, Lock, Made, archive, cover, entry, field};
use rstest::rstest;
use std::fs;
use under_seal_core::formats::error::ArchiveError;
use under_seal_core::formats::members::{Refused, RefusedReason};
use under_seal_core::formats::reader::ArchiveReader as _;
use under_seal_core::formats::zip::{Segments, ZipError, ZipReader, is_zip, open_parts};
use under_seal_core::ground::secrets::Password;
use under_seal_core::tasks::open::open;
use under_seal_core::{Error, ErrorClass};

const PASSWORD: &str = "twelve panes";

fn text() -> Vec<u8> {
    b"The lamp is lit at dusk.\n".repeat(300)
}

fn read(desk: &Desk, bytes: &[u8]) -> Result<ZipReader, ZipError> {
    fs::write(desk.path("a.zip"), bytes).unwrap();
    let (segments, password) = (Segments::open(&[desk.path("a.zip")]).unwrap(), Password::new(PASSWORD).unwrap());
    desk.with_context(&|| false, |context| ZipReader::open(segments, Some(password), context))
}

fn locked(desk: &Desk, segments: Segments) -> ZipReader {
    desk.with_context(&|| false, |context| ZipReader::open(segments, None, context)).unwrap()
}

/// Opens an archive; what has landed, by name.
fn landed(desk: &Desk, bytes: &[u8]) -> Result<Vec<(String, Vec<u8>)>, Error> {
    let mut archive = read(desk, bytes).map_err(ArchiveError::from)?;
    let into = desk.path("inbox");
    desk.with_context(&|| false, |context| open(&mut archive, into.as_path(), context))?;
    let files = archive
        .entries()
        .unwrap()
        .iter()
        .map(|listed| String::from_utf8(listed.entry.path.as_bytes().to_vec()).unwrap());
    let files = files.filter(|name| into.join(name).is_file());
    Ok(files.map(|name| (name.clone(), fs::read(into.join(name)).unwrap())).collect())
}

/// How an entry is written.
#[rstest]
#[case::stored(|entry: &mut Made| entry.method = 0)]
#[case::deflate(|_: &mut Made| {})]
#[case::deflate64(|entry: &mut Made| entry.method = 9)]
#[case::bzip2(|entry: &mut Made| entry.method = 12)]
#[case::zstandard(|entry: &mut Made| entry.method = 93)]
#[case::xz(|entry: &mut Made| entry.method = 95)]
#[case::wide(|entry: &mut Made| entry.wide = true)]
#[case::descriptor(|entry: &mut Made| entry.behind = Behind::Plain)]
#[case::signed_descriptor(|entry: &mut Made| entry.behind = Behind::Signed)]
#[case::wide_descriptor(|entry: &mut Made| entry.behind = Behind::Wide)]
#[case::old_cipher(|entry: &mut Made| entry.lock = Lock::Old)]
#[case::old_cipher_checked_by_the_time(|entry: &mut Made| (entry.lock, entry.behind) = (Lock::Old, Behind::Signed))]
#[case::aes_256(|entry: &mut Made| entry.lock = Lock::Aes(2, 3))]
#[case::aes_192_stored(|entry: &mut Made| (entry.lock, entry.method) = (Lock::Aes(2, 2), 0))]
#[case::aes_128_with_a_checksum(|entry: &mut Made| entry.lock = Lock::Aes(1, 1))]
#[case::from_a_system_without_modes(|entry: &mut Made| entry.mode = None)]
fn whatever_others_write_is_read(#[case] written: fn(&mut Made), #[values(0, 1, 7_500)] length: usize) {
    let desk = Desk::new();
    let mut made = entry("letters/to the board.txt", &text()[..length]);
    written(&mut made);
    let bytes = archive(&[made], PASSWORD.as_bytes(), b"from the keeper").bytes;
    assert_eq!(landed(&desk, &bytes).unwrap(), [("letters/to the board.txt".to_owned(), text()[..length].to_vec())]);
    assert!(is_zip(&desk.path("a.zip").into(), &[]).unwrap());
    // With something in front it is the same archive.
    let desk = Desk::new();
    assert_eq!(landed(&desk, &[b"#!/bin/sh\nexit\n", bytes.as_slice()].concat()).unwrap().len(), 1);
    assert!(is_zip(&desk.path("a.zip").into(), &[]).unwrap());
}

fn put(archive: &mut Archive, at: usize, bytes: &[u8]) {
    archive.bytes[at..at + bytes.len()].copy_from_slice(bytes);
}

/// What was done to an archive of two entries, and what is said of it.
#[rstest]
#[case::names_differ(|archive: &mut Archive| { let at = archive.locals[1] + 30; put(archive, at, b"B"); }, ErrorClass::Unsafe)]
#[case::methods_differ(|archive: &mut Archive| { let at = archive.locals[1] + 8; put(archive, at, &[0]); }, ErrorClass::Unsafe)]
#[case::flags_differ(|archive: &mut Archive| { let at = archive.locals[1] + 6; put(archive, at, &[2]); }, ErrorClass::Unsafe)]
#[case::sizes_differ(|archive: &mut Archive| { let at = archive.locals[1] + 22; put(archive, at, &[1]); }, ErrorClass::Unsafe)]
#[case::checksums_differ(|archive: &mut Archive| { let at = archive.locals[1] + 14; put(archive, at, &[1, 2, 3, 4]); }, ErrorClass::Unsafe)]
#[case::two_entries_share_bytes(|archive: &mut Archive| {
    let (first, second) = (archive.locals[0] as u32, archive.centrals[1]);
    let name = archive.bytes[archive.locals[0] + 30];
    let headers = archive.bytes[archive.locals[0] + 14..archive.locals[0] + 26].to_vec();
    put(archive, second + 42, &first.to_le_bytes());
    put(archive, second + 46, &[name]);
    put(archive, second + 16, &headers);
}, ErrorClass::Unsafe)]
#[case::both_headers_lie_about_the_size(|archive: &mut Archive| {
    let (local, central) = (archive.locals[1] + 22, archive.centrals[1] + 24);
    put(archive, local, &7_499_u32.to_le_bytes());
    put(archive, central, &7_499_u32.to_le_bytes());
}, ErrorClass::Damaged)]
#[case::content_changed(|archive: &mut Archive| { let at = archive.data[1] + 20; archive.bytes[at] ^= 1; }, ErrorClass::Damaged)]
#[case::cut_short(|archive: &mut Archive| { let length = archive.bytes.len() - 30; archive.bytes.truncate(length); }, ErrorClass::Damaged)]
#[case::a_links_target_is_too_long(|archive: &mut Archive| { let at = archive.centrals[1] + 38; put(archive, at, &(0o120_777_u32 << 16).to_le_bytes()); }, ErrorClass::Unsafe)]
#[case::no_such_place(|archive: &mut Archive| { let at = archive.centrals[1] + 42; put(archive, at, &[0xFF; 3]); }, ErrorClass::Damaged)]
fn what_contradicts_itself_is_not_opened(#[case] tamper: fn(&mut Archive), #[case] class: ErrorClass) {
    let desk = Desk::new();
    let mut made = archive(&[entry("a", b"one"), entry("b", &text())], b"", b"");
    tamper(&mut made);
    assert_eq!(landed(&desk, &made.bytes).unwrap_err().class(), class);
    assert!(!desk.path("inbox/b").exists());
}

/// An entry that is not read here keeps nobody from the others, unless there are none.
#[rstest]
#[case::a_method_of_others(|archive: &mut Archive| {
    let (local, central) = (archive.locals[1] + 8, archive.centrals[1] + 10);
    put(archive, local, &[6]);
    put(archive, central, &[6]);
}, RefusedReason::Method(6))]
#[case::a_closed_encryption(|archive: &mut Archive| {
    let (local, central) = (archive.locals[1] + 6, archive.centrals[1] + 8);
    put(archive, local, &[0x41]);
    put(archive, central, &[0x41]);
}, RefusedReason::Encryption)]
fn what_is_not_read_here_is_refused_by_name(#[case] change: fn(&mut Archive), #[case] why: RefusedReason) {
    let desk = Desk::new();
    let mut made = archive(&[entry("a", b"one"), entry("b", &text())], b"", b"");
    change(&mut made);
    assert_eq!(landed(&desk, &made.bytes).unwrap(), [("a".to_owned(), b"one".to_vec())]);
    let refused = read(&desk, &made.bytes).unwrap().refused().to_vec();
    assert_eq!(refused, [Refused { name: b"b".to_vec(), why }]);
}

#[test]
fn two_ends_are_refused_and_an_archive_inside_is_none() {
    let desk = Desk::new();
    let inner = archive(&[entry("inner", b"1")], b"", b"").bytes;
    let outer = archive(&[entry("a", b"one")], b"", &inner).bytes;
    assert!(matches!(read(&desk, &outer), Err(ZipError::TwoEnds)));
    let mut stored = entry("inner.zip", &inner);
    stored.method = 0;
    let outer = archive(&[stored], b"", b"").bytes;
    assert_eq!(landed(&desk, &outer).unwrap(), [("inner.zip".to_owned(), inner)]);
}

/// Names in an archive, what lands of them, and what is refused.
#[rstest]
#[case::outside("../evil", 0o100_644, b"x", &[], 1)]
#[case::absolute("/tmp/evil", 0o100_644, b"x", &[], 1)]
#[case::device("tty", 0o020_644, b"", &[], 1)]
#[case::same_name_again("a", 0o100_644, b"x", &[("a", "one")], 1)]
#[case::inside_a_file("a/b", 0o100_644, b"x", &[("a", "one")], 1)]
#[case::set_user_id("tool", 0o104_755, b"x", &[("a", "one"), ("tool", "x")], 0)]
#[cfg_attr(unix, case::link_that_stays("link", 0o120_777, b"a", &[("a", "one"), ("link", "one")], 0))]
#[case::link_that_leads_out("link", 0o120_777, b"../../etc", &[("a", "one")], 0)]
fn what_could_do_harm_is_refused_by_name(
    #[case] name: &str,
    #[case] mode: u32,
    #[case] content: &[u8],
    #[case] lands: &[(&str, &str)],
    #[case] refused: usize,
) {
    let desk = Desk::new();
    let mut second = entry(name, content);
    second.mode = Some(mode);
    let bytes = archive(&[entry("a", b"one"), second], b"", b"").bytes;
    let found = landed(&desk, &bytes).unwrap();
    let expected: Vec<(String, Vec<u8>)> = [("a", "one")]
        .iter()
        .chain(lands.iter().filter(|(name, _)| *name != "a"))
        .map(|(n, c)| ((*n).to_owned(), c.as_bytes().to_vec()))
        .collect();
    assert_eq!(found, expected);
    assert_eq!(read(&desk, &bytes).unwrap().refused().len(), refused);
    if name == "tool" {
        assert!(has_mode(desk.path("inbox/tool"), 0o755));
    }
}

#[rstest]
#[case::aes(Lock::Aes(2, 3))]
#[case::old(Lock::Old)]
fn a_wrong_password_is_told(#[case] lock: Lock) {
    let desk = Desk::new();
    let mut made = entry("a", &text());
    made.lock = lock;
    let bytes = archive(&[made], b"another", b"").bytes;
    let class = landed(&desk, &bytes).unwrap_err().class();
    assert_eq!(class, ErrorClass::WrongPassword);
    fs::write(desk.path("a.zip"), &bytes).unwrap();
    let without = locked(&desk, Segments::open(&[desk.path("a.zip")]).unwrap());
    assert_eq!(without.entries().unwrap()[0].content.size, text().len() as u64);
    let unlocked =
        desk.with_context(&|| false, |context| without.with_password(&Password::new(PASSWORD).unwrap(), context));
    assert!(matches!(unlocked, Err(ZipError::WrongPassword)));
}

/// What an archive is made of, and what is seen with the password, or said: what is under a cover, if it is one.
#[rstest]
#[case::aes_256(|inside: &[u8]| vec![cover(inside)], "a, b")]
#[case::aes_128(|inside: &[u8]| vec![Made { lock: Lock::Aes(1, 1), ..cover(inside) }], "a, b")]
#[case::wide(|inside: &[u8]| vec![Made { wide: true, ..cover(inside) }], "a, b")]
#[case::seen_through_once(|inside: &[u8]| vec![cover(&archive(&[cover(inside)], PASSWORD.as_bytes(), b"").bytes)], "contents.zip")]
#[case::not_alone(|inside: &[u8]| vec![cover(inside), entry("z", b"")], "contents.zip, z")]
#[case::compressed(|inside: &[u8]| vec![Made { method: 8, ..cover(inside) }], "contents.zip")]
#[case::not_encrypted(|inside: &[u8]| vec![Made { lock: Lock::None, ..cover(inside) }], "contents.zip")]
#[case::not_marked(|inside: &[u8]| vec![Made { extra: Vec::new(), ..cover(inside) }], "contents.zip")]
#[case::no_archive(|_: &[u8]| vec![cover(b"The lamp is lit at dusk.")], "no end of a directory")]
fn a_cover_is_seen_through(#[case] entries: fn(&[u8]) -> Vec<Made>, #[case] seen: &str) {
    let desk = Desk::new();
    let inside = archive(&[entry("a", b"one"), entry("b", &text())], b"", b"").bytes;
    fs::write(desk.path("a.zip"), archive(&entries(&inside), PASSWORD.as_bytes(), b"").bytes).unwrap();
    let covered = locked(&desk, Segments::open(&[desk.path("a.zip")]).unwrap());
    assert_eq!(covered.is_covered(), covered.facts().hides_names);
    let unlocked =
        desk.with_context(&|| false, |context| covered.with_password(&Password::new(PASSWORD).unwrap(), context));
    let names = unlocked.map(|archive| {
        let paths =
            archive.entries().unwrap().iter().map(|listed| String::from_utf8_lossy(listed.entry.path.as_bytes()));
        paths.collect::<Vec<_>>().join(", ")
    });
    assert_eq!(names.unwrap_or_else(|error| error.to_string()), seen);
}

/// Whatever byte is changed: it is noticed, or nothing of what lands is another.
#[rstest]
#[case::aes(Lock::Aes(2, 3), Behind::Nothing)]
#[case::plain(Lock::None, Behind::Signed)]
fn no_flipped_byte_makes_other_content_land(#[case] lock: Lock, #[case] behind: Behind) {
    let mut made = entry("letters/a", b"The lamp is lit.");
    (made.lock, made.behind) = (lock, behind);
    let bytes = archive(&[made, entry("b", b"dusk")], PASSWORD.as_bytes(), b"").bytes;
    let expected = [("b".to_owned(), b"dusk".to_vec()), ("letters/a".to_owned(), b"The lamp is lit.".to_vec())];
    for at in 0..bytes.len() {
        let mut flipped = bytes.clone();
        flipped[at] ^= 0x11;
        if let Ok(found) = landed(&Desk::new(), &flipped) {
            assert!(found.iter().all(|one| expected.contains(one)), "byte {at}: {found:?}");
        }
    }
}

#[rstest]
#[case::numbered(|number, _| format!("a.zip.{number:03}"), "a.zip.002", "a.zip.001", 1)]
#[case::as_the_note_names_them(|number, count| if number == count { "a.zip".into() } else { format!("a.z{number:02}") }, "a.zip", "a.z02", 2)]
fn parts_are_found_and_what_is_missing_is_named(
    #[case] name: fn(usize, usize) -> String,
    #[case] any: &str,
    #[case] lost: &str,
    #[case] number: u32,
) {
    let desk = Desk::new();
    let mut made = archive(&[entry("a", b"one"), entry("b", &crate::support::noise(2_000))], b"", b"");
    let cuts = made.bytes.len().div_ceil(800);
    if any == "a.zip" {
        // Offsets count within the part in which an entry begins.
        let (end, directory) = (made.end, made.centrals[0]);
        for (local, central) in made.locals.clone().into_iter().zip(made.centrals.clone()) {
            put(&mut made, central + 34, &((local / 800) as u16).to_le_bytes());
            put(&mut made, central + 42, &((local % 800) as u32).to_le_bytes());
        }
        put(&mut made, end + 4, &((cuts - 1) as u16).to_le_bytes());
        put(&mut made, end + 6, &((directory / 800) as u16).to_le_bytes());
        put(&mut made, end + 16, &((directory % 800) as u32).to_le_bytes());
    }
    for (place, part) in made.bytes.chunks(800).enumerate() {
        fs::write(desk.path(&name(place + 1, cuts)), part).unwrap();
    }
    assert!(is_zip(&desk.path(any).into(), &[]).unwrap());
    let archive = locked(&desk, open_parts(&desk.path(any).into(), &[]).unwrap());
    assert_eq!(archive.entries().unwrap().len(), 2);
    // What is open stays there on Windows.
    drop(archive);
    fs::remove_file(desk.path(lost)).unwrap();
    let missing = match open_parts(&desk.path(any).into(), &[]) {
        Err(ZipError::MissingParts { missing, .. }) => missing,
        other => panic!("{other:?}"),
    };
    assert_eq!(missing, [number]);
}

/// The standard library of another language writes them; where it is not at hand, this is skipped.
#[test]
fn what_another_language_writes_is_read() {
    let desk = Desk::new();
    desk.source("letters/Überblick – Laterne.txt", &text()).source("plans/noise", &crate::support::noise(100_000));
    let script = "import zipfile, sys\nfor name, method in (('s', 0), ('d', 8), ('b', 12), ('l', 14)):\n    with zipfile.ZipFile(name + '.zip', 'w', method) as z:\n        z.write('source/letters/Überblick – Laterne.txt')\n        z.write('source/plans/noise')\nsys.stdout.write('done')";
    let ran = std::process::Command::new("python3").args(["-c", script]).current_dir(desk.place.path()).output();
    let Ok(ran) = ran else {
        assert!(std::env::var_os("CI").is_none(), "the tests of CI need Python 3");
        eprintln!("Python 3 is not here; what it writes was not read.");
        return;
    };
    assert_eq!(String::from_utf8_lossy(&ran.stdout), "done", "{}", String::from_utf8_lossy(&ran.stderr));
    for name in ["s", "d", "b", "l"] {
        let bytes = fs::read(desk.path(&format!("{name}.zip"))).unwrap();
        let _ = fs::remove_dir_all(desk.path("inbox"));
        let found = landed(&desk, &bytes).unwrap();
        assert_eq!(found[0], ("source/letters/Überblick – Laterne.txt".to_owned(), text()));
        assert_eq!(found[1].1, crate::support::noise(100_000));
    }
}

/// What is declared, and what the data comes to instead: never a byte more, and never fewer unsaid.
#[rstest]
#[case::more_than_declared(0, 7_500, 100)]
#[case::more_than_declared_when_compressed(8, 7_500, 100)]
#[case::less_than_declared(0, 100, 7_500)]
#[case::less_than_declared_when_compressed(8, 100, 7_500)]
fn content_is_as_long_as_it_declares(#[case] method: u16, #[case] comes: usize, #[case] declared: u32) {
    let desk = Desk::new();
    let mut made = entry("a", &text()[..comes]);
    made.method = method;
    let mut archive = archive(&[made], b"", b"");
    let (local, central) = (archive.locals[0], archive.centrals[0]);
    put(&mut archive, local + 22, &declared.to_le_bytes());
    put(&mut archive, central + 24, &declared.to_le_bytes());
    assert_eq!(landed(&desk, &archive.bytes).unwrap_err().class(), ErrorClass::Damaged);
    assert!(!desk.path("inbox/a").exists());
}

#[test]
fn several_files_are_read_as_one() {
    let desk = Desk::new();
    let whole: Vec<u8> = (0..100).collect();
    let paths: Vec<_> = [0..30, 30..30, 30..31, 31..100]
        .into_iter()
        .enumerate()
        .map(|(place, range)| {
            let path = desk.path(&place.to_string());
            fs::write(&path, &whole[range]).unwrap();
            path
        })
        .collect();
    let segments = Segments::open(&paths).unwrap();
    assert_eq!((segments.length(), segments.count()), (100, 4));
    for (from, length) in [(0, 100), (29, 3), (30, 1), (99, 1), (40, 0)] {
        let read = segments.bytes_at(from as u64, length).unwrap();
        assert_eq!(read.as_deref(), Some(&whole[from..from + length]));
    }
    assert_eq!(segments.bytes_at(99, 2).unwrap(), None);
    assert_eq!([segments.place(3, 5), segments.place(2, 2), segments.place(4, 0)], [Some(36), None, None]);
}

#[test]
fn fields_tell_finer_times() {
    let desk = Desk::new();
    let mut made = entry("a", b"1");
    made.extra = field(0x5455, &[1, 0xFE, 0xFF, 0xFF, 0xFF]);
    let archive = read(&desk, &archive(&[made], b"", b"").bytes).unwrap();
    assert_eq!(archive.entries().unwrap()[0].entry.modified.seconds, -2);
}

/// An archive that is nothing but ends, which claim so many parts: what it takes to say so does not grow with the claim.
#[rstest]
#[case::as_many_as_there_can_be(65_535, ErrorClass::VolumesMissing)]
#[case::more(65_537, ErrorClass::Damaged)]
#[case::all_that_can_be_claimed(u32::MAX, ErrorClass::Damaged)]
fn a_number_of_parts_is_a_claim(#[case] parts: u32, #[case] class: ErrorClass) {
    let desk = Desk::new();
    // The 64-bit end record, its locator and the end record (sections 4.3.14 to 4.3.16).
    let wide = [&b"PK\x06\x06"[..], &44_u64.to_le_bytes(), &[0; 44]].concat();
    let locator = [&b"PK\x06\x07"[..], &[0; 12], &parts.to_le_bytes()].concat();
    let bytes = [&b"PK\x03\x04"[..], &[0; 89], &wide, &locator, b"PK\x05\x06", &[0; 18]].concat();
    fs::write(desk.path("a.zip"), bytes).unwrap();
    let opened = open_parts(&desk.path("a.zip").into(), &[])
        .map_err(ArchiveError::from)
        .and_then(|parts| Ok(desk.with_context(&|| false, |context| ZipReader::open(parts, None, context))?));
    assert_eq!(opened.map(drop).map_err(|error| Error::from(error).class()), Err(class));
}
