//! Which parts of a file are holes the standard library does not tell on Windows: all of it counts as content.

use crate::ground::holes::Hole;
use std::fs::{File, Metadata};

pub fn bytes_without_room(_: &Metadata) -> u64 {
    0
}

pub fn holes_of(_: &File, _size: u64) -> Vec<Hole> {
    Vec::new()
}
