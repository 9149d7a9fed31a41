//! Standard input and output in the place of files: what is packed, lists of paths, passwords, archives, and what comes out of them.

use crate::support::{Desk, PASSWORD, in_a_shell};
use rstest::rstest;
use std::fs;

/// What no other program could have made shorter.
fn noise(bytes: usize) -> Vec<u8> {
    (0..bytes as u64).map(|number| (number.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 56) as u8).collect()
}

/// Something of unknown length is one file, in whatever format, and alone or beside others.
#[rstest]
#[case::sealed("--to out/")]
#[case::volumes("--to out/ --fit 200KB")]
#[case::page("--to out/a.html")]
#[case::zip("--to out/a.zip")]
#[case::zip_with_hidden_names("--to out/a.zip --hide-names")]
#[case::slow("--to out/ --squeeze hard")]
#[cfg_attr(windows, ignore = "it needs a shell of Unix")]
fn a_stream_is_packed(
    #[case] options: &str,
    #[values(0, 700_000)] bytes: usize,
    #[values("", "beside ")] beside: &str,
) {
    let desk = Desk::new();
    desk.file("noise", &noise(bytes)).file("beside/letter", b"lit");
    let name = if beside.is_empty() { "" } else { "--name both" };
    let name = if options.contains("a.") { "" } else { name };
    let line = format!("cat noise | PROGRAM pack {beside}- {options} {name} --entry-name 'dumps/of today'");
    in_a_shell(&desk, &line).expect(0);
    desk.run(&["open", "out", "--into", "in", "--folder", "never"]).expect(0);
    assert!(fs::read(desk.path("in/dumps/of today")).unwrap() == noise(bytes));
    assert_eq!(desk.path("in/beside/letter").is_file(), !beside.is_empty());
}

/// An archive that comes through standard input is read like a file, and nothing of it stays.
#[rstest]
#[case::sealed("--to -")]
#[case::page("--to a.html")]
#[case::zip("--to a.zip")]
#[case::tar("--to a.tar --no-password")]
#[case::compressed_tar("--to a.tar.gz --no-password")]
#[cfg_attr(windows, ignore = "it needs a shell of Unix")]
fn an_archive_that_is_piped_in_is_read(#[case] packed: &str) {
    let desk = Desk::new();
    desk.file("box/letter", b"lit");
    fs::create_dir(desk.path("temporary")).unwrap();
    in_a_shell(&desk, &format!("PROGRAM pack box {packed} > piped; if test -e a.*; then mv a.* piped; fi")).expect(0);
    let program = "export TMPDIR=temporary; PROGRAM";
    let accepted = if packed.contains("no-password") { "--accept-no-password" } else { "" };
    for command in ["check", "list", "open"] {
        let into = if command == "open" { "--into in" } else { "" };
        let ran = in_a_shell(&desk, &format!("{program} {command} - {into} {accepted} < piped")).expect(0);
        assert!(ran.err.contains("kept in a private file while this runs"), "{}", ran.err);
        assert!(
            command != "check"
                || packed.contains("no-password")
                || ran.out.contains("  under-seal open - --into opened\n"),
            "{}",
            ran.out
        );
    }
    let found = in_a_shell(&desk, "find in -name letter | xargs cat").expect(0).out;
    assert_eq!((found.as_str(), desk.names("temporary")), ("lit", vec![]));
    // What comes through it is the archive, and no password beside that.
    let both = in_a_shell(&desk, &format!("{program} open - --password-from - --into again < piped"));
    both.expect(if accepted.is_empty() { 2 } else { 5 });
}

/// What cannot be is refused before anything is read or written, with what can.
#[rstest]
#[case::tar("pack - --as tar --no-password", 2, "unknown length")]
#[case::planned("plan -", 2, "only once")]
#[case::parcels("pack - --parcels --fit 1MB", 2, "only once")]
#[case::twice("pack - -", 2, "only once")]
#[case::password_too("pack - --password-from -", 2, "only once")]
#[case::climbing_name("pack - --entry-name ../a", 2, "cannot be a path in an archive")]
#[case::same_name("pack beside - --entry-name beside/letter --name a", 2, "have the same name")]
#[case::below_a_file("pack beside - --entry-name beside/letter/a --name a", 2, "have the same name")]
#[case::several_out("pack beside --to - --fit 20KB", 2, "takes one file")]
#[case::empty_list("pack --paths-from -", 2, "names no paths")]
#[case::listed_and_missing("pack --paths-from beside/list --name a", 2, "nowhere")]
#[cfg_attr(windows, ignore = "it needs a shell of Unix")]
fn what_cannot_stream_is_refused(#[case] line: &str, #[case] code: i32, #[case] words: &str) {
    let desk = Desk::new();
    desk.file("beside/letter", b"lit").file("beside/list", b"nowhere\n");
    let ran = in_a_shell(
        &desk,
        &format!(": | PROGRAM {line} --to out/").replace("--to - --fit 20KB --to out/", "--to - --fit 20KB"),
    )
    .expect(code);
    assert!(ran.err.contains(words) && ran.out.is_empty(), "{}", ran.err);
    assert!(!desk.path("out").exists());
}

/// Paths from a list keep their folders; with NULs between them, names may hold line breaks.
#[rstest]
#[case::lines("printf 'a/one\\nb/one\\n'", "", &["a/one", "b/one"])]
#[case::from_a_search("find a b -type f -print0", "-0", &["a/line\nbreak", "a/one", "b/one"])]
#[cfg_attr(windows, ignore = "it needs a shell of Unix")]
fn sources_come_from_a_list(#[case] lists: &str, #[case] option: &str, #[case] expected: &[&str]) {
    let desk = Desk::new();
    desk.file("a/one", b"1").file("a/line\nbreak", b"2").file("b/one", b"3");
    in_a_shell(&desk, &format!("{lists} | PROGRAM pack --paths-from - {option} --name list --to out/")).expect(0);
    let listed = in_a_shell(&desk, "PROGRAM list out -0").expect(0).out;
    let files: Vec<&str> = listed.split('\0').filter(|path| path.contains('/')).collect();
    assert_eq!(files, expected);
    // A list in a file gives the same.
    in_a_shell(&desk, &format!("{lists} > list; PROGRAM plan --paths-from list {option}")).expect(0);
}

/// An archive goes out whole and verified, and comes out as a tar archive or as its file; what is cut off does not pass.
#[test]
#[cfg_attr(windows, ignore = "it needs a shell of Unix")]
fn archives_and_contents_go_out() {
    let desk = Desk::with_volumes();
    let piped = in_a_shell(&desk, "PROGRAM pack wrenfall-light --to - > sent.useal").expect(0);
    assert!(piped.err.contains("packed and verified") && piped.out.is_empty(), "{}", piped.err);
    desk.run(&["compare", "sent.useal", "wrenfall-light"]).expect(0);
    // Nothing else goes there, whatever becomes of it.
    let failed = in_a_shell(&desk, "PROGRAM pack nowhere --to - --json").expect(2);
    assert!(failed.err.contains("nowhere") && failed.out.is_empty(), "{}{}", failed.out, failed.err);
    let told = in_a_shell(&desk, "PROGRAM pack wrenfall-light/letters --to - --json 2>&1 >one.useal").expect(0);
    assert_eq!(told.json("/volumes/0/path"), "-");
    in_a_shell(&desk, "mkdir tar && PROGRAM open out --to-stdout --as tar | tar -x -C tar && diff -r --no-dereference tar/wrenfall-light wrenfall-light").expect(0);
    let one = in_a_shell(&desk, "PROGRAM open out about-this-dossier.txt --to-stdout -q").expect(0);
    assert_eq!(one.out, fs::read_to_string(desk.path("wrenfall-light/about-this-dossier.txt")).unwrap());
    let several = in_a_shell(&desk, "PROGRAM open out --to-stdout | cat").expect(0);
    assert!(several.err.contains("--as tar") && several.out.is_empty(), "{}", several.err);
    // Whoever gets a part only finds that out.
    in_a_shell(&desk, "PROGRAM pack wrenfall-light --to - -q | head -c 300000 > cut.useal").expect(0);
    desk.run(&["check", "cut.useal"]).expect(5);
    desk.flip(&desk.volume(3), 100_000);
    in_a_shell(&desk, "PROGRAM open out --to-stdout --as tar > cut.tar").expect(5);
    desk.run(&["open", "cut.tar", "--into", "in"]).expect(5);
}

/// A password comes through standard input or a descriptor, and an archive goes out where nobody can see it typed.
#[rstest]
#[case::standard_input("--password-from - < secret")]
#[case::descriptor("--password-fd 7 7< secret")]
#[cfg_attr(windows, ignore = "it needs a shell of Unix")]
fn a_password_comes_in(#[case] way: &str) {
    let desk = Desk::with_volumes().with_password(false);
    desk.file("secret", PASSWORD.as_bytes()).file("wrong", b"another one");
    for command in
        ["check out", "list out", "rehearse out --against wrenfall-light", "compare out wrenfall-light", "receipt out"]
    {
        in_a_shell(&desk, &format!("PROGRAM {command} {way}")).expect(0);
        in_a_shell(&desk, &format!("PROGRAM {command} {}", way.replace("secret", "wrong"))).expect(3);
    }
    in_a_shell(&desk, &format!("PROGRAM pack wrenfall-light/letters --to again/ {way}")).expect(0);
}

/// While nothing comes, the wish to stop is heard all the same, and nothing is left.
#[cfg(unix)] // by a signal
#[test]
fn waiting_for_what_comes_can_be_stopped() {
    let desk = Desk::new();
    let mut command = desk.command(&["pack", "-", "--to", "out/"]);
    let mut child = command.stdin(std::process::Stdio::piped()).stderr(std::process::Stdio::piped()).spawn().unwrap();
    // Held open, so that no end comes.
    let _input = child.stdin.take().unwrap();
    while desk.names("out").is_empty() {
        std::thread::yield_now();
    }
    let process = rustix::process::Pid::from_child(&child);
    rustix::process::kill_process(process, rustix::process::Signal::TERM).unwrap();
    let ran = crate::support::Ran::new(child.wait_with_output().unwrap());
    assert!(ran.err.contains("Cancelled"), "{}", ran.err);
    assert_eq!(desk.names("out"), Vec::<String>::new());
}
