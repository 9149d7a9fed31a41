//! The map of a set: a strip for each file, on which damage is seen where it lies.

use super::rows::drawn_together;
use crate::ui::paint::{Tone, paint};
use crate::ui::text::size;
use under_seal_core::formats::sealed::volume::{Geometry, HEADER_BYTES};
use under_seal_core::tasks::check::{FileReport, SetReport, VolumeReport};

/// The strip of a volume of full length has so many signs at most.
const SIGNS: u64 = 60;

/// What a sign says of its stretch of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Stretch {
    Whole,
    Damaged,
    Absent,
}

impl Stretch {
    fn sign(self) -> &'static str {
        match self {
            Self::Whole => "─",
            Self::Damaged => "█",
            Self::Absent => "·",
        }
    }

    fn tone(self) -> Tone {
        match self {
            Self::Whole => Tone::Plain,
            Self::Damaged | Self::Absent => Tone::Bad,
        }
    }
}

/// The lines of the map, with its legend.
pub(super) fn lines(found: &SetReport, geometry: &Geometry) -> Vec<String> {
    let sign_bytes = geometry.volume_bytes(1).div_ceil(SIGNS).max(1);
    let strips: Vec<(String, Vec<Stretch>)> = drawn_together(found)
        .flat_map(|run| match run {
            [first, .., last] => {
                let numbers = format!("{} to {}", first.number, last.number);
                vec![(numbers, stretches(first.files.first(), geometry.volume_bytes(first.number), sign_bytes))]
            }
            run => run.iter().flat_map(|volume| volume_strips(volume, geometry, sign_bytes)).collect(),
        })
        .collect();
    let width = strips.iter().map(|(numbers, _)| numbers.len()).max().unwrap_or(0);
    let mut lines: Vec<String> =
        strips.iter().map(|(numbers, strip)| format!("  {numbers:>width$}  {}", drawn(strip))).collect();
    let legend = [Stretch::Whole, Stretch::Damaged, Stretch::Absent]
        .map(Stretch::sign)
        .into_iter()
        .zip(["whole", "damaged", "not there"])
        .map(|(sign, word)| format!("{sign} {word}"));
    let scale = format!("{}; a sign is {}", legend.collect::<Vec<_>>().join("  "), size(sign_bytes));
    lines.push(format!("  {:>width$}  {}", "", paint(Tone::Faint, scale)));
    lines
}

fn volume_strips(volume: &VolumeReport, geometry: &Geometry, sign_bytes: u64) -> Vec<(String, Vec<Stretch>)> {
    let length = geometry.volume_bytes(volume.number);
    let strip = |file: Option<&FileReport>| (volume.number.to_string(), stretches(file, length, sign_bytes));
    // A supplement has no place of its own on the map; what it makes good, the verdict tells.
    let strips: Vec<_> = volume.files.iter().filter(|file| !file.supplement).map(|file| strip(Some(file))).collect();
    if strips.is_empty() { vec![strip(None)] } else { strips }
}

/// What each sign of a file's strip says; of no file, that nothing is there.
fn stretches(file: Option<&FileReport>, length: u64, sign_bytes: u64) -> Vec<Stretch> {
    let sign = |place: u64| {
        let (from, to) = (place * sign_bytes, ((place + 1) * sign_bytes).min(length));
        let Some(file) = file.filter(|file| from < file.bytes) else { return Stretch::Absent };
        let header = file.header_damaged && from < HEADER_BYTES as u64;
        let damaged = file.damage.iter().chain(&file.forged).any(|damage| damage.from < to && from < damage.to);
        if header || damaged { Stretch::Damaged } else { Stretch::Whole }
    };
    (0..length.div_ceil(sign_bytes)).map(sign).collect()
}

fn drawn(strip: &[Stretch]) -> String {
    strip
        .chunk_by(|one, other| one == other)
        .filter_map(|run| Some((run.first()?, run.len())))
        .map(|(stretch, length)| paint(stretch.tone(), stretch.sign().repeat(length)))
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use under_seal_core::tasks::check::Damage;

    /// A file of 100 bytes of 120, ten to a sign.
    #[rstest]
    #[case::whole(120, false, &[], "────────────")]
    #[case::cut_short(95, false, &[(90, 120)], "─────────█··")]
    #[case::one_byte(120, false, &[(59, 60)], "─────█──────")]
    #[case::a_stretch_over_two_signs(120, false, &[(59, 61)], "─────██─────")]
    #[case::header(120, true, &[], "████████████")]
    fn a_strip_shows_where_damage_lies(
        #[case] bytes: u64,
        #[case] header_damaged: bool,
        #[case] damage: &[(u64, u64)],
        #[case] expected: &str,
    ) {
        let damage = damage.iter().map(|&(from, to)| Damage { from, to }).collect();
        let (spot, supplement) = ("x".into(), false);
        let file = FileReport {
            spot,
            bytes,
            expected_bytes: 120,
            header_damaged,
            supplement,
            has_all: false,
            damage,
            forged: Vec::new(),
        };
        let strip: String = stretches(Some(&file), 120, 10).into_iter().map(Stretch::sign).collect();
        assert_eq!(strip, expected);
    }

    #[test]
    fn what_is_missing_is_drawn_as_not_there() {
        assert_eq!(stretches(None, 25, 10), [Stretch::Absent; 3]);
    }
}
