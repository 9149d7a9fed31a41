//! What holds landing to account, beside the sweeps over failing disks in crash.rs.

mod meddling;
mod names;
