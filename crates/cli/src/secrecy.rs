//! A process that knows a password leaves no picture of its memory on the disk when it ends in a bad way, nor lets another
//! process of the user look into it.

use crate::system::privacy;
use std::sync::Once;

static CLOSED: Once = Once::new();

/// Closes the process, once, before a password or key comes into it. Where the system cannot do that, it goes on without.
pub fn close_memory() {
    CLOSED.call_once(privacy::close_memory);
}
