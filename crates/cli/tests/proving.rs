//! Proof before sending and after.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test stops at the first thing that is not as it should be")]

mod support;

use rstest::rstest;
use std::fs;
use support::Desk;

/// What happens to the sources after packing, and what is said of it.
#[rstest]
#[case::nothing(|_: &Desk| {}, 0, "Nothing has changed since wrenfall-light was packed", "/same", 29)]
#[case::added(|desk: &Desk| { desk.file("wrenfall-light/costs/new.csv", b"1"); }, 1, "Added since:\n  wrenfall-light/costs/new.csv", "/changed/0/differs_in/0", "time")]
#[case::removed(|desk: &Desk| fs::remove_file(desk.path("wrenfall-light/costs/cost-table.csv")).unwrap(), 1, "Removed since:\n  wrenfall-light/costs/cost-table.csv", "/removed/0", "wrenfall-light/costs/cost-table.csv")]
#[case::content_behind_the_same_length_and_time(|desk: &Desk| {
    let path = desk.path("wrenfall-light/costs/cost-table.csv");
    let modified = fs::metadata(&path).unwrap().modified().unwrap();
    desk.flip(&path, 100);
    fs::File::options().write(true).open(&path).unwrap().set_modified(modified).unwrap();
}, 1, "Changed since:\n  wrenfall-light/costs/cost-table.csv: content\n", "/changed/0/differs_in/0", "content")]
#[case::kind(|desk: &Desk| {
    fs::remove_file(desk.path("wrenfall-light/costs/cost-table.csv")).unwrap();
    fs::create_dir(desk.path("wrenfall-light/costs/cost-table.csv")).unwrap();
}, 1, "cost-table.csv: kind", "/changed/1/differs_in/0", "kind")]
#[case::moved_and_renamed(|desk: &Desk| {
    fs::rename(desk.path("wrenfall-light"), desk.path("old")).unwrap();
    std::os::unix::fs::symlink("old", desk.path("wrenfall-light")).unwrap();
}, 0, "Nothing has changed", "/same", 29)]
fn what_has_changed_since_is_found(
    #[case] accident: fn(&Desk),
    #[case] code: i32,
    #[case] words: &str,
    #[case] pointer: &str,
    #[case] value: impl Into<serde_json::Value>,
) {
    let desk = Desk::with_volumes();
    accident(&desk);
    let place = if desk.path("old").exists() { "old" } else { "wrenfall-light" };
    let ran = desk.run(&["compare", "out", place]).expect(code).out;
    assert!(ran.contains(words), "{ran}");
    assert_eq!(desk.run(&["compare", "out", place, "--json"]).expect(code).json(pointer), value.into());
}

#[test]
fn originals_that_are_proven_to_be_inside_are_named() {
    let desk = Desk::with_volumes();
    let (table, path) = ("wrenfall-light/costs/cost-table.csv", desk.path("wrenfall-light/costs/cost-table.csv"));
    // Another time does not matter; other content does.
    fs::File::options().write(true).open(&path).unwrap().set_modified(std::time::SystemTime::UNIX_EPOCH).unwrap();
    desk.flip(&desk.path("wrenfall-light/survey/levels.csv"), 10);
    let ran = desk.run(&["compare", "out", "wrenfall-light", "--originals", "--json"]).expect(1);
    assert_eq!(ran.json("/originals/not_proven"), serde_json::json!(["wrenfall-light/survey/levels.csv"]));
    let proven = ran.json("/originals/proven");
    assert!(proven.as_array().unwrap().contains(&table.into()) && proven.as_array().unwrap().len() == 19, "{proven}");
    // What is left out was left out in packing; a damaged archive proves nothing.
    desk.run(&["compare", "out", "wrenfall-light/survey", "--only", "raw"]).expect(1);
    desk.flip(&desk.volume(3), 70_000);
    desk.run(&["compare", "out", "wrenfall-light", "--originals"]).expect(5);
}
