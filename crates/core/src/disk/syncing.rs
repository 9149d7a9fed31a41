//! Waiting until the disk holds many files or folders: several at a time, so that the file system commits them together, and
//! these only. Whatever other programs have written meanwhile is not waited for.

use super::{FileError, NewFile, OpenFolder};
use crossbeam_channel::bounded;
use std::thread;

/// So many are waited for at once. File systems commit together what is waited for together; more threads gain little.
const THREADS: usize = 16;

/// Fewer than this are waited for one by one.
const FEW: usize = 32;

/// Something that the disk is to hold.
#[derive(Debug)]
pub enum ToSync {
    /// A file, which is closed then.
    File(NewFile),
    /// A folder: its list of names, its mode and time.
    Folder(OpenFolder),
}

impl ToSync {
    fn sync(self) -> Result<(), FileError> {
        match self {
            Self::File(file) => {
                file.sync()?;
                file.close()
            }
            Self::Folder(folder) => folder.sync(),
        }
    }
}

/// Waits until the disk holds each of about `count` things; `next` opens one after the other, on this thread, until none is left.
///
/// # Errors
/// The first [`FileError`] that is heard of; of the others it is not known then whether the disk holds them.
pub fn sync_all(count: usize, next: impl FnMut() -> Option<Result<ToSync, FileError>>) -> Result<(), FileError> {
    let mut things = std::iter::from_fn(next);
    if count < FEW {
        return things.try_for_each(|thing| thing?.sync());
    }
    thread::scope(|scope| {
        let (give, take) = bounded::<ToSync>(THREADS);
        let mut workers = Vec::new();
        for _ in 0..THREADS {
            let take = take.clone();
            // With fewer threads it takes longer, and without any it is done here.
            workers.extend(
                thread::Builder::new().spawn_scoped(scope, move || take.iter().try_for_each(ToSync::sync)).ok(),
            );
        }
        drop(take);
        let mut outcome = Ok(());
        for thing in things {
            outcome = thing.and_then(|thing| match workers.is_empty() {
                true => thing.sync(),
                // Nobody takes it where every worker has failed; what each failed with is heard of below.
                false => give.send(thing).or(Ok(())),
            });
            if outcome.is_err() {
                break;
            }
        }
        drop(give);
        for worker in workers {
            let finished = worker.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
            outcome = outcome.and(finished);
        }
        outcome
    })
}
