//! ZIP archives made byte by byte, as the application note describes them, for readers to be tried on.

use ctr::cipher::{KeyIvInit as _, StreamCipher as _};
use ring::{hmac, pbkdf2};
use std::io::Write as _;

pub const LOCAL: u32 = 0x0403_4B50;
pub const CENTRAL: u32 = 0x0201_4B50;

/// What stands behind an entry's data.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Behind {
    Nothing,
    Plain,
    Signed,
    Wide,
}

#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Lock {
    None,
    Old,
    /// Version and strength.
    Aes(u16, u8),
}

/// One entry, and how it is written.
#[derive(Clone)]
pub struct Made {
    pub name: Vec<u8>,
    pub content: Vec<u8>,
    pub method: u16,
    pub flags: u16,
    /// POSIX mode with its kind; the host is then POSIX.
    pub mode: Option<u32>,
    pub extra: Vec<u8>,
    pub behind: Behind,
    pub lock: Lock,
    pub wide: bool,
}

pub fn entry(name: &str, content: &[u8]) -> Made {
    Made {
        name: name.into(),
        content: content.into(),
        method: 8,
        flags: 0,
        mode: Some(0o100_644),
        extra: Vec::new(),
        behind: Behind::Nothing,
        lock: Lock::None,
        wide: false,
    }
}

/// An archive under the cover of another.
pub fn cover(inside: &[u8]) -> Made {
    Made { method: 0, lock: Lock::Aes(2, 3), extra: field(0x5355, b""), ..entry("contents.zip", inside) }
}

pub fn field(id: u16, data: &[u8]) -> Vec<u8> {
    [&id.to_le_bytes(), &(data.len() as u16).to_le_bytes(), data].concat()
}

/// Time and date of 2031-02-27, eight o'clock.
const TIME: u16 = 8 << 11;
const DATE: u16 = 51 << 9 | 2 << 5 | 27;

/// An archive, part by part, so that a test can change any of them.
pub struct Archive {
    pub bytes: Vec<u8>,
    /// Where each entry's local header, its data, and its central header begin.
    pub locals: Vec<usize>,
    pub data: Vec<usize>,
    pub centrals: Vec<usize>,
    pub end: usize,
}

pub fn archive(entries: &[Made], password: &[u8], comment: &[u8]) -> Archive {
    let mut made = Archive { bytes: Vec::new(), locals: Vec::new(), data: Vec::new(), centrals: Vec::new(), end: 0 };
    let mut directory = Vec::new();
    for entry in entries {
        let data = entry.data(password);
        let at = made.bytes.len();
        made.locals.push(at);
        let described = entry.behind != Behind::Nothing;
        let known = if described { (0, 0, 0) } else { (entry.crc(), data.len() as u64, entry.content.len() as u64) };
        let wide_field = if entry.wide || entry.behind == Behind::Wide {
            field(1, &[known.2.to_le_bytes(), known.1.to_le_bytes()].concat())
        } else {
            Vec::new()
        };
        let in_header = if wide_field.is_empty() { (known.1 as u32, known.2 as u32) } else { (u32::MAX, u32::MAX) };
        made.bytes.extend(LOCAL.to_le_bytes());
        made.bytes.extend(45_u16.to_le_bytes());
        entry.put_common(&mut made.bytes, known.0, in_header);
        let extra = [&entry.extra[..], &entry.aes_field(), &wide_field].concat();
        made.bytes.extend((entry.name.len() as u16).to_le_bytes());
        made.bytes.extend((extra.len() as u16).to_le_bytes());
        made.bytes.extend(&entry.name);
        made.bytes.extend(extra);
        made.data.push(made.bytes.len());
        made.bytes.extend(&data);
        let size = entry.content.len() as u64;
        if entry.behind == Behind::Signed || entry.behind == Behind::Wide {
            made.bytes.extend(0x0807_4B50_u32.to_le_bytes());
        }
        if described {
            made.bytes.extend(entry.crc().to_le_bytes());
            for length in [data.len() as u64, size] {
                let width = if entry.behind == Behind::Wide { 8 } else { 4 };
                made.bytes.extend(&length.to_le_bytes()[..width]);
            }
        }
        made.centrals.push(directory.len());
        directory.extend(CENTRAL.to_le_bytes());
        directory.extend([45, if entry.mode.is_some() { 3 } else { 0 }]);
        directory.extend(45_u16.to_le_bytes());
        let wide_field =
            field(1, &[size.to_le_bytes(), (data.len() as u64).to_le_bytes(), (at as u64).to_le_bytes()].concat());
        let wide_field = if entry.wide { wide_field } else { Vec::new() };
        let (lengths, offset) =
            if entry.wide { ((u32::MAX, u32::MAX), u32::MAX) } else { ((data.len() as u32, size as u32), at as u32) };
        entry.put_common(&mut directory, entry.crc(), lengths);
        let extra = [&entry.extra[..], &entry.aes_field(), &wide_field].concat();
        directory.extend((entry.name.len() as u16).to_le_bytes());
        directory.extend((extra.len() as u16).to_le_bytes());
        directory.extend([0; 6]);
        directory.extend((entry.mode.unwrap_or(0) << 16).to_le_bytes());
        directory.extend(offset.to_le_bytes());
        directory.extend(&entry.name);
        directory.extend(extra);
    }
    let at = made.bytes.len();
    made.centrals.iter_mut().for_each(|central| *central += at);
    made.bytes.extend(&directory);
    made.end = made.bytes.len();
    made.bytes.extend(0x0605_4B50_u32.to_le_bytes());
    made.bytes.extend([0; 4]);
    made.bytes.extend((entries.len() as u16).to_le_bytes());
    made.bytes.extend((entries.len() as u16).to_le_bytes());
    made.bytes.extend((directory.len() as u32).to_le_bytes());
    made.bytes.extend((at as u32).to_le_bytes());
    made.bytes.extend((comment.len() as u16).to_le_bytes());
    made.bytes.extend(comment);
    made
}

impl Made {
    fn crc(&self) -> u32 {
        if matches!(self.lock, Lock::Aes(2, _)) { 0 } else { crc32fast::hash(&self.content) }
    }

    fn aes_field(&self) -> Vec<u8> {
        match self.lock {
            Lock::Aes(version, strength) => {
                let data = [&version.to_le_bytes()[..], b"AE", &[strength], &self.method.to_le_bytes()].concat();
                field(0x9901, &data)
            }
            _ => Vec::new(),
        }
    }

    fn put_common(&self, header: &mut Vec<u8>, crc: u32, (compressed, size): (u32, u32)) {
        let encrypted = u16::from(self.lock != Lock::None);
        let described = u16::from(self.behind != Behind::Nothing) << 3;
        let method = if matches!(self.lock, Lock::Aes(..)) { 99 } else { self.method };
        for value in [self.flags | encrypted | described, method, TIME, DATE] {
            header.extend(value.to_le_bytes());
        }
        for value in [crc, compressed, size] {
            header.extend(value.to_le_bytes());
        }
    }

    fn data(&self, password: &[u8]) -> Vec<u8> {
        let compressed = match self.method {
            8 => {
                let mut encoder = flate2::write::DeflateEncoder::new(Vec::new(), flate2::Compression::default());
                encoder.write_all(&self.content).unwrap();
                encoder.finish().unwrap()
            }
            // A block that is stored is the same with either window (RFC 1951 section 3.2.4).
            9 => {
                let length = self.content.len() as u16;
                [&[1][..], &length.to_le_bytes(), &(!length).to_le_bytes(), &self.content].concat()
            }
            12 => {
                let mut encoder = bzip2::write::BzEncoder::new(Vec::new(), bzip2::Compression::default());
                encoder.write_all(&self.content).unwrap();
                encoder.finish().unwrap()
            }
            93 => zstd::encode_all(&self.content[..], 3).unwrap(),
            95 => {
                let mut encoder = liblzma::write::XzEncoder::new(Vec::new(), 6);
                encoder.write_all(&self.content).unwrap();
                encoder.finish().unwrap()
            }
            _ => self.content.clone(),
        };
        match self.lock {
            Lock::None => compressed,
            Lock::Old => old_cipher(&compressed, password, self),
            Lock::Aes(_, strength) => aes(compressed, password, strength),
        }
    }
}

/// Appendix E of the application note, written from its text.
fn aes(mut data: Vec<u8>, password: &[u8], strength: u8) -> Vec<u8> {
    let key_bytes = 8 + 8 * usize::from(strength);
    let salt: Vec<u8> = (1..=key_bytes as u8 / 2).collect();
    let mut keys = vec![0; 2 * key_bytes + 2];
    pbkdf2::derive(pbkdf2::PBKDF2_HMAC_SHA1, 1_000.try_into().unwrap(), &salt, password, &mut keys);
    let counter = 1_u128.to_le_bytes();
    match strength {
        1 => ctr::Ctr128LE::<aes::Aes128>::new_from_slices(&keys[..16], &counter).unwrap().apply_keystream(&mut data),
        2 => ctr::Ctr128LE::<aes::Aes192>::new_from_slices(&keys[..24], &counter).unwrap().apply_keystream(&mut data),
        _ => ctr::Ctr128LE::<aes::Aes256>::new_from_slices(&keys[..32], &counter).unwrap().apply_keystream(&mut data),
    }
    let key = hmac::Key::new(hmac::HMAC_SHA1_FOR_LEGACY_USE_ONLY, &keys[key_bytes..2 * key_bytes]);
    let code = hmac::sign(&key, &data);
    [&salt, &keys[2 * key_bytes..], &data, &code.as_ref()[..10]].concat()
}

/// Section 6.1 of the application note, written from its text.
fn old_cipher(data: &[u8], password: &[u8], made: &Made) -> Vec<u8> {
    let step = |crc: u32, byte: u8| {
        let mut crc = crc ^ u32::from(byte);
        for _ in 0..8 {
            crc = if crc & 1 == 1 { 0xEDB8_8320 ^ (crc >> 1) } else { crc >> 1 };
        }
        crc
    };
    let mut keys = [0x1234_5678_u32, 0x2345_6789, 0x3456_7890];
    let update = |keys: &mut [u32; 3], byte: u8| {
        keys[0] = step(keys[0], byte);
        keys[1] = keys[1].wrapping_add(keys[0] & 0xFF).wrapping_mul(134_775_813).wrapping_add(1);
        keys[2] = step(keys[2], (keys[1] >> 24) as u8);
    };
    password.iter().for_each(|byte| update(&mut keys, *byte));
    let check = if made.behind == Behind::Nothing { (made.crc() >> 24) as u8 } else { (TIME >> 8) as u8 };
    let plain = [&[7; 11][..], &[check], data].concat();
    let encrypt = |byte: u8| {
        let mixed = (keys[2] | 2) as u16;
        let key = (mixed.wrapping_mul(mixed ^ 1) >> 8) as u8;
        update(&mut keys, byte);
        byte ^ key
    };
    plain.into_iter().map(encrypt).collect()
}
