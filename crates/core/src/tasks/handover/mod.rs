//! Handover: everything that goes to a recipient, in one folder. The volumes, a note as text and as a page, checksums in
//! the usual form; beside sealed volumes the page that opens them in a browser; where volumes go by mail, a draft of every message; where they go on discs, a label for each.
//!
//! An archive in an open format is handed over likewise: its files keep their names, which some of these formats need.
//!
//! The password is never among it: nothing here knows it. The folder gets its name when all of it is there and the
//! volumes in it have been checked.

mod bundle;
pub mod dividing;
mod drafts;
pub mod note;
mod package;
mod request;

pub use drafts::{Attachment, Division, DraftError, Drafts, divide};
pub use note::{NoteError, NoteFields, Upon};
pub use package::{HandedFile, HandedOver, Package};
pub use request::{HandoverError, HandoverRequest};

use crate::disk::{FileError, Folder, Sha256Sum, Unfinished, absolute, read_on};
use crate::ground::codes::hexadecimal;
use crate::ground::context::{Context, Progress};
use crate::ground::fit::Fit;
use crate::tasks::page::{ByMail, PAGE, PAGE_NAME, page_sum};
use bundle::{Bundle, Part};
use sha2::{Digest as _, Sha256};
use std::ffi::{OsStr, OsString};

/// The note as text, and as a page.
pub const NOTE_TEXT: &str = "how-to-open.txt";
/// See [`NOTE_TEXT`].
pub const NOTE_PAGE: &str = "how-to-open.html";
/// The checksums.
pub const SUMS: &str = "SHA256SUMS";

/// Temporary names begin so.
const PREFIX: &str = ".handing-over-";

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
    for part @ Part { name, bytes, share, .. } in &bundle.parts {
        sums.push(copy(part, folder, context)?);
        copies.push(folder.path().join(name));
        made.volumes.push(HandedFile { name: name.clone(), bytes: *bytes, share: *share });
    }
    context.tell(Progress::Staged);
    bundle.compare(&copies, &sums, context)?;
    let mut fields = bundle.fields_with(&sums);
    if fields.page.is_some() && !fields.in_page {
        let bytes = write(folder, OsStr::new(PAGE_NAME), PAGE)?;
        made.page = Some(HandedFile { name: PAGE_NAME.into(), bytes, share: None });
        sums.push(page_sum());
    }
    if let Fit::Message(limit) = request.fit {
        let attached = attached(&made, limit.bytes());
        let Division { messages, losses } = divide(attached.iter().map(|file| (file.bytes, file.share)), limit.bytes());
        made.losses = losses;
        fields.messages_to_spare = losses.map_or(0, |losses| losses.any);
        let has_page = attached.len() > made.volumes.len() || fields.in_page;
        made.drafts = drafts(request, &fields, has_page, limit.bytes(), |drafts| {
            drafts.write(&attached, &messages, folder, context)
        })?;
    }
    let fields = &fields;
    let template = request.template.unwrap_or(fields.built_in());
    let text = note::text(template, fields)?;
    write(folder, OsStr::new(NOTE_TEXT), text.as_bytes())?;
    write(folder, OsStr::new(NOTE_PAGE), note::page(template, fields)?.as_bytes())?;
    if let Fit::Disc { .. } = request.fit {
        let count = made.volumes.len();
        for number in 1..=count {
            let name = OsString::from(format!("label-{number}of{count}.txt"));
            let bytes = write(folder, &name, note::label(fields, number).as_bytes())?;
            made.labels.push(HandedFile { name, bytes, share: None });
        }
    }
    let lines: String =
        made.volumes.iter().chain(&made.page).zip(&sums).map(|(file, sum)| sum_line(sum, &file.name)).collect();
    write(folder, OsStr::new(SUMS), lines.as_bytes())?;
    Ok(made)
}

/// Drafts of messages. The page goes with the first one, unless no message has room for it: then they say nothing of it.
fn drafts(
    request: &HandoverRequest<'_>,
    fields: &NoteFields,
    has_page: bool,
    limit: u64,
    write: impl FnOnce(&Drafts<'_>) -> Result<Vec<HandedFile>, DraftError>,
) -> Result<Vec<HandedFile>, HandoverError> {
    let told = fields.page.clone().filter(|_| has_page);
    let fields = NoteFields { page: told, ..fields.clone() };
    let text = note::text(request.template.unwrap_or(fields.built_in()), &fields)?;
    Ok(write(&Drafts { limit, text: &text, fields: &fields, mail_to: request.mail_to })?)
}

/// What is attached to messages of this limit, the page first; it goes with none where no message has room for it.
fn attached(made: &HandedOver, limit: u64) -> Vec<HandedFile> {
    let first = made.volumes.first().map_or(0, |volume| volume.bytes);
    let page = made.page.as_ref().filter(|_| ByMail::of(first, limit) != ByMail::NotAtAll);
    page.into_iter().chain(&made.volumes).cloned().collect()
}

/// A line as checksum tools write and read it; a name with a backslash or a line break is escaped and marked, as they do.
fn sum_line(sum: &[u8], name: &OsStr) -> String {
    let digits = hexadecimal(sum);
    let name = name.to_string_lossy();
    let escaped = name.replace('\\', "\\\\").replace('\n', "\\n").replace('\r', "\\r");
    let mark = if escaped == name { "" } else { "\\" };
    format!("{mark}{digits}  {escaped}\n")
}

/// Copies a file, without what may stand behind a volume's end; its SHA-256.
fn copy(part: &Part, folder: &Folder, context: &Context<'_>) -> Result<Sha256Sum, HandoverError> {
    let original = part.spot.open()?.into_reader();
    let mut copy = folder.create_file(&part.name, 0o644)?;
    let mut hasher = Sha256::new();
    let read = read_on(original, &part.spot.path, part.bytes, context, |bytes| {
        hasher.update(bytes);
        Ok::<_, HandoverError>(copy.write(bytes)?)
    })?;
    if read < part.bytes {
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
