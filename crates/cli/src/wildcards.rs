//! Names of archives and volumes with `*` and `?` in them, where the shell leaves those to the program, as on Windows: they become the
//! files that they stand for. Patterns for what is inside an archive stay, and so does whatever an option takes. Sources are the core's.

use clap::{Arg, ArgAction, Command};
use std::ffi::{OsStr, OsString};
use std::path::{Path, PathBuf};

/// What in the name of an argument's values says that it may be expanded, and that only the first of several may: those behind it may
/// speak of what is inside.
const READ: [&str; 3] = ["VOLUME", "ARCHIVE", "PIECE"];
const INSIDE: [&str; 2] = ["PATTERN", "PATH"];

/// A command line with the names in it that `matching` knows files for replaced by those.
pub fn expanded(
    typed: Vec<OsString>,
    all: &Command,
    matching: &dyn Fn(&Path) -> Option<Vec<PathBuf>>,
) -> Vec<OsString> {
    let Some(command) = typed.get(1).and_then(|word| all.find_subcommand(word)) else { return typed };
    let mut positions = command.get_positionals();
    let mut position = positions.next();
    let mut taking: Option<&Arg> = None;
    let mut all_given = false;
    let mut expanded = typed[..2].to_vec();
    for word in &typed[2..] {
        let option = (!all_given).then(|| option_of(word, command)).flatten();
        let of = match (option, taking) {
            _ if !all_given && word == "--" => {
                (taking, all_given) = (None, true);
                None
            }
            (Some(option), _) => {
                taking = option.filter(|option| takes(option) && !word.as_encoded_bytes().contains(&b'='));
                None
            }
            (None, Some(option)) => {
                taking =
                    Some(option).filter(|option| option.get_num_args().is_some_and(|count| count.max_values() > 1));
                Some(option)
            }
            (None, None) => {
                let of = position;
                // What comes behind the first of a list is in the list too, and may be a pattern.
                match position {
                    Some(arg) if is_named(arg, &INSIDE) => position = None,
                    Some(arg) if is_list(arg) => {}
                    _ => position = positions.next(),
                }
                of
            }
        };
        match of.filter(|arg| is_named(arg, &READ)).and_then(|_| matching(Path::new(word))) {
            Some(files) => expanded.extend(files.into_iter().map(PathBuf::into_os_string)),
            None => expanded.push(word.clone()),
        }
    }
    expanded
}

/// Whether a word is an option, and which: `Some(None)` for one that is not known.
fn option_of<'a>(word: &OsStr, command: &'a Command) -> Option<Option<&'a Arg>> {
    let text = word.to_str()?.strip_prefix("--").filter(|name| !name.is_empty())?;
    let name = text.split('=').next()?;
    Some(command.get_arguments().find(|arg| arg.get_long() == Some(name)))
}

fn takes(option: &Arg) -> bool {
    option.get_action().takes_values()
}

fn is_list(arg: &Arg) -> bool {
    matches!(arg.get_action(), ArgAction::Append)
}

fn is_named(arg: &Arg, words: &[&str]) -> bool {
    let names = arg.get_value_names().unwrap_or_default();
    names.iter().any(|name| name.split('|').any(|name| words.iter().any(|word| name.starts_with(word))))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::args::Arguments;
    use clap::CommandFactory as _;
    use rstest::rstest;

    #[rstest]
    #[case::volumes("check *.useal", "check 1.useal 2.useal")]
    #[case::sources_are_the_cores("pack *.useal --to *.useal", "pack *.useal --to *.useal")]
    #[case::patterns_stay("open *.useal *.useal", "open 1.useal 2.useal *.useal")]
    #[case::options_stay(
        "open a --into *.useal --password-from=*.useal",
        "open a --into *.useal --password-from=*.useal"
    )]
    #[case::options_before("check --json *.useal", "check --json 1.useal 2.useal")]
    #[case::option_of_several("revise *.useal --add a *.useal", "revise 1.useal 2.useal --add a *.useal")]
    #[case::option_that_is_read("pack a --since *.useal", "pack a --since 1.useal 2.useal")]
    #[case::behind_two_dashes("check -- *.useal", "check -- 1.useal 2.useal")]
    #[case::nothing_is_called_so("check *.zip", "check *.zip")]
    #[case::no_command("*.useal", "*.useal")]
    fn files_take_the_place_of_wildcards(#[case] typed: &str, #[case] expected: &str) {
        let words = |line: &str| ["under-seal"].into_iter().chain(line.split(' ')).map(Into::into).collect::<Vec<_>>();
        let matching = |word: &Path| (word == Path::new("*.useal")).then(|| vec!["1.useal".into(), "2.useal".into()]);
        assert_eq!(expanded(words(typed), &Arguments::command(), &matching), words(expected));
    }
}
