//! What a format can do, and what somebody may wish of it.

use crate::ground::entry::Timestamp;
use crate::ground::passwords::Guessing;

/// How finely a format keeps times.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TimesKept {
    /// To the nanosecond.
    Nanoseconds,
    /// To the second; what is below counts for nothing.
    Seconds,
    /// Not at all, nor modes.
    Neither,
}

impl TimesKept {
    /// Whether two times differ, as far as the format can tell.
    pub fn differ(self, one: Timestamp, other: Timestamp) -> bool {
        match self {
            Self::Nanoseconds => one != other,
            Self::Seconds => one.seconds != other.seconds,
            Self::Neither => false,
        }
    }
}

/// What protects the bytes of an archive, and so what a check of all of them proves.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Checks {
    /// Every byte is authenticated, and every content has a digest.
    Authentic,
    /// Every content has a checksum, and headers stand twice.
    Checksums,
    /// Headers have sums; contents have what they may be compressed with.
    HeaderSums,
    /// Nothing has a sum: only that everything lies where it should can be seen.
    Places,
    /// Nothing but what it is compressed with.
    Compression,
}

/// Whether a format can hide names, sizes and dates too.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Hiding {
    /// It cannot.
    Never,
    /// Where that is wished, with the password.
    OnRequest,
    /// It always does.
    Always,
}

/// What a format can do.
#[derive(Debug, Clone, Copy)]
pub struct Abilities {
    /// A password can keep it; what a guess at that costs.
    pub password: Option<Guessing>,
    /// A key file can go with the password, several passwords can open it, and several archives can be made that are a volume each.
    pub keyholes: bool,
    /// Whether names, sizes and dates can be hidden.
    pub hides_names: Hiding,
    /// It is made of volumes that tell by themselves what they are; otherwise its files are known by their names.
    pub volumes: bool,
    /// It can be cut to a size.
    pub parts: bool,
    /// The longest message to whoever opens it, in bytes.
    pub message_bytes: Option<usize>,
    /// It keeps a digest of every content.
    pub digests: bool,
    /// How finely times are kept.
    pub times: TimesKept,
    /// Names must be text (UTF-8).
    pub text_names: bool,
    /// Of a file with several names the content is kept once, and they stay names of one file.
    pub hard_links: bool,
    /// Holes of files are not stored, and are holes again.
    pub holes: bool,
    /// Extended attributes of files can be kept.
    pub attributes: bool,
    /// Each content can be read by itself, without what stands before it.
    pub direct: bool,
    /// What protects its bytes.
    pub checks: Checks,
}

/// What somebody may wish of an archive, and not every format can.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ability {
    /// Several archives that are a volume each, and each open alone.
    Parcels,
    /// A key file beside the password.
    KeyFile,
    /// Several passwords, each of which opens it.
    SeveralPasswords,
    /// A password.
    Password,
    /// Volumes of a size, or parts.
    Volumes,
    /// A message to whoever opens it.
    Message,
    /// Names, sizes and dates that are hidden too.
    HiddenNames,
    /// Only what has changed since another archive was made.
    Changes,
    /// Extended attributes of files.
    Attributes,
    /// Contents of which it is not known beforehand how long they are.
    Streams,
    /// Spare volumes, out of which others are recreated.
    Spares,
}
