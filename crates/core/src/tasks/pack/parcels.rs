//! Parcels: what is packed, divided among several archives that each open alone and keep within one limit, no file cut.
//!
//! What each file takes is found by compressing it (see the module of weighing). Then whole folders are put together as
//! long as that costs no parcel more than putting single files together does.

pub use super::parcel_error::{MAX_PARCELS, ParcelError};
use super::weighing::weigh;
use crate::codecs::block::Squeeze;
use crate::formats::sealed::stream::inner_within;
use crate::ground::context::Context;
use crate::ground::entry::{EntryKind, EntryPath};
use crate::source::Catalogue;
use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet, HashSet};

/// Bytes of a parcel that its index's root and the frame around that may take.
const CLOSING_BYTES: u64 = 1_024;

/// What goes into one archive of several.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Parcel {
    /// The places of its entries in the catalogue, in order: files, links, and every folder above them.
    pub members: Vec<usize>,
    /// Bytes of its inner stream, at the most.
    pub stream_bytes: u64,
}

/// What each entry of a catalogue takes when it is packed.
#[derive(Debug)]
pub struct Weights(Vec<u64>);

impl Weights {
    /// Compresses every file by itself, and small ones beside their neighbours too.
    pub fn find(catalogue: &Catalogue, squeeze: Squeeze, context: &Context<'_>) -> Result<Self, ParcelError> {
        weigh(catalogue, squeeze, context).map(Self)
    }

    /// Divides what is in the catalogue among parcels of at most `volume_limit` bytes each, with `reserve` bytes to
    /// spare.
    pub fn divide(&self, catalogue: &Catalogue, volume_limit: u64, reserve: u64) -> Result<Vec<Parcel>, ParcelError> {
        let weights = &self.0;
        let within = inner_within(volume_limit).ok_or(ParcelError::FitTooSmall)?;
        let capacity = within.saturating_sub(CLOSING_BYTES + reserve);
        let division = Division { catalogue, weights, parents: parents(catalogue), capacity };
        let is_large = |place: &usize| {
            // The folders above a file come along with it.
            let above: u64 = division.above(*place).iter().map(|folder| weights[*folder]).sum();
            weights[*place] + above > capacity
        };
        let large = (0..weights.len()).filter(is_large).map(|place| &catalogue.entries[place]);
        let large: Vec<_> = large.map(|entry| (entry.path.clone(), entry.size)).collect();
        if !large.is_empty() {
            return Err(ParcelError::TooLarge(large));
        }
        let parcels = division.parcels();
        if parcels.len() > MAX_PARCELS { Err(ParcelError::TooMany) } else { Ok(parcels) }
    }
}

/// The place of the folder that holds each entry, where that is in the catalogue too.
fn parents(catalogue: &Catalogue) -> Vec<Option<usize>> {
    let (mut parents, mut open): (Vec<Option<usize>>, Vec<usize>) = (Vec::new(), Vec::new());
    for (place, entry) in catalogue.entries.iter().enumerate() {
        while open.last().is_some_and(|folder| !entry.path.is_below(&catalogue.entries[*folder].path)) {
            open.pop();
        }
        parents.push(open.last().copied());
        if entry.kind == EntryKind::Folder {
            open.push(place);
        }
    }
    parents
}

/// Things that stay together: a folder with all that is in it, the files directly in one, or a single thing.
#[derive(Debug, Clone)]
struct Unit {
    /// Places in the catalogue; together they are a stretch of it, or a part of one.
    members: Vec<usize>,
    weight: u64,
    /// The folder that it fills, where it can be taken apart into that folder's children.
    folder: Option<EntryPath>,
}

struct Division<'a> {
    catalogue: &'a Catalogue,
    weights: &'a [u64],
    /// The folder that holds each entry, by its place.
    parents: Vec<Option<usize>>,
    capacity: u64,
}

impl Division<'_> {
    fn parcels(&self) -> Vec<Parcel> {
        let everything = self.unit((0..self.catalogue.entries.len()).collect(), None);
        let single: Vec<Unit> = everything.members.iter().map(|place| self.unit(vec![*place], None)).collect();
        let fewest = self.fill(&single);
        let mut units = self.by_top_level();
        let filled = loop {
            units = self.without_oversized(units);
            let filled = self.fill(&units);
            if filled.len() <= fewest.len() {
                break filled;
            }
            // A tenth of what can be taken apart, the heaviest first: many folders must not need as many attempts.
            let mut parts: Vec<usize> = (0..units.len()).filter(|place| self.is_divisible(&units[*place])).collect();
            if parts.is_empty() {
                break fewest;
            }
            parts.sort_by_key(|place| Reverse(units[*place].weight));
            parts.truncate(parts.len().div_ceil(10));
            let chosen: BTreeSet<usize> = parts.into_iter().collect();
            let taken_apart = |(place, unit): (usize, Unit)| {
                if chosen.contains(&place) { self.take_apart(&unit) } else { vec![unit] }
            };
            units = units.into_iter().enumerate().flat_map(taken_apart).collect();
        };
        let mut parcels: Vec<Parcel> = filled.iter().map(|members| self.parcel(members)).collect();
        parcels.sort_by(|one, other| one.members.cmp(&other.members));
        parcels
    }

    fn unit(&self, members: Vec<usize>, folder: Option<EntryPath>) -> Unit {
        let weight = members.iter().map(|place| self.weights[*place]).sum();
        Unit { members, weight, folder }
    }

    fn by_top_level(&self) -> Vec<Unit> {
        let mut tops: Vec<(EntryPath, Vec<usize>)> = Vec::new();
        for (place, entry) in self.catalogue.entries.iter().enumerate() {
            match tops.last_mut() {
                Some((top, members)) if entry.path.is_below(top) => members.push(place),
                _ => tops.push((entry.path.clone(), vec![place])),
            }
        }
        tops.into_iter().map(|(top, members)| self.unit(members, Some(top))).collect()
    }

    fn is_divisible(&self, unit: &Unit) -> bool {
        unit.members.len() > 1
    }

    fn without_oversized(&self, mut units: Vec<Unit>) -> Vec<Unit> {
        while units.iter().any(|unit| unit.weight > self.capacity && self.is_divisible(unit)) {
            let smaller = |unit: Unit| {
                if unit.weight > self.capacity && self.is_divisible(&unit) {
                    self.take_apart(&unit)
                } else {
                    vec![unit]
                }
            };
            units = units.into_iter().flat_map(smaller).collect();
        }
        units
    }

    /// A folder's subfolders, each whole, and together what lies directly in it; or what lies directly in one, singly.
    fn take_apart(&self, unit: &Unit) -> Vec<Unit> {
        let Some(folder) = &unit.folder else {
            return unit.members.iter().map(|place| self.unit(vec![*place], None)).collect();
        };
        let depth = folder.components().count();
        let (mut direct, mut below): (Vec<usize>, BTreeMap<EntryPath, Vec<usize>>) = (Vec::new(), BTreeMap::new());
        for place in &unit.members {
            let entry = &self.catalogue.entries[*place];
            let mut components = entry.path.components().skip(depth);
            let child = components.next().and_then(|name| folder.join(name).ok());
            let is_deeper = components.next().is_some();
            match child {
                Some(child) if is_deeper || entry.kind == EntryKind::Folder => {
                    below.entry(child).or_default().push(*place)
                }
                _ => direct.push(*place),
            }
        }
        let mut units: Vec<Unit> = below.into_iter().map(|(path, members)| self.unit(members, Some(path))).collect();
        if !direct.is_empty() {
            units.push(self.unit(direct, None));
        }
        units
    }

    /// Best fit, the heaviest first: each unit goes where it leaves the least room; a new parcel where it fits nowhere.
    /// The folders above a unit come along, once a parcel.
    fn fill(&self, units: &[Unit]) -> Vec<Vec<usize>> {
        let mut order: Vec<&Unit> = units.iter().collect();
        order.sort_by_key(|unit| Reverse(unit.weight));
        let mut filled: Vec<(Vec<usize>, HashSet<usize>)> = Vec::new();
        // Parcels by the room that is left in them.
        let mut room: BTreeSet<(u64, usize)> = BTreeSet::new();
        for unit in order {
            let above: Vec<usize> = unit.members.first().map(|first| self.above(*first)).unwrap_or_default();
            let cost = |folders: &HashSet<usize>| {
                let more = above.iter().filter(|folder| !folders.contains(folder)).map(|folder| self.weights[*folder]);
                unit.weight + more.sum::<u64>()
            };
            let fits = |(left, parcel): &(u64, usize)| cost(&filled[*parcel].1) <= *left;
            let best = room.range((unit.weight, 0)..).copied().find(fits);
            let (left, parcel) = best.unwrap_or_else(|| {
                filled.push((Vec::new(), HashSet::new()));
                (self.capacity, filled.len() - 1)
            });
            room.remove(&(left, parcel));
            room.insert((left.saturating_sub(cost(&filled[parcel].1)), parcel));
            filled[parcel].0.extend(&unit.members);
            filled[parcel].1.extend(&above);
        }
        filled.into_iter().map(|(members, _)| members).collect()
    }

    /// The folders above an entry, the innermost first.
    fn above(&self, place: usize) -> Vec<usize> {
        std::iter::successors(self.parents[place], |folder| self.parents[*folder]).collect()
    }

    /// The parcel of these entries, with the folders above them.
    fn parcel(&self, members: &[usize]) -> Parcel {
        let mut all: BTreeSet<usize> = members.iter().copied().collect();
        all.extend(members.iter().flat_map(|place| self.above(*place)));
        let members: Vec<usize> = all.into_iter().collect();
        let stream_bytes = members.iter().map(|place| self.weights[*place]).sum::<u64>() + CLOSING_BYTES;
        Parcel { members, stream_bytes }
    }
}
