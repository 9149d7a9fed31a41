//! Everything that can end a command, and the exit code that it ends with.

use crate::mistyped::Mistyped;
use crate::settings::name::NamePatternError;
use std::io;
use std::path::PathBuf;
use under_seal_core::disk::FileError;
use under_seal_core::formats::messages::structure::FlawedMessage;
use under_seal_core::formats::registry::Format;
use under_seal_core::formats::sealed::volume::SpareWishError;
use under_seal_core::ground::codes::CodeError;
use under_seal_core::ground::entry::PathError;
use under_seal_core::ground::fit::FitError;
use under_seal_core::ground::passwords::Strength;
use under_seal_core::source::PatternError;
use under_seal_core::tasks::rehearse::carriers::{Carrier, LimitError};
use under_seal_core::{Error, ErrorClass};

/// The user ended it.
pub const CANCELLED: u8 = 130;
/// Done, nothing to add.
pub const DONE: u8 = 0;
/// Done, with something to look at.
pub const LOOK: u8 = 1;
/// Volumes are missing.
pub const MISSING: u8 = 4;
/// Damaged or tampered with.
pub const DAMAGED: u8 = 5;
/// Something unsafe was refused.
pub const UNSAFE: u8 = 6;
/// The system, a disk or the memory refused.
pub const SYSTEM: u8 = 7;

/// Why a command stopped.
#[derive(Debug)]
pub enum Failure {
    /// What was typed cannot be taken.
    Mistyped(Mistyped),
    /// The core stopped.
    Core(Error),
    /// An archive that was put together out of messages cannot be opened, and something was not looked for in some of those.
    OutOfMessages {
        /// Why it cannot be opened.
        why: Box<Failure>,
        /// What was not looked for, and in which file.
        flawed: Vec<(PathBuf, FlawedMessage)>,
    },
    /// Volumes are missing or damaged, and here is all that is wrong with them.
    NotWhole {
        /// What ended it.
        why: Box<Failure>,
        /// What is wrong beside that, in a sentence without an end; nothing where nothing is.
        also: String,
        /// The slip that asks for all of it, where there is one and it is short enough to be told here.
        slip: Option<Option<String>>,
    },
    /// Something else helps, in a sentence and, where one does it, a command.
    WithWayOut {
        /// What ended it.
        why: Box<Failure>,
        /// The sentence.
        sentence: String,
        /// The command, as it can be typed.
        command: Option<String>,
    },
    /// What the changes build upon cannot be opened.
    OfBase(Box<Failure>),
    /// The password file cannot be read.
    PasswordFile {
        /// The file.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// The password file is far too long to be one.
    PasswordFileTooLong(PathBuf),
    /// The variable holds no text.
    PasswordVariable,
    /// The key file cannot be read.
    KeyFile {
        /// The file.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// The made passphrase cannot be written to its file.
    PassphraseFile {
        /// The file.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// There is no terminal to show the made passphrase on.
    NowhereToShow,
    /// The password is weak, and there is nobody to confirm it.
    WeakPassword(Strength),
    /// A text file that an option names cannot be read.
    TextFile {
        /// The file.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// The message is longer than an archive holds.
    LongMessage {
        /// Its bytes.
        length: usize,
        /// So many the format holds.
        limit: usize,
    },
    /// The configuration file holds something that cannot be used.
    Configuration {
        /// The file.
        path: PathBuf,
        /// The line, from 1, where it is known.
        line: Option<usize>,
        /// What is wrong there.
        why: String,
    },
    /// Nothing inside is called so.
    NothingInside {
        /// It was looked for with `--find`, so that finding nothing is an answer.
        was_search: bool,
        /// What was sought.
        sought: String,
        /// What looks like it.
        alike: Vec<String>,
    },
    /// Several files inside are called so.
    SeveralInside {
        /// What was sought.
        sought: String,
        /// Their paths.
        found: Vec<String>,
    },
    /// The password opens none of the headers that were tried, and these files' headers contradict the others.
    ForgedBeside(Vec<PathBuf>),
    /// The passwords open none of so many archives that no more are tried: each attempt costs time.
    TooManyLocked,
    /// An archive of changes is not opened where what it builds upon is not.
    NoBase {
        /// What that is called.
        archive: String,
        /// When it was made.
        made: String,
        /// Where it was looked for.
        folder: String,
    },
    /// Files would be replaced that are as the base left them, and nobody can be asked.
    Outdated {
        /// What the base is called.
        archive: String,
        /// The files, in the archive.
        paths: Vec<String>,
    },
    /// More than one file is to be peeked at.
    SeveralToPeek,
    /// There is no temporary place.
    Temporary(io::Error),
    /// A file cannot be shown in the system's viewer.
    Viewer(io::Error),
    /// A file that is no text is not printed on a terminal.
    NoText(String),
    /// An option's value cannot be used.
    Value(BadValue),
    /// Parcels of a delivery are not here.
    MissingParcels {
        /// Their numbers.
        numbers: Vec<u32>,
        /// How many there are in all.
        count: u32,
    },
    /// Something is to be asked, and there is no terminal to ask on.
    NobodyToAsk {
        /// What is asked for, as the beginning of a sentence.
        what: &'static str,
        /// What would have answered, as a sentence.
        instead: &'static str,
    },
    /// The two passwords typed are not the same.
    PasswordsDiffer,
    /// The user did not want to give a password.
    GivenUp,
    /// The terminal cannot be used.
    Prompt(io::Error),
    /// The result cannot be printed.
    Output(io::Error),
    /// The demonstration cannot write its data.
    File(FileError),
    /// A step of the demonstration went otherwise than told.
    Demonstration(String),
}

/// Why a value is not taken; `value` is what was written.
#[derive(Debug)]
pub enum BadValue {
    /// A fit.
    Fit {
        /// What was written.
        value: String,
        /// What is wrong with it.
        why: FitError,
        /// The names that would be known: built in, then the user's own.
        known: Vec<String>,
    },
    /// How many spare volumes.
    Spares {
        /// What was written.
        value: String,
        /// What is wrong with it.
        why: SpareWishError,
    },
    /// A pattern for the archive's name.
    Name(NamePatternError),
    /// A pattern for paths.
    Pattern(PatternError),
    /// A profile that is not in the file.
    Profile {
        /// What was written.
        value: String,
        /// The profiles that are.
        known: Vec<String>,
    },
    /// A part is wanted, and every archive.
    AllOfSome,
    /// A part is wanted, and whatever is whole.
    SalvageOfSome,
    /// A file is too long to be put into a JSON object.
    LongForJson {
        /// The most that is, in bytes.
        limit: u64,
    },
    /// A code that was told is none.
    Code(CodeError),
    /// Something is to be read from standard input, which is a terminal.
    NothingPiped,
    /// Two things are to be read from standard input, or from one descriptor.
    ReadTwice,
    /// A list of paths is empty.
    EmptyList,
    /// A line of a list of paths cannot be one.
    ListedLine { list: PathBuf, number: u64, why: &'static str },
    /// What can be read only once is to be read more often.
    StreamOnceOnly,
    /// A path in the archive.
    EntryName {
        /// What was written.
        value: String,
        /// What is wrong with it.
        error: PathError,
    },
    /// An archive of several volumes is to go to standard output.
    SeveralToOutput,
    /// An archive is to be written to a terminal.
    OutputIsTerminal,
    /// A file is one of the pieces of another.
    Piece(PathBuf),
    /// A folder is to be cut as it is.
    PiecesOfFolder(PathBuf),
    /// What is whole is to be extracted of what comes, and it is not said how long that is waited for.
    SalvageWithoutEnd,
    /// Several entries are to go to standard output, and nothing says how.
    SeveralToStream,
    /// No resend slip of this archive stands in this file.
    NoSlipIn(PathBuf),
    /// A receipt of another set.
    OtherReceipt,
    /// A browser opens sealed volumes only.
    NotInBrowser,
    /// No browser was found.
    NoBrowser,
    /// The password's note would lie among what is handed over.
    PasswordAmongIt,
    /// A limit that a way of delivery cannot have.
    WayLimit {
        /// What was written.
        value: String,
        /// Who carries.
        carrier: Carrier,
        /// What is wrong with it.
        error: LimitError,
    },
    /// Names are to be hidden, and no password is wanted.
    HidingWithoutPassword,
    /// What is for sealed volumes only is wanted of another format.
    SealedOnly,
    /// A password of what has none.
    NoPasswordToTell,
    /// A set is to be replaced that does not lie by itself under the names that it was made with.
    NoOwnPlace,
    /// An archive that cannot be changed and kept as what it is; why.
    NotRevised(String),
    /// A place whose name says another format than the archive's.
    OtherFormat(&'static Format),
    /// An archive that is not replaced, since that would lose this.
    WouldLose(String),
    /// A format that is read here and not written.
    OnlyRead(&'static Format),
    /// One name for several archives.
    OneNameForSeveral,
    /// A set is to be cut in the way in which it is cut, and elsewhere.
    CutSo {
        /// How many volumes it has.
        volumes: u32,
        /// What each but the last has, in bytes.
        volume_bytes: u64,
        /// The next fit that its cells fill, in bytes, where the one that was asked for is not filled.
        next: Option<u64>,
    },
    /// One password is given twice, to open one archive.
    SamePasswordTwice,
    /// Several sets are to be cut anew at once.
    OneToCut,
    /// Changes are to be packed into the place of what they build upon.
    IntoBase,
    /// What an archive of changes is not for.
    NotOfChanges(&'static str),
    /// Pieces are wanted, and nothing says how large.
    PiecesWithoutFit,
    /// Parcels are wanted, and nothing says how large.
    ParcelsWithoutFit,
    /// Parcels are wanted, and spare volumes, which make good what is lost of one archive only.
    ParcelsWithSpares,
    /// An archive's name was typed twice, with `--to` and with `--name`.
    TwoNames,
}

impl From<PatternError> for BadValue {
    fn from(error: PatternError) -> Self {
        Self::Pattern(error)
    }
}

impl<E: Into<Error>> From<E> for Failure {
    fn from(error: E) -> Self {
        Self::Core(error.into())
    }
}

impl Failure {
    /// This, of what changes build upon. Whoever ended it knows of what it was.
    pub fn of_base(self) -> Self {
        if self.exit_code() == CANCELLED { self } else { Self::OfBase(Box::new(self)) }
    }

    /// The exit code (docs/exit-codes.md).
    pub fn exit_code(&self) -> u8 {
        match self {
            Self::Core(error) => class_code(error.class()),
            Self::OutOfMessages { why, .. }
            | Self::NotWhole { why, .. }
            | Self::WithWayOut { why, .. }
            | Self::OfBase(why) => why.exit_code(),
            Self::PasswordFile { source, .. } | Self::KeyFile { source, .. } | Self::TextFile { source, .. }
                if !is_slip(source) =>
            {
                7
            }
            Self::PassphraseFile { source, .. } if source.kind() == io::ErrorKind::AlreadyExists => UNSAFE,
            Self::PassphraseFile { .. } => 7,
            Self::NoBase { .. } | Self::Outdated { .. } | Self::TooManyLocked => UNSAFE,
            Self::ForgedBeside(_) => 3,
            Self::NothingInside { was_search: true, .. } => LOOK,
            Self::Mistyped(_)
            | Self::PasswordFile { .. }
            | Self::KeyFile { .. }
            | Self::TextFile { .. }
            | Self::NowhereToShow
            | Self::WeakPassword(_)
            | Self::LongMessage { .. }
            | Self::Configuration { .. }
            | Self::Value(_)
            | Self::NothingInside { .. }
            | Self::SeveralInside { .. }
            | Self::SeveralToPeek
            | Self::NoText(_)
            | Self::PasswordFileTooLong(_)
            | Self::PasswordVariable
            | Self::NobodyToAsk { .. }
            | Self::PasswordsDiffer => 2,
            Self::Prompt(_) | Self::Temporary(_) | Self::Viewer(_) | Self::Output(_) | Self::File(_) => 7,
            Self::MissingParcels { .. } => MISSING,
            Self::GivenUp => 130,
            Self::Demonstration(_) => LOOK,
        }
    }

    /// The exit code as a word, for JSON.
    pub fn kind(&self) -> &'static str {
        match self.exit_code() {
            LOOK => "look",
            2 => "usage",
            3 => "wrong-password",
            MISSING => "volumes-missing",
            DAMAGED => "damaged",
            UNSAFE => "refused",
            130 => "cancelled",
            _ => "system",
        }
    }
}

/// Whether a file that cannot be read was named by mistake.
fn is_slip(error: &io::Error) -> bool {
    use io::ErrorKind::{InvalidData, IsADirectory, NotFound, UnexpectedEof};
    matches!(error.kind(), NotFound | InvalidData | IsADirectory | UnexpectedEof)
}

fn class_code(class: ErrorClass) -> u8 {
    match class {
        ErrorClass::Usage => 2,
        ErrorClass::WrongPassword => 3,
        ErrorClass::VolumesMissing => MISSING,
        ErrorClass::Damaged => DAMAGED,
        ErrorClass::Unsafe => UNSAFE,
        ErrorClass::System => SYSTEM,
        ErrorClass::Cancelled => CANCELLED,
    }
}
