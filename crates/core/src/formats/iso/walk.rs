//! The walk through a folder tree: every record becomes a member with the places of its content.

use super::descriptors::Volume;
use super::records::{Record, wide_text};
use super::rock_ridge::{Kind, SystemUse, Unread};
use super::{Image, IsoError, SECTOR_BYTES};
use crate::formats::members::{MAX_ENTRIES, MAX_PATHS_BYTES, Member, Refused, RefusedReason};
use crate::ground::context::Context;
use crate::ground::entry::{EntryKind, MAX_DEPTH, PathError};
use crate::ground::wire::Malformed;
use std::collections::BTreeSet;

/// Permission bits where nothing tells them.
const FILE_MODE: u32 = 0o644;
const FOLDER_MODE: u32 = 0o755;

/// Bytes of a file that lie together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Extent {
    pub at: u64,
    pub bytes: u64,
}

/// What a tree holds.
#[derive(Debug, Default)]
pub(super) struct Walked {
    pub members: Vec<Member>,
    /// For each member the places of its content.
    pub extents: Vec<Vec<Extent>>,
    pub refused: Vec<Refused>,
}

/// How names stand in a tree.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Naming {
    /// In capital letters, with versions.
    Plain,
    /// In UCS-2.
    Joliet,
    /// In system-use areas, behind so many bytes of another standard.
    RockRidge(usize),
}

/// A folder whose records are still to be read.
struct Folder {
    name: Vec<u8>,
    /// How many folders it lies in, itself counted; the topmost counts for nothing.
    depth: usize,
    at: u64,
    bytes: u64,
    /// Its place among the members; `None` for the topmost.
    member: Option<usize>,
}

struct Walk<'a> {
    image: &'a Image,
    block_bytes: u64,
    naming: Naming,
    pending: Vec<Folder>,
    seen: BTreeSet<u64>,
    paths_bytes: usize,
    /// Bytes of all folders that were read: together they are no longer than the image.
    folders_bytes: u64,
    context: &'a Context<'a>,
    walked: Walked,
}

/// Walks through a volume's tree.
pub(super) fn walk<'a>(
    image: &'a Image,
    volume: &Volume,
    naming: Naming,
    context: &'a Context<'a>,
) -> Result<Walked, IsoError> {
    let block_bytes = volume.block_bytes;
    let root = Folder {
        name: Vec::new(),
        depth: 0,
        at: volume.root.at(block_bytes),
        bytes: volume.root.bytes.into(),
        member: None,
    };
    let (seen, walked) = (BTreeSet::new(), Walked::default());
    let pending = vec![root];
    let mut walk =
        Walk { image, block_bytes, naming, pending, seen, paths_bytes: 0, folders_bytes: 0, context, walked };
    while let Some(folder) = walk.pending.pop() {
        walk.folder(&folder)?;
    }
    Ok(walk.walked)
}

impl Walk<'_> {
    fn folder(&mut self, folder: &Folder) -> Result<(), IsoError> {
        if !self.seen.insert(folder.at) {
            return Err(IsoError::FolderTwice(folder.at));
        }
        let (before, mut elsewhere, mut begun) = (self.walked.members.len(), false, None);
        let mut done = 0;
        while done < folder.bytes {
            self.context.go_on()?;
            self.folders_bytes = self.folders_bytes.saturating_add(SECTOR_BYTES as u64);
            if self.folders_bytes > self.image.bytes() {
                return Err(IsoError::FolderTwice(folder.at));
            }
            let at = folder.at.saturating_add(done);
            let sector = self.image.sector(at)?;
            // Records do not go over the edge of a sector; zeros fill what is left of it.
            let mut rest = sector.as_slice();
            while let Some(length) = rest.first().map(|length| usize::from(*length)).filter(|length| *length > 0) {
                let malformed = |Malformed(what)| IsoError::Malformed { what, at };
                let (bytes, behind) =
                    rest.split_at_checked(length).ok_or(IsoError::Malformed { what: "directory record", at })?;
                rest = behind;
                let record = Record::decode(bytes).map_err(malformed)?;
                if record.is_self_or_above() {
                    continue;
                }
                elsewhere |= self.record(folder, &record, &mut begun, at)?;
            }
            done += SECTOR_BYTES as u64;
        }
        if begun.is_some() {
            return Err(IsoError::Malformed { what: "file that goes on", at: folder.at });
        }
        // A folder that holds nothing but what stands elsewhere is there for the format's sake.
        if let (true, true, Some(member)) = (elsewhere, before == self.walked.members.len(), folder.member) {
            self.walked.members[member].name.clear();
        }
        Ok(())
    }

    /// Takes a record; whether it stands elsewhere. A file that goes on in the next record is kept in `begun`.
    fn record(
        &mut self,
        folder: &Folder,
        record: &Record,
        begun: &mut Option<(Vec<u8>, Vec<Extent>)>,
        at: u64,
    ) -> Result<bool, IsoError> {
        let said = match self.naming {
            Naming::RockRidge(skipped) => {
                let area = record.system_use.get(skipped..).unwrap_or_default();
                SystemUse::read(self.image, self.block_bytes, area)?
            }
            _ => SystemUse::default(),
        };
        if said.stands_elsewhere {
            return Ok(true);
        }
        let extent = Extent { at: record.at(self.block_bytes), bytes: record.bytes.into() };
        let mut extents = match begun.take() {
            None => Vec::new(),
            Some((identifier, extents)) if identifier == record.identifier && !record.is_folder() => extents,
            Some(_) => return Err(IsoError::Malformed { what: "file that goes on", at }),
        };
        extents.push(extent);
        if record.goes_on() && !record.is_folder() {
            *begun = Some((record.identifier.clone(), extents));
            return Ok(false);
        }
        let last = said.name.clone().unwrap_or_else(|| plain_name(&record.identifier, self.naming));
        let name = if folder.name.is_empty() { last.clone() } else { [&folder.name, b"/".as_slice(), &last].concat() };
        self.paths_bytes = self.paths_bytes.saturating_add(name.len());
        if self.walked.members.len() >= MAX_ENTRIES || self.paths_bytes > MAX_PATHS_BYTES {
            return Err(IsoError::TooMany);
        }
        match kind(record, &said, &last) {
            Ok(_) if folder.depth >= MAX_DEPTH => {
                self.walked.refused.push(Refused { name, why: PathError::TooDeep.into() });
            }
            Ok(kind) => self.add(name, kind, (folder, record), said, extents)?,
            Err(why) => self.walked.refused.push(Refused { name, why }),
        }
        Ok(false)
    }

    fn add(
        &mut self,
        name: Vec<u8>,
        kind: EntryKind,
        (folder, record): (&Folder, &Record),
        said: SystemUse,
        extents: Vec<Extent>,
    ) -> Result<(), IsoError> {
        if kind == EntryKind::Folder {
            let (at, bytes) = match said.lies_at {
                None => (record.at(self.block_bytes), record.bytes.into()),
                Some(block) => self.elsewhere(u64::from(block) * self.block_bytes)?,
            };
            let (depth, member) = (folder.depth + 1, Some(self.walked.members.len()));
            self.pending.push(Folder { name: name.clone(), depth, at, bytes, member });
        }
        let extents = if kind == EntryKind::File { extents } else { Vec::new() };
        self.walked.members.push(Member {
            name,
            kind: Some(kind),
            mode: said
                .mode
                .map_or(if kind == EntryKind::Folder { FOLDER_MODE } else { FILE_MODE }, |mode| mode & 0o7777),
            modified: said.modified.unwrap_or(record.recorded),
            size: extents.iter().map(|extent| extent.bytes).sum(),
            link_target: said.link.unwrap_or_default(),
        });
        self.walked.extents.push(extents);
        Ok(())
    }

    /// A folder that lies elsewhere: its own first record tells how long it is.
    fn elsewhere(&self, at: u64) -> Result<(u64, u64), IsoError> {
        let own = Record::own(self.image, at)?;
        let own = own.filter(|own| own.is_folder() && own.identifier == [0] && own.at(self.block_bytes) == at);
        own.map(|own| (at, own.bytes.into())).ok_or(IsoError::Malformed { what: "folder that lies elsewhere", at })
    }
}

/// What kind of entry a record is; why it is refused.
fn kind(record: &Record, said: &SystemUse, last: &[u8]) -> Result<EntryKind, RefusedReason> {
    if last.contains(&b'/') {
        return Err(RefusedReason::Separator);
    }
    match said.unread {
        Some(Unread::Special) => return Err(RefusedReason::Special),
        Some(Unread::Holes) => return Err(RefusedReason::Sparse),
        Some(Unread::Compressed) => return Err(RefusedReason::Compressed),
        None => {}
    }
    let kind = match said.kind() {
        _ if said.lies_at.is_some() => EntryKind::Folder,
        Some(Kind::Special) => return Err(RefusedReason::Special),
        Some(Kind::Link) if said.link.is_none() => return Err(RefusedReason::Special),
        Some(Kind::Link) => EntryKind::Link,
        // Where a record lies is said by its own flag; a mode that says otherwise changes nothing.
        _ if record.is_folder() => EntryKind::Folder,
        _ => EntryKind::File,
    };
    let scattered = kind == EntryKind::File && record.interleaved;
    if record.is_associated() || scattered { Err(RefusedReason::Special) } else { Ok(kind) }
}

/// A name without its version, and without the dot behind which nothing stands.
fn plain_name(identifier: &[u8], naming: Naming) -> Vec<u8> {
    let mut name = match naming {
        Naming::Joliet => wide_text(identifier).into_bytes(),
        _ => identifier.to_vec(),
    };
    let version = name.iter().rposition(|byte| *byte == b';');
    if let Some(at) = version.filter(|at| name[at + 1..].iter().all(u8::is_ascii_digit)) {
        name.truncate(at);
    }
    if naming != Naming::Joliet && name.last() == Some(&b'.') {
        name.pop();
    }
    name
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(b"README.TXT;1", Naming::Plain, "README.TXT")]
    #[case(b"README.;1", Naming::Plain, "README")]
    #[case(b"PLANS", Naming::Plain, "PLANS")]
    #[case(b"A;B", Naming::Plain, "A;B")]
    #[case(b"\0\xDC\0b\0.\0;\x001", Naming::Joliet, "Üb.")]
    #[case(b"\xD8\x3D\xDC\xA1", Naming::Joliet, "\u{1F4A1}")]
    #[case::half_a_pair(b"\xD8\x3D\0a", Naming::Joliet, "\u{FFFD}a")]
    fn names_lose_what_the_format_added(#[case] identifier: &[u8], #[case] naming: Naming, #[case] name: &str) {
        assert_eq!(plain_name(identifier, naming), name.as_bytes());
    }
}
