//! What holds the tasks to account: whole pieces of work, from beginning to end.

mod carriers;
mod collecting;
mod deliveries;
mod parcels;
mod planning;
mod reading_back;
mod recut;
mod revising;
mod round_trip;
mod spares;
mod tar_writing;
mod zip_writing;
