//! Proof: what can be said of volumes without the password, and of content with it.

pub mod contents;
pub mod volumes;

pub use contents::verify_contents;
pub use volumes::{Damage, FileReport, InspectError, SetReport, VolumeReport, VolumeState, inspect};
