//! `open`: unlock and extract, everything or what is wanted.

use super::list::nothing;
use super::show;
use crate::args::{FolderName, OnClashName, OpenArguments};
use crate::credentials::{self, NOT_SECRET, Unlocked};
use crate::failure::{DAMAGED, DONE, Failure, LOOK, MISSING, UNSAFE};
use crate::places::{Typed, tell_apart};
use crate::session;
use crate::settings::BadValue;
use crate::ui::paint::{Tone, paint};
use crate::ui::progress::ProgressLine;
use crate::ui::prompt;
use crate::ui::table;
use crate::ui::text::{self, bytes, contents, count, shown, shown_lines};
use serde::Serialize;
use std::borrow::Cow;
use std::collections::{BTreeSet, HashSet};
use std::ffi::OsStr;
use std::fs;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Component, Path, PathBuf};
use under_seal_core::Error;
use under_seal_core::entry::{EntryPath, ListedEntry};
use under_seal_core::landing::{Destination, Foreseen, Landed, LandingError, OnClash, RefusedLink, survey};
use under_seal_core::listing;
use under_seal_core::opening::{OpenError, open, open_salvaged, open_some};
use under_seal_core::sealed::{Lost, Salvage, SealedReader, Totals};
use under_seal_core::source::Patterns;
use under_seal_core::volume::VolumeSet;

/// Of what is lost so many paths are shown.
const LOST_LISTED: usize = 20;

/// Runs the command; the exit code.
pub fn run(arguments: &OpenArguments) -> Result<u8, Failure> {
    let typed = tell_apart(&arguments.typed);
    let set = typed.set()?;
    let report = match (arguments.salvage, typed.inside.is_empty()) {
        (true, true) => salvage(arguments, set)?,
        (true, false) => return Err(Failure::Value(BadValue::SalvageOfSome)),
        // Whoever wants a part needs only its volumes.
        (false, false) => extract(arguments, &typed, set)?,
        (false, true) => extract(arguments, &typed, set.complete()?)?,
    };
    show(&report, &arguments.work, || lines(&report))?;
    Ok(report.exit_code)
}

fn extract(arguments: &OpenArguments, typed: &Typed, set: VolumeSet) -> Result<Report, Failure> {
    let patterns = Patterns::new(&typed.inside).map_err(|error| Failure::Value(BadValue::Pattern(error)))?;
    let unlocked = credentials::to_unlock(&set, &arguments.unlock)?;
    let progress = ProgressLine::for_reading(Some(set.geometry.data_volumes), &arguments.work);
    let context = session::context(&progress, arguments.work.threads);
    let mut archive = SealedReader::with_key(set, &unlocked.key)?;
    let (wanted, unmatched) = listing::matching(archive.entries(), &patterns);
    if let (Some(pattern), []) = (unmatched.first(), wanted.as_slice()) {
        return Err(nothing(archive.entries(), pattern));
    }
    let into = destination(arguments, &archive, &wanted);
    let mut report = Report::new(&archive, &unlocked, &into);
    report.dry_run = arguments.dry_run;
    report.part = !patterns.is_empty();
    report.changed_while_read = changed(wanted.iter().map(|place| &archive.entries()[*place]));
    report.unmatched_patterns = unmatched.iter().map(|pattern| shown(pattern.as_bytes())).collect();
    // Of a whole archive, which may be large, nothing is copied.
    let entries: Cow<'_, [ListedEntry]> = match patterns.is_empty() {
        true => Cow::Borrowed(archive.entries()),
        false => wanted.iter().map(|place| archive.entries()[*place].clone()).collect(),
    };
    let on_clash = on_clash(arguments, &into, &entries)?;
    if arguments.dry_run {
        report.would_land(&entries, &refused(survey(&into, &entries, on_clash))?);
    } else {
        let into = Destination { on_clash, ..Destination::from(&into) };
        let opened = match patterns.is_empty() {
            true => open(&mut archive, into, &context)?,
            false => open_some(&mut archive, &wanted, into, &context)?,
        };
        report.has_landed(&opened.landed);
    }
    drop(progress);
    report.exit_code = match () {
        () if !report.links_not_made.is_empty() => UNSAFE,
        () if !report.unmatched_patterns.is_empty() => LOOK,
        () => DONE,
    };
    Ok(report)
}

/// Where it goes: right into the destination, or into a folder there that is named after the archive.
fn destination(arguments: &OpenArguments, archive: &SealedReader, wanted: &[usize]) -> PathBuf {
    let name = OsStr::from_bytes(&archive.about().name);
    // Whoever made the archive chose its name; it must lead nowhere else.
    let is_plain = Path::new(name).components().eq([Component::Normal(name)]);
    let tops: HashSet<&[u8]> =
        wanted.iter().filter_map(|place| archive.entries()[*place].entry.path.components().next()).collect();
    let is_used = || fs::read_dir(&arguments.into).is_ok_and(|mut entries| entries.next().is_some());
    let own = match arguments.folder {
        FolderName::Always => true,
        FolderName::Never => false,
        FolderName::Auto => tops.len() > 1 && is_used(),
    };
    if own && is_plain { arguments.into.join(name) } else { arguments.into.clone() }
}

fn refused<T>(outcome: Result<T, LandingError>) -> Result<T, Failure> {
    outcome.map_err(|error| Error::Open(OpenError::Refused(error)).into())
}

/// What becomes of files that meet others; asked where that was not said, and somebody can be asked.
fn on_clash(arguments: &OpenArguments, into: &Path, entries: &[ListedEntry]) -> Result<OnClash, Failure> {
    const CHOICES: [(&str, OnClash); 4] =
        [("keep", OnClash::Keep), ("replace", OnClash::Replace), ("newer", OnClash::Newer), ("both", OnClash::Both)];
    match arguments.on_clash {
        None if !prompt::can_ask() => return Ok(OnClash::Refuse),
        None | Some(OnClashName::Ask) => {}
        Some(OnClashName::Refuse) => return Ok(OnClash::Refuse),
        Some(OnClashName::Keep) => return Ok(OnClash::Keep),
        Some(OnClashName::Replace) => return Ok(OnClash::Replace),
        Some(OnClashName::Newer) => return Ok(OnClash::Newer),
        Some(OnClashName::Both) => return Ok(OnClash::Both),
    }
    let paths = match survey(into, entries, OnClash::Refuse) {
        Ok(_) => return Ok(OnClash::Refuse),
        Err(LandingError::Clashes(paths)) => paths,
        Err(error) => return refused(Err(error)),
    };
    let paths: Vec<String> = paths.iter().map(|path| text::path(path)).collect();
    let question = format!("There already: {}.\nWhat shall become of what is there?", text::first_few(&paths));
    let mut words = CHOICES.map(|(word, _)| word).to_vec();
    words.push("stop");
    match CHOICES.get(prompt::choose(&question, &words)?) {
        Some((_, choice)) => Ok(*choice),
        None => Err(Failure::GivenUp),
    }
}

fn salvage(arguments: &OpenArguments, set: VolumeSet) -> Result<Report, Failure> {
    let unlocked = credentials::to_unlock(&set, &arguments.unlock)?;
    let (volumes, missing, id) = (set.geometry.data_volumes, set.missing(), set.ids.set_text());
    let progress = ProgressLine::for_reading(Some(volumes), &arguments.work);
    let context = session::context(&progress, arguments.work.threads);
    let mut archive = Salvage::survey(set, &unlocked.key, &context)?;
    let on_clash = on_clash(arguments, &arguments.into, archive.entries())?;
    let into = Destination { on_clash, ..Destination::from(&arguments.into) };
    let opened = open_salvaged(&mut archive, into, &context)?;
    drop(progress);
    let lost = archive.lost();
    let mut report = Report {
        command: "open",
        set: id,
        volumes,
        missing,
        secret: unlocked.secret,
        destination: absolute(&arguments.into),
        changed_while_read: changed(archive.entries().iter()),
        salvaged: true,
        lost: lost.map(|lost| lost.iter().map(NotWhole::from).collect()),
        ..Report::default()
    };
    report.has_landed(&opened.landed);
    report.exit_code = match () {
        () if !report.links_not_made.is_empty() => UNSAFE,
        () if report.lost.as_ref().is_some_and(Vec::is_empty) => DONE,
        () if !report.missing.is_empty() => MISSING,
        () => DAMAGED,
    };
    Ok(report)
}

/// The absolute path, without a slash at its end.
fn absolute(path: &Path) -> String {
    let absolute = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    text::path(&absolute.components().collect::<PathBuf>())
}

fn changed<'a>(entries: impl Iterator<Item = &'a ListedEntry>) -> Vec<String> {
    let changed = entries.filter(|listed| listed.content.changed_while_read);
    changed.map(|listed| shown(listed.entry.path.as_bytes())).collect()
}

/// The JSON object (docs/json.md).
#[derive(Serialize, Default)]
struct Report {
    command: &'static str,
    exit_code: u8,
    archive: String,
    set: String,
    volumes: u32,
    missing: Vec<u32>,
    secret: bool,
    message: String,
    part: bool,
    dry_run: bool,
    salvaged: bool,
    files: u64,
    folders: u64,
    links: u64,
    bytes: u64,
    kept_files: u64,
    replaced_files: u64,
    beside: Vec<Beside>,
    destination: String,
    changed_while_read: Vec<String>,
    links_not_made: Vec<LinkNotMade>,
    lost: Option<Vec<NotWhole>>,
    unmatched_patterns: Vec<String>,
}

#[derive(Serialize)]
struct Beside {
    path: String,
    instead_of: String,
}

/// What could not be salvaged.
#[derive(Serialize)]
struct NotWhole {
    path: String,
    needs_volumes: Vec<u32>,
}

impl From<&Lost> for NotWhole {
    fn from(lost: &Lost) -> Self {
        Self { path: shown(lost.path.as_bytes()), needs_volumes: lost.volumes.clone() }
    }
}

#[derive(Serialize)]
struct LinkNotMade {
    path: String,
    target: String,
}

impl Report {
    fn new(archive: &SealedReader, unlocked: &Unlocked, into: &Path) -> Self {
        Self {
            command: "open",
            archive: shown(&archive.about().name),
            set: archive.set().ids.set_text(),
            volumes: archive.set().geometry.data_volumes,
            missing: archive.set().missing(),
            secret: unlocked.secret,
            message: archive.about().message.clone(),
            destination: absolute(into),
            ..Self::default()
        }
    }

    fn would_land(&mut self, entries: &[ListedEntry], foreseen: &Foreseen) {
        let mut totals = Totals::default();
        entries.iter().for_each(|listed| totals.add(listed.entry.kind, listed.content.size));
        (self.files, self.folders, self.links, self.bytes) =
            (totals.files, totals.folders, totals.links, totals.content_bytes);
        let (kept, replaced, _) = foreseen.counts();
        (self.kept_files, self.replaced_files) = (kept, replaced);
        self.files = self.files.saturating_sub(kept);
    }

    fn has_landed(&mut self, landed: &Landed) {
        let link = |link: &RefusedLink| LinkNotMade { path: shown(link.path.as_bytes()), target: shown(&link.target) };
        (self.files, self.folders, self.links, self.bytes) = (landed.files, landed.folders, landed.links, landed.bytes);
        (self.kept_files, self.replaced_files) = (landed.kept, landed.replaced);
        let beside = |(path, instead): &(EntryPath, EntryPath)| Beside {
            path: shown(path.as_bytes()),
            instead_of: shown(instead.as_bytes()),
        };
        self.beside = landed.beside.iter().map(beside).collect();
        self.links_not_made = landed.refused_links.iter().map(link).collect();
    }

    fn heading(&self) -> String {
        match (self.dry_run, self.salvaged, self.lost.as_deref()) {
            (true, ..) => format!("{} can be opened here; nothing was extracted.", self.archive),
            (_, true, Some([])) => "Nothing is lost: every file is here, complete and verified.".to_owned(),
            (_, true, Some(lost)) => {
                format!("What is whole was taken out; {} could not be.", count(lost.len() as u64, "thing"))
            }
            (_, true, None) => "What is whole was taken out; the list of contents is lost, so more may be.".to_owned(),
            _ if self.part => format!("What was wanted of {} is open: every file complete and verified.", self.archive),
            _ => format!("{} is open: every file complete and verified.", self.archive),
        }
    }
}

fn lines(report: &Report) -> Vec<String> {
    let tone = if report.exit_code == DONE { Tone::Good } else { Tone::Look };
    let mut lines = vec![paint(tone, report.heading()), String::new()];
    let (would, verified) = match report.dry_run {
        true => ("would extract", Vec::new()),
        false => ("extracted", vec!["every file's digest compared before it got its name".to_owned()]),
    };
    lines.extend(table::summary(&[
        ("from", vec![from(report)]),
        (would, vec![format!("{} in {}", bytes(report.bytes), contents(report.files, report.folders, report.links))]),
        ("clashes", clashes(report)),
        ("verified", verified),
        ("where", vec![report.destination.clone()]),
    ]));
    let mut note = |tone: Tone, heading: &str, items: Vec<String>| {
        if !items.is_empty() {
            lines.extend([String::new(), paint(tone, heading)]);
            lines.extend(items.iter().map(|item| format!("  {item}")));
        }
    };
    let beside = |beside: &Beside| format!("{} instead of {}", beside.path, beside.instead_of);
    note(Tone::Look, "Beside what was there:", report.beside.iter().map(beside).collect());
    note(Tone::Strong, "The sender says:", shown_lines(&report.message));
    let changed = "These changed while they were packed; ask the sender whether they are good:";
    note(Tone::Look, changed, report.changed_while_read.clone());
    let link = |link: &LinkNotMade| format!("{} -> {}", link.path, link.target);
    let links = report.links_not_made.iter().map(link).collect();
    note(Tone::Bad, "Not made, because they could lead outside this folder:", links);
    note(Tone::Look, "These patterns matched nothing:", report.unmatched_patterns.clone());
    note(Tone::Bad, "Not whole in what is here:", lost(report));
    if !report.secret {
        lines.extend([String::new(), paint(Tone::Look, NOT_SECRET)]);
    }
    let needed = needed(report);
    if !needed.is_empty() {
        lines.extend([String::new(), format!("Next: ask the sender for {} again.", volumes(&needed))]);
    }
    lines
}

/// What became of files that met others, by kind.
fn clashes(report: &Report) -> Vec<String> {
    let kinds = [
        (report.kept_files, "kept as it was", "kept as they were"),
        (report.replaced_files, "replaced", "replaced"),
        (report.beside.len() as u64, "beside another", "beside others"),
    ];
    let some = kinds.iter().filter(|(files, ..)| *files > 0);
    let told: Vec<String> = some.map(|(n, one, many)| format!("{n} {}", if *n == 1 { one } else { many })).collect();
    if told.is_empty() { told } else { vec![told.join(", ")] }
}

fn from(report: &Report) -> String {
    match report.missing.as_slice() {
        [] => count(report.volumes.into(), "volume"),
        missing => format!("{}, without {}", count(report.volumes.into(), "volume"), text::number_list(missing)),
    }
}

/// The volumes without which something is lost.
fn needed(report: &Report) -> Vec<u32> {
    let lost = report.lost.as_deref().unwrap_or_default();
    let mut needed: BTreeSet<u32> = lost.iter().flat_map(|lost| &lost.needs_volumes).copied().collect();
    if report.salvaged && report.lost.is_none() {
        needed.extend(&report.missing);
    }
    needed.into_iter().collect()
}

fn volumes(numbers: &[u32]) -> String {
    let word = if numbers.len() == 1 { "volume" } else { "volumes" };
    format!("{word} {}", text::number_list(numbers))
}

fn lost(report: &Report) -> Vec<String> {
    let lost = report.lost.as_deref().unwrap_or_default();
    let line = |lost: &NotWhole| match lost.needs_volumes.as_slice() {
        [] => lost.path.clone(),
        numbers => format!("{}: needs {}", lost.path, volumes(numbers)),
    };
    let mut lines: Vec<String> = lost.iter().take(LOST_LISTED).map(line).collect();
    let more = lost.len().saturating_sub(LOST_LISTED);
    lines.extend((more > 0).then(|| format!("and {more} more (--json lists all)")));
    lines
}
