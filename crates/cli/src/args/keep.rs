//! What looks after an archive that there is.

use super::WorkArguments;
use super::receive::UnlockArguments;
use super::send::{ConfigurationArguments, MakingArguments};
use clap::{ArgGroup, Args};
use std::path::PathBuf;

/// `recast`.
#[derive(Debug, Args)]
#[command(group = ArgGroup::new("cut").args(["fit", "one_volume"]).required(true))]
pub struct RecastArguments {
    /// A volume, or a folder with volumes in it
    #[arg(value_name = "VOLUME|FOLDER")]
    pub archive: PathBuf,
    /// What a volume must fit then: a size such as 300KB, 10MB or 5MiB, or a name such as mail-10 (see "fits")
    #[arg(long, value_name = "SIZE|NAME")]
    pub fit: Option<String>,
    /// Make one volume of it
    #[arg(long)]
    pub one_volume: bool,
    /// Where the new volumes go: a folder, or the archive's own name. The old ones stay then; without this they are replaced
    #[arg(long, value_name = "PATH")]
    pub to: Option<PathBuf>,
    /// Say what would come of it, and write nothing
    #[arg(long)]
    pub dry_run: bool,
    #[command(flatten)]
    pub configuration: ConfigurationArguments,
    #[command(flatten)]
    pub work: WorkArguments,
}

/// `relock`.
#[derive(Debug, Args)]
pub struct RelockArguments {
    /// A volume, or a folder with volumes in it
    #[arg(value_name = "VOLUME|FOLDER")]
    pub archive: PathBuf,
    /// Where the new volumes go: a folder, or the archive's own name. The old ones stay then; without this they are replaced
    #[arg(long, value_name = "PATH")]
    pub to: Option<PathBuf>,
    /// Say what would come of it, and write nothing
    #[arg(long)]
    pub dry_run: bool,
    #[command(flatten)]
    pub new: NewPasswordArguments,
    /// What unlocks it now.
    #[command(flatten, next_help_heading = "Password until now")]
    pub unlock: UnlockArguments,
    #[command(flatten)]
    pub work: WorkArguments,
}

/// What will unlock it.
#[derive(Debug, Args)]
#[command(next_help_heading = "New password")]
#[command(group = ArgGroup::new("new").args(["make_passphrase", "no_password", "new_password_from"]))]
pub struct NewPasswordArguments {
    /// Read the new password from this file; without this it is asked for on the terminal
    #[arg(long, value_name = "FILE")]
    pub new_password_from: Option<PathBuf>,
    /// A key file that goes with every new password
    #[arg(long, value_name = "FILE", conflicts_with = "no_password")]
    pub new_key_file: Option<PathBuf>,
    /// Another password that opens it then, read from a file: one that opened it before counts no longer unless it is named here. Repeatable
    #[arg(long, value_name = "FILE", conflicts_with = "no_password")]
    pub also_password_from: Vec<PathBuf>,
    #[command(flatten)]
    pub making: MakingArguments,
    /// Lock it with no password: checked and split, but not secret
    #[arg(long, conflicts_with = "weak_ok")]
    pub no_password: bool,
}
