//! `help`: a command's help, or a page of the documents on a topic, built in.

use super::show;
use crate::args::{Arguments, HelpArguments, screens};
use crate::failure::{DONE, Failure};
use crate::mistyped::{Meant, Mistyped, meant_by_command};
use crate::ui::pager;
use crate::ui::paint::{Tone, paint};
use clap::CommandFactory as _;
use serde::Serialize;
use std::io::IsTerminal as _;

/// The topics: their names, what they are about, and their pages.
pub const TOPICS: [(&str, &str, &str); 12] = [
    (
        "sizes",
        "what --fit takes, and what a mailbox, a disc or a form leaves",
        include_str!("../../../../docs/sizes.md"),
    ),
    ("passwords", "passwords, passphrases and key files", include_str!("../../../../docs/passwords.md")),
    ("patterns", "how files are chosen by name", include_str!("../../../../docs/patterns.md")),
    ("exit-codes", "what each exit code means", include_str!("../../../../docs/exit-codes.md")),
    (
        "configuration",
        "settings that stay, and recipients' profiles",
        include_str!("../../../../docs/configuration.md"),
    ),
    ("json", "what --json and --progress json print", include_str!("../../../../docs/json.md")),
    ("formats", "which format suits whom", include_str!("../../../../docs/formats.md")),
    ("systems", "what each system keeps, renames and refuses", include_str!("../../../../docs/systems.md")),
    ("sending", "everything that a sender does", include_str!("../../../../docs/sending.md")),
    ("receiving", "everything that a recipient does", include_str!("../../../../docs/receiving.md")),
    ("keeping", "changing what is packed, and making it anew", include_str!("../../../../docs/keeping.md")),
    ("proof", "how it is proven that the recipient can open it", include_str!("../../../../docs/proof.md")),
];

/// Other words for what is explained somewhere: the topic, and the part of its page, where that is not all of it.
const WORDS: [(&[&str], &str, Option<&str>); 5] = [
    (&["password", "passphrase", "passphrases", "key", "keys", "key-file", "key-files", "keyfile"], "passwords", None),
    (&["size", "fit"], "sizes", None),
    (
        &["spare", "spares", "parcel", "parcels", "volume", "volumes", "mail"],
        "sending",
        Some("## 3. Fitting the way it is sent"),
    ),
    (&["change", "changes", "since"], "keeping", Some("## Only what has changed")),
    (&["profile", "profiles", "settings"], "configuration", None),
];

/// The widest that a page is set, in columns.
const WIDEST: usize = 100;

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report<'a> {
    command: &'static str,
    exit_code: u8,
    about: Option<&'a str>,
    text: String,
    topics: Vec<&'static str>,
}

/// Runs the command; the exit code.
pub fn run(arguments: &HelpArguments) -> Result<u8, Failure> {
    let about = arguments.about.as_deref();
    let (text, drawn) = match about {
        None => {
            let overview = screens::command().render_long_help();
            (overview.to_string(), format!("{}\n{}", overview.ansi(), topic_lines()))
        }
        Some(name) => match page(name) {
            Some(page) => (page.to_owned(), set(page)),
            None => {
                let mut command = screens::command();
                let found = command.find_subcommand_mut(name).map(|found| found.render_long_help());
                let help = found.ok_or_else(|| unknown(name))?;
                (help.to_string(), help.ansi().to_string())
            }
        },
    };
    let topics = TOPICS.map(|(name, ..)| name).to_vec();
    let report = Report { command: "help", exit_code: DONE, about, text, topics };
    if arguments.output.json {
        show(&report, &arguments.output, Vec::new)?;
    } else {
        pager::show(&drawn).map_err(Failure::Output)?;
    }
    Ok(DONE)
}

/// The page on a topic, or the part of one, whatever word is used for it; none where that is a command's name.
fn page(name: &str) -> Option<&'static str> {
    let of = |topic: &str| TOPICS.iter().find(|(known, ..)| *known == topic).map(|(.., page)| *page);
    of(name).or_else(|| {
        let (_, topic, heading) = WORDS.iter().find(|(words, ..)| words.contains(&name))?;
        let page = of(topic)?;
        heading.map_or(Some(page), |heading| part(page, heading))
    })
}

/// The part of a page under this heading.
fn part(page: &'static str, heading: &str) -> Option<&'static str> {
    let from = page.find(heading)?;
    let rest = page.get(from..)?;
    let end = rest.get(heading.len()..).and_then(|behind| behind.find("\n## ")).map(|end| heading.len() + end);
    rest.get(..end.unwrap_or(rest.len()))
}

fn topic_lines() -> String {
    let lines = TOPICS.map(|(name, about, _)| format!("  {name:13}  {about}"));
    format!("{}\n{}", paint(Tone::Strong, "Topics, for `under-seal help TOPIC`"), lines.join("\n"))
}

/// A page of the documents, as it is set for a terminal; elsewhere as it is written.
fn set(page: &str) -> String {
    // Pictures are for those who read the documents elsewhere.
    let mut text: Vec<&str> = page.lines().filter(|line| !line.starts_with("![")).collect();
    text.dedup_by(|line, before| line.is_empty() && before.is_empty());
    let text = text.join("\n");
    if !std::io::stdout().is_terminal() {
        return text;
    }
    let text = in_paragraphs(&text);
    let width = textwrap::termwidth().min(WIDEST);
    let mut skin = termimad::MadSkin::no_style();
    skin.bold.add_attr(termimad::crossterm::style::Attribute::Bold);
    skin.inline_code.add_attr(termimad::crossterm::style::Attribute::Bold);
    for header in &mut skin.headers {
        header.add_attr(termimad::crossterm::style::Attribute::Bold);
        header.align = termimad::Alignment::Left;
    }
    termimad::FmtText::from(&skin, &without_targets(&text), Some(width)).to_string()
}

/// The lines of each paragraph as one: how a file is broken is nothing to a terminal. Tables, lists, headings and code stay.
fn in_paragraphs(text: &str) -> String {
    let is_block = |line: &str| line.is_empty() || line.starts_with(['|', '#', ' ']) || line.starts_with("```");
    let mut joined = String::with_capacity(text.len());
    let (mut in_code, mut is_open) = (false, false);
    for line in text.lines() {
        in_code ^= line.starts_with("```");
        let is_text = !in_code && !is_block(line);
        joined.push_str(match (joined.is_empty(), is_open && is_text && !line.starts_with('-')) {
            (true, _) => "",
            (false, true) => " ",
            (false, false) => "\n",
        });
        joined.push_str(line);
        // A list's item begins anew, and goes on in the next line as a paragraph does.
        is_open = is_text;
    }
    joined
}

/// Links as their words alone: nobody follows them on a terminal.
fn without_targets(text: &str) -> String {
    let mut rest = text;
    let mut shown = String::with_capacity(text.len());
    while let Some(at) = rest.find("](") {
        let (front, behind) = rest.split_at(at);
        let opening = front.rfind('[');
        let end = behind.find(')');
        match (opening, end) {
            (Some(opening), Some(end)) => {
                shown.push_str(&front[..opening]);
                shown.push_str(&front[opening + 1..]);
                rest = &behind[end + 1..];
            }
            _ => {
                shown.push_str(&rest[..at + 2]);
                rest = &rest[at + 2..];
            }
        }
    }
    shown + rest
}

fn unknown(name: &str) -> Failure {
    let meant = match meant_by_command(name, &Arguments::command()) {
        Meant::Here(_) => Meant::Unknown,
        meant => meant,
    };
    Failure::Mistyped(Mistyped::Topic { word: name.to_owned(), meant })
}
