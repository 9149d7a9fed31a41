//! `open`: unlock and extract, everything or what is wanted.

pub mod clashes;
mod pick;
mod report;
mod screen;
mod several;
mod streaming;
mod wrong;

use super::list::nothing;
use super::show;
use super::since::BuildsUpon;
use crate::archives::{Given, given};
use crate::args::{FolderName, OpenArguments};
use crate::credentials::{self, Wanted};
use crate::failure::{BadValue, Failure};
use crate::places::{Typed, gather_or_collect, searched, tell_apart};
use crate::session;
use crate::ui::progress::ProgressLine;
use crate::ui::prompt;
use crate::ui::text::{first_few, shown};
use crate::watching::Watching;
use crate::words::NOT_SECRET;
pub(in crate::commands) use report::Report;
use report::{End, NotWhole, OriginMarks, absolute, changed, lines};
use std::borrow::Cow;
use std::collections::HashSet;
use std::fs;
use std::path::{Component, Path, PathBuf};
use under_seal_core::Error;
use under_seal_core::disk::names::name_of;
use under_seal_core::disk::{OriginMark, origin_marks};
use under_seal_core::formats::archive::Archive;
use under_seal_core::formats::reader::ArchiveReader as _;
use under_seal_core::formats::registry::SEALED;
use under_seal_core::formats::sealed::Base;
use under_seal_core::formats::sealed::Salvage;
use under_seal_core::formats::sealed::volume::VolumeSet;
use under_seal_core::ground::context::Context;
use under_seal_core::ground::entry::{EntryKind, EntryPath, ListedEntry};
use under_seal_core::landing::{Destination, Known, KnownThere, LandingError};
use under_seal_core::source::Patterns;
use under_seal_core::tasks::check::damaged_contents;
use under_seal_core::tasks::list;
use under_seal_core::tasks::open::upon::{Found, look};
use under_seal_core::tasks::open::{OpenError, foresee, open, open_some};
use wrong::with_all_that_is_wrong;

/// Runs the command; the exit code.
pub fn run(arguments: &OpenArguments) -> Result<u8, Failure> {
    if arguments.salvage && arguments.watch.watch.is_some() && arguments.watch.watch_for.is_none() {
        return Err(Failure::Value(BadValue::SalvageWithoutEnd));
    }
    // The folder that is watched stands first, where volumes are named; what was typed may be patterns alone.
    let mut typed = tell_apart(&arguments.watch.and(&arguments.typed), &arguments.work);
    let places = arguments.coming.in_the_end(typed.places.clone());
    typed.places = searched(&typed.places, arguments.search);
    let silent = ProgressLine::for_reading(None, &arguments.work);
    let context = session::context(&silent, arguments.work.threads);
    let quiet = arguments.work.output.quiet;
    let watching = Watching { watch: &arguments.watch, places: &typed.places, quiet, context: &context };
    if arguments.all { watching.for_archives() } else { watching.for_volumes() }?;
    if arguments.all {
        return match typed.inside.first() {
            None => several::run(arguments, &typed.places),
            Some(_) => Err(Failure::Value(BadValue::AllOfSome)),
        };
    }
    let given = match arguments.coming.one_by_one {
        true => Given::Volumes(gather_or_collect(&typed.places, &arguments.coming, &context)?),
        false => given(&typed.places, &arguments.work)?,
    };
    let part = arguments.pick || !typed.inside.is_empty();
    if arguments.to_stdout {
        let given = match given {
            Given::Volumes(set) if !part => Given::Volumes(set.complete()?),
            given => given,
        };
        return streaming::run(arguments, &typed, given);
    }
    let report = match (arguments.salvage, given) {
        (true, _) if !typed.inside.is_empty() => return Err(Failure::Value(BadValue::SalvageOfSome)),
        (true, Given::Volumes(set)) => salvage(arguments, set)?,
        (true, given) => salvage_open(arguments, given)?,
        (false, Given::Volumes(set)) => {
            let seen = set.clone();
            // Whoever wants a part needs only its volumes.
            let enough = if part { Ok(set) } else { set.complete() };
            let extracted =
                enough.map_err(Failure::from).and_then(|set| extract(arguments, &typed, Given::Volumes(set)));
            extracted.map_err(|failure| with_all_that_is_wrong(failure, &seen, arguments))?
        }
        (false, given) => extract(arguments, &typed, given)?,
    };
    show(&report, &arguments.work, || lines(&report, &places))?;
    Ok(report.exit_code)
}

fn extract(arguments: &OpenArguments, typed: &Typed, given: Given) -> Result<Report, Failure> {
    let patterns = Patterns::new(&typed.inside).map_err(|error| Failure::Value(BadValue::Pattern(error)))?;
    let archive = given.load(&arguments.unlock, Wanted::Content, &arguments.work)?;
    extract_from(arguments, archive, &patterns)
}

fn extract_from(arguments: &OpenArguments, mut archive: Archive, patterns: &Patterns) -> Result<Report, Failure> {
    let progress = ProgressLine::for_reading(Some(archive.file_count()), &arguments.work);
    let context = session::context(&progress, arguments.work.threads);
    let (wanted, unmatched) = wanted(arguments, &archive, patterns)?;
    let all = archive.entries()?;
    let part = arguments.pick || !patterns.is_empty();
    // Of a whole archive, which may be large, nothing is copied.
    let entries: Cow<'_, [ListedEntry]> = match part {
        false => Cow::Borrowed(all),
        true => wanted.iter().map(|place| all[*place].clone()).collect::<Vec<_>>().into(),
    };
    // Changes go where what they build upon is, and into no folder of their own.
    let found = archive.base()?.map(|base| found_there(base, all, arguments, &context)).transpose()?;
    let folder = match found {
        Some(_) => arguments.into.clone(),
        None => {
            // What was sent in parcels belongs together, and so does what changes build upon.
            let is_parcel = arguments.all && archive.about().is_some_and(|about| about.parcel.is_some());
            destination(arguments, &archive.name(), &entries, is_parcel || arguments.update)
        }
    };
    let mut report = Report::new(&archive, &folder);
    report.dry_run = arguments.dry_run;
    report.part = part;
    report.changed_while_read = changed(entries.iter());
    report.unmatched_patterns = unmatched.iter().map(|pattern| shown(pattern.as_bytes())).collect();
    let wishes = Wishes::new(arguments, &archive.paths())?;
    let known = found.as_ref().map(|found| &found.known);
    let into = wishes.destination(&folder, arguments, known, (all, &entries), &context)?;
    if arguments.dry_run {
        report.would_land(&entries, arguments.flat, &refused(foresee(all, &entries, into, &context))?);
    } else {
        wishes.tell(&mut report);
        let opened = match part {
            false => open(&mut *archive, into, &context)?,
            true => open_some(&mut *archive, &wanted, into, &context)?,
        };
        report.has_landed(&opened.landed);
    }
    if let (Some(found), Some(base)) = (found, archive.base()?) {
        report.gone(found, base, arguments, &context)?;
    }
    drop(progress);
    report.settle(End::of(&archive));
    Ok(report)
}

/// The places of the entries that match and were picked, and the patterns that match nothing.
fn wanted(
    arguments: &OpenArguments,
    archive: &Archive,
    patterns: &Patterns,
) -> Result<(Vec<usize>, Vec<String>), Failure> {
    let (wanted, unmatched) = list::matching(archive.listing(), patterns)?;
    let wanted: Vec<usize> = wanted.places().collect();
    match (unmatched.first(), wanted.as_slice()) {
        (Some(pattern), []) => Err(nothing(archive.listing(), pattern)),
        _ if arguments.pick => Ok((pick::pick(archive.entries()?, &wanted)?, unmatched)),
        _ => Ok((wanted, unmatched)),
    }
}

/// What is where changes are to go; refused where what they build upon is not.
fn found_there(
    base: &Base,
    entries: &[ListedEntry],
    arguments: &OpenArguments,
    context: &Context<'_>,
) -> Result<Found, Failure> {
    if arguments.flat {
        return Err(Failure::Value(BadValue::NotOfChanges("opened without its folders")));
    }
    let mut found = look(base, entries, &arguments.into, context)?;
    if found.lacks_base && !arguments.accept_other_base {
        let BuildsUpon { archive, made, .. } = base.into();
        return Err(Failure::NoBase { archive, made, folder: report::absolute(&arguments.into) });
    }
    may_be_replaced(base, &mut found, arguments)?;
    Ok(found)
}

/// Nothing is replaced unasked, and so neither is what the base left: whoever made the archive says what that was, and could name any
/// file of which the content is known. A policy for clashes counts for these too, where somebody has chosen one.
fn may_be_replaced(base: &Base, found: &mut Found, arguments: &OpenArguments) -> Result<(), Failure> {
    let outdated =
        |(path, known): (&EntryPath, &KnownThere)| (*known == KnownThere::Outdated).then(|| shown(path.as_bytes()));
    let mut outdated: Vec<String> = found.known.iter().filter_map(outdated).collect();
    if outdated.is_empty() || arguments.update || arguments.dry_run {
        return Ok(());
    }
    if arguments.on_clash.is_some() {
        found.known.retain(|_, known| *known == KnownThere::UpToDate);
        return Ok(());
    }
    outdated.sort();
    let BuildsUpon { archive, .. } = base.into();
    if !prompt::can_ask() {
        return Err(Failure::Outdated { archive, paths: outdated });
    }
    let (files, are, it) = match outdated.len() {
        1 => ("1 file".to_owned(), "is", "it"),
        many => (format!("{many} files"), "are", "they"),
    };
    let question = format!(
        "{files} here {are} as {archive} left {}, and would be replaced by what {it} became: {}.",
        if outdated.len() == 1 { "it" } else { "them" },
        first_few(&outdated)
    );
    if prompt::confirm(&question)? { Ok(()) } else { Err(Failure::GivenUp) }
}

/// What is wished of an extraction beside its place.
struct Wishes<'a> {
    origin_marks: Option<Vec<OriginMark>>,
    screen: Option<Look<'a>>,
}

type Look<'a> = Box<dyn Fn(&Path) -> Result<(), String> + 'a>;

impl<'a> Wishes<'a> {
    fn new(arguments: &'a OpenArguments, files: &[PathBuf]) -> Result<Self, Failure> {
        let mut marks = arguments.origin_mark.then(Vec::new);
        for path in files {
            if let Some(marks) = marks.as_mut().filter(|marks| marks.is_empty()) {
                *marks = origin_marks(path).map_err(Failure::File)?;
            }
        }
        let screen = arguments.screen_with.as_deref().map(|command| {
            let look: Look<'_> = Box::new(move |folder| screen::look(command, folder));
            look
        });
        Ok(Self { origin_marks: marks, screen })
    }

    /// The destination, for entries whose clashes are decided now.
    fn destination<'b>(
        &'b self,
        folder: &'b Path,
        arguments: &OpenArguments,
        known: Option<&'b Known>,
        entries: (&[ListedEntry], &[ListedEntry]),
        context: &Context<'_>,
    ) -> Result<Destination<'b>, Failure> {
        let into = Destination {
            known,
            on_unsafe_name: arguments.on_unsafe_name.into(),
            flat: arguments.flat,
            keep_complete: arguments.keep_complete,
            origin_marks: self.origin_marks.as_deref().unwrap_or_default(),
            screen: self.screen.as_deref(),
            ..Destination::from(folder)
        };
        Ok(Destination { on_clash: clashes::decide(arguments.on_clash, entries, into, context)?, ..into })
    }

    fn tell(&self, report: &mut Report) {
        let marks = |marks: &Vec<OriginMark>| OriginMarks { volumes_have_them: !marks.is_empty(), marked_files: 0 };
        report.origin_marks = self.origin_marks.as_ref().map(marks);
        report.screened = self.screen.is_some();
    }
}

/// Where it goes: right into the destination, or into a folder there that is named after the archive.
fn destination(arguments: &OpenArguments, name: &[u8], entries: &[ListedEntry], is_parcel: bool) -> PathBuf {
    let name = &name_of(name);
    // Whoever made the archive chose its name; it must lead nowhere else.
    let is_plain = Path::new(name).components().eq([Component::Normal(name)]);
    let several = match arguments.flat {
        true => entries.iter().filter(|listed| listed.entry.kind == EntryKind::File).nth(1).is_some(),
        false => {
            entries.iter().filter_map(|listed| listed.entry.path.components().next()).collect::<HashSet<_>>().len() > 1
        }
    };
    let is_used = || fs::read_dir(&arguments.into).is_ok_and(|mut entries| entries.next().is_some());
    let own = match arguments.folder {
        FolderName::Always => true,
        FolderName::Never => false,
        // What was sent in parcels belongs together.
        FolderName::Auto => several && is_used() && !is_parcel,
    };
    if own && is_plain { arguments.into.join(name) } else { arguments.into.clone() }
}

fn refused<T>(outcome: Result<T, LandingError>) -> Result<T, Failure> {
    outcome.map_err(|error| Error::Open(OpenError::Refused(error)).into())
}

/// Takes out of an archive of an open format whatever is whole, and names the rest.
fn salvage_open(arguments: &OpenArguments, given: Given) -> Result<Report, Failure> {
    let mut archive = given.load(&arguments.unlock, Wanted::WhatIsWhole, &arguments.work)?;
    let progress = ProgressLine::for_reading(Some(archive.file_count()), &arguments.work);
    let context = session::context(&progress, arguments.work.threads);
    let damaged = damaged_contents(&mut archive, &context)?;
    let lost: HashSet<usize> = damaged.iter().map(|entry| entry.place).collect();
    let all = archive.entries()?;
    let wanted: Vec<usize> = (0..all.len()).filter(|place| !lost.contains(place)).collect();
    let entries: Vec<ListedEntry> = wanted.iter().map(|place| all[*place].clone()).collect();
    let folder = destination(arguments, &archive.name(), &entries, false);
    let mut report = Report::new(&archive, &folder);
    let wishes = Wishes::new(arguments, &archive.paths())?;
    let into = wishes.destination(&folder, arguments, None, (all, &entries), &context)?;
    wishes.tell(&mut report);
    let opened = open_some(&mut *archive, &wanted, into, &context)?;
    drop(progress);
    report.has_landed(&opened.landed);
    report.salvaged = true;
    report.lost = Some(damaged.iter().map(NotWhole::from).collect());
    report.settle(End::of(&archive));
    Ok(report)
}

fn salvage(arguments: &OpenArguments, set: VolumeSet) -> Result<Report, Failure> {
    let unlocked = credentials::to_unlock(&set, &arguments.unlock)?;
    let set = unlocked.set;
    let progress = ProgressLine::for_reading(Some(set.geometry.data_volumes), &arguments.work);
    let context = session::context(&progress, arguments.work.threads);
    let mut archive = Salvage::survey(set, &unlocked.key, &context)?;
    let wishes = Wishes::new(arguments, &archive.paths())?;
    let all = archive.entries()?;
    let into = wishes.destination(&arguments.into, arguments, None, (all, all), &context)?;
    let opened = open(&mut archive, into, &context)?;
    drop(progress);
    let (lost, about) = (archive.lost(), archive.about());
    let mut report = Report {
        command: "open",
        archive: about.map(|about| shown(&about.name)).unwrap_or_default(),
        message: about.map(|about| about.message.clone()).unwrap_or_default(),
        builds_upon: archive.base_name().as_ref().map(BuildsUpon::from),
        format: &SEALED,
        secret: unlocked.secret,
        notes: if unlocked.secret { Vec::new() } else { vec![NOT_SECRET] },
        destination: absolute(&arguments.into),
        changed_while_read: changed(archive.entries()?.iter()),
        salvaged: true,
        lost: lost.map(|lost| lost.iter().map(NotWhole::from).collect()),
        ..Report::of_volumes(archive.set())
    };
    wishes.tell(&mut report);
    report.has_landed(&opened.landed);
    report.settle(End::Whole);
    Ok(report)
}
