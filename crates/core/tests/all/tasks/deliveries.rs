//! Whole deliveries, simulated (`support/delivery.rs`): each ends in identical files, or in naming exactly what is missing
//! or damaged; what a slip then asks for makes it whole. `cargo run --release --example deliveries -- 1000` plays more.

use crate::support::delivery::{End, FAULTS, Played, play, play_parcels};
use crate::support::delivery_kinds::{play_changes, play_forged, play_keys, play_lost_messages, play_page};
use crate::support::{Desk, gather, noise};
use rstest::rstest;
use std::collections::BTreeSet;
use std::ffi::OsStr;
use std::fs;
use under_seal_core::formats::sealed::volume::{HEADER_BYTES, VolumeSet};
use under_seal_core::tasks::check::{VolumeState, inspect};
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

/// A supplement that was changed on its way is worth nothing, and does no harm.
#[test]
fn no_flipped_byte_of_a_supplement_is_believed() {
    let desk = Desk::new();
    let volumes = desk.source("a/noise", &noise(420_000)).source("b/text", &[b'x'; 30_000]).pack("150KB");
    let sent = VolumeSet::from_files(&volumes).unwrap();
    let inbox = desk.path("inbox");
    fs::create_dir(&inbox).unwrap();
    for volume in &volumes {
        fs::copy(volume, inbox.join(volume.file_name().unwrap())).unwrap();
    }
    let second = inbox.join(volumes[1].file_name().unwrap());
    let mut damaged = fs::read(&second).unwrap();
    damaged[70_000] ^= 0x10;
    fs::write(second, damaged).unwrap();
    let set = gather(std::slice::from_ref(&inbox)).unwrap();
    let found = desk.with_context(&|| false, |context| inspect(&set, context)).unwrap();
    let slip = Slip::of(&set, &found).unwrap();
    let folder = desk.path("again");
    let resent = desk.with_context(&|| false, |context| resend(&sent, &slip, &folder, OsStr::new("set"), context));
    let (supplement, bytes) = resent.unwrap().supplement.unwrap();
    assert_eq!(bytes, (HEADER_BYTES + 4_096 + sent.geometry.cell_length.bytes()) as u64);
    let right = fs::read(supplement).unwrap();
    for at in (0..right.len()).step_by(997).chain(0..200).chain(4_096..4_140) {
        let mut flipped = right.clone();
        flipped[at] ^= 0x10;
        fs::write(inbox.join("later"), &flipped).unwrap();
        let set = gather(std::slice::from_ref(&inbox)).unwrap();
        let found = desk.with_context(&|| false, |context| inspect(&set, context)).unwrap();
        assert_eq!(found.numbers(VolumeState::Damaged), [2], "byte {at}");
    }
}
