//! The Wrenfall Light dossier, built into the program: the made-up folder that the story is told with.

use std::ffi::OsStr;
use std::path::Path;
use under_seal_core::disk::{FileError, Folder};
use under_seal_core::ground::entry::Timestamp;

/// What the dossier's folder is called.
pub const NAME: &str = "wrenfall-light";

/// One item of the dossier.
#[derive(Debug)]
pub struct Item {
    /// Where it stands, relative to the dossier's folder.
    pub path: &'static str,
    /// What it is.
    pub kind: Kind,
}

/// What an item of the dossier is.
#[derive(Debug)]
pub enum Kind {
    /// A file and its content.
    File(&'static [u8]),
    /// A file that can be run.
    Script(&'static [u8]),
    /// A link and its target.
    Link(&'static str),
    /// A folder.
    Folder,
}

macro_rules! file {
    ($path:literal) => {
        file!($path, File)
    };
    ($path:literal, $kind:ident) => {
        Item { path: $path, kind: Kind::$kind(include_bytes!(concat!("../../../../../demo/wrenfall-light/", $path))) }
    };
}

const fn folder(path: &'static str) -> Item {
    Item { path, kind: Kind::Folder }
}

/// All items, each folder before what is in it. The empty folder is not in demo/, because version control
/// keeps no empty folders.
pub const ITEMS: &[Item] = &[
    file!("about-this-dossier.txt"),
    folder("costs"),
    file!("costs/cost-table.csv"),
    file!("costs/signed copy, pending.txt"),
    folder("drawings"),
    Item { path: "drawings/current.svg", kind: Kind::Link("tower-section-b.svg") },
    file!("drawings/first design.svg"),
    file!("drawings/lantern-gallery.svg"),
    file!("drawings/tower-section-a.svg"),
    file!("drawings/tower-section-b.svg"),
    folder("letters"),
    file!("letters/to the board, second delivery.txt"),
    file!("letters/Überblick für den Beirat – Laterne & Galerie.txt"),
    folder("photographs"),
    file!("photographs/01 from the landing.jpg"),
    file!("photographs/02 keeper's house.jpg"),
    file!("photographs/03 weather side.jpg"),
    file!("photographs/04 lit, before dawn.jpg"),
    file!("photographs/05 gallery brackets.jpg"),
    folder("photographs/after restoration"),
    folder("survey"),
    file!("survey/cracks.csv"),
    file!("survey/levels.csv"),
    folder("survey/raw"),
    file!("survey/raw/scan-lantern.pts"),
    file!("survey/raw/scan-north.pts"),
    file!("survey/raw/scan-south.pts"),
    file!("survey/recompute-levels.sh", Script),
];

/// When the first item was last modified, in seconds since 1970; each next one is some days younger.
const FIRST_MODIFIED: i64 = 1_930_000_000;
const APART: i64 = 300_007;

/// When the first design was drawn: long before 1970.
const FIRST_DESIGN: i64 = -1_218_000_000;

/// When an item was last modified, to the nanosecond.
pub fn modified(place: usize, item: &Item) -> Timestamp {
    let place = i64::try_from(place).unwrap_or(0);
    let early = item.path == "drawings/first design.svg";
    let seconds = if early { FIRST_DESIGN } else { FIRST_MODIFIED + place * APART };
    Timestamp { seconds, nanoseconds: u32::try_from(place * 31_415_926 % 1_000_000_000).unwrap_or(0) }
}

/// An item's permission bits.
pub fn mode(item: &Item) -> u32 {
    match item.kind {
        Kind::File(_) => 0o644,
        Kind::Script(_) | Kind::Folder => 0o755,
        Kind::Link(_) => 0o777,
    }
}

/// Lays the dossier out in a folder of its name below `place`; the folder must not exist. Where that cannot be done, it does not afterwards.
pub fn lay_out(place: &Path) -> Result<(), FileError> {
    let place = Folder::open_or_create(place)?;
    let root = place.create_subfolder(OsStr::new(NAME))?;
    fill(&root).inspect_err(|_| {
        // What came first is told.
        let _ = place.remove_tree(OsStr::new(NAME));
    })
}

fn fill(root: &Folder) -> Result<(), FileError> {
    for (at, item) in ITEMS.iter().enumerate() {
        let (parent, name) = match item.path.rsplit_once('/') {
            Some((parent, name)) => (below(root, parent)?, OsStr::new(name)),
            None => (root.itself()?, OsStr::new(item.path)),
        };
        match item.kind {
            Kind::File(content) | Kind::Script(content) => {
                let mut file = parent.create_file(name, 0o600)?;
                file.write(content)?;
                file.set_mode_and_time(mode(item), modified(at, item))?;
            }
            // Where the system allows no links, the dossier has none.
            Kind::Link(target) => drop(parent.create_link(name, OsStr::new(target), modified(at, item))?),
            Kind::Folder => drop(parent.create_subfolder(name)?),
        }
    }
    // Writing into a folder changes its time, so folders come last, the deepest first.
    for (at, item) in ITEMS.iter().enumerate().rev() {
        if matches!(item.kind, Kind::Folder) {
            below(root, item.path)?.set_mode_and_time(mode(item), modified(at, item))?;
        }
    }
    root.set_mode_and_time(0o755, Timestamp { seconds: FIRST_MODIFIED, nanoseconds: 0 })
}

fn below(root: &Folder, path: &str) -> Result<Folder, FileError> {
    path.split('/').try_fold(root.itself()?, |folder, name| folder.subfolder(OsStr::new(name)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;

    fn files_below(folder: &Path, found: &mut Vec<String>, root: &Path) {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            found.push(path.strip_prefix(root).unwrap().to_str().unwrap().to_owned());
            if path.is_dir() && !path.is_symlink() {
                files_below(&path, found, root);
            }
        }
    }

    #[test]
    fn the_dossier_in_the_program_is_the_one_in_demo() {
        let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/wrenfall-light");
        let mut on_disk = Vec::new();
        files_below(&demo, &mut on_disk, &demo);
        let mut built_in: Vec<_> = ITEMS.iter().map(|item| item.path.to_owned()).collect();
        built_in.retain(|path| path != "photographs/after restoration");
        on_disk.sort();
        built_in.sort();
        assert_eq!(on_disk, built_in);
    }
}
