//! Other programs: what a shell takes, and what opens a file as if it had been clicked on.

use crate::credentials::PASSWORD_VARIABLE;
use std::ffi::OsStr;
use std::path::Path;
use std::process::Command;

/// What shows long texts where `PAGER` says nothing (POSIX.1-2024 XCU, `man`: any that the system has).
pub const USUAL_PAGER: Option<&str> = Some("less");

/// What opens a file as if it had been clicked on: freedesktop.org's, or that of macOS.
pub const OPENER: &str = if cfg!(target_os = "macos") { "open" } else { "xdg-open" };

/// What stands at a line's end where a command goes on in the next.
pub const LINE_GOES_ON: Option<&str> = Some(" \\\n");

/// Another program, which gets no password of this one's.
pub fn command(program: impl AsRef<OsStr>) -> Command {
    let mut command = Command::new(program);
    command.env_remove(PASSWORD_VARIABLE);
    command
}

/// A command line, as the user would type it.
pub fn shell(line: &str) -> Command {
    let mut shell = command("sh");
    shell.args(["-c", line]);
    shell
}

/// A command line with a path behind it.
pub fn shell_with(line: &str, path: &Path) -> Command {
    let mut shell = command("/bin/sh");
    // The path comes as an argument of its own, so that nothing in it is read as a command.
    shell.args(["-c", &format!("{line} \"$1\""), "sh"]).arg(path);
    shell
}

/// What opens a file.
pub fn opener(path: &Path) -> Command {
    let mut opener = command(OPENER);
    opener.arg(path);
    opener
}

/// Whether the user may do everything.
pub fn is_root() -> bool {
    rustix::process::geteuid().is_root()
}

/// An argument as a shell takes it (POSIX.1-2024 XCU section 2.2): as it is, in single quotes, or, with control characters or
/// what is not UTF-8 in it, with escapes.
pub fn as_typed(argument: &OsStr) -> String {
    let bytes = argument.as_encoded_bytes();
    let text = match std::str::from_utf8(bytes) {
        Ok(text) if !text.chars().any(char::is_control) => text,
        _ => return format!("$'{}'", escaped(bytes)),
    };
    let plain = |c: char| c.is_alphanumeric() || matches!(c, '/' | '.' | '_' | '-' | '+' | ',' | ':' | '@' | '%');
    if !text.is_empty() && text.chars().all(plain) {
        text.to_owned()
    } else {
        format!("'{}'", text.replace('\'', "'\\''"))
    }
}

/// What stands between dollar and quotes (POSIX.1-2024 XCU section 2.2.4): three octal digits end by themselves.
fn escaped(bytes: &[u8]) -> String {
    let mut text = String::new();
    for chunk in bytes.utf8_chunks() {
        for letter in chunk.valid().chars() {
            match letter {
                '\'' | '\\' => text.extend(['\\', letter]),
                letter if letter.is_control() => octal(letter.encode_utf8(&mut [0; 4]).as_bytes(), &mut text),
                letter => text.push(letter),
            }
        }
        octal(chunk.invalid(), &mut text);
    }
    text
}

fn octal(bytes: &[u8], to: &mut String) {
    bytes.iter().for_each(|byte| to.push_str(&format!("\\{byte:03o}")));
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use under_seal_core::disk::names::name_of;

    #[rstest]
    #[case(b"out/wrenfall-light-01of07.useal", "out/wrenfall-light-01of07.useal")]
    #[case("Überblick – Laterne.txt".as_bytes(), "'Überblick – Laterne.txt'")]
    #[case(b"keeper's", "'keeper'\\''s'")]
    #[case(b"", "''")]
    #[case(b"a\nb'", "$'a\\012b\\''")]
    #[case(b"caf\xe9", "$'caf\\351'")]
    #[case(b"$(rm)", "'$(rm)'")]
    fn what_is_suggested_can_be_typed(#[case] name: &[u8], #[case] expected: &str) {
        assert_eq!(as_typed(&name_of(name)), expected);
    }
}
