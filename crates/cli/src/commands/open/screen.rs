//! Screening: the user's own scanner looks at the files in their closed folder before any of them lands.

use crate::credentials::PASSWORD_VARIABLE;
use std::io;
use std::os::fd::AsFd as _;
use std::path::Path;
use std::process::{Command, Stdio};

/// Runs a command line with the folder's path behind it. Why not, where it does not exit with 0.
pub(super) fn look(command: &str, folder: &Path) -> Result<(), String> {
    let mut shell = Command::new("/bin/sh");
    // The path comes as an argument of its own, so that nothing in it is read as a command.
    shell.args(["-c", &format!("{command} \"$1\""), "sh"]).arg(folder);
    shell.env_remove(PASSWORD_VARIABLE).stdin(Stdio::null());
    // Results of this program are alone on standard output.
    let error = io::stderr().as_fd().try_clone_to_owned().map_err(|error| error.to_string())?;
    let status = shell.stdout(error).status().map_err(|error| format!("it cannot be run ({error})"))?;
    match (status.success(), status.code()) {
        (true, _) => Ok(()),
        (false, Some(code)) => Err(format!("it ended with exit code {code}")),
        (false, None) => Err("it was ended by a signal".to_owned()),
    }
}
