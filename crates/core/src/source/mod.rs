//! Gathering: from the paths that a sender names to a catalogue of everything to pack, in archive order.
//!
//! [`catalogue`] walks and lists without reading any content; [`reading`] reads one file and notices
//! when it changes meanwhile.

pub mod catalogue;
pub mod reading;

pub use catalogue::{Catalogue, PassedOver, PassedOverReason, SourceEntry, SourceError};
pub use reading::SourceFile;
