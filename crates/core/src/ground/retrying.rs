//! System calls that a signal interrupts are begun again.

use std::io;

/// Does it until no signal interrupts it.
pub fn uninterrupted<T>(mut attempt: impl FnMut() -> io::Result<T>) -> io::Result<T> {
    loop {
        match attempt() {
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            outcome => return outcome,
        }
    }
}
