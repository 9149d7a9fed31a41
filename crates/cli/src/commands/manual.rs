//! `manual`: a page for the system's reader of manuals, for the program and for each command.

use super::show;
use crate::args::{ManualArguments, screens};
use crate::failure::{DONE, Failure};
use crate::system::privacy;
use crate::ui::text;
use serde::Serialize;
use std::fs;
use std::io::{self, Write as _};
use std::path::Path;
use under_seal_core::disk::{FileAction, FileError};

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    folder: String,
    #[serde(rename = "pages")]
    files: Vec<String>,
}

/// Runs the command; the exit code. Older pages of this program are replaced, and nothing else.
pub fn run(arguments: &ManualArguments) -> Result<u8, Failure> {
    let folder = &arguments.to;
    let failure = |action: FileAction, path: &Path| {
        let path = path.to_owned();
        move |error| Failure::File(FileError::on(action, &path)(error))
    };
    fs::create_dir_all(folder).map_err(failure(FileAction::Create, folder))?;
    let command = screens::command();
    let mut files = Vec::new();
    let mut write = |name: String, command: clap::Command| -> Result<(), Failure> {
        let path = folder.join(&name);
        let mut page = Vec::new();
        clap_mangen::Man::new(command).render(&mut page).map_err(failure(FileAction::Write, &path))?;
        if path.exists() && !is_own(&path) {
            return Err(failure(FileAction::Create, &path)(io::ErrorKind::AlreadyExists.into()));
        }
        place(folder, &path, &page).map_err(failure(FileAction::Write, &path))?;
        files.push(name);
        Ok(())
    };
    for one in command.get_subcommands() {
        write(format!("under-seal-{}.1", one.get_name()), one.clone())?;
    }
    write("under-seal.1".to_owned(), command)?;
    let at = std::path::absolute(folder).unwrap_or_else(|_| folder.clone());
    let report = Report { command: "manual", exit_code: DONE, folder: text::path(&at), files };
    show(&report, &arguments.output, || {
        let first = format!("The manual is in {}: {}.", report.folder, text::count(report.files.len() as u64, "page"));
        vec![first, "  man under-seal-pack".to_owned()]
    })?;
    Ok(DONE)
}

/// Whether a file is one of these pages: the title that every one begins with is in it.
fn is_own(path: &Path) -> bool {
    fs::read_to_string(path).is_ok_and(|text| text.contains(".TH under-seal"))
}

/// A page under its name in one step, readable for everybody.
fn place(folder: &Path, path: &Path, page: &[u8]) -> io::Result<()> {
    let mut file = privacy::readable_file(folder)?;
    file.write_all(page)?;
    file.persist(path)?;
    Ok(())
}
