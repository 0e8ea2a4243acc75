//! A folder as an enemy would fill it: bombs, wide tables, links, odd names, files that are
//! not what they say. The good file among them is worked at once, everything else is held
//! with its reason, and the service lives, small.

use std::fs;
use std::io::{self, Read};
use std::os::unix::fs::symlink;
use std::path::Path;
use std::time::{Duration, Instant};

use zip::ZipWriter;
use zip::write::SimpleFileOptions;

use crate::support::{TestHome, text};

/// Bytes that the service may come to hold: far less than any of the bombs describes.
const MOST_MEMORY_KIB: u64 = 700 << 10;

fn packed(path: &Path, parts: &mut [(&str, &mut dyn Read)]) {
    let mut writer = ZipWriter::new(fs::File::create(path).unwrap());
    for (name, content) in parts {
        writer.start_file(*name, SimpleFileOptions::default()).unwrap();
        io::copy(content, &mut writer).unwrap();
    }
    writer.finish().unwrap().sync_all().unwrap();
}

/// A workbook of one sheet with this content, which may be larger than any memory.
fn workbook(path: &Path, sheet: &mut dyn Read) {
    let types = br#"<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/><Override PartName="/xl/workbook.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.sheet.main+xml"/><Override PartName="/xl/worksheets/sheet1.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.worksheet+xml"/></Types>"#;
    let roots = br#"<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="r1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/officeDocument" Target="xl/workbook.xml"/></Relationships>"#;
    let book = br#"<workbook xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main" xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"><sheets><sheet name="tide" sheetId="1" r:id="r1"/></sheets></workbook>"#;
    let sheets = br#"<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="r1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/worksheet" Target="worksheets/sheet1.xml"/></Relationships>"#;
    packed(
        path,
        &mut [
            ("[Content_Types].xml", &mut &types[..]),
            ("_rels/.rels", &mut &roots[..]),
            ("xl/workbook.xml", &mut &book[..]),
            ("xl/_rels/workbook.xml.rels", &mut &sheets[..]),
            ("xl/worksheets/sheet1.xml", sheet),
        ],
    );
}

fn sheet(inner: impl Read) -> impl Read {
    let begin = &br#"<worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><sheetData>"#[..];
    begin.chain(inner).chain(&b"</sheetData></worksheet>"[..])
}

fn cell(inner: impl Read) -> impl Read {
    let begin = &br#"<row r="1"><c r="A1" t="inlineStr"><is><t>"#[..];
    begin.chain(inner).chain(&b"</t></is></c></row>"[..])
}

/// An open document whose repeats describe this many rows and columns.
fn repeating(path: &Path, rows: u64, columns: u64) {
    document(
        path,
        &format!(
            r#"<table:table-row table:number-rows-repeated="{rows}"><table:table-cell table:number-columns-repeated="{columns}" office:value-type="string"><text:p>x</text:p></table:table-cell></table:table-row>"#
        ),
    );
}

/// An open document of one sheet with these rows.
fn document(path: &Path, rows: &str) {
    let content = format!(
        r#"<office:document-content xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0" xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0"><office:body><office:spreadsheet><table:table table:name="tide">{rows}</table:table></office:spreadsheet></office:body></office:document-content>"#
    );
    let kind = b"application/vnd.oasis.opendocument.spreadsheet";
    let manifest = br#"<manifest:manifest xmlns:manifest="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0"><manifest:file-entry manifest:full-path="/" manifest:media-type="application/vnd.oasis.opendocument.spreadsheet"/></manifest:manifest>"#;
    // The kind may stand anywhere.
    packed(
        path,
        &mut [
            ("META-INF/manifest.xml", &mut &manifest[..]),
            ("content.xml", &mut content.as_bytes()),
            ("mimetype", &mut &kind[..]),
        ],
    );
}

fn wide(columns: usize, rows: usize) -> String {
    let line = |make: &dyn Fn(usize) -> String| {
        (0..columns).map(make).collect::<Vec<_>>().join(",") + "\n"
    };
    let header = line(&|column| format!("c{column}"));
    header + &line(&|column| column.to_string()).repeat(rows)
}

/// The largest resident memory of a process so far.
fn most_memory(pid: i32) -> u64 {
    let status = fs::read_to_string(format!("/proc/{pid}/status")).unwrap();
    let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:")).unwrap();
    line.split_whitespace().next().unwrap().parse().unwrap()
}

/// Files that hold no table which can be read, and the words that say why.
fn bad(at: &Path) -> Vec<(&'static str, &'static str)> {
    let blanks = || io::repeat(b' ').take(48 << 20);
    repeating(&at.join("cells.ods"), 92_000, 1_024);
    workbook(&at.join("cell.xlsx"), &mut sheet(cell(io::repeat(b'A').take(48 << 20))));
    workbook(&at.join("blanks.xlsx"), &mut sheet(blanks()));
    fs::write(at.join("columns.csv"), wide(16_385, 1)).unwrap();
    let records: String = (0..40)
        .map(|record| {
            let keys = (0..500).map(|key| format!("\"k{record}_{key}\":1"));
            format!("{{{}}}\n", keys.collect::<Vec<_>>().join(","))
        })
        .collect();
    fs::write(at.join("keys.jsonl"), records).unwrap();
    fs::write(at.join("page.csv"), "<!DOCTYPE html>\n<html><body>Sign in</body></html>\n").unwrap();
    packed(&at.join("archive.csv"), &mut [("a.csv", &mut &b"t,l\n1,2\n"[..])]);
    vec![
        ("cells.ods", "cells"),
        ("cell.xlsx", "cell"),
        ("blanks.xlsx", ""),
        ("columns.csv", "16384"),
        ("keys.jsonl", "16384"),
        ("page.csv", "HTML"),
        ("archive.csv", "zip"),
    ]
}

#[test]
fn a_hostile_folder_stops_nothing_and_each_file_of_it_is_held_with_its_reason() {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops\"\nsettle = \"20ms\"\nsweep = \"300ms\"\nsubfolders = true\n\
         archive = { into = \"archive\" }\n[gate.tide.merge]\ninto = \"out/<stem>.csv\"\n\
         [gate.calm]\ndrop = \"calm\"\nsettle = \"20ms\"\nsweep = \"300ms\"\narchive = { into = \"calmed\" }\n",
    );
    let (drops, making) = (coast.folder("drops"), coast.folder("making"));
    coast.folder("calm");
    let expected = bad(&making);
    let secret = tempfile::tempdir().unwrap();
    fs::write(secret.path().join("secret.csv"), "t,l\n6,6\n").unwrap();
    symlink(secret.path(), drops.join("folder")).unwrap();
    symlink(secret.path().join("secret.csv"), drops.join("secret.csv")).unwrap();
    let service = coast.serve();
    for (name, _) in &expected {
        fs::rename(making.join(name), drops.join(name)).unwrap();
    }
    let odd = "line\nbreak \u{1b}[31m.csv";
    coast.drop(&format!("drops/{odd}"), "t,l\n1,2\n");
    coast.drop("drops/good.csv", "t,l\n3,4\n");
    let begun = Instant::now();
    coast.drop("calm/a.csv", "1");
    coast.wait("another gate goes on", |coast| coast.files("calmed").len() == 1);
    assert!(begun.elapsed() < Duration::from_secs(10), "{:?}", begun.elapsed());
    coast.wait("the good ones are filed", |coast| coast.files("archive").len() == 2);
    coast.wait("the others are held", |coast| {
        let ledger = coast.ledger();
        ledger.iter().filter(|entry| entry["state"] == "held").count() == expected.len()
    });
    for (name, words) in expected {
        let entry = coast.entry(name);
        let reason = text(&entry, "reason");
        assert!(!reason.is_empty() && reason.contains(words), "{name}: {reason}");
        assert!(!reason.contains("fault of vadegate"), "{name}: {reason}");
    }
    assert!(most_memory(service.pid()) < MOST_MEMORY_KIB, "{} KiB", most_memory(service.pid()));
    assert_eq!(fs::read_dir(secret.path()).unwrap().count(), 1, "nothing outside was touched");
    assert!(!coast.files("out").iter().any(|file| coast.read(file).contains("6,6")));
    assert_eq!(coast.run("verify --deep").code, 0);
    assert_eq!(service.stop(), Some(0));
}

#[test]
fn a_table_of_as_many_columns_as_a_sheet_has_is_merged() {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops\"\nsettle = \"20ms\"\nsweep = \"300ms\"\n\
         archive = { into = \"archive\" }\n[gate.tide.merge]\ninto = \"out.csv\"\n",
    );
    let table = wide(16_384, 3);
    coast.drop("drops/a.csv", &table);
    crate::passes::rest(&coast);
    let begun = Instant::now();
    assert_eq!(coast.run("pass --wait").code, 0);
    assert!(coast.read("out.csv") == table, "the table as it was");
    // Far above what it takes, far below what a square of the columns would.
    assert!(begun.elapsed() < Duration::from_secs(20), "{:?}", begun.elapsed());
}

#[test]
fn what_comes_from_a_name_is_one_part_of_a_tables_name() {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops\"\nsettle = \"20ms\"\narchive = { into = \"archive\" }\n\
         [gate.tide.load]\nto = \"sqlite:out.db\"\ntable = \"<stem>\"\nif_missing = \"create\"\n",
    );
    coast.drop("drops/x.y.csv", "t,l\n1,2\n");
    crate::passes::rest(&coast);
    let ran = coast.run("pass --wait");
    assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
    let path = coast.path("out.db");
    let db = rusqlite::Connection::open(&path).unwrap();
    let count: i64 = db.query_row("SELECT count(*) FROM \"x.y\"", [], |row| row.get(0)).unwrap();
    assert_eq!(count, 1);
    drop(db);
    // A link in its place leads nowhere.
    let elsewhere = tempfile::tempdir().unwrap();
    let other = elsewhere.path().join("other.db");
    fs::rename(&path, &other).unwrap();
    symlink(&other, &path).unwrap();
    coast.drop("drops/x.y.csv", "t,l\n3,4\n");
    crate::passes::rest(&coast);
    let ran = coast.run("pass");
    assert!(ran.code == 1 && ran.out.contains("links are not followed"), "{}", ran.out);
    let db = rusqlite::Connection::open(&other).unwrap();
    let count: i64 = db.query_row("SELECT count(*) FROM \"x.y\"", [], |row| row.get(0)).unwrap();
    assert_eq!(count, 1, "nothing was loaded outside");
}

#[test]
fn values_of_tables_are_as_they_stand() {
    let coast = TestHome::new("");
    let sample = |name: &str, more: &str| coast.run(&format!("sample {name} {more}")).out;
    coast.drop("digits.jsonl", "{\"n\":123456789012345678901234567890.10}\n");
    assert!(sample("digits.jsonl", "--json").contains("123456789012345678901234567890.10"));
    coast.drop("exponents.csv", "n\n1e3\n2.5E-2\n");
    assert!(sample("exponents.csv", "").contains("1e3"), "as it stands");
    coast.drop("marked.csv", b"\xEF\xBB\xBFname,level\nullin,1\n");
    let json = sample("marked.csv", "--json");
    assert!(json.contains("\"name\"") && !json.contains('\u{feff}'), "{json}");
    let (shown, _, _) = encoding_rs::SHIFT_JIS.encode("港,水位\n霧,1\n");
    let row = |cells: &str| format!("<table:table-row>{cells}</table:table-row>");
    let cell = |kind: &str, value: &str| {
        format!(
            "<table:table-cell office:value-type=\"{kind}\" office:value=\"{value}\"><text:p>{value}</text:p></table:table-cell>"
        )
    };
    let header =
        row("<table:table-cell office:value-type=\"string\"><text:p>l</text:p></table:table-cell>");
    document(
        &coast.path("odd.ods"),
        &(header.clone()
            + &row(
                "<table:table-cell office:value-type=\"void\"><text:p>kept</text:p></table:table-cell>",
            )),
    );
    assert!(sample("odd.ods", "--json").contains("\"kept\""));
    document(&coast.path("spaced.ods"), &(header.clone() + &row(&cell("float", " 1.5 "))));
    assert!(sample("spaced.ods", "--json").contains("\"1.5\""));
    document(&coast.path("none.ods"), &(header + &row(&cell("float", "seven"))));
    let told = coast.run("sample none.ods");
    assert!(told.err.contains("cell A2 is said to be a number, and is `seven`"), "{}", told.err);
    coast.drop("japanese.csv", &shown);
    let told = sample("japanese.csv", "--encoding shift_jis");
    assert!(told.contains("港") && told.contains('霧'), "{told}");
}
