//! `about`: one page on an archive.

use super::deliveries::Parcel;
use super::show;
use super::since::BuildsUpon;
use crate::archives::{NotExtracted, given, not_extracted, not_extracted_lines};
use crate::args::{AboutArguments, SqueezeName};
use crate::credentials::Wanted;
use crate::failure::{DONE, Failure, LOOK};
use crate::ui::paint::{Tone, paint};
use crate::ui::section::listed;
use crate::ui::table;
use crate::ui::text::{self, bytes, contents, count, grouped, shown, shown_lines, size};
use crate::words::{NOT_OWN_PAGE, as_name, notes, survives};
use serde::Serialize;
use under_seal_core::codecs::block::Squeeze;
use under_seal_core::formats::archive::Archive;
use under_seal_core::formats::listing::Listing;
use under_seal_core::formats::reader::{Encryption, Facts};
use under_seal_core::formats::registry::Format;
use under_seal_core::formats::sealed::volume::{VolumeSet, header};
use under_seal_core::formats::sealed::{About, SealedError, cost_of};
use under_seal_core::ground::codes::hexadecimal;
use under_seal_core::ground::entry::ListedEntry;
use under_seal_core::tasks::page::{PAGE_NAME, page_sum, pages_of};

/// How many of the largest files are named.
const LARGEST: usize = 5;

/// Runs the command; the exit code.
pub fn run(arguments: &AboutArguments) -> Result<u8, Failure> {
    let archive = given(&arguments.places, &arguments.work)?.load(&arguments.unlock, Wanted::List, &arguments.work)?;
    let report = Report::new(&archive)?;
    show(&report, &arguments.work, || lines(&report))?;
    Ok(report.exit_code)
}

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    archive: String,
    #[serde(serialize_with = "as_name")]
    format: &'static Format,
    #[serde(flatten)]
    lies: Lies,
    secret: bool,
    #[serde(flatten)]
    made: Made,
    files: u64,
    folders: u64,
    links: u64,
    before_bytes: u64,
    after_bytes: u64,
    largest: Vec<Largest>,
    #[serde(skip_serializing_if = "Option::is_none")]
    label: Option<String>,
    message: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    not_extracted: Option<Vec<NotExtracted>>,
    #[serde(skip_serializing_if = "Option::is_none")]
    notes: Option<Vec<&'static str>>,
    builds_upon: Option<BuildsUpon>,
    parcel: Option<Parcel>,
    /// The same for people, who are told of a sealed archive without a password too.
    #[serde(skip)]
    said: Vec<&'static str>,
}

/// What it is read from.
#[derive(Serialize)]
#[serde(untagged)]
enum Lies {
    InVolumes {
        version: u32,
        set: String,
        #[serde(rename = "volume_count")]
        volumes: u32,
        missing: Vec<u32>,
        spare_volumes: Vec<u32>,
        volume_bytes: u64,
        last_volume_bytes: u64,
    },
    InFiles {
        parts: Vec<String>,
        bytes_in_front: u64,
    },
}

/// How it was made.
#[derive(Serialize)]
#[serde(untagged)]
enum Made {
    Sealed {
        key_file: bool,
        memory_bytes: u64,
        passes: u32,
        made: String,
        squeeze: Option<String>,
        page_sha256: String,
        pages: Vec<CarryingPage>,
    },
    Openly {
        hides_names: bool,
        encryption: Vec<&'static str>,
        methods: Vec<&'static str>,
    },
}

/// A page that carries it (docs/json.md).
#[derive(Serialize)]
struct CarryingPage {
    path: String,
    own: bool,
}

impl CarryingPage {
    fn line(&self) -> String {
        let whose = if self.own { "its text is this program's page, unchanged" } else { NOT_OWN_PAGE };
        format!("{} opens itself in a browser; {whose}", self.path)
    }
}

#[derive(Serialize)]
struct Largest {
    path: String,
    bytes: u64,
}

impl Largest {
    fn line(&self) -> String {
        format!("{}  {}", self.path, size(self.bytes))
    }
}

/// The largest files, largest first.
fn largest(listing: Listing<'_>, count: usize) -> Result<Vec<Largest>, Failure> {
    let mut files: Vec<Largest> = Vec::new();
    for listed in listing.iter() {
        let ListedEntry { entry, content } = &*listed?;
        if content.size > 0 {
            let place = files.partition_point(|larger| larger.bytes >= content.size);
            if place < count {
                files.insert(place, Largest { path: shown(entry.path.as_bytes()), bytes: content.size });
                files.truncate(count);
            }
        }
    }
    Ok(files)
}

impl Lies {
    fn of(archive: &Archive, facts: &Facts) -> Self {
        match archive.volumes() {
            Some(set @ VolumeSet { ids, geometry, .. }) => Self::InVolumes {
                version: header::VERSION.into(),
                set: ids.set_text(),
                volumes: geometry.data_volumes,
                missing: set.missing(),
                spare_volumes: set.spares.keys().copied().collect(),
                volume_bytes: geometry.volume_bytes(1),
                last_volume_bytes: geometry.volume_bytes(geometry.data_volumes),
            },
            None => Self::InFiles {
                parts: archive.paths().iter().map(|path| text::path(path)).collect(),
                bytes_in_front: facts.bytes_in_front,
            },
        }
    }
}

impl Made {
    fn of(archive: &Archive, facts: &Facts) -> Result<Self, Failure> {
        let (Some(set), Some(About { made_at, squeeze, .. })) = (archive.volumes(), archive.about()) else {
            let encryption = match facts.encryptions.as_slice() {
                [] => vec!["none"],
                some => some.iter().copied().map(encryption).collect(),
            };
            return Ok(Self::Openly { hides_names: facts.hides_names, encryption, methods: facts.methods.clone() });
        };
        let cost = cost_of(&set.head).map_err(SealedError::from)?;
        let squeeze = squeeze.and_then(Squeeze::from_number);
        Ok(Self::Sealed {
            key_file: facts.key_file,
            memory_bytes: u64::from(cost.memory_kib) * 1024,
            passes: cost.passes,
            page_sha256: hexadecimal(&page_sum()),
            pages: pages_of(set)?
                .iter()
                .map(|(path, own)| CarryingPage { path: text::path(path), own: *own })
                .collect(),
            made: text::time(*made_at),
            squeeze: squeeze.map(|squeeze| SqueezeName::from(squeeze).to_string()),
        })
    }
}

const fn encryption(encryption: Encryption) -> &'static str {
    match encryption {
        Encryption::None => "none",
        Encryption::Old => "old cipher",
        Encryption::Aes => "AES",
    }
}

/// Bytes of all its volumes, missing ones too, or of all its files.
fn stored_bytes(archive: &Archive) -> u64 {
    match archive.volumes() {
        Some(set) => set.geometry.total_bytes(),
        None => archive.spots().iter().filter_map(|spot| spot.length().ok()).sum(),
    }
}

impl Report {
    fn new(archive: &Archive) -> Result<Self, Failure> {
        let (facts, totals, not_extracted) = (archive.facts(), archive.totals(), not_extracted(archive));
        let is_open = archive.volumes().is_none();
        let said = notes(archive, &facts);
        Ok(Self {
            command: "about",
            exit_code: if not_extracted.is_empty() { DONE } else { LOOK },
            archive: shown(&archive.name()),
            format: archive.format,
            lies: Lies::of(archive, &facts),
            secret: archive.is_secret(),
            made: Made::of(archive, &facts)?,
            files: totals.files,
            folders: totals.folders,
            links: totals.links,
            before_bytes: totals.content_bytes,
            after_bytes: stored_bytes(archive),
            largest: largest(archive.listing(), LARGEST)?,
            label: is_open.then(|| shown(&facts.label)),
            message: facts.message,
            not_extracted: is_open.then_some(not_extracted),
            notes: is_open.then(|| said.clone()),
            builds_upon: archive.base_name().map(BuildsUpon::from),
            parcel: archive.about().and_then(|about| about.parcel.as_ref()).map(Parcel::from),
            said,
        })
    }

    fn format_line(&self) -> String {
        let title = self.format.title.trim_end_matches(" archive");
        match (&self.lies, &self.made) {
            (Lies::InVolumes { version, .. }, _) => format!("{title}, version {version}"),
            (_, Made::Openly { methods, .. }) if !methods.is_empty() => format!("{title} ({})", methods.join(", ")),
            _ => title.to_owned(),
        }
    }

    fn locked(&self) -> Vec<String> {
        match &self.made {
            Made::Openly { encryption, .. } => vec![encryption.join(", ")],
            Made::Sealed { .. } if !self.secret => vec!["not at all: no password is needed".to_owned()],
            Made::Sealed { key_file, memory_bytes, passes, .. } => {
                let how = if *key_file { "a password with a key file" } else { "a password" };
                let passes = if *passes == 1 { "1 pass".to_owned() } else { format!("{passes} passes") };
                vec![
                    format!("by {how}; whether others open it too is not told"),
                    format!("an attempt takes {} of memory and {passes} (Argon2id)", size(*memory_bytes)),
                ]
            }
        }
    }

    fn hidden(&self) -> &'static str {
        match &self.made {
            _ if !self.secret => "nothing",
            Made::Sealed { .. } => "names, sizes, dates, counts and contents",
            Made::Openly { hides_names: true, .. } => "contents, names, sizes and dates",
            Made::Openly { .. } => "contents alone",
        }
    }
}

impl Lies {
    fn rows(&self) -> Vec<(&'static str, Vec<String>)> {
        match self {
            Self::InVolumes { set, volumes, missing, spare_volumes, volume_bytes, last_volume_bytes, .. } => {
                let all = match volumes {
                    1 => format!("one of {}", bytes(*volume_bytes)),
                    several => format!(
                        "{}: {} of {}, the last of {}",
                        grouped((*several).into()),
                        grouped((several - 1).into()),
                        bytes(*volume_bytes),
                        bytes(*last_volume_bytes)
                    ),
                };
                let not_here = (!missing.is_empty()).then(|| format!("not here: {}", text::number_list(missing)));
                let spare = match spare_volumes.len() {
                    0 => Vec::new(),
                    here => vec![format!(
                        "{} here: of the whole set, {}",
                        count(here as u64, "volume"),
                        survives(*volumes, u32::try_from(here).unwrap_or(u32::MAX))
                    )],
                };
                vec![
                    ("set", vec![set.clone()]),
                    ("volumes", [all].into_iter().chain(not_here).collect()),
                    ("spare", spare),
                ]
            }
            Self::InFiles { parts, bytes_in_front } => {
                let files = match parts.as_slice() {
                    [one] => one.clone(),
                    several => {
                        let last = several.last().map_or("", String::as_str);
                        format!("{}, the last of them {last}", count(several.len() as u64, "part"))
                    }
                };
                let in_front =
                    (*bytes_in_front > 0).then(|| format!("{} stand in front of it", bytes(*bytes_in_front)));
                vec![("where", [files].into_iter().chain(in_front).collect())]
            }
        }
    }
}

fn lines(report: &Report) -> Vec<String> {
    let saved = 100.0 - 100.0 * report.after_bytes as f64 / report.before_bytes.max(1) as f64;
    let saved = format!("{}; {:.1} % saved", size(report.after_bytes), saved.max(0.0));
    let (made, packed, page) = match &report.made {
        Made::Sealed { made, squeeze, page_sha256, pages, .. } => {
            let squeeze = squeeze.as_deref().unwrap_or("not told");
            let page =
                format!("{PAGE_NAME} opens it in a browser; the one of this program has the SHA-256 {page_sha256}");
            let page = if pages.is_empty() { vec![page] } else { pages.iter().map(CarryingPage::line).collect() };
            (Some(("made", vec![made.clone()])), format!("{saved}, squeeze {squeeze}"), page)
        }
        Made::Openly { .. } => (None, saved, Vec::new()),
    };
    let label = report.label.as_ref().filter(|label| !label.is_empty());
    let mut rows: Vec<_> = label.map(|label| ("label", vec![label.clone()])).into_iter().collect();
    rows.push(("format", vec![report.format_line()]));
    rows.extend(report.lies.rows());
    rows.extend(made);
    let parcel = |parcel: &Parcel| format!("number {} of {}; each opens alone", parcel.number, parcel.count);
    rows.extend(report.parcel.iter().map(|one| ("parcel", vec![parcel(one)])));
    let what = contents(report.files, report.folders, report.links);
    rows.extend([
        ("locked", report.locked()),
        ("hidden", vec![report.hidden().to_owned()]),
        ("holds", vec![format!("{} in {what}", size(report.before_bytes))]),
        ("packed", vec![packed]),
        ("largest", report.largest.iter().map(Largest::line).collect()),
        ("page", page),
    ]);
    let mut lines = vec![paint(Tone::Strong, &report.archive), String::new()];
    lines.extend(table::summary(&rows));
    lines.extend(listed(Tone::Strong, "The sender says:", &shown_lines(&report.message)));
    lines.extend(not_extracted_lines(report.not_extracted.as_deref().unwrap_or_default()));
    if let Some(upon) = &report.builds_upon {
        lines.extend([String::new(), paint(Tone::Look, upon.sentence())]);
    }
    if !report.said.is_empty() {
        lines.push(String::new());
        lines.extend(report.said.iter().map(|note| paint(Tone::Look, note)));
    }
    lines
}
