//! Deliveries in parcels: archives that were sent together, open alone each, and know how many they are. Who opened some of them can say
//! which others are missing.

use crate::failure::{DONE, MISSING};
use crate::ui::paint::{Tone, paint};
use crate::ui::suggestion::{Part, command};
use crate::ui::text::{count, hexadecimal, number_list};
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use under_seal_core::disk::folder_of;
use under_seal_core::formats::sealed::ParcelOf;

/// Which parcel of a delivery an archive is (docs/json.md).
#[derive(Serialize)]
pub struct Parcel {
    pub delivery: String,
    pub number: u32,
    pub count: u32,
}

impl From<&ParcelOf> for Parcel {
    fn from(parcel: &ParcelOf) -> Self {
        Self { delivery: hexadecimal(&parcel.delivery), number: parcel.number, count: parcel.count }
    }
}

impl Parcel {
    /// `parcel 1 of 4`.
    pub fn told(&self) -> String {
        format!("parcel {} of {}", self.number, self.count)
    }

    /// What is said where only this one was looked at: the line that takes all of them, which lie beside it as a rule. `verb` is
    /// the command, and `options` stand before the sources.
    pub fn take_all(&self, verb: &str, parcel: &Path, options: &[&str], sources: &[PathBuf]) -> [String; 2] {
        let place = if parcel.is_dir() { parcel } else { folder_of(parcel) };
        let options = options.iter().map(|option| Part::Word(option));
        let sources = sources.iter().map(|source| Part::Named(source.as_os_str()));
        let words = [Part::Word(verb), Part::Named(place.as_os_str())].into_iter().chain(options).chain(sources);
        [
            format!(
                "Next: {verb} all {} together; what is in others was not compared here:",
                count(self.count.into(), "parcel")
            ),
            command(&words.collect::<Vec<_>>()),
        ]
    }
}

/// A delivery, as far as its parcels are here (docs/json.md).
#[derive(Serialize)]
pub struct Delivery {
    pub delivery: String,
    pub parcel_count: u32,
    /// The numbers of parcels that are not here, or not whole.
    pub missing_parcels: Vec<u32>,
}

/// The deliveries that these parcels are of. What says otherwise of how many there are is another one.
pub fn of<'a>(parcels: impl Iterator<Item = &'a Parcel>) -> Vec<Delivery> {
    let mut here: BTreeMap<(&str, u32), BTreeSet<u32>> = BTreeMap::new();
    for parcel in parcels {
        here.entry((&parcel.delivery, parcel.count)).or_default().insert(parcel.number);
    }
    let one = |((delivery, count), here): ((&str, u32), BTreeSet<u32>)| Delivery {
        delivery: delivery.to_owned(),
        parcel_count: count,
        missing_parcels: (1..=count).filter(|number| !here.contains(number)).collect(),
    };
    here.into_iter().map(one).collect()
}

/// The exit code of what came of several archives: that of the worst, and nothing is done where parcels are missing.
pub fn exit_code(archives: impl Iterator<Item = u8>, deliveries: &[Delivery]) -> u8 {
    match archives.max().unwrap_or(DONE) {
        DONE if !are_whole(deliveries) => MISSING,
        worst => worst,
    }
}

/// Whether no parcel of them is missing.
pub fn are_whole(deliveries: &[Delivery]) -> bool {
    deliveries.iter().all(|delivery| delivery.missing_parcels.is_empty())
}

impl Delivery {
    /// How many parcels are here, and which are not, for a recipient; `are` says what they are.
    pub fn line(&self, are: &str) -> String {
        match self.missing_parcels.as_slice() {
            [] => paint(Tone::Good, self.told(are)),
            missing => {
                let them = if missing.len() == 1 { "it" } else { "them" };
                paint(Tone::Bad, format!("{} Ask the sender for {them}.", self.told(are)))
            }
        }
    }

    /// The same for the sender.
    pub fn own_line(&self, are: &str) -> String {
        let tone = if self.missing_parcels.is_empty() { Tone::Good } else { Tone::Bad };
        paint(tone, self.told(are))
    }

    fn told(&self, are: &str) -> String {
        let here = self.parcel_count as usize - self.missing_parcels.len();
        let told = format!("{here} of {} {are}.", count(self.parcel_count.into(), "parcel"));
        match self.missing_parcels.as_slice() {
            [] => told,
            missing => format!("{told} Missing: {}.", number_list(missing)),
        }
    }
}
