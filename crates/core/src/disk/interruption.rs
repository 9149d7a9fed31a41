//! What can end any work that has to do with files: one type for all floors from here on up.

use super::FileError;
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::context::{Cancelled, NoRandomness};
use crate::ground::pipeline::{NoThreads, Stopped};

/// What can end any work that has to do with files.
#[derive(Debug, thiserror::Error)]
pub enum Interruption {
    /// The user asked to stop.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
    /// The system refused an operation on a file.
    #[error(transparent)]
    File(#[from] FileError),
    /// The system gave no random bytes.
    #[error(transparent)]
    NoRandomness(#[from] NoRandomness),
    /// The system gave too few threads.
    #[error(transparent)]
    NoThreads(#[from] NoThreads),
    /// There is too little memory, or nobody takes any more what the work comes to.
    #[error(transparent)]
    Stopped(#[from] Stopped),
}

impl Classed for Interruption {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Cancelled(_) => ErrorClass::Cancelled,
            Self::File(error) => error.class(),
            Self::NoRandomness(_) | Self::NoThreads(_) | Self::Stopped(_) => ErrorClass::System,
        }
    }
}

/// Lets `?` make these errors of whatever can interrupt any work: each has a variant `Interrupted` for that.
macro_rules! interruptible {
    ($($error:ty),+) => {$(
        impl<E: Into<$crate::disk::Interruption>> From<E> for $error {
            fn from(error: E) -> Self {
                Self::Interrupted(error.into())
            }
        }
    )+};
}

pub(crate) use interruptible;
