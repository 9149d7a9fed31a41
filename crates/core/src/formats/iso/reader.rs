//! Reading: the best-described tree of an image, and contents from where they lie.

use super::descriptors::Descriptors;
use super::records::{Record, wide_text};
use super::rock_ridge::announced;
use super::walk::{Extent, Naming, Walked, walk};
use super::{Image, IsoError};
use crate::disk::FileError;
use crate::formats::error::ArchiveError;
use crate::formats::listing::Listing;
use crate::formats::members::{MAX_SHARING, Refused, SameName, Tree};
use crate::formats::reader::{ArchiveReader, Facts, deliver_file, deliver_without_content};
use crate::formats::spot::Spot;
use crate::ground::context::Context;
use crate::ground::sink::EntrySink;

/// An open disc image.
pub struct IsoReader {
    image: Image,
    naming: Naming,
    label: Vec<u8>,
    other_system: bool,
    is_short: bool,
    tree: Tree,
    /// For each member the places of its content.
    extents: Vec<Vec<Extent>>,
}

impl IsoReader {
    /// Reads every folder, to know what is there.
    pub fn open(spot: &Spot, context: &Context<'_>) -> Result<Self, IsoError> {
        let image = Image::open(spot)?;
        let Descriptors { primary, joliet, other_system } = Descriptors::read(&image)?;
        // Rock Ridge keeps modes and links too.
        let (volume, naming) = match (rock_ridge(&image, &primary.root, primary.block_bytes)?, joliet) {
            (Some(skipped), _) => (primary, Naming::RockRidge(skipped)),
            (None, Some(joliet)) => (joliet, Naming::Joliet),
            (None, None) => (primary, Naming::Plain),
        };
        let Walked { members, extents, mut refused } = walk(&image, &volume, naming, context)?;
        let mut tree = Tree::grow(&members, SameName::LaterRefused);
        // What has no name is the format's own folder for what lies too deep.
        tree.refused.retain(|refused| !refused.name.is_empty());
        tree.refused.append(&mut refused);
        let total = tree.listed.iter().fold(0, |sum: u64, listed| sum.saturating_add(listed.content.size));
        if total > image.bytes().saturating_mul(MAX_SHARING) {
            return Err(IsoError::Expands);
        }
        let is_short = image.bytes() < u64::from(volume.blocks) * volume.block_bytes;
        let label = text_of(&volume.label, volume.joliet);
        Ok(Self { image, naming, label, other_system, is_short, tree, extents })
    }

    fn extents_of(&self, place: usize) -> &[Extent] {
        self.tree.members[place].and_then(|member| self.extents.get(member)).map_or(&[], Vec::as_slice)
    }
}

/// Whether the topmost folder's own record announces Rock Ridge, and how many bytes stand in front of its fields.
fn rock_ridge(image: &Image, root: &Record, block_bytes: u64) -> Result<Option<usize>, IsoError> {
    let at = root.at(block_bytes);
    let own = Record::own(image, at)?.ok_or(IsoError::Malformed { what: "topmost folder", at })?;
    announced(image, block_bytes, &own.system_use)
}

/// A field of text, without what fills it up.
fn text_of(field: &[u8], is_wide: bool) -> Vec<u8> {
    let text = if is_wide { wide_text(field) } else { String::from_utf8_lossy(field).into_owned() };
    text.trim_end_matches(['\0', ' ']).as_bytes().to_vec()
}

/// A content on its way out, from one place after the other.
struct Extents<'a> {
    image: &'a Image,
    extents: &'a [Extent],
    done: u64,
}

impl Extents<'_> {
    /// The next bytes; none at the end, `None` where the image ends before.
    fn read(&mut self, buffer: &mut [u8]) -> Result<Option<usize>, FileError> {
        while let [extent, others @ ..] = self.extents {
            let left = extent.bytes - self.done;
            let room = usize::try_from(left).unwrap_or(usize::MAX).min(buffer.len());
            if room > 0 {
                let there = self.image.fill(extent.at + self.done, &mut buffer[..room])?;
                self.done += room as u64;
                return Ok(there.then_some(room));
            }
            (self.extents, self.done) = (others, 0);
        }
        Ok(Some(0))
    }
}

impl ArchiveReader for IsoReader {
    fn listing(&self) -> Listing<'_> {
        Listing::Whole(&self.tree.listed)
    }

    fn spots(&self) -> Vec<Spot> {
        vec![self.image.spot.clone()]
    }

    fn refused(&self) -> &[Refused] {
        &self.tree.refused
    }

    fn facts(&self) -> Facts {
        let naming = match self.naming {
            Naming::Plain => None,
            Naming::Joliet => Some("Joliet"),
            Naming::RockRidge(_) => Some("Rock Ridge"),
        };
        Facts {
            label: self.label.clone(),
            methods: naming.into_iter().collect(),
            is_short: self.is_short,
            has_other_system: self.other_system,
            ..Facts::default()
        }
    }

    fn extract_some(
        &mut self,
        wanted: &[usize],
        sink: &mut dyn EntrySink,
        context: &Context<'_>,
    ) -> Result<(), ArchiveError> {
        let mut files = deliver_without_content(&self.tree.listed, wanted, sink)?;
        // A disc is read from its beginning to its end.
        files.sort_by_key(|place| self.extents_of(*place).first().copied());
        for place in files {
            let listed = &self.tree.listed[place];
            let mut content = Extents { image: &self.image, extents: self.extents_of(place), done: 0 };
            let beyond = || IsoError::BeyondEnd { name: listed.entry.path.as_bytes().to_vec() };
            deliver_file(listed, &[], sink, context, beyond, |buffer| content.read(buffer)?.ok_or_else(beyond))?;
        }
        Ok(())
    }
}
