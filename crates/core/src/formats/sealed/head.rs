//! The head: how an archive is unlocked. Key-derivation parameters, a commitment to the key, eight
//! keyholes of which some are real, room for extensions, and a tag over all of it.

use super::keys::{ArchiveKey, CostLimit, KeyCost, KeyPurpose, NoKeyMemory, SecretBytes, keyhole_key, stretch};
use crate::formats::sealed::volume::header::{Bound, HEAD_AT, HEAD_BYTES, Head};
use crate::ground::context::{Context, NoRandomness};
use crate::ground::secrets::Credentials;
use crate::ground::wire::{Cursor, Malformed};
use ring::aead::{AES_256_GCM, Aad, LessSafeKey, Nonce, UnboundKey};
use ring::hmac::{self, HMAC_SHA256};
use subtle::ConstantTimeEq as _;
use zeroize::Zeroizing;

/// Key derivation by Argon2id, version 0x13.
const KDF_ARGON2ID: u16 = 1;
/// Keyholes in every head; unused ones hold random bytes, so that their number is not told.
pub const KEYHOLES: usize = 8;
/// Salt 32, wrapped key 32, GCM tag 16.
const KEYHOLE_BYTES: usize = 80;

// Offsets in the head, which begins at byte 128 of the header.
const SALT_AT: usize = 144 - HEAD_AT;
const COMMITMENT_AT: usize = 176 - HEAD_AT;
const KEYHOLES_AT: usize = 208 - HEAD_AT;
const EXTENSION_AT: usize = 848 - HEAD_AT;
const TAG_AT: usize = 4_032 - HEAD_AT;

/// Top bit of an extension's type: a reader that does not know it must refuse the archive.
const MUST_BE_UNDERSTOOD: u16 = 0x8000;

/// Why a head does not give up the archive key.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum HeadError {
    /// No keyhole opens with this password, alone or with the key file that was given beside it.
    #[error("wrong password")]
    WrongPassword {
        /// Whether a key file was given, so that it may be that which is wrong.
        with_key_file: bool,
    },
    /// It needs no password, and one was given: whoever gave it expects another archive.
    #[error("it has no password")]
    OpenToAll,
    /// A keyhole opens, but the commitment or the tag is wrong.
    #[error("the head was tampered with")]
    Tampered,
    /// Unlocking would cost more than a reader takes on.
    #[error("unlocking wants {} KiB and {} passes", .0.memory_kib, .0.passes)]
    Costly(KeyCost),
    /// It needs something that this version does not know.
    #[error("the head needs a newer version")]
    Unknown,
    /// Nobody could open it, or more ways to open it are wanted than there are keyholes.
    #[error("an archive has 1 to {KEYHOLES} keyholes in use, not {0}")]
    KeyholeCount(usize),
    /// The memory for key derivation could not be had.
    #[error(transparent)]
    NoMemory(#[from] NoKeyMemory),
    /// It breaks the format's rules.
    #[error(transparent)]
    Malformed(#[from] Malformed),
    /// The system gave no random bytes.
    #[error(transparent)]
    NoRandomness(#[from] NoRandomness),
}

/// Makes the head of a new archive, with one keyhole for each of the credentials.
///
/// # Errors
/// [`HeadError::KeyholeCount`], [`HeadError::NoMemory`] or [`HeadError::NoRandomness`].
pub fn seal_head(
    key: &ArchiveKey,
    bound: &Bound,
    credentials: &[Credentials],
    cost: KeyCost,
    context: &Context<'_>,
) -> Result<Head, HeadError> {
    if !(1..=KEYHOLES).contains(&credentials.len()) {
        return Err(HeadError::KeyholeCount(credentials.len()));
    }
    // Everything random at first: unused keyholes stay so, the rest is overwritten.
    let mut head = [0; HEAD_BYTES];
    context.randomness.fill(&mut head[..EXTENSION_AT])?;
    head[0..2].copy_from_slice(&KDF_ARGON2ID.to_le_bytes());
    head[2..4].copy_from_slice(&(KEYHOLES as u16).to_le_bytes());
    head[4..8].copy_from_slice(&cost.memory_kib.to_le_bytes());
    head[8..12].copy_from_slice(&cost.passes.to_le_bytes());
    head[12..16].copy_from_slice(&cost.lanes.to_le_bytes());
    head[COMMITMENT_AT..KEYHOLES_AT].copy_from_slice(key.derive(&bound.set, KeyPurpose::Commitment).as_slice());
    let salt = salt_of(&head);
    let (front, keyholes) = head.split_at_mut(KEYHOLES_AT);
    for (keyhole, credentials) in keyholes.chunks_exact_mut(KEYHOLE_BYTES).zip(credentials) {
        let stretched = stretch(&credentials.password, &salt, cost)?;
        let wrapping = wrapping_key(&keyhole[..32], &stretched, credentials)?;
        let mut wrapped = Zeroizing::new(*key.as_bytes());
        let tag = wrapping
            .seal_in_place_separate_tag(zero_nonce(), Aad::from(&front[..COMMITMENT_AT]), wrapped.as_mut_slice())
            .map_err(|_| Malformed("keyhole"))?;
        keyhole[32..64].copy_from_slice(wrapped.as_slice());
        keyhole[64..].copy_from_slice(tag.as_ref());
    }
    let tag = head_tag(key, bound, &head);
    head[TAG_AT..].copy_from_slice(tag.as_ref());
    Ok(Head::new(head))
}

/// Unlocks a head: cost, keyholes, commitment, tag, extensions, in that order.
///
/// # Errors
/// [`HeadError`], the first that applies in that order.
pub fn open_head(
    head: &Head,
    bound: &Bound,
    credentials: &Credentials,
    limit: CostLimit,
) -> Result<ArchiveKey, HeadError> {
    open_head_by(head, bound, credentials, limit).map(|(key, _)| key)
}

/// The same, and whether the key file was needed.
pub(super) fn open_head_by(
    head: &Head,
    bound: &Bound,
    credentials: &Credentials,
    limit: CostLimit,
) -> Result<(ArchiveKey, bool), HeadError> {
    let bytes = head.as_bytes();
    let cost = read_cost(bytes)?;
    if limit == CostLimit::Bearable && !cost.is_bearable() {
        return Err(HeadError::Costly(cost));
    }
    let stretched = stretch(&credentials.password, &salt_of(bytes), cost)?;
    // A key file that is not needed does not make a right password wrong.
    let alone = credentials.without_key_file();
    let keyholes = || bytes[KEYHOLES_AT..EXTENSION_AT].chunks_exact(KEYHOLE_BYTES);
    let tries = std::iter::once(credentials).chain(&alone).flat_map(|tried| keyholes().map(move |hole| (tried, hole)));
    for (tried, keyhole) in tries {
        let wrapping = wrapping_key(&keyhole[..32], &stretched, tried)?;
        let mut wrapped = Zeroizing::new([0; 48]);
        wrapped.copy_from_slice(&keyhole[32..]);
        let Ok(opened) =
            wrapping.open_in_place(zero_nonce(), Aad::from(&bytes[..COMMITMENT_AT]), wrapped.as_mut_slice())
        else {
            continue;
        };
        let mut key = SecretBytes::zeroed();
        key.copy_from_slice(opened);
        let key = ArchiveKey::from_bytes(key);
        let commitment = key.derive(&bound.set, KeyPurpose::Commitment);
        let committed = commitment.ct_eq(&bytes[COMMITMENT_AT..KEYHOLES_AT]);
        let tagged = head_tag(&key, bound, bytes).as_ref().ct_eq(&bytes[TAG_AT..]);
        if !bool::from(committed & tagged) {
            return Err(HeadError::Tampered);
        }
        read_extensions(&bytes[EXTENSION_AT..TAG_AT])?;
        return Ok((key, tried.key_file.is_some()));
    }
    Err(HeadError::WrongPassword { with_key_file: credentials.key_file.is_some() })
}

/// The key of an archive that is not secret: it opens with [`Credentials::none`], and an attempt at that costs next to
/// nothing. `None` where it needs a password. Whoever can write can make such an archive, so it is never authentic.
///
/// # Errors
/// [`HeadError`], if the head opens without a password and was tampered with, or cannot be read.
pub fn open_to_all(head: &Head, bound: &Bound) -> Result<Option<ArchiveKey>, HeadError> {
    if read_cost(head.as_bytes())? != KeyCost::CHEAPEST {
        return Ok(None);
    }
    match open_head(head, bound, &Credentials::none(), CostLimit::Bearable) {
        Err(HeadError::WrongPassword { .. }) => Ok(None),
        outcome => outcome.map(Some),
    }
}

/// What an attempt at unlocking costs, bearable or not.
///
/// # Errors
/// [`HeadError`], for a head that cannot be read.
pub fn cost_of(head: &Head) -> Result<KeyCost, HeadError> {
    read_cost(head.as_bytes())
}

fn read_cost(head: &[u8; HEAD_BYTES]) -> Result<KeyCost, HeadError> {
    let mut cursor = Cursor::new(head, "head");
    let (kdf, keyholes) = (cursor.u16()?, cursor.u16()?);
    if kdf != KDF_ARGON2ID || usize::from(keyholes) != KEYHOLES {
        return Err(HeadError::Unknown);
    }
    let cost = KeyCost { memory_kib: cursor.u32()?, passes: cursor.u32()?, lanes: cursor.u32()? };
    if !cost.is_possible() {
        return Err(cursor.malformed().into());
    }
    Ok(cost)
}

fn read_extensions(area: &[u8]) -> Result<(), HeadError> {
    let mut area = Cursor::new(area, "head extension");
    let length = usize::try_from(area.u32()?).map_err(|_| area.malformed())?;
    let mut records = Cursor::new(area.bytes(length)?, "head extension");
    while !records.is_empty() {
        let (kind, length) = (records.u16()?, records.u16()?);
        records.bytes(length.into())?;
        // Version 1 defines no extension yet.
        if kind & MUST_BE_UNDERSTOOD != 0 {
            return Err(HeadError::Unknown);
        }
    }
    let rest = area.rest();
    Ok(Cursor::new(rest, "head extension").zeros(rest.len())?)
}

fn salt_of(head: &[u8; HEAD_BYTES]) -> [u8; 32] {
    let mut salt = [0; 32];
    salt.copy_from_slice(&head[SALT_AT..COMMITMENT_AT]);
    salt
}

fn wrapping_key(salt: &[u8], stretched: &SecretBytes, credentials: &Credentials) -> Result<LessSafeKey, Malformed> {
    let key_file = Zeroizing::new(credentials.key_file_bytes());
    let key = keyhole_key(salt, stretched, &key_file);
    UnboundKey::new(&AES_256_GCM, key.as_slice()).map(LessSafeKey::new).map_err(|_| Malformed("keyhole"))
}

/// A wrapping key is used once, so its nonce may be fixed.
fn zero_nonce() -> Nonce {
    Nonce::assume_unique_for_key([0; 12])
}

/// HMAC-SHA-256 (RFC 2104), compared in constant time.
fn head_tag(key: &ArchiveKey, bound: &Bound, head: &[u8; HEAD_BYTES]) -> hmac::Tag {
    let head_key = key.derive(&bound.set, KeyPurpose::Head);
    let mut tag = hmac::Context::with_key(&hmac::Key::new(HMAC_SHA256, head_key.as_slice()));
    tag.update(&bound.bytes());
    tag.update(&head[..TAG_AT]);
    tag.sign()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::formats::sealed::volume::CellLength;
    use crate::ground::context::{Observer, Progress, Randomness};
    use crate::ground::entry::Timestamp;
    use crate::ground::ownership::OwnerKey;
    use crate::ground::secrets::password::{KeyFile, Password};
    use rstest::rstest;

    const BOUND: Bound = Bound { set: [4; 16], cell_length: CellLength::LONGEST };

    struct Fixed;

    impl Randomness for Fixed {
        fn fill(&self, buffer: &mut [u8]) -> Result<(), NoRandomness> {
            blake3::Hasher::new().finalize_xof().fill(buffer);
            Ok(())
        }
    }

    impl Observer for Fixed {
        fn told(&self, _: Progress<'_>) {}
    }

    fn password(text: &str) -> Credentials {
        Password::new(text).unwrap().into()
    }

    #[rstest]
    #[case::open_to_all(Credentials::none(), KeyCost::CHEAPEST, true)]
    #[case::secret(password("lamp oil"), KeyCost::CHEAPEST, false)]
    #[case::costly(Credentials::none(), KeyCost { memory_kib: 16, ..KeyCost::CHEAPEST }, false)]
    fn what_is_not_secret_is_known(#[case] credentials: Credentials, #[case] cost: KeyCost, #[case] open: bool) {
        let (_, head) = sealed_at(cost, &[credentials]).unwrap();
        assert_eq!(open_to_all(&Head::new(head), &BOUND).unwrap().is_some(), open);
    }

    /// A password with a key file of this content.
    fn with_file(text: &str, content: &[u8]) -> Credentials {
        Credentials { key_file: Some(KeyFile::read(content).unwrap()), ..password(text) }
    }

    fn sealed() -> (ArchiveKey, [u8; HEAD_BYTES]) {
        sealed_for(&[password("lamp")]).unwrap()
    }

    fn sealed_for(credentials: &[Credentials]) -> Result<(ArchiveKey, [u8; HEAD_BYTES]), HeadError> {
        sealed_at(KeyCost::CHEAPEST, credentials)
    }

    fn sealed_at(cost: KeyCost, credentials: &[Credentials]) -> Result<(ArchiveKey, [u8; HEAD_BYTES]), HeadError> {
        let context = Context {
            observer: &Fixed,
            cancel: &|| false,
            randomness: &Fixed,
            clock: &|| Timestamp { seconds: 0, nanoseconds: 0 },
            owner_key: &|| OwnerKey::new(&[0; 32]),
            threads: 1,
        };
        let key = ArchiveKey::generate(&context).unwrap();
        let head = seal_head(&key, &BOUND, credentials, cost, &context)?;
        Ok((key, *head.as_bytes()))
    }

    #[rstest]
    #[case::unasked(CostLimit::Bearable, false)]
    #[case::wanted(CostLimit::AsTheHeadSays, true)]
    fn a_costly_head_opens_only_where_that_is_wanted(#[case] limit: CostLimit, #[case] opens: bool) {
        let cost = KeyCost { passes: 17, ..KeyCost::CHEAPEST };
        let (_, head) = sealed_at(cost, &[password("lamp")]).unwrap();
        let opened = open_head(&Head::new(head), &BOUND, &password("lamp"), limit).map(|_| ());
        assert_eq!(opened, if opens { Ok(()) } else { Err(HeadError::Costly(cost)) });
    }

    /// Opens a head after a change that whoever sealed it made, tag and all.
    fn open_after(change: fn(&mut [u8]), typed: &str) -> Result<(), HeadError> {
        let (key, mut head) = sealed();
        change(&mut head);
        let tag = head_tag(&key, &BOUND, &head);
        head[TAG_AT..].copy_from_slice(tag.as_ref());
        open_head(&Head::new(head), &BOUND, &password(typed), CostLimit::Bearable)
            .map(|opened| assert_eq!(opened.as_bytes(), key.as_bytes()))
    }

    /// An extension of this type with two bytes of value.
    fn extend(head: &mut [u8], kind: u16) {
        head[EXTENSION_AT..EXTENSION_AT + 4].copy_from_slice(&6_u32.to_le_bytes());
        head[EXTENSION_AT + 4..EXTENSION_AT + 6].copy_from_slice(&kind.to_le_bytes());
        head[EXTENSION_AT + 6] = 2;
    }

    #[rstest]
    #[case::right(|_: &mut [u8]| {}, "lamp", Ok(()))]
    #[case::wrong(|_: &mut [u8]| {}, "Lamp", Err(HeadError::WrongPassword { with_key_file: false }))]
    #[case::unused_keyholes_do_not_matter(|head: &mut [u8]| head[KEYHOLES_AT + 100] ^= 1, "lamp", Ok(()))]
    #[case::keyhole_changed(|head: &mut [u8]| head[KEYHOLES_AT + 40] ^= 1, "lamp", Err(HeadError::WrongPassword { with_key_file: false }))]
    #[case::salt_changed(|head: &mut [u8]| head[SALT_AT] ^= 1, "lamp", Err(HeadError::WrongPassword { with_key_file: false }))]
    #[case::commitment_changed(|head: &mut [u8]| head[COMMITMENT_AT] ^= 1, "lamp", Err(HeadError::Tampered))]
    #[case::other_derivation(|head: &mut [u8]| head[0] = 2, "lamp", Err(HeadError::Unknown))]
    #[case::other_keyhole_count(|head: &mut [u8]| head[2] = 9, "lamp", Err(HeadError::Unknown))]
    #[case::no_passes(|head: &mut [u8]| head[8] = 0, "lamp", Err(HeadError::Malformed(Malformed("head"))))]
    #[case::endless_passes(|head: &mut [u8]| head[9] = 1, "lamp", Err(HeadError::Costly(KeyCost { memory_kib: 8, passes: 257, lanes: 1 })))]
    #[case::endless_memory(|head: &mut [u8]| head[7] = 1, "lamp", Err(HeadError::Costly(KeyCost { memory_kib: (1 << 24) + 8, passes: 1, lanes: 1 })))]
    #[case::extension_that_may_be_skipped(|head: &mut [u8]| extend(head, 7), "lamp", Ok(()))]
    #[case::extension_that_must_be_understood(|head: &mut [u8]| extend(head, 0x8007), "lamp", Err(HeadError::Unknown))]
    #[case::extension_beyond_its_area(|head: &mut [u8]| head[EXTENSION_AT + 1] = 0xFF, "lamp", Err(HeadError::Malformed(Malformed("head extension"))))]
    #[case::bytes_behind_the_extensions(|head: &mut [u8]| head[TAG_AT - 1] = 1, "lamp", Err(HeadError::Malformed(Malformed("head extension"))))]
    fn a_head_opens_or_says_why_not(
        #[case] change: fn(&mut [u8]),
        #[case] typed: &str,
        #[case] expected: Result<(), HeadError>,
    ) {
        assert_eq!(open_after(change, typed), expected);
    }

    #[rstest]
    #[case::first(password("lamp"), true)]
    #[case::second_with_its_file(with_file("oil", b"brass key"), true)]
    #[case::second_without_its_file(password("oil"), false)]
    #[case::second_with_another_file(with_file("oil", b"brass kez"), false)]
    #[case::first_with_a_file_it_does_not_want(with_file("lamp", b"brass key"), true)]
    #[case::third(password("wick"), true)]
    #[case::neither(password("soot"), false)]
    fn every_keyhole_takes_its_own_password_and_key_file(#[case] tried: Credentials, #[case] opens: bool) {
        let all = [password("lamp"), with_file("oil", b"brass key"), password("wick")];
        let (key, head) = sealed_for(&all).unwrap();
        let opened = open_head(&Head::new(head), &BOUND, &tried, CostLimit::Bearable);
        let with_key_file = tried.key_file.is_some();
        let expected = if opens { Ok(*key.as_bytes()) } else { Err(HeadError::WrongPassword { with_key_file }) };
        assert_eq!(opened.map(|opened| *opened.as_bytes()), expected);
    }

    #[rstest]
    fn there_are_one_to_eight_keyholes(#[values(0, 8, 9)] count: usize) {
        let outcome = sealed_for(&vec![password("lamp"); count]).map(|_| ());
        assert_eq!(outcome, if count == 8 { Ok(()) } else { Err(HeadError::KeyholeCount(count)) });
    }

    #[test]
    fn a_change_without_the_key_is_tampering() {
        let (_, mut head) = sealed();
        head[KEYHOLES_AT + 100] ^= 1;
        let opened = open_head(&Head::new(head), &BOUND, &password("lamp"), CostLimit::Bearable);
        assert_eq!(opened.map(|_| ()), Err(HeadError::Tampered));
    }
}
