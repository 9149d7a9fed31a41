//! A whole delivery: all of its parcels, read as if they were one archive. What each holds is known as what all hold together, and
//! contents come from the parcel that has them.

use super::index::{About, ParcelOf};
use super::reader::SealedReader;
use super::volume::names::parcel_named;
use crate::formats::error::ArchiveError;
use crate::formats::listing::Listing;
use crate::formats::reader::{ArchiveReader, Facts};
use crate::formats::spot::Spot;
use crate::ground::attributes::Attribute;
use crate::ground::context::{Cancelled, Context};
use crate::ground::entry::{Content, Entry, EntryKind, ListedEntry};
use crate::ground::sink::EntrySink;
use std::collections::BTreeMap;

/// Why archives are no whole delivery.
#[derive(Debug, thiserror::Error)]
pub enum NotWhole {
    /// One of them is no parcel, or they are parcels of several deliveries, or one is there twice.
    #[error("not parcels of one delivery")]
    NotOne,
    /// These parcels are not among them.
    #[error("parcels are missing")]
    Missing {
        /// Their numbers.
        numbers: Vec<u32>,
        /// How many there are in all.
        count: u32,
    },
    /// What is in one of them cannot be read again.
    #[error(transparent)]
    Unreadable(#[from] ArchiveError),
}

/// The parcels of a delivery, in order.
pub struct DeliveryReader {
    parcels: Vec<SealedReader>,
    listed: Vec<ListedEntry>,
    /// Which parcel has each entry, and its place in the list there.
    places: Vec<(usize, usize)>,
    /// What is added to the ids of each parcel, so that all are different.
    offsets: Vec<u64>,
    /// What the first says of itself, under the delivery's name.
    about: About,
}

impl DeliveryReader {
    /// The delivery that these archives are, in any order.
    ///
    /// # Errors
    /// [`NotWhole`].
    pub fn of(archives: Vec<SealedReader>) -> Result<Self, NotWhole> {
        let mut parcels: BTreeMap<ParcelOf, SealedReader> = BTreeMap::new();
        for archive in archives {
            let parcel = archive.about().parcel.ok_or(NotWhole::NotOne)?;
            if parcels.insert(parcel, archive).is_some() {
                return Err(NotWhole::NotOne);
            }
        }
        let Some(ParcelOf { delivery, count, .. }) = parcels.keys().next().copied() else {
            return Err(NotWhole::NotOne);
        };
        if parcels.keys().any(|parcel| (parcel.delivery, parcel.count) != (delivery, count)) {
            return Err(NotWhole::NotOne);
        }
        let is_here = |number: &u32| parcels.contains_key(&ParcelOf { delivery, number: *number, count });
        let numbers: Vec<u32> = (1..=count).filter(|number| !is_here(number)).collect();
        if !numbers.is_empty() {
            return Err(NotWhole::Missing { numbers, count });
        }
        Ok(Self::of_parcels(parcels.into_values().collect())?)
    }

    fn of_parcels(parcels: Vec<SealedReader>) -> Result<Self, ArchiveError> {
        let (mut offsets, mut all, mut offset) = (Vec::new(), Vec::new(), 0_u64);
        for (number, parcel) in parcels.iter().enumerate() {
            offsets.push(offset);
            let mut last = 0;
            for (place, listed) in parcel.listing().iter().enumerate() {
                let listed = listed?;
                last = last.max(listed.entry.id);
                all.push((renumbered(&listed, offset), (number, place)));
            }
            offset = offset.saturating_add(last);
        }
        all.sort_by(|(one, _), (other, _)| one.entry.path.cmp(&other.entry.path));
        // Folders come with everything that lies in them: the first parcel's counts.
        all.dedup_by(|(later, _), (first, _)| {
            later.entry.path == first.entry.path && later.entry.kind == EntryKind::Folder
        });
        let (listed, places) = all.into_iter().unzip();
        let about = parcels.first().map(|parcel| about_all(parcel.about())).unwrap_or_default();
        Ok(Self { parcels, listed, places, offsets, about })
    }
}

/// What a parcel says of itself, without the number at the end of its name.
fn about_all(about: &About) -> About {
    let named = parcel_named(&about.name).filter(|named| named.rest.is_empty());
    let name = named.map_or(about.name.as_slice(), |named| named.delivery);
    About { name: name.to_vec(), parcel: None, ..about.clone() }
}

fn renumbered(listed: &ListedEntry, offset: u64) -> ListedEntry {
    let shared_with = listed.content.shared_with.map(|id| id.saturating_add(offset));
    ListedEntry { entry: moved(&listed.entry, offset), content: Content { shared_with, ..listed.content } }
}

fn moved(entry: &Entry, offset: u64) -> Entry {
    Entry { id: entry.id.saturating_add(offset), ..entry.clone() }
}

impl ArchiveReader for DeliveryReader {
    fn listing(&self) -> Listing<'_> {
        Listing::Whole(&self.listed)
    }

    fn spots(&self) -> Vec<Spot> {
        self.parcels.iter().flat_map(|parcel| parcel.spots()).collect()
    }

    fn extract_some(
        &mut self,
        wanted: &[usize],
        sink: &mut dyn EntrySink,
        context: &Context<'_>,
    ) -> Result<(), ArchiveError> {
        for (number, parcel) in self.parcels.iter_mut().enumerate() {
            let here = wanted.iter().filter_map(|place| self.places.get(*place));
            let here: Vec<usize> = here.filter(|(parcel, _)| *parcel == number).map(|(_, place)| *place).collect();
            if !here.is_empty() {
                let mut sink = Renumbering { sink, offset: self.offsets[number] };
                parcel.extract_some(&here, &mut sink, context)?;
            }
        }
        Ok(())
    }

    fn facts(&self) -> Facts {
        self.parcels.first().map(|parcel| parcel.facts()).unwrap_or_default()
    }

    fn is_secret(&self) -> bool {
        self.parcels.iter().all(|parcel| parcel.is_secret())
    }

    fn about(&self) -> Option<&About> {
        Some(&self.about)
    }

    fn compare_checks(&mut self) {
        self.parcels.iter_mut().for_each(|parcel| parcel.compare_checks());
    }
}

/// Hands on what comes out of a parcel, under the ids that it has in the delivery.
struct Renumbering<'a> {
    sink: &'a mut dyn EntrySink,
    offset: u64,
}

impl EntrySink for Renumbering<'_> {
    fn begin(&mut self, entry: &Entry) -> Result<(), Cancelled> {
        self.sink.begin(&moved(entry, self.offset))
    }

    fn attribute(&mut self, attribute: &Attribute) -> Result<(), Cancelled> {
        self.sink.attribute(attribute)
    }

    fn content(&mut self, bytes: &[u8]) -> Result<(), Cancelled> {
        self.sink.content(bytes)
    }

    fn hole(&mut self, bytes: u64) -> Result<(), Cancelled> {
        self.sink.hole(bytes)
    }

    fn further_name(&mut self, entry: &Entry, of: &Entry, content: &Content) -> Result<bool, Cancelled> {
        let shared_with = content.shared_with.map(|id| id.saturating_add(self.offset));
        self.sink.further_name(
            &moved(entry, self.offset),
            &moved(of, self.offset),
            &Content { shared_with, ..*content },
        )
    }

    fn end(&mut self, entry: &Entry, content: &Content) -> Result<(), Cancelled> {
        self.sink.end(&moved(entry, self.offset), content)
    }
}
