//! Long texts on a terminal: through the pager of `PAGER`, or the usual one, where they do not fit on the screen.

use crate::system::{programs, unless_reader_gone};
use std::io::{self, IsTerminal as _, Write as _};
use std::process::Stdio;

/// Shows a text; without a pager, or elsewhere than on a terminal, it is printed.
///
/// # Errors
/// What the system said. A reader who has seen enough is no failure.
pub fn show(text: &str) -> io::Result<()> {
    let rows = terminal_size::terminal_size_of(io::stdout()).map_or(0, |(_, rows)| usize::from(rows.0));
    let is_long = rows > 0 && text.lines().count() >= rows;
    if is_long && io::stdout().is_terminal() && through_pager(text)? {
        return Ok(());
    }
    let mut output = anstream::stdout().lock();
    unless_reader_gone(writeln!(output, "{}", text.trim_end()).and_then(|()| output.flush()))
}

/// Whether there was a pager to show it.
fn through_pager(text: &str) -> io::Result<bool> {
    let mut command = match std::env::var("PAGER") {
        Ok(line) if line.trim().is_empty() => return Ok(false),
        Ok(line) => programs::shell(&line),
        Err(_) => match programs::USUAL_PAGER {
            Some(pager) => programs::command(pager),
            None => return Ok(false),
        },
    };
    command.stdin(Stdio::piped());
    if std::env::var_os("LESS").is_none() {
        // Styles as they are, an end at the last line.
        command.env("LESS", "-RFX");
    }
    let mut child = match command.spawn() {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(false),
        child => child?,
    };
    if let Some(mut input) = child.stdin.take() {
        let styled = anstream::AutoStream::choice(&io::stdout()) != anstream::ColorChoice::Never;
        let text = if styled { text.to_owned() } else { anstream::adapter::strip_str(text).to_string() };
        unless_reader_gone(input.write_all(text.as_bytes()))?;
    }
    // 127: the shell found no such program (POSIX.1-2024 XCU section 2.8.2).
    Ok(child.wait()?.code() != Some(127))
}
