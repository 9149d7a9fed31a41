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

#[test]
fn a_receipt_is_made_by_one_and_confirmed_by_the_other() {
    let desk = Desk::with_volumes();
    let receipt = desk.run(&["receipt", "out", "--json"]).expect(0).json("/receipt").as_str().unwrap().to_owned();
    // Typed in groups, in small letters, and by two people.
    let groups: Vec<String> = receipt.split('-').map(str::to_lowercase).collect();
    let typed: Vec<&str> = groups.iter().map(String::as_str).collect();
    desk.run(&[&["confirm", "out", "--by", "the board"], &typed[..]].concat()).expect(0);
    let ran = desk.run(&["confirm", "out", &receipt, "--by", "the archive"]).expect(0).out;
    assert!(ran.contains("Yes.") && ran.contains("the board") && ran.contains("the archive"), "{ran}");
    let ledger = fs::read_to_string(desk.path("out/wrenfall-light.confirmed.jsonl")).unwrap();
    assert_eq!(ledger.lines().count(), 2);
    assert!(ledger.lines().all(|line| serde_json::from_str::<serde_json::Value>(line).unwrap()["receipt"] == receipt));
    let json = desk.run(&["confirm", "out", &receipt, "--json"]).expect(0);
    assert_eq!((json.json("/confirmed"), json.json("/confirmations/1/who")), (true.into(), "the archive".into()));
}

/// What is told instead of the receipt of volumes that hold `1`, and what is answered.
#[rstest]
#[case::mistyped(|right: &str, _: &str| format!("{}Z{}", &right[..7], &right[8..]), 2, "Group 2 of the code is mistyped")]
#[case::cut_off(|right: &str, _: &str| right[..17].to_owned(), 2, "too short or too long")]
#[case::of_another_archive(|_: &str, other: &str| other.to_owned(), 2, "the receipt of another archive")]
#[case::made_up(|right: &str, _: &str| {
    let mut bytes = under_seal_core::codes::decode(right).unwrap();
    bytes[9] ^= 1;
    under_seal_core::codes::encode(&bytes)
}, 1, "No. This is not the receipt")]
fn what_is_no_receipt_is_told(#[case] told: fn(&str, &str) -> String, #[case] code: i32, #[case] words: &str) {
    let desk = Desk::new();
    desk.file("a", b"1").file("b", b"2");
    let [right, other] = ["a", "b"].map(|name| {
        desk.run(&["pack", name]).expect(0);
        let ran = desk.run(&["receipt", &format!("{name}.useal"), "--json"]).expect(0);
        ran.json("/receipt").as_str().unwrap().to_owned()
    });
    let ran = desk.run(&["confirm", "a.useal", &told(&right, &other)]).expect(code);
    assert!((ran.out + &ran.err).contains(words));
    assert!(!desk.path("a.confirmed.jsonl").exists());
}
