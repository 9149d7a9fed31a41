//! One header: numbers as digits, in fields that all have their place.

use crate::formats::streamed::FileNumber;

/// How an archive is written, as its headers' first six bytes say.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Form {
    /// The portable form of old.
    Portable,
    /// The new one.
    New,
    /// The new one, with the sum of each content's bytes.
    NewWithSums,
}

/// The length of what tells the form, in bytes.
pub(super) const MAGIC_BYTES: usize = 6;

/// The length of the longest header, in bytes.
pub(super) const MAX_HEADER_BYTES: usize = 110;

/// A field's first byte and the one behind its last.
type Field = (usize, usize);

/// Where the fields of a form stand that are read, and how they are written.
struct Layout {
    radix: u32,
    /// The device, in the new form in two halves.
    device: [Field; 2],
    file: Field,
    mode: Field,
    links: Field,
    modified: Field,
    name_bytes: Field,
    size: Field,
}

/// POSIX.1-2017, `pax`, "Octet-Oriented cpio Archive Entry".
const PORTABLE: Layout = Layout {
    radix: 8,
    device: [(0, 0), (6, 12)],
    file: (12, 18),
    mode: (18, 24),
    links: (36, 42),
    modified: (48, 59),
    name_bytes: (59, 65),
    size: (65, 76),
};

/// System V Release 4, `archives(4)`: thirteen numbers of eight digits behind the magic.
const NEW: Layout = Layout {
    radix: 16,
    device: [(62, 70), (70, 78)],
    file: (6, 14),
    mode: (14, 22),
    links: (38, 46),
    modified: (46, 54),
    name_bytes: (94, 102),
    size: (54, 62),
};

/// Where the sum stands in the new form.
const SUM: Field = (102, 110);

impl Form {
    /// The form, by how a header begins.
    pub fn of(magic: &[u8]) -> Option<Self> {
        match magic {
            b"070707" => Some(Self::Portable),
            b"070701" => Some(Self::New),
            b"070702" => Some(Self::NewWithSums),
            _ => None,
        }
    }

    /// How long its headers are, in bytes.
    pub const fn header_bytes(self) -> usize {
        match self {
            Self::Portable => 76,
            Self::New | Self::NewWithSums => MAX_HEADER_BYTES,
        }
    }

    /// A header with its name, and a content, are filled up to a multiple of so many bytes.
    pub const fn block_bytes(self) -> u64 {
        match self {
            Self::Portable => 1,
            Self::New | Self::NewWithSums => 4,
        }
    }
}

/// What a header says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Header {
    pub form: Form,
    /// The file's type and permission bits.
    pub mode: u32,
    /// What the file is known by where it has several names.
    pub number: Option<FileNumber>,
    /// Seconds since 1970.
    pub modified: i64,
    /// The length of its name with the zero behind it, in bytes.
    pub name_bytes: u64,
    /// The length of its content, in bytes.
    pub size: u64,
    /// The sum of its content's bytes, where it has one.
    pub sum: Option<u32>,
}

impl Header {
    /// Reads what begins with a header; `None` where it is none.
    pub fn decode(bytes: &[u8]) -> Option<Self> {
        let form = Form::of(bytes.get(..MAGIC_BYTES)?)?;
        let layout = if form == Form::Portable { PORTABLE } else { NEW };
        let number = |(from, to): Field| bytes.get(from..to).and_then(|digits| number(digits, layout.radix));
        let [high, low] = layout.device;
        let several = number(layout.links)? > 1;
        let device = (number(high)? << 32) | number(low)?;
        let file = number(layout.file)?;
        let sum = if form == Form::NewWithSums { Some(u32::try_from(number(SUM)?).ok()?) } else { None };
        Some(Self {
            form,
            mode: u32::try_from(number(layout.mode)?).ok()?,
            number: several.then_some((device, file)),
            modified: i64::try_from(number(layout.modified)?).ok()?,
            name_bytes: number(layout.name_bytes)?,
            size: number(layout.size)?,
            sum,
        })
    }
}

/// A number of no more than eleven digits; no digit is zero.
fn number(digits: &[u8], radix: u32) -> Option<u64> {
    let digit = |byte: &u8| char::from(*byte).to_digit(radix).map(u64::from);
    digits.iter().try_fold(0_u64, |value, byte| Some(value * u64::from(radix) + digit(byte)?))
}
