//! Windows. [`super::unix`] has the same functions.

pub mod inflow;
pub mod outflow;
pub mod privacy;
pub mod programs;
pub mod signals;
pub mod terminal;
