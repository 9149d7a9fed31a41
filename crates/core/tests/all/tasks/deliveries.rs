//! Whole deliveries, simulated (`support/delivery.rs`): each ends in identical files, or in naming exactly what is missing
//! or damaged; what a slip then asks for makes it whole. `cargo run --release --example deliveries -- 1000` plays more.

use crate::support::delivery::{End, FAULTS, Played, play, play_parcels};
use crate::support::delivery_kinds::{play_changes, play_forged, play_keys, play_lost_messages, play_page};
use crate::support::{Desk, edit, gather, noise};
use rstest::rstest;
use std::collections::BTreeSet;
use std::ffi::OsStr;
use std::fs;
use std::path::PathBuf;
use under_seal_core::formats::sealed::volume::{HEADER_BYTES, VolumeSet};
use under_seal_core::tasks::check::{SetReport, VolumeState, inspect};
use under_seal_core::tasks::resend::{Slip, resend};

#[rstest]
#[case(0)]
#[case(1)]
#[case(2)]
fn each_ends_in_identical_files_or_in_naming_what_is_missing(#[case] third: u64) {
    let played = (third..60).step_by(3).map(play);
    let faults: Vec<_> = played.map(|played| played.fault).collect();
    assert!(FAULTS.iter().filter(|fault| faults.contains(fault)).count() > 5, "{faults:?}");
}

/// In parcels each that came opens alone, from messages too; those that did not come are named.
#[test]
fn parcels_that_did_not_come_are_named() {
    let ends: BTreeSet<_> = (0..24).map(|seed| play_parcels(seed).end).collect();
    assert!(ends.contains(&End::Identical) && ends.contains(&End::NamedAndMended), "{ends:?}");
}

#[rstest]
#[case::lost_messages(play_lost_messages)]
#[case::forged(play_forged)]
#[case::changes(play_changes)]
#[case::pages(play_page)]
#[case::keys(play_keys)]
fn every_kind_ends_as_it_is_promised(#[case] play: fn(u64) -> Played) {
    let ends: BTreeSet<_> = (0..14).map(|seed| play(seed).end).collect();
    assert!(ends.contains(&End::Identical), "{ends:?}");
}

/// What arrives of a set of which one byte of a volume was changed, in `inbox`; and the supplement that is sent then.
fn asked_again(desk: &Desk, volumes: &[PathBuf], (volume, at): (usize, usize)) -> PathBuf {
    let sent = VolumeSet::from_files(volumes).unwrap();
    let inbox = desk.path("inbox");
    fs::create_dir(&inbox).unwrap();
    for volume in volumes {
        fs::copy(volume, inbox.join(volume.file_name().unwrap())).unwrap();
    }
    edit(&inbox.join(volumes[volume].file_name().unwrap()), |bytes| bytes[at] ^= 0x10);
    let (set, found) = look(desk);
    let slip = Slip::of(&set, &found).unwrap();
    let folder = desk.path("again");
    let resent = desk.with_context(&|| false, |context| resend(&sent, &slip, &folder, OsStr::new("set"), context));
    let (supplement, bytes) = resent.unwrap().supplement.unwrap();
    assert_eq!(bytes, (HEADER_BYTES + 4_096 + sent.geometry.cell_length.bytes()) as u64);
    supplement
}

fn look(desk: &Desk) -> (VolumeSet, SetReport) {
    let set = gather(&[desk.path("inbox")]).unwrap();
    let found = desk.with_context(&|| false, |context| inspect(&set, context)).unwrap();
    (set, found)
}

/// A supplement that was changed on its way is worth nothing, and does no harm.
#[test]
fn no_flipped_byte_of_a_supplement_is_believed() {
    let desk = Desk::new();
    let volumes = desk.source("a/noise", &noise(420_000)).source("b/text", &[b'x'; 30_000]).pack("150KB");
    let right = fs::read(asked_again(&desk, &volumes, (1, 70_000))).unwrap();
    for at in (0..right.len()).step_by(997).chain(0..200).chain(4_096..4_140) {
        let mut flipped = right.clone();
        flipped[at] ^= 0x10;
        fs::write(desk.path("inbox/later"), &flipped).unwrap();
        assert_eq!(look(&desk).1.numbers(VolumeState::Damaged), [2], "byte {at}");
    }
}

/// A supplement with a volume's last cell makes that one whole, and does not stand for the next one.
#[test]
fn a_supplement_stands_for_no_volume_that_it_holds_nothing_of() {
    let desk = Desk::new();
    let volumes = desk.source("a/noise", &noise(420_000)).pack("150KB");
    let last_byte = fs::read(&volumes[0]).unwrap().len() - 1;
    let supplement = asked_again(&desk, &volumes, (0, last_byte));
    fs::rename(supplement, desk.path("inbox/later")).unwrap();
    fs::remove_file(desk.path("inbox").join(volumes[1].file_name().unwrap())).unwrap();
    let (set, found) = look(&desk);
    assert_eq!((set.missing(), found.numbers(VolumeState::Damaged)), (vec![2], vec![]));
    fs::copy(&volumes[1], desk.path("inbox/second")).unwrap();
    desk.open(&[desk.path("inbox")], &desk.path("opened")).unwrap();
}
