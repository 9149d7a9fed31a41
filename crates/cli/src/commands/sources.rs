//! What `plan` and `pack` both say of what is packed (docs/json.md).

use crate::ui::suggestion::{Part, command};
use crate::ui::text::{self, shown};
use crate::words;
use serde::Serialize;
use std::path::PathBuf;
use under_seal_core::disk::folder_of;
use under_seal_core::disk::portability;
use under_seal_core::source::PassedOver;
use under_seal_core::tasks::pack;

/// Above these names that will not survive on other systems.
pub const UNPORTABLE: &str = "These names cannot stay as they are on other systems:";

/// Above the sources that are single volumes.
pub const LONE: &str = "Part of an archive:";

/// Something that cannot be packed.
#[derive(Serialize)]
pub struct Passed {
    pub path: String,
    pub why: String,
}

impl From<&PassedOver> for Passed {
    fn from(passed: &PassedOver) -> Self {
        Self { path: text::path(&passed.disk_path), why: words::passed_over(&passed.reason) }
    }
}

/// A name that will not survive on these systems.
#[derive(Serialize)]
pub struct Unportable {
    pub path: String,
    why: String,
    systems: Vec<&'static str>,
}

impl Unportable {
    pub fn line(&self) -> String {
        format!("{}: {} ({})", self.path, self.why, self.systems.join(", "))
    }
}

impl From<&portability::Unportable> for Unportable {
    fn from(one: &portability::Unportable) -> Self {
        Self {
            path: shown(one.path.as_bytes()),
            why: words::name_trouble(&one.trouble),
            systems: one.systems.iter().map(|system| words::system_name(*system)).collect(),
        }
    }
}

/// A source that is one of several volumes of a sealed archive.
#[derive(Serialize)]
pub struct Lone {
    path: String,
    number: u32,
    count: u32,
    #[serde(skip)]
    typed: PathBuf,
}

impl From<&pack::LoneVolume> for Lone {
    fn from(volume: &pack::LoneVolume) -> Self {
        let pack::LoneVolume { path, number, count } = volume;
        Self { path: text::path(path), number: *number, count: *count, typed: path.clone() }
    }
}

impl Lone {
    pub fn line(&self) -> String {
        format!(
            "{} is volume {} of {} of a sealed archive: the others are not packed with it",
            self.path, self.number, self.count
        )
    }

    /// How all of it goes to the recipient.
    pub fn way_out(&self) -> [String; 2] {
        let place = folder_of(&self.typed);
        let handover = command(&[Part::Word("handover"), Part::Named(place.as_os_str()), Part::Word("--to to-send")]);
        ["  To send all of it, no packing is needed:".to_owned(), handover]
    }
}
