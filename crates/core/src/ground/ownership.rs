//! What proves that a user's own run left something on disk.
//!
//! A run that was killed leaves things that the next one completes or clears: a staging folder, files that had no name
//! of their own yet. An archive can bring things that look just like them. So nothing is believed for its looks: the
//! names and steps that count carry a code that only somebody with this user's [`OwnerKey`] can make, over what they
//! are and where they lie.

use std::fmt;
use zeroize::Zeroizing;

/// Bytes of an owner's key.
pub const OWNER_KEY_BYTES: usize = 32;

/// Bytes of a proof: nobody has more tries at it than an archive has entries.
const PROOF_BYTES: usize = 16;

/// What the key is used for, told to the key derivation (BLAKE3's own, section 2.1 of its paper).
const PURPOSE: &str = "Under Seal 2026 unfinished work of one user";

/// A user's secret, kept where nobody else writes. It says nothing about archives and their passwords.
#[derive(Clone)]
pub struct OwnerKey(Zeroizing<[u8; OWNER_KEY_BYTES]>);

impl OwnerKey {
    /// The key made from these random bytes.
    pub fn new(secret: &[u8; OWNER_KEY_BYTES]) -> Self {
        Self(Zeroizing::new(blake3::derive_key(PURPOSE, secret)))
    }

    /// The proof that this user's run has made what these parts describe, as 32 hexadecimal digits. `what` tells kinds
    /// of work apart.
    pub fn proof(&self, what: &str, parts: &[&[u8]]) -> String {
        let mut hasher = blake3::Hasher::new_keyed(&self.0);
        for part in std::iter::once(&what.as_bytes()).chain(parts) {
            // Each part's length in front of it keeps parts from running into each other.
            hasher.update(&(part.len() as u64).to_le_bytes()).update(part);
        }
        let mut proof = [0; PROOF_BYTES];
        hasher.finalize_xof().fill(&mut proof);
        data_encoding::HEXLOWER.encode(&proof)
    }
}

impl fmt::Debug for OwnerKey {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str("OwnerKey")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::another_key([2; 32], "steps", &["ab", "c"])]
    #[case::another_kind([1; 32], "marker", &["ab", "c"])]
    #[case::moved_border([1; 32], "steps", &["a", "bc"])]
    #[case::part_more([1; 32], "steps", &["ab", "c", ""])]
    fn a_proof_is_of_one_key_kind_and_thing(#[case] key: [u8; 32], #[case] what: &str, #[case] parts: &[&str]) {
        let proof = OwnerKey::new(&[1; 32]).proof("steps", &[b"ab", b"c"]);
        assert_eq!(proof, OwnerKey::new(&[1; 32]).proof("steps", &[b"ab", b"c"]));
        let parts: Vec<&[u8]> = parts.iter().map(|part| part.as_bytes()).collect();
        assert_ne!(proof, OwnerKey::new(&key).proof(what, &parts));
        assert_eq!(proof.len(), 32);
    }
}
