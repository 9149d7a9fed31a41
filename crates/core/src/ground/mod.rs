//! The ground: what every other floor stands on, and what knows no file and no format.
//!
//! [`size`] and [`fit`] are lengths as people give them; [`codes`], short codes that people read to each other. [`entry`] is what
//! a file, folder or link in any archive is, and the sink that receives entries: a path that could leave its destination cannot be
//! built. [`secrets`] are passwords and memory for them, [`passwords`] chooses one, [`ownership`] proves that a user's own run left
//! something on disk. [`context`] brings in whatever comes from outside, [`wire`] is a cursor over bytes that were read, [`retrying`] does again what a signal interrupts,
//! [`pipeline`] is ordered parallel work with bounded memory, and [`runs`] orders more than there is memory for.
//!
//! A newcomer may add to this floor whatever needs neither the disk nor a format; nothing here does anything that lasts.

pub mod attributes;
pub mod class;
pub mod codes;
pub mod context;
pub mod entry;
pub mod fit;
pub mod holes;
pub mod ownership;
pub mod passwords;
pub mod pipeline;
pub mod retrying;
pub mod runs;
pub mod secrets;
pub mod sink;
pub mod size;
pub mod wire;
