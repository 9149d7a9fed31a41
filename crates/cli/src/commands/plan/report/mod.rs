//! What `plan` says, as JSON; for people: [`lines`].

mod lines;
mod spares;

pub use lines::lines;

use super::Planning;
use super::formats::Formatted;
use crate::args::SqueezeName;
use crate::commands::extras::{Extra, extras};
use crate::commands::since::ChangesReport;
use crate::commands::sources::{Lone, Passed, Unportable};
use crate::failure::{DONE, LOOK, SYSTEM, UNSAFE};
use crate::ui::escaped_name::EscapedName;
use crate::ui::text::{self, shown};
use crate::words::as_name;
use serde::Serialize;
use under_seal_core::formats::abilities::Ability;
use under_seal_core::formats::registry::{Format, SEALED};
use under_seal_core::ground::entry::{EntryKind, EntryPath};
use under_seal_core::ground::fit::{Fit, message_bytes};
use under_seal_core::source::Catalogue;
use under_seal_core::tasks::pack::outward_links;
use under_seal_core::tasks::pack::parcels::Parcel;
use under_seal_core::tasks::page::{ByMail, PAGE};
use under_seal_core::tasks::plan::{Advice, Estimate, Outline};

/// Folders and kinds that are told, and that the charts show.
const CHARTED: usize = 10;

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
    pub(super) spares: Option<spares::Spares>,
    messages: Option<u32>,
    #[serde(skip)]
    by_mail: Option<ByMail>,
    sending_seconds: Option<f64>,
    advice: Vec<Advised>,
    links_leading_outside: Vec<String>,
    passed_over: Vec<Passed>,
    in_the_way: Vec<String>,
    #[serde(rename = "unreadable_paths")]
    unreadable: Vec<String>,
    unportable: Vec<Unportable>,
    lone_volumes: Vec<Lone>,
    too_little_room: Option<Lack>,
    unmatched_patterns: Vec<String>,
    names_escaped: Vec<EscapedName>,
    names_left_out: Vec<String>,
    changes: Option<ChangesReport>,
    /// What the list of what stays takes, in bytes.
    changes_list_bytes: Option<u64>,
    extras: Vec<Extra>,
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
    #[serde(rename = "volume_count")]
    volumes: Option<u32>,
    last_filled: Option<f64>,
}

#[derive(Serialize)]
struct Fitted {
    name: String,
    #[serde(rename = "volume_count")]
    volumes: Option<u32>,
    last_filled: Option<f64>,
}

#[derive(Serialize)]
struct Divided {
    files: u64,
    bytes: Option<u64>,
    filled: Option<f64>,
    #[serde(rename = "from_folders")]
    folders: Vec<String>,
}

#[derive(Serialize)]
struct Advised {
    squeeze: Option<String>,
    without: Option<String>,
    bytes: Option<u64>,
    #[serde(rename = "volume_count")]
    volumes: u32,
}

/// What the disk lacks, in bytes.
#[derive(Serialize)]
struct Lack {
    needed: u64,
    free: u64,
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
        let wished = outline.map_or(0, |outline| settings.spares.value.count(outline.volumes));
        let by_mail = outline.and_then(|outline| page_by_mail(&outline, fit));
        let unmatched = settings.typed_among(&catalogue.unmatched);
        let escaped = catalogue.text_names.escaped();
        let outward = outward_links(catalogue);
        // The code that `pack` would end with, as far as that can be known.
        let quiet = catalogue.passed_over.is_empty()
            && plan.unreadable.is_empty()
            && outward.is_empty()
            && planning.lone_volumes.is_empty()
            && escaped.is_empty()
            && catalogue.not_text.is_empty()
            && unmatched.is_empty();
        let exit_code = match (planning.in_the_way.is_empty(), planning.room, quiet) {
            _ if planning.has_nothing_changed() => DONE,
            (false, ..) => UNSAFE,
            (true, Some(_), _) => SYSTEM,
            (true, None, false) => LOOK,
            (true, None, true) => DONE,
        };
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
            exit_code,
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
                .map(|outline| outline.volumes + wished + u32::from(by_mail == Some(ByMail::Alone))),
            spares: outline
                .filter(|outline| is_cut && planning.parcels.is_empty() && (outline.volumes > 1 || wished > 0))
                .map(|outline| {
                    let page_alone = by_mail == Some(ByMail::Alone);
                    spares::Spares::of(&outline, wished, (fit, u32::from(page_alone)))
                }),
            by_mail,
            sending_seconds: planning
                .line_bits_a_second
                .zip(outline)
                .map(|(speed, outline)| on_the_line(&outline, wished, by_mail) as f64 * 8.0 / speed),
            advice: plan.advice(catalogue, squeeze.into(), fit).iter().filter(|_| is_cut).map(Advised::new).collect(),
            links_leading_outside: outward.iter().map(entry).collect(),
            passed_over: catalogue.passed_over.iter().map(Passed::from).collect(),
            in_the_way: planning.in_the_way.iter().map(|path| text::path(path)).collect(),
            unreadable: plan.unreadable.iter().map(entry).collect(),
            unportable: plan.unportable.iter().map(Unportable::from).collect(),
            lone_volumes: planning.lone_volumes.iter().map(Lone::from).collect(),
            too_little_room: planning.room.map(|(needed, free)| Lack { needed, free }),
            unmatched_patterns: unmatched.iter().map(|pattern| shown(pattern.as_bytes())).collect(),
            names_escaped: escaped.iter().map(EscapedName::new).collect(),
            names_left_out: catalogue.not_text.iter().map(entry).collect(),
            extras: extras(planning.extras, planning.format, catalogue.packs_attributes),
            changes: planning.changes.as_ref().map(ChangesReport::from),
            changes_list_bytes: planning.changes.as_ref().and_then(|changes| changes.list_bytes().ok()),
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
fn on_the_line(outline: &Outline, spares: u32, by_mail: Option<ByMail>) -> u64 {
    let spares = u64::from(spares);
    let Some(by_mail) = by_mail else { return outline.bytes + spares * outline.spare_bytes };
    let page = if by_mail == ByMail::NotAtAll { 0 } else { message_bytes(PAGE.len() as u64) };
    let full = u64::from(outline.volumes - 1) * message_bytes(full_volume(outline));
    page + full + message_bytes(outline.last_bytes) + spares * message_bytes(outline.spare_bytes)
}
