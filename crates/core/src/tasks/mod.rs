//! Tasks: what people do, a room for each command, called like it. Each says in one function what is done from beginning to end.
//!
//! To send: [`plan`], [`pack`], [`rehearse`], [`handover`], [`page`], [`resend`], [`confirm`]. To receive: [`check`], [`list`], [`open`], [`receipt`]. To look
//! after an archive: [`compare`], [`revise`], [`relock`], [`recast`], [`mend`]. For plain files: [`portion`], [`reunite`].
//!
//! A newcomer with a new command makes a room here, called like it, and one in the program's `commands`; a task asks a format's row in
//! [`formats::registry`](crate::formats::registry) for abilities, and never compares names of formats.

pub mod check;
pub mod compare;
pub mod confirm;
pub mod handover;
pub mod in_place;
pub mod list;
pub mod mend;
pub mod open;
pub mod pack;
pub mod page;
pub mod plan;
pub mod portion;
pub mod recast;
pub mod receipt;
pub mod rehearse;
pub mod relock;
pub mod resend;
pub mod reunite;
pub mod revise;
