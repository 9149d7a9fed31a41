//! The cover: an archive whose only entry is the archive itself, encrypted and not compressed. Without the password nobody sees
//! more of it than that it is there and how long it is; with the password it is read as if the cover were not there, from any
//! place on. Other programs find one file in it, an archive, and open that.

use super::ZipError;
use super::agreement::{Cipher, Stored};
use super::cipher::{AesReader, EntryKey, Strength};
use super::headers::{Aes, Described};
use super::methods::Method;
use super::segments::Segments;
use crate::ground::context::{Context, Phase, Progress};
use crate::ground::entry::{EntryKind, Timestamp};
use crate::ground::retrying::uninterrupted;
use crate::ground::secrets::Password;
use std::io::Read;

/// What the entry is called.
pub const COVER_NAME: &str = "contents.zip";

/// So many bytes are verified at once.
const READ_BYTES: usize = 256 * 1024;

impl Described {
    /// A cover over an archive that may come to so many bytes. Whoever extracts what is under it has it for themselves alone.
    pub fn cover(at_most: u64, modified: Timestamp) -> Self {
        Self {
            name: COVER_NAME.as_bytes().to_vec(),
            kind: EntryKind::File,
            mode: 0o600,
            modified,
            method: Method::Stored,
            encryption: Some(Aes::WRITTEN),
            wide: super::may_need_64(at_most, true),
            lengths_behind: false,
            is_cover: true,
        }
    }
}

/// The cover among entries, and its strength: the only one, of which its header says so.
pub(super) fn cover_among(stored: &[Stored]) -> Option<(&Stored, Strength)> {
    match stored {
        [only] if only.is_cover && only.method == Method::Stored => match only.cipher {
            Cipher::Aes(strength) => Some((only, strength)),
            Cipher::None | Cipher::Old { .. } => None,
        },
        _ => None,
    }
}

/// What is under a cover, once all of it is known to be as it was: the code is over every byte.
pub(super) fn uncovered(
    segments: Segments,
    (cover, strength): (&Stored, Strength),
    password: &Password,
    context: &Context<'_>,
) -> Result<Segments, ZipError> {
    let data = segments.range(cover.data_at, cover.code_at().saturating_sub(cover.data_at));
    let mut data = AesReader::new(data, strength, password.as_bytes()).map_err(|error| cover.cipher_error(error))?;
    if cover.compressed.checked_sub(strength.added_bytes()) != Some(cover.size) {
        return Err(cover.damaged("it comes to another length than it declares"));
    }
    context.tell(Progress::Begin(Phase::Verifying, cover.size));
    let read = read_to_end(&mut data, cover, context);
    context.tell(Progress::End);
    read?;
    if !data.has_code(&cover.code(&segments)?) {
        return Err(cover.damaged("its authentication code is wrong"));
    }
    let at = cover.code_at().saturating_sub(cover.size);
    let salt = segments.bytes_at(cover.data_at, strength.salt_bytes())?.unwrap_or_default();
    let key = EntryKey::derive(strength, &salt, password.as_bytes());
    Ok(segments.deciphered(at, cover.size, key))
}

fn read_to_end(data: &mut impl Read, cover: &Stored, context: &Context<'_>) -> Result<(), ZipError> {
    let mut buffer = vec![0; READ_BYTES];
    loop {
        context.go_on()?;
        match uninterrupted(|| data.read(&mut buffer)).map_err(|error| cover.read_error(error))? {
            0 => return Ok(()),
            read => context.tell(Progress::Advance(read as u64)),
        }
    }
}
