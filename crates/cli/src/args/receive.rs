//! What a recipient types.

use super::WorkArguments;
use clap::Args;
use std::path::PathBuf;

/// Where the password comes from.
#[derive(Debug, Args)]
pub struct PasswordArguments {
    /// Read the password from this file (a line break at its end does not count)
    ///
    /// Without this option the variable UNDER_SEAL_PASSWORD is used; where that is not set either, the password is
    /// asked for on the terminal.
    #[arg(long, value_name = "FILE")]
    pub password_from: Option<PathBuf>,
    /// The key file, where the archive was sealed with one
    #[arg(long, value_name = "FILE")]
    pub key_file: Option<PathBuf>,
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
