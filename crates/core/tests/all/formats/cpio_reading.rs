//! Cpio archives, which others write: what is read in each form, and what is refused.

use crate::support::cpio::{Entry, Form, MODIFIED, entry};
use crate::support::system::{has_mode, links};
use crate::support::{Desk, noise};
use rstest::rstest;
use std::collections::BTreeMap;
use std::fs;
use std::path::PathBuf;
use under_seal_core::ErrorClass;
use under_seal_core::disk::modified_of;
use under_seal_core::formats::archive::{Archive, recognise};
use under_seal_core::formats::error::ArchiveError;
use under_seal_core::formats::reader::Flaws;
use under_seal_core::formats::registry::CPIO;
use under_seal_core::ground::entry::EntryKind;
use under_seal_core::tasks::open::open;

const FILE: u32 = 0o100_640;
const FOLDER: u32 = 0o040_750;
const LINK: u32 = 0o120_777;

fn read(desk: &Desk, bytes: &[u8], flaws: Flaws) -> Result<Archive, ArchiveError> {
    fs::write(desk.path("a.cpio"), bytes).unwrap();
    desk.with_context(&|| false, |context| {
        let file = recognise(&desk.path("a.cpio"), context)?.unwrap();
        assert_eq!(file.format, &CPIO);
        file.open(flaws, context)
    })
}

/// Opens an archive; the contents that have landed, by name.
fn landed(desk: &Desk, archive: &mut Archive) -> BTreeMap<String, Vec<u8>> {
    let into = desk.path("inbox");
    desk.with_context(&|| false, |context| open(&mut **archive, into.as_path(), context)).unwrap();
    let files = archive.entries().unwrap().iter().filter(|listed| listed.entry.kind == EntryKind::File);
    let path = |bytes: &[u8]| PathBuf::from(String::from_utf8(bytes.to_vec()).unwrap());
    let files = files.map(|listed| path(listed.entry.path.as_bytes()));
    files.map(|file| (file.display().to_string(), fs::read(into.join(file)).unwrap())).collect()
}

fn contents(expected: &[(&str, &[u8])]) -> BTreeMap<String, Vec<u8>> {
    expected.iter().map(|(name, content)| ((*name).to_owned(), content.to_vec())).collect()
}

#[rstest]
fn every_form_is_read_in_every_compression(
    #[values(Form::Portable, Form::New, Form::NewWithSums)] form: Form,
    #[values(false, true)] compressed: bool,
) {
    let desk = Desk::new();
    let survey = noise(300_001);
    let mut bytes = form.archive(&[
        entry(".", FOLDER, b""),
        entry("plans", FOLDER, b""),
        entry("plans/Überblick 1.txt", FILE, b"lit"),
        entry("plans/lamp", LINK, "Überblick 1.txt".as_bytes()),
        entry("nothing", FILE, b""),
        entry("survey", 0o100_755, &survey),
    ]);
    if compressed {
        bytes = zstd::encode_all(&bytes[..], 3).unwrap();
    }
    let mut archive = read(&desk, &bytes, Flaws::Refused).unwrap();
    assert!(!archive.facts().may_lack_the_end);
    let expected: &[(&str, &[u8])] = &[("plans/Überblick 1.txt", b"lit"), ("nothing", b""), ("survey", &survey)];
    assert_eq!(landed(&desk, &mut archive), contents(expected));
    if links(1) == 1 {
        assert_eq!(fs::read_link(desk.path("inbox/plans/lamp")).unwrap(), PathBuf::from("Überblick 1.txt"));
    }
    for (name, mode) in [("plans", 0o750), ("plans/Überblick 1.txt", 0o640), ("survey", 0o755)] {
        let path = desk.path("inbox").join(name);
        let modified = modified_of(&fs::metadata(&path).unwrap());
        assert_eq!((has_mode(&path, mode), modified.seconds), (true, i64::from(MODIFIED)), "{name}");
    }
}

/// A name of several that a file has.
fn one_of_several<'a>(name: &'a str, content: &'a [u8], number: u32) -> Entry<'a> {
    Entry { links: 2, number, ..entry(name, FILE, content) }
}

/// The content of a file with several names is with the last of them, with the first, or with each.
#[rstest]
#[case::last(b"", b"lit")]
#[case::first(b"lit", b"")]
#[case::each(b"lit", b"lit")]
fn every_name_of_a_file_has_its_content(#[case] first: &[u8], #[case] last: &[u8]) {
    let desk = Desk::new();
    let entries = [
        one_of_several("a", first, 7),
        one_of_several("b", last, 7),
        one_of_several("other", b"", 8),
        entry("alone", FILE, b""),
    ];
    let mut archive = read(&desk, &Form::New.archive(&entries), Flaws::Refused).unwrap();
    let expected: &[(&str, &[u8])] = &[("a", b"lit"), ("b", b"lit"), ("other", b""), ("alone", b"")];
    assert_eq!(landed(&desk, &mut archive), contents(expected));
}

/// Second names cost an archive nothing: no more of them are read than come to a stated multiple of what is stored.
#[test]
fn names_without_content_do_not_come_to_more_than_is_read_here() {
    let desk = Desk::new();
    let large = vec![b'x'; 16 * 1024 * 1024 + 1];
    let names: Vec<String> = (0..70).map(|number| format!("b{number}")).collect();
    let mut entries: Vec<_> = names.iter().map(|name| one_of_several(name, b"", 7)).collect();
    entries.push(one_of_several("large", &large, 7));
    let archive = read(&desk, &Form::Portable.archive(&entries), Flaws::Refused).unwrap();
    assert_eq!((archive.entries().unwrap().len(), archive.refused().len()), (64, 7));
}

#[rstest]
#[case::outside(entry("../evil", FILE, b"x"))]
#[case::absolute(entry("/tmp/evil", FILE, b"x"))]
#[case::device(entry("tty", 0o020_666, b""))]
#[case::pipe(entry("pipe", 0o010_666, b"x"))]
#[case::inside_a_link(entry("a/b", FILE, b"x"))]
#[case::a_link_to_nothing(entry("nowhere", LINK, b""))]
#[case::a_long_link(entry("far", LINK, &[b'x'; 10_000]))]
#[case::nothing(entry("", FILE, b"x"))]
fn what_could_do_harm_is_refused_by_name(#[case] harm: Entry<'_>, #[values(Form::Portable, Form::New)] form: Form) {
    let desk = Desk::new();
    let bytes = form.archive(&[entry("a", LINK, b"b"), harm, entry("b", FILE, b"lit")]);
    let mut archive = read(&desk, &bytes, Flaws::Refused).unwrap();
    let refused: Vec<_> = archive.refused().iter().map(|refused| refused.name.clone()).collect();
    assert_eq!(refused, [harm.name.as_bytes()]);
    assert_eq!(landed(&desk, &mut archive), contents(&[("b", b"lit")]));
}

/// What was done to an archive, which is not read then; but what stands before that, if that will do.
#[rstest]
#[case::a_digit(|bytes: &mut Vec<u8>, second| bytes[second + 60] = b'x')]
#[case::the_magic(|bytes: &mut Vec<u8>, second| bytes[second] = b'1')]
#[case::a_long_name(|bytes: &mut Vec<u8>, second| bytes[second + 94..second + 102].copy_from_slice(b"00ffffff"))]
#[case::no_name(|bytes: &mut Vec<u8>, second| bytes[second + 94..second + 102].copy_from_slice(b"00000000"))]
#[case::a_name_without_end(|bytes: &mut Vec<u8>, second| bytes[second + 111] = b'x')]
#[case::more_than_there_is(|bytes: &mut Vec<u8>, second| bytes[second + 54..second + 62].copy_from_slice(b"ffffffff"))]
#[case::a_changed_content(|bytes: &mut Vec<u8>, second| bytes[second + 112] ^= 1)]
#[case::in_a_header(|bytes: &mut Vec<u8>, second| bytes.truncate(second + 50))]
#[case::in_a_content(|bytes: &mut Vec<u8>, second| bytes.truncate(second + 114))]
fn what_is_damaged_is_told(#[case] damage: fn(&mut Vec<u8>, usize)) {
    let desk = Desk::new();
    let first = Form::NewWithSums.write(&entry("a", FILE, b"lit")).len();
    let mut bytes = Form::NewWithSums.archive(&[entry("a", FILE, b"lit"), entry("b", FILE, b"dark")]);
    damage(&mut bytes, first);
    let refused = read(&desk, &bytes, Flaws::Refused).err().unwrap();
    assert_eq!(under_seal_core::Error::from(refused).class(), ErrorClass::Damaged);
    let mut before = read(&desk, &bytes, Flaws::ReadBefore).unwrap();
    assert!(before.facts().has_flaw);
    assert_eq!(landed(&desk, &mut before), contents(&[("a", b"lit")]));
}

#[rstest]
fn an_archive_without_its_end_is_read_and_told(#[values(Form::Portable, Form::New)] form: Form) {
    let desk = Desk::new();
    let bytes = form.without_end(&[entry("a", FILE, b"lit"), entry("b", FILE, b"dark")]);
    let archive = read(&desk, &bytes, Flaws::Refused).unwrap();
    assert_eq!((archive.entries().unwrap().len(), archive.facts().may_lack_the_end), (2, true));
}
