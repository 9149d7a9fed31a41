//! Looking into an archive without extracting it.

use crate::support::Desk;
use crate::support::system::{as_written, set_time, with_link, with_link_told};
use rstest::rstest;
use std::fs;
use std::time::{Duration, SystemTime};

/// The dossier's volumes, and a folder of this desk that is called like one inside.
fn desk() -> Desk {
    let desk = Desk::with_volumes();
    fs::create_dir(desk.path("survey")).unwrap();
    desk
}

#[rstest]
#[case::everything(&[], 0, with_link(29), "wrenfall-light")]
#[case::pattern_like_a_folder_here(&["survey"], 0, 8, "wrenfall-light/survey")]
#[case::several_patterns(&["*.svg", "*.csv"], 0, with_link(8), "wrenfall-light/costs/cost-table.csv")]
#[case::one_matches_nothing(&["*.jpg", "*.tif"], 1, 5, "wrenfall-light/photographs/01 from the landing.jpg")]
#[case::fragment(&["--find", "UBERBLICK"], 0, 1, "wrenfall-light/letters/Überblick für den Beirat – Laterne & Galerie.txt")]
#[case::level(&["--here", "wrenfall-light/survey/"], 0, 4, "wrenfall-light/survey/cracks.csv")]
#[case::level_by_its_end(&["--here", "survey"], 0, 4, "wrenfall-light/survey/cracks.csv")]
#[case::top(&["--here", "/"], 0, 1, "wrenfall-light")]
#[case::largest_first(&["--sort", "size"], 0, with_link(29), "wrenfall-light/survey/raw/scan-north.pts")]
#[case::newest_first(&["--sort", "date", "*.csv"], 0, 3, "wrenfall-light/survey/levels.csv")]
fn a_list_shows_what_is_wanted(#[case] options: &[&str], #[case] code: i32, #[case] count: usize, #[case] first: &str) {
    let listed = desk().run(&[&["list", "out", "--json"], options].concat()).expect(code);
    assert_eq!(listed.json("/entries").as_array().unwrap().len(), count);
    assert_eq!(listed.json("/entries/0/path"), first);
}

#[rstest]
#[case::summary(&[], "20 files, 8 folders, 1 link, 1.8 MB")]
#[case::exact(&["--exact"], "20 files, 8 folders, 1 link, 1,785,141 bytes")]
#[case::tree(&["--tree"], "     │  └─ scan-south.pts  246 KB\n     └─ recompute-levels.sh")]
#[case::folders_above_what_matches(&["--tree", "*.pts"], "  wrenfall-light/\n  └─ survey/\n     └─ raw/\n        ├─ scan-lantern.pts")]
#[case::paths_alone(&["-q", "*.csv"], "wrenfall-light/costs/cost-table.csv\nwrenfall-light/survey/cracks.csv\n")]
#[case::paths_for_programs(&["-0", "costs/*.csv"], "wrenfall-light/costs/cost-table.csv\0")]
#[cfg_attr(windows, ignore = "nothing says there that a file is executable")]
#[case::mode_and_digest(&["--long", "*.sh"], "0755  da3c1a57858be34d")]
#[cfg_attr(windows, ignore = "there are no links")]
#[case::link(&["*current*"], "current.svg -> tower-section-b.svg")]
fn a_list_can_be_read(#[case] options: &[&str], #[case] expected: &str) {
    let listed = desk().run(&[&["list", "out"], options].concat()).expect(0).out;
    assert!(listed.contains(&with_link_told(expected)), "{listed}");
}

#[test]
fn the_last_volumes_are_enough_for_a_list_and_those_of_a_file_for_a_peek() {
    let desk = desk();
    for number in 1..4 {
        fs::remove_file(desk.volume(number)).unwrap();
    }
    assert!(desk.run(&["list", "out"]).expect(0).out.contains("cost-table.csv"));
    assert!(desk.run(&["about", "out"]).expect(0).out.contains("not here: 1 to 3"));
    let path = "wrenfall-light/survey/recompute-levels.sh";
    let script = fs::read_to_string(desk.path(path)).unwrap();
    assert_eq!(desk.run(&["peek", "out", path]).expect(0).out, script);
    let ran = desk.run(&["peek", "out", "cost-table.csv"]).expect(4);
    assert!(ran.err.contains("Volume 1 is missing"), "{}", ran.err);
}

#[test]
fn a_folder_is_peeked_into() {
    let desk = desk();
    let told = desk.run(&["peek", "out", "costs"]).expect(0).out;
    assert!(
        told.contains("costs/cost-table.csv") && told.contains("2 files, 6.9 KB") && !told.contains("letters"),
        "{told}"
    );
    let file = desk.run(&["peek", "out", "costs/cost-table.csv", "--json"]).expect(0);
    assert!(file.json("/text").as_str().unwrap().starts_with("item") && file.json("/base64").is_null());
    let picture = desk.run(&["peek", "out", "01 from the landing.jpg", "--json"]).expect(0);
    assert!(picture.json("/text").is_null() && picture.json("/base64").as_str().unwrap().starts_with("/9j"));
}

/// One object a line, of which the last of each phase says that it is done, and the totals are those of the source.
#[test]
fn progress_is_told_to_programs() {
    let desk = Desk::new();
    desk.run(&["demo", "--data-to", "."]).expect(0);
    let ran = desk.run(&["pack", "wrenfall-light", "--to", "out/", "--progress", "json", "--json"]).expect(0);
    let steps: Vec<serde_json::Value> = ran.err.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let done: Vec<_> = steps.iter().filter(|step| step["state"] == "done").map(|step| step["phase"].clone()).collect();
    assert_eq!(done, ["Packing", "Verifying"]);
    assert!(steps.iter().all(|step| step["total_bytes"] == 1_785_141), "{steps:#?}");
    assert_eq!(
        ran.json("/after_bytes").as_u64(),
        Some(std::fs::metadata(desk.path("out/wrenfall-light.useal")).unwrap().len())
    );
}

#[test]
fn an_archive_says_what_it_is() {
    let desk = desk();
    desk.run(&[
        "pack",
        "wrenfall-light/costs",
        "--to",
        "o/",
        "--message",
        "Mind the step.",
        "--key-file",
        "out/wrenfall-light-01of07.useal",
    ])
    .expect(0);
    let about = desk.run(&["about", "o", "--key-file", "out/wrenfall-light-01of07.useal"]).expect(0).out;
    for told in [
        "sealed, version 1",
        "one of",
        "a password with a key file",
        "squeeze even",
        "cost-table.csv  6.9 KB",
        "Mind the step.",
    ] {
        assert!(about.contains(told), "{told}:\n{about}");
    }
}

#[rstest]
#[case::whole_path("wrenfall-light/costs/cost-table.csv", 0, "")]
#[case::end_of_a_path("costs/cost-table.csv", 0, "")]
#[case::misspelt("costs/cost-tabel.csv", 2, "There is: wrenfall-light/costs/cost-table.csv")]
#[case::nothing_like_it("zzz", 2, "See what is there with list")]
fn a_file_is_peeked_at_by_its_path(#[case] path: &str, #[case] code: i32, #[case] words: &str) {
    let desk = desk();
    let ran = desk.run(&["peek", "out", path]).expect(code);
    let whole = fs::read_to_string(desk.path("wrenfall-light/costs/cost-table.csv")).unwrap();
    assert_eq!(ran.out, if code == 0 { whole } else { String::new() });
    assert!(ran.err.contains(words), "{}", ran.err);
}

#[rstest]
#[case::pattern(&["*.csv"], 0, &["costs", "survey"])]
#[case::folder(&["costs"], 0, &["costs"])]
#[case::one_matches_nothing(&["costs", "*.tif"], 1, &["costs"])]
#[case::none_matches(&["*.tif"], 2, &[])]
#[case::dry_run(&["--dry-run"], 0, &[])]
#[case::broken_pattern(&["[a"], 2, &[])]
#[case::salvage_of_some(&["--salvage", "costs"], 2, &[])]
fn what_is_wanted_is_taken_out(#[case] options: &[&str], #[case] code: i32, #[case] folders: &[&str]) {
    let desk = desk();
    desk.run(&[&["open", "out", "--into", "in"], options].concat()).expect(code);
    assert_eq!(desk.names("in/wrenfall-light"), folders);
}

#[test]
fn with_volumes_missing_whatever_is_whole_is_taken_out_and_the_rest_named() {
    let desk = desk();
    fs::remove_file(desk.volume(6)).unwrap();
    desk.run(&["open", "out", "--into", "in"]).expect(4);
    let ran = desk.run(&["open", "out", "--into", "in", "--salvage"]).expect(4).out;
    assert!(ran.contains("without 6") && ran.contains("These files are not whole in what is here:"), "{ran}");
    assert!(ran.contains("wrenfall-light/survey/raw/scan-") && ran.contains(": needs volume 6\n"), "{ran}");
    let saved = fs::read(desk.path("in/wrenfall-light/costs/cost-table.csv")).unwrap();
    assert_eq!(saved, fs::read(desk.path("wrenfall-light/costs/cost-table.csv")).unwrap());
    // A part whose volumes are all here needs no salvage.
    desk.run(&["open", "out", "costs", "--into", "part"]).expect(0);
}

#[test]
fn a_salvage_tells_what_the_archive_says_of_itself() {
    let desk = desk();
    desk.file("wrenfall-light/storm log.txt", b"Force 10, and the lamp is lit.");
    let since =
        ["pack", "wrenfall-light", "--since", "out", "--name", "later", "--to", "c/", "--message", "Read the log."];
    desk.run(&since).expect(0);
    let ran = desk.run(&["open", "c", "--into", "in", "--salvage"]).expect(0).out;
    assert!(ran.contains("every change is here") && ran.contains("It holds only what has changed since"), "{ran}");
    assert!(ran.contains("Read the log."), "{ran}");
    let told = desk.run(&["open", "c", "--into", "again", "--salvage", "--json"]).expect(0);
    assert_eq!(told.json("/archive"), "later");
}

/// The cost table is there, of another year; what is in its place then, and what stands beside it.
#[rstest]
#[case::refused("refuse", 2040, 6, "mine", "cost-table.csv")]
#[case::kept("keep", 2040, 0, "mine", "cost-table.csv signed copy, pending.txt")]
#[case::replaced("replace", 2040, 0, "item", "cost-table.csv signed copy, pending.txt")]
#[case::newer_one_there("newer", 2040, 0, "mine", "cost-table.csv signed copy, pending.txt")]
#[case::newer_one_sent("newer", 2020, 0, "item", "cost-table.csv signed copy, pending.txt")]
#[case::both("both", 2040, 0, "mine", "cost-table (2).csv cost-table.csv signed copy, pending.txt")]
fn a_file_that_meets_another_goes_where_it_was_wished(
    #[case] option: &str,
    #[case] year: u64,
    #[case] code: i32,
    #[case] begins: &str,
    #[case] names: &str,
) {
    let desk = desk();
    let there = "in/wrenfall-light/costs/cost-table.csv";
    desk.file(there, b"mine");
    set_time(desk.path(there), SystemTime::UNIX_EPOCH + Duration::from_hours((year - 1970) * 8766));
    desk.run(&["open", "out", "costs", "--into", "in", "--on-clash", option]).expect(code);
    assert!(fs::read_to_string(desk.path(there)).unwrap().starts_with(begins));
    assert_eq!(desk.names("in/wrenfall-light/costs").join(" "), names);
}

#[rstest]
#[case::folder_in_place_of_a_file("in/wrenfall-light/costs/cost-table.csv/x")]
#[case::file_in_place_of_a_folder("in/wrenfall-light/costs")]
fn no_choice_makes_a_folder_of_a_file(#[case] there: &str, #[values("replace", "both", "keep")] option: &str) {
    let desk = desk();
    desk.file(there, b"mine");
    desk.run(&["open", "out", "costs", "--into", "in", "--on-clash", option]).expect(6);
    assert_eq!(fs::read(desk.path(there)).unwrap(), b"mine");
}

/// What is in the destination, and what the archive has at its top.
#[rstest]
#[case::one_thing(&["costs"], true, "auto", "costs")]
#[case::several_into_a_new_folder(&["costs", "letters"], false, "auto", "costs letters")]
#[case::several_among_others(&["costs", "letters"], true, "auto", "set")]
#[case::never(&["costs", "letters"], true, "never", "costs letters")]
#[case::always(&["costs"], false, "always", "set")]
fn a_folder_is_made_only_where_it_is_needed(
    #[case] sources: &[&str],
    #[case] used: bool,
    #[case] option: &str,
    #[case] expected: &str,
) {
    let desk = desk();
    let sources: Vec<String> = sources.iter().map(|source| format!("wrenfall-light/{source}")).collect();
    let sources: Vec<&str> = sources.iter().map(String::as_str).collect();
    desk.run(&[&["pack", "--to", "o/set"], &sources[..]].concat()).expect(0);
    if used {
        desk.file("in/another", b"1");
    }
    desk.run(&["open", "o", "--into", "in", "--folder", option]).expect(0);
    let mut names = desk.names("in");
    names.retain(|name| name != "another");
    assert_eq!(names.join(" "), expected);
}

#[test]
fn a_dry_run_tells_what_is_in_the_way() {
    let desk = desk();
    desk.file("in/wrenfall-light/costs/cost-table.csv", b"mine");
    let ran = desk.run(&["open", "out", "--into", "in", "--dry-run"]).expect(6);
    assert!(ran.err.contains(&as_written("costs/cost-table.csv")), "{}", ran.err);
    assert_eq!(desk.names("in/wrenfall-light"), ["costs"]);
}

#[test]
fn a_name_that_several_files_have_needs_its_path() {
    let desk = Desk::new();
    desk.file("s/a/notes", b"1").file("s/b/notes", b"2");
    desk.run(&["pack", "s"]).expect(0);
    let ran = desk.run(&["peek", "s.useal", "notes"]).expect(2);
    assert!(ran.err.contains("s/a/notes and s/b/notes"), "{}", ran.err);
    assert_eq!(desk.run(&["peek", "s.useal", "b/notes"]).expect(0).out, "2");
}
