//! Numbers in names: which of a name's numbers counts pieces, and what the others beside it are called.

use super::names::{bytes_of, name_of};
use std::collections::{BTreeMap, BTreeSet};
use std::ffi::{OsStr, OsString};

/// Whatever is cut has at most so many pieces.
pub const MAX_PIECES: u32 = 65_535;

/// What follows the file's name in the name of piece `number` of `count`: like `.03of07`, with numbers of at least two
/// digits and of one length.
pub fn suffix(number: u32, count: u32) -> String {
    let width = count.to_string().len().max(2);
    format!(".{number:0width$}of{count:0width$}")
}

/// A name with a number in it that may count pieces.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pattern {
    before: Vec<u8>,
    behind: Vec<u8>,
}

/// Where the pieces stand that a name is one of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Row {
    /// What their names have in common.
    pub pattern: Pattern,
    /// Their names by number; of one number there may be several.
    pub names: BTreeMap<u32, Vec<OsString>>,
    /// How many there are in all, where the names say so.
    pub count: Option<u32>,
}

impl Pattern {
    /// Every number in a name, the last one first.
    fn all_of(name: &OsStr) -> Vec<(Self, u32)> {
        let bytes = bytes_of(name);
        let mut found = Vec::new();
        let mut end = bytes.len();
        while end > 0 {
            let start = bytes[..end].iter().rposition(|byte| !byte.is_ascii_digit()).map_or(0, |at| at + 1);
            if let Some(number) = number(&bytes[start..end]) {
                found.push((Self { before: bytes[..start].to_vec(), behind: bytes[end..].to_vec() }, number));
            }
            end = if start == end { end - 1 } else { start };
        }
        found
    }

    /// The number that a name of this pattern has.
    pub fn number_in(&self, name: &OsStr) -> Option<u32> {
        let bytes = bytes_of(name);
        let rest = bytes.strip_prefix(self.before.as_slice())?;
        number(rest.strip_suffix(self.behind.as_slice())?)
    }

    /// How many pieces there are, where what stands behind the number says so: `of06`.
    fn count(&self) -> Option<u32> {
        number(self.behind.strip_prefix(b"of")?)
    }

    /// What the whole file may have been called.
    pub fn whole_name(&self) -> Option<OsString> {
        let separators: &[u8] = b".-_ (";
        let mut stem = trimmed(&self.before, separators);
        for word in [&b"part"[..], b"piece"] {
            let (front, end) = stem.split_at(stem.len().saturating_sub(word.len()));
            if end.eq_ignore_ascii_case(word) && front.last().is_some_and(|byte| separators.contains(byte)) {
                stem = trimmed(front, separators);
            }
        }
        let extension = if self.behind.first() == Some(&b'.') { self.behind.as_slice() } else { b"" };
        (!stem.is_empty()).then(|| name_of(&[stem, extension].concat()))
    }
}

fn trimmed<'a>(bytes: &'a [u8], end: &[u8]) -> &'a [u8] {
    let length = bytes.iter().rposition(|byte| !end.contains(byte)).map_or(0, |at| at + 1);
    &bytes[..length]
}

fn number(digits: &[u8]) -> Option<u32> {
    let valid = !digits.is_empty() && digits.iter().all(u8::is_ascii_digit);
    // A larger one is a date, say, and counts nothing.
    std::str::from_utf8(digits).ok().filter(|_| valid)?.parse().ok().filter(|number| *number <= MAX_PIECES)
}

impl Row {
    /// The pieces among these names that `name` is one of: of its numbers the one that differs in most of the others, and
    /// of several such the last. `None` for a name without a number.
    pub fn of(name: &OsStr, among: &[OsString]) -> Option<Self> {
        let rows = Pattern::all_of(name).into_iter().map(|(pattern, own)| {
            let mut names: BTreeMap<u32, Vec<OsString>> = BTreeMap::from([(own, vec![name.to_owned()])]);
            for other in among.iter().filter(|other| *other != name) {
                if let Some(number) = pattern.number_in(other) {
                    names.entry(number).or_default().push(other.clone());
                }
            }
            let count = pattern.count();
            Self { pattern, names, count }
        });
        // Of equal ones, this keeps the first.
        rows.reduce(|best, row| if row.weight() > best.weight() { row } else { best })
    }

    /// Every row among these names whose numbers stand where pieces are counted: at the names' end, or before how many there are.
    pub fn all_at_the_end(among: &[OsString]) -> Vec<Self> {
        let mut left: BTreeSet<&OsString> = among.iter().collect();
        let mut rows = Vec::new();
        while let Some(name) = left.pop_first() {
            let Some(row) = Self::of(name, among) else { continue };
            if row.count.is_some() || (row.names.len() > 1 && row.is_at_the_end()) {
                left.retain(|name| row.pattern.number_in(name).is_none());
                rows.push(row);
            }
        }
        rows
    }

    /// Whether its numbers stand at the names' end, or before how many there are, and that at the end.
    pub fn is_at_the_end(&self) -> bool {
        self.pattern.behind.is_empty() || self.count.is_some()
    }

    /// A number that says of how many it is counts pieces even alone.
    fn weight(&self) -> (usize, bool) {
        (self.names.len(), self.count.is_some())
    }

    /// The number of the first piece: 0 where there is one of that number, else 1.
    pub fn first(&self) -> u32 {
        u32::from(!self.names.contains_key(&0))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// A name, what else is there, the numbers that are found, how many there should be, and the whole's name.
    #[rstest]
    #[case::ours("s.tif.02of03", &["s.tif.01of03", "s.tif.03of03", "s.tif"], &[1, 2, 3], Some(3), "s.tif")]
    #[case::ours_alone("s2.tif.02of03", &[], &[2], Some(3), "s2.tif")]
    #[case::number_as_extension("scan 2024.tif.001", &["scan 2024.tif.002", "scan 2023.tif.001"], &[1, 2], None, "scan 2024.tif")]
    #[case::from_zero("a.000", &["a.001", "a.txt"], &[0, 1], None, "a")]
    #[case::without_zeros("a.part9.bin", &["a.part10.bin", "a.part1.bin"], &[1, 9, 10], None, "a.bin")]
    #[case::in_brackets("scan (1)", &["scan (2)", "scan (11)"], &[1, 2, 11], None, "scan")]
    fn pieces_are_known_by_the_number_in_which_they_differ(
        #[case] name: &str,
        #[case] others: &[&str],
        #[case] numbers: &[u32],
        #[case] count: Option<u32>,
        #[case] whole: &str,
    ) {
        let others: Vec<OsString> = others.iter().map(OsString::from).collect();
        let row = Row::of(OsStr::new(name), &others).unwrap();
        assert_eq!(row.names.keys().copied().collect::<Vec<_>>(), numbers);
        assert_eq!((row.count, row.pattern.whole_name()), (count, Some(whole.into())));
    }

    #[rstest]
    #[case("letters.txt")]
    #[case("1234567890")]
    #[case::a_date("photo-20261127.jpg")]
    fn a_name_without_a_number_is_no_piece(#[case] name: &str) {
        assert_eq!(Row::of(OsStr::new(name), &[]), None);
    }
}
