//! Names of every kind, from the drop folder to the archive and back to who reads them.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::Path;

use serde_json::Value;
use zip::ZipWriter;
use zip::write::SimpleFileOptions;

use crate::passes::pass;
use crate::support::{TestHome, filing_gate, text};

/// Names that a file system takes, and that mean something to somebody on the way.
fn names() -> Vec<String> {
    let mut names: Vec<String> = [
        "plain.csv",
        "-rf.csv",
        "--help",
        " leading and trailing ",
        "new\nline.csv",
        "escape\u{1b}[31m\u{1b}[2J.csv",
        "turned\u{202e}vsc.exe",
        "'quoted\" `here` $(touch x).csv",
        "a..b.csv",
        "<station>_<name>.csv",
        "%2e%2e%2f.csv",
        "~root",
        "*?[a].csv",
        "tab\tand\\backslash.csv",
        "ö\u{308}é\u{65}\u{301}.csv",
        "\u{1F30A}.csv",
    ]
    .map(str::to_owned)
    .into();
    // As long as a name can be, in letters of one byte and of several, with an ending and without.
    names.push(format!("{}.csv", "x".repeat(251)));
    names.push("y".repeat(255));
    names.push(format!("{}.csv", "ö".repeat(125)));
    names.push(format!("{}.c", "\u{1F30A}".repeat(63)));
    names
}

fn all_in(folder: &Path) -> BTreeMap<String, String> {
    let files = fs::read_dir(folder).unwrap().map(Result::unwrap);
    files
        .map(|one| {
            let name = one.file_name().into_string().unwrap();
            (name, fs::read_to_string(one.path()).unwrap())
        })
        .collect()
}

/// What is printed does nothing to a terminal, but for the ends of its lines.
fn is_quiet(printed: &str) -> bool {
    let bad = |letter: char| {
        letter != '\n' && letter.is_control() || ('\u{202a}'..='\u{202e}').contains(&letter)
    };
    !printed.contains(bad)
}

#[test]
fn a_name_of_any_kind_is_filed_again_and_again_over_nothing() {
    let coast = TestHome::new(&filing_gate("tide", ""));
    let names = names();
    for round in 0..3 {
        for (number, name) in names.iter().enumerate() {
            coast.drop(&format!("drops/tide/{name}"), format!("{round} {number}\n"));
        }
        let report = pass(&coast, "tide");
        assert_eq!(report["problems"].as_array().map(Vec::len), Some(0), "{report}");
        assert!(coast.files("drops").is_empty(), "{:?}", coast.files("drops"));
    }
    let filed = all_in(&coast.path("archive/tide"));
    assert_eq!(filed.len(), 3 * names.len(), "{:?}", filed.keys());
    let contents: BTreeSet<&String> = filed.values().collect();
    assert_eq!(contents.len(), 3 * names.len(), "each content is there once");
    // The first of each has its own name, and the others are known by it.
    for (number, name) in names.iter().enumerate() {
        assert_eq!(filed.get(name), Some(&format!("0 {number}\n")), "{name:?}");
    }
    let ledger = coast.ledger();
    assert_eq!(ledger.len(), 3 * names.len());
    for entry in &ledger {
        assert_eq!(text(entry, "state"), "filed", "{entry}");
        let there = fs::read_to_string(text(entry, "filed_to")).unwrap();
        assert!(filed.values().any(|content| *content == there));
        assert!(names.iter().any(|name| name == text(entry, "path")), "{entry}");
    }
    assert!(coast.run("verify --deep").code == 0);
}

#[test]
fn who_reads_of_odd_names_sees_them_and_nothing_happens() {
    let coast = TestHome::new(&filing_gate("tide", "take = [\"*.csv\"]"));
    for name in names() {
        coast.drop(&format!("drops/tide/{name}"), &name);
    }
    for command in
        ["files tide", "rehearse tide", "pass tide", "ledger", "gates", "board", "verify"]
    {
        let ran = coast.run(command);
        assert!(is_quiet(&ran.out), "{command}: {:?}", ran.out);
        assert!(is_quiet(&ran.err), "{command}: {:?}", ran.err);
    }
    pass(&coast, "tide");
    for entry in coast.ledger() {
        let shown = coast.run(&format!("entry {}", entry["id"]));
        assert_eq!(shown.code, 0, "{}", shown.err);
        assert!(is_quiet(&shown.out), "{:?}", shown.out);
    }
    // In what a program reads they stand as they are.
    let lines = coast.run("ledger export").out;
    let exported: BTreeSet<String> = lines
        .lines()
        .map(|line| text(&serde_json::from_str::<Value>(line).unwrap(), "path").to_owned())
        .collect();
    let taken: BTreeSet<String> =
        names().into_iter().filter(|name| name.ends_with(".csv")).collect();
    assert_eq!(exported, taken);
}

#[test]
fn a_fault_of_a_configuration_repeats_nothing_that_does_something() {
    let coast =
        TestHome::new("[gate.tide]\ndrop = \"drops\"\nsettle = \"\\u001b[31mred\\nline\"\n");
    for command in ["check", "gates", "pass"] {
        let ran = coast.run(command);
        assert_ne!(ran.code, 0, "{command}");
        let told = format!("{}{}", ran.out, ran.err);
        assert!(is_quiet(&told), "{command}: {told:?}");
        assert!(told.contains("\\x1b[31mred"), "{command}: {told}");
    }
}

#[test]
fn a_member_behind_a_drive_letter_holds_the_archive_wherever_the_letter_stands() {
    let coast = TestHome::new(
        "[gate.post]\ndrop = \"drops\"\nsettle = \"20ms\"\narchive = { into = \"archive\" }\n\
         [gate.post.unpack]\ninto = \"unpacked\"\n",
    );
    for (number, member) in ["C:/a.csv", "./C:/a.csv", ".//c:a.csv"].into_iter().enumerate() {
        let file = fs::File::create(coast.path("made.zip")).unwrap();
        let mut zip = ZipWriter::new(file);
        zip.start_file("good.csv", SimpleFileOptions::default()).unwrap();
        zip.start_file(member, SimpleFileOptions::default()).unwrap();
        zip.finish().unwrap();
        let content = fs::read(coast.path("made.zip")).unwrap();
        coast.drop(&format!("drops/{number}.zip"), content);
        pass(&coast, "post");
        let entry = coast.entry(&format!("{number}.zip"));
        assert_eq!(text(&entry, "state"), "held", "{member}");
        assert!(text(&entry, "reason").contains("drive letter"), "{member}: {entry}");
    }
    assert!(coast.files("unpacked").is_empty(), "{:?}", coast.files("unpacked"));
}
