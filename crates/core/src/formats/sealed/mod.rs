//! The sealed format: encrypted, authenticated archives, from entries to cells and back.
//!
//! Writing: entries become records, records fill frames, frames are compressed one by one and flow as
//! the inner stream into cells, and cells are sealed and handed to the volume layer. An index and a
//! tail close the stream. Reading goes the same way back and believes nothing that is not both
//! authentic and within the format's limits: whoever sealed an archive may be hostile too.
//!
//! docs/format.md gives every byte.

pub mod base;
pub mod carrying;
pub mod cells;
mod delivery;
mod error;
mod extraction;
pub mod frame;
mod frame_reading;
pub mod framing;
pub mod further_names;
pub mod head;
pub mod index;
mod index_pages;
mod index_reading;
pub mod keys;
pub mod pages;
pub mod reader;
pub mod record;
pub mod salvage;
pub mod stream;
pub mod tail;
mod unlocking;
pub mod volume;
pub mod writer;

pub use framing::{Class, Expected, FrameDraft, FrameRoom, Framer};

pub use base::{Base, BaseEntry, BaseName, BaseRef, Becomes};
pub use carrying::{CarriedFrame, Carrier, Fate, Fates, FrameSource, OldEntries, OldFrame};
pub use delivery::{DeliveryReader, NotWhole};
pub use error::{SealError, SealedError};
pub use further_names::TooFar;
pub use head::{HeadError, cost_of, seal_head};
pub use index::{About, ParcelOf};
pub use keys::{ArchiveKey, CostLimit, KeyCost};
pub use reader::SealedReader;
pub use salvage::{Lost, Salvage};
pub use unlocking::{UnlockedSet, key_of_open_to_all, unlock, unlock_given};
pub use writer::{CompressedFrame, GROUP_ENTRIES, SealedArchive, SealedWriter};
