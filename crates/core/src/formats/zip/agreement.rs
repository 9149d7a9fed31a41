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

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const CRC: u32 = 0x0700_0007;

    /// What both headers say of an entry of 40 bytes that are 50 in truth.
    fn headers() -> (Central, Local) {
        let (flags, method, crc, compressed, size, name) = (UTF8, 8, CRC, 40, 50, b"a".to_vec());
        let local = Local { flags, method, crc, compressed, size, name: name.clone(), wide: false, data_at: 31 };
        let (time, date, disk, offset, extra) = (0, 0, 0, 0, Vec::new());
        let (host, attributes) = (3, 0o100_644 << 16);
        let central =
            Central { host, flags, method, time, date, crc, compressed, size, disk, attributes, offset, name, extra };
        (central, local)
    }

    fn with_flags(central: &mut Central, local: &mut Local, flags: u16) {
        (central.flags, local.flags) = (central.flags | flags, local.flags | flags);
    }

    /// Says in the directory alone how long it is, as who writes to a pipe does; in front stand these.
    fn lengths_behind(central: &mut Central, local: &mut Local, (crc, compressed, size): (u32, u64, u64)) {
        with_flags(central, local, LENGTHS_BEHIND);
        (local.crc, local.compressed, local.size) = (crc, compressed, size);
    }

    fn with_aes(central: &mut Central, local: &mut Local, field: &[u8]) {
        with_flags(central, local, ENCRYPTED);
        (central.method, local.method) = (AES_METHOD, AES_METHOD);
        central.extra = [&AES_FIELD.to_le_bytes()[..], &(field.len() as u16).to_le_bytes(), field].concat();
    }

    const AES: [u8; AES_FIELD_BYTES] = [2, 0, b'A', b'E', 3, 8, 0];

    /// What is done to the two headers, and what is said of them then; behind the data stand the lengths that are right.
    #[rstest]
    #[case::right(|_: &mut Central, _: &mut Local| {}, "")]
    #[case::names(|_: &mut Central, local: &mut Local| local.name = b"b".to_vec(), "its name")]
    #[case::methods(|_: &mut Central, local: &mut Local| local.method = 0, "its method")]
    #[case::flags(|_: &mut Central, local: &mut Local| local.flags = 0, "its flags")]
    #[case::checksums(|_: &mut Central, local: &mut Local| local.crc = 8, "its length or checksum")]
    #[case::lengths(|_: &mut Central, local: &mut Local| local.compressed = 41, "its length or checksum")]
    #[case::sizes(|_: &mut Central, local: &mut Local| local.size = 51, "its length or checksum")]
    #[case::strong(|central: &mut Central, local: &mut Local| with_flags(central, local, STRONG), "encryption")]
    #[case::masked(|central: &mut Central, local: &mut Local| with_flags(central, local, MASKED), "encryption")]
    #[case::patched(|central: &mut Central, local: &mut Local| with_flags(central, local, PATCHED), "encryption")]
    #[case::method_of_others(|central: &mut Central, local: &mut Local| (central.method, local.method) = (6, 6), "method")]
    #[case::behind(|central: &mut Central, local: &mut Local| lengths_behind(central, local, (0, 0, 0)), "")]
    #[case::behind_and_the_checksum_in_front(
        |central: &mut Central, local: &mut Local| lengths_behind(central, local, (CRC, 0, 0)), ""
    )]
    #[case::behind_and_another_checksum_in_front(
        |central: &mut Central, local: &mut Local| lengths_behind(central, local, (8, 0, 0)), "its length or checksum"
    )]
    #[case::behind_is_something_else(|central: &mut Central, local: &mut Local| {
        lengths_behind(central, local, (0, 0, 0));
        central.size = 51;
    }, "its length or checksum")]
    #[case::all_in_front_and_nothing_behind(|central: &mut Central, local: &mut Local| {
        lengths_behind(central, local, (CRC, 40, 50));
        local.data_at = 60;
    }, "")]
    #[case::aes(|central: &mut Central, local: &mut Local| with_aes(central, local, &AES), "")]
    #[case::aes_without_its_field(|central: &mut Central, local: &mut Local| {
        with_aes(central, local, &AES);
        central.extra.clear();
    }, "encryption")]
    #[case::aes_of_another_vendor(
        |central: &mut Central, local: &mut Local| with_aes(central, local, &[2, 0, b'A', b'X', 3, 8, 0]), "encryption"
    )]
    #[case::aes_of_a_later_version(
        |central: &mut Central, local: &mut Local| with_aes(central, local, &[3, 0, b'A', b'E', 3, 8, 0]), "encryption"
    )]
    #[case::aes_with_more_in_its_field(
        |central: &mut Central, local: &mut Local| with_aes(central, local, &[2, 0, b'A', b'E', 3, 8, 0, 0]), "encryption"
    )]
    #[case::aes_that_is_not_encrypted(|central: &mut Central, local: &mut Local| {
        with_aes(central, local, &AES);
        (central.flags, local.flags) = (UTF8, UTF8);
    }, "its encryption")]
    #[case::aes_of_nothing(|central: &mut Central, local: &mut Local| {
        with_aes(central, local, &AES);
        (central.compressed, local.compressed) = (28, 28);
    }, "")]
    #[case::aes_of_less_than_nothing(|central: &mut Central, local: &mut Local| {
        with_aes(central, local, &AES);
        (central.compressed, local.compressed) = (27, 27);
    }, "its encryption")]
    fn two_headers_say_the_same(#[case] change: fn(&mut Central, &mut Local), #[case] expected: &str) {
        let place = tempfile::tempdir().unwrap();
        let path = place.path().join("a.zip");
        let behind = [&CRC.to_le_bytes()[..], &40_u32.to_le_bytes(), &50_u32.to_le_bytes()].concat();
        std::fs::write(&path, [vec![0; 31 + 40], behind].concat()).unwrap();
        let segments = Segments::open(&[path]).unwrap();
        let (mut central, mut local) = headers();
        change(&mut central, &mut local);
        let said = match compared(&segments, &central, &local) {
            Ok(_) => "",
            Err(ZipError::Contradiction { what, .. }) => what,
            Err(ZipError::Unsupported { what: RefusedReason::Encryption, .. }) => "encryption",
            Err(ZipError::Unsupported { what: RefusedReason::Method(_), .. }) => "method",
            Err(other) => panic!("{other}"),
        };
        assert_eq!(said, expected);
    }

    /// Of two headers that agree and need nothing behind the data.
    fn stored(central: &Central, local: &Local) -> Stored {
        compared(&Segments::open::<std::path::PathBuf>(&[]).unwrap(), central, local).unwrap()
    }

    /// How an entry is encrypted, whether its checksum counts, and whether the password may be wrong where it is damaged.
    #[rstest]
    #[case::not(|_: &mut Central, _: &mut Local| {}, Some(CRC), false)]
    #[case::old(|central: &mut Central, local: &mut Local| with_flags(central, local, ENCRYPTED), Some(CRC), true)]
    #[case::aes(|central: &mut Central, local: &mut Local| with_aes(central, local, &AES), None, true)]
    #[case::aes_of_the_first_version(
        |central: &mut Central, local: &mut Local| with_aes(central, local, &[1, 0, b'A', b'E', 3, 8, 0]), Some(CRC), true
    )]
    fn what_holds_content_to_what_it_was(
        #[case] change: fn(&mut Central, &mut Local),
        #[case] crc: Option<u32>,
        #[case] may_be_the_password: bool,
    ) {
        let (mut central, mut local) = headers();
        change(&mut central, &mut local);
        let stored = stored(&central, &local);
        assert_eq!(stored.crc, crc);
        let damaged = stored.damaged("it is not");
        assert!(matches!(damaged, ZipError::Damaged { or_password, .. } if or_password == may_be_the_password));
    }

    /// A name without the flag is in the old code page.
    #[test]
    fn the_flag_tells_how_a_name_is_written() {
        let (mut central, mut local) = headers();
        (central.flags, local.flags) = (0, 0);
        (central.name, local.name) = (vec![0x81], vec![0x81]);
        let stored = stored(&central, &local);
        assert_eq!(stored.name, "ü".as_bytes());
    }

    /// The system, its attributes, the name; and what the entry is.
    #[rstest]
    #[case::file(3, 0o100_640 << 16, b"a", Some(EntryKind::File), 0o640)]
    #[case::folder(3, 0o040_750 << 16, b"a", Some(EntryKind::Folder), 0o750)]
    #[case::link(19, 0o120_777 << 16, b"a", Some(EntryKind::Link), 0o777)]
    #[case::device(3, 0o020_640 << 16, b"a", None, 0o640)]
    #[case::folder_by_its_name(3, 0o750 << 16, b"a/", Some(EntryKind::Folder), 0o750)]
    #[case::folder_without_a_mode(3, 0, b"a/", Some(EntryKind::Folder), 0o755)]
    #[case::folder_by_its_attribute(0, FOLDER_ATTRIBUTE, b"a", Some(EntryKind::Folder), 0o755)]
    #[case::file_by_its_mode(3, 0o640 << 16 | FOLDER_ATTRIBUTE, b"a", Some(EntryKind::File), 0o640)]
    #[case::a_mode_of_a_system_without(0, 0o120_777 << 16, b"a", Some(EntryKind::File), 0o644)]
    fn kind_and_mode_are_those_of_its_system(
        #[case] host: u8,
        #[case] attributes: u32,
        #[case] name: &[u8],
        #[case] kind: Option<EntryKind>,
        #[case] mode: u32,
    ) {
        let (mut central, mut local) = headers();
        (central.host, central.attributes) = (host, attributes);
        (central.name, local.name) = (name.to_vec(), name.to_vec());
        let stored = stored(&central, &local);
        let member = member(&central, &stored);
        assert_eq!((member.kind, member.mode), (kind, mode));
    }
}
