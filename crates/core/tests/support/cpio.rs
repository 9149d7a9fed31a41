//! Cpio archives made number by number, in each form, for readers to be tried on.

/// How it is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    Portable,
    New,
    NewWithSums,
}

/// An entry, with what a header says of it.
#[derive(Debug, Clone, Copy)]
pub struct Entry<'a> {
    pub name: &'a str,
    pub mode: u32,
    pub content: &'a [u8],
    pub links: u32,
    pub number: u32,
}

/// An entry that has one name.
pub fn entry<'a>(name: &'a str, mode: u32, content: &'a [u8]) -> Entry<'a> {
    Entry { name, mode, content, links: 1, number: 0 }
}

pub const MODIFIED: u32 = 1_700_000_000;

impl Form {
    /// The entry's bytes.
    pub fn write(self, entry: &Entry<'_>) -> Vec<u8> {
        let Entry { name, mode, content, links, number } = *entry;
        let (name_bytes, size) = (name.len() + 1, content.len());
        let sum = content.iter().map(|byte| u32::from(*byte)).sum::<u32>();
        let (magic, sum) = if self == Self::NewWithSums { ("070702", sum) } else { ("070701", 0) };
        let header = match self {
            Self::Portable => {
                format!(
                    "070707{:06o}{number:06o}{mode:06o}{:06o}{:06o}{links:06o}{:06o}{MODIFIED:011o}{name_bytes:06o}{size:011o}",
                    5, 0, 0, 0
                )
            }
            _ => {
                format!(
                    "{magic}{number:08x}{mode:08X}{:08x}{:08x}{links:08x}{MODIFIED:08x}{size:08x}{:08x}{:08x}{:08x}{:08x}{name_bytes:08x}{sum:08x}",
                    0, 0, 8, 5, 0, 0
                )
            }
        };
        let mut bytes = header.into_bytes();
        for part in [&[name.as_bytes(), b"\0"].concat(), content] {
            bytes.extend(part);
            let block = if self == Self::Portable { 1 } else { 4 };
            bytes.resize(bytes.len().next_multiple_of(block), 0);
        }
        bytes
    }

    /// The archive, with its end, in blocks of 512 bytes.
    pub fn archive(self, entries: &[Entry<'_>]) -> Vec<u8> {
        let mut bytes = self.without_end(entries);
        bytes.extend(self.write(&entry("TRAILER!!!", 0, b"")));
        bytes.resize(bytes.len().next_multiple_of(512), 0);
        bytes
    }

    /// The archive without its end.
    pub fn without_end(self, entries: &[Entry<'_>]) -> Vec<u8> {
        entries.iter().flat_map(|entry| self.write(entry)).collect()
    }
}
