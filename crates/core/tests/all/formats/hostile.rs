//! Archives sealed with the right key by somebody who means harm, or with a broken program: every lie has a named
//! refusal, nothing wrong lands, nothing panics.

use crate::support::draft::{CONTENT, Draft, entry};
use crate::support::lies::{LIES, LIES_PASSED_OVER};
use crate::support::system::has_mode;
use crate::support::{Desk, PASSWORD, gather, tree};
use std::fs;
use std::path::PathBuf;
use under_seal_core::ErrorClass::Damaged;
use under_seal_core::codecs::block::Codec;
use under_seal_core::disk::Folder;
use under_seal_core::disk::staging::{StagingError, settle};
use under_seal_core::formats::sealed::record::put_entry;
use under_seal_core::formats::sealed::{CostLimit, SealedReader, unlock};
use under_seal_core::ground::entry::{Content, Entry, EntryKind, EntryPath};
use under_seal_core::ground::secrets::Password;
use under_seal_core::tasks::check::verify_contents;
use under_seal_core::tasks::receipt::Receipt;

/// Every lie has a named refusal, nothing wrong lands, nothing panics.
#[test]
fn a_lie_under_the_seal_is_refused_by_name() {
    for (name, lie, expected) in LIES.iter().chain(LIES_PASSED_OVER) {
        let desk = Desk::new();
        let mut draft = Draft::honest();
        lie(&mut draft);
        let path = draft.seal(&desk);
        let opened = desk.open(&[path], &desk.path("inbox/deep"));
        assert_eq!(opened.as_ref().err().map(|error| error.class()), *expected, "{name}: {opened:?}");
        let landed = fs::read(desk.path("inbox/deep/home/a")).ok();
        assert!(landed.is_none_or(|bytes| bytes == CONTENT), "{name}: something wrong landed");
        let outside: Vec<_> =
            fs::read_dir(desk.place.path()).unwrap().map(|entry| entry.unwrap().file_name()).collect();
        assert!(outside.iter().all(|name| name == "out" || name == "inbox"), "{name}: {outside:?}");
        if desk.path("inbox").exists() {
            let landed = tree(&desk.path("inbox"));
            assert!(landed.keys().all(|path| !path.to_string_lossy().contains(".arriving")), "{name}: {landed:?}");
        }
        let beside = fs::read_dir(desk.path("inbox")).map(Iterator::count).unwrap_or(0);
        assert!(beside <= 1, "{name}: something landed outside the destination");
    }
}

/// A few bytes can claim holes of any length, in many files: reading them takes no longer for that.
#[test]
fn a_hole_takes_no_work_however_long_it_is() {
    let desk = Desk::new();
    let mut draft = Draft::honest();
    for id in 3..40 {
        draft.file_that_is_a_hole(id, &format!("home/b{id:02}"), 1 << 57);
    }
    let volume = draft.seal(&desk);
    let set = gather(&[volume]).unwrap();
    let key = unlock(&set, &Password::new(PASSWORD).unwrap().into(), CostLimit::Bearable).unwrap();
    let mut archive = SealedReader::with_key(set, &key).unwrap();
    desk.with_context(&|| false, |context| {
        assert_eq!(verify_contents(&mut archive, context).unwrap().files, 38);
        Receipt::make(&mut archive, &key, context).unwrap();
    });
    assert!(desk.with_context(&|| true, |context| verify_contents(&mut archive, context)).is_err());
}

#[test]
#[cfg_attr(windows, ignore = "there are no links")]
fn links_come_last_and_none_that_leads_outside_is_made() {
    let desk = Desk::new();
    let mut draft = Draft::empty();
    for (id, path, target) in [
        (1, "a-inside", "b"),
        (2, "a-out", "/etc"),
        (3, "a-up", "../x"),
        (4, "a-via", "a-inside/.."),
        (5, "ring-1", "ring-2"),
        (6, "ring-2", "ring-1"),
    ] {
        let link = Entry { link_target: target.into(), ..entry(id, path, EntryKind::Link) };
        draft.list(link.clone(), Content::default());
        put_entry(&link, &mut draft.records);
    }
    draft.file(9, "b");
    draft.index.sort_by(|one, other| one.listed.entry.path.cmp(&other.listed.entry.path));
    let path = draft.seal(&desk);
    let opened = desk.open(&[path], &desk.path("inbox")).unwrap();
    let refused: Vec<_> = opened.landed.refused_links.iter().map(|link| link.path.as_bytes()).collect();
    assert_eq!(refused, [&b"a-out"[..], b"a-up", b"a-via"]);
    let landed: Vec<_> = tree(&desk.path("inbox")).into_keys().collect();
    assert_eq!(landed, ["", "a-inside", "b", "ring-1", "ring-2"].map(PathBuf::from));
}

#[test]
fn a_name_that_the_system_cannot_hold_gets_another() {
    let desk = Desk::new();
    let mut draft = Draft::empty();
    draft.file(1, "a");
    draft.file(2, &("b".repeat(256) + ".csv"));
    draft.file(3, &("b".repeat(251) + ".csv"));
    draft.index.sort_by(|one, other| one.listed.entry.path.cmp(&other.listed.entry.path));
    let path = draft.seal(&desk);
    let landed = desk.open(&[path], &desk.path("inbox")).unwrap().landed;
    let path = |name: String| EntryPath::new(name).unwrap();
    let renamed = (path("b".repeat(247) + " (2).csv"), path("b".repeat(256) + ".csv"));
    assert_eq!((landed.files, landed.renamed), (3, vec![renamed]));
}

/// What the next pack beside it would believe, were it looked at only (the journal was once believed whoever wrote it): it is a file like
/// any other, and the next run leaves it alone.
#[test]
fn what_is_called_like_unfinished_work_lands_and_is_not_believed() {
    let desk = Desk::new();
    let mut draft = Draft::empty();
    let paths = [
        ".arriving-0123456789abcdef",
        "form.docx.unfinished/in-use",
        "form.docx.unfinished/in-use-0",
        "form.docx.unfinished/steps",
    ];
    for (id, path) in (1..).zip(paths) {
        draft.file(id, path);
    }
    let path = draft.seal(&desk);
    let landed = desk.open(&[path], &desk.path("inbox")).unwrap().landed;
    assert_eq!((landed.files, landed.not_landed), (4, Vec::new()));
    fs::rename(desk.path("inbox/form.docx.unfinished"), desk.path("inbox/set.unfinished")).unwrap();
    // A run that needs that very folder, and one that clears what the last one left.
    let folder = Folder::open(&desk.path("inbox")).unwrap();
    let settled = desk.with_context(&|| false, |context| settle(&folder, "set".as_ref(), context));
    assert!(matches!(settled, Err(StagingError::InTheWay(_))), "{settled:?}");
    fs::remove_dir_all(desk.path("out")).unwrap();
    let mut other = Draft::empty();
    other.file(1, "letter");
    desk.open(&[other.seal(&desk)], &desk.path("inbox")).unwrap();
    for path in paths {
        assert!(desk.path("inbox").join(path.replace("form.docx", "set")).is_file(), "{path}");
    }
}

/// The link lands last, and what was to go through it stands in its way already.
#[test]
fn a_link_out_and_a_file_through_it_cannot_be_in_one_archive() {
    let desk = Desk::new();
    let mut draft = Draft::empty();
    let link = Entry { link_target: b"/tmp".into(), ..entry(1, "way", EntryKind::Link) };
    draft.list(link.clone(), Content::default());
    put_entry(&link, &mut draft.records);
    draft.file(2, "way/through");
    let path = draft.seal(&desk);
    assert_eq!(desk.open(&[path], &desk.path("inbox")).unwrap_err().class(), Damaged);
    assert!(!desk.path("inbox").exists());
}

/// Zeros that compress to nearly nothing, and a frame that says there are fewer.
#[test]
fn a_frame_that_inflates_beyond_what_it_declares_is_refused() {
    let desk = Desk::new();
    let mut draft = Draft::honest();
    draft.records = zstd::bulk::compress(&vec![0; 4_000_000], 1).unwrap();
    draft.content_header = |header| {
        header.codec = Codec::Zstandard;
        header.raw_bytes = 1_000;
    };
    let path = draft.seal(&desk);
    assert_eq!(desk.open(&[path], &desk.path("inbox")).unwrap_err().class(), Damaged);
}

#[test]
fn set_user_id_and_sticky_bits_are_not_restored() {
    let desk = Desk::new();
    let mut draft = Draft::empty();
    let folder = Entry { mode: 0o7755, ..entry(1, "home", EntryKind::Folder) };
    draft.list(folder.clone(), Content::default());
    put_entry(&folder, &mut draft.records);
    let path = draft.seal(&desk);
    desk.open(&[path], &desk.path("inbox")).unwrap();
    assert!(has_mode(desk.path("inbox/home"), 0o755));
}
