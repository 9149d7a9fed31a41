//! The command line as it is typed. Nothing behind this module sees a flag.

use clap::{Args, Parser, Subcommand, ValueEnum};
use std::num::NonZeroUsize;
use std::path::PathBuf;
use under_seal_core::codec::Squeeze;
use under_seal_core::fit::Fit;

use crate::words;

/// Seals folders into password-encrypted volumes, and proves that they open again.
#[derive(Debug, Parser)]
#[command(name = "under-seal", version, max_term_width = 100, disable_help_subcommand = true)]
pub struct Arguments {
    /// What to do.
    #[command(subcommand)]
    pub command: Command,
}

/// The commands.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Seal files and folders into encrypted volumes, and verify them
    ///
    /// Everything is written under a temporary folder beside the target, read back from disk, unlocked with the
    /// password and verified to the last byte. Only then do the volumes get their names, all of them or none.
    /// Names, sizes, dates and counts are sealed too: without the password a volume tells none of them.
    Pack(PackArguments),
    /// Say which volumes are here, which are missing and which are damaged
    ///
    /// Volumes are known by their contents, under any file name and in any order. No password is needed for
    /// that. With the password everything inside is verified too, down to each file's digest.
    Check(CheckArguments),
    /// Extract everything, without harm to what is there
    ///
    /// Nothing is ever overwritten: if anything is in the way, nothing is extracted. A file appears under its
    /// name only when it is complete and verified.
    Open(OpenArguments),
    /// Play the whole story in a temporary folder: pack, lose a volume, check, open, compare
    Demo(DemoArguments),
}

/// Where the password comes from.
#[derive(Debug, Args)]
pub struct PasswordArguments {
    /// Read the password from this file (a line break at its end does not count)
    ///
    /// Without this option the variable UNDER_SEAL_PASSWORD is used; where that is not set either, the password is
    /// asked for on the terminal.
    #[arg(long, value_name = "FILE")]
    pub password_from: Option<PathBuf>,
}

/// How the work is done, and how results are printed.
#[derive(Debug, Args)]
pub struct WorkArguments {
    /// How many threads compress or decompress; one for each core without this
    ///
    /// What is written is the same for any number.
    #[arg(long, value_name = "NUMBER")]
    pub threads: Option<NonZeroUsize>,
    /// Print the result as one JSON object (docs/json.md)
    #[arg(long)]
    pub json: bool,
}

/// `pack`.
#[derive(Debug, Args)]
pub struct PackArguments {
    /// Files and folders to pack
    #[arg(required = true, value_name = "SOURCE")]
    pub sources: Vec<PathBuf>,
    /// Where the archive goes: a folder (existing, or ending in "/"), or the archive's name
    ///
    /// In a folder, the archive is named after its only source. Several sources need a name. Without this option the
    /// archive goes into the current folder.
    #[arg(long, value_name = "PATH")]
    pub to: Option<PathBuf>,
    /// The most bytes a volume may have, such as 300KB, 10MB or 5MiB
    ///
    /// MB is 1,000,000 bytes and MiB is 1,048,576. Without this option there is one volume.
    #[arg(long, value_name = "SIZE", value_parser = parse_fit)]
    pub fit: Option<Fit>,
    /// How hard to compress
    #[arg(long, value_enum, default_value = "even")]
    pub squeeze: SqueezeName,
    /// Replace volumes of this name that are there already, once the new ones are verified
    #[arg(long)]
    pub replace: bool,
    #[command(flatten)]
    pub password: PasswordArguments,
    #[command(flatten)]
    pub work: WorkArguments,
}

/// The squeezes by name.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum SqueezeName {
    /// Do not compress: for photographs, films and archives
    None,
    /// Fast
    Light,
    /// The middle way
    Even,
    /// Slow, smaller
    Hard,
    /// Very slow, smallest; takes more memory
    Utmost,
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

/// `check`.
#[derive(Debug, Args)]
pub struct CheckArguments {
    /// Volumes, or folders with volumes in them; one volume stands for its whole set
    #[arg(required = true, value_name = "VOLUME|FOLDER")]
    pub places: Vec<PathBuf>,
    /// Ask for the password on the terminal, and verify everything inside too
    #[arg(long)]
    pub ask_password: bool,
    #[command(flatten)]
    pub password: PasswordArguments,
    #[command(flatten)]
    pub work: WorkArguments,
}

/// `open`.
#[derive(Debug, Args)]
pub struct OpenArguments {
    /// Volumes, or folders with volumes in them; one volume stands for its whole set
    #[arg(required = true, value_name = "VOLUME|FOLDER")]
    pub places: Vec<PathBuf>,
    /// The folder to extract into; it is made if it does not exist
    #[arg(long, value_name = "FOLDER", default_value = ".")]
    pub into: PathBuf,
    #[command(flatten)]
    pub password: PasswordArguments,
    #[command(flatten)]
    pub work: WorkArguments,
}

/// `demo`.
#[derive(Debug, Args)]
pub struct DemoArguments {
    /// Only lay the demonstration's folder out here, to try the commands on by hand
    #[arg(long, value_name = "FOLDER")]
    pub data_to: Option<PathBuf>,
}

fn parse_fit(text: &str) -> Result<Fit, String> {
    text.parse().map_err(|error| words::size_error(text, &error))
}
