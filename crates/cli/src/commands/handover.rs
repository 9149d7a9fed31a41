//! `handover`: everything that goes to the recipient, in one folder; and, apart from it, the password for another way.

use super::show;
use crate::archives::{Given, each_given, given};
use crate::args::{HandoverArguments, UnlockArguments};
use crate::credentials::{self, Wanted};
use crate::failure::{BadValue, DONE, Failure};
use crate::settings::Settings;
use crate::ui::paint::{Tone, paint};
use crate::ui::progress::ProgressLine;
use crate::ui::table;
use crate::ui::text::{self, bytes, count, size};
use crate::words::{as_name, how_to_open};
use crate::{named_file, session};
use serde::Serialize;
use std::ffi::{OsStr, OsString};
use std::path::{Path, PathBuf};
use std::slice;
use under_seal_core::disk::names::name_of;
use under_seal_core::formats::abilities::Checks;
use under_seal_core::formats::registry::Format;
use under_seal_core::formats::sealed::key_of_open_to_all;
use under_seal_core::formats::sealed::volume::VolumeSet;
use under_seal_core::formats::sealed::volume::names::parcel_named;
use under_seal_core::ground::secrets::Password;
use under_seal_core::tasks::handover::{
    HandedFile, HandedOver, HandoverRequest, NOTE_PAGE, NOTE_TEXT, Package, SUMS, hand_over,
};

/// Runs the command; the exit code.
pub fn run(arguments: &HandoverArguments) -> Result<u8, Failure> {
    let settings = Settings::for_fit(arguments.fit.as_ref(), &arguments.configuration, arguments.work.threads)?;
    let stored = || settings.note_template.as_ref().map(|path| path.value.clone());
    let template = arguments.note_template.clone().or_else(stored).map(read_template).transpose()?;
    let password_note = arguments.password_note.as_deref();
    if let Some(note) = password_note {
        lies_apart(note, &arguments.to)?;
    }
    let (first, others) = given_all(arguments)?;
    let (mut package, stem) = match first {
        Given::Volumes(set) => {
            let stem = super::resend::stem(&set);
            let secret = key_of_open_to_all(&set, credentials::expects_password(&arguments.unlock))?.is_none();
            (Package::Volumes { set: Box::new(set), secret }, stem)
        }
        file => {
            let is_given = credentials::is_given(&arguments.unlock) || password_note.is_some();
            let wanted = if is_given { Wanted::Content } else { Wanted::Outside };
            let archive = file.load(&arguments.unlock, wanted, &arguments.work)?;
            let stem = name_of(&archive.name());
            (Package::Archive(archive), stem)
        }
    };
    let key_file = arguments.unlock.password.key_file.as_ref().and_then(|file| file.file_name()).map(text::name);
    let password = password_note.map(|note| Ok::<_, Failure>((note, password(&package, &arguments.unlock)?)));
    let password = password.transpose()?;
    let all = || others.iter().map(|(_, set)| set.geometry.data_volumes).fold(package.count(), u32::saturating_add);
    let volumes = package.format().abilities.volumes.then(all);
    let progress = ProgressLine::for_reading(volumes, &arguments.work);
    let context = session::context(&progress, arguments.work.threads);
    let how = how_to_open(&package, !arguments.no_page, !others.is_empty());
    let title = (!others.is_empty()).then(|| title(&stem, &others));
    let request = HandoverRequest {
        stem: &stem,
        title: title.as_deref(),
        folder: &arguments.to,
        fit: settings.fit.value.fit,
        template: template.as_deref(),
        key_file: key_file.as_deref(),
        how: &how,
        page: !arguments.no_page,
        together_with: &others,
        mail_to: &settings.mail_to,
    };
    let made = hand_over(&mut package, &request, &context)?;
    drop(progress);
    if let Some((note, password)) = &password {
        let name = title.as_deref().unwrap_or(&stem);
        credentials::write_password_note(note, password, &name.to_string_lossy())?;
    }
    let report = Report::new(&package, &others, &made, password_note);
    show(&report, &arguments.work, || lines(&report))?;
    Ok(DONE)
}

/// What is named, and with `--all` what else is there.
fn given_all(arguments: &HandoverArguments) -> Result<(Given, Vec<(OsString, VolumeSet)>), Failure> {
    let place = slice::from_ref(&arguments.archive);
    if !arguments.all {
        return Ok((given(place, &arguments.work)?, Vec::new()));
    }
    match each_given(place, &arguments.work)? {
        Given::File(file) => Ok((Given::File(file), Vec::new())),
        Given::Volumes(mut sets) => {
            let others = sets.split_off(1.min(sets.len()));
            let first = sets.pop().map(Given::Volumes).map_or_else(|| given(place, &arguments.work), Ok)?;
            let expected = credentials::expects_password(&arguments.unlock);
            let named = |set: VolumeSet| {
                // Beside what needs a password there is nothing that needs none, where one was given.
                key_of_open_to_all(&set, expected)?;
                Ok((super::resend::stem(&set), set))
            };
            Ok((first, others.into_iter().map(named).collect::<Result<_, Failure>>()?))
        }
    }
}

/// What several archives are called together: what parcels are all called, or as far as their names are one.
fn title(first: &OsStr, others: &[(OsString, VolumeSet)]) -> OsString {
    let common = |one: &[u8], other: &[u8]| {
        let same = one.iter().zip(other).take_while(|(one, other)| one == other);
        one[..same.count()].to_vec()
    };
    let together = |name: &OsStr| {
        let name = name.as_encoded_bytes();
        parcel_named(name).map_or(name, |named| named.delivery).to_vec()
    };
    let name = others.iter().fold(together(first), |name, (other, _)| common(&name, &together(other)));
    let name = String::from_utf8_lossy(&name).into_owned();
    if name.is_empty() { first.to_owned() } else { name.into() }
}

fn read_template(path: PathBuf) -> Result<String, Failure> {
    named_file::text(&path).map_err(|source| Failure::TextFile { path, source })
}

/// The password goes another way: it must not lie among what is handed over.
fn lies_apart(note: &Path, folder: &Path) -> Result<(), Failure> {
    let absolute = |path: &Path| std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    match absolute(note).starts_with(absolute(folder)) {
        true => Err(Failure::Value(BadValue::PasswordAmongIt)),
        false => Ok(()),
    }
}

/// The password, once it has opened it.
fn password(package: &Package, unlock: &UnlockArguments) -> Result<Password, Failure> {
    match package {
        Package::Volumes { set, .. } => Ok(credentials::tried(set, unlock)?.credentials.password),
        Package::Archive(archive) => {
            let known = archive.password().filter(|_| archive.is_secret());
            known.cloned().ok_or(Failure::Value(BadValue::NoPasswordToTell))
        }
    }
}

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    #[serde(serialize_with = "as_name")]
    format: &'static Format,
    set: Option<String>,
    /// Those of further archives.
    further_sets: Vec<String>,
    secret: bool,
    contents_read: bool,
    folder: String,
    note: [&'static str; 2],
    checksums: &'static str,
    page: Option<File>,
    volumes: Vec<File>,
    drafts: Vec<File>,
    labels: Vec<File>,
    password_note: Option<String>,
}

#[derive(Serialize)]
struct File {
    name: String,
    bytes: u64,
}

impl Report {
    fn new(
        package: &Package,
        others: &[(OsString, VolumeSet)],
        made: &HandedOver,
        password_note: Option<&Path>,
    ) -> Self {
        let file = |file: &HandedFile| File { name: text::name(&file.name), bytes: file.bytes };
        let files = |files: &[HandedFile]| files.iter().map(file).collect();
        Self {
            command: "handover",
            exit_code: DONE,
            format: package.format(),
            set: package.set_text(),
            further_sets: others.iter().map(|(_, set)| set.ids.set_text()).collect(),
            secret: package.is_secret(),
            // Volumes are checked without it.
            contents_read: !package.format().abilities.volumes && package.is_readable(),
            folder: text::path(&made.folder),
            note: [NOTE_TEXT, NOTE_PAGE],
            checksums: SUMS,
            page: made.page.as_ref().map(file),
            volumes: files(&made.volumes),
            drafts: files(&made.drafts),
            labels: files(&made.labels),
            password_note: password_note.map(text::path),
        }
    }
}

fn note(report: &Report) -> String {
    let secret = if report.secret { "; the password is not in them" } else { "" };
    format!("{} and {}{secret}", report.note[0], report.note[1])
}

/// What was found right before it was copied, and after.
fn checked(report: &Report) -> &'static str {
    match (report.format.abilities.checks, report.contents_read) {
        (Checks::Authentic, _) => "every cell's check, before and after copying",
        (Checks::Checksums, true) => "every content's length and checksum before copying, every byte after it",
        (Checks::Checksums, false) => "the directory before copying, every byte after it; contents need the password",
        _ => "every content read to its end before copying, every byte compared after it",
    }
}

fn lines(report: &Report) -> Vec<String> {
    let total = |files: &[File]| size(files.iter().map(|file| file.bytes).sum());
    let several = |files: &[File], noun: &str| match files {
        [] => Vec::new(),
        [only] => vec![format!("1 {noun}: {}, {}", only.name, size(only.bytes))],
        [first, .., last] => {
            vec![format!("{}: {} to {}, {}", count(files.len() as u64, noun), first.name, last.name, total(files))]
        }
    };
    let mut lines = vec![paint(Tone::Good, "Everything for the recipient is in one folder."), String::new()];
    let largest = report.drafts.iter().map(|file| file.bytes).max();
    let mut drafts = several(&report.drafts, "draft");
    drafts.extend(
        largest
            .filter(|_| report.drafts.len() > 1)
            .map(|largest| format!("the largest message has {}", bytes(largest))),
    );
    lines.extend(table::summary(&[
        if report.set.is_some() {
            ("volumes", several(&report.volumes, "volume"))
        } else {
            ("archive", several(&report.volumes, "file"))
        },
        ("checked", vec![checked(report).to_owned()]),
        ("note", vec![note(report)]),
        ("page", report.page.iter().map(|page| format!("{}, which opens them in a browser", page.name)).collect()),
        ("checksums", vec![report.checksums.to_owned()]),
        ("drafts", drafts),
        ("labels", several(&report.labels, "label")),
        ("where", vec![report.folder.clone()]),
        ("password", report.password_note.iter().cloned().collect()),
    ]));
    let next = match report.drafts.as_slice() {
        [] => "Next: give all of it to the recipient",
        _ => "Next: open the drafts in your mail program and send them",
    };
    let password = match (report.secret, report.password_note.is_some()) {
        (false, _) => "",
        (true, true) => "; send the password another way",
        (true, false) => "; share the password another way, for example by phone",
    };
    lines.extend([String::new(), format!("{next}{password}.")]);
    lines
}
