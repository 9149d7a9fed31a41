//! Finding sets and placing damage, without the password.

use crate::support::{Desk, PASSWORD, edit, gather, mend_checks, noise};
use proptest::prelude::*;
use rstest::rstest;
use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};
use under_seal_core::ErrorClass::{self, Damaged, Usage, VolumesMissing};
use under_seal_core::formats::sealed::volume::VolumeSet;
use under_seal_core::formats::sealed::volume::supplement::Run;
use under_seal_core::formats::sealed::{CostLimit, SealedReader, unlock_given};
use under_seal_core::ground::secrets::Password;
use under_seal_core::tasks::check::{Damage, VolumeState, inspect, verify_contents};
use under_seal_core::tasks::resend::Slip;

fn three_volumes() -> (Desk, Vec<PathBuf>) {
    let desk = Desk::new();
    let volumes = desk.source("noise", &noise(350_000)).pack("150KB");
    assert_eq!(volumes.len(), 3);
    (desk, volumes)
}

/// Changes the second volume's header and makes its check right again.
fn forge(volumes: &[PathBuf], at: usize, value: u8) {
    edit(&volumes[1], |bytes| {
        bytes[at] = value;
        mend_checks(bytes);
    });
}

#[rstest]
#[case::as_it_was(|_: &[PathBuf]| {}, None)]
#[case::other_cell_count(|v: &[PathBuf]| forge(v, 64, 5), None)]
#[case::other_head(|v: &[PathBuf]| forge(v, 300, 0), None)]
#[case::other_cut(|v: &[PathBuf]| forge(v, 32, 0), Some(VolumesMissing))]
#[case::a_number_twice(|v: &[PathBuf]| forge(v, 48, 1), Some(VolumesMissing))]
#[case::a_number_beyond_the_count(|v: &[PathBuf]| forge(v, 48, 9), Some(VolumesMissing))]
#[case::all_gone_but_one(|v: &[PathBuf]| { fs::remove_file(&v[0]).unwrap(); fs::remove_file(&v[2]).unwrap(); }, Some(VolumesMissing))]
#[case::swapped_names(|v: &[PathBuf]| { fs::rename(&v[0], v[0].with_extension("x")).unwrap(); fs::rename(&v[1], &v[0]).unwrap(); fs::rename(v[0].with_extension("x"), &v[1]).unwrap(); }, None)]
#[case::other_files_around(|v: &[PathBuf]| fs::write(v[0].with_file_name("notes.txt"), "hello").unwrap(), None)]
#[case::an_unusable_header_is_made_up_for_by_the_others(|v: &[PathBuf]| forge(v, 8, 2), None)]
fn a_set_is_found_by_its_headers(#[case] change: fn(&[PathBuf]), #[case] expected: Option<ErrorClass>) {
    let (desk, volumes) = three_volumes();
    change(&volumes);
    let unlocked = desk.unlock(&volumes[1..2]);
    assert_eq!(unlocked.as_ref().err().map(|error| error.class()), expected, "{:?}", unlocked.err());
}

#[rstest]
#[case::newer_version(8, 2, Usage)]
#[case::unknown_suite(10, 9, Usage)]
#[case::unknown_kind(11, 7, Damaged)]
#[case::zeros_used(100, 1, Damaged)]
#[case::header_longer(13, 0x20, Damaged)]
fn a_header_that_cannot_be_used_is_named(
    #[case] at: usize,
    #[case] value: u8,
    #[case] expected: ErrorClass,
    #[values(true, false)] by_folder: bool,
) {
    let (desk, volumes) = three_volumes();
    fs::remove_file(&volumes[0]).unwrap();
    fs::remove_file(&volumes[2]).unwrap();
    forge(&volumes, at, value);
    let place = if by_folder { desk.path("out") } else { volumes[1].clone() };
    assert_eq!(desk.unlock(&[place]).err().unwrap().class(), expected);
}

/// Lets a volume's header speak of the most volumes that there can be, of so many cells each.
fn speak_of_very_many(volume: &Path, cells_per_volume: u32) {
    edit(volume, |bytes| {
        bytes[52..56].copy_from_slice(&65_535_u32.to_le_bytes());
        bytes[60..64].copy_from_slice(&cells_per_volume.to_le_bytes());
        bytes[64..72].copy_from_slice(&(65_535 * u64::from(cells_per_volume)).to_le_bytes());
        mend_checks(bytes);
    });
}

/// A header can speak of 256 TiB; what is missing of that takes no room, and its slip is short.
#[test]
fn an_endless_set_costs_nothing_to_check() {
    let (desk, volumes) = three_volumes();
    speak_of_very_many(&volumes[0], 65_536);
    let set = VolumeSet::from_files(&volumes[..1]).unwrap();
    let found = desk.with_context(&|| false, |context| inspect(&set, context)).unwrap();
    assert_eq!(found.numbers(VolumeState::Missing).len(), 65_534);
    assert!(found.lost.len() <= 2, "{:?}", found.lost);
    assert!(Slip::of(&set, &found).unwrap().code().len() < 60);
}

#[test]
fn spare_volumes_are_passed_over() {
    let (desk, volumes) = three_volumes();
    for path in &volumes {
        edit(path, |bytes| {
            bytes[56] = 1;
            mend_checks(bytes);
        });
    }
    fs::copy(&volumes[0], desk.path("out/spare")).unwrap();
    edit(&desk.path("out/spare"), |bytes| {
        bytes[11] = 1;
        mend_checks(bytes);
    });
    let set = gather(&[desk.path("out")]).unwrap();
    assert!(set.volumes.values().all(|files| files.len() == 1));
    desk.open(&[desk.path("out")], &desk.path("inbox")).unwrap();
}

/// Copies with a changed header lie beside the volumes, and even outnumber them: they are set aside by name, and the password
/// tells which of them are genuine.
#[rstest]
#[case::one_copy(1, &[2])]
#[case::as_many(3, &[1, 2, 3])]
#[case::more(3, &[3])]
fn volumes_that_contradict_the_others_are_set_aside(#[case] copies: usize, #[case] kept: &[usize]) {
    let (desk, volumes) = three_volumes();
    for (number, volume) in (1..).zip(&volumes).take(copies) {
        let copy = desk.path(&format!("out/copy-{number}"));
        fs::copy(volume, &copy).unwrap();
        edit(&copy, |bytes| {
            bytes[300] ^= 1;
            mend_checks(bytes);
        });
    }
    for (number, volume) in (1..).zip(&volumes) {
        if copies == 3 && !kept.contains(&number) {
            fs::remove_file(volume).unwrap();
        }
    }
    let set = gather(&[desk.path("out")]).unwrap();
    assert_eq!(set.missing(), Vec::<u32>::new());
    assert_eq!((set.rivals.len(), set.contradicting.len()), (1, copies.min(kept.len()).min(3)));
    let credentials = Password::new(PASSWORD).unwrap().into();
    let unlocked = unlock_given(&set, Some(&credentials), CostLimit::Bearable, true).unwrap().unwrap();
    assert!(unlocked.set.contradicting.iter().all(|path| path.to_string_lossy().contains("copy-")));
    let mut archive = SealedReader::with_key(unlocked.set, &unlocked.key).unwrap();
    desk.with_context(&|| false, |context| verify_contents(&mut archive, context)).unwrap();
}

/// A header that speaks of very many volumes, and files that could be any of them: trying has an end, and what was not tried
/// is told.
#[test]
fn recognising_files_by_their_cells_has_an_end() {
    let (desk, volumes) = three_volumes();
    speak_of_very_many(&volumes[0], 4);
    for number in 0..40 {
        let bytes = [b"not a header".repeat(400), noise(200_000 + number)].concat();
        fs::write(desk.path(&format!("out/broken-{number}.useal")), bytes).unwrap();
    }
    fs::remove_file(&volumes[1]).unwrap();
    fs::remove_file(&volumes[2]).unwrap();
    let set = gather(&[desk.path("out")]).unwrap();
    assert_eq!(set.unrecognised.len() + set.untried.len(), 40);
    assert!(!set.untried.is_empty());
}

/// A header can claim so many cells that going through them alone would never end.
#[test]
fn cells_that_no_file_has_room_for_cost_nothing() {
    let (desk, volumes) = three_volumes();
    edit(&volumes[0], |bytes| {
        bytes[52..56].copy_from_slice(&1_u32.to_le_bytes());
        bytes[60..64].copy_from_slice(&u32::MAX.to_le_bytes());
        bytes[64..72].copy_from_slice(&u64::from(u32::MAX).to_le_bytes());
        mend_checks(bytes);
    });
    let set = VolumeSet::from_files(&volumes[..1]).unwrap();
    let found = desk.with_context(&|| false, |context| inspect(&set, context)).unwrap();
    assert_eq!(found.lost, [Run { first: 3, count: u32::MAX - 3 }]);
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 32, failure_persistence: None, ..ProptestConfig::default() })]

    /// Whatever bytes are damaged, exactly the cells that they lie in are reported, and no others.
    #[test]
    fn damage_is_placed_to_the_cell(flips in prop::collection::btree_set(4_096_usize..135_168, 0..4)) {
        let (desk, volumes) = three_volumes();
        edit(&volumes[1], |bytes| flips.iter().for_each(|at| bytes[*at] ^= 0x01));
        let set = gather(&volumes).unwrap();
        let report = desk.with_context(&|| false, |context| inspect(&set, context)).unwrap();
        let length = set.geometry.cell_length;
        let cells: BTreeSet<u32> = flips.iter().map(|at| ((at - 4_096) / length.bytes()) as u32).collect();
        let mut expected: Vec<Damage> = Vec::new();
        for cell in cells {
            let damage = Damage { from: length.offset_of(cell), to: length.offset_of(cell + 1) };
            match expected.last_mut() {
                Some(last) if last.to == damage.from => last.to = damage.to,
                _ => expected.push(damage),
            }
        }
        let state = if expected.is_empty() { VolumeState::Intact } else { VolumeState::Damaged };
        prop_assert_eq!(report.volumes[1].state, state);
        prop_assert_eq!(&report.volumes[1].files[0].damage, &expected);
        prop_assert_eq!(report.numbers(VolumeState::Intact).len(), if expected.is_empty() { 3 } else { 2 });
    }
}
