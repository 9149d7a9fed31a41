//! Carriers: small stand-ins for what takes volumes to a recipient, each with limits of its own. Mail encodes and renames
//! ([`mail`]), media have a capacity and short names ([`media`]), an upload breaks off and goes on ([`upload`]).
//!
//! A rehearsal hands volumes to one of them and gets back what came through. What a carrier refuses is no error but
//! something that the sender is told.

mod choices;
pub mod mail;
pub mod media;
pub mod upload;

pub use choices::Choices;

use crate::disk::{FileAction, FileError, Interruption, interruptible, read_through};
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::context::{Context, Phase, Progress};
use crate::ground::fit::{DISC_OVERHEAD_BYTES, FORM_OVERHEAD_BYTES, Fit, MESSAGE_OVERHEAD_BYTES};
use crate::ground::size::Size;
use crate::tasks::handover::dividing::{Item, Losses, Share, losses};
use crate::tasks::handover::{DraftError, NoteError, NoteFields};
use std::fs::File;
use std::io::{self, Write as _};
use std::path::{Path, PathBuf};

/// So many bytes are copied at once.
const COPIED_BYTES: usize = 1024 * 1024;

/// Who carries.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Carrier {
    /// A mailbox that takes messages.
    Mail,
    /// Discs, sticks or whatever has a capacity.
    Media,
    /// A form on a server.
    Upload,
}

/// How volumes go to the recipient.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Way {
    /// They are copied, under other names.
    ByHand,
    /// In messages of at most so many bytes.
    Mail {
        /// Bytes of a message, encoding and headers counted.
        limit: u64,
    },
    /// On media that are read one after the other.
    Media {
        /// Bytes for files, each rounded up to whole sectors.
        capacity: u64,
        /// The largest file that the file system keeps.
        largest_file: u64,
    },
    /// In requests of at most so many bytes.
    Upload {
        /// Bytes of a request's body, the form's wrapping counted.
        limit: u64,
    },
}

/// A limit that the carrier cannot have.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum LimitError {
    /// A fit for something else.
    #[error("that fit is not one for this way")]
    AnotherWay,
    /// What the carrier itself needs leaves no room.
    #[error("{limit} bytes leave no room beside the {overhead} that it needs itself")]
    NoRoom {
        /// What was asked for.
        limit: u64,
        /// What the carrier needs itself.
        overhead: u64,
    },
}

/// Bytes of the stick that stands for all: the smallest that is sold a lot.
const STICK_BYTES: u64 = 16_000_000_000;

impl Carrier {
    /// The way, with this limit: a message's, medium's or request's bytes, or a fit of that kind. Without one, that of the
    /// smallest built-in fit of its kind.
    pub fn with_limit(self, limit: Option<Fit>) -> Result<Way, LimitError> {
        let limit = limit.or_else(|| Fit::named(self.usual_fit()));
        let (way, whole, overhead) = match (self, limit) {
            (Self::Mail, Some(Fit::Message(size) | Fit::AtMost(size))) => {
                (Way::Mail { limit: size.bytes() }, size.bytes(), MESSAGE_OVERHEAD_BYTES)
            }
            (Self::Upload, Some(Fit::Form(size) | Fit::AtMost(size))) => {
                (Way::Upload { limit: size.bytes() }, size.bytes(), FORM_OVERHEAD_BYTES)
            }
            (Self::Media, Some(fit @ Fit::Disc { sectors })) => {
                let capacity = fit.volume_limit().unwrap_or(0);
                let whole = sectors.saturating_mul(media::SECTOR_BYTES);
                (Way::Media { capacity, largest_file: capacity }, whole, DISC_OVERHEAD_BYTES)
            }
            (Self::Media, Some(Fit::FatFile)) => media_of(STICK_BYTES),
            (Self::Media, Some(Fit::AtMost(size))) => media_of(size.bytes()),
            _ => return Err(LimitError::AnotherWay),
        };
        if whole > overhead { Ok(way) } else { Err(LimitError::NoRoom { limit: whole, overhead }) }
    }

    /// The smallest built-in fit of its kind.
    pub const fn usual_fit(self) -> &'static str {
        match self {
            Self::Mail => "mail-10",
            Self::Media => "disc-700",
            Self::Upload => "form-100",
        }
    }
}

/// A medium with a FAT file system, which keeps no larger file than a 32-bit number counts.
fn media_of(capacity: u64) -> (Way, u64, u64) {
    let largest_file = capacity.min(u32::MAX.into());
    (Way::Media { capacity, largest_file }, capacity, 0)
}

impl Way {
    /// The most bytes that a volume may have to go this way.
    pub fn volume_limit(self) -> Option<u64> {
        match self {
            Self::ByHand => None,
            Self::Mail { limit } => Fit::Message(Size::of(limit)).volume_limit(),
            Self::Media { capacity, largest_file } => Some(media::whole_sectors(capacity).min(largest_file)),
            Self::Upload { limit } => Fit::Form(Size::of(limit)).volume_limit(),
        }
    }
}

/// A volume on the sender's side.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sent {
    /// Its number, from 1.
    pub number: u32,
    /// Where it is.
    pub path: PathBuf,
    /// Its length in bytes.
    pub bytes: u64,
    /// What it is of a set with spare volumes.
    pub share: Option<Share>,
}

impl Sent {
    /// What the sender calls it.
    pub fn name(&self) -> String {
        self.path.file_name().unwrap_or_default().to_string_lossy().into_owned()
    }
}

/// What goes where.
pub struct Load<'a> {
    /// The volumes, in order.
    pub volumes: &'a [Sent],
    /// What goes with them in words.
    pub fields: &'a NoteFields,
    /// The recipient's folder; it is there, and empty.
    pub inbox: &'a Path,
    /// A folder for what is under way; it is there, and empty.
    pub under_way: &'a Path,
    /// Everything keeps its name, since it is of no use under another.
    pub keep_names: bool,
    /// So many messages, media or files are lost on the way.
    pub lost: u32,
}

/// A message, a medium or an upload.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Trip {
    /// The numbers of the volumes in it.
    pub volumes: Vec<u32>,
    /// Its bytes: of the message, of the files on the medium, of the requests' bodies.
    pub bytes: u64,
    /// Whether the other side refused it for its length.
    pub refused: bool,
    /// How often it broke off and went on.
    pub broken_off: u32,
    /// Whether it was lost on the way, as was asked for.
    pub lost: bool,
}

impl Trip {
    /// One with these volumes, of so many bytes, that came through.
    fn of<'v>(volumes: impl IntoIterator<Item = &'v Sent>, bytes: u64) -> Self {
        let volumes = volumes.into_iter().map(|volume| volume.number).collect();
        Self { volumes, bytes, refused: false, broken_off: 0, lost: false }
    }
}

/// What came of it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Carried {
    /// What arrived, and under which name.
    pub arrived: Vec<(u32, PathBuf)>,
    /// Each trip.
    pub trips: Vec<Trip>,
    /// What losing trips comes to, where there are spare volumes.
    pub losses: Option<Losses>,
}

impl Carried {
    /// Nothing yet, but for trips that are lost.
    fn without(lost: impl IntoIterator<Item = Trip>) -> Self {
        let trips = lost.into_iter().map(|trip| Trip { lost: true, ..trip }).collect();
        Self { trips, ..Self::default() }
    }
}

/// Why nothing could be carried.
#[derive(Debug, thiserror::Error)]
pub enum CarryError {
    /// A message cannot be composed.
    #[error(transparent)]
    Draft(#[from] DraftError),
    /// The note that goes with it cannot be written.
    #[error(transparent)]
    Note(#[from] NoteError),
    /// A message that was composed cannot be read again.
    #[error("a message that was composed cannot be read again")]
    Unreadable,
    /// This machine does not let a program listen to itself.
    #[error("no server on this machine: {0}")]
    NoServer(#[source] io::Error),
    /// More was to be lost than is sent.
    #[error("{there} are sent, and {wished} were to be lost")]
    NotSoMany {
        /// How many were to be lost.
        wished: u32,
        /// How many messages, media or files there are.
        there: usize,
    },
    /// An upload did not come to its end.
    #[error("the upload did not come to its end: {0}")]
    Upload(String),
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(CarryError);

impl Classed for CarryError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::NotSoMany { .. } => ErrorClass::Usage,
            _ => ErrorClass::System,
        }
    }
}

/// Carries the volumes to the inbox.
///
/// # Errors
/// [`CarryError`]; a volume that is too large for the way is none (see [`Trip::refused`]).
pub fn carry(way: Way, load: &Load<'_>, choices: &mut Choices, context: &Context<'_>) -> Result<Carried, CarryError> {
    context.tell(Progress::Begin(Phase::Delivering, load.volumes.iter().map(|volume| volume.bytes).sum()));
    let carried = match way {
        Way::ByHand => by_hand(load, choices, context),
        Way::Mail { limit } => mail::carry(limit, load, choices, context),
        Way::Media { capacity, largest_file } => media::carry(capacity, largest_file, load, choices, context),
        Way::Upload { limit } => upload::carry(limit, load, choices, context),
    }?;
    context.tell(Progress::End);
    Ok(Carried { losses: losses_of(load, &carried.trips), ..carried })
}

/// Tells that a volume has come through, or been refused.
fn carried_one(volume: &Sent, context: &Context<'_>) {
    context.tell(Progress::Volume(volume.number));
    context.tell(Progress::Advance(volume.bytes));
}

/// Copies under names that tell nothing, the last first.
fn by_hand(load: &Load<'_>, choices: &mut Choices, context: &Context<'_>) -> Result<Carried, CarryError> {
    let (kept, lost) = lose(load.volumes.iter().collect(), load.lost, choices)?;
    let mut carried = Carried::without(lost.into_iter().map(|volume| Trip::of([volume], volume.bytes)));
    for (place, volume) in kept.into_iter().rev().enumerate() {
        let to = load.inbox.join(if load.keep_names { volume.name() } else { format!("ATT{place:05}.bin") });
        let bytes = copy(&volume.path, &to, context)?;
        carried.trips.push(Trip::of([volume], bytes));
        carried.arrived.push((volume.number, to));
        carried_one(volume, context);
    }
    Ok(carried)
}

/// What losing any of these trips comes to.
fn losses_of(load: &Load<'_>, trips: &[Trip]) -> Option<Losses> {
    let items: Vec<Item> =
        load.volumes.iter().map(|volume| Item { bytes: volume.bytes, share: volume.share }).collect();
    let places = |trip: &Trip| {
        let is_in = |at: &usize| trip.volumes.contains(&load.volumes[*at].number);
        (0..items.len()).filter(is_in).collect()
    };
    losses(&items, &trips.iter().map(places).collect::<Vec<_>>())
}

/// Takes out what is lost; what is left, in its order, and that.
fn lose<T>(mut all: Vec<T>, count: u32, choices: &mut Choices) -> Result<(Vec<T>, Vec<T>), CarryError> {
    if count as usize > all.len() {
        return Err(CarryError::NotSoMany { wished: count, there: all.len() });
    }
    let lost = (0..count).filter_map(|_| choices.take(&mut all)).collect();
    Ok((all, lost))
}

/// Copies a file; how many bytes.
fn copy(from: &Path, to: &Path, context: &Context<'_>) -> Result<u64, CarryError> {
    let mut copy = File::create_new(to).map_err(FileError::on(FileAction::Create, to))?;
    read_through(from, context, |bytes| {
        copy.write_all(bytes).map_err(FileError::on(FileAction::Write, to)).map_err(CarryError::from)
    })
}

/// A name that nothing in a folder has yet: the first free one of those that `nth` gives, from 0 on.
fn free_name(folder: &Path, nth: impl Fn(u32) -> String) -> PathBuf {
    let mut names = (0..).map(|place| folder.join(nth(place)));
    names.find(|path| path.symlink_metadata().is_err()).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// Of 10 MB, whole sectors.
    const ROOM: Option<u64> = Some(9_998_336);

    #[rstest]
    #[case::usual_mail(Carrier::Mail, None, Ok(Fit::named("mail-10").and_then(Fit::volume_limit)))]
    #[case::usual_disc(Carrier::Media, None, Ok(Fit::named("disc-700").and_then(Fit::volume_limit)))]
    #[case::usual_form(Carrier::Upload, None, Ok(Fit::named("form-100").and_then(Fit::volume_limit)))]
    #[case::stick(Carrier::Media, Some("stick"), Ok(Some(u32::MAX.into())))]
    #[case::medium_of_a_size(Carrier::Media, Some("10MB"), Ok(ROOM))]
    #[case::no_room_in_a_message(Carrier::Mail, Some("16KiB"), Err(LimitError::NoRoom { limit: 16_384, overhead: 16_384 }))]
    #[case::no_room_in_a_request(Carrier::Upload, Some("4KB"), Err(LimitError::NoRoom { limit: 4_000, overhead: 4_096 }))]
    #[case::disc_for_mail(Carrier::Mail, Some("disc-700"), Err(LimitError::AnotherWay))]
    #[case::mail_for_discs(Carrier::Media, Some("mail-10"), Err(LimitError::AnotherWay))]
    fn each_way_has_limits_of_its_own(
        #[case] carrier: Carrier,
        #[case] limit: Option<&str>,
        #[case] expected: Result<Option<u64>, LimitError>,
    ) {
        let limit = limit.map(|text| text.parse().unwrap());
        assert_eq!(carrier.with_limit(limit).map(Way::volume_limit), expected);
    }
}
