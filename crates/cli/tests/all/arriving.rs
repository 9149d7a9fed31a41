//! What arrives is no tidy folder: messages that were saved, mailboxes, and answers with a slip in them.

use crate::support::Desk;
use crate::support::system::{as_written, links};
use rstest::rstest;
use std::fs;
use std::process::{Command, Stdio};

/// A desk with the dossier as the messages that a handover drafts, in `sent`.
fn desk_with_messages() -> Desk {
    let desk = Desk::with_volumes();
    desk.run(&["handover", "out", "--to", "all", "--fit", "mail-1"]).expect(0);
    fs::create_dir(desk.path("sent")).unwrap();
    for name in desk.names("all").into_iter().filter(|name| name.ends_with(".eml")) {
        fs::rename(desk.path("all").join(&name), desk.path("sent").join(&name)).unwrap();
    }
    desk
}

/// The messages that a handover drafts, as they are and as the mail library of another language writes them.
#[rstest]
#[case::as_they_are("import shutil; shutil.copytree('sent', 'mail')")]
#[case::a_mailbox("box = mailbox.mbox('mail'); each(box.add)")]
#[case::a_folder_for_each_state("box = mailbox.Maildir('mail'); each(box.add)")]
#[case::in_other_encodings(
    "os.mkdir('mail'); each(lambda m: open('mail/%d' % id(m), 'wb').write(other(m).as_bytes(policy=policy.SMTP)))"
)]
fn messages_are_opened_where_they_lie(#[case] arrive: &str) {
    let desk = desk_with_messages();
    let script = format!(
        "import email, glob, mailbox, os\nfrom email import encoders, policy\nkept = []\n\
         def other(m):\n    for part in m.walk():\n        if part.get_content_maintype() == 'application':\n            \
         data = part.get_payload(decode=True); del part['Content-Transfer-Encoding']; del part['Content-Disposition']\n            \
         part.set_payload(data); encoders.encode_base64(part)\n    return m\n\
         def each(take):\n    for path in glob.glob('sent/*'):\n        \
         kept.append(email.message_from_binary_file(open(path, 'rb'))); take(kept[-1])\n        \
         for number in range(50):\n            m = email.message.EmailMessage(); m['From'] = 'a@example.invalid'; m.set_content('From here\\n\\nFrom there\\n'); \
         kept.append(m); take(m)\n{arrive}\n"
    );
    let ran = Command::new("python3").args(["-c", &script]).current_dir(desk.path(".")).output();
    let Ok(ran) = ran.map(crate::support::Ran::new) else {
        assert!(std::env::var_os("CI").is_none(), "the tests of CI need Python 3");
        return;
    };
    ran.expect(0);
    let checked = desk.run_bare(&["check", "mail", "--json"]).expect(0);
    assert_eq!(checked.json("/complete"), true, "{}", checked.out);
    assert!(checked.json("/volumes/0/found_in/0/message_number").is_u64());
    desk.run(&["open", "mail", "--into", "in", "-q"]).expect(0);
    desk.run(&["compare", "mail", "wrenfall-light"]).expect(0);
    desk.run(&["list", "mail", "survey", "-q"]).expect(0);
    // What replaces an archive in its place does not touch a message.
    let refused = desk.run(&["relock", "mail", "--no-password"]).expect(2);
    assert!(refused.err.contains("--to"), "{}", refused.err);
}

/// A recipient's answer, quoted and broken by mail programs, is enough to make what is missing again.
#[rstest]
#[case::a_message("From: board@example.invalid\nSubject: Re: dossier\n\n> Dear keeper,\n> SLIP\n> ends it.\n")]
#[case::a_text("Please send SLIP again.")]
fn a_slip_is_found_in_an_answer(#[case] answer: &str) {
    let desk = desk_with_messages();
    fs::remove_file(desk.path("sent/message-2of4.eml")).unwrap();
    let slip = desk.run_bare(&["check", "sent", "--json"]).expect(4).json("/slip").as_str().unwrap().to_owned();
    let broken = slip.replacen('-', "-\n> ", 1);
    desk.file("answer", answer.replace("SLIP", &broken).as_bytes());
    desk.run_bare(&["resend", "out", "answer", "--to", "sent"]).expect(0);
    desk.run(&["check", "sent"]).expect(0);
    desk.file("no answer", b"From: board@example.invalid\n\nIt is a box of lamps.\n");
    let none = desk.run_bare(&["resend", "out", "no answer", "--to", "again"]).expect(2);
    assert!(none.err.contains("No resend slip for this archive is written in no answer"), "{}", none.err);
}

/// Parts of a ZIP archive are opened out of messages too; where that cannot be, it is told which message is cut off.
#[test]
fn a_zip_archive_is_opened_out_of_messages() {
    let desk = Desk::new();
    desk.run(&["demo", "--data-to", "."]).expect(0);
    desk.run(&["pack", "wrenfall-light", "--to", "dossier.zip", "--fit", "700KB"]).expect(0);
    desk.run(&["handover", "dossier.zip", "--to", "all", "--fit", "mail-1"]).expect(0);
    fs::create_dir(desk.path("mail")).unwrap();
    for name in desk.names("all").into_iter().filter(|name| name.ends_with(".eml")) {
        fs::copy(desk.path("all").join(&name), desk.path("mail").join(&name)).unwrap();
    }
    let one = "mail/message-1of3.eml";
    assert_eq!(
        desk.run_bare(&["check", one, "--json"]).expect(0).json("/parts/2"),
        as_written("mail/message-3of3.eml")
    );
    desk.run(&["open", "mail", "--into", "in"]).expect(0);
    desk.run(&["compare", "mail", "wrenfall-light"]).expect(0);
    // A sender who rehearses has the files; what joins plain pieces would make no archive of these.
    assert!(desk.run(&["rehearse", "mail", "--against", "wrenfall-light"]).expect(2).err.contains("handover"));
    assert!(desk.run(&["reunite", "mail"]).expect(2).err.contains("under-seal open"));
    let bytes = fs::read(desk.path(one)).unwrap();
    fs::write(desk.path(one), &bytes[..bytes.len() / 2]).unwrap();
    let refused = desk.run_bare(&["check", "mail"]).expect(5);
    assert!(refused.err.contains("message-1of3.eml, message 1: it is cut off"), "{}", refused.err);
}

/// What is cut off is told, with the message and its file; and one that was attached stays where it is.
#[test]
fn a_message_that_is_cut_off_is_named() {
    let desk = desk_with_messages();
    let path = desk.path("sent/message-4of4.eml");
    let mut bytes = fs::read(&path).unwrap();
    bytes.truncate(bytes.len() - 30_000);
    fs::write(&path, bytes).unwrap();
    let checked = desk.run(&["check", "sent"]).expect(5);
    assert!(checked.out.contains("message-4of4.eml: wrenfall-light-07of07.useal"), "{}", checked.out);
    assert!(checked.out.contains("message-4of4.eml, message 1: it is cut off"), "{}", checked.out);
}

/// What still comes is waited for: a file that grows does not count before it is whole.
#[rstest]
#[case::check("check --watch in", "All 7 volumes are here and whole")]
#[case::open("open --watch in --into opened", "wrenfall-light is open")]
#[case::reunite("reunite --watch in", "one file again")]
fn what_comes_later_is_waited_for(#[case] line: &str, #[case] words: &str) {
    let desk = Desk::with_volumes();
    desk.run(&["portion", "wrenfall-light/about-this-dossier.txt", "--fit", "100B", "--to", "cut/"]).expect(0);
    let sent = if line.starts_with("reunite") { "cut" } else { "out" };
    fs::create_dir(desk.path("in")).unwrap();
    let mut command = desk.command(&line.split(' ').collect::<Vec<_>>());
    let child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let names = desk.names(sent);
    for name in &names {
        let bytes = fs::read(desk.path(sent).join(name)).unwrap();
        let to = desk.path("in").join(name);
        if name == names.last().unwrap() {
            // The last one comes in two halves.
            fs::write(&to, &bytes[..bytes.len() / 2]).unwrap();
            std::thread::sleep(std::time::Duration::from_millis(2_500));
        }
        fs::write(&to, &bytes).unwrap();
    }
    let ran = crate::support::Ran::new(child.wait_with_output().unwrap()).expect(0);
    assert!(ran.out.contains(words), "{}{}", ran.out, ran.err);
    assert!(ran.err.contains("Waiting for more in"), "{}", ran.err);
}

/// All parcels are waited for that the names of those that are here speak of, and every archive beside them, in whichever folder of a
/// mailbox they come.
#[rstest]
#[case::check(&["check", "--watch", "in"], "3 of 3 parcels are here and whole")]
#[case::open(&["open", "--watch", "in", "--all", "--into", "opened"], "3 of 3 parcels were opened")]
fn all_parcels_are_waited_for(#[case] line: &[&str], #[case] words: &str, #[values("in", "in/new")] comes_to: &str) {
    let desk = Desk::new();
    for (name, size) in [("a", 60_000), ("b", 60_000), ("c", 60_000)] {
        let bytes: Vec<u8> =
            (0..size as u32).flat_map(|number| number.wrapping_mul(2_654_435_761).to_le_bytes()).collect();
        desk.file(&format!("letters/{name}"), &bytes);
    }
    desk.run(&["pack", "letters", "--parcels", "--fit", "260KB", "--to", "out/"]).expect(0);
    for folder in ["in/new", "in/cur"] {
        fs::create_dir_all(desk.path(folder)).unwrap();
    }
    let child = desk.command(line).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    for (number, name) in desk.names("out").iter().enumerate() {
        if number == 2 {
            std::thread::sleep(std::time::Duration::from_millis(2_500));
        }
        fs::copy(desk.path("out").join(name), desk.path(comes_to).join(name)).unwrap();
    }
    let ran = crate::support::Ran::new(child.wait_with_output().unwrap()).expect(0);
    assert!(ran.out.contains(words), "{}{}", ran.out, ran.err);
    assert!(ran.err.contains("By their names, 2 of 3 parcels are here. Missing: 3."), "{}", ran.err);
}

/// When the time is over, it goes on with what is there, and says what is missing.
#[test]
fn a_wait_has_an_end() {
    let desk = Desk::with_volumes();
    fs::remove_file(desk.volume(3)).unwrap();
    let ran = desk.run(&["check", "--watch", "out", "--for", "1s"]).expect(4);
    assert!(ran.err.contains("6 of 7 volumes are here. Missing: 3."), "{}", ran.err);
    assert!(ran.err.contains("The time to wait is over.") && ran.out.contains("Incomplete"), "{}{}", ran.out, ran.err);
    desk.run(&["check", "--watch", "out", "--for", "soon"]).expect(2);
}

/// The folder that pieces lie in is enough, where they are pieces of one file.
#[test]
fn pieces_are_found_in_their_folder() {
    let desk = Desk::with_volumes();
    for name in ["about-this-dossier.txt", "letters"] {
        desk.file("letters", &[b'x'; 300]);
        let file = if name == "letters" { name.to_owned() } else { format!("wrenfall-light/{name}") };
        desk.run(&["portion", &file, "--fit", "100B", "--to", "cut/"]).expect(0);
        let code = if name == "letters" { 2 } else { 0 };
        let ran = desk.run(&["reunite", "cut", "--to", "whole/"]).expect(code);
        assert_eq!(ran.err.contains("Several files are in pieces there"), code == 2, "{}", ran.err);
    }
    let none = desk.run(&["reunite", "wrenfall-light/photographs"]).expect(2);
    assert!(none.err.contains("no numbered pieces"), "{}", none.err);
}

/// Several archives in one place are each checked; parcels know how many they are, once they are opened.
#[test]
fn parcels_and_other_archives_are_checked_together() {
    let desk = Desk::with_volumes();
    desk.run(&["pack", "wrenfall-light", "--parcels", "--fit", "385KB", "--to", "in/"]).expect(0);
    let names = desk.names("in");
    let all = desk.run(&["check", "in"]).expect(0);
    assert!(all.out.contains(&format!("{0} of {0} parcels are here and whole.", names.len())), "{}", all.out);
    fs::remove_file(desk.path("in").join(&names[1])).unwrap();
    let lacking = desk.run(&["check", "in", "--json"]).expect(4);
    assert_eq!(lacking.json("/deliveries/0/missing_parcels"), serde_json::json!([2]));
    assert_eq!(lacking.json("/archives").as_array().unwrap().len(), names.len() - 1);
    let told = desk.run(&["check", "in"]).expect(4);
    assert!(
        told.out.contains("parcels are missing") && told.out.contains("Missing: 2. Ask the sender for it."),
        "{}",
        told.out
    );
    // Nobody knows that without the password.
    let outside = desk.run_bare(&["check", "in"]).expect(0);
    assert!(outside.out.contains("Add --ask-password") && !outside.out.contains("parcels are"), "{}", outside.out);
    // What does not belong to them is told for itself; the worst counts.
    fs::copy(desk.volume(3), desk.path("in/more.useal")).unwrap();
    let more = desk.run(&["check", "in"]).expect(4);
    // On Windows a shell of Unix takes the path in quotes.
    let told = more.out.replace('\'', "");
    assert!(told.contains("1 of 7") && told.contains(&as_written("under-seal check in/more.useal")), "{told}");
    desk.file("secret", b"another one");
    let closed = desk.run_bare(&["check", "in", "--password-from", "secret"]).expect(4);
    assert!(closed.out.contains("here, and not opened") && closed.out.contains("Wrong password"), "{}", closed.out);
    // One by itself is a parcel still.
    let one = desk.run(&["check", &format!("in/{}", names[0])]).expect(0);
    assert!(one.out.contains(&format!("This is parcel 1 of {}.", names.len())), "{}", one.out);
    let about = desk.run(&["about", &format!("in/{}", names[0])]).expect(0);
    assert!(about.out.contains(&format!("number 1 of {}; each opens alone", names.len())), "{}", about.out);
}

/// All parcels are opened into one place, and what did not come, or is closed, is told with a way on.
#[test]
#[cfg_attr(windows, ignore = "it needs a program of Unix")]
fn every_archive_of_a_place_is_opened() {
    let desk = Desk::with_volumes();
    desk.run(&["pack", "wrenfall-light", "--parcels", "--fit", "385KB", "--to", "in/"]).expect(0);
    let names = desk.names("in");
    let opened = desk.run(&["open", "in", "--all", "--into", "all"]).expect(0);
    assert!(opened.out.contains(&format!("{0} of {0} parcels were opened.", names.len())), "{}", opened.out);
    let mut same = Command::new("diff");
    same.args(["-r", "--no-dereference", "all/wrenfall-light", "wrenfall-light"]);
    assert!(same.current_dir(desk.path(".")).status().unwrap().success());
    // Parcels are no reason for folders of their own, even if each has several things at its top.
    desk.run(&["pack", "wrenfall-light", "--contents", "--parcels", "--fit", "385KB", "--to", "more/"]).expect(0);
    desk.run(&["open", "more", "--all", "--into", "contents", "-q"]).expect(0);
    assert_eq!(desk.names("contents"), desk.names("wrenfall-light"));
    fs::remove_file(desk.path("in").join(&names[2])).unwrap();
    desk.file("secret", b"another one");
    desk.run(&["pack", "wrenfall-light/letters", "--to", "in/", "--password-from", "secret", "--weak-ok"]).expect(0);
    fs::copy(desk.volume(2), desk.path("in/lone")).unwrap();
    let ran = desk.run(&["open", "in", "--all", "--into", "some", "--json"]).expect(4);
    assert_eq!(ran.json("/deliveries/0/missing_parcels"), serde_json::json!([3]));
    let codes: Vec<_> =
        ran.json("/not_opened").as_array().unwrap().iter().map(|one| one["exit_code"].clone()).collect();
    assert_eq!(codes, [3, 4], "{}", ran.out);
    let told = desk.run(&["open", "in", "--all", "--into", "again"]).expect(4);
    assert!(told.out.starts_with("Incomplete:") && told.out.contains("Wrong password"), "{}", told.out);
    desk.run(&["open", "in", "letters", "--all", "--into", "part"]).expect(2);
}

/// A whole delivery is listed and compared as one archive, each of its parcels has a receipt, and the sender finds which one is told.
#[test]
fn a_delivery_is_read_as_one_archive() {
    let desk = Desk::new();
    desk.run(&["demo", "--data-to", "."]).expect(0);
    desk.run(&["pack", "wrenfall-light", "--parcels", "--fit", "385KB", "--to", "in/"]).expect(0);
    let names = desk.names("in");
    let list = desk.run(&["list", "in", "--json"]).expect(0);
    assert_eq!(
        (list.json("/archive"), list.json("/files"), list.json("/folders")),
        ("wrenfall-light".into(), 20.into(), 8.into())
    );
    let compared = desk.run(&["compare", "in", "wrenfall-light", "--json"]).expect(0);
    assert_eq!((compared.json("/same"), compared.json("/archive")), ((28 + links(1)).into(), "wrenfall-light".into()));
    let path = "wrenfall-light/survey/recompute-levels.sh";
    let peeked = desk.run(&["peek", "in", path]).expect(0);
    assert_eq!(peeked.out.as_bytes(), std::fs::read(desk.path(path)).unwrap());
    // Each is rehearsed, and together they must hold all that they were packed from.
    let rehearse = ["rehearse", "in", "--all", "--against", "wrenfall-light", "--json"];
    assert_eq!(desk.run(&rehearse).expect(0).json("/archives").as_array().unwrap().len(), names.len());
    desk.file("wrenfall-light/letters/more.txt", b"one more");
    let told = desk.run(&rehearse).expect(1);
    assert_eq!(told.json("/in_none"), serde_json::json!(["wrenfall-light/letters/more.txt"]));
    let changed = desk.run(&["compare", "in", "wrenfall-light", "--originals"]).expect(1);
    assert!(changed.out.contains("20 originals of 21 are proven to be inside"), "{}", changed.out);
    let receipts = desk.run(&["receipt", "in", "--json"]).expect(0);
    assert_eq!(receipts.json("/archives").as_array().unwrap().len(), names.len());
    let third = receipts.json("/archives/2/receipt");
    let confirmed = desk.run(&["confirm", "in", third.as_str().unwrap(), "--json"]).expect(0);
    assert_eq!((confirmed.json("/confirmed"), confirmed.json("/set")), (true.into(), receipts.json("/archives/2/set")));
    // A parcel that is changed is still that parcel.
    let third = format!("in/{}", names[2]);
    desk.run(&["revise", &third, "--message", "Mind the step.", "--quiet"]).expect(0);
    assert_eq!(desk.run(&["about", &third, "--json"]).expect(0).json("/parcel/number"), 3);
    assert_eq!(desk.run(&["list", "in", "--json"]).expect(0).json("/files"), 20);
    // All of them are handed over at once, and opened out of the messages that were drafted.
    let given = desk.run(&["handover", "in", "--all", "--to", "for-the-board", "--fit", "mail-10", "--json"]).expect(0);
    assert_eq!(given.json("/volumes").as_array().unwrap().len(), names.len());
    let note = std::fs::read_to_string(desk.path("for-the-board/how-to-open.txt")).unwrap();
    assert!(note.starts_with("wrenfall-light, in ") && note.contains("open . --all --into opened"), "{note}");
    std::fs::create_dir(desk.path("mail")).unwrap();
    for draft in given.json("/drafts").as_array().unwrap() {
        let name = draft["name"].as_str().unwrap();
        std::fs::copy(desk.path("for-the-board").join(name), desk.path("mail").join(name)).unwrap();
    }
    desk.run(&["open", "mail", "--all", "--into", "opened"]).expect(0);
    assert!(desk.path("opened/wrenfall-light/survey/levels.csv").is_file());
    std::fs::remove_file(desk.path("in").join(&names[1])).unwrap();
    let told = desk.run(&["list", "in"]).expect(4);
    assert!(told.err.contains("Missing: 2. Ask the sender for it"), "{}", told.err);
    let receipts = desk.run(&["receipt", "in", "--json"]).expect(4);
    assert_eq!(receipts.json("/deliveries/0/missing_parcels"), serde_json::json!([2]));
    // Archives that are no delivery are told apart as ever.
    desk.run(&["pack", "wrenfall-light/letters", "--to", "in/"]).expect(0);
    let several = desk.run(&["list", "in"]).expect(2);
    assert!(several.err.contains("archives are here"), "{}", several.err);
}

/// Folders in a folder are searched where there is nothing in that itself, and deeper if that is wished.
#[test]
fn folders_in_folders_are_searched() {
    let desk = Desk::with_volumes();
    std::fs::create_dir_all(desk.path("mail/june")).unwrap();
    std::fs::rename(desk.path("out"), desk.path("mail/june/board")).unwrap();
    desk.run(&["check", "mail/june"]).expect(0);
    desk.run(&["open", "mail/june", "--into", "in"]).expect(0);
    let told = desk.run(&["check", "mail"]).expect(2);
    assert!(told.err.contains("mail"), "{}", told.err);
    desk.run(&["check", "mail", "--deep"]).expect(0);
    desk.run(&["pack", "wrenfall-light/letters", "--to", "mail/"]).expect(0);
    // What lies in the folder itself is meant, unless all is.
    assert_eq!(desk.run(&["list", "mail", "--json"]).expect(0).json("/archive"), "letters");
    let all = desk.run(&["check", "mail", "--deep", "--json"]).expect(0);
    assert_eq!(all.json("/archives").as_array().unwrap().len(), 2);
    let opened = desk.run(&["open", "mail", "--all", "--deep", "--into", "all", "--json"]).expect(0);
    assert_eq!(opened.json("/archives").as_array().unwrap().len(), 2);
}
