//! `pack`: seal, verify, place, and say what came of it.

mod input;
mod next_steps;
mod notes;
mod outflow;
mod report;
mod settings;

pub use input::Input;
pub use settings::show as show_settings;

use super::since::{ChangesReport, Since};
use super::{show, show_aside};
use crate::args::{MessageArguments, PackArguments, SealArguments};
use crate::credentials::{self, Sealing};
use crate::failure::{BadValue, Failure};
use crate::settings::{NameFields, Origin, Settings};
use crate::ui::progress::ProgressLine;
use crate::ui::prompt;
use crate::{named_file, session, words};
use next_steps::next_steps;
use outflow::Outflow;
pub(super) use outflow::not_taken;
use report::{Report, lines};
use std::ffi::OsString;
use std::path::PathBuf;
use under_seal_core::disk::portability::Unportable;
use under_seal_core::formats::abilities::{Ability, Hiding};
use under_seal_core::formats::registry::{Format, SEALED};
use under_seal_core::formats::sealed::volume::SpareWish;
use under_seal_core::ground::fit::Fit;
use under_seal_core::ground::passwords::{Guessing, guessable_words};
use under_seal_core::tasks::pack::since::Changes;
use under_seal_core::tasks::pack::target::name_of;
use under_seal_core::tasks::pack::{Delivery, Loss, PackRequest, Target, TargetWish};
use under_seal_core::tasks::plan::{Making, PlanError};

/// One run, as far as its result speaks of it.
pub(super) struct Packing {
    settings: Settings,
    format: &'static Format,
    target: Target,
    message: String,
    secret: bool,
    /// Whether opening it takes a key file, beside the password.
    key_file: bool,
    passwords: usize,
    passphrase_file: Option<PathBuf>,
    /// What was in an old archive that was replaced, and is not in this one.
    loss: Option<Loss>,
    /// What has changed, where only that is in it.
    changes: Option<ChangesReport>,
    /// Names that will not survive on other systems.
    unportable: Vec<Unportable>,
}

impl Packing {
    /// Whether names, sizes and dates are hidden too.
    fn hides_names(&self) -> bool {
        let hiding = match self.format.abilities.hides_names {
            Hiding::Never => false,
            Hiding::OnRequest => self.settings.hide_names.value,
            Hiding::Always => true,
        };
        self.secret && hiding
    }
}

/// Runs the command; the exit code.
pub fn run(arguments: &PackArguments) -> Result<u8, Failure> {
    let settings = Settings::resolve(&arguments.delivery, &arguments.configuration, arguments.work.threads)?;
    if arguments.show_settings {
        return show_settings(&settings, &arguments.work);
    }
    tracing::info!(fit = settings.fit.value.text, squeeze = %settings.squeeze.value, "settings");
    let outflow = Outflow::wanted(arguments, settings.fit.value.fit)?;
    let input = Input::read(arguments)?;
    let (mut target, format) = target(arguments, &settings, &input.named_after)?;
    if let Some(outflow) = &outflow {
        target = Target { folder: outflow.folder().to_owned(), ..target };
    }
    let stream = input.stream(arguments)?;
    let since = Since::load(&arguments.since, &arguments.seal.password, &arguments.work)?;
    if let Some(since) = &since {
        name_changes(&mut target, since, arguments)?;
    }
    let choice = Input::choice(arguments, settings.packing_choice(&arguments.delivery, format)?);
    let typed_message = message(&arguments.message, format)?;
    refuse_what_it_lacks(format, arguments, &settings)?;
    let own_files = since.as_ref().map(|since| since.files.clone()).unwrap_or_default();
    let request = PackRequest {
        own_files: &own_files,
        format,
        hide_names: settings.hide_names.value,
        fit: settings.fit.value.fit,
        spares: settings.spares.value,
        squeeze: settings.squeeze.value.into(),
        message: typed_message.as_deref().unwrap_or_default(),
        parcels: arguments.delivery.shape.parcels,
        replace: arguments.replace,
        stream: stream.as_ref(),
        ..PackRequest::new(&input.sources, &choice, &target)
    };
    let progress = ProgressLine::for_writing(settings.fit.value.fit, &arguments.work);
    let context = session::context(&progress, settings.threads.as_ref().map(|threads| threads.value));
    // Whatever stands in the way is told before the password is asked for.
    let delivery = match since {
        None => Delivery::prepare(&request, &context)?,
        Some(since) => Delivery::prepare_since(&request, since.state, &context)?,
    };
    let changes = delivery.changes().map(ChangesReport::from);
    if delivery.changes().is_some_and(Changes::is_nothing) {
        drop(progress);
        return report::nothing_changed(changes, arguments);
    }
    let list = delivery.changes().map_or(Ok(0), Changes::list_bytes).map_err(PlanError::from)?;
    // How long a stream is nobody knows.
    if stream.is_none() {
        making(&request, list).refuse_without_room(delivery.catalogue(), &context)?;
    }
    let unportable = delivery.catalogue().unportable();
    let guessing = format.abilities.password.unwrap_or(Guessing::Sealed);
    let guessable = || {
        let mut words = guessable_words(delivery.catalogue().entries.iter().map(|entry| &entry.path));
        words.push(target.stem.to_string_lossy().to_lowercase());
        words
    };
    let Sealing { credentials, cost, secret, mut passphrase_file } =
        credentials::to_seal(&arguments.seal, guessing, guessable, &context)?;
    let loss = delivery.replaces().then(|| delivery.loss(&credentials, &context));
    confirm_loss(loss.as_ref(), &target)?;
    // From here on it stays whatever happens: what a cut-off run leaves may be completed by the next one.
    let passphrase_file = passphrase_file.as_mut().map(|file| file.keep().to_owned());
    let mut packed = delivery.pack(&credentials, cost, &context)?;
    drop(progress);
    let sent = outflow.map(|outflow| outflow.send(&mut packed)).transpose()?;
    let key_file = arguments.seal.password.key_file.is_some();
    let passwords = if secret { credentials.len() } else { 0 };
    let message = typed_message.unwrap_or_default();
    let mut packing = Packing {
        settings,
        format,
        target,
        message,
        secret,
        key_file,
        passwords,
        passphrase_file,
        loss,
        changes,
        unportable,
    };
    let report = Report::new(&packed, &mut packing);
    if sent.is_some() {
        // Standard output has the archive.
        show_aside(&report, &arguments.work, || lines(&packed, &report))?;
        return Ok(report.exit_code);
    }
    let body = || [lines(&packed, &report), vec![String::new()], next_steps(&packed, &report)].concat();
    show(&report, &arguments.work, body)?;
    Ok(report.exit_code)
}

/// How an archive is made, as far as its length hangs on that; so many bytes come to its entries.
fn making<'a>(request: &PackRequest<'a>, more: u64) -> Making<'a> {
    Making {
        folder: &request.target.folder,
        format: request.format,
        // A parcel is one volume.
        fit: if request.parcels { Fit::OneVolume } else { request.fit },
        squeeze: request.squeeze,
        spares: request.spares,
        hide_names: request.hide_names,
        more,
    }
}

/// Changes never go into the place of what they build upon. Where no name was chosen, theirs tells that they are changes.
fn name_changes(target: &mut Target, since: &Since, arguments: &PackArguments) -> Result<(), Failure> {
    let is_named =
        arguments.delivery.shape.name.is_some() || arguments.to.as_ref().is_some_and(|to| !Target::is_folder(to));
    if !is_named {
        target.stem.push(format!("-changes-{}", jiff::ZonedDateTime::now().strftime("%Y-%m-%d")));
    }
    if since.is_at(target) { Err(Failure::Value(BadValue::IntoBase)) } else { Ok(()) }
}

/// Somebody who can be asked says yes before files go with an old archive that the new one does not have.
fn confirm_loss(loss: Option<&Loss>, target: &Target) -> Result<(), Failure> {
    let Some(question) = loss.and_then(|loss| words::loss(loss, &target.stem)) else { return Ok(()) };
    if !prompt::can_ask() || prompt::confirm(&format!("{question} Replace it all the same?"))? {
        Ok(())
    } else {
        Err(Failure::GivenUp)
    }
}

/// What is wanted must be something that the format can do.
fn refuse_what_it_lacks(
    format: &'static Format,
    arguments: &PackArguments,
    settings: &Settings,
) -> Result<(), Failure> {
    let SealArguments { password, also_password_from, no_password, .. } = &arguments.seal;
    let hide_names = settings.hide_names.value;
    if format.can(Ability::HiddenNames) && hide_names && *no_password {
        return Err(Failure::Value(BadValue::HidingWithoutPassword));
    }
    Ok(format.refuse_what_it_lacks(&[
        (arguments.delivery.shape.parcels, Ability::Parcels),
        (password.key_file.is_some(), Ability::KeyFile),
        (!also_password_from.is_empty(), Ability::SeveralPasswords),
        (!no_password, Ability::Password),
        (settings.fit.value.fit != Fit::OneVolume, Ability::Volumes),
        (arguments.message.message.is_some() || arguments.message.message_from.is_some(), Ability::Message),
        (hide_names, Ability::HiddenNames),
        (settings.spares.value != SpareWish::NONE, Ability::Spares),
    ])?)
}

/// The message to whoever opens the archive, if one is typed; a file's last line break does not count.
pub fn message(arguments: &MessageArguments, format: &Format) -> Result<Option<String>, Failure> {
    let text = match (&arguments.message, &arguments.message_from) {
        (Some(text), _) => text.clone(),
        (None, Some(path)) => {
            let text = named_file::text(path);
            text.map_err(|source| Failure::TextFile { path: path.clone(), source })?
        }
        (None, None) => return Ok(None),
    };
    let text = text.trim_end_matches(['\r', '\n']).to_owned();
    let (length, limit) = (text.len(), format.abilities.message_bytes.unwrap_or(usize::MAX));
    if length > limit { Err(Failure::LongMessage { length, limit }) } else { Ok(Some(text)) }
}

/// Where the archive goes, what it is called, and its format. A typed name counts more than a profile's pattern, and a typed
/// format more than what the name says.
pub fn target(
    arguments: &PackArguments,
    settings: &Settings,
    sources: &[PathBuf],
) -> Result<(Target, &'static Format), Failure> {
    let to = arguments.to.as_deref().filter(|_| !arguments.goes_to_output());
    let named_by_path = to.is_some_and(|to| !Target::is_folder(to));
    if named_by_path && arguments.delivery.shape.name.is_some() {
        return Err(Failure::Value(BadValue::TwoNames));
    }
    let pattern = settings.name.as_ref().filter(|_| !named_by_path);
    let name: Option<OsString> = match pattern {
        Some(pattern) => {
            let name = pattern.value.name(&name_fields(settings, sources));
            Some(name.map_err(|error| Failure::Value(BadValue::Name(error)))?)
        }
        None => None,
    };
    let said = settings.format.as_ref();
    let typed = said.filter(|format| format.from == Origin::CommandLine);
    Ok(Target::resolve(&TargetWish {
        to,
        name: name.as_deref(),
        sources,
        format: typed.map(|format| format.value),
        usual_format: said.map_or(&SEALED, |format| format.value),
    })?)
}

fn name_fields(settings: &Settings, sources: &[PathBuf]) -> NameFields {
    let now = jiff::ZonedDateTime::now();
    let folder = match sources {
        [source] => name_of(source),
        _ => None,
    };
    NameFields {
        folder,
        date: now.strftime("%Y-%m-%d").to_string(),
        time: now.strftime("%H%M").to_string(),
        profile: settings.profile.clone(),
    }
}
