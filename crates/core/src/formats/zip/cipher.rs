//! Deciphering: AES in counter mode with an authentication code behind the data (the AE-1 and AE-2 of the note's appendix E),
//! and the old cipher (section 6.1), which is read and never written.

use crate::ground::secrets::keep_in_memory;
use aes::cipher::{KeyIvInit as _, StreamCipher as _, StreamCipherSeek as _};
use aes::{Aes128, Aes192, Aes256};
use ctr::Ctr128LE;
use hmac::{Hmac, KeyInit as _, Mac as _};
use pbkdf2::pbkdf2_hmac;
use sha1::Sha1;
use std::fmt;
use std::io::{self, Read};
use subtle::ConstantTimeEq as _;
use zeroize::Zeroizing;

/// Rounds of PBKDF2, set by the format.
const ROUNDS: u32 = 1_000;

/// Bytes behind the keys that tell most wrong passwords.
const VERIFIER_BYTES: usize = 2;

/// Bytes of the authentication code that are kept: HMAC-SHA1, cut.
pub(super) const CODE_BYTES: usize = 10;

/// Bytes in front of data under the old cipher.
pub(super) const OLD_HEADER_BYTES: usize = 12;

/// How long AES keys are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Strength {
    Aes128,
    Aes192,
    Aes256,
}

impl Strength {
    pub fn from_number(number: u8) -> Option<Self> {
        Some(match number {
            1 => Self::Aes128,
            2 => Self::Aes192,
            3 => Self::Aes256,
            _ => return None,
        })
    }

    /// Its number in the field that tells it.
    pub const fn number(self) -> u8 {
        match self {
            Self::Aes128 => 1,
            Self::Aes192 => 2,
            Self::Aes256 => 3,
        }
    }

    const fn key_bytes(self) -> usize {
        match self {
            Self::Aes128 => 16,
            Self::Aes192 => 24,
            Self::Aes256 => 32,
        }
    }

    pub const fn salt_bytes(self) -> usize {
        self.key_bytes() / 2
    }

    /// Bytes that the cipher adds to an entry's data.
    pub const fn added_bytes(self) -> u64 {
        (self.salt_bytes() + VERIFIER_BYTES + CODE_BYTES) as u64
    }
}

/// The stream of bytes that data is combined with; its counter is little-endian and begins with 1.
pub(super) enum KeyStream {
    Aes128(Box<Ctr128LE<Aes128>>),
    Aes192(Box<Ctr128LE<Aes192>>),
    Aes256(Box<Ctr128LE<Aes256>>),
}

impl KeyStream {
    pub fn new(strength: Strength, key: &[u8]) -> Option<Self> {
        let first = 1_u128.to_le_bytes();
        Some(match strength {
            Strength::Aes128 => Self::Aes128(Box::new(Ctr128LE::new_from_slices(key, &first).ok()?)),
            Strength::Aes192 => Self::Aes192(Box::new(Ctr128LE::new_from_slices(key, &first).ok()?)),
            Strength::Aes256 => Self::Aes256(Box::new(Ctr128LE::new_from_slices(key, &first).ok()?)),
        })
    }

    pub fn apply(&mut self, bytes: &mut [u8]) {
        match self {
            Self::Aes128(stream) => stream.apply_keystream(bytes),
            Self::Aes192(stream) => stream.apply_keystream(bytes),
            Self::Aes256(stream) => stream.apply_keystream(bytes),
        }
    }
}

/// The key of one entry's data, which is deciphered from any place on.
pub(super) struct EntryKey {
    strength: Strength,
    key: Zeroizing<Vec<u8>>,
}

/// Never shows the key.
impl fmt::Debug for EntryKey {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str("EntryKey")
    }
}

impl EntryKey {
    pub fn derive(strength: Strength, salt: &[u8], password: &[u8]) -> Self {
        let mut key = derive(strength, salt, password);
        key.truncate(strength.key_bytes());
        Self { strength, key }
    }

    /// Deciphers bytes that stand this far from the beginning; `None` beyond what a counter reaches, which no file does.
    pub fn apply_at(&self, at: u64, bytes: &mut [u8]) -> Option<()> {
        let mut stream = KeyStream::new(self.strength, &self.key)?;
        match &mut stream {
            KeyStream::Aes128(stream) => stream.try_seek(at),
            KeyStream::Aes192(stream) => stream.try_seek(at),
            KeyStream::Aes256(stream) => stream.try_seek(at),
        }
        .ok()?;
        stream.apply(bytes);
        Some(())
    }
}

/// Why data cannot be deciphered.
pub(super) enum CipherError {
    WrongPassword,
    /// There is less than the cipher itself needs.
    TooShort,
    Read(io::Error),
}

impl From<io::Error> for CipherError {
    fn from(error: io::Error) -> Self {
        if error.kind() == io::ErrorKind::UnexpectedEof { Self::TooShort } else { Self::Read(error) }
    }
}

/// Data under AES.
pub(super) struct AesReader<R> {
    data: R,
    stream: KeyStream,
    code: Hmac<Sha1>,
}

impl<R: Read> AesReader<R> {
    /// Reads salt and verifier. `data` ends where the data ends, before the code.
    pub fn new(mut data: R, strength: Strength, password: &[u8]) -> Result<Self, CipherError> {
        let mut salt = vec![0; strength.salt_bytes()];
        data.read_exact(&mut salt)?;
        let mut verifier = [0; VERIFIER_BYTES];
        data.read_exact(&mut verifier)?;
        let keys = derive(strength, &salt, password);
        let (key, rest) = keys.split_at(strength.key_bytes());
        let (code_key, expected) = rest.split_at(strength.key_bytes());
        if !bool::from(expected.ct_eq(&verifier)) {
            return Err(CipherError::WrongPassword);
        }
        let code = Hmac::new_from_slice(code_key).map_err(|_| CipherError::WrongPassword)?;
        let stream = KeyStream::new(strength, key).ok_or(CipherError::WrongPassword)?;
        Ok(Self { data, stream, code })
    }

    /// Whether the code over everything that was read is this one.
    pub fn has_code(self, code: &[u8]) -> bool {
        code.len() == CODE_BYTES && self.code.verify_truncated_left(code).is_ok()
    }
}

impl<R: Read> Read for AesReader<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.data.read(buffer)?;
        self.code.update(&buffer[..read]);
        self.stream.apply(&mut buffer[..read]);
        Ok(read)
    }
}

/// The cipher's key, the code's key and the verifier, one after the other.
pub(super) fn derive(strength: Strength, salt: &[u8], password: &[u8]) -> Zeroizing<Vec<u8>> {
    let mut keys = Zeroizing::new(vec![0; 2 * strength.key_bytes() + VERIFIER_BYTES]);
    keep_in_memory(&keys);
    pbkdf2_hmac::<Sha1>(password, salt, ROUNDS, &mut keys);
    keys
}

/// Data under the old cipher. It hides nothing from anyone who tries.
pub(super) struct OldReader<R> {
    data: R,
    keys: [u32; 3],
}

impl<R: Read> OldReader<R> {
    /// Reads the header in front, whose last byte tells most wrong passwords.
    pub fn new(data: R, password: &[u8], check: u8) -> Result<Self, CipherError> {
        let mut reader = Self { data, keys: [0x1234_5678, 0x2345_6789, 0x3456_7890] };
        password.iter().for_each(|byte| reader.take_in(*byte));
        let mut header = [0; OLD_HEADER_BYTES];
        reader.read_exact(&mut header)?;
        if header[OLD_HEADER_BYTES - 1] == check { Ok(reader) } else { Err(CipherError::WrongPassword) }
    }

    fn take_in(&mut self, byte: u8) {
        let [first, second, third] = &mut self.keys;
        *first = crc_step(*first, byte);
        *second = second.wrapping_add(*first & 0xFF).wrapping_mul(134_775_813).wrapping_add(1);
        *third = crc_step(*third, second.to_be_bytes()[0]);
    }
}

impl<R: Read> Read for OldReader<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.data.read(buffer)?;
        for byte in &mut buffer[..read] {
            let mixed = (self.keys[2] | 2) & 0xFFFF;
            *byte ^= (mixed.wrapping_mul(mixed ^ 1) >> 8).to_le_bytes()[0];
            self.take_in(*byte);
        }
        Ok(read)
    }
}

/// One byte more in a CRC-32 (ISO 3309), without the inversions that a finished one has.
fn crc_step(crc: u32, byte: u8) -> u32 {
    let mut hasher = crc32fast::Hasher::new_with_initial(!crc);
    hasher.update(&[byte]);
    !hasher.finalize()
}
