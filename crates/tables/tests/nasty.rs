//! Small files as people really send them: each is read, or it is told what is wrong.

#![allow(clippy::unwrap_used, reason = "a test may fail so")]

use std::collections::BTreeSet;
use std::fs::File;
use std::path::Path;

use vadegate_tables::source::{Table, each_table};
use vadegate_tables::{Bytes, Fault, Reading, Row};

/// The columns and rows of a file, a line each.
fn read(name: &str) -> Result<Vec<String>, Fault> {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/nasty").join(name);
    let file = File::open(path).unwrap();
    let mut lines = Vec::new();
    each_table(Bytes::of(&file), &Reading::default(), &mut |table: &mut dyn Table| {
        lines.push(table.columns().join("|"));
        let mut row = Row::default();
        while table.next(&mut row)? {
            let cells: Vec<String> = row.cells().map(|cell| cell.to_text()).collect();
            lines.push(cells.join("|"));
        }
        Ok::<bool, Fault>(true)
    })?;
    Ok(lines)
}

const SOUND: [(&str, &[&str]); 15] = [
    ("plain.csv", &["time|level_m", "06:00|1.5"]),
    ("mark-crlf.csv", &["time|level_m", "06:00|1,5"]),
    ("carriage-returns.csv", &["time|level_m", "06:00|1.5", "07:00|2"]),
    ("utf-16.csv", &["time|station", "06:00|Brón Strand"]),
    ("utf-16-no-mark.csv", &["time|station", "06:00|Ullin Bay", "07:00|Tarn Ness"]),
    ("windows-1252.csv", &["time|station", "06:00|Brón Strand"]),
    ("newline-in-quotes.csv", &["time|note", "06:00|wind,\n\"gusts\""]),
    ("header-only.csv", &["time|level_m"]),
    ("only-delimiters.csv", &["time|level_m", "|", "|"]),
    ("lines.jsonl", &["time|level_m", "06:00|", "|2"]),
    ("errors.xlsx", &["day|level_m|code", "2026-01-31|1.5|007", "2026-02-01|#DIV/0!|008"]),
    ("1904.xlsx", &["day", "2026-01-31"]),
    ("old.xls", &["day|level_m|code", "2026-01-31|1.5|007"]),
    ("sheet.ods", &["day|level_m|code", "2026-01-31|1.5|007"]),
    ("twice-named.csv", &["time|Time", "1|2"]),
];

const FAULTY: [(&str, &str); 13] = [
    ("broken-utf-8.csv", "line 3: not valid UTF-8"),
    ("open-quote.csv", "line 2: a quote opened here is never closed"),
    ("bare-quote.csv", "line 2: a bare quote inside field 2"),
    ("ragged.csv", "line 2: 1 fields where the header has 2"),
    ("no-header.csv", "line 1: this is a row of values, not a header"),
    ("empty.csv", "is empty"),
    ("zero-bytes.csv", "it has zero bytes as no text has"),
    ("cut-off.csv.gz", "cannot be read"),
    ("cut-off.json", "line 1: a record is never closed; was the file cut off?"),
    ("document.pdf", "a PDF document"),
    ("damaged.xlsx", "no workbook that can be read"),
    ("damaged.xls", "no workbook that can be read"),
    ("protected.xlsx", "the workbook is protected by a password"),
];

#[test]
fn what_is_sound_is_read_as_it_stands() {
    for (name, expected) in SOUND {
        assert_eq!(read(name).unwrap(), expected, "{name}");
    }
    assert_eq!(read("packed.csv.gz").unwrap().len(), 501);
}

#[test]
fn what_is_not_is_told_in_words() {
    for (name, words) in FAULTY {
        let error = read(name).unwrap_err().to_string();
        assert!(error.contains(words), "{name}: {error}");
    }
}

#[test]
fn every_file_is_in_one_of_the_lists() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/nasty");
    let there: BTreeSet<String> = std::fs::read_dir(folder)
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .collect();
    let listed = SOUND.iter().map(|(name, _)| *name).chain(FAULTY.iter().map(|(name, _)| *name));
    let listed = listed.chain(["packed.csv.gz"]).map(str::to_owned);
    assert_eq!(there, listed.collect());
}
