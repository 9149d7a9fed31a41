//! Commands that are suggested: each is one line that the user can run as it stands, in the folder in which this one ran.

use super::text::{self, columns};
use std::ffi::OsStr;
use std::path::Path;
use under_seal_core::disk::names::name_of;

/// What a suggested command takes: a word of its own, or what the user named.
#[derive(Debug, Clone, Copy)]
pub enum Part<'a> {
    /// An option, a command, a value that stands as it is.
    Word(&'a str),
    /// A path or another argument of the user's.
    Named(&'a OsStr),
}

/// A suggestion: the program's command with these parts behind it, indented.
pub fn command(parts: &[Part<'_>]) -> String {
    let words = parts.iter().map(|part| match part {
        Part::Word(word) => (*word).to_owned(),
        Part::Named(name) => quoted(name),
    });
    broken(words)
}

/// The program's command of these words, as it can be typed, indented.
pub fn of_words<'a>(words: impl Iterator<Item = &'a OsStr>) -> String {
    broken(words.map(as_typed))
}

/// A command in one line, or, where a terminal is too narrow, in several that a shell takes as one.
fn broken(words: impl Iterator<Item = String>) -> String {
    let width = text::terminal_width().unwrap_or(usize::MAX);
    let mut lines = vec!["  under-seal".to_owned()];
    for word in words {
        // Room for the backslash behind it.
        match lines.last_mut().filter(|line| columns(line) + columns(&word) + 3 <= width) {
            Some(line) => *line = format!("{line} {word}"),
            None => lines.push(format!("    {word}")),
        }
    }
    lines.join(" \\\n")
}

/// `open` with everything that this run was given to find and unlock the archive.
pub fn open<'a>(places: impl IntoIterator<Item = &'a Path>, key_file: Option<&'a Path>) -> String {
    let places = places.into_iter().map(|place| Part::Named(place.as_os_str()));
    let key_file = key_file.map(|file| [Part::Word("--key-file"), Part::Named(file.as_os_str())]);
    let parts: Vec<Part<'_>> =
        std::iter::once(Part::Word("open")).chain(places).chain(key_file.into_iter().flatten()).collect();
    command(&parts)
}

/// A path as a shell takes it, never for an option.
pub fn quoted(path: &OsStr) -> String {
    let in_front: &[u8] = if path.as_encoded_bytes().first() == Some(&b'-') { b"./" } else { b"" };
    as_typed(&name_of(&[in_front, path.as_encoded_bytes()].concat()))
}

/// An argument as a shell takes it (POSIX.1-2024 XCU section 2.2): as it is, in single quotes, or, with control characters or
/// what is not UTF-8 in it, with escapes.
pub fn as_typed(argument: &OsStr) -> String {
    let bytes = argument.as_encoded_bytes();
    let text = match std::str::from_utf8(bytes) {
        Ok(text) if !text.chars().any(char::is_control) => text,
        _ => return format!("$'{}'", escaped(bytes)),
    };
    let plain = |c: char| c.is_alphanumeric() || matches!(c, '/' | '.' | '_' | '-' | '+' | ',' | ':' | '@' | '%');
    if !text.is_empty() && text.chars().all(plain) {
        text.to_owned()
    } else {
        format!("'{}'", text.replace('\'', "'\\''"))
    }
}

/// What stands between dollar and quotes (POSIX.1-2024 XCU section 2.2.4): three octal digits end by themselves.
fn escaped(bytes: &[u8]) -> String {
    let mut text = String::new();
    for chunk in bytes.utf8_chunks() {
        for letter in chunk.valid().chars() {
            match letter {
                '\'' | '\\' => text.extend(['\\', letter]),
                letter if letter.is_control() => octal(letter.encode_utf8(&mut [0; 4]).as_bytes(), &mut text),
                letter => text.push(letter),
            }
        }
        octal(chunk.invalid(), &mut text);
    }
    text
}

fn octal(bytes: &[u8], to: &mut String) {
    bytes.iter().for_each(|byte| to.push_str(&format!("\\{byte:03o}")));
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(b"out/wrenfall-light-01of07.useal", "out/wrenfall-light-01of07.useal")]
    #[case("Überblick – Laterne.txt".as_bytes(), "'Überblick – Laterne.txt'")]
    #[case(b"keeper's", "'keeper'\\''s'")]
    #[case(b"-rf", "./-rf")]
    #[case(b"", "''")]
    #[case(b"a\nb'", "$'a\\012b\\''")]
    #[case(b"caf\xe9", "$'caf\\351'")]
    #[case(b"$(rm)", "'$(rm)'")]
    fn what_is_suggested_can_be_typed(#[case] name: &[u8], #[case] expected: &str) {
        assert_eq!(quoted(&name_of(name)), expected);
    }
}
