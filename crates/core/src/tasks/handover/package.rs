//! What goes to a recipient, of whatever format, and what is made of it.

use super::dividing::{Losses, Share};
use crate::formats::archive::Archive;
use crate::formats::registry::{Format, SEALED};
use crate::formats::sealed::volume::VolumeSet;
use std::ffi::OsString;
use std::path::PathBuf;

/// What goes to a recipient.
pub enum Package {
    /// Sealed volumes, which need not be unlocked for that.
    Volumes {
        /// The volumes.
        set: Box<VolumeSet>,
        /// Whether they need a password.
        secret: bool,
    },
    /// An archive of an open format. Where its password is known, or none is needed, every content can be read.
    Archive(Archive),
}

impl Package {
    /// Its format.
    pub const fn format(&self) -> &'static Format {
        match self {
            Self::Volumes { .. } => &SEALED,
            Self::Archive(archive) => archive.format,
        }
    }

    /// The id of its set, where it has one.
    pub fn set_text(&self) -> Option<String> {
        match self {
            Self::Volumes { set, .. } => Some(set.ids.set_text()),
            Self::Archive(_) => None,
        }
    }

    /// Of how many volumes or files it is.
    pub fn count(&self) -> u32 {
        match self {
            Self::Volumes { set, .. } => set.geometry.data_volumes,
            Self::Archive(archive) => archive.file_count(),
        }
    }

    /// Whether a password keeps it.
    pub fn is_secret(&self) -> bool {
        match self {
            Self::Volumes { secret, .. } => *secret,
            Self::Archive(archive) => archive.is_secret(),
        }
    }

    /// Whether its contents can be read with what is known.
    pub fn is_readable(&self) -> bool {
        match self {
            Self::Volumes { secret, .. } => !secret,
            Self::Archive(archive) => !archive.is_secret() || archive.password().is_some(),
        }
    }

    /// Whether it is one volume in a page, which opens itself.
    pub fn is_in_page(&self) -> bool {
        matches!(self, Self::Volumes { set, .. } if set.is_in_page())
    }

    /// Whether its files are of no use under other names.
    pub fn needs_names(&self) -> bool {
        match self {
            // A page is one by its name.
            Self::Volumes { .. } => self.is_in_page(),
            Self::Archive(archive) => archive.facts().needs_names,
        }
    }
}

/// One file of a handover.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HandedFile {
    /// Its name in the folder.
    pub name: OsString,
    /// Its length in bytes.
    pub bytes: u64,
    /// What it is of a set with spare volumes.
    pub share: Option<Share>,
}

/// What was made.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct HandedOver {
    /// The folder's absolute path.
    pub folder: PathBuf,
    /// The volumes in order.
    pub volumes: Vec<HandedFile>,
    /// The page that opens volumes in a browser.
    pub page: Option<HandedFile>,
    /// The drafts in order.
    pub drafts: Vec<HandedFile>,
    /// The labels in order.
    pub labels: Vec<HandedFile>,
    /// What losing messages comes to, where there are spare volumes and drafts.
    pub losses: Option<Losses>,
}
