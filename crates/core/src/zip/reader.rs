//! Reading: the directory becomes a tree of entries, each held to its own header; content comes out checked.

use super::ZipError;
use super::cipher::{AesReader, CODE_BYTES, CipherError, OldReader, Strength};
use super::directory::{
    Central, End, Extra, LOCAL_BYTES, Local, descriptor_agrees, extras, find_end, read_directory, read_local,
};
use super::methods::Method;
use super::names;
use super::segments::Segments;
use super::times;
use crate::context::{Context, Progress};
use crate::entry::{Content, EntryKind, EntrySink, ListedEntry, MAX_LINK_TARGET_BYTES, Timestamp};
use crate::members::{Member, Refused, SameName, Tree};
use crate::place::FileError;
use crate::reader::{ArchiveReader, ExtractError};
use crate::sealed::Password;
use crate::wire::{Cursor, Malformed};
use std::io::{self, Read};

/// So many bytes of content are handed on at once.
const CONTENT_BYTES: usize = 128 * 1024;

/// Flags (section 4.4.4): encrypted; sizes stand behind the data; strong encryption, which is not read; UTF-8; masked headers.
const ENCRYPTED: u16 = 1;
const HAS_DESCRIPTOR: u16 = 1 << 3;
const PATCHED: u16 = 1 << 5;
const STRONG: u16 = 1 << 6;
const UTF8: u16 = 1 << 11;
const MASKED: u16 = 1 << 13;

/// The method that says: AES, and the real method stands in an extra field.
const AES_METHOD: u16 = 99;

/// That field, and its length in bytes.
const AES_FIELD: u16 = 0x9901;
const AES_FIELD_BYTES: usize = 7;

/// Systems whose attributes hold POSIX modes (section 4.4.2).
const POSIX_HOSTS: [u8; 2] = [3, 19];

/// The attribute of a folder on systems without modes.
const FOLDER_ATTRIBUTE: u32 = 0x10;

/// The kinds of POSIX modes (`sys/stat.h`).
const KIND_BITS: u32 = 0o170_000;
const FOLDER_KIND: u32 = 0o040_000;
const LINK_KIND: u32 = 0o120_000;
const FILE_KIND: u32 = 0o100_000;

/// How an entry is encrypted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Encryption {
    /// Not at all: a CRC finds accidents, and nothing finds more.
    None,
    /// With the old cipher, which withstands nobody.
    Old,
    /// With AES and an authentication code.
    Aes,
}

/// Where an entry's content is, and what it must come to.
#[derive(Debug, Clone)]
struct Stored {
    name: Vec<u8>,
    data_at: u64,
    compressed: u64,
    size: u64,
    /// `None` where the code stands for it.
    crc: Option<u32>,
    method: Method,
    cipher: Cipher,
}

#[derive(Debug, Clone, Copy)]
enum Cipher {
    None,
    Old { check: u8 },
    Aes(Strength),
}

/// An open archive.
pub struct ZipReader {
    segments: Segments,
    end: End,
    stored: Vec<Stored>,
    tree: Tree,
    password: Option<Password>,
}

impl ZipReader {
    /// Reads the directory and every entry's header, and compares them. Without a password the content of what is encrypted
    /// cannot be had, nor where its links lead.
    ///
    /// # Errors
    /// [`ZipError`].
    pub fn open(segments: Segments, password: Option<Password>) -> Result<Self, ZipError> {
        let end = find_end(&segments)?;
        let headers = read_directory(&segments, &end)?;
        let mut stored = Vec::with_capacity(headers.len());
        let mut members = Vec::with_capacity(headers.len());
        let mut extents = Vec::with_capacity(headers.len());
        for header in &headers {
            let header_at = place_of(&segments, &end, header)?;
            let local = read_local(&segments, header_at)?;
            let entry = compared(&segments, header, &local)?;
            let data_end = entry.data_at.checked_add(entry.compressed).ok_or(Malformed("entry's length"))?;
            extents.push((header_at, data_end, entry.name.clone()));
            members.push(member(header, &entry));
            stored.push(entry);
        }
        lie_apart(extents, end.directory_at)?;
        let mut reader = Self { segments, end, stored, tree: Tree::default(), password };
        for (place, member) in members.iter_mut().enumerate() {
            if member.kind == Some(EntryKind::Link) {
                member.link_target = reader.link_target(place)?;
            }
        }
        reader.tree = Tree::grow(&members, SameName::LaterRefused);
        Ok(reader)
    }

    /// The same archive, with the password. It is tried on the first entry that is encrypted.
    ///
    /// # Errors
    /// [`ZipError::WrongPassword`], or what reading comes upon.
    pub fn unlocked(self, password: Password) -> Result<Self, ZipError> {
        let Some(first) = self.contents().find(|stored| stored.cipher.encryption() != Encryption::None) else {
            return Ok(self);
        };
        let data = self.segments.range(first.data_at, first.compressed);
        match first.cipher {
            Cipher::Aes(strength) => AesReader::new(data, strength, password.as_bytes()).map(drop),
            Cipher::Old { check } => OldReader::new(data, password.as_bytes(), check).map(drop),
            Cipher::None => Ok(()),
        }
        .map_err(|error| first.cipher_error(error))?;
        Self::open(self.segments, Some(password))
    }

    /// What is not extracted, and why.
    pub fn refused(&self) -> &[Refused] {
        &self.tree.refused
    }

    /// The password that it was unlocked with.
    pub fn password(&self) -> Option<&Password> {
        self.password.as_ref()
    }

    /// The sender's words behind the directory.
    pub fn comment(&self) -> &[u8] {
        &self.end.comment
    }

    /// Bytes that stand in front of the archive, as a program that extracts itself has them.
    pub fn bytes_in_front(&self) -> u64 {
        self.end.before
    }

    /// The files that it is read from.
    pub fn segments(&self) -> &Segments {
        &self.segments
    }

    /// How content is encrypted, each way that occurs.
    pub fn encryptions(&self) -> Vec<Encryption> {
        let mut found: Vec<Encryption> = self.contents().map(|stored| stored.cipher.encryption()).collect();
        found.sort_unstable();
        found.dedup();
        found
    }

    /// The methods that occur.
    pub fn methods(&self) -> Vec<&'static str> {
        let mut found: Vec<&'static str> = self.contents().map(|stored| stored.method.name()).collect();
        found.sort_unstable();
        found.dedup();
        found
    }

    fn contents(&self) -> impl Iterator<Item = &Stored> {
        let files = self.tree.listed.iter().zip(&self.tree.members);
        let files = files.filter(|(listed, _)| listed.entry.kind != EntryKind::Folder);
        files.filter_map(|(_, member)| self.stored.get((*member)?))
    }

    /// The share that compression left of each entry.
    pub fn kept_shares(&self) -> Vec<f64> {
        let share = |member: &Option<usize>| {
            let stored = member.and_then(|member| self.stored.get(member)).filter(|stored| stored.size > 0);
            stored.map_or(1.0, |stored| (stored.compressed as f64 / stored.size as f64).min(1.0))
        };
        self.tree.members.iter().map(share).collect()
    }

    /// Where a link leads; nowhere that could be told, where a password is needed and none is given.
    fn link_target(&self, place: usize) -> Result<Vec<u8>, ZipError> {
        let stored = &self.stored[place];
        if stored.size > MAX_LINK_TARGET_BYTES as u64 {
            return Err(ZipError::Contradiction { name: stored.name.clone(), what: "the length of a link's target" });
        }
        let mut target = Vec::new();
        let read = self.read(stored, |bytes| {
            target.extend_from_slice(bytes);
            Ok::<(), ZipError>(())
        });
        match read {
            Err(ExtractError::Archive(ZipError::NeedsPassword)) => Ok(Vec::new()),
            Err(ExtractError::Archive(error) | ExtractError::Sink(error)) => Err(error),
            Ok(_) => Ok(target),
        }
    }

    /// Reads an entry's content to its end, checks it, and says what it came to.
    fn read<S>(
        &self,
        stored: &Stored,
        take: impl FnMut(&[u8]) -> Result<(), S>,
    ) -> Result<Content, ExtractError<ZipError, S>> {
        let password = || self.password.as_ref().map(Password::as_bytes).ok_or(ZipError::NeedsPassword);
        let mut pump = Pump { stored, take };
        match stored.cipher {
            Cipher::None => {
                pump.through(self.segments.range(stored.data_at, stored.compressed)).map(|(content, _)| content)
            }
            Cipher::Old { check } => {
                let data = self.segments.range(stored.data_at, stored.compressed);
                let data = OldReader::new(data, password()?, check).map_err(|error| stored.cipher_error(error))?;
                pump.through(data).map(|(content, _)| content)
            }
            Cipher::Aes(strength) => {
                let code_at = (stored.data_at + stored.compressed).saturating_sub(CODE_BYTES as u64);
                let data = self.segments.range(stored.data_at, code_at.saturating_sub(stored.data_at));
                let data = AesReader::new(data, strength, password()?).map_err(|error| stored.cipher_error(error))?;
                let (content, data) = pump.through(data)?;
                let code = self.segments.bytes_at(code_at, CODE_BYTES).map_err(ZipError::from)?.unwrap_or_default();
                if !data.has_code(&code) {
                    return Err(stored.damaged("its authentication code is wrong").into());
                }
                Ok(content)
            }
        }
    }

    fn hand_over<S: EntrySink + ?Sized>(
        &self,
        place: usize,
        sink: &mut S,
        context: &Context<'_>,
    ) -> Result<(), ExtractError<ZipError, S::Error>> {
        let entry = &self.tree.listed[place].entry;
        context.tell(Progress::Entry(&entry.path));
        sink.begin(entry).map_err(ExtractError::Sink)?;
        let stored = self.tree.members[place].and_then(|member| self.stored.get(member));
        let content = match stored.filter(|_| entry.kind == EntryKind::File) {
            None => Content::default(),
            Some(stored) => self
                .read(stored, |bytes| {
                    context.go_on().map_err(|error| ExtractError::Archive(error.into()))?;
                    context.tell(Progress::Advance(bytes.len() as u64));
                    sink.content(bytes).map_err(ExtractError::Sink)
                })
                .map_err(|error| match error {
                    ExtractError::Archive(error) => ExtractError::Archive(error),
                    ExtractError::Sink(error) => error,
                })?,
        };
        sink.end(entry, &content).map_err(ExtractError::Sink)
    }
}

impl ArchiveReader for ZipReader {
    type Error = ZipError;

    fn entries(&self) -> &[ListedEntry] {
        &self.tree.listed
    }

    fn extract_some<S: EntrySink + ?Sized>(
        &mut self,
        wanted: &[usize],
        sink: &mut S,
        context: &Context<'_>,
    ) -> Result<(), ExtractError<ZipError, S::Error>> {
        for place in wanted.iter().filter(|place| **place < self.tree.listed.len()) {
            context.go_on().map_err(ZipError::from)?;
            self.hand_over(*place, sink, context)?;
        }
        Ok(())
    }
}

impl Cipher {
    const fn encryption(self) -> Encryption {
        match self {
            Self::None => Encryption::None,
            Self::Old { .. } => Encryption::Old,
            Self::Aes(_) => Encryption::Aes,
        }
    }
}

impl Stored {
    fn damaged(&self, what: &'static str) -> ZipError {
        let or_password = self.cipher.encryption() != Encryption::None;
        ZipError::Damaged { name: self.name.clone(), what, or_password }
    }

    fn cipher_error(&self, error: CipherError) -> ZipError {
        match error {
            CipherError::WrongPassword => ZipError::WrongPassword,
            CipherError::TooShort => self.damaged("it is too short to be encrypted"),
            CipherError::Read(error) => self.read_error(error),
        }
    }

    /// An error while reading: the system's, or that of bytes which do not decompress.
    fn read_error(&self, error: io::Error) -> ZipError {
        match error.downcast::<FileError>() {
            Ok(error) => error.into(),
            Err(_) => self.damaged("it does not decompress"),
        }
    }
}

/// Content on its way out.
struct Pump<'a, T> {
    stored: &'a Stored,
    take: T,
}

impl<T> Pump<'_, T> {
    /// Decompresses data to its end, and gives it back when all of it was read. Not a byte more comes out than is declared.
    fn through<R: Read, S>(&mut self, mut data: R) -> Result<(Content, R), ExtractError<ZipError, S>>
    where
        T: FnMut(&[u8]) -> Result<(), S>,
    {
        let stored = self.stored;
        let (mut crc, mut digest, mut size) = (crc32fast::Hasher::new(), blake3::Hasher::new(), 0_u64);
        let mut decoder =
            stored.method.decompressing(&mut data, stored.size).map_err(|error| stored.read_error(error))?;
        let mut buffer = vec![0; CONTENT_BYTES];
        loop {
            let read = match decoder.read(&mut buffer) {
                Ok(0) => break,
                Ok(read) => &buffer[..read],
                Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                Err(error) => return Err(stored.read_error(error).into()),
            };
            size += read.len() as u64;
            if size > stored.size {
                return Err(stored.damaged("it comes to more bytes than it declares").into());
            }
            crc.update(read);
            digest.update(read);
            (self.take)(read).map_err(ExtractError::Sink)?;
        }
        drop(decoder);
        // What the decompressor left over: the code is over all of it.
        io::copy(&mut data, &mut io::sink()).map_err(|error| stored.read_error(error))?;
        if size != stored.size {
            return Err(stored.damaged("it comes to fewer bytes than it declares").into());
        }
        if stored.crc.is_some_and(|expected| crc.finalize() != expected) {
            return Err(stored.damaged("its checksum is wrong").into());
        }
        Ok((Content { size, digest: *digest.finalize().as_bytes(), changed_while_read: false }, data))
    }
}

fn place_of(segments: &Segments, end: &End, header: &Central) -> Result<u64, ZipError> {
    let at = match end.parts {
        1 => header.offset.checked_add(end.before),
        _ => segments.place(header.disk, header.offset),
    };
    Ok(at.filter(|at| at.saturating_add(LOCAL_BYTES as u64) <= end.directory_at).ok_or(Malformed("entry's place"))?)
}

/// Holds an entry's own header to the directory.
fn compared(segments: &Segments, header: &Central, local: &Local) -> Result<Stored, ZipError> {
    let name = names::name(&header.name, header.flags & UTF8 != 0, header.host, &header.extra);
    let contradiction = |what| Err(ZipError::Contradiction { name: name.clone(), what });
    let unsupported = |what: String| Err(ZipError::Unsupported { name: name.clone(), what });
    if header.flags & (STRONG | MASKED | PATCHED) != 0 {
        return unsupported("a closed kind of encryption, or patches".to_owned());
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
    if header.flags & HAS_DESCRIPTOR == 0 {
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
                if header.flags & HAS_DESCRIPTOR != 0 { header.time.to_be_bytes()[0] } else { crc.to_be_bytes()[0] };
            (header.method, Cipher::Old { check }, Some(crc))
        }
        (_, true) => {
            let Some((version, strength, method)) = aes.and_then(|field| read_aes_field(&field)) else {
                return unsupported("an unknown kind of AES".to_owned());
            };
            if header.flags & ENCRYPTED == 0 || compressed < strength.added_bytes() {
                return contradiction("its encryption");
            }
            // The second version leaves the CRC out, since it tells of short contents.
            (method, Cipher::Aes(strength), (version == 1).then_some(crc))
        }
    };
    let Some(method) = Method::from_number(number, header.flags) else {
        return unsupported(format!("compression method {number}"));
    };
    Ok(Stored { name, data_at: local.data_at, compressed, size, crc, method, cipher })
}

/// Version, strength and the real method.
fn read_aes_field(field: &Extra<'_>) -> Option<(u16, Strength, u16)> {
    let mut cursor = Cursor::new(field.data, "AES field");
    let (version, vendor) = (cursor.u16().ok()?, cursor.array::<2>().ok()?);
    let (strength, method) = (Strength::from_number(cursor.u8().ok()?)?, cursor.u16().ok()?);
    let known = field.data.len() == AES_FIELD_BYTES && vendor == *b"AE" && (1..=2).contains(&version);
    known.then_some((version, strength, method))
}

fn member(header: &Central, stored: &Stored) -> Member {
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
fn lie_apart(mut extents: Vec<(u64, u64, Vec<u8>)>, directory_at: u64) -> Result<(), ZipError> {
    extents.sort_unstable();
    let starts = extents.iter().skip(1).map(|(start, ..)| *start).chain([directory_at]);
    match extents.iter().zip(starts).find(|((_, end, _), next)| end > next) {
        None => Ok(()),
        Some(((_, _, name), _)) => Err(ZipError::Contradiction { name: name.clone(), what: "bytes that another has" }),
    }
}
