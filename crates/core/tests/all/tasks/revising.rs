//! Whatever is added to an archive, taken out, renamed or brought up to date: what opens then is what a plain tree says that went
//! through the same.

use crate::support::{Desk, PASSWORD, gather};
use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use under_seal_core::Error;
use under_seal_core::codecs::block::Squeeze;
use under_seal_core::disk::names::path_bytes_of;
use under_seal_core::formats::archive::Archive;
use under_seal_core::formats::reader::{ArchiveReader as _, Flaws};
use under_seal_core::formats::registry::{SEALED, TAR_GZ, ZIP};
use under_seal_core::formats::sealed::{KeyCost, SealedReader};
use under_seal_core::ground::context::Context;
use under_seal_core::ground::entry::{EntryPath, ListedEntry};
use under_seal_core::ground::fit::Fit;
use under_seal_core::ground::secrets::{Credentials, Password};
use under_seal_core::landing::OnClash;
use under_seal_core::source::{Catalogue, Choice, Patterns};
use under_seal_core::tasks::compare::compare;
use under_seal_core::tasks::pack::{PackError, PackRequest, Packed, Target};
use under_seal_core::tasks::revise::{Changes, Edit, EditError, Old, ReviseError, Revision, prepare, revise};

const FIT: &str = "70KB";

fn path(text: &str) -> EntryPath {
    EntryPath::new(text).unwrap()
}

fn credentials(desk: &Desk) -> Credentials {
    if *desk.format == TAR_GZ { Credentials::none() } else { Password::new(PASSWORD).unwrap().into() }
}

fn opened(desk: &Desk, context: &Context<'_>) -> Result<Old, Error> {
    if desk.format.abilities.volumes {
        let set = gather(&[desk.path("out")])?.complete()?;
        return Ok(Old::Sealed(Box::new(SealedReader::unlock(set, &credentials(desk))?)));
    }
    let file = desk.path(&format!("out/set{}", desk.format.extension()));
    let archive = Archive::open(&file, Flaws::Refused, context)?.unwrap();
    Ok(Old::Open(if archive.is_secret() { archive.unlock(&credentials(desk), context)? } else { archive }))
}

fn gathered(desk: &Desk, name: &str, context: &Context<'_>) -> Result<Catalogue, Error> {
    Ok(Catalogue::gather(&[desk.path(name)], &Choice::default(), &|_| false, context)?)
}

/// Changes the archive in `out`, in its place.
fn revised(
    desk: &Desk,
    change: impl FnOnce(&mut Edit<'_>, &[ListedEntry], &Context<'_>) -> Result<Vec<Catalogue>, Error>,
) -> Result<(Changes, Packed), Error> {
    desk.with_context(&|| false, |context| {
        let mut old = opened(desk, context)?;
        let entries = match &mut old {
            Old::Sealed(reader) => reader.entries().unwrap().to_vec(),
            Old::Open(archive) => archive.entries_with_digests(context)?,
        };
        let mut edit = Edit::new(old.entries().unwrap(), (context.clock)());
        let gathered = change(&mut edit, &entries, context)?;
        let revision = Revision::of(edit);
        let (target, choice) = (Target { folder: desk.path("out"), stem: "set".into() }, Choice::default());
        let request = PackRequest {
            format: desk.format,
            fit: if *desk.format == TAR_GZ { Fit::OneVolume } else { FIT.parse().unwrap() },
            squeeze: desk.squeeze,
            replace: true,
            hide_names: desk.hide_names,
            ..PackRequest::new(&[], &choice, &target)
        };
        let delivery = prepare(&old, &revision, gathered, &request, context)?;
        let packed = revise(&mut old, &revision, delivery, &[credentials(desk)], KeyCost::CHEAPEST, context)?;
        Ok((revision.changes, packed))
    })
}

/// What is to be inside: folders, and files with their contents.
type Model = BTreeMap<EntryPath, Option<Vec<u8>>>;

/// What is inside.
fn inside(desk: &Desk) -> Model {
    let inbox = tempfile::tempdir_in(desk.place.path()).unwrap();
    desk.open_packed(inbox.path()).unwrap();
    let mut found = Model::new();
    let mut waiting = vec![inbox.path().to_owned()];
    while let Some(folder) = waiting.pop() {
        for entry in fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()) {
            let content = if entry.is_dir() { None } else { Some(fs::read(&entry).unwrap()) };
            let name = path_bytes_of(entry.strip_prefix(inbox.path()).unwrap()).into_owned();
            found.insert(EntryPath::new(name).unwrap(), content);
            waiting.extend(entry.is_dir().then_some(entry));
        }
    }
    found
}

/// Lays files out in a folder of the desk, in the place of what is there.
fn lay_out(desk: &Desk, folder: &str, model: &Model) {
    let _ = fs::remove_dir_all(desk.path(folder));
    for (at, content) in model {
        let at = desk.path(folder).join(std::str::from_utf8(at.as_bytes()).unwrap());
        match content {
            None => fs::create_dir_all(at).unwrap(),
            Some(content) => fs::write(at, content).unwrap(),
        }
    }
}

/// A step of a script; numbers pick what it is done to.
#[derive(Debug, Clone)]
enum Step {
    Add { to: usize, folder: String, content: (u8, usize) },
    Remove(usize),
    Rename { what: usize, to: usize, name: String },
    Refresh { change: usize, drop: usize, content: (u8, usize) },
}

fn content_of((seed, length): (u8, usize)) -> Vec<u8> {
    let mut content = vec![seed; length];
    if seed % 2 == 0 {
        blake3::Hasher::new().update(&[seed]).finalize_xof().fill(&mut content);
    }
    content
}

fn a_content() -> impl Strategy<Value = (u8, usize)> {
    (any::<u8>(), prop_oneof![Just(0), 1..2_000_usize, 30_000..160_000_usize])
}

fn a_step() -> impl Strategy<Value = Step> {
    prop_oneof![
        (any::<usize>(), "[a-c]{1,2}", a_content()).prop_map(|(to, folder, content)| Step::Add { to, folder, content }),
        any::<usize>().prop_map(Step::Remove),
        (any::<usize>(), any::<usize>(), "[a-c]{1,2}").prop_map(|(what, to, name)| Step::Rename { what, to, name }),
        (any::<usize>(), any::<usize>(), a_content()).prop_map(|(change, drop, content)| Step::Refresh {
            change,
            drop,
            content
        }),
    ]
}

fn nth(model: &Model, number: usize, wanted: impl Fn(&Option<Vec<u8>>) -> bool) -> Option<&EntryPath> {
    let all: Vec<_> =
        model.iter().filter(|(at, content)| at.depth() > 1 && wanted(content)).map(|(at, _)| at).collect();
    all.get(number % all.len().max(1)).copied()
}

fn put_folders(model: &mut Model, above: &EntryPath) {
    above.folders_above().for_each(|folder| {
        model.entry(folder).or_default();
    });
}

fn forget(model: &mut Model, what: &EntryPath) {
    model.retain(|at, _| at != what && !at.is_below(what));
}

/// Does the step to the archive and to the model; whether it could be done.
fn take(desk: &Desk, step: &Step, model: &mut Model) -> Result<Changes, Error> {
    let mut next = model.clone();
    let outcome = match step {
        Step::Add { to, folder, content } => {
            let above = nth(model, *to, Option::is_none).cloned().unwrap_or_else(|| path("source"));
            let (inside, content) = (above.join(folder.as_bytes()).unwrap(), content_of(*content));
            fs::write(desk.path("new"), &content).unwrap();
            let new = inside.join(b"new").unwrap();
            put_folders(&mut next, &new);
            next.insert(new, Some(content));
            revised(desk, |edit, _, context| {
                let added = gathered(desk, "new", context)?;
                edit.add(&added, Some(&inside), OnClash::Replace)?;
                Ok(vec![added])
            })
        }
        Step::Remove(what) => {
            let Some(what) = nth(model, *what, |_| true) else { return Ok(Changes::default()) };
            forget(&mut next, what);
            let pattern = format!("/{}", std::str::from_utf8(what.as_bytes()).unwrap());
            revised(desk, |edit, _, _| {
                assert!(edit.remove(&Patterns::new([pattern]).unwrap()).is_empty());
                Ok(Vec::new())
            })
        }
        Step::Rename { what, to, name } => {
            let Some(from) = nth(model, *what, |_| true) else { return Ok(Changes::default()) };
            let above = nth(model, *to, Option::is_none).cloned().unwrap_or_else(|| path("source"));
            let to = above.join(name.as_bytes()).unwrap().join(b"moved").unwrap();
            forget(&mut next, from);
            put_folders(&mut next, &to);
            for (at, content) in model.iter().filter(|(at, _)| *at == from || at.is_below(from)) {
                let renamed = [to.as_bytes(), &at.as_bytes()[from.as_bytes().len()..]].concat();
                next.insert(EntryPath::new(renamed).unwrap(), content.clone());
            }
            revised(desk, |edit, _, _| Ok(edit.rename(from, &to).map(|()| Vec::new())?))
        }
        Step::Refresh { change, drop, content } => {
            if let Some(drop) = nth(model, *drop, |_| true) {
                forget(&mut next, drop);
            }
            if let Some(change) = nth(&next.clone(), *change, Option::is_some) {
                next.insert(change.clone(), Some(content_of(*content)));
            }
            next.insert(path("source/fresh"), Some(content_of(*content)));
            lay_out(desk, "disk", &next);
            revised(desk, |edit, entries, context| {
                let disk = gathered(desk, "disk/source", context)?;
                let found = compare(entries, &disk, desk.format.abilities.times, context)?;
                edit.refresh(&disk, &found)?;
                Ok(vec![disk])
            })
        }
    };
    let (changes, packed) = outcome?;
    assert_eq!(packed.totals, packed.verified);
    *model = next;
    Ok(changes)
}

/// What is read from disk in the place of something inside must be readable to the end: else the old one would be gone.
#[test]
fn a_file_that_vanishes_meanwhile_takes_nothing_with_it() {
    for format in [&SEALED, &ZIP, &TAR_GZ] {
        let desk = Desk { format, ..Desk::new() };
        desk.source("a", b"old").source("b", b"other");
        desk.pack_replacing("", false).unwrap();
        let before = inside(&desk);
        desk.source("a", b"young");
        let outcome = revised(&desk, |edit, entries, context| {
            let disk = gathered(&desk, "source", context)?;
            edit.refresh(&disk, &compare(entries, &disk, format.abilities.times, context)?)?;
            fs::remove_file(desk.path("source/a")).unwrap();
            Ok(vec![disk])
        });
        assert!(matches!(outcome, Err(Error::Revise(ReviseError(PackError::Needed(_))))), "{outcome:?}");
        assert_eq!(inside(&desk), before);
    }
}

/// The ids of a sealed archive's entries, by path.
fn ids(desk: &Desk) -> BTreeMap<EntryPath, u64> {
    let archive = desk.unlock(&[desk.path("out")]).unwrap();
    archive.entries().unwrap().iter().map(|listed| (listed.entry.path.clone(), listed.entry.id)).collect()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 32, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn a_script_does_to_an_archive_what_it_does_to_a_tree(
        format in prop::sample::select(vec![&SEALED, &SEALED, &ZIP, &TAR_GZ]),
        squeeze in 0_u8..4,
        hide_names in any::<bool>(),
        contents in prop::collection::vec(("[a-c]{1,2}", a_content(), any::<bool>()), 1..6),
        steps in prop::collection::vec(a_step(), 1..5),
    ) {
        let squeeze = Squeeze::from_number(squeeze).unwrap();
        let desk = Desk { format, squeeze, hide_names: hide_names && *format == ZIP, ..Desk::new() };
        let mut model = Model::new();
        // Some are further names (hard links) of the one before.
        let (mut links, mut before) = (Vec::new(), None);
        for (place, (folder, content, is_further)) in contents.iter().enumerate() {
            let at = path(&format!("source/{folder}/{place}"));
            put_folders(&mut model, &at);
            let file = before.filter(|_| *is_further);
            let content = file.as_ref().map_or_else(|| Some(content_of(*content)), |file| model[file].clone());
            links.extend(file.map(|file| (file, at.clone())));
            model.insert(at.clone(), content);
            before = Some(at);
        }
        lay_out(&desk, "", &model);
        let on_disk = |at: &EntryPath| desk.path(std::str::from_utf8(at.as_bytes()).unwrap());
        for (file, further) in &links {
            fs::remove_file(on_disk(further)).unwrap();
            fs::hard_link(on_disk(file), on_disk(further)).unwrap();
        }
        desk.pack_replacing(if *format == TAR_GZ { "" } else { FIT }, false).unwrap();
        for step in &steps {
            let before = if *format == SEALED { ids(&desk) } else { BTreeMap::new() };
            match take(&desk, step, &mut model) {
                Ok(changes) => {
                    for (at, id) in if *format == SEALED { ids(&desk) } else { BTreeMap::new() } {
                        let renamed = changes.renamed.iter().any(|(_, to)| at == *to || at.is_below(to));
                        prop_assert!(renamed || before.get(&at).is_none_or(|before| *before == id), "{at:?}");
                    }
                }
                // It was in its own way, and nothing was changed.
                Err(Error::Edit(EditError::Taken(_) | EditError::IntoItself(_) | EditError::InTheWay(_))) => {}
                Err(error) => panic!("{step:?}: {error}"),
            }
            prop_assert_eq!(inside(&desk), model.clone());
        }
        let left: BTreeSet<_> = fs::read_dir(desk.path("out")).unwrap().map(|entry| entry.unwrap().file_name()).collect();
        prop_assert!(left.iter().all(|name| name.to_str().unwrap().starts_with("set")), "{:?}", left);
    }
}
