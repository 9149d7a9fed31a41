//! `pack`: seal, verify, place, and say what came of it.

mod report;
mod settings;

use super::show;
use crate::args::PackArguments;
use crate::credentials::{self, Sealing};
use crate::failure::Failure;
use crate::session;
use crate::settings::{BadValue, NameFields, Settings};
use crate::ui::progress::ProgressLine;
use report::{Report, lines};
use std::ffi::OsString;
use std::fs;
use std::path::PathBuf;
use under_seal_core::Error;
use under_seal_core::pack::{Delivery, PackRequest, Target, target::name_of};
use under_seal_core::passwords::guessable_words;
use under_seal_core::sealed::index::MAX_MESSAGE_BYTES;
use under_seal_core::source::expand;

/// One run, as far as its result speaks of it.
pub(super) struct Packing {
    settings: Settings,
    target: Target,
    message: String,
    secret: bool,
    passphrase_file: Option<PathBuf>,
}

/// Runs the command; the exit code.
pub fn run(arguments: &PackArguments) -> Result<u8, Failure> {
    let settings = Settings::resolve(&arguments.delivery, arguments.work.threads)?;
    if arguments.show_settings {
        return settings::show(&settings, &arguments.work);
    }
    let choice = settings.choice(&arguments.delivery.choice)?;
    tracing::info!(fit = settings.fit.value.text, squeeze = %settings.squeeze.value, "settings");
    let message = message(arguments)?;
    let sources = expand(&arguments.sources).map_err(|error| Error::Pack(error.into()))?;
    let target = target(arguments, &settings, &sources)?;
    let request = PackRequest {
        fit: settings.fit.value.fit,
        squeeze: settings.squeeze.value.into(),
        message: &message,
        parcels: arguments.delivery.shape.parcels,
        replace: arguments.replace,
        ..PackRequest::new(&sources, &choice, &target)
    };
    let progress = ProgressLine::for_writing(settings.fit.value.fit, &arguments.work);
    let context = session::context(&progress, settings.threads.as_ref().map(|threads| threads.value));
    // Whatever stands in the way is told before the password is asked for.
    let delivery = Delivery::prepare(&request, &context)?;
    let guessable = || {
        let mut words = guessable_words(delivery.catalogue().entries.iter().map(|entry| &entry.path));
        words.push(target.stem.to_string_lossy().to_lowercase());
        words
    };
    let Sealing { credentials, cost, secret, mut passphrase_file } =
        credentials::to_seal(&arguments.seal, guessable, &context)?;
    // From here on it stays whatever happens: what a cut-off run leaves may be completed by the next one.
    let passphrase_file = passphrase_file.as_mut().map(|file| file.keep().to_owned());
    let packed = delivery.pack(&credentials, cost, &context)?;
    drop(progress);
    let packing = Packing { settings, target, message, secret, passphrase_file };
    let report = Report::new(&packed, &packing);
    show(&report, &arguments.work, || lines(&packed, &report))?;
    Ok(report.exit_code)
}

/// The message to whoever opens the archive; a file's last line break does not count.
fn message(arguments: &PackArguments) -> Result<String, Failure> {
    let text = match (&arguments.message, &arguments.message_from) {
        (Some(text), _) => text.clone(),
        (None, Some(path)) => {
            let text = fs::read_to_string(path);
            text.map_err(|source| Failure::TextFile { path: path.clone(), source })?
        }
        (None, None) => String::new(),
    };
    let text = text.trim_end_matches(['\r', '\n']).to_owned();
    if text.len() > MAX_MESSAGE_BYTES { Err(Failure::LongMessage(text.len())) } else { Ok(text) }
}

/// Where the archive goes and what it is called. A typed name counts more than a profile's pattern.
fn target(arguments: &PackArguments, settings: &Settings, sources: &[PathBuf]) -> Result<Target, Failure> {
    let named_by_path = arguments.to.as_ref().is_some_and(|to| !Target::is_folder(to));
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
    Ok(Target::resolve(arguments.to.as_deref(), name.as_deref(), sources)?)
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
