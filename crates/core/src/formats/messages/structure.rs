//! The parts of messages: where the content of each one stands in a file, how it is encoded, and what it is called.
//!
//! Header fields are read by a library; what stands between boundaries is followed here, since it is followed without being kept.

use super::encoding::Encoding;
use super::lines::{Line, Lines};
use super::{MAX_DEPTH, MAX_HEADER_BYTES};
use mail_parser::{ContentType, MessageParser, MimeHeaders as _};
use std::io::{self, Read};
use std::ops::Range;

/// What a file is that messages may be in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// One message.
    Message,
    /// A mailbox: messages one behind the other, each after a line that begins with `From ` (RFC 4155).
    Mailbox,
}

/// A part that has no parts itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Leaf {
    /// The number of the message that it is in, from 1.
    pub message: u64,
    /// Where its content stands in the file, in bytes, encoded.
    pub place: Range<u64>,
    /// How that is encoded.
    pub encoding: Encoding,
    /// The name that the sender gave it.
    pub name: Option<String>,
    /// Whether it is text that a person reads.
    pub is_text: bool,
}

/// Why what is in a message was not looked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Flaw {
    /// It is nested deeper than [`MAX_DEPTH`].
    TooDeep,
    /// It ends before its last boundary.
    Cut,
    /// A part has an encoding that is unknown, or one that parts with parts may not have.
    UnknownEncoding,
    /// There are more attachments than [`super::MAX_ATTACHED`].
    TooMany,
}

/// A flaw, and where it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FlawedMessage {
    /// The number of the message, from 1.
    pub message: u64,
    /// What is wrong.
    pub flaw: Flaw,
}

/// What a file is by how it begins; `None` where no message is in it.
pub fn kind_of(beginning: &[u8]) -> Option<Kind> {
    let mut lines = beginning.split(|byte| *byte == b'\n');
    let first = lines.next()?;
    if is_separator(first) {
        return Some(Kind::Mailbox);
    }
    // Fields, of which one is of those that every message has, or that every part has.
    const USUAL: [&str; 7] = ["from", "date", "received", "return-path", "message-id", "mime-version", "content-type"];
    let mut is_usual = false;
    for line in std::iter::once(first).chain(lines) {
        let line = line.strip_suffix(b"\r").unwrap_or(line);
        match field_name(line) {
            Some(name) => is_usual |= USUAL.iter().any(|usual| usual.as_bytes().eq_ignore_ascii_case(name)),
            None if line.is_empty() => break,
            // A field that goes on, or one that the beginning breaks off.
            None if line.starts_with(b" ") || line.starts_with(b"\t") || is_usual => {}
            None => return None,
        }
    }
    is_usual.then_some(Kind::Message)
}

/// The name of the field that begins in a line (RFC 5322 section 2.2).
fn field_name(line: &[u8]) -> Option<&[u8]> {
    let colon = line.iter().position(|byte| *byte == b':')?;
    let name = line[..colon].trim_ascii_end();
    (!name.is_empty() && name.iter().all(u8::is_ascii_graphic)).then_some(name)
}

/// Whether a line stands before a message in a mailbox: `From `, who, and when, of which the time of day is asked for, so that a
/// sentence that begins with the word does not count.
fn is_separator(line: &[u8]) -> bool {
    let Some(rest) = line.strip_prefix(b"From ") else { return false };
    let is_time =
        |four: &[u8]| matches!(four, [a, b, b':', c, d] if [a, b, c, d].iter().all(|digit| digit.is_ascii_digit()));
    rest.windows(5).any(is_time)
}

/// Something that parts are in: the message, or a part with a boundary.
#[derive(Debug)]
struct Level {
    /// What its parts stand between; `None` for a message.
    boundary: Option<Vec<u8>>,
    /// Parts without a type of their own are messages (`multipart/digest`).
    is_digest: bool,
}

/// Where the reader stands.
#[derive(Debug)]
enum State {
    /// In the header of a message or part.
    Header,
    /// In what belongs to no part: before the first boundary, or behind the last one.
    Between,
    /// In the content of a part.
    Content(Leaf),
}

/// Follows the parts of all messages of a file.
struct Scanner<'a> {
    kind: Kind,
    message: u64,
    levels: Vec<Level>,
    state: State,
    header: Vec<u8>,
    was_blank: bool,
    /// How long the end of the line before is, in bytes.
    end_before: u64,
    /// Is given every leaf.
    leaf: &'a mut dyn FnMut(Leaf) -> io::Result<()>,
    flaws: Vec<FlawedMessage>,
}

/// Flaws of a file that are told one by one.
const MAX_FLAWS: usize = 100;

/// Reads a file of messages to its end, and hands on every part that has no parts itself, in order.
///
/// # Errors
/// From the system, or from `leaf`.
pub fn scan(
    from: impl Read,
    kind: Kind,
    leaf: &mut dyn FnMut(Leaf) -> io::Result<()>,
) -> io::Result<Vec<FlawedMessage>> {
    let mut lines = Lines::new(from);
    let mut scanner = Scanner {
        kind,
        message: u64::from(kind == Kind::Message),
        levels: if kind == Kind::Message { vec![MESSAGE] } else { Vec::new() },
        state: if kind == Kind::Message { State::Header } else { State::Between },
        header: Vec::new(),
        was_blank: true,
        end_before: 0,
        leaf,
        flaws: Vec::new(),
    };
    let mut end = 0;
    while let Some(line) = lines.next()? {
        end = line.at + line.bytes;
        scanner.take(line)?;
    }
    scanner.end_message(end)?;
    Ok(scanner.flaws)
}

const MESSAGE: Level = Level { boundary: None, is_digest: false };

impl Scanner<'_> {
    fn take(&mut self, line: Line<'_>) -> io::Result<()> {
        let is_blank = line.head.is_empty();
        if self.kind == Kind::Mailbox && self.was_blank && line.head.starts_with(b"From ") && is_separator(line.head) {
            self.end_message(line.at)?;
            self.message += 1;
            self.levels = vec![MESSAGE];
            self.state = State::Header;
        } else if line.head.starts_with(b"--")
            && let Some((depth, is_last)) = self.boundary_of(line.head)
        {
            // The end of the line before belongs to the boundary (RFC 2046 section 5.1.1).
            self.end_part(line.at - self.end_before)?;
            // An outer boundary ends whatever is in it (RFC 2046 section 5.1.2).
            self.levels.truncate(depth + 1);
            if is_last {
                self.levels.pop();
                self.state = State::Between;
            } else {
                self.state = State::Header;
            }
        } else if matches!(self.state, State::Header) {
            self.take_header_line(line);
        }
        self.was_blank = is_blank;
        self.end_before = line.end_bytes;
        Ok(())
    }

    /// The level whose boundary this line is, innermost first, and whether it is the last one.
    fn boundary_of(&self, line: &[u8]) -> Option<(usize, bool)> {
        let line = line.strip_prefix(b"--")?.trim_ascii_end();
        let held = self.levels.iter().enumerate().rev();
        held.filter_map(|(depth, level)| Some((depth, level.boundary.as_deref()?))).find_map(|(depth, boundary)| {
            match line.strip_prefix(boundary)? {
                b"" => Some((depth, false)),
                b"--" => Some((depth, true)),
                _ => None,
            }
        })
    }

    /// Of a header that is too long, what goes beyond the limit is passed over.
    fn take_header_line(&mut self, line: Line<'_>) {
        if line.head.is_empty() {
            let header = std::mem::take(&mut self.header);
            self.begin_content(&header, line.at + line.bytes);
        } else if self.header.len() + line.head.len() <= MAX_HEADER_BYTES {
            self.header.extend_from_slice(line.head);
            self.header.push(b'\n');
        }
    }

    /// What follows a header that ends here.
    fn begin_content(&mut self, header: &[u8], at: u64) {
        let fields = [header, b"\n"].concat();
        let parsed = MessageParser::new().with_mime_headers().parse_headers(&fields);
        let content_type = parsed.as_ref().and_then(|fields| fields.content_type());
        let named = parsed.as_ref().and_then(|fields| fields.content_transfer_encoding());
        let encoding = named.map_or(Some(Encoding::Identity), Encoding::named);
        let is_digest = self.levels.last().is_some_and(|level| level.is_digest);
        let (is_message, boundary) = match content_type {
            None => (is_digest, None),
            Some(kind) => (is_kind(kind, "message", &["rfc822", "global"]), boundary_in(kind)),
        };
        let inner = boundary.map(|boundary| Level {
            boundary: Some(boundary),
            is_digest: content_type.is_some_and(|kind| is_kind(kind, "multipart", &["digest"])),
        });
        if let Some(level) = inner.or(is_message.then_some(MESSAGE)) {
            if encoding != Some(Encoding::Identity) {
                self.flaw(Flaw::UnknownEncoding);
            } else if self.levels.len() > MAX_DEPTH {
                self.flaw(Flaw::TooDeep);
            } else {
                self.state = if level.boundary.is_some() { State::Between } else { State::Header };
                self.levels.push(level);
                return;
            }
        }
        if encoding.is_none() {
            self.flaw(Flaw::UnknownEncoding);
        }
        self.state = State::Content(Leaf {
            message: self.message,
            place: at..at,
            encoding: encoding.unwrap_or(Encoding::Identity),
            name: parsed.as_ref().and_then(|fields| fields.attachment_name()).map(ToOwned::to_owned),
            is_text: content_type.is_none_or(|kind| kind.ctype().eq_ignore_ascii_case("text")),
        });
    }

    /// Ends the part that is read, at this place.
    fn end_part(&mut self, at: u64) -> io::Result<()> {
        self.header.clear();
        match std::mem::replace(&mut self.state, State::Between) {
            // A part in which there is nothing ends before its content begins.
            State::Content(leaf) => (self.leaf)(Leaf { place: leaf.place.start..at.max(leaf.place.start), ..leaf }),
            State::Header | State::Between => Ok(()),
        }
    }

    fn end_message(&mut self, at: u64) -> io::Result<()> {
        if self.levels.iter().any(|level| level.boundary.is_some()) {
            self.flaw(Flaw::Cut);
        }
        self.end_part(at)
    }

    fn flaw(&mut self, flaw: Flaw) {
        let flawed = FlawedMessage { message: self.message, flaw };
        if self.flaws.len() < MAX_FLAWS && self.flaws.last() != Some(&flawed) {
            self.flaws.push(flawed);
        }
    }
}

fn is_kind(kind: &ContentType<'_>, of: &str, subtypes: &[&str]) -> bool {
    let is_sub = |own: &str| subtypes.iter().any(|sub| sub.eq_ignore_ascii_case(own));
    kind.ctype().eq_ignore_ascii_case(of) && kind.subtype().is_some_and(is_sub)
}

/// What the parts of this one stand between.
fn boundary_in(kind: &ContentType<'_>) -> Option<Vec<u8>> {
    let is_multipart = kind.ctype().eq_ignore_ascii_case("multipart");
    let boundary = kind.attribute("boundary").filter(|boundary| is_multipart && !boundary.trim().is_empty())?;
    Some(boundary.trim_end().as_bytes().to_vec())
}
