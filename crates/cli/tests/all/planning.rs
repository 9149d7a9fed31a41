//! What `plan` foresees comes true, and what may go wrong is told before anything is written.

use crate::support::Desk;
use crate::support::system::with_link_told;
use rstest::rstest;

fn desk() -> Desk {
    let desk = Desk::new();
    desk.run(&["demo", "--data-to", "."]).expect(0);
    desk
}

#[rstest]
fn the_demonstration_is_foreseen_to_a_tenth(#[values("none", "light", "even", "hard", "utmost")] squeeze: &str) {
    let desk = desk();
    let options = ["--fit", "260KB", "--squeeze", squeeze, "--json"];
    let planned = desk.run(&[&["plan", "wrenfall-light"], &options[..]].concat()).expect(0);
    assert_eq!(desk.names("."), ["wrenfall-light"], "a plan writes nothing");
    let packed = desk.run(&[&["pack", "wrenfall-light", "--to", "out/"], &options[..]].concat()).expect(0);
    let estimates = planned.json("/estimates");
    let estimate = estimates.as_array().unwrap().iter().find(|one| one["squeeze"] == squeeze).unwrap();
    let (foreseen, real) = (estimate["bytes"].as_u64().unwrap(), packed.json("/after_bytes").as_u64().unwrap());
    assert!(foreseen.abs_diff(real) * 10 <= real, "{foreseen} was foreseen, {real} it is");
    assert!(squeeze != "none" || foreseen == real, "without squeezing nothing needs to be guessed");
    let volumes = packed.json("/volumes");
    assert_eq!(estimate["volume_count"], volumes.as_array().unwrap().len());
}

#[test]
fn the_cheapest_change_is_told_and_works() {
    let desk = desk();
    let planned = desk.run(&["plan", "wrenfall-light", "--fit", "260KB"]).expect(0).out;
    assert!(planned.contains("without wrenfall-light/survey/raw (720 KB): 4 volumes instead of 7"), "{planned}");
    assert!(planned.contains("\n  under-seal pack wrenfall-light --fit 260KB\n"), "{planned}");
    let pack = ["pack", "wrenfall-light", "--fit", "260KB", "--leave-out", "survey/raw", "--json"];
    assert_eq!(desk.run(&pack).expect(0).json("/volumes").as_array().unwrap().len(), 4);
}

#[rstest]
#[case::mail(&["--fit", "mail-10", "--line", "10Mbit"], "1 message of at most 10,000,000 bytes")]
#[case::encoding_counts(&["--fit", "mail-10", "--line", "1Mbit/s"], "21 seconds on a line of 1 Mbit/s, encoding and the page counted")]
#[case::every_named_fit(&[], "mail-25")]
#[case::heaviest_folder(&[], "wrenfall-light/photographs      5     938 KB   53 %")]
#[case::kind_that_does_not_squeeze(&[], "████  100 %")]
#[case::top_level(&[], "wrenfall-light/  20 files, 7 folders, 1 link  1.8 MB")]
#[case::chosen_only(&["--only", "survey"], "Plan for 772 KB in 6 files, 3 folders")]
fn a_plan_shows(#[case] options: &[&str], #[case] expected: &str) {
    let shown = desk().run(&[&["plan", "wrenfall-light"], options].concat()).expect(0).out;
    assert!(shown.contains(&with_link_told(expected)), "{shown}");
}

#[rstest]
#[cfg_attr(windows, ignore = "no file can be called that")]
#[case::device("survey/aux.csv", "aux.csv: the name means a device (Windows)")]
#[case::colon("survey/9:30.txt", "no name may hold ':' (Windows)")]
#[cfg_attr(windows, ignore = "this is one folder there")]
#[case::capitals("Survey/levels.csv", "another name differs in capital letters only (Windows, macOS)")]
#[case::accents("letters/U\u{308}berblick für den Beirat – Laterne & Galerie.txt", "how accents are written (macOS)")]
fn names_that_fail_elsewhere_are_told(#[case] name: &str, #[case] expected: &str) {
    let desk = desk();
    desk.file(&format!("wrenfall-light/{name}"), b"1");
    let shown = desk.run(&["plan", "wrenfall-light"]).expect(0).out;
    assert!(shown.contains(expected), "{shown}");
}

#[rstest]
#[case::bare_speed(&["wrenfall-light", "--line", "20M"], "kbit, Mbit or Gbit")]
#[case::no_speed(&["wrenfall-light", "--line", "Mbit"], "begins with a number above 0")]
#[case::no_source(&["wrenfal"], "does not exist")]
#[case::fit_too_small(&["wrenfall-light", "--fit", "12KB"], "at least 12,288 bytes")]
#[case::fit(&["wrenfall-light", "--fit", "20M"], "20MB for 20,000,000")]
fn what_cannot_be_planned_is_refused(#[case] options: &[&str], #[case] words: &str) {
    let ran = desk().run(&[&["plan"], options].concat()).expect(2);
    assert!(ran.err.contains(words), "{}", ran.err);
}

/// `plan` takes every line of `pack`, and ends as it would: 0 where nothing fails, 1 where something cannot be read.
#[rstest]
#[case::every_option(&["--to", "out/", "--replace", "--password-from", "secret", "--also-password-from", "secret", "--weak-ok", "--message", "Mind the step.", "--fit", "mail-10"], 0, "1 message")]
#[case::another_format(&["--to", "board.zip"], 0, "zip")]
#[case::made_passphrase(&["--make-passphrase", "--passphrase-to", "phrase"], 0, "Plan for")]
#[case::settings(&["--show-settings"], 0, "squeeze")]
#[case::unmatched_pattern(&["--leave-out", "*.tmp"], 1, "the pattern *.tmp matches nothing")]
#[case::two_names(&["--to", "x", "--name", "y"], 2, "named twice")]
fn every_line_of_pack_can_be_planned(#[case] options: &[&str], #[case] code: i32, #[case] words: &str) {
    let desk = desk();
    desk.file("secret", b"a quite new set of words");
    let before = desk.names(".");
    let ran = desk.run(&[&["plan", "wrenfall-light"], options].concat()).expect(code);
    assert!(ran.out.contains(words) || ran.err.contains(words), "{}{}", ran.out, ran.err);
    assert_eq!(desk.names("."), before);
}

#[cfg(unix)] // a pipe, a device or a socket is in it
#[test]
fn what_would_fail_is_told_apart_from_notes() {
    let desk = desk();
    rustix::fs::mknodat(
        rustix::fs::CWD,
        desk.path("wrenfall-light/pipe"),
        rustix::fs::FileType::Fifo,
        rustix::fs::Mode::from_raw_mode(0o644),
        0,
    )
    .unwrap();
    desk.file("taken.useal", b"1");
    let taken = desk.run(&["plan", "wrenfall-light/costs", "--to", "taken"]).expect(6);
    assert!(
        taken.out.contains("taken.useal is there already.") && !taken.out.contains("under-seal pack"),
        "{}",
        taken.out
    );
    let other = desk.run(&["plan", "wrenfall-light/costs", "--to", "taken", "--replace"]).expect(6);
    assert!(other.out.contains("taken.useal is there already, and is something else"), "{}", other.out);
    let planned = desk.run(&["plan", "wrenfall-light"]).expect(1).out;
    assert!(planned.contains("Would not be packed\n") && planned.contains("pipe cannot be packed"), "{planned}");
}

/// What `plan` ends with, and what it tells, is what `pack` ends with and tells.
#[rstest]
#[case::nothing_to_say(|_: &Desk| {}, &["box"], 0)]
#[case::there_already(|desk: &Desk| { desk.run(&["pack", "box", "--to", "a"]).expect(0); }, &["box"], 6)]
#[case::another_there_already(|desk: &Desk| { desk.file("a.useal", b"mine"); }, &["box"], 6)]
#[case::another_to_be_replaced(|desk: &Desk| { desk.file("a.useal", b"mine"); }, &["box", "--replace"], 6)]
#[case::to_be_replaced(|desk: &Desk| { desk.run(&["pack", "box", "--to", "a"]).expect(0); }, &["box", "--replace"], 0)]
#[case::names_for_here_only(|desk: &Desk| { desk.file("box/u\u{308}", b"1").file("box/\u{fc}", b"2"); }, &["box"], 0)]
#[case::unmatched(|_: &Desk| {}, &["box", "--leave-out", "*.tmp"], 1)]
#[case::lone_volume(|desk: &Desk| {
    desk.run(&["pack", "box", "--fit", "600KB", "--to", "cut"]).expect(0);
}, &["cut-01of02.useal"], 1)]
#[case::nothing_changed(|desk: &Desk| { desk.run(&["pack", "box", "--to", "old"]).expect(0); }, &["box", "--since", "old.useal"], 0)]
#[cfg_attr(unix, case::leads_outside(|desk: &Desk| std::os::unix::fs::symlink("/nowhere", desk.path("box/out")).unwrap(), &["box"], 1))]
fn a_plan_and_its_packing_agree(#[case] prepare: fn(&Desk), #[case] options: &[&str], #[case] code: i32) {
    let desk = desk();
    std::fs::rename(desk.path("wrenfall-light/photographs"), desk.path("box")).unwrap();
    prepare(&desk);
    let run = |command| desk.run(&[&[command], options, &["--to", "a", "--json"]].concat()).expect(code);
    let (planned, packed) = (run("plan"), run("pack"));
    if !packed.out.contains("\"error\"") && !packed.json("/volumes").as_array().unwrap().is_empty() {
        for told in [
            "unportable",
            "lone_volumes",
            "links_leading_outside",
            "unmatched_patterns",
            "names_escaped",
            "passed_over",
        ] {
            assert_eq!(planned.json(&format!("/{told}")), packed.json(&format!("/{told}")), "{told}");
        }
    }
}

#[test]
fn an_empty_folder_and_an_empty_file_have_a_plan() {
    let desk = Desk::new();
    desk.file("source/empty", b"");
    std::fs::create_dir(desk.path("source/nothing")).unwrap();
    for source in ["source", "source/nothing", "source/empty"] {
        let estimate = desk.run(&["plan", source, "--every-squeeze", "--json"]).expect(0).json("/estimates/2/bytes");
        let packed = desk.run(&["pack", source, "--to", "out/", "--replace", "--json"]).expect(0).json("/after_bytes");
        assert_eq!(estimate, packed, "{source}");
    }
}
