//! Landing: what is wished of an extraction beside its place, and what it does not let itself be led to.

use crate::support::system::{has_mode, links, symlink};
use crate::support::{Desk, tree};
use rstest::rstest;
use std::cell::RefCell;
use std::fs;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use under_seal_core::ground::context::{Context, Observer, Progress};
use under_seal_core::landing::{Destination, OnClash, Screen};
use under_seal_core::tasks::open::open;
use under_seal_core::{Error, ErrorClass};

/// Files of one name in three folders, a link and an empty folder.
fn packed() -> Desk {
    let desk = Desk::new();
    desk.source("a/notes.txt", b"first").source("b/notes.txt", b"second").source("notes (2).txt", b"third");
    symlink("a/notes.txt", desk.path("source/link"));
    fs::create_dir(desk.path("source/empty")).unwrap();
    desk.pack("");
    desk
}

fn names(folder: &Path) -> Vec<String> {
    let mut names: Vec<String> =
        fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
    names.sort();
    names
}

#[rstest]
#[case::into_nothing(None, OnClash::Refuse, &["notes (2).txt", "notes (3).txt", "notes.txt"], "first")]
#[case::beside_another(Some("notes.txt"), OnClash::Both, &["notes (2).txt", "notes (3).txt", "notes (4).txt", "notes.txt"], "mine")]
#[case::in_the_way(Some("notes (3).txt"), OnClash::Refuse, &[], "")]
fn without_folders_every_name_is_given_once(
    #[case] there: Option<&str>,
    #[case] on_clash: OnClash,
    #[case] expected: &[&str],
    #[case] begins: &str,
) {
    let desk = packed();
    let inbox = desk.path("inbox");
    fs::create_dir(&inbox).unwrap();
    if let Some(name) = there {
        fs::write(inbox.join(name), b"mine").unwrap();
    }
    let into = Destination { flat: true, on_clash, ..Destination::from(&inbox) };
    let opened = desk.open_with(&[desk.path("out")], into).map_err(|error| error.class());
    if expected.is_empty() {
        assert_eq!(opened.unwrap_err(), ErrorClass::Unsafe);
        return;
    }
    let landed = opened.unwrap().landed;
    assert_eq!((landed.files, landed.folders, landed.flat_links), (3, 0, links(1)));
    assert_eq!(names(&inbox), expected);
    assert_eq!(fs::read_to_string(inbox.join("notes.txt")).unwrap(), begins);
}

/// Links clash like files do, and nothing is written through one: what a link leads to stays as it is.
#[rstest]
#[case(OnClash::Keep, &["link"], "../outside", "theirs")]
#[case(OnClash::Replace, &["link"], "a/notes.txt", "first")]
#[case(OnClash::Newer, &["link"], "../outside", "theirs")]
#[case(OnClash::Both, &["link", "link (2)"], "../outside", "theirs")]
#[cfg_attr(windows, ignore = "there are no links")]
fn links_clash_like_files(
    #[case] on_clash: OnClash,
    #[case] links: &[&str],
    #[case] target: &str,
    #[case] notes: &str,
) {
    let desk = packed();
    let inbox = desk.path("inbox");
    desk.open(&[desk.path("out")], &inbox).unwrap();
    fs::write(inbox.join("outside"), "theirs").unwrap();
    for (path, target) in [("source/link", "../outside"), ("source/a/notes.txt", "../../outside")] {
        fs::remove_file(inbox.join(path)).unwrap();
        symlink(target, inbox.join(path));
    }
    assert_eq!(desk.open(&[desk.path("out")], &inbox).unwrap_err().class(), ErrorClass::Unsafe);
    let landed =
        desk.open_with(&[desk.path("out")], Destination { on_clash, ..Destination::from(&inbox) }).unwrap().landed;
    assert_eq!(landed.kept + landed.replaced + landed.beside.len() as u64, 4);
    let found: Vec<_> = names(&inbox.join("source")).into_iter().filter(|name| name.starts_with("link")).collect();
    assert_eq!(
        (found, fs::read_link(inbox.join("source/link")).unwrap()),
        (links.iter().map(|link| (*link).to_owned()).collect(), target.into())
    );
    assert_eq!(fs::read_to_string(inbox.join("source/a/notes.txt")).unwrap(), notes);
    assert_eq!(fs::read_to_string(inbox.join("outside")).unwrap(), "theirs");
}

/// What the screening does with the closed folder, and what comes of it.
#[rstest]
#[case::yes(|_: &Path| Ok(()), None)]
#[case::no(|_: &Path| Err("no".to_owned()), Some(ErrorClass::Unsafe))]
#[case::changed(|folder: &Path| { fs::write(folder.join("source/b/notes.txt"), "secone").unwrap(); Ok(()) }, Some(ErrorClass::Unsafe))]
#[case::taken_away(|folder: &Path| { fs::remove_file(folder.join("source/b/notes.txt")).unwrap(); Ok(()) }, Some(ErrorClass::Unsafe))]
#[case::swapped_for_a_link(|folder: &Path| {
    fs::remove_file(folder.join("source/b/notes.txt")).unwrap();
    symlink("/etc/passwd", folder.join("source/b/notes.txt"));
    Ok(())
}, Some(ErrorClass::Unsafe))]
#[case::left_something_there(|folder: &Path| { fs::write(folder.join("report"), "clean").unwrap(); Ok(()) }, None)]
fn files_land_only_if_whoever_looks_at_them_says_yes(
    #[case] looks: fn(&Path) -> Result<(), String>,
    #[case] expected: Option<ErrorClass>,
) {
    let desk = packed();
    let inbox = desk.path("inbox");
    let seen = RefCell::new(Vec::new());
    let screen: Screen<'_> = &|folder| {
        assert!(has_mode(folder, 0o700));
        seen.borrow_mut().extend(tree(folder).into_keys().filter(|path| folder.join(path).is_file()));
        assert!(!inbox.join("source").exists(), "something landed before it was looked at");
        looks(folder)
    };
    let outcome =
        desk.open_with(&[desk.path("out")], Destination { screen: Some(screen), ..Destination::from(&inbox) });
    assert_eq!(outcome.as_ref().err().map(Error::class), expected, "{outcome:?}");
    assert_eq!(seen.borrow().len(), 3);
    match expected {
        None => {
            assert_eq!(tree(&inbox.join("source")), tree(&desk.path("source")));
            assert_eq!(names(&inbox), ["source"]);
        }
        Some(_) => assert_eq!(names(&inbox), Vec::<String>::new()),
    }
}

/// A volume is damaged in the middle, so an opening stops on the way, when others have landed.
#[rstest]
#[case::taken_back(false, &[])]
#[case::left(true, &["a"])]
fn what_has_landed_when_it_stops_is_taken_back_unless_it_shall_stay(
    #[case] keep_complete: bool,
    #[case] left: &[&str],
) {
    let desk = Desk::new();
    desk.source("a", &crate::support::noise(2_000_000)).source("b", &crate::support::noise(4_000_000)).pack("");
    let path = desk.path("out/set.useal");
    let mut bytes = fs::read(&path).unwrap();
    bytes[5_000_000] ^= 1;
    fs::write(&path, bytes).unwrap();
    let inbox = desk.path("inbox");
    let into = Destination { keep_complete, ..Destination::from(&inbox) };
    let error = desk.open_with(&[path], into).unwrap_err();
    assert_eq!(error.class(), ErrorClass::Damaged);
    let landed = if inbox.join("source").exists() { names(&inbox.join("source")) } else { Vec::new() };
    assert_eq!(landed, left);
    assert_eq!(names(&inbox).len(), left.len());
}

/// Does something once, when an entry begins.
struct Meanwhile<'a> {
    path: &'a [u8],
    work: &'a (dyn Fn() + Sync),
    done: AtomicBool,
}

impl<'a> Meanwhile<'a> {
    fn at(path: &'a [u8], work: &'a (dyn Fn() + Sync)) -> Self {
        Self { path, work, done: AtomicBool::new(false) }
    }
}

impl Observer for Meanwhile<'_> {
    fn told(&self, progress: Progress<'_>) {
        if let Progress::Entry(path) = progress
            && path.as_bytes() == self.path
            && !self.done.swap(true, Ordering::Relaxed)
        {
            (self.work)();
        }
    }
}

/// Opens what was packed into the inbox, while that is done.
fn open_meanwhile(desk: &Desk, meanwhile: &Meanwhile<'_>) {
    let mut archive = desk.unlock(&[desk.path("out")]).unwrap();
    let outcome = desk.with_context(&|| false, |context| {
        open(&mut archive, &desk.path("inbox"), &Context { observer: meanwhile, ..*context })
    });
    assert!(meanwhile.done.load(Ordering::Relaxed) && outcome.is_err(), "{outcome:?}");
}

#[test]
#[cfg_attr(windows, ignore = "there are no links")]
fn a_folder_that_is_swapped_for_a_link_meanwhile_is_not_followed() {
    let desk = packed();
    fs::create_dir(desk.path("outside")).unwrap();
    let swap = || {
        let (folder, moved) = (desk.path("inbox/source"), desk.path("inbox/moved"));
        fs::rename(&folder, moved).unwrap();
        symlink(desk.path("outside"), folder);
    };
    open_meanwhile(&desk, &Meanwhile::at(b"source/b/notes.txt", &swap));
    assert_eq!(names(&desk.path("outside")), Vec::<String>::new());
}

/// Another run of the user's opens the same archive into the same place, when the last file begins.
#[test]
fn a_run_that_fails_takes_back_nothing_that_another_counts_on() {
    let desk = packed();
    let other = || drop(desk.open(&[desk.path("out")], &desk.path("inbox")).unwrap());
    open_meanwhile(&desk, &Meanwhile::at(b"source/notes (2).txt", &other));
    assert_eq!(tree(&desk.path("inbox/source")), tree(&desk.path("source")));
    assert_eq!(names(&desk.path("inbox")), ["source"]);
}
