//! What the commands have in common that make another archive of one: where it goes, and what is said of its volumes.

use crate::args::{ConfigurationArguments, WorkArguments};
use crate::failure::{BadValue, Failure};
use crate::session;
use crate::settings::Settings;
use crate::ui::paint::Tone;
use crate::ui::progress::ProgressLine;
use crate::ui::suggestion::{self, Part};
use crate::ui::table::{self, Column};
use crate::ui::text::{self, count, grouped, shown, size};
use crate::words::survives;
use serde::Serialize;
use std::path::{Path, PathBuf};
use under_seal_core::formats::archive::Archive;
use under_seal_core::formats::registry::{Format, SEALED};
use under_seal_core::formats::sealed::volume::VolumeSet;
use under_seal_core::ground::fit::Fit;
use under_seal_core::tasks::in_place::{complete_earlier, own_place};
use under_seal_core::tasks::pack::{Target, TargetWish};

/// So many volumes are listed; of more, the first and the last.
const LISTED: usize = 12;

/// Where new volumes of a set go, and whether that is in the place of the old ones.
pub(super) fn new_place(to: Option<&Path>, set: &VolumeSet) -> Result<(Target, bool), Failure> {
    let Some(to) = to else {
        let own = own_place(set).ok_or(Failure::Value(BadValue::NoOwnPlace))?;
        return Ok((own, true));
    };
    let stem = super::resend::stem(set);
    let wish =
        TargetWish { to: Some(to), name: Some(&stem), sources: &[], format: Some(&SEALED), usual_format: &SEALED };
    Ok((Target::resolve(&wish)?.0, false))
}

/// Completes what an earlier run left there, so that all volumes of a set are.
pub(super) fn settled(archive: &Path, work: &WorkArguments) -> Result<(), Failure> {
    let progress = ProgressLine::for_reading(None, work);
    Ok(complete_earlier(archive, &session::context(&progress, work.threads))?)
}

#[derive(Serialize)]
pub(super) struct Volume {
    pub path: String,
    pub bytes: u64,
    #[serde(skip)]
    name: String,
}

impl Volume {
    /// What its file is called.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// All of a set, where they are or would be, with their lengths.
    pub fn all(placed: Vec<(PathBuf, u64)>) -> Vec<Self> {
        let one = |(path, bytes): (PathBuf, u64)| {
            let name = path.file_name().map(text::name).unwrap_or_default();
            Self { path: text::path(&path), bytes, name }
        };
        placed.into_iter().map(one).collect()
    }
}

/// What of an archive would be lost where another of its format takes its place, if anything would.
pub(super) fn could_be_lost(archive: &Archive) -> Option<String> {
    if let Some(first) = archive.refused().first() {
        return Some(format!("something in it that could not be kept ('{}' for one)", shown(&first.name)));
    }
    (archive.facts().bytes_in_front > 0).then(|| "what stands in front of the archive in its file".to_owned())
}

/// The fit that is typed, if one is.
pub(super) fn typed_fit(
    fit: Option<&String>,
    configuration: &ConfigurationArguments,
    work: &WorkArguments,
) -> Result<Option<Fit>, Failure> {
    let Some(typed) = fit else { return Ok(None) };
    Ok(Some(Settings::for_fit(Some(typed), configuration, work.threads)?.fit.value.fit))
}

/// The folder that volumes go to.
pub(super) fn target_folder(target: &Target) -> String {
    target.path_with("").parent().map(text::path).unwrap_or_default()
}

/// What the files of an archive are called.
pub(super) const fn noun(format: &Format) -> &'static str {
    if format.abilities.volumes { "volume" } else { "file" }
}

/// How many old volumes went, or files, if any did.
pub(super) fn replaced(paths: &[String], format: &Format) -> Vec<String> {
    let old = format!("old {}", noun(format));
    (!paths.is_empty()).then(|| count(paths.len() as u64, &old)).into_iter().collect()
}

/// The command that puts them together with everything else for the recipient.
pub(super) fn hand_over(volumes: &[Volume], format: &Format) -> String {
    // Volumes are known by each of them; parts of an open format by the last.
    let one = if format.abilities.volumes { volumes.first() } else { volumes.last() };
    let path = one.map_or("", |volume| volume.path.as_str());
    suggestion::command(&[Part::Word("handover"), Part::Named(path.as_ref()), Part::Word("--to to-send")])
}

/// What the spare volumes are good for; nothing where there are none.
pub(super) fn spare_line(data_volumes: usize, spares: &[Volume]) -> Vec<String> {
    let number = |count: usize| u32::try_from(count).unwrap_or(u32::MAX);
    let bytes = spares.iter().map(|spare| spare.bytes).sum();
    let told = || {
        let survives = survives(number(data_volumes), number(spares.len()));
        format!("{}, {}: {survives}", count(spares.len() as u64, "volume"), size(bytes))
    };
    (!spares.is_empty()).then(told).into_iter().collect()
}

/// Rows of a table for the spare volumes behind the others.
pub(super) fn spare_rows(spares: &[Volume]) -> Vec<(Tone, Vec<String>)> {
    let row = |(number, spare): (usize, &Volume)| {
        (Tone::Plain, vec![format!("spare {number}"), spare.name.clone(), grouped(spare.bytes)])
    };
    (1..).zip(spares).map(row).collect()
}

/// A row a volume; of many, those in the middle share one. The spare ones come last.
pub(super) fn volume_lines(volumes: &[Volume], spares: &[Volume]) -> Vec<String> {
    let row = |(number, volume): (usize, &Volume)| {
        (Tone::Plain, vec![number.to_string(), volume.name.clone(), grouped(volume.bytes)])
    };
    let mut rows: Vec<_> = (1..).zip(volumes).map(row).collect();
    let each = volumes.get(1).map(|volume| format!("{} each", grouped(volume.bytes))).unwrap_or_default();
    table::shorten(&mut rows, LISTED, |hidden| vec!["…".to_owned(), format!("{hidden} more"), each]);
    rows.extend(spare_rows(spares));
    table::lines(&[Column::Number("volume"), Column::Path("file"), Column::Number("bytes")], &rows)
}
