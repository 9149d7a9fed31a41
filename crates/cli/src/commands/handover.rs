//! `handover`: everything that goes to the recipient, in one folder; and, apart from it, the password for another way.

use super::show;
use crate::archives::{Given, NotExtracted, each_given, given, not_extracted, not_extracted_lines};
use crate::args::{HandoverArguments, UnlockArguments};
use crate::commands::since::BuildsUpon;
use crate::credentials::{self, Keyring, Wanted};
use crate::failure::{BadValue, DONE, Failure, LOOK};
use crate::settings::Settings;
use crate::ui::paint::{Tone, paint};
use crate::ui::progress::ProgressLine;
use crate::ui::section::listed;
use crate::ui::suggestion;
use crate::ui::table;
use crate::ui::text::{self, bytes, count, size};
use crate::words::{self, as_name, how_to_open, part_word, volume_word};
use crate::{named_file, session};
use serde::Serialize;
use std::ffi::{OsStr, OsString};
use std::path::{Path, PathBuf};
use std::slice;
use under_seal_core::disk::names::name_of;
use under_seal_core::formats::abilities::Checks;
use under_seal_core::formats::archive::Archive;
use under_seal_core::formats::registry::Format;
use under_seal_core::formats::sealed::volume::VolumeSet;
use under_seal_core::formats::sealed::volume::names::parcel_named;
use under_seal_core::formats::sealed::{SealedReader, UnlockedSet};
use under_seal_core::ground::entry::ListedEntry;
use under_seal_core::ground::secrets::Password;
use under_seal_core::landing::outward_links;
use under_seal_core::tasks::handover::dividing::{Losses, Share};
use under_seal_core::tasks::handover::{
    DraftError, HandedFile, HandedOver, HandoverError, HandoverRequest, NOTE_PAGE, NOTE_TEXT, Package, SUMS, Upon,
    hand_over,
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
    let mut keyring = Keyring::given(&arguments.unlock, arguments.ask_password)?;
    let mut looked = Looked::default();
    let (mut package, stem) = match first {
        Given::Volumes(set) => {
            let stem = super::resend::stem(&set);
            let (set, secret) = looked.look(set, &mut keyring, arguments)?;
            (Package::Volumes { set: Box::new(set), secret }, stem)
        }
        file => {
            let is_given =
                credentials::is_given(&arguments.unlock) || arguments.ask_password || password_note.is_some();
            let wanted = if is_given { Wanted::Content } else { Wanted::Outside };
            let archive = file.load(&arguments.unlock, wanted, &arguments.work)?;
            let stem = name_of(&archive.name());
            looked.note(&archive)?;
            (Package::Archive(archive), stem)
        }
    };
    let look = |(stem, set)| Ok((stem, looked.look(set, &mut keyring, arguments)?.0));
    let others = others.into_iter().map(look).collect::<Result<Vec<_>, Failure>>()?;
    let given_key_file = arguments.unlock.password.key_file.as_ref().and_then(|file| file.file_name()).map(text::name);
    // An archive that the password alone opens needs none, whatever was named.
    let key_file = given_key_file.clone().filter(|_| looked.key_file != Some(false));
    let password = password_note.map(|note| Ok::<_, Failure>((note, password(&package, &arguments.unlock)?)));
    let password = password.transpose()?;
    let all = || others.iter().map(|(_, set)| set.geometry.data_volumes).fold(package.count(), u32::saturating_add);
    let volumes = package.format().abilities.volumes.then(all);
    let progress = ProgressLine::for_reading(volumes, &arguments.work);
    let context = session::context(&progress, arguments.work.threads);
    let how = how_to_open(&package, !arguments.no_page, !others.is_empty() || looked.builds_upon.is_some());
    let upon = looked.builds_upon.clone().map(|BuildsUpon { archive, made, .. }| Upon { archive, made });
    let title = (!others.is_empty()).then(|| title(&stem, &others));
    let request = HandoverRequest {
        stem: &stem,
        title: title.as_deref(),
        folder: &arguments.to,
        fit: settings.fit.value.fit,
        template: template.as_deref(),
        key_file: key_file.as_deref(),
        how: &how,
        upon: upon.as_ref(),
        page: !arguments.no_page,
        together_with: &others,
        mail_to: &settings.mail_to,
    };
    let made = hand_over(&mut package, &request, &context);
    drop(progress);
    let made = made.map_err(|error| too_long_for_mail(error, &package, arguments))?;
    if let Some((note, password)) = &password {
        let name = title.as_deref().unwrap_or(&stem);
        credentials::write_password_note(note, password, &name.to_string_lossy(), key_file.as_deref())?;
    }
    looked.key_file_not_needed = given_key_file.filter(|_| key_file.is_none());
    let report = Report::new(&package, &others, &made, password_note, looked);
    show(&report, &arguments.work, || lines(&report))?;
    Ok(report.exit_code)
}

/// What was seen inside, where that can be read with what is given.
#[derive(Default)]
struct Looked {
    /// Whether anything was.
    inside: bool,
    /// Whether a key file is needed beside the password, where that is known.
    key_file: Option<bool>,
    /// The name of a key file that was given for an archive that opens without it.
    key_file_not_needed: Option<String>,
    /// What it builds upon, where it holds only changes.
    builds_upon: Option<BuildsUpon>,
    links_leading_outside: Vec<String>,
    not_extracted: Vec<NotExtracted>,
}

impl Looked {
    /// Looks into a set, as far as it opens with what is given; the set, with its seals judged then, and whether it needs a password. One
    /// without a password is refused where one was given: anybody can have put it beside the others.
    fn look(
        &mut self,
        set: VolumeSet,
        keyring: &mut Keyring<'_>,
        arguments: &HandoverArguments,
    ) -> Result<(VolumeSet, bool), Failure> {
        let Some(unlocked) = keyring.unlock(&set)? else { return Ok((set, true)) };
        let UnlockedSet { secret, key_file, .. } = unlocked;
        self.key_file = self.key_file.max(Some(key_file));
        let judged = unlocked.set.clone();
        // What is missing is told with everything else that is.
        if judged.missing().is_empty() {
            let progress = ProgressLine::for_reading(None, &arguments.work);
            let archive = Archive::from(SealedReader::of(unlocked)?);
            drop(progress);
            self.note(&archive)?;
        }
        Ok((judged, secret))
    }

    fn note(&mut self, archive: &Archive) -> Result<(), Failure> {
        // Of what is hidden the list of entries is not known.
        self.inside |= !archive.facts().is_covered;
        let link = |listed: &ListedEntry| text::shown(listed.entry.path.as_bytes());
        self.links_leading_outside.extend(outward_links(archive.entries()?).map(link));
        self.not_extracted.extend(not_extracted(archive));
        if let Some(base) = archive.base_name() {
            self.builds_upon = Some(base.into());
        }
        Ok(())
    }
}

/// What is too long for a message can be cut for that, where it is sealed, without packing it again.
fn too_long_for_mail(error: HandoverError, package: &Package, arguments: &HandoverArguments) -> Failure {
    let is_too_long = matches!(error, HandoverError::Draft(DraftError::TooLarge { .. }));
    let why = Failure::from(error);
    let (true, Some(fit)) = (is_too_long, &arguments.fit) else { return why };
    let (sentence, command) = match package {
        Package::Volumes { set, .. } if !set.is_in_page() => {
            let place = set.any_file().map_or_else(|| arguments.archive.clone(), |file| file.spot.path.clone());
            let cut = suggestion::cut(&place, fit);
            ("Cut it for that, into a folder of its own, and hand that over:", Some(cut))
        }
        _ => ("Pack it again as sealed volumes with this --fit.", None),
    };
    Failure::WithWayOut { why: Box::new(why), sentence: sentence.to_owned(), command }
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
            Ok((first, others.into_iter().map(|set| (super::resend::stem(&set), set)).collect()))
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
    contents_seen: bool,
    messages_to_spare: Option<usize>,
    links_leading_outside: Vec<String>,
    not_extracted: Vec<NotExtracted>,
    builds_upon: Option<BuildsUpon>,
    #[serde(skip)]
    key_file_not_needed: Option<String>,
    /// What its files are called.
    #[serde(skip)]
    noun: &'static str,
    #[serde(skip)]
    losses: Option<Losses>,
    #[serde(skip)]
    spares: usize,
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
        looked: Looked,
    ) -> Self {
        let file = |file: &HandedFile| File { name: text::name(&file.name), bytes: file.bytes };
        let files = |files: &[HandedFile]| files.iter().map(file).collect();
        Self {
            command: "handover",
            exit_code: match looked.links_leading_outside.is_empty() && looked.not_extracted.is_empty() {
                true => DONE,
                false => LOOK,
            },
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
            contents_seen: looked.inside,
            messages_to_spare: made.losses.map(|losses| losses.any),
            links_leading_outside: looked.links_leading_outside,
            not_extracted: looked.not_extracted,
            builds_upon: looked.builds_upon,
            key_file_not_needed: looked.key_file_not_needed,
            noun: noun(package, others),
            losses: made.losses,
            spares: made.volumes.iter().filter(|file| file.share.is_some_and(Share::is_spare)).count(),
        }
    }
}

/// What the files of sealed archives are called.
fn noun(package: &Package, others: &[(OsString, VolumeSet)]) -> &'static str {
    match package {
        Package::Volumes { .. } if others.iter().any(|(stem, _)| parcel_named(stem.as_encoded_bytes()).is_some()) => {
            "parcel"
        }
        Package::Volumes { set, .. } => volume_word(set),
        Package::Archive(_) => "volume",
    }
}

fn note(report: &Report) -> String {
    let secret = if report.secret { "; the password is not in them" } else { "" };
    format!("{} and {}{secret}", report.note[0], report.note[1])
}

/// What nobody could look at, so that the note does not speak of it.
fn unseen(report: &Report) -> Option<String> {
    let unseen = report.set.is_some() && report.secret && !report.contents_seen;
    let says = "not seen without the password. If it holds only changes, the note is wrong: add --ask-password";
    unseen.then(|| says.to_owned())
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
    let all_but = words::all_but(report.links_leading_outside.len(), report.not_extracted.len());
    let (tone, all_but) = match all_but {
        None => (Tone::Good, String::new()),
        Some(all_but) => (Tone::Look, format!(" The recipient can open it, {all_but}.")),
    };
    let heading = format!("Everything for the recipient is in one folder.{all_but}");
    let mut lines = vec![paint(tone, heading), String::new()];
    let largest = report.drafts.iter().map(|file| file.bytes).max();
    let mut drafts = several(&report.drafts, "draft");
    drafts.extend(
        largest
            .filter(|_| report.drafts.len() > 1)
            .map(|largest| format!("the largest message has {}", bytes(largest))),
    );
    drafts.extend(report.losses.map(|losses| words::losses(losses, ("message", "messages"))));
    let builds_upon = report
        .builds_upon
        .iter()
        .map(|base| format!("only what has changed since {}; the note says into which folder it goes", base.archive));
    let (key_file, spares) = (report.key_file_not_needed.iter(), report.spares);
    lines.extend(table::summary(&[
        if report.set.is_some() {
            let (data, spare) = report.volumes.split_at(report.volumes.len() - spares);
            let mut volumes = several(data, report.noun);
            volumes.extend(several(spare, "spare volume"));
            let label = match report.noun {
                "parcel" => "parcels",
                "page" => "page",
                _ => "volumes",
            };
            (label, volumes)
        } else {
            ("archive", several(&report.volumes, part_word(u32::try_from(report.volumes.len()).unwrap_or(u32::MAX))))
        },
        ("changes", builds_upon.collect()),
        ("checked", vec![checked(report).to_owned()]),
        ("inside", unseen(report).into_iter().collect()),
        ("note", vec![note(report)]),
        ("page", report.page.iter().map(|page| format!("{}, which opens them in a browser", page.name)).collect()),
        ("checksums", vec![report.checksums.to_owned()]),
        ("drafts", drafts),
        ("labels", several(&report.labels, "label")),
        ("where", vec![report.folder.clone()]),
        ("password", report.password_note.iter().cloned().collect()),
        ("key file", key_file.map(|file| format!("{file} is not needed: the password alone opens it")).collect()),
    ]));
    lines.extend(listed(Tone::Look, words::OUTWARD_LINKS, &report.links_leading_outside));
    lines.extend(not_extracted_lines(&report.not_extracted));
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
