//! What goes in: sources as they were typed, others from a list, and what comes through standard input.

use crate::args::{PackArguments, STANDARD_STREAM, is_standard_stream};
use crate::failure::{BadValue, Failure};
use crate::inflow::{standard_input, stoppable};
use crate::session;
use std::fs::File;
use std::io::{self, BufRead as _, BufReader, Read as _};
use std::path::PathBuf;
use under_seal_core::disk::names::path_of;
use under_seal_core::ground::entry::EntryPath;
use under_seal_core::source::{Choice, Naming, StreamSource, expand};

/// The most bytes of a list of paths.
const MAX_LIST_BYTES: u64 = 1024 * 1024 * 1024;

/// The most bytes of one path in it: no system takes a longer one.
const MAX_LINE_BYTES: u64 = 64 * 1024;

/// Everything that goes in.
pub struct Input {
    /// Files and folders.
    pub sources: Vec<PathBuf>,
    /// Whether standard input is packed too.
    pub has_stream: bool,
    /// What the archive is called after, where nothing else names it.
    pub named_after: Vec<PathBuf>,
}

impl Input {
    /// The sources; a list of them is read now.
    pub fn read(arguments: &PackArguments) -> Result<Self, Failure> {
        let (streams, typed): (Vec<_>, Vec<_>) =
            arguments.sources.iter().cloned().partition(|path| is_standard_stream(path));
        if streams.len() > 1 {
            return Err(Failure::Value(BadValue::ReadTwice));
        }
        let mut sources = expand(&typed)?;
        sources.extend(listed(arguments)?);
        let has_stream = !streams.is_empty();
        if sources.is_empty() && !has_stream {
            return Err(Failure::Value(BadValue::EmptyList));
        }
        let mut named_after = sources.clone();
        if has_stream {
            named_after.push(PathBuf::from(&arguments.input.entry_name));
        }
        Ok(Self { sources, has_stream, named_after })
    }

    /// What is chosen: of a list, the folders before each path are kept, since names alone would meet.
    pub fn choice(arguments: &PackArguments, choice: Choice) -> Choice {
        match (choice.naming, &arguments.input.paths_from) {
            (Naming::OwnName, Some(_)) => Choice { naming: Naming::AsTyped, ..choice },
            _ => choice,
        }
    }

    /// Standard input cannot be looked into before it is packed.
    pub fn refuse_to_plan(&self) -> Result<(), Failure> {
        if self.has_stream { Err(Failure::Value(BadValue::StreamOnceOnly)) } else { Ok(()) }
    }

    /// What comes through standard input, which nothing else may read from now on.
    pub fn stream(&self, arguments: &PackArguments) -> Result<Option<StreamSource>, Failure> {
        if !self.has_stream {
            return Ok(None);
        }
        if arguments.delivery.shape.parcels || arguments.since.since.is_some() {
            return Err(Failure::Value(BadValue::StreamOnceOnly));
        }
        let name = &arguments.input.entry_name;
        let path = EntryPath::new(name.clone().into_bytes());
        let path = path.map_err(|error| Failure::Value(BadValue::EntryName { value: name.clone(), error }))?;
        let from = standard_input()?;
        let from = from.map_err(|source| Failure::TextFile { path: STANDARD_STREAM.into(), source })?;
        Ok(Some(StreamSource::new(path, session::now(), Box::new(stoppable(from)))))
    }
}

/// The paths of a list.
fn listed(arguments: &PackArguments) -> Result<Vec<PathBuf>, Failure> {
    let Some(file) = &arguments.input.paths_from else { return Ok(Vec::new()) };
    let unreadable = |source| Failure::TextFile { path: file.clone(), source };
    let from = if is_standard_stream(file) { standard_input()? } else { File::open(file) };
    let mut from = BufReader::new(from.map_err(unreadable)?.take(MAX_LIST_BYTES + 1));
    let end = if arguments.input.null { 0 } else { b'\n' };
    let (mut paths, mut line, mut bytes) = (Vec::new(), Vec::new(), 0);
    for number in 1_u64.. {
        line.clear();
        let read = (&mut from).take(MAX_LINE_BYTES + 1).read_until(end, &mut line).map_err(unreadable)?;
        bytes += read as u64;
        let why = match () {
            () if read == 0 => break,
            () if bytes > MAX_LIST_BYTES => return Err(unreadable(io::ErrorKind::FileTooLarge.into())),
            () if read as u64 > MAX_LINE_BYTES => Some("is longer than any path"),
            () if end != 0 && line.contains(&0) => Some("has a NUL in it; for paths that end with one there is --null"),
            () => None,
        };
        if let Some(why) = why {
            return Err(Failure::Value(BadValue::ListedLine { list: file.clone(), number, why }));
        }
        if line.last() == Some(&end) {
            line.pop();
        }
        if !line.is_empty() {
            paths.push(path_of(&line));
        }
    }
    Ok(paths)
}
