//! What headers and their records describe together, and the members that all of them come to.

use super::MAX_UNSTORED_BYTES;
use super::sparse::Map;
use crate::formats::members::{MAX_SHARING, Member, Refused, RefusedReason, path_of};
use crate::ground::entry::{EntryKind, EntryPath, MAX_LINK_TARGET_BYTES, Timestamp};
use std::collections::BTreeMap;

/// A content that several entries share, and that is no longer than this, is kept in memory from one to the next.
pub(super) const SHARED_BYTES: u64 = 16 * 1024 * 1024;

/// Kinds of headers (ustar interchange format, and what other writers have added).
pub(super) const OLD_FILE: u8 = 0;
pub(super) const FILE: u8 = b'0';
pub(super) const HARD_LINK: u8 = b'1';
pub(super) const LINK: u8 = b'2';
pub(super) const FOLDER: u8 = b'5';
pub(super) const CONTIGUOUS: u8 = b'7';
pub(super) const RECORDS: u8 = b'x';
pub(super) const GLOBAL_RECORDS: u8 = b'g';
pub(super) const LONG_NAME: u8 = b'L';
pub(super) const LONG_LINK: u8 = b'K';
pub(super) const SPARSE: u8 = b'S';

/// An entry as its header and records describe it together.
#[derive(Debug, Clone)]
pub(super) struct Described {
    pub name: Vec<u8>,
    pub mode: u32,
    pub size: u64,
    pub modified: Timestamp,
    pub kind: u8,
    pub link: Vec<u8>,
    /// Bytes of its holes.
    pub holes: u64,
    /// Where the content belongs, of a file with holes.
    pub map: Option<Map>,
}

/// What the headers come to: members, for each the place of its content, and what is refused already. A hard link has the
/// content of what it leads to, which must stand before it.
pub(super) fn members(described: &[Described]) -> (Vec<Member>, Vec<Option<usize>>, Vec<Refused>) {
    let (mut members, mut owners, mut refused) = (Vec::new(), Vec::new(), Vec::new());
    let mut sharing: BTreeMap<usize, u64> = BTreeMap::new();
    let mut known: BTreeMap<EntryPath, usize> = BTreeMap::new();
    let stored = described.iter().map(|entry| entry.size.saturating_sub(entry.holes)).fold(0, u64::saturating_add);
    let mut unstored_left = stored.saturating_mul(MAX_SHARING).max(MAX_UNSTORED_BYTES);
    for (place, entry) in described.iter().enumerate() {
        let mut size = entry.size;
        let mut owner = Some(place);
        let kind = match entry.kind {
            OLD_FILE if entry.name.last() == Some(&b'/') => Ok(EntryKind::Folder),
            OLD_FILE | FILE | CONTIGUOUS | SPARSE => Ok(EntryKind::File),
            FOLDER => Ok(EntryKind::Folder),
            LINK if entry.link.len() > MAX_LINK_TARGET_BYTES => Err(RefusedReason::Special),
            LINK => Ok(EntryKind::Link),
            HARD_LINK => {
                let target = path_of(&entry.link).ok().and_then(|path| known.get(&path).copied());
                owner = target;
                size = target.map_or(0, |target| described[target].size);
                if target.is_some() { Ok(EntryKind::File) } else { Err(RefusedReason::NoTarget) }
            }
            _ => Err(RefusedReason::Special),
        };
        let unstored = if entry.kind == HARD_LINK { size } else { entry.holes };
        let shared = owner.filter(|owner| *owner != place && size > SHARED_BYTES);
        let others = shared.map_or(0, |owner| {
            let others = sharing.entry(owner).or_default();
            *others += 1;
            *others
        });
        let kind = match kind {
            Ok(_) if unstored > unstored_left || others >= MAX_SHARING => Err(RefusedReason::Unstored),
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
        let link_target = if kind == EntryKind::Link { entry.link.clone() } else { Vec::new() };
        let (name, mode, modified) = (entry.name.clone(), entry.mode, entry.modified);
        members.push(Member { name, kind: Some(kind), mode, modified, size, link_target });
        owners.push(owner.filter(|_| kind == EntryKind::File));
    }
    (members, owners, refused)
}
