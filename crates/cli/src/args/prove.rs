//! What a sender types who wants proof.

use super::question::{PASSWORD, SIZE, WHERE};
use super::{
    ChoiceArguments, ConfigurationArguments, OutputArguments, SearchArguments, UnlockArguments, WorkArguments,
};
use clap::{Args, ValueEnum};
use std::path::PathBuf;

/// `compare`.
#[derive(Debug, Args)]
pub struct CompareArguments {
    /// A volume, or the folder that the volumes are in
    #[arg(value_name = "VOLUME|FOLDER")]
    pub archive: PathBuf,
    /// The files and folders that it was packed from
    #[arg(required = true, value_name = "SOURCE")]
    pub sources: Vec<PathBuf>,
    /// Say which originals are proven to be inside, unchanged
    ///
    /// Everything inside is verified for that. Nothing is deleted.
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
    /// Volumes, or the folder that they are in
    ///
    /// One volume stands for its whole set.
    #[arg(required = true, value_name = "VOLUME|FOLDER")]
    pub places: Vec<PathBuf>,
    #[command(flatten)]
    pub search: SearchArguments,
    #[command(flatten)]
    pub unlock: UnlockArguments,
    #[command(flatten)]
    pub work: WorkArguments,
}

/// `confirm`.
#[derive(Debug, Args)]
pub struct ConfirmArguments {
    /// A volume, or the folder that the volumes are in
    #[arg(value_name = "VOLUME|FOLDER")]
    pub archive: PathBuf,
    /// The receipt that the recipient told
    ///
    /// Its groups may be typed apart.
    #[arg(required = true, value_name = "RECEIPT")]
    pub receipt: Vec<String>,
    /// Who confirmed it; this is noted in the ledger
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
    /// A volume, or the folder that the volumes are in
    #[arg(value_name = "VOLUME|FOLDER")]
    pub archive: PathBuf,
    /// The recipient's slip, or a message with it
    ///
    /// Its groups may be typed apart. A file is searched for slips: a saved message, a mailbox, or any text.
    #[arg(required = true, value_name = "SLIP|FILE")]
    pub slip: Vec<String>,
    /// The folder to write into; it is made if it does not exist
    #[arg(long, value_name = "FOLDER", help_heading = WHERE)]
    pub to: PathBuf,
    #[command(flatten)]
    pub work: WorkArguments,
}

/// `handover`.
#[derive(Debug, Args)]
pub struct HandoverArguments {
    /// A volume, their folder, or another archive
    #[arg(value_name = "VOLUME|FOLDER|ARCHIVE")]
    pub archive: PathBuf,
    /// The folder to make; it must not be there yet
    #[arg(long, value_name = "FOLDER", help_heading = WHERE)]
    pub to: PathBuf,
    /// Hand over every archive that is there
    ///
    /// Such as all parcels of a delivery. The note says how to open all of them.
    #[arg(long, hide_short_help = true)]
    pub all: bool,
    /// How it is sent: mail-10 makes drafts, a disc a label
    #[arg(long, value_name = "SIZE|NAME", value_parser = super::fit_text(), help_heading = SIZE)]
    pub fit: Option<String>,
    /// Write the note from this text file instead
    ///
    /// {archive}, {volumes}, {list}, {password} and others stand for what they say: docs/proof.md has all of them.
    #[arg(long, value_name = "FILE")]
    pub note_template: Option<PathBuf>,
    /// Leave out the page that opens it in a browser
    #[arg(long)]
    pub no_page: bool,
    /// Write a message with the password into this new file
    ///
    /// Only you may read it. Send it another way than the archive.
    #[arg(long, value_name = "FILE", help_heading = PASSWORD)]
    pub password_note: Option<PathBuf>,
    #[command(flatten)]
    pub configuration: ConfigurationArguments,
    /// Ask for the password, and look inside
    ///
    /// What the recipient will not get is told then, and the note names what an archive of changes builds upon.
    #[arg(long, help_heading = PASSWORD)]
    pub ask_password: bool,
    #[command(flatten)]
    pub unlock: UnlockArguments,
    #[command(flatten)]
    pub work: WorkArguments,
}

/// `page`.
#[derive(Debug, Args)]
pub struct PageArguments {
    /// Write it into this new file; without this only its SHA-256 is told
    #[arg(long, value_name = "FILE", help_heading = WHERE)]
    pub to: Option<PathBuf>,
    #[command(flatten)]
    pub output: OutputArguments,
}

/// The question that the options of the way to the recipient answer.
const WAY: &str = "On the way";

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
#[command(override_usage = "under-seal rehearse ARCHIVE --against SOURCE... [OPTIONS]")]
pub struct RehearseArguments {
    /// A volume, the folder of the volumes, or another archive
    #[arg(value_name = "VOLUME|FOLDER|ARCHIVE")]
    pub archive: PathBuf,
    /// The files and folders that it was packed from
    #[arg(long, required = true, num_args = 1.., value_name = "SOURCE")]
    pub against: Vec<PathBuf>,
    /// Rehearse every archive that is there
    ///
    /// Such as all parcels of a delivery. Together they must hold all that they were packed from.
    #[arg(long, conflicts_with_all = ["after", "in_browser"], hide_short_help = true)]
    pub all: bool,
    /// For an archive of changes: the archives that the recipient has opened before
    ///
    /// The oldest first.
    #[arg(long, value_name = "ARCHIVE", hide_short_help = true)]
    pub after: Vec<PathBuf>,
    /// How it goes to the recipient: mail, media or upload
    ///
    /// Each way is a stand-in with limits of its own. Without this, files are copied under other names, unless they need theirs.
    #[arg(long, value_enum, value_name = "WAY", help_heading = WAY)]
    pub through: Option<Through>,
    /// The limit of a message, disc or upload: mail-10, 20MB
    ///
    /// A size, or a fit of that kind ("under-seal fits"). Without this the profile's fit counts, else mail-10, disc-700 or form-100.
    #[arg(long, value_name = "SIZE|NAME", requires = "through", value_parser = super::fit_text(), help_heading = WAY)]
    pub limit: Option<String>,
    /// Lose so many volumes, to see what the recipient is told
    ///
    /// With --through, so many messages, media or uploads, with everything in them.
    #[arg(long, value_name = "COUNT", default_value_t = 0, hide_default_value = true, help_heading = WAY)]
    pub lose: u32,
    /// Change a byte in so many places on the way
    #[arg(long, value_name = "COUNT", default_value_t = 0, hide_default_value = true, help_heading = WAY)]
    pub damage: u32,
    /// Lose and damage others: the same ones for the same number
    #[arg(long, value_name = "NUMBER", default_value_t = 1, help_heading = WAY, hide_short_help = true)]
    pub seed: u64,
    /// Open it in a real browser, with the page
    ///
    /// What the page saves is compared with the sources. Sealed volumes only.
    #[arg(long, help_heading = WAY)]
    pub in_browser: bool,
    /// The browser for that: Chromium, Chrome, Edge or Firefox
    ///
    /// Without this the first that is found is taken.
    #[arg(long, value_name = "PROGRAM", requires = "in_browser", help_heading = WAY, hide_short_help = true)]
    pub browser: Option<PathBuf>,
    #[command(flatten)]
    pub choice: ChoiceArguments,
    #[command(flatten)]
    pub configuration: ConfigurationArguments,
    #[command(flatten)]
    pub unlock: UnlockArguments,
    #[command(flatten)]
    pub work: WorkArguments,
}
