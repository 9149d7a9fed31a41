//! What a run uses, and where each value comes from: the command line first, then the recipient's profile, then the
//! rest of the configuration file, then what is built in.

mod file;
pub mod name;

pub use file::{Configuration, Profile, usual_place};
pub use name::{NameFields, NamePattern};

use crate::args::{ChoiceArguments, ConfigurationArguments, DeliveryArguments, ShapeArguments, SqueezeName};
use crate::failure::{BadValue, Failure};
use crate::named_file;
use std::fmt;
use std::num::NonZeroUsize;
use std::path::PathBuf;
use under_seal_core::formats::registry::Format;
use under_seal_core::formats::sealed::volume::SpareWish;
use under_seal_core::ground::fit::Fit;
use under_seal_core::source::{Choice, Naming, Patterns, UnsafeNames};

/// Where a value comes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Origin {
    /// It was typed.
    CommandLine,
    /// The profile of this name.
    Profile(String),
    /// The configuration file, outside any profile.
    Configuration,
    /// Nobody said anything.
    BuiltIn,
}

impl fmt::Display for Origin {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::CommandLine => formatter.write_str("command line"),
            Self::Profile(name) => write!(formatter, "profile {name}"),
            Self::Configuration => formatter.write_str("configuration file"),
            Self::BuiltIn => formatter.write_str("built in"),
        }
    }
}

/// A value and where it comes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Chosen<T> {
    /// The value.
    pub value: T,
    /// Where it comes from.
    pub from: Origin,
}

impl<T> Chosen<T> {
    fn new(value: T, from: Origin) -> Self {
        Self { value, from }
    }
}

/// A fit and how it was written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WrittenFit {
    /// As it was written, or `one volume`.
    pub text: String,
    /// What it means.
    pub fit: Fit,
}

/// Everything that shapes an archive.
#[derive(Debug)]
pub struct Settings {
    /// What a volume must fit.
    pub fit: Chosen<WrittenFit>,
    /// How many spare volumes.
    pub spares: Chosen<SpareWish>,
    /// How hard to compress.
    pub squeeze: Chosen<SqueezeName>,
    /// The format, where it is said.
    pub format: Option<Chosen<&'static Format>>,
    /// Whether names are hidden in ZIP too.
    pub hide_names: Chosen<bool>,
    /// The archive's name, where there is a pattern for it.
    pub name: Option<Chosen<NamePattern>>,
    /// Threads, where their number is given.
    pub threads: Option<Chosen<NonZeroUsize>>,
    /// The template of the recipient's note.
    pub note_template: Option<Chosen<PathBuf>>,
    /// Patterns of what is left out.
    pub leave_out: Vec<Chosen<String>>,
    /// Whether litter is left out.
    pub no_litter: Chosen<bool>,
    /// Who gets messages, as addresses.
    pub mail_to: Vec<String>,
    /// Patterns of what alone is packed.
    pub only: Vec<String>,
    /// The recipient's profile.
    pub profile: Option<String>,
    /// The file that was read, where there is one.
    pub configuration: Option<PathBuf>,
}

impl Settings {
    /// Puts together what was typed and what the configuration file says.
    pub fn resolve(
        typed: &DeliveryArguments,
        stored_in: &ConfigurationArguments,
        threads: Option<NonZeroUsize>,
    ) -> Result<Self, Failure> {
        let configuration = Configuration::load(stored_in.config.as_deref())?;
        let profile = stored_in.profile.as_ref();
        let profile = profile.map(|name| configuration.profile(name).map(|profile| (name, profile))).transpose()?;
        let stored = |name: &String| Origin::Profile(name.clone());
        let in_profile = || profile.iter().map(|(name, profile)| (stored(name), *profile));

        let typed_fit = typed.shape.fit.as_ref().map(|text| configuration.fit(text)).transpose()?;
        let one_volume = || WrittenFit { text: "one volume".to_owned(), fit: Fit::OneVolume };
        let fit = typed_fit.map(|fit| Chosen::new(fit, Origin::CommandLine));
        let fit = fit.or_else(|| in_profile().find_map(|(from, p)| Some(Chosen::new(p.fit.clone()?, from))));

        if typed.shape.parcels && fit.is_none() {
            return Err(Failure::Value(BadValue::ParcelsWithoutFit));
        }

        let spares = typed.shape.spares.as_ref().map(|text| spares(text)).transpose().map_err(Failure::Value)?;
        let spares = spares.map(|wish| Chosen::new(wish, Origin::CommandLine));
        let spares = spares.or_else(|| in_profile().find_map(|(from, p)| Some(Chosen::new(p.spares?, from))));
        if typed.shape.parcels && spares.as_ref().is_some_and(|spares| spares.value != SpareWish::NONE) {
            return Err(Failure::Value(BadValue::ParcelsWithSpares));
        }

        let squeeze = typed.shape.squeeze.map(|squeeze| Chosen::new(squeeze, Origin::CommandLine));
        let squeeze = squeeze.or_else(|| in_profile().find_map(|(from, p)| Some(Chosen::new(p.squeeze?, from))));

        let format = typed.shape.format.map(|format| Chosen::new(format, Origin::CommandLine));
        let format = format.or_else(|| in_profile().find_map(|(from, p)| Some(Chosen::new(p.format?, from))));

        let hide_names = typed.shape.hide_names.then_some(Chosen::new(true, Origin::CommandLine));
        let hide_names =
            hide_names.or_else(|| in_profile().find_map(|(from, p)| Some(Chosen::new(p.hide_names?, from))));

        let name = typed
            .shape
            .name
            .as_deref()
            .map(NamePattern::new)
            .transpose()
            .map_err(|error| Failure::Value(BadValue::Name(error)))?;
        let name = name.map(|name| Chosen::new(name, Origin::CommandLine));
        let name = name.or_else(|| in_profile().find_map(|(from, p)| Some(Chosen::new(p.name.clone()?, from))));

        let threads = threads.map(|threads| Chosen::new(threads, Origin::CommandLine));
        let threads = threads.or_else(|| in_profile().find_map(|(from, p)| Some(Chosen::new(p.threads?, from))));

        let note = in_profile().find_map(|(from, p)| Some(Chosen::new(p.note_template.clone()?, from)));

        let mut leave_out: Vec<_> =
            typed_patterns(&typed.choice)?.into_iter().map(|p| Chosen::new(p, Origin::CommandLine)).collect();
        for (from, profile) in in_profile() {
            leave_out.extend(profile.leave_out.iter().map(|p| Chosen::new(p.clone(), from.clone())));
        }
        leave_out.extend(configuration.leave_out.iter().map(|p| Chosen::new(p.clone(), Origin::Configuration)));

        let no_litter = typed.choice.no_litter.then_some(Chosen::new(true, Origin::CommandLine));
        let no_litter = no_litter.or_else(|| in_profile().find_map(|(from, p)| Some(Chosen::new(p.no_litter?, from))));
        let no_litter = no_litter.or(configuration.no_litter.map(|value| Chosen::new(value, Origin::Configuration)));

        Ok(Self {
            fit: fit.unwrap_or_else(|| Chosen::new(one_volume(), Origin::BuiltIn)),
            spares: spares.unwrap_or(Chosen::new(SpareWish::NONE, Origin::BuiltIn)),
            squeeze: squeeze.unwrap_or(Chosen::new(SqueezeName::Even, Origin::BuiltIn)),
            format,
            hide_names: hide_names.unwrap_or(Chosen::new(false, Origin::BuiltIn)),
            name,
            threads,
            note_template: note,
            mail_to: in_profile().flat_map(|(_, profile)| profile.mail_to.clone()).collect(),
            leave_out,
            no_litter: no_litter.unwrap_or(Chosen::new(false, Origin::BuiltIn)),
            only: typed.choice.only.clone(),
            profile: stored_in.profile.clone(),
            configuration: configuration.path,
        })
    }

    /// The same where nothing but the fit was typed.
    pub fn for_fit(
        fit: Option<&String>,
        configuration: &ConfigurationArguments,
        threads: Option<NonZeroUsize>,
    ) -> Result<Self, Failure> {
        let typed = DeliveryArguments {
            shape: ShapeArguments { fit: fit.cloned(), ..ShapeArguments::default() },
            ..DeliveryArguments::default()
        };
        Self::resolve(&typed, configuration, threads)
    }

    /// What of the sources counts for a command that packs nothing.
    pub fn choice_alone(
        choice: &ChoiceArguments,
        configuration: &ConfigurationArguments,
        threads: Option<NonZeroUsize>,
    ) -> Result<Choice, Failure> {
        let delivery = DeliveryArguments { choice: choice.clone(), ..DeliveryArguments::default() };
        Self::resolve(&delivery, configuration, threads)?.choice(choice)
    }

    /// What of the sources is packed in this format, and under which names.
    pub fn packing_choice(&self, typed: &DeliveryArguments, format: &Format) -> Result<Choice, Failure> {
        let wished = typed.shape.unsafe_names.map(UnsafeNames::from).unwrap_or_default();
        Ok(Choice { text_names: format.abilities.text_names.then_some(wished), ..self.choice(&typed.choice)? })
    }

    /// What of the sources counts.
    pub fn choice(&self, typed: &ChoiceArguments) -> Result<Choice, Failure> {
        let leave_out = self.leave_out.iter().map(|pattern| &pattern.value);
        Ok(Choice {
            leave_out: Patterns::new(leave_out).map_err(|error| Failure::Value(BadValue::Pattern(error)))?,
            only: Patterns::new(&self.only).map_err(|error| Failure::Value(BadValue::Pattern(error)))?,
            no_litter: self.no_litter.value,
            follow: typed.follow,
            one_system: typed.one_system,
            attributes: typed.attributes,
            naming: match (typed.contents, typed.keep_paths) {
                (true, _) => Naming::Contents,
                (_, true) => Naming::AsTyped,
                _ => Naming::OwnName,
            },
            text_names: None,
        })
    }

    /// Of these patterns, those that were typed for this run: what a configuration leaves out in general need not be there.
    pub fn typed_among(&self, patterns: &[String]) -> Vec<String> {
        let typed = |pattern: &&String| {
            let general = |known: &Chosen<String>| known.from != Origin::CommandLine && known.value == **pattern;
            !self.leave_out.iter().any(general)
        };
        patterns.iter().filter(typed).cloned().collect()
    }
}

/// How many spare volumes a text means.
pub fn spares(text: &str) -> Result<SpareWish, BadValue> {
    text.parse().map_err(|why| BadValue::Spares { value: text.to_owned(), why })
}

/// The patterns of `--leave-out` and of the file of `--leave-out-from`.
fn typed_patterns(typed: &ChoiceArguments) -> Result<Vec<String>, Failure> {
    let mut patterns = typed.leave_out.clone();
    if let Some(path) = &typed.leave_out_from {
        let text = named_file::text(path).map_err(|source| Failure::TextFile { path: path.clone(), source })?;
        let lines = text.lines().map(str::trim_end).filter(|line| !line.is_empty() && !line.starts_with('#'));
        patterns.extend(lines.map(str::to_owned));
    }
    Ok(patterns)
}
