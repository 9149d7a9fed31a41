//! What the headers of a streamed archive describe, and the members that all of them come to.

use crate::formats::members::{
    MAX_HOLES_BYTES, MAX_SHARING, MAX_UNSTORED_BYTES, Member, Refused, RefusedReason, path_of,
};
use crate::ground::attributes::Attribute;
use crate::ground::entry::{EntryKind, EntryPath, MAX_LINK_TARGET_BYTES, Timestamp};
use std::collections::BTreeMap;

/// A content that several entries share, and that is no longer than this, is kept in memory from one to the next.
pub(super) const SHARED_BYTES: u64 = 16 * 1024 * 1024;

/// An entry as its headers describe it together.
#[derive(Debug, Clone)]
pub(in crate::formats) struct Described {
    pub name: Vec<u8>,
    pub mode: u32,
    pub modified: Timestamp,
    pub kind: Kind,
    /// Bytes of its own content.
    pub size: u64,
    /// So many of them are zeros that are not stored.
    pub holes: u64,
    /// Extended attributes of a file, which only the walk knows.
    pub attributes: Vec<Attribute>,
}

/// What an entry is.
#[derive(Debug, Clone)]
pub(in crate::formats) enum Kind {
    File,
    Folder,
    /// A symbolic link to there.
    Link(Vec<u8>),
    /// A further name of the file that is called so and stands before it.
    SecondName(Vec<u8>),
    /// One of several names of a file: one of those with this number has the content, or each of them.
    OneOfSeveral(FileNumber),
    /// A device, a pipe or the like.
    Special,
}

/// What a file system knows a file by: the device and a number.
pub(in crate::formats) type FileNumber = (u64, u64);

/// What the headers come to: members, for each the place of its content, and what is refused already.
pub(super) fn members(described: &[Described]) -> (Vec<Member>, Vec<Option<usize>>, Vec<Refused>) {
    let (mut members, mut owners, mut refused) = (Vec::new(), Vec::new(), Vec::new());
    let mut sharing: BTreeMap<usize, u64> = BTreeMap::new();
    let mut known: BTreeMap<EntryPath, usize> = BTreeMap::new();
    let numbered = contents_by_number(described);
    let stored = described.iter().map(|entry| entry.size.saturating_sub(entry.holes)).fold(0, u64::saturating_add);
    let mut unstored_left = stored.saturating_mul(MAX_SHARING).max(MAX_UNSTORED_BYTES);
    let mut holes_left = MAX_HOLES_BYTES;
    for (place, entry) in described.iter().enumerate() {
        let own = Some(place);
        let named = |target: &[u8]| known.get(&path_of(target).ok()?).copied();
        let (kind, owner) = match &entry.kind {
            Kind::File => (Ok(EntryKind::File), own),
            Kind::Folder => (Ok(EntryKind::Folder), own),
            Kind::Link(target) if target.len() > MAX_LINK_TARGET_BYTES => (Err(RefusedReason::Special), own),
            Kind::Link(_) => (Ok(EntryKind::Link), own),
            Kind::SecondName(target) => match named(target) {
                None => (Err(RefusedReason::NoTarget), None),
                owner => (Ok(EntryKind::File), owner),
            },
            Kind::OneOfSeveral(number) if entry.size == 0 => {
                (Ok(EntryKind::File), numbered.get(number).copied().or(own))
            }
            Kind::OneOfSeveral(_) => (Ok(EntryKind::File), own),
            Kind::Special => (Err(RefusedReason::Special), own),
        };
        let size = owner.map_or(0, |owner| described[owner].size);
        let is_shared = owner.is_some_and(|owner| owner != place);
        let holes = owner.map_or(0, |owner| described[owner].holes);
        let unstored = if is_shared { size.saturating_sub(holes) } else { 0 };
        let others = owner.filter(|_| is_shared && size > SHARED_BYTES).map_or(0, |owner| {
            let others = sharing.entry(owner).or_default();
            *others += 1;
            *others
        });
        let kind = match kind {
            Ok(_) if unstored > unstored_left || holes > holes_left || others >= MAX_SHARING => {
                Err(RefusedReason::Unstored)
            }
            kind => kind,
        };
        let kind = match kind {
            Ok(kind) => kind,
            Err(why) => {
                refused.push(Refused { name: entry.name.clone(), why });
                continue;
            }
        };
        if let (EntryKind::File, Ok(path), Some(owner)) = (kind, path_of(&entry.name), owner) {
            known.insert(path, owner);
        }
        unstored_left -= unstored;
        holes_left -= holes;
        let link_target = if let Kind::Link(target) = &entry.kind { target.clone() } else { Vec::new() };
        let (name, mode, modified) = (entry.name.clone(), entry.mode, entry.modified);
        members.push(Member { name, kind: Some(kind), mode, modified, size, link_target });
        owners.push(owner.filter(|_| kind == EntryKind::File));
    }
    (members, owners, refused)
}

/// For each number of a file with several names, the place of the last entry that has content.
fn contents_by_number(described: &[Described]) -> BTreeMap<FileNumber, usize> {
    let with_content = described.iter().enumerate().filter(|(_, entry)| entry.size > 0);
    let numbered = with_content.filter_map(|(place, entry)| match entry.kind {
        Kind::OneOfSeveral(number) => Some((number, place)),
        _ => None,
    });
    numbered.collect()
}
