//! What is attached to a message, read from any place on: marks along the encoded bytes say where to begin.

use super::MAX_ATTACHED;
use super::encoding::{Decoder, Encoding};
use super::structure::{Flaw, FlawedMessage, Kind, Leaf, kind_of, scan};
use crate::disk::{FileAction, FileError, Interruption, Links, open_regular, read_up_to_at};
use crate::ground::context::{Cancelled, Context, Progress};
use std::fs::File;
use std::io::{self, Read};
use std::ops::Range;
use std::path::Path;
use std::sync::Arc;

/// A mark stands about every so many bytes of what was attached: a read decodes no more than that in vain.
const MARK_EVERY_BYTES: u64 = 32 * 1024;

/// So many encoded bytes are read at once.
const READ_BYTES: usize = 64 * 1024;

/// The beginning of a file by which it is known, in bytes: a message's first fields.
const BEGINNING_BYTES: usize = 16 * 1024;

/// A place in what is attached, and where that stands encoded in the file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Mark {
    bytes: u64,
    at: u64,
}

/// Something that is attached to a message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Attached {
    /// The number of the message in its file, from 1.
    pub message: u64,
    /// The name that the sender gave it; it proves nothing.
    pub name: Option<String>,
    /// Its length in bytes, as far as it is there.
    pub bytes: u64,
    encoding: Encoding,
    place: Range<u64>,
    marks: Arc<[Mark]>,
}

/// What was found in a file of messages.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Found {
    /// What is attached, as far as it was wanted.
    pub attached: Vec<Attached>,
    /// What was not looked for, and why.
    pub flaws: Vec<FlawedMessage>,
}

/// Everything attached in a file that is wanted by how it begins and what it is called; `None` where the file holds no messages. The
/// file's bytes are told as progress, as they are read.
///
/// # Errors
/// [`Interruption`].
pub fn find(
    path: &Path,
    is_wanted: &dyn Fn(&[u8], Option<&str>) -> bool,
    context: &Context<'_>,
) -> Result<Option<Found>, Interruption> {
    let (file, _) = open_regular(path, Links::Follow)?;
    let mut found = Found::default();
    let take = &mut |leaf: Leaf| {
        if found.attached.len() >= MAX_ATTACHED {
            found.flaws = vec![FlawedMessage { message: leaf.message, flaw: Flaw::TooMany }];
        } else if is_wanted(&beginning(&file, &leaf)?, leaf.name.as_deref()) {
            found.attached.push(Attached::of(&file, leaf, context)?);
        }
        Ok(())
    };
    let Some(mut flaws) = each_leaf(&file, take, context).map_err(interruption(path))? else { return Ok(None) };
    found.flaws.append(&mut flaws);
    Ok(Some(found))
}

/// What ended the reading of this file: the system, or whoever wanted to stop.
fn interruption(path: &Path) -> impl Fn(io::Error) -> Interruption {
    move |error| match error.downcast::<Cancelled>() {
        Ok(stop) => stop.into(),
        Err(error) => FileError::on(FileAction::Read, path)(error).into(),
    }
}

/// The texts of all messages of a file, each at most so many bytes of it. Whether the file holds messages.
///
/// # Errors
/// [`Interruption`].
pub fn texts(
    path: &Path,
    limit: usize,
    take: &mut dyn FnMut(&[u8]),
    context: &Context<'_>,
) -> Result<bool, Interruption> {
    let (file, _) = open_regular(path, Links::Follow)?;
    let take = &mut |leaf: Leaf| {
        if leaf.is_text {
            let attached = Attached::unmarked(leaf);
            let most = attached.place.end - attached.place.start;
            let mut text = vec![0; usize::try_from(most).unwrap_or(limit).min(limit)];
            let length = attached.read_up_to(&file, &mut text, 0)?;
            take(&text[..length]);
        }
        Ok(())
    };
    Ok(each_leaf(&file, take, context).map_err(interruption(path))?.is_some())
}

/// Whether a file holds messages, by how it begins; none that cannot be read does.
pub fn is_of_messages(path: &Path) -> bool {
    let kind = open_regular(path, Links::Follow).map(|(file, _)| kind_of_file(&file));
    matches!(kind, Ok(Ok(Some(_))))
}

fn kind_of_file(file: &File) -> io::Result<Option<Kind>> {
    let mut start = vec![0; BEGINNING_BYTES];
    let filled = read_up_to_at(file, &mut start, 0)?;
    Ok(kind_of(&start[..filled]))
}

/// Hands on every leaf of a file's messages.
fn each_leaf(
    file: &File,
    take: &mut dyn FnMut(Leaf) -> io::Result<()>,
    context: &Context<'_>,
) -> io::Result<Option<Vec<FlawedMessage>>> {
    let Some(kind) = kind_of_file(file)? else { return Ok(None) };
    scan(FromBeginning { file, at: 0, context }, kind, take).map(Some)
}

/// The first bytes of what a leaf carries.
fn beginning(file: &File, leaf: &Leaf) -> io::Result<Vec<u8>> {
    const BYTES: usize = 512;
    let mut encoded = vec![0; (4 * BYTES).min(usize::try_from(leaf.place.end - leaf.place.start).unwrap_or(4 * BYTES))];
    let filled = read_up_to_at(file, &mut encoded, leaf.place.start)?;
    let (mut decoder, mut decoded) = (Decoder::new(leaf.encoding), Vec::new());
    decoder.push(&encoded[..filled], &mut decoded);
    Ok(decoded)
}

impl Attached {
    fn unmarked(leaf: Leaf) -> Self {
        let Leaf { message, place, encoding, name, .. } = leaf;
        Self { message, name, bytes: u64::MAX, encoding, place, marks: Arc::from([]) }
    }

    /// Reads the encoded bytes once, to mark them and to know how many they carry.
    fn of(file: &File, leaf: Leaf, context: &Context<'_>) -> io::Result<Self> {
        let mut attached = Self::unmarked(leaf);
        let place = attached.place.clone();
        if attached.encoding == Encoding::Identity {
            attached.bytes = place.end - place.start;
            return Ok(attached);
        }
        let mut marks = Vec::new();
        let mut decoder = Decoder::new(attached.encoding);
        let mut encoded = vec![0; READ_BYTES];
        let (mut at, mut bytes, mut due) = (place.start, 0, MARK_EVERY_BYTES);
        while at < place.end {
            context.go_on().map_err(io::Error::other)?;
            let room = encoded.len().min(usize::try_from(place.end - at).unwrap_or(usize::MAX));
            let filled = read_up_to_at(file, &mut encoded[..room], at)?;
            if filled == 0 {
                break;
            }
            let mut left = &encoded[..filled];
            while !left.is_empty() {
                let line = memchr::memchr(b'\n', left).map_or(left.len(), |end| end + 1);
                bytes += decoder.pass(&left[..line]);
                at += line as u64;
                left = &left[line..];
                if bytes >= due && decoder.can_begin_here() {
                    marks.push(Mark { bytes, at });
                    due = bytes + MARK_EVERY_BYTES;
                }
            }
        }
        let mut decoded = Vec::new();
        decoder.finish(&mut decoded);
        attached.bytes = bytes + decoded.len() as u64;
        attached.marks = marks.into();
        Ok(attached)
    }

    /// Where it begins in the file, encoded.
    pub fn begins_at(&self) -> u64 {
        self.place.start
    }

    /// The last place before an offset at which a reader can begin: a mark, or the beginning; without an encoding, any place.
    fn mark_before(&self, offset: u64) -> Mark {
        if self.encoding == Encoding::Identity {
            return Mark { bytes: offset, at: self.place.start.saturating_add(offset) };
        }
        let behind = self.marks.partition_point(|mark| mark.bytes <= offset);
        let mark = behind.checked_sub(1).and_then(|number| self.marks.get(number)).copied();
        mark.unwrap_or(Mark { bytes: 0, at: self.place.start })
    }

    /// Reads from an offset on until the buffer is full or nothing follows; how many bytes.
    ///
    /// # Errors
    /// From the system.
    pub fn read_up_to(&self, file: &File, buffer: &mut [u8], offset: u64) -> io::Result<usize> {
        let Mark { mut at, mut bytes } = self.mark_before(offset);
        let mut decoder = Decoder::new(self.encoding);
        let mut encoded = vec![0; READ_BYTES];
        let (mut decoded, mut filled) = (Vec::new(), 0);
        while filled < buffer.len() {
            let room = encoded.len().min(usize::try_from(self.place.end.saturating_sub(at)).unwrap_or(usize::MAX));
            let count = read_up_to_at(file, &mut encoded[..room], at)?;
            at += count as u64;
            decoder.push(&encoded[..count], &mut decoded);
            if count == 0 {
                decoder.finish(&mut decoded);
            }
            let skipped = usize::try_from(offset.saturating_sub(bytes)).unwrap_or(usize::MAX).min(decoded.len());
            let wanted = (decoded.len() - skipped).min(buffer.len() - filled);
            buffer[filled..filled + wanted].copy_from_slice(&decoded[skipped..skipped + wanted]);
            filled += wanted;
            bytes += decoded.len() as u64;
            decoded.clear();
            if count == 0 {
                break;
            }
        }
        Ok(filled)
    }
}

/// A file that is read from its beginning on, wherever others read it; whoever wants to stop ends it with [`Cancelled`].
struct FromBeginning<'a> {
    file: &'a File,
    at: u64,
    context: &'a Context<'a>,
}

impl Read for FromBeginning<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        self.context.go_on().map_err(io::Error::other)?;
        let count = read_up_to_at(self.file, buffer, self.at)?;
        self.at += count as u64;
        self.context.tell(Progress::Advance(count as u64));
        Ok(count)
    }
}
