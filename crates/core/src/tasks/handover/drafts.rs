//! Drafts of messages (RFC 5322), numbered, each within the mailbox's limit with its volumes attached.

use super::dividing::{self, Item, Losses, Share, losses};
use super::note::NoteFields;
use super::package::HandedFile;
use crate::disk::{FileAction, FileError, Folder, Interruption, Links, interruptible, open_regular};
use crate::ground::class::{Classed, ErrorClass};
use crate::ground::codes::hexadecimal;
use crate::ground::context::Context;
use crate::ground::fit::message_bytes;
use mail_builder::MessageBuilder;
use mail_builder::headers::address::Address;
use std::ffi::OsString;
use std::io::Read as _;
use std::path::PathBuf;

/// A draft keeps this much room for the trace fields that every server on the way adds (RFC 5321 section 4.4).
const TRACE_BYTES: u64 = 4 * 1024;

/// Why a message cannot be drafted.
#[derive(Debug, thiserror::Error)]
pub enum DraftError {
    /// A volume alone is larger than the limit lets a message be.
    #[error("a message with {bytes} bytes attached does not stay within {limit}")]
    TooLarge {
        /// Bytes of the volume.
        bytes: u64,
        /// The message's limit in bytes.
        limit: u64,
    },
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(DraftError);

impl Classed for DraftError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::TooLarge { .. } => ErrorClass::Usage,
        }
    }
}

/// A file that goes with a message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Attachment {
    /// What it is called there.
    pub name: String,
    /// Where it is.
    pub path: PathBuf,
    /// Its length in bytes.
    pub bytes: u64,
    /// What it is of a set with spare volumes.
    pub share: Option<Share>,
}

/// Files as they are divided into messages.
pub struct Division {
    /// Which go together, by their places (see [`dividing::divide`]).
    pub messages: Vec<Vec<usize>>,
    /// What losing a message comes to.
    pub losses: Option<Losses>,
}

/// Divides files, told by their bytes and what they are of a set, into messages of at most `limit` bytes on their way.
pub fn divide(files: impl Iterator<Item = (u64, Option<Share>)>, limit: u64) -> Division {
    let items: Vec<Item> = files.map(|(bytes, share)| Item { bytes: message_bytes(bytes), share }).collect();
    let messages = dividing::divide(&items, limit);
    let losses = losses(&items, &messages);
    Division { messages, losses }
}

/// What all drafts have in common.
pub struct Drafts<'a> {
    /// The most bytes of a message on its way.
    pub limit: u64,
    /// The note for the recipient.
    pub text: &'a str,
    /// What the note's fields stand for.
    pub fields: &'a NoteFields,
    /// Who gets the messages, as addresses.
    pub mail_to: &'a [String],
}

impl Drafts<'_> {
    /// Writes the drafts, in which these go together by their places, beside the volumes.
    pub(super) fn write(
        &self,
        volumes: &[HandedFile],
        messages: &[Vec<usize>],
        folder: &Folder,
        context: &Context<'_>,
    ) -> Result<Vec<HandedFile>, DraftError> {
        let attachments: Vec<Attachment> = volumes.iter().map(|file| attachment(file, folder)).collect();
        let mut written = Vec::new();
        for (place, message) in messages.iter().enumerate() {
            let attached: Vec<&Attachment> = message.iter().map(|at| &attachments[*at]).collect();
            let (number, count) = (place + 1, messages.len());
            let all = attached.iter().map(|file| file.bytes).sum();
            let message = match self.holds(&attached) {
                true => self.message(number, count, &attached, context)?,
                false => return Err(self.too_large(all)),
            };
            if message.len() as u64 > self.limit {
                return Err(self.too_large(all));
            }
            let name = OsString::from(format!("message-{number}of{count}.eml"));
            let mut file = folder.create_file(&name, 0o644)?;
            file.write(&message)?;
            file.sync()?;
            file.close()?;
            written.push(HandedFile { name, bytes: message.len() as u64, share: None });
        }
        Ok(written)
    }

    fn holds(&self, attached: &[&Attachment]) -> bool {
        attached.iter().map(|file| message_bytes(file.bytes)).sum::<u64>() <= self.limit
    }

    fn too_large(&self, bytes: u64) -> DraftError {
        DraftError::TooLarge { bytes, limit: self.limit }
    }

    /// One message, as it leaves the sender. It is the caller who compares its length with the limit.
    ///
    /// # Errors
    /// [`DraftError`] where a file cannot be read.
    pub fn message(
        &self,
        number: usize,
        count: usize,
        attached: &[&Attachment],
        context: &Context<'_>,
    ) -> Result<Vec<u8>, DraftError> {
        let mut contents = Vec::new();
        for file in attached {
            let (open, _) = open_regular(&file.path, Links::Follow)?;
            let mut bytes = Vec::new();
            open.take(file.bytes).read_to_end(&mut bytes).map_err(FileError::on(FileAction::Read, &file.path))?;
            contents.push((file.name.clone(), bytes));
        }
        let first = self.build(number, count, self.text, &contents, context)?;
        // A long note of the sender's own leaves no room in a full message; the file beside it says the same.
        if first.len() as u64 + TRACE_BYTES <= self.limit {
            return Ok(first);
        }
        self.build(number, count, &self.in_short(), &contents, context)
    }

    fn in_short(&self) -> String {
        format!("This is a part of {}. Save the attachment into one folder with the others.\n", self.fields.archive)
    }

    fn build(
        &self,
        number: usize,
        count: usize,
        text: &str,
        contents: &[(String, Vec<u8>)],
        context: &Context<'_>,
    ) -> Result<Vec<u8>, DraftError> {
        let id: [u8; 16] = context.random()?;
        let id = hexadecimal(&id);
        let to = self.mail_to.iter().map(|address| Address::new_address(None::<&str>, address.as_str()));
        let mut message = MessageBuilder::new()
            .message_id(format!("{id}@under-seal.invalid"))
            .date((context.clock)().seconds)
            .subject(format!("{}, {number} of {count}", self.fields.archive))
            .text_body(text);
        if !self.mail_to.is_empty() {
            message = message.to(Address::new_list(to.collect()));
        }
        for (name, bytes) in contents {
            message = message.attachment("application/octet-stream", name.as_str(), bytes.as_slice());
        }
        // Writing to memory does not fail.
        Ok(message.write_to_vec().unwrap_or_default())
    }
}

fn attachment(file: &HandedFile, folder: &Folder) -> Attachment {
    let (name, path) = (file.name.to_string_lossy().into_owned(), folder.path().join(&file.name));
    Attachment { name, path, bytes: file.bytes, share: file.share }
}
