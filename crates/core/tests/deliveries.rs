//! Whole deliveries, simulated: volumes travel under other names, and some are lost, damaged, cut short, doubled or
//! lengthened. Each ends in identical files, or in naming exactly what is missing or damaged; what a slip then asks for
//! makes it whole.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test stops at the first thing that is not as it should be")]

mod support;

use proptest::prelude::*;
use proptest::sample::Index;
use std::collections::BTreeSet;
use std::ffi::OsStr;
use std::fs;
use std::path::{Path, PathBuf};
use support::{Desk, noise, tree};
use under_seal_core::ErrorClass;
use under_seal_core::proof::{Slip, VolumeState, inspect};
use under_seal_core::rework::{Resent, resend};
use under_seal_core::volume::{CELL_BYTES, Geometry, HEADER_BYTES, VolumeSet};

/// What happens to one volume on its way.
#[derive(Debug, Clone)]
enum Fault {
    None,
    Lost,
    /// A byte behind the header changes.
    Flipped(Index),
    /// A byte of the header changes.
    HeaderFlipped(Index),
    /// Only so much arrives.
    CutShort(Index),
    /// It comes twice, and a byte of the first one changes.
    DoubledAndFlipped(Index),
    /// Something stands behind its end.
    Lengthened,
}

fn fault() -> impl Strategy<Value = Fault> {
    prop_oneof![
        4 => Just(Fault::None),
        1 => Just(Fault::Lost),
        1 => any::<Index>().prop_map(Fault::Flipped),
        1 => any::<Index>().prop_map(Fault::HeaderFlipped),
        1 => any::<Index>().prop_map(Fault::CutShort),
        1 => any::<Index>().prop_map(Fault::DoubledAndFlipped),
        1 => Just(Fault::Lengthened),
    ]
}

fn flip(bytes: &mut [u8], at: usize) {
    bytes[at] ^= 0x10;
}

/// Brings a volume to the inbox; the indices of its cells that are lost then, by a reckoning of its own.
fn carry(volume: &Path, number: u32, fault: &Fault, inbox: &Path, geometry: &Geometry) -> BTreeSet<u32> {
    let mut bytes = fs::read(volume).unwrap();
    let cell_of = |at: usize| ((at - HEADER_BYTES) / CELL_BYTES) as u32;
    let behind_header = |index: &Index, length: usize| HEADER_BYTES + index.index(length - HEADER_BYTES);
    let all = || (0..geometry.cells_in(number)).collect();
    let name = |copy: u32| inbox.join(format!("ATT{:05}.bin", number * 7_919 % 1_000 + copy * 1_000));
    let mut lost = BTreeSet::new();
    match fault {
        Fault::None => {}
        Fault::Lost => return all(),
        Fault::Flipped(index) => {
            let at = behind_header(index, bytes.len());
            flip(&mut bytes, at);
            lost.insert(cell_of(at));
        }
        Fault::HeaderFlipped(index) => flip(&mut bytes, 8 + index.index(HEADER_BYTES - 8)),
        Fault::CutShort(index) => {
            let at = behind_header(index, bytes.len());
            bytes.truncate(at);
            lost.extend(cell_of(at)..geometry.cells_in(number));
        }
        Fault::DoubledAndFlipped(index) => {
            fs::write(name(1), &bytes).unwrap();
            let at = behind_header(index, bytes.len());
            flip(&mut bytes, at);
        }
        Fault::Lengthened => bytes.extend_from_slice(b"-- \r\nA list's footer\r\n"),
    }
    fs::write(name(0), bytes).unwrap();
    lost
}

/// The first volume always arrives, maybe damaged, with its header; so there is something to know the set by.
fn with_a_known_first(mut faults: Vec<Fault>) -> Vec<Fault> {
    if matches!(faults[0], Fault::Lost | Fault::HeaderFlipped(_)) {
        faults[0] = Fault::None;
    }
    faults
}

fn packed(fit: &str) -> (Desk, Vec<PathBuf>) {
    let desk = Desk::new();
    desk.source("a/noise", &noise(420_000)).source("b/text", &[b'x'; 30_000]).source("Überblick – Laterne", b"");
    desk.source("b/more noise", &noise(130_000));
    let volumes = desk.pack(fit);
    (desk, volumes)
}

fn again(desk: &Desk, sent: &VolumeSet, slip: &Slip) -> Resent {
    let folder = desk.path("again");
    desk.with_context(&|| false, |context| resend(sent, slip, &folder, OsStr::new("set"), context)).unwrap()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 40, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn each_ends_in_identical_files_or_in_naming_what_is_missing(
        fit in prop_oneof![Just("70KB"), Just("150KB"), Just("300KB"), Just("")],
        faults in prop::collection::vec(fault(), 12).prop_map(with_a_known_first),
    ) {
        let (desk, volumes) = packed(fit);
        let inbox = desk.path("inbox");
        fs::create_dir(&inbox).unwrap();
        let sent = VolumeSet::from_files(&volumes).unwrap();
        let mut expected = BTreeSet::new();
        let mut missing = Vec::new();
        for ((number, volume), fault) in (1..).zip(&volumes).zip(&faults) {
            let lost = carry(volume, number, fault, &inbox, &sent.geometry);
            expected.extend(lost.iter().map(|index| sent.geometry.first_cell(number) + u64::from(*index)));
            missing.extend(matches!(fault, Fault::Lost).then_some(number));
        }

        let set = VolumeSet::gather(std::slice::from_ref(&inbox)).unwrap();
        let found = desk.with_context(&|| false, |context| inspect(&set, context)).unwrap();
        let named: BTreeSet<u64> = found.lost.iter().flat_map(|run| run.first..run.end()).collect();
        prop_assert_eq!(&named, &expected);
        prop_assert_eq!(found.numbers(VolumeState::Missing), missing.clone());
        let opened = desk.open(std::slice::from_ref(&inbox), &desk.path("board"));
        if let Some(slip) = Slip::of(&set, &found) {
            let class = if missing.is_empty() { ErrorClass::Damaged } else { ErrorClass::VolumesMissing };
            prop_assert_eq!(opened.unwrap_err().class(), class);
            prop_assert!(!desk.path("board/source").exists(), "something landed");
            let slip = Slip::read(&slip.code().to_lowercase()).unwrap();
            again(&desk, &sent, &slip);
            for (place, file) in fs::read_dir(desk.path("again")).unwrap().enumerate() {
                fs::copy(file.unwrap().path(), inbox.join(format!("later {place}"))).unwrap();
            }
            desk.open(&[inbox], &desk.path("board")).unwrap();
        } else {
            opened.unwrap();
        }
        prop_assert_eq!(tree(&desk.path("board/source")), tree(&desk.path("source")));
    }
}

/// A supplement that was changed on its way is worth nothing, and does no harm.
#[test]
fn no_flipped_byte_of_a_supplement_is_believed() {
    let (desk, volumes) = packed("150KB");
    let sent = VolumeSet::from_files(&volumes).unwrap();
    let inbox = desk.path("inbox");
    fs::create_dir(&inbox).unwrap();
    for (number, volume) in (1..).zip(&volumes) {
        carry(volume, number, &Fault::None, &inbox, &sent.geometry);
    }
    let second = inbox.join("ATT00838.bin");
    let mut damaged = fs::read(&second).unwrap();
    flip(&mut damaged, 70_000);
    fs::write(second, damaged).unwrap();
    let set = VolumeSet::gather(std::slice::from_ref(&inbox)).unwrap();
    let found = desk.with_context(&|| false, |context| inspect(&set, context)).unwrap();
    let slip = Slip::of(&set, &found).unwrap();
    let (supplement, bytes) = again(&desk, &sent, &slip).supplement.unwrap();
    assert_eq!(bytes, (HEADER_BYTES + 4_096 + CELL_BYTES) as u64);
    let right = fs::read(supplement).unwrap();
    for at in (0..right.len()).step_by(997).chain(0..200).chain(4_096..4_140) {
        let mut flipped = right.clone();
        flip(&mut flipped, at);
        fs::write(inbox.join("later"), &flipped).unwrap();
        let set = VolumeSet::gather(std::slice::from_ref(&inbox)).unwrap();
        let found = desk.with_context(&|| false, |context| inspect(&set, context)).unwrap();
        assert_eq!(found.numbers(VolumeState::Damaged), [2], "byte {at}");
    }
}
