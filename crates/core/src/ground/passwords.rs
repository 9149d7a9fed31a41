//! Choosing a password: how long one would withstand guessing, and making one from words.
//!
//! Whoever has the volumes can guess at leisure, and every guess costs what the head says. What the sender's own files
//! are called is the first thing that a guesser tries.

use crate::ground::context::{Context, NoRandomness};
use crate::ground::entry::EntryPath;
use crate::ground::secrets::Password;
use std::collections::HashSet;
use zeroize::Zeroizing;

/// What a guess costs, by what keeps the archive.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Guessing {
    /// A sealed archive's head, at the usual cost: a quarter of a second of a processor.
    Sealed,
    /// ZIP's AES: a thousand rounds of a quick function, which its format sets; about a thousandth of that.
    Zip,
}

impl Guessing {
    /// A password is weak where fewer guesses than ten to this power find it: a thousand processors need eight years for
    /// that many.
    pub const fn weak_below_log10(self) -> f64 {
        match self {
            Self::Sealed => 12.0,
            Self::Zip => 15.0,
        }
    }

    /// Guesses a second that a guesser with a thousand processors makes.
    pub const fn guesses_a_second(self) -> f64 {
        match self {
            Self::Sealed => 4_000.0,
            Self::Zip => 4_000_000.0,
        }
    }
}

/// Words of a made passphrase: 7 of [`WORDS`], 11 bits each, are 77 bits.
const PASSPHRASE_WORDS: usize = 7;

/// Words in the list (BIP 39, English): a power of two, all told apart by their first four letters.
const WORDS: usize = 2_048;

/// Names that are looked at for words that a guesser would try.
const MOST_GUESSABLE: usize = 2_000;

/// Letters that a word must have to be worth trying.
const SHORTEST_GUESSABLE: usize = 3;

/// How long a password would withstand guessing.
#[derive(Debug, Clone, PartialEq)]
pub struct Strength {
    /// The logarithm to base ten of the guesses that would find it.
    pub guesses_log10: f64,
    /// What a guess costs.
    pub guessing: Guessing,
    /// What makes it easy, as a sentence, where there is something to say.
    pub why: Option<String>,
}

impl Strength {
    /// Whether it is weaker than any password for an archive should be.
    pub fn is_weak(&self) -> bool {
        self.guesses_log10 < self.guessing.weak_below_log10()
    }

    /// Seconds that a guesser with a thousand processors would need.
    pub fn seconds_to_guess(&self) -> f64 {
        10f64.powf(self.guesses_log10) / self.guessing.guesses_a_second()
    }
}

/// Judges a password; names among `guessable` (see [`guessable_words`]) are no secret.
pub fn judge(password: &Password, guessable: &[String], guessing: Guessing) -> Strength {
    let text = String::from_utf8_lossy(password.as_bytes());
    let words: Vec<&str> = guessable.iter().map(String::as_str).collect();
    let judged = zxcvbn::zxcvbn(&text, &words);
    let why = judged.feedback().and_then(|feedback| feedback.warning()).map(|warning| warning.to_string());
    Strength { guesses_log10: judged.guesses_log10(), guessing, why }
}

/// The words in names that a guesser would try: whole names, and their parts.
pub fn guessable_words<'a>(paths: impl IntoIterator<Item = &'a EntryPath>) -> Vec<String> {
    let mut words = HashSet::new();
    for path in paths {
        for name in path.components() {
            let name = String::from_utf8_lossy(name).to_lowercase();
            let parts = name.split(|letter: char| !letter.is_alphanumeric());
            words.extend(parts.filter(|part| part.chars().count() >= SHORTEST_GUESSABLE).map(str::to_owned));
            words.insert(name);
        }
        if words.len() >= MOST_GUESSABLE {
            break;
        }
    }
    words.into_iter().collect()
}

/// Makes a passphrase of 77 random bits: words with spaces between, all small letters.
pub fn make_passphrase(context: &Context<'_>) -> Result<Zeroizing<String>, NoRandomness> {
    let list = bip39::Language::English.word_list();
    // Room for the longest words, so that no half-built copy is left behind by a reallocation.
    let mut passphrase = Zeroizing::new(String::with_capacity(PASSPHRASE_WORDS * 16));
    for place in 0..PASSPHRASE_WORDS {
        let dice = Zeroizing::new(context.random::<2>()?);
        if place > 0 {
            passphrase.push(' ');
        }
        passphrase.push_str(list[usize::from(u16::from_le_bytes(*dice)) % WORDS]);
    }
    Ok(passphrase)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::common("password1", true)]
    #[case::short("x7$Kq", true)]
    #[case::own_name("wrenfall-light", true)]
    #[case::own_names_and_a_year("Wrenfall Light 2026", true)]
    #[case::sentence("twelve panes of salted glass", false)]
    #[case::random("c4Jr-9mWq-Zt2x-pL8v", false)]
    #[case::enough_where_guesses_are_costly("pane salted glass", false)]
    fn what_a_guesser_tries_first_is_weak(#[case] text: &str, #[case] weak: bool) {
        let paths = [EntryPath::new("wrenfall-light/survey").unwrap()];
        let strength = judge(&Password::new(text).unwrap(), &guessable_words(&paths), Guessing::Sealed);
        assert_eq!(strength.is_weak(), weak, "{strength:?}");
    }

    #[test]
    fn where_guesses_are_cheap_a_password_must_be_stronger() {
        let weak = |guessing| judge(&Password::new("pane salted glass").unwrap(), &[], guessing).is_weak();
        assert_eq!([Guessing::Sealed, Guessing::Zip].map(weak), [false, true]);
    }
}
