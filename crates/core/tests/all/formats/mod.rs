//! What holds the floor of the formats to account: reading what is whole, damaged or hostile, and the promises of our own.

mod authentic;
mod cpio_reading;
mod format_page;
mod fuzz_seeds;
mod gathering;
mod hostile;
mod in_page;
mod iso_reading;
mod messages;
mod properties;
mod salvage;
mod selecting;
mod tar_reading;
mod worked_example;
mod zip_reading;
