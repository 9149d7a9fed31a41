//! What the program's own reader is held to, held against the page's: lies under a right seal.

// The browsers that it is tried in are driven as on Unix; the page itself is the same everywhere.
#![cfg(unix)]
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test stops at the first thing that is not as it should be")]

#[path = "../../../cli/tests/page/browser.rs"]
mod browser;
mod engine;
#[path = "../support/mod.rs"]
mod support;

use browser::{Browser, Device};
use support::draft::Draft;
use support::lies::LIES;
use support::{Desk, PASSWORD, edit, gather, mend_checks, noise};
use under_seal_core::ErrorClass;
use under_seal_core::formats::sealed::volume::in_page::{Form, InPage};
use under_seal_core::formats::sealed::volume::{HEADER_BYTES, SpareWish};
use under_seal_core::tasks::check::inspect;
use under_seal_core::tasks::page::PAGE;
use under_seal_core::tasks::resend::Slip;

/// A long volume stands behind the page as it is: a browser asks for the file once more, and takes no other.
#[test]
fn a_page_asks_for_the_volume_behind_it() {
    let desk = Desk::new();
    desk.source("levels.csv", b"lamp,3\n").source("lamp.txt", b"lit");
    let volume = std::fs::read(desk.pack("").remove(0)).unwrap();
    let inside = InPage::behind(PAGE, Form::Raw, volume.len() as u64);
    let page = desk.path("a long page.html");
    std::fs::write(&page, [inside.opening(PAGE), volume].concat()).unwrap();
    let Some(browser) = Browser::with_page(&desk.path("."), Device::Computer) else { return };
    browser.go_to(&page);
    browser.wait_for("#choosing", &["Choose this file itself once more: a long page.html"]);
    browser.give("files", &[desk.path("source/lamp.txt")]);
    browser.wait_for("#choosing-told", &["lamp.txt is not a sealed volume"]);
    browser.give("files", &[page]);
    browser.unlock(PASSWORD);
    browser.wait_for("#list-sums", &["2 files, 10 bytes"]);
    browser.save_everything().unwrap();
}

/// Where headers contradict each other, whatever the password opens is the genuine set, be it what the fewest say.
#[test]
fn the_password_tells_which_of_contradicting_headers_is_genuine() {
    let desk = Desk::new();
    desk.source("noise", &noise(150_000));
    let mut given = desk.pack("70KB");
    for place in 0..given.len() {
        let mut volume = std::fs::read(&given[place]).unwrap();
        volume[300] ^= 1;
        mend_checks(&mut volume);
        given.push(desk.path(&format!("copy-{place}")));
        std::fs::write(given.last().unwrap(), volume).unwrap();
    }
    let Some(browser) = Browser::with_page(&desk.path("."), Device::Computer) else { return };
    // One genuine header is left.
    browser.give("files", &given[2..]);
    browser.unlock(PASSWORD);
    browser.wait_for("#list-sums", &["1 file, 150 KB"]);
    browser.save_everything().unwrap();
}

/// Two volumes are lost, one of them in part, one spare volume is forged, and another has lost its header: the page recreates all of it,
/// and where that is too much, asks for the same as the program.
#[test]
fn spare_volumes_make_good_what_is_lost_in_the_page_too() {
    let mut desk = Desk::new();
    desk.spares = SpareWish::Count(3);
    desk.source("noise", &noise(650_000));
    let volumes = desk.pack("150KB");
    std::fs::remove_file(&volumes[1]).unwrap();
    edit(&volumes[3], |bytes| bytes[HEADER_BYTES + 70_000] ^= 1);
    edit(&desk.path("out/set-spare1of3.useal"), |bytes| {
        bytes[HEADER_BYTES..].iter_mut().step_by(999).for_each(|byte| *byte ^= 1);
        mend_checks(bytes);
    });
    edit(&desk.path("out/set-spare2of3.useal"), |bytes| bytes[700] ^= 1);
    let Some(browser) = Browser::with_page(&desk.path("."), Device::Computer) else { return };
    browser.give("files", &desk.volumes());
    let told = ["4 of 5 volumes are here, and 3 spare volumes. Missing: 2.", "shows that it is spare volume 2."];
    browser.wait_for("#volumes-told", &told);
    browser.wait_for("#volumes-state", &["The spare volumes make good what is missing or damaged."]);
    browser.unlock(PASSWORD);
    browser.wait_for("#list-sums", &["1 file, 650 KB"]);
    browser.save_everything().unwrap();

    for lost in [&volumes[0], &volumes[2]] {
        std::fs::remove_file(lost).unwrap();
    }
    let set = gather(&[desk.path("out")]).unwrap();
    let found = desk.with_context(&|| false, |context| inspect(&set, context)).unwrap();
    let slip = Slip::of(&set, &found).unwrap().code();
    browser.go_to(&desk.path("open-me.html"));
    browser.give("files", &desk.volumes());
    let said = browser.wait_for("#volumes-state", &["Otherwise send this code"]);
    assert!(said.contains(&slip), "{slip}: {said}");
}

/// Each is refused by both, and by the page in words of the same class; where there is no lie, all is saved.
#[test]
fn lies_under_the_seal_are_refused_by_the_page_too() {
    let place = Desk::new();
    let Some(browser) = Browser::with_page(&place.path("."), Device::Computer) else { return };
    for (name, lie, class) in LIES {
        let desk = Desk::new();
        let mut draft = Draft::honest();
        lie(&mut draft);
        let volume = draft.seal(&desk);
        browser.go_to(&place.path("open-me.html"));
        browser.give("files", &[volume]);
        browser.unlock(PASSWORD);
        let words = match class {
            Some(ErrorClass::Unsafe) => "could lead to a place outside",
            Some(ErrorClass::Usage) => "newer version than this page knows",
            _ => "break the rules of their own format",
        };
        let said = browser.wait_for("main", &[words, "Save everything"]);
        let outcome = if said.contains(words) { Err(said) } else { browser.save_everything() };
        match (class, outcome) {
            (None, Ok((zip, _))) => std::fs::remove_file(zip).unwrap(),
            (Some(_), Err(said)) => assert!(said.contains(words), "{name}: {said}"),
            (_, outcome) => panic!("{name}: {outcome:?}"),
        }
    }
}
