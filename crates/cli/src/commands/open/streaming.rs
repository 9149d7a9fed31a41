//! `open --to-stdout`: one file as it is, or several entries as a tar archive, to standard output.

use super::wanted;
use crate::archives::{not_extracted, verify_first};
use crate::args::{OpenArguments, WorkArguments};
use crate::commands::pack::not_taken;
use crate::failure::{BadValue, DONE, Failure, LOOK};
use crate::places::Typed;
use crate::system::outflow::StandardOutput;
use crate::ui::progress::ProgressLine;
use crate::ui::text::{count, size};
use crate::{archives::Given, credentials::Wanted, session};
use std::io::{self, IsTerminal as _, Write as _};
use under_seal_core::formats::archive::Archive;
use under_seal_core::ground::entry::EntryKind;
use under_seal_core::source::Patterns;
use under_seal_core::tasks::open::streaming::{StreamError, as_it_is, as_tar};

/// Writes what is wanted; the exit code.
pub(super) fn run(arguments: &OpenArguments, typed: &Typed, given: Given) -> Result<u8, Failure> {
    if io::stdout().is_terminal() {
        return Err(Failure::Value(BadValue::OutputIsTerminal));
    }
    let patterns = Patterns::new(&typed.inside).map_err(|error| Failure::Value(BadValue::Pattern(error)))?;
    let mut archive = given.load(&arguments.unlock, Wanted::Content, &arguments.work)?;
    let (wanted, unmatched) = wanted(arguments, &archive, &patterns)?;
    let only = match arguments.stream_format {
        Some(_) => None,
        None => Some(only_file(&archive, &wanted)?),
    };
    // A bar would write over what goes to the same terminal by way of a pager.
    let progress = ProgressLine::for_reading(None, &WorkArguments::quiet());
    let context = session::context(&progress, arguments.work.threads);
    let output = StandardOutput::open().map_err(Failure::Output)?;
    let written = match only {
        Some(place) => {
            verify_first(&mut archive, place, &context)?;
            as_it_is(&mut *archive, place, output, &context)
        }
        None => as_tar(&mut *archive, &wanted, output, &context),
    };
    let totals = match written {
        Ok(totals) => totals,
        Err(StreamError::Output(error)) => return Err(not_taken(error)),
        Err(StreamError::Archive(error)) => return Err(error.into()),
    };
    let refused = not_extracted(&archive);
    if !arguments.work.output.quiet {
        let what = format!("{}, {}, went to standard output.", count(totals.files, "file"), size(totals.content_bytes));
        let _ = writeln!(anstream::stderr(), "{what}");
        for one in &refused {
            let _ = writeln!(anstream::stderr(), "Not extracted: {}: {}", one.path, one.why);
        }
    }
    Ok(if refused.is_empty() && unmatched.is_empty() { DONE } else { LOOK })
}

/// The place of the only file among what is wanted.
fn only_file(archive: &Archive, wanted: &[usize]) -> Result<usize, Failure> {
    let entries = archive.entries()?;
    let files: Vec<usize> =
        wanted.iter().copied().filter(|place| entries[*place].entry.kind == EntryKind::File).collect();
    match files.as_slice() {
        [only] => Ok(*only),
        _ => Err(Failure::Value(BadValue::SeveralToStream)),
    }
}
