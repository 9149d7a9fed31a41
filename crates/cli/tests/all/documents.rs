//! What the documents say and what the program does are the same.

use crate::support::Desk;
use rstest::rstest;
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

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
#[case::mend("mend", &["mend", "out", "--add-spares", "1", "--json"])]
#[case::receipt("receipt", &["receipt", "out", "--json"])]
#[case::rehearse("rehearse", &["rehearse", "out", "--against", "wrenfall-light", "--json"])]
#[case::portion("portion", &["portion", "wrenfall-light/costs/cost-table.csv", "--fit", "5KB", "--json"])]
#[case::handover("handover", &["handover", "out", "--to", "give", "--json"])]
#[case::open("open", &["open", "out", "--into", "inbox", "--json"])]
#[case::peek("peek", &["peek", "out", "costs/cost-table.csv", "--json"])]
#[case::help("help", &["help", "sizes", "--json"])]
#[case::completions("completions", &["completions", "zsh", "--json"])]
#[case::manual("manual", &["manual", "--to", "man", "--json"])]
#[case::page("page", &["page", "--json"])]
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
        "mend",
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

/// The kinds of values (but `null`) that each field has, however deep it lies.
fn kinds_of_fields(value: &Value, kinds: &mut BTreeMap<String, BTreeSet<&'static str>>) {
    match value {
        Value::Array(values) => values.iter().for_each(|value| kinds_of_fields(value, kinds)),
        Value::Object(fields) => {
            for (name, value) in fields {
                let kind = match value {
                    Value::Null => continue,
                    Value::Bool(_) => "yes or no",
                    Value::Number(_) => "number",
                    Value::String(_) => "text",
                    Value::Array(values) if values.iter().all(Value::is_object) => "objects",
                    Value::Array(values) if values.iter().all(Value::is_number) => "numbers",
                    Value::Array(_) => "texts",
                    Value::Object(_) => "object",
                };
                let is_empty = value.as_array().is_some_and(Vec::is_empty);
                kinds.entry(name.clone()).or_default().extend((!is_empty).then_some(kind));
                kinds_of_fields(value, kinds);
            }
        }
        _ => {}
    }
}

/// One name means one thing: whatever command prints a field, it has the same kind of value.
#[test]
fn a_field_means_the_same_everywhere() {
    let desk = Desk::with_volumes();
    desk.file("new", b"a quite new set of words").file("broken/a.useal", b"x");
    desk.run(&["pack", "wrenfall-light", "--to", "z.zip", "--message", "Mind the step."]).expect(0);
    let slip = {
        std::fs::create_dir(desk.path("part")).unwrap();
        std::fs::copy(desk.volume(7), desk.path("part/7")).unwrap();
        desk.run(&["check", "part", "--json"]).expect(4).json("/slip").as_str().unwrap().to_owned()
    };
    let receipt = desk.run(&["receipt", "out", "--json"]).expect(0).json("/receipt").as_str().unwrap().to_owned();
    desk.file("later/wrenfall-light/costs/cost-table.csv", b"1");
    let lines: &[&[&str]] = &[
        &["plan", "wrenfall-light", "--every-format", "--every-squeeze", "--fit", "260KB"],
        &["plan", "wrenfall-light", "--parcels", "--fit", "500KB"],
        &["pack", "wrenfall-light", "--to", "m/", "--message", "Mind the step."],
        &["pack", "wrenfall-light", "--to", "c/", "--since", "out"],
        &["pack", "nothing"],
        &["fits"],
        &["page"],
        &["check", "out"],
        &["check", "part"],
        &["check", "z.zip"],
        &["list", "out"],
        &["list", "z.zip"],
        &["about", "out"],
        &["about", "m"],
        &["about", "z.zip"],
        &["peek", "out", "costs/cost-table.csv"],
        &["peek", "out", "costs"],
        &["compare", "out", "later/wrenfall-light"],
        &["receipt", "out"],
        &["confirm", "out", &receipt],
        &["resend", "out", &slip, "--to", "again"],
        &["rehearse", "out", "--against", "wrenfall-light", "--lose", "1"],
        &["handover", "out", "--to", "give", "--fit", "mail-10"],
        &["open", "z.zip", "--into", "in"],
        &["open", "part", "--into", "in2", "--salvage"],
        &["portion", "wrenfall-light/costs/cost-table.csv", "--fit", "5KB", "--to", "pieces"],
        &["reunite", "pieces/cost-table.csv.1of2"],
        &["revise", "m", "--remove", "*.csv"],
        &["recast", "m", "--one-volume", "--dry-run"],
        &["recast", "out", "--as", "zip", "--to", "made/"],
        &["relock", "m", "--new-password-from", "new"],
        &["help", "sizes"],
        &["completions", "bash"],
        &["manual", "--to", "man"],
        &["pack", "--nonsense"],
    ];
    let mut kinds = BTreeMap::new();
    for line in lines {
        let ran = desk.run(&[line, &["--json"][..]].concat());
        kinds_of_fields(
            &serde_json::from_str(&ran.out).unwrap_or_else(|_| panic!("{line:?}: {}{}", ran.out, ran.err)),
            &mut kinds,
        );
    }
    let several: Vec<_> = kinds.iter().filter(|(_, kinds)| kinds.len() > 1).collect();
    assert!(kinds.len() > 100 && several.is_empty(), "{several:#?}");
}

/// Of the program one module knows on which system it is; of the core, which has a test of its own, one floor.
#[test]
fn only_one_module_knows_the_system() {
    fn files(folder: &Path) -> Vec<PathBuf> {
        let entries = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
        entries.flat_map(|path| if path.is_dir() { files(&path) } else { vec![path] }).collect()
    }
    let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let knows = |path: &PathBuf| {
        let text = fs::read_to_string(path).unwrap();
        ["std::os::", "rustix::", "cfg(unix", "cfg(windows", "target_os"].iter().any(|sign| text.contains(sign))
    };
    let knowing: Vec<PathBuf> = files(&source).into_iter().filter(knows).collect();
    assert!(!knowing.is_empty());
    let others: Vec<&PathBuf> = knowing.iter().filter(|path| !path.starts_with(source.join("system"))).collect();
    assert_eq!(others, Vec::<&PathBuf>::new());
}
