//! Other programs: what the user's shell takes, and what opens a file as if it had been clicked on.

use crate::credentials::PASSWORD_VARIABLE;
use std::env;
use std::ffi::OsStr;
use std::os::windows::process::CommandExt as _;
use std::path::Path;
use std::process::Command;

/// Another program, which gets no password of this one's.
pub fn command(program: impl AsRef<OsStr>) -> Command {
    let mut command = Command::new(program);
    command.env_remove(PASSWORD_VARIABLE);
    command
}

/// Nothing shows long texts where `PAGER` says nothing: what comes with the system takes them for another character set.
pub const USUAL_PAGER: Option<&str> = None;

/// What opens a file as if it had been clicked on.
pub const OPENER: &str = "rundll32.exe";

/// The command prompt and PowerShell each have their own sign for a line that goes on: commands stand in one.
pub const LINE_GOES_ON: Option<&str> = None;

/// A command line, as the user would type it.
pub fn shell(line: &str) -> Command {
    let mut shell = command("cmd.exe");
    // Quotes around all of it are taken off, and nothing else is changed (`cmd /?`).
    shell.raw_arg(format!("/d /s /c \"{line}\""));
    shell
}

/// A command line with a path behind it. In quotes nothing of a path is read as a command but variables between percent signs.
pub fn shell_with(line: &str, path: &Path) -> Command {
    shell(&format!("{line} \"{}\"", path.display()))
}

/// What opens a file, without a shell that would read its name.
pub fn opener(path: &Path) -> Command {
    let mut opener = command(OPENER);
    opener.arg("url.dll,FileProtocolHandler").arg(path);
    opener
}

/// Nothing is different for administrators.
pub fn is_root() -> bool {
    false
}

/// The shells in which the program may run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Shell {
    CommandPrompt,
    PowerShell,
    /// One of Unix.
    Unix,
}

impl Shell {
    /// The one that this runs in, by what each leaves in the environment: shells of Unix the name of their system, and the command
    /// prompt how it prompts, which PowerShell keeps to itself.
    fn here() -> Self {
        let is_set = |name: &str| env::var_os(name).is_some();
        match () {
            () if is_set("MSYSTEM") || is_set("SHELL") => Self::Unix,
            () if is_set("PROMPT") => Self::CommandPrompt,
            () => Self::PowerShell,
        }
    }
}

/// An argument as the shell takes it that this runs in.
pub fn as_typed(argument: &OsStr) -> String {
    as_typed_in(Shell::here(), &argument.to_string_lossy())
}

/// As it is, or in quotes. The command prompt knows double ones, in which it replaces only variables; the others take what stands in
/// single ones as it is.
fn as_typed_in(shell: Shell, text: &str) -> String {
    // A backslash alone is something else in a shell of Unix.
    let backslash = if shell == Shell::Unix { '/' } else { '\\' };
    let plain = |c: char| c.is_alphanumeric() || matches!(c, '/' | '.' | '_' | '-' | '+' | ':') || c == backslash;
    match shell {
        _ if !text.is_empty() && text.chars().all(plain) => text.to_owned(),
        Shell::CommandPrompt => format!("\"{}\"", text.replace('"', "\\\"")),
        Shell::PowerShell => format!("'{}'", text.replace('\'', "''")),
        Shell::Unix => format!("'{}'", text.replace('\'', "'\\''")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(r"out\wrenfall-light-01of07.useal", [r"out\wrenfall-light-01of07.useal", r"out\wrenfall-light-01of07.useal", r"'out\wrenfall-light-01of07.useal'"])]
    #[case("Überblick – Laterne.txt", ["\"Überblick – Laterne.txt\"", "'Überblick – Laterne.txt'", "'Überblick – Laterne.txt'"])]
    #[case("keeper's", ["\"keeper's\"", "'keeper''s'", "'keeper'\\''s'"])]
    #[case("$cost", ["\"$cost\"", "'$cost'", "'$cost'"])]
    #[case("", ["\"\"", "''", "''"])]
    fn what_is_suggested_can_be_typed(#[case] name: &str, #[case] expected: [&str; 3]) {
        let shells = [Shell::CommandPrompt, Shell::PowerShell, Shell::Unix];
        assert_eq!(shells.map(|shell| as_typed_in(shell, name)), expected);
    }
}
