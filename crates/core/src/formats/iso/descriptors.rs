//! Volume descriptors: where the folder trees begin, and in which alphabet their names are (ECMA-119, 8; Joliet).

use super::records::{Record, both_u16, both_u32};
use super::{Image, IsoError, SECTOR_BYTES};
use crate::disk::FileError;
use crate::formats::spot::Spot;
use crate::ground::wire::{Cursor, Malformed};

/// The first sector behind the system area (ECMA-119, 6.2.1).
const FIRST_SECTOR: u64 = 16;

/// No image has more descriptors than this; each has a few.
const MAX_DESCRIPTORS: u64 = 64;

/// Every descriptor's standard identifier (ECMA-119, 8.1.2).
const IDENTIFIER: &[u8; 5] = b"CD001";

/// The kinds of descriptors that are read (ECMA-119, 8.1.1).
const PRIMARY: u8 = 1;
const SUPPLEMENTARY: u8 = 2;
const TERMINATOR: u8 = 255;

/// Where in its sector a descriptor has its fields (ECMA-119, 8.4 and 8.5).
const LABEL: std::ops::Range<usize> = 40..72;
const BLOCKS: std::ops::Range<usize> = 80..88;
const ESCAPES: std::ops::Range<usize> = 88..120;
const SET_SIZE: std::ops::Range<usize> = 120..124;
const BLOCK_SIZE: std::ops::Range<usize> = 128..132;
const ROOT: std::ops::Range<usize> = 156..190;

/// The escape sequences of UCS-2 in its three levels, by which Joliet is known.
const JOLIET: [&[u8]; 3] = [b"%/@", b"%/C", b"%/E"];

/// Identifiers of another file system, UDF (ECMA-167, part 3, 9.1), which may share the image.
const OTHER_SYSTEM: [&[u8]; 2] = [b"NSR02", b"NSR03"];

/// A folder tree.
#[derive(Debug, Clone)]
pub(super) struct Volume {
    /// Its names are UCS-2.
    pub joliet: bool,
    /// What the disc is called, as it stands there.
    pub label: Vec<u8>,
    /// Bytes in a block: places are counted in them.
    pub block_bytes: u64,
    /// Blocks that the volume says it has.
    pub blocks: u32,
    /// The topmost folder.
    pub root: Record,
}

/// What an image has for a reader to choose from.
#[derive(Debug)]
pub(super) struct Descriptors {
    /// The tree that every image has.
    pub primary: Volume,
    /// The tree with long names, if there is one.
    pub joliet: Option<Volume>,
    /// It holds another file system too, maybe with other things in it.
    pub other_system: bool,
}

/// Whether a file is a disc image.
pub fn is_iso(spot: &Spot) -> Result<bool, FileError> {
    let mut beginning = [0; 6];
    let found = Image::open(spot)?.fill(FIRST_SECTOR * SECTOR_BYTES as u64, &mut beginning)?;
    Ok(found && &beginning[1..] == IDENTIFIER)
}

impl Descriptors {
    pub fn read(image: &Image) -> Result<Self, IsoError> {
        let (mut primary, mut joliet, mut other_system) = (None, None, false);
        let mut ended = false;
        for number in FIRST_SECTOR..FIRST_SECTOR + MAX_DESCRIPTORS {
            let at = number * SECTOR_BYTES as u64;
            let Ok(sector) = image.sector(at) else { break };
            let (kind, identifier) = (sector[0], &sector[1..6]);
            if ended {
                // Behind the last one, the other file system names itself.
                other_system |= OTHER_SYSTEM.contains(&identifier);
                continue;
            }
            if identifier != IDENTIFIER {
                return Err(IsoError::Malformed { what: "volume descriptor", at });
            }
            let volume =
                |joliet| Volume::decode(&sector, joliet).map_err(|Malformed(what)| IsoError::Malformed { what, at });
            match kind {
                PRIMARY if primary.is_none() => primary = Some(volume(false)?),
                SUPPLEMENTARY if is_joliet(&sector) && joliet.is_none() => joliet = Some(volume(true)?),
                TERMINATOR => ended = true,
                _ => {}
            }
        }
        Ok(Self { primary: primary.ok_or(IsoError::NoVolume)?, joliet, other_system })
    }
}

fn is_joliet(sector: &[u8; SECTOR_BYTES]) -> bool {
    JOLIET.iter().any(|escape| sector[ESCAPES].starts_with(escape))
}

impl Volume {
    fn decode(sector: &[u8; SECTOR_BYTES], joliet: bool) -> Result<Self, Malformed> {
        let block_bytes = u64::from(both_u16(&mut Cursor::new(&sector[BLOCK_SIZE], "size of blocks"))?);
        if !matches!(block_bytes, 512 | 1_024 | 2_048) {
            return Err(Malformed("size of blocks"));
        }
        if both_u16(&mut Cursor::new(&sector[SET_SIZE], "size of the set"))? > 1 {
            return Err(Malformed("set of several discs, which is not read here"));
        }
        let blocks = both_u32(&mut Cursor::new(&sector[BLOCKS], "number of blocks"))?;
        let root = Record::decode(&sector[ROOT])?;
        if !root.is_folder() {
            return Err(Malformed("topmost folder"));
        }
        Ok(Self { joliet, label: sector[LABEL].to_vec(), block_bytes, blocks, root })
    }
}
