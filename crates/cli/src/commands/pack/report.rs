//! What `pack` says in the end: for people and as JSON.

use super::Packing;
use super::notes::notes;
use crate::args::PackArguments;
use crate::commands::extras::{self, Extra, extras};
use crate::commands::in_place::{self, spare_line, spare_rows};
use crate::commands::show;
use crate::commands::since::ChangesReport;
use crate::commands::sources::{Lone, Passed, Unportable};
use crate::failure::{DONE, Failure, LOOK};
use crate::ui::escaped_name::EscapedName;
use crate::ui::paint::{Tone, paint};
use crate::ui::table::{self, Column};
use crate::ui::text::{self, contents, count, grouped, shown, size};
use crate::words;
use crate::words::{NOT_SECRET, as_name};
use serde::Serialize;
use under_seal_core::formats::registry::{Format, Writing};
use under_seal_core::source::feed::FilledUp;
use under_seal_core::tasks::pack::kinds::KindWeight;
use under_seal_core::tasks::pack::{Loss, Packed, PackedVolume};

/// Where more than this share is left, squeezing did not pay.
const HARDLY_SMALLER: f64 = 0.95;

/// What a sender of ZIP should know.
const ZIP_SECRET: &str =
    "Contents are encrypted with AES-256. Anyone can read the names, sizes and dates of what is inside.";
const ZIP_HIDDEN: &str = "Contents, names, sizes and dates are encrypted with AES-256. Other programs find one file in it, \
                          contents.zip, and everything in that.";
const NOT_ENCRYPTED: &str = "Nothing is encrypted: whoever has the archive can read it.";

/// Sets of more volumes than this are summed up instead of listed.
const VOLUMES_LISTED: usize = 12;

/// The JSON object (docs/json.md).
#[derive(Serialize)]
pub struct Report {
    #[serde(skip)]
    mail_hint: Option<String>,
    command: &'static str,
    pub exit_code: u8,
    archive: String,
    #[serde(serialize_with = "as_name")]
    pub(super) format: &'static Format,
    #[serde(rename = "in_parcels")]
    parcels: bool,
    set: Option<String>,
    fit: String,
    squeeze: String,
    pub(super) secret: bool,
    pub(super) key_file: bool,
    /// How many passwords open it.
    passwords: usize,
    pub(super) hides_names: bool,
    #[serde(rename = "has_message")]
    message: bool,
    passphrase_file: Option<String>,
    files: u64,
    folders: u64,
    links: u64,
    before_bytes: u64,
    after_bytes: u64,
    verified_files: u64,
    verified_bytes: u64,
    volumes: Vec<Volume>,
    pub(super) spare_volumes: Vec<in_place::Volume>,
    pub(super) replaced: Vec<String>,
    pub(super) replaced_bytes: u64,
    pub(super) lost_with_replaced: Option<Vec<String>>,
    pub(super) not_replaced: Vec<String>,
    pub(super) lone_volumes: Vec<Lone>,
    pub(super) passed_over: Vec<Passed>,
    pub(super) changed_while_read: Vec<String>,
    pub(super) filled_with_zeros: Vec<Filled>,
    pub(super) links_leading_outside: Vec<String>,
    kinds: Vec<Kind>,
    left_out: u64,
    pub(super) other_systems_left_out: Vec<String>,
    pub(super) own_output_left_out: u64,
    pub(super) unmatched_patterns: Vec<String>,
    pub(super) unportable: Vec<Unportable>,
    pub(super) names_escaped: Vec<EscapedName>,
    pub(super) names_left_out: Vec<String>,
    changes: Option<ChangesReport>,
    extras: Vec<Extra>,
}

#[derive(Serialize)]
struct Volume {
    number: usize,
    path: String,
    bytes: u64,
    set: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    files: Option<u64>,
}

#[derive(Serialize)]
struct Kind {
    name: String,
    files: u64,
    bytes: u64,
    kept: f64,
}

impl Kind {
    fn new(kind: &KindWeight) -> Self {
        let KindWeight { extension, files, bytes, kept, filter: _ } = kind;
        Self { name: shown(extension.as_bytes()), files: *files, bytes: *bytes, kept: *kept }
    }

    /// Whether squeezing saves next to nothing of a kind that matters.
    fn gains_nothing(&self, whole: u64) -> bool {
        self.kept > HARDLY_SMALLER && self.bytes > whole / 100
    }
}

/// A file of which the archive holds less than it had at first.
#[derive(Serialize)]
pub(super) struct Filled {
    pub path: String,
    pub file_bytes: u64,
    pub bytes: u64,
}

impl From<&FilledUp> for Filled {
    fn from(filled: &FilledUp) -> Self {
        let FilledUp { path, real_bytes, bytes } = filled;
        Self { path: shown(path.as_bytes()), file_bytes: *real_bytes, bytes: *bytes }
    }
}

/// The set's id, in the format that has sets.
fn set_of(volume: &PackedVolume) -> Option<String> {
    volume.ids.map(|ids| ids.set_text())
}

impl Report {
    pub fn new(packed: &Packed, packing: &mut Packing) -> Self {
        let unmatched = packing.settings.typed_among(&packed.left_out.unmatched);
        let quiet = packed.passed_over.is_empty()
            && packed.changed.is_empty()
            && packed.outward_links.is_empty()
            && packed.filled_up.is_empty()
            && packed.lone_volumes.is_empty()
            && packed.not_replaced.is_empty()
            && packed.escaped_names.is_empty()
            && packed.left_out.not_text.is_empty()
            && unmatched.is_empty();
        let entry_paths = |paths: &[under_seal_core::ground::entry::EntryPath]| -> Vec<String> {
            paths.iter().map(|path| shown(path.as_bytes())).collect()
        };
        let volume = |(number, volume): (usize, &PackedVolume)| Volume {
            number,
            path: text::path(&volume.path),
            bytes: volume.bytes,
            set: set_of(volume),
            files: packed.parcels.then_some(volume.totals.files),
        };
        Self {
            mail_hint: words::mail_hint(packing.settings.fit.value.fit),
            command: "pack",
            exit_code: if quiet { DONE } else { LOOK },
            archive: text::name(&packing.target.stem),
            format: packing.format,
            parcels: packed.parcels,
            set: packed.volumes.first().filter(|_| !packed.parcels).and_then(set_of),
            fit: packing.settings.fit.value.text.clone(),
            squeeze: packing.settings.squeeze.value.to_string(),
            secret: packing.secret,
            key_file: packing.key_file,
            passwords: packing.passwords,
            hides_names: packing.hides_names(),
            message: !packing.message.is_empty(),
            passphrase_file: packing.passphrase_file.as_deref().map(text::path),
            files: packed.totals.files,
            folders: packed.totals.folders,
            links: packed.totals.links,
            before_bytes: packed.totals.content_bytes,
            after_bytes: packed.volumes.iter().map(|volume| volume.bytes).sum(),
            verified_files: packed.verified.files,
            verified_bytes: packed.verified.content_bytes,
            volumes: (1..).zip(&packed.volumes).map(volume).collect(),
            spare_volumes: in_place::Volume::all(packed.spares.clone()),
            replaced: packed.replaced.iter().map(|(path, _)| text::path(path)).collect(),
            replaced_bytes: packed.replaced.iter().map(|(_, bytes)| bytes).sum(),
            lost_with_replaced: match &packing.loss {
                Some(Loss::Known(lost)) => Some(entry_paths(lost)),
                Some(Loss::Unknown) => None,
                None => Some(Vec::new()),
            },
            not_replaced: packed.not_replaced.iter().map(|path| text::path(path)).collect(),
            lone_volumes: packed.lone_volumes.iter().map(Lone::from).collect(),
            passed_over: packed.passed_over.iter().map(Passed::from).collect(),
            changed_while_read: entry_paths(&packed.changed),
            filled_with_zeros: packed.filled_up.iter().map(Filled::from).collect(),
            links_leading_outside: entry_paths(&packed.outward_links),
            kinds: packed.kinds.iter().map(Kind::new).collect(),
            left_out: packed.left_out.chosen,
            other_systems_left_out: entry_paths(&packed.left_out.other_systems),
            own_output_left_out: packed.left_out.own_output,
            unmatched_patterns: unmatched.iter().map(|pattern| shown(pattern.as_bytes())).collect(),
            unportable: packing.unportable.iter().map(Unportable::from).collect(),
            names_escaped: packed.escaped_names.iter().map(EscapedName::new).collect(),
            names_left_out: entry_paths(&packed.left_out.not_text),
            changes: packing.changes.take(),
            extras: extras(packed.extras, packing.format, packed.packs_attributes),
        }
    }

    /// The archive that this one builds upon, where it holds only changes.
    pub(super) fn builds_upon(&self) -> Option<&str> {
        self.changes.as_ref().map(|changes| changes.since.archive.as_str())
    }

    /// Whether something could not be read, so that the archive does not hold everything.
    pub(super) fn is_incomplete(&self) -> bool {
        !self.passed_over.is_empty() || !self.filled_with_zeros.is_empty()
    }

    /// `saved 12.3 %`, or how much was added.
    fn saved(&self) -> String {
        let (before, after) = (self.before_bytes, self.after_bytes);
        if after >= before {
            let what = match self.format.writing {
                Some(Writing::Page) => "the page itself, seals and padding",
                Some(Writing::Sealed) => "seals and padding",
                _ => "headers",
            };
            return format!("{} more than before: {what}", size(after - before));
        }
        format!("{:.1} % saved", 100.0 * (before - after) as f64 / before as f64)
    }
}

/// The JSON object where nothing has changed since the archive that is built upon.
#[derive(Serialize)]
struct NothingChanged {
    command: &'static str,
    exit_code: u8,
    changes: Option<ChangesReport>,
    volumes: [String; 0],
}

/// Says that nothing has changed, so that nothing was packed; the exit code.
pub fn nothing_changed(changes: Option<ChangesReport>, arguments: &PackArguments) -> Result<u8, Failure> {
    let report = NothingChanged { command: "pack", exit_code: DONE, changes, volumes: [] };
    show(&report, &arguments.work, || {
        let since =
            report.changes.as_ref().map(|changes| format!("{} of {}", changes.since.archive, changes.since.made));
        vec![paint(
            Tone::Strong,
            format!("Nothing has changed since {}, so nothing was packed.", since.unwrap_or_default()),
        )]
    })?;
    Ok(DONE)
}

/// What opens it, where that is more than one password.
fn opened_by(report: &Report) -> Vec<String> {
    match (report.passwords, report.key_file) {
        (0, _) | (1, false) => Vec::new(),
        (1, true) => vec!["the password with the key file, and no other".to_owned()],
        (several, false) => vec![format!("{several} passwords and no other")],
        (several, true) => vec![format!("{several} passwords, each with the key file, and no other")],
    }
}

pub fn lines(packed: &Packed, report: &Report) -> Vec<String> {
    let volumes = count(packed.volumes.len() as u64, what_it_is(packed, report));
    let mut lines = vec![heading(report, &volumes), String::new()];
    lines.extend(volume_lines(packed, report, what_it_is(packed, report)));
    lines.push(String::new());
    let verified = format!(
        "read back from disk{}; {} in {}, every digest compared",
        if report.secret || report.format.abilities.volumes { " and unlocked" } else { "" },
        size(report.verified_bytes),
        contents(report.verified_files, packed.verified.folders, packed.verified.links)
    );
    let folder = packed.volumes.first().and_then(|volume| volume.path.parent());
    let folder = folder.filter(|folder| !folder.as_os_str().is_empty());
    let left_out = match report.left_out {
        0 => Vec::new(),
        some => vec![format!("{}, as you chose", count(some, "thing"))],
    };
    let passphrase = report.passphrase_file.iter().map(|file| format!("in {file}, readable by you only")).collect();
    let message = if report.message { vec![where_the_message_is(report).to_owned()] } else { Vec::new() };
    let [kept, not_kept] = extras::rows(&report.extras);
    lines.extend(table::summary(&[
        (
            "before",
            vec![format!("{} in {}", size(report.before_bytes), contents(report.files, report.folders, report.links))],
        ),
        ("changes", report.changes.iter().map(ChangesReport::line).collect()),
        ("after", vec![format!("{} in {volumes}; {}", size(report.after_bytes), report.saved())]),
        ("spare", spare_line(packed.volumes.len(), &report.spare_volumes)),
        ("verified", vec![verified]),
        ("no gain", no_gain(report)),
        kept,
        not_kept,
        ("left out", left_out),
        ("message", message),
        ("passphrase", passphrase),
        ("opens by", opened_by(report)),
        ("where", folder.map(text::path).into_iter().collect()),
    ]));
    let note = match (report.format.abilities.volumes, report.secret) {
        (true, true) => None,
        (true, false) => Some(NOT_SECRET),
        (false, true) if report.hides_names => Some(ZIP_HIDDEN),
        (false, true) => Some(ZIP_SECRET),
        (false, false) => Some(NOT_ENCRYPTED),
    };
    if let Some(note) = note {
        lines.push(String::new());
        lines.push(paint(Tone::Look, note));
    }
    lines.extend(notes(report));
    lines.extend(report.mail_hint.iter().flat_map(|hint| [String::new(), hint.clone()]));
    lines
}

/// What was done, and in its first words whether all of it was: nothing incomplete has a headline of success.
fn heading(report: &Report, volumes: &str) -> String {
    let missing = (report.passed_over.len() + report.filled_with_zeros.len()) as u64;
    let changed = report.changed_while_read.len() as u64;
    let all = report.passed_over.len() as u64 + report.files + report.folders + report.links;
    match (missing, changed) {
        (0, 0) => {
            let tone = if report.exit_code == DONE { Tone::Good } else { Tone::Look };
            let all_but = words::all_but(report.links_leading_outside.len(), 0);
            let all_but = all_but.map(|all_but| format!(" The recipient can open it, {all_but}.")).unwrap_or_default();
            paint(tone, format!("{} is packed and verified: {volumes}.{all_but}", report.archive))
        }
        (0, _) => {
            let changed = count(changed, "file");
            paint(Tone::Look, format!("{} is packed, but {changed} changed meanwhile: {volumes}.", report.archive))
        }
        _ => {
            let missing = format!("{} of {}", grouped(missing), grouped(all));
            paint(
                Tone::Bad,
                format!("Incomplete: {} is packed, but {missing} could not be read: {volumes}.", report.archive),
            )
        }
    }
}

fn where_the_message_is(report: &Report) -> &'static str {
    match (report.format.abilities.volumes, report.hides_names) {
        (true, _) => "sealed inside, shown on opening",
        (false, true) => "hidden inside, shown on opening",
        (false, false) => "in the archive's comment, which anyone can read",
    }
}

/// The kinds of files of which squeezing saved next to nothing.
fn no_gain(report: &Report) -> Vec<String> {
    let kinds = report.kinds.iter().filter(|kind| kind.gains_nothing(report.before_bytes));
    let each = |kind: &Kind| {
        let name = if kind.name.is_empty() { "without extension" } else { &kind.name };
        format!("{name} ({}, {})", count(kind.files, "file"), size(kind.bytes))
    };
    let kinds: Vec<String> = kinds.map(each).collect();
    if kinds.is_empty() {
        kinds
    } else {
        vec![format!("compressing hardly makes these smaller: {}", text::first_few(&kinds))]
    }
}

/// What one of the files is called.
pub(super) fn what_it_is(packed: &Packed, report: &Report) -> &'static str {
    match (report.format.abilities.volumes, packed.volumes.len()) {
        _ if report.parcels => "parcel",
        (true, _) if report.format.writing == Some(Writing::Page) => "page",
        (true, _) => "volume",
        (false, 1) => "archive",
        (false, _) => "part",
    }
}

fn volume_lines(packed: &Packed, report: &Report, what: &'static str) -> Vec<String> {
    let row = |(number, volume): (usize, &PackedVolume)| {
        let name = volume.path.file_name().map(text::name).unwrap_or_default();
        let mut cells = vec![number.to_string(), name, grouped(volume.bytes)];
        cells.extend(packed.parcels.then(|| grouped(volume.totals.files)));
        (Tone::Plain, cells)
    };
    let mut rows: Vec<_> = (1..).zip(&packed.volumes).map(row).collect();
    table::shorten(&mut rows, VOLUMES_LISTED, |hidden| {
        let between = packed.volumes.get(1).map(|volume| grouped(volume.bytes)).unwrap_or_default();
        let each = if packed.parcels { String::new() } else { format!("{between} each") };
        vec!["…".to_owned(), format!("{hidden} more"), each]
    });
    rows.extend(spare_rows(&report.spare_volumes));
    let mut columns = vec![Column::Number(what), Column::Path("file"), Column::Number("bytes")];
    columns.extend(packed.parcels.then_some(Column::Number("files")));
    table::lines(&columns, &rows)
}
