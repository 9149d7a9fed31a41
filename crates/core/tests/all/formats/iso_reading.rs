//! Disc images: what is read of them, and what is refused.

use crate::support::iso::{BEYOND, Disc, Node, ROOT, SECTOR, both, field, file, folder, goes_on, mode, named};
use crate::support::system::here;
use crate::support::{Desk, tree, zip};
use proptest::prelude::*;
use rstest::rstest;
use std::collections::BTreeMap;
use std::fs;
use under_seal_core::disk::names::path_bytes_of;
use under_seal_core::formats::archive::{Archive, recognise};
use under_seal_core::formats::error::ArchiveError;
use under_seal_core::formats::iso::{IsoError, IsoReader};
use under_seal_core::formats::members::RefusedReason;
use under_seal_core::formats::reader::verify_some;
use under_seal_core::formats::registry::{DISC_IMAGE, Format};
use under_seal_core::tasks::open::open;
use under_seal_core::{Error, ErrorClass};

fn read(desk: &Desk, bytes: &[u8]) -> Result<Archive, ArchiveError> {
    fs::write(desk.path("a.img"), bytes).unwrap();
    desk.with_context(&|| false, |context| {
        let archive = IsoReader::open(&desk.path("a.img").into(), context)?;
        Ok(Archive::of(&DISC_IMAGE, archive))
    })
}

/// Opens an image; what has landed.
fn landed(desk: &Desk, bytes: &[u8]) -> Result<BTreeMap<String, String>, Error> {
    let mut archive = read(desk, bytes)?;
    let into = desk.path("inbox");
    desk.with_context(&|| false, |context| open(&mut *archive, into.as_path(), context))?;
    let named = tree(&into)
        .into_iter()
        .map(|(path, features)| (String::from_utf8_lossy(&path_bytes_of(&path)).into_owned(), features));
    Ok(named.filter(|(path, _)| !path.is_empty()).collect())
}

fn names(archive: &Archive) -> Vec<String> {
    archive
        .entries()
        .unwrap()
        .iter()
        .map(|listed| String::from_utf8_lossy(listed.entry.path.as_bytes()).into_owned())
        .collect()
}

fn plain() -> Vec<Node> {
    vec![folder("PLANS", vec![file("LAMP.TXT;1", b"lit")]), file("README.;1", b"")]
}

fn wide() -> Vec<Node> {
    vec![folder("Pläne", vec![file("Überblick.txt;1", b"lit").wide()]).wide()]
}

fn ridged() -> Vec<Node> {
    let lamp = file("LAMP.TXT;1", b"lit").using(&[named("lamp.txt"), mode(0o100_640)]);
    vec![folder("PLANS", vec![lamp]).using(&[named("plans"), mode(0o40_750)])]
}

/// A disc, where its names are from, what the disc and its entries are called.
#[rstest]
#[case::plain(Disc { root: plain(), ..Disc::default() }, None, "WRENFALL LIGHT", &["PLANS", "PLANS/LAMP.TXT", "README"])]
#[case::joliet(Disc { root: plain(), joliet: Some(wide()), ..Disc::default() }, Some("Joliet"), "Wrenfall Light", &["Pläne", "Pläne/Überblick.txt"])]
#[case::rock_ridge(Disc::with_rock_ridge(ridged()), Some("Rock Ridge"), "WRENFALL LIGHT", &["plans", "plans/lamp.txt"])]
#[case::rock_ridge_says_more(Disc { joliet: Some(wide()), ..Disc::with_rock_ridge(ridged()) }, Some("Rock Ridge"), "WRENFALL LIGHT", &["plans", "plans/lamp.txt"])]
#[case::fields_without_announcement(Disc { root: ridged(), ..Disc::default() }, None, "WRENFALL LIGHT", &["PLANS", "PLANS/LAMP.TXT"])]
#[case::many_sectors_of_records(Disc { root: (10..99).map(|n| file(&format!("SHEET{n}.TIF;1"), b"lit")).collect(), ..Disc::default() }, None, "WRENFALL LIGHT", &(10..99).map(|n| format!("SHEET{n}.TIF")).collect::<Vec<_>>())]
fn the_best_names_are_taken<T: AsRef<str>>(
    #[case] disc: Disc,
    #[case] from: Option<&str>,
    #[case] label: &str,
    #[case] expected: &[T],
) {
    let desk = Desk::new();
    let archive = read(&desk, &disc.bytes()).unwrap();
    assert_eq!(names(&archive), expected.iter().map(AsRef::as_ref).collect::<Vec<_>>());
    let facts = archive.facts();
    assert_eq!((facts.methods.first().copied(), facts.label), (from, label.as_bytes().to_vec()));
    for (name, features) in landed(&desk, &disc.bytes()).unwrap() {
        let is_lit = features.ends_with(&blake3::hash(b"lit").to_string());
        assert!(is_lit || features.ends_with("folder") || name == "README", "{name}: {features}");
    }
}

/// One record of a disc with Rock Ridge, and what lands of it: the mode, the time and the content or target.
#[rstest]
#[case::mode_and_time(vec![file("A", b"lit").using(&[mode(0o100_751), field(b"TF", b"\x0E\x83\x03\x04\x05\x06\x07\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0")])], "A", "100751 1930367167.0 ")]
#[case::time_in_digits(vec![file("A", b"lit").using(&[field(b"TF", b"\x822031030405060750\x04")])], "A", "100644 1930363567.500000000 ")]
#[case::created_comes_first(vec![file("A", b"lit").using(&[field(b"TF", b"\x03\x01\x01\x01\0\0\0\0\x83\x03\x04\x05\x06\x07\0")])], "A", "100644 1930367167.0 ")]
#[case::the_records_own_time(vec![file("A", b"lit").using(&[named("lamp")])], "lamp", "100644 1930363567.0 ")]
#[case::no_foreign_rights(vec![file("A", b"lit").using(&[mode(0o104_755)])], "A", "100755 ")]
#[case::name_in_two_fields(vec![file("A", b"lit").using(&[field(b"NM", b"\x01the "), named("lamp")])], "the lamp", "100644 ")]
#[case::fields_go_on(vec![file("A", b"lit").using(&[field(b"NM", b"\x01the "), goes_on(named("long lamp").len())])], "the long lamp", "100644 ")]
#[case::a_link(vec![file("A", b"").using(&[mode(0o120_777), field(b"SL", b"\0\0\x05plans\x01\x02th\0\x01e\x02\0")])], "A", "120777 1930363567.0 link to \"plans/the/.\"")]
#[case::a_link_in_two_fields(vec![folder("B", vec![file("A", b"").using(&[mode(0o120_777), field(b"SL", b"\x01\x04\0"), field(b"SL", b"\0\0\x01c")])])], "B/A", "120777 1930363567.0 link to \"../c\"")]
#[case::too_deep(vec![
    file("DEEP", b"").using(&[named("deep"), field(b"CL", &both(ROOT + 2))]),
    folder("RR_MOVED", vec![folder("X", vec![file("A", b"lit").using(&[named("lamp")])]).using(&[field(b"RE", b"")])]),
], "deep/lamp", "100644 ")]
#[case::in_two_places(vec![Node { contents: vec![vec![b'l'; SECTOR], b"it".to_vec()], ..file("A", b"") }], "A", "100644 ")]
fn rock_ridge_describes_entries(#[case] root: Vec<Node>, #[case] name: &str, #[case] features: &str) {
    let disc = Disc { beyond: named("long lamp"), ..Disc::with_rock_ridge(root) };
    let landed = landed(&Desk::new(), &disc.bytes()).unwrap();
    if features.contains("link") && cfg!(windows) {
        // There is none.
        return;
    }
    assert!(landed[name].starts_with(&here(features)), "{landed:?}");
    assert!(landed.keys().all(|path| name.starts_with(path.as_str())), "{landed:?}");
    let content =
        if name == "A" && features == "100644 " { [&[b'l'; SECTOR][..], b"it"].concat() } else { b"lit".to_vec() };
    assert!(features.contains("link") || landed[name].ends_with(&blake3::hash(&content).to_string()), "{landed:?}");
}

/// What is beside a file `A`, and why it is refused.
#[rstest]
#[case::outside(vec![file("B", b"x").using(&[named("..")])], RefusedReason::Path(under_seal_core::ground::entry::PathError::Climbs))]
#[case::a_slash(vec![file("B", b"x").using(&[named("../evil")])], RefusedReason::Separator)]
#[case::a_slash_in_a_plain_name(vec![file("../EVIL", b"x")], RefusedReason::Separator)]
#[case::absolute(vec![file("B", b"x").using(&[named("/tmp/evil")])], RefusedReason::Separator)]
#[case::twice(vec![file("A", b"x")], RefusedReason::Twice)]
#[case::an_older_version(vec![file("A;1", b"x")], RefusedReason::Twice)]
#[case::device(vec![file("B", b"").using(&[mode(0o20_666), field(b"PN", &[both(1), both(3)].concat())])], RefusedReason::Special)]
#[case::pipe(vec![file("B", b"").using(&[mode(0o10_666)])], RefusedReason::Special)]
#[case::link_without_target(vec![file("B", b"").using(&[mode(0o120_777)])], RefusedReason::Special)]
#[case::holes(vec![file("B", b"x").using(&[field(b"SF", &[both(0), both(9), vec![1]].concat())])], RefusedReason::Sparse)]
#[case::compressed(vec![file("B", b"x").using(&[field(b"ZF", b"pz\x04\x0F\0\0\0\0\0\0\0\0")])], RefusedReason::Compressed)]
#[case::associated(vec![Node { flags: 4, ..file("A", b"x") }], RefusedReason::Special)]
fn what_could_do_harm_is_refused_by_name(#[case] beside: Vec<Node>, #[case] why: RefusedReason) {
    let desk = Desk::new();
    let root = [vec![file("A", b"one")], beside].concat();
    let bytes = Disc::with_rock_ridge(root).bytes();
    let landed = landed(&desk, &bytes).unwrap();
    assert!(landed.keys().eq(["A"]) && landed["A"].ends_with(&blake3::hash(b"one").to_string()), "{landed:?}");
    let refused: Vec<_> = read(&desk, &bytes).unwrap().refused().iter().map(|refused| refused.why).collect();
    assert_eq!(refused, [why]);
}

/// Where the topmost folder's records begin: its own two, then what is in it.
const RECORDS: usize = ROOT as usize * SECTOR;

/// What was done to an image with a folder of one file, and what becomes of it.
#[rstest]
#[case::no_primary_volume(|image: &mut Vec<u8>| image[16 * SECTOR] = 3, ErrorClass::Damaged)]
#[case::no_descriptor(|image: &mut Vec<u8>| image[16 * SECTOR + 1] = b'D', ErrorClass::Damaged)]
#[case::blocks_of_no_size(|image: &mut Vec<u8>| image[16 * SECTOR + 128..][..4].fill(0), ErrorClass::Damaged)]
#[case::one_of_several_discs(|image: &mut Vec<u8>| image[16 * SECTOR + 120..][..4].copy_from_slice(&[2, 0, 0, 2]), ErrorClass::Damaged)]
#[case::numbers_differ(|image: &mut Vec<u8>| image[16 * SECTOR + 158] ^= 1, ErrorClass::Damaged)]
#[case::topmost_folder_is_a_file(|image: &mut Vec<u8>| image[16 * SECTOR + 156 + 25] = 0, ErrorClass::Damaged)]
#[case::topmost_folder_beyond_the_end(|image: &mut Vec<u8>| image[16 * SECTOR + 158..][..8].copy_from_slice(&both(9_000)), ErrorClass::Damaged)]
#[case::endless_folder(|image: &mut Vec<u8>| image[16 * SECTOR + 166..][..8].copy_from_slice(&both(u32::MAX)), ErrorClass::Damaged)]
#[case::folder_in_itself(|image: &mut Vec<u8>| image[RECORDS + 68 + 2..][..8].copy_from_slice(&both(ROOT)), ErrorClass::Unsafe)]
#[case::short_record(|image: &mut Vec<u8>| image[RECORDS + 68] = 30, ErrorClass::Damaged)]
#[case::long_name(|image: &mut Vec<u8>| image[RECORDS + 68 + 32] = 200, ErrorClass::Damaged)]
#[case::no_name(|image: &mut Vec<u8>| image[RECORDS + 68 + 32] = 0, ErrorClass::Damaged)]
#[case::goes_on_and_does_not(|image: &mut Vec<u8>| image[RECORDS + SECTOR + 68 + 25] = 0x80, ErrorClass::Damaged)]
#[case::longer_than_the_image(|image: &mut Vec<u8>| image[RECORDS + SECTOR + 68 + 10..][..8].copy_from_slice(&both(40_000)), ErrorClass::Damaged)]
#[case::much_longer(|image: &mut Vec<u8>| image[RECORDS + SECTOR + 68 + 10..][..8].copy_from_slice(&both(u32::MAX)), ErrorClass::Unsafe)]
fn what_breaks_a_rule_is_not_opened(#[case] change: fn(&mut Vec<u8>), #[case] class: ErrorClass) {
    let mut image = Disc { root: vec![folder("B", vec![file("A", b"lit")])], ..Disc::default() }.bytes();
    let desk = Desk::new();
    assert_eq!(landed(&desk, &image).unwrap().len(), 2);
    fs::remove_dir_all(desk.path("inbox")).unwrap();
    change(&mut image);
    assert_eq!(landed(&desk, &image).unwrap_err().class(), class);
    assert!(!desk.path("inbox/B/A").exists());
}

#[rstest]
#[case::into_itself(goes_on(28), ErrorClass::Damaged)]
#[case::too_far(goes_on(SECTOR + 1), ErrorClass::Damaged)]
#[case::beyond_the_end(field(b"CE", &[both(9_000), both(0), both(9)].concat()), ErrorClass::Damaged)]
#[case::short_field(vec![b'N', b'M', 3, 1, 0, 0], ErrorClass::Damaged)]
#[case::long_field(vec![b'N', b'M', 99, 1, 0, 0], ErrorClass::Damaged)]
#[case::elsewhere_is_no_folder(field(b"CL", &both(BEYOND)), ErrorClass::Damaged)]
#[case::elsewhere_is_above(field(b"CL", &both(ROOT)), ErrorClass::Unsafe)]
fn fields_that_lead_nowhere_are_refused(#[case] fields: Vec<u8>, #[case] class: ErrorClass) {
    let disc = Disc { beyond: goes_on(28), ..Disc::with_rock_ridge(vec![file("A", b"lit").using(&[fields])]) };
    let error = read(&Desk::new(), &disc.bytes()).err().map(Error::from);
    assert_eq!(error.map(|error| error.class()), Some(class));
}

#[test]
fn a_file_beyond_the_end_is_named_and_the_others_are_read() {
    let desk = Desk::new();
    let mut image = Disc { root: vec![file("A", b"one"), file("B", b"two")], ..Disc::default() }.bytes();
    image.truncate(image.len() - SECTOR);
    let mut archive = read(&desk, &image).unwrap();
    assert!(archive.facts().is_short);
    desk.with_context(&|| false, |context| {
        verify_some(&mut *archive, &[0], context).unwrap();
        match verify_some(&mut *archive, &[1], context) {
            Err(ArchiveError::Iso(IsoError::BeyondEnd { name })) => assert_eq!(name, b"B"),
            other => panic!("{other:?}"),
        }
    });
}

/// What an image ends with changes nothing; what only resembles one is none.
#[rstest]
#[case::with_a_zip_at_its_end(|image: &mut Vec<u8>| image.extend(zip::archive(&[zip::entry("a", b"1")], b"", b"").bytes), Some(&DISC_IMAGE))]
#[case::bootable(|image: &mut Vec<u8>| image[..2].copy_from_slice(b"\xEB\x63"), Some(&DISC_IMAGE))]
#[case::cut_before_its_descriptor(|image: &mut Vec<u8>| image.truncate(16 * SECTOR), None)]
#[case::no_image(|image: &mut Vec<u8>| image[16 * SECTOR + 3] = b'X', None)]
fn an_image_is_known_by_its_descriptor(#[case] change: fn(&mut Vec<u8>), #[case] format: Option<&'static Format>) {
    let desk = Desk::new();
    let mut image = Disc { root: plain(), ..Disc::default() }.bytes();
    change(&mut image);
    fs::write(desk.path("a"), image).unwrap();
    assert_eq!(
        desk.with_context(&|| false, |context| recognise(&desk.path("a"), context)).unwrap().map(|file| file.format),
        format
    );
}

#[test]
fn another_file_system_in_the_image_is_told() {
    let desk = Desk::new();
    let mut image = Disc { root: plain(), ..Disc::default() }.bytes();
    let has_other = |image: &[u8]| {
        let facts = read(&desk, image).unwrap().facts();
        facts.has_other_system && !facts.is_short
    };
    assert!(!has_other(&image));
    image[BEYOND as usize * SECTOR..][..6].copy_from_slice(b"\0NSR02");
    assert!(has_other(&image));
}

#[test]
fn no_flipped_byte_makes_anything_land_elsewhere() {
    let desk = Desk::new();
    let image = Disc::with_rock_ridge(ridged()).bytes();
    let described = (16 * SECTOR..17 * SECTOR).filter(|at| image[*at] != 0).chain(RECORDS..RECORDS + 3 * SECTOR);
    for at in described.filter(|at| image[*at] != 0 || at % 64 == 0) {
        let mut changed = image.clone();
        changed[at] ^= 0xFF;
        let _ = fs::remove_dir_all(desk.path("inbox"));
        // Whatever comes of it: only the image itself and the inbox may be there.
        let _ = landed(&desk, &changed);
        let here: Vec<_> = fs::read_dir(desk.place.path()).unwrap().map(|entry| entry.unwrap().file_name()).collect();
        assert!(here.iter().all(|name| ["a.img", "inbox", "source"].iter().any(|known| name == known)), "{here:?}");
    }
}

/// A folder with what is in it, at random: names, contents and modes.
fn nodes() -> impl Strategy<Value = Vec<Node>> {
    const NAME: &str = "[a-zäß€ .]{0,40}[a-zß]";
    let leaf = (NAME, prop::collection::vec(any::<u8>(), 0..5_000), 0_u32..0o400)
        .prop_map(|(name, content, bits)| file("", &content).using(&[named(&name), mode(0o100_400 | bits)]));
    let node = leaf.prop_recursive(4, 60, 6, |inner| {
        let children = prop::collection::vec(inner, 0..6).prop_map(distinct);
        (NAME, children).prop_map(|(name, children)| folder("", children).using(&[named(&name), mode(0o40_700)]))
    });
    prop::collection::vec(node, 0..6).prop_map(distinct)
}

/// Nodes with identifiers of their own, and no two names alike.
fn distinct(nodes: Vec<Node>) -> Vec<Node> {
    let mut by_name: BTreeMap<Vec<u8>, Node> = BTreeMap::new();
    nodes
        .into_iter()
        .for_each(|node| drop(by_name.insert(node.system_use[5..node.system_use[2].into()].to_vec(), node)));
    (10..).zip(by_name.into_values()).map(|(number, node)| Node { name: format!("N{number}").into(), ..node }).collect()
}

fn expected(nodes: &[Node], above: &str, all: &mut BTreeMap<String, String>) {
    for node in nodes {
        let (length, mode_at) = (node.system_use[2] as usize, node.system_use[2] as usize + 4);
        let path = format!("{above}{}", str::from_utf8(&node.system_use[5..length]).unwrap());
        let mode = u32::from_le_bytes(node.system_use[mode_at..mode_at + 4].try_into().unwrap());
        let content = match node.flags {
            2 => "folder".to_owned(),
            _ => blake3::hash(&node.contents.concat()).to_string(),
        };
        expected(&node.children, &format!("{path}/"), all);
        all.insert(path, here(&format!("{mode:o} 1930363567.0 {content}")));
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, failure_persistence: None, ..ProptestConfig::default() })]
    #[test]
    fn whatever_is_on_a_disc_lands_as_it_is(nodes in nodes()) {
        let mut all = BTreeMap::new();
        expected(&nodes, "", &mut all);
        let desk = Desk::new();
        prop_assert_eq!(landed(&desk, &Disc::with_rock_ridge(nodes).bytes()).unwrap(), all);
    }
}
