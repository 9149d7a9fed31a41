//! Commands that are suggested: each is one line that the user can run as it stands, in the folder in which this one ran.

use super::text::{self, columns};
use crate::args::{STANDARD_STREAM, is_standard_stream};
use crate::system::programs;
pub use crate::system::programs::as_typed;
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
    let width = text::terminal_width().filter(|_| programs::LINE_GOES_ON.is_some()).unwrap_or(usize::MAX);
    let mut lines = vec!["  under-seal".to_owned()];
    for word in words {
        // Room for the backslash behind it.
        match lines.last_mut().filter(|line| columns(line) + columns(&word) + 3 <= width) {
            Some(line) => *line = format!("{line} {word}"),
            None => lines.push(format!("    {word}")),
        }
    }
    lines.join(programs::LINE_GOES_ON.unwrap_or(" "))
}

/// A place as it was typed; standard input is no file of that name.
fn place_part(place: &Path) -> Part<'_> {
    if is_standard_stream(place) { Part::Word(STANDARD_STREAM) } else { Part::Named(place.as_os_str()) }
}

/// `open` with everything that this run was given to find and unlock the archive.
pub fn open<'a>(places: impl IntoIterator<Item = &'a Path>, key_file: Option<&'a Path>) -> String {
    opening(places, &[], key_file)
}

/// The same into a folder of its own: where an archive is checked, what it was made of may lie too.
pub fn open_aside<'a>(places: impl IntoIterator<Item = &'a Path>, key_file: Option<&'a Path>) -> String {
    opening(places, &["--into", OPENED], key_file)
}

/// A folder for what is extracted.
const OPENED: &str = "opened";

fn opening<'a>(places: impl IntoIterator<Item = &'a Path>, options: &[&'a str], key_file: Option<&'a Path>) -> String {
    let places = places.into_iter().map(place_part);
    let options = options.iter().map(|option| Part::Word(option));
    let key_file = key_file.map(|file| [Part::Word("--key-file"), Part::Named(file.as_os_str())]);
    let parts: Vec<Part<'_>> = std::iter::once(Part::Word("open"))
        .chain(places)
        .chain(options)
        .chain(key_file.into_iter().flatten())
        .collect();
    command(&parts)
}

/// `mend` of these places into a folder of their own, with the password.
pub fn mend<'a>(places: impl IntoIterator<Item = &'a Path>, key_file: Option<&'a Path>) -> String {
    let places = places.into_iter().map(place_part);
    let key_file = key_file.map(|file| [Part::Word("--key-file"), Part::Named(file.as_os_str())]);
    let options = ["--to", "mended", "--ask-password"].map(Part::Word);
    let parts = std::iter::once(Part::Word("mend")).chain(places).chain(options);
    command(&parts.chain(key_file.into_iter().flatten()).collect::<Vec<_>>())
}

/// The same for an archive of changes, into the folder in which what it builds upon was opened, as a note calls it.
pub fn open_changes<'a>(places: impl IntoIterator<Item = &'a Path>, key_file: Option<&'a Path>) -> String {
    let opening = open(places, key_file);
    format!("{opening} --into {OPENED} --update --remove-gone")
}

/// `recast` of what lies there into volumes of another fit, in a folder of their own.
pub fn cut(place: &Path, fit: &str) -> String {
    let fit = ["--fit", fit, "--to cut/"].map(Part::Word);
    command(&[&[Part::Word("recast"), Part::Named(place.as_os_str())], fit.as_slice()].concat())
}

/// `check` of these places.
pub fn check<'a>(places: impl IntoIterator<Item = &'a Path>) -> String {
    let places = places.into_iter().map(place_part);
    command(&std::iter::once(Part::Word("check")).chain(places).collect::<Vec<_>>())
}

/// A path as a shell takes it, never for an option.
pub fn quoted(path: &OsStr) -> String {
    let in_front: &[u8] = if path.as_encoded_bytes().first() == Some(&b'-') { b"./" } else { b"" };
    as_typed(&name_of(&[in_front, path.as_encoded_bytes()].concat()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("-rf", "./-rf")]
    #[case("out/a.useal", "out/a.useal")]
    fn a_path_is_never_taken_for_an_option(#[case] name: &str, #[case] expected: &str) {
        assert_eq!(quoted(name.as_ref()), expected);
    }
}
