//! The verdict of a check: one that a layman understands, and the next step.

use super::{File, Report, SLIP_COLUMNS};
use crate::args::CheckArguments;
use crate::commands::deliveries::Parcel;
use crate::ui::paint::{Tone, paint};
use crate::ui::suggestion;
use crate::ui::text::{self, contents, size};
use crate::words::{enough_of, volume_word};
use std::path::PathBuf;
use under_seal_core::formats::sealed::volume::VolumeSet;

/// Spare volumes that were not made of these volumes, where nobody judged which of them were changed.
fn contradiction(not_fitting: &[u32]) -> String {
    let spares = text::numbers_with_words("spare volume", &[(not_fitting, "and the volumes", "and the volumes")]);
    format!("{} contradict each other: somebody changed one or the other on purpose.", text::capitalized(&spares))
}

/// One verdict that a layman understands, and the next step.
pub(super) fn verdict(set: &VolumeSet, report: &Report, typed: &CheckArguments) -> Vec<String> {
    let all = set.geometry.data_volumes;
    let wrong = report.wrong();
    if report.disputed {
        return vec![
            paint(
                Tone::Bad,
                format!(
                    "Incomplete: {wrong}, and the spare volumes contradict each other: somebody changed one on purpose."
                ),
            ),
            "Next: open it with the password, which tells the right spare volume from the wrong one:".to_owned(),
            suggestion::open_aside(
                typed.places().iter().map(PathBuf::as_path),
                typed.unlock.password.key_file.as_deref(),
            ),
            "Without the password, ask the sender for what is missing.".to_owned(),
        ];
    }
    if !wrong.is_empty() && !report.complete {
        let too_few = match set.spares.len() {
            0 => String::new(),
            1 => " The spare volume does not make all of that good.".to_owned(),
            _ => " The spare volumes do not make all of that good.".to_owned(),
        };
        let sentence = format!("Incomplete: {wrong}.{too_few}");
        if !report.unfinished.is_empty() {
            let next = "Next: wait for the packing that is at work, or pack again under this name. Then check again.";
            let why = "That completes what was interrupted, or clears it.";
            return vec![paint(Tone::Bad, sentence), next.to_owned(), why.to_owned()];
        }
        let again = if report.missing.len() + report.damaged.len() == 1 { "it" } else { "them" };
        let needed: usize = report.shortfalls.iter().map(|short| short.needed).sum();
        let asked = if needed == report.missing.len() + report.damaged.len() {
            again.to_owned()
        } else {
            enough_of(&report.shortfalls)
        };
        let put = if needed == 1 { "it" } else { "them" };
        let next = format!("Next: ask the sender for {asked} again, and put {put} beside the others, under any name.");
        if let Some(joining) = &report.joining {
            let next = "Next: it looks like one of several pieces of a file. Join them first with".to_owned();
            return vec![paint(Tone::Bad, sentence), next, joining.clone()];
        }
        let mut lines = vec![paint(Tone::Bad, sentence), next];
        if let Some(slip) = &report.slip {
            lines.push(
                match set.spares.is_empty() {
                    true => "Or tell the sender this resend slip, a short code from which exactly what is missing is made again:",
                    false => "Or tell the sender this resend slip, a short code from which exactly what the spare volumes lack is made again:",
                }
                .to_owned(),
            );
            lines.extend(
                text::in_lines(slip, SLIP_COLUMNS).iter().map(|line| format!("  {}", paint(Tone::Strong, line))),
            );
        }
        return lines;
    }
    let blemished = report.volumes.iter().flat_map(|volume| &volume.files).any(File::is_blemished);
    let here = match (all, blemished) {
        _ if !wrong.is_empty() => {
            let few = if set.spares.len() == 1 { "the spare volume makes" } else { "the spare volumes make" };
            let good = match report.missing.len() + report.damaged.len() {
                1 => "it",
                2 => "both",
                _ => "all of them",
            };
            let wrong = text::capitalized(&wrong);
            format!("{wrong}: {few} {good} good. Nothing need be sent again")
        }
        (1, true) => format!("The {} can be read", volume_word(set)),
        (1, false) => format!("The {} is whole", volume_word(set)),
        (_, true) => format!("All {all} volumes can be read"),
        (_, false) => format!("All {all} volumes are here and whole"),
    };
    let them = if all == 1 { "it" } else { "them" };
    let mut open =
        suggestion::open_aside(typed.places().iter().map(PathBuf::as_path), typed.unlock.password.key_file.as_deref());
    let mut lines = Vec::new();
    if blemished && wrong.is_empty() {
        lines.push(paint(Tone::Look, "A file is damaged, but everything needed can be read all the same."));
    }
    match &report.contents {
        Some(inside) => {
            let inside_is = match report.secret {
                true => "everything inside is genuine and complete",
                false => "everything inside is complete. It has no password, so anybody can have made it",
            };
            match wrong.is_empty() {
                true => lines.push(paint(Tone::Good, format!("{here}; {inside_is}."))),
                false => {
                    lines.push(paint(Tone::Good, format!("{here}.")));
                    lines.push(paint(Tone::Good, format!("{}.", text::capitalized(inside_is))));
                }
            }
            let what = contents(inside.files, inside.folders, inside.links);
            lines.push(format!("Inside: {what}, {}, every digest compared.", size(inside.bytes)));
            if !inside.changed_while_read.is_empty() {
                let names = text::first_few(&inside.changed_while_read);
                lines.push(paint(Tone::Look, format!("Changed while they were packed: {names}.")));
            }
            if let Some(Parcel { number, count, .. }) = &inside.parcel {
                let told = format!(
                    "This is parcel {number} of {count}. The others are archives by themselves, and are not counted here."
                );
                lines.push(paint(Tone::Look, told));
            }
            match &inside.builds_upon {
                None => lines.push("Next: open it with".to_owned()),
                Some(upon) => {
                    lines.push(paint(Tone::Look, upon.sentence()));
                    let into = format!("the folder in which {} was opened, here called opened", upon.archive);
                    lines.push(format!("Next: open it into {into}, with"));
                    open = suggestion::open_changes(
                        typed.places().iter().map(PathBuf::as_path),
                        typed.unlock.password.key_file.as_deref(),
                    );
                }
            }
        }
        None if !report.not_fitting.is_empty() => {
            lines.push(paint(Tone::Bad, contradiction(&report.not_fitting)));
            lines.push("Next: add --ask-password to see which of them. Or open it with".to_owned());
        }
        None => {
            lines.push(paint(Tone::Good, format!("{here}. Add --ask-password to check that nobody changed {them}.")));
            lines.push("Next: open it with".to_owned());
        }
    }
    lines.push(open);
    if report.contents.is_some() && (!report.forged.is_empty() || !report.not_fitting.is_empty()) {
        lines.push("To write again what was changed on purpose, as it was:".to_owned());
        lines.push(suggestion::mend(
            typed.places().iter().map(PathBuf::as_path),
            typed.unlock.password.key_file.as_deref(),
        ));
    }
    lines
}
