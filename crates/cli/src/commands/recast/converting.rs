//! Archives become archives of another format, or are squeezed otherwise; several of them end in a table.

use crate::archives::{Given, given};
use crate::args::{NewPasswordArguments, RecastArguments};
use crate::commands::in_place::{
    Volume, could_be_lost, hand_over, noun, replaced, settled, target_folder, volume_lines,
};
use crate::commands::resend::stem;
use crate::commands::show;
use crate::commands::standing::Standing;
use crate::credentials::{self, Sealing, Wanted};
use crate::failure::{BadValue, DONE, Failure};
use crate::ui::paint::{Tone, paint};
use crate::ui::progress::ProgressLine;
use crate::ui::section::{headed, listed};
use crate::ui::table::{self, Column};
use crate::ui::text::{self, contents, count, grouped, size, wrapped_behind};
use crate::{session, words};
use serde::Serialize;
use std::collections::HashSet;
use std::ffi::OsString;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::slice;
use under_seal_core::codecs::block::Squeeze;
use under_seal_core::disk::folder_of;
use under_seal_core::disk::names::name_of;
use under_seal_core::formats::abilities::Ability;
use under_seal_core::formats::archive::Archive;
use under_seal_core::formats::registry::{Format, PAGE, SEALED};
use under_seal_core::formats::sealed::volume::Ids;
use under_seal_core::formats::sealed::{KeyCost, SealedReader};
use under_seal_core::ground::context::Context;
use under_seal_core::ground::entry::Totals;
use under_seal_core::ground::fit::Fit;
use under_seal_core::ground::passwords::{Guessing, guessable_words};
use under_seal_core::ground::secrets::Credentials;
use under_seal_core::source::Choice;
use under_seal_core::tasks::in_place::{own_file, own_page, own_place};
use under_seal_core::tasks::pack::{PackRequest, Target, TargetWish};
use under_seal_core::tasks::recast::converting::{NotKept, carried_over, convert, not_kept, prepare};

/// Converts all that are named; the exit code: that of the first that failed, if one did.
pub(super) fn convert_all(fit: Option<Fit>, arguments: &RecastArguments) -> Result<u8, Failure> {
    let mut shared = Shared::default();
    let mut archives = Vec::new();
    for path in &arguments.archives {
        match converted(path, fit, &mut shared, arguments) {
            Ok(None) => {}
            Ok(Some(one)) => archives.push(one),
            Err(failure) if arguments.archives.len() == 1 || matches!(failure, Failure::GivenUp) => {
                return Err(failure);
            }
            Err(failure) => archives.push(One::failed(path, &failure)),
        }
    }
    let exit_code = archives.iter().map(|one| one.exit_code).find(|code| *code != DONE).unwrap_or(DONE);
    let report = Report { command: "recast", exit_code, archives };
    show(&report, &arguments.work, || match report.archives.as_slice() {
        [one] => one_lines(one),
        all => table_lines(all),
    })?;
    Ok(exit_code)
}

/// What is the same for all archives of a run.
#[derive(Default)]
struct Shared {
    /// Sets of which a volume was named already.
    known: HashSet<Ids>,
    /// What is to open all of them, once it was asked for.
    new: Option<Sealing>,
}

/// An archive that is open, with what opens it and what it was known by.
struct Old {
    archive: Archive,
    opened_by: Credentials,
    /// The format that its files' names say, and where it can be replaced by another of that.
    own: Option<(Target, &'static Format)>,
    stem: OsString,
    folder: PathBuf,
}

/// Opens an archive; `None` for volumes of a set that was named already.
fn opened(path: &Path, known: &mut HashSet<Ids>, arguments: &RecastArguments) -> Result<Option<Old>, Failure> {
    let folder = |archive: &Archive| {
        let first = archive.paths().into_iter().next().unwrap_or_default();
        folder_of(&first).to_owned()
    };
    match given(slice::from_ref(&path.to_owned()), &arguments.work)? {
        Given::Volumes(set) => {
            let set = set.complete()?;
            if !known.insert(set.ids) {
                return Ok(None);
            }
            let own = own_place(&set).map(|target| (target, &SEALED));
            let own = own.or_else(|| own_page(&set).map(|target| (target, &PAGE)));
            let stem = stem(&set);
            let (unlocked, opened_by) = credentials::unlocked_by(&set, &arguments.unlock)?;
            let archive = Archive::from(SealedReader::of(unlocked)?);
            Ok(Some(Old { folder: folder(&archive), archive, opened_by, own, stem }))
        }
        file => {
            let archive = file.load(&arguments.unlock, Wanted::Content, &arguments.work)?;
            let opened_by = archive.opened_by();
            let own = own_file(&archive);
            let stem = match &own {
                Some((target, _)) => target.stem.clone(),
                None => name_of(&archive.name()),
            };
            Ok(Some(Old { folder: folder(&archive), archive, opened_by, own, stem }))
        }
    }
}

impl Old {
    /// The format of the new archive: as it is typed, or as it is.
    fn becomes(&self, arguments: &RecastArguments) -> Result<&'static Format, Failure> {
        let own = self.own.as_ref().map(|(_, format)| *format);
        let format = arguments.format.or(own).unwrap_or(self.archive.format);
        match format.writing {
            Some(_) => Ok(format),
            None => Err(Failure::Value(BadValue::OnlyRead(format))),
        }
    }

    /// Where the new archive goes, and whether that is in the place of the old one.
    fn place(&self, format: &'static Format, arguments: &RecastArguments) -> Result<(Target, bool), Failure> {
        match (&arguments.to, &self.own) {
            (Some(to), _) if arguments.archives.len() > 1 && !Target::is_folder(to) => {
                Err(Failure::Value(BadValue::OneNameForSeveral))
            }
            (Some(to), _) => {
                let (to, name) = (Some(to.as_path()), Some(self.stem.as_os_str()));
                let wish = TargetWish { to, name, sources: &[], format: Some(format), usual_format: format };
                Ok((Target::resolve(&wish)?.0, false))
            }
            (None, Some((target, own))) if *own == format => Ok((target.clone(), true)),
            (None, None) if self.archive.format == format => Err(Failure::Value(BadValue::NoOwnPlace)),
            (None, _) => Ok((Target { folder: self.folder.clone(), stem: self.stem.clone() }, false)),
        }
    }
}

/// Converts one archive; `None` for one that was named already.
fn converted(
    path: &Path,
    fit: Option<Fit>,
    shared: &mut Shared,
    arguments: &RecastArguments,
) -> Result<Option<One>, Failure> {
    if !arguments.dry_run {
        settled(path, &arguments.work)?;
    }
    let Some(mut old) = opened(path, &mut shared.known, arguments)? else { return Ok(None) };
    if old.archive.base_name().is_some() {
        return Err(Failure::Value(BadValue::NotOfChanges("made into another")));
    }
    let format = old.becomes(arguments)?;
    let (target, replaces) = old.place(format, arguments)?;
    if replaces {
        refuse_losses(&old.archive)?;
    }
    let standing = Standing::of(&*old.archive)?;
    let secret = becomes_secret(&old, format, arguments);
    let hide_names = arguments.hide_names || (standing.hides_names && format.can(Ability::HiddenNames) && secret);
    let fit = fit.unwrap_or(if format.can(Ability::Volumes) { standing.fit } else { Fit::OneVolume });
    let squeeze = arguments.squeeze.map_or(standing.squeeze, Squeeze::from);
    let lost = not_kept(&old.archive, format, hide_names, secret)?;
    let message = if lost.contains(&NotKept::Message) { "" } else { standing.message.as_str() };
    let mut one = One::planned(path, &old, format, &standing, &lost);
    one.folder = target_folder(&target);
    if arguments.dry_run {
        return Ok(Some(one));
    }
    let choice = Choice::default();
    let request = PackRequest {
        format,
        fit,
        spares: standing.spares_in(format),
        squeeze,
        message,
        hide_names,
        replace: replaces,
        ..PackRequest::new(&[], &choice, &target)
    };
    let progress = ProgressLine::for_writing(fit, &arguments.work);
    let context = session::context(&progress, arguments.work.threads);
    let delivery = prepare(&old.archive, &request, &context)?;
    one.lost_was_told = tell_lost(&one, arguments)?;
    let (credentials, cost) = sealing(&old, format, shared, arguments, &context)?;
    let passphrase_file = shared.new.as_mut().and_then(|new| new.passphrase_file.as_mut());
    let passphrase_file = passphrase_file.map(|file| text::path(file.keep()));
    let packed = convert(&mut old.archive, delivery, &credentials, cost, &context)?;
    drop(progress);
    let volumes: Vec<_> = packed.volumes.iter().map(|volume| (volume.path.clone(), volume.bytes)).collect();
    one.written = true;
    one.after_bytes = Some(packed.bytes());
    one.volumes = Volume::all(volumes);
    one.spare_volumes = Volume::all(packed.spares.clone());
    one.replaced = packed.replaced.iter().map(|(path, _)| text::path(path)).collect();
    (one.verified_files, one.verified_bytes) = (packed.verified.files, packed.verified.content_bytes);
    one.passwords = if secret { credentials.len() } else { 0 };
    one.same_password = secret && !credentials::is_new_given(&arguments.new) && old.archive.is_secret();
    one.passphrase_file = passphrase_file;
    Ok(Some(one))
}

/// An archive with something in it that would be lost is not replaced.
fn refuse_losses(archive: &Archive) -> Result<(), Failure> {
    match could_be_lost(archive) {
        Some(what) => Err(Failure::Value(BadValue::WouldLose(what))),
        None => Ok(()),
    }
}

/// Whether a password is needed for the new archive.
fn becomes_secret(old: &Old, format: &Format, arguments: &RecastArguments) -> bool {
    format.can(Ability::Password)
        && !arguments.new.no_password
        && (old.archive.is_secret() || credentials::is_new_given(&arguments.new) || format.can(Ability::KeyFile))
}

/// What opens the new archive: what is given for it, or else what opened the old one.
fn sealing(
    old: &Old,
    format: &'static Format,
    shared: &mut Shared,
    arguments: &RecastArguments,
    context: &Context<'_>,
) -> Result<(Vec<Credentials>, KeyCost), Failure> {
    if !format.can(Ability::Password) && old.archive.is_secret() {
        format.refuse_what_it_lacks(&[(!arguments.new.no_password, Ability::Password)])?;
    }
    if !becomes_secret(old, format, arguments) {
        return Ok((vec![Credentials::none()], KeyCost::CHEAPEST));
    }
    let guessing = format.abilities.password.unwrap_or(Guessing::Sealed);
    let all = old.archive.entries()?;
    let guessable = || guessable_words(all.iter().map(|listed| &listed.entry.path));
    if credentials::is_new_given(&arguments.new) || !old.archive.is_secret() {
        let new = match &mut shared.new {
            Some(new) => new,
            none => none.insert(credentials::to_relock(&arguments.new, guessing, guessable, context)?),
        };
        return Ok((new.credentials.clone(), new.cost));
    }
    let opened_by = carried_over(old.opened_by.clone(), format);
    let NewPasswordArguments { also_password_from, making, .. } = &arguments.new;
    credentials::to_revise(opened_by, also_password_from, guessing, guessable, making.weak_ok)
}

/// Tells what is not kept, before anything is written; whether it did.
fn tell_lost(one: &One, arguments: &RecastArguments) -> Result<bool, Failure> {
    if one.not_kept.is_empty() || arguments.work.output.quiet || arguments.work.output.json {
        return Ok(false);
    }
    let told = format!("{} as {}: not kept: {}.", one.archive, one.to.unwrap_or_default(), one.not_kept.join("; "));
    writeln!(anstream::stderr(), "{}", text::wrapped(&told, &std::io::stderr())).map_err(Failure::Prompt)?;
    Ok(true)
}

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    archives: Vec<One>,
}

#[derive(Default, Serialize)]
struct One {
    archive: String,
    exit_code: u8,
    #[serde(rename = "reason")]
    error: Option<String>,
    written: bool,
    from: Option<&'static str>,
    to: Option<&'static str>,
    files: u64,
    folders: u64,
    links: u64,
    content_bytes: u64,
    before_bytes: u64,
    after_bytes: Option<u64>,
    not_kept: Vec<String>,
    volumes: Vec<Volume>,
    spare_volumes: Vec<Volume>,
    replaced: Vec<String>,
    verified_files: u64,
    verified_bytes: u64,
    passwords: usize,
    passphrase_file: Option<String>,
    folder: String,
    #[serde(skip)]
    format: &'static Format,
    /// The old password opens it too.
    #[serde(skip)]
    same_password: bool,
    /// What is not kept was told before; once is enough.
    #[serde(skip)]
    lost_was_told: bool,
}

impl One {
    fn planned(path: &Path, old: &Old, format: &'static Format, standing: &Standing, lost: &[NotKept]) -> Self {
        let Totals { files, folders, links, content_bytes } = standing.totals;
        Self {
            from: Some(old.own.as_ref().map_or(old.archive.format, |(_, format)| format).name),
            to: Some(format.name),
            files,
            folders,
            links,
            content_bytes,
            before_bytes: standing.bytes,
            not_kept: lost.iter().map(|what| words::not_kept(*what)).collect(),
            format,
            ..Self::named(path)
        }
    }

    fn failed(path: &Path, failure: &Failure) -> Self {
        Self { exit_code: failure.exit_code(), error: Some(words::explain(failure)), ..Self::named(path) }
    }

    fn named(path: &Path) -> Self {
        Self { archive: text::path(path), ..Self::default() }
    }

    fn contents(&self) -> String {
        format!("{} in {}", size(self.content_bytes), contents(self.files, self.folders, self.links))
    }

    fn opened_by(&self) -> Option<String> {
        match self.passwords {
            0 => None,
            1 if self.same_password => Some("the password that opened the old one, and no other".to_owned()),
            1 => Some("the new password, and no other".to_owned()),
            several => Some(format!("{several} passwords, and no other")),
        }
    }
}

fn one_lines(one: &One) -> Vec<String> {
    let heading = match one.written {
        true => paint(
            Tone::Good,
            format!(
                "It is a {} now, read back and verified: {}.",
                one.format.title,
                count(one.volumes.len() as u64, noun(one.format))
            ),
        ),
        false => paint(Tone::Strong, format!("It would become a {}. Nothing was written.", one.format.title)),
    };
    let mut lines = vec![heading, String::new()];
    if one.written {
        lines.extend(volume_lines(&one.volumes, &one.spare_volumes));
        lines.push(String::new());
    }
    let when_written = |line: String| one.written.then_some(line).into_iter().collect::<Vec<_>>();
    lines.extend(table::summary(&[
        ("inside", vec![one.contents()]),
        ("before", vec![size(one.before_bytes)]),
        ("after", one.after_bytes.map(size).into_iter().collect()),
        ("not kept", if one.lost_was_told { Vec::new() } else { one.not_kept.clone() }),
        (
            "verified",
            when_written(format!(
                "{} in {}, read back from disk",
                size(one.verified_bytes),
                count(one.verified_files, "file")
            )),
        ),
        ("opens by", one.opened_by().into_iter().collect()),
        ("replaced", replaced(&one.replaced, one.format)),
        ("passphrase", one.passphrase_file.iter().map(|file| format!("in {file}, readable by you only")).collect()),
        ("where", vec![one.folder.clone()]),
    ]));
    lines.push(String::new());
    if !one.written {
        lines.push("Next: run it without --dry-run.".to_owned());
        return lines;
    }
    if one.replaced.is_empty() {
        lines.push("The old archive is as it was. Delete it yourself, if it is not needed any more.".to_owned());
        lines.push(String::new());
    }
    lines.extend([
        "Next: send it, or put everything for the recipient together with".to_owned(),
        hand_over(&one.volumes, one.format),
    ]);
    lines
}

/// A row an archive; what is not kept of some, and why some did not become anything, below.
fn table_lines(all: &[One]) -> Vec<String> {
    let done = all.iter().filter(|one| one.written).count();
    let failed = all.iter().filter(|one| one.error.is_some()).count();
    let archives = count(all.len() as u64, "archive");
    let heading = match (done, failed) {
        (0, 0) => paint(Tone::Strong, format!("{archives} would be made. Nothing was written.")),
        (_, 0) => paint(Tone::Good, format!("{archives} made, read back and verified.")),
        (_, 1) => paint(
            Tone::Bad,
            format!("Incomplete: {done} of {archives} made and verified; 1 could not be, and is as it was."),
        ),
        _ => paint(
            Tone::Bad,
            format!("Incomplete: {done} of {archives} made and verified; {failed} could not be, and are as they were."),
        ),
    };
    let row = |one: &One| {
        let tone = if one.error.is_some() { Tone::Bad } else { Tone::Plain };
        let after = one.after_bytes.map(size).unwrap_or_default();
        let became = one
            .volumes
            .first()
            .map_or_else(|| one.to.unwrap_or("nothing").to_owned(), |volume| volume.name().to_owned());
        let more = if one.volumes.len() > 1 { format!(" and {} more", one.volumes.len() - 1) } else { String::new() };
        let known = |written: String| if one.from.is_some() { written } else { String::new() };
        (
            tone,
            vec![
                one.archive.clone(),
                format!("{became}{more}"),
                known(grouped(one.files)),
                known(size(one.before_bytes)),
                after,
            ],
        )
    };
    let columns = [
        Column::Path("archive"),
        Column::Text("became"),
        Column::Number("files"),
        Column::Number("before"),
        Column::Number("after"),
    ];
    let mut lines = vec![heading, String::new()];
    lines.extend(table::lines(&columns, &all.iter().map(row).collect::<Vec<_>>()));
    let lost: Vec<String> = all
        .iter()
        .filter(|one| !one.not_kept.is_empty() && !one.lost_was_told)
        .map(|one| format!("{}: {}", one.archive, one.not_kept.join("; ")))
        .collect();
    lines.extend(listed(Tone::Look, "Not kept:", &lost));
    let failed = all.iter().filter_map(|one| Some((&one.archive, one.error.as_ref()?)));
    let why = failed.flat_map(|(archive, error)| match error.starts_with(archive.as_str()) {
        true => wrapped_behind(4, error),
        false => wrapped_behind(4, &format!("{archive}: {error}")),
    });
    let why = why.map(|line| format!("  {line}"));
    lines.extend(headed(Tone::Bad, "Not made:", why.collect()));
    if all.iter().any(|one| one.written && one.replaced.is_empty()) {
        lines.extend([
            String::new(),
            "The old archives are as they were. Delete them yourself, if they are not needed any more.".to_owned(),
        ]);
    }
    lines
}
