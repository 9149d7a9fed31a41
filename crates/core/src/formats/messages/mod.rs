//! Messages as places: what is attached to mail is found and read where it lies, in single messages (RFC 5322) and in mailboxes of
//! many (RFC 4155), without being saved first.
//!
//! A file is read once from its beginning to its end, line by line ([`lines`]), so memory does not grow with it. [`structure`]
//! follows the parts of each message (RFC 2046) and tells where the content of each one stands. [`encoding`] turns what stands there
//! into the bytes that were attached, and [`attached`] reads them from any place on. [`mailboxes`] tells where messages lie. Whoever reads
//! an archive asks a [spot](super::spot) for bytes, and need not know that it is a message.
//!
//! Messages may be hostile. What they claim costs the reader a pass over the file, and never more: nesting and boundaries are
//! counted, and what goes beyond the limits is told, and read as content that has no parts.

pub mod attached;
pub mod encoding;
mod lines;
pub mod mailboxes;
pub mod structure;

/// Messages in messages, and parts in parts, are followed down to this depth. Programs nest three or four deep.
pub const MAX_DEPTH: usize = 16;

/// The most bytes of one part's header that are looked at.
pub const MAX_HEADER_BYTES: usize = 64 * 1024;

/// The most attachments of one file that are remembered.
pub const MAX_ATTACHED: usize = 100_000;
