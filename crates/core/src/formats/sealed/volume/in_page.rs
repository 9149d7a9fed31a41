//! Where a volume's bytes are in a file: from its beginning on; in what is attached to a message; or, since a page can carry a volume
//! that it opens in any browser, behind the page's text. docs/format.md 1.5 gives both forms of such a page: the volume as it is, or in
//! base 64, which a browser reads with the page.
//!
//! What a page's second line says is a claim: it is believed as far as the file holds it, and proves nothing.

use crate::disk::{FileError, all_came};
use crate::formats::spot::{OpenSpot, Spot};
use data_encoding::BASE64;
use std::fs::{File, Metadata};
use std::io;

/// How every page with a volume begins (docs/format.md 1.5).
pub const PAGE_BEGIN: &str = "<!DOCTYPE html>\n";

/// How its second line begins, and how it ends.
const LINE_BEGIN: &str = "<!--under-seal-volume 1 ";
const LINE_END: &str = "-->\n";

/// Bytes of that line: the form, and two numbers of 16 hexadecimal digits, apart by spaces.
const LINE_BYTES: usize = LINE_BEGIN.len() + RAW.len() + 2 * (1 + DIGITS) + LINE_END.len();
const DIGITS: usize = 16;

/// What the forms are called there.
const RAW: &str = "raw";
const IN_BASE64: &str = "b64";

/// Bytes of the volume in each element but the last; a multiple of three, so that each element ends with a whole group.
pub const ELEMENT_BYTES: usize = 3 * 1024 * 1024;

/// What stands before an element's text, and behind it.
const ELEMENT_BEGIN: &str = "<script type=\"application/x-under-seal-volume\">";
const ELEMENT_END: &str = "</script>\n";

/// How a page carries a volume.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// As it is, up to the end of the file.
    Raw,
    /// In base 64, in elements.
    Base64,
}

/// A volume in a page.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct InPage {
    /// In which form.
    pub form: Form,
    /// Where what carries it begins in the file, in bytes.
    pub from: u64,
    /// Bytes of the volume.
    pub bytes: u64,
}

impl InPage {
    /// Of a volume of so many bytes in a page, whose own text is as long as it is without the line that tells of the volume.
    pub fn behind(page: &[u8], form: Form, bytes: u64) -> Self {
        Self { form, from: (page.len() + LINE_BYTES) as u64, bytes }
    }

    /// What stands before the volume: the page's text with the line.
    pub fn opening(&self, page: &[u8]) -> Vec<u8> {
        let form = match self.form {
            Form::Raw => RAW,
            Form::Base64 => IN_BASE64,
        };
        let line = format!("{LINE_BEGIN}{form} {:016x} {:016x}{LINE_END}", self.from, self.bytes);
        let behind = page.strip_prefix(PAGE_BEGIN.as_bytes()).unwrap_or(page);
        [PAGE_BEGIN.as_bytes(), line.as_bytes(), behind].concat()
    }

    /// An element that carries these bytes, which are [`ELEMENT_BYTES`] but in the last one.
    pub fn element(bytes: &[u8]) -> String {
        format!("{ELEMENT_BEGIN}{}{ELEMENT_END}", BASE64.encode(bytes))
    }

    /// Bytes of the whole file.
    pub const fn file_bytes(&self) -> u64 {
        let carried = match self.form {
            Form::Raw => self.bytes,
            Form::Base64 => {
                let around = (ELEMENT_BEGIN.len() + ELEMENT_END.len()) as u64;
                let last = self.bytes % ELEMENT_BYTES as u64;
                let whole = self.bytes / ELEMENT_BYTES as u64;
                let last_bytes = if last == 0 { 0 } else { around.saturating_add(last.div_ceil(3) * 4) };
                whole.saturating_mul(ELEMENT_STRIDE).saturating_add(last_bytes)
            }
        };
        self.from.saturating_add(carried)
    }

    /// Where a byte of the volume stands in the file; in base 64, where the group begins that it is in.
    pub const fn place_of(&self, offset: u64) -> u64 {
        let inside = match self.form {
            Form::Raw => offset,
            Form::Base64 => {
                let (element, within) = (offset / ELEMENT_BYTES as u64, offset % ELEMENT_BYTES as u64);
                element.saturating_mul(ELEMENT_STRIDE).saturating_add(ELEMENT_BEGIN.len() as u64 + within / 3 * 4)
            }
        };
        self.from.saturating_add(inside)
    }

    /// What the first two lines of a file say of a volume in it.
    fn read(file: &OpenSpot) -> io::Result<Option<Self>> {
        let mut start = [0; PAGE_BEGIN.len() + LINE_BYTES];
        let filled = file.read_up_to(&mut start, 0)?;
        Ok(std::str::from_utf8(&start[..filled]).ok().and_then(Self::parse))
    }

    fn parse(start: &str) -> Option<Self> {
        let line = start.strip_prefix(PAGE_BEGIN)?.strip_prefix(LINE_BEGIN)?.strip_suffix(LINE_END)?;
        let mut words = line.split(' ');
        let form = match words.next()? {
            RAW => Form::Raw,
            IN_BASE64 => Form::Base64,
            _ => return None,
        };
        let mut number = || {
            let digits = words.next()?;
            let is_one =
                digits.len() == DIGITS && digits.bytes().all(|digit| matches!(digit, b'0'..=b'9' | b'a'..=b'f'));
            u64::from_str_radix(digits, 16).ok().filter(|_| is_one)
        };
        let (from, bytes) = (number()?, number()?);
        (from >= (PAGE_BEGIN.len() + LINE_BYTES) as u64).then_some(Self { form, from, bytes })
    }

    /// How much of the volume a file of this length can hold.
    const fn bytes_within(&self, file_bytes: u64) -> u64 {
        let room = file_bytes.saturating_sub(self.from);
        let held = match self.form {
            Form::Raw => room,
            Form::Base64 => {
                let text = (room % ELEMENT_STRIDE).saturating_sub(ELEMENT_BEGIN.len() as u64) / 4 * 3;
                let last = if text > ELEMENT_BYTES as u64 { ELEMENT_BYTES as u64 } else { text };
                (room / ELEMENT_STRIDE * ELEMENT_BYTES as u64).saturating_add(last)
            }
        };
        if held < self.bytes { held } else { self.bytes }
    }
}

/// Bytes from the beginning of one whole element to that of the next.
const ELEMENT_STRIDE: u64 = (ELEMENT_BEGIN.len() + ELEMENT_BYTES / 3 * 4 + ELEMENT_END.len()) as u64;

/// A file with a volume, open for reading that.
#[derive(Debug)]
pub struct VolumeBytes {
    carrier: OpenSpot,
    /// Where it is in a page, if it is in one.
    pub in_page: Option<InPage>,
    /// Bytes of it that the file holds; behind a volume that is in no page, others may stand.
    pub length: u64,
}

impl VolumeBytes {
    /// Opens what lies there, whatever is in it.
    ///
    /// # Errors
    /// [`FileError`] from the system, or where the path is no regular file.
    pub fn open(spot: &Spot) -> Result<Self, FileError> {
        let carrier = spot.open()?;
        // A disc that does not give the beginning back has no header to give either.
        let in_page = InPage::read(&carrier).ok().flatten();
        let length = in_page.map_or(carrier.length(), |inside| inside.bytes_within(carrier.length()));
        Ok(Self { carrier, in_page, length })
    }

    /// The file that it is in.
    pub fn file(&self) -> &File {
        self.carrier.file()
    }

    /// What the system says of that.
    pub fn metadata(&self) -> &Metadata {
        &self.carrier.metadata
    }

    /// Reads from an offset in the volume on, until the buffer is full or the volume ends; how many bytes.
    ///
    /// # Errors
    /// From the system, or where what should be base 64 is not.
    pub fn read_up_to(&self, buffer: &mut [u8], offset: u64) -> io::Result<usize> {
        let Some(inside) = self.in_page else { return self.carrier.read_up_to(buffer, offset) };
        let left = usize::try_from(self.length.saturating_sub(offset)).unwrap_or(usize::MAX);
        let wanted = left.min(buffer.len());
        // What nothing of is here may claim to stand anywhere.
        if wanted == 0 {
            return Ok(0);
        }
        let buffer = &mut buffer[..wanted];
        match inside.form {
            Form::Raw => self.carrier.read_up_to(buffer, inside.place_of(offset)),
            Form::Base64 => self.decode(&inside, buffer, offset),
        }
    }

    /// Fills the buffer with what stands in the volume from an offset on.
    pub fn read_exact_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<()> {
        let filled = self.read_up_to(buffer, offset)?;
        all_came(filled, buffer.len())
    }

    /// Reads what stands in elements.
    fn decode(&self, in_page: &InPage, buffer: &mut [u8], offset: u64) -> io::Result<usize> {
        let mut filled = 0;
        while filled < buffer.len() {
            let at = offset + filled as u64;
            let within = (at % ELEMENT_BYTES as u64) as usize;
            let (skipped, wanted) = (within % 3, (buffer.len() - filled).min(ELEMENT_BYTES - within));
            let mut text = vec![0; (skipped + wanted).div_ceil(3) * 4];
            let groups = self.carrier.read_up_to(&mut text, in_page.place_of(at))? / 4;
            let decoded = BASE64
                .decode(&text[..groups * 4])
                .map_err(|error| io::Error::new(io::ErrorKind::InvalidData, error))?;
            let Some(bytes) = decoded.get(skipped..).filter(|bytes| !bytes.is_empty()) else { break };
            let count = bytes.len().min(wanted);
            buffer[filled..filled + count].copy_from_slice(&bytes[..count]);
            filled += count;
            if count < wanted {
                break;
            }
        }
        Ok(filled)
    }

    /// Whether everything that a browser shows around the volume is what this page and this form of carrying it are, as far as the
    /// file goes. Behind a volume in raw form a browser reads nothing.
    ///
    /// # Errors
    /// From the system.
    pub fn is_in(&self, page: &[u8]) -> io::Result<bool> {
        let Some(inside) = self.in_page else { return Ok(false) };
        let holds = |expected: &[u8], at: u64| {
            let mut there = vec![0; expected.len()];
            Ok::<_, io::Error>(self.carrier.read_up_to(&mut there, at)? == expected.len() && there == expected)
        };
        let is_own = inside == InPage::behind(page, inside.form, inside.bytes) && holds(&inside.opening(page), 0)?;
        if !is_own || inside.form == Form::Raw {
            return Ok(is_own);
        }
        let here = self.carrier.length();
        if here > inside.file_bytes() {
            return Ok(false);
        }
        for element in 0..inside.bytes.div_ceil(ELEMENT_BYTES as u64) {
            let begin = inside.place_of(element * ELEMENT_BYTES as u64) - ELEMENT_BEGIN.len() as u64;
            let end = (begin + ELEMENT_STRIDE).min(inside.file_bytes()) - ELEMENT_END.len() as u64;
            if end >= here {
                break;
            }
            if !holds(ELEMENT_BEGIN.as_bytes(), begin)? || !holds(ELEMENT_END.as_bytes(), end)? {
                return Ok(false);
            }
        }
        Ok(true)
    }
}

/// Whether a file begins like such a page, whatever its line ends.
pub fn may_be_in_page(beginning: &[u8]) -> bool {
    beginning.starts_with([PAGE_BEGIN, LINE_BEGIN].concat().as_bytes()) || was_moved_as_text(beginning)
}

/// Whether a file's beginning is that of such a page but for its line ends: some program moved it as if it were text.
pub fn was_moved_as_text(beginning: &[u8]) -> bool {
    let lines = [PAGE_BEGIN.trim_end(), "\r\n", LINE_BEGIN].concat();
    beginning.starts_with(lines.as_bytes())
}
