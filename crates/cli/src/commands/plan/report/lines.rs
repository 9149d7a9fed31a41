//! The plan for people: the answer first, then what it rests on, then what to look at.

use super::{Advised, Divided, Estimated, Fitted, Report, Top, Weight};
use crate::commands::extras;
use crate::commands::plan::Planning;
use crate::commands::plan::formats::format_lines;
use crate::commands::sources::{Lone, Unportable};
use crate::ui::escaped_name::EscapedName;
use crate::ui::paint::{Tone, paint};
use crate::ui::section::headed;
use crate::ui::suggestion::{Part, as_typed, command};
use crate::ui::table::{self, Column};
use crate::ui::text::{self, bar, bytes, contents, count, duration, first_few, size, size_range};
use crate::words;
use std::ffi::OsString;
use under_seal_core::formats::registry::Writing;
use under_seal_core::ground::fit::Fit;
use under_seal_core::tasks::page::ByMail;

/// Columns of the longest bar.
const BAR_COLUMNS: usize = 24;

/// Columns of the longest folder's name in a chart; of a longer one the middle is left out.
const NAME_COLUMNS: usize = 56;

/// Top-level paths, and names with trouble, that are listed.
const LISTED: usize = 12;

pub fn lines(planning: &Planning<'_>, report: &Report) -> Vec<String> {
    let what = contents(report.files, report.folders, report.links);
    let heading = format!("Plan for {} in {what}. Nothing was written.", size(report.bytes));
    let failing = (report.passed_over.len() + report.unreadable.len()) as u64;
    let mut lines = Vec::new();
    if failing > 0 {
        lines.push(paint(Tone::Bad, format!("Incomplete: {} cannot be packed.", count(failing, "thing"))));
    }
    if let Some(changes) = report.changes.as_ref().filter(|_| planning.has_nothing_changed()) {
        let since = format!("{} of {}", changes.since.archive, changes.since.made);
        return vec![paint(Tone::Strong, format!("Nothing has changed since {since}, so pack would write nothing."))];
    }
    lines.extend(stopping(planning, report).iter().map(|why| paint(Tone::Bad, format!("Pack would stop: {why}"))));
    lines.push(paint(Tone::Strong, heading));
    lines.extend(answer(report));
    if let Some(all_but) = words::all_but(report.links_leading_outside.len(), 0) {
        lines.push(paint(Tone::Look, format!("The recipient can open it, {all_but}.")));
    }
    lines.extend(report.spares.as_ref().and_then(|spares| spares.answer()));
    lines.extend(words::mail_hint(planning.settings.fit.value.fit));
    let mut section = |heading: &str, body: Vec<String>| lines.extend(headed(Tone::Strong, heading, body));
    section("What has changed", change_lines(report));
    section("What the recipient will see", top_lines(report));
    section("Beside contents", extras::sentences(&report.extras).iter().map(|line| format!("  {line}")).collect());
    section("Largest folders, by what is directly in them", chart("folder", &report.heaviest_folders, report.bytes));
    section("Kinds of files, and what compressing leaves of them", chart("kind", &report.kinds, report.bytes));
    let limit = planning.settings.fit.value.fit.volume_limit();
    let at = limit.map(|limit| format!(" at {}, {} a volume", report.fit, bytes(limit))).unwrap_or_default();
    section(&format!("What it would come to{at}"), estimate_lines(report, limit.is_some()));
    let formats = format_lines(&report.formats, report.format, limit.is_some());
    if report.formats.len() > 1 || !report.format.abilities.volumes {
        section(&format!("Format by format, at {}", report.squeeze), formats);
    }
    section(&format!("Volumes by fit, at {}", report.squeeze), fit_lines(report));
    section(&format!("Parcels, at {}", report.squeeze), parcel_lines(report));
    if let Some(spares) = &report.spares {
        section("Spare volumes: what --spares would cost", spares.lines());
    }
    section("On the way", way_lines(planning, report));
    section("What would save volumes", advice_lines(report));
    section("Would not be packed", failing_lines(report));
    let outward = report.links_leading_outside.iter().map(|link| format!("  {link}")).collect();
    section(words::OUTWARD_LINKS.trim_end_matches(':'), outward);
    section("Worth knowing", note_lines(report));
    lines.push(String::new());
    lines.extend(next(planning, report));
    lines
}

/// What packing would end at before anything is written.
fn stopping(planning: &Planning<'_>, report: &Report) -> Option<String> {
    let what = if planning.replaces { ", and is something else" } else { "" };
    let there = report.in_the_way.first().map(|first| format!("{first} is there already{what}."));
    let room = report.too_little_room.as_ref().map(|lack| {
        format!("there is not enough room: at least {} are needed, {} are free.", bytes(lack.needed), bytes(lack.free))
    });
    there.or(room)
}

fn next(planning: &Planning<'_>, report: &Report) -> Vec<String> {
    match (planning.in_the_way.first(), &report.too_little_room) {
        (Some(_), _) if planning.replaces => vec!["Next: choose another name with --to.".to_owned()],
        (Some(_), _) => {
            vec!["Next: choose another name with --to, or add --replace if what is there may go.".to_owned()]
        }
        (None, Some(_)) => vec!["Next: make room, or choose a place on another disk with --to.".to_owned()],
        (None, None) => vec!["Next: pack it with".to_owned(), suggestion_of_packing(planning.typed)],
    }
}

/// What has changed, where only that is planned.
fn change_lines(report: &Report) -> Vec<String> {
    let Some(changes) = &report.changes else { return Vec::new() };
    let mut lines = vec![format!("  {}", changes.line())];
    for (what, paths) in [("added", &changes.added), ("changed", &changes.changed), ("removed", &changes.removed)] {
        if !paths.is_empty() {
            lines.push(format!("  {what}: {}", first_few(paths)));
        }
    }
    let list = report.changes_list_bytes.unwrap_or_default();
    lines.push(format!("  the list of what is in {} takes about {} beside that", changes.since.archive, size(list)));
    lines
}

/// What it comes to, in the format, at the squeeze and the fit that were chosen: what most people ask.
fn answer(report: &Report) -> Option<String> {
    let chosen = report.formats.iter().find(|one| one.format == report.format)?;
    let what = match (report.format.abilities.volumes, chosen.files?) {
        (true, files) if report.format.writing == Some(Writing::Page) => count(files, "page"),
        (true, files) => count(files, "volume"),
        (false, 1) => "1 file".to_owned(),
        (false, files) => count(files, "part"),
    };
    let (at_least, at_most) = (chosen.at_least?, chosen.at_most?);
    let (least, most) = (text::size(at_least), text::size(at_most));
    let size = match least == most {
        true if at_least == at_most => least,
        true => format!("about {least}"),
        false => format!("between {least} and {most}"),
    };
    Some(format!("It would come to {what}, {size} in all, with --squeeze {}.", report.squeeze))
}

fn top_lines(report: &Report) -> Vec<String> {
    let row = |top: &Top| {
        let slash = if top.kind == "folder" { "/" } else { "" };
        let inside = match top.kind {
            "folder" => contents(top.files, top.folders.saturating_sub(1), top.links),
            kind => format!("a {kind}"),
        };
        (Tone::Plain, vec![format!("{}{slash}", top.path), inside, size(top.bytes)])
    };
    let mut rows: Vec<_> = report.top_level.iter().take(LISTED).map(row).collect();
    if let more @ 1.. = report.top_level.len().saturating_sub(LISTED) {
        rows.push((Tone::Faint, vec![format!("and {more} more"), String::new(), String::new()]));
    }
    table::lines(&[Column::Path("path"), Column::Text("holds"), Column::Number("size")], &rows)
}

fn chart(what: &'static str, weights: &[Weight], whole: u64) -> Vec<String> {
    let heaviest = weights.first().map_or(1, |weight| weight.bytes).max(1);
    let row = |weight: &Weight| {
        let share = 100.0 * weight.bytes as f64 / whole.max(1) as f64;
        let name = if weight.name.is_empty() { "(none)" } else { &weight.name };
        let mut cells = vec![
            text::middle_shortened(name, NAME_COLUMNS),
            weight.files.to_string(),
            size(weight.bytes),
            format!("{share:.0} %"),
            bar(weight.bytes as f64 / heaviest as f64, BAR_COLUMNS),
        ];
        cells.extend(weight.kept.map(|kept| format!("{:.0} %", 100.0 * kept.min(1.0))));
        (Tone::Plain, cells)
    };
    let mut columns = vec![
        Column::Path(what),
        Column::AsideNumber("files"),
        Column::Number("size"),
        Column::Number("share"),
        Column::Bar,
    ];
    if weights.iter().any(|weight| weight.kept.is_some()) {
        columns.push(Column::Number("left"));
    }
    table::lines(&columns, &weights.iter().map(row).collect::<Vec<_>>())
}

fn percent(share: Option<f64>) -> String {
    share.map_or("-".to_owned(), |share| format!("{:.0} %", 100.0 * share))
}

fn estimate_lines(report: &Report, in_volumes: bool) -> Vec<String> {
    let number = |number: Option<u64>| number.map_or("-".to_owned(), size);
    if report.estimates.is_empty() {
        return Vec::new();
    }
    let row = |estimate: &Estimated| {
        let saved = estimate.bytes.map(|bytes| 1.0 - bytes as f64 / report.bytes.max(1) as f64);
        let tone = if estimate.squeeze == report.squeeze { Tone::Strong } else { Tone::Plain };
        let mut cells = vec![
            estimate.squeeze.clone(),
            number(estimate.bytes),
            size_range(estimate.at_least, estimate.at_most),
            percent(saved.map(|saved| saved.max(0.0))),
            duration(estimate.seconds),
        ];
        if in_volumes {
            cells.push(estimate.volumes.map_or("too many".to_owned(), |volumes| volumes.to_string()));
            cells.push(percent(estimate.last_filled));
        }
        (tone, cells)
    };
    let mut columns = vec![
        Column::Text("squeeze"),
        Column::Number("size"),
        Column::Number("likely"),
        Column::Number("saved"),
        Column::AsideNumber("takes"),
    ];
    if in_volumes {
        columns.extend([Column::Number("volumes"), Column::AsideNumber("last filled")]);
    }
    table::lines(&columns, &report.estimates.iter().map(row).collect::<Vec<_>>())
}

fn fit_lines(report: &Report) -> Vec<String> {
    if report.fits.is_empty() {
        return Vec::new();
    }
    let row = |fit: &Fitted| {
        let volumes = fit.volumes.map_or("too many".to_owned(), |volumes| volumes.to_string());
        (Tone::Plain, vec![fit.name.clone(), volumes, percent(fit.last_filled)])
    };
    let columns = [Column::Text("fit"), Column::Number("volumes"), Column::AsideNumber("last filled")];
    table::lines(&columns, &report.fits.iter().map(row).collect::<Vec<_>>())
}

fn parcel_lines(report: &Report) -> Vec<String> {
    if report.parcels.is_empty() {
        return Vec::new();
    }
    let row = |(number, parcel): (usize, &Divided)| {
        let bytes = parcel.bytes.map_or("-".to_owned(), size);
        let holds = text::first_few(&parcel.folders);
        (Tone::Plain, vec![number.to_string(), parcel.files.to_string(), bytes, percent(parcel.filled), holds])
    };
    let mut rows: Vec<_> = (1..).zip(&report.parcels).map(row).take(LISTED).collect();
    if let more @ 1.. = report.parcels.len().saturating_sub(LISTED) {
        rows.push((Tone::Faint, vec!["…".to_owned(), String::new(), format!("{more} more")]));
    }
    let columns = [
        Column::Number("parcel"),
        Column::Number("files"),
        Column::Number("at most"),
        Column::Number("filled"),
        Column::Text("from"),
    ];
    table::lines(&columns, &rows)
}

fn way_lines(planning: &Planning<'_>, report: &Report) -> Vec<String> {
    let mut lines = Vec::new();
    if let (Some(messages), Fit::Message(limit)) = (report.messages, planning.settings.fit.value.fit) {
        let each = match report.by_mail {
            _ if messages == 1 => "",
            Some(ByMail::Alone) => ": the page for a browser, then a volume each",
            _ => ", a volume each",
        };
        lines.push(format!("  {} of at most {}{each}", count(messages.into(), "message"), bytes(limit.bytes())));
    }
    if let (Some(seconds), Some(speed)) = (report.sending_seconds, planning.line_bits_a_second) {
        let encoded = match report.by_mail {
            None => "",
            Some(ByMail::NotAtAll) => ", encoding counted",
            Some(_) => ", encoding and the page counted",
        };
        lines.push(format!("  {} on a line of {} Mbit/s{encoded}", duration(seconds), speed / 1e6));
    }
    lines
}

fn advice_lines(report: &Report) -> Vec<String> {
    let now = report.estimates.iter().find(|estimate| estimate.squeeze == report.squeeze);
    let now = now.and_then(|estimate| estimate.volumes).unwrap_or(0);
    let line = |advice: &Advised| {
        let how = match (&advice.squeeze, &advice.without) {
            (Some(squeeze), _) => format!("--squeeze {squeeze}"),
            (_, Some(path)) => format!("without {path} ({})", size(advice.bytes.unwrap_or(0))),
            (None, None) => String::new(),
        };
        format!("  {how}: {} instead of {now}", count(advice.volumes.into(), "volume"))
    };
    report.advice.iter().map(line).collect()
}

/// What packing would fail at.
fn failing_lines(report: &Report) -> Vec<String> {
    let passed = report.passed_over.iter().map(|passed| format!("{} cannot be packed: {}", passed.path, passed.why));
    let unreadable = report.unreadable.iter().map(|path| format!("{path} cannot be read: permission denied"));
    some_of(passed.chain(unreadable).collect(), Tone::Bad)
}

/// What is worth knowing before packing, and stops nothing.
fn note_lines(report: &Report) -> Vec<String> {
    let names = report.unportable.iter().map(Unportable::line);
    let lone = report.lone_volumes.iter().map(Lone::line);
    let patterns = report.unmatched_patterns.iter().map(|pattern| format!("the pattern {pattern} matches nothing"));
    let escaped = report.names_escaped.iter().map(EscapedName::line);
    let left_out = report.names_left_out.iter().map(|path| format!("{path} is left out: the name is not text"));
    some_of(names.chain(lone).chain(escaped).chain(left_out).chain(patterns).collect(), Tone::Look)
}

fn some_of(all: Vec<String>, tone: Tone) -> Vec<String> {
    let more = all.len().saturating_sub(LISTED);
    let mut lines: Vec<String> = all.iter().take(LISTED).map(|line| paint(tone, format!("  {line}"))).collect();
    lines.extend((more > 0).then(|| paint(Tone::Faint, format!("  and {more} more (--json lists all)"))));
    lines
}

/// `pack` with what was typed for this plan and counts for packing too.
fn suggestion_of_packing(typed: &[OsString]) -> String {
    let mut typed = typed.iter();
    let mut kept = Vec::new();
    while let Some(argument) = typed.next() {
        match argument.as_encoded_bytes() {
            b"--json" | b"--every-squeeze" | b"--every-format" | b"-q" | b"--quiet" | b"-v" | b"-vv" | b"--verbose" => {
            }
            b"--line" | b"--progress" | b"--color" => {
                typed.next();
            }
            joined if [&b"--line="[..], b"--progress=", b"--color="].iter().any(|name| joined.starts_with(name)) => {}
            _ => kept.push(as_typed(argument)),
        }
    }
    let words: Vec<Part<'_>> = std::iter::once("pack").chain(kept.iter().map(String::as_str)).map(Part::Word).collect();
    command(&words)
}
