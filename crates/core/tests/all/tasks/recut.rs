//! Property 12: a set is cut to another size without the password.

use crate::support::{Desk, gather, noise, tree};
use rstest::rstest;
use std::fs;
use std::path::PathBuf;
use under_seal_core::ground::fit::Fit;
use under_seal_core::tasks::pack::Target;
use under_seal_core::tasks::recast::{Recut, recut};
use under_seal_core::{Error, ErrorClass};

fn packed() -> (Desk, Vec<PathBuf>) {
    let desk = Desk::new();
    let volumes = desk.source("noise", &noise(700_000)).source("a/text", b"twelve panes").pack("150KB");
    (desk, volumes)
}

fn cut_to(desk: &Desk, fit: &str, volumes: &[PathBuf]) -> Result<Recut, Error> {
    let fit = if fit.is_empty() { Fit::OneVolume } else { fit.parse().unwrap() };
    let target = Target { folder: desk.path("new"), stem: "set".into() };
    let set = gather(volumes)?;
    Ok(desk.with_context(&|| false, |context| recut(&set, &target, fit, false, context))?)
}

#[rstest]
#[case::into_one("", 1)]
#[case::larger("400KB", 2)]
#[case::smaller("70KB", 15)]
#[case::the_same("150KB", 5)]
fn a_set_cut_anew_opens_with_the_same_password(#[case] fit: &str, #[case] count: usize) {
    let (desk, volumes) = packed();
    let before = tree(&desk.path("out"));
    let new = cut_to(&desk, fit, &volumes).unwrap();
    assert_eq!(new.volumes.len(), count);
    // The old volumes are not needed, and not touched.
    assert_eq!(tree(&desk.path("out")), before);
    fs::remove_dir_all(desk.path("out")).unwrap();
    desk.open(&[new.volumes[0].0.clone()], &desk.path("inbox")).unwrap();
    assert_eq!(tree(&desk.path("inbox/source")), tree(&desk.path("source")));
}

#[test]
fn volumes_of_two_cuttings_do_not_mix() {
    let (desk, volumes) = packed();
    let new = cut_to(&desk, "150KB", &volumes).unwrap();
    fs::copy(&new.volumes[1].0, &volumes[1]).unwrap();
    let mixed = desk.unlock(&volumes[..1]).err().unwrap();
    assert_eq!(mixed.class(), ErrorClass::VolumesMissing);
}

#[rstest]
#[case::missing(|path: &PathBuf| fs::remove_file(path).unwrap(), ErrorClass::VolumesMissing)]
#[case::damaged(|path: &PathBuf| { let mut bytes = fs::read(path).unwrap(); bytes[5_000] ^= 1; fs::write(path, bytes).unwrap(); }, ErrorClass::Damaged)]
fn a_set_that_is_not_whole_is_not_cut(#[case] harm: fn(&PathBuf), #[case] expected: ErrorClass) {
    let (desk, volumes) = packed();
    harm(&volumes[2]);
    assert_eq!(cut_to(&desk, "", &volumes[..1]).err().unwrap().class(), expected);
    assert_eq!(fs::read_dir(desk.path("new")).unwrap().count(), 0);
}
