//! What a file, a folder or a link inside any archive is.
//!
//! These types are the language between archive formats on one side and landing and the tasks on the
//! other: neither side knows the other. A path that could leave the place where it is extracted
//! cannot be built here at all.

use std::cmp::Ordering;

/// The longest path inside an archive, in bytes.
pub const MAX_PATH_BYTES: usize = 32_767;

/// The most components of a path: each folder above a file costs whoever extracts it one that is open.
pub const MAX_DEPTH: usize = 256;

/// The longest target of a symbolic link, in bytes (Linux's `PATH_MAX` without its final NUL).
pub const MAX_LINK_TARGET_BYTES: usize = 4_095;

/// How many numbers are tried for a free name.
const MOST_NUMBERS: u32 = 10_000;

/// A relative path inside an archive: components of raw bytes joined by `/`.
///
/// Never empty, never absolute, without `.` and `..` components and without NUL; not always UTF-8.
/// The order is that of a depth-first walk with sorted folders: component by component, bytewise.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct EntryPath(Vec<u8>);

/// Why bytes cannot be a path inside an archive.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum PathError {
    /// No bytes, or an empty component as in `a//b`.
    #[error("an empty name")]
    Empty,
    /// It begins with `/`.
    #[error("an absolute path")]
    Absolute,
    /// A component is `.` or `..`.
    #[error("a path with . or .. in it")]
    Climbs,
    /// It holds a NUL byte.
    #[error("a NUL byte in a name")]
    Nul,
    /// More than [`MAX_PATH_BYTES`].
    #[error("a path longer than {MAX_PATH_BYTES} bytes")]
    TooLong,
    /// More than [`MAX_DEPTH`] components.
    #[error("a path of more than {MAX_DEPTH} folders")]
    TooDeep,
}

impl EntryPath {
    /// Checks bytes and takes them as a path.
    ///
    /// # Errors
    /// [`PathError`] names the rule that they break.
    pub fn new(bytes: impl Into<Vec<u8>>) -> Result<Self, PathError> {
        let bytes = bytes.into();
        if bytes.first() == Some(&b'/') {
            return Err(PathError::Absolute);
        }
        if bytes.len() > MAX_PATH_BYTES {
            return Err(PathError::TooLong);
        }
        if bytes.contains(&0) {
            return Err(PathError::Nul);
        }
        for (above, component) in bytes.split(|byte| *byte == b'/').enumerate() {
            match component {
                b"" => return Err(PathError::Empty),
                b"." | b".." => return Err(PathError::Climbs),
                _ if above >= MAX_DEPTH => return Err(PathError::TooDeep),
                _ => {}
            }
        }
        Ok(Self(bytes))
    }

    /// This path with one more component.
    ///
    /// # Errors
    /// [`PathError`] where the result would not be a path.
    pub fn join(&self, component: &[u8]) -> Result<Self, PathError> {
        let mut bytes = Vec::with_capacity(self.0.len() + 1 + component.len());
        bytes.extend_from_slice(&self.0);
        bytes.push(b'/');
        bytes.extend_from_slice(component);
        Self::new(bytes)
    }

    /// The bytes, components joined by `/`.
    pub fn as_bytes(&self) -> &[u8] {
        &self.0
    }

    /// The components from the top down; there is at least one.
    pub fn components(&self) -> impl DoubleEndedIterator<Item = &[u8]> {
        self.0.split(|byte| *byte == b'/')
    }

    /// The folder that holds this entry (`None` at the top) and the last component.
    pub fn parent_and_name(&self) -> (Option<&[u8]>, &[u8]) {
        match self.0.iter().rposition(|byte| *byte == b'/') {
            Some(slash) => (Some(&self.0[..slash]), &self.0[slash + 1..]),
            None => (None, &self.0),
        }
    }

    /// The folder that holds this entry; `None` at the top.
    pub fn parent(&self) -> Option<Self> {
        self.parent_and_name().0.map(|parent| Self(parent.to_vec()))
    }

    /// The folders that it lies in, the innermost first.
    pub fn folders_above(&self) -> impl Iterator<Item = Self> {
        std::iter::successors(self.parent(), Self::parent)
    }

    /// How many components it has.
    pub fn depth(&self) -> usize {
        self.components().count()
    }

    /// This path's first components, as many as are wanted and there are; `None` for none.
    pub fn first_components(&self, count: usize) -> Option<Self> {
        let ends = self.0.iter().enumerate().filter(|(_, byte)| **byte == b'/').map(|(at, _)| at).chain([self.0.len()]);
        ends.take(count).last().map(|end| Self(self.0[..end].to_vec()))
    }

    /// Whether it lies somewhere below this folder.
    pub fn is_below(&self, folder: &Self) -> bool {
        self.0.strip_prefix(folder.0.as_slice()).is_some_and(|rest| rest.first() == Some(&b'/'))
    }

    /// The first path like `notes (2).txt` beside this one that is not taken; `None` where very many are.
    pub fn free_beside(&self, mut taken: impl FnMut(&Self) -> bool) -> Option<Self> {
        let (parent, name) = self.parent_and_name();
        let (stem, extension) = name.split_at(extension_at(name));
        (2..MOST_NUMBERS).find_map(|number| {
            let name = [stem, format!(" ({number})").as_bytes(), extension].concat();
            let path = Self::new(parent.map_or(name.clone(), |parent| [parent, b"/", &name].concat())).ok()?;
            (!taken(&path)).then_some(path)
        })
    }
}

/// Where a name's extension begins, with its dot; the name's end where it has none.
pub(crate) fn extension_at(name: &[u8]) -> usize {
    // A dot at the beginning hides a name, and begins no extension.
    name.iter().rposition(|byte| *byte == b'.').filter(|dot| *dot > 0).unwrap_or(name.len())
}

/// Whether a path is that of this folder, or of something in it; both as bytes.
pub(crate) fn is_at_or_above(folder: &[u8], path: &[u8]) -> bool {
    path.strip_prefix(folder).is_some_and(|rest| rest.is_empty() || rest.first() == Some(&b'/'))
}

impl Ord for EntryPath {
    fn cmp(&self, other: &Self) -> Ordering {
        self.components().cmp(other.components())
    }
}

impl PartialOrd for EntryPath {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

/// Whether a link at `path` with this target surely leads to something inside the archive's own tree.
///
/// The target must be relative, climb at its beginning only and no higher than the tree's top: a `..`
/// behind a name could follow another link first and then climb out.
pub fn link_stays_inside(path: &EntryPath, target: &[u8]) -> bool {
    let mut height = path.components().count() - 1;
    let mut climbing = true;
    // A drive of Windows in front leads elsewhere too, there.
    let is_drive = |rest: &[u8]| matches!(rest, [] | [b'/', ..]);
    let has_drive = matches!(target, [letter, b':', rest @ ..] if letter.is_ascii_alphabetic() && is_drive(rest));
    if target.first() == Some(&b'/') || has_drive {
        return false;
    }
    for component in target.split(|byte| *byte == b'/') {
        match component {
            b"" | b"." => {}
            b".." if climbing && height > 0 => height -= 1,
            b".." => return false,
            _ => climbing = false,
        }
    }
    true
}

/// What kind of thing an entry is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum EntryKind {
    /// A regular file.
    File,
    /// A folder.
    Folder,
    /// A symbolic link.
    Link,
}

/// A point in time: seconds since 1970-01-01 00:00 UTC (negative before) and nanoseconds after that second.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default)]
pub struct Timestamp {
    /// Whole seconds, rounded towards the past.
    pub seconds: i64,
    /// 0 to 999,999,999.
    pub nanoseconds: u32,
}

impl Timestamp {
    /// The time of a date and a clock (hour, minute, second) in UTC; `None` for what is no date.
    pub fn of_calendar(year: i16, month: i8, day: i8, [hour, minute, second]: [i8; 3]) -> Option<Self> {
        let there = jiff::civil::DateTime::new(year, month, day, hour, minute, second, 0).ok()?;
        let there = jiff::tz::Offset::UTC.to_timestamp(there).ok()?;
        Some(Self { seconds: there.as_second(), nanoseconds: 0 })
    }
}

/// A file, folder or link as an archive describes it before its content.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// Unique within its archive and stable when the archive is revised; positions never count.
    pub id: u64,
    /// Where it stands in the archive.
    pub path: EntryPath,
    /// File, folder or link.
    pub kind: EntryKind,
    /// Permission bits as POSIX has them (at most 0o7777).
    pub mode: u32,
    /// When the content was last modified.
    pub modified: Timestamp,
    /// A link's target as it stands in the link; empty for the other kinds.
    pub link_target: Vec<u8>,
}

/// What is known of a file's content once all of it has been read. All zero for folders and links.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Content {
    /// Bytes.
    pub size: u64,
    /// BLAKE3 of the content; zero where it is not known.
    pub digest: [u8; 32],
    /// The digest is that of the content's units (see [`ContentDigest`](super::holes::ContentDigest)), which is so where it may have holes.
    pub in_units: bool,
    /// So many of the bytes are in holes: zeros that are stored nowhere, and need no room on a disk that can have holes.
    pub holes: u64,
    /// The file changed while it was packed, twice; the content is what was read.
    pub changed_while_read: bool,
    /// The id of another file of the archive, of which this is a further name (a hard link): the content is that one's, and is not
    /// stored again.
    pub shared_with: Option<u64>,
}

impl Content {
    /// Bytes that it adds to those of others: none where it is shared.
    pub const fn own_bytes(&self) -> u64 {
        if self.shared_with.is_some() { 0 } else { self.size }
    }
}

/// One line of an archive's index.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ListedEntry {
    /// The entry itself.
    pub entry: Entry,
    /// Its content's size and digest.
    pub content: Content,
}

/// What an archive holds in all.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Totals {
    /// Regular files, each further name counted.
    pub files: u64,
    /// Folders.
    pub folders: u64,
    /// Symbolic links.
    pub links: u64,
    /// Content bytes of all files; what several share counts once.
    pub content_bytes: u64,
}

impl Totals {
    /// What these entries hold.
    pub fn of(entries: &[ListedEntry]) -> Self {
        let mut totals = Self::default();
        entries.iter().for_each(|listed| totals.add(listed.entry.kind, listed.content.own_bytes()));
        totals
    }

    /// Counts what another archive holds.
    pub fn add_all(&mut self, other: &Self) {
        self.files += other.files;
        self.folders += other.folders;
        self.links += other.links;
        self.content_bytes = self.content_bytes.saturating_add(other.content_bytes);
    }

    /// Counts one more entry, with so many content bytes.
    pub fn add(&mut self, kind: EntryKind, content_bytes: u64) {
        match kind {
            EntryKind::File => self.files += 1,
            EntryKind::Folder => self.folders += 1,
            EntryKind::Link => self.links += 1,
        }
        self.content_bytes = self.content_bytes.saturating_add(content_bytes);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(b"a/b.txt", None)]
    #[case(b"na\xffme/\x01", None)]
    #[case(b"...", None)]
    #[case(b"", Some(PathError::Empty))]
    #[case(b"a//b", Some(PathError::Empty))]
    #[case(b"a/", Some(PathError::Empty))]
    #[case(b"/etc/passwd", Some(PathError::Absolute))]
    #[case(b"a/../b", Some(PathError::Climbs))]
    #[case(b"./a", Some(PathError::Climbs))]
    #[case(b"a\0b", Some(PathError::Nul))]
    #[case(&[b'a'; MAX_PATH_BYTES + 1], Some(PathError::TooLong))]
    fn a_path_cannot_leave_its_folder(#[case] bytes: &[u8], #[case] refusal: Option<PathError>) {
        assert_eq!(EntryPath::new(bytes).err(), refusal);
    }

    #[rstest]
    #[case("a/l", "../b", true)]
    #[case("a/b/l", "../../c", true)]
    #[case("l", "a/./b", true)]
    #[case("l", "..", false)]
    #[case("a/l", "../../b", false)]
    #[case("a/l", "/etc/passwd", false)]
    #[case::through_another_link("a/b/l", "x/..", false)]
    #[case("l", "C:/survey", false)]
    #[case("l", "c:", false)]
    #[case("l", "c:survey", true)]
    fn a_link_that_could_lead_outside_is_told(#[case] path: &str, #[case] target: &str, #[case] inside: bool) {
        assert_eq!(link_stays_inside(&EntryPath::new(path).unwrap(), target.as_bytes()), inside);
    }

    #[rstest]
    #[case("a/notes.txt", "a/notes (2).txt")]
    #[case("notes", "notes (3)")]
    #[case(".hidden", ".hidden (2)")]
    #[case("a/b.tar.gz", "a/b.tar (3).gz")]
    fn the_first_free_number_is_taken(#[case] path: &str, #[case] expected: &str) {
        let taken = ["notes (2)", "a/b.tar (2).gz"];
        let free = EntryPath::new(path)
            .unwrap()
            .free_beside(|path| taken.iter().any(|taken| taken.as_bytes() == path.as_bytes()));
        assert_eq!(free.unwrap().as_bytes(), expected.as_bytes());
    }

    #[test]
    fn a_folder_comes_before_what_is_in_it_and_that_before_its_neighbours() {
        let sorted = ["a", "a/b", "a/b/c", "a.txt", "b"].map(|path| EntryPath::new(path).unwrap());
        assert!(sorted.is_sorted());
    }
}
