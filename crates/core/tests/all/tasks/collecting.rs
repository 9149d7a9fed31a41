//! Volumes that come one after the other, each on a medium of its own.

use crate::support::{Desk, noise, tree};
use rstest::rstest;
use std::fs;
use std::path::{Path, PathBuf};
use under_seal_core::disk::{Folder, own_name};
use under_seal_core::ground::ownership::OwnerKey;
use under_seal_core::tasks::check::collect::{CollectError, Collection, Taken};

/// Three volumes, and an empty medium.
fn packed() -> (Desk, Vec<PathBuf>) {
    let desk = Desk::new();
    let volumes = desk.source("noise", &noise(350_000)).pack("150KB");
    fs::create_dir(desk.path("medium")).unwrap();
    (desk, volumes)
}

/// Puts these volumes in, all under names that media of old would give them.
fn put_in(desk: &Desk, volumes: &[&Path]) {
    fs::remove_dir_all(desk.path("medium")).unwrap();
    fs::create_dir(desk.path("medium")).unwrap();
    for (place, volume) in volumes.iter().enumerate() {
        fs::copy(volume, desk.path(&format!("medium/VOLUME~{place}.USE"))).unwrap();
    }
}

fn take(desk: &Desk, collection: &mut Collection) -> Result<Taken, CollectError> {
    desk.with_context(&|| false, |context| collection.take(&[desk.path("medium")], context))
}

fn begin(desk: &Desk, folder: &str) -> Collection {
    desk.with_context(&|| false, |context| Collection::begin(&desk.path(folder), context)).unwrap()
}

#[test]
fn a_set_comes_together_volume_by_volume_and_over_several_runs() {
    let (desk, volumes) = packed();
    let aside = desk.path("aside");
    fs::create_dir(&aside).unwrap();
    // What a killed run has left, what only looks so, and a file of somebody else's.
    let left = own_name(&Folder::open(&aside).unwrap(), ".collecting-", 1, &OwnerKey::new(&[0; 32])).unwrap();
    for name in [left.as_os_str(), ".collecting-0123456789abcdef".as_ref(), "notes".as_ref()] {
        fs::write(aside.join(name), b"mine").unwrap();
    }
    let mut collection = begin(&desk, "aside");
    assert!(!aside.join(left).exists() && aside.join(".collecting-0123456789abcdef").exists());
    assert_eq!(collection.missing(), None);
    assert_eq!(take(&desk, &mut collection).unwrap(), Taken::default());
    put_in(&desk, &[&volumes[2]]);
    assert_eq!(take(&desk, &mut collection).unwrap().copied, [3]);
    // The same again is nothing new.
    assert_eq!(take(&desk, &mut collection).unwrap(), Taken::default());
    put_in(&desk, &[&volumes[0], &volumes[2]]);
    let mut later = begin(&desk, "aside");
    assert_eq!(later.missing(), Some((vec![1, 2], 3)));
    assert_eq!(take(&desk, &mut later).unwrap().copied, [1]);
    put_in(&desk, &[&volumes[1]]);
    assert_eq!(take(&desk, &mut later).unwrap().copied, [2]);
    assert_eq!(later.missing(), Some((vec![], 3)));
    assert_eq!((fs::read(aside.join("notes")).unwrap(), fs::read_dir(&aside).unwrap().count()), (b"mine".to_vec(), 5));
    desk.open(&[aside], &desk.path("inbox")).unwrap();
    assert_eq!(tree(&desk.path("inbox/source")), tree(&desk.path("source")));
}

/// What is done to the second volume before it is put in; whether it is taken then.
#[rstest]
#[case::whole(|_: &mut Vec<u8>| {}, true)]
#[case::a_cell(|bytes: &mut Vec<u8>| bytes[70_000] ^= 1, false)]
#[case::header(|bytes: &mut Vec<u8>| bytes[700] ^= 1, false)]
#[case::cut_short(|bytes: &mut Vec<u8>| bytes.truncate(100_000), false)]
fn only_whole_volumes_are_taken(#[case] change: fn(&mut Vec<u8>), #[case] taken: bool) {
    let (desk, volumes) = packed();
    let mut collection = begin(&desk, "aside");
    put_in(&desk, &[&volumes[0]]);
    take(&desk, &mut collection).unwrap();
    let mut bytes = fs::read(&volumes[1]).unwrap();
    change(&mut bytes);
    fs::write(&volumes[1], bytes).unwrap();
    put_in(&desk, &[&volumes[1], &volumes[2]]);
    let outcome = take(&desk, &mut collection).unwrap();
    let (copied, damaged) = if taken { (vec![2, 3], vec![]) } else { (vec![3], vec![2]) };
    assert_eq!(outcome, Taken { copied, damaged, spares: Vec::new() });
    let temporary = |name: &String| name.starts_with('.');
    let names =
        fs::read_dir(desk.path("aside")).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap());
    assert_eq!(names.filter(temporary).count(), 0);
}

#[test]
fn a_volume_of_another_set_is_not_mixed_in() {
    let (desk, volumes) = packed();
    let mut collection = begin(&desk, "aside");
    put_in(&desk, &[&volumes[0]]);
    take(&desk, &mut collection).unwrap();
    // The second volume, as one of a set with another id.
    let strange = desk.path("strange");
    let mut bytes = fs::read(&volumes[1]).unwrap();
    bytes[16] ^= 1;
    crate::support::mend_checks(&mut bytes);
    fs::write(&strange, bytes).unwrap();
    put_in(&desk, &[&strange]);
    assert_eq!(take(&desk, &mut collection).unwrap(), Taken::default());
    assert_eq!(collection.missing(), Some((vec![2, 3], 3)));
}
