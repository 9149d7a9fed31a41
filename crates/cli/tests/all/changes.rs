//! Archives of changes: three generations in turn, what a recipient has changed meanwhile, and what is missing.

use crate::support::Desk;
use crate::support::system::{as_written, links, symlink};
use rstest::rstest;
use std::fs;

/// A recipient who has opened the first of three generations, and a sender who has made the others.
fn three_generations() -> Desk {
    let desk = Desk::new();
    for (name, content) in [("a", "one"), ("b", "one"), ("sub/c", "one"), ("gone", "one"), ("folder/gone", "one")] {
        desk.file(&format!("box/{name}"), content.as_bytes());
    }
    desk.run(&["pack", "box", "--to", "first.useal"]).expect(0);
    desk.run(&["open", "first.useal", "--into", "in"]).expect(0);
    desk.file("box/a", b"two").file("box/sub/new", b"two");
    fs::remove_file(desk.path("box/gone")).unwrap();
    fs::remove_dir_all(desk.path("box/folder")).unwrap();
    desk.run(&["pack", "box", "--since", "first.useal", "--to", "second.useal"]).expect(0);
    desk.file("box/a", b"three").file("box/b", b"three");
    fs::remove_file(desk.path("box/sub/c")).unwrap();
    desk.run(&["pack", "box", "--since", "second.useal", "--to", "third.useal"]).expect(0);
    desk
}

fn read(desk: &Desk, name: &str) -> Option<String> {
    fs::read_to_string(desk.path("in/box").join(name)).ok()
}

/// What is packed is what has changed, and what is opened in turn is the newest state.
#[test]
fn three_generations_are_opened_in_turn() {
    let desk = three_generations();
    let listed = desk.run(&["list", "third.useal", "--json"]).expect(0);
    assert_eq!(listed.json("/files"), 2);
    for command in [&["list"][..], &["about"], &["check", "--ask-password"]] {
        let ran = desk.run(&[command, &["second.useal"]].concat()).expect(0);
        assert!(ran.out.contains("only what has changed since first of"), "{}", ran.out);
    }
    let ran = desk.run(&["open", "second.useal", "--into", "in", "--update", "--json"]).expect(0);
    assert_eq!(
        (ran.json("/files"), ran.json("/replaced_files"), ran.json("/removed_entries")),
        (2.into(), 1.into(), 0.into())
    );
    assert_eq!(ran.json("/still_here").as_array().unwrap().len(), 3);
    assert_eq!((read(&desk, "a").as_deref(), read(&desk, "gone").as_deref()), (Some("two"), Some("one")));
    // Once more, with consent; what is there already stays.
    let ran = desk.run(&["open", "second.useal", "--into", "in", "--update", "--remove-gone", "--json"]).expect(0);
    assert_eq!(
        (ran.json("/files"), ran.json("/removed_entries"), ran.json("/still_here")),
        (0.into(), 3.into(), serde_json::json!([]))
    );
    assert!(!desk.path("in/box/folder").exists());
    desk.run(&["open", "third.useal", "--into", "in", "--update", "--remove-gone"]).expect(0);
    let compared = desk.run(&["compare", "third.useal", "in/box"]);
    assert!(compared.out.contains("0 added, 0 removed, 0 changed"), "{}", compared.out);
    let compared = desk.run(&["compare", "third.useal", "box"]);
    assert!(compared.out.contains("0 added, 0 removed, 0 changed"), "{}", compared.out);
    assert_eq!(read(&desk, "sub/new").as_deref(), Some("two"));
}

/// What is not there, and what is told: the name of what must be opened first.
#[rstest]
#[case::no_base("second.useal", "elsewhere", "Open first there first")]
#[case::skipped_generation("third.useal", "in", "Open second there first")]
fn a_base_that_is_not_there_is_named(#[case] archive: &str, #[case] into: &str, #[case] words: &str) {
    let desk = three_generations();
    let before = desk.path(into).exists().then(|| desk.names(into));
    let ran = desk.run(&["open", archive, "--into", into]).expect(6);
    assert!(ran.err.replace("\n  ", " ").contains(words), "{}", ran.err);
    assert_eq!(desk.path(into).exists().then(|| desk.names(into)), before);
    assert_eq!((read(&desk, "a").as_deref(), read(&desk, "b").as_deref()), (Some("one"), Some("one")));
    desk.run(&["open", archive, "--into", into, "--accept-other-base", "--on-clash", "keep"]).expect(0);
}

/// What the recipient has changed meanwhile is asked about like any other clash, and never removed.
#[test]
fn what_was_changed_meanwhile_is_a_clash() {
    let desk = three_generations();
    desk.file("in/box/a", b"mine").file("in/box/gone", b"mine");
    let ran = desk.run(&["open", "second.useal", "--into", "in", "--update"]).expect(6);
    assert!(ran.err.contains(&as_written("in/box/a")) && !desk.path("in/box/sub/new").exists(), "{}", ran.err);
    let ran =
        desk.run(&["open", "second.useal", "--into", "in", "--on-clash", "keep", "--remove-gone", "--json"]).expect(1);
    assert_eq!(ran.json("/still_here_changed"), serde_json::json!(["box/gone"]));
    assert_eq!((read(&desk, "a").as_deref(), read(&desk, "gone").as_deref()), (Some("mine"), Some("mine")));
    assert_eq!(read(&desk, "sub/new").as_deref(), Some("two"));
}

/// What is said before, and what is not done.
#[rstest]
#[case::nothing_new(&["pack", "box", "--since", "third.useal"], 0, "Nothing has changed since third of")]
#[case::plan(&["plan", "box", "--since", "first.useal"], 0, "1 added, 2 changed, 4 removed since first of")]
#[case::planned_as_zip(&["plan", "box", "--since", "first.useal", "--as", "zip"], 2, "cannot have changes alone")]
#[case::as_zip(&["pack", "box", "--since", "first.useal", "--as", "zip"], 2, "cannot have changes alone")]
#[case::into_its_base(&["pack", "box", "--since", "first.useal", "--to", "first.useal"], 2, "would take the place of the archive")]
#[case::wrong_password(&["pack", "box", "--since", "first.useal", "--since-password-from", "other"], 3, "Wrong password.")]
#[case::no_base(&["pack", "box", "--since", "nowhere"], 2, "does not exist")]
#[case::unasked(&["open", "second.useal", "--into", "in"], 6, "1 file would be replaced that is here as first left it: box/a")]
#[case::flat(&["open", "second.useal", "--into", "in", "--flat"], 2, "opened without its folders")]
#[case::revised(&["revise", "second.useal", "--remove", "a"], 2, "cannot be revised")]
#[case::recast(&["recast", "second.useal", "--as", "zip"], 2, "cannot be made into another")]
#[case::originals(&["compare", "second.useal", "box", "--originals"], 1, "Do not delete all of the originals")]
fn changes_are_told_and_kept_apart(#[case] command: &[&str], #[case] code: i32, #[case] words: &str) {
    let desk = three_generations();
    desk.file("other", b"a quite new set of words");
    let before = desk.names(".");
    let ran = desk.run(command).expect(code);
    assert!((ran.err.clone() + &ran.out).replace("\n  ", " ").contains(words), "{}{}", ran.err, ran.out);
    assert_eq!(desk.names("."), before);
}

/// What is built upon may lie among what is packed, and is not packed.
#[test]
fn a_base_among_the_sources_is_not_packed() {
    let desk = Desk::new();
    desk.file("box/a", b"1").run(&["pack", "box", "--to", "box/first.useal"]).expect(0);
    assert!(desk.run(&["pack", "box", "--since", "box/first.useal"]).expect(0).out.contains("Nothing has changed"));
    assert_eq!(
        desk.run(&["plan", "box", "--since", "box", "--json"]).expect(0).json("/changes/added"),
        serde_json::json!([])
    );
}

/// An archive in which something was only removed holds nothing, and says so.
#[test]
fn removals_alone_are_changes() {
    let desk = three_generations();
    fs::remove_file(desk.path("box/b")).unwrap();
    desk.run(&["pack", "box", "--since", "third.useal", "--to", "out/", "--as", "page"]).expect(0);
    for archive in ["second.useal", "third.useal", "out"] {
        desk.run(&["open", archive, "--into", "in", "--update", "--remove-gone"]).expect(0);
    }
    assert!(read(&desk, "b").is_none() && read(&desk, "a").as_deref() == Some("three"));
}

/// The recipient is played with what was opened before, in turn; without it, what is missing is named.
#[rstest]
#[case::in_turn(&["--after", "first.useal", "--after", "second.useal"], 0, "the same as the sources")]
#[case::one_is_skipped(&["--after", "first.useal"], 1, "only what has changed since second of")]
#[case::nothing_before(&[], 1, "--after")]
fn a_recipient_is_played_in_turn(#[case] after: &[&str], #[case] code: i32, #[case] words: &str) {
    let desk = three_generations();
    let ran = desk.run(&[&["rehearse", "third.useal", "--against", "box"], after].concat()).expect(code);
    assert!(ran.out.contains(words), "{}", ran.out);
}

/// What `compare` ends with can be typed as it stands.
#[test]
#[cfg_attr(windows, ignore = "it needs a shell of Unix")]
fn compare_ends_with_what_brings_it_up_to_date() {
    let desk = three_generations();
    let ran = desk.run(&["compare", "first.useal", "box", "--leave-out", "b c"]).expect(1);
    let commands: Vec<String> =
        ran.out.lines().filter_map(|line| line.strip_prefix("  under-seal ")).map(str::to_owned).collect();
    assert_eq!(commands.len(), 2, "{}", ran.out);
    for command in commands {
        let typed = format!("{} {command} --quiet", env!("CARGO_BIN_EXE_under-seal"));
        // Once it is up to date nothing is left to be packed.
        crate::support::in_a_shell(&desk, &typed).expect(0);
    }
    desk.run(&["open", "first.useal", "--into", "now"]).expect(0);
    assert_eq!(fs::read(desk.path("now/box/a")).unwrap(), b"three");
}

/// What a path is in one generation: nothing, a file, a folder with more in it, or a link.
fn put(desk: &Desk, name: &str, kind: char, generation: usize) {
    let path = desk.path(&format!("box/{name}"));
    match kind {
        'f' => fs::write(path, format!("{name} {generation}")).unwrap(),
        'd' => {
            fs::create_dir_all(path.join("sub")).unwrap();
            fs::write(path.join("in"), name).unwrap();
            fs::write(path.join("sub/deep"), generation.to_string()).unwrap();
        }
        'l' => symlink(format!("target {generation}"), path),
        _ => {}
    }
}

/// Every change of kind, each to each, in three generations of changes.
#[test]
fn whatever_something_becomes_it_can_be_opened() {
    let desk = Desk::new();
    let kinds: &[char] = if links(1) == 1 { &['n', 'f', 'd', 'l'] } else { &['n', 'f', 'd'] };
    let three =
        |first: char| kinds.iter().flat_map(move |second| kinds.iter().map(move |third| [first, *second, *third]));
    for generation in 0..3 {
        let _ = fs::remove_dir_all(desk.path("box"));
        fs::create_dir(desk.path("box")).unwrap();
        for all in kinds.iter().flat_map(|first| three(*first)) {
            put(&desk, &String::from_iter(all), all[generation], generation);
        }
        let name = format!("out/{generation}.useal");
        let earlier = format!("out/{}.useal", generation.max(1) - 1);
        let (mut since, mut consent) = (Vec::new(), Vec::new());
        if generation > 0 {
            (since, consent) = (vec!["--since", &earlier], vec!["--update", "--remove-gone"]);
        }
        desk.run(&[&["pack", "box", "--to", &name], &since[..]].concat()).expect(0);
        // Once more, everything is there.
        for _ in 0..=usize::from(generation > 0) {
            desk.run(&[&["open", &name, "--into", "in"], &consent[..]].concat()).expect(0);
            let compared = desk.run(&["compare", &name, "in/box"]).out;
            assert!(compared.contains("0 added, 0 removed, 0 changed"), "{generation}: {compared}");
        }
    }
    desk.run(&["open", "out", "--all", "--update", "--remove-gone", "--into", "at-once"]).expect(0);
    let compared = desk.run(&["compare", "out/2.useal", "at-once/box"]).out;
    assert!(compared.contains("0 added, 0 removed, 0 changed"), "{compared}");
    desk.run(&["rehearse", "out/2.useal", "--after", "out/0.useal", "--after", "out/1.useal", "--against", "box"])
        .expect(0);
}

/// A folder becomes a file, and a file a folder, where the recipient has put something meanwhile.
#[rstest]
#[case::nothing("", &["--update"], 0, "")]
#[case::without_consent("", &[], 6, "Add --update")]
#[case::more_in_the_folder("folder/mine", &["--update"], 6, "A folder is where a file or link goes")]
#[case::changed_in_the_folder("folder/gone", &["--update"], 6, "A folder is where a file or link goes")]
#[case::even_to_be_replaced("folder/mine", &["--update", "--on-clash", "replace"], 6, "A folder is where a file or link goes")]
#[case::changed_file("a", &["--update"], 6, "This is there already")]
#[case::changed_file_to_be_replaced("a", &["--update", "--on-clash", "replace"], 0, "")]
fn what_gives_way_to_another_kind_is_only_what_was_left(
    #[case] mine: &str,
    #[case] options: &[&str],
    #[case] code: i32,
    #[case] words: &str,
) {
    let desk = three_generations();
    fs::remove_file(desk.path("box/a")).unwrap();
    desk.file("box/folder", b"now a file").file("box/a/below", b"now a folder");
    desk.run(&["pack", "box", "--since", "first.useal", "--to", "other.useal"]).expect(0);
    if !mine.is_empty() {
        desk.file(&format!("in/box/{mine}"), b"mine");
    }
    let ran = desk.run(&[&["open", "other.useal", "--into", "in"], options].concat()).expect(code);
    assert!(ran.err.replace("\n  ", " ").contains(words), "{}", ran.err);
    assert_eq!(read(&desk, "folder").is_some(), code == 0);
    assert_eq!(read(&desk, "a/below").is_some(), code == 0);
    assert!(code == 0 || mine.is_empty() || read(&desk, mine).as_deref() == Some("mine"));
}
