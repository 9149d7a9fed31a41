//! Ordered parallel work with bounded memory: one thread produces jobs, several work on them, and the calling
//! thread takes the results in the order of the jobs.
//!
//! For each job the producer first queues a one-place reply channel, then the job itself, so order is fixed before
//! any work begins. Both queues are bounded; whoever stops drops its end, and that ends everybody.

use crossbeam_channel::{Receiver, Sender, bounded};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::thread;

/// Jobs that wait or are worked on, for each worker.
const JOBS_AHEAD: usize = 2;

/// The stack of each thread, in bytes.
const STACK: usize = 2 << 20;

/// So many bytes of memory must be there beside the stacks of all threads before one is started.
const LEFT_FOR_OTHERS: usize = 8 << 20;

/// Why nothing more is produced.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Stopped {
    /// The consuming side has stopped: nothing more is wanted.
    #[error("the work was stopped")]
    Unwanted,
    /// The system gives no memory for what comes next.
    #[error("there is too little memory")]
    NoMemory,
}

/// A new buffer with room for so many bytes, of which there may be too many.
pub fn room(bytes: usize) -> Result<Vec<u8>, Stopped> {
    let mut buffer = Vec::new();
    buffer.try_reserve_exact(bytes).map_err(|_| Stopped::NoMemory)?;
    Ok(buffer)
}

/// The producer's end.
pub struct Jobs<J, R> {
    order: Sender<Receiver<R>>,
    jobs: Sender<(J, Sender<R>)>,
}

impl<J, R> Jobs<J, R> {
    /// Hands a job over; waits while too many are under way.
    ///
    /// # Errors
    /// [`Stopped::Unwanted`] where nobody takes results any more.
    pub fn submit(&self, job: J) -> Result<(), Stopped> {
        let (reply, result) = bounded(1);
        self.order.send(result).map_err(|_| Stopped::Unwanted)?;
        self.jobs.send((job, reply)).map_err(|_| Stopped::Unwanted)
    }
}

/// The system does not give as many threads as are wanted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the system gave {0} threads and no more")]
pub struct NoThreads(pub usize);

/// The most threads, of so many, for whose stacks there is memory. That is asked before the first is started: what
/// threads ask for while others take the last of it cannot be refused, and the process would end without a word.
fn threads_with_room(wanted: usize) -> usize {
    let fits = |threads: &usize| room(threads * STACK + LEFT_FOR_OTHERS).is_ok();
    (0..=wanted).rev().find(fits).unwrap_or(0)
}

/// Runs `produce` on one thread, a worker made by `make_worker` on each of `threads` others, and `consume` on this one.
/// Gives back what the producer and the consumer came to; where both failed, the consumer's failure came first.
///
/// # Errors
/// [`NoThreads`]; nothing was produced then.
pub fn ordered<J: Send, R: Send, T: Send, E, W: FnMut(J) -> R>(
    threads: usize,
    produce: impl FnOnce(&Jobs<J, R>) -> T + Send,
    make_worker: impl Fn() -> W + Sync,
    mut consume: impl FnMut(R) -> Result<(), E>,
) -> Result<(T, Result<(), E>), NoThreads> {
    let threads = threads.max(1);
    let given = threads_with_room(threads + 1).saturating_sub(1);
    if given < threads {
        return Err(NoThreads(given));
    }
    let (order_in, order_out) = bounded::<Receiver<R>>(threads * JOBS_AHEAD);
    let (jobs_in, jobs_out) = bounded::<(J, Sender<R>)>(threads * JOBS_AHEAD);
    thread::scope(|scope| {
        for started in 0..threads {
            let (jobs, make_worker) = (jobs_out.clone(), &make_worker);
            let worker = move || {
                // What a worker needs is made for its first job, so that threads without a job take nothing.
                let mut made = None;
                for (job, reply) in jobs {
                    // A consumer that stopped has dropped the other end; the job is then for nobody.
                    let _ = reply.send(made.get_or_insert_with(make_worker)(job));
                }
            };
            thread::Builder::new().stack_size(STACK).spawn_scoped(scope, worker).map_err(|_| NoThreads(started))?;
        }
        drop(jobs_out);
        let producer = move || produce(&Jobs { order: order_in, jobs: jobs_in });
        let producer =
            thread::Builder::new().stack_size(STACK).spawn_scoped(scope, producer).map_err(|_| NoThreads(threads))?;
        let mut consumed = Ok(());
        // A worker that panicked drops its reply unsent; its panic goes on when the scope ends.
        while let Ok(Ok(result)) = order_out.recv().map(|reply| reply.recv()) {
            consumed = consume(result);
            if consumed.is_err() {
                break;
            }
        }
        drop(order_out);
        match producer.join() {
            Ok(produced) => Ok((produced, consumed)),
            Err(panic) => std::panic::resume_unwind(panic),
        }
    })
}

/// Buffers that were used and can be used again: fresh memory for every job would cost a good part of the work. The one
/// that was given back last comes first, since the processor's caches still hold it.
pub struct Buffers {
    kept: Mutex<Vec<Vec<u8>>>,
    most: usize,
}

impl Buffers {
    /// Keeps as many buffers as a pipeline of so many threads has under way.
    pub fn new(threads: usize) -> Self {
        Self { kept: Mutex::default(), most: 2 * JOBS_AHEAD * threads.max(1) }
    }

    fn kept(&self) -> MutexGuard<'_, Vec<Vec<u8>>> {
        self.kept.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A buffer, with whatever was left in it; a new and empty one where there is none.
    pub fn take(&self) -> Vec<u8> {
        self.kept().pop().unwrap_or_default()
    }

    /// An empty buffer with room for so many bytes.
    pub fn take_with_room(&self, bytes: usize) -> Result<Vec<u8>, Stopped> {
        let mut buffer = self.take();
        buffer.clear();
        buffer.try_reserve(bytes).map_err(|_| Stopped::NoMemory)?;
        Ok(buffer)
    }

    /// Gives a buffer back. One more than are kept is freed.
    pub fn give(&self, buffer: Vec<u8>) {
        let mut kept = self.kept();
        if kept.len() < self.most {
            kept.push(buffer);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::time::Duration;

    /// Jobs whose work takes longer the earlier they come.
    fn slow_first(job: u64) -> u64 {
        thread::sleep(Duration::from_micros(400 / (job + 1)));
        job
    }

    #[rstest]
    fn results_come_in_the_order_of_the_jobs(#[values(0, 1, 2, 7)] threads: usize) {
        let mut taken = Vec::new();
        let (produced, consumed) = ordered(
            threads,
            |jobs| (0..200).try_for_each(|job| jobs.submit(job)),
            || slow_first,
            |result| {
                taken.push(result);
                Ok::<(), ()>(())
            },
        )
        .unwrap();
        assert_eq!((produced, consumed), (Ok(()), Ok(())));
        assert!(taken.into_iter().eq(0..200));
    }

    #[rstest]
    fn a_consumer_that_fails_stops_everybody(#[values(1, 3)] threads: usize) {
        let (produced, consumed) = ordered(
            threads,
            |jobs| (0..).try_for_each(|job| jobs.submit(job)),
            || slow_first,
            |result| if result == 5 { Err("enough") } else { Ok(()) },
        )
        .unwrap();
        assert_eq!((produced, consumed), (Err(Stopped::Unwanted), Err("enough")));
    }

    #[test]
    fn a_producer_that_fails_ends_the_work_after_what_it_had_submitted() {
        let mut taken = 0;
        let (produced, consumed) = ordered(
            2,
            |jobs| {
                jobs.submit(1).and_then(|()| jobs.submit(2)).map_err(|_| "stopped")?;
                Err::<(), _>("source gone")
            },
            || slow_first,
            |_| {
                taken += 1;
                Ok::<(), ()>(())
            },
        )
        .unwrap();
        assert_eq!((produced, consumed, taken), (Err("source gone"), Ok(()), 2));
    }
}
