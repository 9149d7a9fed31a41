//! What a sender chooses is what is packed, under the paths that were meant.

use crate::support::Desk;
use crate::support::system::symlink;
use rstest::rstest;
use std::collections::HashSet;
use std::fs;
use std::path::PathBuf;
use under_seal_core::disk::{Links, identity_at};
use under_seal_core::ground::passwords::{Guessing, judge, make_passphrase};
use under_seal_core::ground::secrets::Password;
use under_seal_core::source::{Catalogue, Choice, Naming, Patterns, SourceError, expand};

/// A small dossier, beside it a folder of drawings, and in it links to both.
fn dossier() -> Desk {
    let desk = Desk::new();
    for file in
        ["survey/raw/north.pts", "survey/levels.csv", "survey/.notes", "letters/first.txt", "letters/first.txt~"]
    {
        desk.source(file, file.as_bytes());
    }
    desk.source("../beside/tower.svg", b"<svg/>");
    symlink("../beside", desk.path("source/drawings"));
    symlink("..", desk.path("source/survey/back"));
    desk
}

fn gather(desk: &Desk, sources: &[PathBuf], choice: &Choice) -> Result<Catalogue, SourceError> {
    let own = desk.path("source/own.useal");
    desk.with_context(&|| false, |context| Catalogue::gather(sources, choice, &|path| path == own, context))
}

fn paths(catalogue: &Catalogue) -> String {
    let paths = catalogue.entries.iter().map(|entry| String::from_utf8_lossy(entry.path.as_bytes()).into_owned());
    paths.collect::<Vec<_>>().join(" ")
}

fn patterns(patterns: &[&str]) -> Patterns {
    Patterns::new(patterns).unwrap()
}

#[rstest]
#[case::everything(
    Choice::default(),
    "source source/drawings source/letters source/letters/first.txt source/letters/first.txt~ source/survey \
     source/survey/.notes source/survey/back source/survey/levels.csv source/survey/raw source/survey/raw/north.pts",
    0
)]
#[case::left_out(
    Choice { leave_out: patterns(&["raw/", "*.txt", "back", "drawings"]), ..Choice::default() },
    "source source/letters source/letters/first.txt~ source/survey source/survey/.notes source/survey/levels.csv",
    4
)]
#[case::without_litter(
    Choice { no_litter: true, only: patterns(&["letters"]), ..Choice::default() },
    "source source/letters source/letters/first.txt",
    8
)]
#[case::only_some_and_the_folders_above(
    Choice { only: patterns(&["*.pts"]), ..Choice::default() },
    "source source/survey source/survey/raw source/survey/raw/north.pts",
    7
)]
#[case::left_out_counts_more_than_only(
    Choice { only: patterns(&["survey"]), leave_out: patterns(&["raw", "back"]), ..Choice::default() },
    "source source/survey source/survey/.notes source/survey/levels.csv",
    6
)]
#[case::contents(
    Choice { naming: Naming::Contents, only: patterns(&["/letters"]), ..Choice::default() },
    "letters letters/first.txt letters/first.txt~",
    7
)]
#[cfg_attr(windows, ignore = "there are no links in it")]
fn the_choice_is_what_is_packed(#[case] choice: Choice, #[case] expected: &str, #[case] left_out: u64) {
    let desk = dossier();
    desk.source("own.useal", b"an old volume");
    let catalogue = gather(&desk, &[desk.path("source")], &choice).unwrap();
    assert_eq!((paths(&catalogue).as_str(), catalogue.left_out), (expected, left_out));
    assert_eq!((catalogue.own_output, catalogue.unmatched.len()), (1, 0));
    for entry in &catalogue.entries {
        assert!(fs::symlink_metadata(catalogue.disk_path(entry)).is_ok());
    }
}

#[test]
#[cfg_attr(windows, ignore = "there are no links in it")]
fn links_are_followed_where_that_is_wished_and_never_in_circles() {
    let desk = dossier();
    symlink("nowhere", desk.path("source/dangling"));
    let choice = Choice { follow: true, leave_out: patterns(&["letters", "raw", ".*"]), ..Choice::default() };
    let catalogue = gather(&desk, &[desk.path("source")], &choice).unwrap();
    assert_eq!(
        paths(&catalogue),
        "source source/drawings source/drawings/tower.svg source/survey source/survey/levels.csv"
    );
    let passed_over: Vec<_> = catalogue.passed_over.iter().map(|over| over.disk_path.clone()).collect();
    assert_eq!(passed_over, [desk.path("source/dangling"), desk.path("source/survey/back")]);
}

/// Sources are typed from within the desk's folder, so they are put together by its path and `..`.
#[rstest]
#[case::folders_kept(&["x/../source/survey/raw", "x/../source/letters/first.txt"], "source source/letters source/letters/first.txt source/survey source/survey/raw source/survey/raw/north.pts")]
#[case::one_within_the_other(&["x/../source/survey", "x/../source/survey/raw"], "source source/survey source/survey/.notes source/survey/back source/survey/levels.csv source/survey/raw source/survey/raw/north.pts")]
#[case::absolute(&["source/letters"], "letters letters/first.txt letters/first.txt~")]
#[cfg_attr(windows, ignore = "the way up from a drive is another")]
fn paths_as_typed_keep_their_folders(#[case] typed: &[&str], #[case] expected: &str) {
    let desk = dossier();
    fs::create_dir(desk.path("x")).unwrap();
    let relative = |path: &PathBuf| {
        // From wherever the test runs up to the root and down again: relative, with names behind the last `..`.
        let here = std::env::current_dir().unwrap();
        let up: PathBuf = here.components().skip(1).map(|_| "..").collect();
        up.join(path.strip_prefix("/").unwrap())
    };
    let sources: Vec<PathBuf> = typed.iter().map(|typed| desk.path(typed)).collect();
    let sources: Vec<PathBuf> = if typed[0].contains("..") { sources.iter().map(relative).collect() } else { sources };
    let choice = Choice { naming: Naming::AsTyped, ..Choice::default() };
    assert_eq!(paths(&gather(&desk, &sources, &choice).unwrap()), expected);
}

#[rstest]
#[case::same_name(&["source/letters", "beside/../source/letters/../letters"], Choice::default(), "have the same name")]
#[case::nothing_left(&["source"], Choice { leave_out: patterns(&["source"]), ..Choice::default() }, "everything is left out")]
#[case::only_what_is_not_there(&["source"], Choice { only: patterns(&["*.tif"]), ..Choice::default() }, "everything is left out")]
fn a_choice_that_cannot_be_packed_is_refused(#[case] sources: &[&str], #[case] choice: Choice, #[case] words: &str) {
    let desk = dossier();
    let sources: Vec<PathBuf> = sources.iter().map(|source| desk.path(source)).collect();
    let refused = gather(&desk, &sources, &choice).unwrap_err().to_string();
    assert!(refused.contains(words), "{refused}");
}

#[test]
fn patterns_that_match_nothing_are_told() {
    let desk = dossier();
    let choice =
        Choice { leave_out: patterns(&["raw", "drawing"]), only: patterns(&["survey", "*.tif"]), ..Choice::default() };
    assert_eq!(gather(&desk, &[desk.path("source")], &choice).unwrap().unmatched, ["drawing", "*.tif"]);
}

#[rstest]
#[case("source/letters/*", Ok(vec!["source/letters/first.txt", "source/letters/first.txt~"]))]
#[case("source/survey/*", Ok(vec!["source/survey/back", "source/survey/levels.csv", "source/survey/raw"]))]
#[case("source/letters/[", Ok(vec!["source/letters/["]))]
#[case("source/*.tif", Err("matches nothing"))]
#[cfg_attr(windows, ignore = "there are no links in it")]
fn wildcards_are_expanded_where_no_shell_did(#[case] typed: &str, #[case] expected: Result<Vec<&str>, &str>) {
    let desk = dossier();
    if typed.ends_with('[') {
        desk.source("letters/[", b"its name is a bracket");
    }
    match (expand(&[desk.path(typed)]), expected) {
        (Ok(found), Ok(expected)) => {
            let expected: Vec<PathBuf> = expected.iter().map(|path| desk.path(path)).collect();
            assert_eq!(found, expected);
        }
        (Err(error), Err(words)) => assert!(error.to_string().contains(words), "{error}"),
        (found, _) => panic!("{found:?}"),
    }
}

/// The system's own file systems are others than that of any folder.
#[test]
#[cfg_attr(windows, ignore = "there is no such folder")]
fn another_file_system_is_left_out_where_that_is_wished() {
    let device = |path: &str| {
        let metadata = fs::metadata(path).ok()?;
        Some(identity_at(path.as_ref(), &metadata, Links::Follow).ok()?.0.device)
    };
    let (Some(outer), Some(inner)) = (device("/dev"), device("/dev/shm")) else { return };
    let choice = Choice { one_system: true, only: patterns(&["shm"]), ..Choice::default() };
    let catalogue = gather(&Desk::new(), &[PathBuf::from("/dev")], &choice).unwrap();
    assert_eq!(catalogue.other_systems.iter().any(|path| path.as_bytes() == b"dev/shm"), outer != inner);
}

#[test]
fn a_made_passphrase_is_strong_and_never_the_same() {
    let made: HashSet<String> = Desk::new()
        .with_context(&|| false, |context| (0..100).map(|_| make_passphrase(context).unwrap().to_string()).collect());
    assert_eq!(made.len(), 100);
    for passphrase in made {
        assert_eq!(passphrase.split(' ').filter(|word| word.len() >= 3).count(), 7, "{passphrase}");
        assert!(!judge(&Password::new(&passphrase).unwrap(), &[], Guessing::Zip).is_weak());
    }
}
