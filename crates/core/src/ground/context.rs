//! Everything the computation needs from outside: who watches, whether to stop, randomness, the clock, the
//! user's own key and the number of threads.
//!
//! The caller hands one [`Context`] over, so tests can fix what comes in, and the core itself reads no
//! environment and knows no terminal.

use crate::ground::entry::{EntryPath, Timestamp};
use crate::ground::ownership::OwnerKey;

/// A long piece of work whose progress is told.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Phase {
    /// Compressing samples of what may be packed; counts bytes of them.
    Sampling,
    /// Compressing files to learn how much each takes; counts content bytes.
    Weighing,
    /// Reading sources, sealing and writing volumes; counts content bytes.
    Packing,
    /// Making spare volumes; counts bytes of the data volumes.
    Sparing,
    /// Recreating volumes; counts their bytes.
    Mending,
    /// Reading finished volumes back and verifying them; counts content bytes.
    Verifying,
    /// Checking volumes without the password; counts volume bytes.
    Inspecting,
    /// Extracting; counts content bytes.
    Opening,
    /// Comparing files on disk with an archive; counts bytes of the files.
    Comparing,
    /// Having volumes carried to a recipient that is played; counts volume bytes.
    Delivering,
    /// Cutting a file into plain pieces and reading them back; counts each byte twice.
    Portioning,
    /// Looking through messages for what is attached to them; counts bytes of the messages' files.
    Searching,
    /// Joining plain pieces and reading the whole back; counts each byte twice.
    Reuniting,
}

/// What an [`Observer`] is told, in the order in which it happens.
#[derive(Debug)]
pub enum Progress<'a> {
    /// A phase begins; this many bytes are expected.
    Begin(Phase, u64),
    /// This many more bytes are done.
    Advance(u64),
    /// So many bytes of the archive's stream are written in all, for so many before compression.
    Written {
        /// Bytes of the stream.
        stream: u64,
        /// Bytes before compression.
        raw: u64,
    },
    /// The entry that is being worked on.
    Entry(&'a EntryPath),
    /// The volume (from 1) that is being written or read.
    Volume(u32),
    /// The phase is over.
    End,
    /// Everything is written, and nothing has its name: it is read back next.
    Staged,
}

/// Told how far the work is, from several threads. Calls are frequent; an observer limits its own drawing.
pub trait Observer: Sync {
    /// One step of progress.
    fn told(&self, progress: Progress<'_>);
}

/// Work whose progress is told by other work.
struct Unwatched;

impl Observer for Unwatched {
    fn told(&self, _: Progress<'_>) {}
}

/// A source of random bytes; a failure ends the work.
pub trait Randomness: Sync {
    /// Fills the whole buffer.
    ///
    /// # Errors
    /// [`NoRandomness`] where the system has none to give.
    fn fill(&self, buffer: &mut [u8]) -> Result<(), NoRandomness>;
}

/// The system gave no random bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the system gave no random bytes")]
pub struct NoRandomness;

/// The user asked to stop.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("cancelled")]
pub struct Cancelled;

/// The caller's half of the work.
#[derive(Clone, Copy)]
pub struct Context<'a> {
    /// Told about progress.
    pub observer: &'a dyn Observer,
    /// Answers whether the user wants to stop.
    pub cancel: &'a (dyn Fn() -> bool + Sync),
    /// Random bytes fit for keys.
    pub randomness: &'a dyn Randomness,
    /// The current time.
    pub clock: &'a (dyn Fn() -> Timestamp + Sync),
    /// By what unfinished work that lies on disk is known as this user's own.
    pub owner_key: &'a (dyn Fn() -> OwnerKey + Sync),
    /// How many threads compress or decompress; at least one does. What is written is the same for any number.
    pub threads: usize,
}

impl Context<'_> {
    /// Goes on, or stops if the user asked for it.
    pub fn go_on(&self) -> Result<(), Cancelled> {
        if (self.cancel)() { Err(Cancelled) } else { Ok(()) }
    }

    /// The same, while nobody is told how far the work is: other work tells that.
    pub fn unwatched(&self) -> Context<'_> {
        Context { observer: &Unwatched, ..*self }
    }

    /// Tells the observer.
    pub fn tell(&self, progress: Progress<'_>) {
        self.observer.told(progress);
    }

    /// An array of random bytes.
    pub fn random<const N: usize>(&self) -> Result<[u8; N], NoRandomness> {
        let mut bytes = [0; N];
        self.randomness.fill(&mut bytes)?;
        Ok(bytes)
    }
}

/// A context for tests of the core itself.
#[cfg(test)]
pub(crate) mod for_tests {
    use super::{Context, NoRandomness, Observer, Progress, Randomness};
    use crate::ground::entry::Timestamp;
    use crate::ground::ownership::OwnerKey;
    use std::sync::atomic::{AtomicU8, Ordering};

    /// Sees nothing; what it gives for chance differs from one time to the next.
    struct Counting(AtomicU8);

    impl Observer for Counting {
        fn told(&self, _: Progress<'_>) {}
    }

    impl Randomness for Counting {
        fn fill(&self, bytes: &mut [u8]) -> Result<(), NoRandomness> {
            bytes.fill(self.0.fetch_add(1, Ordering::Relaxed));
            Ok(())
        }
    }

    /// Works where nobody watches, nothing is cancelled, and all that comes from outside is fixed.
    pub(crate) fn in_context<T>(work: impl FnOnce(&Context<'_>) -> T) -> T {
        let (outside, owner_key) = (Counting(AtomicU8::new(0)), &|| OwnerKey::new(&[7; 32]));
        let (cancel, clock, threads) = (&|| false, &Timestamp::default, 1);
        work(&Context { observer: &outside, cancel, randomness: &outside, clock, owner_key, threads })
    }
}
