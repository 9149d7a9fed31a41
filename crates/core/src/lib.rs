//! Under Seal's computation: sealing folders into volumes, and everything on the way back.
//!
//! This crate prints nothing, asks nothing and reads no environment. Whatever it needs from outside comes
//! in through one [`context::Context`]. Each module may use those above it in this list, never those below:
//!
//! - [`size`]: sizes as people write them, MB and MiB told apart, a bare `5M` refused.
//! - [`fit`]: the rule that decides how many bytes a volume may have: a size, or a place such as a message or a disc.
//! - [`codes`]: short codes that people read to each other, each group checked.
//! - [`entry`]: what a file, folder or link in any archive is, and the sink that receives entries. A path that
//!   could leave its destination cannot be built.
//! - [`secrets`]: memory for secrets, wiped in the end and kept out of the swap.
//! - [`ownership`]: what proves that a user's own run left something on disk; nothing is believed for its looks.
//! - [`context`]: who watches, whether to stop, randomness, the clock, the user's own key and the number of threads.
//! - [`passwords`]: choosing one. How long it would withstand guessing, and making a passphrase.
//! - [`wire`]: a cursor over bytes that were read, for every binary format.
//! - [`reader`]: what the reader of every archive format offers.
//! - [`place`]: putting bytes on disk for good. Open folders, new files, renames that never replace, sync;
//!   [`place::staging`], the all-or-nothing placing of a set; [`place::faults`], where tests make the disk fail.
//! - [`codec`]: compressing and decompressing one block; whether it was worth it.
//! - [`deflate`]: one deflate stream from pieces that are compressed each by itself.
//! - [`pipeline`]: ordered parallel work with bounded memory, both ways.
//! - [`source`]: gathering. What is chosen, the walk that makes a catalogue, and reading a file that may change
//!   meanwhile, names that other systems refuse.
//! - [`volume`]: our volumes. Cells, headers, names, finding a set, reading and writing it; knows no key.
//! - [`pieces`]: plain pieces of any file: cutting it so that concatenation joins it anywhere, joining whatever is numbered.
//! - [`sealed`]: the sealed format. Password and keys, the head, cells' seals, frames, records, index and tail;
//!   a writer, a reader, and a reader of what is left.
//! - [`members`]: what open formats hold, made into safe paths; what cannot be is refused by name.
//! - [`unpacked`]: streams that are compressed as a whole, recognised and read through.
//! - [`zip`]: ZIP archives (the public application note), in parts too: a reader and a writer.
//! - [`tar`]: tar archives (POSIX pax, and what other writers have added), and lone compressed files: a reader of each, and the headers
//!   that a writer needs.
//! - [`iso`]: disc images (ISO 9660, with Rock Ridge or Joliet): a reader.
//! - [`archive`]: archives of whatever format: recognised by content, and handed to the right reader.
//! - [`listing`]: looking through an archive's entries by pattern, fragment, level and order.
//! - [`landing`]: extraction to disk without harm to what is there; does not know the format.
//! - [`proof`]: checking volumes without the password, and contents with it; comparing with folders on disk;
//!   receipts, resend slips.
//! - [`parcels`]: dividing what is packed among archives that each open alone.
//! - [`pack`]: one whole delivery: gather, seal, read back, place.
//! - [`plan`]: a delivery before it exists. Estimates from samples, what weighs most, what would save volumes.
//! - [`rework`]: making new volumes out of old ones; cutting a set to another fit, without the password; bringing one
//!   together whose volumes come one by one; making again what a
//!   recipient lacks.
//! - [`handover`]: everything that goes to a recipient: volumes, note, checksums, drafts of messages, labels.
//! - [`carriers`]: stand-ins for what takes volumes to a recipient, each with limits of its own: mail, media, an upload.
//! - [`opening`]: one whole extraction: survey, extract, finish.
//! - [`rehearsal`]: playing the recipient in a closed place, from delivered volumes to compared files.
//! - [`error`]: every layer's error under one roof, and the class behind an exit code.
//!
//! Packing flows `source → records → frames → cells → volumes → disk`. Opening flows the same way back, into
//! `landing`. docs/format.md gives every byte between.

pub mod size;

pub mod fit;

pub mod codes;

pub mod entry;

pub mod secrets;

pub mod ownership;

pub mod context;

pub mod passwords;

pub mod wire;

pub mod reader;

pub mod place;

pub mod codec;

pub mod deflate;

pub mod pipeline;

pub mod source;

pub mod volume;

pub mod pieces;

pub mod sealed;

pub mod members;

pub mod unpacked;

pub mod zip;

pub mod tar;

pub mod iso;

pub mod archive;

pub mod listing;

pub mod landing;

pub mod proof;

pub mod parcels;

pub mod pack;

pub mod plan;

pub mod rework;

pub mod handover;

pub mod carriers;

pub mod opening;

pub mod rehearsal;

pub mod error;

pub use error::{Error, ErrorClass};
