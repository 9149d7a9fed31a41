//! Tar archives that others have written, and what they are compressed with: what is read, and what is refused.

use crate::support::system::{has_mode, symlink};
use crate::support::tar::{archive, entry, header, link, records, with_sum};
use crate::support::{Desk, noise, tree};
use rstest::rstest;
use std::fs;
use std::io::Write as _;
use std::process::Command;
use under_seal_core::disk::bytes_in_holes;
use under_seal_core::formats::archive::{Archive, recognise};
use under_seal_core::formats::error::ArchiveError;
use under_seal_core::formats::lone::LoneReader;
use under_seal_core::formats::reader::Flaws;
use under_seal_core::formats::registry::{COMPRESSED_FILE, Format, TAR, ZIP};
use under_seal_core::formats::streamed::WrappedFile;
use under_seal_core::ground::context::Cancelled;
use under_seal_core::ground::entry::Content;
use under_seal_core::ground::holes::ContentDigest;
use under_seal_core::ground::sink::{EntrySink, OnlyEnds};
use under_seal_core::tasks::open::open;
use under_seal_core::{Error, ErrorClass};

const FILE: u8 = b'0';

fn read(desk: &Desk, name: &str, bytes: &[u8]) -> Result<Archive, ArchiveError> {
    fs::write(desk.path(name), bytes).unwrap();
    desk.with_context(&|| false, |context| {
        let file = recognise(&desk.path(name), context)?.unwrap();
        assert!([&TAR, &COMPRESSED_FILE].contains(&file.format), "{file:?}");
        file.open(Flaws::Refused, context)
    })
}

/// Reads whatever it is as a lone compressed file.
fn read_any(desk: &Desk, name: &str, bytes: &[u8]) -> Result<LoneReader, ArchiveError> {
    fs::write(desk.path(name), bytes).unwrap();
    let file = WrappedFile::look_at(&desk.path(name).into()).unwrap();
    Ok(desk.with_context(&|| false, |context| LoneReader::open(file, context))?)
}

/// Opens an archive; the files that have landed, by name.
fn landed(desk: &Desk, bytes: &[u8]) -> Result<Vec<(String, Vec<u8>)>, Error> {
    let mut archive = read(desk, "a.tar", bytes)?;
    let into = desk.path("inbox");
    desk.with_context(&|| false, |context| open(&mut *archive, into.as_path(), context))?;
    let names = archive
        .entries()
        .unwrap()
        .iter()
        .map(|listed| String::from_utf8(listed.entry.path.as_bytes().to_vec()).unwrap());
    let files = names.filter(|name| into.join(name).is_file());
    Ok(files.map(|name| (name.clone(), fs::read(into.join(name)).unwrap())).collect())
}

fn one(name: &str, content: &[u8]) -> Vec<(String, Vec<u8>)> {
    vec![(name.to_owned(), content.to_vec())]
}

/// An entry as writers have it, and the name under which its content lands.
#[rstest]
#[case::plain(entry("a/letter", FILE, b"lit"), "a/letter")]
#[case::of_old(entry("a/letter", 0, b"lit"), "a/letter")]
#[case::contiguous(entry("letter", b'7', b"lit"), "letter")]
#[case::from_here(entry("./letter", FILE, b"lit"), "letter")]
#[case::with_a_prefix({
    let mut block = entry("letter", FILE, b"lit");
    block[345..350].copy_from_slice(b"a/b/c");
    with_sum(&mut block);
    block
}, "a/b/c/letter")]
#[case::another_writers_have_no_prefix({
    let mut block = entry("letter", FILE, b"lit");
    block[257..265].copy_from_slice(b"ustar  \0");
    block[345..350].copy_from_slice(b"12345");
    with_sum(&mut block);
    block
}, "letter")]
#[case::signed_sum({
    let mut block = header("l\u{e9}tter".as_bytes(), FILE, 3, b"", b"lit");
    block[148..156].copy_from_slice(b"        ");
    let sum: i32 = block[..512].iter().map(|byte| i32::from(byte.cast_signed())).sum();
    block[148..156].copy_from_slice(format!("{sum:06o}\0 ").as_bytes());
    block
}, "l\u{e9}tter")]
#[case::binary_size({
    let mut block = entry("letter", FILE, b"lit");
    block[124..136].copy_from_slice(b"\x80\0\0\0\0\0\0\0\0\0\0\x03");
    with_sum(&mut block);
    block
}, "letter")]
#[case::long_name([entry("././@LongLink", b'L', b"a long name\0"), entry("a long", FILE, b"lit")].concat(), "a long name")]
#[cfg_attr(unix, case::records([records(b'x', &[("path", "Überblick\n2"), ("size", "3")]), header(b"x", FILE, 0, b"", b"lit")].concat(), "Überblick\n2"))]
#[case::global_records([records(b'g', &[("path", "all")]), entry("x", FILE, b"lit")].concat(), "all")]
#[case::own_records_count_more([records(b'g', &[("path", "all")]), records(b'x', &[("path", "own")]), entry("x", FILE, b"lit")].concat(), "own")]
#[case::the_later_counts([entry("a", FILE, b"old"), entry("a", FILE, b"lit")].concat(), "a")]
fn whatever_others_write_is_read(#[case] bytes: Vec<u8>, #[case] name: &str) {
    assert_eq!(landed(&Desk::new(), &archive(&[bytes])).unwrap(), one(name, b"lit"));
}

/// What lands of an archive whose first entry is a file `a`, and how much is refused.
#[rstest]
#[case::outside(&[entry("../evil", FILE, b"x")], &[], 1)]
#[case::absolute(&[entry("/tmp/evil", FILE, b"x")], &[], 1)]
#[case::device(&[entry("tty", b'3', b"")], &[], 1)]
#[case::pipe(&[entry("pipe", b'6', b"")], &[], 1)]
#[case::holes_without_end(&[[records(b'x', &[("GNU.sparse.size", "99999999999999"), ("GNU.sparse.map", "0,1")]), entry("holes", FILE, b"x")].concat()], &[], 1)]
#[case::hard_link(&[link("b", b'1', "a")], &[("b", "one")], 0)]
#[case::hard_links_of_hard_links(&[link("b", b'1', "a"), link("c/d", b'1', "./b")], &[("b", "one"), ("c/d", "one")], 0)]
#[case::hard_link_to_nothing(&[link("b", b'1', "/etc/passwd")], &[], 1)]
#[case::hard_link_to_what_comes_later(&[link("b", b'1', "c"), entry("c", FILE, b"x")], &[("c", "x")], 1)]
#[case::a_link_to_nothing(&[link("nowhere", b'2', "")], &[], 1)]
#[case::through_a_link(&[link("out", b'2', "/tmp"), entry("out/evil", FILE, b"x")], &[], 1)]
fn what_could_do_harm_is_refused_by_name(
    #[case] entries: &[Vec<u8>],
    #[case] lands: &[(&str, &str)],
    #[case] refused: usize,
) {
    let desk = Desk::new();
    let bytes = archive(&[&[entry("a", FILE, b"one")], entries].concat());
    let expected = [("a", "one")].iter().chain(lands);
    let expected: Vec<_> = expected.map(|(name, content)| ((*name).to_owned(), content.as_bytes().to_vec())).collect();
    assert_eq!(landed(&desk, &bytes).unwrap(), expected);
    assert_eq!(read(&desk, "a.tar", &bytes).unwrap().refused().len(), refused);
}

/// Contents that several names share, short and long, come out under each of them, and no more often than is read here.
#[rstest]
#[case::short(1, 3_000, 3_000)]
#[case::long(16 * 1024 * 1024 + 1, 3, 3)]
#[case::very_often(16 * 1024 * 1024 + 1, 64, 63)]
fn a_content_that_names_share_is_read_for_each_of_them(
    #[case] bytes: usize,
    #[case] names: usize,
    #[case] taken: usize,
) {
    let desk = Desk::new();
    let mut entries = vec![entry("a", FILE, &vec![b'x'; bytes]), entry("other", FILE, b"lit")];
    entries.extend((0..names).map(|number| link(&format!("b{number}"), b'1', "a")));
    let archive = read(&desk, "a.tar", &archive(&entries)).unwrap();
    assert_eq!((archive.entries().unwrap().len(), archive.refused().len()), (taken + 2, names - taken));
    if names < 64 || bytes == 1 {
        let mut archive = archive;
        let entries = desk.with_context(&|| false, |context| {
            let mut sizes = Vec::new();
            let mut sink = OnlyEnds::telling(|_, content: &Content| sizes.push(content.size));
            archive.extract(&mut sink, context).unwrap();
            sizes
        });
        assert_eq!(entries.iter().filter(|size| **size == bytes as u64).count(), taken + 1);
    }
}

/// A file of 2,000 bytes with "lit" at 600 and "dark" at its end, in each of the ways in which others store that.
#[rstest]
#[case::of_old(sparse_of_old(&[(600, 3), (1_996, 4)], 2_000, b"litdark"))]
#[case::of_old_in_many_parts({
    // Four parts have room in the header; the others are told in a block behind it.
    let parts: Vec<(u64, u64)> = (0..3).map(|part| (600 + part, 1)).chain((0..4).map(|part| (1_996 + part, 1))).collect();
    sparse_of_old(&parts, 2_000, b"litdark")
})]
#[case::in_records([records(b'x', &[("GNU.sparse.size", "2000"), ("GNU.sparse.numblocks", "2"), ("GNU.sparse.offset", "600"), ("GNU.sparse.numbytes", "3"), ("GNU.sparse.offset", "1996"), ("GNU.sparse.numbytes", "4")]), entry("holes", FILE, b"litdark")].concat())]
#[case::in_one_record([records(b'x', &[("GNU.sparse.name", "holes"), ("GNU.sparse.size", "2000"), ("GNU.sparse.map", "600,3,1996,4")]), entry("GNUSparseFile.0/holes", FILE, b"litdark")].concat())]
#[case::in_front_of_it([records(b'x', &[("GNU.sparse.major", "1"), ("GNU.sparse.minor", "0"), ("GNU.sparse.name", "holes"), ("GNU.sparse.realsize", "2000")]), entry("GNUSparseFile.0/holes", FILE, &in_front("2\n600\n3\n1996\n4\n", b"litdark"))].concat())]
fn holes_are_filled_with_zeros(#[case] bytes: Vec<u8>) {
    let mut whole = vec![0; 2_000];
    whole[600..603].copy_from_slice(b"lit");
    whole[1_996..].copy_from_slice(b"dark");
    let bytes = archive(&[bytes, entry("z", FILE, b"behind it")]);
    let expected = [one("holes", &whole), one("z", b"behind it")].concat();
    let desk = Desk::new();
    assert_eq!(landed(&desk, &bytes).unwrap(), expected);
    let mut archive = read(&desk, "a.tar", &bytes).unwrap();
    let listed = desk.with_context(&|| false, |context| archive.entries_with_digests(context)).unwrap();
    let mut digest = ContentDigest::new(true);
    digest.update(&whole);
    assert_eq!((listed[0].content.digest, listed[0].content.holes), (digest.finish(), 1_993));
}

/// Sees what is content and what is a hole.
#[derive(Default)]
struct Measuring {
    stored: u64,
    holes: u64,
}

impl EntrySink for Measuring {
    fn content(&mut self, bytes: &[u8]) -> Result<(), Cancelled> {
        self.stored += bytes.len() as u64;
        Ok(())
    }

    fn hole(&mut self, bytes: u64) -> Result<(), Cancelled> {
        self.holes += bytes;
        Ok(())
    }
}

/// Bytes of a file with holes, where its content is, and how many second names it has.
#[rstest]
#[case::behind_content("60000000000", "0,3", 0)]
#[case::in_front_of_it("60000000000", "59999999997,3", 0)]
#[case::shared_by_many("16000000", "8000000,3", 4_000)]
fn holes_are_neither_read_nor_written(#[case] bytes: &str, #[case] map: &str, #[case] names: u64) {
    let desk = Desk::new();
    let mut entries = vec![records(b'x', &[("GNU.sparse.size", bytes), ("GNU.sparse.map", map)])];
    entries.push(entry("holes", FILE, b"lit"));
    entries.extend((0..names).map(|number| link(&format!("again{number}"), b'1', "holes")));
    let mut archive = read(&desk, "a.tar", &archive(&entries)).unwrap();
    let mut seen = Measuring::default();
    desk.with_context(&|| false, |context| archive.extract(&mut seen, context)).unwrap();
    let all = (names + 1) * bytes.parse::<u64>().unwrap();
    assert_eq!((seen.stored, seen.holes), ((names + 1) * 3, all - (names + 1) * 3));
    desk.with_context(&|| false, |context| open(&mut *archive, desk.path("inbox").as_path(), context)).unwrap();
    let landed = fs::metadata(desk.path("inbox/holes")).unwrap();
    assert_eq!(landed.len().to_string(), bytes);
    // Windows does not tell how much room a file takes.
    let holes = bytes_in_holes(&landed);
    assert!(cfg!(windows) || landed.len() - holes < 1_000_000, "{holes} bytes in holes");
}

#[test]
fn second_names_of_holes_count_again() {
    let desk = Desk::new();
    // Just within the limit for once.
    let large = records(b'x', &[("GNU.sparse.size", "10000000000000"), ("GNU.sparse.map", "0,3")]);
    let large = [large, entry("holes", FILE, b"lit")].concat();
    let archive = read(&desk, "a.tar", &archive(&[large, link("again", b'1', "holes")])).unwrap();
    let refused: Vec<_> = archive.refused().iter().map(|refused| refused.name.clone()).collect();
    assert_eq!((archive.entries().unwrap().len(), refused), (1, vec![b"again".to_vec()]));
}

/// A header of the old kind with its map.
fn sparse_of_old(parts: &[(u64, u64)], real_size: u64, content: &[u8]) -> Vec<u8> {
    let mut block = header(b"holes", b'S', content.len() as u64, b"", b"");
    block[257..265].copy_from_slice(b"ustar  \0");
    let (first, others) = parts.split_at(parts.len().min(4));
    let digits = |(at, bytes): &(u64, u64)| format!("{at:011o}\0{bytes:011o}\0").into_bytes();
    let put = |into: &mut [u8], parts: &[(u64, u64)]| {
        let text: Vec<u8> = parts.iter().flat_map(digits).collect();
        into[..text.len()].copy_from_slice(&text);
    };
    put(&mut block[386..482], first);
    block[482] = u8::from(!others.is_empty());
    block[483..495].copy_from_slice(format!("{real_size:011o}\0").as_bytes());
    with_sum(&mut block);
    let mut all = block;
    if !others.is_empty() {
        let mut behind = vec![0; 512];
        put(&mut behind, others);
        all.extend(behind);
    }
    all.extend(content);
    all.resize(all.len().next_multiple_of(512), 0);
    all
}

/// A map that fills a block, and the content behind it.
fn in_front(map: &str, content: &[u8]) -> Vec<u8> {
    let mut block = map.as_bytes().to_vec();
    block.resize(512, 0);
    [&block, content].concat()
}

/// What was done to an archive, which is not read then.
#[rstest]
#[case::in_the_middle(|bytes: &mut Vec<u8>| bytes.truncate(600))]
#[case::a_header_changed(|bytes: &mut Vec<u8>| bytes[1024 + 3] ^= 1)]
#[case::a_long_record(|bytes: &mut Vec<u8>| { bytes.splice(1024..1024, header(b"x", b'x', (1 << 33) - 1, b"", b"")); })]
#[case::a_map_beyond_its_file(|bytes: &mut Vec<u8>| { bytes.splice(1024..1024, [records(b'x', &[("GNU.sparse.size", "2"), ("GNU.sparse.map", "1,3")]), entry("holes", FILE, b"lit")].concat()); })]
#[case::a_map_without_end(|bytes: &mut Vec<u8>| { bytes.splice(1024..1024, [records(b'x', &[("GNU.sparse.major", "1"), ("GNU.sparse.realsize", "9")]), entry("holes", FILE, b"3\n1\n1\n")].concat()); })]
#[case::a_malformed_record(|bytes: &mut Vec<u8>| { bytes.splice(1024..1024, entry("x", b'x', b"99 path=a\n")); })]
#[case::more_than_there_is(|bytes: &mut Vec<u8>| { bytes.splice(1024..1024, header(b"x", FILE, (1 << 33) - 1, b"", b"x")); })]
fn what_is_damaged_is_told(#[case] damage: fn(&mut Vec<u8>)) {
    let desk = Desk::new();
    let mut bytes = archive(&[entry("a", FILE, b"one"), entry("b", FILE, b"two")]);
    damage(&mut bytes);
    assert_eq!(landed(&desk, &bytes).unwrap_err().class(), ErrorClass::Damaged);
    assert!(!desk.path("inbox").exists());
}

/// Some writers leave out the mark of the end: all of it is read, and that is told.
#[test]
fn an_archive_without_its_end_is_read_and_told() {
    let desk = Desk::new();
    let entries = [entry("a", FILE, b"one"), entry("b", FILE, b"two")].concat();
    assert_eq!(landed(&desk, &entries).unwrap().len(), 2);
    assert!(read(&desk, "a.tar", &entries).unwrap().facts().may_lack_the_end);
    assert!(!read(&desk, "a.tar", &archive(&[entries])).unwrap().facts().may_lack_the_end);
}

/// What a writer of each kind makes of bytes.
fn compressed(kind: &str, bytes: &[u8]) -> Vec<u8> {
    match kind {
        "gz" => {
            let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
            encoder.write_all(bytes).unwrap();
            encoder.finish().unwrap()
        }
        "zst" => zstd::encode_all(bytes, 3).unwrap(),
        "xz" => {
            let mut encoder = liblzma::write::XzEncoder::new(Vec::new(), 6);
            encoder.write_all(bytes).unwrap();
            encoder.finish().unwrap()
        }
        _ => {
            let mut encoder = bzip2::write::BzEncoder::new(Vec::new(), bzip2::Compression::default());
            encoder.write_all(bytes).unwrap();
            encoder.finish().unwrap()
        }
    }
}

#[rstest]
fn what_it_is_compressed_with_is_recognised(#[values("gz", "zst", "xz", "bz2")] kind: &str) {
    let desk = Desk::new();
    let content = noise(50_000);
    let bytes = archive(&[entry("a", FILE, &content)]);
    assert_eq!(landed(&desk, &compressed(kind, &bytes)).unwrap(), one("a", &content));
    // Several members one after the other are read through.
    let parts = [compressed(kind, &bytes[..20_000]), compressed(kind, &bytes[20_000..])].concat();
    fs::remove_dir_all(desk.path("inbox")).unwrap();
    assert_eq!(landed(&desk, &parts).unwrap(), one("a", &content));
    // Cut short, or changed, it is told.
    let whole = compressed(kind, &bytes);
    assert!(read(&desk, "cut", &whole[..whole.len() - 900]).is_err());
    // A lone compressed file is one entry, under its own name.
    let mut lone = read(&desk, &format!("letter.txt.{kind}"), &compressed(kind, b"lit")).unwrap();
    let into = desk.path("lone");
    desk.with_context(&|| false, |context| open(&mut *lone, into.as_path(), context)).unwrap();
    assert_eq!(fs::read(into.join("letter.txt")).unwrap(), b"lit");
}

/// A stream that asks for more memory than is given is refused, however little is in it.
#[test]
fn no_decompressor_gets_more_memory_than_its_limit() {
    let desk = Desk::new();
    let bytes = archive(&[entry("a", FILE, &noise(2_000))]);
    let mut encoder = zstd::stream::write::Encoder::new(Vec::new(), 3).unwrap();
    encoder.set_parameter(zstd::zstd_safe::CParameter::WindowLog(30)).unwrap();
    encoder.set_parameter(zstd::zstd_safe::CParameter::ContentSizeFlag(false)).unwrap();
    encoder.write_all(&bytes).unwrap();
    let greedy = encoder.finish().unwrap();
    assert!(read_any(&desk, "greedy", &greedy).is_err());
}

/// What a file is, by what is in it.
#[rstest]
#[case::tar(archive(&[entry("a", FILE, b"1")]), Some(&TAR))]
#[case::compressed_tar(compressed("gz", &archive(&[entry("a", FILE, b"1")])), Some(&TAR))]
#[case::compressed_text(compressed("xz", b"lit"), Some(&COMPRESSED_FILE))]
#[case::zip(crate::support::zip::archive(&[crate::support::zip::entry("a", b"1")], b"", b"").bytes, Some(&ZIP))]
#[case::an_empty_zip(crate::support::zip::archive(&[], b"", b"").bytes, Some(&ZIP))]
#[case::text(b"The lamp is lit.".to_vec(), None)]
#[case::nothing(Vec::new(), None)]
#[case::zeros(vec![0; 10_240], None)]
fn files_are_known_by_their_content(#[case] bytes: Vec<u8>, #[case] expected: Option<&'static Format>) {
    let desk = Desk::new();
    fs::write(desk.path("letter.doc"), bytes).unwrap();
    let found = desk.with_context(&|| false, |context| recognise(&desk.path("letter.doc"), context));
    assert_eq!(found.unwrap().map(|file| file.format), expected);
}

#[test]
fn folders_get_their_modes_though_what_is_in_them_came_first() {
    let desk = Desk::new();
    let mut folder = entry("a/", b'5', b"");
    folder[100..108].copy_from_slice(b"0000750\0");
    with_sum(&mut folder);
    landed(&desk, &archive(&[entry("a/b", FILE, b"1"), folder, entry("c/d", FILE, b"1")])).unwrap();
    let has = |name: &str, mode| has_mode(desk.path("inbox").join(name), mode);
    assert_eq!([has("a", 0o750), has("a/b", 0o640), has("c", 0o755)], [true; 3]);
}

/// The standard library of another language writes them; where it is not at hand, this is skipped.
#[rstest]
fn what_another_language_writes_is_read(#[values("PAX", "GNU", "USTAR")] format: &str) {
    let desk = Desk::new();
    let long = "n".repeat(90);
    desk.source(&format!("letters/{long}/Überblick.txt"), b"lit")
        .source("plans/noise", &noise(100_000))
        .source("empty", b"");
    symlink("plans/noise", desk.path("source/link"));
    let script = format!(
        "import tarfile\nwith tarfile.open('a.tar.gz', 'w:gz', format=tarfile.{format}_FORMAT) as t:\n    t.add('source')\nprint('done')"
    );
    let Ok(ran) = Command::new("python3").args(["-c", &script]).current_dir(desk.place.path()).output() else {
        assert!(std::env::var_os("CI").is_none(), "the tests of CI need Python 3");
        eprintln!("Python 3 is not here; what it writes was not read.");
        return;
    };
    assert_eq!(String::from_utf8_lossy(&ran.stdout), "done\n", "{}", String::from_utf8_lossy(&ran.stderr));
    landed(&desk, &fs::read(desk.path("a.tar.gz")).unwrap()).unwrap();
    let coarse = |root: &str| {
        // The other language counts time in floating point, or in whole seconds.
        let whole = |features: String| {
            let (front, rest) = features.split_once('.').unwrap();
            format!("{front} {}", rest.split_once(' ').unwrap().1)
        };
        tree(&desk.path(root)).into_iter().map(|(path, features)| (path, whole(features))).collect::<Vec<_>>()
    };
    assert_eq!(coarse("inbox/source"), coarse("source"));
}

/// A long path whose front stands where another writer has times, and such times, under that writer's magic.
#[rstest]
#[case::a_path(b"plans/of/the/tower", "plans/of/the/tower/lamp.svg")]
#[case::times(b"14302056200\x0014302056200", "lamp.svg")]
fn a_prefix_is_a_path_where_it_looks_like_one(#[case] prefix: &[u8], #[case] expected: &str) {
    let desk = Desk::new();
    let mut block = entry("lamp.svg", FILE, b"lit");
    block[257..265].copy_from_slice(b"ustar  \0");
    block[345..345 + prefix.len()].copy_from_slice(prefix);
    with_sum(&mut block[..512]);
    let archive = read(&desk, "a.tar", &archive(&[block])).unwrap();
    assert_eq!(archive.entries().unwrap().last().unwrap().entry.path.as_bytes(), expected.as_bytes());
}
