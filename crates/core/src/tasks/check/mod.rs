//! Checking: what can be said of volumes without the password, and of content with it.
//!
//! [`volumes`] looks at every cell's check; [`contents`] reads an unlocked archive to its last byte, [`damaged`] one of an open
//! format; [`collect`] brings a set together whose volumes come one by one.

pub mod collect;
pub mod contents;
pub mod damaged;
pub mod volumes;

pub use contents::verify_contents;
pub use damaged::{DamagedEntry, damaged_contents};
pub use volumes::{Damage, FileReport, SetReport, VolumeReport, VolumeState, inspect};
