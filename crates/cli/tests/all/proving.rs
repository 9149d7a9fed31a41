//! Proof before sending and after.

use crate::support::Desk;
use crate::support::system::{symlink, with_link};
use rstest::rstest;
use std::fs;

/// What happens to the sources after packing, and what is said of it.
#[rstest]
#[case::nothing(|_: &Desk| {}, 0, "Nothing has changed since wrenfall-light was packed", "/same", with_link(29))]
#[case::added(|desk: &Desk| { desk.file("wrenfall-light/costs/new.csv", b"1"); }, 1, "Added since:\n  wrenfall-light/costs/new.csv", "/differing/0/differs_in/0", "time")]
#[case::counted_as_listed(|desk: &Desk| { desk.file("wrenfall-light/costs/new.csv", b"1"); }, 1, &format!("{} the same, 1 added, 0 removed, 0 changed, 1 only in time or mode\n", with_link(28)), "/differing/0/path", "wrenfall-light/costs")]
#[case::removed(|desk: &Desk| fs::remove_file(desk.path("wrenfall-light/costs/cost-table.csv")).unwrap(), 1, "Removed since:\n  wrenfall-light/costs/cost-table.csv", "/removed/0", "wrenfall-light/costs/cost-table.csv")]
#[case::content_behind_the_same_length_and_time(|desk: &Desk| {
    let path = desk.path("wrenfall-light/costs/cost-table.csv");
    let modified = fs::metadata(&path).unwrap().modified().unwrap();
    desk.flip(&path, 100);
    fs::File::options().write(true).open(&path).unwrap().set_modified(modified).unwrap();
}, 1, "Changed since:\n  wrenfall-light/costs/cost-table.csv: content\n", "/differing/0/differs_in/0", "content")]
#[case::kind(|desk: &Desk| {
    fs::remove_file(desk.path("wrenfall-light/costs/cost-table.csv")).unwrap();
    fs::create_dir(desk.path("wrenfall-light/costs/cost-table.csv")).unwrap();
}, 1, "cost-table.csv: kind", "/differing/1/differs_in/0", "kind")]
#[cfg_attr(windows, ignore = "there are no links")]
#[case::moved_and_renamed(|desk: &Desk| {
    fs::rename(desk.path("wrenfall-light"), desk.path("old")).unwrap();
    symlink("old", desk.path("wrenfall-light"));
}, 0, "Nothing has changed", "/same", 29)]
fn what_has_changed_since_is_found(
    #[case] accident: fn(&Desk),
    #[case] code: i32,
    #[case] words: &str,
    #[case] pointer: &str,
    #[case] value: impl Into<serde_json::Value>,
) {
    let desk = Desk::with_volumes();
    accident(&desk);
    let place = if desk.path("old").exists() { "old" } else { "wrenfall-light" };
    let ran = desk.run(&["compare", "out", place]).expect(code).out;
    assert!(ran.contains(words), "{ran}");
    assert_eq!(desk.run(&["compare", "out", place, "--json"]).expect(code).json(pointer), value.into());
}

/// Whether they may be deleted is the first thing that is said, and files are told under the names that they have on disk.
#[rstest]
#[case::all(|_: &Desk| {}, 0, "The originals may be deleted, as long as")]
#[case::one_changed(|desk: &Desk| { desk.file("moved/about-this-dossier.txt", b"x"); }, 1, "Do not delete all of the originals: 1 of 20 is not proven")]
#[case::one_more(|desk: &Desk| { desk.file("moved/new", b"x"); }, 1, "Do not delete all of the originals: 1 of 21 is not proven")]
fn whether_originals_may_be_deleted_is_answered(#[case] change: fn(&Desk), #[case] code: i32, #[case] words: &str) {
    let desk = Desk::with_volumes();
    fs::rename(desk.path("wrenfall-light"), desk.path("moved")).unwrap();
    change(&desk);
    let ran = desk.run(&["compare", "out", "moved", "--originals"]).expect(code);
    assert!(ran.out.starts_with(words), "{}", ran.out);
    assert!(
        ran.out.contains("  moved/survey/levels.csv") && !ran.out.contains("  wrenfall-light/survey"),
        "{}",
        ran.out
    );
}

#[test]
fn originals_that_are_proven_to_be_inside_are_named() {
    let desk = Desk::with_volumes();
    let (table, path) = ("wrenfall-light/costs/cost-table.csv", desk.path("wrenfall-light/costs/cost-table.csv"));
    // Another time does not matter; other content does.
    fs::File::options().write(true).open(&path).unwrap().set_modified(std::time::SystemTime::UNIX_EPOCH).unwrap();
    desk.flip(&desk.path("wrenfall-light/survey/levels.csv"), 10);
    let ran = desk.run(&["compare", "out", "wrenfall-light", "--originals", "--json"]).expect(1);
    assert_eq!(ran.json("/originals/not_proven"), serde_json::json!(["wrenfall-light/survey/levels.csv"]));
    let proven = ran.json("/originals/proven");
    assert!(proven.as_array().unwrap().contains(&table.into()) && proven.as_array().unwrap().len() == 19, "{proven}");
    // What is left out was left out in packing; a damaged archive proves nothing.
    desk.run(&["compare", "out", "wrenfall-light/survey", "--only", "raw"]).expect(1);
    desk.flip(&desk.volume(3), 70_000);
    desk.run(&["compare", "out", "wrenfall-light", "--originals"]).expect(5);
}

#[test]
fn a_receipt_is_made_by_one_and_confirmed_by_the_other() {
    let desk = Desk::with_volumes();
    let receipt = desk.run(&["receipt", "out", "--json"]).expect(0).json("/receipt").as_str().unwrap().to_owned();
    // Typed in groups, in small letters, and by two people.
    let groups: Vec<String> = receipt.split('-').map(str::to_lowercase).collect();
    let typed: Vec<&str> = groups.iter().map(String::as_str).collect();
    desk.run(&[&["confirm", "out", "--by", "the board"], &typed[..]].concat()).expect(0);
    let ran = desk.run(&["confirm", "out", &receipt, "--by", "the archive"]).expect(0).out;
    assert!(ran.contains("Yes.") && ran.contains("the board") && ran.contains("the archive"), "{ran}");
    let ledger = fs::read_to_string(desk.path("out/wrenfall-light.confirmed.jsonl")).unwrap();
    assert_eq!(ledger.lines().count(), 2);
    assert!(ledger.lines().all(|line| serde_json::from_str::<serde_json::Value>(line).unwrap()["receipt"] == receipt));
    let again = desk.run(&["confirm", "out", &receipt, "--by", "the board"]).expect(0).out;
    assert!(again.contains("noted already"), "{again}");
    assert_eq!(fs::read_to_string(desk.path("out/wrenfall-light.confirmed.jsonl")).unwrap(), ledger);
    let line = ledger.lines().next().unwrap().replace("the board", "a forger");
    fs::write(desk.path("out/wrenfall-light.confirmed.jsonl"), format!("{ledger}{line}\n")).unwrap();
    let told = desk.run(&["confirm", "out", &receipt]).expect(0).out;
    assert!(told.contains("the archive\n") && told.contains("a forger (not noted by you, or changed since)"), "{told}");
    let json = desk.run(&["confirm", "out", &receipt, "--json"]).expect(0);
    assert_eq!((json.json("/confirmations/0/own"), json.json("/confirmations/2/own")), (true.into(), false.into()));
    assert_eq!((json.json("/confirmed"), json.json("/confirmations/1/who")), (true.into(), "the archive".into()));
}

/// What is told instead of the receipt of volumes that hold `1`, and what is answered.
#[rstest]
#[case::mistyped(|right: &str, _: &str| {
    let another = if &right[7..8] == "Z" { "Y" } else { "Z" };
    format!("{}{another}{}", &right[..7], &right[8..])
}, 2, "Group 2 of the code is mistyped")]
#[case::cut_off(|right: &str, _: &str| right[..17].to_owned(), 2, "too short or too long")]
#[case::of_another_archive(|_: &str, other: &str| other.to_owned(), 2, "the receipt of another archive")]
#[case::made_up(|right: &str, _: &str| {
    let mut bytes = under_seal_core::ground::codes::decode(right).unwrap();
    bytes[9] ^= 1;
    under_seal_core::ground::codes::encode(&bytes)
}, 1, "No. This is not the receipt")]
fn what_is_no_receipt_is_told(#[case] told: fn(&str, &str) -> String, #[case] code: i32, #[case] words: &str) {
    let desk = Desk::new();
    desk.file("a", b"1").file("b", b"2");
    let [right, other] = ["a", "b"].map(|name| {
        desk.run(&["pack", name]).expect(0);
        let ran = desk.run(&["receipt", &format!("{name}.useal"), "--json"]).expect(0);
        ran.json("/receipt").as_str().unwrap().to_owned()
    });
    let ran = desk.run(&["confirm", "a.useal", &told(&right, &other)]).expect(code);
    assert!((ran.out + &ran.err).contains(words));
    assert!(!desk.path("a.confirmed.jsonl").exists());
}

/// What is lost on the way, and how many files, and volumes among them, are made again.
#[rstest]
#[case::a_volume(&[3], &[], 1, 0)]
#[case::a_damaged_place(&[], &[(3, 70_000)], 1, 0)]
#[case::damaged_places(&[], &[(3, 70_000), (5, 9_000), (7, 80_000)], 1, 0)]
#[case::volumes_and_a_damaged_place(&[1, 2, 7], &[(4, 70_000)], 4, 3)]
fn exactly_what_was_lost_is_made_again(
    #[case] missing: &[u32],
    #[case] damaged: &[(u32, usize)],
    #[case] files: usize,
    #[case] volumes: usize,
) {
    let desk = Desk::with_volumes();
    fs::create_dir(desk.path("inbox")).unwrap();
    for number in (1..=7).filter(|number| !missing.contains(number)) {
        fs::copy(desk.volume(number), desk.path(&format!("inbox/ATT{number}.bin"))).unwrap();
    }
    for (number, at) in damaged {
        desk.flip(&desk.path(&format!("inbox/ATT{number}.bin")), *at);
    }
    let code = if missing.is_empty() { 5 } else { 4 };
    let slip = desk.run(&["check", "inbox", "--json"]).expect(code).json("/slip").as_str().unwrap().to_owned();
    assert!(desk.run(&["check", "inbox"]).expect(code).out.contains(&slip));
    let resent = desk.run(&["resend", "out", &slip, "--to", "again", "--json"]).expect(0);
    let made = resent.json("/made_files").as_array().unwrap().clone();
    assert_eq!((made.len(), made.iter().filter(|file| !file["volume"].is_null()).count()), (files, volumes));
    // Nothing but the lost cells, with a header and a page before them.
    let cells = damaged.len() as u64 + 4 * missing.len() as u64;
    assert!(resent.json("/bytes").as_u64().unwrap() <= (cells + 1) * 65_536, "{resent:?}", resent = resent.out);
    for (place, name) in desk.names("again").iter().enumerate() {
        fs::copy(desk.path("again").join(name), desk.path(&format!("inbox/more {place}"))).unwrap();
    }
    desk.run(&["check", "inbox"]).expect(i32::from(!damaged.is_empty()));
    desk.run(&["open", "inbox", "--into", "board"]).expect(0);
    desk.run(&["compare", "out", "board/wrenfall-light"]).expect(0);
}

#[rstest]
#[case::of_another_set("again", 2, "This slip is of another archive")]
#[case::not_had_here_either("out", 5, "Volume 3")]
fn a_slip_that_cannot_be_served_is_told(#[case] place: &str, #[case] code: i32, #[case] words: &str) {
    let desk = Desk::with_volumes();
    desk.run(&["pack", "wrenfall-light", "--to", "again/", "--fit", "260KB"]).expect(0);
    desk.flip(&desk.volume(3), 70_000);
    let slip = desk.run(&["check", "out", "--json"]).expect(5).json("/slip").as_str().unwrap().to_owned();
    let ran = desk.run(&["resend", place, &slip, "--to", "more"]).expect(code);
    assert!(ran.err.contains(words), "{}", ran.err);
    assert!(desk.names("more").is_empty());
}

/// How it is handed over, and how many drafts and labels there are then.
#[rstest]
#[case::by_hand(&[], 0, 0)]
#[case::by_mail(&["--fit", "mail-10"], 1, 0)]
#[case::by_small_messages(&["--for", "board", "--config", "board.toml"], 4, 0)]
#[case::on_discs(&["--fit", "disc-700"], 0, 7)]
fn a_folder_holds_everything_for_the_recipient_but_the_password(
    #[case] options: &[&str],
    #[case] drafts: usize,
    #[case] labels: usize,
) {
    let desk = Desk::with_volumes();
    let limit = "[fits.small]\nmessage = \"800KB\"\n[profiles.board]\nfit = \"small\"\nmail-to = [\"board@wrenfall.example\"]\n";
    desk.file("board.toml", limit.as_bytes());
    let ran =
        desk.run(&[&["handover", "out", "--to", "give", "--json", "--password-note", "secret.txt"], options].concat());
    let ran = ran.expect(0);
    let count = |pointer: &str| ran.json(pointer).as_array().unwrap().len();
    assert_eq!((count("/volumes"), count("/drafts"), count("/labels")), (7, drafts, labels));
    // Whoever has checksums can compare them; the tool is on every system that has the file's form from it.
    if cfg!(unix) {
        let mut sums = std::process::Command::new("sha256sum");
        assert!(sums.args(["-c", "SHA256SUMS"]).current_dir(desk.path("give")).output().unwrap().status.success());
    }
    let mut all = Vec::new();
    for name in desk.names("give") {
        all.extend(fs::read(desk.path("give").join(name)).unwrap());
    }
    let holds = |text: &str| all.windows(text.len()).any(|window| window == text.as_bytes());
    assert!(!holds(crate::support::PASSWORD) && holds("An archive is a copy."));
    assert!(fs::read_to_string(desk.path("secret.txt")).unwrap().contains(crate::support::PASSWORD));
    for number in 1..=drafts {
        let message = fs::read_to_string(desk.path(&format!("give/message-{number}of{drafts}.eml"))).unwrap();
        let limit = if drafts == 1 { 10_000_000 } else { 800_000 };
        let has_recipient = message.contains("board@wrenfall.example");
        assert!(message.len() <= limit && has_recipient == (drafts == 4), "message {number} has {}", message.len());
        assert!(message.contains(&format!("Subject: wrenfall-light, {number} of {drafts}")), "{}", &message[..600]);
    }
    desk.run(&["open", "give", "--into", "board"]).expect(0);
}

/// The page lies beside sealed volumes and goes with the first message, and the note tells what it is known by.
#[rstest]
#[case::beside_them(&[], &["open-me.html"], "")]
#[case::with_the_first_message(&["--fit", "mail-10"], &["message-1of1.eml", "open-me.html"], "filename=\"open-me.html\"")]
#[case::no_room_in_any_message(&["--fit", "tiny", "--config", "tiny.toml"], &["open-me.html"], "under-seal check .")]
#[case::left_out(&["--no-page"], &[], "")]
fn the_page_goes_with_sealed_volumes(#[case] options: &[&str], #[case] told: &[&str], #[case] first_message: &str) {
    let desk = Desk::new();
    desk.file("a", b"1").file("tiny.toml", b"[fits.tiny]\nmessage = \"200KB\"\n");
    desk.run(&["pack", "a", "--to", "out/"]).expect(0);
    let ran = desk.run(&[&["handover", "out", "--to", "give", "--json"], options].concat()).expect(0);
    let names = desk.names("give");
    assert!(told.iter().all(|name| names.contains(&(*name).to_owned())), "{names:?}");
    let known = desk.run(&["page", "--json"]).expect(0).json("/sha256").as_str().unwrap().to_owned();
    let text = |name: &str| fs::read_to_string(desk.path("give").join(name)).unwrap();
    let (note, is_there) = (text("how-to-open.txt"), !told.is_empty());
    assert_eq!(note.contains(&known) && note.contains("Open open-me.html"), is_there, "{note}");
    assert_eq!((text("SHA256SUMS").contains(&known), ran.json("/page").is_null()), (is_there, !is_there));
    if names.contains(&"message-1of1.eml".to_owned()) {
        let message = text("message-1of1.eml");
        assert!(message.contains(first_message), "{}", &message[..2000]);
        assert_eq!(message.contains("Open open-me.html"), message.contains("filename=\"open-me.html\""));
    }
}

/// As many messages as the plan tells are drafted, with the page alone, with a volume, or in none of them.
#[rstest]
fn the_plan_counts_the_messages(#[values("300KB", "800KB", "3MB")] limit: &str) {
    let desk = Desk::new();
    desk.run(&["demo", "--data-to", "."]).expect(0);
    desk.file("c.toml", format!("[fits.small]\nmessage = \"{limit}\"\n").as_bytes());
    let fit = ["--fit", "small", "--config", "c.toml"];
    let planned = desk.run(&[&["plan", "wrenfall-light", "--json"], &fit[..]].concat()).json("/messages");
    desk.run(&[&["pack", "wrenfall-light", "--to", "out/"], &fit[..]].concat()).expect(0);
    let drafted =
        desk.run(&[&["handover", "out", "--to", "give", "--json"], &fit[..]].concat()).expect(0).json("/drafts");
    assert_eq!(planned, drafted.as_array().unwrap().len());
}

#[rstest]
#[case::there_already(&["--to", "out"], 6, "is there already")]
#[case::a_volume_is_damaged(&["--to", "give"], 5, "volume 3 is damaged")]
#[case::message_too_small(&["--to", "give", "--fit", "tiny", "--config", "tiny.toml"], 2, "does not stay within 200,000 bytes")]
#[case::template_with_another_field(&["--to", "give", "--note-template", "note.txt"], 2, "there is no field {sender}")]
#[case::password_among_it(&["--to", "give", "--password-note", "give/password.txt"], 2, "would be among")]
#[case::wrong_password(&["--to", "give", "--password-note", "p", "--password-from", "note.txt"], 3, "Wrong password")]
fn what_cannot_be_handed_over_leaves_nothing(#[case] options: &[&str], #[case] code: i32, #[case] words: &str) {
    let desk = Desk::with_volumes();
    desk.file("note.txt", b"From {sender}").file("tiny.toml", b"[fits.tiny]\nmessage = \"200KB\"\n");
    if code == 5 {
        desk.flip(&desk.volume(3), 70_000);
    }
    let before = desk.names(".");
    let ran = desk.run(&[&["handover", "out"], options].concat()).expect(code);
    assert!(ran.err.replace("\n  ", " ").contains(words), "{}", ran.err);
    assert_eq!(desk.names("."), before);
}

/// What is rehearsed against what, and what comes of it: the step that it ended with, and what is said.
#[rstest]
#[case::good(&[], |_: &Desk| {}, 0, "compare", "The recipient can open it")]
#[case::lost(&["--lose", "2"], |_: &Desk| {}, 1, "check", "that you asked for were named exactly")]
#[case::damaged(&["--damage", "3", "--seed", "9"], |_: &Desk| {}, 1, "check", "were named exactly")]
#[case::all_lost(&["--lose", "7"], |_: &Desk| {}, 1, "gather", "more than the recipient can do without")]
#[case::sources_changed(&[], |desk: &Desk| { desk.flip(&desk.path("wrenfall-light/costs/cost-table.csv"), 10); }, 1, "compare", "the archive is good, and the sources have changed")]
#[case::archive_damaged(&[], |desk: &Desk| { desk.flip(&desk.volume(3), 70_000); }, 1, "check", "volume 3 is damaged")]
fn the_recipient_is_played_before_anything_is_sent(
    #[case] options: &[&str],
    #[case] accident: fn(&Desk),
    #[case] code: i32,
    #[case] last: &str,
    #[case] words: &str,
) {
    let desk = Desk::with_volumes();
    accident(&desk);
    let arguments = [&["rehearse", "out", "--against", "wrenfall-light"], options].concat();
    let mut command = desk.command(&arguments);
    fs::create_dir(desk.path("tmp")).unwrap();
    command.env("TMPDIR", desk.path("tmp"));
    let ran = crate::support::Ran::new(command.output().unwrap()).expect(code);
    assert!(ran.out.contains(words), "{}", ran.out);
    assert!(desk.names("tmp").is_empty(), "something was left of it");
    let json = desk.run(&[&arguments[..], &["--json"]].concat()).expect(code);
    let steps = json.json("/steps");
    assert_eq!(steps.as_array().unwrap().last().unwrap()["step"], last);
    assert_eq!(json.json("/passed"), code == 0);
    if last == "check" && code == 1 && !options.is_empty() {
        assert_eq!(json.json("/missing"), json.json("/lost_on_request"));
        assert_eq!(json.json("/damaged"), json.json("/damaged_on_request"));
    }
    // The same seed does the same.
    let again = desk.run(&[&arguments[..], &["--json"]].concat()).expect(code);
    assert_eq!(again.json("/lost_on_request"), json.json("/lost_on_request"));
}

/// The way, what a message, medium or request may have, how many there are then, and what is said.
#[rstest]
#[case::mail(&["mail"], 0, 1, "in 1 message within 10,000,000 bytes")]
#[case::small_messages(&["mail", "--limit", "800KB"], 0, 4, "in 4 messages within 800,000 bytes")]
#[case::the_page_alone(&["mail", "--limit", "380KB"], 0, 8, "in 8 messages within 380,000 bytes")]
#[case::profile(&["mail", "--for", "board", "--config", "board.toml"], 0, 4, "in 4 messages within 800,000 bytes")]
#[case::fit_of_another_kind_in_the_profile(&["upload", "--for", "board", "--config", "board.toml"], 0, 7, "within 100,000,000 bytes")]
#[case::messages_too_small(&["mail", "--limit", "260KB"], 1, 7, "refused 1 to 6: as messages up to")]
#[case::what_to_change_for_mail(&["mail", "--limit", "260KB"], 1, 7, "under-seal recast out/wrenfall-light-01of07.useal --fit 178026 --to cut/")]
#[case::a_disc(&["media"], 0, 1, "on 1 medium of 733,085,696 bytes")]
#[case::small_media(&["media", "--limit", "700KB", "--seed", "3"], 0, 3, "on 3 media of 700,000 bytes")]
#[case::media_too_small(&["media", "--limit", "200KB"], 1, 7, "under-seal recast out/wrenfall-light-01of07.useal --fit 198656 --to cut/")]
#[case::upload(&["upload"], 0, 7, " transfers broke off and went on")]
#[case::requests_too_small(&["upload", "--limit", "200KB"], 1, 7, "refused 1 to 6: as requests up to")]
#[case::lost_in_the_mail(&["mail", "--limit", "400KB", "--lose", "2"], 1, 8, "were named exactly")]
#[case::damaged_in_an_upload(&["upload", "--damage", "2"], 1, 7, "were named exactly")]
#[case::no_room_for_anything(&["mail", "--limit", "16KB"], 2, 0, "has no room for a volume: it needs up to 16,384 bytes itself")]
#[case::another_way(&["media", "--limit", "mail-10"], 2, 0, "A medium cannot have mail-10 as its limit")]
fn each_way_to_the_recipient_has_limits_of_its_own(
    #[case] options: &[&str],
    #[case] code: i32,
    #[case] trips: usize,
    #[case] words: &str,
) {
    let desk = Desk::with_volumes();
    desk.file("board.toml", b"[fits.small]\nmessage = \"800KB\"\n[profiles.board]\nfit = \"small\"\n");
    let arguments = [&["rehearse", "out", "--against", "wrenfall-light", "--through"], options].concat();
    let ran = desk.run(&arguments).expect(code);
    assert!((ran.out.clone() + &ran.err).contains(words), "{}{}", ran.out, ran.err);
    if code != 2 {
        let json = desk.run(&[&arguments[..], &["--json"]].concat()).expect(code);
        let told = json.json("/trips").as_array().unwrap().clone();
        assert_eq!((json.json("/through"), told.len()), (options[0].into(), trips));
        let limit = json.json("/limit").as_u64().unwrap();
        // An upload that broke off has sent some bytes twice.
        let over = told.iter().filter(|trip| trip["bytes"].as_u64() > Some(limit) && trip["broken_off"] == 0);
        assert_eq!(over.count(), told.iter().filter(|trip| trip["refused"] == true).count());
    }
}

#[test]
fn the_note_can_be_the_senders_own() {
    let desk = Desk::with_volumes();
    let template =
        "Dear board, {archive} & more\n\nOpen it with:\n\n    under-seal open FOLDER\n\n{password}\n\n{list}\n";
    desk.file("note.txt", template.as_bytes());
    desk.run(&["handover", "out", "--to", "give", "--note-template", "note.txt"]).expect(0);
    let text = fs::read_to_string(desk.path("give/how-to-open.txt")).unwrap();
    assert!(text.starts_with("Dear board, wrenfall-light & more\n"), "{text}");
    let first = fs::metadata(desk.volume(1)).unwrap().len();
    assert!(
        text.contains(&format!("    wrenfall-light-01of07.useal  {},{} bytes\n", first / 1000, first % 1000)),
        "{text}"
    );
    let page = fs::read_to_string(desk.path("give/how-to-open.html")).unwrap();
    for part in [
        "<h1>Dear board, wrenfall-light &amp; more</h1>",
        "<pre>under-seal open FOLDER</pre>",
        "<td>wrenfall-light-01of07.useal</td><td>259,840 bytes</td>",
        "The password comes to you another way",
    ] {
        assert!(page.contains(part), "{part}: {page}");
    }
}

/// The note begins with what this is and how to open it with nothing installed, and its commands run as they stand.
#[rstest]
#[case::sealed(&["--to", "s/"], &[], "s", "a web browser is enough")]
#[case::with_a_key_file(&["--to", "s/", "--key-file", "lamp key"], &["--key-file", "lamp key"], "s", "the key file lamp key")]
#[case::page(&["--to", "s/", "--as", "page"], &[], "s/wrenfall-light.html", "opens itself in a web browser")]
#[case::without_the_page(&["--to", "s/"], &["--no-page"], "s", "ask the sender for open-me.html")]
#[case::zip(&["--to", "s/board.zip"], &[], "s/board.zip", "Open board.zip with the program that you have for ZIP")]
#[cfg_attr(windows, ignore = "it needs a shell of Unix")]
fn the_note_of_a_handover_can_be_followed(
    #[case] packing: &[&str],
    #[case] options: &[&str],
    #[case] archive: &str,
    #[case] words: &str,
) {
    let desk = Desk::new();
    desk.run(&["demo", "--data-to", "."]).expect(0);
    desk.file("lamp key", &[7; 64]);
    desk.run(&[&["pack", "wrenfall-light"], packing].concat()).expect(0);
    desk.run(&[&["handover", archive, "--to", "give"], options].concat()).expect(0);
    let note = fs::read_to_string(desk.path("give/how-to-open.txt")).unwrap();
    let beginning: String = note.lines().take(3).collect();
    assert!(beginning.contains("This is an archive of files") && beginning.contains(words), "{note}");
    let commands: Vec<&str> = note.lines().filter_map(|line| line.strip_prefix("    under-seal ")).collect();
    assert_eq!(commands.len(), if archive.ends_with(".zip") { 0 } else { 3 }, "{note}");
    fs::copy(desk.path("lamp key"), desk.path("give/lamp key")).unwrap();
    for command in &commands {
        // What needs no password is run as by somebody who has none yet.
        let variable =
            if command.starts_with("check") { "UNDER_SEAL_PASSWORD=; unset UNDER_SEAL_PASSWORD;" } else { "" };
        crate::support::in_a_shell(&desk, &format!("{variable} cd give && PROGRAM {command}")).expect(0);
    }
    assert_eq!(desk.path("give/opened/wrenfall-light/letters").is_dir(), !commands.is_empty());
}

/// An archive without a password in the place of one that has one: whoever was given a password gets nothing of it.
#[rstest]
#[case::sealed("forged.useal")]
#[case::zip("forged.zip")]
#[case::tar("forged.tar.gz")]
fn a_password_is_not_taken_for_an_archive_that_has_none(#[case] forged: &str) {
    let desk = Desk::new();
    desk.file("pw", crate::support::PASSWORD.as_bytes()).file("key", b"any").file("a", b"not what was sent");
    desk.run(&["pack", "a", "--to", forged, "--no-password"]).expect(0);
    let commands: [&[&str]; 8] = [
        &["open", forged, "--into", "in"],
        &["list", forged],
        &["peek", forged, "a"],
        &["check", forged],
        &["about", forged],
        &["compare", forged, "a"],
        &["rehearse", forged, "--against", "a"],
        &["handover", forged, "--to", "give"],
    ];
    let sealed_only: [&[&str]; 1] = [&["receipt", forged]];
    let all = commands.into_iter().chain(sealed_only.into_iter().filter(|_| forged.ends_with(".useal")));
    for command in all {
        for given in [&["--password-from", "pw"][..], &["--key-file", "key"]] {
            let refused = desk.run_bare(&[command, given].concat()).expect(5);
            assert!(
                refused.err.replace("\n  ", " ").contains("anybody can have made it"),
                "{command:?}: {}",
                refused.err
            );
            assert_eq!(refused.out, "", "{command:?} must not reassure");
        }
        desk.run(command).expect(5);
        assert!(desk.names("in").is_empty() && desk.names("give").is_empty(), "{command:?}");
    }
    desk.run_bare(&["check", forged, "--ask-password"]).expect(5);
    desk.run_bare(&["list", forged]).expect(0);
    desk.run(&["open", forged, "--into", "in", "--accept-no-password"]).expect(0);
    assert_eq!(desk.names("in"), ["a"]);
}

/// What of the header of a set without a password is changed, and its check made right again (docs/format.md, 2): the
/// commitment to its key, a key derivation that a later version may have, or the length of its cells, which drafts did not have.
#[rstest]
#[case::commitment(176, 0x40, 5, "changed on purpose")]
#[case::later_version(128, 0x40, 2, "newer Under Seal")]
#[case::unpublished_draft(78, 0x01, 2, "a.useal was made by an unpublished draft")]
fn a_changed_header_of_a_set_without_a_password_is_told(
    #[case] at: usize,
    #[case] change: u8,
    #[case] code: i32,
    #[case] words: &str,
) {
    let desk = Desk::new().with_password(false);
    desk.file("a", b"1").run(&["pack", "a", "--no-password"]).expect(0);
    let path = desk.path("a.useal");
    let mut bytes = fs::read(&path).unwrap();
    bytes[at] ^= change;
    let check = blake3::hash(&bytes[..4064]);
    bytes[4064..4096].copy_from_slice(check.as_bytes());
    fs::write(path, bytes).unwrap();
    for command in [&["open", "a.useal", "--into", "in"][..], &["check", "a.useal"], &["list", "a.useal"]] {
        let told = desk.run(command).expect(code).err;
        assert!(told.replace("\n  ", " ").contains(words), "{told}");
    }
}
