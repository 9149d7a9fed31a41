//! Where a file on disk has holes, as the file system tells.

use super::system;
use crate::ground::holes::{HOLE_UNIT, Hole};
use std::fs::{File, Metadata};

/// About how many bytes of a file are in holes, from the room that it takes; none where compression or the like could be the reason.
pub fn bytes_in_holes(metadata: &Metadata) -> u64 {
    let holes = system::holes::bytes_without_room(metadata);
    if holes >= HOLE_UNIT { holes } else { 0 }
}

/// The holes of a file that is open and was not read yet, in order. Where the file system does not tell, there are none.
pub fn holes_of(file: &File, metadata: &Metadata) -> Vec<Hole> {
    if bytes_in_holes(metadata) == 0 { Vec::new() } else { system::holes::holes_of(file, metadata.len()) }
}
