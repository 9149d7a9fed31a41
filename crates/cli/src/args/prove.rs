//! What a sender types who wants proof.

use super::{ChoiceArguments, ConfigurationArguments, UnlockArguments, WorkArguments};
use clap::{Args, ValueEnum};
use std::path::PathBuf;

/// `compare`.
#[derive(Debug, Args)]
pub struct CompareArguments {
    /// A volume, or a folder with volumes in it
    #[arg(value_name = "VOLUME|FOLDER")]
    pub archive: PathBuf,
    /// The files and folders that it was packed from
    #[arg(required = true, value_name = "SOURCE")]
    pub sources: Vec<PathBuf>,
    /// Say file by file which originals are proven to be inside, unchanged; everything inside is verified for that. Nothing
    /// is deleted
    #[arg(long)]
    pub originals: bool,
    #[command(flatten)]
    pub choice: ChoiceArguments,
    #[command(flatten)]
    pub configuration: ConfigurationArguments,
    #[command(flatten)]
    pub unlock: UnlockArguments,
    #[command(flatten)]
    pub work: WorkArguments,
}

/// `receipt`.
#[derive(Debug, Args)]
pub struct ReceiptArguments {
    /// Volumes, or folders with volumes in them; one volume stands for its whole set
    #[arg(required = true, value_name = "VOLUME|FOLDER")]
    pub places: Vec<PathBuf>,
    #[command(flatten)]
    pub unlock: UnlockArguments,
    #[command(flatten)]
    pub work: WorkArguments,
}

/// `confirm`.
#[derive(Debug, Args)]
pub struct ConfirmArguments {
    /// A volume, or a folder with volumes in it
    #[arg(value_name = "VOLUME|FOLDER")]
    pub archive: PathBuf,
    /// The receipt that the recipient told; its groups may be typed apart
    #[arg(required = true, value_name = "RECEIPT")]
    pub receipt: Vec<String>,
    /// Who confirmed it, for the ledger
    #[arg(long, value_name = "NAME")]
    pub by: Option<String>,
    #[command(flatten)]
    pub unlock: UnlockArguments,
    #[command(flatten)]
    pub work: WorkArguments,
}

/// `resend`.
#[derive(Debug, Args)]
pub struct ResendArguments {
    /// A volume, or a folder with volumes in it
    #[arg(value_name = "VOLUME|FOLDER")]
    pub archive: PathBuf,
    /// The slip that the recipient's "check" showed; its groups may be typed apart
    #[arg(required = true, value_name = "SLIP")]
    pub slip: Vec<String>,
    /// The folder to write into; it is made if it does not exist
    #[arg(long, value_name = "FOLDER")]
    pub to: PathBuf,
    #[command(flatten)]
    pub work: WorkArguments,
}

/// `handover`.
#[derive(Debug, Args)]
pub struct HandoverArguments {
    /// A volume, a folder with volumes in it, or an archive in another format
    #[arg(value_name = "VOLUME|FOLDER|ARCHIVE")]
    pub archive: PathBuf,
    /// The folder to make; it must not be there yet
    #[arg(long, value_name = "FOLDER")]
    pub to: PathBuf,
    /// How it goes: for a mail fit a draft of every message is made, for a disc a label (see "fits")
    #[arg(long, value_name = "SIZE|NAME")]
    pub fit: Option<String>,
    /// Write the note from this text file instead; {archive}, {volumes}, {set}, {password}, {how}, {page} and {list} stand for what they say
    #[arg(long, value_name = "FILE")]
    pub note_template: Option<PathBuf>,
    /// Leave out the page that opens sealed volumes in a browser
    #[arg(long)]
    pub no_page: bool,
    /// Write a message with the password into this new file, which only you may read, to be sent by another way
    #[arg(long, value_name = "FILE")]
    pub password_note: Option<PathBuf>,
    #[command(flatten)]
    pub configuration: ConfigurationArguments,
    #[command(flatten)]
    pub unlock: UnlockArguments,
    #[command(flatten)]
    pub work: WorkArguments,
}

/// `page`.
#[derive(Debug, Args)]
pub struct PageArguments {
    /// Write it into this new file; without this nothing is written, and its SHA-256 is told
    #[arg(long, value_name = "FILE")]
    pub to: Option<PathBuf>,
    /// Print the result as one JSON object (docs/json.md)
    #[arg(long)]
    pub json: bool,
}

/// A way to the recipient.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Through {
    /// Messages, really composed and read again; the mailbox refuses what is too long and changes names
    Mail,
    /// Media with a capacity, one in the drive at a time; names are shortened
    Media,
    /// A form on a server of this program's own, which breaks off transfers; they go on where they were
    Upload,
}

/// `rehearse`.
#[derive(Debug, Args)]
pub struct RehearseArguments {
    /// A volume, a folder with volumes in it, or an archive in another format
    #[arg(value_name = "VOLUME|FOLDER|ARCHIVE")]
    pub archive: PathBuf,
    /// The files and folders that it was packed from. Repeatable
    #[arg(long, required = true, num_args = 1.., value_name = "SOURCE")]
    pub against: Vec<PathBuf>,
    /// What the recipient has opened before, where it is an archive of changes: what it builds upon, the oldest first. Repeatable
    #[arg(long, value_name = "ARCHIVE", conflicts_with = "in_browser")]
    pub after: Vec<PathBuf>,
    /// How it goes to the recipient; without it files are copied under other names, unless they need theirs. Each way is a stand-in with limits of its own
    #[arg(long, value_enum, value_name = "WAY")]
    pub through: Option<Through>,
    /// What a message, a medium or a request may have: a size, or a fit of that kind (see "fits"). The profile's fit counts
    /// without it, else mail-10, disc-700 or form-100
    #[arg(long, value_name = "SIZE|NAME", requires = "through")]
    pub limit: Option<String>,
    /// Have the page that recipients get open what arrived in a real browser, and compare what that saves. Sealed volumes only
    #[arg(long)]
    pub in_browser: bool,
    /// The browser for that, Chromium, Chrome, Edge or Firefox; the first that is found without this
    #[arg(long, value_name = "PROGRAM", requires = "in_browser")]
    pub browser: Option<PathBuf>,
    /// Lose so many volumes on the way, to see what the recipient is told
    #[arg(long, value_name = "COUNT", default_value_t = 0, hide_default_value = true)]
    pub lose: u32,
    /// Change a byte in so many places on the way
    #[arg(long, value_name = "COUNT", default_value_t = 0, hide_default_value = true)]
    pub damage: u32,
    /// Which volumes and places: the same for the same number
    #[arg(long, value_name = "NUMBER", default_value_t = 1)]
    pub seed: u64,
    #[command(flatten)]
    pub choice: ChoiceArguments,
    #[command(flatten)]
    pub configuration: ConfigurationArguments,
    #[command(flatten)]
    pub unlock: UnlockArguments,
    #[command(flatten)]
    pub work: WorkArguments,
}
