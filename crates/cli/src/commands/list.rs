//! `list`: what is in an archive.

use super::show;
use super::since::BuildsUpon;
use crate::archives::{NotExtracted, load_all, not_extracted, not_extracted_lines};
use crate::args::{ListArguments, OutputArguments, SortName};
use crate::credentials::Wanted;
use crate::failure::{BadValue, DONE, Failure, LOOK};
use crate::places::{searched, tell_apart};
use crate::system::unless_reader_gone;
use crate::ui::paint::{Tone, paint};
use crate::ui::table::{self, Column};
use crate::ui::text::{self, contents, hexadecimal, shown, size};
use crate::words::{as_name, notes};
use serde::Serialize;
use std::collections::{HashMap, HashSet};
use std::io::{self, IsTerminal as _, Write as _};
use under_seal_core::formats::archive::Archive;
use under_seal_core::formats::registry::Format;
use under_seal_core::ground::entry::{EntryKind, EntryPath, ListedEntry, Totals};
use under_seal_core::source::Patterns;
use under_seal_core::tasks::list::{self, SortBy};

/// Runs the command; the exit code.
pub fn run(arguments: &ListArguments) -> Result<u8, Failure> {
    let typed = tell_apart(&arguments.typed, &arguments.work);
    let patterns = Patterns::new(&typed.inside).map_err(|error| Failure::Value(BadValue::Pattern(error)))?;
    let archive =
        load_all(&searched(&typed.places, arguments.search), &arguments.unlock, Wanted::List, &arguments.work)?;
    let entries = archive.entries();
    let kept = archive.kept_shares();
    let (mut places, unmatched) = list::matching(entries, &patterns);
    if let Some(fragment) = &arguments.find {
        let found = list::holding(entries, fragment);
        if found.is_empty() {
            return Err(nothing(entries, fragment));
        }
        places.retain(|place| found.binary_search(place).is_ok());
    }
    if let Some(folder) = &arguments.here {
        let inside = level(entries, folder)?;
        places.retain(|place| inside.binary_search(place).is_ok());
    }
    if let (Some(pattern), []) = (unmatched.first(), places.as_slice()) {
        return Err(nothing(entries, pattern));
    }
    list::sort(&mut places, entries, &kept, sort_by(arguments.sort));
    let mut report = Report::new(&archive, &places, &kept, &unmatched);
    if arguments.sort == Some(SortName::Ratio) && kept.iter().all(Option::is_none) {
        report.notes.push(NO_RATIOS);
    }
    let output = &arguments.work.output;
    if arguments.null || output.quiet && !output.json {
        print_paths(entries, &places, if arguments.null { 0 } else { b'\n' })?;
        return Ok(report.exit_code);
    }
    let body = || match arguments.tree {
        true => {
            let places = list::with_folders_above(entries, &places);
            let drawn: Vec<Line> =
                places.iter().map(|place| Line::new(&entries[*place], kept[*place], false, &HashMap::new())).collect();
            lines(tree(&drawn), &report)
        }
        false => lines(table(&report, arguments.long), &report),
    };
    show(&report, &arguments.work, body)?;
    Ok(report.exit_code)
}

/// What is directly in a folder, for a command that was given the folder's path; the exit code.
pub(super) fn show_folder(archive: &Archive, folder: &str, output: &OutputArguments) -> Result<u8, Failure> {
    let places = level(archive.entries(), folder)?;
    let report = Report { command: "peek", ..Report::new(archive, &places, &archive.kept_shares(), &[]) };
    show(&report, output, || lines(table(&report, false), &report))?;
    Ok(report.exit_code)
}

/// Paths alone, as they are in the archive, each with this byte behind it.
fn print_paths(entries: &[ListedEntry], places: &[usize], end: u8) -> Result<(), Failure> {
    let mut output = io::stdout().lock();
    // A terminal is spared what could write anything else on it.
    let escapes = output.is_terminal();
    let mut print = || {
        for place in places {
            let path = entries[*place].entry.path.as_bytes();
            match escapes {
                true => output.write_all(shown(path).as_bytes())?,
                false => output.write_all(path)?,
            }
            output.write_all(&[end])?;
        }
        output.flush()
    };
    unless_reader_gone(print()).map_err(Failure::Output)
}

fn sort_by(name: Option<SortName>) -> SortBy {
    match name {
        None | Some(SortName::Name) => SortBy::Name,
        Some(SortName::Size) => SortBy::Size,
        Some(SortName::Date) => SortBy::Date,
        Some(SortName::Ratio) => SortBy::Ratio,
    }
}

/// What is said where nothing is found: names that look like what was sought.
pub(super) fn nothing(entries: &[ListedEntry], sought: &str) -> Failure {
    let alike = list::alike(entries, sought).iter().map(|path| shown(path.as_bytes())).collect();
    Failure::NothingInside { sought: shown(sought.as_bytes()), alike }
}

/// The places of what lies directly in a folder that was typed, by its path or the end of it.
fn level(entries: &[ListedEntry], folder: &str) -> Result<Vec<usize>, Failure> {
    if folder.trim_matches('/').is_empty() {
        return Ok(list::directly_in(entries, None).unwrap_or_default());
    }
    let found = list::folders_called(entries, folder);
    let path = match found.as_slice() {
        [only] => (*only).clone(),
        [] => EntryPath::new(folder.trim_matches('/')).map_err(|_| nothing(entries, folder))?,
        several => {
            let found = several.iter().map(|path| shown(path.as_bytes())).collect();
            return Err(Failure::SeveralInside { sought: shown(folder.as_bytes()), found });
        }
    };
    list::directly_in(entries, Some(&path)).ok_or_else(|| nothing(entries, folder))
}

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    archive: String,
    #[serde(serialize_with = "as_name")]
    format: &'static Format,
    secret: bool,
    files: u64,
    folders: u64,
    links: u64,
    bytes: u64,
    entries: Vec<Line>,
    unmatched_patterns: Vec<String>,
    not_extracted: Vec<NotExtracted>,
    notes: Vec<&'static str>,
    builds_upon: Option<BuildsUpon>,
}

#[derive(Serialize)]
struct Line {
    path: String,
    kind: &'static str,
    bytes: u64,
    kept: Option<f64>,
    modified: String,
    mode: String,
    blake3: Option<String>,
    target: Option<String>,
    /// Of a further name: the file that has its content.
    shares_with: Option<String>,
    in_holes: u64,
    changed_while_read: bool,
}

impl Report {
    fn new(archive: &Archive, places: &[usize], kept: &[Option<f64>], unmatched: &[String]) -> Self {
        let entries = archive.entries();
        let owners = owners(entries);
        let has_digests = archive.format.abilities.digests;
        let mut totals = Totals::default();
        places.iter().for_each(|place| totals.add(entries[*place].entry.kind, entries[*place].content.own_bytes()));
        Self {
            command: "list",
            exit_code: if unmatched.is_empty() && archive.refused().is_empty() { DONE } else { LOOK },
            archive: shown(&archive.name()),
            format: archive.format,
            secret: archive.is_secret(),
            files: totals.files,
            folders: totals.folders,
            links: totals.links,
            bytes: totals.content_bytes,
            entries: places
                .iter()
                .map(|place| Line::new(&entries[*place], kept[*place], has_digests, &owners))
                .collect(),
            not_extracted: not_extracted(archive),
            notes: notes(archive, &archive.facts()),
            builds_upon: archive.base().map(BuildsUpon::from),
            unmatched_patterns: unmatched.iter().map(|pattern| shown(pattern.as_bytes())).collect(),
        }
    }
}

/// Where files are that share their content with further names, by their ids.
fn owners(entries: &[ListedEntry]) -> HashMap<u64, &EntryPath> {
    let shared: HashSet<u64> = entries.iter().filter_map(|listed| listed.content.shared_with).collect();
    let owners = entries.iter().filter(|listed| shared.contains(&listed.entry.id));
    owners.map(|listed| (listed.entry.id, &listed.entry.path)).collect()
}

impl Line {
    fn new(listed: &ListedEntry, kept: Option<f64>, has_digest: bool, owners: &HashMap<u64, &EntryPath>) -> Self {
        let ListedEntry { entry, content } = listed;
        let is_file = entry.kind == EntryKind::File;
        Self {
            path: shown(entry.path.as_bytes()),
            kind: text::kind(entry.kind),
            bytes: content.size,
            kept: kept.filter(|_| is_file && content.size > 0),
            modified: text::time(entry.modified),
            mode: format!("{:04o}", entry.mode),
            blake3: (is_file && has_digest && !content.in_units).then(|| hexadecimal(&content.digest)),
            target: (entry.kind == EntryKind::Link).then(|| shown(&entry.link_target)),
            shares_with: content.shared_with.and_then(|owner| owners.get(&owner).map(|path| shown(path.as_bytes()))),
            in_holes: content.holes,
            changed_while_read: content.changed_while_read,
        }
    }

    fn shown_path(&self) -> String {
        let slash = if self.kind == "folder" { "/" } else { "" };
        let target = self.target.as_ref().map(|target| format!(" -> {target}")).unwrap_or_default();
        format!("{}{slash}{target}", self.path)
    }

    fn cells(&self, with_kept: bool) -> Vec<String> {
        let is_file = self.kind == "file";
        let kept = || self.kept.map_or("-".to_owned(), |kept| format!("{:.0} %", 100.0 * kept));
        let bytes = if is_file { size(self.bytes) } else { "-".to_owned() };
        [Some(bytes), with_kept.then(kept), Some(self.modified.clone())].into_iter().flatten().collect()
    }
}

fn table(report: &Report, long: bool) -> Vec<String> {
    let with_kept = report.entries.iter().any(|line| line.kept.is_some());
    let row = |line: &Line| {
        let tone = if line.kind == "folder" { Tone::Faint } else { Tone::Plain };
        let mut cells = vec![line.shown_path()];
        cells.extend(line.cells(with_kept));
        if long {
            let digest = line.blake3.as_ref().and_then(|digest| digest.get(..16)).unwrap_or("-");
            cells.extend([line.mode.clone(), digest.to_owned()]);
        }
        (tone, cells)
    };
    let mut columns = vec![Column::Path("path"), Column::Number("size")];
    columns.extend(with_kept.then_some(Column::AsideNumber("kept")));
    columns.push(Column::Aside("modified"));
    if long {
        columns.extend([Column::Aside("mode"), Column::Aside("blake3 begins")]);
    }
    table::lines(&columns, &report.entries.iter().map(row).collect::<Vec<_>>())
}

/// Folders as a tree: what stands at the end of its folder closes the line down from there.
fn tree(entries: &[Line]) -> Vec<String> {
    let depth = |line: &Line| line.path.matches('/').count();
    let mut lines = Vec::new();
    // From the end: whether something more comes at each depth, before the tree goes above it.
    let mut more: Vec<bool> = Vec::new();
    for line in entries.iter().rev() {
        let own = depth(line);
        more.resize(more.len().max(own + 1), false);
        let goes_on = |at: usize| more[at];
        let mut drawn: String = (1..own).map(|at| if goes_on(at) { "│  " } else { "   " }).collect();
        if own > 0 {
            drawn.push_str(if goes_on(own) { "├─ " } else { "└─ " });
        }
        let name = line.path.rsplit('/').next().unwrap_or(&line.path);
        let rest = match (&line.target, line.kind) {
            (Some(target), _) => format!(" -> {target}"),
            (None, "folder") => "/".to_owned(),
            _ => format!("  {}", paint(Tone::Faint, size(line.bytes))),
        };
        lines.push(format!("  {}{name}{rest}", paint(Tone::Faint, drawn)));
        more.truncate(own);
        more.push(true);
    }
    lines.reverse();
    lines
}

fn lines(body: Vec<String>, report: &Report) -> Vec<String> {
    let mut lines = body;
    let what = contents(report.files, report.folders, report.links);
    lines.extend([String::new(), format!("{what}, {}", size(report.bytes))]);
    if !report.unmatched_patterns.is_empty() {
        let patterns = report.unmatched_patterns.join(", ");
        lines.push(paint(Tone::Look, format!("These patterns matched nothing: {patterns}")));
    }
    lines.extend(not_extracted_lines(&report.not_extracted));
    lines.extend(report.notes.iter().map(|note| paint(Tone::Look, note)));
    lines.extend(report.builds_upon.iter().map(|upon| paint(Tone::Look, upon.sentence())));
    lines
}

/// What is said where entries cannot be sorted by what compressing left of each.
const NO_RATIOS: &str = "What each file takes is not known here, since files are compressed together; they stand in the order of their paths.";
