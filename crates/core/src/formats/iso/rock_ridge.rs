//! Rock Ridge: POSIX names, modes, links and times in the system-use areas of directory records (IEEE P1281, by which
//! several standards share these areas, and IEEE P1282).

use super::records::{both_u32, in_digits, recorded};
use super::{Image, IsoError, SECTOR_BYTES};
use crate::ground::entry::{MAX_LINK_TARGET_BYTES, MAX_PATH_BYTES, Timestamp};
use crate::ground::wire::{Cursor, Malformed};

/// No record's fields go on in more places than this: a name of 255 bytes and a link's target of 4,095 fill three.
const MAX_CONTINUATIONS: usize = 8;

/// Bytes that other standards may keep in front of the first field (IEEE P1281, 5.3, for CD-ROM XA).
const IN_FRONT: [usize; 2] = [0, 14];

/// What the field that begins a shared area says behind its signature and length (IEEE P1281, 5.3).
const BEGINS: [u8; 3] = [1, 0xBE, 0xEF];

/// By what Rock Ridge is announced (IEEE P1281, 5.5), in its three editions.
const ANNOUNCED: [&[u8]; 3] = [b"RRIP_1991A", b"IEEE_P1282", b"IEEE_1282"];

/// Kinds in a POSIX mode.
const KIND_BITS: u32 = 0o170_000;
const FOLDER_KIND: u32 = 0o040_000;
const FILE_KIND: u32 = 0o100_000;
const LINK_KIND: u32 = 0o120_000;

/// Bits of a name's flags (IEEE P1282, 4.1.4).
const NAME_GOES_ON: u8 = 1;

/// Bits of a link's and its components' flags (IEEE P1282, 4.1.3).
const GOES_ON: u8 = 1;
const COMPONENT_SELF: u8 = 1 << 1;
const COMPONENT_ABOVE: u8 = 1 << 2;
const COMPONENT_ROOT: u8 = 1 << 3;

/// Bits of the flags of times, in the order in which the times stand (IEEE P1282, 4.1.6).
const CREATED: u8 = 1;
const MODIFIED: u8 = 1 << 1;
const IN_DIGITS: u8 = 1 << 7;

/// What an entry is that is neither file, folder nor link, or cannot be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Unread {
    /// A device, a pipe or the like.
    Special,
    /// A file with holes.
    Holes,
    /// A file that is compressed within the image.
    Compressed,
}

/// What a system-use area says.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct SystemUse {
    pub name: Option<Vec<u8>>,
    pub mode: Option<u32>,
    /// A link's target.
    pub link: Option<Vec<u8>>,
    pub modified: Option<Timestamp>,
    /// The block of the folder that stands here, and lies elsewhere because this is too deep.
    pub lies_at: Option<u32>,
    /// A folder that stands elsewhere.
    pub stands_elsewhere: bool,
    pub unread: Option<Unread>,
    announced: bool,
}

/// How many bytes stand in front of the fields of every record, where the topmost folder's first record announces Rock
/// Ridge.
pub(super) fn announced(image: &Image, block_bytes: u64, system_use: &[u8]) -> Result<Option<usize>, IsoError> {
    for front in IN_FRONT {
        let Some([b'S', b'P', 7, rest @ ..]) = system_use.get(front..) else { continue };
        if let [a, b, c, skipped, ..] = rest
            && [*a & 1, *b, *c] == BEGINS
        {
            let said = SystemUse::read(image, block_bytes, &system_use[front..])?;
            return Ok((said.announced || said.mode.is_some()).then_some(usize::from(*skipped)));
        }
    }
    Ok(None)
}

impl SystemUse {
    /// Reads an area, and where it goes on.
    pub fn read(image: &Image, block_bytes: u64, area: &[u8]) -> Result<Self, IsoError> {
        let mut reading = FieldReader::default();
        let mut place = reading.fields(area).map_err(|what| malformed(what, 0))?;
        let mut continuations = 0;
        while let Some(Place { block, offset, bytes }) = place {
            let at = u64::from(block) * block_bytes + u64::from(offset);
            continuations += 1;
            if continuations > MAX_CONTINUATIONS || bytes as usize > SECTOR_BYTES {
                return Err(malformed(Malformed("system-use area that goes on"), at));
            }
            let mut area = vec![0; bytes as usize];
            if !image.fill(at, &mut area)? {
                return Err(IsoError::CutShort(at));
            }
            place = reading.fields(&area).map_err(|what| malformed(what, at))?;
        }
        Ok(reading.finish())
    }

    /// What kind of thing the mode says it is; `None` where it says nothing.
    pub fn kind(&self) -> Option<Kind> {
        self.mode.map(|mode| match mode & KIND_BITS {
            FOLDER_KIND => Kind::Folder,
            LINK_KIND => Kind::Link,
            FILE_KIND => Kind::File,
            _ => Kind::Special,
        })
    }
}

/// Kinds that a mode tells.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Kind {
    File,
    Folder,
    Link,
    Special,
}

fn malformed(Malformed(what): Malformed, at: u64) -> IsoError {
    IsoError::Malformed { what, at }
}

/// Where an area goes on.
struct Place {
    block: u32,
    offset: u32,
    bytes: u32,
}

/// Fields on their way in.
#[derive(Default)]
struct FieldReader {
    said: SystemUse,
    target: Target,
}

impl FieldReader {
    /// Takes the fields of an area; where it goes on.
    fn fields(&mut self, area: &[u8]) -> Result<Option<Place>, Malformed> {
        let mut rest = area;
        let mut place = None;
        // Less than a field's beginning is what fills up the record.
        while let [first, second, length, _version, ..] = *rest {
            let signature = [first, second];
            if signature == [0, 0] {
                break;
            }
            let length = usize::from(length);
            let field = rest.get(4..length).ok_or(Malformed("system-use field"))?;
            rest = &rest[length..];
            let mut cursor = Cursor::new(field, "system-use field");
            match &signature {
                b"ST" => break,
                b"CE" => {
                    let (block, offset) = (both_u32(&mut cursor)?, both_u32(&mut cursor)?);
                    place = Some(Place { block, offset, bytes: both_u32(&mut cursor)? });
                }
                b"ER" => {
                    let identifier_bytes = usize::from(cursor.u8()?);
                    cursor.bytes(3)?;
                    self.said.announced |= ANNOUNCED.contains(&cursor.bytes(identifier_bytes)?);
                }
                b"NM" => self.name(cursor)?,
                b"PX" => self.said.mode = Some(both_u32(&mut cursor)?),
                b"SL" => self.target.add(cursor)?,
                b"TF" => self.said.modified = modified(cursor)?.or(self.said.modified),
                b"CL" => self.said.lies_at = Some(both_u32(&mut cursor)?),
                b"RE" => self.said.stands_elsewhere = true,
                b"PN" => self.said.unread = Some(Unread::Special),
                b"SF" => self.said.unread = Some(Unread::Holes),
                b"ZF" => self.said.unread = Some(Unread::Compressed),
                _ => {}
            }
        }
        Ok(place)
    }

    fn name(&mut self, mut cursor: Cursor<'_>) -> Result<(), Malformed> {
        let flags = cursor.u8()?;
        // The other bits name the folder itself and the one above it, which have records of their own.
        if flags & !NAME_GOES_ON == 0 {
            let name = self.said.name.get_or_insert_default();
            name.extend(cursor.clone().rest());
            if name.len() > MAX_PATH_BYTES {
                return Err(cursor.malformed());
            }
        }
        Ok(())
    }

    fn finish(mut self) -> SystemUse {
        self.said.link = self.target.finish();
        self.said
    }
}

/// The time of modification among those that are there.
fn modified(mut cursor: Cursor<'_>) -> Result<Option<Timestamp>, Malformed> {
    let flags = cursor.u8()?;
    if flags & CREATED != 0 {
        cursor.bytes(if flags & IN_DIGITS != 0 { 17 } else { 7 })?;
    }
    Ok(match (flags & MODIFIED != 0, flags & IN_DIGITS != 0) {
        (false, _) => None,
        (true, true) => in_digits(&cursor.array()?),
        (true, false) => Some(recorded(&cursor.array()?)),
    })
}

/// A link's target, from components that may be spread over fields.
#[derive(Default)]
struct Target {
    text: Option<Vec<u8>>,
    /// The last component is not complete.
    open: bool,
}

impl Target {
    fn add(&mut self, mut cursor: Cursor<'_>) -> Result<(), Malformed> {
        // Whether the target goes on in another field shows when that comes.
        let _flags = cursor.u8()?;
        while !cursor.is_empty() {
            let (flags, length) = (cursor.u8()?, usize::from(cursor.u8()?));
            let content = cursor.bytes(length)?;
            let text = self.text.get_or_insert_default();
            if !self.open && !text.is_empty() && text.last() != Some(&b'/') {
                text.push(b'/');
            }
            match flags & !GOES_ON {
                0 => text.extend(content),
                COMPONENT_SELF => text.extend(b"."),
                COMPONENT_ABOVE => text.extend(b".."),
                COMPONENT_ROOT => *text = b"/".to_vec(),
                _ => return Err(cursor.malformed()),
            }
            self.open = flags & GOES_ON != 0;
            if text.len() > MAX_LINK_TARGET_BYTES {
                return Err(cursor.malformed());
            }
        }
        Ok(())
    }

    fn finish(self) -> Option<Vec<u8>> {
        self.text
    }
}
