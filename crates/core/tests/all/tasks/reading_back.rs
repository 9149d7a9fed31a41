//! The proof before anything gets its name: whatever is changed on disk between writing and reading back is noticed, by everything that
//! writes something for a recipient. Then nothing has a name, and what was there is as it was.

use crate::support::{Desk, PASSWORD, edit, gather, mend_checks, noise, tree};
use rstest::rstest;
use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use under_seal_core::Error;
use under_seal_core::ErrorClass;
use under_seal_core::codecs::block::Squeeze;
use under_seal_core::formats::registry::{Format, PAGE, TAR, TAR_GZ, ZIP};
use under_seal_core::formats::sealed::volume::supplement::Run;
use under_seal_core::formats::sealed::volume::{HEADER_BYTES, SpareWish};
use under_seal_core::formats::sealed::{KeyCost, SealedReader};
use under_seal_core::ground::context::{Context, Observer, Progress};
use under_seal_core::ground::fit::Fit;
use under_seal_core::ground::secrets::{Credentials, Password};
use under_seal_core::source::Choice;
use under_seal_core::tasks::check::inspect;
use under_seal_core::tasks::handover::{HandoverRequest, Package, hand_over};
use under_seal_core::tasks::mend::{Wanted, mend};
use under_seal_core::tasks::pack::{Delivery, PackRequest, Target};
use under_seal_core::tasks::portion::{PortionRequest, portion};
use under_seal_core::tasks::recast::recut;
use under_seal_core::tasks::relock::{RelockRequest, relock};
use under_seal_core::tasks::resend::{Slip, resend};

/// Changes what is staged, once, right when everything is written.
struct Spoiler<'a> {
    place: &'a Path,
    spoil: &'a (dyn Fn(&[PathBuf]) + Sync),
    is_done: AtomicBool,
}

impl Observer for Spoiler<'_> {
    fn told(&self, progress: Progress<'_>) {
        if matches!(progress, Progress::Staged) && !self.is_done.swap(true, Ordering::Relaxed) {
            let staged = staged_in(self.place);
            assert!(!staged.is_empty(), "nothing is staged");
            (self.spoil)(&staged);
        }
    }
}

/// What has no name of its own yet, wherever it is; sorted.
fn staged_in(place: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for entry in fs::read_dir(place).unwrap().map(Result::unwrap) {
        let name = entry.file_name().to_string_lossy().into_owned();
        let is_temporary = name.ends_with(".unfinished") || name.starts_with(".handing-over-");
        match entry.path() {
            folder if folder.is_dir() && is_temporary => {
                let inside = fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().path());
                let is_staged = |path: &PathBuf| !path.file_name().unwrap().to_string_lossy().starts_with("in-use");
                found.extend(inside.filter(is_staged));
            }
            folder if folder.is_dir() => found.extend(staged_in(&folder)),
            file if name.starts_with(".resending-") => found.push(file),
            _ => {}
        }
    }
    found.sort();
    found
}

fn credentials() -> Credentials {
    Password::new(PASSWORD).unwrap().into()
}

fn target(desk: &Desk, folder: &str) -> Target {
    Target { folder: desk.path(folder), stem: "set".into() }
}

/// A desk with an archive of five volumes and two spare ones in `out`, and what it was packed from.
fn desk_with_volumes() -> Desk {
    let mut desk = Desk::new();
    desk.spares = SpareWish::Count(2);
    desk.source("tower.tif", &noise(640_000)).source("notes.txt", b"The lamp was lit at dusk.");
    desk.pack("150KB");
    desk
}

/// How something is made for a recipient, with the archive in `out`.
type Making = fn(&Desk, &Context<'_>) -> Result<(), Error>;

fn pack_anew(desk: &Desk, context: &Context<'_>) -> Result<(), Error> {
    let (sources, choice, target) = ([desk.path("source")], Choice::default(), target(desk, "out"));
    let request = PackRequest {
        format: desk.format,
        spares: desk.spares,
        fit: if desk.spares == SpareWish::NONE { Fit::OneVolume } else { "150KB".parse().unwrap() },
        squeeze: Squeeze::None,
        replace: true,
        ..PackRequest::new(&sources, &choice, &target)
    };
    let credentials = if matches!(desk.format, format if *format == TAR || *format == TAR_GZ) {
        Credentials::none()
    } else {
        credentials()
    };
    Delivery::prepare(&request, context)?.pack(&[credentials], KeyCost::CHEAPEST, context)?;
    Ok(())
}

fn lock_anew(desk: &Desk, context: &Context<'_>) -> Result<(), Error> {
    let mut old = SealedReader::unlock(gather(&[desk.path("out")])?.complete()?, &credentials())?;
    let (target, new) = (target(desk, "out"), [Password::new("forty stairs of worn granite").unwrap().into()]);
    let request = RelockRequest { target: &target, replace: true, credentials: &new, cost: KeyCost::CHEAPEST };
    Ok(relock(&mut old, &request, context).map(drop)?)
}

fn cut_anew(desk: &Desk, context: &Context<'_>) -> Result<(), Error> {
    let set = gather(&[desk.path("out")])?;
    Ok(recut(&set, &target(desk, "out"), "200KB".parse().unwrap(), true, context).map(drop)?)
}

/// Two data volumes are gone.
fn mend_lost(desk: &Desk, context: &Context<'_>) -> Result<(), Error> {
    let is_lost = |path: &PathBuf| {
        let name = path.file_name().unwrap().to_string_lossy();
        !name.contains("spare") && (name.contains("2of") || name.contains("3of"))
    };
    desk.volumes().iter().filter(|path| is_lost(path)).for_each(|path| fs::remove_file(path).unwrap());
    let set = gather(&[desk.path("out")])?;
    let wanted = Wanted::lost(&set, &inspect(&set, context)?, u32::MAX)?;
    Ok(mend(&set, &wanted, &target(desk, "mended"), context).map(drop)?)
}

fn add_spares(desk: &Desk, context: &Context<'_>) -> Result<(), Error> {
    let set = gather(&[desk.path("out")])?;
    let wanted = Wanted::added_spares(&set, &inspect(&set, context)?, 2)?;
    Ok(mend(&set, &wanted, &target(desk, "mended"), context).map(drop)?)
}

fn send_again(desk: &Desk, context: &Context<'_>) -> Result<(), Error> {
    let set = gather(&[desk.path("out")])?;
    let mut found = inspect(&set, context)?;
    found.beyond.asked = vec![Run { first: 1, count: 1 }];
    let slip = Slip::of(&set, &found).unwrap();
    Ok(resend(&set, &slip, &desk.path("again"), OsStr::new("set"), context).map(drop)?)
}

fn give(desk: &Desk, context: &Context<'_>) -> Result<(), Error> {
    let set = gather(&[desk.path("out")])?;
    let mut package = Package::Volumes { set: Box::new(set), secret: true };
    let folder = desk.path("given");
    let request = HandoverRequest {
        stem: OsStr::new("set"),
        title: None,
        folder: &folder,
        fit: Fit::OneVolume,
        template: None,
        key_file: None,
        how: "Open it.",
        upon: None,
        page: false,
        together_with: &[],
        mail_to: &[],
    };
    Ok(hand_over(&mut package, &request, context).map(drop)?)
}

fn cut_plainly(desk: &Desk, context: &Context<'_>) -> Result<(), Error> {
    let (file, folder) = (desk.path("source/tower.tif"), desk.path("pieces"));
    Ok(portion(&PortionRequest { file: &file, folder: &folder, limit: 200_000 }, context).map(drop)?)
}

fn flip(path: &Path, at: impl FnOnce(usize) -> usize) {
    edit(path, |bytes| {
        let at = at(bytes.len());
        bytes[at] ^= 1;
    });
}

/// Flips a byte and makes every check right again.
fn forge(path: &Path, at: impl FnOnce(usize) -> usize) {
    flip(path, at);
    edit(path, |bytes| mend_checks(bytes));
}

/// Runs a making, whose staged files are spoiled: that is noticed, nothing new has a name, and what was there is as it was.
fn is_noticed(desk: &Desk, making: Making, spoil: &(dyn Fn(&[PathBuf]) + Sync)) {
    let everything = |desk: &Desk| -> BTreeMap<_, _> { tree(desk.place.path()).into_iter().collect() };
    let spoiler = Spoiler { place: desk.place.path(), spoil, is_done: AtomicBool::new(false) };
    let before = everything(desk);
    let made = desk.watched_by(&spoiler, &|| false, |context| making(desk, context));
    assert!(spoiler.is_done.load(Ordering::Relaxed), "nothing was read back: {made:?}");
    let Err(error) = made else { panic!("what was spoiled got its name") };
    assert_eq!(error.class(), ErrorClass::Damaged, "{error:?}");
    let after = everything(desk);
    let new: Vec<_> = after.keys().filter(|path| !before.contains_key(*path)).collect();
    let is_empty_folder = |path: &Path| desk.path(path.to_str().unwrap()).is_dir();
    assert!(new.iter().all(|path| is_empty_folder(Path::new(path))), "{new:?}");
    let changed = before
        .iter()
        .filter(|(path, was)| after.get(*path).is_some_and(|is| is != *was) && !is_empty_folder(Path::new(path)));
    assert_eq!(changed.count(), 0);
    // Without anybody who spoils it, it is made.
    desk.with_context(&|| false, |context| making(desk, context)).unwrap();
}

#[rstest]
#[case::a_header(|staged: &[PathBuf]| flip(&staged[0], |_| 300))]
#[case::a_header_with_its_check_right(|staged: &[PathBuf]| forge(&staged[1], |_| 33))]
#[case::what_all_headers_say(|staged: &[PathBuf]| staged.iter().for_each(|path| forge(path, |_| 54)))]
#[case::a_cell(|staged: &[PathBuf]| flip(&staged[1], |_| HEADER_BYTES + 70_000))]
#[case::a_cell_with_its_check_right(|staged: &[PathBuf]| forge(&staged[1], |_| HEADER_BYTES + 70_000))]
#[case::the_index(|staged: &[PathBuf]| forge(data(staged).last().unwrap(), |length| length - 5_000))]
#[case::the_tail(|staged: &[PathBuf]| forge(data(staged).last().unwrap(), |length| length - 60))]
#[case::one_is_cut_short(|staged: &[PathBuf]| edit(&staged[0], |bytes| bytes.truncate(bytes.len() - 16)))]
#[case::one_has_more_behind_it(|staged: &[PathBuf]| edit(&staged[0], |bytes| bytes.push(0)))]
#[case::one_is_gone(|staged: &[PathBuf]| edit(&staged[1], Vec::clear))]
#[case::two_changed_places(|staged: &[PathBuf]| {
    let bytes = fs::read(&staged[0]).unwrap();
    fs::copy(&staged[1], &staged[0]).unwrap();
    fs::write(&staged[1], bytes).unwrap();
})]
#[case::a_spare_header(|staged: &[PathBuf]| flip(staged.last().unwrap(), |_| 300))]
#[case::a_spare_cell_with_its_check_right(|staged: &[PathBuf]| forge(staged.last().unwrap(), |_| HEADER_BYTES + 9))]
fn of_sealed_volumes_every_change_is_noticed(
    #[case] spoil: fn(&[PathBuf]),
    #[values(pack_anew, lock_anew, cut_anew)] making: Making,
) {
    is_noticed(&desk_with_volumes(), making, &spoil);
}

/// Without the two spare volumes.
fn data(staged: &[PathBuf]) -> &[PathBuf] {
    &staged[..staged.len() - 2]
}

#[test]
fn a_volume_of_another_set_is_noticed() {
    let mut other = Desk::new();
    other.randomness = crate::support::Repeatable::from(77);
    other.source("another", &noise(9_000));
    let volume = fs::read(&other.pack("")[0]).unwrap();
    let mut desk = Desk::new();
    desk.spares = SpareWish::NONE;
    desk.source("notes.txt", b"The lamp was lit at dusk.");
    for making in [pack_anew as Making, lock_anew] {
        desk.pack_replacing("", true).unwrap();
        is_noticed(&desk, making, &|staged| fs::write(&staged[0], &volume).unwrap());
        fs::remove_dir_all(desk.path("out")).unwrap();
    }
}

/// What is made beside or of volumes. Of each file that is staged a byte is changed, with and without a check that is right.
#[rstest]
#[case::mended(mend_lost)]
#[case::added(add_spares)]
#[case::sent_again(send_again)]
#[case::handed_over(give)]
fn whatever_is_made_of_volumes_is_read_back(
    #[case] making: Making,
    #[values(0, 1)] file: usize,
    #[values(300, HEADER_BYTES + 30_000)] at: usize,
    #[values(true, false)] is_forged: bool,
) {
    is_noticed(&desk_with_volumes(), making, &|staged| {
        let path = &staged[file.min(staged.len() - 1)];
        if is_forged { forge(path, |_| at) } else { flip(path, |_| at) }
    });
}

#[rstest]
#[case::of_the_first_piece(0, 77)]
#[case::of_its_end(0, 199_999)]
fn a_plain_piece_is_read_back(#[case] file: usize, #[case] at: usize) {
    is_noticed(&desk_with_volumes(), cut_plainly, &|staged| flip(&staged[file], |_| at));
}

/// Of each format a place in the file, from its beginning or from its end, and what stands there.
#[rstest]
#[case::page_text(&PAGE, |bytes: &mut Vec<u8>| bytes[2_000] ^= 1)]
#[case::page_base_64(&PAGE, |bytes: &mut Vec<u8>| { let at = find_last(bytes, b"</script>") - 90; bytes[at] = if bytes[at] == b'A' { b'B' } else { b'A' } })]
#[case::page_end(&PAGE, |bytes: &mut Vec<u8>| { let at = bytes.len() - 3; bytes[at] ^= 1 })]
#[case::zip_content(&ZIP, |bytes: &mut Vec<u8>| bytes[100_000] ^= 1)]
#[case::zip_directory_mode(&ZIP, |bytes: &mut Vec<u8>| { let at = find_last(bytes, b"PK\x01\x02") + 40; bytes[at] ^= 0o2 })]
#[case::zip_directory_name(&ZIP, |bytes: &mut Vec<u8>| { let at = find_last(bytes, b"PK\x01\x02") + 46; bytes[at] ^= 1 })]
#[case::zip_end(&ZIP, |bytes: &mut Vec<u8>| { let at = bytes.len() - 10; bytes[at] ^= 1 })]
#[case::zip_cut_short(&ZIP, |bytes: &mut Vec<u8>| bytes.truncate(bytes.len() - 1))]
#[case::tar_content(&TAR, |bytes: &mut Vec<u8>| { let at = bytes.len() - 20_000; bytes[at] ^= 1 })]
#[case::tar_member_name(&TAR, |bytes: &mut Vec<u8>| bytes[2] ^= 1)]
#[case::tar_member_mode(&TAR, |bytes: &mut Vec<u8>| change_mode_of_the_last_member(bytes))]
#[case::tar_gz(&TAR_GZ, |bytes: &mut Vec<u8>| { let at = bytes.len() / 2; bytes[at] ^= 1 })]
#[case::tar_cut_short(&TAR, |bytes: &mut Vec<u8>| bytes.truncate(bytes.len() - 20_480))]
fn of_other_formats_every_change_is_noticed(#[case] format: &'static Format, #[case] spoil: fn(&mut Vec<u8>)) {
    let mut desk = Desk::new();
    desk.format = format;
    desk.source("tower.tif", &noise(240_000)).source("notes.txt", b"The lamp was lit at dusk.");
    desk.pack("");
    is_noticed(&desk, pack_anew, &|staged| edit(staged.last().unwrap(), spoil));
}

fn find_last(bytes: &[u8], sought: &[u8]) -> usize {
    bytes.windows(sought.len()).rposition(|window| window == sought).unwrap()
}

/// The mode stands at byte 100 of a member's header, the sum of the header's bytes at 148 (POSIX pax, ustar).
fn change_mode_of_the_last_member(bytes: &mut [u8]) {
    let header = find_last(bytes, b"ustar") - 257;
    let digit = bytes[header + 106];
    bytes[header + 106] = if digit == b'7' { b'6' } else { digit + 1 };
    let by = i64::from(bytes[header + 106]) - i64::from(digit);
    let sum = i64::from_str_radix(std::str::from_utf8(&bytes[header + 148..header + 154]).unwrap().trim(), 8).unwrap();
    bytes[header + 148..header + 154].copy_from_slice(format!("{:06o}", sum + by).as_bytes());
}
