//! `mend`: what is missing or damaged is recreated from spare volumes; or spare volumes are added. A password is needed only where volumes
//! and spare volumes contradict each other.

use super::in_place::{settled, target_folder};
use super::{resend, show};
use crate::args::MendArguments;
use crate::failure::{DONE, Failure};
use crate::places::gather_in;
use crate::ui::paint::{Tone, paint};
use crate::ui::progress::ProgressLine;
use crate::ui::suggestion::{self, Part};
use crate::ui::table::{self, Column};
use crate::ui::text::{self, count, grouped, number_list, size};
use crate::words::survives;
use crate::{credentials, session};
use serde::Serialize;
use std::num::NonZeroU32;
use std::path::{Path, PathBuf};
use under_seal_core::disk::folder_of;
use under_seal_core::formats::sealed::volume::spares::spare_bytes;
use under_seal_core::formats::sealed::volume::{VolumeKind, VolumeSet};
use under_seal_core::tasks::check::{SetReport, inspect};
use under_seal_core::tasks::mend::{MendError, MendedVolume, Wanted, mend};
use under_seal_core::tasks::pack::Target;

/// Runs the command; the exit code.
pub fn run(arguments: &MendArguments) -> Result<u8, Failure> {
    for place in &arguments.places {
        settled(place, &arguments.work)?;
    }
    let progress = ProgressLine::for_reading(None, &arguments.work);
    let context = session::context(&progress, arguments.work.threads);
    let set = judged(gather_in(&arguments.places, &context)?, arguments)?;
    let found = inspect(&set, &context)?;
    let wanted = match arguments.add_spares {
        Some(more) => Wanted::added_spares(&set, &found, more.get())?,
        None => {
            let wanted = Wanted::lost(&set, &found, arguments.missing_spares.map_or(0, NonZeroU32::get));
            wanted.map_err(|error| too_few(error, arguments))?
        }
    };
    let beside = set.any_file().map(|file| folder_of(&file.spot.path));
    let folder = arguments.to.as_deref().or(beside).unwrap_or(Path::new("."));
    let target = Target { folder: folder.to_owned(), stem: resend::stem(&set) };
    let made = match wanted.is_nothing() {
        true => Vec::new(),
        false => mend(&set, &wanted, &target, &context)?,
    };
    drop(progress);
    let mut report = Report::new(&set, &found, made, arguments.add_spares.is_some());
    report.missing_spares = wanted.left().to_vec();
    show(&report, &arguments.work, || [lines(&set, &report, &target), left_lines(&set, &report, arguments)].concat())?;
    Ok(DONE)
}

/// What is needed besides says a check.
fn too_few(error: MendError, arguments: &MendArguments) -> Failure {
    let is_too_few = matches!(error, MendError::TooFew);
    let why = Failure::from(error);
    if !is_too_few {
        return why;
    }
    Failure::WithWayOut {
        why: Box::new(why),
        sentence: "See what else is needed, and how to ask the sender for it, with".to_owned(),
        command: Some(suggestion::check(arguments.places.iter().map(PathBuf::as_path))),
    }
}

/// The set with its seals judged, where a password is given or asked for. The seals of an archive without one prove nothing: anybody can
/// have made them.
fn judged(set: VolumeSet, arguments: &MendArguments) -> Result<VolumeSet, Failure> {
    let unlocked = match arguments.ask_password {
        true => Some(credentials::to_unlock(&set, &arguments.unlock)?),
        false => credentials::unasked(&set, &arguments.unlock, credentials::expects_password(&arguments.unlock))?,
    };
    Ok(unlocked.filter(|unlocked| unlocked.secret).map_or(set, |unlocked| unlocked.set))
}

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    set: String,
    #[serde(rename = "made_files")]
    files: Vec<File>,
    bytes: u64,
    /// Numbers of spare volumes that are not here and were not made.
    missing_spares: Vec<u32>,
    /// Whether the password told what was changed on purpose.
    seals_judged: bool,
    #[serde(skip)]
    only_added: bool,
}

#[derive(Serialize)]
struct File {
    path: String,
    volume: Option<u32>,
    spare_volume: Option<u32>,
    bytes: u64,
    #[serde(skip)]
    name: String,
}

impl From<MendedVolume> for File {
    fn from(MendedVolume { kind, number, path, bytes }: MendedVolume) -> Self {
        let is_spare = kind == VolumeKind::Spare;
        Self {
            path: text::path(&path),
            volume: (!is_spare).then_some(number),
            spare_volume: is_spare.then_some(number),
            bytes,
            name: path.file_name().map(text::name).unwrap_or_default(),
        }
    }
}

impl Report {
    fn new(set: &VolumeSet, found: &SetReport, made: Vec<MendedVolume>, only_added: bool) -> Self {
        let files: Vec<File> = made.into_iter().map(File::from).collect();
        let bytes = files.iter().map(|file| file.bytes).sum();
        Self {
            command: "mend",
            exit_code: DONE,
            set: set.ids.set_text(),
            files,
            bytes,
            missing_spares: Vec::new(),
            seals_judged: found.seals_judged,
            only_added,
        }
    }
}

/// Which spare volumes are not here, and how they are made again by whoever wants that.
fn left_lines(set: &VolumeSet, report: &Report, arguments: &MendArguments) -> Vec<String> {
    let left = report.missing_spares.len();
    if left == 0 {
        return Vec::new();
    }
    let (which, them) = match report.missing_spares.as_slice() {
        [only] => (format!("Spare volume {only} is"), "it"),
        several => (format!("Spare volumes {} are", number_list(several)), "them"),
    };
    let number = left.to_string();
    // What was written there just now is not replaced.
    let to = arguments.to.as_ref().map(|to| {
        let mut another = to.as_os_str().to_owned();
        another.push("-2");
        another
    });
    let to = to.as_deref().map(|to| [Part::Word("--to"), Part::Named(to)]);
    let words = std::iter::once(Part::Word("mend"))
        .chain(arguments.places.iter().map(|place| Part::Named(place.as_os_str())))
        .chain(to.into_iter().flatten())
        .chain([Part::Word("--missing-spares"), Part::Word(&number)]);
    vec![
        String::new(),
        format!(
            "{which} not here, and not needed now. Make {them} again, {} each, with",
            size(spare_bytes(&set.geometry))
        ),
        suggestion::command(&words.collect::<Vec<_>>()),
    ]
}

fn lines(set: &VolumeSet, report: &Report, target: &Target) -> Vec<String> {
    if report.files.is_empty() {
        let needed = if report.missing_spares.is_empty() { "" } else { " that is needed" };
        return vec![paint(Tone::Good, format!("Nothing{needed} is missing or damaged, so nothing was written."))];
    }
    let made = report.files.len();
    let heading = match report.only_added {
        true => format!("Added and verified: {}, {}.", count(made as u64, "spare volume"), size(report.bytes)),
        false => format!("Recreated and verified: {}, {}.", count(made as u64, "volume"), size(report.bytes)),
    };
    let mut lines = vec![paint(Tone::Good, heading), String::new()];
    let row = |file: &File| {
        let spare = file.spare_volume.map(|number| format!("spare {number}"));
        let number = file.volume.map(|number| number.to_string()).or(spare).unwrap_or_default();
        (Tone::Plain, vec![number, file.name.clone(), grouped(file.bytes)])
    };
    let columns = [Column::Number("volume"), Column::Path("file"), Column::Number("bytes")];
    lines.extend(table::lines(&columns, &report.files.iter().map(row).collect::<Vec<_>>()));
    lines.push(String::new());
    lines.extend(table::summary(&[("where", vec![target_folder(target)])]));
    lines.push(String::new());
    if report.only_added {
        let spares = set.spare_count() + u32::try_from(made).unwrap_or(0);
        let survives = survives(set.geometry.data_volumes, spares);
        let them = if made == 1 { "it" } else { "them" };
        let with = match spares {
            1 => "With the spare volume".to_owned(),
            all => format!("With all {all} spare volumes"),
        };
        lines.push(format!("{with}, {survives} on the way."));
        lines.push(format!(
            "Next: send {them} with the others. The recipient puts {them} beside the others, under any name."
        ));
        return lines;
    }
    lines.push(match report.seals_judged {
        true => "Every cell that they are made of is genuine: the password proves it.".to_owned(),
        false => "Without the password nobody can tell whether somebody changed a volume on purpose. Opening tells it."
            .to_owned(),
    });
    let is_beside = set.files().any(|file| folder_of(&file.spot.path) == target.folder);
    if is_beside {
        lines.push("Next: check all of them with".to_owned());
        lines.push(suggestion::check([target.folder.as_path()]));
    } else {
        let is_here = |file: &&File| {
            let data = file.volume.is_some_and(|number| set.volumes.contains_key(&number));
            data || file.spare_volume.is_some_and(|number| set.spares.contains_key(&number))
        };
        let them = if made == 1 { "it" } else { "them" };
        let instead = match report.files.iter().filter(is_here).count() {
            0 => "",
            1 => ", in place of the one that is damaged",
            _ => ", in place of those that are damaged",
        };
        lines.push(format!("Next: put {them} beside the others{instead}. Then check again."));
    }
    lines
}
