//! How content is arranged in frames: what is of one kind stands together where that pays, and no frame is so large beside a
//! volume that a lost one takes much more with it than it holds.

use super::kinds::{KindWeight, extension};
use crate::codecs::block::Squeeze;
use crate::codecs::lzma::Filter;
use crate::formats::sealed::{Class, Expected, FrameRoom, GROUP_ENTRIES};
use crate::ground::entry::{EntryKind, EntryPath};
use crate::source::SourceEntry;
use std::collections::HashMap;

/// A frame comes to no more than one part in so many of a volume. Shorter ones cost more bytes than they save of what a lost
/// volume takes (docs/limits.md).
const FRAMES_A_VOLUME: u64 = 2;

/// Frames are not made shorter than this, in bytes, however small a volume is.
const MIN_FRAME_BYTES: u64 = 16 * 1024;

/// How large frames get, where a volume has at most so many bytes.
pub fn frame_room(squeeze: Squeeze, volume_limit: Option<u64>) -> FrameRoom {
    let stored = volume_limit.map(|limit| (limit / FRAMES_A_VOLUME).max(MIN_FRAME_BYTES));
    let stored_bytes = stored.map_or(usize::MAX, |stored| usize::try_from(stored).unwrap_or(usize::MAX));
    FrameRoom { raw_bytes: squeeze.block_bytes(), stored_bytes, aligned: squeeze.is_slow() }
}

/// What is expected of files before they are read, by their kinds.
pub struct Outlook<'a> {
    squeeze: Squeeze,
    kinds: HashMap<&'a str, (f64, Class)>,
}

/// From this share on, compressing leaves about all of a file.
const INCOMPRESSIBLE: f64 = 0.98;

impl<'a> Outlook<'a> {
    /// For a squeeze, from samples of each kind.
    pub fn new(squeeze: Squeeze, kinds: &'a [KindWeight]) -> Self {
        let class = |kind: &KindWeight| match kind.filter {
            Filter::None if kind.kept > INCOMPRESSIBLE => Class::Incompressible,
            filter => Class::Behind(filter),
        };
        Self { squeeze, kinds: kinds.iter().map(|kind| (kind.extension.as_str(), (kind.kept, class(kind)))).collect() }
    }

    /// The order in which entries go into an archive, from theirs by path. The slow squeezes gain by files of one kind beside
    /// each other. Folders come first, so that each is made before what is in it.
    pub fn in_order<'b>(&self, entries: &[&'b SourceEntry]) -> Vec<&'b SourceEntry> {
        let mut order = entries.to_vec();
        if self.squeeze.is_slow() {
            for group in order.chunks_mut(GROUP_ENTRIES as usize) {
                group.sort_by_cached_key(|entry| {
                    let is_file = entry.kind == EntryKind::File;
                    let name = || entry.path.parent_and_name().1.to_vec();
                    is_file.then(|| (self.of(&entry.path).1, extension(&entry.path), name()))
                });
            }
        }
        order
    }

    /// The share that squeezing leaves of a file, 0 to 1.
    pub fn kept(&self, path: &EntryPath) -> f64 {
        self.of(path).0
    }

    fn of(&self, path: &EntryPath) -> (f64, Class) {
        self.kinds.get(extension(path).as_str()).copied().unwrap_or((1.0, Class::Behind(Filter::None)))
    }

    /// What an entry is expected to come to.
    pub(super) fn expected(&self, entry: &SourceEntry) -> Expected {
        let (kept, class) = self.of(&entry.path);
        let class = if self.squeeze.is_slow() { class } else { Class::Any };
        Expected { bytes: entry.stored_bytes(), kept, class, in_units: false }
    }
}
