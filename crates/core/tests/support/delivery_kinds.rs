//! Further kinds of simulated deliveries: lost messages, forged volumes, changes in three generations, pages, and several ways to unlock.
//! Each ends as those of [`super::delivery`] do, or in a panic.

use super::delivery::{End, Fault, Played, laid_out, left_in_messages, one_of, way_of_limit};
use super::{Desk, PASSWORD, edit, gather, mend_checks, tree};
use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};
use under_seal_core::ErrorClass;
use under_seal_core::formats::reader::ArchiveReader as _;
use under_seal_core::formats::registry::PAGE;
use under_seal_core::formats::sealed::volume::{HEADER_BYTES, SpareWish, VolumeKind, VolumeSet};
use under_seal_core::formats::sealed::{CostLimit, KeyCost, SealedReader, unlock_given};
use under_seal_core::ground::class::Classed as _;
use under_seal_core::ground::context::Context;
use under_seal_core::ground::fit::Fit;
use under_seal_core::ground::secrets::{Credentials, KeyFile, Password};
use under_seal_core::landing::Destination;
use under_seal_core::source::Choice;
use under_seal_core::tasks::check::inspect;
use under_seal_core::tasks::handover::dividing::Share;
use under_seal_core::tasks::mend::{MendError, Wanted, mend};
use under_seal_core::tasks::open::open;
use under_seal_core::tasks::open::upon::{look, remove_gone};
use under_seal_core::tasks::pack::since::State;
use under_seal_core::tasks::pack::{Delivery, PackRequest, Target};
use under_seal_core::tasks::rehearse::carriers::{Choices, Sent, Way};

fn credentials() -> Credentials {
    Password::new(PASSWORD).unwrap().into()
}

/// A tree in volumes of a small fit, with spare volumes.
fn with_spares(choices: &mut Choices) -> (Desk, VolumeSet) {
    let mut desk = laid_out(choices);
    desk.spares = *one_of(&[1, 2, 3, 5].map(SpareWish::Count), choices);
    let fit: &&str = one_of(&["70KB", "100KB", "150KB"], choices);
    desk.pack(fit);
    let set = VolumeSet::from_files(&desk.volumes()).unwrap();
    (desk, set)
}

/// Whole messages, media or uploads are lost: as many as is promised may be, whichever they are; of more it is told exactly what is missing.
pub fn play_lost_messages(seed: u64) -> Played {
    let mut choices = Choices::new(seed);
    let (desk, set) = with_spares(&mut choices);
    let volumes = desk.volumes();
    let share = |place: u32| {
        let spare = place.checked_sub(set.geometry.data_volumes).filter(|spare| *spare > 0);
        let (kind, number) = spare.map_or((VolumeKind::Data, place), |spare| (VolumeKind::Spare, spare));
        Some(Share::of(0, set.groups(), kind, number))
    };
    let sent: Vec<Sent> = (1..)
        .zip(&volumes)
        .map(|(number, path)| Sent {
            number,
            path: path.clone(),
            bytes: fs::metadata(path).unwrap().len(),
            share: share(number),
        })
        .collect();
    let largest = sent.iter().map(|volume| volume.bytes).max().unwrap();
    let times = 1 + choices.below(6);
    let called: &&str = one_of(&["mail", "media", "upload", "by hand"], &mut choices);
    let (name, way): (_, Way) = way_of_limit(largest * times, called);
    let lost = choices.below(3) as u32;
    let inbox = desk.path("inbox");
    let carried = super::delivery::carried_with(&desk, way, &sent, (&inbox, &mut choices), lost);
    let Ok(carried) = carried else {
        // More were to be lost than there are.
        return Played { fault: Fault::Lost, way: name, volumes: volumes.len(), end: End::Refused };
    };
    let numbers: BTreeSet<u32> =
        carried.trips.iter().filter(|trip| trip.lost).flat_map(|trip| trip.volumes.clone()).collect();
    let promised = carried.losses.unwrap();
    assert!(promised.any >= 1, "a set with a spare volume loses everything with one message: {promised:?}");
    let played = |end| Played { fault: Fault::Lost, way: name, volumes: volumes.len(), end };
    let Ok(here) = gather(std::slice::from_ref(&inbox)) else {
        assert_eq!(numbers.len(), volumes.len());
        return played(End::NothingCame);
    };
    match desk.open(&[inbox], &desk.path("board")) {
        Ok(_) => {
            assert_eq!(tree(&desk.path("board/source")), tree(&desk.path("source")));
            played(End::Identical)
        }
        Err(error) => {
            assert!(lost as usize > promised.any, "{promised:?} was promised, and {lost} lost: {error}");
            assert_eq!(error.class(), ErrorClass::VolumesMissing);
            let data = numbers.iter().copied().filter(|number| *number <= set.geometry.data_volumes);
            assert_eq!(here.missing(), data.collect::<Vec<_>>());
            played(End::NamedAndMended)
        }
    }
}

/// Somebody who knows the format changes data and spare volumes, and makes every check right. Nothing wrong is ever taken for right, or
/// written; with the password everything is had that can be.
pub fn play_forged(seed: u64) -> Played {
    let mut choices = Choices::new(seed);
    let (desk, set) = with_spares(&mut choices);
    let volumes = desk.volumes();
    let sent: Vec<Vec<u8>> = volumes.iter().map(|path| fs::read(path).unwrap()).collect();
    let mut forged = BTreeSet::new();
    for _ in 0..1 + choices.below(3) {
        let place = choices.below(volumes.len() as u64) as usize;
        // The same change twice would be none.
        if !forged.insert(place) {
            continue;
        }
        edit(&volumes[place], |bytes| {
            let step = 50 + choices.below(400) as usize;
            bytes[HEADER_BYTES..].iter_mut().step_by(step).for_each(|byte| *byte ^= 1);
            mend_checks(bytes);
        });
    }
    let is_spare = |place: &&usize| **place >= set.geometry.data_volumes as usize;
    let (forged_spares, forged_data): (Vec<usize>, Vec<usize>) = forged.iter().partition(|place| is_spare(place));
    let honest_spares = set.spares.len() - forged_spares.len();
    let can_be_had = honest_spares >= forged_data.len();
    let here = gather(&[desk.path("out")]).unwrap();
    let target = Target { folder: desk.path("mended"), stem: "set".into() };
    desk.with_context(&|| false, |context| {
        let found = inspect(&here, context).unwrap();
        // Without the password a side is never taken.
        assert!(found.is_contradictory(), "{forged:?} went unnoticed");
        assert!(matches!(Wanted::lost(&here, &found, u32::MAX), Err(MendError::Disputed)));
        let unlocked = unlock_given(&here, Some(&credentials()), CostLimit::Bearable, true).unwrap().unwrap();
        let judged = inspect(&unlocked.set, context).unwrap();
        assert_eq!(judged.forged(), forged_data.iter().map(|place| *place as u32 + 1).collect::<Vec<_>>());
        assert_eq!(judged.is_complete(), can_be_had);
        let opened = desk.open(&[desk.path("out")], &desk.path("board"));
        assert_eq!(opened.is_ok(), can_be_had, "{opened:?}");
        let wanted = Wanted::lost(&unlocked.set, &judged, u32::MAX);
        if can_be_had {
            assert_eq!(tree(&desk.path("board/source")), tree(&desk.path("source")));
            for volume in mend(&unlocked.set, &wanted.unwrap(), &target, context).unwrap() {
                let at = if volume.kind == VolumeKind::Spare { set.geometry.data_volumes } else { 0 } + volume.number;
                assert!(fs::read(&volume.path).unwrap() == sent[at as usize - 1], "{volume:?}");
            }
        } else {
            assert!(matches!(wanted, Err(MendError::TooFew)), "{wanted:?}");
        }
    });
    let end = if can_be_had { End::Identical } else { End::NamedAndMended };
    Played { fault: Fault::ByteChanged, way: "forged", volumes: volumes.len(), end }
}

/// Three generations of changes, opened in turn into one folder, each from the messages that brought it or not.
pub fn play_changes(seed: u64) -> Played {
    let mut choices = Choices::new(seed);
    let desk = laid_out(&mut choices);
    let mut volumes = desk.pack("").len();
    let board = desk.path("board");
    desk.open(&[desk.path("out")], &board).unwrap();
    let mut last = desk.path("out");
    for generation in ["second", "third"] {
        change(&desk, generation, &mut choices);
        let folder = desk.path(generation);
        let target = Target { folder: folder.clone(), stem: generation.into() };
        let (sources, choice) = ([desk.path("source")], Choice::default());
        let fit = one_of(&["70KB", "300KB", ""], &mut choices);
        let fit = if fit.is_empty() { Fit::OneVolume } else { fit.parse().unwrap() };
        let request = PackRequest { fit, squeeze: desk.squeeze, ..PackRequest::new(&sources, &choice, &target) };
        let base = desk.unlock(&[last]).unwrap();
        let packed = desk.with_context(&|| false, |context| {
            let delivery = Delivery::prepare_since(&request, State::of(&base).unwrap(), context).unwrap();
            (!delivery.changes().unwrap().is_nothing())
                .then(|| delivery.pack(&[credentials()], KeyCost::CHEAPEST, context).unwrap())
        });
        // Where nothing has changed, nothing is sent.
        let Some(packed) = packed else {
            return Played { fault: Fault::None, way: "changes", volumes, end: End::Identical };
        };
        volumes += packed.volumes.len();
        last = desk.path(&format!("{generation} as it was packed"));
        fs::create_dir(&last).unwrap();
        for file in fs::read_dir(&folder).unwrap().map(Result::unwrap) {
            fs::copy(file.path(), last.join(file.file_name())).unwrap();
        }
        left_in_messages(std::slice::from_ref(&folder), &mut choices);
        let mut archive = desk.unlock(&[folder]).unwrap();
        desk.with_context(&|| false, |context| update(&mut archive, &board, context));
    }
    // The time of a folder tells when something in it was changed here.
    let contents = |root: &Path| -> Vec<(PathBuf, String)> {
        let kept = |features: String| if features.ends_with("folder") { "folder".to_owned() } else { features };
        tree(root).into_iter().map(|(path, features)| (path, kept(features))).collect()
    };
    assert_eq!(contents(&board.join("source")), contents(&desk.path("source")));
    Played { fault: Fault::None, way: "changes", volumes, end: End::Identical }
}

fn update(archive: &mut SealedReader, board: &Path, context: &Context<'_>) {
    let found = look(archive.base().unwrap().unwrap(), archive.entries().unwrap(), board, context).unwrap();
    assert!(!found.lacks_base);
    let into = Destination { known: Some(&found.known), ..Destination::from(board) };
    open(archive, into, context).unwrap();
    remove_gone(archive.base().unwrap().unwrap(), &found, board, context).unwrap();
}

/// Changes a few files, adds some and removes some.
fn change(desk: &Desk, generation: &str, choices: &mut Choices) {
    let files: Vec<PathBuf> = tree(&desk.path("source")).into_keys().collect();
    for path in
        files.iter().map(|path| desk.path("source").join(path)).filter(|path| path.is_file() && !path.is_symlink())
    {
        match choices.below(6) {
            0 => fs::write(&path, format!("{generation} {}", choices.below(1_000))).unwrap(),
            1 if !path.ends_with("keeper.txt") => fs::remove_file(&path).unwrap(),
            _ => {}
        }
    }
    for place in 0..choices.below(3) {
        let folder = one_of(&["", "tide tables/", "new in the third/"], choices);
        desk.source(&format!("{folder}{generation} {place}.txt"), &super::noise(choices.below(90_000) as usize));
    }
}

/// An archive in a page, which is a file like any: renamed, in a message, damaged.
pub fn play_page(seed: u64) -> Played {
    let mut choices = Choices::new(seed);
    let mut desk = laid_out(&mut choices);
    desk.format = &PAGE;
    let page = desk.pack("").remove(0);
    let fault =
        *one_of(&[Fault::None, Fault::None, Fault::ByteChanged, Fault::CutShort, Fault::Lengthened], &mut choices);
    let whole = fs::read(&page).unwrap();
    let at = choices.below(whole.len() as u64) as usize;
    match fault {
        Fault::ByteChanged => edit(&page, |bytes| bytes[at] ^= 0x10),
        Fault::CutShort => edit(&page, |bytes| bytes.truncate(at)),
        Fault::Lengthened => edit(&page, |bytes| bytes.extend_from_slice(b"\r\n-- \r\nA list's footer\r\n")),
        _ => {}
    }
    let way = left_in_messages(&[desk.path("out")], &mut choices).unwrap_or("page");
    let played = |end| Played { fault, way, volumes: 1, end };
    let opened = desk.open(&[desk.path("out")], &desk.path("board"));
    match opened {
        Ok(_) => {
            assert_eq!(tree(&desk.path("board/source")), tree(&desk.path("source")));
            played(End::Identical)
        }
        Err(error) => {
            assert!(matches!(fault, Fault::ByteChanged | Fault::CutShort), "{fault:?}: {error}");
            assert!(!desk.path("board/source").exists(), "something landed");
            played(End::NamedAndMended)
        }
    }
}

/// Several passwords and a key file: each of them opens it, and nothing else does.
pub fn play_keys(seed: u64) -> Played {
    let mut choices = Choices::new(seed);
    let desk = laid_out(&mut choices);
    let key_file = (choices.below(2) == 0).then(|| KeyFile::read(&b"forty stairs of worn granite"[..]).unwrap());
    let all: Vec<Credentials> = (0..1 + choices.below(8))
        .map(|number| Credentials {
            password: Password::new(&format!("twelve panes of salted glass, {number}")).unwrap(),
            key_file: key_file.clone(),
        })
        .collect();
    let fit: &&str = one_of(&["100KB", ""], &mut choices);
    let volumes = desk.pack_locked(fit, &all).unwrap().volumes.len();
    let way = left_in_messages(&[desk.path("out")], &mut choices).unwrap_or("keys");
    let set = gather(&[desk.path("out")]).unwrap();
    let given = one_of(&all, &mut choices);
    let mut reader = SealedReader::unlock(set.clone(), given).unwrap();
    desk.with_context(&|| false, |context| open(&mut reader, desk.path("board").as_path(), context)).unwrap();
    assert_eq!(tree(&desk.path("board/source")), tree(&desk.path("source")));
    let wrong = [
        Credentials::from(Password::new("twelve panes of salted glass").unwrap()),
        Credentials { key_file: Some(KeyFile::read(&b"another"[..]).unwrap()), ..given.clone() },
        Credentials { key_file: None, ..given.clone() },
    ];
    for wrong in
        wrong.iter().filter(|wrong| key_file.is_some() || wrong.key_file.is_none() && wrong.password != given.password)
    {
        let refused = SealedReader::unlock(set.clone(), wrong).err().unwrap();
        assert_eq!(refused.class(), ErrorClass::WrongPassword);
    }
    Played { fault: Fault::None, way, volumes, end: End::Identical }
}
