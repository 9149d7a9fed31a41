//! Holes of a file, as Unix file systems tell them.

use crate::ground::holes::{Hole, MOST_HOLES};
use rustix::fs::{SeekFrom, seek};
use std::fs::{File, Metadata};
use std::os::unix::fs::MetadataExt as _;

/// Blocks in which a file's room on disk is counted, in bytes (POSIX `st_blocks`).
const ROOM_UNIT: u64 = 512;

pub fn bytes_without_room(metadata: &Metadata) -> u64 {
    metadata.len().saturating_sub(metadata.blocks().saturating_mul(ROOM_UNIT))
}

pub fn holes_of(file: &File, size: u64) -> Vec<Hole> {
    let holes = listed(file, size).unwrap_or_default();
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
