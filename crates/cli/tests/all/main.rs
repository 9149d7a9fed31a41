//! All tests of the program, run as it is built, in one binary, so that it is linked once. A module tells in its opening what it holds to account.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test stops at the first thing that is not as it should be")]

mod arriving;
mod changes;
mod documents;
mod extras;
mod finding;
mod formats;
// Played through a pseudo-terminal of Unix, as is `terminal`.
#[cfg(unix)]
mod guiding;
mod handing;
mod keeping;
mod looking;
mod pieces;
mod planning;
mod proving;
mod recasting;
mod revising;
mod sending;
mod spares;
mod story;
mod streaming;
mod suggesting;
mod taking;
#[cfg(unix)]
mod terminal;
mod trouble;

#[path = "../support/mod.rs"]
mod support;
