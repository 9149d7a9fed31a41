use super::own_folder::with_suffix;
use super::*;
use crate::ground::context::{NoRandomness, Observer, Progress, Randomness};
use crate::ground::entry::Timestamp;
use crate::ground::ownership::OwnerKey;
use rstest::rstest;
use std::fs;
use std::path::Path;

struct Nobody;

impl Observer for Nobody {
    fn told(&self, _: Progress<'_>) {}
}

impl Randomness for Nobody {
    fn fill(&self, _: &mut [u8]) -> Result<(), NoRandomness> {
        Err(NoRandomness)
    }
}

/// Work of the user who has this key.
fn as_user<T>(key: u8, work: impl FnOnce(&Context<'_>) -> T) -> T {
    let clock = || Timestamp::default();
    let owner_key = &|| OwnerKey::new(&[key; 32]);
    let (cancel, threads) = (&|| false, 1);
    work(&Context { observer: &Nobody, cancel, randomness: &Nobody, clock: &clock, owner_key, threads })
}

fn settle_as(key: u8, folder: &Path, stem: &str) -> Result<Leftover, StagingError> {
    as_user(key, |context| settle(&Folder::open(folder).unwrap(), stem.as_ref(), context))
}

fn placings() -> Vec<Placing> {
    ["-1of2", "-2of2"].iter().zip(1..).map(|(suffix, number)| Placing { number, suffix: suffix.to_string() }).collect()
}

fn begin(folder: &std::path::Path) -> (Staging, Leftover) {
    let leftover = settle_as(1, folder, "set").unwrap();
    let target = Folder::open(folder).unwrap();
    (as_user(1, |context| Staging::begin(target, "set".as_ref(), context)).unwrap(), leftover)
}

fn stage(staging: &Staging) {
    for number in [1, 2] {
        staging.create(number).unwrap().write(format!("new {number}").as_bytes()).unwrap();
    }
}

fn replaced(folder: &Path, suffix: &str) -> Replaced {
    let (bytes, modified) =
        Folder::open(folder).unwrap().size_and_time_of(&with_suffix("set".as_ref(), suffix)).unwrap();
    Replaced { suffix: suffix.to_owned(), bytes, modified }
}

fn listing(folder: &std::path::Path) -> Vec<String> {
    let mut all: Vec<_> = fs::read_dir(folder)
        .unwrap()
        .map(|entry| entry.unwrap())
        .map(|entry| {
            let text = fs::read_to_string(entry.path()).unwrap_or("folder".into());
            format!("{}: {text}", entry.file_name().display())
        })
        .collect();
    all.sort();
    all
}

#[test]
fn placing_replaces_the_old_set_as_a_whole() {
    let place = tempfile::tempdir().unwrap();
    for (name, text) in [("set-1of2", "old 1"), ("set-3of3", "old 3"), ("other", "other")] {
        fs::write(place.path().join(name), text).unwrap();
    }
    let (staging, leftover) = begin(place.path());
    assert_eq!(leftover, Leftover::None);
    stage(&staging);
    let replaced = [replaced(place.path(), "-1of2"), replaced(place.path(), "-3of3")];
    staging.place(&placings(), &replaced).unwrap();
    assert_eq!(listing(place.path()), ["other: other", "set-1of2: new 1", "set-2of2: new 2"]);
}

#[test]
fn a_name_taken_at_the_last_moment_is_not_replaced_and_all_is_as_before() {
    let place = tempfile::tempdir().unwrap();
    fs::write(place.path().join("set-2of2"), "theirs").unwrap();
    fs::write(place.path().join("set-old"), "old").unwrap();
    let (staging, _) = begin(place.path());
    stage(&staging);
    assert!(staging.place(&placings(), &[replaced(place.path(), "-old")]).is_err());
    assert_eq!(listing(place.path()), ["set-2of2: theirs", "set-old: old"]);
}

#[test]
fn a_second_run_on_the_same_target_is_refused_while_the_first_lives() {
    let place = tempfile::tempdir().unwrap();
    let (_first, _) = begin(place.path());
    assert!(matches!(settle_as(1, place.path(), "set"), Err(StagingError::InUse(_))));
    let target = Folder::open(place.path()).unwrap();
    let second = as_user(1, |context| Staging::begin(target, "set".as_ref(), context));
    assert!(matches!(second, Err(StagingError::InUse(_))));
}

#[test]
fn files_of_others_in_the_staging_folder_are_never_touched() {
    let place = tempfile::tempdir().unwrap();
    fs::create_dir(place.path().join("set.unfinished")).unwrap();
    fs::write(place.path().join("set.unfinished/thesis.txt"), "mine").unwrap();
    let refused = settle_as(1, place.path(), "set");
    assert!(matches!(refused, Err(StagingError::InTheWay(_))));
    assert!(place.path().join("set.unfinished/thesis.txt").exists());
}

/// Stops after every number of moves in turn, as a power cut would, and lets the next run go on.
#[rstest]
fn an_interrupted_placing_is_completed_by_the_next_run(#[values(0, 1, 2, 3)] moves_done: usize) {
    let place = tempfile::tempdir().unwrap();
    fs::write(place.path().join("set-1of2"), "old 1").unwrap();
    let (mut staging, _) = begin(place.path());
    stage(&staging);
    Steps { placings: placings(), replaced: vec![replaced(place.path(), "-1of2")] }.write(&staging.own).unwrap();
    let folder = place.path().join("set.unfinished");
    let moves = [
        (place.path().join("set-1of2"), folder.join("set-aside-00000")),
        (folder.join("volume-00001"), place.path().join("set-1of2")),
        (folder.join("volume-00002"), place.path().join("set-2of2")),
    ];
    for (from, to) in &moves[..moves_done] {
        fs::rename(from, to).unwrap();
    }
    staging.keep = true;
    drop(staging);
    let (_next, leftover) = begin(place.path());
    assert_eq!(leftover, Leftover::Completed);
    assert_eq!(listing(place.path()), ["set-1of2: new 1", "set-2of2: new 2", "set.unfinished: folder"]);
}

#[test]
fn an_interrupted_writing_is_cleared_by_the_next_run() {
    let place = tempfile::tempdir().unwrap();
    let (mut staging, _) = begin(place.path());
    stage(&staging);
    staging.keep = true;
    drop(staging);
    let (next, leftover) = begin(place.path());
    assert_eq!(leftover, Leftover::Cleared);
    drop(next);
    assert!(listing(place.path()).is_empty());
}

/// A killed run's folder, with steps that would set an old file aside and place a new one.
fn killed_midway(place: &Path) {
    fs::write(place.join("set-1of2"), "old 1").unwrap();
    let (mut staging, _) = begin(place);
    stage(&staging);
    Steps { placings: placings(), replaced: vec![replaced(place, "-1of2")] }.write(&staging.own).unwrap();
    staging.keep = true;
}

/// What an archive, another user or another place brings looks like ours in every byte, and is not believed.
#[rstest]
#[case::other_user(2, |_: &Path| {})]
#[case::copied(1, |place: &Path| {
    fs::rename(place.join("set.unfinished"), place.join("kept")).unwrap();
    fs::create_dir(place.join("set.unfinished")).unwrap();
    for file in fs::read_dir(place.join("kept")).unwrap().map(|file| file.unwrap()) {
        fs::copy(file.path(), place.join("set.unfinished").join(file.file_name())).unwrap();
    }
})]
#[case::other_archive(1, |place: &Path| {
    fs::rename(place.join("set.unfinished"), place.join("it.unfinished")).unwrap();
    fs::rename(place.join("set-1of2"), place.join("it-1of2")).unwrap();
})]
// On Windows nothing of the kind is told.
#[cfg_attr(unix, case::open_to_all(1, |place: &Path| {
    fs::set_permissions(place.join("set.unfinished"), std::os::unix::fs::PermissionsExt::from_mode(0o777)).unwrap();
}))]
#[case::something_set_aside(1, |place: &Path| fs::write(place.join("set.unfinished/set-aside-00001"), "mine").unwrap())]
fn what_is_not_proven_to_be_ours_is_not_touched(#[case] user: u8, #[case] change: fn(&Path)) {
    let place = tempfile::tempdir().unwrap();
    killed_midway(place.path());
    change(place.path());
    let before = listing(place.path());
    for stem in ["set", "it"] {
        let outcome = settle_as(user, place.path(), stem);
        assert!(matches!(outcome, Err(StagingError::InTheWay(_)) | Ok(Leftover::None)), "{outcome:?}");
    }
    assert_eq!(listing(place.path()), before);
}

/// Steps with one byte changed are as good as none, and then what was set aside or staged is not carried anywhere.
#[test]
fn changed_steps_are_not_carried_out() {
    let place = tempfile::tempdir().unwrap();
    killed_midway(place.path());
    let steps = place.path().join("set.unfinished/steps");
    let text = fs::read_to_string(&steps).unwrap().replace("-1of2", "-2of2");
    fs::write(&steps, text).unwrap();
    assert_eq!(settle_as(1, place.path(), "set").unwrap(), Leftover::Cleared);
    assert_eq!(listing(place.path()), ["set-1of2: old 1"]);
}

/// An old file that somebody has changed since it was to be replaced is somebody's work.
#[test]
fn a_file_that_changed_meanwhile_is_not_replaced() {
    let place = tempfile::tempdir().unwrap();
    fs::write(place.path().join("set-1of2"), "old 1").unwrap();
    let old = replaced(place.path(), "-1of2");
    let (staging, _) = begin(place.path());
    stage(&staging);
    fs::write(place.path().join("set-1of2"), "new work").unwrap();
    assert!(matches!(staging.place(&placings(), &[old]), Err(StagingError::Changed(_))));
    assert_eq!(listing(place.path()), ["set-1of2: new work"]);
}
