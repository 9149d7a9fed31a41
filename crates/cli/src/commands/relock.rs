//! `relock`: a sealed archive gets other passwords, in its own place or elsewhere.

use super::in_place::{Volume, hand_over, new_place, replaced, settled, spare_line, target_folder, volume_lines};
use super::show;
use crate::args::RelockArguments;
use crate::credentials::{self, Sealing};
use crate::failure::{DONE, Failure};
use crate::places::gather;
use crate::session;
use crate::ui::paint::{Tone, paint};
use crate::ui::progress::ProgressLine;
use crate::ui::table;
use crate::ui::text::{self, contents, count, size};
use crate::words::NOT_SECRET;
use serde::Serialize;
use std::slice;
use under_seal_core::formats::reader::ArchiveReader as _;
use under_seal_core::formats::registry::SEALED;
use under_seal_core::formats::sealed::SealedReader;
use under_seal_core::formats::sealed::volume::VolumeSet;
use under_seal_core::ground::entry::ListedEntry;
use under_seal_core::ground::fit::Fit;
use under_seal_core::ground::passwords::{Guessing, guessable_words};
use under_seal_core::tasks::in_place::{placed, placed_spares};
use under_seal_core::tasks::pack::Target;
use under_seal_core::tasks::relock::{RelockRequest, Relocked, relock};

/// Runs the command; the exit code.
pub fn run(arguments: &RelockArguments) -> Result<u8, Failure> {
    if !arguments.dry_run {
        settled(&arguments.archive, &arguments.work)?;
    }
    let set = gather(slice::from_ref(&arguments.archive), &arguments.work)?.complete()?;
    // Whatever stands in the way is told before a password is asked for.
    let (target, in_place) = new_place(arguments.to.as_deref(), &set)?;
    let unlocked = credentials::to_unlock(&set, &arguments.unlock)?;
    if arguments.dry_run {
        let report = Report::planned(&unlocked.set, unlocked.secret, &target);
        show(&report, &arguments.work, || lines(&report))?;
        return Ok(DONE);
    }
    let mut old = SealedReader::of(unlocked)?;
    let progress = ProgressLine::for_writing(Fit::OneVolume, &arguments.work);
    let context = session::context(&progress, arguments.work.threads);
    let entries = old.entries()?;
    let guessable = || guessable_in(entries, &target);
    let Sealing { credentials, cost, secret, mut passphrase_file } =
        credentials::to_relock(&arguments.new, Guessing::Sealed, guessable, &context)?;
    // What a cut-off run leaves may be completed by the next one, and needs it.
    let passphrase_file = passphrase_file.as_mut().map(|file| text::path(file.keep()));
    let request = RelockRequest { target: &target, replace: in_place, credentials: &credentials, cost };
    let relocked = relock(&mut old, &request, &context)?;
    drop(progress);
    let opened_by = OpenedBy {
        passwords: if secret { credentials.len() } else { 0 },
        key_file: arguments.new.new_key_file.is_some(),
        passphrase_file,
    };
    let report = Report::written(&old, &relocked, opened_by, &target);
    show(&report, &arguments.work, || lines(&report))?;
    Ok(DONE)
}

/// Words in a password that are no secret, since the archive has them.
fn guessable_in(entries: &[ListedEntry], target: &Target) -> Vec<String> {
    let mut words = guessable_words(entries.iter().map(|listed| &listed.entry.path));
    words.push(target.stem.to_string_lossy().to_lowercase());
    words
}

/// What opens it then.
struct OpenedBy {
    passwords: usize,
    key_file: bool,
    passphrase_file: Option<String>,
}

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    written: bool,
    old_set: String,
    set: Option<String>,
    passwords: usize,
    key_file: bool,
    volumes: Vec<Volume>,
    spare_volumes: Vec<Volume>,
    replaced: Vec<String>,
    verified_files: u64,
    verified_bytes: u64,
    folder: String,
    passphrase_file: Option<String>,
    #[serde(skip)]
    verified: String,
    /// Whether the old volumes need a password.
    #[serde(skip)]
    was_secret: bool,
}

impl Report {
    fn planned(old: &VolumeSet, was_secret: bool, target: &Target) -> Self {
        Self {
            command: "relock",
            exit_code: DONE,
            written: false,
            old_set: old.ids.set_text(),
            set: None,
            passwords: 0,
            key_file: false,
            volumes: Volume::all(placed(target, &old.geometry)),
            spare_volumes: Volume::all(placed_spares(target, &old.geometry)),
            replaced: Vec::new(),
            verified_files: 0,
            verified_bytes: 0,
            folder: target_folder(target),
            passphrase_file: None,
            verified: String::new(),
            was_secret,
        }
    }

    fn written(old: &SealedReader, relocked: &Relocked, opened_by: OpenedBy, target: &Target) -> Self {
        let verified = relocked.verified;
        Self {
            written: true,
            set: Some(relocked.ids.set_text()),
            passwords: opened_by.passwords,
            key_file: opened_by.key_file,
            volumes: Volume::all(relocked.volumes.clone()),
            spare_volumes: Volume::all(relocked.spares.clone()),
            replaced: relocked.replaced.iter().map(|(path, _)| text::path(path)).collect(),
            verified_files: verified.files,
            verified_bytes: verified.content_bytes,
            passphrase_file: opened_by.passphrase_file,
            verified: format!(
                "read back from disk and unlocked; {} in {}, every digest compared",
                size(verified.content_bytes),
                contents(verified.files, verified.folders, verified.links)
            ),
            ..Self::planned(old.set(), old.is_secret(), target)
        }
    }

    fn opened_by(&self) -> String {
        let key_file = if self.key_file { ", with the key file" } else { "" };
        match self.passwords {
            0 => "nothing: no password is needed".to_owned(),
            1 => format!("the new password and no other{key_file}"),
            several => format!("{several} passwords and no other{key_file}"),
        }
    }
}

fn lines(report: &Report) -> Vec<String> {
    let volumes = count(report.volumes.len() as u64, "volume");
    if !report.written {
        return vec![
            paint(Tone::Strong, format!("The archive would get new passwords: {volumes}. Nothing was written.")),
            "Only passwords that are given as new would open it then.".to_owned(),
        ];
    }
    let mut lines = vec![
        paint(Tone::Good, format!("The archive has its new passwords and is verified: {volumes}.")),
        String::new(),
    ];
    lines.extend(volume_lines(&report.volumes, &report.spare_volumes));
    lines.push(String::new());
    lines.extend(table::summary(&[
        ("spare", spare_line(report.volumes.len(), &report.spare_volumes)),
        ("opens by", vec![report.opened_by()]),
        ("verified", vec![report.verified.clone()]),
        ("replaced", replaced(&report.replaced, &SEALED)),
        ("passphrase", report.passphrase_file.iter().map(|file| format!("in {file}, readable by you only")).collect()),
        ("where", vec![report.folder.clone()]),
    ]));
    lines.push(String::new());
    if report.passwords == 0 {
        lines.push(paint(Tone::Look, NOT_SECRET));
    }
    let old = match report.was_secret {
        true => "still open with the old password: whoever has them and knows it can read them",
        false => "still open without a password: whoever has them can read them",
    };
    lines.push(paint(Tone::Look, format!("Copies of the old volumes that are elsewhere {old}.")));
    let tell =
        if report.passwords == 0 { "" } else { ", and share the new password another way, for example by phone" };
    lines.extend([
        String::new(),
        format!("Next: send the new volumes{tell}; or put everything for the recipient together with"),
        hand_over(&report.volumes, &SEALED),
    ]);
    lines
}
