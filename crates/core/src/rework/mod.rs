//! Rework: new volumes out of old ones.

pub mod recut;

pub use recut::{Recut, RecutError, recut};
