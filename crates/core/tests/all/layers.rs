//! The map in `lib.rs` is true: every floor uses only those above it in the list, landing knows nothing of source, and nothing goes in
//! circles. Only disk knows on which system it is. Whoever takes a name from a folder takes it from the file that the folder has it from.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

/// Floors that stand beside each other: the second does not use the first either.
const BESIDE: [&str; 2] = ["source", "landing"];

fn rust_files(folder: &Path) -> Vec<PathBuf> {
    let entries = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
    entries.flat_map(|path| if path.is_dir() { rust_files(&path) } else { vec![path] }).collect()
}

/// Every module without its tests, by its path from the crate.
fn modules() -> BTreeMap<String, String> {
    let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let module = |file: PathBuf| {
        let path = file.strip_prefix(&source).unwrap().with_extension("");
        let names: Vec<&str> = path.iter().map(|name| name.to_str().unwrap()).collect();
        let names = names.strip_suffix(&["mod"]).unwrap_or(&names).join("::");
        let text = fs::read_to_string(file).unwrap();
        let code = text.split("\n#[cfg(test)]\nmod").next().unwrap();
        (names, code.lines().filter(|line| !line.trim_start().starts_with("//")).collect::<Vec<_>>().join("\n"))
    };
    let files = rust_files(&source).into_iter().filter(|file| !file.ends_with("tests.rs") && !file.ends_with("lib.rs"));
    files.map(module).collect()
}

/// The paths of a tree of imports, and whether names are passed on by it.
fn imports(code: &str) -> Vec<(bool, String)> {
    fn expand(before: &str, tree: &str, paths: &mut Vec<String>) {
        let (mut depth, mut start) = (0, 0);
        for (at, letter) in tree.char_indices().chain([(tree.len(), ',')]) {
            match letter {
                '{' => depth += 1,
                '}' => depth -= 1,
                ',' if depth == 0 => {
                    let item = tree[start..at].trim();
                    start = at + 1;
                    match item.split_once('{') {
                        Some((front, inside)) => {
                            expand(&format!("{before}{front}"), inside.trim_end_matches('}'), paths)
                        }
                        None if item.is_empty() => {}
                        None => paths.push(format!("{before}{}", item.split(" as ").next().unwrap())),
                    }
                }
                _ => {}
            }
        }
    }
    let mut found = Vec::new();
    for statement in code.split(';') {
        let line = statement.rsplit("\n\n").next().unwrap().trim_start();
        let line = line.rsplit_once("\npub use ").map_or(line.to_owned(), |(_, rest)| format!("pub use {rest}"));
        let Some((front, tree)) = line.split_once("use ").filter(|(front, _)| {
            let front = front.trim();
            front.is_empty() || front.starts_with("pub")
        }) else {
            continue;
        };
        let mut paths = Vec::new();
        expand("", tree, &mut paths);
        found.extend(paths.into_iter().map(|path| (!front.trim().is_empty(), path)));
    }
    found
}

struct House {
    code: BTreeMap<String, String>,
    imports: BTreeMap<String, Vec<(bool, String)>>,
}

impl House {
    fn new() -> Self {
        let code = modules();
        let imports = code.iter().map(|(module, code)| (module.clone(), imports(code))).collect();
        Self { code, imports }
    }

    /// The path from the crate of one that stands in a module.
    fn absolute(&self, module: &str, path: &str) -> Option<String> {
        let mut base: Vec<&str> = module.split("::").collect();
        let mut names: Vec<&str> = path.split("::").map(str::trim).collect();
        match names[0] {
            "crate" => base.clear(),
            "super" | "self" => {}
            first if self.code.contains_key(&format!("{module}::{first}")) => {}
            _ => return None,
        }
        while let Some(first @ ("crate" | "super" | "self")) = names.first().copied() {
            if first == "super" {
                base.pop();
            }
            names.remove(0);
        }
        Some([base, names].concat().join("::"))
    }

    /// The module that a path's name is from, through whatever passes it on.
    fn origin(&self, path: &str) -> Option<String> {
        let mut module = path;
        while !self.code.contains_key(module) {
            module = module.rsplit_once("::")?.0;
        }
        let name = path[module.len()..].trim_start_matches("::").split("::").next().unwrap();
        let passed_on = self.imports[module].iter().filter(|(passes_on, _)| *passes_on);
        let from =
            passed_on.map(|(_, path)| path).find(|path| !name.is_empty() && path.ends_with(&format!("::{name}")));
        match from.and_then(|from| self.absolute(module, from)) {
            Some(from) => self.origin(&from),
            None => Some(module.to_owned()),
        }
    }

    /// What each module uses.
    fn arrows(&self) -> BTreeMap<&str, BTreeSet<String>> {
        let used = |module: &String| {
            let own = self.imports[module].iter().filter(|(passes_on, _)| !passes_on).map(|(_, path)| path.clone());
            let code = &self.code[module];
            let written = code.split("crate::").skip(1).map(|rest| {
                let path: String = rest.chars().take_while(|c| c.is_alphanumeric() || "_:".contains(*c)).collect();
                format!("crate::{}", path.trim_end_matches("::"))
            });
            let all = own.chain(written.filter(|path| path.contains("::")));
            let origins = all.filter_map(|path| self.origin(&self.absolute(module, &path)?));
            origins.filter(|origin| origin != module).collect()
        };
        self.code.keys().map(|module| (module.as_str(), used(module))).collect()
    }
}

fn floor(module: &str) -> &str {
    module.split("::").next().unwrap()
}

#[test]
fn each_floor_uses_only_those_above_it() {
    let map = fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("src/lib.rs")).unwrap();
    let names = |start: &str, end: &str| -> Vec<String> {
        let lines = map.lines().filter_map(|line| line.strip_prefix(start));
        lines.filter_map(|line| line.split_once(end)).map(|(name, _)| name.to_owned()).collect()
    };
    let order = names("pub mod ", ";");
    let floors = &order[..order.len() - 1];
    assert_eq!(floors, names("//! - [`", "`]"), "the map lists the floors in their order");
    assert_eq!(order.last().unwrap(), "error", "nothing else stands outside the floors");
    let place = |module: &str| order.iter().position(|name| name == floor(module));
    let house = House::new();
    for (module, used) in house.arrows() {
        let own = place(module).unwrap_or_else(|| panic!("{module} is not on the map"));
        for other in &used {
            assert!(place(other).is_some_and(|place| place <= own), "{module} uses {other}, which is below it");
            assert!([floor(other), floor(module)] != BESIDE, "{module} uses {other}, which is beside it");
        }
    }
}

#[test]
fn nothing_goes_in_circles() {
    let house = House::new();
    let arrows = house.arrows();
    assert!(arrows.values().map(BTreeSet::len).sum::<usize>() > 500, "imports are not read any more");
    let reached = |from: &str| {
        let (mut reached, mut next) = (BTreeSet::new(), vec![from.to_owned()]);
        while let Some(module) = next.pop() {
            next.extend(arrows[module.as_str()].iter().filter(|other| reached.insert((*other).clone())).cloned());
        }
        reached
    };
    let reached: BTreeMap<&str, BTreeSet<String>> = arrows.keys().map(|module| (*module, reached(module))).collect();
    let circle = |module: &&str| {
        let others = reached[module].iter().filter(|other| reached[other.as_str()].contains(*module));
        others.cloned().collect::<BTreeSet<String>>()
    };
    let circles: BTreeSet<BTreeSet<String>> = arrows.keys().map(circle).filter(|circle| !circle.is_empty()).collect();
    assert!(circles.is_empty(), "{circles:#?}");
}

/// What names a system, or anything that only one has.
const SYSTEMS: [&str; 8] =
    ["std::os", "rustix", "nix::", "winapi_util", "cfg(unix)", "cfg(windows)", "cfg(not(", "target_os"];

#[test]
fn only_disk_knows_the_system() {
    let house = House::new();
    let knows = |code: &str| SYSTEMS.iter().any(|system| code.contains(system));
    let knowing = house.code.iter().filter(|(_, code)| knows(code)).map(|(module, _)| module.as_str());
    let knowing: BTreeSet<&str> = knowing.collect();
    assert!(knowing.contains("disk") && knowing.contains("disk::unix::folders"), "{knowing:?}");
    let others = knowing.iter().filter(|module| {
        // Whether faults are built in is no question of the system.
        !module.starts_with("disk::unix")
            && !module.starts_with("disk::windows")
            && !["disk", "disk::faults"].contains(*module)
    });
    assert_eq!(others.collect::<Vec<_>>(), Vec::<&&str>::new());
}
