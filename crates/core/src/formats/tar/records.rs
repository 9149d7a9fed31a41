//! Extended records: `LENGTH KEY=VALUE` and a line break, the length counting all of it (POSIX.1-2024 `pax`, extended header).

use super::sparse::SparseRecords;
use crate::ground::attributes::{Attribute, is_valid};
use crate::ground::entry::Timestamp;

/// The key of an extended attribute's record begins so, and goes on with its name.
pub(super) const ATTRIBUTE_KEY: &[u8] = b"SCHILY.xattr.";

/// What records say of an entry, or, in a global header, of all that follow.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Records {
    pub path: Option<Vec<u8>>,
    pub link: Option<Vec<u8>>,
    pub size: Option<u64>,
    pub modified: Option<Timestamp>,
    /// Of a file with holes.
    pub sparse: Option<SparseRecords>,
    /// Extended attributes of a file.
    pub attributes: Vec<Attribute>,
}

impl Records {
    /// Reads all records; `None` where one of them is malformed.
    pub fn read(mut bytes: &[u8]) -> Option<Self> {
        let mut records = Self::default();
        while !bytes.is_empty() {
            let blank = bytes.iter().position(|byte| *byte == b' ')?;
            let length: usize = std::str::from_utf8(&bytes[..blank]).ok()?.parse().ok()?;
            let (record, rest) = bytes.split_at_checked(length)?;
            let record = record.get(blank + 1..)?.strip_suffix(b"\n")?;
            let equals = record.iter().position(|byte| *byte == b'=')?;
            records.take(&record[..equals], &record[equals + 1..])?;
            bytes = rest;
        }
        Some(records)
    }

    /// An empty value takes back what a global header said.
    fn take(&mut self, key: &[u8], value: &[u8]) -> Option<()> {
        let filled = (!value.is_empty()).then_some(value);
        match key {
            b"path" => self.path = filled.map(<[u8]>::to_vec),
            b"linkpath" => self.link = filled.map(<[u8]>::to_vec),
            b"size" => self.size = filled.map(|value| number(value).ok_or(())).transpose().ok()?,
            b"mtime" => self.modified = filled.map(|value| time(value).ok_or(())).transpose().ok()?,
            key => {
                if let Some(key) = key.strip_prefix(b"GNU.sparse.") {
                    self.sparse.get_or_insert_default().take(key, value)?;
                } else if let Some(name) = key.strip_prefix(ATTRIBUTE_KEY).filter(|name| is_valid(name, value)) {
                    self.attributes.push(Attribute { name: name.to_vec(), value: value.to_vec() });
                }
            }
        }
        Some(())
    }

    /// These, and where they say nothing, what a global header said.
    pub fn over(self, global: &Self) -> Self {
        Self {
            path: self.path.or_else(|| global.path.clone()),
            link: self.link.or_else(|| global.link.clone()),
            size: self.size.or(global.size),
            modified: self.modified.or(global.modified),
            // These are of one file.
            sparse: self.sparse,
            attributes: self.attributes,
        }
    }
}

fn number(value: &[u8]) -> Option<u64> {
    std::str::from_utf8(value).ok()?.parse().ok()
}

/// Seconds with a sign and a fraction, which is cut to nanoseconds, towards the past.
fn time(value: &[u8]) -> Option<Timestamp> {
    let text = std::str::from_utf8(value).ok()?;
    let (whole, fraction) = text.split_once('.').unwrap_or((text, ""));
    if !fraction.bytes().all(|byte| byte.is_ascii_digit()) {
        return None;
    }
    let seconds: i64 = whole.parse().ok()?;
    let digits: String = fraction.chars().chain(std::iter::repeat('0')).take(9).collect();
    let nanoseconds: u32 = digits.parse().ok()?;
    let below_zero = whole.starts_with('-');
    Some(match (below_zero, nanoseconds) {
        (true, 1..) => Timestamp { seconds: seconds.checked_sub(1)?, nanoseconds: 1_000_000_000 - nanoseconds },
        _ => Timestamp { seconds, nanoseconds },
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("30 mtime=1350244992.023960108\n", 1_350_244_992, 23_960_108)]
    #[case("14 mtime=-1.5\n", -2, 500_000_000)]
    #[case("12 mtime=-1\n", -1, 0)]
    #[case("22 mtime=0.1234567891\n", 0, 123_456_789)]
    fn times_have_fractions_and_signs(#[case] records: &str, #[case] seconds: i64, #[case] nanoseconds: u32) {
        let read = Records::read(records.as_bytes()).unwrap();
        assert_eq!(read.modified, Some(Timestamp { seconds, nanoseconds }));
    }

    /// Names whose records are as long as the step from one digit to the next.
    #[rstest]
    fn lengths_count_themselves(#[values(1, 2, 3, 88, 89, 90, 91, 987, 988, 989, 990)] length: usize) {
        let value = "n".repeat(length);
        let rest = format!(" path={value}\n");
        let digits = (1..5).find(|digits| (rest.len() + digits).to_string().len() == *digits).unwrap();
        let read = Records::read(format!("{}{rest}", rest.len() + digits).as_bytes()).unwrap();
        assert_eq!(read.path, Some(value.into_bytes()));
    }

    #[test]
    fn values_may_hold_line_breaks_and_signs() {
        let read = Records::read(b"14 path=a\nb=c\n12 size=8GB\n".get(..14).unwrap()).unwrap();
        assert_eq!(read.path, Some(b"a\nb=c".to_vec()));
    }

    #[rstest]
    #[case::too_long(b"99 path=a\n")]
    #[case::no_length(b"path=a\n")]
    #[case::no_number(b"12 size=8GB\n")]
    #[case::no_end(b"9 path=ab")]
    fn a_malformed_record_is_refused(#[case] records: &[u8]) {
        assert_eq!(Records::read(records), None);
    }
}
