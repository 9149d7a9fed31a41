//! `handover`: everything that goes to the recipient, in one folder; and, apart from it, the password for another way.

use super::show;
use crate::args::{DeliveryArguments, HandoverArguments, ShapeArguments};
use crate::credentials;
use crate::failure::{DONE, Failure};
use crate::places::gather;
use crate::session;
use crate::settings::{BadValue, Settings};
use crate::ui::paint::{Tone, paint};
use crate::ui::progress::ProgressLine;
use crate::ui::table;
use crate::ui::text::{self, bytes, count};
use serde::Serialize;
use std::fs;
use std::path::{Path, PathBuf};
use std::slice;
use under_seal_core::handover::{HandedFile, HandedOver, HandoverRequest, NOTE_PAGE, NOTE_TEXT, SUMS, hand_over};

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
    let set = gather(slice::from_ref(&arguments.archive))?;
    let stem = super::resend::stem(&set);
    let password = arguments.password_note.as_deref().map(|note| apart(arguments, note, &set)).transpose()?;
    let progress = ProgressLine::for_reading(Some(set.geometry.data_volumes), &arguments.work);
    let context = session::context(&progress, arguments.work.threads);
    let request = HandoverRequest {
        set: &set,
        stem: &stem,
        folder: &arguments.to,
        fit: settings.fit.value.fit,
        template: template.as_deref(),
        mail_to: &settings.mail_to,
    };
    let made = hand_over(&request, &context)?;
    drop(progress);
    if let Some((note, password)) = &password {
        credentials::write_password_note(note, password, &stem.to_string_lossy())?;
    }
    let report = Report::new(&set.ids.set_text(), &made, arguments.password_note.as_deref());
    show(&report, &arguments.work, || lines(&report))?;
    Ok(DONE)
}

fn read_template(path: PathBuf) -> Result<String, Failure> {
    fs::read_to_string(&path).map_err(|source| Failure::TextFile { path, source })
}

/// The password for another way, which must open the archive and must not lie among what is handed over.
fn apart(
    arguments: &HandoverArguments,
    note: &Path,
    set: &under_seal_core::volume::VolumeSet,
) -> Result<(PathBuf, under_seal_core::sealed::Password), Failure> {
    let absolute = |path: &Path| std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    if absolute(note).starts_with(absolute(&arguments.to)) {
        return Err(Failure::Value(BadValue::PasswordAmongIt));
    }
    Ok((note.to_owned(), credentials::that_opens(set, &arguments.unlock)?))
}

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    set: String,
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
    fn new(set: &str, made: &HandedOver, password_note: Option<&Path>) -> Self {
        let files = |files: &[HandedFile]| {
            files.iter().map(|file| File { name: text::name(&file.name), bytes: file.bytes }).collect()
        };
        Self {
            command: "handover",
            exit_code: DONE,
            set: set.to_owned(),
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
        ("volumes", several(&report.volumes, "volume")),
        ("note", vec![format!("{} and {}; the password is not in them", report.note[0], report.note[1])]),
        ("checksums", vec![report.checksums.to_owned()]),
        ("drafts", drafts),
        ("labels", several(&report.labels, "label")),
        ("where", vec![report.folder.clone()]),
        ("password", report.password_note.iter().cloned().collect()),
    ]));
    let next = match (report.drafts.as_slice(), report.password_note.is_some()) {
        ([], _) => "Next: give all of it to the recipient, and tell the password by another way.",
        (_, true) => "Next: open the drafts in your mail program and send them; send the password by another way.",
        (_, false) => "Next: open the drafts in your mail program and send them; tell the password by another way.",
    };
    lines.extend([String::new(), next.to_owned()]);
    lines
}
