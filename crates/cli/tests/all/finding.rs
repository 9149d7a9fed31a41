//! What is found without reading: the screens of help, the words that people try first, topics, completions, the manual, colour.

use crate::support::{Desk, in_a_shell};
use rstest::rstest;
use std::fs;

const COMMANDS: [&str; 26] = [
    "pack",
    "plan",
    "handover",
    "resend",
    "page",
    "open",
    "check",
    "list",
    "peek",
    "about",
    "rehearse",
    "receipt",
    "confirm",
    "compare",
    "revise",
    "recast",
    "relock",
    "mend",
    "portion",
    "reunite",
    "guide",
    "help",
    "fits",
    "demo",
    "completions",
    "manual",
];

/// Every command is in the overview once, under what people want, and its own screen begins with examples and fits.
#[test]
fn the_overview_groups_all_commands_and_each_has_a_screen() {
    let desk = Desk::new();
    let overview = desk.run(&["--help"]).expect(0).out;
    let groups: Vec<&str> = overview.lines().filter(|line| line.starts_with(char::is_uppercase)).skip(1).collect();
    assert_eq!(groups[1..], ["Send", "Receive", "Prove", "Look after", "Plain files", "Help", "Examples"]);
    let listed: Vec<&str> = overview.lines().filter_map(|line| line.strip_prefix("  ")?.split(' ').next()).collect();
    assert_eq!(listed.iter().filter(|word| **word != "under-seal").copied().collect::<Vec<_>>(), COMMANDS);
    assert_eq!(listed.iter().filter(|word| **word == "under-seal").count(), 3);
    for command in COMMANDS {
        let screen = desk.run(&[command, "-h"]).expect(0).out;
        let lines: Vec<&str> = screen.lines().collect();
        assert!(lines[2].starts_with(&format!("  under-seal {command}")), "{screen}");
        assert!(lines.len() <= 34 && lines.iter().all(|line| line.chars().count() <= 80), "{screen}");
        let whole = desk.run(&[command, "--help"]).expect(0).out;
        assert!(whole.contains("\nExamples\n  under-seal ") && whole.contains("\nOutput:\n"), "{whole}");
    }
}

/// The examples of every screen run as they stand, on the demonstration's data.
#[test]
#[cfg_attr(windows, ignore = "it needs a shell of Unix")]
fn the_examples_run() {
    let desk = Desk::with_volumes();
    for (from, to) in [("wrenfall-light/letters", "letters"), ("wrenfall-light/survey", "survey")] {
        in_a_shell(&desk, &format!("cp -a {from} {to}")).expect(0);
    }
    desk.file("minutes.txt", b"The step is mended.").file("survey.tif", &[7; 30_000_000]);
    in_a_shell(&desk, "cp letters/*second* wrenfall-light/letters/keeper.txt && rm -r out").expect(0);
    desk.run(&["pack", "wrenfall-light", "--to", "out/", "--fit", "260KB"]).expect(0);
    desk.run(&["pack", "letters", "--to", "old.zip"]).expect(0);
    desk.file("secret", b"a quite new set of words");
    let mut ran = Vec::new();
    // In an order in which none is in the way of the next.
    for command in [
        "page",
        "plan",
        "check",
        "list",
        "peek",
        "about",
        "rehearse",
        "compare",
        "receipt",
        "handover",
        "open",
        "recast",
        "portion",
        "pack",
        "fits",
        "help",
        "completions",
        "demo",
    ] {
        let screen = desk.run(&[command, "-h"]).expect(0).out;
        for example in screen.lines().filter_map(|line| line.strip_prefix("  under-seal ")) {
            let free = match (command, example) {
                // The whole story takes its time, and a test of its own.
                ("demo", "demo") => continue,
                ("pack", _) => "rm -rf out board.zip;",
                ("demo", _) => "rm -rf wrenfall-light;",
                ("open", _) => "rm -rf inbox;",
                ("check", "check out --ask-password") => continue,
                _ => "",
            };
            let outcome = in_a_shell(&desk, &format!("{free} PROGRAM {example}"));
            assert!(outcome.code == 0, "{example}: {}{}", outcome.out, outcome.err);
            ran.push(example.to_owned());
        }
    }
    assert!(ran.len() >= 25, "{ran:#?}");
}

#[rstest]
#[case(&["extract", "out"], "There is no command `extract`; `open` does that.")]
#[case(&["unpack"], "`open` does that")]
#[case(&["seal"], "`pack` does that")]
#[case(&["encrypt"], "`pack` does that")]
#[case(&["zip"], "`pack` does that")]
#[case(&["compress"], "`pack` does that")]
#[case(&["split"], "`pack --fit SIZE` packs and cuts")]
#[case(&["join"], "`open` joins volumes by itself")]
#[case(&["verify"], "`check --ask-password` does that")]
#[case(&["test"], "`check --ask-password` does that")]
#[case(&["info"], "`about` does that")]
#[case(&["add"], "`revise ARCHIVE --add SOURCE` does that")]
#[case(&["append"], "`revise ARCHIVE --add SOURCE` does that")]
#[case(&["remove"], "`revise ARCHIVE --remove PATTERN` does that")]
#[case(&["cat"], "`peek` does that")]
#[case(&["convert"], "`recast` does that")]
#[case(&["repair"], "`open --salvage` extracts what is whole")]
#[case(&["pakc"], "Did you mean `pack`?")]
#[case(&["out"], "A command comes first, and out is a folder here. `under-seal pack out` packs it")]
#[case(&["pack", "--force", "x"], "`pack` has no option `--force`. `--replace` replaces an older archive")]
#[case(&["pack", "--password", "x"], "A password is never typed on the command line")]
#[case(&["pack", "--squeeze", "max", "x"], "--squeeze does not take `max`. It takes none, light, even, hard or utmost.")]
#[case(&["pack"], "SOURCE is missing. `under-seal pack -h` shows examples.")]
#[case(&["open", "out", "--into"], "it is typed as `--into FOLDER`")]
#[case(&["revise", "out"], "One of --refresh, --remove, --rename, --add, --message or --message-from is missing.")]
#[case(&["pack", "x", "--no-password", "--password-from", "y"], "--no-password and --password-from exclude each other")]
#[case(&["help", "packing"], "There is no help on `packing`.")]
#[case(&["help", "zip"], "There is no command `zip`; `pack` does that.")]
fn what_people_try_first_leads_to_what_does_it(#[case] typed: &[&str], #[case] words: &str) {
    let desk = Desk::new();
    desk.file("out/a", b"1");
    let ran = desk.run(typed).expect(2);
    assert!(ran.err.contains(words) && ran.out.is_empty(), "{}", ran.err);
    // The same for scripts.
    let object = desk.run(&[typed, &["--json"]].concat()).expect(2);
    assert_eq!((object.json("/exit_code"), object.json("/error")), (2.into(), "usage".into()));
}

#[rstest]
#[case("sizes", "7.3 MB")]
#[case("passwords", "--make-passphrase")]
#[case("patterns", "survey/raw")]
#[case("exit-codes", "wrong password")]
#[case("configuration", "[profiles.heritage-board]")]
#[case("json", "exit_code")]
#[case("formats", "AES-256")]
#[case("receiving", "open-me.html")]
#[case("rehearse", "--against")]
#[case("", "Topics, for `under-seal help TOPIC`")]
fn help_explains_commands_and_topics(#[case] about: &str, #[case] words: &str) {
    let desk = Desk::new();
    let typed: Vec<&str> = ["help", about].into_iter().filter(|word| !word.is_empty()).collect();
    let page = desk.run(&typed).expect(0).out;
    assert!(page.contains(words) && !page.contains('\u{1b}'), "{page}");
    assert!(
        desk.run(&[&typed[..], &["--json"]].concat())
            .expect(0)
            .json("/text")
            .as_str()
            .is_some_and(|text| text.len() > 300)
    );
}

#[rstest]
#[case("bash")]
#[case("zsh")]
#[case("fish")]
#[case("powershell")]
#[case("elvish")]
fn a_shell_completes_commands_and_options(#[case] shell: &str) {
    let script = Desk::new().run(&["completions", shell]).expect(0).out;
    assert!(script.contains("rehearse") && script.contains("leave-out"), "{script}");
    if ["bash", "zsh", "fish"].contains(&shell) {
        assert!(script.contains("utmost") && script.contains("mail-25"), "{script}");
    }
}

/// As bash itself does it.
#[rstest]
#[case("pack --squeeze u", "utmost")]
#[case("pack --fit mail-2", "mail-25")]
#[case("reh", "rehearse")]
#[case("open --on-clash n", "newer")]
#[cfg_attr(windows, ignore = "it needs a shell of Unix")]
fn bash_offers_the_words_that_are_taken(#[case] typed: &str, #[case] offered: &str) {
    let desk = Desk::new();
    fs::write(desk.path("completions"), desk.run(&["completions", "bash"]).expect(0).out).unwrap();
    let count = typed.split(' ').count();
    let line = format!(
        "bash -c '. ./completions; COMP_WORDS=(under-seal {typed}); COMP_CWORD={count}; \
         _under__seal under-seal \"${{COMP_WORDS[COMP_CWORD]}}\" \"${{COMP_WORDS[COMP_CWORD-1]}}\"; echo \"${{COMPREPLY[@]}}\"'"
    );
    assert_eq!(in_a_shell(&desk, &line).expect(0).out.trim(), offered);
}

#[test]
fn the_manual_is_written_again_over_itself_and_over_nothing_else() {
    let desk = Desk::new();
    let first = desk.run(&["manual", "--to", "man", "--json"]).expect(0);
    assert_eq!(first.json("/pages").as_array().unwrap().len(), COMMANDS.len() + 1);
    let page = fs::read_to_string(desk.path("man/under-seal-pack.1")).unwrap();
    assert!(page.contains(".TH under-seal-pack 1") && page.contains("leave\\-out"), "{page}");
    desk.run(&["manual", "--to", "man"]).expect(0);
    desk.file("man/under-seal-open.1", b"mine");
    desk.run(&["manual", "--to", "man"]).expect(7);
    assert_eq!(fs::read(desk.path("man/under-seal-open.1")).unwrap(), b"mine");
}

/// Elsewhere than on a terminal there is colour only where it is asked for.
#[rstest]
#[case::no_terminal(&[], &[], false)]
#[case::forced(&[("CLICOLOR_FORCE", "1")], &[], true)]
#[case::both(&[("CLICOLOR_FORCE", "1"), ("NO_COLOR", "1")], &[], false)]
#[case::always(&[("NO_COLOR", "1")], &["--color", "always"], true)]
#[case::never(&[("CLICOLOR_FORCE", "1")], &["--color", "never"], false)]
fn colour_is_as_it_is_wanted(#[case] variables: &[(&str, &str)], #[case] options: &[&str], #[case] colour: bool) {
    let desk = Desk::new();
    let mut command = desk.command(&[&["fits"], options].concat());
    for name in ["NO_COLOR", "CLICOLOR", "CLICOLOR_FORCE"] {
        command.env_remove(name);
    }
    let printed = command.envs(variables.iter().copied()).output().unwrap().stdout;
    assert_eq!(printed.contains(&0x1b), colour);
}

#[rstest]
#[case("5 MB", "5,000,000")]
#[case("5mb", "5,000,000")]
#[case("mail-12", "8,757,255")]
#[case("form-8", "7,995,904")]
fn sizes_are_read_as_people_write_them(#[case] fit: &str, #[case] limit: &str) {
    let desk = Desk::new();
    desk.file("f", &[7; 20_000]);
    let settings = desk.run(&["pack", "f", "--fit", fit, "--show-settings", "--json"]).expect(0);
    assert!(settings.out.contains(&format!("at most {limit} bytes a volume")), "{}", settings.out);
}

/// A size that mailboxes have as their limit is taken as it is, and the mail fit is named.
#[rstest]
#[case("10MB", true)]
#[case("260KB", false)]
#[case("mail-10", false)]
fn a_mailbox_is_thought_of(#[case] fit: &str, #[case] hint: bool) {
    let desk = Desk::new();
    desk.file("f", &[7; 20_000]);
    for command in ["plan", "pack"] {
        let out = desk.run(&[command, "f", "--fit", fit]).expect(0).out;
        assert_eq!(out.contains("a 10 MB mailbox takes volumes of 7.3 MB: --fit mail-10"), hint, "{out}");
    }
}

/// The same failure has the same code and the same words, whatever command meets it.
#[rstest]
#[case::not_there(2, "does not exist. Check the spelling.", &["list nothere", "open nothere", "check nothere", "about nothere", "peek nothere a", "compare nothere a", "receipt nothere", "confirm nothere AB6EP-K08MX-VQSQZ-BWVKQ", "rehearse nothere --against w", "handover nothere --to x", "revise nothere --remove x", "recast nothere --fit 1MB", "recast nothere --as zip", "relock nothere --new-password-from new", "portion nothere --fit 1MB", "reunite nothere", "pack nothere", "plan nothere"])]
#[case::wrong_password(3, "Wrong password.", &["list out", "open out --into x", "check out", "about out", "peek out costs", "compare out wrenfall-light", "receipt out", "rehearse out --against wrenfall-light", "revise out --remove x", "recast out --as zip --to x/", "relock out --new-password-from new", "handover out --to x --password-note note"])]
#[case::missing(4, "missing", &["list part", "open part --into x", "check part", "about part", "peek part costs", "compare part wrenfall-light", "receipt part", "revise part --remove x", "recast part --as zip --to x/", "recast part --one-volume", "relock part --new-password-from new", "handover part --to x"])]
#[cfg_attr(windows, ignore = "it needs a shell of Unix")]
fn a_failure_has_one_code(#[case] code: i32, #[case] words: &str, #[case] lines: &[&str]) {
    let desk = Desk::with_volumes();
    desk.file("new", b"a quite new set of words").file("wrong", b"wrong");
    in_a_shell(&desk, "mkdir part && cp out/*-01of07* part").expect(0);
    for line in lines {
        let more = if code == 3 { " --password-from wrong" } else { "" };
        let ran = in_a_shell(&desk, &format!("PROGRAM {line}{more}"));
        assert_eq!(ran.code, code, "{line}: {}{}", ran.out, ran.err);
        assert!(format!("{}{}", ran.out, ran.err).contains(words), "{line}: {}{}", ran.out, ran.err);
    }
}

/// Whatever word is used for it, help leads to what explains it.
#[rstest]
#[case("password", "# Passwords")]
#[case("key", "# Passwords")]
#[case("size", "# Sizes")]
#[case("fit", "# Sizes")]
#[case("spares", "**Spare volumes.**")]
#[case("parcels", "**Parcels.**")]
#[case("mail", "mail-10")]
#[case("changes", "## Only what has changed")]
#[case("page", "under-seal page")]
#[case("sending", "# Sending")]
fn help_knows_other_words(#[case] word: &str, #[case] explains: &str) {
    let shown = Desk::new().run(&["help", word]).expect(0).out;
    assert!(shown.contains(explains), "{shown}");
}

/// Options that every command has may stand in front of it.
#[rstest]
#[case(&["--color", "never", "list", "out"], 0, "  path")]
#[case(&["--color=never", "--json", "list", "out"], 0, "{\n  \"command\": \"list\"")]
#[case(&["-q", "list", "out"], 0, "wrenfall-light\n")]
#[case(&["--progress", "none", "-v", "plan", "wrenfall-light"], 0, "\n  under-seal pack wrenfall-light\n")]
#[case(&["--fit", "3MB", "pack", "wrenfall-light"], 2, "")]
#[case(&["-q"], 2, "")]
fn options_of_every_command_may_come_first(#[case] line: &[&str], #[case] code: i32, #[case] begins: &str) {
    let ran = Desk::with_volumes().run(line).expect(code);
    assert!(ran.out.contains(begins), "{}", ran.out);
}
