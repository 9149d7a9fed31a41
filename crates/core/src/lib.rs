//! Under Seal's computation: sealing folders into volumes, and everything on the way back.
//!
//! This crate prints nothing, asks nothing and reads no environment. Whatever it needs from outside comes
//! in through one [`ground::context::Context`]. It has six floors; each uses only those above it in this list:
//!
//! - [`ground`]: what knows no file and no format.
//! - [`disk`]: the only floor that knows the system: folders, files, names, sync, and the all-or-nothing placing of a set.
//! - [`codecs`]: compressing and decompressing, a block or a stream.
//! - [`source`]: what goes in. What is chosen, the walk that makes a catalogue, and reading a file that may change meanwhile.
//! - [`landing`]: what comes out: extraction to disk without harm to what is there. It does not know the format, nor [`source`].
//! - [`formats`]: archives of every format: recognised, read and written.
//! - [`tasks`]: what people do, a room for each command, called like it.
//!
//! Beside the floors stands [`error`]: every floor's error under one roof, and the class behind an exit code.
//!
//! Packing flows `source → records → frames → cells → volumes → disk`. Opening flows the same way back, into
//! `landing`. docs/format.md gives every byte between.

pub mod ground;

pub mod disk;

pub mod codecs;

pub mod source;

pub mod landing;

pub mod formats;

pub mod tasks;

pub mod error;

pub use error::{Error, ErrorClass};
