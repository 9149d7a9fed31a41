//! What the directory and an entry's own header say must agree. Out of the two comes where an entry's content is, what it must
//! come to, and what the entry is.

use super::ZipError;
use super::cipher::{CODE_BYTES, CipherError, Strength};
use super::directory::{
    AES_FIELD, AES_METHOD, COVER_FIELD, Central, ENCRYPTED, End, Extra, FILE_KIND, FOLDER_ATTRIBUTE, FOLDER_KIND,
    KIND_BITS, LENGTHS_BEHIND, LINK_KIND, LOCAL_BYTES, Local, MASKED, PATCHED, STRONG, UTF8, descriptor_agrees, extras,
};
use super::methods::Method;
use super::names;
use super::segments::Segments;
use super::times;
use crate::disk::FileError;
use crate::formats::members::{Member, RefusedReason};
use crate::formats::reader::Encryption;
use crate::ground::entry::{EntryKind, Timestamp};
use crate::ground::wire::{Cursor, Malformed};
use std::io;

/// Bytes of the field that tells the real method of an entry under AES.
const AES_FIELD_BYTES: usize = 7;

/// Systems whose attributes hold POSIX modes (section 4.4.2).
const POSIX_HOSTS: [u8; 2] = [3, 19];

/// Where an entry's content is, and what it must come to.
#[derive(Debug, Clone)]
pub(super) struct Stored {
    pub name: Vec<u8>,
    pub data_at: u64,
    pub compressed: u64,
    pub size: u64,
    /// `None` where the code stands for it.
    pub crc: Option<u32>,
    pub method: Method,
    pub cipher: Cipher,
    /// Whether the directory says that the content is the archive itself.
    pub is_cover: bool,
}

#[derive(Debug, Clone, Copy)]
pub(super) enum Cipher {
    None,
    Old { check: u8 },
    Aes(Strength),
}

impl Cipher {
    pub const fn encryption(self) -> Encryption {
        match self {
            Self::None => Encryption::None,
            Self::Old { .. } => Encryption::Old,
            Self::Aes(_) => Encryption::Aes,
        }
    }
}

impl Stored {
    /// Where the authentication code stands: at the end.
    pub fn code_at(&self) -> u64 {
        self.data_at.saturating_add(self.compressed).saturating_sub(CODE_BYTES as u64)
    }

    /// The authentication code.
    pub fn code(&self, segments: &Segments) -> Result<Vec<u8>, ZipError> {
        Ok(segments.bytes_at(self.code_at(), CODE_BYTES)?.unwrap_or_default())
    }

    pub fn damaged(&self, what: &'static str) -> ZipError {
        let or_password = self.cipher.encryption() != Encryption::None;
        ZipError::Damaged { name: self.name.clone(), what, or_password }
    }

    pub fn cipher_error(&self, error: CipherError) -> ZipError {
        match error {
            CipherError::WrongPassword => ZipError::WrongPassword,
            CipherError::TooShort => self.damaged("it is too short to be encrypted"),
            CipherError::Read(error) => self.read_error(error),
        }
    }

    /// An error while reading: the system's, or that of bytes which do not decompress.
    pub fn read_error(&self, error: io::Error) -> ZipError {
        match error.downcast::<FileError>() {
            Ok(error) => error.into(),
            Err(_) => self.damaged("it does not decompress"),
        }
    }
}

/// Where an entry's own header stands: before the directory.
pub(super) fn place_of(segments: &Segments, end: &End, header: &Central) -> Result<u64, ZipError> {
    let at = match end.parts {
        1 => header.offset.checked_add(end.before),
        _ => segments.place(header.disk, header.offset),
    };
    Ok(at.filter(|at| at.saturating_add(LOCAL_BYTES as u64) <= end.directory_at).ok_or(Malformed("entry's place"))?)
}

/// Holds an entry's own header to the directory.
pub(super) fn compared(segments: &Segments, header: &Central, local: &Local) -> Result<Stored, ZipError> {
    let name = names::name(&header.name, header.flags & UTF8 != 0, header.host, &header.extra);
    let contradiction = |what| Err(ZipError::Contradiction { name: name.clone(), what });
    let unsupported = |what: RefusedReason| Err(ZipError::Unsupported { name: name.clone(), what });
    if header.flags & (STRONG | MASKED | PATCHED) != 0 {
        return unsupported(RefusedReason::Encryption);
    }
    if header.name != local.name {
        return contradiction("its name");
    }
    if header.method != local.method {
        return contradiction("its method");
    }
    if header.flags != local.flags {
        return contradiction("its flags");
    }
    let (crc, compressed, size) = (header.crc, header.compressed, header.size);
    let said = (local.crc, local.compressed, local.size);
    if header.flags & LENGTHS_BEHIND == 0 {
        if said != (crc, compressed, size) {
            return contradiction("its length or checksum");
        }
    } else {
        // What is said already in front need not be said again behind.
        let behind = local.data_at.saturating_add(compressed);
        let expected = (crc, compressed, size);
        let known = said == expected || local.crc == 0 || local.crc == crc;
        if !known || (said != expected && !descriptor_agrees(segments, behind, expected, local.wide)?) {
            return contradiction("its length or checksum");
        }
    }
    let aes = extras(&header.extra).find(|field| field.id == AES_FIELD);
    let (number, cipher, crc) = match (header.flags & ENCRYPTED != 0, header.method == AES_METHOD) {
        (false, false) => (header.method, Cipher::None, Some(crc)),
        (true, false) => {
            let check =
                if header.flags & LENGTHS_BEHIND != 0 { header.time.to_be_bytes()[0] } else { crc.to_be_bytes()[0] };
            (header.method, Cipher::Old { check }, Some(crc))
        }
        (_, true) => {
            let Some((version, strength, method)) = aes.and_then(|field| read_aes_field(&field)) else {
                return unsupported(RefusedReason::Encryption);
            };
            if header.flags & ENCRYPTED == 0 || compressed < strength.added_bytes() {
                return contradiction("its encryption");
            }
            // The second version leaves the CRC out, since it tells of short contents.
            (method, Cipher::Aes(strength), (version == 1).then_some(crc))
        }
    };
    let Some(method) = Method::from_number(number, header.flags) else {
        return unsupported(RefusedReason::Method(number));
    };
    let is_cover = extras(&header.extra).any(|field| field.id == COVER_FIELD);
    Ok(Stored { name, data_at: local.data_at, compressed, size, crc, method, cipher, is_cover })
}

/// Version, strength and the real method.
fn read_aes_field(field: &Extra<'_>) -> Option<(u16, Strength, u16)> {
    let mut cursor = Cursor::new(field.data, "AES field");
    let (version, vendor) = (cursor.u16().ok()?, cursor.array::<2>().ok()?);
    let (strength, method) = (Strength::from_number(cursor.u8().ok()?)?, cursor.u16().ok()?);
    let known = field.data.len() == AES_FIELD_BYTES && vendor == *b"AE" && (1..=2).contains(&version);
    known.then_some((version, strength, method))
}

pub(super) fn member(header: &Central, stored: &Stored) -> Member {
    let mode = header.attributes >> 16;
    let has_mode = POSIX_HOSTS.contains(&header.host) && mode != 0;
    let ends_as_folder = stored.name.last() == Some(&b'/');
    let kind = match (has_mode, mode & KIND_BITS) {
        (true, FOLDER_KIND) => Some(EntryKind::Folder),
        (true, LINK_KIND) => Some(EntryKind::Link),
        (true, FILE_KIND | 0) | (false, _) => {
            let is_folder = ends_as_folder || (!has_mode && header.attributes & FOLDER_ATTRIBUTE != 0);
            Some(if is_folder { EntryKind::Folder } else { EntryKind::File })
        }
        (true, _) => None,
    };
    let mode = match kind {
        _ if has_mode => mode & 0o7777,
        Some(EntryKind::Folder) => 0o755,
        _ => 0o644,
    };
    let modified: Timestamp = times::modified(header.time, header.date, &header.extra);
    Member { name: stored.name.clone(), kind, mode, modified, size: stored.size, link_target: Vec::new() }
}

/// No two entries share bytes, and all lie before the directory.
pub(super) fn lie_apart(mut extents: Vec<(u64, u64, Vec<u8>)>, directory_at: u64) -> Result<(), ZipError> {
    extents.sort_unstable();
    let starts = extents.iter().skip(1).map(|(start, ..)| *start).chain([directory_at]);
    match extents.iter().zip(starts).find(|((_, end, _), next)| end > next) {
        None => Ok(()),
        Some(((_, _, name), _)) => Err(ZipError::Contradiction { name: name.clone(), what: "bytes that another has" }),
    }
}
