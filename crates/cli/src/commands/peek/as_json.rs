//! One file as JSON: what it is, and its content, as text where it is text.

use crate::commands::print_json;
use crate::failure::{BadValue, DONE, Failure};
use crate::ui::text::{shown, time};
use data_encoding::BASE64;
use serde::Serialize;
use under_seal_core::formats::reader::ArchiveReader;
use under_seal_core::ground::context::{Cancelled, Context};
use under_seal_core::ground::sink::EntrySink;

/// A longer file is not put into a JSON object, which is made in memory.
const MAX_BYTES: u64 = 64 * 1024 * 1024;

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    path: String,
    kind: &'static str,
    bytes: u64,
    modified: String,
    text: Option<String>,
    base64: Option<String>,
}

/// Reads the file at this place, and prints it; the exit code.
pub(super) fn print(archive: &mut dyn ArchiveReader, place: usize, context: &Context<'_>) -> Result<u8, Failure> {
    let listed = archive.listing().at(place)?.into_owned();
    if listed.content.size > MAX_BYTES {
        return Err(Failure::Value(BadValue::LongForJson { limit: MAX_BYTES }));
    }
    let mut content = Gathered(Vec::new());
    archive.extract_some(&[place], &mut content, context)?;
    let (text, base64) = match String::from_utf8(content.0) {
        Ok(text) => (Some(text), None),
        Err(bytes) => (None, Some(BASE64.encode(bytes.as_bytes()))),
    };
    print_json(&Report {
        command: "peek",
        exit_code: DONE,
        path: shown(listed.entry.path.as_bytes()),
        kind: "file",
        bytes: listed.content.size,
        modified: time(listed.entry.modified),
        text,
        base64,
    })?;
    Ok(DONE)
}

/// All bytes of one file.
struct Gathered(Vec<u8>);

impl EntrySink for Gathered {
    fn content(&mut self, bytes: &[u8]) -> Result<(), Cancelled> {
        // The size was read from the list, and is a claim.
        if (self.0.len() + bytes.len()) as u64 > MAX_BYTES {
            return Err(Cancelled);
        }
        self.0.extend_from_slice(bytes);
        Ok(())
    }
}
