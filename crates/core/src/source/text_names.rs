//! Names for formats in which a name is text (UTF-8): what becomes of the others. On disk, and in the catalogue, every
//! name stays as it is.

use super::entry::SourceEntry;
use crate::ground::entry::EntryPath;
use std::collections::{HashMap, HashSet};

/// What becomes of a name that is no text, where it must be.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum UnsafeNames {
    /// Each byte that is no text is written as `%` and two digits, as in addresses (RFC 3986, section 2.1).
    #[default]
    Escape,
    /// What has such a name is left out, and whatever lies below it.
    LeaveOut,
    /// Nothing is packed.
    Refuse,
}

/// How entries are called in an archive whose names are text.
#[derive(Debug, Default)]
pub struct TextNames {
    /// By the path in the catalogue; those that are text already are not here.
    instead: HashMap<EntryPath, EntryPath>,
}

impl TextNames {
    /// Escapes what is no text, in such a way that no two entries meet: where an escaped name is another's already, it
    /// gets a number. Entries come sorted.
    pub(super) fn escape(entries: &[SourceEntry]) -> Self {
        let mut names = Self::default();
        let mut given = HashSet::new();
        for entry in entries.iter().filter(|entry| !is_text(&entry.path)) {
            names.add(&entry.path, entries, &mut given);
        }
        names
    }

    /// The path of an entry in the archive.
    pub fn of<'a>(&'a self, path: &'a EntryPath) -> &'a EntryPath {
        self.instead.get(path).unwrap_or(path)
    }

    /// The entries whose own name is another one in the archive, and their paths there, sorted. What only lies below such
    /// a folder is not among them.
    pub fn escaped(&self) -> Vec<(EntryPath, EntryPath)> {
        let own_name = |(path, _): &(&EntryPath, _)| std::str::from_utf8(path.parent_and_name().1).is_err();
        let mut escaped: Vec<_> =
            self.instead.iter().filter(own_name).map(|(path, instead)| (path.clone(), instead.clone())).collect();
        escaped.sort();
        escaped
    }

    /// The name of one path, and of the folders above it that have none yet: those need not be entries themselves.
    fn add(&mut self, path: &EntryPath, entries: &[SourceEntry], given: &mut HashSet<EntryPath>) -> EntryPath {
        if is_text(path) {
            return path.clone();
        }
        if let Some(instead) = self.instead.get(path) {
            return instead.clone();
        }
        let parent = path.parent().map(|parent| self.add(&parent, entries, given));
        let name = escaped(path.parent_and_name().1);
        let joined = match &parent {
            Some(parent) => parent.join(&name),
            None => EntryPath::new(name),
        };
        // Escaping makes a path longer, and could make it too long: then it stays what it is, and is refused as no text.
        let Ok(wanted) = joined else { return path.clone() };
        let taken =
            |path: &EntryPath| given.contains(path) || entries.binary_search_by(|entry| entry.path.cmp(path)).is_ok();
        let instead = if taken(&wanted) { wanted.free_beside(taken).unwrap_or(wanted) } else { wanted };
        given.insert(instead.clone());
        self.instead.insert(path.clone(), instead.clone());
        instead
    }
}

/// Whether a path is text.
pub(super) fn is_text(path: &EntryPath) -> bool {
    std::str::from_utf8(path.as_bytes()).is_ok()
}

/// Takes out of the entries whatever is no text, or lies below a name that is none; what went, without what lay below it.
pub(super) fn leave_out(entries: &mut Vec<SourceEntry>) -> Vec<EntryPath> {
    let mut gone: Vec<EntryPath> = Vec::new();
    entries.retain(|entry| {
        let stays = is_text(&entry.path);
        if !stays && !gone.last().is_some_and(|folder| entry.path.is_below(folder)) {
            gone.push(entry.path.clone());
        }
        stays
    });
    gone
}

/// A name with each byte that is no text escaped.
fn escaped(name: &[u8]) -> Vec<u8> {
    let mut escaped = Vec::with_capacity(name.len());
    for chunk in name.utf8_chunks() {
        escaped.extend(chunk.valid().as_bytes());
        chunk.invalid().iter().for_each(|byte| escaped.extend(format!("%{byte:02X}").as_bytes()));
    }
    escaped
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ground::entry::{EntryKind, Timestamp};
    use crate::source::Origin;

    fn entries(paths: &[&[u8]]) -> Vec<SourceEntry> {
        let entry = |path: &&[u8]| SourceEntry {
            path: EntryPath::new(*path).unwrap(),
            kind: EntryKind::File,
            size: 0,
            mode: 0o644,
            modified: Timestamp::default(),
            link_target: Vec::new(),
            origin: Origin::Walk,
            file_number: None,
            is_further_name: false,
            holes: 0,
        };
        let mut entries: Vec<_> = paths.iter().map(entry).collect();
        entries.sort_by(|one, other| one.path.cmp(&other.path));
        entries
    }

    #[test]
    fn no_two_entries_meet_under_an_escaped_name() {
        let entries =
            entries(&[b"k\xfcste", b"k\xfcste/log", b"k\xfcste/d\xe4mm.txt", b"k%FCste", b"k%FCste/log", b"plain"]);
        let names = TextNames::escape(&entries);
        let inside = entries.iter().map(|entry| String::from_utf8(names.of(&entry.path).as_bytes().to_vec()).unwrap());
        let mut inside: Vec<String> = inside.collect();
        inside.sort();
        let expected = ["k%FCste", "k%FCste (2)", "k%FCste (2)/d%E4mm.txt", "k%FCste (2)/log", "k%FCste/log", "plain"];
        assert_eq!(inside, expected);
        assert_eq!(names.escaped().len(), 2, "{names:?}");
    }

    #[test]
    fn a_folder_above_that_is_no_entry_is_escaped_too() {
        let entries = entries(&[b"\xff/a", b"\xff/b"]);
        let names = TextNames::escape(&entries);
        assert_eq!(names.of(&entries[1].path).as_bytes(), b"%FF/b");
    }

    #[test]
    fn what_is_left_out_takes_along_what_lies_below() {
        let mut entries = entries(&[b"a", b"k\xfc", b"k\xfc/log", b"k\xfd", b"z/\xff"]);
        let gone = leave_out(&mut entries);
        assert_eq!(gone.iter().map(EntryPath::as_bytes).collect::<Vec<_>>(), [&b"k\xfc"[..], b"k\xfd", b"z/\xff"]);
        assert_eq!(entries.len(), 1);
    }
}
