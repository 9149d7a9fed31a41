//! What an interrupted run left beside a target is completed or cleared by the next one, where it proves to be this user's.

use super::own_folder::{OwnFolder, StagingError, folder_name};
use super::steps::Steps;
use crate::disk::Folder;
use crate::ground::context::Context;
use std::ffi::OsStr;

/// What an earlier, interrupted run had left.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Leftover {
    /// Nothing.
    None,
    /// Unverified files, now removed.
    Cleared,
    /// A verified set in the middle of being placed, now completely placed.
    Completed,
}

/// Completes or clears what an earlier, interrupted run left in the staging folder of this stem.
///
/// # Errors
/// [`StagingError`]; what no run of this user has provably made is never touched.
pub fn settle(target: &Folder, stem: &OsStr, context: &Context<'_>) -> Result<Leftover, StagingError> {
    let name = folder_name(stem);
    let in_the_way = || StagingError::InTheWay(target.path().join(&name));
    match target.kind_of(&name)? {
        None => return Ok(Leftover::None),
        Some(kind) if kind.is_dir() => {}
        Some(_) => return Err(in_the_way()),
    }
    let folder = target.subfolder(&name)?;
    let names = folder.names()?;
    if names.is_empty() {
        // A run was killed before it had locked the folder; there is nothing to lose.
        target.remove_subfolder(&name)?;
        return Ok(Leftover::Cleared);
    }
    let is_only_mine = folder.is_only_mine()?;
    let own = OwnFolder { target: target.itself()?, stem: stem.to_owned(), folder, key: (context.owner_key)() };
    let lock = own.lock_name()?;
    if !is_only_mine || !names.contains(&lock) {
        return Err(in_the_way());
    }
    let held = own.lock()?;
    let steps = Steps::read(&own)?;
    for name in &names {
        if !own.may_be_cleared(name, &lock, steps.as_ref())? {
            return Err(in_the_way());
        }
    }
    let leftover = match &steps {
        Some(steps) => {
            steps.carry_out(&own)?;
            Leftover::Completed
        }
        None => Leftover::Cleared,
    };
    own.clear(steps.as_ref(), Some(held))?;
    Ok(leftover)
}
