//! Spare volumes: any volumes may be lost, as many as there are spare ones; more are added at any time; nobody's forgery makes good data
//! bad.

use crate::support::{Desk, PASSWORD, edit, gather, mend_checks, noise, tree};
use rstest::rstest;
use std::fs;
use std::path::{Path, PathBuf};
use under_seal_core::ErrorClass;
use under_seal_core::formats::sealed::volume::spares::reach::Beyond;
use under_seal_core::formats::sealed::volume::supplement::Run;
use under_seal_core::formats::sealed::volume::{HEADER_BYTES, Shortfall, SpareWish, VolumeSet};
use under_seal_core::formats::sealed::{CostLimit, unlock_given};
use under_seal_core::ground::class::Classed as _;
use under_seal_core::ground::secrets::Password;
use under_seal_core::tasks::check::{SetReport, VolumeState, inspect};
use under_seal_core::tasks::mend::{MendError, MendedVolume, Wanted, mend};
use under_seal_core::tasks::pack::Target;

/// A desk with an archive of five volumes and so many spare ones.
fn five_volumes(spares: u32) -> Desk {
    let mut desk = Desk::new();
    desk.spares = SpareWish::Count(spares);
    desk.source("tower.tif", &noise(640_000)).source("notes.txt", b"The lamp was lit at dusk.");
    desk.pack("150KB");
    assert_eq!(desk.volumes().len(), 5 + spares as usize);
    desk
}

fn inspected(desk: &Desk, set: &VolumeSet) -> SetReport {
    desk.with_context(&|| false, |context| inspect(set, context)).unwrap()
}

fn mend_into(desk: &Desk, set: &VolumeSet, folder: &str) -> Result<Vec<MendedVolume>, MendError> {
    let found = inspected(desk, set);
    let wanted = Wanted::lost(set, &found, u32::MAX)?;
    let target = Target { folder: desk.path(folder), stem: "set".into() };
    desk.with_context(&|| false, |context| mend(set, &wanted, &target, context))
}

/// The set with its seals judged.
fn unlocked(set: &VolumeSet) -> VolumeSet {
    unlock_given(set, Some(&Password::new(PASSWORD).unwrap().into()), CostLimit::Bearable, true).unwrap().unwrap().set
}

fn opens(desk: &Desk) -> bool {
    desk.open(&[desk.path("out")], &desk.path("board")).unwrap();
    tree(&desk.path("board/source")) == tree(&desk.path("source"))
}

/// Changes a byte of a volume's cell of this index.
fn damage(path: &Path, index: usize) {
    let cell = gather(&[path.to_owned()]).unwrap().geometry.cell_length.bytes();
    edit(path, |bytes| bytes[HEADER_BYTES + cell * index + 77] ^= 4);
}

/// How many spare volumes there were says a header, which anybody can change: none is made again unasked.
#[test]
fn missing_spare_volumes_are_made_only_as_many_as_are_asked_for() {
    let desk = five_volumes(1);
    for volume in desk.volumes() {
        edit(&volume, |bytes| {
            bytes[56..60].copy_from_slice(&u32::from(u16::MAX).to_le_bytes());
            mend_checks(bytes);
        });
    }
    fs::remove_file(&desk.volumes()[1]).unwrap();
    let set = gather(&[desk.path("out")]).unwrap();
    let wanted = |missing| Wanted::lost(&set, &inspected(&desk, &set), missing).unwrap();
    assert_eq!(wanted(0).numbers(), (vec![2], vec![]));
    assert_eq!(wanted(0).left().len(), 55);
    assert_eq!(wanted(3).numbers(), (vec![2], vec![2, 3, 4]));
}

#[rstest]
#[case::one_of_five(1, &[3])]
#[case::the_last_which_is_shorter(1, &[5])]
#[case::two(2, &[1, 5])]
#[case::a_data_and_a_spare_volume(2, &[2, 6])]
#[case::both_spare_volumes(2, &[6, 7])]
#[case::all_but_the_spare_volumes(5, &[1, 2, 3, 4, 5])]
fn as_many_volumes_may_be_lost_as_there_are_spare_ones(#[case] spares: u32, #[case] lost: &[usize]) {
    let desk = five_volumes(spares);
    let volumes = desk.volumes();
    let sent: Vec<Vec<u8>> = volumes.iter().map(|path| fs::read(path).unwrap()).collect();
    lost.iter().for_each(|number| fs::remove_file(&volumes[number - 1]).unwrap());
    let set = gather(&[desk.path("out")]).unwrap();
    let found = inspected(&desk, &set);
    assert!(found.is_complete() && found.needs_spares() == lost.iter().any(|number| *number <= 5));
    assert!(opens(&desk));
    // Byte by byte what they were, under their names.
    let mended = mend_into(&desk, &set, "out").unwrap();
    assert_eq!(mended.len(), lost.len());
    let again: Vec<Vec<u8>> = volumes.iter().map(|path| fs::read(path).unwrap()).collect();
    assert!(again == sent);
}

#[rstest]
#[case::one_more_than_there_are(2, &[1, 3, 4], 1)]
#[case::with_a_spare_volume(1, &[2, 6], 1)]
#[case::all(2, &[1, 2, 3, 4, 5], 3)]
fn what_is_too_much_is_told(#[case] spares: u32, #[case] lost: &[usize], #[case] needed: usize) {
    let desk = five_volumes(spares);
    let volumes = desk.volumes();
    lost.iter().for_each(|number| fs::remove_file(&volumes[number - 1]).unwrap());
    let set = gather(&[desk.path("out")]).unwrap();
    let data = lost.iter().filter(|number| **number <= 5);
    let missing: Vec<u32> = data.map(|number| *number as u32).collect();
    assert_eq!(set.shortfalls(), [Shortfall { missing: missing.clone(), needed }]);
    assert_eq!(set.missing(), missing);
    assert_eq!(inspected(&desk, &set).numbers(VolumeState::Missing), set.missing());
    assert!(matches!(mend_into(&desk, &set, "mended"), Err(MendError::TooFew)));
    assert_eq!(set.complete().unwrap_err().class(), ErrorClass::VolumesMissing);
}

#[test]
fn volumes_that_are_each_damaged_elsewhere_count_as_whole() {
    let desk = five_volumes(1);
    for (at, volume) in desk.volumes().iter().enumerate().take(3) {
        damage(volume, at);
    }
    let set = gather(&[desk.path("out")]).unwrap();
    let found = inspected(&desk, &set);
    assert_eq!((found.numbers(VolumeState::Damaged), found.is_complete()), (vec![1, 2, 3], true));
    assert!(found.volumes.iter().take(3).all(|volume| volume.made_good));
    assert!(opens(&desk));
    // Two at one place are one too many, and one of them is enough.
    damage(&desk.volumes()[3], 2);
    let set = gather(&[desk.path("out")]).unwrap();
    let Beyond { cells, asked } = inspected(&desk, &set).beyond;
    let numbers =
        |runs: &[Run]| runs.iter().map(|run| (set.geometry.locate(run.first).0, run.count)).collect::<Vec<_>>();
    assert_eq!((numbers(&cells), numbers(&asked)), (vec![(3, 1), (4, 1)], vec![(4, 1)]));
    assert_eq!(desk.open(&[desk.path("out")], &desk.path("inbox")).unwrap_err().class(), ErrorClass::Damaged);
}

#[test]
fn spare_volumes_are_added_to_what_was_sent_without() {
    let desk = five_volumes(0);
    let add = |more, set: &VolumeSet| {
        let wanted = Wanted::added_spares(set, &inspected(&desk, set), more)?;
        let target = Target { folder: desk.path("out"), stem: "set".into() };
        desk.with_context(&|| false, |context| mend(set, &wanted, &target, context))
    };
    let data = desk.volumes();
    let sent: Vec<Vec<u8>> = data.iter().map(|path| fs::read(path).unwrap()).collect();
    for more in [1, 2] {
        add(more, &gather(&[desk.path("out")]).unwrap()).unwrap();
    }
    let names: Vec<_> = desk.volumes()[5..].iter().map(|path| path.file_name().unwrap().to_owned()).collect();
    assert_eq!(names, ["set-spare1of1.useal", "set-spare2of3.useal", "set-spare3of3.useal"]);
    // They are the same as those that are made at once, whose headers say that there are three.
    for path in &data[..3] {
        fs::remove_file(path).unwrap();
    }
    let set = gather(&[desk.path("out")]).unwrap();
    mend_into(&desk, &set, "out").unwrap();
    assert!(data.iter().map(|path| fs::read(path).unwrap()).eq(sent));
    assert!(matches!(add(54, &set), Err(MendError::TooManySpares(56))));
}

#[rstest]
#[case::with_everything_here(&[], 1, Some(&[1][..]))]
#[case::one_is_lost_and_two_are_right(&[3], 1, Some(&[1][..]))]
#[case::one_is_lost_and_one_is_right(&[3, 7], 1, None)]
fn a_forged_spare_volume_is_named_and_never_makes_good_data_bad(
    #[case] lost: &[usize],
    #[case] forged: u32,
    #[case] not_fitting: Option<&[u32]>,
) {
    let desk = five_volumes(3);
    let volumes = desk.volumes();
    // Whoever changes the cells makes their checks right as well.
    edit(&volumes[4 + forged as usize], |bytes| {
        bytes[HEADER_BYTES..].iter_mut().step_by(1_000).for_each(|byte| *byte ^= 1);
        mend_checks(bytes);
    });
    lost.iter().for_each(|number| fs::remove_file(&volumes[number - 1]).unwrap());
    let set = gather(&[desk.path("out")]).unwrap();
    let found = inspected(&desk, &set);
    assert_eq!(
        (found.disputed, found.not_fitting.as_slice()),
        (not_fitting.is_none(), not_fitting.unwrap_or_default())
    );
    // Without the password neither side is written anew, nor anything made of it.
    assert!(matches!(mend_into(&desk, &set, "mended"), Err(MendError::Disputed)));
    let added = Wanted::added_spares(&set, &found, 1);
    assert!(matches!(added, Err(MendError::Disputed)), "{added:?}");
    // With the password the right one is told from the forged one, whatever the others say.
    assert!(opens(&desk));
    let mended = mend_into(&desk, &unlocked(&set), "mended").unwrap();
    assert_eq!(mended.len(), lost.len() + 1);
}

/// Of these data volumes bytes are changed and the checks made right, of these spare ones too.
#[rstest]
#[case::one_of_five(3, &[3], &[], Some(&[3][..]))]
#[case::the_last_which_is_shorter(1, &[5], &[], Some(&[5][..]))]
#[case::two(2, &[1, 4], &[], Some(&[1, 4][..]))]
#[case::a_spare_volume_too(2, &[2], &[1], Some(&[2, 6][..]))]
#[case::spare_volumes_alone(3, &[], &[1, 3], Some(&[6, 8][..]))]
#[case::more_than_they_make_good(2, &[1, 2, 3], &[], None)]
fn with_the_password_what_was_changed_on_purpose_is_lost_and_made_good(
    #[case] spares: u32,
    #[case] forged: &[usize],
    #[case] forged_spares: &[usize],
    #[case] expected: Option<&[usize]>,
) {
    let desk = five_volumes(spares);
    let volumes = desk.volumes();
    let sent: Vec<Vec<u8>> = volumes.iter().map(|path| fs::read(path).unwrap()).collect();
    for number in forged.iter().copied().chain(forged_spares.iter().map(|number| number + 5)) {
        edit(&volumes[number - 1], |bytes| {
            bytes[HEADER_BYTES..].iter_mut().step_by(999).for_each(|byte| *byte ^= 1);
            mend_checks(bytes);
        });
    }
    let set = gather(&[desk.path("out")]).unwrap();
    // Without it the two sides contradict each other, and none is taken for the right one.
    assert!(inspected(&desk, &set).is_contradictory());
    assert!(matches!(mend_into(&desk, &set, "mended"), Err(MendError::Disputed)));
    let judged = unlocked(&set);
    let found = inspected(&desk, &judged);
    let numbers: Vec<u32> = forged.iter().map(|number| *number as u32).collect();
    assert_eq!((found.forged(), found.is_complete()), (numbers, expected.is_some()));
    let opened = desk.open(&[desk.path("out")], &desk.path("board"));
    assert_eq!(opened.is_ok(), expected.is_some());
    let mended = mend_into(&desk, &judged, "mended");
    let Some(expected) = expected else {
        assert!(matches!(mended, Err(MendError::TooFew)), "{mended:?}");
        return;
    };
    // Byte by byte what they were, and nothing else.
    assert_eq!(mended.unwrap().len(), expected.len());
    for number in expected {
        let again = desk.path("mended").join(volumes[number - 1].file_name().unwrap());
        assert!(fs::read(again).unwrap() == sent[number - 1], "{number}");
    }
}

#[test]
fn spare_volumes_of_others_are_named_and_set_aside() {
    let desk = five_volumes(1);
    let other = five_volumes(1);
    // Packed once more, it is another set.
    fs::remove_dir_all(other.path("out")).unwrap();
    other.pack("150KB");
    let foreign: PathBuf = desk.path("out/found.useal");
    fs::copy(&other.volumes()[5], &foreign).unwrap();
    fs::remove_file(&desk.volumes()[1]).unwrap();
    let set = gather(&[desk.path("out")]).unwrap();
    assert_eq!((set.foreign_spares.as_slice(), set.shortfalls()), (&[foreign][..], Vec::new()));
    assert!(opens(&desk));
}

#[test]
fn a_spare_volume_whose_header_is_damaged_is_known_by_its_cells() {
    let desk = five_volumes(1);
    let volumes = desk.volumes();
    edit(&volumes[5], |bytes| bytes[200] ^= 1);
    fs::remove_file(&volumes[0]).unwrap();
    assert!(opens(&desk));
}

#[test]
fn a_spare_volume_may_be_all_that_is_left() {
    let mut desk = Desk::new();
    desk.spares = SpareWish::Count(1);
    desk.source("notes.txt", b"The lamp was lit at dusk.");
    desk.pack("");
    fs::remove_file(desk.path("out/set.useal")).unwrap();
    assert!(opens(&desk));
}

/// Where the header speaks of more volumes than a group has, each group is made good by its own spare volumes.
#[test]
fn many_volumes_are_mended_in_groups() {
    let mut desk = Desk::new();
    desk.spares = SpareWish::Count(3);
    desk.source("tower.tif", &noise(3_400_000));
    desk.squeeze = under_seal_core::codecs::block::Squeeze::None;
    let packed = desk.pack("16KB");
    assert!(packed.len() > 201, "{}", packed.len());
    // Three spare volumes for two groups: two of the first, and one of the second.
    for path in [&packed[0], &packed[1], packed.last().unwrap()] {
        fs::remove_file(path).unwrap();
    }
    assert!(opens(&desk));
    fs::remove_file(&packed[packed.len() - 2]).unwrap();
    let set = gather(&[desk.path("out")]).unwrap();
    // What is made good in the other group is not asked for.
    let of_second: Vec<u32> = (packed.len() as u32 - 1..=packed.len() as u32).collect();
    assert_eq!(set.shortfalls(), [Shortfall { missing: of_second, needed: 1 }]);
    assert_eq!(set.missing().len(), 4);
}

#[rstest]
#[case::beyond_the_places(57)]
#[case::none(0)]
fn a_spare_volume_of_no_place_contradicts_itself(#[case] number: u32) {
    let desk = five_volumes(1);
    edit(&desk.volumes()[5], |bytes| {
        let cells = bytes.split_off(HEADER_BYTES);
        bytes[48..52].copy_from_slice(&number.to_le_bytes());
        mend_checks(bytes);
        bytes.extend(cells);
    });
    let set = gather(&[desk.path("out")]).unwrap();
    // Its cells still tell what it is.
    assert_eq!(set.spares.len(), 1);
}
