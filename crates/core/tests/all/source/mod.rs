//! What holds the floor of the sources to account.

mod choosing;
