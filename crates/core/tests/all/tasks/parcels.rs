//! Parcels: each within the limit, each opening alone, nothing lost and nothing cut.

use crate::support::system::{has_mode, set_mode};
use crate::support::{Desk, PASSWORD, noise, tree};
use proptest::prelude::*;
use rstest::rstest;
use std::fs;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use under_seal_core::formats::sealed::KeyCost;
use under_seal_core::ground::context::{Observer, Progress};
use under_seal_core::ground::secrets::Password;
use under_seal_core::source::{Catalogue, Choice};
use under_seal_core::tasks::open::open;
use under_seal_core::tasks::pack::parcels::Weights;
use under_seal_core::tasks::pack::{Delivery, PackError, PackRequest, Packed, Target};

fn pack(desk: &Desk, limit: &str, message: &str) -> Result<Packed, PackError> {
    let target = Target { folder: desk.path("out"), stem: "set".into() };
    let (sources, choice) = ([desk.path("source")], Choice::default());
    let fit = limit.parse().unwrap();
    let request = PackRequest { fit, message, parcels: true, ..PackRequest::new(&sources, &choice, &target) };
    let credentials = [Password::new(PASSWORD).unwrap().into()];
    desk.with_context(&|| false, |context| {
        Delivery::prepare(&request, context)?.pack(&credentials, KeyCost::CHEAPEST, context)
    })
}

/// How many parcels a division has, and which of these folders lie in one parcel each.
fn division(desk: &Desk, limit: u64) -> (usize, Vec<String>) {
    let catalogue = desk.with_context(&|| false, |context| {
        Catalogue::gather(&[desk.path("source")], &Choice::default(), &|_| false, context).unwrap()
    });
    let weights = desk.with_context(&|| false, |context| Weights::find(&catalogue, desk.squeeze, context).unwrap());
    let parcels = weights.divide(&catalogue, limit, 0).unwrap();
    let paths = |parcel: &[usize]| -> Vec<String> {
        let files = parcel.iter().map(|place| &catalogue.entries[*place].path);
        files.map(|path| String::from_utf8(path.as_bytes().to_vec()).unwrap()).collect()
    };
    (parcels.len(), parcels.iter().map(|parcel| paths(&parcel.members).join(" ")).collect())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]
    #[test]
    fn every_parcel_keeps_its_limit_and_opens_alone(
        files in prop::collection::vec((0_usize..4, 0_usize..4, 0_usize..60_000, any::<bool>()), 1..24),
        limit in 80_000_u64..200_000,
    ) {
        let desk = Desk::new();
        for (place, (folder, deeper, length, random)) in files.iter().enumerate() {
            let content = if *random { noise(*length) } else { vec![b'a' + place as u8; *length] };
            desk.source(&format!("{folder}/{deeper}/{place}"), &content);
        }
        let packed = pack(&desk, &format!("{limit}"), "Mind the step.").unwrap();
        for volume in &packed.volumes {
            prop_assert!(fs::metadata(&volume.path).unwrap().len() <= limit);
            desk.open(std::slice::from_ref(&volume.path), &desk.path("in")).unwrap();
        }
        let raw: u64 = files.iter().map(|file| file.2 as u64).sum();
        prop_assert!(packed.volumes.len() as u64 <= 1 + raw / (limit / 2 - 20_000));
        prop_assert_eq!(tree(&desk.path("source")), tree(&desk.path("in/source")));
    }
}

/// Cancels once something lands, having looked at a folder.
struct LooksAndStops<'a>(&'a Path, AtomicBool);

impl Observer for LooksAndStops<'_> {
    fn told(&self, progress: Progress<'_>) {
        if let Progress::Entry(path) = progress
            && path.as_bytes().ends_with(b"/second")
        {
            self.1.store(has_mode(self.0, 0o700), Ordering::Relaxed);
        }
    }
}

/// A folder into which nobody may write takes what further parcels bring, and is as it was again, even where one is given up.
#[test]
#[cfg_attr(windows, ignore = "there are no modes")]
fn a_folder_that_is_closed_takes_what_later_parcels_bring() {
    let desk = Desk::new();
    desk.source("closed/first", &noise(50_000)).source("closed/second", &noise(50_000));
    set_mode(desk.path("source/closed"), 0o555);
    let parcels = desk.pack_parcels("80KB");
    let (inbox, closed) = (desk.path("in"), desk.path("in/source/closed"));
    desk.open(&parcels[..1], &inbox).unwrap();
    let looks = LooksAndStops(&closed, AtomicBool::new(false));
    let mut second = desk.unlock(&parcels[1..]).unwrap();
    let stop = || looks.1.load(Ordering::Relaxed);
    let given_up = desk.watched_by(&looks, &stop, |context| open(&mut second, &inbox, context));
    assert!(given_up.is_err() && stop(), "it was not open meanwhile");
    assert!(has_mode(&closed, 0o555) && !closed.join("second").exists());
    desk.open(&parcels[1..], &inbox).unwrap();
    assert_eq!(tree(&desk.path("source")), tree(&inbox.join("source")));
}

/// Small files shrink beside each other as they do not by themselves: there are hardly more parcels than a whole archive would fill.
#[rstest]
#[case::sixty_kilobytes("60KB", 60_000)]
#[case::two_hundred("200KB", 200_000)]
fn many_small_files_fill_their_parcels(#[case] fit: &str, #[case] limit: u64) {
    let desk = Desk::new();
    let words: Vec<String> =
        noise(3_000).chunks(6).map(|word| word.iter().map(|byte| char::from(b'a' + byte % 26)).collect()).collect();
    let mut chosen = noise(600_000).into_iter().map(usize::from).collect::<Vec<_>>().into_iter();
    for number in 0..1_500 {
        let text: Vec<&str> = chosen.by_ref().take(20 + number % 200).map(|word| words[word].as_str()).collect();
        desk.source(&format!("{}/{number}", number % 25), text.join(" ").as_bytes());
    }
    let whole = fs::metadata(&desk.pack("")[0]).unwrap().len();
    fs::remove_dir_all(desk.path("out")).unwrap();
    let parcels = desk.pack_parcels(fit).len() as u64;
    // Header, key slots and padding are in each.
    let fewest = (whole - 12_288).div_ceil(limit - 12_288);
    assert!(parcels * 10 <= fewest * 11 + 9, "{parcels} parcels, where {fewest} are enough");
}

#[test]
fn folders_stay_together_where_that_costs_no_parcel() {
    let desk = Desk::new();
    for folder in ["drawings", "letters", "survey"] {
        for file in 0..3 {
            desk.source(&format!("{folder}/{file}"), &noise(30_000));
        }
    }
    let (count, parcels) = division(&desk, 130_000);
    assert_eq!(count, 3);
    for (parcel, folder) in parcels.iter().zip(["drawings", "letters", "survey"]) {
        assert_eq!(parcel.matches(folder).count(), 4, "{parcels:?}");
    }
}

#[test]
fn a_folder_is_taken_apart_where_that_saves_a_parcel() {
    let desk = Desk::new();
    for (file, length) in [("a/1", 60_000), ("a/2", 30_000), ("b/1", 60_000), ("c/1", 60_000), ("c/2", 30_000)] {
        desk.source(file, &noise(length));
    }
    // 240 KB in parcels of 125 KB: whole folders (90, 60, 90) need three, single files (60 + 60, 60 + 30 + 30) two.
    assert_eq!(division(&desk, 135_000).0, 2);
}

#[rstest]
#[case::larger_than_the_fit("80KB", "1 files are larger than the fit")]
#[case::fit_too_small("12KB", "a volume needs at least 12288 bytes")]
fn what_cannot_be_divided_is_told_before_anything_is_written(#[case] limit: &str, #[case] expected: &str) {
    let desk = Desk::new();
    desk.source("large", &noise(100_000)).source("small", &noise(1_000));
    let error = pack(&desk, limit, "").unwrap_err();
    assert_eq!(error.to_string(), expected);
    assert!(!desk.path("out").exists());
}
