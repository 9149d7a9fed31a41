//! Words on what was typed and cannot be taken.

use crate::mistyped::{Meant, Mistyped};
use crate::ui::suggestion::quoted;
use crate::ui::text::{self, listed, shown};
use std::ffi::OsStr;
use std::path::Path;

pub(super) fn mistyped(mistyped: &Mistyped) -> String {
    match mistyped {
        Mistyped::Command { word, meant } => match meant {
            Meant::Known(says) => format!("There is no command `{}`; {says}.", shown(word.as_bytes())),
            Meant::Slip(known) => format!("There is no command `{}`. Did you mean `{known}`?", shown(word.as_bytes())),
            Meant::Here(path) => here(path),
            Meant::Unknown => {
                format!("There is no command `{}`. `under-seal --help` lists them.", shown(word.as_bytes()))
            }
        },
        Mistyped::Topic { word, meant } => {
            let word = shown(word.as_bytes());
            match meant {
                Meant::Known(says) => {
                    format!("There is no command `{word}`; {says}. `under-seal help` lists commands and topics.")
                }
                Meant::Slip(known) => format!("There is no help on `{word}`. Did you mean `{known}`?"),
                _ => format!("There is no help on `{word}`. `under-seal help` lists commands and topics."),
            }
        }
        Mistyped::Option { command, option, meant } => option_unknown(command.as_deref(), option, meant),
        Mistyped::Value { option, value, known } => {
            format!("{} does not take `{}`. It takes {}.", option_name(option), shown(value.as_bytes()), one_of(known))
        }
        Mistyped::Unreadable { option, value, why } => {
            format!("{} does not take `{}`: {why}.", option_name(option), shown(value.as_bytes()))
        }
        Mistyped::NoValue { option } => {
            format!("Something is missing behind {}: it is typed as `{}`.", option_name(option), needed(option))
        }
        Mistyped::Needed { command, what } => {
            let what: Vec<String> = what.iter().map(|what| needed(what)).collect();
            format!("{} is missing. `under-seal {command} -h` shows examples.", listed(&what))
        }
        Mistyped::Conflict { one, others } => {
            let others: Vec<String> = others.iter().map(|other| option_name(other)).collect();
            if others.is_empty() || others == [option_name(one)] {
                return format!("{} is typed twice. Leave one out.", option_name(one));
            }
            format!("{} and {} exclude each other. Leave one out.", option_name(one), listed(&others))
        }
        Mistyped::Otherwise(said) => {
            format!("This line cannot be read: {}.", shown(said.trim_end_matches('.').as_bytes()))
        }
    }
}

/// Somebody named what lies here before saying what to do with it.
fn here(path: &str) -> String {
    let named = quoted(OsStr::new(path));
    let kind = if Path::new(path).is_dir() { "folder" } else { "file" };
    format!(
        "A command comes first, and {} is a {kind} here. `under-seal pack {named}` packs it, and `under-seal open {named}` extracts what is in it.",
        shown(path.as_bytes())
    )
}

fn option_unknown(command: Option<&str>, option: &str, meant: &Meant) -> String {
    let option = shown(option.as_bytes());
    // What is no option is one word more than the command takes.
    let what = if option.starts_with('-') { "no option" } else { "no place for" };
    let Some(command) = command else {
        return format!("There is {what} `{option}`. `under-seal --help` lists the commands.");
    };
    match meant {
        Meant::Known(says) => format!("`{command}` has {what} `{option}`. {}.", text::capitalized(says)),
        Meant::Slip(known) => format!("`{command}` has {what} `{option}`. Did you mean `{known}`?"),
        Meant::Here(_) | Meant::Unknown => {
            format!("`{command}` has {what} `{option}`. `under-seal {command} --help` lists what it takes.")
        }
    }
}

/// An option without what it takes: `--fit <SIZE|NAME>` is `--fit`.
fn option_name(typed: &str) -> String {
    typed
        .split([' ', '=', '<', '|', '>'])
        .find(|part| !part.is_empty())
        .map_or_else(|| typed.to_owned(), |name| name.trim_end_matches('>').to_owned())
}

/// What a command needs, as it is written in its help.
fn needed(what: &str) -> String {
    if what.contains("|--") {
        let options = what.split("--").filter(|part| part.starts_with(char::is_alphabetic));
        let names: Vec<String> = options.map(|option| option_name(&format!("--{option}"))).collect();
        return format!("One of {}", one_of(&names));
    }
    what.replace(['<', '>'], "").trim_end_matches("...").to_owned()
}

fn one_of(words: &[String]) -> String {
    match words {
        [front @ .., last] if !front.is_empty() => format!("{} or {last}", front.join(", ")),
        _ => listed(words),
    }
}
