//! Gathering: from the paths that a sender names to a catalogue of everything to pack, in archive order.
//!
//! [`choice`] says what is wanted; the roots turn typed paths into places to begin at; [`catalogue`] walks and lists
//! without reading any content; [`reading`] reads one file and notices when it changes meanwhile; [`feed`] hands all of them to a writer; [`piped`] has them come out of an archive instead, and a [`StreamSource`] from whoever writes into it; [`text_names`] says what
//! happens to names that are not text in formats that need text.
//!
//! A newcomer may add a way to choose here, or something that is noticed on the walk; no archive is known to this floor.

pub mod catalogue;
pub mod choice;
mod entry;
mod error;
mod extras;
pub mod feed;
pub mod piped;
pub mod reading;
mod roots;
mod stream;
pub mod text_names;

pub use catalogue::Catalogue;
pub use choice::{Choice, Naming, PatternError, Patterns};
pub use entry::{FileNumber, Origin, SourceEntry};
pub use error::{PassedOver, PassedOverReason, SourceError};
pub use extras::{Extras, WithAttributes};
pub use reading::SourceFile;
pub use roots::{expand, matching};
pub use stream::{STREAM_PATH, StreamSource};
pub use text_names::{TextNames, UnsafeNames};
