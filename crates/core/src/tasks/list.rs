//! Looking through an archive's entries: by pattern, by a fragment of a name, level by level, and in any order. Works on
//! the list alone, whatever the format was, and takes an entry at a time of it.

use crate::formats::error::ArchiveError;
use crate::formats::listing::{Listing, Placed};

use crate::ground::entry::{EntryKind, EntryPath, ListedEntry};
use crate::source::Patterns;
use std::cmp::Reverse;
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

/// Some entries of a list, by their places.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Chosen(Vec<bool>);

impl Chosen {
    /// Those of so many at whose places something is true.
    fn where_true(listing: Listing<'_>, mut is: impl FnMut(&ListedEntry) -> bool) -> Result<Self, ArchiveError> {
        Ok(Self(listing.iter().map(|listed| Ok(is(&*listed?))).collect::<Result<_, ArchiveError>>()?))
    }

    /// Whether it is none.
    pub fn is_empty(&self) -> bool {
        !self.0.contains(&true)
    }

    /// Their places, in the order of the list.
    pub fn places(&self) -> impl DoubleEndedIterator<Item = usize> {
        self.0.iter().enumerate().filter(|(_, is)| **is).map(|(place, _)| place)
    }

    /// Leaves those that are among others of the same list.
    pub fn keep(&mut self, others: &Self) {
        self.0.iter_mut().zip(&others.0).for_each(|(is, other)| *is &= other);
    }
}

/// The entries that match any of these patterns, or lie below one that does; all, where there are no patterns. Beside them, the patterns
/// that matched nothing.
///
/// # Errors
/// [`ArchiveError`] where the list cannot be read again.
pub fn matching(listing: Listing<'_>, patterns: &Patterns) -> Result<(Chosen, Vec<String>), ArchiveError> {
    if patterns.is_empty() {
        return Ok((Chosen(vec![true; listing.len()]), Vec::new()));
    }
    let (mut used, mut above) = (vec![false; patterns.len()], None::<EntryPath>);
    let found = Chosen::where_true(listing, |ListedEntry { entry, .. }| {
        let matched = patterns.matching(&entry.path, entry.kind == EntryKind::Folder);
        matched.iter().for_each(|pattern| used[*pattern] = true);
        let below = above.as_ref().is_some_and(|folder| entry.path.is_below(folder));
        if !below && !matched.is_empty() {
            above = Some(entry.path.clone());
        }
        below || !matched.is_empty()
    })?;
    let unused = patterns.written().iter().zip(used).filter(|(_, used)| !used).map(|(text, _)| text.clone());
    Ok((found, unused.collect()))
}

/// The entries whose names hold a fragment, whatever the case and the accents.
///
/// # Errors
/// [`ArchiveError`] where the list cannot be read again.
pub fn holding(listing: Listing<'_>, fragment: &str) -> Result<Chosen, ArchiveError> {
    let fragment = plain(fragment.as_bytes());
    Chosen::where_true(listing, |listed| plain(listed.entry.path.parent_and_name().1).contains(&fragment))
}

/// Paths whose names look like what was sought, best first.
///
/// # Errors
/// [`ArchiveError`] where the list cannot be read again.
pub fn alike(listing: Listing<'_>, sought: &str) -> Result<Vec<EntryPath>, ArchiveError> {
    let sought = plain(sought.rsplit('/').next().unwrap_or(sought).as_bytes());
    let likeness = |entry: &ListedEntry| {
        let name = plain(entry.entry.path.parent_and_name().1);
        let stem = name.rsplit_once('.').map_or(name.as_str(), |(stem, _)| stem);
        strsim::jaro_winkler(&sought, &name).max(strsim::jaro_winkler(&sought, stem))
    };
    let mut alike: Vec<(f64, EntryPath)> = Vec::new();
    for listed in listing.iter() {
        let listed = listed?;
        let like = likeness(&listed);
        if like > ALIKE {
            let place = alike.partition_point(|(better, _)| *better >= like);
            alike.insert(place, (like, listed.entry.path.clone()));
            alike.truncate(OFFERED);
        }
    }
    Ok(alike.into_iter().map(|(_, path)| path).collect())
}

/// What lies directly in a folder; at the top, where there is none. `None` where it is no folder here.
///
/// # Errors
/// [`ArchiveError`] where the list cannot be read again.
pub fn directly_in(listing: Listing<'_>, folder: Option<&EntryPath>) -> Result<Option<Chosen>, ArchiveError> {
    let mut is_here = folder.is_none();
    let inside = Chosen::where_true(listing, |ListedEntry { entry, .. }| {
        let is_it = |folder: &EntryPath| entry.path == *folder && entry.kind == EntryKind::Folder;
        is_here |= folder.is_some_and(|folder| entry.path.is_below(folder) || is_it(folder));
        entry.path.parent_and_name().0 == folder.map(EntryPath::as_bytes)
    })?;
    Ok(is_here.then_some(inside))
}

/// These entries, and the folders above them.
///
/// # Errors
/// [`ArchiveError`] where the list cannot be read again.
pub fn with_folders_above(listing: Listing<'_>, chosen: &Chosen) -> Result<Chosen, ArchiveError> {
    let (mut all, mut behind) = (chosen.clone(), None::<EntryPath>);
    // What is in a folder follows it at once.
    for place in (0..listing.len()).rev() {
        let listed = listing.at(place)?;
        all.0[place] |= behind.as_ref().is_some_and(|behind| behind.is_below(&listed.entry.path));
        if all.0[place] {
            behind = Some(listed.entry.path.clone());
        }
    }
    Ok(all)
}

/// The folders that a path names: the one that has it, or else all whose paths end so.
///
/// # Errors
/// [`ArchiveError`] where the list cannot be read again.
pub fn folders_called(listing: Listing<'_>, name: &str) -> Result<Vec<EntryPath>, ArchiveError> {
    let name = name.trim_matches('/').as_bytes();
    let mut found = Vec::new();
    for listed in listing.iter() {
        let ListedEntry { entry, .. } = &*listed?;
        let path = entry.path.as_bytes();
        if entry.kind != EntryKind::Folder || name.is_empty() {
            continue;
        }
        if path == name {
            return Ok(vec![entry.path.clone()]);
        }
        if path.strip_suffix(name).is_some_and(|front| front.ends_with(b"/")) {
            found.push(entry.path.clone());
        }
    }
    Ok(found)
}

/// Chosen entries in an order, each with its place. `kept` is the share that squeezing left of the one at a place, where that is known;
/// those of which it is not come last in the order of that.
pub fn in_order<'a>(
    listing: Listing<'a>,
    chosen: &'a Chosen,
    kept: impl Fn(usize) -> Result<Option<f64>, ArchiveError> + Copy + 'a,
    by: SortBy,
) -> Box<dyn Iterator<Item = Placed<'a>> + 'a> {
    let places = || chosen.places();
    match by {
        SortBy::Name => Box::new(chosen.places().map(move |place| Ok((place, listing.at(place)?)))),
        SortBy::Size => Box::new(listing.in_order(places, |_, listed| Ok(Reverse(listed.content.size)))),
        SortBy::Date => Box::new(listing.in_order(places, |_, listed| Ok(Reverse(listed.entry.modified)))),
        // Of numbers that are not negative the bits are in the same order.
        SortBy::Ratio => {
            Box::new(listing.in_order(places, move |place, _| Ok(kept(place)?.map_or(u64::MAX, f64::to_bits))))
        }
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
        let entries = entries();
        let (chosen, none) = matching(Listing::Whole(&entries), &Patterns::new(patterns).unwrap()).unwrap();
        let places: Vec<usize> = chosen.places().collect();
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
        let chosen = holding(Listing::Whole(&entries()), fragment).unwrap();
        assert!(chosen.places().eq(found.iter().copied()));
        assert_eq!(chosen.is_empty(), found.is_empty());
    }

    #[test]
    fn what_is_misspelt_has_near_misses() {
        let alike = |sought| alike(Listing::Whole(&entries()), sought).unwrap();
        assert_eq!(alike("a/raw/nort.pts")[0].as_bytes(), b"a/raw/north.pts");
        assert!(alike("zzz").is_empty());
    }

    #[rstest]
    #[case(None, Some(vec![0, 4]))]
    #[case(Some("a"), Some(vec![1, 3]))]
    #[case(Some("b.txt"), None)]
    #[case(Some("c"), None)]
    fn a_level_is_what_lies_directly_in_a_folder(#[case] folder: Option<&str>, #[case] expected: Option<Vec<usize>>) {
        let folder = folder.map(|folder| EntryPath::new(folder).unwrap());
        let found = directly_in(Listing::Whole(&entries()), folder.as_ref()).unwrap();
        assert_eq!(found.map(|found| found.places().collect()), expected);
    }

    #[rstest]
    #[case(SortBy::Name, [2, 3, 4])]
    #[case(SortBy::Size, [3, 4, 2])]
    #[case(SortBy::Date, [2, 3, 4])]
    #[case(SortBy::Ratio, [4, 2, 3])]
    fn any_order_can_be_had(#[case] by: SortBy, #[case] expected: [usize; 3]) {
        let (entries, chosen) = (entries(), Chosen(vec![false, false, true, true, true]));
        let kept = [None, None, Some(0.5), Some(0.9), Some(0.1)];
        let order = in_order(Listing::Whole(&entries), &chosen, |place| Ok(kept[place]), by);
        assert!(order.map(|item| item.unwrap().0).eq(expected));
    }

    #[rstest]
    #[case(&[2], &[0, 1, 2])]
    #[case(&[1, 4], &[0, 1, 4])]
    #[case(&[4], &[4])]
    fn folders_come_with_what_is_in_them(#[case] chosen: &[usize], #[case] expected: &[usize]) {
        let chosen = Chosen((0..5).map(|place| chosen.contains(&place)).collect());
        let all = with_folders_above(Listing::Whole(&entries()), &chosen).unwrap();
        assert!(all.places().eq(expected.iter().copied()));
    }
}
