//! What `pack` suggests in the end: what to send, how the recipient opens it, with this program and without.

use super::report::{Report, what_it_is};
use crate::ui::suggestion;
use under_seal_core::formats::registry::Writing;
use under_seal_core::formats::sealed::volume::in_page::Form;
use under_seal_core::tasks::pack::Packed;

pub(super) fn next_steps(packed: &Packed, report: &Report) -> Vec<String> {
    let Some(first) = packed.volumes.first() else { return Vec::new() };
    if report.is_incomplete() {
        return vec![
            "Next: make readable what could not be read, and pack again with --replace. The archive does not hold everything."
                .to_owned(),
        ];
    }
    let one = what_it_is(packed, report);
    let what = match (packed.volumes.len(), packed.parcels) {
        (1, _) if report.spare_volumes.is_empty() => format!("send the {one}"),
        (1, _) => format!("send the {one} and its spare ones"),
        (all, false) if report.spare_volumes.is_empty() => format!("send all {all} {one}s"),
        (all, false) => format!("send all {all} {one}s and the spare ones"),
        (all, true) => format!("send the {all} parcels, together or one by one"),
    };
    let tell = match (report.secret, report.key_file) {
        (true, true) => {
            ", and share the password and the key file in two other ways: one without the other opens nothing"
        }
        (true, false) => ", and share the password another way, for example by phone",
        (false, _) => "",
    };
    let opens = match report.format.writing {
        Some(Writing::Page) => "The recipient opens it in any browser, with nothing installed, or runs",
        _ if packed.parcels => "The recipient opens each by itself",
        _ => "The recipient runs",
    };
    // Of parts, the last is the one that programs are shown.
    let shown = packed.volumes.last().filter(|_| !report.format.abilities.volumes).unwrap_or(first);
    let name = shown.path.file_name().map(std::path::Path::new).unwrap_or(&shown.path);
    let key_file = report.key_file.then_some(std::path::Path::new("KEY-FILE"));
    if let Some(base) = report.builds_upon() {
        let opens =
            format!("The recipient opens it into the folder in which {base} was opened, here called opened, and runs");
        return vec![
            format!("Next: {what}{tell}. {opens}"),
            suggestion::open_changes([name], key_file),
            format!(
                "\"handover\" writes a note that says so, and puts a page beside it that needs nothing installed. \"rehearse --after\" with {base} proves it first."
            ),
        ];
    }
    let mut lines = vec![format!("Next: {what}{tell}. {opens}"), suggestion::open([name], key_file)];
    lines.extend(match report.format.writing {
        Some(Writing::Tar(_)) => Some("or opens it with any program for tar.".to_owned()),
        Some(Writing::Zip) => Some(programs_for_zip(report.secret, packed.volumes.len() > 1, report.hides_names)),
        Some(Writing::Sealed) => {
            let them = if packed.volumes.len() == 1 { "it" } else { "them" };
            Some(format!(
                "or opens {them} in a browser, with nothing installed: \"handover\" puts a page for that beside {them}."
            ))
        }
        Some(Writing::Page) if first.in_page.is_some_and(|inside| inside.form == Form::Raw) => {
            Some("It is large, so the browser asks for the same file once more: choose it in the page.".to_owned())
        }
        Some(Writing::Page) | None => None,
    });
    lines
}

/// With what else a ZIP archive can be opened.
fn programs_for_zip(secret: bool, in_parts: bool, hides_names: bool) -> String {
    let knows: Vec<_> =
        [secret.then_some("AES-256"), in_parts.then_some("archives in parts")].into_iter().flatten().collect();
    let program = match knows.as_slice() {
        [] => "any program for ZIP".to_owned(),
        knows => format!("a program for ZIP that knows {}", knows.join(" and ")),
    };
    let place = match (in_parts, hides_names) {
        (false, _) => "",
        (true, false) => "; all under their own names, in one folder",
        (true, true) => " (all under their own names, in one folder)",
    };
    let then = if hides_names { ", and then contents.zip, which comes out of it" } else { "" };
    format!("or opens it with {program}{place}{then}.")
}
