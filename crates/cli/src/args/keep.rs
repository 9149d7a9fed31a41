//! What looks after an archive that there is.

use super::WorkArguments;
use super::question::{FORMAT, PASSWORD, SIZE, WHERE};
use super::receive::{OnClashName, UnlockArguments};
use super::send::{
    ChoiceArguments, ConfigurationArguments, MakingArguments, MessageArguments, SqueezeName, written_formats,
};
use clap::{ArgGroup, Args};
use std::num::NonZeroU32;
use std::path::PathBuf;
use under_seal_core::formats::registry::Format;

/// The question that the options of `revise` answer.
const CHANGE: &str = "What changes";

/// `revise`.
#[derive(Debug, Args)]
#[command(override_usage = "under-seal revise ARCHIVE CHANGE... [OPTIONS]")]
#[command(group = ArgGroup::new("change").args(["refresh", "remove", "rename", "add", "message", "message_from"]).required(true).multiple(true))]
pub struct ReviseArguments {
    /// A volume, their folder, or a page, ZIP or tar
    #[arg(value_name = "ARCHIVE")]
    pub archive: PathBuf,
    /// Bring it up to date with what it was packed from
    ///
    /// What is new there is added, what is not there any more is removed. Without a source it is asked on a terminal.
    #[arg(long, value_name = "SOURCE", num_args = 0.., help_heading = CHANGE)]
    pub refresh: Option<Vec<PathBuf>>,
    /// Take out what matches, with everything in it
    ///
    /// "under-seal help patterns" explains patterns.
    #[arg(long, value_name = "PATTERN", num_args = 1.., help_heading = CHANGE)]
    pub remove: Vec<String>,
    /// Give what has the first path inside the second one
    #[arg(long, value_names = ["OLD", "NEW"], num_args = 2, help_heading = CHANGE)]
    pub rename: Vec<String>,
    /// Add files and folders
    #[arg(long, value_name = "SOURCE", num_args = 1.., help_heading = CHANGE)]
    pub add: Vec<PathBuf>,
    /// Put what is added into this folder inside
    ///
    /// It is made if it is not there.
    #[arg(long, value_name = "FOLDER", requires = "add", help_heading = CHANGE)]
    pub inside: Option<String>,
    /// Replace files
    ///
    /// Without this it is asked on a terminal, and nothing is changed elsewhere.
    #[arg(long, value_enum, value_name = "WHAT", requires = "add", help_heading = CHANGE)]
    pub on_clash: Option<OnClashName>,
    /// Say what would change, and write nothing
    #[arg(long, help_heading = CHANGE)]
    pub dry_run: bool,
    /// The folder or name of the new one; the old one stays
    ///
    /// Without this the old one is replaced.
    #[arg(long, value_name = "PATH", help_heading = WHERE)]
    pub to: Option<PathBuf>,
    /// What a volume must fit then; without this it is cut as it is now
    #[arg(long, value_name = "SIZE|NAME", value_parser = super::fit_text(), help_heading = SIZE, hide_short_help = true)]
    pub fit: Option<String>,
    #[command(flatten)]
    pub choice: ChoiceArguments,
    #[command(flatten)]
    pub message: MessageArguments,
    #[command(flatten)]
    pub configuration: ConfigurationArguments,
    #[command(flatten)]
    pub unlock: UnlockArguments,
    /// Another password that opens it then, read from a file
    ///
    /// Of the passwords that opened it before, only the one that is given counts on, and those that are named here. Repeatable.
    #[arg(long, value_name = "FILE", help_heading = PASSWORD, hide_short_help = true)]
    pub also_password_from: Vec<PathBuf>,
    /// Take such a password although it is weak
    #[arg(long, help_heading = PASSWORD, requires = "also_password_from", hide_short_help = true)]
    pub weak_ok: bool,
    #[command(flatten)]
    pub work: WorkArguments,
}

/// `recast`.
#[derive(Debug, Args)]
#[command(override_usage = "under-seal recast ARCHIVE... --fit SIZE|NAME (or --as, --squeeze)")]
#[command(group = ArgGroup::new("becomes").args(["format", "squeeze", "hide_names", "fit", "one_volume"]).required(true).multiple(true))]
pub struct RecastArguments {
    /// A volume, their folder, or another archive
    ///
    /// Several with --as or --squeeze.
    #[arg(value_name = "ARCHIVE", required = true)]
    pub archives: Vec<PathBuf>,
    /// The size of a volume: 20MB, mail-10 (see "fits")
    #[arg(long, value_name = "SIZE|NAME", value_parser = super::fit_text(), help_heading = SIZE)]
    pub fit: Option<String>,
    /// Make one volume of it
    #[arg(long, conflicts_with = "fit", help_heading = SIZE)]
    pub one_volume: bool,
    /// Compress anew
    #[arg(long, value_enum, value_name = "HOW", help_heading = SIZE)]
    pub squeeze: Option<SqueezeName>,
    /// Make an archive of this format
    #[arg(long = "as", value_parser = written_formats(), value_name = "FORMAT", help_heading = FORMAT)]
    pub format: Option<&'static Format>,
    /// Hide names, sizes and dates in ZIP too
    #[arg(long, help_heading = FORMAT)]
    pub hide_names: bool,
    /// The folder or name of the new one; the old one stays
    ///
    /// Without this it goes beside the old one, or, where the format stays, into its place.
    #[arg(long, value_name = "PATH", help_heading = WHERE)]
    pub to: Option<PathBuf>,
    /// Say what would come of it, and write nothing
    #[arg(long, help_heading = WHERE)]
    pub dry_run: bool,
    #[command(flatten)]
    pub new: NewPasswordArguments,
    /// What unlocks it now, for --as and --squeeze
    #[command(flatten)]
    pub unlock: UnlockArguments,
    #[command(flatten)]
    pub configuration: ConfigurationArguments,
    #[command(flatten)]
    pub work: WorkArguments,
}

/// `relock`.
#[derive(Debug, Args)]
pub struct RelockArguments {
    /// A volume, or the folder that the volumes are in
    #[arg(value_name = "VOLUME|FOLDER")]
    pub archive: PathBuf,
    /// The folder or name of the new one; the old one stays
    ///
    /// Without this the old volumes are replaced.
    #[arg(long, value_name = "PATH", help_heading = WHERE)]
    pub to: Option<PathBuf>,
    /// Say what would come of it, and write nothing
    #[arg(long, help_heading = WHERE)]
    pub dry_run: bool,
    #[command(flatten)]
    pub new: NewPasswordArguments,
    /// What unlocks it now.
    #[command(flatten)]
    pub unlock: UnlockArguments,
    #[command(flatten)]
    pub work: WorkArguments,
}

/// `mend`.
#[derive(Debug, Args)]
#[command(override_usage = "under-seal mend VOLUME|FOLDER... [--to FOLDER] [--add-spares COUNT]")]
pub struct MendArguments {
    /// Volumes, or the folders that they are in
    #[arg(value_name = "VOLUME|FOLDER", required = true)]
    pub places: Vec<PathBuf>,
    /// The folder to write into
    ///
    /// It is made if it does not exist. Without this it is where the volumes are. Nothing is replaced, so what takes the place of a damaged volume needs another folder.
    #[arg(long, value_name = "FOLDER", help_heading = WHERE)]
    pub to: Option<PathBuf>,
    /// Make so many spare volumes more
    ///
    /// They can be sent later: those that are with the recipient already need not be sent again.
    #[arg(long, value_name = "COUNT", help_heading = SIZE)]
    pub add_spares: Option<NonZeroU32>,
    /// Make missing spare volumes again too, so many at the most
    ///
    /// They are not needed for what is here. Each is as long as a volume.
    #[arg(long, value_name = "COUNT", help_heading = SIZE, hide_short_help = true, conflicts_with = "add_spares")]
    pub missing_spares: Option<NonZeroU32>,
    /// Ask for the password: it tells what was changed
    ///
    /// It is needed only where volumes and spare volumes contradict each other.
    #[arg(long, help_heading = PASSWORD)]
    pub ask_password: bool,
    #[command(flatten)]
    pub unlock: UnlockArguments,
    #[command(flatten)]
    pub work: WorkArguments,
}

/// What will unlock it.
#[derive(Debug, Args)]
#[command(next_help_heading = "New password")]
#[command(group = ArgGroup::new("new").args(["make_passphrase", "no_password", "new_password_from"]))]
pub struct NewPasswordArguments {
    /// Read the new password from this file
    ///
    /// Without this it is asked for on the terminal.
    #[arg(long, value_name = "FILE")]
    pub new_password_from: Option<PathBuf>,
    /// A key file that is needed beside every new password
    #[arg(long, value_name = "FILE", conflicts_with = "no_password", hide_short_help = true)]
    pub new_key_file: Option<PathBuf>,
    /// Another password that opens it then, read from a file
    ///
    /// A password that opened it before counts no longer, unless it is named here. Repeatable.
    #[arg(long, value_name = "FILE", conflicts_with = "no_password", hide_short_help = true)]
    pub also_password_from: Vec<PathBuf>,
    #[command(flatten)]
    pub making: MakingArguments,
    /// Use no password: checked and cut, but not secret
    #[arg(long, conflicts_with = "weak_ok", hide_short_help = true)]
    pub no_password: bool,
}
