//! Names that will not survive on other systems, though they are good here: told before they are sent.

use crate::ground::entry::EntryPath;
use std::collections::HashMap;
use unicode_normalization::UnicodeNormalization as _;

/// A family of systems that a recipient may have.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum System {
    /// Windows, and FAT and exFAT sticks everywhere.
    Windows,
    /// macOS.
    MacOs,
    /// Linux and other Unix systems.
    Unix,
}

/// What is wrong with a name elsewhere.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Trouble {
    /// The name means a device, with any extension.
    Reserved,
    /// A character that no name there has.
    ForbiddenCharacter(char),
    /// A dot or space at the end, which is dropped.
    TrailingDotOrSpace,
    /// The whole path is too long for most programs there, in UTF-16 code units.
    LongPath(usize),
    /// The name is too long.
    LongName,
    /// The name is not Unicode.
    NotUnicode,
    /// Another name differs from it in small and capital letters only.
    DiffersInCase,
    /// Another name differs from it only in how accents are written (Unicode Standard Annex 15).
    DiffersInForm,
}

/// A path, and what is wrong with it where.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unportable {
    /// The path inside the archive.
    pub path: EntryPath,
    /// What is wrong.
    pub trouble: Trouble,
    /// Where it fails.
    pub systems: Vec<System>,
}

/// The longest path that most Windows programs take: 260 UTF-16 code units with drive, folder and final NUL; something
/// is left here for the folder that it is extracted into.
const LONGEST_PATH_UNITS: usize = 200;

/// The longest name on every system, each in what it counts: UTF-16 code units on Windows and macOS, bytes elsewhere.
pub(super) const LONGEST_NAME: usize = 255;

/// Devices of old, which cannot be files on Windows; of two kinds there are some with a digit, which may be a small raised one (Windows
/// documentation, "Naming Files, Paths, and Namespaces").
const RESERVED: [&str; 6] = ["con", "prn", "aux", "nul", "conin$", "conout$"];
const RESERVED_WITH_DIGIT: [&str; 2] = ["com", "lpt"];
const RESERVED_DIGITS: [char; 12] = ['1', '2', '3', '4', '5', '6', '7', '8', '9', '\u{b9}', '\u{b2}', '\u{b3}'];

/// Everything that will not survive, in the order of the paths. Of a folder with a bad name only the folder is told.
pub fn unportable<'a>(paths: impl IntoIterator<Item = &'a EntryPath>) -> Vec<Unportable> {
    let mut found = Vec::new();
    let mut folded: HashMap<String, &EntryPath> = HashMap::new();
    for path in paths {
        let mut tell = |trouble, systems: &[System]| {
            found.push(Unportable { path: path.clone(), trouble, systems: systems.to_vec() });
        };
        for (trouble, systems) in in_name(path.parent_and_name().1) {
            tell(trouble, systems);
        }
        let Ok(text) = std::str::from_utf8(path.as_bytes()) else { continue };
        let units = text.encode_utf16().count();
        if units > LONGEST_PATH_UNITS {
            tell(Trouble::LongPath(units), &[System::Windows]);
        }
        match folded.insert(fold(text), path) {
            Some(other) if same_but_for_form(other, path) => {
                tell(Trouble::DiffersInForm, &[System::MacOs]);
            }
            Some(_) => tell(Trouble::DiffersInCase, &[System::Windows, System::MacOs]),
            None => {}
        }
    }
    found
}

/// What is the same of two names that some systems take for one. Capital letters come first: several small ones may have the same.
pub(super) fn fold(text: &str) -> String {
    let capital = |letter: char| {
        let mut capitals = letter.to_uppercase();
        capitals.next().filter(|_| capitals.next().is_none()).unwrap_or(letter)
    };
    text.nfc().map(capital).flat_map(char::to_lowercase).collect()
}

/// Whether a character stands in no name of Windows.
pub(super) fn forbidden_on_windows(letter: char) -> bool {
    matches!(letter, '<' | '>' | ':' | '"' | '\\' | '|' | '?' | '*') || letter.is_control()
}

/// Whether a name means a device on Windows, with any extension.
pub(super) fn is_device(name: &str) -> bool {
    let stem = name.split('.').next().unwrap_or_default().trim_end().to_lowercase();
    let without_digit = stem.strip_suffix(RESERVED_DIGITS);
    without_digit.is_some_and(|stem| RESERVED_WITH_DIGIT.contains(&stem)) || RESERVED.contains(&stem.as_str())
}

fn same_but_for_form(one: &EntryPath, other: &EntryPath) -> bool {
    let normal = |path: &EntryPath| String::from_utf8_lossy(path.as_bytes()).nfc().collect::<String>();
    normal(one) == normal(other)
}

/// Whether nothing is wrong with a name on systems of a family.
pub fn is_good_on(system: System, name: &[u8]) -> bool {
    !in_name(name).iter().any(|(_, systems)| systems.contains(&system))
}

fn in_name(name: &[u8]) -> Vec<(Trouble, &'static [System])> {
    let mut found: Vec<(Trouble, &'static [System])> = Vec::new();
    let Ok(text) = std::str::from_utf8(name) else {
        found.push((Trouble::NotUnicode, &[System::Windows, System::MacOs]));
        if name.len() > LONGEST_NAME {
            found.push((Trouble::LongName, &[System::Unix]));
        }
        return found;
    };
    if is_device(text) {
        found.push((Trouble::Reserved, &[System::Windows]));
    }
    if let Some(letter) = text.chars().find(|letter| forbidden_on_windows(*letter)) {
        found.push((Trouble::ForbiddenCharacter(letter), &[System::Windows]));
    }
    if text.ends_with(['.', ' ']) {
        found.push((Trouble::TrailingDotOrSpace, &[System::Windows]));
    }
    if text.encode_utf16().count() > LONGEST_NAME {
        found.push((Trouble::LongName, &[System::Windows, System::MacOs, System::Unix]));
    } else if name.len() > LONGEST_NAME {
        found.push((Trouble::LongName, &[System::Unix]));
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::good(&["survey/levels.csv", "Überblick – Laterne.txt", "console.txt", "com10"], &[])]
    #[case::device(&["a/Con", "nul.txt", "com1.tar.gz"], &[Trouble::Reserved, Trouble::Reserved, Trouble::Reserved])]
    #[case::colon(&["a:b"], &[Trouble::ForbiddenCharacter(':')])]
    #[case::line_break(&["a\nb"], &[Trouble::ForbiddenCharacter('\n')])]
    #[case::end(&["notes.", "notes "], &[Trouble::TrailingDotOrSpace, Trouble::TrailingDotOrSpace])]
    #[case::case(&["Survey", "survey"], &[Trouble::DiffersInCase])]
    #[case::case_of_a_folder_only(&["a/notes", "b/notes"], &[])]
    #[case::form(&["K\u{fc}ste", "Ku\u{308}ste"], &[Trouble::DiffersInForm])]
    #[case::both_at_once(&["a?. "], &[Trouble::ForbiddenCharacter('?'), Trouble::TrailingDotOrSpace])]
    fn what_fails_elsewhere_is_told(#[case] paths: &[&str], #[case] expected: &[Trouble]) {
        let paths: Vec<EntryPath> = paths.iter().map(|path| EntryPath::new(*path).unwrap()).collect();
        let found: Vec<Trouble> = unportable(&paths).into_iter().map(|one| one.trouble).collect();
        assert_eq!(found, expected);
    }

    #[rstest]
    #[case(b"levels.csv", true)]
    #[case(b"..\\levels.csv", false)]
    #[case(b"C:", false)]
    #[case(b"levels.csv:stream", false)]
    #[case(b"aux.txt", false)]
    #[case(b"dossier. ", false)]
    #[case(b"\xff", false)]
    fn names_that_lead_elsewhere_on_windows_are_known(#[case] name: &[u8], #[case] is_good: bool) {
        assert_eq!(is_good_on(System::Windows, name), is_good);
        assert!(is_good_on(System::Unix, name));
    }

    #[rstest]
    #[case::not_unicode(b"caf\xe9".to_vec(), Trouble::NotUnicode)]
    #[case::long_path(vec![b'x'; 201], Trouble::LongPath(201))]
    #[case::long_name("ü".repeat(200).into_bytes(), Trouble::LongName)]
    fn lengths_and_bytes_count(#[case] path: Vec<u8>, #[case] expected: Trouble) {
        assert_eq!(unportable(&[EntryPath::new(path).unwrap()])[0].trouble, expected);
    }
}
