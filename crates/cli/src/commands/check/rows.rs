//! The table of a set's files: what each is, which of the volumes, and what is wrong with it.

use crate::ui::paint::Tone;
use crate::ui::text::{self, bytes, count, grouped};
use under_seal_core::tasks::check::{Damage, FileReport, SetReport, VolumeReport};

/// Sets of more volumes than this have their intact volumes drawn together.
const VOLUMES_LISTED: usize = 24;

/// A row a file. In a large set, neighbours that are intact share one.
pub(super) fn rows(found: &SetReport, not_fitting: &[u32]) -> Vec<(Tone, Vec<String>)> {
    let row = |run: &[VolumeReport]| match run {
        [first, .., last] => {
            let all = run.iter().flat_map(|volume| &volume.files).map(|file| file.bytes).sum();
            let numbers = format!("{} to {}", first.number, last.number);
            vec![(Tone::Plain, vec![numbers, count(run.len() as u64, "file"), grouped(all), "intact".into()])]
        }
        run => run.iter().flat_map(|volume| volume_rows(volume, volume.number.to_string())).collect(),
    };
    let spare = |volume: &VolumeReport| {
        let mut rows = volume_rows(volume, format!("spare {}", volume.number));
        if not_fitting.contains(&volume.number) {
            rows.iter_mut().for_each(|(tone, cells)| {
                *tone = Tone::Bad;
                cells.pop();
                cells.push(
                    match found.seals_judged {
                        true => "changed on purpose; not used",
                        false => "intact, but not made of these volumes; not used",
                    }
                    .to_owned(),
                );
            });
        }
        rows
    };
    drawn_together(found).flat_map(row).chain(found.spares.iter().flat_map(spare)).collect()
}

/// The volumes in runs, each of which is drawn as one: in a large set, neighbours that are intact.
pub(super) fn drawn_together(found: &SetReport) -> impl Iterator<Item = &[VolumeReport]> {
    let large = found.volumes.len() > VOLUMES_LISTED;
    let is_plain = move |volume: &VolumeReport| large && volume.files.len() == 1 && volume.files[0].is_intact();
    found.volumes.chunk_by(move |one, other| is_plain(one) && is_plain(other))
}

fn volume_rows(volume: &VolumeReport, number: String) -> Vec<(Tone, Vec<String>)> {
    // What is made good has nothing bad about it.
    let told = |tone: Tone, state: String| match (volume.made_good, tone) {
        (true, Tone::Bad) => (Tone::Look, format!("{state}; made good")),
        _ => (tone, state),
    };
    if volume.files.is_empty() {
        let (tone, state) = told(Tone::Bad, "missing".to_owned());
        return vec![(tone, vec![number, "-".into(), "-".into(), state])];
    }
    let row = |file: &FileReport| {
        let name = text::spot(&file.spot);
        let (tone, state) = file_state(file);
        let (tone, state) = told(tone, state);
        (tone, vec![number.clone(), name, grouped(file.bytes), state])
    };
    volume.files.iter().map(row).collect()
}

fn file_state(file: &FileReport) -> (Tone, String) {
    if file.is_intact() && file.supplement {
        return (Tone::Plain, "supplement, intact".to_owned());
    }
    if file.is_intact() {
        let behind = file.bytes.saturating_sub(file.expected_bytes);
        return match behind {
            0 => (Tone::Plain, "intact".to_owned()),
            more => (Tone::Plain, format!("intact; {} behind its end passed over", bytes(more))),
        };
    }
    if file.is_cut_short() {
        return (Tone::Bad, format!("cut short: {} of {}", grouped(file.bytes), bytes(file.expected_bytes)));
    }
    let places = |all: &[Damage]| {
        let place = |one: &Damage| format!("{} to {}", grouped(one.from), grouped(one.to - 1));
        text::first_few(&all.iter().map(place).collect::<Vec<_>>())
    };
    match (file.damage.as_slice(), file.forged.as_slice()) {
        ([], []) => (Tone::Look, "header damaged, contents intact".to_owned()),
        (damage, []) => (Tone::Bad, format!("damaged: bytes {}", places(damage))),
        ([], forged) => (Tone::Bad, format!("changed on purpose: bytes {}", places(forged))),
        (damage, forged) => {
            (Tone::Bad, format!("damaged: bytes {}; changed on purpose: bytes {}", places(damage), places(forged)))
        }
    }
}
