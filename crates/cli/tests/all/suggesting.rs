//! Every suggestion runs: each line that a command prints as what to type next is typed as it stands, in the folder in which it was printed
//! (or, where it is the recipient's, in that of the volumes), in a copy of everything as it was then.

use crate::support::{Desk, in_a_shell};
use rstest::rstest;
use std::fs;

/// Lines that a run suggests, as they can be typed. What stands for a name that only the reader knows is passed over.
fn suggestions(text: &str) -> Vec<&str> {
    let typed = text.lines().filter_map(|line| line.strip_prefix("  under-seal "));
    typed
        .filter(|line| !["KEY-FILE", "VOLUME", "FOLDER"].iter().any(|name| line.split(' ').any(|word| word == *name)))
        .collect()
}

/// Everything that lies on a desk, once more.
fn copy_of(desk: &Desk) -> Desk {
    let copy = Desk::new();
    in_a_shell(desk, &format!("cp -a . '{}'", copy.path(".").display())).expect(0);
    copy
}

const VOLUMES: &str = "PROGRAM pack wrenfall-light --to out/ --fit 260KB";
const SPARES: &str = "PROGRAM pack wrenfall-light --to out/ --fit 260KB --spares 2";
const PARCELS: &str = "PROGRAM pack wrenfall-light --to out/ --fit 500KB --parcels";
const CHANGES: &str = "PROGRAM pack wrenfall-light --to first; echo 1 > wrenfall-light/new; PROGRAM pack wrenfall-light --since first.useal \
                       --to out/second; PROGRAM open first.useal --into opened; PROGRAM open first.useal --into out/opened";
const FORGE: &str = "printf X | dd of=out/wrenfall-light-03of07.useal bs=1 seek=100000 conv=notrunc";
const PIECES: &str = "PROGRAM pack wrenfall-light --to a; mkdir cut; PROGRAM portion a.useal --fit 500KB --to cut";
const TWO: &str = "PROGRAM pack wrenfall-light/letters --to out/; PROGRAM pack wrenfall-light/costs --to out/";

/// What is prepared, what is run then, with which exit code, where its suggestions are typed, and how many there are.
#[rstest]
#[case::pack("true", "pack wrenfall-light --to out/", 0, "out", 1)]
#[case::pack_volumes("true", "pack wrenfall-light --to out/ --fit 260KB", 0, "out", 1)]
#[case::pack_spares("true", "pack wrenfall-light --to out/ --fit 260KB --spares 2", 0, "out", 1)]
#[case::pack_page("true", "pack wrenfall-light --to out/a.html", 0, "out", 1)]
#[case::pack_zip("true", "pack wrenfall-light --to out/a.zip", 0, "out", 1)]
#[case::pack_zip_in_parts("true", "pack wrenfall-light --to out/a.zip --fit 500KB", 0, "out", 1)]
#[case::pack_tar("true", "pack wrenfall-light --to out/a.tar.zst --no-password", 0, "out", 1)]
#[case::pack_parcels("true", "pack wrenfall-light --to out/ --parcels --fit 500KB", 0, "out", 1)]
#[case::pack_changes(CHANGES, "pack wrenfall-light --since first.useal --to out/third", 0, "out", 1)]
#[case::pack_lone_volume(VOLUMES, "pack out/wrenfall-light-01of07.useal --to x", 1, ".", 1)]
#[case::plan("true", "plan wrenfall-light --fit 260KB --every-squeeze --json=never", 2, ".", 0)]
#[case::plan_all("true", "plan wrenfall-light --fit 260KB --every-squeeze", 0, ".", 1)]
#[case::plan_parcels("true", "plan wrenfall-light --fit 500KB --parcels --leave-out '*.tmp'", 1, ".", 1)]
#[case::check(VOLUMES, "check out", 0, ".", 1)]
#[case::check_inside(VOLUMES, "check out --ask-password", 0, ".", 1)]
#[case::check_page("PROGRAM pack wrenfall-light --to out/a.html", "check out/a.html", 0, ".", 1)]
#[case::check_changes(CHANGES, "check out/second.useal --ask-password", 0, ".", 1)]
#[case::check_parcels(PARCELS, "check out", 0, ".", 1)]
#[case::check_one_parcel(PARCELS, "check out/wrenfall-light-parcel1of4.useal", 0, ".", 1)]
#[case::check_several(TWO, "check out", 0, ".", 1)]
#[case::check_made_good(&format!("{SPARES}; rm out/*03of07*"), "check out", 1, ".", 1)]
#[case::check_piece(PIECES, "check cut/a.useal.01of04", 5, ".", 1)]
#[case::open_piece(PIECES, "open cut/a.useal.01of04", 5, ".", 1)]
#[case::mend(&format!("{SPARES}; rm out/*03of07*"), "mend out", 0, ".", 1)]
#[case::mend_without_a_spare(&format!("{SPARES}; rm out/*03of07* out/*spare1*"), "mend out --to mended", 0, ".", 1)]
#[case::mend_beside(&format!("{SPARES}; rm out/*spare1*"), "mend out", 0, ".", 1)]
#[case::mend_too_much(&format!("{VOLUMES}; rm out/*03of07*"), "mend out", 4, ".", 1)]
#[case::compare(&format!("{VOLUMES}; echo 1 > wrenfall-light/new"), "compare out wrenfall-light", 1, ".", 2)]
#[case::compare_zip(
    "PROGRAM pack wrenfall-light --to a.zip; echo 1 > wrenfall-light/new",
    "compare a.zip wrenfall-light",
    1,
    ".",
    1
)]
#[case::compare_changes(&format!("{CHANGES}; echo 2 > wrenfall-light/newer"), "compare out/second.useal wrenfall-light", 1, ".", 1)]
#[case::compare_one_parcel(PARCELS, "compare out/wrenfall-light-parcel1of4.useal wrenfall-light", 0, ".", 1)]
#[case::rehearse_one_parcel(
    PARCELS,
    "rehearse out/wrenfall-light-parcel1of4.useal --against wrenfall-light",
    0,
    ".",
    1
)]
#[case::rehearse_too_long(VOLUMES, "rehearse out --against wrenfall-light --through mail --limit 200KB", 1, ".", 1)]
#[case::handover_too_long("PROGRAM pack wrenfall-light --to a", "handover a.useal --to give --fit mail-1", 2, ".", 1)]
#[case::recast_unfilled(VOLUMES, "recast out --fit 100KB --to cut/", 0, ".", 1)]
#[case::recast_nothing(VOLUMES, "recast out --fit 260KB --to cut/", 2, ".", 0)]
#[case::portion("PROGRAM pack wrenfall-light --to a", "portion a.useal --fit 500KB --to out", 0, "out", 1)]
#[case::portion_folder("true", "portion wrenfall-light --fit 500KB", 2, ".", 1)]
#[case::open_changes_alone(CHANGES, "open out/second.useal --into elsewhere", 6, ".", 0)]
#[case::forged(&format!("{SPARES}; {FORGE}"), "check out", 1, ".", 1)]
#[cfg_attr(windows, ignore = "it needs a shell of Unix")]
fn every_suggestion_runs_as_it_stands(
    #[case] prepared: &str,
    #[case] line: &str,
    #[case] code: i32,
    #[case] folder: &str,
    #[case] expected: usize,
) {
    let desk = Desk::new();
    desk.run(&["demo", "--data-to", "."]).expect(0);
    in_a_shell(&desk, prepared);
    let ran = in_a_shell(&desk, &format!("PROGRAM {line}"));
    let told = format!("{}\n{}", ran.out, ran.err);
    assert_eq!(ran.code, code, "{told}");
    let suggested = suggestions(&told);
    assert!(suggested.len() >= expected, "{told}");
    for typed in suggested {
        let copy = copy_of(&desk);
        assert!(fs::exists(copy.path(folder)).unwrap(), "{told}");
        // Paths that are told whole are those of the copy.
        let typed = typed.replace(
            desk.path(".").to_str().unwrap().trim_end_matches('.'),
            copy.path(".").to_str().unwrap().trim_end_matches('.'),
        );
        let bare = if line.contains("--no-password") { "unset UNDER_SEAL_PASSWORD; " } else { "" };
        let followed = in_a_shell(&copy, &format!("cd {folder}; {bare}PROGRAM {typed}"));
        // Whoever lacks something is led to what says what.
        let is_verdict = typed.starts_with("check ") && [4, 5].contains(&followed.code);
        assert!(followed.code <= 1 || is_verdict, "{typed}: {} {}\n\nof: {told}", followed.out, followed.err);
    }
}
