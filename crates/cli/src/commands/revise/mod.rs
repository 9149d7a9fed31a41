//! `revise`: something is added to an archive, taken out, renamed or brought up to date.

mod place;
mod report;
mod wishes;

use super::standing::Standing;
use super::{in_place, pack, show};
use crate::archives::{Given, given};
use crate::args::ReviseArguments;
use crate::credentials::{self, Wanted};
use crate::failure::{BadValue, Failure};
use crate::session;
use crate::ui::progress::ProgressLine;
use crate::ui::prompt;
use crate::ui::text::{entries, first_few, shown};
use place::Place;
use report::{Outcome, Report, lines};
use std::slice;
use under_seal_core::formats::sealed::SealedReader;
use under_seal_core::ground::entry::EntryPath;
use under_seal_core::ground::fit::Fit;
use under_seal_core::ground::passwords::{Guessing, guessable_words};
use under_seal_core::ground::secrets::Credentials;
use under_seal_core::source::Choice;
use under_seal_core::tasks::pack::PackRequest;
use under_seal_core::tasks::revise::{Old, prepare, revise};
use wishes::{Disk, Planned, Wishes, planned};

/// Runs the command; the exit code.
pub fn run(arguments: &ReviseArguments) -> Result<u8, Failure> {
    if !arguments.dry_run {
        in_place::settled(&arguments.archive, &arguments.work)?;
    }
    let wishes = Wishes::of(arguments)?;
    let (mut old, opened_by, place) = opened(arguments)?;
    if old.reader().base_name().is_some() {
        return Err(Failure::Value(BadValue::NotOfChanges("revised")));
    }
    let standing = Standing::of(old.reader())?;
    let fit = in_place::typed_fit(arguments.fit.as_ref(), &arguments.configuration, &arguments.work)?;
    let message = pack::message(&arguments.message, place.format)?;
    let progress = ProgressLine::for_writing(Fit::OneVolume, &arguments.work);
    let context = session::context(&progress, arguments.work.threads);
    let disk = Disk::gather(&mut old, &wishes, &place, &context)?;
    let Planned { revision, unmatched, gone } = planned(&old, &wishes, &disk, &context)?;
    let is_same = revision.changes.is_nothing()
        && message.as_ref().is_none_or(|message| *message == standing.message)
        && fit.is_none()
        && arguments.also_password_from.is_empty();
    let mut report = Report::new(&revision, &place, &standing, unmatched, &disk);
    if arguments.dry_run || is_same {
        drop(progress);
        report.outcome = if is_same { Outcome::Same } else { Outcome::Planned };
        show(&report, &arguments.work, || lines(&report))?;
        return Ok(report.exit_code);
    }
    if place.replaces {
        confirm_losses(&gone)?;
    }
    let message = message.unwrap_or_else(|| standing.message.clone());
    let guessing = place.format.abilities.password.unwrap_or(Guessing::Sealed);
    let all = old.entries()?;
    let guessable = || guessable_words(all.iter().map(|listed| &listed.entry.path));
    let (credentials, cost) =
        credentials::to_revise(opened_by, &arguments.also_password_from, guessing, guessable, arguments.weak_ok)?;
    let choice = Choice::default();
    let request = PackRequest {
        format: place.format,
        fit: fit.unwrap_or(standing.fit),
        squeeze: standing.squeeze,
        spares: standing.spares_in(place.format),
        message: &message,
        hide_names: standing.hides_names,
        replace: place.replaces,
        ..PackRequest::new(&[], &choice, &place.target)
    };
    let delivery = prepare(&old, &revision, disk.into_catalogues(), &request, &context)?;
    let revised = revise(&mut old, &revision, delivery, &credentials, cost, &context)?;
    drop(progress);
    report.written(&revised, &credentials);
    show(&report, &arguments.work, || lines(&report))?;
    Ok(report.exit_code)
}

/// The archive, what opens it, and where the new one goes. What stands in the way of sealed volumes is told before a password is asked
/// for.
fn opened(arguments: &ReviseArguments) -> Result<(Old, Credentials, Place), Failure> {
    let given = given(slice::from_ref(&arguments.archive), &arguments.work)?;
    let to = arguments.to.as_deref();
    match given {
        Given::Volumes(set) => {
            let set = set.complete()?;
            let place = Place::of_volumes(&set, to)?;
            let (unlocked, opened_by) = credentials::unlocked_by(&set, &arguments.unlock)?;
            Ok((Old::Sealed(Box::new(SealedReader::of(unlocked)?)), opened_by, place))
        }
        file => {
            let archive = file.load(&arguments.unlock, Wanted::Content, &arguments.work)?;
            let place = Place::of_file(&archive, to)?;
            let opened_by = archive.opened_by();
            Ok((Old::Open(archive), opened_by, place))
        }
    }
}

/// Somebody who can be asked says yes before what is not on disk any more goes from the archive too.
fn confirm_losses(gone: &[EntryPath]) -> Result<(), Failure> {
    let gone: Vec<String> = gone.iter().map(|path| shown(path.as_bytes())).collect();
    if gone.is_empty() || !prompt::can_ask() {
        return Ok(());
    }
    let (entries, are) = (entries(gone.len() as u64), if gone.len() == 1 { "is" } else { "are" });
    let question =
        format!("{entries} {are} not there any more, and would be removed from the archive: {}.", first_few(&gone));
    if prompt::confirm(&question)? { Ok(()) } else { Err(Failure::GivenUp) }
}
