//! A sealed volume in a page that opens it: written behind the page's text, where a long one stays; a short one is then put into the
//! page in base 64.

use super::PackError;
use super::sealing::Sealed;
use crate::disk::staging::Staging;
use crate::disk::{FileAction, FileError, NewFile};
use crate::formats::sealed::volume::in_page::{ELEMENT_BYTES, Form, InPage, VolumeBytes};
use crate::formats::sealed::volume::names;
use crate::ground::context::Context;
use crate::tasks::page::{PAGE, carrying};
use std::path::Path;

/// What stands in front of the volume while it is written; how long it is, is told when it is known.
pub(super) fn opening() -> Vec<u8> {
    InPage::behind(PAGE, Form::Raw, 0).opening(PAGE)
}

/// Completes the page around the one staged volume; in base 64 it is another staged file, which is placed instead.
pub(super) fn complete(archive: &mut Sealed, staging: &Staging, context: &Context<'_>) -> Result<(), PackError> {
    let bytes = archive.written.geometry.volume_bytes(1);
    let in_page = carrying(bytes);
    for placing in &mut archive.written.placings {
        let raw = placing.number;
        let mut file = staging.reopen(raw)?;
        file.write_at(0, &InPage::behind(PAGE, Form::Raw, bytes).opening(PAGE))?;
        if in_page.form == Form::Base64 {
            file.close()?;
            placing.number = raw + 1;
            file = staging.create(placing.number)?;
            file.write(&in_page.opening(PAGE))?;
            write_elements(&staging.path_of(raw), &mut file, context)?;
        }
        file.finish()?;
        names::PAGE_EXTENSION.clone_into(&mut placing.suffix);
    }
    archive.in_page = Some(in_page);
    Ok(())
}

fn write_elements(volume: &Path, file: &mut NewFile, context: &Context<'_>) -> Result<(), PackError> {
    let bytes = VolumeBytes::open(&volume.into())?;
    let mut buffer = vec![0; ELEMENT_BYTES];
    let mut at = 0;
    while at < bytes.length {
        context.go_on()?;
        let count = bytes.read_up_to(&mut buffer, at).map_err(FileError::on(FileAction::Read, volume))?;
        if count == 0 {
            return Err(PackError::ContentsDiffer);
        }
        file.write(InPage::element(&buffer[..count]).as_bytes())?;
        at += count as u64;
    }
    Ok(())
}

/// Whether the staged page is, around its volume, what it should be.
pub(super) fn is_right(archive: &Sealed, staging: &Staging) -> Result<bool, PackError> {
    for placing in &archive.written.placings {
        let path = staging.path_of(placing.number);
        let volume = VolumeBytes::open(&path.as_path().into())?;
        if !volume.is_in(PAGE).map_err(FileError::on(FileAction::Read, &path))? {
            return Ok(false);
        }
    }
    Ok(true)
}
