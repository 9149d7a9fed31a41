//! What files have beside their content: hard links, holes and extended attributes come back, or are told not to.

use crate::support::system::{are_one, attribute, bytes_on_disk, set_attribute};
use crate::support::{Desk, PASSWORD};
use rstest::rstest;
use std::fs::{self, File};
use std::io::{Seek as _, SeekFrom, Write as _};
use std::path::Path;

const LAMP: &str = "wrenfall-light/tower/lamp.raw";
const FURTHER: [&str; 2] = ["wrenfall-light/copy of lamp.raw", "wrenfall-light/Küste/lamp.raw"];
const IMAGE: &str = "wrenfall-light/disk.img";
const SHORT_IMAGE: &str = "wrenfall-light/short.img";

/// A desk with a file of three names, two with holes, and an attribute, where the file system has such.
fn desk() -> Desk {
    let desk = Desk::new();
    let lamp: Vec<u8> = (0..400_000_u32).flat_map(|number| number.wrapping_mul(2_654_435_761).to_le_bytes()).collect();
    desk.file(LAMP, &lamp).file("wrenfall-light/note.txt", b"The lamp is lit.");
    for further in FURTHER {
        fs::create_dir_all(desk.path(further).parent().unwrap()).unwrap();
        fs::hard_link(desk.path(LAMP), desk.path(further)).unwrap();
    }
    let mut image = File::create(desk.path(IMAGE)).unwrap();
    image.seek(SeekFrom::Start(40_000_000)).unwrap();
    image.write_all(b"lit").unwrap();
    image.set_len(90_000_000).unwrap();
    File::create(desk.path(SHORT_IMAGE)).unwrap().set_len(300_000).unwrap();
    desk
}

/// How many of these are one file.
fn in_one(folder: &Path, names: &[&str]) -> usize {
    names.iter().filter(|name| are_one(&folder.join(name), &folder.join(names[0]))).count()
}

/// The archive's file, options of packing it, and how many names are one file afterwards, whether holes are holes, and attributes kept.
#[rstest]
#[case::sealed("out/a.useal", &["--attributes"], 3, true, true)]
#[case::volumes("out/", &["--fit", "200KB", "--attributes"], 3, true, true)]
#[case::slow("out/a.useal", &["--squeeze", "hard"], 3, true, false)]
#[case::page("a.html", &["--attributes"], 3, true, true)]
#[case::tar("a.tar", &["--no-password", "--attributes"], 3, true, true)]
#[case::tar_without_attributes("a.tar", &["--no-password"], 3, true, false)]
#[case::tar_in_gzip("a.tar.gz", &["--no-password"], 3, true, false)]
#[case::zip("a.zip", &[], 1, false, false)]
#[cfg_attr(windows, ignore = "holes are not told there")]
fn what_files_have_comes_back(
    #[case] archive: &str,
    #[case] options: &[&str],
    #[case] one: usize,
    #[case] holes: bool,
    #[case] attributes: bool,
) {
    let desk = desk().with_password(!options.contains(&"--no-password"));
    let has_attributes = set_attribute(&desk.path("wrenfall-light/note.txt"), "user.keeper", b"north wall");
    let typed = [&["wrenfall-light", "--to", archive, "--json"], options].concat();
    let plan = desk.run(&[&["plan"], &typed[..]].concat()).expect(0);
    let packed = desk.run(&[&["pack"], &typed[..]].concat()).expect(0);
    assert_eq!(plan.json("/extras"), packed.json("/extras"));
    let formats = plan.json("/formats").as_array().unwrap().clone();
    let planned = formats.into_iter().find(|one| one["format"] == packed.json("/format")).unwrap();
    let range = planned["at_least"].as_u64().unwrap()..=planned["at_most"].as_u64().unwrap();
    assert!(range.contains(&packed.json("/after_bytes").as_u64().unwrap()), "{range:?} {}", packed.out);
    let told = |what: &str| {
        let extras = packed.json("/extras").as_array().unwrap().clone();
        let extra = extras.into_iter().find(|extra| extra["what"].as_str().unwrap().contains(what));
        extra.map(|extra| (extra["how_many"].as_u64().unwrap(), extra["is_kept"].as_bool().unwrap()))
    };
    assert_eq!((told("hard links"), told("holes")), (Some((2, one > 1)), Some((2, holes))));
    assert_eq!(told("attributes"), has_attributes.then_some((1, attributes)));
    let once = packed.json("/before_bytes").as_u64().unwrap();
    assert_eq!(once, 16 + 90_300_000 + if one > 1 { 1 } else { 3 } * 1_600_000);
    assert!(packed.json("/after_bytes").as_u64().unwrap() < if one > 1 { 3_200_000 } else { once });
    let archive = if archive == "out/" { "out" } else { archive };
    desk.run(&["check", archive]).expect(0);
    let opened = desk.run(&["open", archive, "--into", "in", "--json"]).expect(0);
    assert_eq!(opened.json("/further_names"), one - 1);
    let landed = desk.path("in");
    assert_eq!(in_one(&landed, &[LAMP, FURTHER[0], FURTHER[1]]), one);
    assert_eq!(bytes_on_disk(landed.join(IMAGE)) < 1_000_000, holes);
    assert_eq!(bytes_on_disk(landed.join(SHORT_IMAGE)) < 200_000, holes);
    let expected = (has_attributes && attributes).then(|| b"north wall".to_vec());
    assert_eq!(attribute(&landed.join("wrenfall-light/note.txt"), "user.keeper"), expected);
    assert_eq!(desk.run(&["compare", archive, "wrenfall-light", "--json"]).expect(0).json("/same"), 9);
    assert_eq!(desk.run(&["compare", archive, "in/wrenfall-light", "--json"]).expect(0).json("/same"), 9);
}

/// A further name by itself has its content, whichever is asked for, and two of them are one file.
#[rstest]
#[case::sealed("a.useal")]
#[case::tar("a.tar")]
#[cfg_attr(windows, ignore = "there is no program that only says yes")]
fn a_further_name_can_be_had_alone(#[case] archive: &str) {
    let desk = desk().with_password(archive == "a.useal");
    let pack = ["pack", "wrenfall-light", "--to", archive];
    let no_password: &[&str] = if archive == "a.tar" { &["--no-password"] } else { &[] };
    desk.run(&[&pack[..], no_password].concat()).expect(0);
    let whole = fs::read(desk.path(LAMP)).unwrap();
    // From the top of the archive, so that nobody takes them for the files of the desk.
    let [lamp, copy, coast] = [LAMP, FURTHER[0], FURTHER[1]].map(|path| format!("/{path}"));
    desk.run(&["open", archive, &coast, "--into", "one"]).expect(0);
    assert_eq!(fs::read(desk.path("one").join(FURTHER[1])).unwrap(), whole);
    desk.run(&["open", archive, &coast, &lamp, "--into", "two"]).expect(0);
    assert_eq!(in_one(&desk.path("two"), &[FURTHER[1], LAMP]), 2);
    // What is there stays, and its other name comes with its content all the same.
    fs::create_dir_all(desk.path("three/wrenfall-light")).unwrap();
    fs::write(desk.path("three").join(FURTHER[0]), b"mine").unwrap();
    desk.run(&["open", archive, "--into", "three", "--on-clash", "keep"]).expect(0);
    assert_eq!(fs::read(desk.path("three").join(FURTHER[0])).unwrap(), b"mine");
    assert_eq!(fs::read(desk.path("three").join(LAMP)).unwrap(), whole);
    assert_eq!(in_one(&desk.path("three"), &[LAMP, FURTHER[1]]), 2);
    // What is replaced gets the new content under each name.
    desk.run(&["open", archive, "--into", "three", "--on-clash", "replace"]).expect(0);
    assert_eq!(in_one(&desk.path("three"), &[LAMP, FURTHER[0], FURTHER[1]]), 3);
    assert_eq!(fs::read(desk.path("three").join(FURTHER[0])).unwrap(), whole);
    let peeked = desk.command(&["open", archive, &copy, "--to-stdout"]).output().unwrap();
    assert_eq!(peeked.stdout, whole);
    desk.run(&["open", archive, "--screen-with", "true", "--into", "screened"]).expect(0);
    assert_eq!(in_one(&desk.path("screened"), &[LAMP, FURTHER[0], FURTHER[1]]), 3);
}

/// From one format to the next; what the next does not keep is told before.
#[rstest]
#[case::to_tar(&["tar"], 3, &[])]
#[case::to_compressed_tar(&["tar.gz"], 3, &[])]
#[case::to_sealed_by_tar(&["tar", "sealed"], 3, &[])]
#[case::to_page(&["page"], 3, &[])]
#[case::to_zip(&["zip"], 1, &["holes", "share"])]
#[cfg_attr(windows, ignore = "holes are not told there")]
fn archives_are_recast_with_them(#[case] formats: &[&str], #[case] one: usize, #[case] lost: &[&str]) {
    let desk = desk();
    desk.file("password", PASSWORD.as_bytes());
    desk.run(&["pack", "wrenfall-light", "--to", "out/", "--fit", "500KB"]).expect(0);
    let (mut archive, mut told) = ("out".to_owned(), String::new());
    for format in formats {
        let from_tar: &[&str] = if archive.starts_with("tar/") {
            &["--accept-no-password", "--new-password-from", "password"]
        } else {
            &[]
        };
        let typed = ["recast", &archive, "--as", format, "--to", &format!("{format}/")];
        let no_password: &[&str] = if format.starts_with("tar") { &["--no-password"] } else { &[] };
        let ran = desk.run(&[&typed[..], no_password, from_tar].concat()).expect(0);
        told.push_str(&ran.out);
        told.push_str(&ran.err);
        archive = format!("{format}/{}", desk.names(format)[0]);
    }
    for word in ["holes", "share"] {
        assert_eq!(told.contains(word), lost.contains(&word), "{word}: {told}");
    }
    let has_password = !archive.starts_with("tar");
    let desk = desk.with_password(has_password);
    desk.run(&["open", &archive, "--into", "in"]).expect(0);
    assert_eq!(in_one(&desk.path("in"), &[LAMP, FURTHER[0], FURTHER[1]]), one);
    let holes = !lost.contains(&"holes");
    assert_eq!(bytes_on_disk(desk.path("in").join(IMAGE)) < 1_000_000, holes);
    assert!(!holes || bytes_on_disk(desk.path(&archive)) < 3_000_000);
    assert_eq!(desk.run(&["compare", &archive, "wrenfall-light", "--json"]).expect(0).json("/same"), 9);
}

/// A stream of tar has names, holes and attributes too, and is as short as what is stored.
#[rstest]
#[case::from_sealed("a.useal")]
#[case::from_tar("a.tar")]
#[cfg_attr(windows, ignore = "holes are not told there")]
fn a_stream_of_tar_has_them_all(#[case] archive: &str) {
    let desk = desk();
    let kept = set_attribute(&desk.path(LAMP), "user.comment", b"north wall");
    let no_password: &[&str] = if archive == "a.tar" { &["--no-password"] } else { &[] };
    let desk = desk.with_password(archive != "a.tar");
    desk.run(&[&["pack", "wrenfall-light", "--attributes", "--to", archive][..], no_password].concat()).expect(0);
    let stream = desk.command(&["open", archive, "--to-stdout", "--as", "tar"]).output().unwrap();
    assert!(stream.stdout.len() < 3_000_000);
    desk.file("stream.tar", &stream.stdout);
    let desk = desk.with_password(false);
    desk.run(&["open", "stream.tar", "--into", "in"]).expect(0);
    assert_eq!(in_one(&desk.path("in"), &[LAMP, FURTHER[0], FURTHER[1]]), 3);
    assert!(bytes_on_disk(desk.path("in").join(IMAGE)) < 1_000_000);
    assert_eq!(attribute(&desk.path("in").join(LAMP), "user.comment").is_some(), kept);
    assert_eq!(desk.run(&["compare", "stream.tar", "wrenfall-light", "--json"]).expect(0).json("/same"), 9);
}

/// A missing volume: what is lost then, whether that is known, and what the names are that share a file.
#[rstest]
#[case::with_the_content(|_: usize| 2, Some(3), 0)]
#[case::with_another(|all: usize| all - 2, Some(1), 3)]
#[case::with_the_index(|all: usize| all, None, 1)]
#[cfg_attr(windows, ignore = "there are no links")]
fn salvage_knows_the_names_of_a_file(
    #[case] missing: fn(usize) -> usize,
    #[case] lost: Option<usize>,
    #[case] one: usize,
) {
    let desk = desk();
    desk.file("wrenfall-light/zz.raw", &fs::read(desk.path(LAMP)).unwrap());
    desk.run(&["pack", "wrenfall-light", "--to", "out/", "--fit", "150KB", "--squeeze", "none"]).expect(0);
    let volumes = desk.names("out");
    fs::remove_file(desk.path("out").join(&volumes[missing(volumes.len()) - 1])).unwrap();
    let ran = desk.run(&["open", "out", "--salvage", "--into", "in", "--json"]).expect(4);
    assert_eq!(ran.json("/lost").as_array().map(Vec::len), lost);
    let landed = desk.path("in");
    let here: Vec<&str> =
        [LAMP, FURTHER[0], FURTHER[1]].into_iter().filter(|name| landed.join(name).is_file()).collect();
    // Without the index nobody knows that they are more than links, which lead to the content all the same.
    let is_link = |name: &&&str| fs::symlink_metadata(landed.join(name)).unwrap().is_symlink();
    assert_eq!(here.iter().filter(is_link).count(), if lost.is_none() { 2 } else { 0 });
    assert_eq!(here.len(), if one == 0 { 0 } else { 3 });
    for name in here {
        assert_eq!(fs::read(landed.join(name)).unwrap(), fs::read(desk.path(LAMP)).unwrap());
    }
    assert_eq!(fs::metadata(landed.join(IMAGE)).unwrap().len(), 90_000_000);
    assert!(bytes_on_disk(landed.join(IMAGE)) < 1_000_000);
}
