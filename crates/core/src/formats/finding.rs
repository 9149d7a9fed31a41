//! Finding an archive of an open format in the places that somebody names: a file, parts of one archive, a folder that it lies in, or
//! messages that it is attached to.

use super::archive::{Recognised, recognise, recognise_lying};
use super::error::ArchiveError;
use super::messages::attached::is_of_messages;
use super::messages::mailboxes::{Holdings, files_in};
use super::registry::{ALL, Format, Lying};
use super::spot::Spot;
use super::zip::{ZipError, begins_like_zip, is_part_name, open_parts};
use crate::codecs::stream::Wrapping;
use crate::disk::{absolute, folder_of};
use crate::ground::context::Context;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// The archive that these places name: a file of it, or several of its parts. `None` where the first is of no open format, or there are
/// others and it is of a format that has no parts.
///
/// # Errors
/// [`ArchiveError`]; [`ArchiveError::Several`] where not all of them are parts of one.
pub fn named(places: &[PathBuf], context: &Context<'_>) -> Result<Option<Recognised>, ArchiveError> {
    let Some((first, others)) = places.split_first().filter(|(first, _)| first.is_file()) else { return Ok(None) };
    let Some(found) = recognise(first, context)? else { return Ok(None) };
    if others.is_empty() {
        return Ok(Some(found));
    }
    if !found.format.abilities.parts {
        return Ok(None);
    }
    // Further parts may be in folders, and attached to messages.
    if others.iter().any(|other| other.is_dir() || is_of_messages(other)) {
        return lying_in(places, context);
    }
    let parts: Vec<PathBuf> = open_parts(&found.lying.spot, &[])?.spots().map(|spot| absolute(&spot.path)).collect();
    let all_are_parts = others.iter().all(|other| parts.contains(&absolute(other)));
    if all_are_parts { Ok(Some(found)) } else { Err(ArchiveError::Several) }
}

/// The archive of an open format that lies in these places, parts of one taken together; `None` where there is none. Messages are looked
/// into where no other file is one, or where parts of it are missing.
///
/// # Errors
/// [`ArchiveError`]; [`ArchiveError::Several`] where there are several.
pub fn lying_in(places: &[PathBuf], context: &Context<'_>) -> Result<Option<Recognised>, ArchiveError> {
    let files: Vec<Spot> = places.iter().flat_map(|place| files_in(place)).map(Spot::from).collect();
    let found = one_of(&files, &[], context)?;
    if found.as_ref().is_some_and(|found| !lacks_parts(found)) {
        return Ok(found);
    }
    let Holdings { named, beside, flaws } = Holdings::of(places, &may_be_an_archive, context)?;
    if named.is_empty() {
        return Ok(found);
    }
    let all = [files.as_slice(), &named].concat();
    // Parts may lie as files beside a message that was named.
    let messages = places.iter().filter(|place| place.is_file());
    let others = messages.flat_map(|path| files_in(folder_of(path))).map(Spot::from).collect();
    let mut found = one_of(&all, &[all.clone(), beside, others].concat(), context)?;
    if let Some(found) = &mut found {
        found.flawed_messages = flaws;
    }
    Ok(found)
}

fn lacks_parts(found: &Recognised) -> bool {
    let open = || open_parts(&found.lying.spot, &found.lying.beside);
    found.format.abilities.parts && matches!(open(), Err(ZipError::MissingParts { .. }))
}

/// The only archive among these. Of several, what is called like an archive counts before documents that are made like one.
fn one_of(among: &[Spot], beside: &[Spot], context: &Context<'_>) -> Result<Option<Recognised>, ArchiveError> {
    let beside: Arc<[Spot]> = beside.into();
    // There may be very many: no more are kept than are needed to know that there are several.
    let (mut called_so, mut others): (Option<Recognised>, Vec<Recognised>) = (None, Vec::new());
    let mut sorted = among.to_vec();
    sorted.sort_by(|one, other| (one.own_name(), &one.path).cmp(&(other.own_name(), &other.path)));
    for spot in sorted {
        context.go_on()?;
        // What cannot be read here is not what is looked for.
        let Ok(Some(found)) = recognise_lying(Lying { spot, beside: Arc::clone(&beside) }, context) else { continue };
        let is_known = called_so.iter().chain(&others).any(|one| are_parts_of_one(one, &found));
        match (is_called_so(&found), &called_so) {
            _ if is_known => {}
            (true, None) => called_so = Some(found),
            (true, Some(_)) => return Err(ArchiveError::Several),
            (false, _) if others.len() < 2 => others.push(found),
            (false, _) => {}
        }
    }
    match (called_so, others.pop(), others.is_empty()) {
        (Some(only), ..) | (None, Some(only), true) => Ok(Some(only)),
        (None, None, _) => Ok(None),
        (None, Some(_), false) => Err(ArchiveError::Several),
    }
}

/// Parts of one archive differ in their ends only, wherever they lie.
fn are_parts_of_one(one: &Recognised, other: &Recognised) -> bool {
    let stem = |found: &Recognised| Path::new(found.lying.spot.own_name()?).file_stem().map(ToOwned::to_owned);
    one.format.abilities.parts && one.format == other.format && stem(one) == stem(other)
}

/// Whether the name says that it is an archive of its format, or a part of one.
fn is_called_so(found: &Recognised) -> bool {
    let name = found.lying.spot.own_name().unwrap_or_default().as_encoded_bytes().to_ascii_lowercase();
    is_called_like_one_of(&name, |format| found.format.is_read_as(format))
}

/// Whether a name, in small letters, is that of an archive, or of a part of one, of any of these formats.
fn is_called_like_one_of(name: &[u8], is_meant: impl Fn(&Format) -> bool) -> bool {
    let is_like = |format: &&Format| {
        format.extensions.iter().any(|end| name.ends_with(end.as_bytes()))
            || format.abilities.parts && is_part_name(name)
    };
    ALL.into_iter().filter(|format| is_meant(format)).any(|format| is_like(&format))
}

/// Where tar says what it is, and what (POSIX.1-2024 `pax`, "ustar Interchange Format").
const TAR_MARK: std::ops::Range<usize> = 257..262;
const TAR: &[u8] = b"ustar";

/// Whether what begins so and is called so is looked at more closely.
fn may_be_an_archive(beginning: &[u8], name: Option<&str>) -> bool {
    let name = name.unwrap_or_default().to_ascii_lowercase();
    // Sealed volumes are looked for as sets.
    let is_called_so = is_called_like_one_of(name.as_bytes(), |format| !format.abilities.volumes);
    let begins_so = begins_like_zip(beginning) || Wrapping::of(beginning) != Wrapping::None;
    is_called_so || begins_so || beginning.get(TAR_MARK) == Some(TAR)
}
