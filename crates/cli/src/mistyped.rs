//! What is typed becomes [`Arguments`], or something that [`crate::words`] can answer: the words that people try first are known, and
//! lead to the command or option that does what they mean. Likeness of letters counts only where it can be nothing but a slip.

use crate::args::{Arguments, Command as AnyCommand, screens};
use crate::wildcards;
use clap::error::{ContextKind, ContextValue, ErrorKind};
use clap::{Command, CommandFactory as _, FromArgMatches as _};
use std::ffi::OsString;
use std::path::Path;
use under_seal_core::source::matching;

/// What was typed and cannot be taken.
#[derive(Debug)]
pub enum Mistyped {
    /// No command is called so.
    Command {
        /// What was typed.
        word: String,
        /// What was meant, as far as that can be told.
        meant: Meant,
    },
    /// No command and no topic is called so.
    Topic {
        /// What was typed.
        word: String,
        /// What was meant, as far as that can be told.
        meant: Meant,
    },
    /// The command has no such option.
    Option {
        /// The command, or nothing.
        command: Option<String>,
        /// What was typed.
        option: String,
        /// What was meant.
        meant: Meant,
    },
    /// A word that an option does not take.
    Value {
        /// The option.
        option: String,
        /// What was typed.
        value: String,
        /// The words that it takes.
        known: Vec<String>,
    },
    /// A value that an option cannot read, and why.
    Unreadable {
        /// The option.
        option: String,
        /// What was typed.
        value: String,
        /// Why.
        why: String,
    },
    /// An option without what it takes.
    NoValue {
        /// The option, with the name of what it takes.
        option: String,
    },
    /// Something that the command needs.
    Needed {
        /// The command.
        command: String,
        /// What is not there.
        what: Vec<String>,
    },
    /// Two things that exclude each other.
    Conflict {
        /// The one.
        one: String,
        /// The others.
        others: Vec<String>,
    },
    /// Text that is not UTF-8 where text is needed, or what else is seldom: what the reader of the line says.
    Otherwise(String),
}

/// What a word means that is not known.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Meant {
    /// A sentence says what does it.
    Known(&'static str),
    /// A slip of the keys.
    Slip(String),
    /// Something that lies here.
    Here(String),
    /// It cannot be told.
    Unknown,
}

/// Words that people try first, and what does what they mean.
const WORDS: [(&[&str], &str); 25] = [
    (&["extract", "unpack", "decrypt", "unseal", "restore", "uncompress", "decompress", "unzip"], "`open` does that"),
    (&["seal", "encrypt", "zip", "compress", "create", "archive", "make", "new", "backup"], "`pack` does that"),
    (&["split", "cut"], "`pack --fit SIZE` packs and cuts; `portion` cuts a file as it is"),
    (
        &["join", "combine", "merge", "concat", "unsplit"],
        "`open` joins volumes by itself; `reunite` joins the pieces of a plain file",
    ),
    (&["verify", "test", "validate"], "`check --ask-password` does that, and `rehearse` compares with the sources too"),
    (&["info", "show", "stat", "details"], "`about` does that"),
    (&["add", "append", "insert"], "`revise ARCHIVE --add SOURCE` does that"),
    (&["remove", "delete", "rm"], "`revise ARCHIVE --remove PATTERN` does that"),
    (&["rename", "mv", "move"], "`revise ARCHIVE --rename OLD NEW` does that"),
    (&["update", "refresh", "sync", "freshen"], "`revise ARCHIVE --refresh SOURCE` does that"),
    (&["cat", "print", "view", "read"], "`peek` does that"),
    (&["convert", "transform", "recompress"], "`recast` does that"),
    (&["resize", "resplit", "recut"], "`recast --fit SIZE` does that"),
    (
        &["repair", "fix", "recover", "salvage", "rescue"],
        "`mend` recreates volumes from spare ones; else `check` shows a resend slip for the sender, and `open --salvage` extracts what is whole",
    ),
    (&["password", "passwd", "rekey", "lock"], "`relock` does that"),
    (&["unlock"], "`open` extracts an archive, `relock` gives it other passwords"),
    (&["diff", "changes", "status"], "`compare` does that"),
    (&["ls", "dir", "contents", "files", "tree", "toc"], "`list` does that"),
    (&["find", "search", "grep"], "`list ARCHIVE --find TEXT` does that"),
    (&["estimate", "preview", "simulate", "size"], "`plan` does that"),
    (
        &["send", "mail", "deliver", "share", "upload"],
        "`pack` makes the archive, `handover` everything to send; sending itself is yours",
    ),
    (&["receive", "get", "import"], "`check` says whether all is here, `open` extracts it"),
    (
        &["config", "settings", "profiles", "sizes"],
        "`fits` lists the sizes that have a name, and `fits --profiles` the recipients; `help configuration` explains the file",
    ),
    (&["version"], "`under-seal --version` says it"),
    (
        &["html", "browser", "sfx"],
        "`pack --as page` makes one file that opens itself in a browser; `page` writes the page alone",
    ),
];

/// What is said of an option that people try: the first of these that the command has, or a sentence.
struct Tried {
    options: &'static [&'static str],
    instead: &'static [(&'static str, &'static str)],
    otherwise: Option<&'static str>,
}

const OPTIONS: [Tried; 17] = [
    Tried {
        options: &["force", "overwrite", "yes", "f", "y"],
        instead: &[
            ("replace", "`--replace` replaces an older archive of this name"),
            ("on-clash", "`--on-clash replace` replaces files that are there already"),
        ],
        otherwise: Some("Nothing needs to be forced here; leave it out"),
    },
    Tried {
        options: &["output", "out", "o", "dest", "destination", "target", "directory", "dir", "d", "C"],
        instead: &[("to", "`--to` does that"), ("into", "`--into` does that")],
        otherwise: None,
    },
    Tried { options: &["to"], instead: &[("into", "`--into` does that")], otherwise: None },
    Tried { options: &["into"], instead: &[("to", "`--to` does that")], otherwise: None },
    Tried {
        options: &["password", "passphrase", "pass", "p", "P"],
        instead: &[(
            "password-from",
            "A password is never typed on the command line. It is asked for, or read with `--password-from FILE`",
        )],
        otherwise: None,
    },
    Tried {
        options: &["keyfile", "key", "k"],
        instead: &[("key-file", "`--key-file FILE` does that")],
        otherwise: None,
    },
    Tried {
        options: &["recursive", "recurse", "r", "R"],
        instead: &[],
        otherwise: Some("Folders go in with everything in them; leave it out"),
    },
    Tried {
        options: &["exclude", "ignore", "skip", "x"],
        instead: &[("leave-out", "`--leave-out PATTERN` does that")],
        otherwise: None,
    },
    Tried {
        options: &["include", "filter", "pattern"],
        instead: &[("only", "`--only PATTERN` does that")],
        otherwise: None,
    },
    Tried {
        options: &["level", "compression", "compress", "best", "fast", "method", "z"],
        instead: &[("squeeze", "`--squeeze` says how hard to compress")],
        otherwise: None,
    },
    Tried {
        options: &["size", "split", "volume-size", "volume", "volumes", "max-size", "limit", "s", "b"],
        instead: &[("fit", "`--fit SIZE` does that")],
        otherwise: None,
    },
    Tried { options: &["format", "type", "t"], instead: &[("as", "`--as FORMAT` does that")], otherwise: None },
    Tried {
        options: &["comment", "note", "m"],
        instead: &[("message", "`--message TEXT` does that")],
        otherwise: None,
    },
    Tried {
        options: &["dry-run", "simulate", "n"],
        instead: &[
            ("dry-run", "`--dry-run` does that"),
            ("squeeze", "`under-seal plan` with the same line shows it, and writes nothing"),
        ],
        otherwise: None,
    },
    Tried {
        options: &["encrypt", "encryption", "aes", "e"],
        instead: &[("no-password", "Everything is encrypted, unless `--no-password` is added; leave it out")],
        otherwise: None,
    },
    Tried {
        options: &["delete", "delete-source", "remove-files", "move"],
        instead: &[],
        otherwise: Some(
            "Originals are never deleted here. `under-seal compare ARCHIVE SOURCE --originals` says which may be",
        ),
    },
    Tried {
        options: &["colour", "no-color", "no-colour"],
        instead: &[("color", "`--color never` and `--color always` do that")],
        otherwise: None,
    },
];

/// What was typed, or how the run ends without it.
pub enum Typed {
    /// A command with its options.
    Arguments(Box<Arguments>),
    /// Nothing but the program's name.
    Nothing,
    /// A text was asked for, and is printed: help, or the version.
    Text(clap::builder::StyledStr),
    /// It cannot be taken.
    Mistaken {
        /// Why.
        mistyped: Mistyped,
        /// The command that was typed, where there is one.
        command: Option<&'static str>,
        /// Whether the answer is to be JSON.
        json: bool,
    },
}

/// Reads the command line.
pub fn read(typed: impl IntoIterator<Item = OsString>) -> Typed {
    let typed = command_first(typed.into_iter().collect());
    // The screens of help are drawn only for whoever asks for them.
    let mut command = Arguments::command();
    let typed = wildcards::expanded(typed, &command, &matching);
    let error = match command.try_get_matches_from_mut(&typed).and_then(|found| Arguments::from_arg_matches(&found)) {
        Ok(mut arguments) => {
            if let AnyCommand::Plan(plan) = &mut arguments.command {
                plan.typed = typed.into_iter().skip(2).collect();
            }
            return Typed::Arguments(Box::new(arguments));
        }
        Err(error) => error,
    };
    let words: Vec<String> = typed.iter().skip(1).map(|word| word.to_string_lossy().into_owned()).collect();
    match error.kind() {
        ErrorKind::DisplayHelp => {
            let asked = screens::command().try_get_matches_from(&typed).err().unwrap_or(error);
            return Typed::Text(asked.render());
        }
        ErrorKind::DisplayVersion => return Typed::Text(error.render()),
        _ if words.is_empty() => return Typed::Nothing,
        _ => {}
    }
    // Nothing stands in front of a command.
    let name = screens::GROUPS
        .iter()
        .flat_map(|(_, names)| *names)
        .find(|name| words.first().is_some_and(|word| word == **name));
    let mistyped = mistyped(&error, name.and_then(|name| command.find_subcommand(name)), &command);
    let json = words.iter().take_while(|word| *word != "--").any(|word| word == "--json");
    Typed::Mistaken { mistyped, command: name.copied(), json }
}

/// Options that every command has, and whether each takes a value.
const EVERYWHERE: [(&[&str], bool); 5] = [
    (&["--color", "--progress"], true),
    (&["--json"], false),
    (&["-q", "--quiet"], false),
    (&["-v", "-vv", "--verbose"], false),
    (&["--exact"], false),
];

/// The same line with options that stand in front of the command behind it, where every command has them.
fn command_first(mut typed: Vec<OsString>) -> Vec<OsString> {
    let mut at = 1;
    while let Some(word) = typed.get(at).and_then(|word| word.to_str()).filter(|word| word.starts_with('-')) {
        let name = word.split('=').next().unwrap_or_default();
        match EVERYWHERE.iter().find(|(names, _)| names.contains(&name)) {
            Some((_, takes_value)) => at += 1 + usize::from(*takes_value && !word.contains('=')),
            None => return typed,
        }
    }
    if at < typed.len() {
        let front: Vec<OsString> = typed.drain(1..at).collect();
        typed.splice(2..2, front);
    }
    typed
}

fn mistyped(error: &clap::Error, of: Option<&Command>, all: &Command) -> Mistyped {
    let texts = |kind| match error.get(kind) {
        Some(ContextValue::String(text)) => vec![text.clone()],
        Some(ContextValue::Strings(texts)) => texts.clone(),
        _ => Vec::new(),
    };
    let first = |kind| texts(kind).into_iter().next().unwrap_or_default();
    let name = of.map(|command| command.get_name().to_owned());
    match error.kind() {
        ErrorKind::InvalidSubcommand => {
            let word = first(ContextKind::InvalidSubcommand);
            let meant = meant_by_command(&word, all);
            Mistyped::Command { word, meant }
        }
        ErrorKind::UnknownArgument => {
            let option = first(ContextKind::InvalidArg);
            let meant = of.map_or(Meant::Unknown, |command| meant_by_option(&option, command));
            Mistyped::Option { command: name, option, meant }
        }
        ErrorKind::InvalidValue if first(ContextKind::InvalidValue).is_empty() => {
            Mistyped::NoValue { option: first(ContextKind::InvalidArg) }
        }
        ErrorKind::InvalidValue => Mistyped::Value {
            option: first(ContextKind::InvalidArg),
            value: first(ContextKind::InvalidValue),
            known: texts(ContextKind::ValidValue),
        },
        ErrorKind::ValueValidation => Mistyped::Unreadable {
            option: first(ContextKind::InvalidArg),
            value: first(ContextKind::InvalidValue),
            why: std::error::Error::source(error).map(ToString::to_string).unwrap_or_default(),
        },
        ErrorKind::TooFewValues | ErrorKind::WrongNumberOfValues | ErrorKind::NoEquals => {
            Mistyped::NoValue { option: first(ContextKind::InvalidArg) }
        }
        ErrorKind::MissingRequiredArgument => {
            Mistyped::Needed { command: name.unwrap_or_default(), what: texts(ContextKind::InvalidArg) }
        }
        ErrorKind::ArgumentConflict => {
            Mistyped::Conflict { one: first(ContextKind::InvalidArg), others: texts(ContextKind::PriorArg) }
        }
        _ => {
            let text = error.render().to_string();
            Mistyped::Otherwise(text.lines().next().unwrap_or_default().trim_start_matches("error: ").to_owned())
        }
    }
}

/// What somebody means who types this for a command.
pub fn meant_by_command(word: &str, all: &Command) -> Meant {
    let small = word.to_lowercase();
    if let Some((_, says)) = WORDS.iter().find(|(words, _)| words.contains(&small.as_str())) {
        return Meant::Known(says);
    }
    if Path::new(word).exists() {
        return Meant::Here(word.to_owned());
    }
    slip(&small, all.get_subcommands().map(Command::get_name))
}

/// What somebody means who types this for an option of that command.
fn meant_by_option(option: &str, of: &Command) -> Meant {
    let word = option.trim_start_matches('-').split('=').next().unwrap_or_default();
    let longs = || of.get_arguments().filter_map(clap::Arg::get_long);
    let tried = OPTIONS.iter().filter(|tried| tried.options.contains(&word));
    let known = tried.flat_map(|tried| {
        let instead = tried.instead.iter().find(|(long, _)| longs().any(|known| known == *long)).map(|(_, says)| *says);
        instead.or(tried.otherwise)
    });
    known.map(Meant::Known).next().unwrap_or_else(|| match slip(word, longs()) {
        Meant::Slip(long) => Meant::Slip(format!("--{long}")),
        other => other,
    })
}

/// The one word that this can be a slip of: one letter off in a short word, two in a longer one.
fn slip<'a>(word: &str, known: impl Iterator<Item = &'a str>) -> Meant {
    let most = match word.chars().count() {
        0..=2 => return Meant::Unknown,
        3..=5 => 1,
        _ => 2,
    };
    // Of few letters the first is seldom wrong.
    let begins_so = |known: &&str| word.len() > 3 || known.chars().next() == word.chars().next();
    let near = known.filter(begins_so).map(|known| (strsim::damerau_levenshtein(word, known), known));
    // Of words that are as near, the one with the same letters in it.
    let likeness = |known: &str| strsim::jaro_winkler(word, known);
    let near = near.min_by(|(one, known), (other, rival)| {
        one.cmp(other).then_with(|| likeness(rival).total_cmp(&likeness(known)))
    });
    near.filter(|(distance, _)| *distance <= most).map_or(Meant::Unknown, |(_, known)| Meant::Slip(known.to_owned()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// What a sentence of the tables tells to type can be typed.
    #[test]
    fn every_answer_names_commands_that_there_are() {
        let all = screens::command();
        let sentences = WORDS.iter().map(|(_, says)| *says);
        for sentence in sentences {
            for told in sentence.split('`').skip(1).step_by(2) {
                let name = told.split(' ').find(|word| *word != "under-seal").unwrap();
                assert!(name.starts_with("--") || all.find_subcommand(name).is_some(), "{sentence}");
            }
        }
        let known: Vec<&str> = WORDS.iter().flat_map(|(words, _)| *words).copied().collect();
        for command in all.get_subcommands() {
            assert!(!known.contains(&command.get_name()), "{} is a command", command.get_name());
        }
    }

    #[rstest]
    #[case("pakc", Meant::Slip("pack".into()))]
    #[case("reherse", Meant::Slip("rehearse".into()))]
    #[case("lst", Meant::Slip("list".into()))]
    #[case("recpit", Meant::Slip("receipt".into()))]
    #[case("xyz", Meant::Unknown)]
    #[case("frobnicate", Meant::Unknown)]
    #[case("EXTRACT", Meant::Known("`open` does that"))]
    fn a_word_for_a_command_is_understood(#[case] word: &str, #[case] expected: Meant) {
        assert_eq!(meant_by_command(word, &screens::command()), expected);
    }

    #[rstest]
    #[case("pack", "--leaveout", Meant::Slip("--leave-out".into()))]
    #[case("pack", "--fti", Meant::Slip("--fit".into()))]
    #[case("pack", "--force", Meant::Known("`--replace` replaces an older archive of this name"))]
    #[case("open", "--force", Meant::Known("`--on-clash replace` replaces files that are there already"))]
    #[case("list", "--force", Meant::Known("Nothing needs to be forced here; leave it out"))]
    #[case("check", "--squish", Meant::Unknown)]
    fn an_option_that_is_tried_is_understood(#[case] command: &str, #[case] option: &str, #[case] expected: Meant) {
        let all = screens::command();
        assert_eq!(meant_by_option(option, all.find_subcommand(command).unwrap()), expected);
    }
}
