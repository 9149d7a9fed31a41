//! The commands that answers stand for: shown, run as if they had been typed, and kept as a script.

use super::say;
use crate::commands;
use crate::failure::Failure;
use crate::mistyped::{self, Typed};
use crate::ui::paint::{Tone, paint};
use crate::ui::suggestion;
use std::ffi::{OsStr, OsString};

/// A command of this program, by its words.
#[derive(Debug, Clone, Default)]
pub struct Line(Vec<OsString>);

impl Line {
    /// A command's name and what else is fixed.
    pub fn of(words: &[&str]) -> Self {
        Self(words.iter().map(OsString::from).collect())
    }

    /// The same with more words behind.
    pub fn with<W: AsRef<OsStr>>(mut self, words: impl IntoIterator<Item = W>) -> Self {
        self.0.extend(words.into_iter().map(|word| word.as_ref().to_owned()));
        self
    }

    /// As it can be typed.
    pub fn typed(&self) -> String {
        suggestion::of_words(self.0.iter().map(OsString::as_os_str))
    }

    /// Shows what the answers so far stand for.
    pub fn show(&self) {
        say(&paint(Tone::Faint, self.typed()));
    }

    /// Shows it and runs it; the exit code.
    fn run(&self) -> Result<u8, Failure> {
        say(&format!("\n{}", paint(Tone::Strong, self.typed())));
        match mistyped::read(std::iter::once(OsString::from("under-seal")).chain(self.0.iter().cloned())) {
            Typed::Arguments(arguments) => commands::run(&arguments.command),
            Typed::Mistaken { mistyped, .. } => Err(Failure::Mistyped(mistyped)),
            Typed::Nothing | Typed::Text(_) => Ok(0),
        }
    }
}

/// What was run, in its order.
#[derive(Debug, Default)]
pub struct Script(Vec<Line>);

impl Script {
    /// Runs a command and keeps it; the exit code.
    pub fn run(&mut self, line: Line) -> Result<u8, Failure> {
        let code = line.run()?;
        self.0.push(line);
        Ok(code)
    }

    /// Shows all of it as a script.
    pub fn show(&self) -> Result<(), Failure> {
        let lines = self.0.iter().map(|line| line.typed().trim_start().to_owned());
        let script: Vec<String> = ["#!/bin/sh".to_owned(), "set -e".to_owned()].into_iter().chain(lines).collect();
        say(&format!("\n{}", paint(Tone::Strong, "The same as a script:")));
        commands::print_lines(&script)
    }
}
