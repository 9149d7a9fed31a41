//! The stand-ins for what carries volumes: each brings exactly what it took, under names of its own, or refuses it for its
//! length.

use crate::support::{Desk, delivery, noise};
use rstest::rstest;
use std::collections::BTreeMap;
use std::fs;
use std::sync::atomic::{AtomicU64, Ordering};
use under_seal_core::disk::Interruption;
use under_seal_core::tasks::rehearse::carriers::{Carried, CarryError, Choices, Sent, Way};

const LENGTHS: [usize; 5] = [100_000, 1, 70_001, 0, 99_999];

/// Files of these lengths, ready to be sent.
fn sent(desk: &Desk) -> Vec<Sent> {
    let sent = (1..).zip(LENGTHS).map(|(number, length)| {
        let path = desk.path(&format!("a long name – {number}.useal"));
        fs::write(&path, noise(length)).unwrap();
        Sent { number, path, bytes: length as u64, share: None }
    });
    sent.collect()
}

fn carried_until(desk: &Desk, way: Way, seed: u64, cancel: &(dyn Fn() -> bool + Sync)) -> Result<Carried, CarryError> {
    delivery::carried_until(desk, way, &sent(desk), (&desk.path("inbox"), &mut Choices::new(seed)), cancel)
}

const MAIL: Way = Way::Mail { limit: 200_000 };
const MEDIA: Way = Way::Media { capacity: 180_000, largest_file: 120_000 };
const UPLOAD: Way = Way::Upload { limit: 150_000 };

#[rstest]
fn what_was_taken_arrives_byte_for_byte(
    #[values(Way::ByHand, MAIL, MEDIA, UPLOAD)] way: Way,
    #[values(1, 2, 3, 4)] seed: u64,
) {
    let desk = Desk::new();
    let carried = carried_until(&desk, way, seed, &|| false).unwrap();
    let arrived: BTreeMap<u32, _> = carried.arrived.iter().cloned().collect();
    assert_eq!(arrived.len(), LENGTHS.len());
    for (number, length) in (1..).zip(LENGTHS) {
        assert!(fs::read(&arrived[&number]).unwrap() == noise(length), "{way:?}, volume {number}");
    }
    let limit = match way {
        Way::Mail { limit } => limit,
        Way::Media { capacity, .. } => capacity,
        Way::ByHand | Way::Upload { .. } => u64::MAX,
    };
    assert!(carried.trips.iter().all(|trip| !trip.refused && trip.bytes <= limit), "{:?}", carried.trips);
    // One medium is in the drive at a time, and nothing stays on the way.
    assert_eq!(fs::read_dir(desk.path("under way")).unwrap().count(), 0);
    if way == UPLOAD {
        assert!(carried.trips.iter().any(|trip| trip.broken_off > 0), "nothing was broken off");
    }
    // The same seed does the same.
    let again = carried_until(&Desk::new(), way, seed, &|| false).unwrap();
    let order = |carried: &Carried| carried.trips.iter().map(|trip| trip.volumes.clone()).collect::<Vec<_>>();
    assert_eq!(order(&again), order(&carried));
}

/// A limit, and the volumes that are too large for it.
#[rstest]
#[case::messages(Way::Mail { limit: 120_000 }, &[1, 5])]
#[case::files_on_media(Way::Media { capacity: 180_000, largest_file: 99_999 }, &[1])]
#[case::media(Way::Media { capacity: 99_999, largest_file: 200_000 }, &[1, 5])]
#[case::requests(Way::Upload { limit: 100_000 }, &[1, 5])]
fn what_is_too_large_is_refused_and_the_rest_arrives(#[case] way: Way, #[case] refused: &[u32]) {
    let carried = carried_until(&Desk::new(), way, 7, &|| false).unwrap();
    let mut found: Vec<u32> =
        carried.trips.iter().filter(|trip| trip.refused).flat_map(|trip| trip.volumes.clone()).collect();
    found.sort_unstable();
    assert_eq!(found, refused);
    assert_eq!(carried.arrived.len(), LENGTHS.len() - refused.len());
}

#[test]
fn old_media_keep_short_names() {
    let carried = carried_until(&Desk::new(), MEDIA, 1, &|| false).unwrap();
    let name = |path: &std::path::PathBuf| path.file_name().unwrap().to_str().unwrap().to_owned();
    let names: Vec<String> = carried.arrived.iter().map(|(_, path)| name(path)).collect();
    // In the inbox a number may stand in front, where two media had the same name.
    let short = |name: &String| name.rsplit(' ').next().unwrap().len() <= 12 && *name == name.to_uppercase();
    assert!(names.iter().all(short), "{names:?}");
}

#[rstest]
fn whoever_stops_it_is_heard(#[values(Way::ByHand, MAIL, MEDIA, UPLOAD)] way: Way) {
    let asked = AtomicU64::new(0);
    let stopped = carried_until(&Desk::new(), way, 1, &|| asked.fetch_add(1, Ordering::Relaxed) >= 1);
    assert!(matches!(stopped, Err(CarryError::Interrupted(Interruption::Cancelled(_)))), "{stopped:?}");
}
