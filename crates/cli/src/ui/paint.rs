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

/// The text in its tone.
pub fn paint(tone: Tone, text: impl Display) -> String {
    let style = match tone {
        Tone::Plain => Style::new(),
        Tone::Good => AnsiColor::Green.on_default(),
        Tone::Look => AnsiColor::Yellow.on_default(),
        Tone::Bad => AnsiColor::Red.on_default().bold(),
        Tone::Strong => Style::new().bold(),
        Tone::Faint => Style::new().dimmed(),
    };
    format!("{style}{text}{style:#}")
}
