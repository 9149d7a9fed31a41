//! `list`: what is in an archive.

use super::since::BuildsUpon;
use super::{Printing, print_each, print_json};
use crate::archives::{NotExtracted, load_all, not_extracted, not_extracted_lines};
use crate::args::{ListArguments, OutputArguments, SortName};
use crate::credentials::Wanted;
use crate::failure::{BadValue, DONE, Failure, LOOK};
use crate::places::{searched, tell_apart};
use crate::system::terminal::is_reader_gone;
use crate::system::unless_reader_gone;
use crate::ui::paint::{Tone, paint};
use crate::ui::table::{Column, Widest};
use crate::ui::text::{self, contents, hexadecimal, shown, size};
use crate::words::{as_name, notes};
use serde::ser::{Error as _, SerializeSeq as _};
use serde::{Serialize, Serializer};
use std::cell::RefCell;
use std::collections::{HashMap, HashSet};
use std::io::{self, BufWriter, IsTerminal as _, Write as _};
use std::rc::Rc;
use under_seal_core::formats::archive::Archive;
use under_seal_core::formats::listing::{Listing, Placed};
use under_seal_core::formats::registry::Format;
use under_seal_core::ground::entry::{EntryKind, EntryPath, ListedEntry, Totals};
use under_seal_core::source::Patterns;
use under_seal_core::tasks::list::{self, Chosen, SortBy};

/// Runs the command; the exit code.
pub fn run(arguments: &ListArguments) -> Result<u8, Failure> {
    let typed = tell_apart(&arguments.typed, &arguments.work);
    let patterns = Patterns::new(&typed.inside).map_err(|error| Failure::Value(BadValue::Pattern(error)))?;
    let archive =
        load_all(&searched(&typed.places, arguments.search), &arguments.unlock, Wanted::List, &arguments.work)?;
    let listing = archive.listing();
    let (mut chosen, unmatched) = list::matching(listing, &patterns)?;
    if let Some(fragment) = &arguments.find {
        let found = list::holding(listing, fragment)?;
        if found.is_empty() {
            return Err(not_found(listing, fragment, true));
        }
        chosen.keep(&found);
    }
    if let Some(folder) = &arguments.here {
        chosen.keep(&level(listing, folder)?);
    }
    if let (Some(pattern), true) = (unmatched.first(), chosen.is_empty()) {
        return Err(nothing(listing, pattern));
    }
    let output = &arguments.work.output;
    let entries = Entries::of(&archive, &chosen, sort_by(arguments.sort))?;
    let mut report = Report::new(&archive, entries, &unmatched);
    if arguments.sort == Some(SortName::Ratio) && !report.entries.knows_shares {
        report.notes.push(NO_RATIOS);
    }
    if arguments.null || output.quiet && !output.json {
        report.entries.print_paths(if arguments.null { 0 } else { b'\n' })?;
        return Ok(report.exit_code);
    }
    match Printing::from(&arguments.work) {
        Printing::Lines if arguments.tree => {
            let all = list::with_folders_above(listing, &chosen)?;
            print_each(tree(&report.entries.among(&all))?.chain(report.end().into_iter().map(Ok)))?;
        }
        _ => report.show(&arguments.work, arguments.long)?,
    }
    Ok(report.exit_code)
}

/// What is directly in a folder, for a command that was given the folder's path; the exit code.
pub(super) fn show_folder(archive: &Archive, folder: &str, output: &OutputArguments) -> Result<u8, Failure> {
    let chosen = level(archive.listing(), folder)?;
    let entries = Entries::of(archive, &chosen, SortBy::Name)?;
    let report = Report { command: "peek", ..Report::new(archive, entries, &[]) };
    report.show(output, false)?;
    Ok(report.exit_code)
}

fn sort_by(name: Option<SortName>) -> SortBy {
    match name {
        None | Some(SortName::Name) => SortBy::Name,
        Some(SortName::Size) => SortBy::Size,
        Some(SortName::Date) => SortBy::Date,
        Some(SortName::Ratio) => SortBy::Ratio,
    }
}

/// What is said where nothing is called so: names that look like it.
pub(super) fn nothing(listing: Listing<'_>, sought: &str) -> Failure {
    not_found(listing, sought, false)
}

/// The same, also of a search for a part of a name, which may find nothing.
fn not_found(listing: Listing<'_>, sought: &str, was_search: bool) -> Failure {
    match list::alike(listing, sought) {
        Ok(alike) => {
            let alike = alike.iter().map(|path| shown(path.as_bytes())).collect();
            Failure::NothingInside { was_search, sought: shown(sought.as_bytes()), alike }
        }
        Err(error) => error.into(),
    }
}

/// What lies directly in a folder that was typed, by its path or the end of it.
fn level(listing: Listing<'_>, folder: &str) -> Result<Chosen, Failure> {
    let path = match list::folders_called(listing, folder)?.as_slice() {
        _ if folder.trim_matches('/').is_empty() => None,
        [only] => Some(only.clone()),
        [] => Some(EntryPath::new(folder.trim_matches('/')).map_err(|_| nothing(listing, folder))?),
        several => {
            let found = several.iter().map(|path| shown(path.as_bytes())).collect();
            return Err(Failure::SeveralInside { sought: shown(folder.as_bytes()), found });
        }
    };
    list::directly_in(listing, path.as_ref())?.ok_or_else(|| nothing(listing, folder))
}

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report<'a> {
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
    entries: Entries<'a>,
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

impl<'a> Report<'a> {
    fn new(archive: &Archive, entries: Entries<'a>, unmatched: &[String]) -> Self {
        let Totals { files, folders, links, content_bytes } = entries.totals;
        Self {
            command: "list",
            exit_code: if unmatched.is_empty() && archive.refused().is_empty() { DONE } else { LOOK },
            archive: shown(&archive.name()),
            format: archive.format,
            secret: archive.is_secret(),
            files,
            folders,
            links,
            bytes: content_bytes,
            entries,
            not_extracted: not_extracted(archive),
            notes: notes(archive, &archive.facts()),
            builds_upon: archive.base_name().map(BuildsUpon::from),
            unmatched_patterns: unmatched.iter().map(|pattern| shown(pattern.as_bytes())).collect(),
        }
    }

    fn show(&self, printing: impl Into<Printing>, long: bool) -> Result<(), Failure> {
        match printing.into() {
            Printing::Lines => print_each(table(&self.entries, long)?.chain(self.end().into_iter().map(Ok))),
            Printing::Json => self.entries.unless_failed(print_json(self)),
            Printing::Nothing => Ok(()),
        }
    }

    /// The lines below the entries.
    fn end(&self) -> Vec<String> {
        let what = contents(self.files, self.folders, self.links);
        let mut lines = vec![String::new(), format!("{what}, {}", size(self.bytes))];
        if !self.unmatched_patterns.is_empty() {
            let patterns = self.unmatched_patterns.join(", ");
            lines.push(paint(Tone::Look, format!("These patterns matched nothing: {patterns}")));
        }
        lines.extend(not_extracted_lines(&self.not_extracted));
        lines.extend(self.notes.iter().map(|note| paint(Tone::Look, note)));
        lines.extend(self.builds_upon.iter().map(|upon| paint(Tone::Look, upon.sentence())));
        lines
    }
}

/// The entries that are shown, each read when its turn comes: all of them may be more than there is memory for.
struct Entries<'a> {
    archive: &'a Archive,
    chosen: &'a Chosen,
    by: SortBy,
    totals: Totals,
    /// Whether the format tells of any of them which share squeezing left.
    knows_shares: bool,
    /// The same of any with content.
    has_shares: bool,
    /// The places of files that share their content with further names, by their ids.
    owners: Rc<HashMap<u64, usize>>,
    /// Why they cannot be read on, where that was found while they were written as JSON.
    failed: RefCell<Option<Failure>>,
}

impl<'a> Entries<'a> {
    fn of(archive: &'a Archive, chosen: &'a Chosen, by: SortBy) -> Result<Self, Failure> {
        let listing = archive.listing();
        let (mut totals, mut shared) = (Totals::default(), HashSet::new());
        let (mut knows_shares, mut has_shares) = (false, false);
        for place in chosen.places() {
            let ListedEntry { entry, content } = &*listing.at(place)?;
            totals.add(entry.kind, content.own_bytes());
            let knows = archive.kept_share(place)?.is_some();
            knows_shares |= knows;
            has_shares |= knows && content.size > 0;
            shared.extend(content.shared_with);
        }
        let mut owners = HashMap::with_capacity(shared.len());
        for (place, listed) in listing.iter().enumerate().take_while(|_| !shared.is_empty()) {
            let id = listed?.entry.id;
            if shared.contains(&id) {
                owners.insert(id, place);
            }
        }
        let failed = RefCell::default();
        Ok(Self { archive, chosen, by, totals, knows_shares, has_shares, owners: Rc::new(owners), failed })
    }

    /// Others of the same archive, as they stand in it.
    fn among<'b>(&'b self, chosen: &'b Chosen) -> Entries<'b> {
        let (owners, failed) = (Rc::clone(&self.owners), RefCell::default());
        Entries { chosen, by: SortBy::Name, owners, failed, ..*self }
    }

    fn in_order(&self) -> impl Iterator<Item = Placed<'_>> {
        let kept = |place| self.archive.kept_share(place);
        list::in_order(self.archive.listing(), self.chosen, kept, self.by)
    }

    fn lines(&self) -> impl Iterator<Item = Result<Line, Failure>> {
        self.in_order().map(|item| {
            let (place, listed) = item?;
            self.line(place, &listed)
        })
    }

    fn line(&self, place: usize, ListedEntry { entry, content }: &ListedEntry) -> Result<Line, Failure> {
        let is_file = entry.kind == EntryKind::File;
        let has_digest = is_file && self.archive.format.abilities.digests && !content.in_units;
        let owner = content.shared_with.and_then(|owner| self.owners.get(&owner));
        let owner = owner.map(|place| self.archive.listing().at(*place)).transpose()?;
        Ok(Line {
            path: shown(entry.path.as_bytes()),
            kind: text::kind(entry.kind),
            bytes: content.size,
            kept: self.archive.kept_share(place)?.filter(|_| is_file && content.size > 0),
            modified: text::time(entry.modified),
            mode: format!("{:04o}", entry.mode),
            blake3: has_digest.then(|| hexadecimal(&content.digest)),
            target: (entry.kind == EntryKind::Link).then(|| shown(&entry.link_target)),
            shares_with: owner.map(|owner| shown(owner.entry.path.as_bytes())),
            in_holes: content.holes,
            changed_while_read: content.changed_while_read,
        })
    }

    /// What was found while they were written, or else how that ended.
    fn unless_failed(&self, printed: Result<(), Failure>) -> Result<(), Failure> {
        self.failed.take().map_or(printed, Err)
    }

    /// Paths alone, as they are in the archive, each with this byte behind it.
    fn print_paths(&self, end: u8) -> Result<(), Failure> {
        let mut output = BufWriter::new(io::stdout().lock());
        // A terminal is spared what could write anything else on it.
        let escapes = io::stdout().is_terminal();
        let mut print = |path: &[u8]| {
            match escapes {
                true => output.write_all(shown(path).as_bytes())?,
                false => output.write_all(path)?,
            }
            output.write_all(&[end])
        };
        for item in self.in_order() {
            match print(item?.1.entry.path.as_bytes()) {
                Err(error) if is_reader_gone(&error) => return Ok(()),
                printed => printed.map_err(Failure::Output)?,
            }
        }
        unless_reader_gone(output.flush()).map_err(Failure::Output)
    }
}

impl Serialize for Entries<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut sequence = serializer.serialize_seq(None)?;
        for line in self.lines() {
            let line = line.map_err(|failure| {
                self.failed.replace(Some(failure));
                S::Error::custom("an entry cannot be read again")
            })?;
            sequence.serialize_element(&line)?;
        }
        sequence.end()
    }
}

impl Line {
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

fn table<'a>(
    entries: &'a Entries<'a>,
    long: bool,
) -> Result<impl Iterator<Item = Result<String, Failure>> + 'a, Failure> {
    let row = move |line: &Line| {
        let tone = if line.kind == "folder" { Tone::Faint } else { Tone::Plain };
        let mut cells = vec![line.shown_path()];
        cells.extend(line.cells(entries.has_shares));
        if long {
            let digest = line.blake3.as_ref().and_then(|digest| digest.get(..16)).unwrap_or("-");
            cells.extend([line.mode.clone(), digest.to_owned()]);
        }
        (tone, cells)
    };
    let mut columns = vec![Column::Path("path"), Column::Number("size")];
    columns.extend(entries.has_shares.then_some(Column::AsideNumber("kept")));
    columns.push(Column::Aside("modified"));
    if long {
        columns.extend([Column::Aside("mode"), Column::Aside("blake3 begins")]);
    }
    let mut widest = Widest::new(&columns);
    for line in entries.lines() {
        widest.see(&row(&line?));
    }
    let fitted = widest.fit();
    let heading = fitted.heading().into_iter().map(Ok);
    let rows = entries.lines().map(move |line| Ok(fitted.row(&row(&line?)).join("\n")));
    Ok(heading.chain(rows))
}

/// Folders as a tree: what stands at the end of its folder closes the line down from there.
fn tree<'a>(entries: &'a Entries<'a>) -> Result<impl Iterator<Item = Result<String, Failure>> + 'a, Failure> {
    let depth = |path: &[u8]| path.iter().filter(|byte| **byte == b'/').count();
    let listing = entries.archive.listing();
    // From the end: whether something more comes at each depth, before the tree goes above it.
    let (mut more, mut goes_on) = (Vec::new(), vec![false; listing.len()]);
    for place in entries.chosen.places().rev() {
        let own = depth(listing.at(place)?.entry.path.as_bytes());
        more.resize(more.len().max(own + 1), false);
        goes_on[place] = more[own];
        more.truncate(own);
        more.push(true);
    }
    // Of the folders that a line is in, whether something more comes behind each.
    let mut above: Vec<bool> = Vec::new();
    Ok(entries.in_order().map(move |item| {
        let (place, listed) = item?;
        let (line, own) = (entries.line(place, &listed)?, depth(listed.entry.path.as_bytes()));
        above.resize(own, false);
        let mut drawn: String = above.iter().skip(1).map(|more| if *more { "│  " } else { "   " }).collect();
        if own > 0 {
            drawn.push_str(if goes_on[place] { "├─ " } else { "└─ " });
        }
        above.push(goes_on[place]);
        let name = line.path.rsplit('/').next().unwrap_or(&line.path);
        let rest = match (&line.target, line.kind) {
            (Some(target), _) => format!(" -> {target}"),
            (None, "folder") => "/".to_owned(),
            _ => format!("  {}", paint(Tone::Faint, size(line.bytes))),
        };
        Ok(format!("  {}{name}{rest}", paint(Tone::Faint, drawn)))
    }))
}

/// What is said where entries cannot be sorted by what compressing left of each.
const NO_RATIOS: &str = "What each file takes is not known here, since files are compressed together; they stand in the order of their paths.";
