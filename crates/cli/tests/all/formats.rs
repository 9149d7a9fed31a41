//! Archives in formats that everybody has: made, read and refused.

#[allow(dead_code, reason = "discs of other kinds are for the core's tests")]
#[path = "../../../core/tests/support/iso.rs"]
mod iso;
use crate::support::Desk;
use crate::support::system::set_mode;
use iso::{Disc, file, folder, mode, named};
use rstest::rstest;
use std::fs;
use under_seal_core::disk::names::name_of;

fn with_dossier() -> Desk {
    let desk = Desk::new();
    desk.run(&["demo", "--data-to", "."]).expect(0);
    desk
}

/// How it is packed, the files that come of it, one of them, and what is said.
#[rstest]
#[case::by_its_extension(&["--to", "out/board.zip"], &["board.zip"], "board.zip", "Contents are encrypted with AES-256")]
#[case::by_its_name(&["--as", "zip", "--to", "out/"], &["wrenfall-light.zip"], "wrenfall-light.zip", "names, sizes and dates of what is inside")]
#[case::for_everybody(&["--to", "out/board.zip", "--no-password"], &["board.zip"], "board.zip", "with any program for ZIP")]
#[case::in_parts(&["--to", "out/b.zip", "--fit", "900KB"], &["b.z01", "b.zip"], "b.z01", "that knows AES-256 and archives in parts")]
#[case::for_a_recipient(&["--to", "out/b", "--for", "board", "--config", "board.toml"], &["b.zip"], "b.zip", "AES-256")]
#[case::names_hidden(&["--to", "out/b.zip", "--hide-names"], &["b.zip"], "b.zip", "Contents, names, sizes and dates are encrypted")]
#[case::names_hidden_in_parts(&["--to", "out/b.zip", "--hide-names", "--fit", "900KB"], &["b.z01", "b.zip"], "b.zip", "in one folder), and then contents.zip")]
#[case::tar(&["--to", "out/b.tar", "--no-password"], &["b.tar"], "b.tar", "with any program for tar")]
#[case::tar_and_gzip(&["--to", "out/b.tar.gz", "--no-password"], &["b.tar.gz"], "b.tar.gz", "Nothing is encrypted")]
#[case::tar_and_zstandard(&["--as", "tar.zst", "--to", "out/b", "--no-password"], &["b.tar.zst"], "b.tar.zst", "under-seal open b.tar.zst")]
#[case::page(&["--as", "page", "--to", "out/"], &["wrenfall-light.html"], "wrenfall-light.html", "opens it in any browser, with nothing installed")]
#[case::page_by_its_extension(&["--to", "out/b ä.html", "--no-password"], &["b ä.html"], "b ä.html", "not secret")]
#[case::typed_counts_more(&["--to", "out/b", "--for", "board", "--config", "board.toml", "--as", "sealed"], &["b.useal"], "b.useal", "under-seal open b.useal")]
fn everything_of_the_readers_desk_takes_it(
    #[case] options: &[&str],
    #[case] files: &[&str],
    #[case] any: &str,
    #[case] words: &str,
) {
    let secret = !options.contains(&"--no-password");
    let desk = with_dossier().with_password(secret);
    desk.file("board.toml", b"[profiles.board]\nformat = \"zip\"\n");
    let packed = desk.run(&[&["pack", "wrenfall-light"], options].concat()).expect(0).out;
    assert!(packed.replace("\n  ", " ").contains(words), "{packed}");
    assert_eq!(desk.names("out"), files);
    let any = format!("out/{any}");
    desk.run(&["check", &any]).expect(0);
    desk.run(&["check", &any, "--ask-password", "--json"]).expect(if secret { 0 } else { 5 });
    assert_eq!(desk.run(&["about", &any, "--json"]).expect(0).json("/files"), 20);
    let listed = desk.run(&["list", &any, "--long", "*.csv"]).expect(0).out;
    assert!(listed.contains("wrenfall-light/costs/cost-table.csv"), "{listed}");
    let peeked = desk.run(&["peek", &any, "cost-table.csv"]).expect(0).out;
    assert_eq!(peeked.into_bytes(), fs::read(desk.path("wrenfall-light/costs/cost-table.csv")).unwrap());
    desk.run(&["open", &any, "--into", "some", "*.csv"]).expect(0);
    assert!(desk.path("some/wrenfall-light/survey/levels.csv").exists());
    desk.run(&["open", &any, "--into", "board"]).expect(0);
    desk.run(&["compare", &any, "board/wrenfall-light"]).expect(0);
    let originals = desk.run(&["compare", &any, "wrenfall-light", "--originals", "--json"]).expect(0);
    assert_eq!(originals.json("/originals/proven").as_array().unwrap().len(), 20);
    // Packed again it does not overwrite, unless that is wished.
    desk.run(&[&["pack", "wrenfall-light"], options].concat()).expect(6);
    desk.run(&[&["pack", "wrenfall-light", "--replace"], options].concat()).expect(0);
    assert_eq!(desk.names("out"), files);
}

/// What is wanted of a format that cannot do it, or of a password that is too weak for it.
#[rstest]
#[case::parcels(&["--parcels", "--fit", "1MB"], "cannot have parcels")]
#[case::several_passwords(&["--also-password-from", "other.txt"], "cannot have several passwords")]
#[case::key_file(&["--key-file", "other.txt"], "cannot have a key file")]
#[case::tar_with_a_password(&["--as", "tar"], "Add --no-password if anybody may read it")]
#[case::tar_in_volumes(&["--as", "tar.gz", "--no-password", "--fit", "1MB"], "cannot have volumes")]
#[case::tar_that_hides_names(&["--as", "tar", "--no-password", "--hide-names"], "cannot have hidden names")]
#[case::page_in_volumes(&["--as", "page", "--fit", "1MB"], "handover puts a page (open-me.html) beside the volumes")]
#[case::page_in_parcels(&["--as", "page", "--parcels", "--fit", "1MB"], "cannot have parcels")]
#[case::names_hidden_by_nothing(&["--no-password", "--hide-names"], "are hidden by the password")]
#[case::names_sealed_by_nothing(&["--as", "sealed", "--no-password", "--hide-names"], "are hidden by the password")]
#[case::tar_with_a_message(&["--as", "tar", "--no-password", "--message", "Mind the step."], "cannot have a message")]
#[case::enough_for_sealed(&["--password-from", "other.txt"], "about a thousandth of what it costs")]
fn what_a_format_cannot_do_is_told(#[case] options: &[&str], #[case] words: &str) {
    let desk = Desk::new();
    desk.file("a", b"1").file("other.txt", b"pane salted glass");
    let before = desk.names(".");
    let to = if options.contains(&"--as") { "b" } else { "a.zip" };
    let ran = desk.run(&[&["pack", "a", "--to", to], options].concat()).expect(2);
    assert!(ran.err.replace("\n  ", " ").contains(words), "{}", ran.err);
    assert_eq!(desk.names("."), before);
}

/// What becomes in ZIP of names that are not text, the exit code, what is said, and what comes out.
#[rstest]
#[case::usually(&[], 1, r"k\xfcste/d\xe4mm.txt is called k%FCste/d%E4mm.txt", &["k%FCste", "plain"])]
#[case::escaped(&["--unsafe-names", "escape", "--hide-names"], 1, r"k\xfcste is called k%FCste", &["k%FCste", "plain"])]
#[case::left_out(&["--unsafe-names", "leave-out"], 1, "These were left out, since their names are not text", &["plain"])]
#[case::refused(&["--unsafe-names", "refuse"], 2, "or with --unsafe-names escape", &[])]
#[case::nothing_else(&["--unsafe-names", "leave-out", "--leave-out", "plain"], 2, "these are not: k\\xfcste", &[])]
#[case::kept_by_the_sealed_format(&["--as", "sealed"], 0, "packed and verified", &["k\u{fffd}ste", "plain"])]
#[cfg_attr(windows, ignore = "every name is text")]
fn a_name_that_is_no_text_does_not_block_the_rest(
    #[case] options: &[&str],
    #[case] code: i32,
    #[case] words: &str,
    #[case] landed: &[&str],
) {
    let desk = Desk::new().with_password(true);
    desk.file("sources/plain", b"1");
    let folder = desk.path("sources").join(name_of(b"k\xfcste"));
    fs::create_dir(&folder).unwrap();
    fs::write(folder.join(name_of(b"d\xe4mm.txt")), b"2").unwrap();
    let archive = if options.contains(&"--as") { "b" } else { "b.zip" };
    let packed = desk.run(&[&["pack", "sources", "--contents", "--to", archive], options].concat()).expect(code);
    let said = (packed.out + &packed.err).replace("\n  ", " ");
    assert!(said.contains(words), "{said}");
    let archive = if archive == "b" { "b.useal" } else { archive };
    assert_eq!(desk.path(archive).exists(), !landed.is_empty());
    if !landed.is_empty() {
        desk.run(&["open", archive, "--into", "inbox"]).expect(0);
        assert_eq!(desk.names("inbox"), landed);
    }
}

/// What befalls an archive in three parts, the exit code, and what is said.
#[rstest]
#[case::a_part_is_lost(|desk: &Desk| fs::remove_file(desk.path("out/b.z02")).unwrap(), "open", 4, "Part 2 of 3")]
#[case::the_last_is_lost(|desk: &Desk| fs::remove_file(desk.path("out/b.zip")).unwrap(), "open", 4, "The last part")]
#[case::content_changed(|desk: &Desk| { desk.flip(&desk.path("out/b.z02"), 900); }, "open", 5, "its authentication code is wrong")]
#[case::content_changed_is_found(|desk: &Desk| { desk.flip(&desk.path("out/b.z02"), 900); }, "check", 5, "1 file in it is damaged")]
#[case::cut_short(|desk: &Desk| {
    let path = desk.path("out/b.zip");
    let bytes = fs::read(&path).unwrap();
    fs::write(path, &bytes[..bytes.len() - 9]).unwrap();
}, "check", 5, "has no end")]
fn what_befalls_an_archive_is_told(
    #[case] accident: fn(&Desk),
    #[case] command: &str,
    #[case] code: i32,
    #[case] words: &str,
) {
    let desk = with_dossier();
    desk.run(&["pack", "wrenfall-light", "--to", "out/b.zip", "--fit", "700KB"]).expect(0);
    accident(&desk);
    let part = if words.starts_with("The last") { "out/b.z01" } else { "out/b.zip" };
    let mut arguments = vec![command, part];
    arguments.extend((command == "open").then_some(["--into", "board"]).into_iter().flatten());
    let ran = desk.run(&arguments).expect(code);
    assert!((ran.out.clone() + &ran.err).replace("\n  ", " ").contains(words), "{}{}", ran.out, ran.err);
    assert!(desk.names("board").is_empty());
}

/// An entry of a cpio archive in its portable form.
fn cpio_entry(name: &str, mode: u32, content: &[u8]) -> Vec<u8> {
    let name_bytes = name.len() + 1;
    let header = format!("070707{:012o}{mode:06o}{:012o}000001{:06o}{:011o}", 0, 0, 0, 1_700_000_000);
    [format!("{header}{name_bytes:06o}{:011o}{name}\0", content.len()).as_bytes(), content].concat()
}

/// Longer than any disk takes: it gets another name, and whoever wants none of that gets nothing.
#[rstest]
#[case::renamed("rename", 1, "These are called otherwise here")]
#[case::refused("refuse", 6, "This cannot have its name here")]
fn a_name_that_cannot_be_here_is_told(#[case] wish: &str, #[case] code: i32, #[case] words: &str) {
    let desk = Desk::new().with_password(false);
    let long = format!("{}.csv", "n".repeat(300));
    let bytes = [cpio_entry(&long, 0o100_644, b"lit"), cpio_entry("TRAILER!!!", 0, b"")].concat();
    desk.file("a.cpio", &bytes);
    let open = ["open", "a.cpio", "--into", "in", "--on-unsafe-name", wish];
    let foreseen = desk.run(&[&open[..], &["--dry-run"]].concat()).expect(code);
    assert!(desk.names("in").is_empty());
    let ran = desk.run(&open).expect(code);
    let said = (ran.out.clone() + &ran.err).replace("\n  ", " ");
    assert!(said.contains(words) && (foreseen.code, ran.code) == (code, code), "{said}");
    let here = format!("{}.csv", "n".repeat(251));
    assert_eq!(desk.names("in"), if wish == "rename" { vec![here.clone()] } else { Vec::new() });
    if wish == "rename" {
        assert!(said.contains(&format!("{here} is {long} in the archive")), "{said}");
        // What stands in for Windows says something else of names that long.
        if cfg!(unix) {
            desk.run(&["compare", "a.cpio", &format!("in/{here}")]).expect(0);
        }
    }
}

#[test]
fn a_cpio_archive_is_taken_as_it_comes() {
    let name = "dossier.cpio";
    let desk = with_dossier().with_password(false);
    let table = fs::read(desk.path("wrenfall-light/costs/cost-table.csv")).unwrap();
    let bytes = [cpio_entry("costs/cost-table.csv", 0o100_644, &table), cpio_entry("TRAILER!!!", 0, b"")].concat();
    desk.file(name, &bytes);
    let about = desk.run(&["about", name, "--json"]).expect(0);
    assert_eq!((about.json("/format"), about.json("/archive")), ("cpio".into(), "dossier".into()));
    let said = desk.run(&["check", name]).expect(0).out;
    assert!(said.contains("dossier: a cpio archive") && said.contains("the compression's own"), "{said}");
    assert_eq!(desk.run(&["peek", name, "cost-table.csv"]).expect(0).out.into_bytes(), table);
    desk.run(&["open", name, "--into", "board"]).expect(0);
    desk.run(&["compare", name, "board/costs"]).expect(0);
    desk.file("cut", &bytes[..bytes.len() - 100]);
    let refused = desk.run(&["open", "cut", "--into", "other"]).expect(5).err;
    assert!(refused.contains("open --salvage"), "{refused}");
    assert!(desk.names("other").is_empty());
}

/// An archive of the dossier by another language's standard library, and what `check` says of it.
#[rstest]
#[case::plain("w", "a tar archive")]
#[case::compressed("w:gz", "the compression's own checksum")]
fn a_tar_archive_is_taken_as_it_comes(#[case] mode: &str, #[case] words: &str) {
    let desk = with_dossier().with_password(false);
    let script =
        format!("import tarfile\nwith tarfile.open('letter.bin', '{mode}') as t:\n    t.add('wrenfall-light')");
    let made = std::process::Command::new("python3").args(["-c", &script]).current_dir(desk.path(".")).status();
    let Ok(made) = made else {
        assert!(std::env::var_os("CI").is_none(), "the tests of CI need Python 3");
        eprintln!("Python 3 is not here; what it writes was not read.");
        return;
    };
    assert!(made.success());
    let ran = desk.run(&["check", "letter.bin"]).expect(0).out;
    assert!(ran.replace("\n  ", " ").contains(words), "{ran}");
    assert_eq!(desk.run(&["about", "letter.bin", "--json"]).expect(0).json("/format"), "tar");
    desk.run(&["list", "letter.bin", "--tree"]).expect(0);
    desk.run(&["open", "letter.bin", "--into", "board"]).expect(0);
    desk.run(&["compare", "letter.bin", "board/wrenfall-light"]).expect(0);
    let peeked = desk.run(&["peek", "letter.bin", "cost-table.csv"]).expect(0).out;
    assert_eq!(peeked.into_bytes(), fs::read(desk.path("wrenfall-light/costs/cost-table.csv")).unwrap());
    let bytes = fs::read(desk.path("letter.bin")).unwrap();
    desk.file("cut.bin", &bytes[..bytes.len() / 2]);
    desk.run(&["open", "cut.bin", "--into", "other"]).expect(5);
    assert!(desk.names("other").is_empty());
}

#[test]
fn a_disc_image_is_taken_as_it_comes() {
    let desk = Desk::new().with_password(false);
    let table = file("LEVELS.CSV;1", b"lamp,3\n").using(&[named("levels of the lamp.csv"), mode(0o100_640)]);
    let plan = file("PLAN.SVG;1", b"<svg/>").using(&[named("Grundriß.svg"), mode(0o100_640)]);
    let device = file("TTY", b"").using(&[named("tty"), mode(0o20_666)]);
    let disc = Disc::with_rock_ridge(vec![folder("SURVEY", vec![table, plan]).using(&[named("survey")])]);
    desk.file("disc.bin", &disc.bytes());
    let checked = desk.run(&["check", "disc.bin"]).expect(0).out;
    assert!(checked.contains("disc: a disc image") && checked.contains("no checksum"), "{checked}");
    let about = desk.run(&["about", "disc.bin"]).expect(0).out;
    assert!(about.contains("WRENFALL LIGHT") && about.contains("disc image (Rock Ridge)"), "{about}");
    assert!(desk.run(&["list", "disc.bin", "--tree"]).expect(0).out.contains("Grundriß.svg"));
    assert_eq!(desk.run(&["peek", "disc.bin", "levels of the lamp.csv"]).expect(0).out, "lamp,3\n");
    desk.run(&["open", "disc.bin", "--into", "board"]).expect(0);
    desk.run(&["compare", "disc.bin", "board/survey"]).expect(0);
    desk.file("board/survey/Grundriß.svg", b"<svg>another</svg>");
    desk.run(&["compare", "disc.bin", "board/survey"]).expect(1);
    desk.run(&["open", "disc.bin", "--into", "board"]).expect(6);
    desk.run(&["open", "disc.bin", "--into", "board", "--on-clash", "both", "*.svg"]).expect(0);
    let cut = disc.bytes().len() - iso::SECTOR;
    desk.file("cut.bin", &disc.bytes()[..cut]);
    let checked = desk.run(&["check", "cut.bin"]).expect(5).out;
    assert!(checked.contains("it lies beyond the end of the image"), "{checked}");
    desk.file(
        "odd.bin",
        &Disc { root: [disc.root, vec![device]].concat(), ..Disc::with_rock_ridge(Vec::new()) }.bytes(),
    );
    let opened = desk.run(&["open", "odd.bin", "--into", "other"]).expect(1).out;
    assert!(opened.contains("tty: neither file, folder nor link"), "{opened}");
    let unknown = desk.file("what.bin", b"neither this nor that").run(&["list", "what.bin"]).expect(2).err;
    assert!(unknown.contains("disc images, ZIP archives"), "{unknown}");
}

/// What lies in a folder beside other things, and what comes of naming the folder.
#[rstest]
#[case::in_parts(&["b.z01", "b.z02", "b.zip"], 0)]
#[case::a_part_is_lost(&["b.z01", "b.zip"], 4)]
#[case::two_of_one_name(&["b.tar", "b.z01", "b.z02", "b.zip"], 2)]
#[case::two_archives(&["a.tar", "b.z01", "b.z02", "b.zip"], 2)]
#[case::none(&[], 2)]
fn a_folder_stands_for_the_archive_in_it(#[case] files: &[&str], #[case] code: i32) {
    let desk = with_dossier();
    desk.run(&["pack", "wrenfall-light", "--to", "b.zip", "--fit", "700KB"]).expect(0);
    desk.run(&["pack", "wrenfall-light", "--to", "a.tar", "--no-password"]).expect(0);
    fs::copy(desk.path("a.tar"), desk.path("b.tar")).unwrap();
    desk.file("in/how-to-open.txt", b"Open b.zip with the program that you have for it.");
    for file in files {
        fs::copy(desk.path(file), desk.path(&format!("in/{file}"))).unwrap();
    }
    desk.run(&["check", "in"]).expect(code);
    desk.run(&["open", "in", "--into", "board"]).expect(code);
    assert_eq!(desk.path("board/wrenfall-light").exists(), code == 0);
}

/// What is named together with an archive in two parts, the command, the exit code, and what is said.
#[rstest]
#[case::all_parts("open", &["b.z01", "b.zip", "--into", "board"], 0, "b is open")]
#[case::two_archives("open", &["b.zip", "c.zip", "--into", "board"], 2, "These are several archives")]
#[case::for_sealed_only("receipt", &["c.zip"], 2, "for sealed volumes")]
#[case::salvage("open", &["c.zip", "--salvage", "--into", "board"], 0, "Nothing is lost")]
#[case::key_file("open", &["c.zip", "--key-file", "a", "--into", "board"], 2, "has no key file")]
#[case::key_file_alone("check", &["c.zip", "--key-file", "a"], 2, "has no key file")]
fn what_is_named_is_one_archive(
    #[case] command: &str,
    #[case] arguments: &[&str],
    #[case] code: i32,
    #[case] words: &str,
) {
    let desk = Desk::new();
    let noise: Vec<u8> =
        (0..90_000_u32).flat_map(|place| (place.wrapping_mul(2_654_435_761) >> 24).to_le_bytes()).collect();
    desk.file("a", &noise).run(&["pack", "a", "--to", "c.zip"]).expect(0);
    desk.run(&["pack", "a", "--to", "b.zip", "--fit", "70KB", "--squeeze", "none", "--replace"]).expect(0);
    let arguments: Vec<&str> = match arguments {
        // However many parts it came to.
        ["b.z01", rest @ ..] => ["b.z01", "b.z02"].into_iter().chain(rest.iter().copied()).collect(),
        _ => arguments.to_vec(),
    };
    let ran = desk.run(&[&[command], &arguments[..]].concat()).expect(code);
    assert!((ran.out.clone() + &ran.err).replace("\n  ", " ").contains(words), "{}{}", ran.out, ran.err);
}

/// How it is packed, how it is rehearsed, the exit code, the step that this ends with, and what is said.
#[rstest]
#[case::parts(&["b.zip", "--fit", "700KB"], &[], 0, "compare", "3 parts under the names that they need")]
#[case::parts_by_mail(&["b.zip", "--fit", "700KB"], &["--through", "mail", "--limit", "1MB"], 0, "compare", "in 3 messages within 1,000,000 bytes")]
#[case::parts_on_media(&["b.zip", "--fit", "700KB"], &["--through", "media", "--limit", "800KB"], 0, "compare", "on 3 media of 800,000 bytes")]
#[case::parts_uploaded(&["b.zip", "--fit", "700KB"], &["--through", "upload"], 0, "compare", "transfers broke off and went on")]
#[case::one_file(&["b.zip"], &["--through", "mail"], 0, "compare", "1 file was delivered by mail")]
#[case::names_hidden(&["b.zip", "--hide-names"], &[], 0, "compare", "in times to the second")]
#[case::names_hidden_and_a_byte_is_changed(&["b.zip", "--hide-names"], &["--damage", "1"], 1, "unlock", "that you asked for were noticed")]
#[case::too_long(&["b.zip"], &["--through", "mail", "--limit", "1MB"], 1, "deliver", "the mailbox takes 1,000,000 bytes, and refused 1")]
#[case::not_encrypted(&["b.zip", "--no-password"], &[], 0, "compare", "Next: send it.")]
#[case::tar(&["b.tar.zst", "--no-password"], &["--through", "media"], 0, "compare", "known by what it holds")]
#[case::a_part_is_lost(&["b.zip", "--fit", "700KB"], &["--lose", "1", "--seed", "4"], 1, "gather", "part 2 is missing")]
#[case::all_is_lost(&["b.zip"], &["--lose", "1"], 1, "deliver", "were named exactly")]
#[case::a_byte_is_changed(&["b.zip", "--fit", "700KB"], &["--damage", "2"], 1, "check", "that you asked for were noticed")]
fn the_recipient_of_an_open_format_is_played(
    #[case] packed: &[&str],
    #[case] options: &[&str],
    #[case] code: i32,
    #[case] last: &str,
    #[case] words: &str,
) {
    let desk = with_dossier().with_password(!packed.contains(&"--no-password"));
    let archive = packed[0];
    desk.run(&[&["pack", "wrenfall-light", "--to"], packed].concat()).expect(0);
    let arguments = [&["rehearse", archive, "--against", "wrenfall-light"], options].concat();
    let said = desk.run(&arguments).expect(code).out;
    assert!(said.contains(words), "{said}");
    let json = desk.run(&[&arguments[..], &["--json"]].concat()).expect(code);
    let steps = json.json("/steps").as_array().unwrap().clone();
    assert_eq!((&steps.last().unwrap()["step"], json.json("/set").is_null()), (&last.into(), true));
    if code == 0 {
        desk.file("wrenfall-light/letters/one more.txt", b"The lamp is lit.");
        let changed = desk.run(&arguments).expect(1).out;
        assert!(changed.contains("the archive is good, and the sources have changed"), "{changed}");
    }
}

/// What is handed over, how, and what the note and the report say.
#[rstest]
#[case::parts(&["b.zip", "--fit", "700KB"], &["--fit", "mail-10", "--password-note", "p.txt"], &["b.z01", "b.z02", "b.zip"], "a program that knows ZIP archives in parts; it must know AES-256", "every content's length and checksum before copying")]
#[case::names_hidden(&["b.zip", "--hide-names"], &[], &["b.zip"], "it must know AES-256 in ZIP. Then open contents.zip, which comes out of it", "every content's length and checksum before copying")]
#[case::not_encrypted(&["b.zip", "--no-password"], &["--fit", "disc-700"], &["b.zip"], "No password is needed", "1 label")]
#[case::tar(&["b.tar.gz", "--no-password"], &[], &["b.tar.gz"], "the program that you have for tar archives", "every content read to its end")]
fn an_open_format_is_handed_over(
    #[case] packed: &[&str],
    #[case] options: &[&str],
    #[case] files: &[&str],
    #[case] note: &str,
    #[case] words: &str,
) {
    let desk = with_dossier().with_password(!packed.contains(&"--no-password"));
    desk.run(&[&["pack", "wrenfall-light", "--to"], packed].concat()).expect(0);
    let said = desk.run(&[&["handover", packed[0], "--to", "give"], options].concat()).expect(0).out;
    assert!(said.contains(words), "{said}");
    let text = fs::read_to_string(desk.path("give/how-to-open.txt")).unwrap();
    assert!(text.contains(note), "{text}");
    for file in files {
        assert_eq!(fs::read(desk.path(&format!("give/{file}"))).unwrap(), fs::read(desk.path(file)).unwrap());
        assert!(fs::read_to_string(desk.path("give/SHA256SUMS")).unwrap().contains(file));
    }
    desk.run(&["open", &format!("give/{}", files[0]), "--into", "board"]).expect(0);
    // What is damaged is not handed over, and nothing is left of it.
    desk.flip(&desk.path(files[0]), 90_000);
    let before = desk.names(".");
    desk.run(&["handover", packed[0], "--to", "other"]).expect(5);
    assert_eq!(desk.names("."), before);
}

#[test]
fn a_lone_compressed_file_keeps_its_name_on_the_way() {
    let desk = Desk::new().with_password(false);
    desk.file("levels.csv", b"lamp,3\n").file("levels.csv.gz", LEVELS);
    let said = desk.run(&["rehearse", "levels.csv.gz", "--against", "levels.csv"]).expect(0).out;
    assert!(said.contains("1 file under the names that they need") && said.contains("in every byte"), "{said}");
    // It has neither time nor mode of its own.
    set_mode(desk.path("levels.csv"), 0o600);
    fs::File::open(desk.path("levels.csv")).unwrap().set_modified(std::time::UNIX_EPOCH).unwrap();
    desk.run(&["compare", "levels.csv.gz", "levels.csv"]).expect(0);
    desk.run(&["rehearse", "levels.csv.gz", "--against", "levels.csv"]).expect(0);
    desk.file("levels.csv", b"lamp,4\n").run(&["compare", "levels.csv.gz", "levels.csv"]).expect(1);
}

/// "lamp,3" and a line break, stored in a gzip member (RFC 1952) with a single block (RFC 1951 section 3.2.4).
const LEVELS: &[u8] = b"\x1F\x8B\x08\0\0\0\0\0\0\xFF\x01\x07\0\xF8\xFFlamp,3\n\xDA\x05\xA6=\x07\0\0\0";

#[test]
fn without_the_password_only_the_directory_is_read_before_it_is_handed_over() {
    let desk = Desk::new();
    desk.file("a", b"one").run(&["pack", "a", "--to", "a.zip"]).expect(0);
    let ran = desk.run_bare(&["handover", "a.zip", "--to", "give", "--json"]).expect(0);
    assert_eq!((ran.json("/secret"), ran.json("/contents_read")), (true.into(), false.into()));
    let refused = desk.run(&["pack", "a", "--to", "a.tar", "--no-password"]).expect(0);
    assert!(refused.err.is_empty(), "{}", refused.err);
    let told = desk.run_bare(&["handover", "a.tar", "--to", "other", "--password-note", "p.txt"]).expect(2).err;
    assert!(told.contains("There is no password to write down"), "{told}");
}

/// Nothing of an archive that hides names is seen without the password, and what can be checked is checked.
#[test]
fn hidden_names_need_the_password() {
    let desk = with_dossier();
    let packing = ["pack", "wrenfall-light", "--to", "b.zip", "--hide-names", "--message", "Mind the step.", "--json"];
    assert_eq!(desk.run(&packing).expect(0).json("/hides_names"), true);
    for command in ["list", "about"] {
        let refused = desk.run_bare(&[command, "b.zip"]).expect(2);
        assert!(!(refused.out + &refused.err).contains("wrenfall-light"));
    }
    let checked = desk.run_bare(&["check", "b.zip"]).expect(0).out;
    assert!(checked.contains("that are hidden, names and number of files too"), "{checked}");
    let report = desk.run_bare(&["check", "b.zip", "--json"]).expect(0);
    assert_eq!((report.json("/hides_names"), report.json("/contents_read")), (true.into(), false.into()));
    desk.run_bare(&["handover", "b.zip", "--to", "give"]).expect(0);
    let about = desk.run(&["about", "b.zip"]).expect(0).out;
    assert!(about.contains("contents, names, sizes and dates") && about.contains("Mind the step."), "{about}");
    let checked = desk.run(&["check", "b.zip"]).expect(0).out;
    assert!(checked.contains("nothing was changed, left out or added since"), "{checked}");
    desk.flip(&desk.path("b.zip"), 900);
    for arguments in [&["check", "b.zip"][..], &["open", "b.zip", "--into", "board"]] {
        let told = desk.run(arguments).expect(5).err;
        assert!(told.contains("its authentication code is wrong"), "{told}");
    }
    assert!(desk.names("board").is_empty());
}

/// Each format's real size is in the range that the plan tells.
#[rstest]
#[case::stored("none", false)]
#[case::compressed("even", false)]
#[case::names_hidden("even", true)]
fn a_plan_compares_the_formats(#[case] squeeze: &str, #[case] hide_names: bool) {
    let desk = with_dossier();
    let hiding = hide_names.then_some("--hide-names");
    let mut planning =
        vec!["plan", "wrenfall-light", "--squeeze", squeeze, "--fit", "700KB", "--every-format", "--json"];
    planning.extend(hiding);
    let planned = desk.run(&planning).expect(0);
    let formats = planned.json("/formats").as_array().unwrap().clone();
    let names: Vec<_> = formats.iter().map(|one| one["format"].as_str().unwrap()).collect();
    assert_eq!(names, ["sealed", "zip", "tar", "tar.gz", "tar.zst"]);
    for one in formats {
        let format = one["format"].as_str().unwrap();
        let mut arguments = vec!["pack", "wrenfall-light", "--as", format, "--squeeze", squeeze, "--to", "out/"];
        arguments.extend(format.starts_with("tar").then_some("--no-password"));
        arguments.extend(["--replace", "--json"]);
        if ["sealed", "zip"].contains(&format) {
            arguments.extend(["--fit", "700KB"]);
            arguments.extend(hiding);
            assert_eq!(one["hides_names"], hide_names || format == "sealed", "{format}");
            let packed = desk.run(&arguments).expect(0).json("/volumes").as_array().unwrap().len();
            assert_eq!(one["files"].as_u64().unwrap(), packed as u64, "{format}");
        }
        let real = desk.run(&arguments).expect(0).json("/after_bytes").as_u64().unwrap();
        let (low, high) = (one["at_least"].as_u64().unwrap(), one["at_most"].as_u64().unwrap());
        assert!((low..=high).contains(&real), "{format}: {real} is not within {low} to {high}");
        assert_eq!(one["files"].is_null(), format.starts_with("tar"), "{format}");
    }
}

#[test]
fn a_plan_is_for_the_format_that_is_chosen() {
    let desk = with_dossier();
    let planned = desk.run(&["plan", "wrenfall-light", "--as", "zip"]).expect(0).out;
    assert!(planned.contains("Format by format") && !planned.contains("squeeze  "), "{planned}");
    let refused = desk.run(&["plan", "wrenfall-light", "--as", "zip", "--parcels", "--fit", "1MB"]).expect(2).err;
    assert!(refused.contains("cannot have parcels"), "{refused}");
}

#[test]
fn a_wrong_password_and_no_password_are_told() {
    let desk = Desk::new();
    desk.file("a", b"one").file("wrong.txt", b"another one").run(&["pack", "a"]).expect(0);
    desk.run(&["pack", "a", "--to", "a.zip"]).expect(0);
    desk.run(&["open", "a.zip", "--into", "b", "--password-from", "wrong.txt"]).expect(3);
    let ran = desk.run_bare(&["check", "a.zip"]).expect(0);
    assert!(ran.out.contains("they need the password"), "{}", ran.out);
    desk.run_bare(&["list", "a.zip"]).expect(0);
}

/// What befalls an archive in which one thing is wrong, the exit code of opening it, how many of its twenty files land then, and
/// how many with --salvage: what is whole can always be had.
#[rstest]
#[case::cut_in_the_middle("d.tar", |bytes: &mut Vec<u8>| bytes.truncate(900_000), 5, 0..=0, 5..=19)]
#[case::without_its_end("d.tar", |bytes: &mut Vec<u8>| { let end = bytes.iter().rposition(|byte| *byte != 0).unwrap() + 1; bytes.truncate(end.next_multiple_of(512)) }, 1, 20..=20, 20..=20)]
#[case::compressed_and_cut("d.tar.gz", |bytes: &mut Vec<u8>| bytes.truncate(bytes.len() / 2), 5, 0..=0, 1..=19)]
#[case::a_damaged_entry("d.zip", |bytes: &mut Vec<u8>| bytes[90_000] ^= 1, 5, 0..=0, 19..=19)]
#[case::an_unknown_method("d.zip", |bytes: &mut Vec<u8>| unknown_method(bytes), 1, 19..=19, 19..=19)]
fn one_bad_entry_keeps_nobody_from_the_others(
    #[case] name: &str,
    #[case] spoil: fn(&mut Vec<u8>),
    #[case] code: i32,
    #[case] lands: std::ops::RangeInclusive<u64>,
    #[case] salvaged: std::ops::RangeInclusive<u64>,
) {
    let desk = with_dossier().with_password(false);
    desk.run(&["pack", "wrenfall-light", "--to", name, "--no-password"]).expect(0);
    let mut bytes = fs::read(desk.path(name)).unwrap();
    spoil(&mut bytes);
    desk.file(name, &bytes);
    let opened = desk.run(&["open", name, "--into", "in", "--json"]).expect(code);
    let files = if code == 5 { 0 } else { opened.json("/files").as_u64().unwrap() };
    assert!(lands.contains(&files) && desk.names("in").is_empty() == (files == 0), "{files} files");
    let taken = desk.run(&["open", name, "--into", "out", "--salvage", "--json"]);
    assert!(salvaged.contains(&taken.json("/files").as_u64().unwrap()), "{}", taken.out);
    assert!(taken.code == code, "{} {}", taken.code, taken.out);
    let compared = desk.run(&["compare", name, "wrenfall-light", "--json"]);
    assert!(compared.code != 70);
}

/// Gives a file in an archive's directory, and its own header, a method that nobody knows (sections 4.3.7 and 4.3.12).
fn unknown_method(bytes: &mut [u8]) {
    let mut central = bytes.windows(4).enumerate().filter(|(_, four)| *four == b"PK\x01\x02").map(|(at, _)| at);
    let name = b"wrenfall-light/costs/cost-table.csv";
    let central = central.find(|at| bytes[at + 46..].starts_with(name)).unwrap();
    let local = u32::from_le_bytes(bytes[central + 42..central + 46].try_into().unwrap()) as usize;
    bytes[local + 8] = 77;
    bytes[central + 10] = 77;
}
