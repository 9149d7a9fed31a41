//! A plan's numbers: the cut into volumes is the one that packing makes, and samples stand for the whole.

use crate::support::{Desk, noise};
use rstest::rstest;
use std::fs;
use under_seal_core::codecs::block::Squeeze;
use under_seal_core::formats::registry::{Format, PAGE, SEALED};
use under_seal_core::ground::fit::Fit;
use under_seal_core::source::{Catalogue, Choice};
use under_seal_core::tasks::plan::{Advice, Outline, Plan};

fn plan(desk: &Desk) -> (Catalogue, Plan) {
    plan_for(desk, Fit::OneVolume)
}

fn plan_for(desk: &Desk, fit: Fit) -> (Catalogue, Plan) {
    desk.with_context(&|| false, |context| {
        let catalogue = Catalogue::gather(&[desk.path("source")], &Choice::default(), &|_| false, context).unwrap();
        let plan = Plan::make(&catalogue, &[Squeeze::None, Squeeze::Even], fit, context).unwrap();
        (catalogue, plan)
    })
}

/// Without squeezing nothing is guessed, so the whole cut must be the real one, whatever the lengths.
#[rstest]
fn the_outline_is_the_cut_that_packing_makes(
    #[values(0, 1, 60_000, 61_311, 65_536, 129_000, 1_100_000)] length: usize,
    #[values((&SEALED, ""), (&SEALED, "70KB"), (&SEALED, "200KB"), (&SEALED, "1MB"), (&PAGE, ""))] packed_as: (
        &'static Format,
        &str,
    ),
) {
    let (format, fit) = packed_as;
    let mut desk = Desk::new();
    desk.format = format;
    desk.squeeze = Squeeze::None;
    desk.source("noise", &noise(length));
    let given = if fit.is_empty() { Fit::OneVolume } else { fit.parse().unwrap() };
    let (_, plan) = plan_for(&desk, given);
    let stream = plan.estimate(Squeeze::None).unwrap().stream_bytes.likely;
    let outline = Outline::new(stream, given, format).unwrap();
    let lengths: Vec<u64> = desk.pack(fit).iter().map(|volume| fs::metadata(volume).unwrap().len()).collect();
    assert_eq!((outline.volumes as usize, outline.bytes), (lengths.len(), lengths.iter().sum()));
    assert_eq!(outline.last_bytes, *lengths.last().unwrap());
}

/// Large enough that only samples of it are compressed: files of two kinds by turns.
#[test]
fn samples_stand_for_the_whole_within_the_range_that_is_told() {
    let desk = Desk::new();
    for number in 0..120 {
        let content = if number % 3 == 0 {
            noise(700_000)
        } else {
            format!("{number} steps to the lamp\n").repeat(40_000).into()
        };
        desk.source(&format!("{number:03}"), &content);
    }
    let (_, plan) = plan(&desk);
    let estimate = plan.estimate(Squeeze::Even).unwrap();
    assert!(!estimate.exact);
    let real = fs::metadata(&desk.pack("")[0]).unwrap().len();
    let bytes = |stream| Outline::new(stream, Fit::OneVolume, &SEALED).unwrap().bytes;
    let (low, likely, high) = (estimate.stream_bytes.low, estimate.stream_bytes.likely, estimate.stream_bytes.high);
    assert!((bytes(low)..=bytes(high)).contains(&real), "{} to {}, and it is {real}", bytes(low), bytes(high));
    assert!(bytes(likely).abs_diff(real) * 20 <= real, "{}, and it is {real}", bytes(likely));
}

#[test]
fn advice_names_the_lightest_folder_that_helps_and_never_the_whole() {
    let desk = Desk::new();
    for (path, length) in [("heavy/a", 300_000), ("light/b", 80_000), ("c", 30_000)] {
        desk.source(path, &noise(length));
    }
    let (catalogue, plan) = plan(&desk);
    let advice = plan.advice(&catalogue, Squeeze::None, "140KB".parse().unwrap());
    let named: Vec<String> = advice
        .iter()
        .map(|advice| match advice {
            Advice::Without(path, bytes, volumes) => {
                format!("{} {bytes} {volumes}", String::from_utf8_lossy(path.as_bytes()))
            }
            Advice::Squeeze(squeeze, volumes) => format!("{squeeze:?} {volumes}"),
        })
        .collect();
    assert_eq!(named, ["source/light 80000 3"]);
    assert!(plan.advice(&catalogue, Squeeze::None, Fit::OneVolume).is_empty());
}
