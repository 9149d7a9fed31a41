//! Reading every content of an archive in an open format to its end, and naming those that are not whole.

use crate::formats::archive::Archive;
use crate::formats::error::ArchiveError;
use crate::formats::reader::verify_some;
use crate::ground::context::{Context, Phase, Progress};

/// An entry whose content is not what it should be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DamagedEntry {
    /// Its place among the archive's entries.
    pub place: usize,
    /// What the archive calls it.
    pub name: Vec<u8>,
    /// What is wrong.
    pub what: &'static str,
}

/// The entries whose contents are not whole, as far as the format lets that be seen.
///
/// # Errors
/// [`ArchiveError`] where nothing can be read on.
pub fn damaged_contents(archive: &mut Archive, context: &Context<'_>) -> Result<Vec<DamagedEntry>, ArchiveError> {
    context.tell(Progress::Begin(Phase::Verifying, archive.totals().content_bytes));
    let mut damaged = Vec::new();
    let all: Vec<usize> = (0..archive.listing().len()).collect();
    // A format without a directory is read in one go: to each entry by itself it would be read from its beginning again.
    let at_once = if archive.format.abilities.direct { 1 } else { all.len().max(1) };
    for places in all.chunks(at_once) {
        context.go_on()?;
        let place = places.first().copied().unwrap_or(0);
        if let Err(error) = verify_some(&mut **archive, places, context) {
            let Some((name, what)) = error.damaged_entry() else { return Err(error) };
            damaged.push(DamagedEntry { place, name: name.to_vec(), what });
        }
    }
    context.tell(Progress::End);
    Ok(damaged)
}
