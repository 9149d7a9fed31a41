//! Making the disk fail on purpose: every change that is made to a disk passes one of the points here first.
//!
//! In ordinary builds the points do nothing. With the crate's feature `faults`, which only tests turn on, a plan says
//! which operation fails, or at which one the process dies as if the power had gone.

use super::FileAction;
use std::io;

#[cfg(not(feature = "faults"))]
mod points {
    use super::*;

    pub(in crate::disk) fn before(_: FileAction) -> io::Result<()> {
        Ok(())
    }

    pub(in crate::disk) fn before_writing(bytes: &[u8]) -> (&[u8], io::Result<()>) {
        (bytes, Ok(()))
    }
}

#[cfg(feature = "faults")]
mod points {
    use super::*;
    use std::sync::{Mutex, PoisonError};

    /// What happens at the chosen operation.
    #[derive(Debug, Clone, Copy, PartialEq, Eq)]
    pub enum Fault {
        /// The disk is full; of a write the first half still fits.
        Full,
        /// Input/output error.
        Broken,
        /// The process ends at once, before the operation.
        Death,
    }

    /// Operations so far, and which one is to fail how.
    struct Plan {
        operations: u64,
        fault: Option<(u64, Fault)>,
        only: Option<FileAction>,
    }

    static PLAN: Mutex<Plan> = Mutex::new(Plan { operations: 0, fault: None, only: None });

    /// Begins counting anew: the operation with this number (from 0) fails, counting only those of one kind if `only`
    /// says so. One fault happens once. Gives how many operations were counted before.
    pub fn plan(fault: Option<(u64, Fault)>, only: Option<FileAction>) -> u64 {
        let mut plan = PLAN.lock().unwrap_or_else(PoisonError::into_inner);
        std::mem::replace(&mut *plan, Plan { operations: 0, fault, only }).operations
    }

    fn next(action: FileAction) -> Option<Fault> {
        let mut plan = PLAN.lock().unwrap_or_else(PoisonError::into_inner);
        if plan.only.is_some_and(|only| only != action) {
            return None;
        }
        let number = plan.operations;
        plan.operations += 1;
        plan.fault.filter(|(at, _)| *at == number).map(|(_, fault)| fault)
    }

    fn outcome(fault: Option<Fault>) -> io::Result<()> {
        match fault {
            None => Ok(()),
            Some(Fault::Full) => Err(io::ErrorKind::StorageFull.into()),
            Some(Fault::Broken) => Err(io::Error::other("broken")),
            Some(Fault::Death) => std::process::abort(),
        }
    }

    pub(in crate::disk) fn before(action: FileAction) -> io::Result<()> {
        outcome(next(action))
    }

    /// The bytes that are still to be written, and what the system says then.
    pub(in crate::disk) fn before_writing(bytes: &[u8]) -> (&[u8], io::Result<()>) {
        let fault = next(FileAction::Write);
        match fault {
            None => (bytes, Ok(())),
            Some(_) => (&bytes[..bytes.len() / 2], outcome(fault)),
        }
    }
}

#[cfg(feature = "faults")]
pub use points::{Fault, plan};
pub(super) use points::{before, before_writing};
