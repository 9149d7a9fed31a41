//! Many things in another order than that in which they can be read, without room for all of them: they are read again and again, and
//! each time those that come next are kept, a run of them.

use std::cmp::Ordering;
use std::collections::BinaryHeap;
use std::vec;

/// What a run may take, in bytes.
pub const RUN_BYTES: usize = 32 * 1024 * 1024;

/// Things in the order of their keys, of which no two are equal. `read` gives all of them in any order, and the same each time.
pub struct Runs<K, T, R> {
    read: R,
    held_by: fn(&T) -> usize,
    room: usize,
    after: Option<K>,
    run: vec::IntoIter<Keyed<K, T>>,
    is_over: bool,
}

impl<K, T, R, I, E> Runs<K, T, R>
where
    K: Ord + Clone,
    R: FnMut() -> I,
    I: Iterator<Item = Result<(K, T), E>>,
{
    /// Runs of at most `room` bytes, and of at least one thing. `held_by` is what a thing takes beside its own size.
    pub fn new(read: R, held_by: fn(&T) -> usize, room: usize) -> Self {
        Self { read, held_by, room, after: None, run: Vec::new().into_iter(), is_over: false }
    }

    /// What keeps things has room for twice as many while it grows.
    fn bytes_of(&self, thing: &T) -> usize {
        2 * size_of::<Keyed<K, T>>() + (self.held_by)(thing)
    }

    /// Reads everything, and keeps the next run.
    fn read_run(&mut self) -> Result<(), E> {
        let mut kept: BinaryHeap<Keyed<K, T>> = BinaryHeap::new();
        let (mut bytes, mut first_left_out) = (0, None);
        for item in (self.read)() {
            let (key, thing) = item?;
            let is_before = self.after.as_ref().is_some_and(|after| key <= *after);
            if is_before || first_left_out.as_ref().is_some_and(|first| key > *first) {
                continue;
            }
            bytes += self.bytes_of(&thing);
            kept.push(Keyed(key, thing));
            while bytes > self.room
                && kept.len() > 1
                && let Some(Keyed(key, thing)) = kept.pop()
            {
                bytes -= self.bytes_of(&thing);
                first_left_out = Some(key);
            }
        }
        self.is_over = first_left_out.is_none();
        self.run = kept.into_sorted_vec().into_iter();
        Ok(())
    }
}

impl<K, T, R, I, E> Iterator for Runs<K, T, R>
where
    K: Ord + Clone,
    R: FnMut() -> I,
    I: Iterator<Item = Result<(K, T), E>>,
{
    type Item = Result<T, E>;

    fn next(&mut self) -> Option<Self::Item> {
        if self.run.len() == 0 && !self.is_over {
            // What cannot be read now is not read on.
            self.is_over = true;
            if let Err(error) = self.read_run() {
                return Some(Err(error));
            }
        }
        let Keyed(key, thing) = self.run.next()?;
        if self.run.len() == 0 {
            self.after = Some(key);
        }
        Some(Ok(thing))
    }
}

/// Compared by its key alone.
struct Keyed<K, T>(K, T);

impl<K: Ord, T> Ord for Keyed<K, T> {
    fn cmp(&self, other: &Self) -> Ordering {
        self.0.cmp(&other.0)
    }
}

impl<K: Ord, T> PartialOrd for Keyed<K, T> {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl<K: Ord, T> PartialEq for Keyed<K, T> {
    fn eq(&self, other: &Self) -> bool {
        self.0 == other.0
    }
}

impl<K: Ord, T> Eq for Keyed<K, T> {}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeSet;

    /// What a number and its key take, with one byte more.
    const EACH: usize = 2 * size_of::<Keyed<u16, u16>>() + 1;

    proptest! {
        /// With room for so many, and some bytes more that are too few for another.
        #[test]
        fn all_come_in_order_and_are_read_once_for_each_run(
            keys: BTreeSet<u16>,
            turn: prop::sample::Index,
            at_once in 1_usize..7,
            more in 0..EACH,
        ) {
            let mut all: Vec<u16> = keys.iter().rev().copied().collect();
            let turn = if all.is_empty() { 0 } else { turn.index(all.len()) };
            all.rotate_left(turn);
            let mut times = 0;
            let read = || {
                times += 1;
                all.iter().map(|key| Ok::<_, ()>((*key, *key)))
            };
            let runs = Runs::new(read, |_| 1, at_once * EACH + more);
            prop_assert!(runs.map(Result::unwrap).eq(keys));
            prop_assert_eq!(times, all.len().div_ceil(at_once).max(1));
        }
    }

    #[test]
    fn what_has_no_room_comes_alone() {
        let runs = Runs::new(|| [2, 3, 1].into_iter().map(|key| Ok::<_, ()>((key, key))), |_| 9, 0);
        assert_eq!(runs.collect::<Result<Vec<_>, ()>>(), Ok(vec![1, 2, 3]));
    }

    #[test]
    fn an_error_comes_out_and_nothing_behind_it() {
        let mut runs = Runs::new(|| [Ok((1, 1)), Err("gone")].into_iter(), |_| 1, 9);
        assert_eq!((runs.next(), runs.next()), (Some(Err("gone")), None));
    }
}
