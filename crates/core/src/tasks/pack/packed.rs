//! What came of a delivery: the finished volumes, and what the sender is told of the sources.

use super::kinds::KindWeight;
use crate::formats::sealed::volume::in_page::InPage;
use crate::formats::sealed::volume::{Ids, header_of};
use crate::ground::entry::{EntryPath, Totals, link_stays_inside};
use crate::source::feed::FilledUp;
use crate::source::{Catalogue, Extras, PassedOver, SourceEntry};
use std::collections::BTreeMap;
use std::path::PathBuf;

/// A finished volume.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PackedVolume {
    /// Where it is.
    pub path: PathBuf,
    /// The file's length.
    pub bytes: u64,
    /// Where the volume is in a page, if it is in one.
    pub in_page: Option<InPage>,
    /// Its set; parcels are a set each. Only the sealed format has sets.
    pub ids: Option<Ids>,
    /// What its set holds.
    pub totals: Totals,
}

/// A finished, verified delivery.
#[derive(Debug)]
pub struct Packed {
    /// Whether each volume is a parcel, which opens alone.
    pub parcels: bool,
    /// What was packed.
    pub totals: Totals,
    /// What was read back from the finished volumes and verified.
    pub verified: Totals,
    /// The volumes in order.
    pub volumes: Vec<PackedVolume>,
    /// The spare volumes in order, and their lengths in bytes.
    pub spares: Vec<(PathBuf, u64)>,
    /// Old volumes that were replaced: where they were, and their bytes.
    pub replaced: Vec<(PathBuf, u64)>,
    /// Files of such names that were not recognised, and stay.
    pub not_replaced: Vec<PathBuf>,
    /// What could not be packed.
    pub passed_over: Vec<PassedOver>,
    /// Kinds of files, heaviest first, with what squeezing leaves of each; none where nothing was squeezed.
    pub kinds: Vec<KindWeight>,
    /// What was not to be packed.
    pub left_out: LeftOut,
    /// Files that changed while they were read, twice.
    pub changed: Vec<EntryPath>,
    /// Files of which the archive holds less than they had at first, the rest being zeros; only tar has such.
    pub filled_up: Vec<FilledUp>,
    /// Links that an opening will not make, because they could lead outside.
    pub outward_links: Vec<EntryPath>,
    /// Sources that are volumes of a sealed archive, of which others were not named.
    pub lone_volumes: Vec<LoneVolume>,
    /// Names that are no text, and the paths under which they stand in the archive for that.
    pub escaped_names: Vec<(EntryPath, EntryPath)>,
    /// What files were found to have beside their content.
    pub extras: Extras,
    /// Whether extended attributes were packed.
    pub packs_attributes: bool,
}

impl Packed {
    /// What was written in all, spare volumes too, in bytes.
    pub fn bytes(&self) -> u64 {
        self.volumes.iter().map(|volume| volume.bytes).chain(self.spares.iter().map(|(_, bytes)| *bytes)).sum()
    }
}

/// A source that is one of several volumes of a sealed archive.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LoneVolume {
    /// Where it is, as it was typed.
    pub path: PathBuf,
    /// Its number.
    pub number: u32,
    /// How many volumes there are.
    pub count: u32,
}

/// What the sender's choice left out.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct LeftOut {
    /// How many files, links and whole folders, by patterns or as litter.
    pub chosen: u64,
    /// Folders on other file systems.
    pub other_systems: Vec<EntryPath>,
    /// Files of this archive's own name, so that it is not packed into itself.
    pub own_output: u64,
    /// Patterns that matched nothing, as they were written.
    pub unmatched: Vec<String>,
    /// What has a name that is no text, without what lies below it.
    pub not_text: Vec<EntryPath>,
}

/// The sources that are volumes of sets of which not all volumes are among the sources.
pub fn lone_volumes(sources: &[PathBuf]) -> Vec<LoneVolume> {
    let mut sets: BTreeMap<Ids, Vec<LoneVolume>> = BTreeMap::new();
    for path in sources.iter().filter(|path| path.is_file()) {
        // What cannot be read is told when it is packed.
        if let Ok(Some(header)) = header_of(path) {
            let volume = LoneVolume { path: path.clone(), number: header.number, count: header.geometry.data_volumes };
            sets.entry(header.ids).or_default().push(volume);
        }
    }
    let incomplete = |volumes: &Vec<LoneVolume>| volumes.first().is_some_and(|one| volumes.len() < one.count as usize);
    sets.into_values().filter(incomplete).flatten().collect()
}

/// The links that an opening will not make, since they lead outside what is packed.
pub fn outward_links(catalogue: &Catalogue) -> Vec<EntryPath> {
    let outward = |entry: &&SourceEntry| !link_stays_inside(&entry.path, &entry.link_target);
    catalogue.entries.iter().filter(outward).map(|entry| entry.path.clone()).collect()
}

/// What the sender is told of a catalogue, when it is not needed any more: links that lead outside, what was left out, and
/// what could not be read.
pub(super) fn summary_of(catalogue: Catalogue) -> (Vec<EntryPath>, LeftOut, Vec<PassedOver>) {
    let outward_links = outward_links(&catalogue);
    let left_out = LeftOut {
        chosen: catalogue.left_out,
        other_systems: catalogue.other_systems,
        own_output: catalogue.own_output,
        unmatched: catalogue.unmatched,
        not_text: catalogue.not_text,
    };
    (outward_links, left_out, catalogue.passed_over)
}
