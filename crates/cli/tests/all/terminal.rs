//! At a terminal: passwords are asked for, progress is drawn, and signals end the work in good order.

use crate::support::Desk;
use rstest::rstest;
use rustix::process::{Pid, Signal, kill_process};
use std::fs::File;
use std::io::{Read as _, Write as _};
use std::process::{Command, Stdio};
use std::time::Duration;

const CTRL_C: &str = "\u{3}";
const ESCAPE: &str = "\u{1b}";

/// Runs the program in a pseudo-terminal (made by `script`, which every Linux distribution has), typing these lines.
fn at_a_terminal(desk: &Desk, arguments: &[&str], typed: &str) -> (i32, String) {
    at_a_terminal_with(desk, arguments, typed, |_, _| {})
}

/// As [`at_a_terminal`]; something is done before each line (counted from 0) is typed.
fn at_a_terminal_with(
    desk: &Desk,
    arguments: &[&str],
    typed: &str,
    mut before: impl FnMut(usize, &Desk),
) -> (i32, String) {
    let program = desk.command(&[]).get_program().to_owned().into_string().unwrap();
    let line = format!("'{program}' {}", arguments.join(" "));
    // A question that nobody answers ends the test, and not the patience of whoever waits for it.
    let mut command = Command::new("timeout");
    command.args(["--foreground", "60", "script", "-q", "-e", "-c", &line, "/dev/null"]).current_dir(desk.path("."));
    command.env_remove("UNDER_SEAL_PASSWORD").env("UNDER_SEAL_DEBUG_CHEAP_KEYS", "1").env("TERM", "xterm");
    // A viewer of ours, where a test has laid one down.
    let path = std::env::var("PATH").unwrap();
    command.env("PATH", format!("{}:{path}", desk.path("bin").display()));
    command.env("TMPDIR", desk.path("."));
    let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
    let mut keyboard = child.stdin.take().unwrap();
    let mut screen = child.stdout.take().unwrap();
    let mut shown = String::new();
    // Each line is typed when it has been asked for.
    for (number, line) in typed.lines().enumerate() {
        let questions = |shown: &str| shown.matches(": ").count() + shown.matches("extract? ").count();
        let asked = questions(&shown);
        let mut bytes = [0; 256];
        while questions(&shown) == asked {
            let count = screen.read(&mut bytes).unwrap();
            assert!(count > 0, "nothing was asked: {shown}");
            shown.push_str(&String::from_utf8_lossy(&bytes[..count]));
        }
        before(number, desk);
        // Ctrl-C needs no return key; with one, the empty line behind it could be read before the signal is.
        let end = match line {
            CTRL_C | ESCAPE => "",
            keys if keys.contains(ESCAPE) => "\r",
            _ => "\n",
        };
        keyboard.write_all(format!("{line}{end}").as_bytes()).unwrap();
    }
    screen.read_to_string(&mut shown).unwrap();
    (child.wait().unwrap().code().unwrap(), shown)
}

#[rstest]
#[case::the_same_twice(
    "salted lamp oil of twelve panes\nsalted lamp oil of twelve panes\n",
    0,
    "is packed and verified"
)]
#[case::weak_and_confirmed("lamp oil\nlamp oil\nyes\n", 0, "Use it all the same?")]
#[case::weak_and_given_up("lamp oil\nlamp oil\n\u{3}", 130, "[y]es, [n]o (Enter means no): ")]
#[case::weak_and_not_confirmed("lamp oil\nlamp oil\nno\n", 130, "This password is weak")]
#[case::not_the_same_thrice(
    "lamp oil\nlamp soil\na\nb\nc\nd\n",
    2,
    "The two passwords are not the same. Nothing was done"
)]
#[case::the_same_in_the_end(
    "lamp oil\nlamp soil\nsalted lamp oil of twelve panes\nsalted lamp oil of twelve panes\n",
    0,
    "Once more, from the beginning"
)]
#[case::empty("\n", 2, "The password is empty.")]
#[case::given_up_with_ctrl_c(CTRL_C, 130, "Password: ")]
fn packing_asks_for_the_password_twice_without_echo(#[case] typed: &str, #[case] code: i32, #[case] words: &str) {
    let desk = Desk::new();
    desk.file("note.txt", b"1");
    let (exit, shown) = at_a_terminal(&desk, &["pack", "note.txt"], typed);
    assert!(exit == code && shown.contains(words), "{exit}: {shown}");
    assert!(!shown.contains("lamp"), "the password was shown: {shown}");
    assert_eq!(desk.path("note.txt.useal").exists(), code == 0);
}

#[rstest]
#[case::the_same_twice("twelve lamps of oiled salt\ntwelve lamps of oiled salt\n", 0, "New password:")]
#[case::not_the_same(
    "twelve lamps of oiled salt\ntwelve lamps of oiled sand\na\nb\nc\nd\n",
    2,
    "The two passwords are not the same"
)]
fn locking_anew_asks_for_the_old_password_once_and_for_the_new_one_twice(
    #[case] typed: &str,
    #[case] code: i32,
    #[case] words: &str,
) {
    let desk = Desk::with_volumes();
    let before = desk.names("out");
    let typed = format!("{}\n{typed}", crate::support::PASSWORD);
    let (exit, shown) = at_a_terminal(&desk, &["relock", "out"], &typed);
    assert_eq!((exit, shown.contains(words)), (code, true), "{shown}");
    assert!(!shown.contains("salt") && desk.names("out") == before, "{shown}");
    desk.run(&["list", "out"]).expect(if code == 0 { 3 } else { 0 });
}

/// What a refresh is made with is asked where it is not named; and a yes before something goes with it, but not for what was wished.
#[rstest]
#[case::yes("later\nyes\n", &["--refresh"], 0, "1 entry is not there any more")]
#[case::no("later\nno\n", &["--refresh"], 130, "1 entry is not there any more")]
#[case::taken_out("", &["--remove", "*.csv"], 0, "The archive is changed")]
#[case::met_inside("both\n", &["--add", "later/costs", "--inside", "wrenfall-light"], 0, "These are inside already: ")]
fn revising_asks_what_it_must(#[case] typed: &str, #[case] wishes: &[&str], #[case] code: i32, #[case] words: &str) {
    let desk = Desk::with_volumes();
    crate::support::in_a_shell(&desk, "cp -a wrenfall-light later && rm later/survey/cracks.csv").expect(0);
    let before = std::fs::read(desk.volume(7)).unwrap();
    desk.file("password", crate::support::PASSWORD.as_bytes());
    let (exit, shown) =
        at_a_terminal(&desk, &[&["revise", "out", "--password-from", "password"], wishes].concat(), typed);
    assert!(exit == code && shown.contains(words), "{exit}: {shown}");
    assert_eq!(std::fs::read(desk.volume(7)).is_ok_and(|now| now == before), code != 0);
}

/// Nothing is replaced unasked, nor what an archive of changes says that its base left.
#[rstest]
#[case::yes("yes\n", 0, "two")]
#[case::no("no\n", 130, "one")]
fn bringing_up_to_date_asks_before_it_replaces(#[case] typed: &str, #[case] code: i32, #[case] content: &str) {
    let desk = Desk::new();
    desk.file("a", b"one").run(&["pack", "a"]).expect(0);
    desk.run(&["open", "a.useal", "--into", "in"]).expect(0);
    desk.file("a", b"two").run(&["pack", "a", "--since", "a.useal", "--to", "b.useal"]).expect(0);
    desk.file("password", crate::support::PASSWORD.as_bytes());
    let (exit, shown) =
        at_a_terminal(&desk, &["open", "b.useal", "--into", "in", "--password-from", "password"], typed);
    assert!(exit == code && shown.contains("1 file here is as a left it"), "{exit}: {shown}");
    assert_eq!(std::fs::read_to_string(desk.path("in/a")).unwrap(), content);
}

#[test]
fn opening_asks_once_and_draws_progress_in_place() {
    let desk = Desk::with_volumes();
    let (exit, shown) =
        at_a_terminal(&desk, &["open", "out", "--into", "inbox"], &format!("{}\n", crate::support::PASSWORD));
    assert_eq!(exit, 0, "{shown}");
    assert!(shown.contains("Opening") && shown.contains("volume"), "{shown}");
    assert_eq!(desk.names("inbox"), ["wrenfall-light"]);
}

#[rstest]
#[case::keep("keep", 0, "mine")]
#[case::replace_at_the_second_try("perhaps\nreplace", 0, "item")]
#[case::quit("quit", 130, "mine")]
fn what_becomes_of_files_in_the_way_is_asked(#[case] answer: &str, #[case] code: i32, #[case] begins: &str) {
    let desk = Desk::with_volumes();
    let there = "in/wrenfall-light/costs/cost-table.csv";
    desk.file(there, b"mine");
    let typed = format!("{}\n{answer}\n", crate::support::PASSWORD);
    let (exit, shown) = at_a_terminal(&desk, &["open", "out", "costs", "--into", "in"], &typed);
    assert!(exit == code && shown.contains("[k]eep yours, [r]eplace"), "{exit}: {shown}");
    assert!(std::fs::read_to_string(desk.path(there)).unwrap().starts_with(begins));
}

#[rstest]
#[case::right_at_the_third_try("soot\nwick\ntwelve panes of salted glass\n", 0, "wrenfall-light/costs")]
#[case::never_right("soot\nwick\nlamp\n", 3, "check the spelling")]
fn a_wrong_password_is_asked_again_up_to_three_times(#[case] typed: &str, #[case] code: i32, #[case] words: &str) {
    let desk = Desk::with_volumes();
    let (exit, shown) = at_a_terminal(&desk, &["list", "out"], typed);
    assert!(exit == code && shown.contains(words), "{exit}: {shown}");
    assert!(shown.contains("Wrong password. Try again.") && shown.contains("One more try."), "{shown}");
}

#[rstest]
#[case::the_first("1", 0, "is open")]
#[case::the_second_after_a_slip("3\n2", 4, "missing")]
#[case::neither("q", 130, "Cancelled")]
fn of_several_sets_in_one_place_one_is_chosen(#[case] answer: &str, #[case] code: i32, #[case] words: &str) {
    let desk = Desk::new();
    desk.file("s/a", b"1").file("s/b", &[7; 300_000]);
    desk.run(&["pack", "s/a", "--to", "o/first"]).expect(0);
    desk.run(&["pack", "s/b", "--to", "o/second", "--squeeze", "none", "--fit", "100KB"]).expect(0);
    std::fs::remove_file(desk.path("o/second-02of04.useal")).unwrap();
    let typed = if code == 0 { format!("{answer}\n{}\n", crate::support::PASSWORD) } else { format!("{answer}\n") };
    // Where nobody can be asked, the way to name one is told.
    assert!(desk.run(&["list", "o"]).expect(2).err.contains("Name one volume of"));
    let (exit, shown) = at_a_terminal(&desk, &["open", "o", "--into", "in"], &typed);
    let asked = shown.contains("Volumes of 2 archives are here") && shown.contains("3 of 4 volumes");
    assert!(exit == code && asked && shown.contains(words), "{exit}: {shown}");
}

/// One down is the first file, two the folder behind it, which is picked with all that is in it.
#[rstest]
#[case::a_folder("\u{1b}[B\u{1b}[B ", 0, "costs")]
#[case::narrowed_down("levels\u{1b}[B ", 0, "survey")]
#[case::nothing("", 130, "")]
#[case::given_up(ESCAPE, 130, "")]
fn what_to_take_out_is_picked_from_a_list(#[case] keys: &str, #[case] code: i32, #[case] folders: &str) {
    let desk = Desk::with_volumes();
    let typed = format!("{}\n{keys}\n", crate::support::PASSWORD);
    let (exit, shown) = at_a_terminal(&desk, &["open", "out", "--into", "in", "--pick"], &typed);
    assert_eq!(exit, code, "{shown}");
    assert_eq!(desk.names("in/wrenfall-light").join(" "), folders);
}

/// One disc after the other is put in: the seventh, then one that is damaged, and then those that are still missing.
#[rstest]
#[case::to_the_end(0, "are here and whole")]
#[case::stopped(130, "Cancelled")]
fn discs_are_asked_for_one_by_one(#[case] code: i32, #[case] words: &str) {
    let desk = Desk::with_volumes();
    std::fs::create_dir(desk.path("disc")).unwrap();
    let put_in = |desk: &Desk, volume: u32| {
        std::fs::remove_dir_all(desk.path("disc")).unwrap();
        std::fs::create_dir(desk.path("disc")).unwrap();
        std::fs::copy(desk.volume(volume), desk.path("disc/DISC.USE")).unwrap();
    };
    put_in(&desk, 7);
    let typed = if code == 0 { "\n".repeat(7) } else { "\nquit\n".to_owned() };
    let arguments = ["check", "disc", "--one-by-one", "--aside", "here"];
    let (exit, shown) = at_a_terminal_with(&desk, &arguments, &typed, |line, desk| {
        put_in(desk, line.max(1) as u32);
        if line == 0 {
            desk.flip(&desk.path("disc/DISC.USE"), 70_000);
        }
    });
    let told = shown.contains("Volume 7 is copied to here") && shown.contains("Volume 1 is damaged there");
    assert!(exit == code && told && shown.contains(words), "{exit}: {shown}");
    assert!(shown.contains("Still missing: 1 to 6 of 7. Put in the one with volume 1."), "{shown}");
    assert_eq!(desk.names("here").len(), if code == 0 { 7 } else { 1 });
}

/// A viewer that notes what it was given. The copy is private, and gone whatever ends the waiting.
#[rstest]
#[case::seen("\n", "exit 0", 0)]
#[case::ctrl_c(CTRL_C, "exit 0", 130)]
#[case::no_program("", "exit 3", 7)]
fn a_file_is_shown_from_a_private_copy(#[case] typed: &str, #[case] end: &str, #[case] code: i32) {
    use std::os::unix::fs::PermissionsExt as _;
    let desk = Desk::with_volumes();
    let viewer = "#!/bin/sh\ncat \"$1\" >seen\nstat -c %a \"$1\" \"$(dirname \"$1\")\" >modes\n";
    desk.file("bin/xdg-open", format!("{viewer}{end}\n").as_bytes());
    std::fs::set_permissions(desk.path("bin/xdg-open"), std::fs::Permissions::from_mode(0o755)).unwrap();
    let typed = format!("{}\n{typed}", crate::support::PASSWORD);
    let (exit, shown) = at_a_terminal(&desk, &["peek", "out", "cost-table.csv", "--viewer"], &typed);
    assert_eq!(exit, code, "{shown}");
    let read = |name: &str| std::fs::read_to_string(desk.path(name)).unwrap();
    assert_eq!(read("seen"), read("wrenfall-light/costs/cost-table.csv"));
    assert_eq!(read("modes"), "400\n700\n");
    assert!(desk.names(".").iter().all(|name| !name.starts_with("under-seal-")), "{:?}", desk.names("."));
}

#[test]
fn check_can_be_told_to_ask() {
    let desk = Desk::with_volumes();
    let (exit, shown) =
        at_a_terminal(&desk, &["check", "out", "--ask-password"], &format!("{}\n", crate::support::PASSWORD));
    assert!(exit == 0 && shown.contains("genuine and complete"), "{exit}: {shown}");
}

/// The work is long enough (a file of 20 GB, a hole of which ZIP has to store the zeros) that the signal always comes in the middle.
#[rstest]
fn a_signal_ends_the_work_and_leaves_nothing(#[values(Signal::INT, Signal::TERM, Signal::HUP)] signal: Signal) {
    let desk = Desk::new();
    desk.file("note.txt", b"1");
    File::create(desk.path("large")).unwrap().set_len(20_000_000_000).unwrap();
    let mut command = desk.command(&["pack", "large", "note.txt", "--to", "out/set.zip", "--squeeze", "none"]);
    let child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    while desk.names("out/set.unfinished").len() < 2 {
        std::thread::sleep(Duration::from_millis(5));
    }
    kill_process(Pid::from_child(&child), signal).unwrap();
    let ran = crate::support::Ran::new(child.wait_with_output().unwrap()).expect(130);
    assert!(ran.err.contains("Cancelled. Nothing unfinished is left."), "{}", ran.err);
    assert!(desk.names("out").is_empty());
}

/// The third field of a process's status line (proc(5)): `T` while it is stopped.
fn is_stopped(child: &std::process::Child) -> bool {
    let status = std::fs::read_to_string(format!("/proc/{}/stat", child.id())).unwrap();
    status.rsplit(") ").next().unwrap().starts_with('T')
}

#[test]
fn ctrl_z_stops_the_work_and_fg_goes_on_with_it() {
    let desk = Desk::new();
    File::create(desk.path("large")).unwrap().set_len(200_000_000).unwrap();
    let mut child = desk
        .command(&["pack", "large", "--to", "out/set.zip", "--squeeze", "light"])
        .stdout(Stdio::null())
        .spawn()
        .unwrap();
    while desk.names("out/set.unfinished").len() < 2 {
        std::thread::sleep(Duration::from_millis(2));
    }
    kill_process(Pid::from_child(&child), Signal::TSTP).unwrap();
    while !is_stopped(&child) {
        assert!(child.try_wait().unwrap().is_none(), "it ended instead of stopping");
        std::thread::sleep(Duration::from_millis(2));
    }
    kill_process(Pid::from_child(&child), Signal::CONT).unwrap();
    assert!(child.wait().unwrap().success());
    assert_eq!(desk.names("out"), ["set.zip"]);
}

#[test]
fn a_killed_pack_is_cleared_by_the_next_one() {
    let desk = Desk::new();
    desk.file("note.txt", b"1");
    File::create(desk.path("large")).unwrap().set_len(20_000_000_000).unwrap();
    let mut child = desk.command(&["pack", "large", "--to", "out/set.zip", "--squeeze", "none"]).spawn().unwrap();
    while desk.names("out/set.unfinished").len() < 2 {
        std::thread::sleep(Duration::from_millis(5));
    }
    let second = desk.run(&["pack", "note.txt", "--to", "out/set"]).expect(6);
    assert!(second.err.contains("Another pack of this name is at work"), "{}", second.err);
    child.kill().unwrap();
    child.wait().unwrap();
    assert_eq!(desk.names("out"), ["set.unfinished"]);
    desk.run(&["pack", "note.txt", "--to", "out/set"]).expect(0);
    assert_eq!(desk.names("out"), ["set.useal"]);
}
