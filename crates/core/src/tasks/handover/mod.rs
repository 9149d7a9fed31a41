//! Handover: everything that goes to a recipient, in one folder. The volumes, a note as text and as a page, checksums in
//! the usual form; where volumes go by mail, a draft of every message; where they go on discs, a label for each.
//!
//! An archive in an open format is handed over likewise: its files keep their names, which some of these formats need.
//!
//! The password is never among it: nothing here knows it. The folder gets its name when all of it is there and the
//! volumes in it have been checked.

mod bundle;
mod drafts;
pub mod note;
mod package;

pub use drafts::{Attachment, DraftError, Drafts};
pub use note::{NoteError, NoteFields};
pub use package::Package;

use crate::disk::{FileError, Folder, Interruption, Links, Sha256Sum, absolute, interruptible, open_regular};
use crate::disk::{Unfinished, read_on};
use crate::formats::error::ArchiveError;
use crate::formats::sealed::volume::GatherError;
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::context::Context;
use crate::ground::fit::Fit;
use bundle::{Bundle, Part};
use sha2::{Digest as _, Sha256};
use std::ffi::{OsStr, OsString};
use std::path::{Path, PathBuf};

/// The note as text, and as a page.
pub const NOTE_TEXT: &str = "how-to-open.txt";
/// See [`NOTE_TEXT`].
pub const NOTE_PAGE: &str = "how-to-open.html";
/// The checksums.
pub const SUMS: &str = "SHA256SUMS";

/// Temporary names begin so.
const PREFIX: &str = ".handing-over-";

/// So many bytes are copied at once.
const COPIED_BYTES: usize = 1024 * 1024;

/// How something is handed over.
#[derive(Debug, Clone)]
pub struct HandoverRequest<'a> {
    /// What the archive is called, for people and for the volumes' names.
    pub stem: &'a OsStr,
    /// The folder that is made; it must not be there.
    pub folder: &'a Path,
    /// How it goes: a message's limit means drafts, a disc labels.
    pub fit: Fit,
    /// The note's text with fields in braces (see [`note`]); the built-in one without it.
    pub template: Option<&'a str>,
    /// Whether the password opens it only together with a key file.
    pub key_file: bool,
    /// What the recipient is told about opening it.
    pub how: &'a str,
    /// Who gets the messages, as addresses; left open where nobody is named.
    pub mail_to: &'a [String],
}

/// One file of a handover.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HandedFile {
    /// Its name in the folder.
    pub name: OsString,
    /// Its length in bytes.
    pub bytes: u64,
}

/// What was made.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct HandedOver {
    /// The folder's absolute path.
    pub folder: PathBuf,
    /// The volumes in order.
    pub volumes: Vec<HandedFile>,
    /// The drafts in order.
    pub drafts: Vec<HandedFile>,
    /// The labels in order.
    pub labels: Vec<HandedFile>,
}

/// Why nothing was handed over.
#[derive(Debug, thiserror::Error)]
pub enum HandoverError {
    /// The folder is there already.
    #[error("{} is there already", .0.display())]
    Taken(PathBuf),
    /// A volume is missing or damaged.
    #[error("volumes {missing:?} are missing, {damaged:?} damaged")]
    NotWhole {
        /// Numbers of volumes that are missing.
        missing: Vec<u32>,
        /// Numbers of volumes of which no file is whole.
        damaged: Vec<u32>,
    },
    /// Entries of an archive in an open format are damaged.
    #[error("{} entries are damaged", .0.len())]
    DamagedEntries(Vec<Vec<u8>>),
    /// An archive in an open format cannot be read.
    #[error(transparent)]
    Archive(#[from] ArchiveError),
    /// The note cannot be written.
    #[error(transparent)]
    Note(#[from] NoteError),
    /// A message cannot be drafted.
    #[error(transparent)]
    Draft(#[from] DraftError),
    /// The copied volumes cannot be found again.
    #[error("reading back: {0}")]
    Regather(#[source] GatherError),
    /// The copied volumes are not what they were.
    #[error("reading back: the volumes differ")]
    Differ,
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(HandoverError);

impl Classed for HandoverError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::Taken(_) => ErrorClass::Unsafe,
            Self::NotWhole { missing, .. } if !missing.is_empty() => ErrorClass::VolumesMissing,
            Self::NotWhole { .. } | Self::DamagedEntries(_) | Self::Regather(_) | Self::Differ => ErrorClass::Damaged,
            Self::Archive(error) => error.class(),
            Self::Note(_) => ErrorClass::Usage,
            Self::Draft(error) => error.class(),
        }
    }
}

/// Makes the folder.
///
/// # Errors
/// [`HandoverError`]; nothing is left of it then.
pub fn hand_over(
    package: &mut Package,
    request: &HandoverRequest<'_>,
    context: &Context<'_>,
) -> Result<HandedOver, HandoverError> {
    let folder = absolute(request.folder);
    let bundle = Bundle::of(package, request, context)?;
    let (Some(above), Some(name)) = (folder.parent(), folder.file_name()) else {
        return Err(HandoverError::Taken(folder));
    };
    let above = Folder::open_or_create(above)?;
    if above.kind_of(name)?.is_some() {
        return Err(HandoverError::Taken(folder));
    }
    let (unfinished, inside) = Unfinished::folder(&above, PREFIX, context)?;
    let made = fill(request, &bundle, &inside, context)?;
    inside.set_mode_and_time(0o755, (context.clock)())?;
    inside.sync()?;
    unfinished.publish(name)?;
    Ok(HandedOver { folder, ..made })
}

fn fill(
    request: &HandoverRequest<'_>,
    bundle: &Bundle,
    folder: &Folder,
    context: &Context<'_>,
) -> Result<HandedOver, HandoverError> {
    let mut made = HandedOver::default();
    let (mut sums, mut copies) = (Vec::new(), Vec::new());
    for Part { path, name, bytes } in &bundle.parts {
        sums.push(copy(path, *bytes, folder, name, context)?);
        copies.push(folder.path().join(name));
        made.volumes.push(HandedFile { name: name.clone(), bytes: *bytes });
    }
    bundle.compare(&copies, &sums, context)?;
    let fields = &bundle.fields;
    let template = request.template.unwrap_or(fields.built_in());
    let text = note::text(template, fields)?;
    write(folder, OsStr::new(NOTE_TEXT), text.as_bytes())?;
    write(folder, OsStr::new(NOTE_PAGE), note::page(template, fields)?.as_bytes())?;
    if let Fit::Message(limit) = request.fit {
        let drafts = Drafts { limit: limit.bytes(), text: &text, fields, mail_to: request.mail_to };
        made.drafts = drafts.write(&made.volumes, folder, context)?;
    }
    if let Fit::Disc { .. } = request.fit {
        let count = made.volumes.len();
        for number in 1..=count {
            let name = OsString::from(format!("label-{number}of{count}.txt"));
            let bytes = write(folder, &name, note::label(fields, number).as_bytes())?;
            made.labels.push(HandedFile { name, bytes });
        }
    }
    let lines: String = made.volumes.iter().zip(&sums).map(|(file, sum)| sum_line(sum, &file.name)).collect();
    write(folder, OsStr::new(SUMS), lines.as_bytes())?;
    Ok(made)
}

/// A line as checksum tools write and read it; a name with a backslash or a line break is escaped and marked, as they do.
fn sum_line(sum: &[u8], name: &OsStr) -> String {
    let digits: String = sum.iter().map(|byte| format!("{byte:02x}")).collect();
    let name = name.to_string_lossy();
    let escaped = name.replace('\\', "\\\\").replace('\n', "\\n").replace('\r', "\\r");
    let mark = if escaped == name { "" } else { "\\" };
    format!("{mark}{digits}  {escaped}\n")
}

/// Copies a file, without what may stand behind a volume's end; its SHA-256.
fn copy(
    path: &Path,
    bytes: u64,
    folder: &Folder,
    name: &OsStr,
    context: &Context<'_>,
) -> Result<Sha256Sum, HandoverError> {
    let (original, _) = open_regular(path, Links::Follow)?;
    let mut copy = folder.create_file(name, 0o644)?;
    let mut hasher = Sha256::new();
    let read = read_on(original, path, bytes, context, |bytes| {
        hasher.update(bytes);
        Ok::<_, HandoverError>(copy.write(bytes)?)
    })?;
    if read < bytes {
        return Err(HandoverError::Differ);
    }
    copy.sync()?;
    copy.close()?;
    Ok(hasher.finalize().into())
}

fn write(folder: &Folder, name: &OsStr, bytes: &[u8]) -> Result<u64, FileError> {
    let mut file = folder.create_file(name, 0o644)?;
    file.write(bytes)?;
    file.sync()?;
    file.close()?;
    Ok(bytes.len() as u64)
}
