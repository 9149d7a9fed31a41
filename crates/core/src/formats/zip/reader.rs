//! Reading: the directory becomes a tree of entries, each held to its own header; content comes out checked.

use super::ZipError;
use super::agreement::{Cipher, Stored, compared, lie_apart, member, place_of};
use super::cipher::{AesReader, OldReader};
use super::cover::{cover_among, uncovered};
use super::directory::{End, find_end, read_directory, read_local};
use super::segments::Segments;
use crate::formats::error::ArchiveError;
use crate::formats::listing::Listing;
use crate::formats::members::{Refused, SameName, Tree};
use crate::formats::reader::{ArchiveReader, CONTENT_BYTES, Encryption, Facts};
use crate::formats::spot::Spot;
use crate::ground::context::{Cancelled, Context, Progress};
use crate::ground::entry::{Content, EntryKind, MAX_LINK_TARGET_BYTES};
use crate::ground::retrying::uninterrupted;
use crate::ground::secrets::{Credentials, Password};
use crate::ground::sink::EntrySink;
use crate::ground::wire::Malformed;
use std::io::{self, Read};

/// An open archive.
pub struct ZipReader {
    segments: Segments,
    end: End,
    stored: Vec<Stored>,
    tree: Tree,
    password: Option<Password>,
    /// Whether this was under a cover, and all of it is authentic.
    uncovered: bool,
}

impl ZipReader {
    /// Reads the directory and every entry's header, and compares them. Without a password the content of what is encrypted
    /// cannot be had, nor where its links lead.
    pub fn open(segments: Segments, password: Option<Password>, context: &Context<'_>) -> Result<Self, ZipError> {
        let end = find_end(&segments)?;
        let headers = read_directory(&segments, &end, context)?;
        let mut stored = Vec::with_capacity(headers.len());
        let mut members = Vec::with_capacity(headers.len());
        let mut extents = Vec::with_capacity(headers.len());
        let mut refused = Vec::new();
        for header in &headers {
            context.go_on()?;
            let header_at = place_of(&segments, &end, header)?;
            let local = read_local(&segments, header_at)?;
            let data_end = local.data_at.checked_add(header.compressed).ok_or(Malformed("entry's length"))?;
            extents.push((header_at, data_end, header.name.clone()));
            match compared(&segments, header, &local) {
                Ok(entry) => {
                    members.push(member(header, &entry));
                    stored.push(entry);
                }
                // One entry that is not read here keeps nobody from the others.
                Err(ZipError::Unsupported { name, what }) => refused.push(Refused { name, why: what }),
                Err(error) => return Err(error),
            }
        }
        if let ([], [first, ..]) = (members.as_slice(), refused.as_slice()) {
            return Err(ZipError::Unsupported { name: first.name.clone(), what: first.why });
        }
        lie_apart(extents, end.directory_at)?;
        let mut reader = Self { segments, end, stored, tree: Tree::default(), password, uncovered: false };
        for (place, member) in members.iter_mut().enumerate() {
            if member.kind == Some(EntryKind::Link) {
                context.go_on()?;
                member.link_target = reader.link_target(place)?;
            }
        }
        reader.tree = Tree::grow(&members, SameName::LaterRefused);
        reader.tree.refused.append(&mut refused);
        Ok(reader)
    }

    /// The same archive, with the password.
    ///
    /// # Errors
    /// [`ZipError::WrongPassword`], or what reading comes upon.
    pub fn with_password(&self, password: &Password, context: &Context<'_>) -> Result<Self, ZipError> {
        let segments = self.segments.reopened()?;
        if self.uncovered {
            return Self::open(segments, None, context)?.with_password(password, context);
        }
        if let Some(cover) = cover_among(&self.stored) {
            let inside = uncovered(segments, cover, password, context)?;
            return Ok(Self { uncovered: true, ..Self::open(inside, Some(password.clone()), context)? });
        }
        if let Some(first) = self.contents().find(|stored| stored.cipher.encryption() != Encryption::None) {
            let data = segments.range(first.data_at, first.compressed);
            match first.cipher {
                Cipher::Aes(strength) => AesReader::new(data, strength, password.as_bytes()).map(drop),
                Cipher::Old { check } => OldReader::new(data, password.as_bytes(), check).map(drop),
                Cipher::None => Ok(()),
            }
            .map_err(|error| first.cipher_error(error))?;
        }
        Self::open(segments, Some(password.clone()), context)
    }

    /// Whether nothing is seen of what is inside, for want of the password.
    pub fn is_covered(&self) -> bool {
        cover_among(&self.stored).is_some()
    }

    /// How the entry at this place of the list is stored, and where; `None` for a folder that only names imply.
    pub(super) fn stored_at(&self, place: usize) -> Option<(&Stored, &Segments)> {
        let member = (*self.tree.members.get(place)?)?;
        Some((self.stored.get(member)?, &self.segments))
    }

    fn hides_names(&self) -> bool {
        self.uncovered || self.is_covered()
    }

    fn encryptions(&self) -> Vec<Encryption> {
        if self.hides_names() {
            return vec![Encryption::Aes];
        }
        let mut found: Vec<Encryption> = self.contents().map(|stored| stored.cipher.encryption()).collect();
        found.sort_unstable();
        found.dedup();
        found
    }

    fn methods(&self) -> Vec<&'static str> {
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

    /// Where a link leads; nowhere that could be told, where a password is needed and none is given.
    fn link_target(&self, place: usize) -> Result<Vec<u8>, ZipError> {
        let stored = &self.stored[place];
        if stored.size > MAX_LINK_TARGET_BYTES as u64 {
            return Err(ZipError::Contradiction { name: stored.name.clone(), what: "the length of a link's target" });
        }
        let mut target = Vec::new();
        let read = self.read(stored, |bytes| {
            target.extend_from_slice(bytes);
            Ok(())
        });
        match read {
            Err(ZipError::NeedsPassword) => Ok(Vec::new()),
            read => read.map(|_| target),
        }
    }

    /// Reads an entry's content to its end, checks it, and says what it came to.
    fn read(&self, stored: &Stored, take: impl FnMut(&[u8]) -> Result<(), Cancelled>) -> Result<Content, ZipError> {
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
                let data = self.segments.range(stored.data_at, stored.code_at().saturating_sub(stored.data_at));
                let data = AesReader::new(data, strength, password()?).map_err(|error| stored.cipher_error(error))?;
                let (content, data) = pump.through(data)?;
                if !data.has_code(&stored.code(&self.segments)?) {
                    return Err(stored.damaged("its authentication code is wrong"));
                }
                Ok(content)
            }
        }
    }

    fn deliver(&self, place: usize, sink: &mut dyn EntrySink, context: &Context<'_>) -> Result<(), ZipError> {
        let entry = &self.tree.listed[place].entry;
        context.tell(Progress::Entry(&entry.path));
        sink.begin(entry)?;
        let stored = self.tree.members[place].and_then(|member| self.stored.get(member));
        let content = match stored.filter(|_| entry.kind == EntryKind::File) {
            None => Content::default(),
            Some(stored) => self.read(stored, |bytes| {
                context.go_on()?;
                context.tell(Progress::Advance(bytes.len() as u64));
                sink.content(bytes)
            })?,
        };
        Ok(sink.end(entry, &content)?)
    }
}

impl ArchiveReader for ZipReader {
    fn listing(&self) -> Listing<'_> {
        Listing::Whole(&self.tree.listed)
    }

    fn spots(&self) -> Vec<Spot> {
        self.segments.spots().cloned().collect()
    }

    fn close_files(&mut self) {
        self.segments.close_files();
    }

    fn refused(&self) -> &[Refused] {
        &self.tree.refused
    }

    fn facts(&self) -> Facts {
        Facts {
            message: String::from_utf8_lossy(&self.end.comment).into_owned(),
            bytes_in_front: self.end.before,
            methods: self.methods(),
            encryptions: self.encryptions(),
            hides_names: self.hides_names(),
            is_covered: self.is_covered(),
            // Parts are found by their names.
            needs_names: self.segments.spots().count() > 1,
            ..Facts::default()
        }
    }

    fn is_secret(&self) -> bool {
        self.encryptions().iter().any(|encryption| *encryption != Encryption::None)
    }

    fn password(&self) -> Option<&Password> {
        self.password.as_ref()
    }

    /// The password is tried on the first entry that is encrypted. What is under a cover is read to its end first, and stands
    /// for the archive from then on.
    fn unlocked(
        &self,
        credentials: &Credentials,
        context: &Context<'_>,
    ) -> Result<Box<dyn ArchiveReader>, ArchiveError> {
        if credentials.key_file.is_some() {
            return Err(ArchiveError::NoKeyFile);
        }
        Ok(Box::new(self.with_password(&credentials.password, context)?))
    }

    fn kept_share(&self, place: usize) -> Result<Option<f64>, ArchiveError> {
        let Some(member) = self.tree.members.get(place) else { return Ok(None) };
        let stored = member.and_then(|member| self.stored.get(member)).filter(|stored| stored.size > 0);
        Ok(Some(stored.map_or(1.0, |stored| (stored.compressed as f64 / stored.size as f64).min(1.0))))
    }

    fn extract_some(
        &mut self,
        wanted: &[usize],
        sink: &mut dyn EntrySink,
        context: &Context<'_>,
    ) -> Result<(), ArchiveError> {
        for place in wanted.iter().filter(|place| **place < self.tree.listed.len()) {
            context.go_on()?;
            self.deliver(*place, sink, context)?;
        }
        Ok(())
    }
}

/// Content on its way out.
struct Pump<'a, T> {
    stored: &'a Stored,
    take: T,
}

impl<T: FnMut(&[u8]) -> Result<(), Cancelled>> Pump<'_, T> {
    /// Decompresses data to its end, and gives it back when all of it was read. Not a byte more comes out than is declared.
    fn through<R: Read>(&mut self, mut data: R) -> Result<(Content, R), ZipError> {
        let stored = self.stored;
        let (mut crc, mut digest, mut size) = (crc32fast::Hasher::new(), blake3::Hasher::new(), 0_u64);
        let mut decoder =
            stored.method.decompressing(&mut data, stored.size).map_err(|error| stored.read_error(error))?;
        let mut buffer = vec![0; CONTENT_BYTES];
        loop {
            let read = match uninterrupted(|| decoder.read(&mut buffer)).map_err(|error| stored.read_error(error))? {
                0 => break,
                read => &buffer[..read],
            };
            size += read.len() as u64;
            if size > stored.size {
                return Err(stored.damaged("it comes to more bytes than it declares"));
            }
            crc.update(read);
            digest.update(read);
            (self.take)(read)?;
        }
        drop(decoder);
        // What the decompressor left over: the code is over all of it.
        io::copy(&mut data, &mut io::sink()).map_err(|error| stored.read_error(error))?;
        if size != stored.size {
            return Err(stored.damaged("it comes to fewer bytes than it declares"));
        }
        if stored.crc.is_some_and(|expected| crc.finalize() != expected) {
            return Err(stored.damaged("its checksum is wrong"));
        }
        Ok((Content { size, digest: *digest.finalize().as_bytes(), ..Content::default() }, data))
    }
}
