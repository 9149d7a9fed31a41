//! What `plan` says: for people and as JSON.

use super::Planning;
use super::formats::{Formatted, format_lines};
use crate::args::SqueezeName;
use crate::failure::{DONE, LOOK};
use crate::ui::escaped_name::EscapedName;
use crate::ui::paint::{Tone, paint};
use crate::ui::section::headed;
use crate::ui::suggestion::{Part, as_typed, command};
use crate::ui::table::{self, Column};
use crate::ui::text::{self, bar, bytes, contents, count, duration, grouped, shown};
use crate::words;
use crate::words::as_name;
use serde::Serialize;
use under_seal_core::formats::abilities::Ability;
use under_seal_core::formats::registry::{Format, SEALED, Writing};
use under_seal_core::ground::entry::{EntryKind, EntryPath};
use under_seal_core::ground::fit::{Fit, message_bytes};
use under_seal_core::source::Catalogue;
use under_seal_core::tasks::pack::parcels::Parcel;
use under_seal_core::tasks::page::{ByMail, PAGE};
use under_seal_core::tasks::plan::{Advice, Estimate, Outline};

/// Folders and kinds that the charts show, and columns of the longest bar.
const CHARTED: usize = 10;
const BAR_COLUMNS: usize = 24;

/// Columns of the longest folder's name in a chart; of a longer one the end is shown.
const NAME_COLUMNS: usize = 56;

/// Top-level paths, and names with trouble, that are listed.
const LISTED: usize = 12;

/// The JSON object (docs/json.md).
#[derive(Serialize)]
pub struct Report {
    command: &'static str,
    pub exit_code: u8,
    files: u64,
    folders: u64,
    links: u64,
    bytes: u64,
    left_out: u64,
    top_level: Vec<Top>,
    heaviest_folders: Vec<Weight>,
    kinds: Vec<Weight>,
    #[serde(serialize_with = "as_name")]
    format: &'static Format,
    fit: String,
    squeeze: String,
    formats: Vec<Formatted>,
    estimates: Vec<Estimated>,
    fits: Vec<Fitted>,
    parcels: Vec<Divided>,
    messages: Option<u32>,
    #[serde(skip)]
    by_mail: Option<ByMail>,
    sending_seconds: Option<f64>,
    advice: Vec<Advised>,
    passed_over: Vec<Passed>,
    unreadable: Vec<String>,
    unportable: Vec<Unportable>,
    unmatched_patterns: Vec<String>,
    names_escaped: Vec<EscapedName>,
    names_left_out: Vec<String>,
}

#[derive(Serialize)]
struct Top {
    path: String,
    kind: &'static str,
    files: u64,
    folders: u64,
    links: u64,
    bytes: u64,
}

#[derive(Serialize)]
struct Weight {
    name: String,
    files: u64,
    bytes: u64,
    #[serde(skip_serializing_if = "Option::is_none")]
    kept: Option<f64>,
}

#[derive(Serialize)]
struct Estimated {
    squeeze: String,
    bytes: Option<u64>,
    at_least: Option<u64>,
    at_most: Option<u64>,
    seconds: f64,
    volumes: Option<u32>,
    last_filled: Option<f64>,
}

#[derive(Serialize)]
struct Fitted {
    name: String,
    volumes: Option<u32>,
    last_filled: Option<f64>,
}

#[derive(Serialize)]
struct Divided {
    files: u64,
    bytes: Option<u64>,
    filled: Option<f64>,
    folders: Vec<String>,
}

#[derive(Serialize)]
struct Advised {
    squeeze: Option<String>,
    without: Option<String>,
    bytes: Option<u64>,
    volumes: u32,
}

#[derive(Serialize)]
struct Passed {
    path: String,
    why: String,
}

#[derive(Serialize)]
struct Unportable {
    path: String,
    why: String,
    systems: Vec<&'static str>,
}

fn entry(path: &EntryPath) -> String {
    shown(path.as_bytes())
}

impl Report {
    pub fn new(planning: &Planning<'_>) -> Self {
        let Planning { settings, catalogue, plan, .. } = planning;
        // The others are told by their size alone.
        let sealed = planning.format.abilities.volumes;
        let is_cut = sealed && planning.format.can(Ability::Volumes);
        let (fit, squeeze) = (settings.fit.value.fit, settings.squeeze.value);
        let chosen = plan.estimate(squeeze.into());
        let outline = chosen
            .and_then(|estimate| Outline::new(estimate.stream_bytes.likely, fit, planning.format))
            .filter(|_| sealed);
        let by_mail = outline.and_then(|outline| page_by_mail(&outline, fit));
        let unmatched = settings.typed_among(&catalogue.unmatched);
        let escaped = catalogue.text_names.escaped();
        let quiet = catalogue.passed_over.is_empty()
            && plan.unreadable.is_empty()
            && plan.unportable.is_empty()
            && unmatched.is_empty()
            && escaped.is_empty()
            && catalogue.not_text.is_empty();
        let folders = plan.folders.iter().take(CHARTED).map(|folder| Weight {
            name: folder.path.as_ref().map_or_else(|| ".".to_owned(), entry),
            files: folder.files,
            bytes: folder.bytes,
            kept: None,
        });
        let kinds = plan.kinds.iter().take(CHARTED).map(|kind| Weight {
            name: shown(kind.extension.as_bytes()),
            files: kind.files,
            bytes: kind.bytes,
            kept: Some(kind.kept),
        });
        let top_level = plan.top_level.iter().map(|top| Top {
            path: entry(&top.path),
            kind: text::kind(top.kind),
            files: top.totals.files,
            folders: top.totals.folders,
            links: top.totals.links,
            bytes: top.totals.content_bytes,
        });
        Self {
            command: "plan",
            exit_code: if quiet { DONE } else { LOOK },
            files: plan.totals.files,
            folders: plan.totals.folders,
            links: plan.totals.links,
            bytes: plan.totals.content_bytes,
            left_out: catalogue.left_out,
            top_level: top_level.collect(),
            heaviest_folders: folders.collect(),
            kinds: kinds.collect(),
            format: planning.format,
            formats: Formatted::all(planning),
            fit: settings.fit.value.text.clone(),
            squeeze: squeeze.to_string(),
            estimates: plan
                .estimates
                .iter()
                .filter(|_| sealed)
                .map(|estimate| Estimated::new(estimate, planning))
                .collect(),
            fits: planning.fits.iter().filter(|_| is_cut).map(|(name, fit)| Fitted::new(name, *fit, chosen)).collect(),
            parcels: planning.parcels.iter().map(|parcel| Divided::new(parcel, catalogue, fit)).collect(),
            messages: outline
                .filter(|_| by_mail.is_some())
                .map(|outline| outline.volumes + u32::from(by_mail == Some(ByMail::Alone))),
            by_mail,
            sending_seconds: planning
                .line_bits_a_second
                .zip(outline)
                .map(|(speed, outline)| on_the_line(&outline, by_mail) as f64 * 8.0 / speed),
            advice: plan.advice(catalogue, squeeze.into(), fit).iter().filter(|_| is_cut).map(Advised::new).collect(),
            passed_over: catalogue
                .passed_over
                .iter()
                .map(|passed| Passed { path: text::path(&passed.disk_path), why: words::passed_over(&passed.reason) })
                .collect(),
            unreadable: plan.unreadable.iter().map(entry).collect(),
            unportable: plan
                .unportable
                .iter()
                .map(|one| Unportable {
                    path: entry(&one.path),
                    why: words::name_trouble(&one.trouble),
                    systems: one.systems.iter().map(|system| words::system_name(*system)).collect(),
                })
                .collect(),
            unmatched_patterns: unmatched.iter().map(|pattern| shown(pattern.as_bytes())).collect(),
            names_escaped: escaped.iter().map(EscapedName::new).collect(),
            names_left_out: catalogue.not_text.iter().map(entry).collect(),
        }
    }
}

impl Estimated {
    fn new(estimate: &Estimate, planning: &Planning<'_>) -> Self {
        let outline = |stream_bytes| Outline::new(stream_bytes, planning.settings.fit.value.fit, planning.format);
        let likely = outline(estimate.stream_bytes.likely);
        Self {
            squeeze: SqueezeName::from(estimate.squeeze).to_string(),
            bytes: likely.map(|outline| outline.bytes),
            at_least: outline(estimate.stream_bytes.low).map(|outline| outline.bytes),
            at_most: outline(estimate.stream_bytes.high).map(|outline| outline.bytes),
            seconds: estimate.seconds,
            volumes: likely.map(|outline| outline.volumes),
            last_filled: likely.and_then(|outline| outline.last_fill()),
        }
    }
}

impl Fitted {
    fn new(name: &str, fit: Fit, chosen: Option<&Estimate>) -> Self {
        let outline = chosen.and_then(|estimate| Outline::new(estimate.stream_bytes.likely, fit, &SEALED));
        Self {
            name: shown(name.as_bytes()),
            volumes: outline.map(|outline| outline.volumes),
            last_filled: outline.and_then(|outline| outline.last_fill()),
        }
    }
}

impl Divided {
    fn new(parcel: &Parcel, catalogue: &Catalogue, fit: Fit) -> Self {
        let entries = parcel.members.iter().map(|place| &catalogue.entries[*place]);
        let files: Vec<_> = entries.filter(|entry| entry.kind != EntryKind::Folder).collect();
        let mut folders: Vec<String> =
            files.iter().map(|file| file.path.parent().as_ref().map_or_else(|| ".".to_owned(), entry)).collect();
        folders.sort();
        folders.dedup();
        let outline = Outline::new(parcel.stream_bytes, Fit::OneVolume, &SEALED);
        let filled = |outline: Outline| Some(outline.bytes as f64 / fit.volume_limit()? as f64);
        Self {
            files: files.len() as u64,
            bytes: outline.map(|outline| outline.bytes),
            filled: outline.and_then(filled),
            folders,
        }
    }
}

impl Advised {
    fn new(advice: &Advice) -> Self {
        match advice {
            Advice::Squeeze(squeeze, volumes) => Self {
                squeeze: Some(SqueezeName::from(*squeeze).to_string()),
                without: None,
                bytes: None,
                volumes: *volumes,
            },
            Advice::Without(path, bytes, volumes) => {
                Self { squeeze: None, without: Some(entry(path)), bytes: Some(*bytes), volumes: *volumes }
            }
        }
    }
}

/// How the page goes, where the fit is one of mail.
fn page_by_mail(outline: &Outline, fit: Fit) -> Option<ByMail> {
    let Fit::Message(limit) = fit else { return None };
    let first = if outline.volumes == 1 { outline.last_bytes } else { full_volume(outline) };
    Some(ByMail::of(first, limit.bytes()))
}

/// Bytes of every volume but the last.
fn full_volume(outline: &Outline) -> u64 {
    (outline.bytes - outline.last_bytes) / u64::from(outline.volumes.max(2) - 1)
}

/// Bytes that travel: volumes, or the messages that carry them and the page.
fn on_the_line(outline: &Outline, by_mail: Option<ByMail>) -> u64 {
    let Some(by_mail) = by_mail else { return outline.bytes };
    let page = if by_mail == ByMail::NotAtAll { 0 } else { message_bytes(PAGE.len() as u64) };
    let full = u64::from(outline.volumes - 1) * message_bytes(full_volume(outline));
    page + full + message_bytes(outline.last_bytes)
}

pub fn lines(planning: &Planning<'_>, report: &Report) -> Vec<String> {
    let what = contents(report.files, report.folders, report.links);
    let heading = format!("The plan: {} in {what}. Nothing was written.", bytes(report.bytes));
    let mut lines = vec![paint(Tone::Strong, heading)];
    lines.extend(answer(report));
    let mut section = |heading: &str, body: Vec<String>| lines.extend(headed(Tone::Strong, heading, body));
    section("What the recipient will see", top_lines(report));
    section("Heaviest folders, by what lies directly in them", chart("folder", &report.heaviest_folders, report.bytes));
    section("Kinds of files, and what squeezing leaves of them", chart("kind", &report.kinds, report.bytes));
    let limit = planning.settings.fit.value.fit.volume_limit();
    let at = limit.map(|limit| format!(" at {}, {} a volume", report.fit, bytes(limit))).unwrap_or_default();
    section(&format!("What it would come to{at}"), estimate_lines(report, limit.is_some()));
    let formats = format_lines(&report.formats, report.format, limit.is_some());
    if report.formats.len() > 1 || !report.format.abilities.volumes {
        section(&format!("Format by format, at {}", report.squeeze), formats);
    }
    section(&format!("Volumes by fit, at {}", report.squeeze), fit_lines(report));
    section(&format!("Parcels, at {}", report.squeeze), parcel_lines(report));
    section("On the way", way_lines(planning, report));
    section("What would save volumes", advice_lines(report));
    section("Look at this first", look_lines(report));
    lines.extend([String::new()]);
    lines.extend(next_step());
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
    let (least, most) = (text::about(at_least), text::about(at_most));
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
        (Tone::Plain, vec![format!("{}{slash}", top.path), inside, grouped(top.bytes)])
    };
    let mut rows: Vec<_> = report.top_level.iter().take(LISTED).map(row).collect();
    if let more @ 1.. = report.top_level.len().saturating_sub(LISTED) {
        rows.push((Tone::Faint, vec![format!("and {more} more"), String::new(), String::new()]));
    }
    table::lines(&[Column::Text("path"), Column::Text("holds"), Column::Number("bytes")], &rows)
}

fn chart(what: &'static str, weights: &[Weight], whole: u64) -> Vec<String> {
    let heaviest = weights.first().map_or(1, |weight| weight.bytes).max(1);
    let row = |weight: &Weight| {
        let share = 100.0 * weight.bytes as f64 / whole.max(1) as f64;
        let name = if weight.name.is_empty() { "(none)" } else { &weight.name };
        let mut cells = vec![
            text::ending(name, NAME_COLUMNS),
            weight.files.to_string(),
            grouped(weight.bytes),
            format!("{share:.0} %"),
            bar(weight.bytes as f64 / heaviest as f64, BAR_COLUMNS),
        ];
        cells.extend(weight.kept.map(|kept| format!("{:.0} %", 100.0 * kept.min(1.0))));
        (Tone::Plain, cells)
    };
    let mut columns = vec![
        Column::Text(what),
        Column::Number("files"),
        Column::Number("bytes"),
        Column::Number("share"),
        Column::Text(""),
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
    let number = |number: Option<u64>| number.map_or("-".to_owned(), grouped);
    if report.estimates.is_empty() {
        return Vec::new();
    }
    let row = |estimate: &Estimated| {
        let saved = estimate.bytes.map(|bytes| 1.0 - bytes as f64 / report.bytes.max(1) as f64);
        let tone = if estimate.squeeze == report.squeeze { Tone::Strong } else { Tone::Plain };
        let mut cells = vec![
            estimate.squeeze.clone(),
            number(estimate.bytes),
            format!("{} to {}", number(estimate.at_least), number(estimate.at_most)),
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
        Column::Number("bytes"),
        Column::Number("surely between"),
        Column::Number("saved"),
        Column::Number("takes"),
    ];
    if in_volumes {
        columns.extend([Column::Number("volumes"), Column::Number("last filled")]);
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
    let columns = [Column::Text("fit"), Column::Number("volumes"), Column::Number("last filled")];
    table::lines(&columns, &report.fits.iter().map(row).collect::<Vec<_>>())
}

fn parcel_lines(report: &Report) -> Vec<String> {
    if report.parcels.is_empty() {
        return Vec::new();
    }
    let row = |(number, parcel): (usize, &Divided)| {
        let bytes = parcel.bytes.map_or("-".to_owned(), grouped);
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
            (_, Some(path)) => format!("without {path} ({})", bytes(advice.bytes.unwrap_or(0))),
            (None, None) => String::new(),
        };
        format!("  {how}: {} instead of {now}", count(advice.volumes.into(), "volume"))
    };
    report.advice.iter().map(line).collect()
}

fn look_lines(report: &Report) -> Vec<String> {
    let passed = report.passed_over.iter().map(|passed| format!("{} cannot be packed: {}", passed.path, passed.why));
    let unreadable = report.unreadable.iter().map(|path| format!("{path} cannot be read: permission denied"));
    let names = report.unportable.iter().map(|one| format!("{}: {} ({})", one.path, one.why, one.systems.join(", ")));
    let patterns = report.unmatched_patterns.iter().map(|pattern| format!("the pattern {pattern} matches nothing"));
    let escaped = report.names_escaped.iter().map(EscapedName::line);
    let left_out = report.names_left_out.iter().map(|path| format!("{path} is left out: the name is not text"));
    let names = names.chain(escaped).chain(left_out);
    let all: Vec<String> = passed.chain(unreadable).chain(names).chain(patterns).collect();
    let more = all.len().saturating_sub(LISTED);
    let mut lines: Vec<String> = all.iter().take(LISTED).map(|line| paint(Tone::Look, format!("  {line}"))).collect();
    lines.extend((more > 0).then(|| paint(Tone::Faint, format!("  and {more} more (--json lists all)"))));
    lines
}

fn next_step() -> Vec<String> {
    vec!["Next: pack it with".to_owned(), suggestion_of_packing()]
}

/// `pack` with what was typed for this plan and counts for packing too.
fn suggestion_of_packing() -> String {
    let mut typed = std::env::args_os().skip(2);
    let mut kept = Vec::new();
    while let Some(argument) = typed.next() {
        match argument.as_encoded_bytes() {
            b"--json" | b"--every-squeeze" | b"--every-format" => {}
            b"--line" => drop(typed.next()),
            line if line.starts_with(b"--line=") => {}
            _ => kept.push(as_typed(&argument)),
        }
    }
    let words: Vec<Part<'_>> = std::iter::once("pack").chain(kept.iter().map(String::as_str)).map(Part::Word).collect();
    command(&words)
}
