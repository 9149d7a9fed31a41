//! `handover`: everything that goes to the recipient, in one folder; and, apart from it, the password for another way.

use super::show;
use crate::archives::{Given, Wanted, given};
use crate::args::{DeliveryArguments, HandoverArguments, ShapeArguments, UnlockArguments};
use crate::credentials;
use crate::failure::{DONE, Failure};
use crate::named_file;
use crate::session;
use crate::settings::{BadValue, Settings};
use crate::ui::paint::{Tone, paint};
use crate::ui::progress::ProgressLine;
use crate::ui::table;
use crate::ui::text::{self, bytes, count};
use serde::Serialize;
use std::ffi::OsString;
use std::os::unix::ffi::OsStringExt as _;
use std::path::{Path, PathBuf};
use std::slice;
use under_seal_core::formats::archive::Archive;
use under_seal_core::formats::sealed::key_of_open_to_all;
use under_seal_core::formats::sealed::volume::VolumeSet;
use under_seal_core::ground::secrets::Password;
use under_seal_core::tasks::handover::{
    Handed, HandedFile, HandedOver, HandoverRequest, NOTE_PAGE, NOTE_TEXT, SUMS, hand_over,
};

/// Runs the command; the exit code.
pub fn run(arguments: &HandoverArguments) -> Result<u8, Failure> {
    let delivery = DeliveryArguments {
        shape: ShapeArguments { fit: arguments.fit.clone(), ..ShapeArguments::default() },
        configuration: arguments.configuration.clone(),
        ..DeliveryArguments::default()
    };
    let settings = Settings::resolve(&delivery, arguments.work.threads)?;
    let stored = || settings.note_template.as_ref().map(|path| path.value.clone());
    let template = arguments.note_template.clone().or_else(stored).map(read_template).transpose()?;
    let password_note = arguments.password_note.as_deref();
    if let Some(note) = password_note {
        lies_apart(note, &arguments.to)?;
    }
    let (mut what, stem) = match given(slice::from_ref(&arguments.archive), &arguments.work)? {
        Given::Sealed(set) => {
            let stem = super::resend::stem(&set);
            let secret = key_of_open_to_all(&set, credentials::expects_password(&arguments.unlock))?.is_none();
            (What::Volumes { set, secret }, stem)
        }
        open => {
            let is_given = credentials::is_given(&arguments.unlock) || password_note.is_some();
            let wanted = if is_given { Wanted::Content } else { Wanted::Outside };
            let loaded = open.load(&arguments.unlock, wanted, &arguments.work)?;
            (What::Archive(Box::new(loaded.archive)), OsString::from_vec(loaded.name))
        }
    };
    let password = password_note.map(|note| Ok::<_, Failure>((note, what.password(&arguments.unlock)?))).transpose()?;
    let progress = ProgressLine::for_reading(what.volumes(), &arguments.work);
    let context = session::context(&progress, arguments.work.threads);
    let request = HandoverRequest {
        stem: &stem,
        folder: &arguments.to,
        fit: settings.fit.value.fit,
        template: template.as_deref(),
        key_file: arguments.unlock.password.key_file.is_some(),
        mail_to: &settings.mail_to,
    };
    let made = hand_over(&mut what.handed(), &request, &context)?;
    drop(progress);
    if let Some((note, password)) = &password {
        credentials::write_password_note(note, password, &stem.to_string_lossy())?;
    }
    let report = Report::new(&what, &made, password_note);
    show(&report, &arguments.work, || lines(&report))?;
    Ok(DONE)
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

/// What is handed over.
enum What {
    Volumes { set: VolumeSet, secret: bool },
    Archive(Box<Archive>),
}

impl What {
    fn handed(&mut self) -> Handed<'_> {
        match self {
            Self::Volumes { set, .. } => Handed::Volumes(set),
            Self::Archive(archive) => Handed::Archive(archive),
        }
    }

    fn volumes(&self) -> Option<u32> {
        match self {
            Self::Volumes { set, .. } => Some(set.geometry.data_volumes),
            Self::Archive(_) => None,
        }
    }

    /// The password, once it has opened it.
    fn password(&self, unlock: &UnlockArguments) -> Result<Password, Failure> {
        match self {
            Self::Volumes { set, .. } => Ok(credentials::tried(set, unlock)?.credentials.password),
            Self::Archive(archive) => {
                archive.zip_password().flatten().cloned().ok_or(Failure::Value(BadValue::NoPasswordToTell))
            }
        }
    }

    fn is_secret(&self) -> bool {
        match self {
            Self::Volumes { secret, .. } => *secret,
            Self::Archive(archive) => archive.zip_password().is_some(),
        }
    }

    /// Whether every content was read, as far as the format lets it be without the password.
    fn contents_read(&self) -> bool {
        match self {
            Self::Volumes { .. } => false,
            Self::Archive(archive) => archive.zip_password() != Some(None),
        }
    }
}

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    format: &'static str,
    set: Option<String>,
    secret: bool,
    contents_read: bool,
    folder: String,
    note: [&'static str; 2],
    checksums: &'static str,
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
    fn new(what: &What, made: &HandedOver, password_note: Option<&Path>) -> Self {
        let files = |files: &[HandedFile]| {
            files.iter().map(|file| File { name: text::name(&file.name), bytes: file.bytes }).collect()
        };
        Self {
            command: "handover",
            exit_code: DONE,
            format: match what {
                What::Volumes { .. } => "sealed",
                What::Archive(archive) => archive.format(),
            },
            set: match what {
                What::Volumes { set, .. } => Some(set.ids.set_text()),
                What::Archive(_) => None,
            },
            secret: what.is_secret(),
            contents_read: what.contents_read(),
            folder: text::path(&made.folder),
            note: [NOTE_TEXT, NOTE_PAGE],
            checksums: SUMS,
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
    match (report.format, report.contents_read) {
        ("sealed", _) => "every cell's check, before and after copying",
        ("zip", true) => "every content's length and checksum before copying, every byte after it",
        ("zip", false) => "the directory before copying, every byte after it; contents need the password",
        _ => "every content read to its end before copying, every byte compared after it",
    }
}

fn lines(report: &Report) -> Vec<String> {
    let total = |files: &[File]| bytes(files.iter().map(|file| file.bytes).sum());
    let several = |files: &[File], noun: &str| match files {
        [] => Vec::new(),
        [only] => vec![format!("1 {noun}: {}, {}", only.name, bytes(only.bytes))],
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
        (true, true) => "; send the password by another way",
        (true, false) => "; tell the password by another way",
    };
    lines.extend([String::new(), format!("{next}{password}.")]);
    lines
}
