//! The encodings in which mail carries bytes (RFC 2045 section 6), decoded from any place on that was marked before.
//!
//! What is damaged stays in its place: a letter that belongs to no encoding counts for the one that should stand there, so that
//! whatever follows is still where it was. Volumes then lose the cell, not everything behind it.

use data_encoding::{BASE64, HEXLOWER_PERMISSIVE};

/// How a part's bytes are carried.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Encoding {
    /// As they are (7bit, 8bit, binary).
    Identity,
    /// RFC 2045 section 6.8.
    Base64,
    /// RFC 2045 section 6.7.
    QuotedPrintable,
}

/// So many blanks may stand at a line's end; a line has 76 letters at most (RFC 2045 section 6.7, rule 5).
const MAX_HELD_BYTES: usize = 1024;

impl Encoding {
    /// The one of this name (RFC 2045 section 6.1); `None` for any that nobody has registered.
    pub fn named(name: &str) -> Option<Self> {
        const NAMES: [(&str, Encoding); 5] = [
            ("base64", Encoding::Base64),
            ("quoted-printable", Encoding::QuotedPrintable),
            ("7bit", Encoding::Identity),
            ("8bit", Encoding::Identity),
            ("binary", Encoding::Identity),
        ];
        NAMES.iter().find(|(own, _)| own.eq_ignore_ascii_case(name.trim())).map(|(_, encoding)| *encoding)
    }
}

/// Decodes what is pushed into it, piece by piece.
#[derive(Debug)]
pub struct Decoder {
    encoding: Encoding,
    /// What is not decoded yet: digits of a group, or the beginning of an escape, or blanks at what may be a line's end.
    held: Vec<u8>,
    has_ended: bool,
}

impl Decoder {
    /// One that stands at the beginning, or at a mark.
    pub fn new(encoding: Encoding) -> Self {
        Self { encoding, held: Vec::new(), has_ended: false }
    }

    /// Whether nothing of what was pushed is held back, so that another decoder can begin here.
    pub fn can_begin_here(&self) -> bool {
        self.held.is_empty() && !self.has_ended
    }

    /// Decodes further bytes, behind what is in `decoded` already.
    pub fn push(&mut self, encoded: &[u8], decoded: &mut Vec<u8>) {
        match self.encoding {
            Encoding::Identity => decoded.extend_from_slice(encoded),
            Encoding::Base64 => self.push_base64(encoded, decoded),
            Encoding::QuotedPrintable => encoded.iter().for_each(|byte| self.push_quoted(*byte, decoded)),
        }
    }

    /// Nothing follows: what is held back is all there is.
    pub fn finish(&mut self, decoded: &mut Vec<u8>) {
        match self.encoding {
            Encoding::Identity => {}
            Encoding::Base64 => self.end_base64(decoded),
            Encoding::QuotedPrintable => {
                // Blanks at the end were added on the way; an escape that ends early is what it is.
                let kept = self.held.iter().position(|byte| *byte == b'=').map_or(0, |_| self.held.len());
                decoded.extend(self.held.drain(..).take(kept));
            }
        }
        self.has_ended = true;
    }

    /// Goes past further bytes as [`Decoder::push`] does, and only counts what they come to.
    pub fn pass(&mut self, encoded: &[u8]) -> u64 {
        match self.encoding {
            Encoding::Identity => encoded.len() as u64,
            Encoding::Base64 => {
                let mut digits = self.held.len();
                for line in lines(encoded).take_while(|_| !self.has_ended) {
                    if is_plain(line) {
                        digits += line.len();
                        continue;
                    }
                    for byte in line {
                        match byte {
                            b'\r' | b' ' | b'\t' => {}
                            b'=' => {
                                self.held.clear();
                                self.has_ended = true;
                                return (digits * 3 / 4) as u64;
                            }
                            _ => digits += 1,
                        }
                    }
                }
                self.held.clear();
                self.held.resize(digits % 4, b'A');
                (digits / 4 * 3) as u64
            }
            Encoding::QuotedPrintable => {
                let mut decoded = Vec::with_capacity(encoded.len());
                self.push(encoded, &mut decoded);
                decoded.len() as u64
            }
        }
    }

    fn push_base64(&mut self, encoded: &[u8], decoded: &mut Vec<u8>) {
        for line in lines(encoded) {
            if self.has_ended {
                return;
            }
            // Most lines are whole groups, and need no second look.
            let is_whole = self.held.is_empty() && line.len().is_multiple_of(4) && is_plain(line);
            if is_whole && decode_groups(line, decoded) {
                continue;
            }
            for &byte in line {
                match byte {
                    b'\r' | b' ' | b'\t' => {}
                    b'=' => {
                        self.end_base64(decoded);
                        self.has_ended = true;
                        return;
                    }
                    b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'+' | b'/' => self.held.push(byte),
                    // Something else stood here.
                    _ => self.held.push(b'A'),
                }
            }
            let whole = self.held.len() / 4 * 4;
            if decode_groups(&self.held[..whole], decoded) {
                self.held.drain(..whole);
            }
        }
    }

    /// The last group may be shorter (RFC 4648 section 4); what its unused bits say counts for nothing.
    fn end_base64(&mut self, decoded: &mut Vec<u8>) {
        let whole = self.held.len() / 4 * 4;
        let missing = (4 - (self.held.len() - whole)) % 4;
        self.held.extend(std::iter::repeat_n(b'A', missing));
        if let Ok(bytes) = BASE64.decode(&self.held) {
            decoded.extend_from_slice(&bytes[..bytes.len() - missing.min(3)]);
        }
        self.held.clear();
    }

    fn push_quoted(&mut self, byte: u8, decoded: &mut Vec<u8>) {
        if self.held.len() > MAX_HELD_BYTES {
            decoded.append(&mut self.held);
        }
        self.held.push(byte);
        match self.held.as_slice() {
            // An escape, or a line's end that does not count: `=`, blanks that were added on the way, and the end.
            [b'='] | [b'=', .., b' ' | b'\t' | b'\r'] => {}
            [b'=', .., b'\n'] => self.held.clear(),
            [b'=', high] if high.is_ascii_hexdigit() => {}
            &[b'=', high, low] if high.is_ascii_hexdigit() && low.is_ascii_hexdigit() => {
                let mut byte = [0];
                // Two digits are always a byte.
                if HEXLOWER_PERMISSIVE.decode_mut(&[high, low], &mut byte).is_ok() {
                    decoded.push(byte[0]);
                }
                self.held.clear();
            }
            // Blanks at a line's end were added on the way (section 6.7, rule 3).
            [.., b' ' | b'\t' | b'\r'] if self.held[0] != b'=' => {}
            [blanks @ .., b'\n'] if blanks.iter().all(|byte| matches!(byte, b' ' | b'\t' | b'\r')) => {
                if blanks.ends_with(b"\r") {
                    decoded.push(b'\r');
                }
                decoded.push(b'\n');
                self.held.clear();
            }
            // Any other letter: what was held is what it is. It may begin an escape itself.
            _ => {
                let last = self.held.pop();
                decoded.append(&mut self.held);
                match last {
                    Some(b'=') => self.held.push(b'='),
                    Some(other) => decoded.push(other),
                    None => {}
                }
            }
        }
    }
}

/// Lines without their ends.
fn lines(encoded: &[u8]) -> impl Iterator<Item = &[u8]> {
    let mut left = encoded;
    std::iter::from_fn(move || {
        let (line, behind) = match memchr::memchr(b'\n', left) {
            Some(end) => (&left[..end], &left[end + 1..]),
            None if left.is_empty() => return None,
            None => (left, &left[left.len()..]),
        };
        left = behind;
        Some(line.strip_suffix(b"\r").unwrap_or(line))
    })
}

/// Whether a line of base 64 has digits only, or what counts as one.
fn is_plain(line: &[u8]) -> bool {
    memchr::memchr3(b' ', b'\t', b'=', line).is_none() && memchr::memchr(b'\r', line).is_none()
}

/// Decodes whole groups, behind what is in `decoded`; nothing where a letter is no digit.
fn decode_groups(groups: &[u8], decoded: &mut Vec<u8>) -> bool {
    let at = decoded.len();
    decoded.resize(at + groups.len() / 4 * 3, 0);
    let is_right = BASE64.decode_mut(groups, &mut decoded[at..]).is_ok();
    if !is_right {
        decoded.truncate(at);
    }
    is_right
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn decoded(encoding: Encoding, encoded: &[u8], piece: usize) -> Vec<u8> {
        let (mut decoder, mut decoded) = (Decoder::new(encoding), Vec::new());
        encoded.chunks(piece).for_each(|piece| decoder.push(piece, &mut decoded));
        decoder.finish(&mut decoded);
        decoded
    }

    #[rstest]
    #[case::lines(Encoding::Base64, b"VGhl\r\nIGxh\nbXA=", b"The lamp")]
    #[case::no_padding(Encoding::Base64, b"VGhlIGxhbXA", b"The lamp")]
    #[case::behind_the_end(Encoding::Base64, b"VGhlIGxhbXA=\r\n-- \r\nA list", b"The lamp")]
    #[case::a_damaged_letter(Encoding::Base64, b"VGhl!Gxhb!A=", b"The\x00lal\x00")]
    #[case::escapes(Encoding::QuotedPrintable, b"=F5USL=0d=0A=3D", b"\xf5USL\r\n=")]
    #[case::soft_ends(Encoding::QuotedPrintable, b"The =\r\nlamp= \t\r\n is=\n lit", b"The lamp is lit")]
    #[case::blanks_at_ends(Encoding::QuotedPrintable, b"The \t\r\nlamp \n a b ", b"The\r\nlamp\n a b")]
    #[case::lone_returns(Encoding::QuotedPrintable, b"a\rb\r\r\n", b"a\rb\r\n")]
    #[case::no_escapes(Encoding::QuotedPrintable, b"=G0=4=41=", b"=G0=4A=")]
    #[case::as_it_is(Encoding::Identity, b"=41\r\n", b"=41\r\n")]
    fn what_was_attached_comes_back(
        #[case] encoding: Encoding,
        #[case] encoded: &[u8],
        #[case] expected: &[u8],
        #[values(1, 2, 3, 1000)] piece: usize,
    ) {
        assert_eq!(decoded(encoding, encoded, piece).escape_ascii().to_string(), expected.escape_ascii().to_string());
    }

    proptest! {
        #[test]
        fn base64_in_any_lines_comes_back(bytes: Vec<u8>, width in 1..90_usize, piece in 1..100_usize) {
            let text: Vec<u8> = BASE64.encode(&bytes).into_bytes().chunks(width).collect::<Vec<_>>().join(&b"\r\n"[..]);
            let mut counting = Decoder::new(Encoding::Base64);
            let passed: u64 = text.chunks(piece).map(|piece| counting.pass(piece)).sum();
            let mut last = Vec::new();
            counting.finish(&mut last);
            prop_assert_eq!(passed + last.len() as u64, bytes.len() as u64);
            prop_assert_eq!(decoded(Encoding::Base64, &text, piece), bytes);
        }
    }
}
