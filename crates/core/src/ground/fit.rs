//! The fit: the rule that decides how many bytes a volume may have.
//!
//! A fit is a size, or a place with rules of its own: a message encodes what it carries, a disc keeps a file system, a
//! form wraps what is uploaded. Packing asks a fit for one number and knows nothing of where it came from.

use crate::ground::size::{Size, SizeError};
use std::str::FromStr;

/// How large a volume may be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fit {
    /// One volume, as large as it comes.
    OneVolume,
    /// At most this many bytes a volume, headers and all.
    AtMost(Size),
    /// The only attachment of a message that has at most this many bytes on its way, encoding and headers counted.
    Message(Size),
    /// The only file of an upload form that takes requests of at most this many bytes.
    Form(Size),
    /// A disc of so many sectors, filled with one volume.
    Disc {
        /// Sectors of [`SECTOR_BYTES`] each.
        sectors: u64,
    },
    /// The largest file of a FAT file system: its length is a 32-bit number.
    FatFile,
}

/// Bytes of a disc's sector that hold data (ECMA-130 section 14, mode 1; ECMA-267 and ECMA-349 the same).
pub const SECTOR_BYTES: u64 = 2_048;

/// Bytes of a disc that are left to its file system, and to the gap before the data.
pub const DISC_OVERHEAD_BYTES: u64 = 4 * 1024 * 1024;

/// Bytes of a message that are left to everything but the encoded attachment: its header and that of each part, a
/// covering note, and the trace fields that every server on the way adds (RFC 5321 section 4.4).
pub const MESSAGE_OVERHEAD_BYTES: u64 = 16 * 1024;

/// Bytes of an upload that are left to what a form wraps around a file (RFC 7578 section 4).
pub const FORM_OVERHEAD_BYTES: u64 = 4 * 1024;

/// The longest line of base64 in a message, without its line break (RFC 2045 section 6.8).
const BASE64_LINE_BYTES: u64 = 76;

/// Bytes that such a line carries: 3 for every 4 letters.
const BYTES_IN_LINE: u64 = BASE64_LINE_BYTES / 4 * 3;

/// A message's line break is CR LF (RFC 5322 section 2.3).
const LINE_BREAK_BYTES: u64 = 2;

/// Bytes of a megabyte (ISO/IEC 80000-13).
const MB: u64 = 1_000_000;

/// Limits of mailboxes that are in use; what is larger is not sent by mail.
const LARGEST_MAILBOX_MB: u64 = 50;

/// The fits that have a name, smallest first.
pub const NAMED: [(&str, Fit); 7] = [
    ("mail-10", Fit::Message(Size::of(10 * MB))),
    ("mail-25", Fit::Message(Size::of(25 * MB))),
    ("form-100", Fit::Form(Size::of(100 * MB))),
    // 80 minutes of 75 sectors a second (ECMA-130).
    ("disc-700", Fit::Disc { sectors: 80 * 60 * 75 }),
    ("stick", Fit::FatFile),
    // The smaller of the two kinds of recordable discs of this size (ECMA-349).
    ("disc-4700", Fit::Disc { sectors: 2_295_104 }),
    // 25.0 GB less the spare areas that a disc is usually formatted with.
    ("disc-25000", Fit::Disc { sectors: 11_826_176 }),
];

/// Why a text is no fit.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum FitError {
    /// It begins like a size, and is none.
    #[error(transparent)]
    Size(#[from] SizeError),
    /// It begins like a name, and nothing is called so.
    #[error("no fit is called {0}")]
    UnknownName(String),
}

impl Fit {
    /// The most bytes that a volume file may have, or `None` where there is no limit.
    pub const fn volume_limit(self) -> Option<u64> {
        match self {
            Self::OneVolume => None,
            Self::AtMost(size) => Some(size.bytes()),
            Self::Message(size) => Some(attachment_within(size.bytes())),
            Self::Form(size) => Some(size.bytes().saturating_sub(FORM_OVERHEAD_BYTES)),
            Self::Disc { sectors } => Some(sectors.saturating_mul(SECTOR_BYTES).saturating_sub(DISC_OVERHEAD_BYTES)),
            Self::FatFile => Some(u32::MAX as u64),
        }
    }

    /// The fit of this name: one of [`NAMED`], or `mail-N` and `form-N` for a limit of so many MB.
    pub fn named(name: &str) -> Option<Self> {
        let known = NAMED.iter().find(|(known, _)| *known == name).map(|(_, fit)| *fit);
        known.or_else(|| {
            let (place, limit) = name.split_once('-')?;
            let digits = limit.bytes().all(|byte| byte.is_ascii_digit()) && !limit.starts_with('0');
            let megabytes: u64 = limit.parse().ok().filter(|_| digits)?;
            let limit = Size::of(megabytes.checked_mul(MB)?);
            match place {
                "mail" => Some(Self::Message(limit)),
                "form" => Some(Self::Form(limit)),
                _ => None,
            }
        })
    }

    /// Its name, where it has one: the inverse of [`Self::named`].
    pub fn name(self) -> Option<String> {
        let megabytes = |limit: Size| {
            let bytes = limit.bytes();
            (bytes > 0 && bytes.is_multiple_of(MB)).then_some(bytes / MB)
        };
        match self {
            Self::Message(limit) => megabytes(limit).map(|limit| format!("mail-{limit}")),
            Self::Form(limit) => megabytes(limit).map(|limit| format!("form-{limit}")),
            other => NAMED.iter().find(|(_, fit)| *fit == other).map(|(name, _)| (*name).to_owned()),
        }
    }

    /// The fit that was meant where a size was named that mailboxes have as their limit: its name, and what its volumes may have. Encoded
    /// as an attachment, a volume of the size itself is a third too large.
    pub fn of_the_mailbox(self) -> Option<(String, Self)> {
        match self {
            Self::AtMost(size) if size.bytes() % MB == 0 && (1..=LARGEST_MAILBOX_MB).contains(&(size.bytes() / MB)) => {
                Some((format!("mail-{}", size.bytes() / MB), Self::Message(size)))
            }
            _ => None,
        }
    }
}

impl FromStr for Fit {
    type Err = FitError;

    /// Reads a name as [`Self::named`] does, whatever its case, or a size as [`Size`] does.
    fn from_str(text: &str) -> Result<Self, FitError> {
        let text = text.trim();
        match Self::named(&text.to_ascii_lowercase()) {
            Some(fit) => Ok(fit),
            None if text.starts_with(char::is_alphabetic) => Err(FitError::UnknownName(text.to_owned())),
            None => Ok(Self::AtMost(text.parse()?)),
        }
    }
}

/// Bytes of a message on its way that carries an attachment of so many bytes: base64 in full lines (RFC 2045 section
/// 6.8), and [`MESSAGE_OVERHEAD_BYTES`] for everything else.
pub const fn message_bytes(attachment: u64) -> u64 {
    let letters = attachment.div_ceil(3).saturating_mul(4);
    let breaks = letters.div_ceil(BASE64_LINE_BYTES).saturating_mul(LINE_BREAK_BYTES);
    letters.saturating_add(breaks).saturating_add(MESSAGE_OVERHEAD_BYTES)
}

/// The largest attachment with which a message stays within a limit: the inverse of [`message_bytes`].
const fn attachment_within(message: u64) -> u64 {
    let room = message.saturating_sub(MESSAGE_OVERHEAD_BYTES);
    let line = BASE64_LINE_BYTES + LINE_BREAK_BYTES;
    let (full, rest) = (room / line, room % line);
    full * BYTES_IN_LINE + rest.saturating_sub(LINE_BREAK_BYTES) / 4 * 3
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("mail-10", 7_295_718)]
    #[case("mail-25", 18_257_256)]
    #[case("form-100", 99_995_904)]
    #[case("disc-700", 733_085_696)]
    #[case("stick", 4_294_967_295)]
    #[case("disc-4700", 4_696_178_688)]
    #[case("disc-25000", 24_215_814_144)]
    #[case("300KB", 300_000)]
    #[case("mail-7", 5_103_411)]
    #[case("MAIL-10", 7_295_718)]
    #[case("form-8", 7_995_904)]
    fn every_name_stands_for_exact_bytes(#[case] text: &str, #[case] limit: u64) {
        let fit: Fit = text.parse().unwrap();
        assert_eq!(fit.volume_limit(), Some(limit));
        assert_eq!(fit.name(), Fit::named(&text.to_ascii_lowercase()).map(|_| text.to_ascii_lowercase()));
    }

    #[rstest]
    #[case("mail-0", FitError::UnknownName("mail-0".into()))]
    #[case("mail-ten", FitError::UnknownName("mail-ten".into()))]
    #[case("mail-99999999999999", FitError::UnknownName("mail-99999999999999".into()))]
    #[case("disc-5", FitError::UnknownName("disc-5".into()))]
    #[case("", FitError::Size(SizeError::NoNumber))]
    #[case("5 parsecs", FitError::Size(SizeError::UnknownUnit("parsecs".into())))]
    fn what_is_no_fit_is_refused(#[case] text: &str, #[case] expected: FitError) {
        assert_eq!(text.parse::<Fit>(), Err(expected));
    }

    #[rstest]
    #[case("10MB", Some("mail-10"))]
    #[case("10MiB", None)]
    #[case("260KB", None)]
    #[case("700MB", None)]
    #[case("mail-10", None)]
    fn a_size_that_mailboxes_have_leads_to_their_fit(#[case] text: &str, #[case] name: Option<&str>) {
        let meant = text.parse::<Fit>().unwrap().of_the_mailbox();
        assert_eq!(meant.as_ref().map(|(name, _)| name.as_str()), name);
        if let Some((name, fit)) = meant {
            assert_eq!(name.parse(), Ok(fit));
        }
    }

    proptest! {
        #[test]
        fn the_largest_attachment_fits_a_message_and_three_bytes_more_do_not(limit in 20_000_u64..200_000_000) {
            let attachment = attachment_within(limit);
            prop_assert!(message_bytes(attachment) <= limit);
            prop_assert!(message_bytes(attachment + 3) > limit);
        }
    }
}
