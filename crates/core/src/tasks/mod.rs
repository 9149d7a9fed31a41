//! Tasks: what people do, a room for each command, called like it. Each says in one function what is done from beginning to end.
//!
//! To send: [`plan`], [`pack`], [`rehearse`], [`handover`], [`resend`]. To receive: [`check`], [`list`], [`open`], [`receipt`]. To look
//! after an archive: [`compare`], [`recast`]. For plain files: [`portion`], [`reunite`].

pub mod check;
pub mod compare;
pub mod handover;
pub mod list;
pub mod open;
pub mod pack;
pub mod plan;
pub mod portion;
pub mod recast;
pub mod receipt;
pub mod rehearse;
pub mod resend;
pub mod reunite;
