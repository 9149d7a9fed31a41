//! Looking after an archive: whatever is done to it, one whole set is there, and it opens as before.

use crate::support::{Desk, PASSWORD};
use rstest::rstest;
use std::fs;

/// How it is cut, the volumes that come of it, and whether the old ones stay.
#[rstest]
#[case::larger(&["--fit", "1MB"], 2, false)]
#[case::one(&["--one-volume"], 1, false)]
#[case::of_a_kind(&["--fit", "mail-10"], 1, false)]
#[case::of_my_own(&["--fit", "small", "--config", "board.toml"], 4, false)]
#[case::elsewhere(&["--fit", "500KB", "--to", "new/"], 4, true)]
#[case::under_another_name(&["--fit", "500KB", "--to", "new/board"], 4, true)]
#[case::only_said(&["--fit", "500KB", "--dry-run"], 4, true)]
fn an_archive_is_cut_to_another_fit(#[case] options: &[&str], #[case] count: usize, #[case] old_stay: bool) {
    let desk = Desk::with_volumes();
    desk.file("board.toml", b"[fits.small]\nsize = \"500KB\"\n");
    let before = desk.names("out");
    let set = desk.run_bare(&["check", "out", "--json"]).expect(0).json("/set");
    let ran = desk.run_bare(&[&["recast", "out", "--json"], options].concat()).expect(0);
    let volumes = ran.json("/volumes").as_array().unwrap().clone();
    assert_eq!((volumes.len(), ran.json("/after/volume_count"), ran.json("/set")), (count, count.into(), set));
    assert_eq!(ran.json("/before/volume_count"), 7);
    let dry = options.contains(&"--dry-run");
    assert_eq!((desk.names("out") == before, ran.json("/written")), (old_stay, (!dry).into()));
    if !dry {
        for volume in &volumes {
            assert_eq!(fs::metadata(volume["path"].as_str().unwrap()).unwrap().len(), volume["bytes"]);
        }
        let first = volumes[0]["path"].as_str().unwrap();
        desk.run(&["open", first, "--into", "in"]).expect(0);
        desk.run(&["compare", first, "in/wrenfall-light"]).expect(0);
    }
    // A second time there is nothing to do, or nothing is written over.
    if !dry {
        let again = desk.run_bare(&[&["recast", "out"], options].concat()).expect(if old_stay { 6 } else { 0 });
        assert!((again.out + &again.err).contains(if old_stay { "are there already" } else { "Nothing was changed" }));
    }
}

/// Sealed cells stay whole, so that a part of a fit may stay unused: that is said, and so is which fits are filled, and that with the
/// password this one can be.
#[test]
fn what_stays_unused_of_a_fit_is_told() {
    let desk = Desk::with_volumes();
    let cut = |fit: &str| desk.run_bare(&["recast", "out", "--fit", fit, "--dry-run", "--json"]).expect(0);
    let unfilled = cut("300KB").json("/unfilled");
    assert_eq!(
        (unfilled["fit_bytes"].as_u64(), &unfilled["volume_bytes"]),
        (Some(300_000), &unfilled["filled_fits"][0])
    );
    for fit in unfilled["filled_fits"].as_array().unwrap() {
        assert!(cut(&fit.to_string()).json("/unfilled").is_null());
    }
    let told = desk.run_bare(&["recast", "out", "--fit", "300KB"]).expect(0).out;
    let suggested = told.lines().find(|line| line.ends_with("--as sealed")).unwrap().trim();
    desk.run(&suggested.split(' ').skip(1).collect::<Vec<_>>()).expect(0);
    let lengths: Vec<u64> =
        desk.names("out").iter().map(|name| desk.path("out").join(name).metadata().unwrap().len()).collect();
    assert!(lengths[..lengths.len() - 1].iter().all(|length| (297_000..=300_000).contains(length)), "{lengths:?}");
}

/// What stands in the way is told, and nothing is changed.
#[rstest]
#[case::missing(|desk: &Desk| fs::remove_file(desk.volume(3)).unwrap(), &["--fit", "1MB"], 4, "Volume 3 of 7 is missing")]
#[case::damaged(|desk: &Desk| { desk.flip(&desk.volume(3), 70_000); }, &["--fit", "1MB"], 5, "damaged")]
#[case::renamed(|desk: &Desk| fs::rename(desk.volume(3), desk.path("out/third")).unwrap(), &["--fit", "1MB"], 2, "--to; the old ones stay")]
#[case::a_copy_beside_it(|desk: &Desk| { fs::copy(desk.volume(3), desk.path("out/third")).unwrap(); }, &["--fit", "1MB"], 2, "--to; the old ones stay")]
#[case::too_small(|_: &Desk| {}, &["--fit", "20KB"], 2, "a volume has at least 68,032 bytes. With the password it can be packed anew, for any fit from 12,288 bytes: add --as sealed")]
#[case::cut_so(|_: &Desk| {}, &["--fit", "270KB", "--to", "new/"], 2, "7 volumes of 259,840 bytes. Nothing was written; a copy would be the same. Sealed cells")]
#[case::no_fit(|_: &Desk| {}, &[], 2, "--one-volume")]
#[case::not_there(|desk: &Desk| fs::remove_dir_all(desk.path("out")).unwrap(), &["--one-volume"], 2, "does not exist")]
fn what_cannot_be_cut_stays_as_it_is(
    #[case] accident: fn(&Desk),
    #[case] options: &[&str],
    #[case] code: i32,
    #[case] words: &str,
) {
    let desk = Desk::with_volumes();
    accident(&desk);
    let before = desk.names(".");
    let inside = desk.path("out").exists().then(|| desk.names("out"));
    let ran = desk.run_bare(&[&["recast", "out"], options].concat()).expect(code);
    assert!(ran.err.replace("\n  ", " ").contains(words), "{}", ran.err);
    assert_eq!(desk.names("."), before);
    assert_eq!(desk.path("out").exists().then(|| desk.names("out")), inside);
}

/// An archive that lies in the current folder is found there.
#[test]
fn an_archive_is_cut_in_the_current_folder() {
    let desk = Desk::new();
    desk.file("a", &[7; 1_000]).run(&["pack", "a", "--squeeze", "none", "--fit", "64KB"]).expect(0);
    desk.run_bare(&["recast", "a.useal", "--one-volume"]).expect(0);
    assert_eq!(desk.names(".").iter().filter(|name| name.ends_with(".useal")).count(), 1);
}

/// An archive in a page becomes volumes elsewhere; the page stays.
#[test]
fn a_page_is_cut_into_volumes() {
    let desk = Desk::new();
    desk.file("a", b"1").run(&["pack", "a", "--as", "page"]).expect(0);
    assert!(desk.run_bare(&["recast", "a.html", "--one-volume"]).expect(2).err.contains("--to"));
    desk.run_bare(&["recast", "a.html", "--one-volume", "--to", "new/"]).expect(0);
    assert_eq!(desk.names("new"), ["a.useal"]);
    desk.run(&["open", "new", "--into", "in"]).expect(0);
    assert!(desk.path("a.html").exists());
}

/// With what it is locked anew, what opens it then, and what comes of trying something else: nothing where that is the password until now.
#[rstest]
#[case::another(&["--new-password-from", "new"], &["--password-from", "new"], &[], 3)]
#[case::with_a_key_file(&["--new-password-from", "new", "--new-key-file", "key"], &["--password-from", "new", "--key-file", "key"], &["--password-from", "new"], 3)]
#[case::a_made_one(&["--make-passphrase", "--passphrase-to", "made"], &["--password-from", "made"], &[], 3)]
#[case::two(&["--new-password-from", "new", "--also-password-from", "old"], &["--password-from", "new"], &[], 0)]
#[case::none(&["--no-password"], &["--accept-no-password"], &[], 5)]
#[case::elsewhere(&["--new-password-from", "new", "--to", "elsewhere/"], &["--password-from", "new"], &[], 3)]
fn an_archive_is_locked_anew(#[case] with: &[&str], #[case] opens: &[&str], #[case] other: &[&str], #[case] code: i32) {
    let desk = Desk::with_volumes();
    desk.file("new", b"a quite new set of words").file("old", PASSWORD.as_bytes()).file("key", b"a key file");
    let before = desk.names("out");
    let ran = desk.run(&[&["relock", "out", "--json"], with].concat()).expect(0);
    let folder = if with.contains(&"--to") { "elsewhere" } else { "out" };
    assert_eq!((desk.names("out"), desk.names(folder).len()), (before, 7));
    assert_ne!(ran.json("/set"), ran.json("/old_set"));
    assert_eq!((ran.json("/verified_files"), ran.json("/written")), (20.into(), true.into()));
    desk.run(&[&["open", folder, "--into", "in"], opens].concat()).expect(0);
    desk.run(&[&["compare", folder, "wrenfall-light"], opens].concat()).expect(0);
    desk.run(&[&["list", folder], other].concat()).expect(code);
    if folder == "elsewhere" {
        desk.run(&["list", "out"]).expect(0);
    }
}

/// What stands in the way of it is told, and nothing is changed.
#[rstest]
#[case::wrong_password(&["--password-from", "new", "--new-password-from", "new"], 3, "Wrong password.")]
#[case::weak(&["--new-password-from", "weak"], 2, "This password is weak")]
#[case::nobody_to_ask(&[], 2, "Give it with --new-password-from FILE.")]
#[case::not_there(&["--new-password-from", "nowhere"], 2, "The password file nowhere cannot be read")]
#[case::two_ways(&["--new-password-from", "new", "--make-passphrase"], 2, "exclude each other")]
#[case::too_many(&["--new-password-from", "new", "--also-password-from", "new1", "--also-password-from", "new2", "--also-password-from", "new3", "--also-password-from", "new4", "--also-password-from", "new5", "--also-password-from", "new6", "--also-password-from", "new7", "--also-password-from", "new8"], 2, "1 to 8 passwords, and 9 are named")]
#[case::twice(&["--new-password-from", "new", "--also-password-from", "new"], 2, "The same password is given twice.")]
#[case::only_said(&["--dry-run"], 0, "")]
fn what_is_not_locked_anew_stays_as_it_is(#[case] options: &[&str], #[case] code: i32, #[case] words: &str) {
    let desk = Desk::with_volumes();
    desk.file("new", b"a quite new set of words").file("weak", b"lamp");
    for number in 1..9 {
        desk.file(&format!("new{number}"), format!("set {number} of quite new words").as_bytes());
    }
    let before = desk.names("out");
    let ran = desk.run(&[&["relock", "out"], options].concat()).expect(code);
    assert!(ran.err.replace("\n  ", " ").contains(words), "{}", ran.err);
    assert_eq!(desk.names("out"), before);
    desk.run(&["check", "out", "--ask-password"]).expect(0);
}
