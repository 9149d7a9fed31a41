//! Spare volumes from the first command to the last: made, lost, told, made good, mended, added and kept.

use crate::support::{Desk, Ran};
use rstest::rstest;
use serde_json::{Value, json};
use std::fs;

/// A desk with the dossier, and an archive of seven volumes and so many spare ones, under a name with a space and accents.
fn spared(spares: &str) -> Desk {
    let desk = Desk::new();
    desk.run(&["demo", "--data-to", "."]).expect(0);
    let line = ["pack", "wrenfall-light", "--to", "out/", "--name", "Küste 2", "--fit", "260KB", "--spares", spares];
    desk.run(&line).expect(0);
    desk
}

fn volume(number: u32) -> String {
    format!("out/Küste 2-{number:02}of07.useal")
}

fn lose(desk: &Desk, names: &[String]) {
    names.iter().for_each(|name| fs::remove_file(desk.path(name)).unwrap());
}

fn has_all(ran: &Ran, words: &[&str]) {
    let said = format!("{}{}", ran.out, ran.err);
    words.iter().for_each(|word| assert!(said.contains(word), "no {word:?} in\n{said}"));
}

#[test]
fn what_spare_volumes_make_good_is_told_and_opened_and_mended() {
    let desk = spared("2");
    let before = fs::read(desk.path(&volume(3))).unwrap();
    lose(&desk, &[volume(3)]);
    desk.flip(&desk.path(&volume(5)), 100_000);
    let check = desk.run_bare(&["check", "out"]).expect(1);
    has_all(
        &check,
        &[
            "Volume 3 is missing, and volume 5 is damaged: the spare volumes make both good.",
            "Nothing need be sent again",
        ],
    );
    has_all(&check, &["missing; made good", "spare 2  Küste 2-spare2of2.useal", "under-seal open out"]);
    let told = desk.run_bare(&["check", "out", "--json"]).expect(1);
    assert_eq!(
        [told.json("/made_good"), told.json("/complete"), told.json("/slip")],
        [json!([3, 5]), json!(true), Value::Null]
    );
    let inside = desk.run(&["check", "out", "--password-from", "none"]).expect(2);
    has_all(&inside, &["none"]);
    has_all(
        &desk.run(&["open", "out", "--into", "inbox"]).expect(0),
        &["volume 3 is missing, and made good by spare volumes"],
    );
    desk.run(&["compare", "out", "wrenfall-light"]).expect(0);
    desk.run(&["receipt", "out"]).expect(0);
    desk.run(&["list", "out", "-q"]).expect(0);
    has_all(&desk.run(&["about", "out"]).expect(0), &["not here: 3", "any 2 volumes may be lost or damaged"]);
    has_all(
        &desk.run_bare(&["handover", "out", "--to", "give"]).expect(4),
        &["volume 3 is missing", "under-seal help mend"],
    );

    // What is damaged has its name, and is not replaced.
    has_all(&desk.run_bare(&["mend", "out"]).expect(2), &["exists already", "Name another folder with --to"]);
    assert!(desk.names("out").len() == 8);
    let mended = desk.run_bare(&["mend", "out", "--to", "aside"]).expect(0);
    has_all(&mended, &["put them beside the others, in place of the one that is damaged."]);
    let mended = desk.run_bare(&["mend", "out", "--to", "again", "--json"]).expect(0);
    assert_eq!([mended.json("/made_files/0/volume"), mended.json("/made_files/1/volume")], [json!(3), json!(5)]);
    assert_eq!(fs::read(desk.path("again/Küste 2-03of07.useal")).unwrap(), before);
    fs::copy(desk.path("again/Küste 2-05of07.useal"), desk.path(&volume(5))).unwrap();
    has_all(&desk.run_bare(&["mend", "out"]).expect(0), &["Recreated and verified: 1 volume", "under-seal check"]);
    has_all(&desk.run_bare(&["mend", "out"]).expect(0), &["Nothing is missing or damaged"]);
    desk.run_bare(&["check", "out"]).expect(0);
}

#[test]
fn what_is_too_much_is_asked_for_and_no_more() {
    let desk = spared("1");
    lose(&desk, &[volume(2), volume(6)]);
    let refused = desk.run(&["open", "out", "--into", "inbox"]).expect(4);
    has_all(
        &refused,
        &["Volumes 2 and 6 of 7 are missing", "With any one of volumes 2 and 6 everything can be recreated"],
    );
    assert!(desk.names("inbox").is_empty());
    let check = desk.run_bare(&["check", "out"]).expect(4);
    has_all(&check, &["The spare volume does not make all of that good", "any one of volumes 2 and 6"]);
    has_all(&desk.run_bare(&["mend", "out"]).expect(4), &["too few", "under-seal check"]);
    // The slip asks for one of the two.
    let slip = desk.run_bare(&["check", "out", "--json"]).expect(4).json("/slip");
    let other = desk.run_bare(&["resend", "out", slip.as_str().unwrap(), "--to", "again"]);
    // Whoever lacks it too cannot make it.
    other.expect(4);
}

#[test]
fn what_spare_volumes_do_not_make_good_is_not_asked_for_as_a_whole() {
    let desk = spared("2");
    lose(&desk, &[volume(3), volume(6)]);
    desk.flip(&desk.path(&volume(5)), 100_000);
    let refused = desk.run(&["open", "out", "--into", "inbox"]).expect(4);
    has_all(&refused, &["Volume 3 is missing, and the spare volumes do not make all of it good", "--salvage"]);
    let salvaged = desk.run(&["open", "out", "--into", "inbox", "--salvage"]).expect(4);
    has_all(&salvaged, &["7 volumes, without 3 and 6; 2 spare volumes", "needs volume 5", "  under-seal check out"]);
    assert!(!salvaged.out.contains("ask the sender for volumes"), "{}", salvaged.out);
    // What is not touched by that needs no spare volume, and nothing is said of one where there is none.
    lose(&desk, &[1, 2].map(|spare| format!("out/Küste 2-spare{spare}of2.useal")));
    let part = desk.run(&["open", "out", "wrenfall-light/costs/*", "--into", "costs"]).expect(0);
    has_all(&part, &["7 volumes, without 3 and 6\n"]);
}

#[rstest]
#[case::no_number(&["--spares", "two"], "'two' is not a number of spare volumes")]
#[case::too_many(&["--spares", "57"], "at most 56")]
#[case::in_zip(&["--spares", "1", "--as", "zip"], "spare volumes")]
#[case::in_a_page(&["--spares", "1", "--as", "page"], "spare volumes")]
#[case::in_parcels(&["--spares", "1", "--parcels", "--fit", "500KB"], "add --spares 0")]
fn what_cannot_have_spare_volumes_is_refused(#[case] options: &[&str], #[case] words: &str) {
    let desk = Desk::new();
    desk.file("letter.txt", b"The lamp is lit.");
    has_all(&desk.run(&[&["pack", "letter.txt", "--to", "out/"], options].concat()).expect(2), &[words]);
    assert!(desk.names("out").is_empty());
}

#[test]
fn a_profile_and_a_plan_know_them() {
    let desk = Desk::new();
    desk.run(&["demo", "--data-to", "."]).expect(0);
    desk.file("config.toml", b"[profiles.board]\nfit = \"260KB\"\nspares = \"20%\"\n");
    let with = |line: &[&str]| desk.run(&[line, &["--config", "config.toml", "--for", "board"]].concat());
    has_all(
        &with(&["plan", "wrenfall-light"]).expect(0),
        &["With them go 2 spare volumes", "Spare volumes: what --spares would cost"],
    );
    let plan = with(&["plan", "wrenfall-light", "--json"]).expect(0);
    assert_eq!([plan.json("/spares/wished"), plan.json("/spares/choices/0/volume_count")], [json!(2), json!(8)]);
    let packed = with(&["pack", "wrenfall-light", "--to", "out/", "--json"]).expect(0);
    assert_eq!(packed.json("/spare_volumes").as_array().unwrap().len(), 2);
    assert_eq!(packed.json("/spare_volumes/0/bytes"), plan.json("/spares/each_bytes"));
    has_all(&desk.run(&["fits", "--profiles", "--config", "config.toml"]).expect(0), &["20%"]);
    with(&["pack", "wrenfall-light", "--parcels", "--fit", "500KB", "--to", "parcels/"]).expect(2);
    with(&["pack", "wrenfall-light", "--parcels", "--fit", "500KB", "--to", "parcels/", "--spares", "0"]).expect(0);
    // Another pack under this name replaces them too.
    with(&["pack", "wrenfall-light", "--to", "out/", "--replace", "--spares", "0"]).expect(0);
    assert_eq!(desk.names("out").len(), 7);
}

#[test]
fn missing_spare_volumes_are_told_and_made_by_the_line_that_is_suggested() {
    let desk = spared("2");
    lose(&desk, &[volume(4), "out/Küste 2-spare1of2.useal".to_owned()]);
    let mended = desk.run_bare(&["mend", "out"]).expect(0);
    has_all(
        &mended,
        &["1 volume", "Spare volume 1 is not here, and not needed now", "under-seal mend out --missing-spares 1"],
    );
    has_all(&desk.run_bare(&["mend", "out"]).expect(0), &["Nothing that is needed is missing"]);
    has_all(
        &desk.run_bare(&["mend", "out", "--missing-spares", "1"]).expect(0),
        &["spare 1", "Recreated and verified"],
    );
    has_all(&desk.run_bare(&["mend", "out"]).expect(0), &["Nothing is missing or damaged"]);
}

#[test]
fn they_are_added_later_and_kept_when_the_archive_is_made_anew() {
    let desk = spared("0");
    has_all(
        &desk.run_bare(&["mend", "out", "--add-spares", "1"]).expect(0),
        &["any 1 volume may be lost or damaged on the way"],
    );
    has_all(&desk.run_bare(&["mend", "out", "--add-spares", "56"]).expect(2), &["at most 56"]);
    let spares = |folder: &str| desk.names(folder).iter().filter(|name| name.contains("-spare")).count();
    lose(&desk, &[volume(4)]);
    desk.run(&["relock", "out", "--new-password-from", "pw", "--to", "locked/"]).expect(2);
    desk.file("pw", b"forty stairs of worn granite, counted twice");
    has_all(&desk.run(&["relock", "out", "--new-password-from", "pw", "--to", "locked/"]).expect(0), &["spare 1"]);
    desk.run_bare(&["recast", "out", "--fit", "500KB", "--to", "cut/"]).expect(0);
    desk.run(&["revise", "out", "--remove", "*.csv"]).expect(0);
    desk.run(&["recast", "out", "--squeeze", "light"]).expect(0);
    for folder in ["locked", "cut", "out"] {
        assert_eq!(spares(folder), 1, "{folder}");
    }
    for folder in ["cut", "out"] {
        let names = desk.names(folder);
        fs::remove_file(desk.path(folder).join(&names[0])).unwrap();
        desk.run(&["list", folder]).expect(0);
        assert_eq!(desk.run_bare(&["check", folder, "--json"]).expect(1).json("/made_good"), json!([1]), "{folder}");
    }
}

#[test]
fn a_rehearsal_loses_as_many_as_there_are_and_the_note_says_it() {
    let desk = spared("2");
    let lose =
        |count: &str| desk.run(&["rehearse", "out", "--against", "wrenfall-light", "--lose", count, "--seed", "1"]);
    has_all(&lose("2").expect(0), &["The recipient can open it", "made good by spare volumes"]);
    has_all(&lose("3").expect(1), &["not make all of that good", "were named exactly"]);
    desk.run(&["rehearse", "out", "--against", "wrenfall-light", "--through", "mail", "--limit", "500KB"]).expect(0);
    desk.run_bare(&["handover", "out", "--to", "give", "--fit", "mail-1"]).expect(0);
    let note = fs::read_to_string(desk.path("give/how-to-open.txt")).unwrap();
    assert!(note.starts_with("Küste 2, in 7 volumes and 2 spare volumes\n"), "{note}");
    assert!(note.contains("If up to 2 files are missing or damaged"), "{note}");
    assert!(desk.names("give").contains(&"Küste 2-spare2of2.useal".to_owned()));
}
