//! The map in `lib.rs` is true: every floor uses only those above it in the list, and landing knows nothing of source.

use std::fs;
use std::path::{Path, PathBuf};

/// Floors that stand beside each other: the second does not use the first either.
const BESIDE: [&str; 2] = ["source", "landing"];

fn rust_files(folder: &Path) -> Vec<PathBuf> {
    let entries = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
    entries.flat_map(|path| if path.is_dir() { rust_files(&path) } else { vec![path] }).collect()
}

#[test]
fn each_floor_uses_only_those_above_it() {
    let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let map = fs::read_to_string(source.join("lib.rs")).unwrap();
    let names = |start: &str, end: &str| -> Vec<String> {
        let lines = map.lines().filter_map(|line| line.strip_prefix(start));
        lines.filter_map(|line| line.split_once(end)).map(|(name, _)| name.to_owned()).collect()
    };
    let order = names("pub mod ", ";");
    let floors = &order[..order.len() - 1];
    assert_eq!(floors, names("//! - [`", "`]"), "the map lists the floors in their order");
    assert_eq!(order.last().unwrap(), "error", "nothing else stands outside the floors");

    for file in rust_files(&source) {
        let module = file.strip_prefix(&source).unwrap().components().next().unwrap();
        let module = module.as_os_str().to_str().unwrap().trim_end_matches(".rs").to_owned();
        let Some(place) = order.iter().position(|name| *name == module) else {
            assert_eq!(module, "lib", "{} is not on the map", file.display());
            continue;
        };
        let text = fs::read_to_string(&file).unwrap();
        for rest in text.split("crate::").skip(1) {
            let name: String = rest.chars().take_while(|c| c.is_alphanumeric() || *c == '_').collect();
            let Some(other) = order.iter().position(|known| *known == name) else {
                panic!("{} uses crate::{name}, which is no module of the map", file.display());
            };
            assert!(other <= place, "{} uses crate::{name}, which is below it", file.display());
            assert!([&*name, &*module] != BESIDE, "{} uses crate::{name}, which is beside it", file.display());
        }
    }
}
