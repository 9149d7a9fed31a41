//! From entry to entry: headers, the records and long names in front of them, and contents with their holes.

use super::header::{Header, HeaderFlaw};
use super::records::Records;
use super::sparse::{InFront, Map, SparseRecords, behind_header, in_header};
use super::{BLOCK_BYTES, MAX_RECORDS_BYTES};
use crate::formats::reader::{Flaws, Next};
use crate::formats::spot::Spot;
use crate::formats::streamed::{
    Described, Filled, Kind, StreamedError, StreamedReader, Unwrapped, Walk, WrappedFile, begins,
};
use crate::ground::context::Context;
use crate::ground::entry::Timestamp;

/// Kinds of headers (ustar interchange format, and what other writers have added).
const OLD_FILE: u8 = 0;
const FILE: u8 = b'0';
const HARD_LINK: u8 = b'1';
const LINK: u8 = b'2';
const FOLDER: u8 = b'5';
const CONTIGUOUS: u8 = b'7';
const RECORDS: u8 = b'x';
const GLOBAL_RECORDS: u8 = b'g';
const LONG_NAME: u8 = b'L';
const LONG_LINK: u8 = b'K';
const SPARSE: u8 = b'S';

/// Whether what is inside a file begins like a tar archive.
///
/// # Errors
/// [`StreamedError`] from the system; what does not decompress is no tar archive.
pub fn is_tar(spot: &Spot, context: &Context<'_>) -> Result<bool, StreamedError> {
    begins(&WrappedFile::look_at(spot)?, context, |block| {
        Header::decode(block).is_ok_and(|header| !header.name.is_empty())
    })
}

/// Opens a tar archive, in whatever compression.
///
/// # Errors
/// As [`StreamedReader::open`].
pub fn open(spot: &Spot, flaws: Flaws, context: &Context<'_>) -> Result<StreamedReader, StreamedError> {
    StreamedReader::open(WrappedFile::look_at(spot)?, begin, flaws, context)
}

/// Begins at the first header.
fn begin(stream: Unwrapped<'_>) -> Box<dyn Walk + '_> {
    Box::new(TarWalk { stream: Filled::new(stream), global: Records::default(), spread: None, lacks_end: false })
}

struct TarWalk<'a> {
    stream: Filled<'a>,
    global: Records,
    /// The holes of the current content, where it has any.
    spread: Option<Spread>,
    lacks_end: bool,
}

/// A content with zeros where nothing of it is stored.
struct Spread {
    map: Map,
    /// Bytes that were handed on.
    at: u64,
    /// Parts that were handed on.
    part: usize,
}

impl Spread {
    /// What comes next: a hole, or bytes that are stored, of which no more than these.
    fn next(&mut self) -> Next {
        let Map { parts, real_size } = &self.map;
        while parts.get(self.part).is_some_and(|part| self.at >= part.at.saturating_add(part.bytes)) {
            self.part += 1;
        }
        match parts.get(self.part) {
            Some(part) if self.at >= part.at => {
                let left = part.at.saturating_add(part.bytes) - self.at;
                Next::Bytes(usize::try_from(left).unwrap_or(usize::MAX))
            }
            Some(part) => Next::Hole(part.at - self.at),
            None if self.at < *real_size => Next::Hole(real_size - self.at),
            None => Next::Bytes(0),
        }
    }
}

impl Walk for TarWalk<'_> {
    fn next(&mut self) -> Result<Option<Described>, StreamedError> {
        let (mut own, mut long_name, mut long_link) = (Records::default(), None, None);
        loop {
            let at = self.stream.position();
            let Some((header, block)) = self.header()? else { return Ok(None) };
            self.follow(header.size);
            match header.kind {
                RECORDS => own = self.records()?,
                GLOBAL_RECORDS => self.global = self.records()?.over(&self.global),
                LONG_NAME => long_name = Some(self.text()?),
                LONG_LINK => long_link = Some(self.text()?),
                _ => {
                    let said = own.over(&self.global);
                    let size = said.size.unwrap_or(header.size);
                    // Only what is a file, or may be one, has content behind it.
                    let has_content = !matches!(header.kind, HARD_LINK | LINK | b'3' | b'4' | FOLDER | b'6');
                    self.follow(if has_content { size } else { 0 });
                    let whole = Timestamp { seconds: header.modified, nanoseconds: 0 };
                    let malformed = StreamedError::Malformed { what: "map of holes", at };
                    let map = match &said.sparse {
                        _ if header.kind == SPARSE => Some(self.map_behind(&block)?.ok_or(malformed)?),
                        Some(records) => Some(self.map_of(records)?.ok_or(malformed)?),
                        None => None,
                    };
                    let size = map.as_ref().map_or(size, |map| map.real_size);
                    let holes = map.as_ref().map_or(0, Map::holes);
                    self.spread = map.map(|map| Spread { map, at: 0, part: 0 });
                    let real_name = said.sparse.and_then(|records| records.name);
                    let name = real_name.or(said.path).or(long_name).unwrap_or(header.name);
                    let link = said.link.or(long_link).unwrap_or(header.link);
                    return Ok(Some(Described {
                        mode: header.mode,
                        size: if has_content { size } else { 0 },
                        modified: said.modified.unwrap_or(whole),
                        kind: kind_of(header.kind, &name, link),
                        holes,
                        attributes: said.attributes,
                        name,
                    }));
                }
            }
        }
    }

    fn read(&mut self, buffer: &mut [u8]) -> Result<Next, StreamedError> {
        let Some(spread) = &mut self.spread else { return Ok(Next::Bytes(self.stream.read(buffer)?)) };
        let next = match spread.next() {
            Next::Bytes(most) => {
                let room = most.min(buffer.len());
                Next::Bytes(self.stream.read(&mut buffer[..room])?)
            }
            hole => hole,
        };
        spread.at += match next {
            Next::Bytes(count) => count as u64,
            Next::Hole(bytes) => bytes,
        };
        Ok(next)
    }

    fn pass_over(&mut self) -> Result<(), StreamedError> {
        self.stream.pass_over(|_| {})
    }

    fn lacks_end(&self) -> bool {
        self.lacks_end
    }
}

/// What an entry is, by its header's kind.
fn kind_of(kind: u8, name: &[u8], link: Vec<u8>) -> Kind {
    match kind {
        OLD_FILE if name.last() == Some(&b'/') => Kind::Folder,
        OLD_FILE | FILE | CONTIGUOUS | SPARSE => Kind::File,
        FOLDER => Kind::Folder,
        LINK => Kind::Link(link),
        HARD_LINK => Kind::SecondName(link),
        _ => Kind::Special,
    }
}

impl TarWalk<'_> {
    /// The map of a file whose header has it, with the blocks behind that; `None` where it is malformed.
    fn map_behind(&mut self, block: &[u8; BLOCK_BYTES]) -> Result<Option<Map>, StreamedError> {
        let Some((mut numbers, mut goes_on, real_size)) = in_header(block) else { return Ok(None) };
        while goes_on {
            let mut block = [0; BLOCK_BYTES];
            if self.stream.fill(&mut block)? < BLOCK_BYTES {
                return Err(StreamedError::CutShort);
            }
            match behind_header(&block, &mut numbers) {
                Some(more) => goes_on = more,
                None => return Ok(None),
            }
        }
        Ok(Map::new(&numbers, real_size, self.stream.left()))
    }

    /// The map that records tell, or that stands in front of the content; `None` where it is malformed.
    fn map_of(&mut self, records: &SparseRecords) -> Result<Option<Map>, StreamedError> {
        let Some(real_size) = records.real_size else { return Ok(None) };
        if !records.in_front {
            return Ok(Map::new(&records.numbers, real_size, self.stream.left()));
        }
        let mut map = InFront::default();
        let mut goes_on = true;
        while goes_on {
            let mut block = [0; BLOCK_BYTES];
            let mut filled = 0;
            while filled < BLOCK_BYTES {
                match self.stream.read(&mut block[filled..])? {
                    0 => return Ok(None),
                    read => filled += read,
                }
            }
            match map.take(&block) {
                Some(more) => goes_on = more,
                None => return Ok(None),
            }
        }
        Ok(Map::new(map.numbers(), real_size, self.stream.left()))
    }

    fn header(&mut self) -> Result<Option<(Header, [u8; BLOCK_BYTES])>, StreamedError> {
        let at = self.stream.position();
        let mut block = [0; BLOCK_BYTES];
        match self.stream.fill(&mut block)? {
            // Some writers leave the mark out.
            0 if at > 0 => {
                self.lacks_end = true;
                return Ok(None);
            }
            BLOCK_BYTES => {}
            _ => return Err(StreamedError::CutShort),
        }
        // A block of zeros is the end; some writers leave out the second one.
        if block == [0; BLOCK_BYTES] {
            return self.stream.exhaust().map(|()| None);
        }
        Header::decode(&block).map(|header| Some((header, block))).map_err(|flaw| match flaw {
            HeaderFlaw::Sum => StreamedError::Header(at),
            HeaderFlaw::Number => StreamedError::Malformed { what: "header", at },
        })
    }

    fn follow(&mut self, size: u64) {
        self.spread = None;
        self.stream.follow(size, BLOCK_BYTES as u64);
    }

    /// All of a content that belongs to the next header.
    fn whole(&mut self) -> Result<Vec<u8>, StreamedError> {
        let at = self.stream.position();
        let too_long = StreamedError::Malformed { what: "length of extended records", at };
        self.stream.whole(MAX_RECORDS_BYTES)?.ok_or(too_long)
    }

    fn records(&mut self) -> Result<Records, StreamedError> {
        let at = self.stream.position();
        Records::read(&self.whole()?).ok_or(StreamedError::Malformed { what: "extended record", at })
    }

    /// A name of its own content, up to its zero.
    fn text(&mut self) -> Result<Vec<u8>, StreamedError> {
        let mut text = self.whole()?;
        let length = text.iter().position(|byte| *byte == 0).unwrap_or(text.len());
        text.truncate(length);
        Ok(text)
    }
}
