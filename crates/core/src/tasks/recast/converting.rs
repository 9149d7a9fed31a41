//! An archive becomes one of another format, or is squeezed otherwise: its contents are extracted and packed at the same time, and
//! nothing of them goes to disk in between. What the new format cannot keep is known before anything is written.

use crate::formats::abilities::{Ability, Hiding, TimesKept};
use crate::formats::archive::Archive;
use crate::formats::error::ArchiveError;
use crate::formats::registry::Format;
use crate::formats::sealed::KeyCost;
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::context::Context;
use crate::ground::secrets::Credentials;
use crate::source::SourceEntry;
use crate::tasks::pack::{Delivery, OldContents, PackError, PackRequest, Packed};
use std::collections::HashSet;

/// Something that another format does not keep of an archive.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NotKept {
    /// Contents are readable by anyone.
    Secrecy,
    /// Names, sizes and dates are.
    HiddenNames,
    /// Nothing shows any more that it is genuine.
    Authenticity,
    /// The message to whoever opens it.
    Message,
    /// Parts of a second of the times of so many entries.
    ExactTimes(usize),
    /// So many entries that are not extracted from the old one.
    Refused(usize),
    /// So many names as they are, since they are no text.
    Names(usize),
    /// That so many files are further names of others.
    HardLinks(usize),
    /// The holes of so many files.
    Holes(usize),
}

/// Why an archive did not become another one. It is as it was.
#[derive(Debug, thiserror::Error)]
#[error(transparent)]
pub struct ConvertError(#[from] pub PackError);

impl Classed for ConvertError {
    fn class(&self) -> ErrorClass {
        self.0.class()
    }
}

/// What is not kept of an archive that becomes one of a format, with its names hidden there or not, and with a password or without.
///
/// # Errors
/// [`ArchiveError`] where its list cannot be read again.
pub fn not_kept(
    archive: &Archive,
    format: &Format,
    hide_names: bool,
    secret: bool,
) -> Result<Vec<NotKept>, ArchiveError> {
    let (was, becomes, facts) = (archive.format.abilities, format.abilities, archive.facts());
    let hides = match becomes.hides_names {
        Hiding::Always => secret,
        Hiding::OnRequest => hide_names,
        Hiding::Never => false,
    };
    let (mut inexact, mut no_text, mut further, mut with_holes) = (0, 0, 0, 0);
    for listed in archive.listing().iter() {
        let listed = listed?;
        inexact += usize::from(listed.entry.modified.nanoseconds != 0);
        no_text += usize::from(std::str::from_utf8(listed.entry.path.as_bytes()).is_err());
        further += usize::from(listed.content.shared_with.is_some());
        with_holes += usize::from(listed.content.holes > 0);
    }
    let loses_secrecy = archive.is_secret() && !secret;
    let coarser = was.times == TimesKept::Nanoseconds && becomes.times != TimesKept::Nanoseconds;
    let found = [
        (loses_secrecy, NotKept::Secrecy),
        (facts.hides_names && archive.is_secret() && !hides && !loses_secrecy, NotKept::HiddenNames),
        (was.digests && archive.is_secret() && !becomes.digests, NotKept::Authenticity),
        (
            becomes.message_bytes.is_none_or(|most| facts.message.len() > most) && !facts.message.is_empty(),
            NotKept::Message,
        ),
        (coarser && inexact > 0, NotKept::ExactTimes(inexact)),
        (!archive.refused().is_empty(), NotKept::Refused(archive.refused().len())),
        (becomes.text_names && no_text > 0, NotKept::Names(no_text)),
        (!becomes.hard_links && further > 0, NotKept::HardLinks(further)),
        (!becomes.holes && with_holes > 0, NotKept::Holes(with_holes)),
    ];
    Ok(found.into_iter().filter(|(is, _)| *is).map(|(_, what)| what).collect())
}

/// Prepares an archive of another's contents. The request's sources count for nothing.
///
/// # Errors
/// [`ConvertError`]; nothing was written.
pub fn prepare(archive: &Archive, request: &PackRequest<'_>, context: &Context<'_>) -> Result<Delivery, ConvertError> {
    let entries = archive.entries().map_err(PackError::from)?;
    let entries = entries.iter().enumerate().map(|(place, listed)| SourceEntry::of_archive(place, listed));
    Ok(Delivery::prepare_from(request, entries.collect(), Vec::new(), HashSet::new(), context)?)
}

/// Extracts and packs at the same time, reads the new archive back, and places it.
///
/// # Errors
/// [`ConvertError`]; the old archive is as it was.
pub fn convert(
    archive: &mut Archive,
    delivery: Delivery,
    credentials: &[Credentials],
    cost: KeyCost,
    context: &Context<'_>,
) -> Result<Packed, ConvertError> {
    let old = OldContents::Entries { archive: &mut **archive, as_stored: false };
    Ok(delivery.pack_from(old, credentials, cost, context)?)
}

/// What opens an archive of a format, of what opened the old one: without a key file, where the format knows none.
pub fn carried_over(opened_by: Credentials, format: &Format) -> Credentials {
    let key_file = opened_by.key_file.filter(|_| format.can(Ability::KeyFile));
    Credentials { key_file, password: opened_by.password }
}
