//! `compare`: what was added, removed or changed since an archive was packed, and which originals are proven to be in it.

use super::show;
use crate::archives::load_all;
use crate::args::{ChoiceArguments, CompareArguments};
use crate::commands::deliveries::Parcel;
use crate::credentials::Wanted;
use crate::failure::{DONE, Failure, LOOK};
use crate::settings::Settings;
use crate::ui::paint::{Tone, paint};
use crate::ui::progress::ProgressLine;
use crate::ui::section::first_listed;
use crate::ui::suggestion::{self, Part};
use crate::ui::text::{self, count, shown, size};
use crate::words::as_name;
use crate::{session, words};
use serde::Serialize;
use std::slice;
use under_seal_core::formats::abilities::Ability;
use under_seal_core::formats::archive::Archive;
use under_seal_core::formats::registry::Format;
use under_seal_core::ground::entry::{EntryKind, EntryPath, ListedEntry};
use under_seal_core::source::{Catalogue, expand};
use under_seal_core::tasks::check::verify_contents;
use under_seal_core::tasks::compare::{Compared, Comparison, Differences, compare};
use under_seal_core::tasks::pack::since::state_of;

/// So many paths of a kind are shown.
const LISTED: usize = 30;

/// Runs the command; the exit code.
pub fn run(arguments: &CompareArguments) -> Result<u8, Failure> {
    let choice = Settings::choice_alone(&arguments.choice, &arguments.configuration, arguments.work.threads)?;
    let place = slice::from_ref(&arguments.archive);
    let mut archive = load_all(place, &arguments.unlock, Wanted::Content, &arguments.work)?;
    // A proof needs every byte; a comparison only the index.
    if let Some(set) = archive.volumes().filter(|_| arguments.originals) {
        set.clone().complete()?;
    }
    let progress = ProgressLine::for_reading(Some(archive.file_count()), &arguments.work);
    let context = session::context(&progress, arguments.work.threads);
    let sources = expand(&arguments.sources)?;
    let mut disk = Catalogue::gather(&sources, &choice, &|_| false, &context)?;
    // Of an archive of changes the state counts that it leads to; originals are only proven by what it holds itself.
    let entries = match archive.base_name() {
        Some(_) if !arguments.originals => state_of(&*archive)?.0,
        _ => archive.entries_with_digests(&context)?,
    };
    let alone = archive.volumes().and_then(|_| archive.about()?.parcel.as_ref().map(Parcel::from));
    if alone.is_some() && !arguments.originals {
        // What another parcel may have says nothing of this one.
        disk = disk.only(&entries.iter().map(|listed| listed.entry.path.clone()).collect());
    }
    let times = archive.format.abilities.times;
    let found = compare(&entries, &disk, times, &context)?;
    // Formats without digests of their own were read to their ends for that already.
    if archive.format.abilities.digests && arguments.originals {
        verify_contents(&mut *archive, &context)?;
    }
    drop(progress);
    let mut report = Report::new(&archive, &disk, &found, arguments.originals.then_some(&*entries));
    report.next = match &alone {
        Some(parcel) => {
            let [what, line] = parcel.take_all("compare", &arguments.archive, &[], &arguments.sources);
            vec![String::new(), what, line]
        }
        None => next_step(&archive, &report, arguments),
    };
    report.parcel = alone;
    show(&report, &arguments.work, || lines(&report))?;
    Ok(report.exit_code)
}

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    archive: String,
    #[serde(serialize_with = "as_name")]
    format: &'static Format,
    set: Option<String>,
    packed: Option<String>,
    same: u64,
    added: Vec<String>,
    removed: Vec<String>,
    #[serde(rename = "differing")]
    changed: Vec<Changed>,
    unreadable: Vec<Unreadable>,
    originals: Option<Originals>,
    /// Which parcel it is, where it was compared alone.
    parcel: Option<Parcel>,
    #[serde(skip)]
    added_on_disk: Vec<String>,
    /// The commands that bring the archive up to date, where something is to be brought.
    #[serde(skip)]
    next: Vec<String>,
}

#[derive(Serialize)]
struct Changed {
    path: String,
    #[serde(skip)]
    on_disk: String,
    differs_in: Vec<&'static str>,
}

#[derive(Serialize)]
struct Unreadable {
    path: String,
    why: String,
}

/// Which files are proven to be inside, as they are called on disk. Only content counts.
#[derive(Serialize)]
struct Originals {
    proven: Vec<String>,
    not_proven: Vec<String>,
    proven_bytes: u64,
}

impl Report {
    fn new(archive: &Archive, disk: &Catalogue, found: &Comparison, originals: Option<&[ListedEntry]>) -> Self {
        let paths = |paths: &[EntryPath]| paths.iter().map(|path| shown(path.as_bytes())).collect();
        let here = |path: &EntryPath| shown(found.on_disk(path).as_bytes());
        let changed = found.both.iter().filter(|compared| compared.differences.any());
        let changed = changed.map(|compared| Changed::new(compared, here(&compared.path)));
        let unreadable = found
            .unreadable
            .iter()
            .map(|(path, error)| Unreadable { path: shown(path.as_bytes()), why: words::system(&error.source) });
        let passed_over = disk
            .passed_over
            .iter()
            .map(|over| Unreadable { path: text::path(&over.disk_path), why: words::passed_over(&over.reason) });
        let unreadable: Vec<Unreadable> = unreadable.chain(passed_over).collect();
        Self {
            command: "compare",
            exit_code: if found.is_same() && unreadable.is_empty() { DONE } else { LOOK },
            archive: shown(&archive.name()),
            format: archive.format,
            set: archive.volumes().map(|set| set.ids.set_text()),
            packed: archive.about().map(|about| text::time(about.made_at)),
            same: found.both.iter().filter(|compared| !compared.differences.any()).count() as u64,
            added: paths(&found.added),
            removed: paths(&found.removed),
            changed: changed.collect(),
            unreadable,
            originals: originals.map(|entries| Originals::new(entries, found, here)),
            added_on_disk: found.added.iter().map(here).collect(),
            parcel: None,
            next: Vec::new(),
        }
    }
}

impl Changed {
    fn new(compared: &Compared, on_disk: String) -> Self {
        let Differences { kind, content, time, mode } = compared.differences;
        let named = [(kind, "kind"), (content, "content"), (time, "time"), (mode, "mode")];
        let differs_in = named.into_iter().filter(|(differs, _)| *differs).map(|(_, name)| name).collect();
        Self { path: shown(compared.path.as_bytes()), on_disk, differs_in }
    }

    fn is_content(&self) -> bool {
        self.differs_in.iter().any(|what| matches!(*what, "kind" | "content"))
    }
}

impl Originals {
    fn new(entries: &[ListedEntry], found: &Comparison, here: impl Fn(&EntryPath) -> String) -> Self {
        let is_file = |compared: &&Compared| compared.kind == EntryKind::File;
        let (proven, other): (Vec<&Compared>, Vec<&Compared>) = found
            .both
            .iter()
            .filter(is_file)
            .partition(|compared| !compared.differences.kind && !compared.differences.content);
        let size = |compared: &&Compared| {
            let place = entries.binary_search_by(|listed| listed.entry.path.cmp(&compared.path));
            place.map_or(0, |place| entries[place].content.size)
        };
        let mut not_proven: Vec<String> = other.iter().map(|compared| here(&compared.path)).collect();
        not_proven.extend(found.added.iter().map(&here));
        not_proven.extend(found.unreadable.iter().map(|(path, _)| here(path)));
        not_proven.sort();
        Self {
            proven_bytes: proven.iter().map(size).sum(),
            proven: proven.iter().map(|compared| here(&compared.path)).collect(),
            not_proven,
        }
    }
}

fn lines(report: &Report) -> Vec<String> {
    let packed = report.packed.as_ref().map(|packed| format!(", {packed}")).unwrap_or_default();
    let heading = match (&report.originals, report.exit_code) {
        (Some(originals), _) => may_be_deleted(report, originals),
        (None, DONE) => paint(Tone::Good, format!("Nothing has changed since {} was packed{packed}.", report.archive)),
        (None, _) => paint(Tone::Look, format!("Something has changed since {} was packed{packed}.", report.archive)),
    };
    let mut lines = vec![heading];
    let mut part =
        |tone: Tone, heading: &str, items: Vec<String>| lines.extend(first_listed(tone, heading, &items, LISTED));
    part(Tone::Look, "Added since:", report.added_on_disk.clone());
    part(Tone::Look, "Removed since:", report.removed.clone());
    let changed = |changed: &Changed| format!("{}: {}", changed.on_disk, changed.differs_in.join(", "));
    let (content, other): (Vec<&Changed>, Vec<&Changed>) =
        report.changed.iter().partition(|changed| changed.is_content());
    let (contents_changed, only_around) = (content.len(), other.len());
    part(Tone::Look, "Changed since:", content.into_iter().map(changed).collect());
    part(Tone::Faint, "Same content, other time or mode:", other.into_iter().map(changed).collect());
    let unreadable = |unreadable: &Unreadable| format!("{}: {}", unreadable.path, unreadable.why);
    part(
        Tone::Bad,
        "These cannot be read here, so they were not compared:",
        report.unreadable.iter().map(unreadable).collect(),
    );
    if let Some(originals) = &report.originals {
        part(Tone::Good, "Proven to be inside, with the content that they have here:", originals.proven.clone());
        part(Tone::Bad, "Not proven to be inside as they are here:", originals.not_proven.clone());
    }
    let mut counts = format!(
        "{} the same, {} added, {} removed, {contents_changed} changed",
        report.same,
        report.added.len(),
        report.removed.len()
    );
    if only_around > 0 {
        counts.push_str(&format!(", {only_around} only in time or mode"));
    }
    lines.extend([String::new(), counts]);
    lines.extend(report.next.clone());
    if let Some(originals) = &report.originals {
        let files = count(originals.proven.len() as u64, "original");
        let verb = if originals.proven.len() == 1 { "is" } else { "are" };
        lines.push(format!(
            "{files} of {} {verb} proven to be inside ({}); every byte of the archive was verified. Nothing was deleted.",
            originals.proven.len() + originals.not_proven.len(),
            size(originals.proven_bytes)
        ));
    }
    lines
}

/// The command that brings the archive up to date, or makes another of what has changed, as it can be typed.
fn next_step(archive: &Archive, report: &Report, arguments: &CompareArguments) -> Vec<String> {
    let has_changed =
        !report.added.is_empty() || !report.removed.is_empty() || report.changed.iter().any(Changed::is_content);
    // A delivery in parcels is packed anew as a whole.
    let is_delivery = archive.format.abilities.volumes && archive.volumes().is_none();
    if !has_changed || arguments.originals || archive.format.writing.is_none() || is_delivery {
        return Vec::new();
    }
    let ChoiceArguments {
        leave_out,
        leave_out_from,
        no_litter,
        only,
        follow,
        one_system,
        attributes,
        contents,
        keep_paths,
    } = &arguments.choice;
    let sources = || arguments.sources.iter().map(|source| Part::Named(source.as_os_str()));
    let mut choice = Vec::new();
    for (name, values) in [("--leave-out", leave_out), ("--only", only)] {
        choice.extend(values.iter().flat_map(|value| [Part::Word(name), Part::Named(value.as_ref())]));
    }
    choice
        .extend(leave_out_from.iter().flat_map(|file| [Part::Word("--leave-out-from"), Part::Named(file.as_os_str())]));
    let flags = [
        (no_litter, "--no-litter"),
        (follow, "--follow"),
        (one_system, "--one-system"),
        (attributes, "--attributes"),
        (contents, "--contents"),
        (keep_paths, "--keep-paths"),
    ];
    choice.extend(flags.into_iter().filter(|(is, _)| **is).map(|(_, flag)| Part::Word(flag)));
    let archive_named = Part::Named(arguments.archive.as_os_str());
    let refresh: Vec<Part<'_>> = [Part::Word("revise"), archive_named, Part::Word("--refresh")]
        .into_iter()
        .chain(sources())
        .chain(choice.clone())
        .collect();
    let since: Vec<Part<'_>> = std::iter::once(Part::Word("pack"))
        .chain(sources())
        .chain([Part::Word("--since"), archive_named])
        .chain(choice)
        .collect();
    let changes_alone = archive.format.can(Ability::Changes);
    let mut lines = vec![String::new()];
    if archive.base_name().is_none() {
        lines.extend(["Next: bring the archive up to date with".to_owned(), suggestion::command(&refresh)]);
        if changes_alone {
            lines.extend([
                "or pack only what has changed, for whoever has it already, with".to_owned(),
                suggestion::command(&since),
            ]);
        }
    } else {
        lines.extend(["Next: pack what has changed since with".to_owned(), suggestion::command(&since)]);
    }
    lines
}

/// Whether the originals may be deleted, in one sentence.
fn may_be_deleted(report: &Report, originals: &Originals) -> String {
    let (proven, others) = (originals.proven.len(), originals.not_proven.len());
    let inside = format!("proven to be in {}", report.archive);
    match (proven, others + report.unreadable.len()) {
        (0, _) => paint(Tone::Bad, format!("Delete none of the originals: not one file of them is {inside}.")),
        (_, 0) => paint(
            Tone::Good,
            format!(
                "The originals may be deleted, as long as the archive is kept and can be opened: every file of them is {inside}."
            ),
        ),
        (_, some) => {
            let are = if some == 1 { "is" } else { "are" };
            paint(
                Tone::Bad,
                format!("Do not delete all of the originals: {some} of {} {are} not {inside}.", proven + some),
            )
        }
    }
}
