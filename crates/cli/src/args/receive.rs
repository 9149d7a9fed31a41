//! What a recipient types.

use super::question::{PASSWORD, WHERE};
use super::{OutputArguments, WorkArguments};
use clap::{Args, ValueEnum};
use std::path::PathBuf;
use std::time::Duration;
use under_seal_core::landing::{OnClash, OnUnsafeName};

/// Where the password comes from.
#[derive(Debug, Default, Args)]
#[command(next_help_heading = PASSWORD)]
pub struct PasswordArguments {
    /// Read the password from this file
    ///
    /// "-" is standard input. A line break at its end does not count. Without this option the variable UNDER_SEAL_PASSWORD is used;
    /// where that is not set either, the password is asked for on the terminal.
    #[arg(long, value_name = "FILE")]
    pub password_from: Option<PathBuf>,
    /// Read the password from this file descriptor, which is open already
    #[arg(long, value_name = "NUMBER", conflicts_with = "password_from", hide_short_help = true)]
    pub password_fd: Option<u32>,
    /// The key file, if one is needed too
    #[arg(long, value_name = "FILE")]
    pub key_file: Option<PathBuf>,
}

/// What unlocks an archive.
#[derive(Debug, Args)]
#[command(next_help_heading = PASSWORD)]
pub struct UnlockArguments {
    #[command(flatten)]
    pub password: PasswordArguments,
    /// Unlock even where that takes very much memory or time
    ///
    /// More than 1 GiB or 16 passes is refused without this. Only for a sender whom you trust.
    #[arg(long, hide_short_help = true)]
    pub allow_costly_key: bool,
    /// Read the archive although it has no password and one is given
    ///
    /// Anybody can have made such an archive, in the place of the true one.
    #[arg(long, hide_short_help = true)]
    pub accept_no_password: bool,
}

/// Volumes that do not come all at once.
#[derive(Debug, Args)]
#[command(next_help_heading = "Discs and sticks")]
pub struct ComingArguments {
    /// Take one disc or stick after the other
    ///
    /// Each volume is copied aside, and the next that is missing is asked for, until all are here.
    #[arg(long, conflicts_with = "watch")]
    pub one_by_one: bool,
    /// The folder that those volumes are copied to; what is there already counts
    #[arg(long, value_name = "FOLDER", default_value = "volumes", requires = "one_by_one", hide_short_help = true)]
    pub aside: PathBuf,
}

impl ComingArguments {
    /// Where the volumes are in the end: where they were found, or where they were copied to one by one.
    pub fn in_the_end(&self, found: Vec<PathBuf>) -> Vec<PathBuf> {
        if self.one_by_one { vec![self.aside.clone()] } else { found }
    }
}

/// A folder that is watched until everything is there.
#[derive(Debug, Default, Args)]
#[command(next_help_heading = "Waiting")]
pub struct WatchArguments {
    /// Wait in this folder for what is missing
    ///
    /// It goes on when all is there. Ctrl-C ends the wait. A file that still grows is left alone.
    #[arg(long, value_name = "FOLDER")]
    pub watch: Option<PathBuf>,
    /// Wait no longer than this, such as 30m or 2h, and go on with what is there
    #[arg(long = "for", value_name = "TIME", requires = "watch", hide_short_help = true, value_parser = waiting_time)]
    pub watch_for: Option<Duration>,
}

impl WatchArguments {
    /// The folder that is watched, and what was typed.
    pub fn and(&self, typed: &[PathBuf]) -> Vec<PathBuf> {
        self.watch.iter().chain(typed).cloned().collect()
    }
}

/// A time as people write it.
fn waiting_time(text: &str) -> Result<Duration, &'static str> {
    let time = text.parse::<jiff::SignedDuration>().ok().and_then(|time| Duration::try_from(time).ok());
    time.filter(|time| !time.is_zero()).ok_or("a time is a number and a unit, such as 90s, 30m or 2h")
}

/// `check`.
#[derive(Debug, Args)]
pub struct CheckArguments {
    /// Volumes, or the folder that they are in
    ///
    /// One volume stands for its whole set. Saved messages and mailboxes that archives are attached to are read in place too. "-" is an archive that comes through standard input.
    #[arg(required_unless_present = "watch", value_name = "VOLUME|FOLDER")]
    pub places: Vec<PathBuf>,
    #[command(flatten)]
    pub search: SearchArguments,
    #[command(flatten)]
    pub watch: WatchArguments,
    /// Draw where the damage is: a strip for each file
    #[arg(long, conflicts_with = "json")]
    pub map: bool,
    /// Ask for the password, and verify everything inside too
    #[arg(long, help_heading = PASSWORD)]
    pub ask_password: bool,
    #[command(flatten)]
    pub coming: ComingArguments,
    #[command(flatten)]
    pub unlock: UnlockArguments,
    #[command(flatten)]
    pub work: WorkArguments,
}

/// How far folders are searched.
#[derive(Debug, Clone, Copy, Default, Args)]
pub struct SearchArguments {
    /// Search folders within folders too, however deep
    ///
    /// Without it, the folders in a folder are searched where there is nothing in that itself.
    #[arg(long, hide_short_help = true)]
    pub deep: bool,
}

/// The questions that only the options of `open` answer.
const WHAT: &str = "What is extracted";
const CHANGES: &str = "Archives of changes";
const SAFETY: &str = "Safety";

/// `open`.
#[derive(Debug, Args)]
pub struct OpenArguments {
    /// Volumes or their folder, then what to extract
    ///
    /// What you type after the volumes are patterns ("under-seal help patterns"); without any, everything is extracted. "-" is an archive that comes through standard input.
    #[arg(required_unless_present = "watch", value_name = "VOLUME|FOLDER|PATTERN")]
    pub typed: Vec<PathBuf>,
    #[command(flatten)]
    pub search: SearchArguments,
    #[command(flatten)]
    pub watch: WatchArguments,
    /// The folder to extract into
    ///
    /// It is made if it does not exist.
    #[arg(long, value_name = "FOLDER", default_value = ".", help_heading = WHERE)]
    pub into: PathBuf,
    /// Open every archive that is there
    ///
    /// Such as all parcels of a delivery. A password is asked for once, and tried on each.
    #[arg(long, conflicts_with_all = ["salvage", "pick", "to_stdout", "one_by_one"], help_heading = WHAT)]
    pub all: bool,
    /// Make a folder for it
    ///
    /// Without this: where the archive has more than one thing at its top, and there is something in the destination already.
    #[arg(long, value_enum, value_name = "WHEN", default_value = "auto", help_heading = WHERE)]
    pub folder: FolderName,
    /// Replace files
    ///
    /// It is decided before a byte is written. Without this it is asked on a terminal, and nothing is extracted elsewhere.
    #[arg(long, value_enum, value_name = "WHAT", help_heading = WHERE)]
    pub on_clash: Option<OnClashName>,
    /// Names that cannot be there: give others, or extract nothing
    ///
    /// "under-seal help systems" has the rule. What has another name is listed.
    #[arg(long, value_enum, value_name = "WHAT", default_value = "rename", help_heading = WHERE, hide_short_help = true)]
    pub on_unsafe_name: OnUnsafeNameWish,
    /// Extract files without their folders
    ///
    /// A name that several have gets a number.
    #[arg(long, conflicts_with = "salvage", help_heading = WHERE, hide_short_help = true)]
    pub flat: bool,
    /// Write it to standard output instead: one file
    ///
    /// Or several entries as a tar archive, with --as tar. If anything is wrong the stream ends early, and the exit code says so.
    #[arg(long, conflicts_with_all = ["into", "folder", "on_clash", "on_unsafe_name", "flat", "dry_run", "salvage", "keep_complete", "json", "origin_mark", "screen_with", "update", "remove_gone"], help_heading = WHERE, hide_short_help = true)]
    pub to_stdout: bool,
    /// The form of several entries on standard output: tar
    #[arg(long = "as", value_name = "FORMAT", value_parser = ["tar"], requires = "to_stdout", help_heading = WHERE, hide_short_help = true)]
    pub stream_format: Option<String>,
    /// Pick what to extract from a list on the terminal
    #[arg(long, conflicts_with = "salvage", help_heading = WHAT)]
    pub pick: bool,
    /// Say what would be extracted; write nothing
    #[arg(long, conflicts_with = "salvage", help_heading = WHAT)]
    pub dry_run: bool,
    /// Extract what is whole although volumes are missing
    ///
    /// The rest is named, each file with the volumes that it needs.
    #[arg(long, help_heading = WHAT)]
    pub salvage: bool,
    /// Keep what is complete where extracting stops on the way
    ///
    /// On a full disk for example. Without this it is removed again, so that a part cannot pass for the whole.
    #[arg(long, help_heading = WHAT, hide_short_help = true)]
    pub keep_complete: bool,
    /// Replace what is as the older archive left it, without asking
    ///
    /// For an archive of changes: what the archive that it builds upon left here is brought up to date.
    #[arg(long, help_heading = CHANGES, hide_short_help = true)]
    pub update: bool,
    /// Remove what the sender has removed, as far as nobody has changed it here
    #[arg(long, help_heading = CHANGES, hide_short_help = true)]
    pub remove_gone: bool,
    /// Open it even where the archive that it builds upon is not here as it was packed
    #[arg(long, help_heading = CHANGES, hide_short_help = true)]
    pub accept_other_base: bool,
    /// Mark every file with where the volumes came from
    ///
    /// As far as the volumes have such a mark (extended attributes).
    #[arg(long, help_heading = SAFETY, hide_short_help = true)]
    pub origin_mark: bool,
    /// Have a scanner of your own look at the files first
    ///
    /// A shell command line: the path of the closed folder that the files are in is put behind it, and they land only if it exits
    /// with 0.
    #[arg(long, value_name = "COMMAND", help_heading = SAFETY, hide_short_help = true)]
    pub screen_with: Option<String>,
    #[command(flatten)]
    pub coming: ComingArguments,
    #[command(flatten)]
    pub unlock: UnlockArguments,
    #[command(flatten)]
    pub work: WorkArguments,
}

/// What becomes of a file that meets another, by name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum OnClashName {
    /// Ask, once for all of them
    Ask,
    /// Extract nothing
    Refuse,
    /// Keep what is there
    Keep,
    /// Replace what is there, each file once the new one is complete and verified
    Replace,
    /// Keep whichever was modified later
    Newer,
    /// Keep both: the extracted one gets a number behind its name
    Both,
}

impl OnClashName {
    /// What is to be done; `None` where that is to be asked.
    pub const fn decided(self) -> Option<OnClash> {
        Some(match self {
            Self::Ask => return None,
            Self::Refuse => OnClash::Refuse,
            Self::Keep => OnClash::Keep,
            Self::Replace => OnClash::Replace,
            Self::Newer => OnClash::Newer,
            Self::Both => OnClash::Both,
        })
    }
}

/// What becomes of names that cannot be where something is extracted to, by name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum OnUnsafeNameWish {
    /// Give others, by a rule, and list them
    Rename,
    /// Extract nothing
    Refuse,
}

impl From<OnUnsafeNameWish> for OnUnsafeName {
    fn from(wish: OnUnsafeNameWish) -> Self {
        match wish {
            OnUnsafeNameWish::Rename => Self::Rename,
            OnUnsafeNameWish::Refuse => Self::Refuse,
        }
    }
}

/// When a folder is made, by name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum FolderName {
    /// Where things would otherwise lie among others
    Auto,
    /// In any case
    Always,
    /// In no case
    Never,
}

/// `list`.
#[derive(Debug, Args)]
pub struct ListArguments {
    /// Volumes or their folder, then what to list
    ///
    /// What you type after the volumes are patterns ("under-seal help patterns"). "-" is an archive that comes through standard input.
    #[arg(required = true, value_name = "VOLUME|FOLDER|PATTERN")]
    pub typed: Vec<PathBuf>,
    /// Draw folders as a tree
    #[arg(long, conflicts_with_all = ["sort", "long", "null"])]
    pub tree: bool,
    /// Show mode, digest and link targets too
    #[arg(long)]
    pub long: bool,
    /// The order
    #[arg(long, value_enum, value_name = "ORDER")]
    pub sort: Option<SortName>,
    /// List what is directly in this folder ("/" for the top)
    #[arg(long, value_name = "FOLDER", conflicts_with = "tree")]
    pub here: Option<String>,
    /// List what has this text in its name
    ///
    /// Whatever the case and the accents.
    #[arg(long, value_name = "TEXT", conflicts_with = "here")]
    pub find: Option<String>,
    /// Print paths only, each with a NUL behind it
    #[arg(short = '0', long, conflicts_with_all = ["json", "long"])]
    pub null: bool,
    #[command(flatten)]
    pub search: SearchArguments,
    #[command(flatten)]
    pub unlock: UnlockArguments,
    #[command(flatten)]
    pub work: WorkArguments,
}

/// The orders by name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum SortName {
    /// By path
    Name,
    /// The largest first
    Size,
    /// The newest first
    Date,
    /// Best compressed first
    Ratio,
}

/// `about`.
#[derive(Debug, Args)]
pub struct AboutArguments {
    /// Volumes, or the folder that they are in
    ///
    /// One volume stands for its whole set. Saved messages and mailboxes that volumes are attached to count too. "-" is an archive that comes through standard input.
    #[arg(required = true, value_name = "VOLUME|FOLDER")]
    pub places: Vec<PathBuf>,
    #[command(flatten)]
    pub unlock: UnlockArguments,
    #[command(flatten)]
    pub work: WorkArguments,
}

/// `peek`.
#[derive(Debug, Args)]
pub struct PeekArguments {
    /// Volumes or their folder, then a path inside
    ///
    /// The end of a file's path is enough where only one file ends so. Without a path the top of the archive is listed.
    #[arg(required = true, value_name = "VOLUME|FOLDER|PATH")]
    pub typed: Vec<PathBuf>,
    /// Show it in the system's viewer
    ///
    /// From a private copy, which is removed afterwards.
    #[arg(long, conflicts_with_all = ["raw", "json"])]
    pub viewer: bool,
    /// Print it even if it is not text
    #[arg(long)]
    pub raw: bool,
    #[command(flatten)]
    pub unlock: UnlockArguments,
    #[command(flatten)]
    pub output: OutputArguments,
}
