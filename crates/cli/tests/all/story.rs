//! What the sender and the recipient do when all goes well.

use crate::support::system::as_written;
use crate::support::{Desk, PASSWORD};
use rstest::rstest;
use std::fs;

#[test]
fn the_demonstration_ends_well() {
    let ran = Desk::new().run(&["demo"]).expect(0);
    for told in ["$ under-seal plan", "$ under-seal pack", "volume 5 is missing", "Wrong password", "All equal."] {
        assert!(ran.out.contains(told), "{told}:\n{}", ran.out);
    }
}

/// What is said, on standard output and on standard error, with the options for saying less and more.
#[rstest]
#[case::quiet(&["-q"], "", "")]
#[case::as_usual(&[], "is packed and verified", "")]
#[case::steps(&["-v"], "is packed and verified", "INFO Verifying bytes=1785141")]
#[case::files(&["-vv"], "is packed and verified", "DEBUG file path=\"wrenfall-light/costs/cost-table.csv\"")]
#[case::kinds_that_do_not_squeeze(&[], "compressing hardly makes these smaller: jpg (5 files, 938 KB)", "")]
fn it_says_as_much_as_is_wanted(#[case] options: &[&str], #[case] out: &str, #[case] err: &str) {
    let desk = Desk::new();
    desk.run(&["demo", "--data-to", "."]).expect(0);
    let ran = desk.run(&[&["pack", "wrenfall-light", "--to", "out/"], options].concat()).expect(0);
    assert!(ran.out.contains(out) && ran.out.is_empty() == out.is_empty(), "{}", ran.out);
    assert!(ran.err.contains(err) && ran.err.is_empty() == err.is_empty(), "{}", ran.err);
}

/// With `-q` nothing is said of what is well, and one line of what is not; a receipt is printed all the same.
#[rstest]
#[case::whole(|_: &Desk| {}, &["check", "out"], 0, "")]
#[case::missing(|desk: &Desk| fs::remove_file(desk.volume(3)).unwrap(), &["check", "out"], 4, "under-seal: Incomplete: volume 3 is missing.")]
#[case::damaged(|desk: &Desk| { desk.flip(&desk.volume(3), 70_000); }, &["check", "out"], 5, "under-seal: Incomplete: volume 3 is damaged.")]
#[case::changed(|desk: &Desk| { desk.file("wrenfall-light/new", b"x"); }, &["compare", "out", "wrenfall-light"], 1, "under-seal: Something has changed since")]
#[case::failed(|desk: &Desk| fs::remove_file(desk.volume(3)).unwrap(), &["open", "out", "--into", "in"], 4, "under-seal: Volume 3 of 7 is missing.")]
#[case::nothing_found(|_: &Desk| {}, &["list", "out", "--find", "lighthouse keeper"], 1, "under-seal: Nothing in the archive has 'lighthouse keeper' in its name.")]
fn what_makes_the_exit_code_is_said_even_quietly(
    #[case] accident: fn(&Desk),
    #[case] typed: &[&str],
    #[case] code: i32,
    #[case] expected: &str,
) {
    let desk = Desk::with_volumes();
    accident(&desk);
    let ran = desk.run(&[typed, &["-q"]].concat()).expect(code);
    assert_eq!((ran.out.as_str(), ran.err.is_empty()), ("", expected.is_empty()), "{}", ran.err);
    assert!(ran.err.starts_with(expected) && ran.err.matches("under-seal:").count() <= 1, "{}", ran.err);
}

#[test]
fn a_receipt_alone_is_printed_quietly() {
    let desk = Desk::with_volumes();
    let receipt = desk.run(&["receipt", "out", "--json"]).expect(0).json("/receipt");
    assert_eq!(desk.run(&["receipt", "out", "-q"]).expect(0).out.trim_end(), receipt);
}

#[test]
fn a_folder_becomes_volumes_within_the_fit_and_comes_back() {
    let desk = Desk::new();
    desk.run(&["demo", "--data-to", "."]).expect(0);
    let packed = desk.run(&["pack", "wrenfall-light", "--to", "out/", "--fit", "260KB", "--json"]).expect(0);
    assert_eq!(packed.json("/archive"), "wrenfall-light");
    assert_eq!((packed.json("/files"), packed.json("/verified_files")), (20.into(), 20.into()));
    let volumes = packed.json("/volumes");
    assert_eq!(volumes.as_array().unwrap().len(), 7);
    for volume in volumes.as_array().unwrap() {
        let bytes = fs::metadata(volume["path"].as_str().unwrap()).unwrap().len();
        assert_eq!(volume["bytes"], bytes);
        assert!(bytes <= 300_000);
    }
    let opened = desk.run(&["open", "out/wrenfall-light-03of07.useal", "--into", "inbox", "--json"]).expect(0);
    assert_eq!(opened.json("/bytes"), packed.json("/before_bytes"));
    assert_eq!(opened.json("/set"), packed.json("/set"));
    let letter = "wrenfall-light/letters/Überblick für den Beirat – Laterne & Galerie.txt";
    assert_eq!(fs::read(desk.path("inbox").join(letter)).unwrap(), fs::read(desk.path(letter)).unwrap());
}

#[test]
fn check_looks_outside_without_the_password_and_inside_with_it() {
    let desk = Desk::with_volumes();
    let outside = desk.run_bare(&["check", "out", "--json"]).expect(0);
    assert_eq!((outside.json("/complete"), outside.json("/contents")), (true.into(), serde_json::Value::Null));
    let inside = desk.run(&["check", "out/wrenfall-light-07of07.useal", "--json"]).expect(0);
    assert_eq!((inside.json("/contents/bytes"), inside.json("/contents/files")), (1_785_141.into(), 20.into()));
}

/// A pack that was killed on its way to the names: the other volumes are in the folder beside, not with the sender.
#[rstest]
#[case::some_of_the_volumes_are_there(
    true,
    4,
    "Next: wait for the packing that is at work, or pack again under this name"
)]
#[case::all_of_them_are_there(false, 1, "All 7 volumes are here and whole")]
fn check_names_the_unfinished_pack_beside_the_volumes(#[case] remove: bool, #[case] code: i32, #[case] words: &str) {
    let desk = Desk::with_volumes();
    desk.file("out/wrenfall-light.unfinished/steps", b"").file("out/other.unfinished/steps", b"");
    if remove {
        fs::remove_file(desk.volume(3)).unwrap();
    }
    let ran = desk.run_bare(&["check", "out"]).expect(code).out;
    assert!(ran.contains(words) && ran.contains("wrenfall-light.unfinished: a pack that"), "{ran}");
    let unfinished = desk.run_bare(&["check", "out", "--json"]).expect(code).json("/unfinished");
    assert_eq!(unfinished.as_array().unwrap().len(), 1, "{unfinished}");
}

/// Not one volume has its name yet, and what is asked for.
#[rstest]
#[case::a_volume("out/board.useal", "out/board.useal does not exist.")]
#[case::the_folder("out", "There is no Under Seal volume in out.")]
fn a_pack_that_was_killed_before_the_names_is_named_too(#[case] asked: &str, #[case] words: &str) {
    let desk = Desk::new();
    desk.file("out/board.unfinished/steps", b"").file("out/mine.unfinished/notes", b"");
    let told = desk.run_bare(&["check", asked]).expect(2).err.replace("\n  ", " ");
    assert!(
        told.contains(&as_written(words)) && told.contains("board.unfinished shows that packing is still at work"),
        "{told}"
    );
    assert!(!told.contains("mine.unfinished"), "{told}");
}

#[test]
fn replace_puts_the_new_volumes_in_the_place_of_the_old() {
    let desk = Desk::with_volumes();
    desk.run(&["pack", "wrenfall-light", "--to", "out/", "--replace", "--fit", "1MB"]).expect(0);
    assert_eq!(desk.names("out"), ["wrenfall-light-01of02.useal", "wrenfall-light-02of02.useal"]);
    desk.run(&["check", "out"]).expect(0);
}

/// Harder squeezes give fewer bytes, and whatever was squeezed comes back.
#[test]
fn every_squeeze_opens_and_harder_ones_are_smaller() {
    let desk = Desk::new();
    desk.run(&["demo", "--data-to", "."]).expect(0);
    let mut sizes = Vec::new();
    for squeeze in ["none", "light", "even", "hard", "utmost"] {
        let to = format!("{squeeze}/");
        let packed =
            desk.run(&["pack", "wrenfall-light/survey/levels.csv", "--to", &to, "--squeeze", squeeze, "--json"]);
        sizes.push(packed.expect(0).json("/after_bytes").as_u64().unwrap());
        desk.run(&["open", squeeze, "--into", &format!("{squeeze}-opened")]).expect(0);
        let opened = fs::read(desk.path(&format!("{squeeze}-opened/levels.csv"))).unwrap();
        assert_eq!(opened, fs::read(desk.path("wrenfall-light/survey/levels.csv")).unwrap());
    }
    assert!(sizes.is_sorted_by(|one, other| one >= other) && sizes[0] > sizes[2], "{sizes:?}");
}

#[test]
fn several_sources_get_one_name_and_the_password_may_come_from_a_file() {
    let desk = Desk::new();
    desk.file("plans/tower.svg", b"<svg/>").file("note.txt", b"read me").file("pass", PASSWORD.as_bytes());
    desk.run(&["pack", "plans", "note.txt", "--to", "out/board.useal"]).expect(0);
    assert_eq!(desk.names("out"), ["board.useal"]);
    desk.run_bare(&["open", "out", "--into", "in", "--password-from", "pass"]).expect(0);
    assert_eq!(desk.names("in"), ["note.txt", "plans"]);
}

#[test]
fn a_large_set_is_summed_up() {
    let desk = Desk::new();
    let noise: Vec<u8> = (0..600_000_u32).flat_map(|n| n.wrapping_mul(2_654_435_761).to_le_bytes()).collect();
    desk.file("noise", &noise);
    let packed = desk.run(&["pack", "noise", "--to", "out/", "--fit", "70KB"]).expect(0);
    assert!(packed.out.contains("noise-01of37.useal") && packed.out.contains("26 more"), "{}", packed.out);
    fs::remove_file(desk.path("out/noise-09of37.useal")).unwrap();
    let checked = desk.run(&["check", "out"]).expect(4);
    assert!(checked.out.contains("1 to 8  8 files") && checked.out.contains("10 to 37"), "{}", checked.out);
}

/// Where the volumes are, what is typed, and the exit code: what is suggested in the end runs as it stands.
#[rstest]
#[case::one_folder(&["check", "out"], 0)]
#[case::two_folders(&["check", "out", "more of it"], 0)]
#[case::volumes_of_two_folders(&["check", "out/wrenfall-light-01of07.useal", "more of it/keeper's 7"], 0)]
#[case::a_name_like_an_option(&["check", "./-7", "out"], 0)]
#[case::planned(&["plan", "wrenfall-light", "--leave-out", "*.csv", "--fit=260KB", "--json", "--line", "20Mbit"], 0)]
#[case::packed(&["pack", "wrenfall-light/letters/Überblick für den Beirat – Laterne & Galerie.txt"], 0)]
#[case::in_pieces(&["portion", "wrenfall-light/costs/cost-table.csv", "--fit", "4KB"], 0)]
#[cfg_attr(windows, ignore = "it needs a shell of Unix")]
fn what_is_suggested_runs_as_it_stands(#[case] arguments: &[&str], #[case] code: i32) {
    let desk = Desk::with_volumes();
    let moved = match arguments {
        [_, "out", "more of it"] => "more of it/moved",
        [_, _, "more of it/keeper's 7"] => "more of it/keeper's 7",
        [_, "./-7", _] => "-7",
        _ => "out/wrenfall-light-07of07.useal",
    };
    fs::create_dir(desk.path("more of it")).unwrap();
    fs::rename(desk.volume(7), desk.path(moved)).unwrap();
    let arguments: Vec<&str> = arguments.iter().copied().filter(|argument| *argument != "--json").collect();
    let said = desk.run(&arguments).expect(code).out;
    let suggested = said.lines().rev().find_map(|line| line.strip_prefix("  under-seal ")).unwrap();
    // Into a place of its own, since what is suggested would land among its own sources here.
    let into = if suggested.starts_with("open") && !suggested.contains("--into") { " --into landed" } else { "" };
    let into = if suggested.starts_with("reunite") { " --to joined" } else { into };
    crate::support::in_a_shell(&desk, &format!("PROGRAM {suggested}{into}")).expect(0);
}
