//! What flows into the program while it runs: standard input and other descriptors that are open already. Each is read once, by
//! whoever claims it first: a password, a list of paths, or what is packed.

use crate::failure::{BadValue, Failure};
use crate::signals;
use crate::system::inflow;
use std::collections::BTreeSet;
use std::fs::File;
use std::io::{self, IsTerminal as _, Read};
use std::sync::{Mutex, PoisonError};

pub use inflow::descriptor_path;

/// The number of its descriptor (POSIX.1-2024, `STDIN_FILENO`).
const STANDARD_INPUT_NUMBER: u32 = 0;

/// The descriptors that are read already.
static CLAIMED: Mutex<BTreeSet<u32>> = Mutex::new(BTreeSet::new());

/// Standard input, which something is piped into.
///
/// # Errors
/// [`BadValue::NothingPiped`] where it is a terminal, and [`BadValue::ReadTwice`] where it is read already.
pub fn standard_input() -> Result<io::Result<File>, Failure> {
    if io::stdin().is_terminal() {
        return Err(Failure::Value(BadValue::NothingPiped));
    }
    claim(STANDARD_INPUT_NUMBER)?;
    Ok(inflow::standard_input())
}

/// The descriptor of this number.
///
/// # Errors
/// [`BadValue::ReadTwice`] where it is read already; what the system says where it is not open.
pub fn descriptor(number: u32) -> Result<io::Result<File>, Failure> {
    claim(number)?;
    Ok(inflow::descriptor(number))
}

/// What comes from here, which is waited for no longer than the user wishes: where the work is to stop, it ends.
pub fn stoppable(from: File) -> impl Read + Send {
    inflow::Stoppable::new(from, signals::is_stopping)
}

fn claim(number: u32) -> Result<(), Failure> {
    let is_first = CLAIMED.lock().unwrap_or_else(PoisonError::into_inner).insert(number);
    if is_first { Ok(()) } else { Err(Failure::Value(BadValue::ReadTwice)) }
}
