//! The worked example in docs/format.md is what is really written.

#[path = "../../../examples/worked_example.rs"]
mod example;

#[test]
fn the_page_shows_the_archive_byte_by_byte() {
    let page = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/format.md")).unwrap();
    let shown = page.split("## 9. A worked example\n\n").nth(1).unwrap();
    assert_eq!(shown.trim_end(), example::text().trim_end(), "remake it: cargo run --example worked_example");
}
