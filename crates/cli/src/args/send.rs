//! What a sender types.

use super::{PasswordArguments, WorkArguments};
use clap::builder::{PossibleValue, PossibleValuesParser, TypedValueParser};
use clap::{ArgGroup, Args, ValueEnum};
use std::fmt;
use std::path::PathBuf;
use std::str::FromStr;
use under_seal_core::codecs::block::Squeeze;
use under_seal_core::codecs::stream::Wrapping;
use under_seal_core::formats::registry::{ALL, Format, Writing};
use under_seal_core::source::UnsafeNames;

/// `pack`.
#[derive(Debug, Args)]
pub struct PackArguments {
    /// Files and folders to pack; wildcards that the shell leaves alone are expanded
    #[arg(required_unless_present = "show_settings", value_name = "SOURCE")]
    pub sources: Vec<PathBuf>,
    /// Where the archive goes: a folder (existing, or ending in "/"), or the archive's name
    ///
    /// In a folder, the archive is named after its only source, or as --name says. Several sources need a name. Without
    /// this option the archive goes into the current folder.
    #[arg(long, value_name = "PATH")]
    pub to: Option<PathBuf>,
    /// Replace volumes of this name that are there already, once the new ones are verified
    #[arg(long)]
    pub replace: bool,
    #[command(flatten)]
    pub delivery: DeliveryArguments,
    #[command(flatten)]
    pub since: SinceArguments,
    #[command(flatten)]
    pub seal: SealArguments,
    #[command(flatten)]
    pub message: MessageArguments,
    /// Print what this run would use, and where each value comes from; nothing is packed
    #[arg(long, help_heading = "Settings")]
    pub show_settings: bool,
    #[command(flatten)]
    pub work: WorkArguments,
}

/// What is said to whoever opens the archive.
#[derive(Debug, Clone, Default, Args)]
#[command(next_help_heading = "Message")]
pub struct MessageArguments {
    /// Say this to whoever opens the archive; it is sealed with the rest (in ZIP anyone can read it, unless --hide-names)
    #[arg(long, value_name = "TEXT", conflicts_with = "message_from")]
    pub message: Option<String>,
    /// Read that message from a text file
    #[arg(long, value_name = "FILE")]
    pub message_from: Option<PathBuf>,
}

/// `plan`.
#[derive(Debug, Args)]
pub struct PlanArguments {
    /// Files and folders that would be packed; wildcards that the shell leaves alone are expanded
    #[arg(required = true, value_name = "SOURCE")]
    pub sources: Vec<PathBuf>,
    /// Say how long sending takes over this line, such as 20Mbit (a second)
    #[arg(long, value_name = "SPEED")]
    pub line: Option<LineSpeed>,
    /// Say what every squeeze would come to, not only the chosen one; that takes longer
    #[arg(long)]
    pub every_squeeze: bool,
    /// Say what it would come to in every format, not only in the chosen one; that takes longer
    #[arg(long)]
    pub every_format: bool,
    #[command(flatten)]
    pub delivery: DeliveryArguments,
    #[command(flatten)]
    pub since: SinceArguments,
    #[command(flatten)]
    pub work: WorkArguments,
}

/// Only what has changed.
#[derive(Debug, Clone, Default, Args)]
#[command(next_help_heading = "Changes")]
pub struct SinceArguments {
    /// Only what was added or changed since this archive was made, and the list of what was removed: a volume of it, or a folder with
    /// its volumes
    #[arg(long, value_name = "ARCHIVE", conflicts_with = "parcels")]
    pub since: Option<PathBuf>,
    /// The password of that archive, read from a file, where it is another
    #[arg(long, value_name = "FILE", requires = "since")]
    pub since_password_from: Option<PathBuf>,
    /// The key file of that archive, where it is another
    #[arg(long, value_name = "FILE", requires = "since")]
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
    pub shape: ShapeArguments,
    #[command(flatten)]
    pub choice: ChoiceArguments,
    #[command(flatten)]
    pub configuration: ConfigurationArguments,
}

/// What the archive will be like.
#[derive(Debug, Clone, Default, Args)]
pub struct ShapeArguments {
    /// The format: sealed hides everything, so does page, which any browser opens, zip and tar can be opened by everybody (without
    /// this: by the extension of --to, else sealed)
    #[arg(long = "as", value_parser = written_formats(), value_name = "FORMAT")]
    pub format: Option<&'static Format>,
    /// Hide names, sizes and dates in ZIP too, by an archive within the archive (sealed always hides them)
    #[arg(long)]
    pub hide_names: bool,
    /// What becomes of names that are not text (UTF-8) in ZIP, which needs text (without this: escape)
    ///
    /// The sealed format and tar keep every name as it is.
    #[arg(long, value_enum, value_name = "WHAT")]
    pub unsafe_names: Option<UnsafeNamesName>,
    /// What a volume must fit: a size such as 300KB, 10MB or 5MiB, or a name such as mail-10 (see "fits")
    ///
    /// MB is 1,000,000 bytes and MiB is 1,048,576. Without this option there is one volume.
    #[arg(long, value_name = "SIZE|NAME")]
    pub fit: Option<String>,
    /// Make parcels: several archives within the fit that each open alone, no file cut
    #[arg(long)]
    pub parcels: bool,
    /// How hard to compress (without this: even)
    #[arg(long, value_enum)]
    pub squeeze: Option<SqueezeName>,
    /// The archive's name as a pattern: {folder} is the only source's name, {date} today, {time} now
    #[arg(long, value_name = "PATTERN")]
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

/// What becomes of names that are no text.
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
#[command(next_help_heading = "Choosing")]
#[command(group = ArgGroup::new("naming").args(["contents", "keep_paths"]))]
pub struct ChoiceArguments {
    /// Leave out what matches: a name at any depth (*.tmp), the end of a path (survey/raw), a whole path inside the
    /// archive (/dossier/survey), folders only (raw/). Repeatable
    #[arg(long, value_name = "PATTERN")]
    pub leave_out: Vec<String>,
    /// Read such patterns from a text file, one a line; empty lines and lines that begin with # do not count
    #[arg(long, value_name = "FILE")]
    pub leave_out_from: Option<PathBuf>,
    /// Leave out what editors, file managers and systems leave behind
    #[arg(long)]
    pub no_litter: bool,
    /// Pack nothing but what matches, and what lies below it. Repeatable
    #[arg(long, value_name = "PATTERN")]
    pub only: Vec<String>,
    /// Pack what symbolic links lead to, in their place
    #[arg(long)]
    pub follow: bool,
    /// Leave out folders on other file systems than their source
    #[arg(long)]
    pub one_system: bool,
    /// Pack what is in a folder without the folder itself
    #[arg(long)]
    pub contents: bool,
    /// Keep the folders typed before each source: survey/raw stays survey/raw
    #[arg(long)]
    pub keep_paths: bool,
}

/// A password that is made, or not judged.
#[derive(Debug, Clone, Args)]
pub struct MakingArguments {
    /// Take the password although it is weak
    #[arg(long)]
    pub weak_ok: bool,
    /// Make a passphrase of seven words (77 bits) and show it once, on the terminal
    #[arg(long)]
    pub make_passphrase: bool,
    /// Write the made passphrase into this new file, which only you may read, instead of showing it
    #[arg(long, value_name = "FILE", requires = "make_passphrase")]
    pub passphrase_to: Option<PathBuf>,
}

/// What will unlock the archive.
#[derive(Debug, Args)]
#[command(next_help_heading = "Password")]
#[command(group = ArgGroup::new("how").args(["make_passphrase", "no_password", "password_from"]))]
pub struct SealArguments {
    #[command(flatten)]
    pub password: PasswordArguments,
    /// Another password that opens the archive instead of the first, read from a file; with --key-file it takes the key file too.
    /// Repeatable
    #[arg(long, value_name = "FILE", conflicts_with = "no_password")]
    pub also_password_from: Vec<PathBuf>,
    #[command(flatten)]
    pub making: MakingArguments,
    /// Lock with no password: checked and split, but not secret
    #[arg(long, conflicts_with_all = ["key_file", "weak_ok"])]
    pub no_password: bool,
}

/// Where settings come from beside the command line.
#[derive(Debug, Clone, Default, Args)]
#[command(next_help_heading = "Settings")]
pub struct ConfigurationArguments {
    /// Use the settings stored for this recipient
    #[arg(long = "for", value_name = "PROFILE")]
    pub profile: Option<String>,
    /// Read settings from this file instead of the usual one
    #[arg(long, value_name = "FILE")]
    pub config: Option<PathBuf>,
}

/// `fits`.
#[derive(Debug, Args)]
pub struct FitsArguments {
    /// List the recipient profiles of the configuration file instead
    #[arg(long)]
    pub profiles: bool,
    /// Read settings from this file instead of the usual one
    #[arg(long, value_name = "FILE")]
    pub config: Option<PathBuf>,
    /// Print the result as one JSON object (docs/json.md)
    #[arg(long)]
    pub json: bool,
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
