//! Property 6: with volumes missing, every file that lies wholly in those present can still be had.

use crate::support::system::{set_mode, symlink};
use crate::support::{Desk, PASSWORD, gather, tree};
use proptest::prelude::*;
use rstest::rstest;
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use under_seal_core::formats::sealed::{CostLimit, Lost, Salvage, SealedError, unlock};
use under_seal_core::ground::secrets::Password;
use under_seal_core::tasks::open::open;

fn noise(seed: u8, length: usize) -> Vec<u8> {
    let mut bytes = vec![0; length];
    blake3::Hasher::new().update(&[seed]).finalize_xof().fill(&mut bytes);
    bytes
}

/// Twelve files of half a megabyte that do not compress, so that each spans a few volumes and frames hold two.
fn packed() -> (Desk, Vec<PathBuf>) {
    let desk = Desk::new();
    for place in 0..12 {
        desk.source(&format!("part {}/{place:02}", place % 3), &noise(place, 500_000));
    }
    let volumes = desk.pack("270KB");
    (desk, volumes)
}

fn salvage(desk: &Desk, place: PathBuf) -> Result<Salvage, SealedError> {
    let set = gather(&[place]).unwrap();
    let key = unlock(&set, &Password::new(PASSWORD).unwrap().into(), CostLimit::Bearable)?;
    desk.with_context(&|| false, |context| Salvage::survey(set, &key, context))
}

/// Everything that was salvaged must be as it was; its paths.
fn land(desk: &Desk, archive: &mut Salvage) -> BTreeSet<PathBuf> {
    let inbox = desk.path("inbox");
    desk.with_context(&|| false, |context| open(archive, &inbox, context)).unwrap();
    let files = |root: &Path| -> BTreeMap<PathBuf, String> {
        tree(root).into_iter().filter(|(path, _)| root.join(path).is_file()).collect()
    };
    let (landed, sent) = (files(&inbox), files(desk.place.path()));
    for (path, features) in &landed {
        assert_eq!(sent.get(path), Some(features), "{path:?}");
    }
    landed.into_keys().collect()
}

#[test]
fn from_a_whole_set_everything_is_salvaged() {
    let (desk, _) = packed();
    let mut archive = salvage(&desk, desk.path("out")).unwrap();
    assert_eq!(archive.lost(), Some(&[][..]));
    assert_eq!(land(&desk, &mut archive).len(), 12);
    assert_eq!(tree(&desk.path("inbox/source")), tree(&desk.path("source")));
}

/// Without the first, a middle or the last volume (which holds the index) most files are still whole.
#[rstest]
#[case::first(0, true)]
#[case::middle(11, true)]
#[case::last(usize::MAX, false)]
fn one_missing_volume_costs_a_few_files(#[case] missing: usize, #[case] index_is_here: bool) {
    let (desk, volumes) = packed();
    fs::remove_file(&volumes[missing.min(volumes.len() - 1)]).unwrap();
    let mut archive = salvage(&desk, desk.path("out")).unwrap();
    let lost = archive.lost().map(<[_]>::len);
    let landed = land(&desk, &mut archive).len();
    assert!((7..=11).contains(&landed), "{landed}");
    assert_eq!(lost.is_some(), index_is_here);
    if let Some(lost) = lost {
        assert!(lost >= 12 - landed);
    }
}

/// Folders, links and empty files whose records are lost are as they were: the index tells all of them.
#[test]
fn what_has_no_content_is_had_from_the_index() {
    let desk = Desk::new();
    desk.source("a/first", &noise(1, 300_000)).source("b/empty", b"").source("z/last", &noise(2, 300_000));
    fs::create_dir(desk.path("source/b/nothing inside")).unwrap();
    symlink("../a/first", desk.path("source/b/link"));
    set_mode(desk.path("source/b"), 0o710);
    let volumes = desk.pack("130KB");
    let sent = tree(&desk.path("source"));
    // The first half of what is packed goes with its volumes; b's records are in it.
    for volume in &volumes[..volumes.len() / 2 + 1] {
        fs::remove_file(volume).unwrap();
    }
    let mut archive = salvage(&desk, desk.path("out")).unwrap();
    let lost: Vec<_> = archive.lost().unwrap().iter().map(|lost| lost.path.as_bytes()).collect();
    assert_eq!(lost, [&b"source/a/first"[..], b"source/z/last"]);
    land(&desk, &mut archive);
    let landed = tree(&desk.path("inbox/source"));
    for path in ["b", "b/empty", "b/nothing inside", "b/link"] {
        assert_eq!(landed.get(Path::new(path)), sent.get(Path::new(path)), "{path}");
    }
}

#[test]
fn a_damaged_cell_costs_only_the_frames_that_it_carries() {
    let (desk, volumes) = packed();
    let mut bytes = fs::read(&volumes[4]).unwrap();
    bytes[70_000] ^= 1;
    fs::write(&volumes[4], bytes).unwrap();
    let mut archive = salvage(&desk, desk.path("out")).unwrap();
    assert!((9..=11).contains(&land(&desk, &mut archive).len()));
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 12, failure_persistence: None, ..ProptestConfig::default() })]

    /// Whatever is missing: what lands is right, and every file whose cells (with a frame's length to either side) are
    /// all here does land. What is lost names missing volumes, and is whole once those are here.
    #[test]
    fn what_lies_wholly_in_the_volumes_present_is_had(missing in prop::collection::btree_set(0_usize..24, 1..6)) {
        let (desk, volumes) = packed();
        let missing: BTreeSet<usize> = missing.into_iter().filter(|at| *at + 1 < volumes.len()).collect();
        fs::create_dir(desk.path("away")).unwrap();
        let away = |at: usize| desk.path("away").join(at.to_string());
        missing.iter().for_each(|at| fs::rename(&volumes[*at], away(*at)).unwrap());
        let mut archive = salvage(&desk, desk.path("out")).unwrap();
        let landed = land(&desk, &mut archive);
        // The content is stored as it is, in the order of the paths; four cells of 65,500 bytes make a volume.
        let per_volume = 4 * 65_500;
        let mut order: Vec<PathBuf> = tree(&desk.path("source")).into_keys().collect();
        order.retain(|path| desk.path("source").join(path).is_file());
        for (place, path) in order.iter().enumerate() {
            let (from, to) = (place * 500_000, (place + 1) * 500_000);
            let needed = from.saturating_sub(1_100_000) / per_volume..=(to + 1_100_000) / per_volume;
            if missing.iter().all(|at| !needed.contains(at)) {
                prop_assert!(landed.contains(&Path::new("source").join(path)), "{:?} is not there", path);
            }
        }
        let lost = archive.lost().unwrap().to_vec();
        if let Some(Lost { path, volumes: needed }) = lost.last() {
            prop_assert!(!needed.is_empty() && needed.iter().all(|number| missing.contains(&(*number as usize - 1))));
            needed.iter().map(|number| *number as usize - 1).for_each(|at| fs::rename(away(at), &volumes[at]).unwrap());
            let archive = salvage(&desk, desk.path("out")).unwrap();
            prop_assert!(archive.lost().unwrap().iter().all(|lost| lost.path != *path), "{path:?} needs more");
        }
    }
}
