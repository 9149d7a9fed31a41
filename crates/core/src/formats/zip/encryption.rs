//! Enciphering: AES-256 in counter mode with an authentication code behind the data, as the second version of the note's
//! appendix E has it. The keys of each entry come from the password and a salt of its own.

use super::cipher::{CODE_BYTES, KeyStream, Strength, derive};
use crate::ground::secrets::Password;
use hmac::{Hmac, KeyInit as _, Mac as _};
use sha1::Sha1;

/// The salt's length for AES-256.
pub const SALT_BYTES: usize = 16;

/// Bytes in front of the data: salt and verifier.
pub const FRONT_BYTES: usize = SALT_BYTES + 2;

/// Bytes that encryption adds to an entry.
pub const ENCRYPTION_BYTES: u64 = (FRONT_BYTES + CODE_BYTES) as u64;

/// One entry's encryption under way.
pub struct Encrypting {
    stream: KeyStream,
    code: Hmac<Sha1>,
    front: [u8; FRONT_BYTES],
}

impl Encrypting {
    /// Derives the keys: the costly part, which may run beside others'. `None` does not happen with keys of this length.
    pub fn begin(password: &Password, salt: [u8; SALT_BYTES]) -> Option<Self> {
        let keys = derive(Strength::Aes256, &salt, password.as_bytes());
        let (key, rest) = keys.split_at_checked(32)?;
        let (code_key, verifier) = rest.split_at_checked(32)?;
        let mut front = [0; FRONT_BYTES];
        front[..SALT_BYTES].copy_from_slice(&salt);
        front[SALT_BYTES..].copy_from_slice(verifier);
        let code = Hmac::new_from_slice(code_key).ok()?;
        Some(Self { stream: KeyStream::new(Strength::Aes256, key)?, code, front })
    }

    /// What stands in front of the data.
    pub fn front(&self) -> &[u8] {
        &self.front
    }

    /// Enciphers the next bytes.
    pub fn apply(&mut self, bytes: &mut [u8]) {
        self.stream.apply(bytes);
        self.code.update(bytes);
    }

    /// What stands behind the data.
    pub fn code(self) -> [u8; CODE_BYTES] {
        let mut code = [0; CODE_BYTES];
        code.copy_from_slice(&self.code.finalize().into_bytes()[..CODE_BYTES]);
        code
    }
}
