//! Changing what is in an archive: it opens to what was wished, and where it cannot be, it is as it was.

use crate::support::Desk;
use crate::support::system::{links, with_link};
use rstest::rstest;
use std::fs;

/// Something is added, taken out and renamed, in every format that is written.
#[rstest]
#[case::sealed("out/a.useal", &[])]
#[case::in_volumes("out/", &["--fit", "260KB"])]
#[case::squeezed_hard("out/a.useal", &["--squeeze", "hard"])]
#[case::page("a.html", &[])]
#[case::zip("a.zip", &[])]
#[case::zip_in_parts("a.zip", &["--fit", "300KB"])]
#[case::zip_that_hides("a.zip", &["--hide-names"])]
#[case::zip_for_everybody("a.zip", &["--no-password"])]
#[case::tar("a.tar.gz", &["--no-password"])]
fn an_archive_is_changed(#[case] archive: &str, #[case] options: &[&str]) {
    let desk = Desk::new();
    desk.run(&["demo", "--data-to", "."]).expect(0);
    let secret = !options.contains(&"--no-password");
    desk.file("für den Beirat.txt", b"new").file("nothing", b"");
    let pack = [&["pack", "wrenfall-light", "--to", archive, "--quiet"], options].concat();
    if secret {
        desk.run(&pack).expect(0)
    } else {
        desk.run_bare(&pack).expect(0)
    };
    let wishes = [
        "--add",
        "für den Beirat.txt",
        "nothing",
        "--inside",
        "wrenfall-light/letters/new",
        "--remove",
        "*.csv",
        "--rename",
        "wrenfall-light/drawings",
        "wrenfall-light/plans/old",
        "--rename",
        "wrenfall-light/costs",
        "wrenfall-light/a/costs",
    ];
    let run = |arguments: &[&str]| if secret { desk.run(arguments) } else { desk.run_bare(arguments) };
    let dry = run(&[&["revise", archive, "--json", "--dry-run"], &wishes[..]].concat()).expect(0);
    let ran = run(&[&["revise", archive, "--json"], &wishes[..]].concat()).expect(0);
    for field in ["/kept_entries", "/added", "/removed", "/renamed", "/after/files"] {
        assert_eq!(dry.json(field), ran.json(field), "{field}");
    }
    assert_eq!(
        (dry.json("/written"), ran.json("/written"), ran.json("/kept_entries")),
        (false.into(), true.into(), with_link(26).into())
    );
    assert_eq!(ran.json("/removed").as_array().unwrap().len(), 3);
    run(&["open", archive, "--into", "in"]).expect(0);
    let here = |name: &str| fs::read(desk.path("in/wrenfall-light").join(name)).ok();
    assert_eq!(here("letters/new/für den Beirat.txt").unwrap(), b"new");
    assert_eq!(here("letters/new/nothing").unwrap(), b"");
    assert!(here("plans/old/first design.svg").is_some() && here("survey/levels.csv").is_none());
    assert_eq!(here("plans/old/current.svg").is_some(), links(1) == 1);
    assert!(here("a/costs/signed copy, pending.txt").is_some() && !desk.path("in/wrenfall-light/drawings").exists());
    assert_eq!(
        here("photographs/03 weather side.jpg"),
        fs::read(desk.path("wrenfall-light/photographs/03 weather side.jpg")).ok()
    );
    // Once more, with what is on disk: everything is as it was.
    run(&["revise", archive, "--refresh", "wrenfall-light", "--quiet"]).expect(0);
    run(&["compare", archive, "wrenfall-light"]).expect(0);
}

/// Why it stays as it is, and what is told.
#[rstest]
#[case::wrong_password(&["--add", "new", "--password-from", "new"], 3, "Wrong password.")]
#[case::no_such_source(&["--add", "nowhere"], 2, "nowhere does not exist")]
#[case::clash(&["--add", "wrenfall-light"], 6, "are inside already: ")]
#[case::in_the_way(&["--add", "new", "--inside", "wrenfall-light/about-this-dossier.txt"], 2, "is a file inside where a folder is needed")]
#[case::not_there(&["--rename", "wrenfall-light/drawing", "x"], 2, "There is: wrenfall-light/drawings")]
#[case::taken(&["--rename", "wrenfall-light/drawings", "wrenfall-light/costs"], 2, "already. Nothing was changed.")]
#[case::into_itself(&["--rename", "wrenfall-light", "wrenfall-light/x"], 2, "cannot be put into itself")]
#[case::climbing(&["--rename", "wrenfall-light", "../x"], 2, "a path with . or ..")]
#[case::everything(&["--remove", "wrenfall-light"], 2, "Nothing would be left")]
#[case::nothing_matches(&["--remove", "*.xyz"], 1, "")]
#[case::another_folder(&["--refresh", "elsewhere"], 2, "this is not what it was packed from")]
#[case::nobody_to_ask(&["--refresh"], 2, "no terminal to ask on")]
#[case::no_wish(&[], 2, "--refresh")]
#[case::same(&["--refresh", "wrenfall-light"], 0, "")]
#[case::other_format(&["--add", "new", "--to", "x.zip"], 2, "keeps its format")]
#[case::taken_place(&["--add", "new", "--to", "out/"], 6, "are there already")]
#[case::weak(&["--add", "new", "--also-password-from", "new"], 2, "This password is weak")]
#[case::only_said(&["--add", "new", "--dry-run"], 0, "")]
fn what_cannot_be_changed_stays_as_it_is(#[case] options: &[&str], #[case] code: i32, #[case] words: &str) {
    let desk = Desk::with_volumes();
    desk.file("new", b"lamp").file("elsewhere/x", b"");
    let before = (desk.names("."), fs::read(desk.volume(7)).unwrap());
    let ran = desk.run(&[&["revise", "out"], options].concat()).expect(code);
    assert!(ran.err.replace("\n  ", " ").contains(words), "{}", ran.err);
    assert_eq!((desk.names("."), fs::read(desk.volume(7)).unwrap()), before);
}

/// What is there already, what comes of it, and what the file is then.
#[rstest]
#[case::keep("keep", false, b"old")]
#[case::replace("replace", true, b"young")]
#[case::newer("newer", true, b"young")]
#[case::both("both", true, b"old")]
fn added_files_meet_others_as_is_wished(#[case] on_clash: &str, #[case] written: bool, #[case] content: &[u8]) {
    let desk = Desk::new();
    desk.file("box/note", b"old").run(&["pack", "box"]).expect(0);
    desk.file("note", b"young");
    let ran = desk.run(&["revise", "box.useal", "--add", "note", "--inside", "box", "--on-clash", on_clash, "--json"]);
    assert_eq!(ran.expect(0).json("/written"), written);
    assert_eq!(desk.run(&["peek", "box.useal", "box/note"]).expect(0).out.as_bytes(), content);
    if on_clash == "both" {
        assert_eq!(desk.run(&["peek", "box.useal", "box/note (2)"]).expect(0).out, "young");
    }
}

/// An archive that was made to a fit keeps to it, although it comes to one volume for a while.
#[test]
fn the_fit_stays() {
    let desk = Desk::with_volumes();
    desk.run(&["revise", "out", "--remove", "photographs", "survey"]).expect(0);
    assert_eq!(desk.names("out").len(), 1);
    desk.run(&["revise", "out", "--refresh", "wrenfall-light", "--message", "All of it."]).expect(0);
    assert_eq!(desk.names("out").len(), 7);
    assert!(desk.run(&["about", "out"]).expect(0).out.contains("All of it."));
    desk.run(&["revise", "out", "--remove", "*.csv", "--fit", "1MB", "--to", "new/"]).expect(0);
    assert_eq!((desk.names("new").len(), desk.names("out").len()), (2, 7));
}

/// Who could open it until now must be named to open it then too.
#[test]
fn other_passwords_are_named_again() {
    let desk = Desk::new();
    desk.file("a", b"1").file("b", b"2").file("new", b"a quite new set of words");
    desk.run(&["pack", "a", "--also-password-from", "new"]).expect(0);
    desk.run(&["revise", "a.useal", "--add", "b", "--also-password-from", "new"]).expect(0);
    desk.run_bare(&["list", "a.useal", "--password-from", "new"]).expect(0);
    let ran = desk.run(&["revise", "a.useal", "--remove", "b", "--json"]).expect(0);
    assert_eq!(ran.json("/passwords"), 1);
    desk.run_bare(&["list", "a.useal", "--password-from", "new"]).expect(3);
}
