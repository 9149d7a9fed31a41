//! What `--help` and `-h` show: the overview, with the commands grouped by what people want, and for each command its examples, its
//! options by question, and on `-h` no more than one screen. Drawn from the clap types, so that there is one place for every word.

use super::Arguments;
use anstyle::Style;
use clap::builder::StyledStr;
use clap::{Arg, Command, CommandFactory as _};

/// The commands by what people want, most used first.
pub const GROUPS: [(&str, &[&str]); 6] = [
    ("Send", &["pack", "plan", "handover", "resend", "page"]),
    ("Receive", &["open", "check", "list", "peek", "about"]),
    ("Prove", &["rehearse", "receipt", "confirm", "compare"]),
    ("Look after", &["revise", "recast", "relock", "mend"]),
    ("Plain files", &["portion", "reunite"]),
    ("Help", &["guide", "help", "fits", "demo", "completions", "manual"]),
];

/// What the overview ends with.
const EXAMPLES: &str =
    "pack wrenfall-light --to out/ --fit mail-10\nrehearse out --against wrenfall-light\nopen out --into inbox";

/// The question of what a command is given.
const GIVEN: &str = "What it is given";

/// The whole command line, as `clap` reads it.
pub fn command() -> Command {
    let mut command = Arguments::command();
    command.build();
    let names: Vec<String> = command.get_subcommands().map(|one| one.get_name().to_owned()).collect();
    for name in names {
        command = command.mut_subcommand(name, with_screens);
    }
    let overview = overview(&command);
    // As it is: what wraps other texts does not see where these lines end.
    command.override_help(overview)
}

fn overview(command: &Command) -> StyledStr {
    let about = command.get_about().map(ToString::to_string).unwrap_or_default();
    let usage = format!("{} under-seal COMMAND [OPTIONS]", strong("Usage:"));
    let mut lines = vec![about, usage];
    for (group, names) in GROUPS {
        lines.push(strong(group));
        for name in names {
            let about = command.find_subcommand(name).and_then(Command::get_about).map(ToString::to_string);
            lines.push(format!("  {name:11}  {}", about.unwrap_or_default()));
        }
    }
    lines.extend([strong("Examples"), examples(EXAMPLES)]);
    lines.join("\n").into()
}

/// A command with its examples in front, and with a short screen of its own for `-h`.
fn with_screens(mut command: Command) -> Command {
    let usage = command.render_usage().to_string().replacen("Usage:", &strong("Usage:"), 1);
    let examples = examples(&command.get_before_help().map(ToString::to_string).unwrap_or_default());
    let short = format!("{examples}\n\n{usage}\n\n{}", short_options(&command));
    let long = format!("{}\n{examples}\n\n{usage}", strong("Examples"));
    let command = command.mut_args(|arg| match arg.get_id().as_str() {
        "fit" | "limit" => arg.hide_short_help(true).hide_possible_values(true),
        _ => arg.hide_short_help(true),
    });
    command
        .before_help(short)
        .before_long_help(long)
        .help_template("{about-with-newline}\n{before-help}{all-args}{after-help}")
}

/// The options that `-h` shows, by question, one line each; and where the others are.
fn short_options(command: &Command) -> String {
    let shown: Vec<&Arg> =
        command.get_arguments().filter(|arg| !arg.is_hide_short_help_set() && arg.get_id() != "help").collect();
    let rows: Vec<(&str, String, String)> =
        shown.iter().map(|arg| (question_of(arg), written(arg), said_of(arg))).collect();
    let width = rows.iter().map(|(_, written, _)| written.len()).max().unwrap_or(0);
    let mut questions: Vec<&str> = Vec::new();
    rows.iter().for_each(|(question, ..)| {
        if !questions.contains(question) {
            questions.push(question)
        }
    });
    let mut lines = Vec::new();
    for question in questions {
        lines.push(strong(question));
        let of_it = rows.iter().filter(|(other, ..)| *other == question);
        lines.extend(of_it.map(|(_, written, said)| format!("  {written:width$}  {said}")));
    }
    lines.push(format!("All options: under-seal {} --help", command.get_name()));
    lines.join("\n")
}

fn question_of(arg: &Arg) -> &str {
    arg.get_help_heading().unwrap_or(if arg.is_positional() { GIVEN } else { "Options" })
}

/// An option as it is typed, with what it takes.
fn written(arg: &Arg) -> String {
    let takes = arg.get_action().takes_values().then(|| arg.get_value_names()).flatten();
    let takes = takes.map(|names| names.iter().map(|name| name.to_string()).collect::<Vec<_>>().join(" "));
    match (arg.get_long(), takes) {
        (Some(long), Some(takes)) => format!("--{long} {takes}"),
        (Some(long), None) => format!("--{long}"),
        (None, takes) => takes.unwrap_or_default(),
    }
}

/// What an option is for, and which words it takes where there are few.
fn said_of(arg: &Arg) -> String {
    let said = arg.get_help().map(ToString::to_string).unwrap_or_default();
    // Where the help names them itself, or there are no more than examples.
    let free = matches!(arg.get_id().as_str(), "fit" | "limit" | "format" | "through");
    let words: Vec<String> =
        arg.get_possible_values().iter().filter(|_| !free).map(|word| word.get_name().to_owned()).collect();
    if words.is_empty() || !arg.get_action().takes_values() { said } else { format!("{said}: {}", words.join(", ")) }
}

fn examples(lines: &str) -> String {
    lines.lines().map(|line| format!("  under-seal {line}")).collect::<Vec<_>>().join("\n")
}

fn strong(text: &str) -> String {
    let style = Style::new().bold();
    format!("{style}{text}{style:#}")
}
