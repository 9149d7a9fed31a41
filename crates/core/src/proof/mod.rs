//! Proof: what can be said of volumes without the password, of content with it, and of both beside folders on disk.

pub mod compare;
pub mod contents;
pub mod damaged;
pub mod receipt;
pub mod slip;
pub mod volumes;

pub use compare::{Compared, Comparison, Differences, TimesKept, compare};
pub use contents::verify_contents;
pub use damaged::{DamagedEntry, damaged_contents};
pub use receipt::Receipt;
pub use slip::Slip;
pub use volumes::{Damage, FileReport, InspectError, SetReport, VolumeReport, VolumeState, inspect};
