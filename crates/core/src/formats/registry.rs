//! The formats, a row each: what each is called, how it is known, opened and written, and what it can do. Whoever asks "is it a ZIP
//! archive?" means one of its abilities, and asks the row for that.

use super::abilities::{Abilities, Ability, Checks, Hiding, TimesKept};
use super::cpio;
use super::error::ArchiveError;
use super::iso::{IsoReader, is_iso};
use super::lone::LoneReader;
use super::reader::{ArchiveReader, Flaws};
use super::sealed::index::MAX_MESSAGE_BYTES;
use super::sealed::volume::names;
use super::spot::Spot;
use super::streamed::WrappedFile;
use super::tar;
use super::zip::{self, MAX_COMMENT_BYTES, ZipReader, is_zip, open_parts};
use crate::codecs::stream::Wrapping;
use crate::disk::names::name_of;
use crate::ground::context::Context;
use crate::ground::passwords::Guessing;
use std::ffi::{OsStr, OsString};
use std::fmt;
use std::sync::Arc;

/// How an archive is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Writing {
    /// As sealed volumes.
    Sealed,
    /// As one sealed volume, in a page that opens it.
    Page,
    /// As ZIP.
    Zip,
    /// As tar, in this compression.
    Tar(Wrapping),
}

/// Something that lies somewhere, and what lies beside it apart from the files of its own folder: further parts may be there.
#[derive(Debug, Clone)]
pub struct Lying {
    /// Where it lies.
    pub spot: Spot,
    /// What is beside it.
    pub beside: Arc<[Spot]>,
}

/// Whether something is of a format.
pub type Recognise = fn(&Lying, &Context<'_>) -> Result<bool, ArchiveError>;
/// Opens something of a format.
pub type Open = fn(&Lying, Flaws, &Context<'_>) -> Result<Box<dyn ArchiveReader>, ArchiveError>;

/// How a file of a format is read.
#[derive(Debug, Clone, Copy)]
pub struct Reading {
    /// Whether a file is of the format, by its content.
    pub recognise: Recognise,
    /// Opens such a file.
    pub open: Open,
}

/// A format: one row.
#[derive(Debug)]
pub struct Format {
    /// What it is called where one says so, and in JSON.
    pub name: &'static str,
    /// What people call an archive of it.
    pub title: &'static str,
    /// The ends of its files' names, the first of which is given to what is made.
    pub extensions: &'static [&'static str],
    /// How a file is known to be of it, and opened. The sealed format's volumes are looked for as sets instead, and compressed tar is
    /// read as tar.
    pub reading: Option<Reading>,
    /// How it is written, where it is.
    pub writing: Option<Writing>,
    /// What it can do.
    pub abilities: Abilities,
}

/// A format cannot do what is wished.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("{} has no {what:?}", format.name)]
pub struct Lacks {
    /// The format.
    pub format: &'static Format,
    /// What it lacks.
    pub what: Ability,
}

impl Format {
    /// What follows the archive's name in the name of volume `number` of `count`.
    pub fn suffix(&self, number: u32, count: u32) -> String {
        match self.writing {
            Some(Writing::Sealed) => names::suffix(number, count),
            _ => self.extension().to_owned(),
        }
    }

    /// Every format that other programs read too and that is written here.
    pub fn open_and_written() -> impl Iterator<Item = &'static Self> {
        ALL.into_iter().filter(|format| format.writing.is_some() && !format.abilities.volumes)
    }

    /// The format of this name, as JSON has it.
    pub fn named(name: &str) -> Option<&'static Self> {
        ALL.into_iter().find(|format| format.name == name)
    }

    /// The end of what is made, with its dot.
    pub const fn extension(&self) -> &'static str {
        self.extensions[0]
    }

    /// The format that a name says by its end, of those that are written, and the name without that. Our own end, typed once or
    /// several times, is the sealed format's.
    pub fn of_name(name: &OsStr) -> Option<(&'static Self, OsString)> {
        let without = |end: &str| {
            let (stem, own) = name.as_encoded_bytes().split_at_checked(name.len().checked_sub(end.len())?)?;
            let is_one = own.eq_ignore_ascii_case(end.as_bytes()) && !stem.is_empty();
            is_one.then(|| name_of(stem))
        };
        if without(names::EXTENSION).is_some() {
            return Some((&SEALED, names::without_extension(name)));
        }
        let stem = |format: &Self| format.extensions.iter().find_map(|end| without(end));
        ALL.into_iter().filter(|format| format.writing.is_some()).find_map(|format| Some((format, stem(format)?)))
    }

    /// What follows the archive's name, if `name` is that of one of its volumes or parts.
    pub fn suffix_of<'a>(&self, name: &'a OsStr, stem: &OsStr) -> Option<&'a str> {
        if self.writing == Some(Writing::Sealed) {
            return names::suffix_of(name, stem);
        }
        let suffix = std::str::from_utf8(name.as_encoded_bytes().strip_prefix(stem.as_encoded_bytes())?).ok()?;
        let is_part = self.abilities.parts && zip::is_part_suffix(suffix);
        (suffix == self.extension() || is_part).then_some(suffix)
    }

    /// Whether what is written in it is read as this one: tar is, in whatever compression.
    pub fn is_read_as(&self, other: &Self) -> bool {
        self == other || matches!((self.writing, other.writing), (Some(Writing::Tar(_)), Some(Writing::Tar(_))))
    }

    /// Whether it can do something.
    pub const fn can(&self, what: Ability) -> bool {
        let Abilities { password, keyholes, hides_names, parts, message_bytes, .. } = self.abilities;
        match what {
            Ability::Parcels | Ability::Spares => keyholes && parts,
            Ability::KeyFile | Ability::SeveralPasswords | Ability::Changes => keyholes,
            Ability::Streams => !matches!(self.writing, Some(Writing::Tar(_))),
            Ability::Attributes => self.abilities.attributes,
            Ability::Password => password.is_some(),
            Ability::Volumes => parts,
            Ability::Message => message_bytes.is_some(),
            Ability::HiddenNames => !matches!(hides_names, Hiding::Never),
        }
    }

    /// Whether it tells all holes of a file before the first byte of that.
    pub const fn tells_holes_ahead(&self) -> bool {
        matches!(self.writing, Some(Writing::Tar(_)))
    }

    /// Refuses the first of these wishes that it cannot fulfil.
    pub fn refuse_what_it_lacks(&'static self, wishes: &[(bool, Ability)]) -> Result<(), Lacks> {
        match wishes.iter().find(|(wished, what)| *wished && !self.can(*what)) {
            Some((_, what)) => Err(Lacks { format: self, what: *what }),
            None => Ok(()),
        }
    }
}

impl fmt::Display for Format {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str(self.name)
    }
}

impl PartialEq for Format {
    fn eq(&self, other: &Self) -> bool {
        self.name == other.name
    }
}

impl Eq for Format {}

impl Default for &'static Format {
    /// The sealed one.
    fn default() -> Self {
        &SEALED
    }
}

/// Our own: everything is hidden and authentic.
pub static SEALED: Format = Format {
    name: "sealed",
    title: "sealed archive",
    extensions: &[names::EXTENSION],
    reading: None,
    writing: Some(Writing::Sealed),
    abilities: Abilities {
        password: Some(Guessing::Sealed),
        keyholes: true,
        hides_names: Hiding::Always,
        volumes: true,
        parts: true,
        message_bytes: Some(MAX_MESSAGE_BYTES),
        digests: true,
        times: TimesKept::Nanoseconds,
        text_names: false,
        hard_links: true,
        holes: true,
        attributes: true,
        direct: true,
        checks: Checks::Authentic,
    },
};

/// A sealed archive in a page, which opens it in any browser. It is read as sealed volumes are.
pub static PAGE: Format = Format {
    name: "page",
    title: "sealed archive in a page",
    extensions: &[names::PAGE_EXTENSION, ".htm"],
    writing: Some(Writing::Page),
    abilities: Abilities { parts: false, ..SEALED.abilities },
    ..SEALED
};

/// ZIP, which everybody can open; with a password, contents are encrypted with AES-256.
pub static ZIP: Format = Format {
    name: "zip",
    title: "ZIP archive",
    extensions: &[".zip"],
    reading: Some(Reading {
        recognise: |lying, _| Ok(is_zip(&lying.spot, &lying.beside)?),
        open: |lying, _, context| {
            Ok(Box::new(ZipReader::open(open_parts(&lying.spot, &lying.beside)?, None, context)?))
        },
    }),
    writing: Some(Writing::Zip),
    abilities: Abilities {
        password: Some(Guessing::Zip),
        keyholes: false,
        hides_names: Hiding::OnRequest,
        volumes: false,
        parts: true,
        message_bytes: Some(MAX_COMMENT_BYTES),
        digests: false,
        times: TimesKept::Seconds,
        text_names: true,
        hard_links: false,
        holes: false,
        attributes: false,
        direct: true,
        checks: Checks::Checksums,
    },
};

/// What an archive can do that is read from its beginning to its end.
const STREAMED: Abilities = Abilities {
    password: None,
    keyholes: false,
    hides_names: Hiding::Never,
    volumes: false,
    parts: false,
    message_bytes: None,
    digests: false,
    times: TimesKept::Seconds,
    text_names: false,
    hard_links: true,
    holes: true,
    attributes: true,
    direct: false,
    checks: Checks::HeaderSums,
};

/// Tar (POSIX pax), in one file, which has no password. It is read in any compression.
pub static TAR: Format = Format {
    name: "tar",
    title: "tar archive",
    extensions: &[".tar"],
    reading: Some(Reading {
        recognise: |lying, context| Ok(tar::is_tar(&lying.spot, context)?),
        open: |lying, flaws, context| Ok(Box::new(tar::open(&lying.spot, flaws, context)?)),
    }),
    writing: Some(Writing::Tar(Wrapping::None)),
    abilities: STREAMED,
};

/// Tar, compressed as a whole with gzip.
pub static TAR_GZ: Format = Format {
    name: "tar.gz",
    extensions: &[".tar.gz", ".tgz"],
    reading: None,
    writing: Some(Writing::Tar(Wrapping::Gzip)),
    ..TAR
};

/// Tar, compressed as a whole with Zstandard.
pub static TAR_ZST: Format = Format {
    name: "tar.zst",
    extensions: &[".tar.zst", ".tzst"],
    reading: None,
    writing: Some(Writing::Tar(Wrapping::Zstandard)),
    ..TAR
};

/// Cpio, in its portable form and in the new one, in any compression.
pub static CPIO: Format = Format {
    name: "cpio",
    title: "cpio archive",
    extensions: &[".cpio"],
    reading: Some(Reading {
        recognise: |lying, context| Ok(cpio::is_cpio(&lying.spot, context)?),
        open: |lying, flaws, context| Ok(Box::new(cpio::open(&lying.spot, flaws, context)?)),
    }),
    writing: None,
    abilities: Abilities { checks: Checks::Compression, ..STREAMED },
};

/// A disc image (ISO 9660).
pub static DISC_IMAGE: Format = Format {
    name: "disc image",
    title: "disc image",
    extensions: &[".iso"],
    reading: Some(Reading {
        recognise: |lying, _| Ok(is_iso(&lying.spot)?),
        open: |lying, _, context| Ok(Box::new(IsoReader::open(&lying.spot, context)?)),
    }),
    writing: None,
    abilities: Abilities { direct: true, checks: Checks::Places, ..STREAMED },
};

/// A file that is compressed by itself, which is read as an archive of that file.
pub static COMPRESSED_FILE: Format = Format {
    name: "compressed file",
    title: "compressed file",
    extensions: &[".gz", ".zst", ".xz", ".bz2"],
    reading: Some(Reading {
        recognise: |lying, _| Ok(WrappedFile::look_at(&lying.spot)?.wrapping != Wrapping::None),
        open: |lying, _, context| Ok(Box::new(LoneReader::open(WrappedFile::look_at(&lying.spot)?, context)?)),
    }),
    writing: None,
    abilities: Abilities { times: TimesKept::Neither, checks: Checks::Compression, ..STREAMED },
};

/// Every format, in the order in which a file is held against them: an image may end with an archive of another kind, which is in it,
/// and whatever is compressed may be one in that.
pub static ALL: [&Format; 9] = [&SEALED, &PAGE, &DISC_IMAGE, &ZIP, &TAR, &TAR_GZ, &TAR_ZST, &CPIO, &COMPRESSED_FILE];
