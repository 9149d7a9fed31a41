//! `rehearse --in-browser`: the recipient played in a real browser, whichever is here, before anything is sent.

use crate::support::{Desk, in_a_shell};
use crate::{browser_at, packed};
use rstest::rstest;

/// The recipient is played in a real browser, with whatever unlocks it; what cannot be played is told before anything begins.
#[rstest]
#[case::volumes(&["--fit", "260KB"], &[], 0, "in chromium unlocked it and saved everything")]
#[case::page(&["--as", "page", "--key-file", "key"], &["--key-file", "key"], 0, "the page in chromium unlocked it")]
#[case::key_file(&["--key-file", "key"], &["--key-file", "key"], 0, "the same as the sources, in every byte and mode")]
#[case::open_to_all(&["--no-password"], &[], 0, "the same as the sources")]
#[case::another_format(&["--as", "zip"], &[], 2, "The page opens sealed volumes only.")]
#[case::no_such_browser(&[], &["--browser", "/nowhere/chromium"], 7, "The browser cannot be started: it is not there.")]
#[case::ends_at_once(&[], &["--browser", "/bin/true"], 7, "The browser ended")]
fn the_recipient_is_played_in_a_browser(
    #[case] packing: &[&str],
    #[case] playing: &[&str],
    #[case] code: i32,
    #[case] words: &str,
) {
    let desk = packed(packing).with_password(!packing.contains(&"--no-password"));
    if code == 0 && browser_at(&desk).is_none() {
        return;
    }
    let archive = desk.path("out").join(&desk.names("out")[0]);
    let fixed = ["rehearse", archive.to_str().unwrap(), "--against", "wrenfall-light", "--in-browser"];
    let ran = desk.run(&[&fixed[..], playing].concat()).expect(code);
    assert!((ran.out + ran.err.as_str()).replace("\n  ", " ").contains(words), "{}", ran.err);
}

/// Firefox has no pickers and another storage, and reads a page to its end before it is ready.
#[rstest]
#[case::volumes(&["--fit", "260KB", "--squeeze", "utmost"])]
#[case::page(&["--as", "page"])]
fn the_recipient_is_played_in_firefox(#[case] packing: &[&str]) {
    let is_here = in_a_shell(&Desk::new(), "command -v firefox-esr").code == 0;
    assert!(is_here || std::env::var_os("CI").is_none(), "CI needs firefox-esr");
    if !is_here {
        eprintln!("not tried: there is no Firefox here");
        return;
    }
    let desk = packed(packing);
    let playing =
        ["rehearse", "out", "--against", "wrenfall-light", "--in-browser", "--browser", "/usr/bin/firefox-esr"];
    let said = desk.run(&playing).expect(0).out;
    assert!(said.contains("in firefox-esr unlocked it and saved everything"), "{said}");
}

/// The page saves a lone file as it is, and a rehearsal takes it so.
#[test]
fn a_lone_file_is_played_in_a_browser() {
    let desk = Desk::new();
    desk.file("levels.csv", b"lamp,3\n").run(&["pack", "levels.csv", "--to", "out/"]).expect(0);
    if browser_at(&desk).is_none() {
        return;
    }
    let said = desk.run(&["rehearse", "out", "--against", "levels.csv", "--in-browser"]).expect(0).out;
    assert!(said.contains("saved the file") && said.contains("without its mode and time"), "{said}");
}

/// What is played is the page that the recipient gets, and not this program's own.
#[test]
fn the_page_of_a_handover_is_the_one_that_is_played() {
    let desk = packed(&["--fit", "1MB"]);
    if browser_at(&desk).is_none() {
        return;
    }
    desk.run(&["handover", "out", "--to", "sent"]).expect(0);
    let playing = ["rehearse", "sent", "--against", "wrenfall-light", "--in-browser"];
    desk.run(&playing).expect(0);
    // The browser runs no script that is not the one that the page names.
    let page = desk.path("sent/open-me.html");
    let text = std::fs::read_to_string(&page).unwrap();
    std::fs::write(&page, text.replace("Save everything", "Keep everything")).unwrap();
    let said = desk.run(&playing).expect(1).out;
    assert!(said.contains("the page does not get ready"), "{said}");
}
