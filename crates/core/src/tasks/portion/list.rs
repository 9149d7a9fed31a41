//! The text file beside plain pieces: what they are, how anybody joins them, and, for whoever checks, each one's length and
//! SHA-256. It is read again, and never trusted further than that.

use crate::disk::Sha256Sum;
use crate::disk::names::name_of;
use crate::ground::codes::hexadecimal;
use std::ffi::{OsStr, OsString};

/// What follows the file's name in the name of its list.
pub const SUFFIX: &str = ".pieces.txt";

/// No list is longer than this, in bytes.
pub const MAX_LIST_BYTES: u64 = 64 * 1024 * 1024;

/// A command for one line is not longer than this; with more pieces it says what to name instead.
const NAMED_ONE_BY_ONE: usize = 100;

/// What is known of a file or piece.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Line {
    /// Its name, one component.
    pub name: OsString,
    /// Its length in bytes.
    pub bytes: u64,
    /// Of its content.
    pub sum: Sha256Sum,
}

/// What is known of a file and its pieces.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PieceList {
    /// The whole file.
    pub whole: Line,
    /// Its pieces in order.
    pub pieces: Vec<Line>,
}

impl PieceList {
    /// The text.
    pub fn text(&self) -> String {
        let (whole, count) = (shown(&self.whole.name), self.pieces.len());
        let plain = if count == 1 { "1 plain piece".to_owned() } else { format!("{count} plain pieces") };
        let mut text = format!(
            "{whole} was cut into {plain}. Nothing is added to them or changed in them: one behind the other they are \
             the file again, {} bytes.\n\n\
             Put all of them into one folder, open a command line there, and type one of these.\n\n\
             With Under Seal, which checks every byte:\n    under-seal reunite {}\n\n\
             At a Unix shell:\n    {}\n\n\
             At a Windows command prompt:\n    {}\n\n\
             To check what came of it, compare its SHA-256 with the one below:\n    \
             sha256sum, shasum -a 256, or certutil -hashfile NAME SHA256\n\n\
             Kind, bytes, SHA-256 and name of each, for the checking:\n",
            self.whole.bytes,
            self.pieces.first().map(|piece| for_unix(&piece.name)).unwrap_or_default(),
            self.unix_command(),
            self.windows_command(),
        );
        text.push_str(&line("file", &self.whole));
        self.pieces.iter().for_each(|piece| text.push_str(&line("piece", piece)));
        text
    }

    fn unix_command(&self) -> String {
        let names: Vec<String> = self.pieces.iter().map(|piece| for_unix(&piece.name)).collect();
        let pieces = if names.len() > NAMED_ONE_BY_ONE { self.wildcard(for_unix, '?') } else { names.join(" ") };
        format!("cat {pieces} > {}", for_unix(&self.whole.name))
    }

    fn windows_command(&self) -> String {
        let quoted = |name: &OsStr| format!("\"{}\"", shown(name));
        let names: Vec<String> = self.pieces.iter().map(|piece| quoted(&piece.name)).collect();
        let pieces = if names.len() > NAMED_ONE_BY_ONE { self.wildcard(quoted, '?') } else { names.join(" + ") };
        format!("copy /b {pieces} {}", quoted(&self.whole.name))
    }

    /// All pieces in one: their numbers have one length, so the order of their names is theirs.
    fn wildcard(&self, quoted: impl Fn(&OsStr) -> String, any: char) -> String {
        let width = self.pieces.len().to_string().len().max(2);
        let any: String = std::iter::repeat_n(any, width).collect();
        format!("{}.{any}of{:0width$}", quoted(&self.whole.name), self.pieces.len())
    }

    /// Reads a text: of all its lines those that are for the checking. `None` where they make no sense together.
    pub fn read(text: &str) -> Option<Self> {
        let lines = |kind: &'static str| text.lines().filter_map(move |text| read_line(text, kind));
        let mut wholes = lines("file");
        let (whole, None) = (wholes.next()?, wholes.next()) else { return None };
        let pieces: Vec<Line> = lines("piece").collect();
        let bytes = pieces.iter().try_fold(0_u64, |bytes, piece| bytes.checked_add(piece.bytes))?;
        (bytes == whole.bytes && !pieces.is_empty()).then_some(Self { whole, pieces })
    }
}

fn line(kind: &str, line: &Line) -> String {
    let sum = hexadecimal(&line.sum);
    format!("{kind} {} {sum} {}\n", line.bytes, shown(&line.name))
}

fn read_line(text: &str, kind: &str) -> Option<Line> {
    let mut parts = text.strip_prefix(kind)?.strip_prefix(' ')?.splitn(3, ' ');
    let bytes = parts.next()?.parse().ok()?;
    let sum = data_encoding::HEXLOWER_PERMISSIVE.decode(parts.next()?.as_bytes()).ok()?.try_into().ok()?;
    let name = read_name(parts.next()?)?;
    Some(Line { name, bytes, sum })
}

/// A name on one line: backslashes, control characters and what is no UTF-8 as `\xHH`.
fn shown(name: &OsStr) -> String {
    let mut shown = String::new();
    let escape = |bytes: &[u8], to: &mut String| {
        bytes.iter().for_each(|byte| to.push_str(&format!("\\x{byte:02x}")));
    };
    for chunk in name.as_encoded_bytes().utf8_chunks() {
        for letter in chunk.valid().chars() {
            match letter {
                '\\' => shown.push_str("\\x5c"),
                letter if letter.is_control() => escape(letter.encode_utf8(&mut [0; 4]).as_bytes(), &mut shown),
                letter => shown.push(letter),
            }
        }
        escape(chunk.invalid(), &mut shown);
    }
    shown
}

/// The name that is shown so; `None` where it is no name of a file in a folder.
fn read_name(shown: &str) -> Option<OsString> {
    let mut name = Vec::new();
    let mut rest = shown;
    while let Some((front, behind)) = rest.split_once('\\') {
        name.extend_from_slice(front.as_bytes());
        let digits = behind.strip_prefix('x')?.get(..2)?;
        name.push(u8::from_str_radix(digits, 16).ok()?);
        rest = behind.get(3..)?;
    }
    name.extend_from_slice(rest.as_bytes());
    let one_component =
        !name.is_empty() && name != b"." && name != b".." && !name.contains(&b'/') && !name.contains(&0);
    one_component.then(|| name_of(&name))
}

/// A name as a shell takes it (POSIX.1-2024 XCU section 2.2.2), in quotes where it needs them.
fn for_unix(name: &OsStr) -> String {
    let name = shown(name);
    let plain = |letter: char| letter.is_alphanumeric() || "._-+@%=,".contains(letter);
    let name = if name.starts_with('-') { format!("./{name}") } else { name };
    if name.chars().all(|letter| plain(letter) || letter == '/') {
        name
    } else {
        format!("'{}'", name.replace('\'', "'\\''"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    proptest! {
        #[test]
        fn what_is_written_is_read_again(names in prop::collection::vec("[^/\0]{1,20}|[.]{3}|[\u{80}-\u{ff}\n\\\\]{1,5}", 2..5), bytes in 0_u64..1 << 40) {
            let line = |name: &String, bytes| Line { name: name.into(), bytes, sum: [bytes as u8; 32] };
            let pieces: Vec<Line> = names.iter().skip(1).map(|name| line(name, bytes)).collect();
            let whole = line(&names[0], bytes * pieces.len() as u64);
            let list = PieceList { whole, pieces };
            prop_assume!(names.iter().all(|name| name != "." && name != ".."));
            prop_assert_eq!(PieceList::read(&list.text()), Some(list));
        }
    }

    #[rstest]
    #[case::a_path("../costs.csv")]
    #[case::above("..")]
    #[case::half_an_escape("a\\x4")]
    fn a_name_that_leads_elsewhere_is_not_believed(#[case] name: &str) {
        let sum = "00".repeat(32);
        assert_eq!(PieceList::read(&format!("file 1 {sum} {name}\npiece 1 {sum} a.01of01\n")), None);
    }
}
