//! The configuration file: TOML, in the platform's usual place. Every value is looked at when the file is read, so that a
//! slip is told at once, with its line.

use super::{NamePattern, WrittenFit};
use crate::args::SqueezeName;
use crate::failure::{BadValue, Failure};
use crate::{named_file, words};
use clap::ValueEnum as _;
use etcetera::BaseStrategy as _;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::io::{self, Write as _};
use std::num::NonZeroUsize;
use std::ops::Range;
use std::path::{Path, PathBuf};
use toml::Spanned;
use under_seal_core::formats::registry::Format;
use under_seal_core::formats::sealed::volume::SpareWish;
use under_seal_core::ground::fit::{Fit, NAMED};
use under_seal_core::ground::size::{Size, SizeError};
use under_seal_core::source::Patterns;

/// The configuration as it can be used.
#[derive(Debug, Default)]
pub struct Configuration {
    /// The file, where there is one.
    pub path: Option<PathBuf>,
    /// What is always left out.
    pub leave_out: Vec<String>,
    /// Whether litter is always left out, where that is said.
    pub no_litter: Option<bool>,
    /// The user's own fits, by name.
    pub fits: BTreeMap<String, OwnFit>,
    /// The recipients' profiles, by name.
    pub profiles: BTreeMap<String, Profile>,
}

/// A fit of the user's own.
#[derive(Debug, Clone)]
pub struct OwnFit {
    /// What it means.
    pub fit: Fit,
    /// What it is for.
    pub purpose: String,
}

/// What is stored of a recipient.
#[derive(Debug, Default)]
pub struct Profile {
    /// What a volume must fit.
    pub fit: Option<WrittenFit>,
    /// How many spare volumes.
    pub spares: Option<SpareWish>,
    /// How hard to compress.
    pub squeeze: Option<SqueezeName>,
    /// The format.
    pub format: Option<&'static Format>,
    /// Whether names are hidden in ZIP too.
    pub hide_names: Option<bool>,
    /// The archive's name.
    pub name: Option<NamePattern>,
    /// Threads.
    pub threads: Option<NonZeroUsize>,
    /// The template of the note.
    pub note_template: Option<PathBuf>,
    /// Who gets messages, as addresses.
    pub mail_to: Vec<String>,
    /// What is left out for this recipient.
    pub leave_out: Vec<String>,
    /// Whether litter is left out.
    pub no_litter: Option<bool>,
}

#[derive(Deserialize, Default)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
struct FileText {
    leave_out: Vec<Written>,
    no_litter: Option<bool>,
    fits: BTreeMap<String, Spanned<FitText>>,
    profiles: BTreeMap<String, ProfileText>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct FitText {
    size: Option<Written>,
    message: Option<Written>,
    form: Option<Written>,
    #[serde(default)]
    purpose: String,
}

#[derive(Deserialize, Default)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
struct ProfileText {
    fit: Option<Written>,
    spares: Option<Spanned<SparesText>>,
    squeeze: Option<Written>,
    format: Option<Written>,
    hide_names: Option<bool>,
    name: Option<Written>,
    threads: Option<NonZeroUsize>,
    note_template: Option<PathBuf>,
    mail_to: Vec<String>,
    leave_out: Vec<Written>,
    no_litter: Option<bool>,
}

/// A count, or a text with a percentage or a count.
#[derive(Deserialize)]
#[serde(untagged)]
enum SparesText {
    Count(u32),
    Text(String),
}

/// A text and where in the file it stands.
type Written = Spanned<String>;

/// The file that is read, for saying where in it something is wrong.
struct Source<'a> {
    text: &'a str,
    path: &'a Path,
}

impl Source<'_> {
    fn at(&self, span: Option<Range<usize>>, why: String) -> Failure {
        let before = span.and_then(|span| self.text.get(..span.start));
        let line = before.map(|before| before.matches('\n').count() + 1);
        Failure::Configuration { path: self.path.to_owned(), line, why }
    }

    fn bad(&self, written: &Written, value: &BadValue) -> Failure {
        self.at(Some(written.span()), words::bad_value(value))
    }

    fn patterns(&self, written: &[Written]) -> Result<Vec<String>, Failure> {
        let one = |pattern: &Written| {
            let read = Patterns::new([pattern.get_ref()]).map(|_| pattern.get_ref().clone());
            read.map_err(|error| self.bad(pattern, &BadValue::Pattern(error)))
        };
        written.iter().map(one).collect()
    }

    fn own_fit(&self, name: &str, written: Spanned<FitText>) -> Result<OwnFit, Failure> {
        let span = written.span();
        let FitText { size, message, form, purpose } = written.into_inner();
        let read = |text: &Written, make: fn(Size) -> Fit| {
            let (value, known) = (text.get_ref().clone(), Vec::new());
            let refused = |why: SizeError| self.bad(text, &BadValue::Fit { value, why: why.into(), known });
            text.get_ref().parse().map(make).map_err(refused)
        };
        let fit = match (&size, &message, &form) {
            (Some(size), None, None) => read(size, Fit::AtMost)?,
            (None, Some(message), None) => read(message, Fit::Message)?,
            (None, None, Some(form)) => read(form, Fit::Form)?,
            _ => {
                let why = format!("the fit {name} needs exactly one of size, message and form");
                return Err(self.at(Some(span), why));
            }
        };
        if NAMED.iter().any(|(known, _)| *known == name) || !name.starts_with(char::is_alphabetic) {
            let why = format!("a fit cannot be called {name}: its name begins with a letter and is not built in");
            return Err(self.at(Some(span), why));
        }
        Ok(OwnFit { fit, purpose })
    }
}

/// The file in its usual place.
pub fn usual_place() -> Option<PathBuf> {
    let base = etcetera::choose_base_strategy().ok()?;
    Some(base.config_dir().join("under-seal").join("config.toml"))
}

impl Configuration {
    /// Reads the named file, or the usual one where that is there.
    pub fn load(named: Option<&Path>) -> Result<Self, Failure> {
        let Some(path) = named.map(Path::to_owned).or_else(usual_place) else { return Ok(Self::default()) };
        match named_file::text(&path) {
            Ok(text) => Self::read(&text, &path),
            Err(error) if named.is_none() && error.kind() == io::ErrorKind::NotFound => Ok(Self::default()),
            // It may be another user's, after a change of user; nobody has asked for it.
            Err(error) if named.is_none() && error.kind() == io::ErrorKind::PermissionDenied => {
                let warning = words::unreadable_configuration(&path);
                // Whoever cannot be told goes on all the same.
                let _ = writeln!(anstream::stderr(), "under-seal: {warning}");
                Ok(Self::default())
            }
            Err(source) => Err(Failure::TextFile { path, source }),
        }
    }

    fn read(text: &str, path: &Path) -> Result<Self, Failure> {
        let source = Source { text, path };
        let file: FileText =
            toml::from_str(text).map_err(|error| source.at(error.span(), error.message().to_owned()))?;
        let mut configuration = Self {
            path: Some(path.to_owned()),
            leave_out: source.patterns(&file.leave_out)?,
            no_litter: file.no_litter,
            ..Self::default()
        };
        for (name, fit) in file.fits {
            let fit = source.own_fit(&name, fit)?;
            configuration.fits.insert(name, fit);
        }
        for (name, profile) in file.profiles {
            let profile = configuration.read_profile(profile, &source)?;
            configuration.profiles.insert(name, profile);
        }
        Ok(configuration)
    }

    fn read_profile(&self, text: ProfileText, source: &Source<'_>) -> Result<Profile, Failure> {
        let fit = |written: &Written| self.known_fit(written.get_ref()).map_err(|error| source.bad(written, &error));
        let spares = |written: &Spanned<SparesText>| {
            let text = match written.get_ref() {
                SparesText::Count(count) => count.to_string(),
                SparesText::Text(text) => text.clone(),
            };
            super::spares(&text).map_err(|error| source.at(Some(written.span()), words::bad_value(&error)))
        };
        let squeeze = |written: &Written| {
            let unknown = |_| source.at(Some(written.span()), words::unknown_squeeze(written.get_ref()));
            SqueezeName::from_str(written.get_ref(), false).map_err(unknown)
        };
        let name = |written: &Written| {
            NamePattern::new(written.get_ref()).map_err(|error| source.bad(written, &BadValue::Name(error)))
        };
        let format = |written: &Written| {
            let why = format!("there is no format '{}'; write sealed, zip, tar, tar.gz or tar.zst", written.get_ref());
            let known = Format::named(written.get_ref()).filter(|format| format.writing.is_some());
            known.ok_or_else(|| source.at(Some(written.span()), why))
        };
        // What the file names is sought from where the file is.
        let beside = source.path.parent().unwrap_or(Path::new(""));
        Ok(Profile {
            fit: text.fit.as_ref().map(fit).transpose()?,
            spares: text.spares.as_ref().map(spares).transpose()?,
            squeeze: text.squeeze.as_ref().map(squeeze).transpose()?,
            format: text.format.as_ref().map(format).transpose()?,
            hide_names: text.hide_names,
            name: text.name.as_ref().map(name).transpose()?,
            threads: text.threads,
            note_template: text.note_template.map(|template| beside.join(template)),
            mail_to: text.mail_to,
            leave_out: source.patterns(&text.leave_out)?,
            no_litter: text.no_litter,
        })
    }

    fn known_fit(&self, text: &str) -> Result<WrittenFit, BadValue> {
        let own = self.fits.get(text.trim()).map(|own| own.fit);
        let fit = own.map_or_else(|| text.parse(), Ok).map_err(|why| BadValue::Fit {
            value: text.to_owned(),
            why,
            known: NAMED.iter().map(|(name, _)| (*name).to_owned()).chain(self.fits.keys().cloned()).collect(),
        })?;
        Ok(WrittenFit { text: text.trim().to_owned(), fit })
    }

    /// The fit that a text means: one of the user's own, a name, or a size.
    pub fn fit(&self, text: &str) -> Result<WrittenFit, Failure> {
        self.known_fit(text).map_err(Failure::Value)
    }

    /// The profile of this name.
    pub fn profile(&self, name: &str) -> Result<&Profile, Failure> {
        let unknown = || BadValue::Profile { value: name.to_owned(), known: self.profiles.keys().cloned().collect() };
        self.profiles.get(name).ok_or_else(|| Failure::Value(unknown()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use under_seal_core::formats::registry::ZIP;

    fn read(text: &str) -> Result<Configuration, Failure> {
        Configuration::read(text, Path::new("/keeper/config.toml"))
    }

    #[test]
    fn everything_that_may_stand_in_it_is_read() {
        let configuration = read(
            r#"
            leave-out = ["*.part"]
            [fits.board-room]
            form = "50MB"
            [profiles.board]
            fit = "board-room"
            spares = "20%"
            squeeze = "utmost"
            format = "zip"
            hide-names = true
            name = "{folder}"
            threads = 2
            note-template = "note.txt"
            mail-to = ["board@example.org"]
            leave-out = ["raw/"]
            no-litter = false
            "#,
        );
        let configuration = configuration.unwrap();
        let board = &configuration.profiles["board"];
        assert_eq!(board.fit.as_ref().unwrap().fit.volume_limit(), Some(49_995_904));
        assert_eq!(board.note_template.as_deref(), Some(Path::new("/keeper/note.txt")));
        assert_eq!(board.mail_to, ["board@example.org"]);
        assert_eq!((board.format, board.hide_names), (Some(&ZIP), Some(true)));
        assert_eq!(board.spares, Some(SpareWish::Percent(20)));
        assert_eq!((board.squeeze, board.no_litter), (Some(SqueezeName::Utmost), Some(false)));
        assert_eq!((configuration.leave_out, &board.leave_out), (vec!["*.part".to_owned()], &vec!["raw/".to_owned()]));
    }

    #[rstest]
    #[case::unknown_key("\nfits.a = { size = \"1MB\", speed = 3 }", 2, "unknown field `speed`")]
    #[case::two_sizes("[fits.a]\nsize = \"1MB\"\nform = \"1MB\"", 1, "exactly one of size, message and form")]
    #[case::name_of_a_built_in_fit("[fits.stick]\nsize = \"1MB\"", 1, "cannot be called stick")]
    #[case::size_in_two_readings(
        "\n[fits.a]\nsize = \"1G\"",
        3,
        "1GB for 1,000,000,000 bytes or 1GiB for 1,073,741,824"
    )]
    #[case::unknown_fit("[profiles.a]\nfit = \"mail-nine\"", 2, "No size is called 'mail-nine'")]
    #[case::unknown_format("[profiles.a]\nformat = \"paper\"", 2, "there is no format 'paper'")]
    #[case::broken_name("[profiles.a]\nname = \"{\"", 2, "a brace without its other one")]
    #[case::broken_pattern("leave-out = [\n\"ok\",\n\"[\"]", 3, "The pattern '[' cannot be read")]
    #[case::too_many_spares("[profiles.a]\nspares = 57", 2, "at most 56")]
    #[case::no_threads("[profiles.a]\nthreads = 0", 2, "a nonzero usize")]
    #[case::no_toml("leave-out", 1, "expected")]
    fn what_cannot_be_used_is_told_with_its_line(#[case] text: &str, #[case] line: usize, #[case] words: &str) {
        let Err(Failure::Configuration { line: at, why, .. }) = read(text) else { panic!("it was taken") };
        assert!(at == Some(line) && why.contains(words), "{at:?}: {why}");
    }
}
