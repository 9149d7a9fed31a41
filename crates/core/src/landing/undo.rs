//! Taking back: where an extraction stops on the way, what it has brought goes again, so that no half of an archive
//! passes for a whole one.
//!
//! Only what is surely this run's goes: files of the length and time that they were given, links, each still the
//! one that it has made, and folders in which nothing is left. What took the place of something else stays, since that is gone.

use super::Landing;
use super::made_folder::MadeFolder;
use crate::disk::{FileError, NEW_FOLDER_MODE};
use crate::ground::entry::{EntryKind, ListedEntry};

impl Landing {
    /// Takes back what has landed, or was complete and waited for its name; how many files went. What cannot be taken back stays.
    pub(super) fn take_back(&mut self, entries: &[ListedEntry]) -> u64 {
        let mut removed = self.waiting.len() as u64;
        self.remove_arriving();
        self.remove_waiting();
        // What is left of them in the end gets its modes once more.
        self.settled = false;
        let landed = std::mem::take(&mut self.landed_files);
        for MadeFolder { path, modified, .. } in [self.made_folders.as_slice(), &self.met_folders].concat() {
            // Some may have got modes already with which nothing in them can be removed.
            let opened = self.open(path.as_bytes());
            let _ = opened.and_then(|place| place.set_mode_and_time(NEW_FOLDER_MODE, modified));
        }
        for listed in entries {
            let Some((number, bytes)) = landed.get(&listed.entry.id) else { continue };
            let gone = self.take_back_one(listed, *number).unwrap_or(false);
            match (gone, listed.entry.kind) {
                (true, EntryKind::File) => {
                    removed += 1;
                    self.landed.files -= 1;
                    self.landed.bytes -= bytes;
                }
                (true, EntryKind::Link) => self.landed.links -= 1,
                _ => {}
            }
        }
        self.way.1.clear();
        self.take_back_folders();
        self.landed.beside.clear();
        removed
    }

    fn take_back_one(&mut self, listed: &ListedEntry, number: u64) -> Result<bool, FileError> {
        let Some((path, _)) = self.place_for(&listed.entry) else { return Ok(false) };
        let (place, name) = self.place_of(&path)?;
        let is_ours = match (place.kind_of(&name)?, listed.entry.kind) {
            (Some(kind), EntryKind::Link) => kind.is_symlink(),
            (Some(kind), EntryKind::File) => {
                let as_given = (listed.content.size, listed.entry.modified);
                kind.is_file() && place.size_and_time_of(&name)? == as_given
            }
            _ => false,
        };
        // Another run may have put the same thing in its place.
        let is_ours = is_ours && place.number_of(&name)? == number;
        if is_ours {
            place.remove_file(&name)?;
        }
        Ok(is_ours)
    }

    /// Folders that are empty go, the deepest first; the others get their modes and times as ever. Where another run has been at
    /// work here, they all stay: it may have found them there.
    fn take_back_folders(&mut self) {
        if self.has_met_another() {
            return;
        }
        let mut made = std::mem::take(&mut self.made_folders);
        made.sort_by(|one, other| other.path.cmp(&one.path));
        let mut gone = Vec::new();
        for folder in made {
            let removed = self.place_of(&folder.path).and_then(|(place, name)| place.remove_subfolder(&name));
            match removed {
                Ok(()) => gone.push(folder),
                Err(_) => self.made_folders.push(folder),
            }
            self.way.1.clear();
        }
        self.landed.folders -= gone.len() as u64;
        // It may have begun meanwhile, and found them before they went.
        if self.has_met_another() {
            gone.iter().rev().for_each(|folder| drop(self.put_back(folder)));
        }
    }

    fn put_back(&mut self, folder: &MadeFolder) -> Result<(), FileError> {
        let (place, name) = self.place_of(&folder.path)?;
        place.create_subfolder(&name)?;
        self.made_folders.push(folder.clone());
        self.landed.folders += 1;
        Ok(())
    }

    fn has_met_another(&self) -> bool {
        self.marker.as_ref().is_some_and(|marker| marker.has_met_another(&self.root))
    }
}

#[cfg(test)]
mod tests {
    use super::super::destination::{Destination, Landed};
    use super::super::places::Places;
    use super::super::{Landing, Prepared};
    use super::*;
    use crate::disk::Folder;
    use crate::ground::context::Context;
    use crate::ground::context::for_tests::in_context;
    use crate::ground::entry::{Content, Entry, EntryPath, Timestamp};
    use rstest::rstest;
    use std::fs;
    use std::path::Path;

    /// Two folders, two files in the first, a link to one of them, and a file in the second.
    fn entries() -> Vec<ListedEntry> {
        use EntryKind::{File, Link};
        let all = [
            ("a", EntryKind::Folder),
            ("a/f", File),
            ("a/g", File),
            ("a/l", Link),
            ("b", EntryKind::Folder),
            ("b/h", File),
        ];
        let listed = |(id, (path, kind)): (u64, &(&str, EntryKind))| ListedEntry {
            entry: Entry {
                id,
                path: EntryPath::new(*path).unwrap(),
                kind: *kind,
                mode: 0o750,
                modified: Timestamp { seconds: 1_700_000_000, nanoseconds: 0 },
                link_target: if *kind == Link { b"f".to_vec() } else { Vec::new() },
            },
            content: Content { size: if *kind == File { 5 } else { 0 }, ..Content::default() },
        };
        (1..).zip(&all).map(listed).collect()
    }

    fn prepared(place: &Path, entries: &[ListedEntry], context: &Context<'_>) -> Landing {
        match Landing::prepare(Destination::from(place), &Places::default(), entries, context).unwrap() {
            Prepared::Ready(landing) => *landing,
            Prepared::TakesOther(rules) => panic!("{rules:?}"),
        }
    }

    /// Everything landed, while the folders have no times yet.
    fn landed(place: &Path, entries: &[ListedEntry], context: &Context<'_>) -> Landing {
        let mut landing = prepared(place, entries, context);
        for ListedEntry { entry, content } in entries {
            landing.begin(entry).unwrap();
            landing.content(&b"bytes"[..content.size as usize]).unwrap();
            landing.end(entry, content).unwrap();
        }
        landing.name_waiting().unwrap();
        for link in std::mem::take(&mut landing.links) {
            landing.make_link(&link).unwrap();
        }
        landing
    }

    fn link_to(target: &str, folder: &Path) {
        let folder = Folder::open(folder).unwrap();
        assert!(folder.create_link("other".as_ref(), target.as_ref(), Timestamp::default()).unwrap());
    }

    fn counts(landed: &Landed) -> (u64, u64, u64, u64) {
        (landed.files, landed.bytes, landed.links, landed.folders)
    }

    /// What somebody did meanwhile, what is still there of what landed, and how much of it is counted.
    #[rstest]
    #[case::nothing(|_: &Path| {}, &[], (0, 0, 0, 0))]
    #[case::wrote_more(|a: &Path| fs::write(a.join("f"), "theirs").unwrap(), &["a/f"], (1, 5, 0, 1))]
    #[case::wrote_as_much(|a: &Path| fs::write(a.join("f"), "their").unwrap(), &["a/f"], (1, 5, 0, 1))]
    #[case::put_a_file_with_its_time_there(|a: &Path| {
        fs::write(a.join("other"), "their").unwrap();
        let modified = fs::metadata(a.join("f")).unwrap().modified().unwrap();
        fs::File::options().write(true).open(a.join("other")).unwrap().set_modified(modified).unwrap();
        fs::rename(a.join("other"), a.join("f")).unwrap();
    }, &["a/f"], (1, 5, 0, 1))]
    #[case::put_a_link_in_a_files_place(|a: &Path| {
        link_to("g", a);
        fs::rename(a.join("other"), a.join("f")).unwrap();
    }, &["a/f"], (1, 5, 0, 1))]
    #[case::put_a_link_in_a_links_place(|a: &Path| {
        link_to("f", a);
        fs::rename(a.join("other"), a.join("l")).unwrap();
    }, &["a/l"], (0, 0, 1, 1))]
    #[case::put_a_file_in_a_links_place(|a: &Path| fs::rename(a.join("g"), a.join("l")).unwrap(), &["a/l"], (1, 5, 1, 1))]
    #[case::took_one_away(|a: &Path| fs::remove_file(a.join("f")).unwrap(), &[], (1, 5, 0, 0))]
    #[case::left_something_there(|a: &Path| fs::write(a.join("../b/more"), "").unwrap(), &["b/more"], (0, 0, 0, 1))]
    #[cfg_attr(windows, ignore = "there are no links")]
    fn what_is_taken_back_is_what_this_run_made(
        #[case] meanwhile: fn(&Path),
        #[case] left: &[&str],
        #[case] counted: (u64, u64, u64, u64),
    ) {
        let (place, entries) = (tempfile::tempdir().unwrap(), entries());
        in_context(|context| {
            let landing = landed(place.path(), &entries, context);
            assert_eq!(counts(landing.landed()), (3, 15, 1, 2));
            meanwhile(&place.path().join("a"));
            let (stays, removed) = landing.stop(&entries);
            assert_eq!((counts(&stays), removed), (counted, 3 - counted.0));
        });
        let found = |folder: &str| fs::read_dir(place.path().join(folder)).into_iter().flatten().map(Result::unwrap);
        let mut names: Vec<_> = ["a", "b"]
            .iter()
            .flat_map(|folder| found(folder).map(move |entry| format!("{folder}/{}", entry.file_name().display())))
            .collect();
        names.sort();
        assert_eq!(names, left);
        assert_eq!(found("").count(), usize::from(!left.is_empty()));
    }

    /// Folders that another run may have found stay, also where it began while they went.
    #[test]
    #[cfg_attr(windows, ignore = "no folder can be removed there that is open")]
    fn folders_stay_where_another_run_is_at_work() {
        let (place, entries) = (tempfile::tempdir().unwrap(), entries());
        in_context(|context| {
            let mut landing = landed(place.path(), &entries, context);
            let other = prepared(place.path(), &[], context);
            assert_eq!(landing.take_back(&entries), 3);
            assert_eq!(counts(landing.landed()), (0, 0, 0, 2));
            fs::remove_dir(place.path().join("b")).unwrap();
            landing.made_folders.clear();
            let folder = MadeFolder { path: EntryPath::new("b").unwrap(), mode: 0o750, modified: Timestamp::default() };
            landing.put_back(&folder).unwrap();
            assert!(place.path().join("b").is_dir());
            assert_eq!((counts(landing.landed()), landing.made_folders.len()), ((0, 0, 0, 3), 1));
            drop(other);
        });
    }
}
