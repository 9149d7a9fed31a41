//! Taking out a part of an archive: exactly what is wanted, and no more is read than it takes.

use crate::support::{Desk, noise, tree};
use proptest::prelude::*;
use std::collections::BTreeSet;
use std::path::PathBuf;
use under_seal_core::formats::reader::ArchiveReader as _;
use under_seal_core::ground::entry::EntryKind;
use under_seal_core::tasks::open::open_some;

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]
    #[test]
    fn any_choice_of_entries_lands_as_it_was(
        files in prop::collection::vec((0_usize..3, 0_usize..3, 0_usize..1_500_000), 1..12),
        wanted in prop::collection::vec(any::<prop::sample::Index>(), 1..6),
    ) {
        let desk = Desk::new();
        for (place, (folder, deeper, length)) in files.iter().enumerate() {
            desk.source(&format!("{folder}/{deeper}/{place}"), &noise(*length));
        }
        let mut archive = desk.unlock(&desk.pack("")).unwrap();
        let count = archive.entries().unwrap().len();
        let wanted: BTreeSet<usize> = wanted.iter().map(|index| index.index(count)).collect();
        let wanted: Vec<usize> = wanted.into_iter().collect();
        desk.with_context(&|| false, |context| open_some(&mut archive, &wanted, &desk.path("in"), context)).unwrap();
        let (sent, landed) = (tree(&desk.path("source")), tree(&desk.path("in/source")));
        // What was wanted, and the folders above it.
        let mut expected: BTreeSet<PathBuf> = BTreeSet::from([PathBuf::new()]);
        for place in wanted {
            let path = String::from_utf8(archive.entries().unwrap()[place].entry.path.as_bytes().to_vec()).unwrap();
            let path = PathBuf::from(path).strip_prefix("source").unwrap().to_owned();
            expected.extend(path.ancestors().map(std::path::Path::to_owned));
        }
        prop_assert_eq!(landed.keys().cloned().collect::<BTreeSet<_>>(), expected);
        prop_assert!(landed.iter().all(|(path, content)| sent[path] == *content));
    }
}

#[test]
fn only_the_frames_of_what_is_wanted_are_read() {
    let desk = Desk::new();
    for file in 0..8 {
        desk.source(&format!("{file}"), &noise(1_500_000));
    }
    let mut archive = desk.unlock(&desk.pack("")).unwrap();
    let listing = archive.bytes_read();
    let is_first = |place: &usize| archive.entries().unwrap()[*place].entry.kind == EntryKind::File;
    let first = (0..archive.entries().unwrap().len()).find(is_first).unwrap();
    desk.with_context(&|| false, |context| open_some(&mut archive, &[first], &desk.path("in"), context)).unwrap();
    assert!(archive.bytes_read() - listing < 3_500_000, "{}", archive.bytes_read() - listing);
}
