//! The seeds of the fuzz targets (parts of real archives, and whatever a target once stumbled on) pass as ordinary
//! tests; and what real archives are made of is among them.

#[path = "../../../../../fuzz/src/lib.rs"]
mod parts;
use crate::support::iso::{self, Disc, file, folder};
use crate::support::zip::{Behind, Lock, Made};
use crate::support::{Desk, PASSWORD, cpio, gather, tar, zip};
use rstest::rstest;
use std::fs;
use std::path::{Path, PathBuf};
use under_seal_core::codecs::block::{Decompressor, Squeeze};
use under_seal_core::formats::sealed::CostLimit;
use under_seal_core::formats::sealed::cells::CellSeal;
use under_seal_core::formats::sealed::frame::{FRAME_HEADER_BYTES, FrameHeader, FrameKind};
use under_seal_core::formats::sealed::head::open_head;
use under_seal_core::formats::sealed::stream::StreamReader;
use under_seal_core::formats::sealed::volume::supplement::{Run, encode_page};
use under_seal_core::formats::sealed::volume::{CellReader, Ids, SpareWish, VolumeSet};
use under_seal_core::ground::codes::decode;
use under_seal_core::ground::secrets::Password;

fn seeds(target: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/seeds").join(target)
}

#[rstest]
#[case("header", parts::header)]
#[case("head", parts::head)]
#[case("frames", parts::frames)]
#[case("records", parts::records)]
#[case("index", parts::index)]
#[case("codes", parts::codes)]
#[case("supplement", parts::supplement)]
#[case("spares", parts::spares)]
#[case("zip", parts::zip)]
#[case("tar", parts::tar)]
#[case("cpio", parts::cpio)]
#[case("iso", parts::iso)]
fn every_seed_is_taken_or_refused_in_good_order(#[case] target: &str, #[case] parse: fn(&[u8])) {
    let mut count = 0;
    for seed in fs::read_dir(seeds(target)).unwrap() {
        let bytes = fs::read(seed.unwrap().path()).unwrap();
        parse(&bytes);
        // And with every byte of its beginning changed in turn.
        for at in 0..bytes.len().min(200) {
            let mut changed = bytes.clone();
            changed[at] ^= 0xFF;
            parse(&changed);
        }
        count += 1;
    }
    assert!(count > 0, "no seeds for {target}");
}

/// Archives with one of each kind of entry.
fn make_seeds_of_open_formats(put: impl Fn(&str, &str, &[u8])) {
    let (mut stored, mut wide, mut locked) =
        (zip::entry("a/b", b"lit"), zip::entry("c", b"lit"), zip::entry("d", b"lit"));
    (stored.method, stored.behind, wide.wide, locked.lock) = (0, Behind::Signed, true, Lock::Aes(2, 3));
    let mut link = zip::entry("e", b"c");
    link.mode = Some(0o120_777);
    let inside = zip::archive(&[zip::entry("a", b"lit")], b"", b"").bytes;
    put("zip", "cover", &zip::archive(&[zip::cover(&inside)], b"lamp", b"").bytes);
    put("zip", "one of each", &zip::archive(&[stored, wide, locked, link], b"lamp", b"from the keeper").bytes);
    put(
        "zip",
        "under the old cipher",
        &zip::archive(&[Made { lock: Lock::Old, ..zip::entry("a", b"lit") }], b"lamp", b"").bytes,
    );
    let entries = [
        tar::records(b'g', &[("mtime", "-1.5")]),
        tar::records(b'x', &[("path", "Überblick"), ("size", "3")]),
        tar::header(b"x", b'0', 0, b"", b"lit"),
        tar::entry("././@LongLink", b'L', b"a long name\0"),
        tar::entry("a long", b'0', b"lit"),
        tar::link("second", b'1', "a long name"),
        tar::link("link", b'2', "second"),
        tar::entry("folder/", b'5', b""),
        tar::records(b'x', &[("GNU.sparse.major", "1"), ("GNU.sparse.realsize", "9")]),
        tar::entry("holes", b'0', &[&b"1\n3\n3\n"[..], &[0; 505], b"lit"].concat()),
        tar::records(b'x', &[("GNU.sparse.size", "9"), ("GNU.sparse.map", "1,3")]),
        tar::entry("holes too", b'0', b"lit"),
    ];
    put("tar", "one of each", &tar::archive(&entries));
    for form in [cpio::Form::Portable, cpio::Form::NewWithSums] {
        let several = |name, content| cpio::Entry { links: 2, number: 7, ..cpio::entry(name, 0o100_640, content) };
        let link = cpio::entry("link", 0o120_777, b"lamp");
        let entries = [cpio::entry("plans", 0o040_750, b""), several("plans/a", b""), several("b", b"lit"), link];
        put("cpio", &format!("{form:?}"), &form.archive(&entries));
    }
    let named = file("A;1", b"lit").using(&[iso::named("the lamp"), iso::mode(0o100_640)]);
    let link = file("B", b"").using(&[iso::mode(0o120_777), iso::field(b"SL", b"\0\x04\0\0\x01c")]);
    let ridged = Disc {
        joliet: Some(vec![file("Ü", b"lit").wide()]),
        ..Disc::with_rock_ridge(vec![folder("C", vec![named, link])])
    };
    put("iso", "with Rock Ridge and Joliet", &ridged.bytes()[16 * iso::SECTOR..]);
    let plain = Disc {
        root: vec![folder("C", vec![file("A.TXT;1", b"lit")])],
        joliet: Some(vec![file("Ü", b"lit").wide()]),
        ..Disc::default()
    };
    put("iso", "with Joliet", &plain.bytes()[16 * iso::SECTOR..]);
    put("tar", "compressed", &zstd::encode_all(&tar::archive(&entries)[..], 3).unwrap());
}

/// Takes a real archive apart into seeds. Run by hand where the format changes.
#[test]
#[ignore = "writes fuzz/seeds anew"]
fn make_seeds() {
    let put = |target: &str, name: &str, bytes: &[u8]| {
        fs::create_dir_all(seeds(target)).unwrap();
        fs::write(seeds(target).join(name), bytes).unwrap();
    };
    let desk = Desk { spares: SpareWish::Count(1), ..Desk::new() };
    desk.source("letters/to the board.txt", &b"The lamp is lit. ".repeat(40)).source("plans/empty.svg", b"");
    crate::support::system::symlink("letters", desk.path("source/link"));
    let volumes = desk.pack("");
    let bytes = fs::read(&volumes[0]).unwrap();
    put("header", "volume", &bytes[..4_096]);
    put("header", "spare volume", &fs::read(desk.path("out/set-spare1of1.useal")).unwrap()[..4_096]);
    put("head", "volume", &bytes[128..4_064]);
    put("head", "extension", &[6, 0, 0, 0, 7, 0, 2, 0, 1, 2]);
    let set = gather(&volumes).unwrap();
    let runs = [Run { first: 3, count: 2 }, Run { first: 9, count: 1 }];
    put("supplement", "page", &encode_page(&Ids { set: [1; 16], cut: [2; 16] }, &runs));
    put("spares", "two of five are lost", b"\x04\x12\x07\x01The lamp is lit.");
    put("spares", "nothing is lost", b"\x04\0\x07\x02The lamp is lit.");
    put("codes", "slip", b"AD576-6RMD3-0480N-6000J");
    put("codes", "receipt", b"A957T-6RRHK-AXESQ-GWV4K");
    put("codes", "what a slip carries", &decode("AD576-6RMD3-0480N-6000J").unwrap());
    make_seeds_of_open_formats(put);
    put_frames("frame", set, put);
    let desk = Desk { squeeze: Squeeze::Hard, ..Desk::new() };
    let steps: String = (0..400).map(|step| format!("step {} of {step}\n", step * step % 977)).collect();
    desk.source("letters/to the board.txt", steps.as_bytes());
    put_frames("slow", gather(&desk.pack("")).unwrap(), put);
}

/// The frames of a set, and what is in them.
fn put_frames(name: &str, set: VolumeSet, put: impl Fn(&str, &str, &[u8])) {
    let key =
        open_head(&set.head, &set.bound(), &Password::new(PASSWORD).unwrap().into(), CostLimit::Bearable).unwrap();
    let seal = CellSeal::new(&key, &set.bound()).unwrap();
    let mut stream = StreamReader::new(seal, CellReader::new(set));
    let inner_bytes = stream.tail().unwrap().inner_bytes as usize;
    let mut inner = Vec::new();
    stream.read(0, inner_bytes, &mut inner).unwrap();
    let (mut at, mut number) = (0, 0);
    while at < inner.len() {
        let header = FrameHeader::decode(&inner[at..at + FRAME_HEADER_BYTES]).unwrap();
        let end = at + FRAME_HEADER_BYTES + header.stored_bytes as usize;
        put("frames", &format!("{name}-{number}"), &inner[at..end]);
        let mut raw = Vec::new();
        let stored = &inner[at + FRAME_HEADER_BYTES..end];
        Decompressor::new().unwrap().decompress(header.codec, stored, header.raw_bytes as usize, &mut raw).unwrap();
        match header.kind {
            FrameKind::Content => put("records", &format!("{name}-{number}"), &raw),
            _ => put("index", &format!("{name}-{number}"), &raw),
        }
        (at, number) = (end, number + 1);
    }
}
