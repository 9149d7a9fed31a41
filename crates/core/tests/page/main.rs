//! What the program's own reader is held to, held against the page's: lies under a right seal.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test stops at the first thing that is not as it should be")]

#[path = "../../../cli/tests/page/browser.rs"]
mod browser;
#[path = "../support/mod.rs"]
mod support;

use browser::{Browser, Device};
use support::draft::Draft;
use support::lies::LIES;
use support::{Desk, PASSWORD};
use under_seal_core::ErrorClass;

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
            Some(ErrorClass::Unsafe) => "could lead out of the place",
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
