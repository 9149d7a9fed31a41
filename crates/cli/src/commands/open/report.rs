//! What `open` says in the end, in words and as JSON.

use crate::archives::{NotExtracted, not_extracted, not_extracted_lines};
use crate::args::OpenArguments;
use crate::commands::since::BuildsUpon;
use crate::failure::{DAMAGED, DONE, Failure, LOOK, MISSING};
use crate::ui::paint::{Tone, paint};
use crate::ui::section::{first_listed, listed};
use crate::ui::suggestion;
use crate::ui::table;
use crate::ui::text::{self, contents, count, shown, shown_lines, size};
use crate::words::{self, as_name, notes, part_word, verifies_contents, volume_word};
use serde::Serialize;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use under_seal_core::formats::abilities::Checks;
use under_seal_core::formats::archive::Archive;
use under_seal_core::formats::registry::Format;
use under_seal_core::formats::sealed::volume::VolumeSet;
use under_seal_core::formats::sealed::{Base, Lost};
use under_seal_core::ground::context::Context;
use under_seal_core::ground::entry::{EntryPath, ListedEntry, Totals};
use under_seal_core::landing::{Foreseen, Landed, RefusedLink};
use under_seal_core::tasks::check::DamagedEntry;
use under_seal_core::tasks::open::Opened;
use under_seal_core::tasks::open::upon::{Found, remove_gone};

/// Of what is lost so many paths are shown.
const LOST_LISTED: usize = 20;

/// The absolute path, without a slash at its end.
pub(super) fn absolute(path: &Path) -> String {
    let absolute = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    text::path(&absolute.components().collect::<PathBuf>())
}

pub(super) fn changed<'a>(entries: impl Iterator<Item = &'a ListedEntry>) -> Vec<String> {
    let changed = entries.filter(|listed| listed.content.changed_while_read);
    changed.map(|listed| shown(listed.entry.path.as_bytes())).collect()
}

/// The JSON object (docs/json.md).
#[derive(Serialize, Default)]
pub(in crate::commands) struct Report {
    pub command: &'static str,
    pub exit_code: u8,
    pub archive: String,
    #[serde(serialize_with = "as_name")]
    pub format: &'static Format,
    pub set: Option<String>,
    #[serde(rename = "volume_count")]
    pub volumes: u32,
    /// What a file of it is called, where it is sealed.
    #[serde(skip)]
    pub noun: Option<&'static str>,
    pub missing: Vec<u32>,
    /// How many spare volumes are here, and whether that is enough for what is missing.
    #[serde(skip)]
    pub spares: u32,
    #[serde(skip)]
    pub spares_are_enough: bool,
    pub secret: bool,
    pub message: String,
    pub part: bool,
    pub dry_run: bool,
    pub salvaged: bool,
    pub files: u64,
    pub folders: u64,
    pub links: u64,
    pub bytes: u64,
    /// How many of the files are further names of others.
    pub further_names: u64,
    pub attributes_set: u64,
    pub attributes_not_set: u64,
    /// The names of some of those that were not set.
    pub attribute_names: Vec<String>,
    pub kept_files: u64,
    pub replaced_files: u64,
    pub beside: Vec<Beside>,
    /// What is called otherwise here than in the archive.
    pub renamed: Vec<Renamed>,
    pub flat_links: u64,
    pub origin_marks: Option<OriginMarks>,
    pub screened: bool,
    pub destination: String,
    pub changed_while_read: Vec<String>,
    pub links_not_made: Vec<LinkNotMade>,
    pub lost: Option<Vec<NotWhole>>,
    pub unmatched_patterns: Vec<String>,
    pub not_extracted: Vec<NotExtracted>,
    pub notes: Vec<&'static str>,
    pub builds_upon: Option<BuildsUpon>,
    /// How many entries were removed, since they are not in the new state.
    #[serde(rename = "removed_entries")]
    pub removed: u64,
    /// What is not in it either and stays here, as it was in the old one.
    pub still_here: Vec<String>,
    /// The same, where it was changed here since.
    pub still_here_changed: Vec<String>,
}

#[derive(Serialize)]
pub(in crate::commands) struct Beside {
    path: String,
    instead_of: String,
}

/// Something that is called otherwise here.
#[derive(Serialize)]
pub(in crate::commands) struct Renamed {
    path: String,
    path_in_archive: String,
}

impl From<&(EntryPath, EntryPath)> for Renamed {
    fn from((here, in_archive): &(EntryPath, EntryPath)) -> Self {
        Self { path: shown(here.as_bytes()), path_in_archive: shown(in_archive.as_bytes()) }
    }
}

/// The marks of where the volumes came from.
#[derive(Serialize)]
pub(in crate::commands) struct OriginMarks {
    pub volumes_have_them: bool,
    pub marked_files: u64,
}

/// What could not be salvaged.
#[derive(Serialize)]
pub(in crate::commands) struct NotWhole {
    path: String,
    needs_volumes: Vec<u32>,
}

impl From<&Lost> for NotWhole {
    fn from(lost: &Lost) -> Self {
        Self { path: shown(lost.path.as_bytes()), needs_volumes: lost.volumes.clone() }
    }
}

impl From<&DamagedEntry> for NotWhole {
    fn from(damaged: &DamagedEntry) -> Self {
        Self { path: shown(&damaged.name), needs_volumes: Vec::new() }
    }
}

#[derive(Serialize)]
pub(in crate::commands) struct LinkNotMade {
    path: String,
    target: String,
}

impl From<&RefusedLink> for LinkNotMade {
    fn from(link: &RefusedLink) -> Self {
        Self { path: shown(link.path.as_bytes()), target: shown(&link.target) }
    }
}

/// What is known of the end of an archive that may have lost it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum End {
    /// It is there, or what of it is lost is told.
    Whole,
    /// It may be missing.
    Unsure,
    /// Something in front of it is damaged.
    Damaged,
}

impl End {
    pub fn of(archive: &Archive) -> Self {
        let facts = archive.facts();
        match (facts.has_flaw, facts.may_lack_the_end) {
            (true, _) => Self::Damaged,
            (false, true) => Self::Unsure,
            (false, false) => Self::Whole,
        }
    }
}

impl Report {
    /// Decides the exit code, when everything else is known.
    pub fn settle(&mut self, end: End) {
        let is_lost = self.salvaged && !self.lost.as_ref().is_some_and(Vec::is_empty);
        self.exit_code = match () {
            () if is_lost && !self.missing.is_empty() => MISSING,
            () if is_lost || end == End::Damaged => DAMAGED,
            () if !self.still_here_changed.is_empty() => LOOK,
            () if !self.unmatched_patterns.is_empty() || self.all_but().is_some() => LOOK,
            () if end == End::Unsure || !self.renamed.is_empty() => LOOK,
            () => DONE,
        };
    }

    pub fn new(archive: &Archive, into: &Path) -> Self {
        let facts = archive.facts();
        Self {
            command: "open",
            archive: shown(&archive.name()),
            format: archive.format,
            volumes: archive.file_count(),
            secret: archive.is_secret(),
            notes: notes(archive, &facts),
            message: facts.message,
            not_extracted: not_extracted(archive),
            builds_upon: archive.base_name().map(BuildsUpon::from),
            destination: absolute(into),
            ..archive.volumes().map(Self::of_volumes).unwrap_or_default()
        }
    }

    /// The report of an archive that was opened as a whole, into a folder that held nothing: that of a recipient who is played.
    pub fn of_opened(archive: &Archive, opened: &Opened) -> Result<Self, Failure> {
        let mut report = Self::new(archive, &opened.destination);
        report.changed_while_read = changed(archive.entries()?.iter());
        report.has_landed(&opened.landed);
        report.settle(End::of(archive));
        Ok(report)
    }

    /// What is told of the volumes that an archive is read from.
    pub fn of_volumes(set: &VolumeSet) -> Self {
        Self {
            set: Some(set.ids.set_text()),
            noun: Some(volume_word(set)),
            volumes: set.geometry.data_volumes,
            missing: set.missing(),
            spares: u32::try_from(set.spares.len()).unwrap_or(u32::MAX),
            spares_are_enough: set.shortfalls().is_empty(),
            ..Self::default()
        }
    }

    /// Removes what is not in the new state any more, where that is wished and everything else has landed; and says what stays.
    pub fn gone(
        &mut self,
        found: Found,
        base: &Base,
        arguments: &OpenArguments,
        context: &Context<'_>,
    ) -> Result<(), Failure> {
        let shown_all = |paths: &[EntryPath]| paths.iter().map(|path| shown(path.as_bytes())).collect();
        self.still_here_changed = shown_all(&found.gone_but_changed);
        self.still_here = shown_all(&found.gone);
        if arguments.remove_gone && !self.part && !self.dry_run {
            let (removed, stays) = remove_gone(base, &found, &arguments.into, context)?;
            self.removed = removed;
            self.still_here = shown_all(&stays);
        }
        Ok(())
    }

    pub fn would_land(&mut self, entries: &[ListedEntry], flat: bool, foreseen: &Foreseen) {
        let mut totals = Totals::default();
        entries.iter().for_each(|listed| totals.add(listed.entry.kind, listed.content.own_bytes()));
        (self.files, self.folders, self.links, self.bytes) =
            (totals.files, totals.folders, totals.links, totals.content_bytes);
        if flat {
            (self.folders, self.flat_links, self.links) = (0, self.links, 0);
        }
        let (kept, replaced, _) = foreseen.counts();
        (self.kept_files, self.replaced_files) = (kept, replaced);
        self.files = self.files.saturating_sub(kept);
        self.not_extracted.extend(foreseen.not_landed.iter().map(NotExtracted::from));
        self.renamed = foreseen.renamed.iter().map(Renamed::from).collect();
        self.links_not_made = foreseen.refused_links.iter().map(LinkNotMade::from).collect();
        self.links = self.links.saturating_sub(self.links_not_made.len() as u64);
    }

    pub fn has_landed(&mut self, landed: &Landed) {
        (self.files, self.folders, self.links, self.bytes) = (landed.files, landed.folders, landed.links, landed.bytes);
        self.further_names = landed.further_names;
        (self.attributes_set, self.attributes_not_set) = (landed.attributes.set, landed.attributes.left);
        self.attribute_names = landed.attributes.left_names.iter().map(|name| shown(name)).collect();
        (self.kept_files, self.replaced_files) = (landed.kept, landed.replaced);
        let beside = |(path, instead): &(EntryPath, EntryPath)| Beside {
            path: shown(path.as_bytes()),
            instead_of: shown(instead.as_bytes()),
        };
        self.flat_links = landed.flat_links;
        if let Some(marks) = &mut self.origin_marks {
            marks.marked_files = landed.marked;
        }
        self.beside = landed.beside.iter().map(beside).collect();
        self.not_extracted.extend(landed.not_landed.iter().map(NotExtracted::from));
        self.renamed = landed.renamed.iter().map(Renamed::from).collect();
        self.links_not_made = landed.refused_links.iter().map(LinkNotMade::from).collect();
    }

    /// What of the archive is not extracted, since it could do harm or cannot be held here, as headlines have it.
    pub fn all_but(&self) -> Option<String> {
        let (links, others) = self.left_behind();
        words::all_but(links, others)
    }

    /// How many links, and how many other things, are not extracted.
    pub fn left_behind(&self) -> (usize, usize) {
        (self.links_not_made.len(), self.not_extracted.len())
    }

    /// What is not extracted, one by one, for people.
    pub fn left_behind_lines(&self) -> Vec<String> {
        let link = |link: &LinkNotMade| format!("{} -> {}", link.path, link.target);
        let links: Vec<String> = self.links_not_made.iter().map(link).collect();
        let heading = "These links are not made, because they could lead outside the folder:";
        let mut lines = listed(Tone::Bad, heading, &links);
        lines.extend(not_extracted_lines(&self.not_extracted));
        lines
    }

    fn heading(&self) -> String {
        let all_but = self.all_but().map(|all_but| format!(", {all_but}")).unwrap_or_default();
        match (self.dry_run, self.salvaged, self.lost.as_deref()) {
            (true, ..) => format!("{} can be opened here{all_but}; nothing was extracted.", self.archive),
            (_, true, Some([])) if !self.format.abilities.volumes && self.exit_code != DONE => {
                "Incomplete: what is whole was extracted; the archive does not say whether that is all.".to_owned()
            }
            (_, true, Some([])) if self.builds_upon.is_some() => {
                "Nothing is lost: every change is here, complete and verified.".to_owned()
            }
            (_, true, Some([])) => "Nothing is lost: every file is here, complete and verified.".to_owned(),
            (_, true, Some(lost)) => {
                format!("Incomplete: what is whole was extracted; {} could not be.", count(lost.len() as u64, "thing"))
            }
            (_, true, None) => {
                "Incomplete: what is whole was extracted. The list of contents is missing, so there may be more."
                    .to_owned()
            }
            _ if self.kept_files > 0 && self.files + self.folders + self.links == 0 => {
                let (files, are, were) = match self.kept_files {
                    1 => ("1 file".to_owned(), "is", "was"),
                    2 => ("both files".to_owned(), "are", "were"),
                    many => (format!("all {many} files"), "are", "were"),
                };
                format!("Nothing was extracted from {}: {files} {are} there already, and {were} kept.", self.archive)
            }
            _ if self.part => format!(
                "The files you asked for were extracted from {}{all_but}: {}.",
                self.archive,
                how_whole(self.format)
            ),
            _ => format!("{} is open{all_but}: {}.", self.archive, how_whole(self.format)),
        }
    }
}

/// The report for people, of an archive whose volumes are in these places.
pub(super) fn lines(report: &Report, places: &[PathBuf]) -> Vec<String> {
    let tone = if report.exit_code == DONE { Tone::Good } else { Tone::Look };
    let mut lines = vec![paint(tone, report.heading()), String::new()];
    let (would, verified) = match report.dry_run {
        true => ("would extract", Vec::new()),
        false if report.files == 0 => ("extracted", Vec::new()),
        false => ("extracted", vec![how_verified(report.format).to_owned()]),
    };
    lines.extend(table::summary(&[
        ("from", vec![from(report)]),
        (would, vec![format!("{} in {}", size(report.bytes), contents(report.files, report.folders, report.links))]),
        ("hard links", hard_links(report).into_iter().collect()),
        ("attributes", attributes(report)),
        ("clashes", clashes(report)),
        ("removed", (report.removed > 0).then(|| text::entries(report.removed)).into_iter().collect()),
        ("left out", left_out(report).into_iter().collect()),
        (if verifies_contents(report.format) { "verified" } else { "read" }, verified),
        (
            "screened",
            if report.screened { vec!["the screening command said yes to all of it".to_owned()] } else { Vec::new() },
        ),
        ("origin", report.origin_marks.as_ref().map(origin).into_iter().collect()),
        ("where", vec![report.destination.clone()]),
    ]));
    let mut note = |tone: Tone, heading: &str, items: Vec<String>| lines.extend(listed(tone, heading, &items));
    let beside = |beside: &Beside| format!("{} instead of {}", beside.path, beside.instead_of);
    note(
        Tone::Look,
        "These got a number, since there was a file of that name:",
        report.beside.iter().map(beside).collect(),
    );
    let renamed = |one: &Renamed| format!("{} is {} in the archive", one.path, one.path_in_archive);
    let called = if report.dry_run { "would be" } else { "are" };
    let heading =
        format!("These {called} called otherwise here, since they cannot have their names (under-seal help systems):");
    note(Tone::Look, &heading, report.renamed.iter().map(renamed).collect());
    note(
        Tone::Look,
        "The sender has removed these, and they are still here (--remove-gone removes them):",
        report.still_here.clone(),
    );
    note(
        Tone::Look,
        "The sender has removed these, and they are still here because they were changed here:",
        report.still_here_changed.clone(),
    );
    note(Tone::Strong, "The sender says:", shown_lines(&report.message));
    let changed = "These changed while they were packed. Ask the sender whether they are good:";
    note(Tone::Look, changed, report.changed_while_read.clone());
    note(Tone::Look, "These patterns matched nothing:", report.unmatched_patterns.clone());
    lines.extend(first_listed(Tone::Bad, "These files are not whole in what is here:", &lost(report), LOST_LISTED));
    lines.extend(report.left_behind_lines());
    if !report.notes.is_empty() {
        lines.push(String::new());
        lines.extend(report.notes.iter().map(|note| paint(Tone::Look, note)));
    }
    if let Some(upon) = report.builds_upon.as_ref().filter(|_| report.dry_run || report.salvaged) {
        lines.extend([String::new(), paint(Tone::Look, upon.sentence())]);
    }
    let needed = needed(report);
    match report.spares {
        _ if needed.is_empty() => {}
        0 => lines.extend([String::new(), format!("Next: ask the sender for {} again.", volumes(&needed))]),
        _ => lines.extend([
            String::new(),
            "Next: see how little of that is enough beside the spare volumes, and ask the sender for it:".to_owned(),
            suggestion::check(places.iter().map(PathBuf::as_path)),
        ]),
    }
    lines
}

/// What can be said of every file that was extracted. Where contents have no checksum nothing is verified.
fn how_whole(format: &Format) -> &'static str {
    if verifies_contents(format) { "every file complete and verified" } else { "every file is complete" }
}

/// What was compared before a file got its name.
fn how_verified(format: &Format) -> &'static str {
    match format.abilities.checks {
        Checks::Authentic => "every file's digest compared before it got its name",
        Checks::Checksums => "every file's length and checksum compared before it got its name",
        _ => "every file to its end before it got its name; contents have no checksums here",
    }
}

/// How many of the files are names of one with others.
fn hard_links(report: &Report) -> Option<String> {
    let share = match report.further_names {
        0 => return None,
        1 => "1 of these files shares its content with another, as it did".to_owned(),
        some => format!("{} of these files share their content with others, as they did", text::grouped(some)),
    };
    Some(format!("{share} where they were packed"))
}

/// What became of extended attributes.
fn attributes(report: &Report) -> Vec<String> {
    let set =
        (report.attributes_set > 0).then(|| format!("{} set", count(report.attributes_set, "extended attribute")));
    let left = (report.attributes_not_set > 0).then(|| {
        let names = report.attribute_names.join(", ");
        format!(
            "{} not set, since only your own are, where the disk takes them: {names}",
            text::grouped(report.attributes_not_set)
        )
    });
    set.into_iter().chain(left).collect()
}

/// What has no place without folders.
fn left_out(report: &Report) -> Option<String> {
    let some = (report.flat_links > 0).then(|| count(report.flat_links, "link"))?;
    Some(format!("{some}, since there are no folders"))
}

fn origin(marks: &OriginMarks) -> String {
    match (marks.volumes_have_them, marks.marked_files) {
        (false, _) => "the volumes have no mark of where they came from".to_owned(),
        (true, 0) => "the mark of the volumes could not be carried on: there is no room for it here".to_owned(),
        (true, files) => format!("{} got the mark of where the volumes came from", count(files, "file")),
    }
}

/// What became of files that met others, by kind.
fn clashes(report: &Report) -> Vec<String> {
    let kinds = [
        (report.kept_files, "was left as it is", "were left as they are"),
        (report.replaced_files, "replaced", "replaced"),
        (report.beside.len() as u64, "with a number behind its name", "with a number behind their names"),
    ];
    let some = kinds.iter().filter(|(files, ..)| *files > 0);
    let told: Vec<String> = some.map(|(n, one, many)| format!("{n} {}", if *n == 1 { one } else { many })).collect();
    if told.is_empty() { told } else { vec![told.join(", ")] }
}

fn from(report: &Report) -> String {
    let all = count(report.volumes.into(), report.noun.unwrap_or_else(|| part_word(report.volumes)));
    // The list of what is lost is lost too where a salvage has none.
    let nothing_lost = report.lost.as_ref().map_or(!report.salvaged, Vec::is_empty);
    match report.missing.as_slice() {
        [] => all,
        missing if report.spares_are_enough && nothing_lost => format!(
            "{all}; {} {} missing, and made good by spare volumes",
            volumes(missing),
            if missing.len() == 1 { "is" } else { "are" }
        ),
        missing if report.spares > 0 => {
            format!("{all}, without {}; {}", text::number_list(missing), count(report.spares.into(), "spare volume"))
        }
        missing => format!("{all}, without {}", text::number_list(missing)),
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
    lost.iter().map(line).collect()
}
