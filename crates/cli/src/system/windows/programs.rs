//! Other programs: what the command prompt takes, and what opens a file as if it had been clicked on.

use std::ffi::OsStr;
use std::os::windows::process::CommandExt as _;
use std::path::Path;
use std::process::Command;

/// What shows long texts where `PAGER` says nothing.
pub const USUAL_PAGER: &str = "more.com";

/// What opens a file as if it had been clicked on.
pub const OPENER: &str = "rundll32.exe";

/// The command prompt and PowerShell each have their own sign for a line that goes on: commands stand in one.
pub const LINE_GOES_ON: Option<&str> = None;

/// A command line, as the user would type it.
pub fn shell(line: &str) -> Command {
    let mut shell = Command::new("cmd.exe");
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
    let mut opener = Command::new(OPENER);
    opener.arg("url.dll,FileProtocolHandler").arg(path);
    opener
}

/// Nothing is different for administrators.
pub fn is_root() -> bool {
    false
}

/// An argument as the command prompt and PowerShell take it: as it is, or in double quotes, which no name has in it.
pub fn as_typed(argument: &OsStr) -> String {
    let text = argument.to_string_lossy();
    let plain = |c: char| c.is_alphanumeric() || matches!(c, '/' | '\\' | '.' | '_' | '-' | '+' | ':');
    if !text.is_empty() && text.chars().all(plain) {
        text.into_owned()
    } else {
        format!("\"{}\"", text.replace('"', "\\\""))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(r"out\wrenfall-light-01of07.useal", r"out\wrenfall-light-01of07.useal")]
    #[case("Überblick – Laterne.txt", "\"Überblick – Laterne.txt\"")]
    #[case("keeper's", "\"keeper's\"")]
    #[case("", "\"\"")]
    fn what_is_suggested_can_be_typed(#[case] name: &str, #[case] expected: &str) {
        assert_eq!(as_typed(name.as_ref()), expected);
    }
}
