//! What a place takes as names, and the rule by which a name that it does not take becomes one that it does.
//!
//! The rule, as docs/systems.md tells it: what cannot stand in a name becomes `_`; behind what means a device comes `_`; a name that
//! is too long loses the end of its stem; and a name that is another's there gets a number, as in `notes (2).txt`.

use super::names;
use super::portability::{LONGEST_NAME, System, fold, forbidden_on_windows, is_device, is_good_on};
use crate::ground::entry::extension_at;

/// What is behind a name's last dot counts as its extension up to this many bytes, and is kept where the name is cut.
const LONGEST_EXTENSION: usize = 16;

/// What a place takes as names.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NameRules {
    /// Whose names it takes.
    pub system: System,
    /// Two names are one there that differ in small and capital letters only, or in how accents are written.
    pub folds: bool,
}

impl Default for NameRules {
    fn default() -> Self {
        Self::here()
    }
}

impl NameRules {
    /// Those of the system, as long as nothing else is known of a place.
    pub const fn here() -> Self {
        Self { system: names::SYSTEM, folds: !matches!(names::SYSTEM, System::Unix) }
    }

    /// Those of FAT and exFAT, on whatever system.
    pub const fn of_fat() -> Self {
        Self { system: System::Windows, folds: true }
    }

    /// Whether a name can be there as it is.
    pub fn take(&self, name: &[u8]) -> bool {
        match self.system {
            System::Unix => name.len() <= LONGEST_NAME,
            System::MacOs => is_good_on(self.system, name),
            System::Windows => is_good_on(self.system, name) || names::is_good_with_halves(name),
        }
    }

    /// By which two names are one.
    pub fn key_of(&self, name: &[u8]) -> Vec<u8> {
        match std::str::from_utf8(name) {
            Ok(text) if self.folds => fold(text).into_bytes(),
            _ => name.to_vec(),
        }
    }

    /// The name that stands for this one; with a number where it is given one.
    pub fn safe(&self, name: &[u8], number: Option<u32>) -> Vec<u8> {
        let name = if self.system == System::Unix { name.to_vec() } else { self.spelled(name).into_bytes() };
        let at = extension_at(&name);
        let (stem, extension) = name.split_at(if name.len() - at > LONGEST_EXTENSION { name.len() } else { at });
        let number = number.map(|number| format!(" ({number})")).unwrap_or_default();
        let behind = [number.as_bytes(), extension].concat();
        let room = LONGEST_NAME.saturating_sub(self.length_of(&behind));
        let mut cut = [self.cut(stem, room), &behind].concat();
        // Cutting may have left one of these at the end.
        if self.system == System::Windows
            && let Some(last) = cut.last_mut().filter(|last| matches!(last, b'.' | b' '))
        {
            *last = b'_';
        }
        cut
    }

    /// A name with `_` for whatever cannot stand in one.
    fn spelled(&self, name: &[u8]) -> String {
        let text = String::from_utf8_lossy(name);
        let is_bad = |letter: char| {
            letter == char::REPLACEMENT_CHARACTER || (self.system == System::Windows && forbidden_on_windows(letter))
        };
        let mut name: String = text.chars().map(|letter| if is_bad(letter) { '_' } else { letter }).collect();
        if self.system != System::Windows {
            return name;
        }
        let kept = name.trim_end_matches(['.', ' ']).len();
        let trailing = name.len() - kept;
        name.truncate(kept);
        name.extend(std::iter::repeat_n('_', trailing));
        if is_device(&name) {
            let stem = name.find('.').unwrap_or(name.len());
            name.insert(name[..stem].trim_end().len(), '_');
        }
        name
    }

    fn length_of(&self, name: &[u8]) -> usize {
        match std::str::from_utf8(name) {
            Ok(text) if self.system != System::Unix => text.encode_utf16().count(),
            _ => name.len(),
        }
    }

    /// As much of a stem as there is room for, and no half of a character.
    fn cut<'a>(&self, stem: &'a [u8], room: usize) -> &'a [u8] {
        if self.length_of(stem) <= room {
            return stem;
        }
        let Ok(text) = std::str::from_utf8(stem) else { return &stem[..room] };
        let mut length = 0;
        let fits = text.char_indices().find(|(_, letter)| {
            length += if self.system == System::Unix { letter.len_utf8() } else { letter.len_utf16() };
            length > room
        });
        &stem[..fits.map_or(stem.len(), |(at, _)| at)]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    const WINDOWS: NameRules = NameRules { system: System::Windows, folds: true };
    const MAC: NameRules = NameRules { system: System::MacOs, folds: true };
    const UNIX: NameRules = NameRules { system: System::Unix, folds: false };

    #[rstest]
    #[case::letters(WINDOWS, b"levels: \"low\"?.csv", None, "levels_ _low__.csv")]
    #[case::backslash(WINDOWS, b"..\\levels.csv", None, ".._levels.csv")]
    #[case::at_the_end(WINDOWS, b"dossier. ", None, "dossier__")]
    #[case::device(WINDOWS, b"Aux.tar.gz", None, "Aux_.tar.gz")]
    #[case::device_alone(WINDOWS, b"nul", None, "nul_")]
    #[case::device_and_blank(WINDOWS, b"con .txt", None, "con_ .txt")]
    #[case::no_text(WINDOWS, b"caf\xe9.txt", None, "caf_.txt")]
    #[case::number(WINDOWS, b"a?.txt", Some(2), "a_ (2).txt")]
    #[case::no_text_there(MAC, b"caf\xe9", None, "caf_")]
    #[case::colon_there(MAC, b"a:b", None, "a:b")]
    #[case::any_bytes(UNIX, b"a:\\b. ", Some(3), "a:\\b (3). ")]
    fn an_unsafe_name_is_spelled(
        #[case] rules: NameRules,
        #[case] name: &[u8],
        #[case] number: Option<u32>,
        #[case] expected: &str,
    ) {
        assert_eq!(String::from_utf8_lossy(&rules.safe(name, number)), expected);
    }

    #[rstest]
    #[case::bytes(UNIX, "ü".repeat(130) + ".txt", 125 * 2 + 4)]
    #[case::units(WINDOWS, "ü".repeat(300) + ".txt", 251 * 2 + 4)]
    #[case::pairs(WINDOWS, "🗼".repeat(130), 127 * 4)]
    #[case::no_extension(UNIX, "x".repeat(100) + "." + &"y".repeat(200), 255)]
    #[case::dot_at_the_cut(WINDOWS, "x".repeat(254) + ".y" + &"z".repeat(40), 255)]
    fn a_long_name_loses_the_end_of_its_stem(#[case] rules: NameRules, #[case] name: String, #[case] bytes: usize) {
        assert!(!rules.take(name.as_bytes()));
        let safe = rules.safe(name.as_bytes(), None);
        assert_eq!((safe.len(), rules.take(&safe)), (bytes, true));
    }

    proptest! {
        /// What the rule makes is taken, numbered or not.
        #[test]
        fn what_the_rule_makes_can_be_there(
            name in prop_oneof![
                proptest::collection::vec(1_u8.., 1..400),
                "[a-zA-Z .:?*\\\\ü🗼\u{7f}]{1,300}".prop_map(String::into_bytes),
                "(con|NUL|com1|lpt9) ?(\\.[a-z. ]{0,5})?".prop_map(String::into_bytes),
            ],
            number in proptest::option::of(2_u32..10_000),
        ) {
            for rules in [WINDOWS, MAC, UNIX] {
                let safe = rules.safe(&name, number);
                prop_assert!(rules.take(&safe), "{:?} becomes {:?}", name, String::from_utf8_lossy(&safe));
            }
        }
    }
}
