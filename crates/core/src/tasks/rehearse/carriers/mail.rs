//! Mail: every message is composed as a handover drafts it, relayed with trace fields on top, refused by the mailbox where
//! it is too long, and read again by the recipient's side, which saves attachments under names of its own. Messages
//! arrive in another order.

use super::{Carried, CarryError, Choices, Load, Sent, Trip, carried_one, free_name, lose};
use crate::disk::{FileAction, FileError};
use crate::ground::context::Context;
use crate::ground::fit::message_bytes;
use crate::tasks::handover::{Attachment, Drafts, divide, note};
use crate::tasks::page::{PAGE, PAGE_NAME};
use mail_parser::{MessageParser, MimeHeaders as _};
use std::fs::{self, File};
use std::io::Write as _;
use std::path::{Path, PathBuf};

/// A message goes through so many servers.
const HOPS: usize = 3;

/// Some recipients' programs keep no more of a name than this, in letters.
const KEPT_LETTERS: usize = 12;

pub(super) fn carry(
    limit: u64,
    load: &Load<'_>,
    choices: &mut Choices,
    context: &Context<'_>,
) -> Result<Carried, CarryError> {
    let text = note::text(load.fields.built_in(), load.fields)?;
    let drafts = Drafts { limit, text: &text, fields: load.fields, mail_to: &["recipient@example.invalid".to_owned()] };
    let attachments: Vec<Attachment> = page(load)?.into_iter().chain(load.volumes.iter().map(attachment)).collect();
    let messages = divide(attachments.iter().map(|file| (file.bytes, file.share)), limit).messages;
    let attached_to = |message: &Vec<usize>| message.iter().map(|at| &attachments[*at]).collect::<Vec<_>>();
    let messages: Vec<Vec<&Attachment>> = messages.iter().map(attached_to).collect();
    let volumes_of =
        |attached: &[&Attachment]| attached.iter().filter_map(|file| volume_of(load, file)).collect::<Vec<_>>();
    let (kept, lost) = lose(messages.iter().enumerate().collect(), load.lost, choices)?;
    let bytes_of = |attached: &[&Attachment]| attached.iter().map(|file| message_bytes(file.bytes)).sum();
    let lost = lost.into_iter().map(|(_, attached)| Trip::of(volumes_of(attached), bytes_of(attached)));
    let mut carried = Carried::without(lost);
    for (place, attached) in choices.shuffled(kept) {
        context.go_on()?;
        let message = relayed(&drafts.message(place + 1, messages.len(), attached, context)?);
        let volumes: Vec<Option<&Sent>> = attached.iter().map(|file| volume_of(load, file)).collect();
        let bytes = message.len() as u64;
        let refused = bytes > limit;
        if !refused {
            let saved = save_attachments(&message, load, choices)?;
            let arrived = volumes.iter().zip(saved).filter_map(|(volume, path)| Some((volume.as_ref()?.number, path)));
            carried.arrived.extend(arrived);
        }
        carried.trips.push(Trip { refused, ..Trip::of(volumes.iter().copied().flatten(), bytes) });
        volumes.into_iter().flatten().for_each(|volume| carried_one(volume, context));
    }
    Ok(carried)
}

/// The page that goes with volumes, as a file to attach, where it goes by mail.
fn page(load: &Load<'_>) -> Result<Option<Attachment>, CarryError> {
    if load.fields.page.is_none() || load.fields.in_page {
        return Ok(None);
    }
    let path = load.under_way.join(PAGE_NAME);
    fs::write(&path, PAGE).map_err(FileError::on(FileAction::Write, &path))?;
    Ok(Some(Attachment { name: PAGE_NAME.to_owned(), path, bytes: PAGE.len() as u64, share: None }))
}

fn attachment(volume: &Sent) -> Attachment {
    Attachment { name: volume.name(), path: volume.path.clone(), bytes: volume.bytes, share: volume.share }
}

fn volume_of<'a>(load: &Load<'a>, file: &Attachment) -> Option<&'a Sent> {
    load.volumes.iter().find(|volume| volume.path == file.path)
}

/// Puts on top what every server on the way adds (RFC 5321 section 4.4).
fn relayed(message: &[u8]) -> Vec<u8> {
    let mut relayed = Vec::with_capacity(message.len() + 1024);
    for hop in (1..=HOPS).rev() {
        let before = hop - 1;
        relayed.extend_from_slice(
            format!(
                "Received: from relay-{before}.example.invalid (relay-{before}.example.invalid [192.0.2.{hop}])\r\n\
                 \tby relay-{hop}.example.invalid with ESMTPS id {hop:016x}\r\n\
                 \tfor <recipient@example.invalid>; Thu, 1 Jan 1970 00:00:00 +0000\r\n"
            )
            .as_bytes(),
        );
    }
    relayed.extend_from_slice(message);
    relayed
}

/// Reads a message and saves what is attached; where each is, in the message's order.
fn save_attachments(message: &[u8], load: &Load<'_>, choices: &mut Choices) -> Result<Vec<PathBuf>, CarryError> {
    let message = MessageParser::default().parse(message).ok_or(CarryError::Unreadable)?;
    let mut saved = Vec::new();
    for part in message.attachments() {
        let name = part.attachment_name().unwrap_or("attachment");
        let kept = load.keep_names.then(|| load.inbox.join(name.replace('/', "_")));
        let path = kept.unwrap_or_else(|| renamed(name, load.inbox, choices));
        let mut file = File::create_new(&path).map_err(FileError::on(FileAction::Create, &path))?;
        file.write_all(part.contents()).map_err(FileError::on(FileAction::Write, &path))?;
        saved.push(path);
    }
    Ok(saved)
}

/// What a program makes of an attachment's name: one numbers, one shortens, one writes it small and with no blank.
fn renamed(name: &str, inbox: &Path, choices: &mut Choices) -> PathBuf {
    let short: String = name.chars().filter(|letter| letter.is_ascii_alphanumeric()).take(KEPT_LETTERS).collect();
    let small = name.to_lowercase().replace([' ', '/'], "_");
    match choices.below(3) {
        0 => free_name(inbox, |place| format!("ATT{:05}.bin", place + 1)),
        1 => free_name(inbox, |place| if place == 0 { short.clone() } else { format!("{short} ({place})") }),
        _ => free_name(inbox, |place| if place == 0 { small.clone() } else { format!("{place}-{small}") }),
    }
}
