//! What looks after an archive that there is.

use super::WorkArguments;
use super::receive::{OnClashName, UnlockArguments};
use super::send::{
    ChoiceArguments, ConfigurationArguments, MakingArguments, MessageArguments, SqueezeName, written_formats,
};
use clap::{ArgGroup, Args};
use std::path::PathBuf;
use under_seal_core::formats::registry::Format;

/// `revise`.
#[derive(Debug, Args)]
#[command(group = ArgGroup::new("change").args(["refresh", "remove", "rename", "add", "message", "message_from"]).required(true).multiple(true))]
pub struct ReviseArguments {
    /// A volume, a folder with volumes in it, a page, or a ZIP or tar archive
    #[arg(value_name = "ARCHIVE")]
    pub archive: PathBuf,
    /// Bring it up to date with these, the files and folders that it was packed from: what is new there is added, what is not there any
    /// more is removed. Without a source it is asked on a terminal
    #[arg(long, value_name = "SOURCE", num_args = 0..)]
    pub refresh: Option<Vec<PathBuf>>,
    /// Take out what matches, with all that lies in it: a name at any depth, the end of a path, or a whole path (/dossier/survey). Repeatable
    #[arg(long, value_name = "PATTERN", num_args = 1..)]
    pub remove: Vec<String>,
    /// Give what has the first path inside the second one. Repeatable
    #[arg(long, value_names = ["OLD", "NEW"], num_args = 2)]
    pub rename: Vec<String>,
    /// Add files and folders
    #[arg(long, value_name = "SOURCE", num_args = 1..)]
    pub add: Vec<PathBuf>,
    /// Put what is added into this folder inside, which is made if it is not there
    #[arg(long, value_name = "FOLDER", requires = "add")]
    pub inside: Option<String>,
    /// What becomes of added files that meet others inside. Without this it is asked on a terminal, and nothing is changed elsewhere
    #[arg(long, value_enum, requires = "add")]
    pub on_clash: Option<OnClashName>,
    /// Where the new archive goes: a folder, or the archive's own name. The old one stays then; without this it is replaced
    #[arg(long, value_name = "PATH")]
    pub to: Option<PathBuf>,
    /// What a volume must fit then; without this it is cut as it is now
    #[arg(long, value_name = "SIZE|NAME")]
    pub fit: Option<String>,
    /// Say what would change, and write nothing
    #[arg(long)]
    pub dry_run: bool,
    #[command(flatten)]
    pub choice: ChoiceArguments,
    #[command(flatten)]
    pub message: MessageArguments,
    #[command(flatten)]
    pub configuration: ConfigurationArguments,
    /// Another password that opens it then, read from a file: one that opened it before, beside the one that is given now, counts no
    /// longer unless it is named here. Repeatable
    #[arg(long, value_name = "FILE", help_heading = "Password")]
    pub also_password_from: Vec<PathBuf>,
    /// Take such a password although it is weak
    #[arg(long, help_heading = "Password", requires = "also_password_from")]
    pub weak_ok: bool,
    #[command(flatten, next_help_heading = "Password")]
    pub unlock: UnlockArguments,
    #[command(flatten)]
    pub work: WorkArguments,
}

/// `recast`.
#[derive(Debug, Args)]
#[command(group = ArgGroup::new("becomes").args(["format", "squeeze", "hide_names", "fit", "one_volume"]).required(true).multiple(true))]
pub struct RecastArguments {
    /// A volume, a folder with volumes in it, or an archive of any format that is read; several with --as or --squeeze
    #[arg(value_name = "ARCHIVE", required = true)]
    pub archives: Vec<PathBuf>,
    /// Make an archive of this format of it
    #[arg(long = "as", value_parser = written_formats(), value_name = "FORMAT")]
    pub format: Option<&'static Format>,
    /// Compress its contents anew, so hard
    #[arg(long, value_enum)]
    pub squeeze: Option<SqueezeName>,
    /// Hide names, sizes and dates in ZIP too
    #[arg(long)]
    pub hide_names: bool,
    /// What a volume must fit then: a size such as 300KB, 10MB or 5MiB, or a name such as mail-10 (see "fits")
    #[arg(long, value_name = "SIZE|NAME")]
    pub fit: Option<String>,
    /// Make one volume of it
    #[arg(long, conflicts_with = "fit")]
    pub one_volume: bool,
    /// Where the new archive goes: a folder, or its own name. The old one stays then. Without this it goes beside the old one, or, where
    /// the format stays, into its place
    #[arg(long, value_name = "PATH")]
    pub to: Option<PathBuf>,
    /// Say what would come of it, and write nothing
    #[arg(long)]
    pub dry_run: bool,
    #[command(flatten)]
    pub new: NewPasswordArguments,
    /// What unlocks it now, for --as and --squeeze
    #[command(flatten, next_help_heading = "Password until now")]
    pub unlock: UnlockArguments,
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
