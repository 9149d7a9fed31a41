//! All tests of the core, in one binary, so that it is linked once: a folder for each floor, and the house itself. A module tells in
//! its opening what it holds to account. Ground, disk and codecs have their tests beside the code.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test stops at the first thing that is not as it should be")]

mod formats;
mod landing;
mod layers;
mod source;
mod tasks;

#[path = "../support/mod.rs"]
mod support;
