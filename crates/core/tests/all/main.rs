//! All tests of the core, in one binary, so that it is linked once. A module tells in its opening what it holds to account.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test stops at the first thing that is not as it should be")]

mod authentic;
mod carriers;
mod choosing;
mod collecting;
mod deliveries;
mod format_page;
mod fuzz_seeds;
mod gathering;
mod hostile;
mod iso_reading;
mod landing;
mod layers;
mod parcels;
mod planning;
mod properties;
mod recut;
mod round_trip;
mod salvage;
mod selecting;
mod tar_reading;
mod tar_writing;
mod worked_example;
mod zip_reading;
mod zip_writing;

#[path = "../support/mod.rs"]
mod support;
