//! Rework: new volumes out of old ones.

pub mod collect;
pub mod recut;
pub mod resend;

pub use collect::{CollectError, Collection, Taken};
pub use recut::{Recut, RecutError, recut};
pub use resend::{ResendError, Resent, resend};
