//! Keys: from a password to the archive key, and from that to one key for each purpose.

use crate::formats::sealed::volume::header::{SUITE, VERSION};
use crate::ground::context::{Context, NoRandomness};
use crate::ground::secrets::password::Password;
use argon2::{Algorithm, Argon2, Block, Params, Version};
use hkdf::Hkdf;
use sha2::Sha256;
use std::fmt;
use zeroize::Zeroizing;

/// A key's 32 secret bytes.
pub type SecretBytes = crate::ground::secrets::SecretBytes<32>;

/// What one attempt at a password costs (Argon2id, RFC 9106).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct KeyCost {
    /// Memory in KiB.
    pub memory_kib: u32,
    /// Passes over that memory.
    pub passes: u32,
    /// Lanes.
    pub lanes: u32,
}

impl KeyCost {
    /// RFC 9106 section 4, second recommended option: 64 MiB, 3 passes, 4 lanes.
    pub const DEFAULT: Self = Self { memory_kib: 64 * 1024, passes: 3, lanes: 4 };

    /// As cheap as Argon2 allows; for tests.
    pub const CHEAPEST: Self = Self { memory_kib: 8, passes: 1, lanes: 1 };

    /// Whether a reader takes on this cost unasked: at most 1 GiB of memory, 16 passes, 16 lanes, and
    /// 4 GiB of memory times passes.
    pub fn is_bearable(self) -> bool {
        const GIB_IN_KIB: u64 = 1024 * 1024;
        let work = u64::from(self.memory_kib) * u64::from(self.passes);
        u64::from(self.memory_kib) <= GIB_IN_KIB && self.passes <= 16 && self.lanes <= 16 && work <= 4 * GIB_IN_KIB
    }

    /// Whether Argon2 is defined for these values (RFC 9106 section 3.1).
    pub fn is_possible(self) -> bool {
        self.passes >= 1 && self.lanes >= 1 && u64::from(self.memory_kib) >= 8 * u64::from(self.lanes)
    }
}

/// How costly an archive a reader unlocks.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum CostLimit {
    /// What [`KeyCost::is_bearable`] says. A costlier head may be meant to harm.
    #[default]
    Bearable,
    /// Whatever the head says: the user was told, and wants it.
    AsTheHeadSays,
}

/// The memory for key derivation could not be had.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("no memory for key derivation")]
pub struct NoKeyMemory;

/// Argon2id of the password: the one costly step of an attempt.
///
/// # Errors
/// [`NoKeyMemory`] where the memory is not to be had, or the cost is impossible.
pub fn stretch(password: &Password, salt: &[u8; 32], cost: KeyCost) -> Result<SecretBytes, NoKeyMemory> {
    let mut output = SecretBytes::zeroed();
    let params = Params::new(cost.memory_kib, cost.passes, cost.lanes, Some(output.len())).map_err(|_| NoKeyMemory)?;
    let count = params.block_count();
    let mut memory = Zeroizing::new(Vec::<Block>::new());
    memory.try_reserve_exact(count).map_err(|_| NoKeyMemory)?;
    memory.resize(count, Block::new());
    Argon2::new(Algorithm::Argon2id, Version::V0x13, params)
        .hash_password_into_with_memory(&password.sealing_bytes(), salt, output.as_mut_slice(), memory.as_mut_slice())
        .map_err(|_| NoKeyMemory)?;
    Ok(output)
}

/// The key that wraps the archive key in one keyhole: HKDF-SHA-256 (RFC 5869) over the stretched
/// password and the key file's digest, salted with the keyhole's salt.
pub fn keyhole_key(salt: &[u8], stretched: &SecretBytes, key_file: &[u8; 32]) -> SecretBytes {
    let mut input = Zeroizing::new([0; 64]);
    input[..32].copy_from_slice(stretched.as_slice());
    input[32..].copy_from_slice(key_file);
    expand(salt, input.as_slice(), b"")
}

/// What a key derived from the archive key is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum KeyPurpose {
    /// Sealing cells.
    Cells,
    /// The head's tag.
    Head,
    /// The keyed digest of all contents in a receipt.
    Receipt,
    /// Published in the head, so that a ciphertext cannot be made to open under two keys.
    Commitment,
}

impl KeyPurpose {
    const fn label(self) -> &'static [u8] {
        match self {
            Self::Cells => b"cells",
            Self::Head => b"head",
            Self::Receipt => b"receipt",
            Self::Commitment => b"commitment",
        }
    }
}

/// The archive key: random for every archive and every rewriting of one.
#[derive(Clone)]
pub struct ArchiveKey(SecretBytes);

impl ArchiveKey {
    /// A new random key.
    pub fn generate(context: &Context<'_>) -> Result<Self, NoRandomness> {
        let mut bytes = SecretBytes::zeroed();
        context.randomness.fill(bytes.as_mut_slice())?;
        Ok(Self(bytes))
    }

    /// A key that was wrapped in a keyhole.
    pub fn from_bytes(bytes: SecretBytes) -> Self {
        Self(bytes)
    }

    /// The bytes, for wrapping.
    pub fn as_bytes(&self) -> &[u8; 32] {
        &self.0
    }

    /// The key for one purpose: HKDF-SHA-256, salt the set id, info `under-seal`, version, suite, purpose.
    pub fn derive(&self, set: &[u8; 16], purpose: KeyPurpose) -> SecretBytes {
        let mut info = b"under-seal".to_vec();
        info.extend_from_slice(&VERSION.to_le_bytes());
        info.push(SUITE);
        info.extend_from_slice(purpose.label());
        expand(set, self.0.as_slice(), &info)
    }
}

impl fmt::Debug for ArchiveKey {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str("ArchiveKey")
    }
}

fn expand(salt: &[u8], input: &[u8], info: &[u8]) -> SecretBytes {
    let mut key = SecretBytes::zeroed();
    // HKDF can give 255 times 32 bytes (RFC 5869 section 2.3), so 32 never fail.
    let outcome = Hkdf::<Sha256>::new(Some(salt), input).expand(info, key.as_mut_slice());
    debug_assert!(outcome.is_ok());
    key
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::our_own(KeyCost::DEFAULT, true)]
    #[case::largest_memory(KeyCost { memory_kib: 1 << 20, passes: 4, lanes: 16 }, true)]
    #[case::memory(KeyCost { memory_kib: (1 << 20) + 1, passes: 1, lanes: 1 }, false)]
    #[case::passes(KeyCost { memory_kib: 8, passes: 17, lanes: 1 }, false)]
    #[case::lanes(KeyCost { memory_kib: 1_024, passes: 1, lanes: 17 }, false)]
    #[case::work(KeyCost { memory_kib: 1 << 20, passes: 5, lanes: 1 }, false)]
    #[case::everything(KeyCost { memory_kib: u32::MAX, passes: u32::MAX, lanes: u32::MAX }, false)]
    fn costs_beyond_the_limits_are_not_taken_on(#[case] cost: KeyCost, #[case] bearable: bool) {
        assert_eq!(cost.is_bearable(), bearable);
    }
}
