//! Plain pieces: any file cut, and whatever is numbered joined.

use crate::support::Desk;
use rstest::rstest;
use std::fs;
use std::process::Command;

const NAME: &str = "tower's plan – Überblick.tif";

/// A desk with a file of so many bytes that look random.
fn with_file(bytes: usize) -> (Desk, Vec<u8>) {
    let desk = Desk::new();
    let mut content = vec![0; bytes];
    blake3::Hasher::new().finalize_xof().fill(&mut content);
    desk.file(NAME, &content);
    (desk, content)
}

#[rstest]
#[case::empty(0, 1)]
#[case::smaller_than_a_piece(999, 1)]
#[case::exact(3_000, 3)]
#[case::with_a_rest(9_001, 10)]
#[case::many(120_500, 121)]
#[cfg_attr(windows, ignore = "it needs a shell of Unix")]
fn concatenation_joins_the_pieces_anywhere(#[case] bytes: usize, #[case] count: usize) {
    let (desk, content) = with_file(bytes);
    let cut = desk.run(&["portion", NAME, "--fit", "1KB", "--to", "cut", "--json"]).expect(0);
    assert_eq!(cut.json("/pieces").as_array().unwrap().len(), count);
    // As somebody without this program does, with the command that the list gives.
    let list = fs::read_to_string(desk.path(&format!("cut/{NAME}.pieces.txt"))).unwrap();
    let command = list.lines().find_map(|line| line.strip_prefix("    cat ")).unwrap();
    let joined = Command::new("sh").args(["-c", &format!("cat {command}")]).current_dir(desk.path("cut")).status();
    assert!(joined.unwrap().success());
    assert_eq!(fs::read(desk.path("cut").join(NAME)).unwrap(), content);
    let again = desk.run(&["reunite", &format!("cut/{NAME}.pieces.txt"), "--to", "whole.tif", "--json"]).expect(0);
    assert_eq!((again.json("/sha256"), again.json("/compared")), (cut.json("/sha256"), true.into()));
    assert_eq!(fs::read(desk.path("whole.tif")).unwrap(), content);
}

fn piece(number: u32) -> String {
    format!("cut/{NAME}.{number:02}of04")
}

fn rename(desk: &Desk, from: &str, to: &str) {
    fs::rename(desk.path(from), desk.path(to)).unwrap();
}

/// What happens to four pieces and their list, what comes of it, and what is said.
#[rstest]
#[case::nothing(|_: &Desk| {}, 0, "it is the one that was cut")]
#[case::one_is_lost(|desk: &Desk| fs::remove_file(desk.path(&piece(2))).unwrap(), 4, "Piece 2 of 4 is missing")]
#[case::the_last_is_lost(|desk: &Desk| fs::remove_file(desk.path(&piece(4))).unwrap(), 4, "Piece 4 of 4 is missing")]
#[case::renamed(|desk: &Desk| rename(desk, &piece(2), "cut/ATT00004.bin"), 0, "it is the one that was cut")]
#[case::doubled_and_one_damaged(|desk: &Desk| {
    fs::create_dir(desk.path("more")).unwrap();
    fs::copy(desk.path(&piece(2)), desk.path(&piece(2).replace("cut", "more"))).unwrap();
    desk.flip(&desk.path(&piece(2)), 100);
}, 0, "it is the one that was cut")]
#[case::damaged(|desk: &Desk| {
    desk.flip(&desk.path(&piece(2)), 100);
    fs::write(desk.path(&piece(4)), b"short").unwrap();
}, 5, "Pieces 2 and 4 are not what they were")]
#[case::no_list(|desk: &Desk| fs::remove_file(desk.path(&format!("cut/{NAME}.pieces.txt"))).unwrap(), 0, "ask the sender for its SHA-256")]
#[case::a_damaged_list(|desk: &Desk| {
    let path = desk.path(&format!("cut/{NAME}.pieces.txt"));
    let text = fs::read_to_string(&path).unwrap();
    fs::write(path, &text[..text.len() - 70]).unwrap();
}, 1, "is damaged: ask the sender for it again")]
#[case::a_list_that_contradicts_itself(|desk: &Desk| {
    let path = desk.path(&format!("cut/{NAME}.pieces.txt"));
    let text = fs::read_to_string(&path).unwrap();
    let at = text.find("file 3500 ").unwrap() + 10;
    fs::write(path, format!("{}{}{}", &text[..at], "00".repeat(32), &text[at + 64..])).unwrap();
}, 5, "the list is wrong")]
#[case::there_already(|desk: &Desk| { desk.file(&format!("cut/{NAME}"), b"dear"); }, 6, "is not overwritten")]
fn from_any_piece_the_others_are_found(#[case] accident: fn(&Desk), #[case] code: i32, #[case] words: &str) {
    let (desk, content) = with_file(3_500);
    desk.run(&["portion", NAME, "--fit", "1KB", "--to", "cut"]).expect(0);
    accident(&desk);
    let (third, second) = (piece(3), piece(2).replace("cut", "more"));
    let mut arguments = vec!["reunite", &third];
    arguments.extend(desk.path("more").exists().then_some(second.as_str()));
    let ran = desk.run(&arguments).expect(code);
    assert!((ran.out + &ran.err).contains(words), "{}", ran.err);
    let whole = desk.path("cut").join(NAME);
    match code {
        0 | 1 => assert_eq!(fs::read(whole).unwrap(), content),
        6 => assert_eq!(fs::read(whole).unwrap(), b"dear"),
        _ => assert!(!whole.exists()),
    }
    assert!(!desk.names("cut").iter().any(|name| name.starts_with('.')), "something temporary was left");
}

/// Names of pieces that something else has cut, what comes of them, and what is said.
#[rstest]
#[case::numbers(&["scan.001", "scan.002", "scan.003"], 0, "scan")]
#[case::from_zero(&["scan.tif.0", "scan.tif.1", "scan.tif.2"], 0, "scan.tif")]
#[case::without_zeros(&["scan part8.tif", "scan part9.tif", "scan part10.tif"], 4, "Pieces 1 to 7 are missing")]
#[case::ambiguous(&["scan.1", "scan.01", "scan.2"], 2, "Several files are piece 1")]
#[case::one_alone(&["scan.tif"], 2, "is not one of several pieces")]
fn whatever_is_numbered_is_joined(#[case] names: &[&str], #[case] code: i32, #[case] words: &str) {
    let desk = Desk::new();
    for (place, name) in names.iter().enumerate() {
        // The last is shorter: nothing seems to be missing.
        desk.file(name, &vec![b'a' + place as u8; 5 - place]);
    }
    let ran = desk.run(&["reunite", names[0]]).expect(code);
    if code == 0 {
        assert_eq!(fs::read(desk.path(words)).unwrap(), b"aaaaabbbbccc");
    } else {
        assert!(ran.err.replace("\n  ", " ").contains(words), "{}", ran.err);
    }
}

#[test]
fn an_end_that_may_be_missing_is_told() {
    let desk = Desk::new();
    desk.file("scan.1", b"four").file("scan.2", b"more");
    let ran = desk.run(&["reunite", "scan.2", "--json"]).expect(1);
    assert_eq!(ran.json("/may_lack_the_end"), true);
}

#[rstest]
#[case::pieces_of_another_cutting(&["--fit", "2KB"], "cut", 6, "Pieces of this file are there already")]
#[case::no_fit(&[], "other", 2, "Nothing says how large a piece may be")]
#[case::nothing_fits(&["--fit", "0"], "other", 2, "at least one byte")]
#[case::too_many(&["--fit", "1", "--config", "none.toml"], "other", 2, "70,000 pieces")]
fn what_cannot_be_cut_leaves_nothing(#[case] fit: &[&str], #[case] to: &str, #[case] code: i32, #[case] words: &str) {
    let (desk, _) = with_file(if words.contains("70,000") { 70_000 } else { 3_500 });
    desk.file("none.toml", b"").run(&["portion", NAME, "--fit", "4KB", "--to", "cut"]);
    let before = desk.names(to);
    let ran = desk.run(&[&["portion", NAME, "--to", to], fit].concat()).expect(code);
    assert!(ran.err.replace("\n  ", " ").contains(words), "{}", ran.err);
    assert_eq!(desk.names(to), before);
}
