//! Unix: what differs between systems, as it is here. [`super::windows`] has the same functions.

pub mod attributes;
pub mod facts;
pub mod files;
pub mod folders;
pub mod holes;
pub mod names;

/// The names under which origins are noted: freedesktop.org's "Common Extended Attributes" (`user.xdg.origin.url`,
/// `user.xdg.referrer.url`), and the mark that macOS asks about before a file is opened.
pub const ORIGIN_MARKS: [&str; 3] = ["user.xdg.origin.url", "user.xdg.referrer.url", "com.apple.quarantine"];
