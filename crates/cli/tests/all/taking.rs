//! Taking files out in other ways than all of them into their folders.

use crate::support::system::{LOOKS, NOT_FOUND, SAYS_NO, SHOWS_SETTINGS, attribute, links, set_attribute};
use crate::support::{Desk, PASSWORD, Ran};
use rstest::rstest;
use std::fs;
use std::process::Stdio;

#[test]
fn files_can_be_taken_out_without_their_folders() {
    let desk = Desk::with_volumes();
    let told = desk.run(&["open", "out", "--into", "in", "--flat", "--dry-run"]).expect(0).out;
    assert!(told.contains(" MB in 20 files\n") && !desk.path("in").exists(), "{told}");
    let ran = desk.run(&["open", "out", "--into", "in", "--flat", "--json"]).expect(0);
    assert_eq!(
        (ran.json("/files"), ran.json("/folders"), ran.json("/flat_links")),
        (20.into(), 0.into(), links(1).into())
    );
    assert_eq!(desk.names("in").len(), 20);
}

/// The screening command, what it is to see, and what comes of it.
#[rstest]
#[case::yes(LOOKS, 0, 1, "cost-table.csv")]
#[case::no(SAYS_NO, 6, 0, "The screening command says no: it ended with exit code 1.")]
#[case::not_there("no-such-scanner", 6, 0, NOT_FOUND)]
#[case::told_of_no_password(SHOWS_SETTINGS, 0, 1, "UNDER_SEAL_DEBUG_CHEAP_KEYS=")]
fn files_land_only_if_the_screening_command_says_yes(
    #[case] command: &str,
    #[case] code: i32,
    #[case] landed: usize,
    #[case] words: &str,
) {
    let desk = Desk::with_volumes();
    let ran = desk.run(&["open", "out", "costs", "--into", "in", "--screen-with", command, "--json"]).expect(code);
    let error = ran.err.replace("\n  ", " ");
    assert!(error.contains(words) && !error.contains(PASSWORD), "{error}");
    assert_eq!(desk.names("in").len(), landed);
    assert_eq!(ran.json("/exit_code"), code);
}

#[rstest]
#[cfg_attr(windows, ignore = "it needs a shell of Unix")]
fn what_has_no_digests_is_compared_with_what_came_out(
    #[values("b.zip", "b.tar")] archive: &str,
    #[values(true, false)] leaves_it: bool,
) {
    let desk = Desk::new().with_password(false);
    desk.file("note.txt", b"1");
    desk.run(&["pack", "note.txt", "--no-password", "--to", archive]).expect(0);
    let command = if leaves_it { "ls" } else { "echo 2 > \"$1/note.txt\" #" };
    let ran = desk.run(&["open", archive, "--into", "in", "--screen-with", command]);
    let ran = ran.expect(if leaves_it { 0 } else { 6 });
    assert_eq!(ran.err.contains("changed 'note.txt'"), !leaves_it, "{}", ran.err);
    assert_eq!(desk.names("in").len(), usize::from(leaves_it));
}

/// The mark is an extended attribute (setfattr(1) and getfattr(1) are not everywhere, so the system is asked itself).
#[rstest]
#[case::marked(true, "1 file got the mark")]
#[case::not_marked(false, "the volumes have no mark")]
fn the_mark_of_where_volumes_came_from_is_carried_on(#[case] mark: bool, #[case] words: &str) {
    const NAME: &str = "user.xdg.origin.url";
    let desk = Desk::new();
    desk.file("note.txt", b"1");
    desk.run(&["pack", "note.txt"]).expect(0);
    let volume = desk.path("note.txt.useal");
    if mark && !set_attribute(&volume, NAME, b"https://wrenfall.example/") {
        eprintln!("passed over: this file system has no extended attributes");
        return;
    }
    let ran = desk.run(&["open", "note.txt.useal", "--into", "in", "--origin-mark"]).expect(0).out;
    assert!(ran.contains(words), "{ran}");
    let read = attribute(&desk.path("in/note.txt"), NAME);
    assert_eq!(read.is_some_and(|value| value == b"https://wrenfall.example/"), mark);
}

#[rstest]
#[case::taken_back(&[], "4 files had been extracted and removed again", 0)]
#[case::left(&["--keep-complete"], "4 files had landed in", 4)]
fn what_stops_on_the_way_says_what_is_left(#[case] options: &[&str], #[case] words: &str, #[case] files: usize) {
    let desk = Desk::new();
    for number in 0..8_u8 {
        let mut noise = vec![0; 1_500_000];
        blake3::Hasher::new().update(&[number]).finalize_xof().fill(&mut noise);
        desk.file(&format!("s/{number}"), &noise);
    }
    desk.run(&["pack", "s"]).expect(0);
    desk.flip(&desk.path("s.useal"), 6_900_000);
    let ran = desk.run(&[&["open", "s.useal", "--into", "in"], options].concat()).expect(5);
    let error = ran.err.replace("\n  ", " ");
    assert!(error.contains(words) && error.contains("--salvage extracts what is whole"), "{error}");
    assert_eq!(desk.names("in/s").len(), files);
}

/// Escapes that would clear the screen, a line break that would feign a line, and a mark that turns what follows.
#[test]
#[cfg_attr(windows, ignore = "no name there has any of this in it")]
fn no_name_writes_anything_else_on_the_screen() {
    let desk = Desk::new();
    desk.file("s/clear\u{1b}[2J", b"1").file("s/line\nwrenfall", b"2").file("s/turn\u{202e}txt.exe", b"3");
    let all = [
        &["plan", "s"][..],
        &["pack", "s", "--fit", "100KB"],
        &["check", "s.useal"],
        &["list", "s.useal"],
        &["list", "s.useal", "--tree"],
        &["about", "s.useal"],
        &["peek", "s.useal", "nothing"],
        &["open", "s.useal", "--into", "in", "-vv"],
        &["open", "s.useal", "--into", "in"],
    ];
    for arguments in all {
        let mut command = desk.command(arguments);
        let ran = Ran::new(command.stdin(Stdio::null()).output().unwrap());
        let shown = ran.out + &ran.err;
        assert!(
            !shown.contains(['\u{1b}', '\u{202e}']) && !shown.contains("line\nwrenfall"),
            "{arguments:?}: {shown:?}"
        );
    }
    assert_eq!(fs::read(desk.path("in/s/clear\u{1b}[2J")).unwrap(), b"1");
}
