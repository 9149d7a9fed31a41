//! Volumes in pages: read like any volume, in both forms, and no page's claim is believed further than the file holds it.

use crate::support::{Desk, gather, noise, tree};
use proptest::prelude::*;
use rstest::rstest;
use std::fs;
use std::path::{Path, PathBuf};
use under_seal_core::formats::registry::PAGE as IN_PAGE;
use under_seal_core::formats::sealed::volume::in_page::{ELEMENT_BYTES, Form, InPage, VolumeBytes};
use under_seal_core::formats::sealed::volume::{GatherError, HeaderError};
use under_seal_core::tasks::check::inspect;
use under_seal_core::tasks::pack::{PackError, WayError};
use under_seal_core::tasks::page::{PAGE, pages_of};

/// A page as short as can be.
const SHORT: &[u8] = b"<!DOCTYPE html>\n<title>A page</title>\n";

fn page_with(volume: &[u8], form: Form) -> Vec<u8> {
    let inside = InPage::behind(SHORT, form, volume.len() as u64);
    let mut page = inside.opening(SHORT);
    match form {
        Form::Raw => page.extend_from_slice(volume),
        Form::Base64 => volume.chunks(ELEMENT_BYTES).for_each(|bytes| page.extend(InPage::element(bytes).into_bytes())),
    }
    assert_eq!(page.len() as u64, inside.file_bytes());
    page
}

fn opened(path: &Path) -> VolumeBytes {
    VolumeBytes::open(&path.into()).unwrap()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Any stretch of it, across elements too, and of a page that was cut short as much as is there.
    #[test]
    fn any_stretch_is_read_from_a_page(
        raw in any::<bool>(),
        length in prop_oneof![0..100_usize, ELEMENT_BYTES - 2..ELEMENT_BYTES + 3],
        from in 0.0..1.1_f64,
        wanted in 0..200_000_usize,
        cut in 0..300_000_usize,
    ) {
        let desk = Desk::new();
        let volume = noise(length);
        let page = page_with(&volume, if raw { Form::Raw } else { Form::Base64 });
        let path = desk.path("page.html");
        fs::write(&path, &page).unwrap();
        prop_assert!(opened(&path).is_in(SHORT).unwrap());
        prop_assert_eq!(opened(&path).length, length as u64);
        let from = (length as f64 * from) as usize;
        let mut buffer = vec![0; wanted];
        let read = opened(&path).read_up_to(&mut buffer, from as u64).unwrap();
        let expected = &volume[from.min(length)..(from + wanted).min(length)];
        prop_assert!(&buffer[..read] == expected);
        fs::write(&path, &page[..page.len().saturating_sub(cut)]).unwrap();
        let held = opened(&path);
        if let Ok(read) = held.read_up_to(&mut buffer, from as u64) {
            prop_assert!(expected.starts_with(&buffer[..read]));
            prop_assert!(held.in_page.is_none() || read == wanted.min((held.length as usize).saturating_sub(from)));
        }
    }
}

/// A volume that was packed, in a page of each form under a name that says nothing.
fn packed_in(form: Form) -> (Desk, PathBuf) {
    let desk = Desk::new();
    desk.source("käse und brot/noise", &noise(300_000)).source("empty", b"");
    let volume = desk.pack("").remove(0);
    let page = page_with(&fs::read(&volume).unwrap(), form);
    fs::remove_file(volume).unwrap();
    let path = desk.path("out/attachment.bin");
    fs::write(&path, page).unwrap();
    (desk, path)
}

#[rstest]
#[case(Form::Raw)]
#[case(Form::Base64)]
fn an_archive_in_a_page_is_opened_like_any(#[case] form: Form) {
    let (desk, _) = packed_in(form);
    desk.open(&[desk.path("out")], &desk.path("opened")).unwrap();
    assert_eq!(tree(&desk.path("opened/source")), tree(&desk.path("source")));
}

/// Every changed byte of the volume is found; of those around it, what a browser shows is another page then, or none at all. That
/// more is claimed to be there than is does no harm.
#[rstest]
#[case(Form::Raw)]
#[case(Form::Base64)]
fn every_changed_byte_shows(#[case] form: Form) {
    let (desk, path) = packed_in(form);
    let page = fs::read(&path).unwrap();
    let end = page.len();
    let claimed_length = 61..77;
    let around = (0..140).chain(end - 12..end).filter(|place| !claimed_length.contains(place));
    for place in around.chain((0..30).map(|step| 140 + step * (end - 152) / 30)) {
        let mut changed = page.clone();
        changed[place] ^= 4;
        fs::write(&path, changed).unwrap();
        let found = gather(std::slice::from_ref(&path)).ok().filter(|set| {
            let report = desk.with_context(&|| false, |context| inspect(set, context)).unwrap();
            let is_intact = report.volumes.iter().flat_map(|volume| &volume.files).all(|file| file.is_intact());
            report.is_complete() && is_intact
        });
        let is_own = found.is_some() && opened(&path).is_in(SHORT).unwrap();
        assert!(!is_own, "byte {place} of {end}");
    }
}

/// What stands in the second line is only a claim.
#[rstest]
#[case::beyond_the_end("b64 ffffffffffffffff ffffffffffffffff", HeaderError::Damaged)]
#[case::raw_beyond_the_end("raw ffffffffffffffff 0000000000001000", HeaderError::Damaged)]
#[case::longer_than_the_file("raw 0000000000000063 ffffffffffffffff", HeaderError::Damaged)]
#[case::in_itself("raw 0000000000000000 0000000000001000", HeaderError::NotAVolume)]
#[case::capitals("raw 000000000000006A 0000000000001000", HeaderError::NotAVolume)]
#[case::signed("raw +00000000000006a 0000000000001000", HeaderError::NotAVolume)]
#[case::another_form("b32 000000000000006a 0000000000001000", HeaderError::NotAVolume)]
fn a_claim_is_believed_no_further_than_the_file_holds_it(#[case] line: &str, #[case] expected: HeaderError) {
    let desk = Desk::new();
    let path = desk.path("page.html");
    let page = format!("<!DOCTYPE html>\n<!--under-seal-volume 1 {line}-->\n{}", "<p>not a volume</p>\n".repeat(400));
    fs::write(&path, page).unwrap();
    let gathered = gather(&[path]);
    assert!(matches!(gathered, Err(GatherError::Unusable { why, .. }) if why == expected), "{gathered:?}");
}

#[test]
fn a_page_that_was_moved_as_text_is_told() {
    let (_desk, path) = packed_in(Form::Base64);
    let text = String::from_utf8(fs::read(&path).unwrap()).unwrap();
    fs::write(&path, text.replace('\n', "\r\n")).unwrap();
    let gathered = gather(&[path]);
    assert!(matches!(gathered, Err(GatherError::Unusable { why: HeaderError::MovedAsText, .. })), "{gathered:?}");
}

/// Packed as a page it is one file, around which stands this program's page; an old one is replaced, and nothing else is.
#[test]
fn packing_writes_this_programs_page() {
    let mut desk = Desk::new();
    desk.format = &IN_PAGE;
    desk.source("a", b"one");
    assert_eq!(desk.pack(""), [desk.path("out/set.html")]);
    let set = gather(&[desk.path("out")]).unwrap();
    assert_eq!(pages_of(&set).unwrap(), [(desk.path("out/set.html"), true)]);
    assert!(matches!(desk.pack_replacing("", false), Err(PackError::Way(WayError::Taken { .. }))));
    desk.source("b", b"two");
    assert_eq!(desk.pack_replacing("", true).unwrap().replaced.len(), 1);
    assert_eq!(desk.open(&[desk.path("out")], &desk.path("opened")).unwrap().landed.files, 2);
    assert!(matches!(desk.pack_replacing("100KB", true), Err(PackError::Lacks(_))));
    let mut changed = fs::read(desk.path("out/set.html")).unwrap();
    changed[PAGE.len() / 2] ^= 1;
    fs::write(desk.path("out/set.html"), &changed).unwrap();
    assert_eq!(pages_of(&set).unwrap(), [(desk.path("out/set.html"), false)]);
    fs::write(desk.path("out/set.html"), "<!DOCTYPE html>\n<p>Somebody's own.</p>\n").unwrap();
    assert!(matches!(desk.pack_replacing("", true), Err(PackError::Way(WayError::SomethingElse(_)))));
}
