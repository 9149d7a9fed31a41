//! Colour, with a meaning each: good, worth a look, bad, and headings. `anstream` leaves it out where
//! the output is no terminal or `NO_COLOR` is set.

use anstyle::{AnsiColor, Style};
use std::fmt::Display;

/// What a piece of text says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Tone {
    /// Plain text.
    Plain,
    /// All is well.
    Good,
    /// Something to look at.
    Look,
    /// Something is wrong.
    Bad,
    /// What is meant to be seen first.
    Strong,
    /// What may be passed over.
    Faint,
}

impl Tone {
    const fn style(self) -> Style {
        match self {
            Self::Plain => Style::new(),
            Self::Good => AnsiColor::Green.on_default(),
            Self::Look => AnsiColor::Yellow.on_default(),
            Self::Bad => AnsiColor::Red.on_default().bold(),
            Self::Strong => Style::new().bold(),
            Self::Faint => Style::new().dimmed(),
        }
    }
}

/// The text in its tone.
pub fn paint(tone: Tone, text: impl Display) -> String {
    let style = tone.style();
    format!("{style}{text}{style:#}")
}

/// What a result comes to, out of its lines: the first sentence that says what is wrong, or else what to look at, or else its heading.
pub fn gist(lines: &[String]) -> &str {
    // What is indented belongs to a table or a list, over which a line with a colon stands.
    let said_as = |tone: Tone| {
        let (begins, ends) = (tone.style().render().to_string(), tone.style().render_reset().to_string());
        lines.iter().find(move |line| {
            let text = line.strip_prefix(&begins).map(|text| text.trim_end_matches(&ends));
            text.is_some_and(|text| !text.starts_with(' ') && !text.ends_with(':'))
        })
    };
    let heading = || lines.iter().find(|line| !line.is_empty());
    said_as(Tone::Bad).or_else(|| said_as(Tone::Look)).or_else(heading).map_or("", String::as_str)
}
