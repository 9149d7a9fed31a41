//! What a recipient types.

use super::WorkArguments;
use clap::{Args, ValueEnum};
use std::path::PathBuf;
use under_seal_core::landing::OnClash;

/// Where the password comes from.
#[derive(Debug, Default, Args)]
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

/// What unlocks an archive.
#[derive(Debug, Args)]
pub struct UnlockArguments {
    #[command(flatten)]
    pub password: PasswordArguments,
    /// Unlock even where that takes more memory or time than is done unasked (1 GiB, 16 passes); only for a sender you trust
    #[arg(long)]
    pub allow_costly_key: bool,
    /// Read the archive even where a password is given and it has none, so that anybody can have made it
    #[arg(long)]
    pub accept_no_password: bool,
}

/// Volumes that do not come all at once.
#[derive(Debug, Args)]
pub struct ComingArguments {
    /// The volumes come on one disc or stick after the other: copy each aside, ask for the next that is missing, and go on
    /// when all are here
    #[arg(long)]
    pub one_by_one: bool,
    /// With --one-by-one, the folder that volumes are copied to; what is there already counts
    #[arg(long, value_name = "FOLDER", default_value = "volumes", requires = "one_by_one")]
    pub aside: PathBuf,
}

/// `check`.
#[derive(Debug, Args)]
pub struct CheckArguments {
    /// Volumes, or folders with volumes in them; one volume stands for its whole set
    #[arg(required = true, value_name = "VOLUME|FOLDER")]
    pub places: Vec<PathBuf>,
    /// Draw where damage lies: a strip for each file
    #[arg(long, conflicts_with = "json")]
    pub map: bool,
    /// Ask for the password on the terminal, and verify everything inside too
    #[arg(long)]
    pub ask_password: bool,
    #[command(flatten)]
    pub coming: ComingArguments,
    #[command(flatten)]
    pub unlock: UnlockArguments,
    #[command(flatten)]
    pub work: WorkArguments,
}

/// `open`.
#[derive(Debug, Args)]
pub struct OpenArguments {
    /// Volumes, or folders with volumes in them; then patterns of what to take out (all without any)
    #[arg(required = true, value_name = "VOLUME|FOLDER|PATTERN")]
    pub typed: Vec<PathBuf>,
    /// The folder to extract into; it is made if it does not exist
    #[arg(long, value_name = "FOLDER", default_value = ".")]
    pub into: PathBuf,
    /// Whether to make a folder named after the archive for it. Without this: where the archive has more than one thing at
    /// its top, and there is something in the destination already
    #[arg(long, value_enum, default_value = "auto")]
    pub folder: FolderName,
    /// Extract files without the folders that they have in the archive; a name that several have gets a number
    #[arg(long, conflicts_with = "salvage")]
    pub flat: bool,
    /// Pick what to take out from a list on the terminal
    #[arg(long, conflicts_with = "salvage")]
    pub pick: bool,
    /// What becomes of files that meet others there; decided before a byte is written. Without this it is asked on a
    /// terminal, and nothing is extracted elsewhere
    #[arg(long, value_enum)]
    pub on_clash: Option<OnClashName>,
    /// Of an archive of changes: replace what is here as the archive that it builds upon left it, without asking
    #[arg(long)]
    pub update: bool,
    /// Of an archive of changes: remove what is not in the new state any more, as far as nobody has changed it here
    #[arg(long)]
    pub remove_gone: bool,
    /// Of an archive of changes: open it even where what it builds upon is not here as it was packed
    #[arg(long)]
    pub accept_other_base: bool,
    /// Say what would be extracted and what is in the way; nothing is written
    #[arg(long, conflicts_with = "salvage")]
    pub dry_run: bool,
    /// Take out whatever is whole although volumes are missing or damaged, and name the rest
    #[arg(long)]
    pub salvage: bool,
    /// Leave what is complete where extracting stops on the way, on a full disk for example. Without this it goes again, so
    /// that no part passes for the whole
    #[arg(long)]
    pub keep_partial: bool,
    /// Mark every file with where the volumes came from, if they have such a mark (extended attributes)
    #[arg(long)]
    pub origin_mark: bool,
    /// A shell command line that looks at the files first: the path of the closed folder that they are in is put behind it,
    /// and they land only if it exits with 0
    #[arg(long, value_name = "COMMAND")]
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
    /// Volumes, or folders with volumes in them; then patterns of what to list
    #[arg(required = true, value_name = "VOLUME|FOLDER|PATTERN")]
    pub typed: Vec<PathBuf>,
    /// Draw folders as a tree
    #[arg(long, conflicts_with_all = ["sort", "long"])]
    pub tree: bool,
    /// Show mode, digest and link targets too
    #[arg(long)]
    pub long: bool,
    /// In which order
    #[arg(long, value_enum)]
    pub sort: Option<SortName>,
    /// List what lies directly in this folder of the archive ("/" for the top)
    #[arg(long, value_name = "FOLDER", conflicts_with = "tree")]
    pub here: Option<String>,
    /// List what has this fragment in its name, whatever the case and the accents
    #[arg(long, value_name = "TEXT", conflicts_with = "here")]
    pub find: Option<String>,
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
    /// Those first of which squeezing left least
    Ratio,
}

/// `about`.
#[derive(Debug, Args)]
pub struct AboutArguments {
    /// Volumes, or folders with volumes in them; one volume stands for its whole set
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
    /// Volumes, or folders with volumes in them; then the file's path inside the archive
    #[arg(required = true, num_args = 2.., value_name = "VOLUME|FOLDER|PATH")]
    pub typed: Vec<PathBuf>,
    /// Show it in the system's viewer instead, from a private copy that is removed afterwards
    #[arg(long, conflicts_with = "raw")]
    pub viewer: bool,
    /// Print it even where it is no text and this is a terminal
    #[arg(long)]
    pub raw: bool,
    #[command(flatten)]
    pub unlock: UnlockArguments,
}
