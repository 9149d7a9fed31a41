//! Where a revised archive goes: into the place of the old one, in its own format, or elsewhere.

use crate::commands::in_place::could_be_lost;
use crate::commands::resend::stem;
use crate::failure::{BadValue, Failure};
use std::ffi::OsStr;
use std::path::Path;
use under_seal_core::disk::names::name_of;
use under_seal_core::formats::archive::Archive;
use under_seal_core::formats::registry::{Format, PAGE, SEALED};
use under_seal_core::formats::sealed::volume::VolumeSet;
use under_seal_core::tasks::in_place::{own_file, own_page, own_place};
use under_seal_core::tasks::pack::{Target, TargetWish};

/// Where it goes, and as what.
pub struct Place {
    pub target: Target,
    pub format: &'static Format,
    /// Whether the old one is replaced.
    pub replaces: bool,
}

impl Place {
    /// The place of sealed volumes.
    pub fn of_volumes(set: &VolumeSet, to: Option<&Path>) -> Result<Self, Failure> {
        let is_in_page = set.volumes.values().flatten().any(|file| file.in_page.is_some());
        if !is_in_page {
            return match to {
                None => {
                    let target = own_place(set).ok_or(Failure::Value(BadValue::NoOwnPlace))?;
                    Ok(Self { target, format: &SEALED, replaces: true })
                }
                Some(to) => Self::elsewhere(to, &SEALED, &stem(set)),
            };
        }
        match to {
            None => {
                let target = own_page(set).ok_or(Failure::Value(BadValue::NoOwnPlace))?;
                Ok(Self { target, format: &PAGE, replaces: true })
            }
            Some(to) => Self::elsewhere(to, &PAGE, &stem(set)),
        }
    }

    /// The place of an archive of an open format, which must be one that is written here and can be written whole.
    pub fn of_file(archive: &Archive, to: Option<&Path>) -> Result<Self, Failure> {
        let not = |why: String| Err(Failure::Value(BadValue::NotRevised(why)));
        if archive.format.writing.is_none() {
            return not(format!("{}s are read here, and not written", archive.format.title));
        }
        if let Some(what) = could_be_lost(archive) {
            return not(format!("it would lose {what}"));
        }
        match to {
            Some(to) => {
                let format = own_file(archive).map_or(archive.format, |(_, format)| format);
                Self::elsewhere(to, format, &name_of(&archive.name()))
            }
            None => {
                let (target, format) = own_file(archive).ok_or(Failure::Value(BadValue::NoOwnPlace))?;
                Ok(Self { target, format, replaces: true })
            }
        }
    }

    fn elsewhere(to: &Path, format: &'static Format, name: &OsStr) -> Result<Self, Failure> {
        let wish = TargetWish { to: Some(to), name: Some(name), sources: &[], format: None, usual_format: format };
        let (target, said) = Target::resolve(&wish)?;
        if !said.is_read_as(format) {
            return Err(Failure::Value(BadValue::OtherFormat(said)));
        }
        Ok(Self { target, format: said, replaces: false })
    }
}
