//! What the sender should look at once an archive is packed.

use super::report::{Filled, Report};
use crate::commands::sources::{LONE, Lone, Passed, UNPORTABLE, Unportable};
use crate::ui::escaped_name::EscapedName;
use crate::ui::paint::Tone;
use crate::ui::section::listed;
use crate::ui::text::{self, count};
use crate::words;

/// What the sender should look at.
pub(super) fn notes(report: &Report) -> Vec<String> {
    let mut notes = Vec::new();
    let mut note = |heading: &str, items: Vec<String>| notes.extend(listed(Tone::Look, heading, &items));
    let passed = |passed: &Passed| format!("{}: {}", passed.path, passed.why);
    note("These could not be packed:", report.passed_over.iter().map(passed).collect());
    let filled = |filled: &Filled| {
        format!(
            "{}: {} are the file's, the other {} are zeros",
            filled.path,
            text::size(filled.file_bytes),
            text::size(filled.bytes - filled.file_bytes)
        )
    };
    note(
        "These could not be read to their end, and were filled up with zeros:",
        report.filled_with_zeros.iter().map(filled).collect(),
    );
    note("These changed while they were read, twice. What was read is packed:", report.changed_while_read.clone());
    note(words::OUTWARD_LINKS, report.links_leading_outside.clone());
    note("These patterns matched nothing:", report.unmatched_patterns.clone());
    note(
        "These names are not text (UTF-8), which ZIP needs:",
        report.names_escaped.iter().map(EscapedName::line).collect(),
    );
    note(
        "These were left out, since their names are not text (UTF-8), which ZIP needs:",
        report.names_left_out.clone(),
    );
    note("These are on other file systems, and were left out:", report.other_systems_left_out.clone());
    if report.own_output_left_out > 0 {
        let own = count(report.own_output_left_out, "file");
        note("This was not packed into itself:", vec![format!("{own} of this archive's own name inside the source")]);
    }
    if !report.replaced.is_empty() {
        note("Replaced:", vec![replaced(report)]);
    }
    note("These are named like old volumes, but are not; they were left alone:", report.not_replaced.clone());
    note(LONE, report.lone_volumes.iter().map(Lone::line).collect());
    if let Some(lone) = report.lone_volumes.first() {
        notes.extend(lone.way_out());
    }
    notes.extend(listed(Tone::Look, UNPORTABLE, &report.unportable.iter().map(Unportable::line).collect::<Vec<_>>()));
    notes
}

/// What went, and what was in it that the new one does not have.
fn replaced(report: &Report) -> String {
    let volumes = count(report.replaced.len() as u64, "old volume");
    let went = format!("{volumes}, {}", text::size(report.replaced_bytes));
    match report.lost_with_replaced.as_deref() {
        Some([]) => format!("{went}; the new archive has everything that was in it"),
        Some(lost) => format!(
            "{went}; with it went {} that the new archive does not have: {}",
            count(lost.len() as u64, "file"),
            text::first_few(lost)
        ),
        None => format!("{went}; what was in it could not be seen"),
    }
}
