//! The command line as it is typed. Nothing behind this module sees a flag.

mod keep;
mod pieces;
mod prove;
mod receive;
mod send;

pub use keep::{NewPasswordArguments, RecastArguments, RelockArguments, ReviseArguments};
pub use pieces::{PortionArguments, ReuniteArguments};
pub use prove::{
    CompareArguments, ConfirmArguments, HandoverArguments, PageArguments, ReceiptArguments, RehearseArguments,
    ResendArguments, Through,
};
pub use receive::{
    AboutArguments, CheckArguments, ComingArguments, FolderName, ListArguments, OnClashName, OpenArguments,
    PasswordArguments, PeekArguments, SortName, UnlockArguments,
};
pub use send::{
    ChoiceArguments, ConfigurationArguments, DeliveryArguments, FitsArguments, MessageArguments, PackArguments,
    PlanArguments, SealArguments, ShapeArguments, SinceArguments, SqueezeName,
};

use clap::{Args, Parser, Subcommand};
use std::num::NonZeroUsize;
use std::path::PathBuf;

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
    /// Show a delivery before it exists: what goes in, how large it comes out, what may go wrong
    ///
    /// Nothing is written. Sizes are estimated by compressing samples; where there is little, all of it is compressed.
    Plan(Box<PlanArguments>),
    /// Seal files and folders into encrypted volumes, and verify them
    ///
    /// Everything is written under a temporary folder beside the target, read back from disk, unlocked with the
    /// password and verified to the last byte. Only then do the volumes get their names, all of them or none.
    /// Names, sizes, dates and counts are sealed too: without the password a volume tells none of them.
    Pack(Box<PackArguments>),
    /// List the fits that have a name: how many bytes each gives a volume, and how that is computed
    Fits(FitsArguments),
    /// Say which volumes are here, which are missing and which are damaged
    ///
    /// Volumes are known by their contents, under any file name and in any order. No password is needed for
    /// that. With the password everything inside is verified too, down to each file's digest.
    Check(CheckArguments),
    /// List what is in an archive
    ///
    /// Only the index is read: the last volumes are enough.
    List(ListArguments),
    /// Say what an archive is: how it is cut, locked and squeezed, what it holds, what the sender says
    About(AboutArguments),
    /// Print one file of an archive to standard output, reading no more than that file
    Peek(PeekArguments),
    /// Extract everything, or what is wanted, without harm to what is there
    ///
    /// Nothing is ever overwritten unasked. A file appears under its name only when it is complete and verified.
    Open(OpenArguments),
    /// Say what was added, removed or changed since an archive was packed
    ///
    /// Content counts by its digest. Where archive and disk have one thing each at their top, those are compared whatever
    /// they are called.
    Compare(CompareArguments),
    /// Change what is in an archive: add, take out, rename, bring up to date
    ///
    /// First it is brought up to date, then things are taken out, renamed and added. What stays is carried over without being compressed
    /// again. The new archive is read back and verified before it gets its name, and the old one goes only then.
    Revise(Box<ReviseArguments>),
    /// Make something else of an archive: cut to another size, of another format, or squeezed otherwise
    ///
    /// With --fit or --one-volume alone, sealed volumes are cut anew without the password: nothing is decrypted, compressed or sealed
    /// anew. With --as or --squeeze, contents are extracted and packed at the same time, and nothing of them goes to disk in between. The
    /// new archive is read back before it gets its name, and an old one in whose place it goes is removed only then.
    Recast(Box<RecastArguments>),
    /// Lock a sealed archive anew, with other passwords
    ///
    /// Everything is sealed again under a new key; content, names and the cut stay. The new volumes are opened with each new password
    /// and verified to the last byte before they get their names, and the old ones go only then. Copies of the old ones that are
    /// elsewhere still open with the old password.
    Relock(Box<RelockArguments>),
    /// Play the recipient: deliver copies, gather, check, unlock, open, and compare with the sources
    ///
    /// All of it in a closed temporary folder, with nothing of yours but the volumes and what unlocks them.
    Rehearse(Box<RehearseArguments>),
    /// Put everything that goes to the recipient into one folder: volumes, a note, checksums, drafts of messages
    ///
    /// The volumes are checked before and after they are copied. The password is in none of it.
    Handover(Box<HandoverArguments>),
    /// Write the page that opens sealed volumes in a browser, or tell its SHA-256
    ///
    /// One HTML file, which needs no internet and sends nothing anywhere. "handover" puts it beside the volumes by itself.
    Page(PageArguments),
    /// Make again exactly the bytes that a recipient's slip names
    ///
    /// No password is needed. What is made is one small file where that is no larger than a volume; every reading command takes
    /// it among the volumes.
    Resend(ResendArguments),
    /// Make a short code that only someone who could unlock and read all of it can make
    Receipt(ReceiptArguments),
    /// Say whether a recipient's receipt is right, and note it in a ledger beside the archive
    Confirm(ConfirmArguments),
    /// Cut any file into plain pieces, which anybody can join again on any computer
    ///
    /// Nothing is added to the pieces and nothing is encrypted. A text file beside them says how many there are, how large, with
    /// which SHA-256, and how to join them without this program.
    Portion(PortionArguments),
    /// Join numbered pieces of a file, whatever cut them
    ///
    /// From any one of them all others are found. They are checked against the text file beside them, if it is there.
    Reunite(ReuniteArguments),
    /// Play the whole story in a temporary folder: pack, lose a volume, check, open, compare
    Demo(DemoArguments),
}

impl Command {
    /// Whether a command that does no work in threads is asked for JSON.
    pub const fn prints_json_alone(&self) -> bool {
        match self {
            Self::Fits(arguments) => arguments.json,
            Self::Page(arguments) => arguments.json,
            _ => false,
        }
    }
}

/// More threads than this help nobody, and take memory each.
pub const MAX_THREADS: usize = 256;

fn threads(text: &str) -> Result<NonZeroUsize, String> {
    let number = text.parse().ok().filter(|number: &NonZeroUsize| number.get() <= MAX_THREADS);
    number.ok_or_else(|| format!("the number of threads is from 1 to {MAX_THREADS}"))
}

/// How the work is done, and how results are printed.
#[derive(Debug, Default, Args)]
pub struct WorkArguments {
    /// How many threads compress or decompress, 1 to 256; one for each core without this
    ///
    /// What is written is the same for any number.
    #[arg(long, value_name = "NUMBER", value_parser = threads)]
    pub threads: Option<NonZeroUsize>,
    /// Print the result as one JSON object (docs/json.md)
    #[arg(long)]
    pub json: bool,
    /// Say nothing but what went wrong
    #[arg(short, long, conflicts_with = "verbose")]
    pub quiet: bool,
    /// Say step by step what is done, on standard error; twice, every file too
    #[arg(short, long, action = clap::ArgAction::Count)]
    pub verbose: u8,
}

/// `demo`.
#[derive(Debug, Args)]
pub struct DemoArguments {
    /// Only lay the demonstration's folder out here, to try the commands on by hand
    #[arg(long, value_name = "FOLDER")]
    pub data_to: Option<PathBuf>,
}
