//! What a sender decides before packing: what goes in, what it is called, what it fits, what unlocks it.

use crate::support::system::{is_private, with_link};
use crate::support::{Desk, PASSWORD};
use rstest::rstest;
use std::fs;

const SETTINGS: &str = r#"
leave-out = ["*.part"]
no-litter = true

[fits.board-room]
message = "1MB"
purpose = "the board's own mailbox"

[profiles.heritage-board]
fit = "260KB"
squeeze = "light"
name = "{folder}-for-{profile}"
leave-out = ["raw/"]
"#;

/// A desk with the dossier and a configuration file.
fn desk() -> Desk {
    let desk = Desk::new();
    desk.run(&["demo", "--data-to", "."]).expect(0);
    desk.file(".settings/under-seal/config.toml", SETTINGS.as_bytes());
    desk
}

#[rstest]
#[case::pattern(&["--leave-out", "raw/", "--leave-out", "*.svg"], 0, "/files", 13)]
#[case::only(&["--only", "survey", "--only", "*.jpg"], 0, "/files", 11)]
#[case::pattern_file(&["--leave-out-from", "patterns.txt"], 0, "/files", 17)]
#[case::litter_of_the_configuration(&["--only", "letters"], 0, "/files", 2)]
#[case::matches_nothing(&["--leave-out", "*.tif"], 1, "/unmatched_patterns/0", "*.tif")]
#[case::of_a_profile(&["--for", "heritage-board"], 0, "/files", 17)]
#[case::typed_counts_more(&["--for", "heritage-board", "--squeeze", "none"], 0, "/squeeze", "none")]
#[case::own_fit(&["--fit", "board-room"], 0, "/volumes/0/bytes", 718_656)]
#[case::named_by_the_profile(&["--for", "heritage-board"], 0, "/archive", "wrenfall-light-for-heritage-board")]
#[case::named_by_a_pattern(&["--name", "{folder} for the board.useal"], 0, "/archive", "wrenfall-light for the board")]
fn what_is_chosen_is_what_is_packed(
    #[case] options: &[&str],
    #[case] code: i32,
    #[case] pointer: &str,
    #[case] expected: impl Into<serde_json::Value>,
) {
    let desk = desk();
    desk.file("wrenfall-light/letters/~$second.part", b"litter");
    desk.file("patterns.txt", b"# the raw scans are too much\nraw/\n\n");
    let arguments = [&["pack", "wrenfall-light", "--to", "out/", "--json"], options].concat();
    assert_eq!(desk.run(&arguments).expect(code).json(pointer), expected.into());
}

#[rstest]
#[case::contents(&["wrenfall-light/letters", "--contents"], "to the board, second delivery.txt")]
#[case::folders_kept(&["wrenfall-light/letters", "wrenfall-light/costs", "--keep-paths"], "wrenfall-light/costs/cost-table.csv")]
#[case::wildcard(&["wrenfall-light/*.txt", "wrenfall-light/s*"], "survey/levels.csv")]
#[case::message(&["wrenfall-light/costs", "--message", "Mind the step."], "costs")]
fn what_was_packed_comes_out_where_it_was_meant(#[case] options: &[&str], #[case] there: &str) {
    let desk = desk();
    desk.run(&[&["pack", "--to", "out/board"], options].concat()).expect(0);
    let opened = desk.run(&["open", "out", "--into", "in"]).expect(0);
    assert!(desk.path("in").join(there).exists(), "{:?}", desk.names("in"));
    assert_eq!(opened.out.contains("Mind the step."), options.contains(&"--message"));
}

#[test]
fn an_archive_inside_its_source_is_not_packed_into_itself() {
    let desk = desk();
    let pack = ["pack", "wrenfall-light", "--to", "wrenfall-light/", "--fit", "260KB", "--replace", "--json"];
    let first = desk.run(&pack).expect(0).json("/files");
    let again = desk.run(&pack).expect(0);
    assert_eq!((again.json("/files"), again.json("/own_output_left_out")), (first, 7.into()));
}

/// Who may have mistaken the key file is not told that it is the password; and the archive that changes build upon has options of its own.
#[rstest]
#[case::no_key_file(&["list", "keyed.useal"], "without a key file, and opens nothing alone", "add --key-file.")]
#[case::another_key_file(&["list", "keyed.useal", "--key-file", "other"], "Wrong password or key file. Both were given, and open nothing", "with not a byte changed.")]
#[case::of_what_changes_build_upon(&["pack", "a", "--since", "keyed.useal", "--to", "more"], "are to build upon cannot be opened", "add --since-key-file.")]
fn what_did_not_open_is_said(#[case] typed: &[&str], #[case] what: &str, #[case] next: &str) {
    let desk = Desk::new();
    desk.file("a", b"1").file("key", b"any bytes").file("other", b"other bytes");
    let packed = desk.run(&["pack", "a", "--key-file", "key", "--to", "keyed"]).expect(0).out;
    assert!(packed.contains("opens by  the password with the key file, and no other"), "{packed}");
    let told = desk.run(typed).expect(3).err.replace("\n  ", " ");
    assert!(told.contains(what) && told.trim_end().ends_with(next), "{told}");
}

#[rstest]
#[case::key_file(&["--key-file", "key"], &["--key-file", "key"], 0)]
#[case::without_its_key_file(&["--key-file", "key"], &[], 3)]
#[case::second_password(&["--also-password-from", "second"], &["--password-from", "second"], 0)]
#[case::first_of_two(&["--also-password-from", "second"], &[], 0)]
#[case::made(&["--make-passphrase", "--passphrase-to", "made"], &["--password-from", "made"], 0)]
#[case::not_the_made_one(&["--make-passphrase", "--passphrase-to", "made"], &[], 3)]
fn each_way_to_seal_has_its_way_to_open(#[case] seal: &[&str], #[case] unlock: &[&str], #[case] code: i32) {
    let desk = Desk::new();
    desk.file("a", b"1").file("key", b"any bytes").file("second", b"the keeper counts the stairs\n");
    desk.run(&[&["pack", "a", "--to", "out/"], seal].concat()).expect(0);
    desk.run(&[&["open", "out", "--into", "in"], unlock].concat()).expect(code);
    if seal.contains(&"made") {
        assert!(is_private(desk.path("made")));
        assert_eq!(fs::read_to_string(desk.path("made")).unwrap().trim_end().split(' ').count(), 7);
    }
}

#[test]
fn an_archive_without_a_password_says_so_whenever_it_is_touched() {
    let desk = Desk::new();
    desk.file("a", b"1");
    let runs: [&[&str]; 3] =
        [&["pack", "a", "--to", "out/", "--no-password"], &["check", "out"], &["open", "out", "--into", "in"]];
    for arguments in runs {
        let out = desk.run_bare(arguments).expect(0).out;
        assert!(out.contains("not secret") && !out.contains("tell the password"), "{out}");
    }
}

#[test]
fn parcels_open_one_by_one_and_give_everything_back() {
    let desk = desk();
    let planned = desk.run(&["plan", "wrenfall-light", "--parcels", "--fit", "board-room"]).expect(0).out;
    assert!(planned.contains("Parcels, at even") && planned.contains("survey/raw"), "{planned}");
    let pack = ["pack", "wrenfall-light", "--parcels", "--fit", "board-room", "--to", "out/dossier", "--replace"];
    let packed = desk.run(&pack).expect(0).out;
    assert!(packed.contains("3 parcels") && packed.contains("dossier-parcel1of3.useal"), "{packed}");
    assert!(packed.contains("in 20 files, 8 folders"), "{packed}");
    // One of them says nothing of what others have, and how to take all.
    for (verb, options) in [("rehearse", &["--all", "--against"][..]), ("compare", &[])] {
        let against = options.iter().filter(|option| **option != "--all").copied();
        let line: Vec<&str> = [verb, "out/dossier-parcel1of3.useal"].into_iter().chain(against).collect();
        let alone = desk.run(&[&line[..], &["wrenfall-light"]].concat()).expect(0).out;
        let all = [&[verb, "out"], options, &["wrenfall-light"]].concat();
        assert!(alone.contains(&format!("under-seal {}", all.join(" "))), "{alone}");
        desk.run(&all).expect(0);
        let json = desk.run(&[&line[..], &["wrenfall-light", "--json"]].concat()).expect(0);
        assert_eq!((json.json("/parcel/number"), json.json("/parcel/count")), (1.into(), 3.into()));
    }
    // Again, as if one parcel had been left from another division.
    fs::copy(desk.path("out/dossier-parcel1of3.useal"), desk.path("out/dossier-parcel4of4.useal")).unwrap();
    desk.run(&pack).expect(0);
    assert_eq!(desk.names("out"), [1, 2, 3].map(|number| format!("dossier-parcel{number}of3.useal")));
    for number in [3, 1, 2] {
        desk.run(&["open", &format!("out/dossier-parcel{number}of3.useal"), "--into", "in"]).expect(0);
    }
    desk.run(&["pack", "in/wrenfall-light", "--to", "again/"]).expect(0);
    let compared = desk.run(&["compare", "again", "wrenfall-light"]).expect(0).out;
    let expected = format!("{} the same, 0 added, 0 removed, 0 changed", with_link(29));
    assert!(compared.contains(&expected), "{compared}");
}

#[rstest]
#[case::weak(&["--password-from", "weak"], 2, "This password is weak")]
#[case::weak_and_wanted(&["--password-from", "weak", "--weak-ok"], 0, "")]
#[case::nowhere_to_show(&["--make-passphrase"], 2, "--passphrase-to FILE")]
#[case::passphrase_file_there(&["--make-passphrase", "--passphrase-to", "weak"], 6, "it is there already")]
#[case::no_key_file(&["--key-file", "kee"], 2, "kee cannot be read: it is not there")]
#[case::unknown_fit(&["--fit", "mail-eleven"], 2, "There are mail-10, mail-25")]
#[case::unknown_profile(&["--for", "board"], 2, "The configuration file has heritage-board")]
#[case::parcels_of_no_size(&["--parcels"], 2, "Parcels need a fit")]
#[case::file_larger_than_a_parcel(&["--parcels", "--fit", "70KB", "wrenfall-light/photographs", "--to", "x"], 2, "larger than the fit even when compressed")]
#[case::unknown_field(&["--name", "{datum}"], 2, "There are {folder}, {date}")]
#[case::empty_key_file(&["--key-file", "nothing"], 2, "The key file nothing is empty")]
#[case::one_password_twice(&["--also-password-from", "same"], 2, "The same password is given twice")]
#[case::no_value(&["--name", "{profile}"], 2, "Add --for PROFILE")]
#[case::named_twice(&["--name", "x", "--to", "y"], 2, "named twice")]
#[case::broken_pattern(&["--only", "[a"], 2, "'[a' cannot be read")]
#[case::everything_left_out(&["--leave-out", "letters"], 2, "everything is left out")]
#[case::no_patterns(&["--leave-out-from", "nope"], 2, "nope cannot be read: it is not there")]
#[case::long_message(&["--message-from", "long"], 2, "an archive holds 65,536")]
#[case::long_comment(&["--as", "zip", "--message-from", "long"], 2, "an archive holds 65,535")]
#[case::bad_value_in_the_file(&["--config", "bad.toml"], 2, "bad.toml, line 3 cannot be used: there is no squeeze 'harder'")]
#[case::unknown_key_in_the_file(&["--config", "typo.toml"], 2, "typo.toml, line 1 cannot be used: unknown field `fist`")]
#[case::no_configuration(&["--config", "nope.toml"], 2, "nope.toml cannot be read: it is not there")]
fn a_wrong_value_is_named_with_a_good_one(#[case] options: &[&str], #[case] code: i32, #[case] words: &str) {
    let desk = desk();
    desk.file("nothing", b"").file("same", PASSWORD.as_bytes());
    desk.file("weak", b"wrenfall\n").file("long", &[b'x'; 65_537]);
    desk.file("bad.toml", b"\n[profiles.board]\nsqueeze = \"harder\"\n").file("typo.toml", b"fist = 1\n");
    let before = desk.names(".");
    let arguments = [&["pack", "wrenfall-light/letters"], options].concat();
    let ran = desk.run(&arguments).expect(code);
    assert!(ran.err.contains(words), "{}", ran.err);
    assert_eq!(desk.names(".") == before, code != 0);
}

#[test]
fn fits_and_settings_say_where_each_value_comes_from() {
    let desk = desk();
    let fits = desk.run(&["fits"]).expect(0).out;
    assert!(fits.contains("7,295,718") && fits.contains("board-room"), "{fits}");
    assert!(desk.run(&["fits", "--profiles"]).expect(0).out.contains("{folder}-for-{profile}"));
    let shown = desk.run(&["pack", "--show-settings", "--for", "heritage-board", "--fit", "stick"]).expect(0).out;
    for line in
        ["stick, at most 4,294,967,295", "light                  ", "profile heritage-board", "configuration file"]
    {
        assert!(shown.contains(line), "{line}:\n{shown}");
    }
}

/// What is packed where, what is there before, and the files that are there then: one place decides what a target is.
#[rstest]
#[case::a_folder_of_the_stem(&["s", "--to", "s.zip"], &["s.zip"], "s")]
#[case::a_folder_of_the_stem_elsewhere(&["t", "--to", "out/s.tar", "--no-password"], &["s", "s.tar"], "out")]
#[case::sealed_beside_a_folder(&["s", "--to", "s.useal"], &["s.useal"], "s")]
#[case::short_for_two(&["t", "--to", "out/s.tgz", "--no-password"], &["s", "s.tar.gz"], "out")]
#[case::another_case(&["t", "--to", "out/s.ZIP"], &["s", "s.zip"], "out")]
#[case::into_the_folder_that_is_named(&["t", "--to", "out/s"], &["s"], "out")]
fn a_target_is_what_was_typed(#[case] arguments: &[&str], #[case] expected: &[&str], #[case] folder: &str) {
    let desk = Desk::new();
    desk.file("s/a", b"1").file("t", b"2").file("out/s/b", b"3");
    desk.run(&[&["pack"], arguments].concat()).expect(0);
    match folder {
        "s" => {
            assert_eq!(desk.names("s"), ["a"]);
            assert!(desk.path(expected[0]).is_file());
        }
        folder => assert_eq!(desk.names(folder), expected),
    }
    let inside: &[&str] = if arguments.contains(&"out/s") { &["b", "t.useal"] } else { &["b"] };
    assert_eq!(desk.names("out/s"), inside);
}

#[rstest]
#[case("docs.tar.xz")]
#[case("docs.txz")]
#[case("docs.iso")]
fn a_known_end_that_is_not_written_is_refused(#[case] to: &str) {
    let desk = Desk::new();
    desk.file("a", b"1");
    let refused = desk.run(&["pack", "a", "--to", to]).expect(2).err.replace("\n  ", " ");
    assert!(refused.contains("are not written here") && refused.contains(".tar.gz (.tgz)"), "{refused}");
    desk.run(&["pack", "a", "--to", to, "--as", "zip"]).expect(0);
    assert_eq!(desk.names("."), [".state", "a", &format!("{to}.zip")]);
}

/// Packing over an archive adds nothing to it, and says so before and after.
#[rstest]
#[case::sealed("trip.useal", &[][..])]
#[case::page("trip.html", &[])]
#[case::parts("trip.zip", &["--fit", "70KB"])]
#[case::hidden("trip.zip", &["--hide-names"])]
fn what_goes_with_an_old_archive_is_told(#[case] to: &str, #[case] options: &[&str]) {
    let desk = Desk::new();
    let noise: Vec<u8> = (0..90_000_u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
    desk.file("trip/a", &noise).file("trip/b", b"2").file("new.txt", b"3");
    desk.run(&[&["pack", "trip", "--to", to], options].concat()).expect(0);
    let before = desk.names(".");
    let refused = desk.run(&["pack", "new.txt", "--to", to]).expect(6).err.replace("\n  ", " ");
    assert!(
        refused.contains("To add to it, run `revise` with --add.") && refused.contains("would be gone"),
        "{refused}"
    );
    assert_eq!(desk.names("."), before);
    let replaced = desk.run(&["pack", "new.txt", "--to", to, "--replace", "--json"]).expect(0);
    assert_eq!(replaced.json("/lost_with_replaced"), serde_json::json!(["trip/a", "trip/b"]));
    let told = desk.run(&["pack", "new.txt", "--to", to, "--replace"]).expect(0).out;
    assert!(told.contains("the new archive has everything that was in it"), "{told}");
    desk.file("other", b"another password altogether");
    let unseen = desk.run(&["pack", "trip", "--to", to, "--replace", "--password-from", "other", "--json"]).expect(0);
    // What was packed last is no archive that hides names, unless it is sealed.
    let expected =
        if to == "trip.useal" || to == "trip.html" { serde_json::Value::Null } else { serde_json::json!(["new.txt"]) };
    assert_eq!(unseen.json("/lost_with_replaced"), expected);
}

/// Files of mine that are named like volumes or parts are not replaced, and nothing is lost.
#[rstest]
#[case::a_volume_by_name("z", "z-1of9.useal", 1)]
#[case::a_part_by_name("z.zip", "z.z07", 1)]
#[case::the_very_name("z", "z.useal", 6)]
#[case::the_very_name_of_a_zip("z.zip", "z.zip", 6)]
#[case::the_very_name_of_a_page("z.html", "z.html", 6)]
#[case::the_very_name_of_a_tar("z.tar", "z.tar", 6)]
fn what_is_not_part_of_an_old_archive_is_not_replaced(#[case] to: &str, #[case] mine: &str, #[case] code: i32) {
    let desk = Desk::new();
    desk.file("a", b"1").file(mine, b"my own work, and no archive");
    let open = if to.ends_with(".tar") { &["--no-password"][..] } else { &[] };
    let ran = desk.run(&[&["pack", "a", "--to", to, "--replace"], open].concat()).expect(code);
    assert_eq!(fs::read(desk.path(mine)).unwrap(), b"my own work, and no archive");
    assert!((ran.out + &ran.err).contains(mine));
}

#[test]
fn volumes_of_two_archives_of_one_name_are_not_both_replaced() {
    let desk = Desk::with_volumes();
    desk.run(&["pack", "wrenfall-light", "--to", "other/", "--fit", "1MB"]).expect(0);
    fs::copy(desk.path("other/wrenfall-light-01of02.useal"), desk.path("out/wrenfall-light-01of02.useal")).unwrap();
    let before = desk.names("out");
    desk.run(&["pack", "wrenfall-light", "--to", "out/", "--replace"]).expect(6);
    assert_eq!(desk.names("out"), before);
}

/// A headline tells whether all of it is packed, and what is incomplete is not to be sent.
#[cfg(unix)] // a pipe, a device or a socket is in it
#[rstest]
#[case::sealed("out/")]
#[case::zip("out/p.zip")]
#[case::tar("out/p.tar")]
fn an_incomplete_pack_says_so_first(#[case] to: &str) {
    let desk = Desk::new();
    desk.file("p/a", b"1").file("p/b", b"2");
    std::os::unix::net::UnixListener::bind(desk.path("p/socket")).unwrap();
    let open = if to.ends_with(".tar") { &["--no-password"][..] } else { &[] };
    let told = desk.run(&[&["pack", "p", "--to", to], open].concat()).expect(1).out;
    assert!(told.starts_with("Incomplete: p is packed, but 1 of 4 could not be read"), "{told}");
    assert!(!told.contains("send") && !told.contains("verified: 1"), "{told}");
}

#[test]
fn a_key_file_is_spoken_of_wherever_the_password_is() {
    let desk = Desk::new();
    desk.file("a", b"1").file("key", b"any file").file("second", b"second password, twelve panes");
    let packed = desk.run(&["pack", "a", "--key-file", "key", "--also-password-from", "second"]).expect(0).out;
    assert!(
        packed.contains("the key file in two other ways") && packed.contains("a.useal --key-file KEY-FILE"),
        "{packed}"
    );
    let handing = ["handover", "a.useal", "--to", "give", "--key-file", "key"];
    desk.run(&handing).expect(0);
    let note = fs::read_to_string(desk.path("give/how-to-open.txt")).unwrap();
    assert!(note.contains("the key file key. The password alone opens nothing."), "{note}");
    // Every password takes the key file, as the help of --also-password-from says.
    desk.run(&["open", "a.useal", "--into", "in", "--password-from", "second"]).expect(3);
    desk.run(&["open", "a.useal", "--into", "in", "--password-from", "second", "--key-file", "key"]).expect(0);
}

#[test]
fn one_volume_of_several_is_not_packed_without_a_word() {
    let desk = Desk::with_volumes();
    let volume = "out/wrenfall-light-01of07.useal";
    let told = desk.run(&["pack", volume, "--to", "again"]).expect(1).out.replace("\n  ", " ");
    assert!(
        told.contains("is volume 1 of 7 of a sealed archive") && told.contains("under-seal handover out"),
        "{told}"
    );
    let all: Vec<String> = (1..=7).map(|number| format!("out/wrenfall-light-{number:02}of07.useal")).collect();
    let all = all.iter().map(String::as_str);
    desk.run(&["pack"].into_iter().chain(all).chain(["--to", "all"]).collect::<Vec<_>>()).expect(0);
}

/// What the system says is empty may hold something, and what is read counts in every format.
#[rstest]
#[case::sealed("c", &[])]
#[case::zip("c.zip", &[])]
#[case::tar("c.tar", &["--no-password"])]
fn a_file_that_says_it_is_empty_is_packed_with_what_it_holds(#[case] to: &str, #[case] options: &[&str]) {
    let desk = Desk::new().with_password(options.is_empty());
    desk.run(&[&["pack", "/proc/version", "--to", to], options].concat());
    let archive = if to == "c" { "c.useal" } else { to };
    assert_eq!(desk.run(&["peek", archive, "version"]).expect(0).out, fs::read_to_string("/proc/version").unwrap());
}
