//! The worked example in docs/format.md is what is really written.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test stops at the first thing that is not as it should be")]

#[path = "../examples/worked_example.rs"]
mod worked_example;

#[test]
fn the_page_shows_the_archive_byte_by_byte() {
    let page = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/format.md")).unwrap();
    let shown = page.split("## 9. A worked example\n\n").nth(1).unwrap();
    assert_eq!(shown.trim_end(), worked_example::text().trim_end(), "remake it: cargo run --example worked_example");
}
