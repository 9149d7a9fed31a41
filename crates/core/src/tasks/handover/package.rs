//! What goes to a recipient, of whatever format.

use crate::formats::archive::Archive;
use crate::formats::registry::{Format, SEALED};
use crate::formats::sealed::volume::VolumeSet;

/// What goes to a recipient.
pub enum Package {
    /// Sealed volumes, which need not be unlocked for that.
    Volumes {
        /// The volumes.
        set: VolumeSet,
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

    /// Whether its files are of no use under other names.
    pub fn needs_names(&self) -> bool {
        match self {
            Self::Volumes { .. } => false,
            Self::Archive(archive) => archive.facts().needs_names,
        }
    }
}
