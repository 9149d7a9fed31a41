//! `page`: the page that opens sealed volumes in a browser, as a file; and what it is known by.

use super::show;
use crate::args::{PageArguments, WorkArguments};
use crate::failure::{DONE, Failure};
use crate::session;
use crate::ui::paint::{Tone, paint};
use crate::ui::progress::ProgressLine;
use crate::ui::table;
use crate::ui::text::{self, size};
use serde::Serialize;
use under_seal_core::ground::codes::hexadecimal;
use under_seal_core::tasks::page::{PAGE, page_sum, write_page};

/// Runs the command; the exit code.
pub fn run(arguments: &PageArguments) -> Result<u8, Failure> {
    let progress = ProgressLine::for_reading(None, &WorkArguments::default());
    let context = session::context(&progress, None);
    let to = arguments.to.as_deref().map(|path| write_page(path, &context)).transpose();
    let to = to.map_err(under_seal_core::Error::from)?;
    let report = Report {
        command: "page",
        exit_code: DONE,
        to: to.as_deref().map(text::path),
        bytes: PAGE.len() as u64,
        sha256: hexadecimal(&page_sum()),
    };
    show(&report, &arguments.output, || lines(&report))?;
    Ok(DONE)
}

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    to: Option<String>,
    bytes: u64,
    sha256: String,
}

fn lines(report: &Report) -> Vec<String> {
    let (head, next) = match report.to {
        Some(_) => (
            "The page that opens sealed volumes in a browser was written.",
            "Next: give it to the recipient with the volumes. A recipient who doubts it can ask you for the SHA-256, for example by phone.",
        ),
        None => (
            "The page opens sealed volumes in a browser. This is what it is known by.",
            "Next: write it with --to open-me.html, or let \"handover\" put it beside the volumes.",
        ),
    };
    let mut lines = vec![paint(Tone::Good, head.to_owned()), String::new()];
    lines.extend(table::summary(&[
        ("file", report.to.iter().cloned().collect()),
        ("size", vec![size(report.bytes)]),
        ("SHA-256", vec![report.sha256.clone()]),
        ("reads", vec!["sealed volumes of version 1, of every squeeze".to_owned()]),
    ]));
    lines.extend([String::new(), next.to_owned()]);
    lines
}
