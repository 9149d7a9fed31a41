//! What the documents say and what the program does are the same.

use crate::support::Desk;
use rstest::rstest;
use serde_json::Value;
use std::collections::BTreeSet;
use std::fs;
use std::path::Path;

fn document(name: &str) -> String {
    fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(name)).unwrap()
}

/// The words in back quotes in the first cells of the tables under a heading.
fn fields_told(heading: &str) -> BTreeSet<String> {
    let document = document("docs/json.md");
    let section = document.split("\n## ").find(|section| section.starts_with(heading)).unwrap();
    let cells = section.lines().filter_map(|line| line.strip_prefix("| `")?.split(" | ").next());
    cells
        .flat_map(|cell| cell.split('`').filter(|word| word.starts_with(char::is_lowercase)).map(str::to_owned))
        .collect()
}

#[rstest]
#[case::pack("pack", &["pack", "wrenfall-light", "--to", "again/", "--json"])]
#[case::plan("plan", &["plan", "wrenfall-light", "--json"])]
#[case::fits("fits", &["fits", "--json"])]
#[case::check("check", &["check", "out", "--json"])]
#[case::check_of_zip("check: other formats", &["check", "z.zip", "--json"])]
#[case::about_zip("about: other formats", &["about", "z.zip", "--json"])]
#[case::list("list", &["list", "out", "--json"])]
#[case::about("about", &["about", "out", "--json"])]
#[case::compare("compare", &["compare", "out", "wrenfall-light", "--json"])]
#[case::revise("revise", &["revise", "out", "--remove", "*.csv", "--json"])]
#[case::recast("recast", &["recast", "out", "--one-volume", "--json"])]
#[case::recast_otherwise("recast: another format", &["recast", "out", "--as", "zip", "--to", "made/", "--json"])]
#[case::relock("relock", &["relock", "out", "--new-password-from", "new", "--json"])]
#[case::receipt("receipt", &["receipt", "out", "--json"])]
#[case::rehearse("rehearse", &["rehearse", "out", "--against", "wrenfall-light", "--json"])]
#[case::portion("portion", &["portion", "wrenfall-light/costs/cost-table.csv", "--fit", "5KB", "--json"])]
#[case::handover("handover", &["handover", "out", "--to", "give", "--json"])]
#[case::open("open", &["open", "out", "--into", "inbox", "--json"])]
fn the_json_document_names_every_field(#[case] heading: &str, #[case] arguments: &[&str]) {
    let desk = Desk::with_volumes();
    if arguments.contains(&"z.zip") {
        desk.run(&["pack", "wrenfall-light", "--to", "z.zip"]).expect(0);
    }
    desk.file("new", b"a quite new set of words");
    let printed = desk.run(arguments).expect(0).json("");
    let Value::Object(object) = printed else { panic!("no object") };
    let mut told = fields_told(heading);
    told.retain(|field| !field.contains('['));
    told.extend(["command".to_owned(), "exit_code".to_owned()]);
    assert_eq!(object.keys().cloned().collect::<BTreeSet<_>>(), told);
}

#[rstest]
fn the_documents_name_every_option(
    #[values(
        "plan",
        "pack",
        "fits",
        "check",
        "list",
        "about",
        "peek",
        "open",
        "compare",
        "revise",
        "recast",
        "relock",
        "rehearse",
        "handover",
        "resend",
        "receipt",
        "confirm",
        "portion",
        "reunite",
        "demo",
        "page",
        "guide",
        "help",
        "completions",
        "manual"
    )]
    command: &str,
) {
    let help = Desk::new().run(&[command, "--help"]).expect(0).out;
    let options = help
        .lines()
        .filter_map(|line| line.trim_start().strip_prefix("--"))
        .map(|rest| rest.split([' ', '=']).next().unwrap().to_owned());
    let names = [
        "README",
        "docs/sending",
        "docs/receiving",
        "docs/proof",
        "docs/keeping",
        "docs/passwords",
        "docs/patterns",
        "docs/configuration",
    ];
    let documents = names.map(|name| document(&format!("{name}.md"))).concat();
    for option in options {
        assert!(documents.contains(&format!("--{option}")), "no document says anything of --{option}");
    }
}

/// Every exit code that the documents name is one that some test of this crate expects.
#[test]
fn every_exit_code_is_tested() {
    let table = document("docs/exit-codes.md");
    let codes = table.lines().filter_map(|line| line.strip_prefix("| ")?.split(" |").next()?.parse::<u8>().ok());
    let tests: String = ["story", "trouble", "terminal", "sending", "planning"]
        .map(|name| document(&format!("crates/cli/tests/all/{name}.rs")))
        .concat();
    let mut found = 0;
    for code in codes {
        found += 1;
        let expected = [format!(".expect({code})"), format!("], {code}, \"")];
        assert!(expected.iter().any(|text| tests.contains(text)), "no test expects exit code {code}");
    }
    assert_eq!(found, 10);
}
