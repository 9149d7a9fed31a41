//! The note for the recipient, as plain text and as a page, from a template; and labels for discs.

use crate::formats::sealed::volume::names::{EXTENSION, parcel_named};
use crate::ground::size::grouped;

/// The built-in template for sealed volumes. A blank line ends a paragraph; lines that begin with four spaces are commands.
pub const TEMPLATE: &str = include_str!("note.txt");

/// The same, where the page that opens them in a browser goes with them.
const TEMPLATE_WITH_PAGE: &str = include_str!("note-with-page.txt");

/// The same for an archive in a page, which opens itself.
const TEMPLATE_IN_PAGE: &str = include_str!("note-in-page.txt");

/// The built-in template for archives in open formats.
pub const OPEN_TEMPLATE: &str = include_str!("note-open.txt");

/// What a template may name.
pub const FIELDS: [&str; 14] = [
    "archive", "volumes", "set", "password", "list", "how", "page", "key", "all", "spares", "upon", "place", "then",
    "update",
];

/// What the fields of a template stand for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NoteFields {
    /// `{archive}`: what it is called.
    pub archive: String,
    /// `{set}`: the ids of its sets, in hexadecimal digits: one, or several that go together. Only sealed volumes have one. `{all}` is the
    /// option that opens several; else it is nothing.
    pub sets: Vec<String>,
    /// `{list}`: each volume's name and bytes, a line each; `{volumes}`: how many there are, with the word.
    pub volumes: Vec<(String, u64)>,
    /// `{spares}`: a sentence that says how many of the files may be lost, behind a space; nothing where none may.
    pub spares: Option<Spares>,
    /// So many messages may be lost, whichever they are, since spare volumes make good what was in them; `{spares}` says it too.
    pub messages_to_spare: usize,
    /// What it builds upon, where it holds only changes, as far as that is known. `{upon}` is a sentence that says it, behind a space;
    /// `{place}` where the files are to be saved, `{then}` what is to be done with what the page has saved, and `{update}` the
    /// options that a command needs. Else they are nothing, or one folder.
    pub upon: Option<Upon>,
    /// `{password}`: a sentence that says where the password comes from, or that none is needed.
    pub secret: bool,
    /// The name of the key file without which the password does not open it. `{password}` names it then, and `{key}` is the option
    /// that a command needs; else `{key}` is nothing.
    pub key_file: Option<String>,
    /// `{how}`: a sentence that says how to open it.
    pub how: String,
    /// `{page}`: the SHA-256 of the page that goes with it or that it is in, in hexadecimal digits; "none" where there is none.
    pub page: Option<String>,
    /// Whether it is in that page.
    pub in_page: bool,
}

/// The archive that one of changes builds upon.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Upon {
    /// What it is called.
    pub archive: String,
    /// When it was made, for people.
    pub made: String,
}

/// Spare volumes among those that are handed over.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Spares {
    /// How many there are.
    pub count: u32,
    /// So many volumes may be lost or damaged, whichever they are.
    pub may_be_lost: u32,
}

/// A template that cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NoteError {
    /// A field that there is none of.
    #[error("there is no field {{{0}}}")]
    UnknownField(String),
    /// A brace that nothing closes.
    #[error("a brace without its other one")]
    OpenBrace,
}

impl NoteFields {
    /// The built-in template for what these fields are of.
    pub const fn built_in(&self) -> &'static str {
        match (self.sets.is_empty(), &self.page) {
            (true, _) => OPEN_TEMPLATE,
            (false, _) if self.in_page => TEMPLATE_IN_PAGE,
            (false, Some(_)) => TEMPLATE_WITH_PAGE,
            (false, None) => TEMPLATE,
        }
    }

    fn value(&self, field: &str) -> Option<String> {
        Some(match field {
            "archive" => self.archive.clone(),
            "set" if self.sets.is_empty() => "none".to_owned(),
            "set" => self.sets.join(", "),
            "all" => if self.sets.len() > 1 || self.upon.is_some() { " --all" } else { "" }.to_owned(),
            "upon" => self
                .upon
                .as_ref()
                .map(|Upon { archive, made }| format!(" It holds only what has changed since {archive} of {made}."))
                .unwrap_or_default(),
            "place" => self.upon.as_ref().map_or_else(
                || "into one folder".to_owned(),
                |Upon { archive, .. }| format!("into the folder in which the files of {archive} are"),
            ),
            "then" => self
                .upon
                .as_ref()
                .map(|Upon { archive, .. }| {
                    format!(
                        " Put what is saved over the files of {archive}, and delete what the page says was removed."
                    )
                })
                .unwrap_or_default(),
            "update" => if self.upon.is_some() { " --update --remove-gone" } else { "" }.to_owned(),
            "how" => self.how.clone(),
            "page" => self.page.clone().unwrap_or_else(|| "none".to_owned()),
            "volumes" => {
                let are_parcels = self.sets.len() > 1
                    && self
                        .volumes
                        .iter()
                        .all(|(name, _)| parcel_named(name.trim_end_matches(EXTENSION).as_bytes()).is_some());
                let what = match self.volumes.len() {
                    _ if are_parcels => "parcel",
                    _ if self.in_page => "file",
                    _ if !self.sets.is_empty() => "volume",
                    1 => "file",
                    _ => "part",
                };
                let counted = |count: usize, what: &str| format!("{count} {what}{}", if count == 1 { "" } else { "s" });
                match self.spares.map_or(0, |spares| spares.count as usize) {
                    0 => counted(self.volumes.len(), what),
                    spares => {
                        let others = counted(self.volumes.len().saturating_sub(spares), what);
                        format!("{others} and {}", counted(spares, "spare volume"))
                    }
                }
            }
            "spares" => self.spares_told(),
            "password" => self.password(),
            "key" => self.key_file.as_ref().map(|name| format!(" --key-file {}", as_typed(name))).unwrap_or_default(),
            "list" => self.lines().join("\n"),
            _ => return None,
        })
    }

    fn spares_told(&self) -> String {
        let messages = match self.messages_to_spare {
            0 => String::new(),
            1 => " You can do without any one of the messages.".to_owned(),
            any => format!(" You can do without any {any} of the messages."),
        };
        let volumes = match self.spares.map_or(0, |spares| spares.may_be_lost) {
            0 => String::new(),
            1 => " If one file is missing or damaged, whichever it is, you can open it all the same.".to_owned(),
            any => {
                format!(
                    " If up to {any} files are missing or damaged, whichever they are, you can open it all the same."
                )
            }
        };
        format!("{volumes}{messages}")
    }

    fn password(&self) -> String {
        match &self.key_file {
            _ if !self.secret => "No password is needed: whoever has these files can open them.".to_owned(),
            None => "The password comes to you another way. It is in none of these files and messages.".to_owned(),
            Some(name) => format!(
                "Two things come to you another way, and are in none of these files and messages: the password, and the key file \
                 {name}. The password alone opens nothing. Save the key file into the same folder{}.",
                if self.page.is_some() { ", and choose it in the page too" } else { "" }
            ),
        }
    }

    fn lines(&self) -> Vec<String> {
        let width = self.volumes.iter().map(|(name, _)| name.chars().count()).max().unwrap_or(0);
        self.volumes.iter().map(|(name, bytes)| format!("    {name:width$}  {} bytes", grouped(*bytes))).collect()
    }
}

/// A file's name as shells take it; what no two of them take alike stands for itself.
fn as_typed(name: &str) -> String {
    let is_plain = |letter: char| letter.is_alphanumeric() || matches!(letter, '.' | '_' | '-');
    let is_quotable =
        |letter: char| is_plain(letter) || matches!(letter, ' ' | '\'' | '(' | ')' | ',' | '+' | '&' | '@' | '=');
    match name {
        plain if plain.chars().all(is_plain) && !plain.starts_with('-') => plain.to_owned(),
        name if name.chars().all(is_quotable) && !name.starts_with('-') => format!("\"{name}\""),
        _ => "KEY-FILE".to_owned(),
    }
}

/// The note as plain text.
pub fn text(template: &str, fields: &NoteFields) -> Result<String, NoteError> {
    let mut text = filled(template, |field| fields.value(field))?;
    if !text.ends_with('\n') {
        text.push('\n');
    }
    Ok(text)
}

/// The note as a page, complete in itself.
pub fn page(template: &str, fields: &NoteFields) -> Result<String, NoteError> {
    let mut body = String::new();
    for (place, paragraph) in template.trim().split("\n\n").enumerate() {
        let is_command = paragraph.lines().all(|line| line.starts_with("    "));
        let filled = filled(&escaped(paragraph), |field| match field {
            "list" => Some(table(fields)),
            field => fields.value(field).map(|value| escaped(&value)),
        })?;
        let tag = match (place, is_command, paragraph.trim()) {
            (_, _, "{list}") => "",
            (0, ..) => "h1",
            (_, true, _) => "pre",
            _ => "p",
        };
        let content = if is_command { filled.lines().map(str::trim).collect::<Vec<_>>().join("\n") } else { filled };
        match tag {
            "" => body.push_str(&content),
            tag => body.push_str(&format!("<{tag}>{content}</{tag}>\n")),
        }
    }
    let title = escaped(&fields.archive);
    Ok(PAGE.replace("{title}", &title).replace("{body}", &body))
}

/// A page that needs nothing from anywhere else.
const PAGE: &str = include_str!("page.html");

fn table(fields: &NoteFields) -> String {
    let row = |(name, bytes): &(String, u64)| {
        format!("<tr><td>{}</td><td>{} bytes</td></tr>\n", escaped(name), grouped(*bytes))
    };
    format!("<table>\n{}</table>\n", fields.volumes.iter().map(row).collect::<String>())
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

/// Fills in a template's fields; two braces are one that is meant.
fn filled(template: &str, value: impl Fn(&str) -> Option<String>) -> Result<String, NoteError> {
    let (mut filled, mut rest) = (String::new(), template);
    while let Some(brace) = rest.find('{') {
        filled.push_str(&rest[..brace]);
        rest = &rest[brace + 1..];
        if let Some(behind) = rest.strip_prefix('{') {
            filled.push('{');
            rest = behind;
            continue;
        }
        let end = rest.find('}').ok_or(NoteError::OpenBrace)?;
        let field = &rest[..end];
        filled.push_str(&value(field).ok_or_else(|| NoteError::UnknownField(field.to_owned()))?);
        rest = &rest[end + 1..];
    }
    filled.push_str(rest);
    Ok(filled)
}

/// What is written on the disc with this number.
pub(super) fn label(fields: &NoteFields, number: usize) -> String {
    let file = number.checked_sub(1).and_then(|place| fields.volumes.get(place));
    let name = file.map(|(name, _)| name.as_str()).unwrap_or_default();
    let only = if let [only] = fields.sets.as_slice() { only.get(..8) } else { None };
    let set = only.map(|set| format!("set {set}\n"));
    format!("{}\ndisc {number} of {}\n{name}\n{}", fields.archive, fields.volumes.len(), set.unwrap_or_default())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn fields() -> NoteFields {
        NoteFields {
            archive: "tower & <lamp>".to_owned(),
            sets: vec!["00ff".to_owned()],
            volumes: vec![("tower-1of2.useal".to_owned(), 10_240), ("tower-2of2.useal".to_owned(), 5)],
            spares: None,
            messages_to_spare: 0,
            upon: None,
            secret: true,
            key_file: None,
            how: "Open it.".to_owned(),
            page: None,
            in_page: false,
        }
    }

    #[rstest]
    #[case::every_field(
        "{archive}, {volumes}, {set}\n{list}",
        Ok("tower & <lamp>, 2 volumes, 00ff\n    tower-1of2.useal  10,240 bytes\n    tower-2of2.useal  5 bytes\n")
    )]
    #[case::how("{how}", Ok("Open it.\n"))]
    #[case::a_brace_that_is_meant("{{archive}", Ok("{archive}\n"))]
    #[case::unknown("{archive} by {sender}", Err(NoteError::UnknownField("sender".to_owned())))]
    #[case::open("{archive", Err(NoteError::OpenBrace))]
    fn a_template_is_filled_in(#[case] template: &str, #[case] expected: Result<&str, NoteError>) {
        assert_eq!(text(template, &fields()), expected.map(str::to_owned));
    }

    #[rstest]
    #[case::none(None, "in 2 volumes\n", "save the attachment.\n")]
    #[case::one(Some((1, 1)), "in 1 volume and 1 spare volume\n", "If one file is missing or damaged")]
    #[case::too_few_for_all_groups(Some((1, 0)), "in 1 volume and 1 spare volume\n", "save the attachment.\n")]
    fn how_much_may_be_lost_is_told(#[case] spares: Option<(u32, u32)>, #[case] head: &str, #[case] words: &str) {
        let spares = spares.map(|(count, may_be_lost)| Spares { count, may_be_lost });
        for template in [TEMPLATE, TEMPLATE_WITH_PAGE] {
            let note = text(template, &NoteFields { spares, ..fields() }).unwrap();
            assert!(note.contains(head) && note.contains(words), "{note}");
        }
    }

    #[rstest]
    #[case::alone(None, "The password comes to you another way", "--into opened\n")]
    #[case::with_a_key_file(Some("lamp.key"), "the key file lamp.key", "--into opened --key-file lamp.key\n")]
    #[case::quoted(Some("lamp key"), "the key file lamp key", "--key-file \"lamp key\"\n")]
    #[case::that_a_shell_would_run(Some("$(rm).key"), "the key file $(rm).key", "--key-file KEY-FILE\n")]
    fn what_opens_it_is_told(#[case] key_file: Option<&str>, #[case] words: &str, #[case] command: &str) {
        for template in [TEMPLATE, TEMPLATE_WITH_PAGE, TEMPLATE_IN_PAGE] {
            let note = text(template, &NoteFields { key_file: key_file.map(str::to_owned), ..fields() }).unwrap();
            assert!(note.contains(words) && note.contains(command), "{note}");
        }
    }

    #[test]
    fn a_page_shows_names_as_they_are_and_runs_nothing() {
        let page = page(TEMPLATE, &fields()).unwrap();
        assert!(page.contains("tower &amp; &lt;lamp&gt;") && !page.contains("<lamp>"), "{page}");
        assert!(page.contains("<td>tower-2of2.useal</td>") && !page.contains("<script") && !page.contains("http"));
    }
}
