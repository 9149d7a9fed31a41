//! Bad input: the right exit code, words that name the thing and the way out, and nothing lost.

#[cfg(unix)]
use crate::support::system::set_mode;
use crate::support::system::{as_written, is_private, symlink};
use crate::support::{Desk, Ran, in_a_shell};
use rstest::rstest;
use std::fs;
use std::process::Command;

#[rstest]
#[case::no_such_source(&["pack", "wrenfal-light"], 2, "does not exist. Beside it there is: wrenfall-light.")]
#[case::fit_too_small(&["pack", "wrenfall-light", "--fit", "12KB"], 2, "at least 12,288 bytes")]
#[case::fit_read_in_two_ways(&["pack", "wrenfall-light", "--fit", "5M"], 2, "5MB for 5,000,000 bytes or 5MiB for 5,242,880")]
#[case::no_name(&["pack", "wrenfall-light", "out"], 2, "--to NAME")]
#[case::one_name_twice(&["pack", "out", "wrenfall-light/../out", "--to", "x"], 2, "the same name inside")]
#[case::taken(&["pack", "wrenfall-light", "--to", "out"], 6, "With --replace it would be gone")]
#[case::target_below_a_file(&["pack", "wrenfall-light", "--to", "note.txt/x"], 7, "is not a folder")]
#[case::no_such_volume(&["check", "out/wrenfall-light-01of08.useal"], 2, "does not exist. Beside it there is: wrenfall-light-01of07.useal")]
#[cfg_attr(windows, ignore = "there are no links")]
#[case::link_to_nowhere(&["pack", "dangling"], 2, "is a link that leads nowhere")]
#[case::folder_in_pieces(&["portion", "out", "--fit", "9KB"], 2, "Pack and cut it in one step with\n  under-seal pack out --fit 9KB")]
#[case::years(&["reunite", "levels_2030.csv"], 2, "is not one of several pieces")]
#[case::piece(&["check", "lamp.001"], 2, "looks like one of several pieces of a file. Join them first with\n  under-seal reunite lamp.001")]
#[case::endless_salvage(&["open", "--watch", "out", "--salvage"], 2, "Add --for TIME")]
#[case::no_volume(&["open", "note.txt"], 2, "is not an Under Seal volume")]
#[case::no_volume_in_folder(&["check", "wrenfall-light"], 2, "no Under Seal volume in")]
#[case::no_password_file(&["check", "out", "--password-from", "pasword"], 2, "pasword cannot be read: it is not there")]
#[case::empty_password(&["check", "out", "--password-from", "empty"], 2, "The password is empty")]
#[case::wrong_password(&["open", "out", "--password-from", "note.txt"], 3, "Wrong password. The volumes' headers are undamaged")]
#[case::in_the_way(&["open", "out"], 6, "Nothing was extracted")]
fn each_gets_its_words_and_its_exit_code(#[case] arguments: &[&str], #[case] code: i32, #[case] words: &str) {
    let desk = Desk::with_volumes();
    desk.file("note.txt", b"not the password").file("empty", b"");
    for name in ["levels_2029.csv", "levels_2030.csv", "lamp.001", "lamp.002"] {
        desk.file(name, b"1");
    }
    symlink("nowhere", desk.path("dangling"));
    let before = (desk.names("."), desk.names("out"), desk.names("wrenfall-light"));
    let ran = desk.run(arguments).expect(code);
    assert!(ran.err.contains(words) || ran.err.replace("\n  ", " ").contains(words), "{}", ran.err);
    assert_eq!((desk.names("."), desk.names("out"), desk.names("wrenfall-light")), before);
}

/// An opening names all that is wrong at once, with a slip that asks for all of it.
#[rstest]
#[case::missing(&[3], &[], 4, "Volume 3 of 7 is missing")]
#[case::missing_and_damaged(&[3], &[5, 6], 4, "Volumes 5 and 6 are damaged too. This resend slip")]
#[case::damaged(&[], &[5], 5, "Volume 5 (out")]
#[case::two_damaged(&[], &[5, 6], 5, "Volume 6 is damaged too. This resend slip")]
fn an_opening_tells_all_that_is_wrong(
    #[case] missing: &[u32],
    #[case] damaged: &[u32],
    #[case] code: i32,
    #[case] words: &str,
) {
    let desk = Desk::with_volumes();
    fs::create_dir(desk.path("sent")).unwrap();
    for number in 1..=7 {
        fs::copy(desk.volume(number), desk.path("sent").join(desk.volume(number).file_name().unwrap())).unwrap();
    }
    for number in missing {
        fs::remove_file(desk.volume(*number)).unwrap();
    }
    for number in damaged {
        let mut bytes = fs::read(desk.volume(*number)).unwrap();
        bytes[100_000] ^= 1;
        fs::write(desk.volume(*number), bytes).unwrap();
    }
    let told = desk.run(&["open", "out", "--into", "in"]).expect(code).err.replace("\n  ", " ");
    assert!(told.contains(words) && told.contains("--salvage extracts what is whole"), "{told}");
    let (_, slip) = told.split_once("what is needed: ").unwrap();
    let slip = slip.split(['.', ' ']).next().unwrap();
    desk.run(&["resend", "sent", slip, "--to", "again"]).expect(0);
    desk.run(&["open", "out", "again", "--into", "in"]).expect(0);
}

/// What happens to volumes on their way, what check then says, and whether it can be opened.
#[rstest]
#[case::missing(|desk: &Desk| fs::remove_file(desk.volume(3)).unwrap(), 4, "volume 3 is missing", 4)]
#[case::several_missing(|desk: &Desk| for n in [2, 5, 6, 7] { fs::remove_file(desk.volume(n)).unwrap() }, 4, "volumes 2 and 5 to 7 are missing", 4)]
#[case::cut_short(|desk: &Desk| fs::File::options().write(true).open(desk.volume(3)).unwrap().set_len(100_000).unwrap(), 5, "cut short: 100,000 of 259,840 bytes", 5)]
#[case::flipped_byte(|desk: &Desk| { desk.flip(&desk.volume(3), 70_000); }, 5, "damaged: bytes 68,032 to 131,967", 5)]
#[case::header_flipped(|desk: &Desk| { desk.flip(&desk.volume(3), 700); }, 1, "header damaged, contents intact", 0)]
#[case::emptied(|desk: &Desk| fs::write(desk.volume(3), b"").unwrap(), 4, "too damaged to say which volume it is", 4)]
#[case::bytes_behind_the_end(|desk: &Desk| fs::write(desk.volume(3), [fs::read(desk.volume(3)).unwrap(), b"--\r\n".to_vec()].concat()).unwrap(), 0, "4 bytes behind its end", 0)]
#[case::copy_beside(|desk: &Desk| { fs::copy(desk.volume(3), desk.path("out/dossier (1).useal")).unwrap(); desk.flip(&desk.volume(3), 70_000); }, 1, "everything needed can be read", 0)]
#[case::copy_with_a_damaged_header(|desk: &Desk| { fs::copy(desk.volume(3), desk.path("out/copy.bin")).unwrap(); desk.flip(&desk.path("out/copy.bin"), 700); }, 1, "header damaged, contents intact", 0)]
#[case::renamed(|desk: &Desk| fs::rename(desk.volume(3), desk.path("out/ATT00003.bin")).unwrap(), 0, "ATT00003.bin", 0)]
fn a_way_with_accidents(
    #[case] accident: fn(&Desk),
    #[case] check_code: i32,
    #[case] words: &str,
    #[case] open_code: i32,
) {
    let desk = Desk::with_volumes();
    accident(&desk);
    let checked = desk.run(&["check", "out"]).expect(check_code);
    assert!(checked.out.contains(words), "{}", checked.out);
    desk.run(&["open", "out/wrenfall-light-01of07.useal", "--into", "inbox"]).expect(open_code);
    let whole = desk.path("inbox/wrenfall-light/survey/raw/scan-south.pts").exists();
    assert_eq!(whole, open_code == 0);
    let half: Vec<_> = walk(&desk, "inbox").into_iter().filter(|path| path.contains(".arriving")).collect();
    assert!(half.is_empty(), "{half:?}");
}

/// The journal of a placing was once carried out whoever wrote it, and an archive can bring one.
#[rstest]
#[case::deleting("set-aside \nend\n")]
#[case::exchanging("place 1 \nend\n")]
#[case::as_it_is_now("set-aside 5 0 0 \nplace 1 -x\nproof 00000000000000000000000000000000\n")]
fn steps_that_no_run_of_the_user_wrote_are_not_carried_out(#[case] steps: &str) {
    let desk = Desk::new();
    let head = "Under Seal was placing these files. Run the same command again, and it completes this.\n";
    desk.file("r.pdf", b"work\n").file("r.pdf.unfinished/in-use", b"").file("r.pdf.unfinished/volume-00001", b"theirs");
    desk.file("r.pdf.unfinished/steps", format!("{head}{steps}").as_bytes());
    let here = || walk(&desk, ".").into_iter().filter(|path| !path.starts_with("./.state")).collect::<Vec<_>>();
    let before = here();
    for command in [&["pack", "r.pdf", "--no-password"][..], &["portion", "r.pdf", "--fit", "64KB"]] {
        let refused = desk.run(command).expect(6);
        assert!(refused.err.replace("\n  ", " ").contains("r.pdf.unfinished is in the way"), "{}", refused.err);
        assert_eq!((here(), fs::read(desk.path("r.pdf")).unwrap()), (before.clone(), b"work\n".to_vec()));
    }
}

/// Without a place for the user's key, everything works; only leftovers of killed runs are then known to nobody.
#[test]
fn the_users_key_is_kept_for_the_user_alone_and_is_not_needed() {
    let desk = Desk::new();
    desk.file("note.txt", b"1").file("no-folder", b"");
    let mut homeless = desk.command(&["pack", "note.txt", "--to", "out/"]);
    Ran::new(homeless.env("XDG_STATE_HOME", desk.path("no-folder")).output().unwrap()).expect(0);
    desk.run(&["open", "out", "--into", "in"]).expect(0);
    let key = desk.path(".state/under-seal/owner-key");
    let first = fs::read(&key).unwrap();
    assert_eq!((first.len(), is_private(&key)), (32, true));
    desk.run(&["open", "out", "--into", "again"]).expect(0);
    assert_eq!(fs::read(&key).unwrap(), first);
}

#[test]
fn a_map_shows_where_damage_lies() {
    let desk = Desk::with_volumes();
    fs::remove_file(desk.volume(2)).unwrap();
    desk.flip(&desk.volume(3), 70_000);
    let mapped = desk.run(&["check", "out", "--map"]).expect(4).out;
    for strip in [
        format!("  1  {}\n", "─".repeat(60)),
        format!("  2  {}\n", "·".repeat(60)),
        format!("  3  {}{}{}\n", "─".repeat(15), "█".repeat(16), "─".repeat(29)),
    ] {
        assert!(mapped.contains(&strip), "{mapped}");
    }
    // The last volume is shorter, and its strip too.
    let last = mapped.lines().find(|line| line.starts_with("  7  ─")).unwrap();
    assert!((20..40).contains(&last.chars().filter(|sign| *sign == '─').count()), "{mapped}");
    assert!(mapped.contains("a sign is 4.3 KB"), "{mapped}");
}

fn walk(desk: &Desk, folder: &str) -> Vec<String> {
    let names = desk.names(folder).into_iter().map(|name| format!("{folder}/{name}"));
    names.flat_map(|path| [vec![path.clone()], walk(desk, &path)].concat()).collect()
}

/// Whoever has the volumes can write any cost into a header and make its check right again.
#[test]
fn a_costly_header_is_refused_unless_it_is_allowed() {
    let desk = Desk::new();
    desk.file("note.txt", b"1");
    desk.run(&["pack", "note.txt"]).expect(0);
    let path = desk.path("note.txt.useal");
    let mut bytes = fs::read(&path).unwrap();
    // docs/format.md: the passes over the memory, and the header's check.
    bytes[136..140].copy_from_slice(&40_u32.to_le_bytes());
    let check = blake3::hash(&bytes[..4064]);
    bytes[4064..4096].copy_from_slice(check.as_bytes());
    fs::write(path, bytes).unwrap();
    let refused = desk.run(&["open", "note.txt.useal", "--into", "in"]).expect(6).err.replace("\n  ", " ");
    assert!(refused.contains("1 MiB of memory and 40 passes") && refused.contains("--allow-costly-key"), "{refused}");
    let allowed = desk.run(&["open", "note.txt.useal", "--into", "in", "--allow-costly-key"]).expect(3).err;
    assert!(allowed.contains("Unlocking takes 1 MiB of memory and 40 passes over it."), "{allowed}");
}

#[test]
fn damage_is_told_from_tampering_and_json_errors_carry_the_exit_code() {
    let desk = Desk::with_volumes();
    desk.flip(&desk.volume(3), 70_000);
    let ran = desk.run(&["open", "out", "--into", "inbox", "--json"]).expect(5);
    assert_eq!((ran.json("/exit_code"), ran.json("/error")), (5.into(), "damaged".into()));
    assert!(ran.err.contains("Volume 3") && ran.err.contains("at byte 68,032"), "{}", ran.err);
}

#[test]
fn two_sets_in_one_folder_are_named_and_one_volume_chooses() {
    let desk = Desk::with_volumes();
    desk.file("other.txt", b"other");
    desk.run(&["pack", "other.txt", "--to", "out/"]).expect(0);
    let ran = desk.run(&["open", "out", "--into", "inbox"]).expect(2);
    assert!(ran.err.contains("2 archives") && ran.err.contains(&as_written("out/other.txt.useal")), "{}", ran.err);
    desk.run(&["open", "out/other.txt.useal", "out", "--into", "inbox"]).expect(0);
    assert_eq!(desk.names("inbox"), ["other.txt"]);
    desk.run(&["pack", "other.txt", "--to", "alone/"]).expect(0);
    desk.run(&["list", "out/other.txt.useal", "alone"]).expect(2);
    let checked = desk.run(&["check", "out/other.txt.useal", "alone"]).expect(0);
    assert!(
        checked.out.contains("Both archives are whole") && checked.out.contains(&as_written("(alone/other.txt.useal)")),
        "{}",
        checked.out
    );
}

#[test]
fn a_volume_moved_as_text_is_recognised() {
    let desk = Desk::with_volumes();
    let bytes = fs::read(desk.volume(1)).unwrap();
    let text: Vec<u8> = bytes.iter().copied().filter(|byte| *byte != b'\r').collect();
    desk.file("alone/volume", &text);
    let ran = desk.run(&["check", "alone/volume"]).expect(5);
    assert!(ran.err.contains("as if it were text"), "{}", ran.err);
}

#[test]
fn without_a_terminal_nobody_is_asked() {
    let desk = Desk::new();
    desk.file("a", b"1");
    let ran = desk.run_bare(&["pack", "a"]).expect(2);
    assert!(ran.err.contains("--password-from FILE"), "{}", ran.err);
}

#[cfg(unix)] // a pipe, a device or a socket is in it
#[test]
fn what_cannot_be_packed_is_named_and_the_rest_is_packed() {
    let desk = Desk::new();
    desk.file("source/a", b"1");
    symlink("/etc/hostname", desk.path("source/outside"));
    rustix::fs::mkfifoat(rustix::fs::CWD, desk.path("source/pipe"), rustix::fs::Mode::RWXU).unwrap();
    let packed = desk.run(&["pack", "source", "--json"]).expect(1);
    assert!(packed.json("/passed_over/0/path").as_str().unwrap().ends_with("source/pipe"));
    assert_eq!(packed.json("/links_leading_outside/0"), "source/outside");
    let opened = desk.run(&["open", "source.useal", "--into", "inbox", "--json"]).expect(1);
    assert_eq!(opened.json("/links_not_made/0/path"), "source/outside");
    assert_eq!(desk.names("inbox/source"), ["a"]);
}

/// As a user who may not write there (root may write everywhere, and so becomes somebody else).
#[cfg(unix)] // by permission bits
fn as_a_stranger(desk: &Desk, arguments: &[&str]) -> Ran {
    let mut command = desk.command(arguments);
    if rustix::process::geteuid().is_root() {
        fs::copy(command.get_program(), desk.path("program")).unwrap();
        let mut copied = Command::new(desk.path("program"));
        copied.args(arguments).current_dir(desk.path("."));
        std::os::unix::process::CommandExt::uid(&mut copied, 65_534);
        std::os::unix::process::CommandExt::gid(&mut copied, 65_534);
        copied.env("UNDER_SEAL_PASSWORD", crate::support::PASSWORD).env("UNDER_SEAL_DEBUG_CHEAP_KEYS", "1");
        copied.env("XDG_CONFIG_HOME", desk.path(".settings"));
        set_mode(desk.path("."), 0o777);
        command = copied;
    }
    // A process that another test has just forked may still hold the copy as it was written, until it runs its own program.
    for _ in 0..500 {
        match command.output() {
            Err(error) if error.kind() == std::io::ErrorKind::ExecutableFileBusy => {
                std::thread::sleep(std::time::Duration::from_millis(20));
            }
            output => return Ran::new(output.unwrap()),
        }
    }
    panic!("the copied program stays busy");
}

#[cfg(unix)] // by permission bits
#[rstest]
#[case::pack(&["pack", "a", "--to", "closed/"], 7, "Choose a place where you may write")]
#[case::open(&["open", "a.useal", "--into", "closed/in"], 7, "Choose a place where you may write")]
#[case::unreadable_source(&["pack", "secret"], 7, "secret cannot be packed: permission denied")]
fn where_one_may_not_write_or_read_the_system_says_no(
    #[case] arguments: &[&str],
    #[case] code: i32,
    #[case] words: &str,
) {
    let desk = Desk::new();
    desk.file("a", b"1").file("secret", b"2").file("closed/x", b"3");
    desk.run(&["pack", "a"]).expect(0);
    set_mode(desk.path("secret"), 0o000);
    set_mode(desk.path("closed"), 0o555);
    set_mode(desk.path("a.useal"), 0o644);
    let ran = as_a_stranger(&desk, arguments).expect(code);
    assert!(ran.err.contains(words), "{}", ran.err);
    assert_eq!(desk.names("closed"), ["x"]);
    set_mode(desk.path("closed"), 0o755);
}

/// A limit on file sizes stands for a full disk: writing fails in the middle.
#[rstest]
#[case::pack(&["pack", "noise", "--to", "out/"], "out")]
#[case::open(&["open", "sealed", "--into", "inbox"], "inbox")]
#[cfg_attr(windows, ignore = "it needs a shell of Unix")]
fn when_writing_fails_in_the_middle_nothing_half_written_stays(#[case] arguments: &[&str], #[case] folder: &str) {
    let desk = Desk::new();
    let noise: Vec<u8> = (0..2_000_000_u32).flat_map(|n| n.wrapping_mul(2_654_435_761).to_le_bytes()).collect();
    desk.file("noise", &noise);
    desk.run(&["pack", "noise", "--to", "sealed/"]).expect(0);
    let program = desk.command(&[]).get_program().to_owned();
    let mut limited = Command::new("sh");
    limited.args(["-c", "trap '' XFSZ; ulimit -f 2000; exec \"$0\" \"$@\""]).arg(program).args(arguments);
    limited.current_dir(desk.path(".")).env("UNDER_SEAL_PASSWORD", crate::support::PASSWORD);
    limited.env("UNDER_SEAL_DEBUG_CHEAP_KEYS", "1");
    let ran = Ran::new(limited.output().unwrap()).expect(7);
    assert!(ran.err.contains("cannot be written"), "{}", ran.err);
    assert!(desk.names(folder).is_empty(), "{:?}", desk.names(folder));
    assert_eq!(fs::read(desk.path("noise")).unwrap(), noise);
}

#[cfg(unix)] // a pipe, a device or a socket is in it
#[test]
fn names_that_would_write_on_the_screen_are_shown_escaped() {
    let desk = Desk::new();
    desk.file("source/\u{1b}[2Jgone", b"1");
    rustix::fs::mkfifoat(rustix::fs::CWD, desk.path("source/\u{1b}]0;pipe\u{7}"), rustix::fs::Mode::RWXU).unwrap();
    let ran = desk.run(&["pack", "source"]).expect(1);
    assert!(!ran.out.contains('\u{1b}') && ran.out.contains("\\u{1b}]0;pipe\\u{7}"), "{:?}", ran.out);
}

#[rstest]
#[case(&["pack", "--help"], "MB is 1,000,000 bytes")]
#[case(&["open", "-h"], "--into FOLDER")]
#[case(&["-V"], "under-seal 0.1.0")]
fn help_and_version_are_there(#[case] arguments: &[&str], #[case] words: &str) {
    assert!(Desk::new().run(arguments).expect(0).out.contains(words));
}

#[rstest]
#[case::far_too_many("9999")]
#[case::none("0")]
#[case::too_many("257")]
fn a_number_of_threads_is_refused_or_works(#[case] threads: &str) {
    let desk = Desk::new();
    desk.file("a", b"1");
    let refused = desk.run(&["pack", "a", "--threads", threads]).expect(2);
    assert!(refused.err.contains("from 1 to 256"), "{}", refused.err);
    desk.run(&["pack", "a", "--threads", "256"]).expect(0);
    desk.run(&["open", "a.useal", "--into", "in", "--threads", "256"]).expect(0);
}

/// The system gives few threads, which it does not do for root: it is told how many work.
#[test]
#[cfg_attr(windows, ignore = "it needs a shell of Unix")]
fn threads_that_the_system_does_not_give_are_an_error_with_a_number() {
    let desk = Desk::new();
    desk.file("a", b"1");
    // Each thread takes 2 MiB of stack, and a process of 300 MB has no room for so many.
    let ran = in_a_shell(&desk, "ulimit -v 300000; PROGRAM pack a --threads 256");
    assert_eq!(ran.code, 7, "{}", ran.err);
    assert!(ran.err.contains("--threads") && !desk.names(".").contains(&"a.unfinished".to_owned()), "{}", ran.err);
}

/// Frames of the hardest squeeze take more than so much, however little is packed.
#[test]
#[cfg_attr(windows, ignore = "it needs a shell of Unix")]
fn too_little_memory_is_an_error_and_leaves_nothing() {
    let desk = Desk::new();
    desk.file("a", &b"levels at the lantern\n".repeat(400_000));
    let ran = in_a_shell(&desk, "ulimit -v 80000; PROGRAM pack a --squeeze utmost --no-password").expect(7);
    assert!(ran.err.contains("There is too little memory"), "{}", ran.err);
    assert_eq!(desk.names("."), [".state", "a"]);
}

/// A defect of the program itself ends in words, and in a place that is cleared up.
#[test]
fn a_defect_ends_with_words_and_leaves_nothing() {
    let desk = Desk::new();
    desk.file("a", b"1");
    let mut command = desk.command(&["pack", "a"]);
    let ran = Ran::new(command.env("UNDER_SEAL_DEBUG_PANIC", "1").output().unwrap()).expect(70);
    assert!(
        ran.err.replace("\n  ", " ").contains("The program has a defect, and stopped (as it was told to)"),
        "{}",
        ran.err
    );
    assert_eq!(desk.names("."), [".state", "a"]);
}

/// What cannot be told on standard error is not told, and nothing else is lost by it.
#[rstest]
#[cfg_attr(windows, ignore = "there is no such device")]
fn a_log_that_cannot_be_written_loses_nothing(#[values("-v", "-vv", "-q")] option: &str) {
    let desk = Desk::new();
    desk.file("a", b"1");
    let full = fs::File::options().write(true).open("/dev/full").unwrap();
    let mut command = desk.command(&["pack", "a", option]);
    assert!(command.stderr(full).status().unwrap().success());
    assert!(desk.path("a.useal").exists());
}

/// A limit to the length of files is like a full disk, and not the end of the program.
#[test]
#[cfg_attr(windows, ignore = "it needs a shell of Unix")]
fn a_file_that_may_not_grow_is_an_error_like_a_full_disk() {
    let desk = Desk::new();
    desk.file("a", &[7; 200_000]);
    let ran = in_a_shell(&desk, "ulimit -f 100; PROGRAM pack a --squeeze none").expect(7);
    assert!(ran.err.contains("cannot hold a file that large"), "{}", ran.err);
    assert_eq!(desk.names("."), [".state", "a"]);
}

/// Folders that were made for what came to nothing go with it, and no others.
#[rstest]
#[case::pack("ulimit -f 100; PROGRAM pack wrenfall-light --to made/deep/", 7)]
#[case::recast("ulimit -f 100; PROGRAM recast out --fit 3MB --to made/deep/", 7)]
#[case::portion("ulimit -f 10; PROGRAM portion out/wrenfall-light-01of07.useal --fit 20KB --to made/deep", 7)]
#[case::mend("ulimit -f 10; PROGRAM mend out --add-spares 1 --to made/deep", 7)]
#[case::open("PROGRAM open out --into made/deep", 5)]
#[case::open_into_one_of_its_own("mkdir made; PROGRAM open out --into made --folder always", 5)]
#[cfg_attr(windows, ignore = "it needs a shell of Unix")]
fn empty_folders_of_what_failed_go(#[case] line: &str, #[case] code: i32) {
    let desk = Desk::with_volumes();
    let mut damaged = fs::read(desk.volume(4)).unwrap();
    damaged[100_000] ^= 1;
    fs::write(desk.volume(4), damaged).unwrap();
    in_a_shell(&desk, line).expect(code);
    assert_eq!(desk.path("made").exists(), line.starts_with("mkdir"));
    assert!(desk.names("made").is_empty());
}

/// What was ignored when the program was started stays ignored, as `nohup` wants it.
#[rstest]
#[case::ignored("trap '' HUP INT; ", 0)]
#[case::heeded("", 130)]
#[cfg_attr(windows, ignore = "it needs a shell of Unix")]
fn a_signal_that_is_ignored_stays_so(#[case] before: &str, #[case] code: i32) {
    let desk = Desk::new();
    desk.file("a", &vec![7; 60_000_000]);
    let wait = "while [ ! -e a.unfinished/volume-00001 ]; do :; done";
    let ran =
        in_a_shell(&desk, &format!("{before}PROGRAM pack a --squeeze none & p=$!; {wait}; kill -HUP $p; wait $p"));
    assert_eq!((ran.code, desk.path("a.useal").exists()), (code, code == 0), "{}", ran.err);
}

/// A password in memory is in no picture of it.
#[test]
#[cfg_attr(windows, ignore = "nothing tells it there")]
fn memory_with_a_password_in_it_is_kept_out_of_dumps() {
    let desk = Desk::new();
    desk.file("a", &vec![7; 60_000_000]);
    let mut child = desk.command(&["pack", "a", "--squeeze", "none"]).spawn().unwrap();
    while !desk.path("a.unfinished/volume-00001").exists() {
        assert!(child.try_wait().unwrap().is_none());
    }
    let limits = fs::read_to_string(format!("/proc/{}/limits", child.id())).unwrap();
    let core = limits.lines().find(|line| line.starts_with("Max core file size")).unwrap();
    assert_eq!(core.split_whitespace().nth(4), Some("0"), "{core}");
    assert!(child.wait().unwrap().success());
}

/// What never ends is read up to a limit, wherever an option names it.
#[rstest]
#[case::password(&["--password-from", "/dev/zero"], 2)]
#[case::key_file(&["--key-file", "/dev/zero"], 2)]
#[case::message(&["--message-from", "/dev/zero"], 2)]
#[case::patterns(&["--leave-out-from", "/dev/zero"], 2)]
#[case::configuration(&["--config", "/dev/zero"], 2)]
#[cfg_attr(windows, ignore = "there is no such device")]
fn a_device_that_never_ends_is_no_file_of_an_option(#[case] options: &[&str], #[case] code: i32) {
    let desk = Desk::new();
    desk.file("a", b"1");
    let ran = desk.run(&[&["pack", "a"], options].concat());
    assert!(ran.code == code || ran.code == 7, "{} {}", ran.code, ran.err);
    assert!(ran.err.contains("/dev/zero"), "{}", ran.err);
    assert_eq!(desk.names("."), ["a"]);
}

/// A ledger's name comes out of the archive: nothing is written through a link that has it, or waited for in a pipe.
#[rstest]
#[cfg_attr(windows, ignore = "there are no links")]
#[case::link(|path: &std::path::Path| symlink("theirs", path))]
#[cfg_attr(windows, ignore = "there are no pipes with names in folders")]
#[case::pipe(|path: &std::path::Path| assert!(Command::new("mkfifo").arg(path).status().unwrap().success()))]
fn a_ledger_is_a_file_of_its_own(#[case] make: fn(&std::path::Path)) {
    let desk = Desk::new();
    desk.file("a", b"1").file("theirs", b"untouched");
    desk.run(&["pack", "a"]).expect(0);
    let receipt = desk.run(&["receipt", "a.useal", "--json"]).expect(0).json("/receipt");
    make(&desk.path("a.confirmed.jsonl"));
    desk.run(&["confirm", "a.useal", receipt.as_str().unwrap()]).expect(7);
    assert_eq!(fs::read(desk.path("theirs")).unwrap(), b"untouched");
}

#[test]
#[cfg_attr(windows, ignore = "what stands in for Windows says something else of names that long")]
fn a_name_that_is_too_long_is_told_with_the_way_out() {
    let desk = Desk::new();
    let long = "n".repeat(250);
    desk.file(&long, b"1");
    let refused = desk.run(&["pack", &long]).expect(7).err.replace("\n  ", " ");
    assert!(refused.contains("the name is too long") && refused.contains("--name"), "{refused}");
    desk.run(&["pack", &long, "--name", "short"]).expect(0);
}

/// Links to folders of links to folders: what could be walked through without end is named and left.
#[test]
#[cfg_attr(windows, ignore = "there are no links")]
fn followed_links_do_not_explode() {
    let desk = Desk::new();
    desk.file("s/a/file", b"1");
    for (level, next) in ["s/b", "s/c", "s/d", "s/e", "s/f", "s/g", "s/h", "s/i", "s/j", "s/k", "s/l", "s/m"]
        .iter()
        .zip(["a", "b", "c", "d", "e", "f", "g", "h", "i", "j", "k", "l"])
    {
        fs::create_dir(desk.path(level)).unwrap();
        for name in ["one", "two", "three", "four"] {
            symlink(format!("../{next}"), desk.path(level).join(name));
        }
    }
    let packed = desk.run(&["pack", "s", "--follow", "--json"]).expect(1);
    assert!(packed.json("/folders").as_u64().unwrap() < 2_000);
}

/// A configuration file of another user's is warned of, and used by nobody; one that is named is an error.
#[cfg(unix)] // by permission bits
#[test]
fn a_configuration_that_may_not_be_read_is_passed_over() {
    let desk = Desk::new();
    desk.file("a", b"1").file(".settings/under-seal/config.toml", b"[profiles.a]\n");
    set_mode(desk.path(".settings/under-seal/config.toml"), 0o0);
    let ran = as_a_stranger(&desk, &["fits"]);
    assert!(ran.code == 0 && ran.err.contains("may not be read"), "{} {}", ran.code, ran.err);
    assert_eq!(as_a_stranger(&desk, &["fits", "--config", ".settings/under-seal/config.toml"]).code, 7);
}

/// A folder that gets another name while it is packed into is no damaged disk.
#[test]
#[cfg_attr(windows, ignore = "it needs a shell of Unix")]
fn a_folder_that_is_renamed_meanwhile_is_told() {
    let desk = Desk::new();
    desk.file("a", &vec![7; 60_000_000]);
    fs::create_dir(desk.path("out")).unwrap();
    let line = "PROGRAM pack a --to out/ --squeeze none & p=$!; while [ ! -e out/a.unfinished/volume-00001 ]; do :; done; mv out moved; wait $p";
    let ran = in_a_shell(&desk, line).expect(7);
    assert!(ran.err.replace("\n  ", " ").contains("the folder was moved, renamed or emptied"), "{}", ran.err);
    assert!(desk.names("moved").is_empty());
}
