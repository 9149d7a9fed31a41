//! A second reader, written from docs/format.md alone with primitive crates only: what the page says is what is
//! written, and a change of the format that the page does not tell breaks this test.

use crate::support::system::{links, symlink};
use crate::support::{Desk, PASSWORD, noise};
use argon2::{Algorithm, Argon2, Params, Version};
use hkdf::Hkdf;
use ring::aead::{AES_256_GCM, Aad, LessSafeKey, Nonce, UnboundKey};
use ring::hmac;
use rstest::rstest;
use sha2::Sha256;
use std::collections::BTreeMap;
use std::fs;
use under_seal_core::codecs::block::Squeeze;
use under_seal_core::disk::{mode_of, modified_of};
use under_seal_core::formats::registry::{Format, PAGE, SEALED};
use under_seal_core::formats::sealed::volume::SpareWish;
use under_seal_core::ground::entry::Timestamp;

fn number<const N: usize>(bytes: &[u8], at: usize) -> u64 {
    let mut wide = [0; 8];
    wide[..N].copy_from_slice(&bytes[at..at + N]);
    u64::from_le_bytes(wide)
}

fn u16_at(bytes: &[u8], at: usize) -> usize {
    number::<2>(bytes, at) as usize
}

fn u32_at(bytes: &[u8], at: usize) -> usize {
    number::<4>(bytes, at) as usize
}

fn u64_at(bytes: &[u8], at: usize) -> usize {
    number::<8>(bytes, at) as usize
}

fn hkdf(salt: &[u8], input: &[u8], info: &[u8]) -> [u8; 32] {
    let mut key = [0; 32];
    Hkdf::<Sha256>::new(Some(salt), input).expand(info, &mut key).unwrap();
    key
}

fn open_gcm(key: &[u8; 32], nonce: [u8; 12], bound: &[u8], sealed: &[u8]) -> Option<Vec<u8>> {
    let key = LessSafeKey::new(UnboundKey::new(&AES_256_GCM, key).unwrap());
    let mut bytes = sealed.to_vec();
    let plain = key.open_in_place(Nonce::assume_unique_for_key(nonce), Aad::from(bound), &mut bytes).ok()?;
    Some(plain.to_vec())
}

/// Section 2.2: the archive key, out of one of the eight keyholes.
fn unlock(header: &[u8]) -> [u8; 32] {
    assert_eq!((u16_at(header, 128), u16_at(header, 130)), (1, 8));
    let costs = [132, 136, 140].map(|at| u32_at(header, at) as u32);
    let params = Params::new(costs[0], costs[1], costs[2], Some(32)).unwrap();
    let mut stretched = [0; 32];
    Argon2::new(Algorithm::Argon2id, Version::V0x13, params)
        .hash_password_into(PASSWORD.as_bytes(), &header[144..176], &mut stretched)
        .unwrap();
    let input = [stretched, [0; 32]].concat();
    let keyholes = header[208..848].chunks(80);
    let mut opened =
        keyholes.filter_map(|hole| open_gcm(&hkdf(&hole[..32], &input, b""), [0; 12], &header[128..176], &hole[32..]));
    opened.next().unwrap().try_into().unwrap()
}

/// Section 2.3.
fn derive(header: &[u8], key: &[u8; 32], purpose: &[u8]) -> [u8; 32] {
    hkdf(&header[16..32], key, &[&b"under-seal"[..], &[1, 0, 1], purpose].concat())
}

/// Sections 1.2, 1.3 and 3: checks, seals, marks; the inner stream and the tail.
fn inner_stream(volumes: &[Vec<u8>], key: &[u8; 32]) -> (Vec<u8>, Vec<u8>) {
    let header = &volumes[0][..4_096];
    let bound = [&header[..11], &header[16..32], &header[76..80]].concat();
    let cell_length = u32_at(header, 76);
    let cells_key = derive(header, key, b"cells");
    let (per_volume, total, last_length) = (u32_at(header, 60), u64_at(header, 64), u32_at(header, 72));
    let (mut stream, mut marks, mut tail) = (Vec::new(), Vec::new(), Vec::new());
    for cell in 0..total {
        let volume = &volumes[cell / per_volume];
        let (index, is_last) = (cell % per_volume, cell + 1 == total);
        let length = if is_last { last_length } else { cell_length };
        let bytes = &volume[4_096 + index * cell_length..][..length];
        let (sealed, check) = bytes.split_at(length - 16);
        let place = [&volume[16..48], &[0], &volume[48..52], &(index as u32).to_le_bytes()].concat();
        let digest = blake3::hash(sealed);
        assert_eq!(&blake3::hash(&[&place, &digest.as_bytes()[..]].concat()).as_bytes()[..16], check);
        let mut nonce = [u8::from(is_last), 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0];
        nonce[4..].copy_from_slice(&(cell as u64).to_be_bytes());
        let plain = open_gcm(&cells_key, nonce, &bound, sealed).unwrap();
        marks.push((stream.len(), u16_at(&plain, 0)));
        assert_eq!(plain[2..4], [0, 0]);
        stream.extend_from_slice(&plain[4..]);
        assert!(is_last || plain.len() == cell_length - 32);
    }
    tail.extend_from_slice(&stream[stream.len() - 128..]);
    assert_eq!((u64_at(&tail, 24), u32_at(&tail, 20)), (total, 0));
    let padding = stream.split_off(u64_at(&tail, 0));
    assert!(padding[..padding.len() - 128].iter().all(|byte| *byte == 0));
    check_marks(&stream, &marks, cell_length - 36);
    (stream, tail)
}

fn check_marks(stream: &[u8], marks: &[(usize, usize)], per_cell: usize) {
    let begins = frame_places(stream);
    for (start, mark) in marks {
        let first = begins.iter().find(|at| (*start..start + per_cell).contains(at));
        assert_eq!(*mark, first.map_or(0xFFFF, |at| at - start));
    }
}

/// Section 3.2: the frame at a place, decompressed, and its kind and length.
fn frame(stream: &[u8], at: usize) -> (u8, Vec<u8>, usize) {
    let (stored, raw) = (u32_at(stream, at + 4), u32_at(stream, at + 8));
    let payload = &stream[at + 16..][..stored];
    let bytes = match stream[at + 2] {
        0 => payload.to_vec(),
        1 => zstd::bulk::decompress(payload, raw).unwrap(),
        _ => liblzma::decode_all(payload).unwrap(),
    };
    assert_eq!(bytes.len(), raw);
    (stream[at], bytes, 16 + stored)
}

/// What an ENTRY says (section 3.3): kind, mode, seconds, nanoseconds, path, target; and its length.
fn entry(bytes: &[u8]) -> (String, usize) {
    let (path, target) = (u16_at(bytes, 28), u16_at(bytes, 30));
    let (seconds, nanoseconds) = (number::<8>(bytes, 16) as i64, u32_at(bytes, 24));
    let text = |from: usize, length: usize| String::from_utf8(bytes[from..from + length].to_vec()).unwrap();
    let told = format!("{} {:o} {seconds}.{nanoseconds} {}", bytes[8], u32_at(bytes, 12), text(32, path));
    (told + &text(32 + path, target), 32 + path + target)
}

/// Where the frames begin that follow one another.
fn frame_places(stream: &[u8]) -> Vec<usize> {
    let (mut places, mut at) = (Vec::new(), 0);
    while at < stream.len() {
        places.push(at);
        at += 16 + u32_at(stream, at + 4);
    }
    places
}

/// Section 1.5: the volume of a page in base 64; any other file is one as it is.
fn out_of_page(file: Vec<u8>) -> Vec<u8> {
    let Some(line) = file.strip_prefix(b"<!DOCTYPE html>\n<!--under-seal-volume 1 b64 ") else { return file };
    let hexadecimal = |digits| usize::from_str_radix(std::str::from_utf8(digits).unwrap(), 16).unwrap();
    let (from, bytes) = (hexadecimal(&line[..16]), hexadecimal(&line[17..33]));
    assert_eq!(line[33..37], *b"-->\n");
    let (mut elements, mut volume) = (std::str::from_utf8(&file[from..]).unwrap(), Vec::new());
    while !elements.is_empty() {
        let element = elements.strip_prefix("<script type=\"application/x-under-seal-volume\">").unwrap();
        let (text, behind) = element.split_once("</script>\n").unwrap();
        volume.extend(data_encoding::BASE64.decode(text.as_bytes()).unwrap());
        assert!(volume.len().is_multiple_of(3_145_728) || behind.is_empty());
        elements = behind;
    }
    assert_eq!(volume.len(), bytes);
    volume
}

#[rstest]
#[case::zstandard(Squeeze::Even, 1, &SEALED)]
#[case::lzma2(Squeeze::Hard, 2, &SEALED)]
#[case::in_a_page(Squeeze::Even, 1, &PAGE)]
fn the_page_is_enough_to_read_an_archive(#[case] squeeze: Squeeze, #[case] codec: u8, #[case] format: &'static Format) {
    let desk = Desk { squeeze, format, ..Desk::new() };
    // In a page it is in two elements.
    let mut noise = vec![0; if *format == PAGE { 3_300_000 } else { 1_300_000 }];
    blake3::Hasher::new().finalize_xof().fill(&mut noise);
    desk.source("noise", &noise).source("text", &[b'x'; 9_000]).source("none", b"");
    let steps: String = (0..9_000).map(|step| format!("step {} of {step}\n", step * step % 977)).collect();
    desk.source("steps.txt", steps.as_bytes());
    symlink("text", desk.path("source/link"));
    let fit = if *format == PAGE { "" } else { "400KB" };
    let volumes: Vec<_> = desk.pack(fit).iter().map(|path| out_of_page(fs::read(path).unwrap())).collect();

    // Sections 1.1 and 2: headers, head, key.
    let header = &volumes[0][..4_096];
    for (number, volume) in (1..).zip(&volumes) {
        assert_eq!(volume[..12], [0xF5, b'U', b'S', b'L', 13, 10, 26, 10, 1, 0, 1, 0]);
        assert_eq!((u32_at(volume, 12), u32_at(volume, 48), u32_at(volume, 52)), (4_096, number, volumes.len()));
        assert_eq!(volume[128..4_064], header[128..4_064]);
        assert_eq!(blake3::hash(&volume[..4_064]).as_bytes(), &volume[4_064..4_096]);
    }
    let key = unlock(header);
    assert_eq!(derive(header, &key, b"commitment"), header[176..208]);
    let tagged = [&header[..11], &header[16..32], &header[76..80], &header[128..4_032]].concat();
    let tag = hmac::sign(&hmac::Key::new(hmac::HMAC_SHA256, &derive(header, &key, b"head")), &tagged);
    assert_eq!(tag.as_ref(), &header[4_032..4_064]);
    assert!(header[852..4_032].iter().all(|byte| *byte == 0));

    // Section 3.4: tail, root, page.
    let (stream, tail) = inner_stream(&volumes, &key);
    let (kind, root, length) = frame(&stream, u64_at(&tail, 8));
    assert_eq!((kind, length), (3, u32_at(&tail, 16)));
    assert_eq!(blake3::hash(&root).as_bytes(), &tail[48..80]);
    let properties = u32_at(&root, 4);
    assert_eq!(u32_at(&root, 0), 1);
    assert_eq!(root[8..16], [1, 0, 0, 0, 12, 0, 0, 0]);
    let pages = &root[8 + properties..];
    let (kind, page, length) = frame(&stream, u64_at(pages, 0));
    assert_eq!((kind, length, u32_at(&page, 0)), (2, u32_at(pages, 8), u32_at(pages, 12)));
    assert_eq!(blake3::hash(&page).as_bytes(), &pages[16..48]);
    assert_eq!(&pages[50..50 + u16_at(pages, 48)], b"source");

    // Every entry: as the index tells it, as its record tells it, and its content.
    let mut told = BTreeMap::new();
    let mut at = 8;
    for _ in 0..u32_at(&page, 0) {
        let (text, length) = entry(&page[at..]);
        let place = &page[at + length..];
        let content = read_content(&stream, u64_at(place, 0), u32_at(place, 8), &text);
        assert_eq!(u64_at(place, 24), content.len());
        assert!(content.is_empty() || blake3::hash(&content).as_bytes() == &place[32..64]);
        told.insert(text, content);
        at += length + 64;
    }
    assert_eq!(at, page.len());
    let all = 5 + links(1) as usize;
    assert_eq!((told.len(), u64_at(&tail, 32), u64_at(&tail, 40)), (all, all, noise.len() + 9_000 + steps.len()));
    assert!(frame_places(&stream).iter().any(|at| stream[at + 2] == codec));
    let metadata = fs::metadata(desk.path("source/noise")).unwrap();
    let (mode, Timestamp { seconds, nanoseconds }) = (mode_of(&metadata), modified_of(&metadata));
    assert_eq!(told[&format!("1 {mode:o} {seconds}.{nanoseconds} source/noise")], noise);
    assert_eq!(told.keys().any(|text| text.ends_with("source/linktext")), links(1) == 1);
}

/// A product in the field of section 1.6, bit by bit.
fn product(mut one: u32, mut other: u32) -> u32 {
    let mut product = 0;
    while other > 0 {
        product ^= if other & 1 == 1 { one } else { 0 };
        one <<= 1;
        one ^= if one > 255 { 0x11D } else { 0 };
        other >>= 1;
    }
    product
}

/// Section 1.6: every byte of a spare volume, out of the data volumes of its group. More than 200 of them are two groups.
#[rstest]
#[case::one_group("150KB", 700_000, 2)]
#[case::two_groups("16KB", 2_500_000, 3)]
fn a_spare_volume_is_what_the_page_says(#[case] fit: &str, #[case] bytes: usize, #[case] count: usize) {
    let mut desk = Desk::new();
    desk.spares = SpareWish::Count(count as u32);
    desk.squeeze = Squeeze::None;
    desk.source("noise", &noise(bytes));
    let data: Vec<Vec<u8>> = desk.pack(fit).iter().map(|path| fs::read(path).unwrap()).collect();
    let groups = data.len().div_ceil(200);
    assert_eq!(groups > 1, fit == "16KB");
    let length = u32_at(&data[0], 76);
    for s in 1..=count {
        let spare = fs::read(desk.path(&format!("out/set-spare{s}of{count}.useal"))).unwrap();
        assert_eq!((spare[11], u32_at(&spare, 48), u32_at(&spare, 56)), (1, s, count));
        assert_eq!((&spare[12..48], &spare[52..4064]), (&data[0][12..48], &data[0][52..4064]));
        assert_eq!(spare.len(), 4096 + u32_at(&spare, 60) * length);
        let (group, i) = ((s - 1) % groups, (s - 1) / groups);
        let (each, larger) = (data.len() / groups, data.len() % groups);
        let first = group * each + group.min(larger);
        let members = &data[first..first + each + usize::from(group < larger)];
        let inverse = |of: u32| (1..256).find(|other| product(of, *other) == 1).unwrap();
        let multipliers: Vec<u32> = (0..members.len()).map(|j| inverse((255 - i as u32) ^ j as u32)).collect();
        for (index, cell) in spare[4096..].chunks(length).enumerate() {
            let (sums, check) = cell.split_at(length - 16);
            for (at, sum) in sums.iter().enumerate().step_by(if groups > 1 { 501 } else { 7 }) {
                let byte = |volume: &Vec<u8>| {
                    // The last volume's last cell is shorter, and its check no part of the sum.
                    let end = volume.len().min(4096 + (index + 1) * length).saturating_sub(16);
                    let place = 4096 + index * length + at;
                    if place < end { u32::from(volume[place]) } else { 0 }
                };
                let expected =
                    members.iter().zip(&multipliers).fold(0, |sum, (volume, by)| sum ^ product(*by, byte(volume)));
                assert_eq!(u32::from(*sum), expected, "spare volume {s}, cell {index}, byte {at}");
            }
            let mut hasher = blake3::Hasher::new();
            hasher
                .update(&spare[16..48])
                .update(&[1])
                .update(&(s as u32).to_le_bytes())
                .update(&(index as u32).to_le_bytes());
            hasher.update(blake3::hash(sums).as_bytes());
            assert_eq!(check, &hasher.finalize().as_bytes()[..16]);
        }
    }
}

/// Section 3.3: the records of one entry, from its place on, through as many frames as it takes.
fn read_content(stream: &[u8], mut frame_at: usize, mut record_at: usize, expected: &str) -> Vec<u8> {
    let mut content = Vec::new();
    loop {
        let (kind, records, length) = frame(stream, frame_at);
        assert_eq!(kind, 1);
        while record_at < records.len() {
            let value = &records[record_at + 8..][..u32_at(&records, record_at + 4)];
            match records[record_at] {
                1 => assert_eq!(entry(value).0, expected),
                2 => {
                    assert_eq!(u64_at(value, 8), content.len());
                    content.extend_from_slice(&value[16..]);
                }
                3 => return content,
                passed_over => assert!(passed_over >= 0x80),
            }
            if expected.starts_with(['2', '3']) {
                return content;
            }
            record_at += 8 + value.len();
        }
        frame_at += length;
        record_at = 0;
    }
}
