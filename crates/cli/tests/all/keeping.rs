//! Looking after an archive: whatever is done to it, one whole set is there, and it opens as before.

use crate::support::Desk;
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
    assert_eq!((volumes.len(), ran.json("/after/volumes"), ran.json("/set")), (count, count.into(), set));
    assert_eq!(ran.json("/before/volumes"), 7);
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

/// What stands in the way is told, and nothing is changed.
#[rstest]
#[case::missing(|desk: &Desk| fs::remove_file(desk.volume(3)).unwrap(), &["--fit", "1MB"], 4, "Volume 3 of 7 is missing")]
#[case::damaged(|desk: &Desk| { desk.flip(&desk.volume(3), 70_000); }, &["--fit", "1MB"], 5, "damaged")]
#[case::renamed(|desk: &Desk| fs::rename(desk.volume(3), desk.path("out/third")).unwrap(), &["--fit", "1MB"], 2, "--to; the old ones stay")]
#[case::a_copy_beside_it(|desk: &Desk| { fs::copy(desk.volume(3), desk.path("out/third")).unwrap(); }, &["--fit", "1MB"], 2, "--to; the old ones stay")]
#[case::too_small(|_: &Desk| {}, &["--fit", "20KB"], 2, "a volume needs at least")]
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
