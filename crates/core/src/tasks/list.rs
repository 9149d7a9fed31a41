//! Looking through an archive's entries: by pattern, by a fragment of a name, level by level, and in any order. Works on
//! the list alone; whatever the format was.

use crate::ground::entry::{EntryKind, EntryPath, ListedEntry};
use crate::source::Patterns;
use std::cmp::Reverse;
use std::collections::HashSet;
use unicode_normalization::UnicodeNormalization as _;
use unicode_normalization::char::is_combining_mark;

/// How alike a name must be (Jaro-Winkler, 1 is equal) to be offered for another.
const ALIKE: f64 = 0.75;

/// How many names are offered.
const OFFERED: usize = 3;

/// In which order entries are shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SortBy {
    /// By path, as they are stored.
    Name,
    /// The largest first.
    Size,
    /// The newest first.
    Date,
    /// Those of which squeezing left least first.
    Ratio,
}

/// The places of entries that match any of these patterns, or lie below one that does; of all, where there are none.
/// Beside them, the patterns that matched nothing.
pub fn matching(entries: &[ListedEntry], patterns: &Patterns) -> (Vec<usize>, Vec<String>) {
    if patterns.is_empty() {
        return ((0..entries.len()).collect(), Vec::new());
    }
    let mut used = vec![false; patterns.len()];
    let (mut found, mut above): (Vec<usize>, Option<&EntryPath>) = (Vec::new(), None);
    for (place, ListedEntry { entry, .. }) in entries.iter().enumerate() {
        let matched = patterns.matching(&entry.path, entry.kind == EntryKind::Folder);
        matched.iter().for_each(|pattern| used[*pattern] = true);
        let below = above.is_some_and(|folder| entry.path.is_below(folder));
        if !below && !matched.is_empty() {
            above = Some(&entry.path);
        }
        if below || !matched.is_empty() {
            found.push(place);
        }
    }
    let unused = patterns.written().iter().zip(used).filter(|(_, used)| !used).map(|(text, _)| text.clone());
    (found, unused.collect())
}

/// The places of entries whose names hold a fragment, whatever the case and the accents.
pub fn holding(entries: &[ListedEntry], fragment: &str) -> Vec<usize> {
    let fragment = plain(fragment.as_bytes());
    let holds = |place: &usize| plain(entries[*place].entry.path.parent_and_name().1).contains(&fragment);
    (0..entries.len()).filter(holds).collect()
}

/// Paths whose names look like what was sought, best first.
pub fn alike(entries: &[ListedEntry], sought: &str) -> Vec<EntryPath> {
    let sought = plain(sought.rsplit('/').next().unwrap_or(sought).as_bytes());
    let likeness = |entry: &ListedEntry| {
        let name = plain(entry.entry.path.parent_and_name().1);
        let stem = name.rsplit_once('.').map_or(name.as_str(), |(stem, _)| stem);
        strsim::jaro_winkler(&sought, &name).max(strsim::jaro_winkler(&sought, stem))
    };
    let mut alike: Vec<(f64, &EntryPath)> =
        entries.iter().map(|entry| (likeness(entry), &entry.entry.path)).filter(|(like, _)| *like > ALIKE).collect();
    alike.sort_by(|one, other| other.0.total_cmp(&one.0));
    alike.into_iter().take(OFFERED).map(|(_, path)| path.clone()).collect()
}

/// The places of what lies directly in a folder; at the top, where there is none. `None` where it is no folder here.
pub fn directly_in(entries: &[ListedEntry], folder: Option<&EntryPath>) -> Option<Vec<usize>> {
    let is_here = |folder: &EntryPath| {
        entries.iter().any(|entry| {
            entry.entry.path.is_below(folder) || entry.entry.path == *folder && entry.entry.kind == EntryKind::Folder
        })
    };
    if folder.is_some_and(|folder| !is_here(folder)) {
        return None;
    }
    let inside = |place: &usize| entries[*place].entry.path.parent().as_ref() == folder;
    Some((0..entries.len()).filter(inside).collect())
}

/// These places, and those of the folders above them, in the archive's order.
pub fn with_folders_above(entries: &[ListedEntry], places: &[usize]) -> Vec<usize> {
    let above: HashSet<EntryPath> =
        places.iter().flat_map(|place| entries[*place].entry.path.folders_above().collect::<Vec<_>>()).collect();
    let mut all: Vec<usize> = (0..entries.len())
        .filter(|place| above.contains(&entries[*place].entry.path))
        .chain(places.iter().copied())
        .collect();
    all.sort_unstable();
    all.dedup();
    all
}

/// The folders that a path names: the one that has it, or else all whose paths end so.
pub fn folders_called<'a>(entries: &'a [ListedEntry], name: &str) -> Vec<&'a EntryPath> {
    let name = name.trim_matches('/').as_bytes();
    let folders =
        || entries.iter().filter(|listed| listed.entry.kind == EntryKind::Folder).map(|listed| &listed.entry.path);
    let whole: Vec<&EntryPath> = folders().filter(|path| path.as_bytes() == name).collect();
    if !whole.is_empty() || name.is_empty() {
        return whole;
    }
    folders().filter(|path| path.as_bytes().strip_suffix(name).is_some_and(|front| front.ends_with(b"/"))).collect()
}

/// Puts places into an order; `kept` is the share that squeezing left of each entry, where that is known. Those of which it is not
/// come last.
pub fn sort(places: &mut [usize], entries: &[ListedEntry], kept: &[Option<f64>], by: SortBy) {
    match by {
        SortBy::Name => places.sort_unstable(),
        SortBy::Size => places.sort_by_key(|place| Reverse(entries[*place].content.size)),
        SortBy::Date => places.sort_by_key(|place| Reverse(entries[*place].entry.modified)),
        SortBy::Ratio => places.sort_by(|one, other| {
            let share = |place: &usize| kept[*place].unwrap_or(f64::INFINITY);
            share(one).total_cmp(&share(other))
        }),
    }
}

/// Small letters without accents.
fn plain(name: &[u8]) -> String {
    String::from_utf8_lossy(name)
        .nfd()
        .filter(|letter| !is_combining_mark(*letter))
        .flat_map(char::to_lowercase)
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ground::entry::{Content, Entry, Timestamp};
    use rstest::rstest;

    fn entries() -> Vec<ListedEntry> {
        let entry = |(id, (path, size)): (u64, (&str, Option<u64>))| {
            let kind = if size.is_some() { EntryKind::File } else { EntryKind::Folder };
            let modified = Timestamp { seconds: 1_000 - id as i64, nanoseconds: 0 };
            let path = EntryPath::new(path).unwrap();
            let entry = Entry { id, path, kind, mode: 0o644, modified, link_target: Vec::new() };
            ListedEntry { entry, content: Content { size: size.unwrap_or(0), ..Content::default() } }
        };
        let all = [
            ("a", None),
            ("a/raw", None),
            ("a/raw/north.pts", Some(3)),
            ("a/Überblick.txt", Some(9)),
            ("b.txt", Some(5)),
        ];
        (1..).zip(all).map(entry).collect()
    }

    #[rstest]
    #[case(&[], &[0, 1, 2, 3, 4], &[])]
    #[case(&["raw"], &[1, 2], &[])]
    #[case(&["*.txt", "/a/raw"], &[1, 2, 3, 4], &[])]
    #[case(&["*.tif", "b.txt"], &[4], &["*.tif"])]
    fn patterns_take_what_lies_below_along(
        #[case] patterns: &[&str],
        #[case] found: &[usize],
        #[case] unused: &[&str],
    ) {
        let (places, none) = matching(&entries(), &Patterns::new(patterns).unwrap());
        assert_eq!(
            (places.as_slice(), none.iter().map(String::as_str).collect::<Vec<_>>().as_slice()),
            (found, unused)
        );
    }

    #[rstest]
    #[case::any_case("NORTH", &[2])]
    #[case::any_accent("uberb", &[3])]
    #[case::accent_typed("ÜBER", &[3])]
    #[case::not_the_folder_above("raw", &[1])]
    #[case::nothing("south", &[])]
    fn a_fragment_finds_names(#[case] fragment: &str, #[case] found: &[usize]) {
        assert_eq!(holding(&entries(), fragment), found);
    }

    #[test]
    fn what_is_misspelt_has_near_misses() {
        assert_eq!(alike(&entries(), "a/raw/nort.pts")[0].as_bytes(), b"a/raw/north.pts");
        assert!(alike(&entries(), "zzz").is_empty());
    }

    #[rstest]
    #[case(None, Some(vec![0, 4]))]
    #[case(Some("a"), Some(vec![1, 3]))]
    #[case(Some("b.txt"), None)]
    #[case(Some("c"), None)]
    fn a_level_is_what_lies_directly_in_a_folder(#[case] folder: Option<&str>, #[case] expected: Option<Vec<usize>>) {
        let folder = folder.map(|folder| EntryPath::new(folder).unwrap());
        assert_eq!(directly_in(&entries(), folder.as_ref()), expected);
    }

    #[rstest]
    #[case(SortBy::Name, [2, 3, 4])]
    #[case(SortBy::Size, [3, 4, 2])]
    #[case(SortBy::Date, [2, 3, 4])]
    #[case(SortBy::Ratio, [4, 2, 3])]
    fn any_order_can_be_had(#[case] by: SortBy, #[case] expected: [usize; 3]) {
        let mut places = [4, 3, 2];
        sort(&mut places, &entries(), &[None, None, Some(0.5), Some(0.9), Some(0.1)], by);
        assert_eq!(places, expected);
    }
}
