//! The disk fails at any operation, or the process dies there: at the end either everything is there and verifies, or
//! nothing looks finished, the next run clears up, and the sources are untouched.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test stops at the first thing that is not as it should be")]

mod support;

use rstest::rstest;
use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::{Mutex, MutexGuard, PoisonError};
use support::system::{set_mode, symlink};
use support::{Desk, PASSWORD, gather, noise, tree};
use under_seal_core::codecs::block::Squeeze;
use under_seal_core::disk::FileAction;
use under_seal_core::disk::faults::{Fault, plan};
use under_seal_core::formats::archive::Archive;
use under_seal_core::formats::registry::{Format, PAGE, SEALED, TAR_GZ, ZIP};
use under_seal_core::formats::sealed::volume::{SpareWish, names};
use under_seal_core::formats::sealed::{CostLimit, KeyCost, SealedReader, unlock_given};
use under_seal_core::ground::entry::EntryPath;
use under_seal_core::ground::fit::Fit;
use under_seal_core::ground::secrets::Password;
use under_seal_core::landing::{Destination, OnClash, Screen};
use under_seal_core::source::{Catalogue, Choice, Patterns};
use under_seal_core::tasks::check::inspect;
use under_seal_core::tasks::in_place::{complete_earlier, own_place};
use under_seal_core::tasks::mend::{Wanted, mend};
use under_seal_core::tasks::pack::{PackError, PackRequest, Target, WayError};
use under_seal_core::tasks::portion::{PortionRequest, portion};
use under_seal_core::tasks::recast::{converting, recut};
use under_seal_core::tasks::relock::{RelockRequest, relock};
use under_seal_core::tasks::reunite::{Pieces, reunite};
use under_seal_core::tasks::revise::{Edit, Old, Revision, prepare, revise};
use under_seal_core::{Error, ErrorClass};

/// Faults are planned for the whole process, so only one test at a time plans any.
static ONE_AT_A_TIME: Mutex<()> = Mutex::new(());

fn alone() -> MutexGuard<'static, ()> {
    let guard = ONE_AT_A_TIME.lock().unwrap_or_else(PoisonError::into_inner);
    plan(None, None);
    guard
}

/// Sources that make three volumes, and, in some tests, two old volumes of the same name.
fn lay_out(desk: &Desk, with_old_set: bool) {
    if with_old_set {
        desk.source("old", &noise(70_000));
        desk.pack(FIT);
        fs::remove_file(desk.path("source/old")).unwrap();
    }
    desk.source("noise", &noise(150_000)).source("plans/tower.svg", b"<svg/>").source("plans/empty", b"");
    symlink("plans", desk.path("source/link"));
    fs::hard_link(desk.path("source/plans/tower.svg"), desk.path("source/tower again.svg")).unwrap();
}

const FIT: &str = "70KB";

/// The volumes in `out` under final names, and whether something there says that it is not finished.
fn volumes(desk: &Desk) -> (Vec<String>, bool) {
    let names = fs::read_dir(desk.path("out")).into_iter().flatten().map(|entry| entry.unwrap().file_name());
    let mut names: Vec<String> = names.map(|name| name.into_string().unwrap()).collect();
    names.sort();
    let unfinished = names.iter().any(|name| name.ends_with(".unfinished"));
    names.retain(|name| name.ends_with(".useal") || name.contains(".z"));
    (names, unfinished)
}

fn opens_to(desk: &Desk, expected: &Path) {
    let inbox = tempfile::tempdir_in(desk.place.path()).unwrap();
    desk.open_packed(inbox.path()).unwrap();
    assert_eq!(desk.tree(&inbox.path().join("source")), desk.tree(expected));
}

/// What must hold after a pack that failed or died, and after the next one. `before`: the volumes that were there.
fn recovers(desk: &Desk, before: &[String], at: &str) {
    let (left, unfinished) = volumes(desk);
    assert!(left == before || unfinished, "{at}: {left:?} look finished");
    match desk.pack_replacing(FIT, true) {
        Ok(_) | Err(PackError::Way(WayError::EarlierRunCompleted(_))) => {}
        Err(error) => panic!("{at}: the next run fails: {error}"),
    }
    let (now, unfinished) = volumes(desk);
    assert!(now.len() == 3 && !unfinished, "{at}: {now:?}");
    opens_to(desk, &desk.path("source"));
}

#[rstest]
fn a_disk_that_fails_at_any_operation_of_a_pack_harms_nothing(
    #[values(Fault::Full, Fault::Broken)] fault: Fault,
    #[values(false, true)] with_old_set: bool,
    #[values((&SEALED, false), (&ZIP, false), (&ZIP, true))] (format, hide_names): (&'static Format, bool),
) {
    let _alone = alone();
    for number in 0.. {
        let desk = Desk { format, hide_names, ..Desk::new() };
        lay_out(&desk, with_old_set);
        let (sources, (before, _)) = (tree(&desk.path("source")), volumes(&desk));
        plan(Some((number, fault)), None);
        let outcome = desk.pack_replacing(FIT, with_old_set);
        let operations = plan(None, None);
        let at = format!("{fault:?} at operation {number} of {operations}");
        assert_eq!(tree(&desk.path("source")), sources, "{at}");
        match outcome {
            Ok(_) => {
                // Only clearing up may fail unsaid; the marker that it leaves goes with the next run.
                assert_eq!(volumes(&desk).0.len(), 3, "{at}");
                opens_to(&desk, &desk.path("source"));
            }
            Err(error) => {
                assert_eq!(Error::from(error).class(), ErrorClass::System, "{at}");
                assert_eq!(volumes(&desk).0, before, "{at}");
            }
        }
        recovers(&desk, &volumes(&desk).0, &at);
        if number >= operations {
            assert!(number > 20, "only {number} operations");
            break;
        }
    }
}

#[rstest]
fn a_disk_that_fails_leaves_no_one_file_that_looks_finished(
    #[values(Fault::Full, Fault::Broken)] fault: Fault,
    #[values(&TAR_GZ, &PAGE)] format: &'static Format,
) {
    let _alone = alone();
    for number in 0.. {
        let desk = Desk { format, ..Desk::new() };
        desk.source("noise", &noise(150_000)).source("empty", b"");
        plan(Some((number, fault)), None);
        let outcome = desk.pack_until("", &|| false);
        let operations = plan(None, None);
        match outcome {
            Ok(_) => drop(desk.open_packed(&desk.path("inbox")).unwrap()),
            Err(error) => {
                assert_eq!(Error::from(error).class(), ErrorClass::System);
                assert!(!desk.path(&format!("out/set{}", format.extension())).exists(), "operation {number}");
            }
        }
        if number >= operations {
            assert!(number > 5);
            break;
        }
    }
}

#[rstest]
fn a_disk_that_fails_at_any_operation_of_an_opening_leaves_whole_files_only(
    #[values(Fault::Full, Fault::Broken)] fault: Fault,
    #[values(OnClash::Refuse, OnClash::Replace)] on_clash: OnClash,
    #[values(false, true)] screened: bool,
) {
    let _alone = alone();
    let desk = Desk::new();
    lay_out(&desk, false);
    let volumes = desk.pack(FIT);
    for number in 0.. {
        let inbox = tempfile::tempdir_in(desk.place.path()).unwrap();
        if on_clash == OnClash::Replace {
            lay_old_files(&desk, inbox.path());
        }
        plan(Some((number, fault)), None);
        let screen: Option<Screen<'_>> = if screened { Some(&|_| Ok(())) } else { None };
        let outcome = desk.open_with(&volumes, Destination { on_clash, screen, ..Destination::from(inbox.path()) });
        let operations = plan(None, None);
        let at = format!("{fault:?} at operation {number} of {operations}");
        if let Err(error) = &outcome {
            assert_eq!(error.class(), ErrorClass::System, "{at}: {error}");
            let left: Vec<_> =
                tree(inbox.path()).into_keys().filter(|path| inbox.path().join(path).is_file()).collect();
            let litter = left.iter().all(|path| is_temporary(path));
            assert!(on_clash == OnClash::Replace || litter, "{at}: {left:?} was not taken back");
        }
        whole_files_only(&desk, inbox.path(), &at);
        if number >= operations {
            assert!(number > 10 && outcome.is_ok(), "{number} operations");
            break;
        }
    }
}

/// What stands in the place of every file that will be replaced.
const OLD: &[u8] = b"an older one";

fn lay_old_files(desk: &Desk, inbox: &Path) {
    for path in tree(&desk.path("source")).into_keys() {
        let (sent, old) = (desk.path("source").join(&path), inbox.join("source").join(&path));
        match fs::symlink_metadata(&sent).unwrap() {
            kind if kind.is_dir() => fs::create_dir_all(old).unwrap(),
            kind if kind.is_file() => fs::write(old, OLD).unwrap(),
            _ => {}
        }
    }
}

fn is_temporary(path: &Path) -> bool {
    path.to_string_lossy().contains(".arriving-")
}

/// Every file that has a name of its own is as it was packed, or the whole old one that it was to replace. What else is there says that it is unfinished, and is
/// gone after the next opening.
fn whole_files_only(desk: &Desk, inbox: &Path, at: &str) {
    for path in tree(inbox).into_keys().filter(|path| inbox.join(path).is_file() && !is_temporary(path)) {
        let (landed, sent) = (fs::read(inbox.join(&path)).unwrap(), fs::read(desk.path(&path.to_string_lossy())));
        assert!(landed == OLD || Some(landed) == sent.ok(), "{at}: {}", path.display());
    }
    // Whether this one lands or meets what is there already, it clears up first.
    let _ = desk.open(&[desk.path("out")], inbox);
    let left: Vec<PathBuf> = tree(inbox).into_keys().filter(|path| is_temporary(path)).collect();
    assert!(left.is_empty(), "{at}: {left:?}");
}

/// The chosen kinds of operation fail one by one: a sync, a close and a rename are each noticed.
#[rstest]
fn a_failing_sync_close_or_rename_is_an_error(
    #[values(FileAction::Sync, FileAction::Close, FileAction::Rename)] only: FileAction,
) {
    let _alone = alone();
    let desk = Desk::new();
    lay_out(&desk, false);
    plan(Some((0, Fault::Broken)), Some(only));
    let packed = desk.pack_replacing(FIT, false);
    plan(None, None);
    assert_eq!(packed.map(|_| ()).map_err(|error| Error::from(error).class()), Err(ErrorClass::System));
    let volumes = desk.pack(FIT);
    plan(Some((0, Fault::Broken)), Some(only));
    let opened = desk.open(&volumes, &desk.path("inbox"));
    plan(None, None);
    assert_eq!(opened.map(|_| ()).map_err(|error| error.class()), Err(ErrorClass::System));
}

/// Where the child process finds what to do.
const CHILD: &str = "UNDER_SEAL_TEST_CHILD";

/// Run as a process of its own by the tests below, which tell it what to do and at which operation to die.
#[test]
#[ignore = "the other tests run it"]
fn child() {
    let Ok(told) = std::env::var(CHILD) else { return };
    let [work, number, place] = told.splitn(3, ' ').collect::<Vec<_>>()[..] else { panic!("{told}") };
    let desk = Desk::at(Path::new(place));
    plan(Some((number.parse().unwrap(), Fault::Death)), None);
    match work {
        "pack" => drop(desk.pack_replacing(FIT, true).unwrap()),
        "recast" => recast(&desk).unwrap(),
        "relock" => relock_in_place(&desk).unwrap(),
        "revise" => revise_in_place(&desk).unwrap(),
        "squeeze" => squeeze_in_place(&desk).unwrap(),
        "mend" => mend_in_place(&desk).unwrap(),
        "replace" => {
            let into = desk.path("inbox");
            let into = Destination { on_clash: OnClash::Replace, ..Destination::from(&into) };
            drop(desk.open_with(&[desk.path("out")], into).unwrap());
        }
        "screened" => {
            let into = desk.path("inbox");
            let into = Destination { screen: Some(&|_| Ok(())), ..Destination::from(&into) };
            drop(desk.open_with(&[desk.path("out")], into).unwrap());
        }
        _ => drop(desk.open(&[desk.path("out")], &desk.path("inbox")).unwrap()),
    }
}

/// Whether the child came to its end alive.
fn survives(desk: &Desk, work: &str, number: u64) -> bool {
    let mut command = Command::new(std::env::current_exe().unwrap());
    command.args(["--exact", "child", "--ignored"]).env(CHILD, format!("{work} {number} {}", desk.path("").display()));
    command.stdout(Stdio::null()).stderr(Stdio::null()).status().unwrap().success()
}

#[rstest]
fn a_pack_killed_at_any_operation_is_completed_or_cleared(#[values(false, true)] with_old_set: bool) {
    let _alone = alone();
    for number in 0.. {
        let desk = Desk::new();
        lay_out(&desk, with_old_set);
        let (sources, (before, _)) = (tree(&desk.path("source")), volumes(&desk));
        let alive = survives(&desk, "pack", number);
        assert_eq!(tree(&desk.path("source")), sources);
        let before = if alive { volumes(&desk).0 } else { before };
        recovers(&desk, &before, &format!("killed at operation {number}"));
        if alive {
            assert!(number > 20, "only {number} operations");
            break;
        }
    }
}

#[rstest]
fn an_opening_killed_at_any_operation_leaves_whole_files_only(#[values("open", "replace", "screened")] work: &str) {
    let _alone = alone();
    let desk = Desk::new();
    lay_out(&desk, false);
    desk.pack(FIT);
    for number in 0.. {
        if work == "replace" {
            lay_old_files(&desk, &desk.path("inbox"));
        }
        let alive = survives(&desk, work, number);
        if desk.path("inbox").exists() {
            whole_files_only(&desk, &desk.path("inbox"), &format!("killed at operation {number}"));
            fs::remove_dir_all(desk.path("inbox")).unwrap();
        }
        if alive {
            assert!(number > 10, "only {number} operations");
            break;
        }
    }
}

#[test]
fn an_opening_killed_at_any_operation_is_completed_by_the_next() {
    let _alone = alone();
    let desk = Desk::new();
    lay_out(&desk, false);
    set_mode(desk.path("source/plans"), 0o550);
    desk.pack(FIT);
    let inbox = desk.path("inbox");
    for number in 0.. {
        let alive = survives(&desk, "open", number);
        let at_its_end = inbox.exists() && tree(&inbox).into_keys().all(|path| !is_temporary(&path));
        let again = Destination { on_clash: OnClash::Replace, ..Destination::from(&inbox) };
        desk.open_with(&[desk.path("out")], again).unwrap();
        // What had come to its end was replaced, which changes the folder that it is in.
        let (landed, sent) = (tree(&inbox.join("source")), tree(&desk.path("source")));
        assert!(at_its_end || landed == sent, "killed at operation {number}: {landed:#?}");
        assert_eq!(tree(&inbox).len(), landed.len() + 1, "killed at operation {number}");
        set_mode(inbox.join("source/plans"), 0o750);
        fs::remove_dir_all(&inbox).unwrap();
        if alive {
            assert!(number > 10, "only {number} operations");
            break;
        }
    }
}

/// Cuts the set in `out` into one volume, in its own place.
fn recast(desk: &Desk) -> Result<(), Error> {
    desk.with_context(&|| false, |context| {
        complete_earlier(&desk.path("out"), context)?;
        let set = gather(&[desk.path("out")])?.complete()?;
        let target = own_place(&set).unwrap();
        Ok(recut(&set, &target, Fit::OneVolume, true, context).map(drop)?)
    })
}

/// Locks the set in `out` anew with the password that it has, so that it opens whether that was done or not.
fn relock_in_place(desk: &Desk) -> Result<(), Error> {
    desk.with_context(&|| false, |context| {
        complete_earlier(&desk.path("out"), context)?;
        let set = gather(&[desk.path("out")])?.complete()?;
        let target = own_place(&set).unwrap();
        let credentials = [Password::new(PASSWORD).unwrap().into()];
        let unlocked = unlock_given(&set, credentials.first(), CostLimit::Bearable, true)?.unwrap();
        let cost = KeyCost::CHEAPEST;
        let mut old = SealedReader::of(unlocked)?;
        let request = RelockRequest { target: &target, replace: true, credentials: &credentials, cost };
        Ok(relock(&mut old, &request, context).map(drop)?)
    })
}

/// Takes a file out of the set in `out` and adds it again, so that it opens to the same whether that was done or not.
fn revise_in_place(desk: &Desk) -> Result<(), Error> {
    desk.with_context(&|| false, |context| {
        complete_earlier(&desk.path("out"), context)?;
        let set = gather(&[desk.path("out")])?.complete()?;
        let (target, choice) = (own_place(&set).unwrap(), Choice::default());
        let credentials = [Password::new(PASSWORD).unwrap().into()];
        let mut old = Old::Sealed(Box::new(SealedReader::unlock(set, &credentials[0])?));
        let added = Catalogue::gather(&[desk.path("source/plans/tower.svg")], &choice, &|_| false, context)?;
        let mut edit = Edit::new(old.entries().unwrap(), (context.clock)());
        edit.remove(&Patterns::new(["tower.svg"]).unwrap());
        edit.add(&added, Some(&EntryPath::new("source/plans").unwrap()), OnClash::Refuse)?;
        let revision = Revision::of(edit);
        let fit = FIT.parse().unwrap();
        let request = PackRequest { replace: true, fit, ..PackRequest::new(&[], &choice, &target) };
        let delivery = prepare(&old, &revision, vec![added], &request, context)?;
        Ok(revise(&mut old, &revision, delivery, &credentials, KeyCost::CHEAPEST, context).map(drop)?)
    })
}

/// Squeezes the contents of the set in `out` otherwise, in its own place.
fn squeeze_in_place(desk: &Desk) -> Result<(), Error> {
    desk.with_context(&|| false, |context| {
        complete_earlier(&desk.path("out"), context)?;
        let set = gather(&[desk.path("out")])?.complete()?;
        let (target, choice) = (own_place(&set).unwrap(), Choice::default());
        let credentials = [Password::new(PASSWORD).unwrap().into()];
        let mut old = Archive::from(SealedReader::unlock(set, &credentials[0])?);
        let (fit, squeeze) = (FIT.parse().unwrap(), Squeeze::Light);
        let request = PackRequest { replace: true, fit, squeeze, ..PackRequest::new(&[], &choice, &target) };
        let delivery = converting::prepare(&old, &request, context)?;
        Ok(converting::convert(&mut old, delivery, &credentials, KeyCost::CHEAPEST, context).map(drop)?)
    })
}

/// Recreates what is missing in `out`, beside the rest.
fn mend_in_place(desk: &Desk) -> Result<(), Error> {
    desk.with_context(&|| false, |context| {
        complete_earlier(&desk.path("out"), context)?;
        let set = gather(&[desk.path("out")])?;
        let found = inspect(&set, context)?;
        let wanted = Wanted::lost(&set, &found, u32::MAX)?;
        let target = Target { folder: desk.path("out"), stem: "set".into() };
        match wanted.is_nothing() {
            true => Ok(()),
            false => Ok(mend(&set, &wanted, &target, context).map(drop)?),
        }
    })
}

#[rstest]
fn mending_that_fails_or_dies_at_any_operation_leaves_all_or_nothing(
    #[values(Some(Fault::Full), Some(Fault::Broken), None)] fault: Option<Fault>,
) {
    let _alone = alone();
    for number in 0.. {
        let mut desk = Desk::new();
        desk.spares = SpareWish::Count(2);
        lay_out(&desk, false);
        desk.pack(FIT);
        let all = tree(&desk.path("out"));
        let lost = ["set-02of03.useal", "set-spare1of2.useal"];
        lost.iter().for_each(|name| fs::remove_file(desk.path("out").join(name)).unwrap());
        let before = volumes(&desk).0;
        let (is_done, operations) = match fault {
            Some(fault) => {
                plan(Some((number, fault)), None);
                let outcome = mend_in_place(&desk);
                let operations = plan(None, None);
                if let Err(error) = &outcome {
                    assert_eq!(error.class(), ErrorClass::System, "operation {number}: {error}");
                    assert_eq!(volumes(&desk), (before, false), "operation {number}");
                }
                (outcome.is_ok(), operations)
            }
            None => {
                let alive = survives(&desk, "mend", number);
                let (left, unfinished) = volumes(&desk);
                assert!(alive || unfinished || left == before, "operation {number}: {left:?} look finished");
                (alive, 0)
            }
        };
        mend_in_place(&desk).unwrap();
        let names = |tree: &BTreeMap<PathBuf, String>| {
            // A folder that could not be cleared goes with the next run.
            let files = tree.iter().filter(|(_, told)| !told.ends_with("folder"));
            let contents = files.map(|(path, told)| (path.clone(), told.rsplit(' ').next().unwrap().to_owned()));
            contents.collect::<Vec<_>>()
        };
        assert_eq!(names(&tree(&desk.path("out"))), names(&all), "operation {number}");
        if is_done && number >= operations {
            assert!(number > 10, "only {number} operations");
            break;
        }
    }
}

/// Whatever happens, one whole set is there once the same is tried again, the old one or the new one, and nothing else.
#[rstest]
fn looking_after_a_set_that_fails_or_dies_at_any_operation_loses_nothing(
    #[values(Some(Fault::Full), Some(Fault::Broken), None)] fault: Option<Fault>,
    #[values(("recast", 1), ("relock", 3), ("revise", 3), ("squeeze", 3))] what: (&str, u32),
) {
    let (work, count) = what;
    let act = match work {
        "recast" => recast,
        "relock" => relock_in_place,
        "squeeze" => squeeze_in_place,
        _ => revise_in_place,
    };
    let _alone = alone();
    for number in 0.. {
        let desk = Desk::new();
        lay_out(&desk, false);
        desk.pack(FIT);
        let (is_done, operations) = match fault {
            Some(fault) => {
                plan(Some((number, fault)), None);
                let outcome = act(&desk);
                let operations = plan(None, None);
                if let Err(error) = &outcome {
                    assert_eq!(error.class(), ErrorClass::System, "operation {number}: {error}");
                    assert_eq!(volumes(&desk), (volumes_named(3), false), "operation {number}");
                    opens_to(&desk, &desk.path("source"));
                }
                (outcome.is_ok(), operations)
            }
            None => (survives(&desk, work, number), 0),
        };
        act(&desk).unwrap();
        assert_eq!(volumes(&desk), (volumes_named(count), false), "operation {number}");
        opens_to(&desk, &desk.path("source"));
        if is_done && number >= operations {
            assert!(number > 10, "only {number} operations");
            break;
        }
    }
}

fn volumes_named(count: u32) -> Vec<String> {
    (1..=count).map(|number| format!("set{}", names::suffix(number, count))).collect()
}

/// Cuts a file into pieces, or joins them; whether it came to its end.
fn cut_or_join(desk: &Desk, joins: bool) -> Result<(), Error> {
    desk.with_context(&|| false, |context| {
        let (file, folder) = (desk.path("noise"), desk.path("cut"));
        if !joins {
            return Ok(portion(&PortionRequest { file: &file, folder: &folder, limit: 40_000 }, context).map(drop)?);
        }
        let pieces = Pieces::find(&[folder.join("noise.02of04")], context)?;
        Ok(reunite(&pieces, &desk.path("joined"), None, context).map(drop)?)
    })
}

#[rstest]
fn a_disk_that_fails_leaves_all_pieces_or_none_and_the_whole_or_nothing(
    #[values(Fault::Full, Fault::Broken)] fault: Fault,
    #[values(false, true)] joins: bool,
) {
    let _alone = alone();
    let names = |desk: &Desk, folder: &str| -> Vec<String> {
        let names = fs::read_dir(desk.path(folder)).into_iter().flatten();
        let mut names: Vec<_> = names.map(|name| name.unwrap().file_name().into_string().unwrap()).collect();
        names.retain(|name| !name.starts_with('.') && !name.ends_with(".unfinished"));
        names.sort();
        names
    };
    for number in 0.. {
        let desk = Desk::new();
        fs::write(desk.path("noise"), noise(150_000)).unwrap();
        if joins {
            cut_or_join(&desk, false).unwrap();
        }
        plan(Some((number, fault)), None);
        let outcome = cut_or_join(&desk, joins);
        let operations = plan(None, None);
        let at = format!("{fault:?} at operation {number} of {operations}");
        let folder = if joins { "joined" } else { "cut" };
        if let Err(error) = &outcome {
            assert_eq!(error.class(), ErrorClass::System, "{at}: {error}");
            assert!(names(&desk, folder).is_empty(), "{at}: {:?}", names(&desk, folder));
            // The next run is not in the way of what this one left.
            cut_or_join(&desk, joins).unwrap();
        }
        match joins {
            true => assert!(fs::read(desk.path("joined/noise")).unwrap() == noise(150_000), "{at}"),
            false => assert_eq!(names(&desk, "cut").len(), 5, "{at}"),
        }
        assert!(fs::read(desk.path("noise")).unwrap() == noise(150_000), "{at}");
        if number >= operations {
            assert!(number > 4 && outcome.is_ok(), "{number} operations");
            break;
        }
    }
}
