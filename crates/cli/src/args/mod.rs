//! The command line as it is typed. Nothing behind this module sees a flag.

mod keep;
mod learn;
mod pieces;
mod prove;
mod receive;
pub mod screens;
mod send;

/// The questions that options answer: they group what `--help` shows.
mod question {
    pub const WHAT_GOES_IN: &str = "What goes in";
    pub const SIZE: &str = "Size and format";
    pub const FORMAT: &str = SIZE;
    pub const WHERE: &str = "Where";
    pub const PASSWORD: &str = "Password";
    pub const MESSAGE: &str = WHAT_GOES_IN;
    pub const SETTINGS: &str = "Settings";
    pub const OUTPUT: &str = "Output";
}

use question::OUTPUT;

pub use keep::{MendArguments, NewPasswordArguments, RecastArguments, RelockArguments, ReviseArguments};
pub use learn::{CompletionsArguments, DemoArguments, GuideArguments, HelpArguments, ManualArguments};
pub use pieces::{PortionArguments, ReuniteArguments};
pub use prove::{
    CompareArguments, ConfirmArguments, HandoverArguments, PageArguments, ReceiptArguments, RehearseArguments,
    ResendArguments, Through,
};
pub use receive::{
    AboutArguments, CheckArguments, ComingArguments, FolderName, ListArguments, OnClashName, OpenArguments,
    PasswordArguments, PeekArguments, SearchArguments, SortName, UnlockArguments, WatchArguments,
};
pub use send::{
    ChoiceArguments, ConfigurationArguments, DeliveryArguments, FitsArguments, MessageArguments, PackArguments,
    PlanArguments, STANDARD_STREAM, SealArguments, ShapeArguments, SinceArguments, SqueezeName, is_standard_stream,
};

use clap::builder::{PossibleValue, StringValueParser, TypedValueParser};
use clap::{Args, Parser, Subcommand, ValueEnum};
use std::ffi::OsStr;
use std::num::NonZeroUsize;
use std::path::Path;
use under_seal_core::ground::fit::NAMED;

/// Packs files into password-encrypted archives, and proves that they open again
#[derive(Debug, Parser)]
#[command(
    name = "under-seal",
    version,
    max_term_width = 100,
    disable_help_subcommand = true,
    subcommand_value_name = "COMMAND"
)]
pub struct Arguments {
    /// What to do.
    #[command(subcommand)]
    pub command: Command,
}

/// The commands; [`super::args::screens`] groups them. What stands in `before_help` are examples, without the program's name.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Pack files and folders into an encrypted archive
    ///
    /// The archive is written under a temporary name, read back from disk, unlocked with the password and verified to the last byte.
    /// Only then its volumes get their names, all of them or none. Names, sizes, dates and counts are sealed too: without the
    /// password a volume tells none of them.
    #[command(
        before_help = "pack wrenfall-light --to out/ --fit mail-10\npack letters survey --to board.zip --leave-out '*.pts'"
    )]
    Pack(Box<PackArguments>),
    /// Show what pack would do: sizes, volumes, what may go wrong
    ///
    /// Nothing is written. Sizes are estimated by compressing samples; where there is little, all of it is compressed. It takes every
    /// option of pack, so that a line can be tried with "plan" in place of "pack".
    #[command(before_help = "plan wrenfall-light --fit mail-10\nplan wrenfall-light --every-format")]
    Plan(Box<PlanArguments>),
    /// Play the recipient: prove, before sending, that it all opens
    ///
    /// Copies are delivered, gathered, checked, unlocked, opened, and compared with the sources. All of it happens in a closed
    /// temporary folder, with nothing of yours but the volumes and what unlocks them. Of a handover folder the note is played too: its
    /// commands are run as they stand.
    #[command(
        before_help = "rehearse out --against wrenfall-light\nrehearse out --against wrenfall-light --through mail"
    )]
    Rehearse(Box<RehearseArguments>),
    /// Put all to send into one folder, with a note what to do
    ///
    /// Beside the volumes: a page that opens them in a browser, a note, checksums, drafts of the messages. The volumes are checked
    /// before and after they are copied. The password is in none of it. If it is given, what the recipient will not get is told, and the
    /// note names what an archive of changes builds upon.
    #[command(before_help = "handover out --to for-the-board --fit mail-10")]
    Handover(Box<HandoverArguments>),
    /// Make again exactly what a recipient is missing
    ///
    /// The recipient's "check" shows a resend slip, a short code that says what is missing. No password is needed. One small file is
    /// made where that is no larger than a volume; the recipient puts it among the volumes.
    #[command(before_help = "resend out AC73H-C4EM0-04401-6000J --to again")]
    Resend(ResendArguments),
    /// Check a recipient's receipt
    ///
    /// A receipt is a short code with which the recipient proves that everything opened. A right one is noted in a ledger beside the
    /// archive.
    #[command(before_help = "confirm out AB6EP-K08MX-VQSQZ-BWVKQ --by \"heritage board\"")]
    Confirm(ConfirmArguments),
    /// Write the page that opens volumes in a browser
    ///
    /// One HTML file, which needs no internet and sends nothing anywhere. "handover" puts it beside the volumes by itself.
    #[command(before_help = "page --to open-me.html")]
    Page(PageArguments),
    /// Extract everything, or some of it; nothing is overwritten unasked
    ///
    /// A file appears under its name only when it is complete and verified.
    #[command(before_help = "open out --into inbox\nopen out 'letters/*.txt' --into inbox")]
    Open(OpenArguments),
    /// Say which volumes are here, missing or damaged
    ///
    /// Volumes are known by their contents, under any file name and in any order. No password is needed for that. With the password
    /// everything inside is verified too, down to each file's digest.
    #[command(before_help = "check out\ncheck out --ask-password")]
    Check(CheckArguments),
    /// List what is in an archive
    ///
    /// Only the index is read: the last volumes are enough.
    #[command(before_help = "list out --tree\nlist out '*.jpg' --sort size")]
    List(ListArguments),
    /// Print one file of an archive, or list one of its folders
    ///
    /// No more than that file is read.
    #[command(before_help = "peek out letters/keeper.txt")]
    Peek(PeekArguments),
    /// Say what an archive is, and what the sender says
    #[command(before_help = "about out")]
    About(AboutArguments),
    /// Make a receipt, a code that proves that you could open it all
    #[command(before_help = "receipt out")]
    Receipt(ReceiptArguments),
    /// Say what was added, removed or changed since it was packed
    ///
    /// Content counts by its digest. Where archive and disk have one thing each at their top, those are compared whatever they are
    /// called.
    #[command(before_help = "compare out wrenfall-light\ncompare out wrenfall-light --originals")]
    Compare(CompareArguments),
    /// Add, remove, rename, bring up to date what is in an archive
    ///
    /// First it is brought up to date, then things are taken out, renamed and added. What stays is carried over without being compressed
    /// again. The new archive is read back and verified before it gets its name, and the old one goes only then.
    #[command(
        before_help = "revise out --add minutes.txt --inside wrenfall-light/letters\nrevise out --refresh wrenfall-light"
    )]
    Revise(Box<ReviseArguments>),
    /// Make an archive of another size, format or compression of it
    ///
    /// With --fit or --one-volume alone, sealed volumes are cut anew without the password: nothing is decrypted, compressed or sealed
    /// anew. With --as or --squeeze, contents are extracted and packed at the same time, and nothing of them goes to disk in between. The
    /// new archive is read back before it gets its name, and an old one in whose place it goes is removed only then.
    #[command(before_help = "recast out --fit mail-25 --to smaller/\nrecast old.zip --as sealed")]
    Recast(Box<RecastArguments>),
    /// Give a sealed archive other passwords
    ///
    /// Everything is sealed again under a new key; content, names and the cut stay. The new volumes are opened with each new password
    /// and verified to the last byte before they get their names, and the old ones go only then. Copies of the old ones that are
    /// elsewhere still open with the old password.
    #[command(before_help = "relock out\nrelock out --make-passphrase")]
    Relock(Box<RelockArguments>),
    /// Recreate missing and damaged volumes from spare ones, or add some
    ///
    /// No password is needed for losses and damage. What is recreated is what it was, byte by byte, and is read back before it gets its name. Nothing that
    /// is there is changed. "open", "list" and the other commands use spare volumes by themselves; this writes the lost volumes again.
    #[command(before_help = "mend inbox --to mended\nmend out --add-spares 2")]
    Mend(MendArguments),
    /// Cut any file into plain pieces that anybody can join
    ///
    /// Nothing is added to the pieces and nothing is encrypted. A text file beside them says how many there are, how large, with
    /// which SHA-256, and how to join them without this program.
    #[command(before_help = "portion survey.tif --fit 20MB --to pieces")]
    Portion(PortionArguments),
    /// Join numbered pieces of a file, whatever cut them
    ///
    /// From any one of them all others are found. They are checked against the text file beside them, if it is there.
    #[command(before_help = "reunite pieces/survey.tif.01of06")]
    Reunite(ReuniteArguments),
    /// Be led step by step, as a sender or a recipient
    ///
    /// Every step shows the command that it stands for. Nothing is written before the last yes.
    #[command(before_help = "guide")]
    Guide(GuideArguments),
    /// Explain a command or a topic
    #[command(before_help = "help pack\nhelp sizes")]
    Help(HelpArguments),
    /// List the sizes that have a name, such as mail-10
    #[command(before_help = "fits")]
    Fits(FitsArguments),
    /// Play the whole story in a temporary folder
    #[command(before_help = "demo\ndemo --data-to .")]
    Demo(DemoArguments),
    /// Print what lets a shell complete commands and options
    ///
    /// Save it where your shell looks for completions. In bash that is ~/.local/share/bash-completion/completions/under-seal.
    #[command(before_help = "completions bash > under-seal.bash")]
    Completions(CompletionsArguments),
    /// Write pages for the system's reader of manuals
    #[command(before_help = "manual --to ~/.local/share/man/man1")]
    Manual(ManualArguments),
}

impl Command {
    /// Whether standard output has an archive, and nothing else may go there.
    pub fn prints_archive(&self) -> bool {
        matches!(self, Self::Pack(pack) if pack.goes_to_output())
    }

    /// The folder that it writes to, or the path of what it writes.
    pub fn target(&self) -> Option<&Path> {
        match self {
            Self::Pack(pack) => pack.to.as_deref().filter(|_| !pack.goes_to_output()),
            Self::Open(open) => Some(&open.into),
            Self::Revise(revise) => revise.to.as_deref(),
            Self::Recast(recast) => recast.to.as_deref(),
            Self::Relock(relock) => relock.to.as_deref(),
            Self::Mend(mend) => mend.to.as_deref(),
            Self::Resend(resend) => Some(&resend.to),
            Self::Handover(handover) => Some(&handover.to),
            Self::Page(page) => page.to.as_deref(),
            Self::Portion(portion) => portion.to.as_deref(),
            Self::Reunite(reunite) => reunite.to.as_deref(),
            Self::Demo(demo) => demo.data_to.as_deref(),
            _ => None,
        }
    }

    /// What the command is called, and how its results are printed.
    pub const fn output(&self) -> (&'static str, &OutputArguments) {
        match self {
            Self::Plan(plan) => ("plan", &plan.pack.work.output),
            Self::Pack(pack) => ("pack", &pack.work.output),
            Self::Fits(fits) => ("fits", &fits.output),
            Self::Page(page) => ("page", &page.output),
            Self::Check(check) => ("check", &check.work.output),
            Self::Open(open) => ("open", &open.work.output),
            Self::List(list) => ("list", &list.work.output),
            Self::About(about) => ("about", &about.work.output),
            Self::Peek(peek) => ("peek", &peek.output),
            Self::Compare(compare) => ("compare", &compare.work.output),
            Self::Revise(revise) => ("revise", &revise.work.output),
            Self::Recast(recast) => ("recast", &recast.work.output),
            Self::Relock(relock) => ("relock", &relock.work.output),
            Self::Receipt(receipt) => ("receipt", &receipt.work.output),
            Self::Confirm(confirm) => ("confirm", &confirm.work.output),
            Self::Mend(mend) => ("mend", &mend.work.output),
            Self::Resend(resend) => ("resend", &resend.work.output),
            Self::Handover(handover) => ("handover", &handover.work.output),
            Self::Rehearse(rehearse) => ("rehearse", &rehearse.work.output),
            Self::Portion(portion) => ("portion", &portion.work.output),
            Self::Reunite(reunite) => ("reunite", &reunite.work.output),
            Self::Guide(guide) => ("guide", &guide.output),
            Self::Help(help) => ("help", &help.output),
            Self::Demo(demo) => ("demo", &demo.output),
            Self::Completions(completions) => ("completions", &completions.output),
            Self::Manual(manual) => ("manual", &manual.output),
        }
    }
}

/// A fit as it was written. Its names are told to those who complete words; what it means is read with the settings, since users have
/// fits of their own.
fn fit_text() -> FitText {
    FitText
}

#[derive(Debug, Clone)]
struct FitText;

impl TypedValueParser for FitText {
    type Value = String;

    fn parse_ref(
        &self,
        command: &clap::Command,
        arg: Option<&clap::Arg>,
        value: &OsStr,
    ) -> Result<String, clap::Error> {
        StringValueParser::new().parse_ref(command, arg, value)
    }

    fn possible_values(&self) -> Option<Box<dyn Iterator<Item = PossibleValue> + '_>> {
        Some(Box::new(NAMED.iter().map(|(name, _)| PossibleValue::new(*name))))
    }
}

/// More threads than this help nobody, and take memory each.
pub const MAX_THREADS: usize = 256;

fn threads(text: &str) -> Result<NonZeroUsize, String> {
    let number = text.parse().ok().filter(|number: &NonZeroUsize| number.get() <= MAX_THREADS);
    number.ok_or_else(|| format!("the number of threads is from 1 to {MAX_THREADS}"))
}

/// How the work is done, and how results are printed.
#[derive(Debug, Clone, Default, Args)]
pub struct WorkArguments {
    /// Use so many threads, 1 to 256
    ///
    /// Without this there is one for each core. What is written is the same for any number.
    #[arg(long, value_name = "NUMBER", value_parser = threads, help_heading = OUTPUT, hide_short_help = true)]
    pub threads: Option<NonZeroUsize>,
    #[command(flatten)]
    pub output: OutputArguments,
}

impl WorkArguments {
    /// Work of which nothing is shown.
    pub fn quiet() -> Self {
        Self { output: OutputArguments { quiet: true, ..OutputArguments::default() }, threads: None }
    }
}

/// How results are printed.
#[derive(Debug, Clone, Default, Args)]
#[command(next_help_heading = OUTPUT)]
pub struct OutputArguments {
    /// Print the result as one JSON object ("under-seal help json")
    #[arg(long, hide_short_help = true)]
    pub json: bool,
    /// Show progress: on a terminal, as lines of JSON, or not at all
    #[arg(long, value_enum, value_name = "HOW", default_value = "auto", hide_short_help = true)]
    pub progress: ProgressName,
    /// Say nothing but what went wrong
    #[arg(short, long, conflicts_with = "verbose", hide_short_help = true)]
    pub quiet: bool,
    /// Say step by step what is done; twice, every file too
    #[arg(short, long, action = clap::ArgAction::Count, hide_short_help = true)]
    pub verbose: u8,
    /// Write every size in exact bytes
    #[arg(long, hide_short_help = true)]
    pub exact: bool,
    /// Use colour
    ///
    /// Without this: on a terminal, unless the variables NO_COLOR, CLICOLOR or TERM say otherwise.
    #[arg(long, value_enum, value_name = "WHEN", default_value = "auto", hide_short_help = true)]
    pub color: ColorName,
}

/// When colour is used, by name.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, ValueEnum)]
pub enum ColorName {
    /// Where the output is a terminal that can show it
    #[default]
    Auto,
    /// In any case
    Always,
    /// In no case
    Never,
}

/// How progress is shown, by name.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, ValueEnum)]
pub enum ProgressName {
    /// As a bar, where standard error is a terminal
    #[default]
    Auto,
    /// As one JSON object a line, on standard error
    Json,
    /// Not at all
    None,
}
