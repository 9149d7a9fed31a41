//! Extended attributes: named notes that a file system keeps beside a file's content, and access lists (ACLs), which are kept as such.
//!
//! Whoever made an archive may be hostile, so only what users may set themselves is set where it is opened. Access lists name users of
//! another computer by numbers that are other people here: they are kept, told, and never set.

/// The longest name, in bytes (Linux's `XATTR_NAME_MAX`).
pub const MAX_NAME_BYTES: usize = 255;

/// The longest value, in bytes (Linux's `XATTR_SIZE_MAX`).
pub const MAX_VALUE_BYTES: usize = 64 * 1024;

/// All names and values of one file together, in bytes.
pub const MAX_ATTRIBUTES_BYTES: usize = 512 * 1024;

/// What users may set themselves begins so.
const OF_USERS: &[u8] = b"user.";

/// What programs note by these, of where a file came from, is not for a sender to say (freedesktop.org's "Common Extended Attributes").
const ORIGINS: [&[u8]; 2] = [b"user.xdg.origin.url", b"user.xdg.referrer.url"];

/// Access lists, and those that what is made in a folder gets (POSIX 1003.1e draft 17, as Linux names them).
const ACCESS_LISTS: [&[u8]; 2] = [b"system.posix_acl_access", b"system.posix_acl_default"];

/// One of them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Attribute {
    /// Its name, with the namespace in front: not empty, without NUL, at most [`MAX_NAME_BYTES`].
    pub name: Vec<u8>,
    /// Its value, at most [`MAX_VALUE_BYTES`].
    pub value: Vec<u8>,
}

impl Attribute {
    /// Its bytes.
    pub fn bytes(&self) -> usize {
        self.name.len() + self.value.len()
    }
}

/// Whether a name and a value can be an attribute's.
pub fn is_valid(name: &[u8], value: &[u8]) -> bool {
    let name_fits = !name.is_empty() && name.len() <= MAX_NAME_BYTES && !name.contains(&0);
    name_fits && value.len() <= MAX_VALUE_BYTES
}

/// Whether one of this name goes into an archive.
pub fn is_packed(name: &[u8]) -> bool {
    name.starts_with(OF_USERS) || ACCESS_LISTS.contains(&name)
}

/// Whether one of this name is set where an archive is opened.
pub fn is_set(name: &[u8]) -> bool {
    name.starts_with(OF_USERS) && !ORIGINS.contains(&name)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(b"user.comment", true, true)]
    #[case(b"user.xdg.origin.url", true, false)]
    #[case(b"system.posix_acl_access", true, false)]
    #[case(b"security.capability", false, false)]
    #[case(b"security.selinux", false, false)]
    #[case(b"trusted.overlay.opaque", false, false)]
    #[case(b"system.user.comment", false, false)]
    #[case(b"com.apple.quarantine", false, false)]
    fn only_what_users_may_set_is_set(#[case] name: &[u8], #[case] packed: bool, #[case] set: bool) {
        assert_eq!((is_packed(name), is_set(name)), (packed, set));
    }
}
