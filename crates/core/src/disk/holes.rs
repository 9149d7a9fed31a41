//! Where a file on disk has holes, as the file system tells.

use crate::ground::holes::{HOLE_UNIT, Hole, MOST_HOLES};
use rustix::fs::{SeekFrom, seek};
use std::fs::{File, Metadata};
use std::os::unix::fs::MetadataExt as _;

/// Blocks in which a file's room on disk is counted, in bytes (POSIX `st_blocks`).
const ROOM_UNIT: u64 = 512;

/// About how many bytes of a file are in holes, from the room that it takes; none where compression or the like could be the reason.
pub fn bytes_in_holes(metadata: &Metadata) -> u64 {
    let holes = metadata.len().saturating_sub(metadata.blocks().saturating_mul(ROOM_UNIT));
    if holes >= HOLE_UNIT { holes } else { 0 }
}

/// The holes of a file that is open and was not read yet, in order. Where the file system does not tell, there are none.
pub fn holes_of(file: &File, metadata: &Metadata) -> Vec<Hole> {
    if bytes_in_holes(metadata) == 0 {
        return Vec::new();
    }
    let holes = listed(file, metadata.len()).unwrap_or_default();
    // Where it begins is where reading begins.
    if seek(file, SeekFrom::Start(0)).is_ok() { holes } else { Vec::new() }
}

fn listed(file: &File, size: u64) -> rustix::io::Result<Vec<Hole>> {
    let (mut holes, mut at) = (Vec::new(), 0);
    while at < size && holes.len() < MOST_HOLES {
        let data = match seek(file, SeekFrom::Data(at)) {
            Ok(data) => data.min(size),
            // Nothing follows but a hole.
            Err(rustix::io::Errno::NXIO) => size,
            Err(error) => return Err(error),
        };
        holes.extend(Hole::within(at, data));
        if data < size {
            at = seek(file, SeekFrom::Hole(data))?.max(data.saturating_add(1));
        } else {
            break;
        }
    }
    Ok(holes)
}
