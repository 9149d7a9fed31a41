//! The proof is the recipient's own way: what a rehearsal says is what opening says, and what a handover's note says is done as it stands.

#[cfg(unix)]
use crate::support::in_a_shell;
use crate::support::system::symlink;
use crate::support::{Desk, Ran};
use rstest::rstest;
use serde_json::json;
use std::fs;
use std::path::Path;
#[cfg(unix)]
use std::process::Stdio;
#[cfg(unix)]
use std::time::Duration;

#[path = "../../../core/tests/support/forging.rs"]
mod forging;

fn has_all(ran: &Ran, words: &[&str]) {
    let said = format!("{}{}", ran.out, ran.err).replace("\n  ", " ");
    words.iter().for_each(|word| assert!(said.contains(word), "no {word:?} in\n{said}"));
}

/// What the recipient will not get is said before, in the same words and with the same exit code, and is what opening then says.
#[rstest]
#[case::sealed(&[], "a.useal")]
#[case::page(&["--as", "page"], "a.html")]
#[case::zip(&["--as", "zip"], "a.zip")]
#[case::tar(&["--as", "tar", "--no-password"], "a.tar")]
#[cfg_attr(windows, ignore = "it needs links")]
fn what_is_never_made_is_said_in_every_headline(#[case] options: &[&str], #[case] archive: &str) {
    let mut desk = Desk::new();
    if options.contains(&"--no-password") {
        desk = desk.with_password(false);
    }
    desk.file("box/letter.txt", b"The lamp is lit.");
    symlink("/nowhere/x", desk.path("box/out"));
    symlink("letter.txt", desk.path("box/in"));
    let all_but = "The recipient can open it, all but 1 link";
    has_all(&desk.run(&[&["plan", "box", "--to", "a"], options].concat()).expect(1), &[all_but, "box/out"]);
    has_all(&desk.run(&[&["pack", "box", "--to", "a"], options].concat()).expect(1), &[all_but, "box/out"]);
    has_all(&desk.run(&["handover", archive, "--to", "give"]).expect(1), &[all_but, "box/out"]);
    for place in [archive, "give"] {
        let rehearsed = desk.run(&["rehearse", place, "--against", "box"]).expect(1);
        has_all(&rehearsed, &[all_but, "1 file, 1 folder, 1 link, 16 bytes, all but 1 link", "box/out -> /nowhere/x"]);
    }
    let rehearsed = desk.run(&["rehearse", archive, "--against", "box", "--json"]).expect(1);
    let opened = desk.run(&["open", archive, "--into", "in", "--json"]).expect(1);
    for field in ["exit_code", "files", "folders", "links", "bytes", "links_not_made", "not_extracted"] {
        assert_eq!(rehearsed.json(&format!("/opened/{field}")), opened.json(&format!("/{field}")), "{field}");
    }
    assert_eq!((rehearsed.json("/passed"), opened.json("/links_not_made/0/path")), (json!(true), json!("box/out")));
    has_all(&desk.run(&["open", archive, "--into", "again", "--dry-run"]).expect(1), &["all but 1 link"]);
}

/// A desk with the dossier, and an earlier archive of it, an older state, in `first`.
fn desk_with_dossier() -> Desk {
    let desk = Desk::new();
    desk.run(&["demo", "--data-to", "."]).expect(0);
    desk.file("lamp key.txt", b"forty stairs");
    desk
}

/// How an archive in `out` is made, how it is handed over, and how that is rehearsed beside what is the same for all.
#[rstest]
#[case::volumes(&["--fit", "260KB"], &[], &[], "3 commands")]
#[case::drafts(&["--fit", "260KB"], &["--fit", "mail-1"], &[], "3 commands of the first of")]
#[case::without_a_page(&["--fit", "260KB"], &["--no-page"], &[], "3 commands")]
#[case::spares(&["--fit", "260KB", "--spares", "2"], &["--fit", "mail-10"], &[], "of the first of 5 messages")]
#[case::page(&["--as", "page"], &[], &[], "3 commands")]
#[case::zip(&["--as", "zip"], &[], &[], "1 command")]
#[case::tar(&["--as", "tar.gz", "--no-password"], &[], &[], "1 command")]
#[case::key_file(&["--key-file", "lamp key.txt"], &["--key-file", "lamp key.txt"], &["--key-file", "lamp key.txt"], "3 commands")]
#[case::no_password(&["--no-password"], &[], &[], "3 commands")]
#[case::parcels(&["--parcels", "--fit", "500KB"], &["--all"], &["--all"], "3 commands")]
fn what_a_note_says_is_done_as_it_stands(
    #[case] packing: &[&str],
    #[case] handing: &[&str],
    #[case] rehearsing: &[&str],
    #[case] words: &str,
) {
    let mut desk = desk_with_dossier();
    if packing.contains(&"--no-password") {
        desk = desk.with_password(false);
    }
    desk.run(&[&["pack", "wrenfall-light", "--to", "out/"], packing].concat()).expect(0);
    desk.run(&[&["handover", "out", "--to", "give"], handing].concat()).expect(0);
    let line = [&["rehearse", "give", "--against", "wrenfall-light"], rehearsing].concat();
    has_all(&desk.run(&line).expect(0), &["The recipient can open", words]);
    // Nothing of what was played stays in the folder.
    assert!(!desk.path("give/opened").exists());
}

/// Three generations of changes, each handed over to somebody who has the ones before; in a browser too where one is here.
#[test]
fn a_note_for_changes_leads_into_the_right_folder() {
    let desk = Desk::new();
    desk.file("box/a", b"one").file("box/gone", b"one").file("box/sub/c", b"one");
    desk.run(&["pack", "box", "--to", "first/"]).expect(0);
    desk.file("box/a", b"two").file("box/new", b"two");
    fs::remove_file(desk.path("box/gone")).unwrap();
    let packed = desk.run(&["pack", "box", "--since", "first", "--to", "second/"]).expect(0);
    has_all(
        &packed,
        &["into the folder in which box was opened", "--into opened --update --remove-gone", "rehearse --after"],
    );
    has_all(&desk.run(&["check", "second"]).expect(0), &["--into opened --update --remove-gone"]);
    has_all(&desk.run(&["handover", "second", "--to", "give"]).expect(0), &["only what has changed since box"]);
    let note = fs::read_to_string(desk.path("give/how-to-open.txt")).unwrap();
    assert!(
        note.contains("into the folder in which the files of box are") && note.contains("--all --into opened --update"),
        "{note}"
    );
    let line = ["rehearse", "give", "--against", "box", "--after", "first"];
    has_all(&desk.run(&line).expect(0), &["as they stand, gave everything"]);
    // Without the password nobody sees that it holds changes, and the rehearsal tells that the note does not lead there.
    let blind = desk.run_bare(&["handover", "second", "--to", "blind"]).expect(0);
    has_all(&blind, &["not seen without the password", "--ask-password"]);
    let astray = ["rehearse", "blind", "--against", "box", "--after", "first"];
    has_all(
        &desk.run(&astray).expect(1),
        &["The note leads the recipient astray", "\"under-seal open . --into opened\" ends with"],
    );
    // All of them at once, whatever they are called, and what is there already is not opened again.
    desk.file("box/sub/d", b"three");
    desk.run(&["pack", "box", "--since", "second", "--to", "a-third/"]).expect(0);
    let all = ["open", "a-third", "second", "first", "--all", "--update", "--remove-gone", "--into", "in"];
    has_all(&desk.run(&all).expect(0), &["3 archives are open."]);
    has_all(&desk.run(&["compare", "a-third", "in/box"]), &["0 added, 0 removed, 0 changed"]);
    let again = desk.run(&all).expect(0);
    has_all(&again, &["box: its files were there already."]);
    has_all(&desk.run(&[&all[..], &["--json"]].concat()).expect(0), &["already_there"]);
}

/// What is wrong with a handover folder is noticed by following its note.
#[rstest]
#[case::another_command(|give: &Path| replace(give, "how-to-open.txt", "open . --into opened", "open . --into elsewhere"), "not what was packed")]
#[case::an_option_that_is_not_there(|give: &Path| replace(give, "how-to-open.txt", "check .", "check . --quickly"), "ends with 2")]
#[case::another_page(|give: &Path| replace(give, "open-me.html", "<html", "<HTML"), "open-me.html: its SHA-256")]
fn a_note_that_leads_astray_is_noticed(#[case] spoil: fn(&Path), #[case] words: &str) {
    let desk = desk_with_dossier();
    desk.run(&["pack", "wrenfall-light", "--to", "out/"]).expect(0);
    desk.run(&["handover", "out", "--to", "give"]).expect(0);
    spoil(&desk.path("give"));
    let ran = desk.run(&["rehearse", "give", "--against", "wrenfall-light"]).expect(1);
    has_all(&ran, &["The rehearsal failed.", words, "do not hand this over as it is"]);
}

fn replace(folder: &Path, name: &str, old: &str, new: &str) {
    let text = fs::read_to_string(folder.join(name)).unwrap();
    assert!(text.contains(old));
    // The list of checksums says what is there, so that only the text itself is wrong.
    fs::write(folder.join(name), text.replacen(old, new, 1)).unwrap();
}

/// A key file that is not needed is no part of what the recipient is told; one that is stands in the password's note too.
#[test]
fn a_key_file_is_told_of_where_there_is_one() {
    let desk = desk_with_dossier();
    for (archive, options) in [("plain", &[][..]), ("keyed", &["--key-file", "lamp key.txt"])] {
        desk.run(&[&["pack", "wrenfall-light/costs", "--to", archive], options].concat()).expect(0);
        let to = format!("give-{archive}");
        let line = [
            "handover",
            &format!("{archive}.useal"),
            "--to",
            &to,
            "--key-file",
            "lamp key.txt",
            "--password-note",
            &format!("{archive}.txt"),
        ];
        let ran = desk.run(&line).expect(0);
        let is_keyed = archive == "keyed";
        let note = fs::read_to_string(desk.path(&format!("{to}/how-to-open.txt"))).unwrap();
        let password = fs::read_to_string(desk.path(&format!("{archive}.txt"))).unwrap();
        assert_eq!([&note, &password].map(|text| text.contains("lamp key.txt")), [is_keyed; 2], "{note}{password}");
        assert_eq!(ran.out.contains("lamp key.txt is not needed"), !is_keyed, "{}", ran.out);
    }
}

/// What is lost by mail is a message, on media a medium; spare volumes travel apart from what they make good.
#[test]
fn any_message_may_be_lost_where_there_are_spare_volumes() {
    let desk = desk_with_dossier();
    desk.run(&["pack", "wrenfall-light", "--to", "out/", "--fit", "100KB", "--spares", "20%"]).expect(0);
    let handed = desk.run(&["handover", "out", "--to", "give", "--fit", "mail-10"]).expect(0);
    has_all(&handed, &["any message may be lost", "spare volumes"]);
    let json = desk.run(&["handover", "out", "--to", "again", "--fit", "mail-10", "--json"]).expect(0);
    assert_eq!(json.json("/messages_to_spare"), json!(1));
    let messages = json.json("/drafts").as_array().unwrap().len();
    let lose = |way: &[&str], count: &str| {
        desk.run(&[&["rehearse", "out", "--against", "wrenfall-light", "--lose", count], way].concat())
    };
    for seed in 0..messages {
        let way = ["--through", "mail", "--seed", &seed.to_string()];
        has_all(&lose(&way, "1").expect(0), &["lost 1 of", "made good by spare volumes"]);
    }
    lose(&["--through", "media", "--limit", "400KB"], "1").expect(0);
    lose(&["--through", "upload", "--seed", "3"], "4").expect(0);
    has_all(&lose(&["--through", "mail"], "99").expect(2), &["99 were to be lost on the way, and there are only"]);
}

/// A forged volume among genuine ones: without the password nothing takes a side, with it the true volume is written again.
#[test]
fn mending_takes_no_side_without_the_password() {
    let desk = desk_with_dossier();
    desk.run(&["pack", "wrenfall-light", "--to", "out/", "--fit", "260KB", "--spares", "3"]).expect(0);
    let volume = desk.path("out/wrenfall-light-04of07.useal");
    let (before, mut bytes) = (fs::read(&volume).unwrap(), fs::read(&volume).unwrap());
    bytes[70_000] ^= 1;
    forging::mend_checks(&mut bytes);
    fs::write(&volume, &bytes).unwrap();
    has_all(
        &desk.run_bare(&["check", "out"]).expect(1),
        &["Spare volumes 1 to 3 and the volumes contradict each other", "--ask-password"],
    );
    for options in [&["--to", "mended"][..], &["--to", "mended", "--add-spares", "1"]] {
        let refused = desk.run_bare(&[&["mend", "out"], options].concat()).expect(5);
        has_all(&refused, &["contradict each other", "--ask-password"]);
        assert!(desk.names("mended").is_empty());
    }
    let checked = desk.run(&["check", "out"]).expect(1);
    has_all(
        &checked,
        &[
            "Volume 4 was changed on purpose: the spare volumes make it good.",
            "changed on purpose: bytes",
            "under-seal mend out --to mended --ask-password",
        ],
    );
    assert_eq!(desk.run(&["check", "out", "--json"]).expect(1).json("/changed_on_purpose"), json!([4]));
    desk.run(&["open", "out", "--into", "in"]).expect(0);
    has_all(&desk.run(&["mend", "out", "--to", "mended"]).expect(0), &["1 volume", "the password proves it"]);
    assert!(fs::read(desk.path("mended/wrenfall-light-04of07.useal")).unwrap() == before);
}

/// What a rehearsal that was killed has left in clear text is gone with the next one.
#[cfg(unix)] // it is killed
#[test]
fn what_a_killed_rehearsal_has_left_is_cleared_by_the_next() {
    let desk = Desk::new();
    desk.file("tower.tif", &vec![7; 40_000_000]).file("note.txt", b"The lamp is lit.");
    fs::create_dir(desk.path("tmp")).unwrap();
    desk.run(&["pack", "tower.tif", "--squeeze", "none", "--to", "large"]).expect(0);
    desk.run(&["pack", "note.txt", "--to", "small"]).expect(0);
    let with_place = |line: &[&str]| {
        let mut command = desk.command(line);
        command.env("TMPDIR", desk.path("tmp")).stdout(Stdio::null());
        command
    };
    let mut killed = with_place(&["rehearse", "large.useal", "--against", "tower.tif"]).spawn().unwrap();
    while !desk.names("tmp").iter().any(|name| desk.path(&format!("tmp/{name}/private/inbox")).exists()) {
        std::thread::sleep(Duration::from_millis(5));
    }
    killed.kill().unwrap();
    killed.wait().unwrap();
    assert_eq!(desk.names("tmp").len(), 1);
    // Somebody else's folder of such a name stays.
    fs::create_dir(desk.path("tmp/under-seal-other")).unwrap();
    assert!(with_place(&["rehearse", "small.useal", "--against", "note.txt"]).status().unwrap().success());
    assert_eq!(desk.names("tmp"), ["under-seal-other"]);
}

/// The browser gets no password, and ends when whoever started it is gone.
#[cfg(unix)] // a script plays the browser
#[test]
fn a_browser_gets_no_password_and_ends_with_its_run() {
    let desk = Desk::new();
    let script = format!(
        "#!/bin/sh\nenv > '{0}/env'\necho $$ > '{0}/process.new'\nmv '{0}/process.new' '{0}/process'\nexec sleep 100\n",
        desk.path(".").display()
    );
    desk.file("note.txt", b"The lamp is lit.").file("chromium", script.as_bytes());
    crate::support::system::set_mode(desk.path("chromium"), 0o755);
    desk.run(&["pack", "note.txt", "--to", "a"]).expect(0);
    let line = ["rehearse", "a.useal", "--against", "note.txt", "--in-browser", "--browser", "./chromium"];
    let mut run = desk.command(&line).stdout(Stdio::null()).spawn().unwrap();
    while !desk.path("process").exists() {
        std::thread::sleep(Duration::from_millis(5));
    }
    let environment = fs::read_to_string(desk.path("env")).unwrap();
    assert!(!environment.contains("UNDER_SEAL_PASSWORD") && environment.contains("UNDER_SEAL_DEBUG"), "{environment}");
    run.kill().unwrap();
    run.wait().unwrap();
    let process = fs::read_to_string(desk.path("process")).unwrap();
    let state = || fs::read_to_string(format!("/proc/{}/stat", process.trim())).unwrap_or_default();
    for _ in 0..400 {
        // What nobody waits for stays in the list of processes for a while.
        if !Path::new("/proc/self").exists() || state().is_empty() || state().contains(") Z ") {
            return;
        }
        std::thread::sleep(Duration::from_millis(25));
    }
    panic!("it is still there: {}", state());
}

/// Standard output that is closed, or that nobody reads from, is no success, and does not keep anybody waiting.
#[cfg(unix)] // a shell of Unix
#[rstest]
#[case::packing("PROGRAM pack box --to - >&-", "7")]
#[case::opening("PROGRAM open a.useal '*/large' --to-stdout >&-", "7")]
#[case::into_nothing_as_wished("PROGRAM pack box --to - > /dev/null", "0")]
#[case::packing_unread(
    "{ PROGRAM pack box --to - --squeeze none & p=$!; sleep 2; kill -TERM $p; wait $p; echo $? > code; } | sleep 20 & wait_for code",
    "130"
)]
#[case::opening_unread(
    "{ PROGRAM open a.useal '*/large' --to-stdout & p=$!; sleep 2; kill -TERM $p; wait $p; echo $? > code; } | sleep 20 & wait_for code",
    "130"
)]
fn an_output_that_takes_nothing_is_told(#[case] line: &str, #[case] code: &str) {
    let desk = Desk::new();
    desk.file("box/large", &vec![7; 3_000_000]);
    desk.run(&["pack", "box", "--to", "a"]).expect(0);
    let waiting = "wait_for() { n=0; while [ ! -s $1 ] && [ $n -lt 150 ]; do sleep 0.1; n=$((n+1)); done; }; ";
    let line = if line.contains("wait_for") { format!("{waiting}{line}") } else { format!("{line}; echo $? > code") };
    in_a_shell(&desk, &line);
    assert_eq!(fs::read_to_string(desk.path("code")).unwrap().trim(), code);
}

#[rstest]
#[case::a_nul(b"note.txt\nnote\0.txt\n", "Line 2 of the list list has a NUL in it")]
#[case::a_long_line(&[b'x'; 70_000], "Line 1 of the list list is longer than any path")]
fn a_list_that_holds_no_paths_is_told(#[case] list: &[u8], #[case] words: &str) {
    let desk = Desk::new();
    desk.file("note.txt", b"The lamp is lit.").file("list", list);
    let refused = desk.run(&["pack", "--paths-from", "list", "--to", "out"]).expect(2);
    has_all(&refused, &[words]);
    assert!(refused.err.len() < 500);
}

/// Headers that anybody can put beside an archive cost only so many attempts, and are told.
#[test]
fn forged_headers_cost_only_so_many_attempts() {
    let desk = Desk::new();
    desk.file("note.txt", b"The lamp is lit.");
    desk.run(&["pack", "note.txt", "--to", "out/"]).expect(0);
    let honest = fs::read(desk.path("out/note.txt.useal")).unwrap();
    for number in 0_u32..90 {
        let mut forged = honest.clone();
        forged[16..20].copy_from_slice(&number.to_be_bytes());
        forging::mend_checks(&mut forged);
        desk.file(&format!("out/forged-{number:02}.useal"), &forged);
        // The same id, and another salt.
        let mut rival = honest.clone();
        rival[200..204].copy_from_slice(&number.to_be_bytes());
        forging::mend_checks(&mut rival);
        desk.file(&format!("rivals/{number:02}.useal"), &rival);
    }
    let checked = desk.run(&["check", "out"]);
    has_all(&checked, &["It was not tried to unlock this", "Name the archive that you mean"]);
    has_all(&desk.run(&["check", "rivals"]).expect(3), &["contradict the others", "Move them aside"]);
}
