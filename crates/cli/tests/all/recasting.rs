//! An archive becomes one of another format with the same content; what is not kept is told before.

use crate::support::{Desk, Ran};
use rstest::rstest;
use std::fs;

fn dossier() -> Desk {
    let desk = Desk::new();
    desk.run(&["demo", "--data-to", "."]).expect(0);
    desk
}

/// Whether archives of this name have a password here.
fn has_password(name: &str) -> bool {
    !name.contains(".tar")
}

fn run(desk: &Desk, secret: bool, arguments: &[&str]) -> Ran {
    if secret { desk.run(arguments) } else { desk.run_bare(arguments) }
}

/// From every way in which an archive is written to every other; the old one stays.
#[rstest]
fn an_archive_becomes_one_of_another_format(
    #[values("out/ --fit 260KB", "a.html", "a.zip --hide-names", "a.tar.zst --no-password")] from: &str,
    #[values("sealed", "page", "zip", "tar.gz")] to: &str,
) {
    let desk = dossier();
    let mut packed = from.split(' ');
    let (from, options) = (packed.next().unwrap(), packed.collect::<Vec<_>>());
    let end = match to {
        "sealed" => "useal",
        "page" => "html",
        other => other,
    };
    run(&desk, has_password(from), &[&["pack", "wrenfall-light", "--to", from, "--quiet"], &options[..]].concat())
        .expect(0);
    let new = format!("new/board.{end}");
    desk.file("new.txt", b"a quite new set of words");
    let lock: &[&str] = match (has_password(from), has_password(&new)) {
        (true, true) => &[],
        (_, false) => &["--no-password"],
        (false, true) => &["--new-password-from", "new.txt"],
    };
    let one_file: &[&str] = if to == "page" { &["--one-volume"] } else { &[] };
    let arguments = [&["recast", from, "--as", to, "--to", &new, "--json"], lock, one_file].concat();
    let ran = run(&desk, has_password(from), &arguments).expect(0);
    let volumes = ran.json("/archives/0/volumes").as_array().unwrap().len();
    assert_eq!(volumes > 1, from == "out/" && (to == "sealed" || to == "zip"), "{volumes}");
    assert_eq!(
        (ran.json("/archives/0/verified_files"), ran.json("/archives/0/replaced")),
        (20.into(), serde_json::json!([]))
    );
    let last = ran.json("/archives/0/volumes").as_array().unwrap().last().unwrap()["path"].as_str().unwrap().to_owned();
    let unlock: &[&str] = if lock.contains(&"--new-password-from") { &["--password-from", "new.txt"] } else { &[] };
    // ZIP keeps no parts of a second, so a sealed archive that was ZIP has none.
    let loses_time = from == "a.zip" && (to == "sealed" || to == "page");
    let compare = [&["compare", &last, "wrenfall-light"], unlock].concat();
    let compared = run(&desk, has_password(&new) && has_password(from), &compare).expect(loses_time.into());
    assert!(compared.out.contains("0 added, 0 removed, 0 changed"), "{}", compared.out);
    run(&desk, has_password(from), &["compare", from, "wrenfall-light"]).expect(0);
}

/// What is not kept of it, and whether it is told in a dry run.
#[rstest]
#[case::to_zip("zip", &[], &["hidden names", "the proof", "parts of a second"])]
#[case::to_zip_that_hides("zip", &["--hide-names"], &["the proof", "parts of a second"])]
#[case::to_tar("tar", &["--no-password"], &["the password", "the message", "%XX"])]
#[case::to_a_page("page", &[], &[])]
fn what_is_not_kept_is_told_before(#[case] to: &str, #[case] options: &[&str], #[case] told: &[&str]) {
    let desk = Desk::new();
    desk.file("box/a", b"1");
    let no_text = under_seal_core::disk::names::path_of(b"box/l\xfcster");
    fs::write(desk.path("").join(no_text), b"2").unwrap();
    desk.run(&["pack", "box", "--message", "Mind the step."]).expect(0);
    let ran = desk.run(&[&["recast", "box.useal", "--as", to, "--dry-run", "--json"], options].concat()).expect(0);
    let lost = ran.json("/archives/0/not_kept").to_string();
    // Tar keeps names as they are; ZIP does not. On Windows each is text.
    let told = told.iter().filter(|what| **what != "%XX");
    let is_escaped = to == "zip" && cfg!(unix);
    assert!(told.clone().all(|what| lost.contains(what)) && lost.contains("%XX") == is_escaped, "{lost}");
    assert_eq!(
        fs::read_dir(desk.path("")).unwrap().filter(|entry| entry.as_ref().unwrap().path().is_file()).count(),
        1
    );
    let ran = desk.run(&[&["recast", "box.useal", "--as", to], options].concat()).expect(0);
    assert_eq!(ran.err.contains("not kept: "), to != "page", "{}", ran.err);
    assert!(!ran.out.contains("not kept"), "it was told twice: {}", ran.out);
}

/// Where the format stays, the old one is replaced; and what opens it is what opened it before, or what is given as new.
#[test]
fn an_archive_is_squeezed_otherwise_in_its_place() {
    let desk = dossier();
    desk.file("new.txt", b"a quite new set of words");
    desk.run(&["pack", "wrenfall-light", "--to", "out/", "--squeeze", "none", "--fit", "500KB"]).expect(0);
    let ran = desk.run(&["recast", "out", "--squeeze", "hard", "--json"]).expect(0);
    assert!(ran.json("/archives/0/after_bytes").as_u64() < ran.json("/archives/0/before_bytes").as_u64());
    assert!(!ran.json("/archives/0/replaced").as_array().unwrap().is_empty());
    assert!(desk.run(&["about", "out"]).expect(0).out.contains("squeeze hard"));
    desk.run(&["compare", "out", "wrenfall-light"]).expect(0);
    desk.run(&["recast", "out", "--squeeze", "even", "--new-password-from", "new.txt"]).expect(0);
    desk.run(&["list", "out"]).expect(3);
    desk.run_bare(&["compare", "out", "wrenfall-light", "--password-from", "new.txt"]).expect(0);
}

/// What would be lost in its own place is not replaced, by `revise` no more than by `recast`.
#[test]
fn an_archive_that_would_lose_something_stays() {
    let desk = Desk::new();
    desk.file("a", b"1").run_bare(&["pack", "a", "--to", "z.zip", "--no-password"]).expect(0);
    let zip = [b"#!/bin/sh\n".to_vec(), fs::read(desk.path("z.zip")).unwrap()].concat();
    desk.file("z.zip", &zip);
    let ran = desk.run_bare(&["recast", "z.zip", "--squeeze", "hard"]).expect(2);
    assert!(ran.err.contains("what stands in front"), "{}", ran.err);
    assert!(
        desk.run_bare(&["revise", "z.zip", "--add", "a", "--on-clash", "replace"])
            .expect(2)
            .err
            .contains("what stands in front")
    );
    assert_eq!(fs::read(desk.path("z.zip")).unwrap(), zip);
    desk.run_bare(&["recast", "z.zip", "--squeeze", "hard", "--to", "new/"]).expect(0);
}

/// Several end in a table; what cannot be made keeps the others from nothing.
#[test]
fn several_archives_are_made_at_once() {
    let desk = dossier();
    desk.file("new.txt", b"a quite new set of words").file("broken.zip", b"PK");
    for name in ["drawings", "costs"] {
        let (source, to) = (format!("wrenfall-light/{name}"), format!("{name}.zip"));
        desk.run_bare(&["pack", &source, "--to", &to, "--no-password"]).expect(0);
    }
    let named = ["recast", "drawings.zip", "broken.zip", "costs.zip", "--as", "sealed", "--fit", "64KB"];
    let ran = desk.run_bare(&[&named[..], &["--to", "new/", "--new-password-from", "new.txt"]].concat()).expect(2);
    assert!(
        ran.out.contains("2 of 3 archives made and verified; 1 could not be") && ran.out.contains("broken.zip is "),
        "{}",
        ran.out
    );
    assert_eq!(desk.names("new").len(), 2);
    let compare = ["compare", "new/costs.useal", "wrenfall-light/costs", "--password-from", "new.txt"];
    assert!(desk.run_bare(&compare).expect(1).out.contains("0 added, 0 removed, 0 changed"));
    // Volumes of one set count once.
    let twice = ["recast", "new/costs.useal", "new/costs.useal", "--as", "zip", "--password-from", "new.txt", "--json"];
    assert_eq!(desk.run_bare(&twice).expect(0).json("/archives").as_array().unwrap().len(), 1);
}

/// Why nothing is made, and what is told; nothing is there then that was not there before.
#[rstest]
#[case::no_password_there(&["a.useal", "--as", "tar"], 2, "has no password. Add --no-password")]
#[case::nobody_to_ask(&["open.zip", "--as", "sealed"], 2, "Give it with --new-password-from FILE.")]
#[case::one_name_for_two(&["a.useal", "open.zip", "--as", "zip", "--to", "x.zip"], 2, "cannot have one name")]
#[case::only_read(&["a.gz", "--squeeze", "hard", "--accept-no-password"], 2, "Say with --as what it is to become")]
#[case::taken(&["a.useal", "--as", "zip", "--to", "open.zip"], 6, "are there already")]
#[case::unknown_format(&["a.useal", "--as", "xyz"], 2, "--as does not take `xyz`. It takes sealed, page")]
#[case::no_fit(&["a.useal", "--as", "page", "--fit", "1MB"], 2, "page")]
#[case::two_to_cut(&["a.useal", "open.zip", "--fit", "1MB"], 2, "at a time")]
#[case::weak(&["a.useal", "--as", "zip", "--new-password-from", "weak"], 2, "This password is weak")]
fn what_cannot_become_anything_stays(#[case] options: &[&str], #[case] code: i32, #[case] words: &str) {
    let desk = Desk::new();
    desk.file("a", b"1").file("weak", b"lamp").run(&["pack", "a"]).expect(0);
    desk.run_bare(&["pack", "a", "--to", "open.zip", "--no-password"]).expect(0);
    desk.file("a.gz", &[0x1F, 0x8B, 8, 0, 0, 0, 0, 0, 0, 0xFF, 3, 0, 0, 0, 0, 0, 0, 0, 0, 0]);
    let before = desk.names(".");
    let secret = options[0] == "a.useal";
    let ran = run(&desk, secret, &[&["recast"], options].concat()).expect(code);
    assert!((ran.err.clone() + &ran.out).replace("\n  ", " ").contains(words), "{}{}", ran.err, ran.out);
    assert_eq!(desk.names("."), before);
}
