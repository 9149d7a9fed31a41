//! What a sender types.

use super::question::{FORMAT, MESSAGE, PASSWORD, SETTINGS, SIZE, WHAT_GOES_IN, WHERE};
use super::{OutputArguments, PasswordArguments, WorkArguments};
use clap::builder::{PossibleValue, PossibleValuesParser, TypedValueParser};
use clap::{ArgGroup, Args, ValueEnum};
use std::ffi::OsString;
use std::fmt;
use std::path::{Path, PathBuf};
use std::str::FromStr;
use under_seal_core::codecs::block::Squeeze;
use under_seal_core::codecs::stream::Wrapping;
use under_seal_core::formats::registry::{ALL, Format, Writing};
use under_seal_core::source::UnsafeNames;

/// `pack`.
#[derive(Debug, Args)]
pub struct PackArguments {
    /// Files and folders, or "-" for standard input
    ///
    /// Wildcards that the shell leaves alone are expanded. What comes through standard input becomes one file, however long it is.
    #[arg(required_unless_present_any = ["show_settings", "paths_from"], value_name = "SOURCE")]
    pub sources: Vec<PathBuf>,
    #[command(flatten)]
    pub input: InputArguments,
    #[command(flatten)]
    pub delivery: DeliveryArguments,
    #[command(flatten)]
    pub since: SinceArguments,
    /// The folder or name of the archive
    ///
    /// A folder exists, or ends in "/". In a folder, the archive is named after its only source, or as --name says. Several sources
    /// need a name. Without this option the archive goes into the current folder. "-" is standard output: the archive is written and
    /// verified in the folder for temporary files first.
    #[arg(long, value_name = "PATH", help_heading = WHERE)]
    pub to: Option<PathBuf>,
    /// Replace an older archive of this name
    ///
    /// It goes once the new one is verified.
    #[arg(long, help_heading = WHERE)]
    pub replace: bool,
    #[command(flatten)]
    pub seal: SealArguments,
    #[command(flatten)]
    pub message: MessageArguments,
    #[command(flatten)]
    pub configuration: ConfigurationArguments,
    /// Print what this run would use, and where each value comes from
    #[arg(long, help_heading = SETTINGS, hide_short_help = true)]
    pub show_settings: bool,
    #[command(flatten)]
    pub work: WorkArguments,
}

impl PackArguments {
    /// Whether the archive goes to standard output.
    pub fn goes_to_output(&self) -> bool {
        self.to.as_deref().is_some_and(is_standard_stream)
    }
}

/// What standard input and standard output are called where a file can be named.
pub const STANDARD_STREAM: &str = "-";

/// Whether a path stands for standard input or standard output.
pub fn is_standard_stream(path: &Path) -> bool {
    path == Path::new(STANDARD_STREAM)
}

/// Sources that are not typed one by one.
#[derive(Debug, Clone, Default, Args)]
#[command(next_help_heading = WHAT_GOES_IN)]
pub struct InputArguments {
    /// The path of what comes through standard input, in the archive
    #[arg(long, value_name = "PATH", default_value = "standard-input", hide_short_help = true)]
    pub entry_name: String,
    /// Read further sources from this file, one a line; "-" is standard input
    ///
    /// The folders before each one are kept, unless --contents is given. A folder is taken with everything in it.
    #[arg(long, value_name = "FILE", hide_short_help = true)]
    pub paths_from: Option<PathBuf>,
    /// A NUL ends each of those paths, not a line break
    #[arg(long, short = '0', requires = "paths_from", hide_short_help = true)]
    pub null: bool,
}

/// What is said to whoever opens the archive.
#[derive(Debug, Clone, Default, Args)]
#[command(next_help_heading = MESSAGE)]
pub struct MessageArguments {
    /// Say this to whoever opens the archive
    ///
    /// It is sealed with the rest. In ZIP anyone can read it, unless --hide-names hides it.
    #[arg(long, value_name = "TEXT", conflicts_with = "message_from")]
    pub message: Option<String>,
    /// Read that message from a text file
    #[arg(long, value_name = "FILE", hide_short_help = true)]
    pub message_from: Option<PathBuf>,
}

/// `plan`.
#[derive(Debug, Args)]
pub struct PlanArguments {
    /// Say how long sending takes over a line of 20Mbit
    #[arg(long, value_name = "SPEED", help_heading = COMPARISON)]
    pub line: Option<LineSpeed>,
    /// Say what every squeeze would come to
    #[arg(long, help_heading = COMPARISON)]
    pub every_squeeze: bool,
    /// Say what it would come to in every format
    #[arg(long, help_heading = COMPARISON)]
    pub every_format: bool,
    #[command(flatten)]
    pub pack: PackArguments,
    /// The words of the line behind the command, so that `pack` can be suggested with them.
    #[arg(skip)]
    pub typed: Vec<OsString>,
}

/// The question that only the options of `plan` answer.
const COMPARISON: &str = "Comparing";

/// Only what has changed.
#[derive(Debug, Clone, Default, Args)]
#[command(next_help_heading = WHAT_GOES_IN)]
pub struct SinceArguments {
    /// Only what changed since this archive was made
    ///
    /// And the list of what was removed. A volume of that archive, or a folder with its volumes.
    #[arg(long, value_name = "ARCHIVE", conflicts_with = "parcels")]
    pub since: Option<PathBuf>,
    /// The password of that archive, read from a file, where it is another
    #[arg(long, value_name = "FILE", requires = "since", hide_short_help = true)]
    pub since_password_from: Option<PathBuf>,
    /// The key file of that archive, where it is another
    #[arg(long, value_name = "FILE", requires = "since", hide_short_help = true)]
    pub since_key_file: Option<PathBuf>,
}

/// The speed of a line, in bits a second.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct LineSpeed(pub f64);

impl FromStr for LineSpeed {
    type Err = &'static str;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let text = text.trim().to_lowercase();
        let text = text.strip_suffix("/s").unwrap_or(&text);
        let end = text.find(|letter: char| !letter.is_ascii_digit() && letter != '.').unwrap_or(text.len());
        let (number, unit) = text.split_at(end);
        let factor = match unit.trim() {
            "kbit" => 1e3,
            "mbit" => 1e6,
            "gbit" => 1e9,
            _ => return Err("a line's speed is a number and kbit, Mbit or Gbit, such as 20Mbit"),
        };
        match number.parse::<f64>() {
            Ok(number) if number > 0.0 => Ok(Self(number * factor)),
            _ => Err("a line's speed begins with a number above 0, such as 20Mbit"),
        }
    }
}

/// What a delivery will be, made or only planned.
#[derive(Debug, Clone, Default, Args)]
pub struct DeliveryArguments {
    #[command(flatten)]
    pub choice: ChoiceArguments,
    #[command(flatten)]
    pub shape: ShapeArguments,
}

/// What the archive will be like.
#[derive(Debug, Clone, Default, Args)]
pub struct ShapeArguments {
    /// The size of a volume: 20MB, 5MiB, mail-10 (see "fits")
    ///
    /// MB is 1,000,000 bytes and MiB is 1,048,576. Without this option there is one volume.
    #[arg(long, value_name = "SIZE|NAME", value_parser = super::fit_text(), help_heading = SIZE)]
    pub fit: Option<String>,
    /// How many spare volumes: 2, or 20% of the volumes
    ///
    /// Any volumes may be lost or damaged on the way, as many as there are spare ones: the recipient opens all the same.
    #[arg(long, value_name = "COUNT|PERCENT", help_heading = SIZE)]
    pub spares: Option<String>,
    /// How hard to compress
    #[arg(long, value_enum, value_name = "HOW", help_heading = SIZE)]
    pub squeeze: Option<SqueezeName>,
    /// Make parcels: several archives within the fit that each open alone
    ///
    /// No file is cut.
    #[arg(long, help_heading = SIZE, hide_short_help = true)]
    pub parcels: bool,
    /// sealed, page, zip, tar, tar.gz or tar.zst
    ///
    /// "under-seal help formats" says which suits whom; zip opens everywhere and hides less.
    /// Without this the extension of --to decides, else it is sealed.
    #[arg(long = "as", value_parser = written_formats(), value_name = "FORMAT", help_heading = FORMAT)]
    pub format: Option<&'static Format>,
    /// Hide names, sizes and dates in ZIP too
    ///
    /// By an archive within the archive. The sealed format always hides them.
    #[arg(long, help_heading = FORMAT, hide_short_help = true)]
    pub hide_names: bool,
    /// What to do in ZIP with names that are not text (UTF-8)
    ///
    /// Without this: escape. The sealed format and tar keep every name as it is.
    #[arg(long, value_enum, value_name = "WHAT", help_heading = FORMAT, hide_short_help = true)]
    pub unsafe_names: Option<UnsafeNamesName>,
    /// The archive's name as a pattern: {folder}, {date}, {time}, {profile}
    ///
    /// {folder} is the only source's name, {date} today, {time} now, {profile} the recipient's profile.
    #[arg(long, value_name = "PATTERN", help_heading = WHERE, hide_short_help = true)]
    pub name: Option<String>,
}

/// What a format is, in a few words.
const fn summary(format: &Format) -> &'static str {
    match format.writing {
        Some(Writing::Sealed) => "Our own: names, sizes and dates are hidden too, and everything is authentic",
        Some(Writing::Page) => {
            "A sealed archive in one HTML file, which opens it in any browser, with nothing installed; it is not cut to a size"
        }
        Some(Writing::Zip) => {
            "ZIP: with a password, contents are encrypted with AES-256; names, sizes and dates can be read by anyone, unless \
             --hide-names"
        }
        Some(Writing::Tar(Wrapping::Gzip)) => "Tar, compressed with gzip",
        Some(Writing::Tar(Wrapping::Zstandard)) => "Tar, compressed with Zstandard",
        Some(Writing::Tar(_)) => "Tar, which has no password: readable by anyone",
        None => "",
    }
}

/// The formats that are written, by their names.
pub(super) fn written_formats() -> impl TypedValueParser<Value = &'static Format> {
    let written = ALL.into_iter().filter(|format| format.writing.is_some());
    let values = written.map(|format| PossibleValue::new(format.name).help(summary(format)));
    PossibleValuesParser::new(values).try_map(|name| Format::named(&name).ok_or(name))
}

/// What is done with names that are not text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum UnsafeNamesName {
    /// Pack it under a name with %XX in place of each byte that is not text, and say so
    Escape,
    /// Leave it out, and what lies below it, and say so
    LeaveOut,
    /// Pack nothing
    Refuse,
}

impl From<UnsafeNamesName> for UnsafeNames {
    fn from(name: UnsafeNamesName) -> Self {
        match name {
            UnsafeNamesName::Escape => Self::Escape,
            UnsafeNamesName::LeaveOut => Self::LeaveOut,
            UnsafeNamesName::Refuse => Self::Refuse,
        }
    }
}

/// What of the sources is packed.
#[derive(Debug, Clone, Default, Args)]
#[command(next_help_heading = WHAT_GOES_IN)]
#[command(group = ArgGroup::new("naming").args(["contents", "keep_paths"]))]
pub struct ChoiceArguments {
    /// Leave out what matches, such as '*.tmp'
    ///
    /// "under-seal help patterns" explains patterns: a name at any depth (*.tmp), the end of a path (survey/raw), a whole path inside the
    /// archive (/dossier/survey), folders only (raw/). Repeatable.
    #[arg(long, value_name = "PATTERN")]
    pub leave_out: Vec<String>,
    /// Read such patterns from a text file, one a line
    ///
    /// Empty lines and lines that begin with # do not count.
    #[arg(long, value_name = "FILE", hide_short_help = true)]
    pub leave_out_from: Option<PathBuf>,
    /// Leave out what editors, file managers and systems leave behind
    #[arg(long, hide_short_help = true)]
    pub no_litter: bool,
    /// Take nothing but what matches
    ///
    /// And what lies below it. Repeatable.
    #[arg(long, value_name = "PATTERN")]
    pub only: Vec<String>,
    /// Pack what symbolic links lead to, in their place
    #[arg(long, hide_short_help = true)]
    pub follow: bool,
    /// Leave out folders on other file systems than their source
    #[arg(long, hide_short_help = true)]
    pub one_system: bool,
    /// Pack extended attributes of files, and their access lists (ACLs)
    ///
    /// Sealed archives, pages and tar can have them. Where the archive is opened, those of the users' own (user.*) are set; others, and
    /// access lists, are told and not set.
    #[arg(long, hide_short_help = true)]
    pub attributes: bool,
    /// Pack what is in a folder without the folder itself
    #[arg(long, hide_short_help = true)]
    pub contents: bool,
    /// Keep the folders typed before each source: survey/raw stays survey/raw
    #[arg(long, hide_short_help = true)]
    pub keep_paths: bool,
}

/// A password that is made, or not judged.
#[derive(Debug, Clone, Args)]
pub struct MakingArguments {
    /// Make a passphrase of seven words, and show it once
    ///
    /// Its 77 bits are random. It is shown on the terminal only.
    #[arg(long)]
    pub make_passphrase: bool,
    /// Write the made passphrase into this new file instead
    ///
    /// Only you may read that file.
    #[arg(long, value_name = "FILE", requires = "make_passphrase", hide_short_help = true)]
    pub passphrase_to: Option<PathBuf>,
    /// Take the password although it is weak
    #[arg(long, hide_short_help = true)]
    pub weak_ok: bool,
}

/// What will unlock the archive.
#[derive(Debug, Args)]
#[command(next_help_heading = PASSWORD)]
#[command(group = ArgGroup::new("how").args(["make_passphrase", "no_password", "password_from", "password_fd"]))]
pub struct SealArguments {
    #[command(flatten)]
    pub password: PasswordArguments,
    /// Another password that opens the archive too, read from a file
    ///
    /// With --key-file it needs the key file too. Repeatable.
    #[arg(long, value_name = "FILE", conflicts_with = "no_password", hide_short_help = true)]
    pub also_password_from: Vec<PathBuf>,
    #[command(flatten)]
    pub making: MakingArguments,
    /// Use no password: checked and cut, but not secret
    #[arg(long, conflicts_with_all = ["key_file", "weak_ok"])]
    pub no_password: bool,
}

/// Where settings come from beside the command line.
#[derive(Debug, Clone, Default, Args)]
#[command(next_help_heading = SETTINGS)]
pub struct ConfigurationArguments {
    /// Use the settings stored for this recipient
    #[arg(long = "for", value_name = "PROFILE")]
    pub profile: Option<String>,
    /// Read settings from this file instead of the usual one
    #[arg(long, value_name = "FILE", hide_short_help = true)]
    pub config: Option<PathBuf>,
}

/// `fits`.
#[derive(Debug, Args)]
pub struct FitsArguments {
    /// List the recipients' profiles of the configuration file instead
    #[arg(long)]
    pub profiles: bool,
    /// Read settings from this file instead of the usual one
    #[arg(long, value_name = "FILE")]
    pub config: Option<PathBuf>,
    #[command(flatten)]
    pub output: OutputArguments,
}

/// The squeezes by name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum SqueezeName {
    /// Do not compress: for photographs, films and archives
    None,
    /// Fast
    Light,
    /// The middle way
    Even,
    /// Slow, smaller
    Hard,
    /// Very slow, smallest; takes about 140 MB of memory for each thread
    Utmost,
}

impl fmt::Display for SqueezeName {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str(self.to_possible_value().as_ref().map_or("", |value| value.get_name()))
    }
}

impl From<Squeeze> for SqueezeName {
    fn from(squeeze: Squeeze) -> Self {
        match squeeze {
            Squeeze::None => Self::None,
            Squeeze::Light => Self::Light,
            Squeeze::Even => Self::Even,
            Squeeze::Hard => Self::Hard,
            Squeeze::Utmost => Self::Utmost,
        }
    }
}

impl From<SqueezeName> for Squeeze {
    fn from(name: SqueezeName) -> Self {
        match name {
            SqueezeName::None => Self::None,
            SqueezeName::Light => Self::Light,
            SqueezeName::Even => Self::Even,
            SqueezeName::Hard => Self::Hard,
            SqueezeName::Utmost => Self::Utmost,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("20Mbit", Ok(20e6))]
    #[case("0.5 Gbit/s", Ok(5e8))]
    #[case("64kbit", Ok(64e3))]
    #[case("20MB", Err("a line's speed is a number and kbit, Mbit or Gbit, such as 20Mbit"))]
    #[case("0Mbit", Err("a line's speed begins with a number above 0, such as 20Mbit"))]
    #[case("1.2.3Mbit", Err("a line's speed begins with a number above 0, such as 20Mbit"))]
    fn a_speed_is_in_bits_a_second(#[case] text: &str, #[case] expected: Result<f64, &str>) {
        assert_eq!(text.parse::<LineSpeed>().map(|speed| speed.0), expected);
    }
}
