//! What files have beside their content, in the page.

use crate::support::{Desk, PASSWORD};
use crate::{browser_at, volumes};
use rstest::rstest;
use std::fs;
use std::os::unix::fs::FileExt as _;

/// Further names of a file have its content too, holes are zeros, and neither counts for the receipt.
#[rstest]
#[case::volumes(&["--fit", "100KB"])]
#[case::page(&["--as", "page"])]
fn hard_links_and_holes_come_out(#[case] options: &[&str]) {
    let desk = Desk::new();
    fs::create_dir_all(desk.path("wrenfall-light/tower")).unwrap();
    let lamp = (0..300_000_u32).map(|number| (number % 251) as u8).collect::<Vec<_>>();
    desk.file("wrenfall-light/lamp.raw", &lamp);
    for further in ["a.raw", "tower/lamp.raw"] {
        fs::hard_link(desk.path("wrenfall-light/lamp.raw"), desk.path("wrenfall-light").join(further)).unwrap();
    }
    let image = fs::File::create(desk.path("wrenfall-light/disk.img")).unwrap();
    image.write_all_at(b"lit", 5_000_000).unwrap();
    image.set_len(9_000_000).unwrap();
    desk.run(&[&["pack", "wrenfall-light", "--to", "out/", "--attributes"], options].concat()).expect(0);
    let Some(browser) = browser_at(&desk) else { return };
    browser.give("files", &volumes(&desk));
    browser.unlock(PASSWORD);
    browser.wait_for("#list-sums", &["4 files, 9.9 MB"]);
    let (zip, said) = browser.save_everything().unwrap();
    let receipt = desk.run(&["receipt", "out", "--json"]).expect(0).json("/receipt");
    assert!(said.contains(receipt.as_str().unwrap()), "{said}");
    let compared = desk.run_bare(&["compare", zip.to_str().unwrap(), "wrenfall-light", "--json"]).expect(0);
    assert_eq!(compared.json("/same"), 6);
}
