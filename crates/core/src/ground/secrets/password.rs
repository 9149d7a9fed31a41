//! What unlocks an archive: a password as the format defines it, the same on every keyboard and every system, and a
//! key file beside it.

use crate::ground::retrying::uninterrupted;
use crate::ground::secrets::{SecretBytes, keep_in_memory};
use sha2::{Digest as _, Sha256};
use std::fmt;
use std::io::{self, Read};
use unicode_normalization::UnicodeNormalization as _;
use unicode_normalization::char::is_public_assigned;
use zeroize::{Zeroize as _, Zeroizing};

/// The longest password, in bytes of UTF-8 after normalisation.
pub const MAX_PASSWORD_BYTES: usize = 1_024;

/// A password: NFC (Unicode Standard Annex 15), UTF-8, without control characters. Wiped when dropped.
#[derive(PartialEq, Eq)]
pub struct Password(Zeroizing<String>);

impl Clone for Password {
    fn clone(&self) -> Self {
        Self::kept(self.0.clone())
    }
}

/// What stands in the place of a password where there is none (docs/format.md section 2.1). No password holds a control character.
const PUBLIC_PASSWORD: &str = "\u{1}under-seal";

/// U+FEFF, which is seen nowhere.
const BYTE_ORDER_MARK: char = '\u{feff}';

/// Why a text cannot be a password.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum PasswordError {
    /// No characters at all.
    #[error("the password is empty")]
    Empty,
    /// Bytes that are not UTF-8.
    #[error("the password is not UTF-8 text")]
    NotText,
    /// A control character, a line break inside included.
    #[error("the password contains a control character")]
    ControlCharacter,
    /// A character that has no meaning yet or none for everybody (unassigned, private use, a byte order mark): other programs may
    /// normalise it otherwise.
    #[error("the password contains a character that Unicode does not define")]
    Undefined,
    /// More than [`MAX_PASSWORD_BYTES`].
    #[error("the password is longer than {MAX_PASSWORD_BYTES} bytes")]
    TooLong,
}

impl Password {
    /// Normalises a text and takes it as a password.
    pub fn new(text: &str) -> Result<Self, PasswordError> {
        if text.is_empty() {
            return Err(PasswordError::Empty);
        }
        if text.len() > 4 * MAX_PASSWORD_BYTES {
            return Err(PasswordError::TooLong);
        }
        if text.chars().any(char::is_control) {
            return Err(PasswordError::ControlCharacter);
        }
        if text.chars().any(|letter| letter == BYTE_ORDER_MARK || !is_public_assigned(letter)) {
            return Err(PasswordError::Undefined);
        }
        // NFC makes text at most three times as long in UTF-8 (Unicode Standard Annex 15, section 9);
        // room for all of it means that no half-built copy is left behind by a reallocation.
        let mut normal = Zeroizing::new(String::with_capacity(3 * text.len()));
        normal.extend(text.nfc());
        if normal.len() > MAX_PASSWORD_BYTES {
            return Err(PasswordError::TooLong);
        }
        Ok(Self::kept(normal))
    }

    fn kept(text: Zeroizing<String>) -> Self {
        keep_in_memory(text.as_bytes());
        Self(text)
    }

    /// Takes a file's bytes as a password, without one final LF or CR LF. The bytes are wiped.
    pub fn from_file_bytes(mut bytes: Vec<u8>) -> Result<Self, PasswordError> {
        // Some editors put a mark in front of UTF-8, which nobody types.
        let text = bytes.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(&bytes);
        let line = text.strip_suffix(b"\n").map(|line| line.strip_suffix(b"\r").unwrap_or(line));
        let password =
            std::str::from_utf8(line.unwrap_or(text)).map_err(|_| PasswordError::NotText).and_then(Self::new);
        bytes.zeroize();
        password
    }

    /// The bytes as they were typed, normalised; what other formats derive keys from.
    pub fn as_bytes(&self) -> &[u8] {
        self.0.as_bytes()
    }

    /// The bytes from which keys of sealed archives are derived (docs/format.md section 2.1): of a passphrase the words with one space
    /// between each, however they were set apart when it was typed.
    pub fn sealing_bytes(&self) -> Zeroizing<Vec<u8>> {
        let between = |letter: char| matches!(letter, ' ' | '-');
        let words = || self.0.split(between).filter(|word| !word.is_empty());
        let is_passphrase = self.0.chars().all(|letter| letter.is_ascii_lowercase() || between(letter))
            && !self.0.starts_with(between)
            && !self.0.ends_with(between)
            && words().count() >= PASSPHRASE_WORDS;
        let mut bytes = Zeroizing::new(Vec::with_capacity(self.0.len()));
        if !is_passphrase {
            bytes.extend_from_slice(self.0.as_bytes());
            return bytes;
        }
        for word in words() {
            if !bytes.is_empty() {
                bytes.push(b' ');
            }
            bytes.extend_from_slice(word.as_bytes());
        }
        bytes
    }
}

/// From so many words on, of small letters a to z alone, a text is a passphrase.
const PASSPHRASE_WORDS: usize = 5;

/// A key file: something one has, beside what one knows. Only its SHA-256 counts, so any file will do; a single
/// changed byte makes it another key. Wiped when dropped.
#[derive(Clone, PartialEq, Eq)]
pub struct KeyFile(SecretBytes<32>);

impl KeyFile {
    /// Reads a key file to its end.
    ///
    /// # Errors
    /// What the system said; [`io::ErrorKind::UnexpectedEof`] for an empty one, which everybody has.
    pub fn read(mut file: impl Read) -> io::Result<Self> {
        let mut hasher = Sha256::new();
        let mut buffer = Zeroizing::new(vec![0; 64 * 1024]);
        let mut is_empty = true;
        loop {
            match uninterrupted(|| file.read(&mut buffer))? {
                0 if is_empty => return Err(io::ErrorKind::UnexpectedEof.into()),
                0 => break,
                count => {
                    is_empty = false;
                    hasher.update(&buffer[..count]);
                }
            }
        }
        let mut digest = SecretBytes::zeroed();
        digest.copy_from_slice(&hasher.finalize());
        Ok(Self(digest))
    }
}

/// What one keyhole takes: a password, alone or with a key file.
#[derive(Clone, PartialEq, Eq)]
pub struct Credentials {
    /// What one knows.
    pub password: Password,
    /// What one has.
    pub key_file: Option<KeyFile>,
}

impl Credentials {
    /// What opens an archive that is not secret: a text that everybody knows, and that nobody can choose as a password.
    pub fn none() -> Self {
        Self { password: Password(Zeroizing::new(PUBLIC_PASSWORD.to_owned())), key_file: None }
    }

    /// The same password alone, where there is a key file too: it may not be needed.
    pub(crate) fn without_key_file(&self) -> Option<Self> {
        self.key_file.as_ref().map(|_| self.password.clone().into())
    }

    /// The key file's part of the key derivation: its SHA-256, or 32 zeros where there is none.
    pub(crate) fn key_file_bytes(&self) -> [u8; 32] {
        self.key_file.as_ref().map_or([0; 32], |file| *file.0)
    }
}

impl From<Password> for Credentials {
    fn from(password: Password) -> Self {
        Self { password, key_file: None }
    }
}

impl fmt::Debug for Credentials {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str("Credentials")
    }
}

impl fmt::Debug for Password {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str("Password")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn a_key_file_has_something_in_it() {
        let read = |bytes: &[u8]| KeyFile::read(bytes).map_err(|error| error.kind());
        assert!(read(b"\0").is_ok());
        assert!(matches!(read(b""), Err(io::ErrorKind::UnexpectedEof)));
    }

    #[rstest]
    #[case::spaces("twelve panes of salted glass", "twelve panes of salted glass")]
    #[case::hyphens("twelve-panes-of-salted-glass", "twelve panes of salted glass")]
    #[case::any_run("twelve  panes - of--salted glass", "twelve panes of salted glass")]
    #[case::too_few("panes-of-salted-glass", "panes-of-salted-glass")]
    #[case::a_capital("Twelve-panes-of-salted-glass", "Twelve-panes-of-salted-glass")]
    #[case::a_digit("twelve-panes-of-salted-glass-2", "twelve-panes-of-salted-glass-2")]
    #[case::at_the_edge(" twelve-panes-of-salted-glass", " twelve-panes-of-salted-glass")]
    fn how_the_words_of_a_passphrase_are_set_apart_does_not_count(#[case] typed: &str, #[case] sealing: &str) {
        let password = Password::new(typed).unwrap();
        assert_eq!((password.as_bytes(), password.sealing_bytes().as_slice()), (typed.as_bytes(), sealing.as_bytes()));
    }

    #[rstest]
    #[case(b"lamp oil", Ok("lamp oil"))]
    #[case(b"lamp oil\n", Ok("lamp oil"))]
    #[case(b"lamp oil\r\n", Ok("lamp oil"))]
    #[case(b"lamp oil ", Ok("lamp oil "))]
    #[case::byte_order_mark(b"\xEF\xBB\xBFlamp oil\r\n", Ok("lamp oil"))]
    #[case("Ku\u{308}ste".as_bytes(), Ok("K\u{fc}ste"))]
    #[case::inside("la\u{feff}mp".as_bytes(), Err(PasswordError::Undefined))]
    #[case::unassigned("lamp\u{e0fff}".as_bytes(), Err(PasswordError::Undefined))]
    #[case::private("lamp\u{e000}".as_bytes(), Err(PasswordError::Undefined))]
    #[case::of_every_plane("\u{1f9ed} 燈臺".as_bytes(), Ok("\u{1f9ed} 燈臺"))]
    #[case(b"lamp\noil", Err(PasswordError::ControlCharacter))]
    #[case(b"lamp oil\n\n", Err(PasswordError::ControlCharacter))]
    #[case(b"\n", Err(PasswordError::Empty))]
    #[case(b"\xff\xfe", Err(PasswordError::NotText))]
    #[case(&[b'x'; 1_025], Err(PasswordError::TooLong))]
    fn a_password_file_gives_what_was_typed(#[case] file: &[u8], #[case] expected: Result<&str, PasswordError>) {
        let password = Password::from_file_bytes(file.to_vec());
        assert_eq!(password.as_ref().map(Password::as_bytes).map_err(|e| *e), expected.map(str::as_bytes));
    }
}
