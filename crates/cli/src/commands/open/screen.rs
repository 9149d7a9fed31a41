//! Screening: the user's own scanner looks at the files in their closed folder before any of them lands.

use crate::system::programs;
use std::io;
use std::path::Path;
use std::process::Stdio;

/// Runs a command line with the folder's path behind it. Why not, where it does not exit with 0.
pub(super) fn look(command: &str, folder: &Path) -> Result<(), String> {
    let mut shell = programs::shell_with(command, folder);
    // Results of this program are alone on standard output.
    let status = shell
        .stdin(Stdio::null())
        .stdout(io::stderr())
        .status()
        .map_err(|error| format!("it cannot be run ({error})"))?;
    match (status.success(), status.code()) {
        (true, _) => Ok(()),
        (false, Some(code)) => Err(format!("it ended with exit code {code}")),
        (false, None) => Err("it was ended by a signal".to_owned()),
    }
}
