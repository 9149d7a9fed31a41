//! Rework: new volumes out of old ones.

pub mod collect;
pub mod recut;

pub use collect::{CollectError, Collection, Taken};
pub use recut::{Recut, RecutError, recut};
