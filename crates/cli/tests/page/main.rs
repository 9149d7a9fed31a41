//! The page that recipients open in a browser: what it says, what it saves, and that nothing else happens in it.

// The browsers that it is tried in are driven as on Unix; the page itself is the same everywhere.
#![cfg(unix)]
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test stops at the first thing that is not as it should be")]

mod browser;
mod extras;
mod rehearsing;
#[path = "../support/mod.rs"]
mod support;

use browser::{Browser, Device};
use rstest::rstest;
use std::fs;
use std::io::Read as _;
use std::net::TcpListener;
use std::os::unix::ffi::OsStrExt as _;
use std::path::PathBuf;
use std::time::Instant;
use support::{Desk, PASSWORD, in_a_shell};

fn volumes(desk: &Desk) -> Vec<PathBuf> {
    desk.names("out").iter().map(|name| desk.path("out").join(name)).collect()
}

fn browser_at(desk: &Desk) -> Option<Browser> {
    Browser::with_page(&desk.path("."), Device::Computer)
}

/// A desk with the dossier packed so.
fn packed(options: &[&str]) -> Desk {
    let desk = Desk::new();
    desk.run(&["demo", "--data-to", "."]).expect(0);
    desk.file("key", b"a key file");
    desk.run(&[&["pack", "wrenfall-light", "--to", "out/"], options].concat()).expect(0);
    desk
}

/// What comes out is what went in: names, kinds, contents, modes and times, read by the program from the ZIP archive that the page
/// makes; and the page's receipt is the program's.
#[rstest]
#[case::volumes(&["--fit", "260KB"])]
#[case::short_cells(&["--fit", "64KB", "--squeeze", "none"])]
#[case::lzma(&["--squeeze", "utmost"])]
#[case::key_file(&["--fit", "1MB", "--key-file", "key"])]
#[case::open_to_all(&["--no-password"])]
fn everything_comes_out_as_it_went_in(#[case] options: &[&str]) {
    let desk = packed(options);
    let Some(browser) = browser_at(&desk) else { return };
    browser.give("files", &volumes(&desk));
    if options.contains(&"--key-file") {
        browser.give("key-file", &[desk.path("key")]);
    }
    if !options.contains(&"--no-password") {
        browser.unlock(PASSWORD);
    }
    browser.wait_for("#list-sums", &["20 files, 1.8 MB"]);
    let (zip, said) = browser.save_everything().unwrap();
    let unlock: &[&str] = if options.contains(&"--key-file") { &["--key-file", "key"] } else { &[] };
    let desk = desk.with_password(!options.contains(&"--no-password"));
    let receipt = desk.run(&[&["receipt", "out", "--json"], unlock].concat()).expect(0).json("/receipt");
    assert!(said.contains(receipt.as_str().unwrap()), "{said}");
    let compared = desk.run_bare(&["compare", zip.to_str().unwrap(), "wrenfall-light", "--json"]).expect(0);
    assert_eq!(compared.json("/same"), 29);
}

/// A page with an archive in it opens that by itself, and another page opens it like any file. What is damaged on the way is told, and
/// what the sender makes again for it is taken.
#[test]
fn a_page_opens_the_archive_that_it_carries() {
    let desk = packed(&["--as", "page"]);
    let Some(browser) = browser_at(&desk) else { return };
    let page = desk.path("out/wrenfall-light.html");
    browser.go_to(&page);
    browser.wait_for("#volumes-told", &["This page contains sealed files, 1.7 MB"]);
    browser.unlock(PASSWORD);
    browser.wait_for("#list-sums", &["20 files, 1.8 MB"]);
    let (zip, said) = browser.save_everything().unwrap();
    let receipt = desk.run(&["receipt", "out", "--json"]).expect(0).json("/receipt");
    assert!(said.contains(receipt.as_str().unwrap()), "{said}");
    desk.run_bare(&["compare", zip.to_str().unwrap(), "wrenfall-light"]).expect(0);
    fs::remove_file(zip).unwrap();
    let whole = fs::read(&page).unwrap();
    fs::create_dir(desk.path("sent")).unwrap();
    fs::write(desk.path("sent/whole.html"), &whole).unwrap();
    // A letter that is none of base 64.
    let mut damaged = whole.clone();
    damaged[whole.len() - 100_000] = b'*';
    fs::write(&page, damaged).unwrap();
    browser.go_to(&page);
    let slip = desk.run_bare(&["check", "out", "--json"]).json("/slip").as_str().unwrap().to_owned();
    assert!(browser.wait_for("#volumes-state", &["Copy the code"]).contains(&slip));
    desk.run_bare(&["resend", "sent", &slip, "--to", "again"]).expect(0);
    browser.give("files", &[desk.path("again").join(&desk.names("again")[0])]);
    browser.wait_for("#volumes-state", &["Every byte is intact."]);
    browser.go_to(&desk.path("open-me.html"));
    browser.give("files", &[desk.path("sent/whole.html")]);
    browser.unlock(PASSWORD);
    browser.save_everything().unwrap();
}

/// Where a browser lets a person choose a place, it is written there. A storage stands for that place here, whose handles are of the
/// same kind. In a folder a new one is made, so that nothing that is there is written over; and a place that cannot be had is told.
#[rstest]
#[case::one_archive("One ZIP file", "as it was packed")]
#[case::a_folder("Files in a folder", "as it was packed")]
#[case::a_closed_place("One ZIP file", "Choose another place.")]
fn a_place_that_was_chosen_is_written_to(#[case] way: &str, #[case] words: &str) {
    let desk = packed(&["--fit", "260KB"]);
    let Some(browser) = Browser::with_page(&desk.path("."), Device::ComputerWithStorage) else { return };
    let is_closed = words.contains("another");
    browser.run(&format!(
        "const root = navigator.storage.getDirectory();
         window.showSaveFilePicker = async ({{suggestedName}}) => {{
             if ({is_closed}) throw new DOMException('closed', 'NotAllowedError');
             return (await root).getFileHandle(suggestedName, {{create: true}});
         }};
         window.showDirectoryPicker = async () => {{
             const chosen = await (await root).getDirectoryHandle('chosen', {{create: true}});
             await (await chosen.getDirectoryHandle('wrenfall-light', {{create: true}})).getFileHandle('mine', {{create: true}});
             return chosen;
         }};"
    ));
    browser.give("files", &volumes(&desk));
    browser.unlock(PASSWORD);
    browser.click("Save everything");
    browser.click(way);
    browser.wait_for("#save", &[words]);
    let written = browser.run(
        "const sums = {};
         const walk = async (folder, path) => {
             for await (const [name, entry] of folder.entries()) {
                 if (entry.kind === 'directory') { await walk(entry, path + name + '/'); continue; }
                 const bytes = await (await entry.getFile()).arrayBuffer();
                 const sum = new Uint8Array(await crypto.subtle.digest('SHA-256', bytes));
                 sums[path + name] = [...sum].map(byte => byte.toString(16).padStart(2, '0')).join('');
                 const address = URL.createObjectURL(new Blob([bytes]));
                 if (name.endsWith('.zip')) Object.assign(document.createElement('a'), {href: address, download: name}).click();
             }
         };
         return navigator.storage.getDirectory().then(root => walk(root, '')).then(() => sums);",
    );
    if way == "One ZIP file" && !is_closed {
        let zip = browser.downloaded("zip");
        desk.run_bare(&["compare", zip.to_str().unwrap(), "wrenfall-light"]).expect(0);
    } else if !is_closed {
        let ran = in_a_shell(&desk, "find wrenfall-light -type f -exec sha256sum {} +").expect(0);
        let sources: Vec<_> = ran.out.lines().map(|line| line.split_once("  ").unwrap()).collect();
        assert_eq!(written.as_object().unwrap().len(), sources.len() + 1, "{written:#}");
        assert!(written.get("chosen/wrenfall-light/mine").is_some());
        for (sum, path) in sources {
            assert_eq!(written[format!("chosen/wrenfall-light (2)/{path}")], sum, "{path}");
        }
    }
}

/// Of an archive of changes it is told what it builds upon and what is gone, and what has changed is saved.
#[test]
fn changes_are_told_and_saved() {
    let desk = packed(&[]);
    desk.file("wrenfall-light/new.txt", b"new").file("wrenfall-light/letters/newer.txt", b"newer");
    fs::remove_file(desk.path("wrenfall-light/survey/cracks.csv")).unwrap();
    desk.run(&["pack", "wrenfall-light", "--since", "out", "--to", "changes/"]).expect(0);
    let Some(browser) = browser_at(&desk) else { return };
    let volume = desk.path("changes").join(&desk.names("changes")[0]);
    browser.give("files", &[volume]);
    browser.unlock(PASSWORD);
    browser.wait_for("#list-sums", &["2 files, 8 bytes"]);
    browser.wait_for("#list-told", &["only the changes since wrenfall-light", "The sender removed 1 file or folder"]);
    let (zip, _) = browser.save_everything().unwrap();
    let listed = desk.run_bare(&["list", zip.to_str().unwrap()]).expect(0);
    assert!(listed.out.contains("new.txt"), "{}", listed.out);
}

/// A part is saved too: a folder as a ZIP archive of its own, and one file as it is.
#[test]
fn a_part_is_saved() {
    let desk = packed(&["--fit", "260KB"]);
    let Some(browser) = browser_at(&desk) else { return };
    browser.give("files", &volumes(&desk));
    browser.unlock(PASSWORD);
    browser.wait_for("#list-title", &["wrenfall-light"]);
    // The first row's: the folder of the costs.
    browser.click("Save");
    let said = browser.wait_for("#save", &["as it was packed"]);
    assert!(said.contains("2 files, 6.9 KB") && !said.contains("receipt"), "{said}");
    let zip = browser.downloaded("zip");
    desk.run_bare(&["open", zip.to_str().unwrap(), "--into", "part", "--folder", "never"]).expect(0);
    browser.click("Done");
    browser.click("about-this-dossier.txt");
    browser.wait_for("#look-view", &["restoration dossier"]);
    browser.click("Save this file");
    browser.wait_for("#save", &["1 file, 583 bytes: every byte is as it was packed."]);
    for (there, source) in [
        (desk.path("part/wrenfall-light/costs/cost-table.csv"), "wrenfall-light/costs/cost-table.csv"),
        (browser.downloaded("txt"), "wrenfall-light/about-this-dossier.txt"),
    ] {
        assert_eq!(fs::read(there).unwrap(), fs::read(desk.path(source)).unwrap(), "{source}");
    }
}

/// Python reads it too, and names, empty files and folders, links and bytes that are no text come through.
#[test]
fn odd_names_come_out() {
    let desk = Desk::new();
    for name in
        ["turned \u{202e}gpj.exe", "a b/ö\u{308}ß – 北.txt", "a b/.hidden", "zero", "quote\"'&<b>.html", "back\\slash"]
    {
        desk.file(&format!("odd/{name}"), name.as_bytes());
    }
    fs::write(desk.path("odd").join(std::ffi::OsStr::from_bytes(b"no \xFF text")), b"bytes").unwrap();
    desk.file("odd/zero", b"");
    fs::create_dir_all(desk.path("odd/empty/folder")).unwrap();
    std::os::unix::fs::symlink("../elsewhere", desk.path("odd/link")).unwrap();
    desk.run(&["pack", "odd", "--to", "out/"]).expect(0);
    let Some(browser) = browser_at(&desk) else { return };
    browser.give("files", &volumes(&desk));
    browser.unlock(PASSWORD);
    assert!(browser.wait_for("#list-told", &["changed"]).contains("2 names cannot be written as text here"));
    // No name feigns another ending.
    assert!(browser.text("#rows").contains("turned \\u{202e}gpj.exe"), "{}", browser.text("#rows"));
    // A rehearsal knows what the page makes of such names.
    desk.run(&["rehearse", "out", "--against", "odd", "--in-browser"]).expect(0);
    let (zip, _) = browser.save_everything().unwrap();
    let script = "import zipfile, sys\nz = zipfile.ZipFile(sys.argv[1])\nassert z.testzip() is None\nfor n in sorted(z.namelist()): print(ascii(n), z.getinfo(n).file_size)";
    fs::write(desk.path("names.py"), script).unwrap();
    let ran = in_a_shell(&desk, &format!("python3 names.py '{}'", zip.display())).expect(0);
    let names = [
        r"'odd/' 0",
        r"'odd/a b/' 0",
        r"'odd/a b/.hidden' 11",
        r"'odd/a b/\xf6\u0308\xdf \u2013 \u5317.txt' 22",
        r"'odd/back_slash' 10",
        r"'odd/empty/' 0",
        r"'odd/empty/folder/' 0",
        r"'odd/link' 12",
        r"'odd/no \ufffd text' 5",
        r#"'odd/quote"\'&<b>.html' 16"#,
        r"'odd/zero' 0",
    ];
    for name in names {
        assert!(ran.out.lines().any(|line| line == name), "{name}\n{}", ran.out);
    }
}

/// What is wrong with the volumes is told as the program's check tells it, without the password, and what is whole can be had.
#[rstest]
#[case::missing(|desk: &Desk| fs::remove_file(desk.volume(3)).unwrap(), "6 of 7 volumes are here. Missing: 3.", "Every byte that is here is intact.")]
#[case::damaged(|desk: &Desk| { desk.flip(&desk.volume(3), 70_000); }, "All 7 volumes are here", "in volume 3")]
#[case::damaged_at_its_beginning(|desk: &Desk| { desk.flip(&desk.volume(3), 40).flip(&desk.volume(2), 70_000); }, "All 7 volumes are here", "in volume 2")]
#[case::renamed_and_twice(|desk: &Desk| {
    fs::copy(desk.volume(3), desk.path("out/again")).unwrap();
    fs::rename(desk.volume(1), desk.path("out/zz")).unwrap();
}, "All 7 volumes are here", "Every byte is intact.")]
fn what_is_wrong_is_told_and_what_is_whole_is_rescued(
    #[case] accident: fn(&Desk),
    #[case] here: &str,
    #[case] state: &str,
) {
    let desk = Desk::with_volumes();
    accident(&desk);
    let Some(browser) = browser_at(&desk) else { return };
    browser.give("files", &volumes(&desk));
    browser.wait_for("#volumes-told", &[here]);
    let said = browser.wait_for("#volumes-state", &["Every byte is intact.", "Copy the code"]);
    assert!(said.contains(state), "{said}");
    let checked = desk.run_bare(&["check", "out", "--json"]);
    match checked.json("/slip").as_str() {
        Some(slip) => assert!(said.contains(slip), "{slip}\n{said}"),
        None => assert!(said.contains("Every byte is intact."), "{said}"),
    }
    browser.unlock(PASSWORD);
    browser.wait_for("#list-title", &["wrenfall-light"]);
    if checked.code == 0 {
        browser.save_everything().unwrap();
        return;
    }
    if here.contains("All") {
        // The list needs none of what is damaged; to save everything does.
        assert!(browser.save_everything().unwrap_err().contains("damaged"));
        browser.click("Close");
    }
    browser.click("Find the complete files");
    browser.wait_for("#list-told", &["Every file in this list is complete."]);
    browser.save_everything().unwrap();
    let salvaged = desk.run(&["open", "out", "--salvage", "--into", "in", "--json"]);
    let lost = salvaged.json("/lost").as_array().unwrap().len();
    assert!(browser.text("#list-told").starts_with(&format!("{lost} file")), "{lost}: {}", browser.text("#list-told"));
}

/// What the sender makes again from a slip makes a set whole, under any name.
#[test]
fn a_supplement_makes_it_whole() {
    let desk = Desk::with_volumes();
    fs::create_dir(desk.path("sent")).unwrap();
    for path in volumes(&desk) {
        fs::copy(&path, desk.path("sent").join(path.file_name().unwrap())).unwrap();
    }
    desk.flip(&desk.volume(2), 70_000).flip(&desk.volume(5), 200_000);
    let slip = desk.run_bare(&["check", "out", "--json"]).json("/slip").as_str().unwrap().to_owned();
    desk.run_bare(&["resend", "sent", &slip, "--to", "again"]).expect(0);
    let again = desk.path("again").join(&desk.names("again")[0]);
    let Some(browser) = browser_at(&desk) else { return };
    browser.give("files", &volumes(&desk));
    assert!(browser.wait_for("#volumes-state", &["Copy the code"]).contains("in volumes 2 and 5"));
    browser.give("files", &[again]);
    browser.wait_for("#volumes-state", &["Every byte is intact."]);
    browser.unlock(PASSWORD);
    browser.save_everything().unwrap();
}

/// Folders are taken with all that is in them, and what is in those.
#[test]
fn folders_are_dropped_onto_it() {
    let desk = Desk::with_volumes();
    fs::create_dir(desk.path("out/more")).unwrap();
    for number in [2, 5] {
        let volume = desk.volume(number);
        fs::rename(&volume, desk.path("out/more").join(volume.file_name().unwrap())).unwrap();
    }
    fs::copy(desk.volume(1), desk.path("first")).unwrap();
    let Some(browser) = browser_at(&desk) else { return };
    browser.drop_onto_it(&[desk.path("out"), desk.path("first")]);
    browser.wait_for("#volumes-told", &["All 7 volumes are here"]);
    browser.wait_for("#volumes-notes", &["1 file is here more than once"]);
    browser.unlock(PASSWORD);
    browser.save_everything().unwrap();
}

/// Messages that were saved as they came are as good as what is attached to them.
#[test]
fn saved_messages_are_taken() {
    let desk = Desk::with_volumes();
    desk.file("board.toml", b"[fits.small]\nmessage = \"800KB\"\n");
    desk.run(&["handover", "out", "--to", "give", "--fit", "small", "--config", "board.toml"]).expect(0);
    let Some(browser) = browser_at(&desk) else { return };
    let names = desk.names("give").into_iter().filter(|name| name.ends_with(".eml"));
    browser.give("files", &names.map(|name| desk.path("give").join(name)).collect::<Vec<_>>());
    browser.wait_for("#volumes-told", &["All 7 volumes are here"]);
    // The page itself came with the first message, and is none of them.
    assert!(browser.wait_for("#volumes-notes", &["open-me.html"]).contains("not a sealed volume"));
    browser.unlock(PASSWORD);
    browser.save_everything().unwrap();
}

/// What must not be opened is not, and the next step is told.
#[rstest]
#[case::wrong_password("another one", |_: &Desk| {}, "#unlock-told", "This password does not open these files.")]
#[case::no_password("\u{85}", |_: &Desk| {}, "#unlock-told", "This cannot be a password")]
#[case::no_volume("", |desk: &Desk| {
    volumes(desk).iter().for_each(|path| fs::write(path, b"PK is something else").unwrap());
}, "#choosing-told", "is not a sealed volume")]
#[case::sent_as_text("", |desk: &Desk| {
    for path in volumes(desk) {
        let text: Vec<u8> = fs::read(&path).unwrap().into_iter().filter(|byte| *byte != b'\r').collect();
        fs::write(path, text).unwrap();
    }
}, "#choosing-told", "it was sent as text")]
#[case::two_sets("", |desk: &Desk| { desk.run(&["pack", "wrenfall-light/costs", "--to", "out/"]).expect(0); }, "#choosing-told", "These files belong to different archives.")]
fn what_cannot_be_opened_is_told(
    #[case] password: &str,
    #[case] accident: fn(&Desk),
    #[case] place: &str,
    #[case] words: &str,
) {
    let desk = Desk::with_volumes();
    accident(&desk);
    let Some(browser) = browser_at(&desk) else { return };
    browser.give("files", &volumes(&desk));
    if !password.is_empty() {
        browser.unlock(password);
    }
    browser.wait_for(place, &[words]);
}

/// A password is the same however a keyboard writes its letters.
#[test]
fn a_password_with_umlauts_opens() {
    let desk = Desk::new().with_password(false);
    desk.file("a", b"1").file("pw", "größere zwölf Fensterläden aus Glas".as_bytes());
    desk.run(&["pack", "a", "--password-from", "pw", "--to", "out/"]).expect(0);
    let Some(browser) = browser_at(&desk) else { return };
    browser.give("files", &volumes(&desk));
    browser.unlock("gro\u{308}ßere zwo\u{308}lf Fensterla\u{308}den aus Glas");
    browser.wait_for("#list-sums", &["1 file, 1 byte"]);
}

/// Nothing leaves the page, whatever tries; and nothing of a file that is looked at runs.
#[test]
fn nothing_is_sent_and_nothing_runs() {
    let desk = Desk::new();
    let page = "<script>document.title = 'ran'</script><img src=x onerror=\"document.title='ran'\">";
    desk.file("a/note.html", page.as_bytes());
    desk.file(
        "a/sketch.svg",
        format!("<svg xmlns='http://www.w3.org/2000/svg' width='9' height='9'>{page}</svg>").as_bytes(),
    );
    desk.file("a/sheet.pdf", page.as_bytes());
    desk.run(&["pack", "a", "--to", "out/"]).expect(0);
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    listener.set_nonblocking(true).unwrap();
    let address = format!("http://{}", listener.local_addr().unwrap());
    let Some(browser) = browser_at(&desk) else { return };
    browser.give("files", &volumes(&desk));
    browser.unlock(PASSWORD);
    browser.wait_for("#list-title", &["a"]);
    for name in ["note.html", "sketch.svg", "sheet.pdf"] {
        browser.click(name);
        browser.wait_for("#look-told", &[name]);
        browser.wait_for("#look", &["Close"]);
        std::thread::sleep(std::time::Duration::from_millis(300));
        assert_eq!(browser.run("return document.title"), "Open sealed files");
        browser.click("Close");
    }
    let tries = format!(
        "for (const attempt of [() => fetch('{address}'), () => navigator.sendBeacon('{address}'), () => new Image().src = '{address}/i.png', \
         () => new WebSocket('{}'), () => document.head.append(Object.assign(document.createElement('link'), {{rel: 'stylesheet', href: '{address}'}})), \
         () => document.body.append(Object.assign(document.createElement('iframe'), {{src: '{address}'}})), \
         () => document.body.append(Object.assign(document.createElement('script'), {{src: '{address}/s.js'}}))]) {{ try {{ attempt()?.catch?.(() => {{}}) }} catch {{}} }}",
        address.replace("http", "ws")
    );
    browser.run(&tries);
    std::thread::sleep(std::time::Duration::from_millis(500));
    // For a frame that the policy forbids, Chromium opens a connection ahead, and says nothing on it.
    while let Ok((mut connection, _)) = listener.accept() {
        connection.set_nonblocking(false).unwrap();
        connection.set_read_timeout(Some(std::time::Duration::from_millis(300))).unwrap();
        let mut request = [0; 400];
        let length = connection.read(&mut request).unwrap_or(0);
        assert_eq!(length, 0, "something was sent: {}", String::from_utf8_lossy(&request[..length]));
    }
}

/// Whoever flips a byte anywhere gets nothing else out: the page opens what was packed, or says that it does not.
#[rstest]
#[case::a_few(8)]
#[ignore = "takes minutes"]
#[case::many(300)]
fn no_flipped_byte_passes(#[case] flips: usize) {
    let desk = Desk::new();
    desk.file("a/levels.csv", &b"1903;4.12\n".repeat(900)).file("a/lamp.txt", b"lit");
    desk.run(&["pack", "a", "--to", "out/", "--squeeze", "hard"]).expect(0);
    let Some(browser) = browser_at(&desk) else { return };
    let (volume, address) = (volumes(&desk).remove(0), desk.path("open-me.html"));
    let whole = fs::read(&volume).unwrap();
    let wrong =
        ["damaged", "changed", "does not open", "not a sealed volume", "as text", "newer version", "contradicts"];
    for flip in 0..flips {
        // Spread over all of it, and over all bits.
        let at = (flip * 2_654_435_761) % whole.len();
        desk.flip(&volume, at);
        browser.go_to(&address);
        browser.give("files", std::slice::from_ref(&volume));
        let said = browser.wait_for("main", &[&wrong[..], &["Password"]].concat());
        if !wrong.iter().any(|words| said.contains(words)) {
            browser.unlock(PASSWORD);
            let said = browser.wait_for("main", &[&wrong[..], &["Save everything"]].concat());
            if !wrong.iter().any(|words| said.contains(words)) {
                match browser.save_everything() {
                    Ok((zip, _)) => {
                        desk.run_bare(&["compare", zip.to_str().unwrap(), "a"]).expect(0);
                        fs::remove_file(zip).unwrap();
                    }
                    Err(said) => assert!(wrong.iter().any(|words| said.contains(words)), "{at}: {said}"),
                }
            }
        }
        fs::write(&volume, &whole).unwrap();
    }
}

/// The command writes the page that is built from the sources, tells what it is known by, and writes over nothing.
#[test]
fn the_page_is_written_and_told() {
    let desk = Desk::new();
    let told = desk.run(&["page", "--json"]).expect(0);
    assert_eq!(told.json("/to"), serde_json::Value::Null);
    let ran = desk.run(&["page", "--to", "new/open-me.html"]).expect(0);
    let sum = in_a_shell(&desk, "sha256sum new/open-me.html").expect(0).out;
    assert!(sum.starts_with(told.json("/sha256").as_str().unwrap()) && ran.out.contains(&sum[..64]), "{}", ran.out);
    assert!(told.json("/bytes").as_u64().unwrap() <= 350_000);
    let refused = desk.run(&["page", "--to", "new/open-me.html"]);
    assert!(refused.code != 0 && refused.err.contains("it is there already"), "{}", refused.err);
    assert_eq!(desk.names("new"), ["open-me.html"]);
}

/// What the page takes beside the program on the same set: printed, and told in docs/limits.md.
#[test]
#[ignore = "measures; run it in a release build, with --nocapture"]
fn figures() {
    let desk = Desk::new();
    let mut noise = blake3::Hasher::new().finalize_xof();
    for number in 0..10_000 {
        let mut bytes = vec![0; 4_000];
        noise.fill(&mut bytes[..2_000]);
        desk.file(&format!("many/{:02}/{number}.dat", number % 100), &bytes);
    }
    for number in 0..16 {
        let mut bytes = vec![b'.'; 16_000_000];
        noise.fill(&mut bytes[..8_000_000]);
        desk.file(&format!("large/{number}.dat"), &bytes);
    }
    for what in ["many", "large"] {
        let _ = fs::remove_dir_all(desk.path("out"));
        // The key derivation is the usual one here.
        let pack = |desk: &Desk, arguments: &[&str]| {
            let status = desk.command(arguments).env_remove("UNDER_SEAL_DEBUG_CHEAP_KEYS").output().unwrap().status;
            assert!(status.success());
        };
        pack(&desk, &["pack", what, "--to", "out/", "--fit", "20MB"]);
        let began = Instant::now();
        pack(&desk, &["open", "out", "--into", &format!("in-{what}"), "--folder", "never"]);
        let program = began.elapsed().as_secs_f64();
        let Some(browser) = browser_at(&desk) else { return };
        browser.give("files", &volumes(&desk));
        browser.wait_for("#volumes-state", &["Every byte is intact."]);
        let began = Instant::now();
        browser.unlock(PASSWORD);
        browser.wait_for("#list-title", &[what]);
        let listed = began.elapsed().as_secs_f64();
        let began = Instant::now();
        browser.click("Save everything");
        browser.wait_for("#save", &["as it was packed"]);
        let saved = began.elapsed().as_secs_f64();
        println!(
            "{what}: list after {listed:.2} s, saved in {saved:.2} s; the program opened it in {program:.2} s, {:.2} of that",
            program / (listed + saved)
        );
    }
    let mut content = vec![0; 20_000_000];
    noise.fill(&mut content);
    desk.file("plan.dat", &content).run(&["pack", "plan.dat", "--to", "carried.html"]).expect(0);
    let Some(browser) = browser_at(&desk) else { return };
    let began = Instant::now();
    browser.go_to(&desk.path("carried.html"));
    browser.wait_for("#unlock", &["Password"]);
    println!("a page with 20 MB in it: ready after {:.2} s", began.elapsed().as_secs_f64());
}

/// Draws the page for docs/screenshots: its list, and on a telephone what it says where a volume is missing.
#[test]
#[ignore = "scripts/screenshots calls it"]
fn pictures() {
    let pictures = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs/screenshots");
    let desk = Desk::new();
    desk.run(&["demo", "--data-to", "."]).expect(0);
    let message = ["--message", "Second delivery. Mind the third step."];
    desk.run(&[&["pack", "wrenfall-light", "--to", "out/", "--fit", "260KB"], &message[..]].concat()).expect(0);
    let Some(browser) = browser_at(&desk) else { return };
    browser.give("files", &volumes(&desk));
    browser.unlock(PASSWORD);
    browser.wait_for("#list-title", &["wrenfall-light"]);
    browser.picture(&pictures.join("page.png"));
}
