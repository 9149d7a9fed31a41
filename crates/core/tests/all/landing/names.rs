//! What lands where, where a place does not take the names that are in an archive.

use crate::support::Desk;
use proptest::prelude::*;
use rstest::rstest;
use std::collections::{BTreeMap, HashSet};
use under_seal_core::disk::NameRules;
use under_seal_core::ground::entry::{Content, Entry, EntryKind, EntryPath, ListedEntry, Timestamp, link_stays_inside};
use under_seal_core::landing::{Destination, LandingError, OnUnsafeName, Places};
use under_seal_core::tasks::open::foresee;

/// Sorted entries of these paths: a folder where something is in it, a link where it leads somewhere, else a file.
fn entries(paths: &[&str]) -> Vec<ListedEntry> {
    let mut all: BTreeMap<EntryPath, (EntryKind, Vec<u8>)> = BTreeMap::new();
    for line in paths {
        let (path, target) = line.split_once(" -> ").unwrap_or((line, ""));
        let path = EntryPath::new(path).unwrap();
        path.folders_above().for_each(|folder| drop(all.insert(folder, (EntryKind::Folder, Vec::new()))));
        let kind = if target.is_empty() { EntryKind::File } else { EntryKind::Link };
        all.entry(path).or_insert((kind, target.into()));
    }
    let listed = |(id, (path, (kind, link_target)))| ListedEntry {
        entry: Entry { id, path, kind, mode: 0o644, modified: Timestamp::default(), link_target },
        content: Content::default(),
    };
    (0..).zip(all).map(listed).collect()
}

fn on_fat(all: &[ListedEntry]) -> Places {
    Places::of(all, all, NameRules::of_fat(), false)
}

fn text(path: &EntryPath) -> String {
    String::from_utf8_lossy(path.as_bytes()).into_owned()
}

/// A link is written with where it leads.
fn written(listed: &ListedEntry) -> String {
    let target = String::from_utf8_lossy(&listed.entry.link_target);
    if target.is_empty() { text(&listed.entry.path) } else { format!("{} -> {target}", text(&listed.entry.path)) }
}

#[rstest]
#[case::good(&["Survey/levels.csv", "Survey/levels"], &["Survey", "Survey/levels", "Survey/levels.csv"])]
#[case::spelled(&["a:b/c?"], &["a_b", "a_b/c_"])]
#[case::good_ones_stay(&["a:b", "a_b", "A?b"], &["A_b (2)", "a_b", "a_b (3)"])]
#[case::case(&["notes.txt", "Notes.txt", "NOTES (2).TXT"], &["NOTES (2).TXT", "Notes.txt", "notes (3).txt"])]
#[case::form(&["K\u{fc}ste", "Ku\u{308}ste"], &["Ku\u{308}ste", "K\u{fc}ste (2)"])]
#[case::folders_are_not_mixed(&["Plan/a", "plan/a"], &["Plan", "Plan/a", "plan (2)", "plan (2)/a"])]
#[case::another_folder_may_have_the_name(&["a/x", "b/X"], &["a", "a/x", "b", "b/X"])]
#[case::link_to_it(&["l -> a:b/c?", "a:b/c?"], &["a_b", "a_b/c_", "l -> a_b/c_"])]
#[case::link_beside(&["d/l -> ../a:b", "a:b"], &["a_b", "d", "d/l -> ../a_b"])]
#[case::link_to_the_numbered(&["d/l -> x", "d/X", "d/x"], &["d", "d/X", "d/l -> x (2)", "d/x (2)"])]
#[case::link_through_a_link(&["to -> a/b", "l -> to/x", "a/b/X", "a/b/x"],
    &["a", "a/b", "a/b/X", "a/b/x (2)", "l -> to/x (2)", "to -> a/b"])]
#[case::link_to_nothing(&["l -> ..\\up"], &["l -> .._up"])]
#[case::ring(&["x -> y/q?", "y -> x/q?"], &["x -> y/q_", "y -> x/q_"])]
fn nothing_meets_and_links_lead_there(#[case] paths: &[&str], #[case] expected: &[&str]) {
    let all = entries(paths);
    let places = on_fat(&all);
    let mut found: Vec<String> = places.entries(&all).iter().map(written).collect();
    found.sort();
    assert_eq!(found, expected);
}

#[rstest]
#[case::nothing_unsafe(255, OnUnsafeName::Refuse, Ok(0))]
#[case::renamed(256, OnUnsafeName::Rename, Ok(1))]
#[case::refused(256, OnUnsafeName::Refuse, Err(1))]
fn who_wants_no_other_names_gets_none(
    #[case] length: usize,
    #[case] on_unsafe_name: OnUnsafeName,
    #[case] expected: Result<usize, usize>,
) {
    let (desk, all) = (Desk::new(), entries(&["a", &"b".repeat(length)]));
    let inbox = desk.path("inbox");
    let destination = Destination { on_unsafe_name, ..Destination::from(&inbox) };
    let found = match desk.with_context(&|| false, |context| foresee(&all, &all, destination, context)) {
        Ok(foreseen) => Ok(foreseen.renamed.len()),
        Err(LandingError::UnsafeNames(paths)) => Err(paths.len()),
        Err(other) => panic!("{other}"),
    };
    assert_eq!(found, expected);
}

#[rstest]
#[case::both(&["a:/x", "b/X:", "b/x:"], &["X_", "x", "x_ (2)"])]
#[case::only_numbers(&["a/x", "b/X", "c/x"], &["X (2)", "x", "x (3)"])]
fn without_folders_names_are_safe_too(#[case] paths: &[&str], #[case] expected: &[&str]) {
    let all = entries(paths);
    let places = Places::of(&all, &all, NameRules::of_fat(), true);
    let found: Vec<String> = places.entries(&all).iter().map(written).collect();
    assert_eq!(found, expected);
}

/// Where a link leads in a tree, by path: as a system would follow it, through links that are made as a rule.
fn followed(tree: &[ListedEntry], link: &Entry) -> Option<u64> {
    let id_at = |path: &[Vec<u8>]| {
        let path = EntryPath::new(path.join(&b'/')).ok()?;
        tree.iter().find(|listed| listed.entry.path == path)
    };
    let names = |target: &[u8]| target.split(|byte| *byte == b'/').map(<[u8]>::to_vec).rev().collect::<Vec<_>>();
    let mut place: Vec<Vec<u8>> = link.path.components().map(<[u8]>::to_vec).collect();
    place.pop();
    let mut way = names(&link.link_target);
    for _ in 0..500 {
        match way.pop() {
            None => return id_at(&place).map(|listed| listed.entry.id),
            Some(name) if name == b".." => drop(place.pop()),
            Some(name) => {
                place.push(name);
                let there = id_at(&place)?;
                if there.entry.kind == EntryKind::Link && !way.is_empty() {
                    if !link_stays_inside(&there.entry.path, &there.entry.link_target) {
                        return None;
                    }
                    place.pop();
                    way.extend(names(&there.entry.link_target));
                }
            }
        }
    }
    None
}

fn a_path() -> impl Strategy<Value = String> {
    let name =
        prop_oneof!["[aA]", "[xX][:?_]", "(con|CON|nul)(\\.txt)?", "[aé]\\.", "x_ \\([23]\\)", "(e\u{301}|\u{e9})"];
    let path = proptest::collection::vec(name, 1..4).prop_map(|names| names.join("/"));
    let target =
        proptest::option::weighted(0.3, proptest::collection::vec(prop_oneof!["[aA]", "[xX][:_]", "\\.\\."], 1..4));
    (path, target).prop_map(|(path, target)| match target {
        Some(target) => format!("{path} -> {}", target.join("/")),
        None => path,
    })
}

proptest! {
    /// Whatever is in an archive: each entry is somewhere else, under names that can be there and in the folder that it was in; the
    /// way back is right; and links lead to what they led to.
    #[test]
    fn every_entry_has_a_place_of_its_own(paths in proptest::collection::vec(a_path(), 1..30)) {
        let all = entries(&paths.iter().map(String::as_str).collect::<Vec<_>>());
        let (rules, places) = (NameRules::of_fat(), on_fat(&all));
        let moved = places.entries(&all);
        prop_assert!(moved.is_sorted_by(|one, other| one.entry.path < other.entry.path));
        let mut keys = HashSet::new();
        for ListedEntry { entry, .. } in moved {
            prop_assert!(entry.path.components().all(|name| rules.take(name)));
            let key: Vec<_> = entry.path.components().map(|name| rules.key_of(name)).collect();
            prop_assert!(keys.insert(key), "{} meets another", text(&entry.path));
            let there = places.path_in_archive(&entry.path);
            prop_assert_eq!(&places.path_here(&there), &entry.path);
            prop_assert_eq!(places.path_here(&there).parent(), there.parent().map(|folder| places.path_here(&folder)));
        }
        let links = all.iter().filter(|listed| listed.entry.kind == EntryKind::Link);
        for ListedEntry { entry, .. } in links.filter(|link| link_stays_inside(&link.entry.path, &link.entry.link_target)) {
            let here = moved.iter().find(|listed| listed.entry.id == entry.id).unwrap();
            prop_assert!(link_stays_inside(&here.entry.path, &here.entry.link_target));
            if let Some(led_to) = followed(&all, entry) {
                prop_assert_eq!(followed(moved, &here.entry), Some(led_to), "{} in {:?}", written(here), paths);
            }
        }
    }
}
