//! From entry to entry: a header, the name behind it, and the content behind that.

use super::header::{Form, Header, MAGIC_BYTES, MAX_HEADER_BYTES};
use super::{END_NAME, MAX_NAME_BYTES};
use crate::formats::reader::{Flaws, Next};
use crate::formats::spot::Spot;
use crate::formats::streamed::{
    Described, Filled, Kind, StreamedError, StreamedReader, Unwrapped, Walk, WrappedFile, begins,
};
use crate::ground::context::Context;
use crate::ground::entry::{MAX_LINK_TARGET_BYTES, Timestamp};

/// The bits of a mode that say what kind of file it is, and the kinds that can be extracted (POSIX.1-2017, `pax`, "Values for cpio
/// c_mode Field").
const KIND_BITS: u32 = 0o170_000;
const FILE: u32 = 0o100_000;
const FOLDER: u32 = 0o040_000;
const LINK: u32 = 0o120_000;

/// Whether what is inside a file begins like a cpio archive.
///
/// # Errors
/// [`StreamedError`] from the system; what does not decompress is no cpio archive.
pub fn is_cpio(spot: &Spot, context: &Context<'_>) -> Result<bool, StreamedError> {
    // The shorter header is no longer than the shortest archive, which ends with one.
    begins::<{ Form::Portable.header_bytes() }>(&WrappedFile::look_at(spot)?, context, |beginning| {
        match Form::of(&beginning[..MAGIC_BYTES]) {
            Some(Form::Portable) => Header::decode(beginning).is_some(),
            Some(_) => beginning[MAGIC_BYTES..].iter().all(u8::is_ascii_hexdigit),
            None => false,
        }
    })
}

/// Opens a cpio archive, in whatever compression.
///
/// # Errors
/// As [`StreamedReader::open`].
pub fn open(spot: &Spot, flaws: Flaws, context: &Context<'_>) -> Result<StreamedReader, StreamedError> {
    StreamedReader::open(WrappedFile::look_at(spot)?, begin, flaws, context)
}

/// Begins at the first header.
fn begin(stream: Unwrapped<'_>) -> Box<dyn Walk + '_> {
    Box::new(CpioWalk { stream: Filled::new(stream), sum: None, lacks_end: false })
}

struct CpioWalk<'a> {
    stream: Filled<'a>,
    /// The sum of the current content, as told and as far as it was read.
    sum: Option<Sum>,
    lacks_end: bool,
}

/// A sum of bytes, which wraps around.
#[derive(Clone, Copy)]
struct Sum {
    told: u32,
    found: u32,
}

impl Sum {
    fn add(&mut self, bytes: &[u8]) {
        self.found = bytes.iter().fold(self.found, |sum, byte| sum.wrapping_add((*byte).into()));
    }
}

impl Walk for CpioWalk<'_> {
    fn next(&mut self) -> Result<Option<Described>, StreamedError> {
        let at = self.stream.position();
        let malformed = |what| StreamedError::Malformed { what, at };
        let Some(header) = self.header()? else { return Ok(None) };
        let name = self.name(&header)?.ok_or(malformed("name"))?;
        if name == END_NAME {
            return self.stream.exhaust().map(|()| None);
        }
        self.stream.follow(header.size, header.form.block_bytes());
        let mut size = 0;
        let kind = match (header.mode & KIND_BITS, header.number) {
            (FILE, number) => {
                size = header.size;
                self.sum = header.sum.filter(|_| size > 0).map(|told| Sum { told, found: 0 });
                number.map_or(Kind::File, Kind::OneOfSeveral)
            }
            (FOLDER, _) => Kind::Folder,
            (LINK, _) => {
                let target = self.stream.whole(MAX_LINK_TARGET_BYTES as u64)?;
                target.map_or(Kind::Special, Kind::Link)
            }
            _ => Kind::Special,
        };
        let modified = Timestamp { seconds: header.modified, nanoseconds: 0 };
        Ok(Some(Described { name, mode: header.mode & 0o7777, modified, kind, size, holes: 0, attributes: Vec::new() }))
    }

    fn read(&mut self, buffer: &mut [u8]) -> Result<Next, StreamedError> {
        let read = self.stream.read(buffer)?;
        if let Some(sum) = &mut self.sum {
            sum.add(&buffer[..read]);
        }
        // Before the last bytes are handed on: what they end is not whole then.
        if self.stream.left() == 0 {
            self.compare_sum()?;
        }
        Ok(Next::Bytes(read))
    }

    fn pass_over(&mut self) -> Result<(), StreamedError> {
        let sum = &mut self.sum;
        self.stream.pass_over(|bytes| sum.iter_mut().for_each(|sum| sum.add(bytes)))?;
        self.compare_sum()
    }

    fn lacks_end(&self) -> bool {
        self.lacks_end
    }
}

impl CpioWalk<'_> {
    /// The next header; `None` where the stream ends.
    fn header(&mut self) -> Result<Option<Header>, StreamedError> {
        let at = self.stream.position();
        let malformed = StreamedError::Malformed { what: "header", at };
        let mut bytes = [0; MAX_HEADER_BYTES];
        match self.stream.fill(&mut bytes[..MAGIC_BYTES])? {
            0 if at > 0 => {
                self.lacks_end = true;
                return Ok(None);
            }
            MAGIC_BYTES => {}
            _ => return Err(StreamedError::CutShort),
        }
        let Some(form) = Form::of(&bytes[..MAGIC_BYTES]) else { return Err(malformed) };
        let rest = &mut bytes[MAGIC_BYTES..form.header_bytes()];
        if self.stream.fill(rest)? < rest.len() {
            return Err(StreamedError::CutShort);
        }
        Header::decode(&bytes).map(Some).ok_or(malformed)
    }

    /// The name behind a header, without the zero that ends it; `None` where it is too long, or none.
    fn name(&mut self, header: &Header) -> Result<Option<Vec<u8>>, StreamedError> {
        // Header and name are filled up together.
        let header_bytes = header.form.header_bytes() as u64;
        let (block_bytes, name_bytes) = (header.form.block_bytes(), header.name_bytes);
        if name_bytes > MAX_NAME_BYTES {
            return Ok(None);
        }
        let filling = (header_bytes + name_bytes).next_multiple_of(block_bytes) - header_bytes - name_bytes;
        self.stream.follow(name_bytes + filling, 1);
        let with_filling = self.stream.whole(MAX_NAME_BYTES + block_bytes)?;
        Ok(with_filling.and_then(|mut name| {
            name.truncate(usize::try_from(name_bytes).unwrap_or(0));
            (name.pop() == Some(0)).then_some(name)
        }))
    }

    /// Compares the content's sum, once.
    fn compare_sum(&mut self) -> Result<(), StreamedError> {
        match self.sum.take() {
            Some(Sum { told, found }) if told != found => {
                Err(StreamedError::Malformed { what: "the sum of a file", at: self.stream.position() })
            }
            _ => Ok(()),
        }
    }
}
