//! Led step by step through a pseudo-terminal: answers, the way back, what each step stands for, and that nothing is written too early.

use crate::support::{Desk, PASSWORD};
use rstest::rstest;
use std::io::{Read as _, Write as _};
use std::process::{Command, Stdio};

/// Runs the program at a terminal. Of each pair, the first is waited for, and then the second is typed.
fn dialogue(desk: &Desk, arguments: &[&str], turns: &[(&str, &str)]) -> (i32, String) {
    on_a_screen(desk, 100, &format!("NO_COLOR=1 PROGRAM {}", arguments.join(" ")), turns)
}

/// The same with a shell's line of one's own, on a screen of so many columns and forty rows.
fn on_a_screen(desk: &Desk, columns: usize, line: &str, turns: &[(&str, &str)]) -> (i32, String) {
    let program = desk.command(&[]).get_program().to_owned().into_string().unwrap();
    // Some shells end with what Ctrl-C ended, others go on: one shell everywhere, and it goes on.
    let line = format!("trap : INT; stty cols {columns} rows 40; {}", line.replace("PROGRAM", &format!("'{program}'")));
    let mut command = Command::new("timeout");
    command.args(["--foreground", "60", "script", "-q", "-e", "-c", &line, "/dev/null"]).current_dir(desk.path("."));
    // What the machine that runs the tests says of colour counts for nothing here.
    for name in ["CI", "NO_COLOR", "CLICOLOR", "CLICOLOR_FORCE"] {
        command.env_remove(name);
    }
    command
        .env_remove("UNDER_SEAL_PASSWORD")
        .env("UNDER_SEAL_DEBUG_CHEAP_KEYS", "1")
        .env("TERM", "xterm")
        .env("SHELL", "/bin/sh");
    command.env("XDG_CONFIG_HOME", desk.path(".settings")).env("XDG_STATE_HOME", desk.path(".state"));
    let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
    let (mut keyboard, mut screen) = (child.stdin.take().unwrap(), child.stdout.take().unwrap());
    let (mut shown, mut seen) = (String::new(), 0);
    for (awaited, typed) in turns {
        let mut bytes = [0; 1024];
        // A question may be broken between words.
        while !shown[seen..].replace('\n', " ").contains(awaited) {
            let count = screen.read(&mut bytes).unwrap();
            assert!(count > 0, "{awaited} never came: {shown}");
            shown.push_str(&String::from_utf8_lossy(&bytes[..count]).replace('\r', ""));
        }
        seen += shown[seen..].replace('\n', " ").find(awaited).unwrap() + awaited.len();
        keyboard.write_all(format!("{typed}\n").as_bytes()).unwrap();
    }
    let mut rest = Vec::new();
    screen.read_to_end(&mut rest).unwrap();
    shown.push_str(&String::from_utf8_lossy(&rest).replace('\r', ""));
    (child.wait().unwrap().code().unwrap(), shown)
}

/// A sender who goes back once, and takes what is sensible for the rest.
const SENDING: [(&str, &str); 12] = [
    ("(Enter means send): ", ""),
    ("its name has spaces: ", "wrenfall-light"),
    ("(Enter means mail): ", "20MB"),
    ("(Enter means nothing): ", "b"),
    ("(Enter means mail): ", ""),
    ("(Enter means nothing): ", ""),
    ("(Enter means password): ", ""),
    ("(Enter means wrenfall-light-packed): ", ""),
    ("(Enter means wrenfall-light-to-send): ", ""),
    ("(Enter means yes): ", ""),
    ("Password: ", PASSWORD),
    ("The same again: ", PASSWORD),
];

#[test]
fn a_sender_is_led_to_a_folder_that_can_be_sent() {
    let desk = Desk::new();
    desk.run(&["demo", "--data-to", "."]).expect(0);
    let turns = [&SENDING[..], &[("Password: ", PASSWORD)]].concat();
    let (code, shown) = dialogue(&desk, &["guide"], &turns);
    assert_eq!(code, 0, "{shown}");
    // Each step shows what it stands for; going back changed the fit.
    assert!(shown.contains("under-seal pack wrenfall-light --fit 20MB\n"), "{shown}");
    assert!(shown.contains("The recipient can open it: 1 volume was delivered by mail"), "{shown}");
    assert!(desk.names("wrenfall-light-to-send").contains(&"how-to-open.txt".to_owned()));
    // The script at the end does the same once more.
    let script = shown.split("The same as a script:").nth(1).unwrap().trim().to_owned();
    assert_eq!(script.lines().filter(|line| line.starts_with("under-seal ")).count(), 3, "{script}");
    std::fs::rename(desk.path("wrenfall-light-packed"), desk.path("first")).unwrap();
    std::fs::rename(desk.path("wrenfall-light-to-send"), desk.path("first-to-send")).unwrap();
    let script = script.replace("under-seal ", "PROGRAM ");
    crate::support::in_a_shell(&desk, &script).expect(0);
    assert_eq!(desk.names("wrenfall-light-to-send"), desk.names("first-to-send"));
}

/// Up to the last yes nothing is written, whoever gives up when and how.
#[rstest]
#[case::at_the_end("q")]
#[case::with_ctrl_c("\u{3}")]
fn nothing_is_written_before_the_last_yes(#[case] answer: &str) {
    let desk = Desk::new();
    desk.run(&["demo", "--data-to", "."]).expect(0);
    let before = desk.names(".");
    let mut turns = SENDING[..10].to_vec();
    turns[9].1 = answer;
    let (code, shown) = dialogue(&desk, &["guide"], &turns);
    assert!(code == 130 && desk.names(".") == before, "{code}: {shown}");
}

/// What cannot be read leaves the archive incomplete: nothing goes to the recipient without a yes, nor after a rehearsal that fails.
#[rstest]
#[case::given_up(&[("Go on with it all the same?", "")])]
#[case::gone_on_with(&[("Go on with it all the same?", "y"), ("Password: ", PASSWORD)])]
fn nothing_incomplete_is_handed_over_unasked(#[case] answers: &[(&str, &str)]) {
    let desk = Desk::new();
    desk.run(&["demo", "--data-to", "."]).expect(0);
    crate::support::in_a_shell(&desk, "mkfifo wrenfall-light/pipe").expect(0);
    let (code, shown) = dialogue(&desk, &["guide"], &[&SENDING[..], answers].concat());
    let ends = if answers.len() == 1 { "Nothing was rehearsed" } else { "The same as a script" };
    assert!(shown.contains(ends) || shown.contains("The rehearsal failed"), "{code}: {shown}");
    assert_eq!(desk.path("wrenfall-light-to-send").exists(), shown.contains("The same as a script"), "{shown}");
}

/// A recipient whose settings are stored, and whose usual format is another.
#[test]
fn a_stored_recipient_is_sent_to() {
    let desk = Desk::new();
    let settings = b"[profiles.heritage-board]\nfit = \"mail-10\"\nformat = \"zip\"\n";
    desk.file(".settings/under-seal/config.toml", settings).file("notes/a", b"1");
    let turns = [
        ("(Enter means send): ", ""),
        ("its name has spaces: ", "notes"),
        ("heritage-board), or choose", "heritage-board"),
        ("(Enter means nothing): ", ""),
        ("(Enter means password): ", "n"),
        ("-packed): ", ""),
        ("-to-send): ", ""),
        ("(Enter means yes): ", ""),
    ];
    let (code, shown) = dialogue(&desk, &["guide"], &turns);
    assert!(code == 0 && shown.contains("--for heritage-board --as sealed --no-password"), "{shown}");
    assert!(desk.names("notes-to-send").contains(&"notes.useal".to_owned()));
}

/// What is not there, and what is no size, is told, and asked again.
#[test]
fn a_slip_is_told_and_asked_again() {
    let desk = Desk::new();
    desk.file("notes/a b.txt", b"1").file("taken/x", b"1");
    let turns = [
        ("(Enter means send): ", "s"),
        ("its name has spaces: ", "nothing"),
        ("its name has spaces: ", "'notes/a b.txt"),
        ("its name has spaces: ", "'notes/a b.txt'"),
        ("(Enter means mail): ", "5M"),
        ("(Enter means mail): ", "w"),
        ("(Enter means nothing): ", "z"),
        ("(Enter means password): ", "n"),
        ("-packed): ", "taken"),
        ("-to-send): ", ""),
        ("-packed): ", "work"),
        ("-to-send): ", "send"),
        ("(Enter means yes): ", "perhaps"),
        ("(Enter means yes): ", "y"),
    ];
    let (code, shown) = dialogue(&desk, &["guide"], &turns);
    assert_eq!(code, 0, "{shown}");
    for told in ["nothing is not there", "A quote has no end", "M can be read in two ways", "taken is there already"] {
        assert!(shown.contains(told), "{told}: {shown}");
    }
    assert!(desk.names("send").contains(&"a b.txt.zip".to_owned()), "{:?}", desk.names("send"));
}

/// A recipient to whom one volume comes later.
#[rstest]
#[case::again("a", 0)]
#[case::what_is_whole("s", 4)]
fn a_recipient_is_led_to_the_files(#[case] answer: &str, #[case] code: i32) {
    let desk = Desk::with_volumes();
    std::fs::rename(desk.volume(3), desk.path("late")).unwrap();
    let missing = "(Enter means again): ";
    let mut turns = vec![("(Enter means commands): ", "o"), ("(Enter means .): ", "out"), (missing, answer)];
    if answer == "a" {
        turns.extend([(missing, "b"), ("(Enter means .): ", "out late")]);
    }
    turns.extend([
        ("(Enter means none): ", ""),
        ("(Enter means opened): ", "in"),
        ("(Enter means yes): ", ""),
        ("Password: ", PASSWORD),
    ]);
    if answer == "a" {
        turns.extend([("Make it now? [y]es, [n]o (Enter means no): ", "y"), ("Password: ", PASSWORD)]);
    }
    let (exit, shown) = dialogue(&desk, &[], &turns);
    assert_eq!(shown.contains("The receipt is made"), answer == "a", "{shown}");
    assert_eq!(exit, code, "{shown}");
    assert!(shown.contains("volume 3") && desk.path("in/wrenfall-light/letters").is_dir(), "{shown}");
}

/// Ctrl-C under a bar is not shown, since that would leave a line of the bar behind; and the terminal is as it was afterwards.
#[test]
fn ctrl_c_leaves_no_line_of_the_bar() {
    let desk = Desk::new();
    desk.file("secret", PASSWORD.as_bytes());
    std::fs::File::create(desk.path("large")).unwrap().set_len(20_000_000_000).unwrap();
    let pack =
        ["pack", "large", "--to", "out/large.zip", "--squeeze", "none", "--password-from", "secret", "; stty -a"];
    let (_, shown) = dialogue(&desk, &pack, &[("B/s", "\u{3}")]);
    let (drawn, after) = shown.split_once("Cancelled. Nothing unfinished is left.").unwrap();
    assert!(!drawn.contains("^C") && after.contains(" echoctl"), "{shown}");
}

/// Nothing that is printed is wider than the screen, and no bar and no heading is torn.
#[rstest]
#[case::check(&["check", "out"], "intact")]
#[case::plan(&["plan", "wrenfall-light", "--every-squeeze", "--fit", "260KB"], "photographs")]
#[case::list(&["list", "out", "--long", "--password-from", "secret"], "first design.svg")]
#[case::pack(&["pack", "wrenfall-light/letters", "--to", "again/", "--password-from", "secret"], "letters.useal")]
#[case::rehearse(&["rehearse", "out", "--against", "wrenfall-light", "--password-from", "secret"], "verdict")]
#[case::fits(&["fits"], "24,215,814,144")]
#[case::suggested(&["plan", "wrenfall-light", "--leave-out", "'*.tmp'", "--only", "survey", "--fit", "mail-10"], "under-seal pack")]
fn what_is_printed_fits_the_screen(#[values(60, 80, 132)] columns: usize, #[case] typed: &[&str], #[case] words: &str) {
    let desk = Desk::with_volumes();
    desk.file("secret", PASSWORD.as_bytes());
    let line = format!("NO_COLOR=1 PROGRAM {} --progress none", typed.join(" "));
    let (_, shown) = on_a_screen(&desk, columns, &line, &[]);
    let wide: Vec<&str> = shown.lines().filter(|line| line.chars().count() > columns).collect();
    assert!(wide.is_empty() && shown.contains(words), "{wide:#?}\n{shown}");
    // A command that is broken can be typed as it stands.
    let broken = shown.split("Next: pack it with\n").nth(1).filter(|_| columns == 60 && words == "under-seal pack");
    if let Some(suggested) = broken {
        let again = format!("{} --to s/ --no-password", suggested.trim().replace("under-seal", "PROGRAM"));
        assert!(suggested.contains(" \\\n"), "{suggested}");
        crate::support::in_a_shell(&desk, &again).expect(1);
    }
}

/// A long page goes through the pager that is wished, and a terminal that can do nothing gets no colour.
#[test]
fn a_page_is_read_as_the_terminal_can() {
    let desk = Desk::new();
    on_a_screen(&desk, 80, "export PAGER='cat >paged'; PROGRAM help json", &[]);
    let paged = std::fs::read_to_string(desk.path("paged")).unwrap();
    assert!(paged.contains("exit_code") && paged.lines().count() > 100, "{paged}");
    for (line, colour) in
        [("PROGRAM fits", true), ("TERM=dumb PROGRAM fits", false), ("CLICOLOR=0 PROGRAM fits", false)]
    {
        let (_, shown) = on_a_screen(&desk, 80, line, &[]);
        assert_eq!(shown.contains("\u{1b}["), colour, "{line}: {shown:?}");
    }
}

/// Where nobody can be asked, the bare program shows its commands and the guide says so.
#[test]
fn without_a_terminal_nobody_is_led() {
    let desk = Desk::new();
    assert!(desk.run(&["guide"]).expect(2).err.contains("on a terminal"));
    assert!(desk.run(&[]).expect(2).out.contains("Look after"));
}
