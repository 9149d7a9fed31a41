//! The header with which every volume describes itself, and the order in which it is believed.

use super::spares::Groups;
use super::{CellLength, Geometry, HEADER_BYTES};
use crate::ground::codes::hexadecimal;
use std::fmt;

/// The first eight bytes of every volume. The first is no UTF-8 and the last four break visibly when
/// a transfer treats the file as text.
pub const MAGIC: [u8; 8] = [0xF5, b'U', b'S', b'L', 0x0D, 0x0A, 0x1A, 0x0A];

/// The format version that this code reads and writes.
pub const VERSION: u16 = 1;

/// AES-256-GCM, HKDF and HMAC with SHA-256, BLAKE3.
pub const SUITE: u8 = 1;

/// Where the head begins: the part that is the same in every volume and opaque to this layer.
pub const HEAD_AT: usize = 128;

/// Where the header's own check (BLAKE3 of all bytes before it) begins.
pub const CHECK_AT: usize = 4_064;

/// Bytes of the head.
pub const HEAD_BYTES: usize = CHECK_AT - HEAD_AT;

/// Where the length of the cells stands: it is bound to what is sealed, whatever the cut.
const CELL_LENGTH_AT: usize = 76;

const GEOMETRY_END: usize = 80;

/// What a volume holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum VolumeKind {
    /// Cells of the stream.
    Data = 0,
    /// Parity of the data volumes' cells.
    Spare = 1,
    /// Some cells of the data volumes once more (see [`super::supplement`]).
    Supplement = 2,
}

/// Which set a volume belongs to, and which cutting of it.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Ids {
    /// Random, one for each sealed stream.
    pub set: [u8; 16],
    /// Random, one for each cutting of the stream into volumes.
    pub cut: [u8; 16],
}

impl Ids {
    /// The set id in hexadecimal digits.
    pub fn set_text(&self) -> String {
        hexadecimal(&self.set)
    }
}

impl fmt::Debug for Ids {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(formatter, "Ids({})", self.set_text())
    }
}

/// Bytes 128 to 4063 of a header, the same in every volume: how the archive is unlocked. Public values
/// and wrapped keys only.
#[derive(Clone, PartialEq, Eq)]
pub struct Head(Box<[u8; HEAD_BYTES]>);

impl Head {
    /// Takes the bytes as they are.
    pub fn new(bytes: [u8; HEAD_BYTES]) -> Self {
        Self(Box::new(bytes))
    }

    /// The bytes.
    pub fn as_bytes(&self) -> &[u8; HEAD_BYTES] {
        &self.0
    }
}

impl fmt::Debug for Head {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str("Head")
    }
}

/// A volume's header.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Header {
    /// Data, spare or a supplement.
    pub kind: VolumeKind,
    /// Set and cutting.
    pub ids: Ids,
    /// From 1.
    pub number: u32,
    /// How the stream is cut.
    pub geometry: Geometry,
    /// How it is unlocked.
    pub head: Head,
}

/// Why a file's first bytes are not a usable header.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum HeaderError {
    /// The first bytes are not ours at all.
    #[error("not an Under Seal volume")]
    NotAVolume,
    /// The first bytes are ours but for line ends: some program moved the file as if it were text.
    #[error("the file was transferred as text")]
    MovedAsText,
    /// The check does not match: damage.
    #[error("the header is damaged")]
    Damaged,
    /// Made by a later version of the format.
    #[error("format version {0} is not known")]
    UnknownVersion(u16),
    /// Made by a draft of version 1 that was never published.
    #[error("made by an unpublished draft")]
    UnpublishedDraft,
    /// The check matches, but the values break the format's rules.
    #[error("the header contradicts itself")]
    Inconsistent,
}

/// What cells and the head are bound to, beside the format, whatever the cut.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Bound {
    /// The set id.
    pub set: [u8; 16],
    /// How long the stream's cells are.
    pub cell_length: CellLength,
}

/// Whether a file begins like a header, even where it was moved as text.
pub fn may_be_a_header(beginning: &[u8]) -> bool {
    let [first, rest @ ..] = beginning else { return false };
    first & 0x7F == MAGIC[0] & 0x7F && rest.starts_with(&MAGIC[1..4])
}

/// Bytes of a header that are bound.
pub const BOUND_BYTES: usize = 31;

impl Bound {
    /// Bytes 0 to 10, 16 to 31 and 76 to 79 of a header.
    pub fn bytes(&self) -> [u8; BOUND_BYTES] {
        let mut bytes = [0; BOUND_BYTES];
        bytes[..8].copy_from_slice(&MAGIC);
        bytes[8..10].copy_from_slice(&VERSION.to_le_bytes());
        bytes[10] = SUITE;
        bytes[11..27].copy_from_slice(&self.set);
        bytes[27..].copy_from_slice(&(self.cell_length.bytes() as u32).to_le_bytes());
        bytes
    }
}

impl Header {
    /// The header's bytes.
    pub fn encode(&self) -> [u8; HEADER_BYTES] {
        let mut bytes = [0; HEADER_BYTES];
        let mut put = |at: usize, value: &[u8]| bytes[at..at + value.len()].copy_from_slice(value);
        let geometry = &self.geometry;
        put(0, &MAGIC);
        put(8, &VERSION.to_le_bytes());
        put(10, &[SUITE, self.kind as u8]);
        put(12, &(HEADER_BYTES as u32).to_le_bytes());
        put(16, &self.ids.set);
        put(32, &self.ids.cut);
        put(48, &self.number.to_le_bytes());
        put(52, &geometry.data_volumes.to_le_bytes());
        put(56, &geometry.spare_volumes.to_le_bytes());
        put(60, &geometry.cells_per_volume.to_le_bytes());
        put(64, &geometry.cells.to_le_bytes());
        put(72, &geometry.last_cell_bytes.to_le_bytes());
        put(CELL_LENGTH_AT, &(geometry.cell_length.bytes() as u32).to_le_bytes());
        put(HEAD_AT, self.head.as_bytes());
        let check = blake3::hash(&bytes[..CHECK_AT]);
        bytes[CHECK_AT..].copy_from_slice(check.as_bytes());
        bytes
    }

    /// Reads a header: mark, check, version, then the values.
    ///
    /// # Errors
    /// [`HeaderError`], the first that applies in that order.
    pub fn decode(bytes: &[u8; HEADER_BYTES]) -> Result<Self, HeaderError> {
        check_magic(bytes)?;
        if blake3::hash(&bytes[..CHECK_AT]).as_bytes() != &bytes[CHECK_AT..] {
            return Err(HeaderError::Damaged);
        }
        let version = u16::from_le_bytes(array(bytes, 8));
        if version != VERSION || bytes[10] != SUITE {
            return Err(HeaderError::UnknownVersion(version));
        }
        let number_at = |at| u32::from_le_bytes(array(bytes, at));
        let kind = match bytes[11] {
            0 => VolumeKind::Data,
            1 => VolumeKind::Spare,
            2 => VolumeKind::Supplement,
            _ => return Err(HeaderError::Inconsistent),
        };
        let cell_length = match number_at(CELL_LENGTH_AT) {
            0 => return Err(HeaderError::UnpublishedDraft),
            bytes => CellLength::new(bytes).ok_or(HeaderError::Inconsistent)?,
        };
        let geometry = Geometry {
            cell_length,
            data_volumes: number_at(52),
            spare_volumes: number_at(56),
            cells_per_volume: number_at(60),
            cells: u64::from_le_bytes(array(bytes, 64)),
            last_cell_bytes: number_at(72),
        };
        let number = number_at(48);
        let highest = match kind {
            VolumeKind::Data => geometry.data_volumes,
            // Some may have been added since.
            VolumeKind::Spare => Groups::of(geometry.data_volumes).most_spares(),
            VolumeKind::Supplement => 1,
        };
        let zeros = bytes[GEOMETRY_END..HEAD_AT].iter().all(|byte| *byte == 0);
        if number_at(12) as usize != HEADER_BYTES
            || !geometry.is_consistent()
            || !(1..=highest).contains(&number)
            || !zeros
        {
            return Err(HeaderError::Inconsistent);
        }
        let ids = Ids { set: array(bytes, 16), cut: array(bytes, 32) };
        Ok(Self { kind, ids, number, geometry, head: Head::new(array(bytes, HEAD_AT)) })
    }
}

fn check_magic(bytes: &[u8; HEADER_BYTES]) -> Result<(), HeaderError> {
    if bytes[..8] == MAGIC {
        return Ok(());
    }
    // CR dropped, LF made CR LF, or the high bit lost: what remains of our mark tells.
    Err(if may_be_a_header(bytes) { HeaderError::MovedAsText } else { HeaderError::NotAVolume })
}

fn array<const N: usize>(bytes: &[u8; HEADER_BYTES], at: usize) -> [u8; N] {
    let mut array = [0; N];
    array.copy_from_slice(&bytes[at..at + N]);
    array
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn header() -> Header {
        Header {
            kind: VolumeKind::Data,
            ids: Ids { set: [1; 16], cut: [2; 16] },
            number: 3,
            geometry: Geometry {
                data_volumes: 7,
                spare_volumes: 0,
                cells_per_volume: 4,
                cells: 26,
                last_cell_bytes: 8_192,
                cell_length: CellLength::LONGEST,
            },
            head: Head::new([9; HEAD_BYTES]),
        }
    }

    #[test]
    fn a_header_comes_back_and_every_flipped_byte_in_it_is_noticed() {
        let bytes = header().encode();
        assert_eq!(Header::decode(&bytes), Ok(header()));
        for at in 0..HEADER_BYTES {
            let mut flipped = bytes;
            flipped[at] ^= 0x10;
            assert!(Header::decode(&flipped).is_err(), "byte {at}");
        }
    }

    #[rstest]
    #[case::so(&MAGIC, true)]
    #[case::moved_as_text(&[MAGIC[0] & 0x7F, MAGIC[1], MAGIC[2], MAGIC[3]], true)]
    #[case::another_beginning(&[b'P', MAGIC[1], MAGIC[2], MAGIC[3]], false)]
    #[case::another_continuation(&[MAGIC[0], MAGIC[1], MAGIC[2], 0], false)]
    #[case::nothing(&[], false)]
    fn a_file_is_worth_looking_at_by_its_beginning(#[case] beginning: &[u8], #[case] expected: bool) {
        assert_eq!(may_be_a_header(beginning), expected);
    }

    #[rstest]
    #[case::number_zero(|h: &mut Header| h.number = 0)]
    #[case::number_beyond_the_count(|h: &mut Header| h.number = 8)]
    #[case::too_few_volumes(|h: &mut Header| h.geometry.data_volumes = 6)]
    #[case::no_cells_a_volume(|h: &mut Header| h.geometry.cells_per_volume = 0)]
    #[case::more_cells_a_volume_than_cells(|h: &mut Header| {
        (h.number, h.geometry.data_volumes, h.geometry.cells_per_volume) = (1, 1, 27);
    })]
    #[case::no_cells(|h: &mut Header| h.geometry.cells = 0)]
    #[case::endless_cells(|h: &mut Header| h.geometry.cells = u64::MAX)]
    #[case::odd_last_cell(|h: &mut Header| h.geometry.last_cell_bytes = 5_000)]
    #[case::no_last_cell(|h: &mut Header| h.geometry.last_cell_bytes = 0)]
    fn a_header_that_contradicts_itself_is_refused(#[case] spoil: fn(&mut Header)) {
        let mut header = header();
        spoil(&mut header);
        assert_eq!(Header::decode(&header.encode()), Err(HeaderError::Inconsistent));
    }

    #[test]
    fn cells_have_a_permitted_length_or_the_header_is_of_a_draft() {
        let with_length = |bytes: u32| {
            let mut header = header().encode();
            header[CELL_LENGTH_AT..GEOMETRY_END].copy_from_slice(&bytes.to_le_bytes());
            let check = blake3::hash(&header[..CHECK_AT]);
            header[CHECK_AT..].copy_from_slice(check.as_bytes());
            Header::decode(&header).map(|header| header.geometry.cell_length.bytes())
        };
        assert_eq!([8_192, 9_024, 65_536].map(with_length), [Ok(8_192), Ok(9_024), Ok(65_536)]);
        let inconsistent = Err(HeaderError::Inconsistent);
        assert_eq!([4_032, 9_025, 8_128, 65_600].map(with_length), [inconsistent; 4]);
        assert_eq!(with_length(0), Err(HeaderError::UnpublishedDraft));
    }

    #[rstest]
    #[case::cr_dropped(&[0xF5, b'U', b'S', b'L', 0x0A, 0x1A, 0x0A, 0], HeaderError::MovedAsText)]
    #[case::high_bit_lost(&[0x75, b'U', b'S', b'L', 0x0D, 0x0A, 0x1A, 0x0A], HeaderError::MovedAsText)]
    #[case::something_else(b"minutes ", HeaderError::NotAVolume)]
    fn text_transfers_are_told_from_foreign_files(#[case] start: &[u8; 8], #[case] expected: HeaderError) {
        let mut bytes = header().encode();
        bytes[..8].copy_from_slice(start);
        assert_eq!(Header::decode(&bytes), Err(expected));
    }
}
