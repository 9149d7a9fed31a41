//! What the fuzz targets and the seeds' test do with bytes: parse them as one part of the format, and hold whatever is
//! accepted to what it came from. Whatever the bytes, nothing panics and nothing large is allocated.

use ring::hmac;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU64, Ordering};
use under_seal_core::codecs::block::Decompressor;
use under_seal_core::formats::cpio;
use under_seal_core::formats::iso::{IsoReader, SECTOR_BYTES};
use under_seal_core::formats::reader::{ArchiveReader, Flaws};
use under_seal_core::formats::sealed::frame::{FRAME_HEADER_BYTES, FrameHeader};
use under_seal_core::formats::sealed::head::open_head;
use under_seal_core::formats::sealed::index::{PageRef, Root, read_page};
use under_seal_core::formats::sealed::keys::KeyPurpose;
use under_seal_core::formats::sealed::record::{
    Record, Records, begin_data, grow_data, put_attribute, put_end, put_entry, put_hole,
};
use under_seal_core::formats::sealed::volume::header::{Bound, CHECK_AT, HEAD_BYTES, Head, Header};
use under_seal_core::formats::sealed::volume::spares::code::Sums;
use under_seal_core::formats::sealed::volume::spares::column::{Column, Verdict};
use under_seal_core::formats::sealed::volume::supplement::{PAGE_BYTES, decode_page, encode_page};
use under_seal_core::formats::sealed::volume::{CHECK_BYTES, CellLength, Geometry, HEADER_BYTES, Ids};
use under_seal_core::formats::sealed::{ArchiveKey, CostLimit, KeyCost, seal_head};
use under_seal_core::formats::tar;
use under_seal_core::formats::zip::{Segments, ZipReader, is_zip};
use under_seal_core::ground::codes::{decode, encode};
use under_seal_core::ground::context::{Cancelled, Context, NoRandomness, Observer, Progress, Randomness};
use under_seal_core::ground::entry::Timestamp;
use under_seal_core::ground::ownership::OwnerKey;
use under_seal_core::ground::secrets::{Credentials, Password};
use under_seal_core::ground::sink::EntrySink;
use under_seal_core::tasks::receipt::Receipt;
use under_seal_core::tasks::resend::Slip;

/// A volume's header, as it is and with its check made right.
pub fn header(data: &[u8]) {
    let mut bytes = [0; HEADER_BYTES];
    let length = data.len().min(HEADER_BYTES);
    bytes[..length].copy_from_slice(&data[..length]);
    let _ = Header::decode(&bytes);
    let check = blake3::hash(&bytes[..CHECK_AT]);
    bytes[CHECK_AT..].copy_from_slice(check.as_bytes());
    if let Ok(header) = Header::decode(&bytes) {
        assert_eq!(header.encode(), bytes);
    }
}

/// A column of cells, of which some are lost and some spare ones forged. Where as many right ones are there as are lost, what was there
/// comes back.
pub fn spares(data: &[u8]) {
    const PLACES: [u8; 7] = [0, 1, 2, 7, 31, 54, 55];
    const CELL_BYTES: usize = 80;
    let Some((&[members, lost, here, forged], rest)) = data.split_first_chunk() else { return };
    let members = 1 + members % 7;
    let is_set = |mask: u8, at: usize| mask >> at & 1 == 1;
    let byte = |at: usize| rest.get(at % rest.len().max(1)).copied().unwrap_or(0);
    let cells: Vec<Vec<u8>> = (0..usize::from(members))
        .map(|member| (0..CELL_BYTES).map(|at| byte(member * CELL_BYTES + at) ^ (member * at) as u8).collect())
        .collect();
    let refs: Vec<&[u8]> = cells.iter().map(Vec::as_slice).collect();
    let given = |cell: Option<&[u8]>, into: &mut [u8]| {
        into.iter_mut().zip(cell.unwrap_or_default()).for_each(|(to, from)| *to = *from);
        Ok::<_, Cancelled>(cell.map(<[u8]>::len))
    };
    let mut column = Column::default();
    column.begin(CELL_BYTES);
    for member in 0..members {
        let cell = refs[usize::from(member)];
        column.take_member(member, |into| given((!is_set(lost, member.into())).then_some(cell), into)).unwrap();
    }
    let mut right = 0;
    for (at, place) in PLACES.into_iter().enumerate().filter(|(at, _)| is_set(here, *at)) {
        let mut cell = vec![0; CELL_BYTES];
        Sums::of_spares(&[place], members).work_out(0, &refs, &mut cell);
        if is_set(forged, at) {
            cell[usize::from(byte(at)) % CELL_BYTES] ^= 1 | byte(at + 7);
        } else {
            right += 1;
        }
        column.take_spare(at as u32 + 1, place, |into| given(Some(&cell), into)).unwrap();
    }
    let lost: Vec<u8> = (0..members).filter(|member| is_set(lost, (*member).into())).collect();
    let spares = (0..PLACES.len()).filter(|at| is_set(here, *at)).count();
    let verdict = column.verdict();
    assert_eq!(verdict == Verdict::TooFew, spares < lost.len());
    let mut recreated = Vec::new();
    for member in &lost {
        let truth = &cells[usize::from(*member)];
        let used = column.recreate(*member, &mut recreated, |bytes| *bytes == truth[..]);
        assert!(used.is_some() || right < lost.len());
        assert_eq!(column.recreate_unproven(*member, &mut recreated), verdict);
        if right == spares && right >= lost.len() {
            assert_eq!((&verdict, &recreated), (&Verdict::Enough(Vec::new()), truth));
        }
    }
}

struct Fixed;

impl Randomness for Fixed {
    fn fill(&self, buffer: &mut [u8]) -> Result<(), NoRandomness> {
        buffer.fill(5);
        Ok(())
    }
}

impl Observer for Fixed {
    fn told(&self, _: Progress<'_>) {}
}

const SET: [u8; 16] = [1; 16];
const BOUND: Bound = Bound { set: SET, cell_length: CellLength::LONGEST };
/// Where the head's extension records begin and its tag, counted from the head's beginning.
const EXTENSION_AT: usize = 848 - 128;
const TAG_AT: usize = 4_032 - 128;

/// A key, a head that it locks, and what opens it.
fn sealed() -> &'static (ArchiveKey, [u8; HEAD_BYTES], Credentials) {
    static SEALED: OnceLock<(ArchiveKey, [u8; HEAD_BYTES], Credentials)> = OnceLock::new();
    SEALED.get_or_init(|| {
        let clock = || Timestamp::default();
        let (cancel, threads) = (&|| false, 1);
        let owner_key = &|| OwnerKey::new(&[0; 32]);
        let context = Context { observer: &Fixed, cancel, randomness: &Fixed, clock: &clock, owner_key, threads };
        let key = ArchiveKey::generate(&context).unwrap();
        let credentials = Credentials::from(Password::new("lamp").unwrap());
        let head = seal_head(&key, &BOUND, std::slice::from_ref(&credentials), KeyCost::CHEAPEST, &context).unwrap();
        (key, *head.as_bytes(), credentials)
    })
}

/// A head: as it is, if unlocking is cheap, and as the extension records under a right tag.
pub fn head(data: &[u8]) {
    let (key, good, credentials) = sealed();
    let mut bytes = [0; HEAD_BYTES];
    let length = data.len().min(HEAD_BYTES);
    bytes[..length].copy_from_slice(&data[..length]);
    let number = |at: usize| u32::from_le_bytes([bytes[at], bytes[at + 1], bytes[at + 2], bytes[at + 3]]);
    // What would be taken on and is slow tells nothing new.
    let cost = KeyCost { memory_kib: number(4), passes: number(8), lanes: number(12) };
    if !cost.is_bearable() || (cost.memory_kib <= 64 && cost.passes <= 2) {
        assert!(open_head(&Head::new(bytes), &BOUND, credentials, CostLimit::Bearable).is_err());
    }
    let mut head = *good;
    let length = data.len().min(TAG_AT - EXTENSION_AT);
    head[EXTENSION_AT..EXTENSION_AT + length].copy_from_slice(&data[..length]);
    let head_key = key.derive(&SET, KeyPurpose::Head);
    let mut tag = hmac::Context::with_key(&hmac::Key::new(hmac::HMAC_SHA256, head_key.as_slice()));
    tag.update(&BOUND.bytes());
    tag.update(&head[..TAG_AT]);
    head[TAG_AT..].copy_from_slice(tag.sign().as_ref());
    if let Ok(opened) = open_head(&Head::new(head), &BOUND, credentials, CostLimit::Bearable) {
        assert_eq!(opened.as_bytes(), key.as_bytes());
    }
}

/// A frame's header and payload.
pub fn frames(data: &[u8]) {
    let Some((start, payload)) = data.split_at_checked(FRAME_HEADER_BYTES) else { return };
    let Ok(header) = FrameHeader::decode(start) else { return };
    let stored = &payload[..payload.len().min(header.stored_bytes as usize)];
    let mut raw = Vec::new();
    let length = header.raw_bytes as usize;
    if Decompressor::new().unwrap().decompress(header.codec, stored, length, &mut raw).is_ok() {
        assert_eq!(raw.len(), length);
    }
}

/// A content frame's records, each put together again.
pub fn records(data: &[u8]) {
    for record in Records::new(data) {
        let Ok((at, record)) = record else { return };
        let mut again = Vec::new();
        match record {
            Record::Entry(entry) => put_entry(&entry, &mut again),
            Record::Data { id, offset, bytes } => {
                let begin = begin_data(id, offset, &mut again);
                again.extend_from_slice(bytes);
                grow_data(&mut again, begin);
            }
            Record::Attribute { id, attribute } => put_attribute(id, &attribute, &mut again),
            Record::Hole { id, offset, bytes } => put_hole(id, offset, bytes, &mut again),
            Record::End { id, content, abandoned } => put_end(id, &content, abandoned, &mut again),
        }
        assert_eq!(data[at as usize..][..again.len()], again);
    }
}

/// An index root, and an index page to which a root refers rightly.
pub fn index(data: &[u8]) {
    if let Ok(root) = Root::decode(data) {
        let again = Root::decode(&root.encode().unwrap()).unwrap();
        assert_eq!(again, root);
    }
    let number = |at: usize| Some(u32::from_le_bytes(data.get(at..at + 4)?.try_into().ok()?));
    let first_path = || {
        let length = u16::from_le_bytes(data.get(36..38)?.try_into().ok()?);
        data.get(40..)?.get(..usize::from(length))
    };
    let page_ref = PageRef {
        frame_at: 0,
        frame_bytes: 0,
        entries: number(0).unwrap_or(0),
        digest: *blake3::hash(data).as_bytes(),
        first_path: first_path().unwrap_or_default().to_vec(),
    };
    if let Ok(entries) = read_page(data, &page_ref) {
        assert_eq!(entries.len(), page_ref.entries as usize);
    }
}

/// A code that people read to each other: as it is typed, and as what a right code carries.
pub fn codes(data: &[u8]) {
    let typed = String::from_utf8_lossy(data);
    if let Ok(bytes) = decode(&typed) {
        assert_eq!(decode(&encode(&bytes)), Ok(bytes));
    }
    let _ = Receipt::read(&typed);
    let carried = encode(data);
    if let Ok(slip) = Slip::read(&carried) {
        assert_eq!(Slip::read(&slip.code()), Ok(slip));
    }
    if let Ok(receipt) = Receipt::read(&carried) {
        assert!(Receipt::read(&receipt.code()).is_ok_and(|again| again.confirms(&receipt)));
    }
}

/// A supplement's page, as it is and with its check made right.
pub fn supplement(data: &[u8]) {
    let ids = Ids { set: SET, cut: [2; 16] };
    let geometry = Geometry {
        data_volumes: 3,
        spare_volumes: 0,
        cells_per_volume: 10,
        cells: 25,
        last_cell_bytes: 4_096,
        cell_length: CellLength::LONGEST,
    };
    let mut page = [0; PAGE_BYTES];
    let length = data.len().min(PAGE_BYTES);
    page[..length].copy_from_slice(&data[..length]);
    let _ = decode_page(&ids, &geometry, &page);
    let (checked, check) = page.split_at_mut(PAGE_BYTES - CHECK_BYTES);
    let mut hasher = blake3::Hasher::new();
    // Of the second kind, a supplement's (docs/format.md section 1.4).
    hasher.update(&ids.set).update(&ids.cut).update(&[2]).update(checked);
    hasher.finalize_xof().fill(check);
    if let Some(runs) = decode_page(&ids, &geometry, &page) {
        assert_eq!(encode_page(&ids, &runs), page);
    }
}

/// Puts bytes into a file, where the readers of open formats find them.
fn in_a_file<T>(data: &[u8], name: &str, read: impl FnOnce(&Path) -> T) -> T {
    let folder = if Path::new("/dev/shm").is_dir() { PathBuf::from("/dev/shm") } else { std::env::temp_dir() };
    let number = FILES.fetch_add(1, Ordering::Relaxed);
    let path = folder.join(format!("under-seal-fuzz-{}-{number}-{name}", std::process::id()));
    std::fs::write(&path, data).unwrap();
    let outcome = read(&path);
    std::fs::remove_file(&path).unwrap();
    outcome
}

static FILES: AtomicU64 = AtomicU64::new(0);

fn with_context<T>(work: impl FnOnce(&Context<'_>) -> T) -> T {
    let clock = || Timestamp::default();
    let cancel = || false;
    let owner_key = &|| OwnerKey::new(&[0; 32]);
    work(&Context { observer: &Fixed, cancel: &cancel, randomness: &Fixed, clock: &clock, owner_key, threads: 1 })
}

/// Whatever an archive lists, so much comes out, or it is refused.
fn extract(archive: &mut impl ArchiveReader, context: &Context<'_>) {
    assert!(archive.entries().unwrap().is_sorted_by(|one, other| one.entry.path < other.entry.path));
    let expected = archive.entries().unwrap().iter().map(|listed| listed.content.size).fold(0, u64::saturating_add);
    // What is large only costs time.
    let mut count = Count(0);
    if expected < 1 << 24 && archive.extract(&mut count, context).is_ok() {
        assert_eq!(count.0, expected);
    }
}

struct Count(u64);

impl EntrySink for Count {
    fn content(&mut self, bytes: &[u8]) -> Result<(), Cancelled> {
        self.0 += bytes.len() as u64;
        Ok(())
    }
}

/// A ZIP archive, from its end to its contents.
pub fn zip(data: &[u8]) {
    in_a_file(data, "zip", |path| {
        let _ = is_zip(&path.into(), &[]);
        let password = Password::new("lamp").unwrap();
        with_context(|context| {
            let locked = ZipReader::open(Segments::open(&[path]).unwrap(), None, context);
            if let Ok(mut archive) = locked.and_then(|locked| locked.with_password(&password, context)) {
                extract(&mut archive, context);
            }
        });
    });
}

/// A tar archive, or what it is compressed with.
pub fn tar(data: &[u8]) {
    in_a_file(data, "tar", |path| {
        with_context(|context| {
            let _ = tar::is_tar(&path.into(), context);
            if let Ok(mut archive) = tar::open(&path.into(), Flaws::Refused, context) {
                extract(&mut archive, context);
            }
        });
    });
}

/// A cpio archive, or what it is compressed with.
pub fn cpio(data: &[u8]) {
    in_a_file(data, "cpio", |path| {
        with_context(|context| {
            let _ = cpio::is_cpio(&path.into(), context);
            if let Ok(mut archive) = cpio::open(&path.into(), Flaws::ReadBefore, context) {
                extract(&mut archive, context);
            }
        });
    });
}

/// A disc image from its first descriptor on; what stands before that is for whoever starts a machine from it.
pub fn iso(data: &[u8]) {
    in_a_file(&[&[0; 16 * SECTOR_BYTES], data].concat(), "iso", |path| {
        with_context(|context| {
            if let Ok(mut archive) = IsoReader::open(&path.into(), context) {
                extract(&mut archive, context);
            }
        });
    });
}
