//! The note, played: what a handover folder tells its recipient. Here is what the recipient has in the end (the folder's files, or what is
//! attached to its drafts), which commands the text names, and whether what they made is what was packed. Running them is the program's.

use super::RehearsalError;
use crate::disk::{FileAction, FileError, sum_of};
use crate::formats::abilities::TimesKept;
use crate::ground::codes::hexadecimal;
use crate::ground::context::Context;
use crate::ground::entry::ListedEntry;
use crate::source::{Catalogue, Choice, Naming};
use crate::tasks::compare::compare;
use crate::tasks::handover::{NOTE_TEXT, SUMS};
use mail_parser::{MessageParser, MimeHeaders as _};
use std::fs;
use std::path::{Path, PathBuf};

/// Lines that begin so are commands for this program.
const COMMAND: &str = "    under-seal ";

/// What is for the sender, and goes to nobody as a file.
const DRAFT_ENDS: &str = ".eml";
const LABEL_BEGINS: &str = "label-";

/// Whether a folder is what a handover made: a note and checksums are there.
pub fn is_handover(folder: &Path) -> bool {
    folder.join(NOTE_TEXT).is_file() && folder.join(SUMS).is_file()
}

/// The commands that a note tells its reader to run, each behind the program's name, in order.
pub fn commands(text: &str) -> Vec<&str> {
    text.lines().filter_map(|line| line.strip_prefix(COMMAND)).map(str::trim_end).collect()
}

/// What lies in a handover folder: files that the recipient gets, and drafts of messages; both sorted.
fn files_of(folder: &Path) -> Result<(Vec<PathBuf>, Vec<PathBuf>), FileError> {
    let failed = FileError::on(FileAction::Read, folder);
    let entries = fs::read_dir(folder).and_then(Iterator::collect::<Result<Vec<_>, _>>).map_err(failed)?;
    let mut all: Vec<PathBuf> = entries.iter().map(fs::DirEntry::path).filter(|path| path.is_file()).collect();
    all.sort();
    let name = |path: &PathBuf| path.file_name().unwrap_or_default().to_string_lossy().into_owned();
    all.retain(|path| !name(path).starts_with(LABEL_BEGINS));
    Ok(all.into_iter().partition(|path| !name(path).ends_with(DRAFT_ENDS)))
}

/// Copies what the recipient gets as files into a folder that is there; the note's text.
///
/// # Errors
/// [`RehearsalError`] where something cannot be read or written.
pub fn receive_files(handover: &Path, into: &Path) -> Result<String, RehearsalError> {
    for file in files_of(handover)?.0 {
        let to = into.join(file.file_name().unwrap_or_default());
        fs::copy(&file, &to).map_err(FileError::on(FileAction::Create, &to))?;
    }
    let note = into.join(NOTE_TEXT);
    Ok(fs::read_to_string(&note).map_err(FileError::on(FileAction::Read, &note))?)
}

/// Saves everything that is attached to the drafts into a folder that is there; how many drafts there are, and the first one's text.
/// `None` where there are no drafts.
///
/// # Errors
/// [`RehearsalError`] where something cannot be read or written.
pub fn receive_drafts(handover: &Path, into: &Path) -> Result<Option<(usize, String)>, RehearsalError> {
    let drafts = files_of(handover)?.1;
    let mut text = None;
    for draft in &drafts {
        let bytes = fs::read(draft).map_err(FileError::on(FileAction::Read, draft))?;
        let unreadable = || FileError::on(FileAction::Read, draft)(std::io::ErrorKind::InvalidData.into());
        let message = MessageParser::default().parse(&bytes).ok_or_else(unreadable)?;
        for part in message.attachments() {
            let to = into.join(part.attachment_name().unwrap_or("attachment").replace(['/', '\\'], "_"));
            fs::write(&to, part.contents()).map_err(FileError::on(FileAction::Create, &to))?;
        }
        text = text.or_else(|| message.body_text(0).map(|text| text.replace("\r\n", "\n")));
    }
    Ok(text.map(|text| (drafts.len(), text)))
}

/// The name of a file whose SHA-256 is not what the handover's list says, or that is not there; `None` where all are right.
///
/// # Errors
/// [`RehearsalError`] where something cannot be read.
pub fn wrong_sum(folder: &Path, context: &Context<'_>) -> Result<Option<String>, RehearsalError> {
    let list = folder.join(SUMS);
    let text = fs::read_to_string(&list).map_err(FileError::on(FileAction::Read, &list))?;
    for line in text.lines() {
        // Of a name with a backslash or a line break the line says that it is escaped.
        let escaped = line.strip_prefix('\\');
        let Some((sum, name)) = escaped.unwrap_or(line).split_once("  ") else { return Ok(Some(line.to_owned())) };
        let name = match escaped {
            Some(_) => name.replace("\\n", "\n").replace("\\r", "\r").replace("\\\\", "\\"),
            None => name.to_owned(),
        };
        let path = folder.join(&name);
        if !path.is_file() || hexadecimal(&sum_of(&path, context)?) != sum {
            return Ok(Some(name));
        }
    }
    Ok(None)
}

/// Whether a folder holds exactly these entries.
///
/// # Errors
/// [`RehearsalError`] where it cannot be listed.
pub fn holds_exactly(
    folder: &Path,
    expected: &[ListedEntry],
    times: TimesKept,
    context: &Context<'_>,
) -> Result<bool, RehearsalError> {
    let choice = Choice { naming: Naming::Contents, ..Choice::default() };
    let there = match folder.is_dir() {
        true => Catalogue::gather(&[folder.to_owned()], &choice, &|_| false, context)?,
        false => Catalogue::default(),
    };
    Ok(compare(expected, &there, times, context)?.is_same())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_lines_that_are_commands_are_commands() {
        let text = "Run this:\n\n    under-seal check .\n\nunder-seal is a program.\n    under-seal-1of2.useal  5 bytes\n    \
                    under-seal open . --into opened \n";
        assert_eq!(commands(text), ["check .", "open . --into opened"]);
    }
}
