//! Messages as places: volumes are found and read in what is attached, however it is encoded and wherever the message lies; and
//! whatever is in a message costs a reader no more than a pass over it.

use crate::support::messages::{message, part};
use crate::support::{Desk, PASSWORD, gather, noise, zip};
use rstest::rstest;
use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};
use under_seal_core::disk::Interruption;
use under_seal_core::formats::error::ArchiveError;
use under_seal_core::formats::finding::lying_in;
use under_seal_core::formats::messages::MAX_DEPTH;
use under_seal_core::formats::messages::structure::Flaw;
use under_seal_core::formats::reader::Flaws;
use under_seal_core::formats::registry::ZIP;
use under_seal_core::formats::sealed::SealedReader;
use under_seal_core::formats::sealed::volume::{GatherError, VolumeSet};
use under_seal_core::formats::zip::ZipError;
use under_seal_core::ground::secrets::{Credentials, Password};
use under_seal_core::tasks::check::{VolumeState, inspect};
use under_seal_core::tasks::open::open;
use under_seal_core::tasks::portion::{PortionRequest, portion};
use under_seal_core::tasks::reunite::{Pieces, ReuniteError, reunite};

/// A message that is sent on in another one.
fn sent_on(inner: &[u8]) -> Vec<u8> {
    let part = [b"Content-Type: message/rfc822\r\n\r\n", inner].concat();
    message("outer", &[part])
}

/// A desk with a sealed set of three volumes, and their bytes.
fn desk_with_volumes() -> (Desk, Vec<Vec<u8>>) {
    let desk = Desk::new();
    desk.source("noise", &noise(180_000));
    let volumes: Vec<Vec<u8>> = desk.pack("70KB").iter().map(|path| fs::read(path).unwrap()).collect();
    assert_eq!(volumes.len(), 3);
    (desk, volumes)
}

fn gathered(desk: &Desk, names: &[&str]) -> Result<VolumeSet, GatherError> {
    gather(&names.iter().map(|name| desk.path(name)).collect::<Vec<_>>())
}

fn written(desk: &Desk, name: &str, bytes: &[u8]) -> PathBuf {
    let path = desk.path(name);
    fs::create_dir_all(path.parent().unwrap()).unwrap();
    fs::write(&path, bytes).unwrap();
    path
}

fn comes_out(desk: &Desk, set: VolumeSet) {
    let credentials = Credentials::from(Password::new(PASSWORD).unwrap());
    let mut archive = SealedReader::unlock(set, &credentials).unwrap();
    desk.with_context(&|| false, |context| open(&mut archive, desk.path("inbox").as_path(), context).unwrap());
    assert!(fs::read(desk.path("inbox/source/noise")).unwrap() == noise(180_000));
}

/// Whoever wants to stop need not wait for the end of a mailbox.
#[test]
fn looking_through_messages_can_be_stopped() {
    let (desk, volumes) = desk_with_volumes();
    let path = written(&desk, "mail/box", &message("b", &[part("x", "base64", &volumes[0])]));
    for place in [path, desk.path("mail")] {
        let gathered = desk.with_context(&|| true, |context| VolumeSet::gather(&[place], context));
        assert!(matches!(gathered, Err(GatherError::Interrupted(Interruption::Cancelled(_)))), "{gathered:?}");
    }
}

/// In whatever way a message carries them, under whatever names; and only the messages are there.
#[rstest]
#[case::base64("base64")]
#[case::quoted_printable("quoted-printable")]
#[case::as_they_are("binary")]
fn volumes_are_read_where_they_are_attached(#[case] encoding: &str, #[values(false, true)] is_sent_on: bool) {
    let (desk, volumes) = desk_with_volumes();
    let wrap = |bytes: Vec<u8>| if is_sent_on { sent_on(&bytes) } else { bytes };
    let both = [part("../../a climbing name", encoding, &volumes[2]), part("x", encoding, &volumes[0])];
    written(&desk, "mail/one.eml", &wrap(message("b", &both)));
    written(&desk, "mail/no ending", &wrap(message("--strange (boundary)", &[part("y", encoding, &volumes[1])])));
    written(&desk, "mail/other.eml", b"From: a@example.invalid\n\nNothing is attached.\n");
    let set = gathered(&desk, &["mail"]).unwrap();
    assert!(set.missing().is_empty() && set.flawed_messages.is_empty());
    // The end of the line before a boundary is no part of what is attached.
    let attached: u64 = set.files().map(|file| file.length).sum();
    assert_eq!(attached as usize, volumes.iter().map(Vec::len).sum::<usize>());
    comes_out(&desk, set);
    // Any of the messages stands for all, and one without volumes does no harm.
    for names in [&["mail/one.eml"][..], &["mail/other.eml", "mail/no ending"]] {
        assert!(gathered(&desk, names).unwrap().missing().is_empty(), "{names:?}");
    }
}

/// A mailbox of one file has other messages between, and lines that begin like those between messages; one of many files has folders.
#[test]
fn mailboxes_are_places() {
    let (desk, volumes) = desk_with_volumes();
    let separator = "From keeper@example.invalid Sat Nov 28 10:00:00 2026\n";
    let other = "Subject: none\n\n>From time to time\nFrom here on\n\nFrom 10 to 12 it is open.\n\n";
    let mut mailbox = Vec::new();
    for (number, volume) in volumes.iter().enumerate() {
        mailbox.extend([separator, other].concat().repeat(20).bytes());
        let message = message(&format!("={number}"), &[part("v", "base64", volume)]);
        mailbox.extend([separator.as_bytes(), &message, b"\n"].concat());
        written(&desk, &format!("Maildir/{}/{number}:2,S", ["cur", "new", "cur"][number]), &message);
    }
    written(&desk, "box/board", &mailbox);
    for names in [&["box/board"][..], &["box"], &["Maildir"]] {
        let set = gathered(&desk, names).unwrap();
        assert!(set.missing().is_empty(), "{names:?}");
    }
    comes_out(&desk, gathered(&desk, &["box/board"]).unwrap());
}

/// What a message lost is lost where it was, and nowhere else.
#[rstest]
#[case::a_letter(|bytes: &mut Vec<u8>, at: usize| bytes[at] = b'!', 1)]
#[case::cut_off(|bytes: &mut Vec<u8>, at: usize| bytes.truncate(at), 1)]
#[case::a_line_that_was_added(|bytes: &mut Vec<u8>, at: usize| { bytes.splice(at..at, *b"\r\n \t\r\n"); }, 0)]
fn damage_stays_where_it_is(#[case] damage: fn(&mut Vec<u8>, usize), #[case] damaged: usize) {
    let (desk, volumes) = desk_with_volumes();
    let parts: Vec<Vec<u8>> = volumes.iter().map(|volume| part("v", "base64", volume)).collect();
    let mut bytes = message("b", &parts);
    let at = bytes.len() - 20_000;
    damage(&mut bytes, at);
    written(&desk, "mail/one.eml", &bytes);
    let set = gathered(&desk, &["mail"]).unwrap();
    let found = desk.with_context(&|| false, |context| inspect(&set, context).unwrap());
    assert_eq!(found.numbers(VolumeState::Damaged).len(), damaged, "{found:#?}");
    let lost: u32 = found.lost.iter().map(|run| run.count).sum();
    assert_eq!(lost as usize, damaged, "{:?}", found.lost);
    let is_told_cut = set.flawed_messages.iter().any(|(_, flawed)| flawed.flaw == Flaw::Cut);
    assert_eq!(is_told_cut, !bytes.ends_with(b"An epilogue.\r\n"));
}

/// A boundary within, so deep.
fn nested_parts(depth: usize) -> Vec<u8> {
    let one = |level: usize| format!("Content-Type: multipart/mixed; boundary=b{level}\r\n\r\n--b{level}\r\n");
    ["From: a@example.invalid\r\n".to_owned(), (0..depth).map(one).collect()].concat().into_bytes()
}

fn nested_messages(depth: usize) -> Vec<u8> {
    ["From: a@example.invalid\r\n", &"Content-Type: message/rfc822\r\n\r\n".repeat(depth)].concat().into_bytes()
}

fn many_parts(count: usize) -> Vec<u8> {
    message("b", &vec![part("n.useal", "base64", b"USL, and nothing else"); count])
}

/// Whatever a message claims, a reader comes to an end; the flaws that it names.
#[rstest]
#[case::deep_parts(nested_parts(100_000), &[Flaw::TooDeep, Flaw::Cut])]
#[case::deep_messages(nested_messages(100_000), &[Flaw::TooDeep])]
#[case::as_deep_as_allowed(nested_messages(MAX_DEPTH), &[])]
#[case::many_small_parts(many_parts(100_000), &[])]
#[case::one_boundary_inside_another(message("b", &[message("b", &[message("bb", &[])])]), &[])]
#[case::a_boundary_that_never_comes(b"Content-Type: multipart/mixed; boundary=never\n\n--other\n\nx\n".to_vec(), &[Flaw::Cut])]
#[case::no_boundary(b"Content-Type: multipart/mixed\n\n--\n\n----\n\nx\n".to_vec(), &[])]
#[case::a_long_header([b"From: a@example.invalid\nX: ".to_vec(), vec![b'x'; 3_000_000], b"\n y\n\nx".to_vec()].concat(), &[])]
#[case::many_fields([b"From: a@example.invalid\n".to_vec(), b"Content-Type: text/plain; a=b\n".repeat(100_000)].concat(), &[])]
#[case::no_end_of_line(vec![b'F'; 2_000_000], &[])]
#[case::encoded_parts(b"Content-Type: multipart/mixed; boundary=b\nContent-Transfer-Encoding: base64\n\nAAAA".to_vec(), &[Flaw::UnknownEncoding])]
#[case::an_unknown_encoding(message("b", &[part("v", "x-own", b"1")]), &[Flaw::UnknownEncoding])]
fn hostile_messages_end(#[case] bytes: Vec<u8>, #[case] flaws: &[Flaw]) {
    let (desk, volumes) = desk_with_volumes();
    written(&desk, "mail/hostile.eml", &bytes);
    // Volume 2 beside it is not whole, so that messages are looked into.
    written(&desk, "mail/volume", &volumes[1]);
    let set = gathered(&desk, &["mail"]).unwrap();
    let found: BTreeSet<Flaw> = set.flawed_messages.iter().map(|(_, flawed)| flawed.flaw).collect();
    assert_eq!(found, flaws.iter().copied().collect());
    assert_eq!(set.missing(), [1, 3]);
}

/// A volume that is named speaks of no messages beside it; and where a whole set lies in a folder, messages are not asked.
#[test]
fn messages_are_looked_into_where_something_is_missing() {
    let (desk, volumes) = desk_with_volumes();
    for (number, volume) in volumes.iter().enumerate() {
        written(&desk, &format!("mail/{number}"), volume);
    }
    written(
        &desk,
        "mail/all.eml",
        &message("b", &volumes.iter().map(|one| part("v", "base64", one)).collect::<Vec<_>>()),
    );
    let attached = |set: &VolumeSet| set.volumes.values().flatten().filter(|file| file.spot.attached.is_some()).count();
    assert_eq!(attached(&gathered(&desk, &["mail"]).unwrap()), 0);
    assert_eq!(attached(&gathered(&desk, &["mail/all.eml"]).unwrap()), 3);
    fs::remove_file(desk.path("mail/1")).unwrap();
    assert_eq!(attached(&gathered(&desk, &["mail"]).unwrap()), 3);
    assert_eq!(gathered(&desk, &["mail/0"]).unwrap().missing(), [2]);
    let own = gathered(&desk, &["mail/all.eml"]).unwrap();
    assert!(own.volumes.values().flatten().all(|file| file.spot.path.starts_with(Path::new(&desk.path("mail")))));
}

/// Parts of a ZIP archive in messages, and a document that is made like one; which parts are missing, as plain files beside them or not at all.
#[rstest]
#[case::all_attached(None, false, &[])]
#[case::one_in_a_file(Some(0), true, &[])]
#[case::the_last_in_a_file(Some(2), true, &[])]
#[case::one_nowhere(Some(1), false, &[2])]
fn parts_of_a_zip_archive_are_found_in_messages(
    #[case] apart: Option<usize>,
    #[case] in_a_file: bool,
    #[case] missing: &[u32],
    #[values("mail", "mail/one.eml")] place: &str,
) {
    let desk = Desk { format: &ZIP, ..Desk::new() };
    desk.source("noise", &noise(180_000));
    let parts = desk.pack("70KB");
    let part_of = |number: &usize| {
        let name = parts[*number].file_name().unwrap().to_str().unwrap();
        part(name, "base64", &fs::read(&parts[*number]).unwrap())
    };
    let attached: Vec<Vec<u8>> =
        (0..parts.len()).filter(|number| apart != Some(*number)).map(|number| part_of(&number)).collect();
    let letter = part("letter.docx", "base64", &zip::archive(&[zip::entry("a", b"lit")], b"", b"").bytes);
    written(&desk, "mail/one.eml", &message("b", &[&[letter], &attached[..1]].concat()));
    written(&desk, "mail/two.eml", &message("c", &attached[1..]));
    if let Some(number) = apart.filter(|_| in_a_file) {
        fs::copy(&parts[number], desk.path("mail").join(parts[number].file_name().unwrap())).unwrap();
    }
    desk.with_context(&|| false, |context| {
        let found = lying_in(&[desk.path(place)], context).unwrap().unwrap();
        match found.open(Flaws::Refused, context) {
            Err(ArchiveError::Zip(ZipError::MissingParts { missing: told, .. })) => assert_eq!(told, missing),
            Err(error) => panic!("{error}"),
            Ok(archive) => {
                assert!(missing.is_empty());
                let credentials = Credentials::from(Password::new(PASSWORD).unwrap());
                let mut archive = archive.unlock(&credentials, context).unwrap();
                open(&mut *archive, desk.path("inbox").as_path(), context).unwrap();
                assert!(fs::read(desk.path("inbox/source/noise")).unwrap() == noise(180_000));
            }
        }
    });
}

/// Plain pieces in messages, under their names or others; and messages that are numbered are none themselves.
#[rstest]
#[case::in_a_folder("mail", &[], None)]
#[case::by_a_message("mail/message-1of3.eml", &[], None)]
#[case::one_in_a_file("mail", &[1], None)]
#[case::one_nowhere("mail", &[], Some(1))]
fn pieces_are_found_in_messages(#[case] place: &str, #[case] in_files: &[usize], #[case] nowhere: Option<usize>) {
    let desk = Desk::new();
    let whole = noise(50_000);
    let file = written(&desk, "scan.tif", &whole);
    let target = desk.path("cut");
    let request = PortionRequest { file: &file, folder: &target, limit: 20_000 };
    desk.with_context(&|| false, |context| portion(&request, context).unwrap());
    fs::create_dir(desk.path("mail")).unwrap();
    let mut names: Vec<String> =
        fs::read_dir(&target).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
    names.sort();
    assert_eq!(names.len(), 4, "three pieces and their list");
    for (number, name) in names.iter().enumerate().filter(|(number, _)| nowhere != Some(*number)) {
        let bytes = fs::read(target.join(name)).unwrap();
        if in_files.contains(&number) {
            fs::write(desk.path("mail").join(name), bytes).unwrap();
        } else {
            // What is renamed on its way is known by the list.
            let name = if number == 2 { "x" } else { name };
            written(&desk, &format!("mail/message-{number}of3.eml"), &message("b", &[part(name, "base64", &bytes)]));
        }
    }
    desk.with_context(&|| false, |context| {
        let pieces = Pieces::find(&[desk.path(place)], context).unwrap();
        match (reunite(&pieces, &desk.path("joined"), None, context), nowhere) {
            (Ok(joined), None) => {
                assert!(joined.compared);
                assert_eq!(fs::read(joined.path).unwrap(), whole);
            }
            (Err(ReuniteError::Missing { missing, .. }), Some(_)) => assert_eq!(missing, [2]),
            (outcome, _) => panic!("{outcome:?}"),
        }
    });
}
