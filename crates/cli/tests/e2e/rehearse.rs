//! A rehearsal tells what a pass would do, and touches nothing.

use std::fs;
use std::os::unix::fs::MetadataExt;

use serde_json::Value;

use crate::passes::rest;
use crate::support::{TestHome, text};

const GATES: &str = r#"
[gate.tide]
drop = "drops/tide"
settle = "20ms"
take = ["<station>_<n:int>.csv"]
order = "<n>"
archive = { into = "archive/<station>" }
[gate.tide.merge]
into = "out/<station>.csv"
add = { source = "<name>" }
[gate.tide.hold]
into = "held"

[gate.job]
drop = "drops/job"
settle = "20ms"
archive = { into = "archive/job/<name>" }
[gate.job.run]
program = "/bin/true"

[gate.picture]
drop = "drops/picture"
settle = { marker = "<name>.ok" }
archive = { into = "archive/picture" }
"#;

/// Every file with its content and times, and every row of the ledger.
fn snapshot(coast: &TestHome) -> Vec<String> {
    let mut lines = Vec::new();
    for file in coast.files(".").iter().filter(|file| !file.starts_with("state/")) {
        let meta = fs::symlink_metadata(coast.path(file)).unwrap();
        let times =
            (meta.atime_nsec(), meta.atime(), meta.mtime_nsec(), meta.ctime_nsec(), meta.ino());
        // Reading it here leaves its time of access behind; it is read last.
        lines.push(format!("{file} {times:?} {}", meta.len()));
    }
    for folder in ["drops/tide", "drops/job", "drops/picture", "out", "archive", "."] {
        if let Ok(meta) = fs::metadata(coast.path(folder)) {
            lines.push(format!("{folder} {} {}", meta.mtime_nsec(), meta.ctime_nsec()));
        }
    }
    let ledger = rusqlite::Connection::open(coast.path("state/ledger.db")).unwrap();
    for table in ["entry", "history", "batch", "output", "tally", "activity"] {
        let mut select = ledger.prepare(&format!("SELECT * FROM {table}")).unwrap();
        let columns = select.column_count();
        let mut rows = select.query([]).unwrap();
        while let Some(row) = rows.next().unwrap() {
            let row: Vec<String> =
                (0..columns).map(|at| format!("{:?}", row.get_ref(at).unwrap())).collect();
            lines.push(format!("{table} {}", row.join(" ")));
        }
    }
    lines
}

fn coast() -> TestHome {
    let coast = TestHome::new(GATES);
    // What an earlier pass has left.
    coast.drop("drops/tide/ullin_1.csv", "x\n1\n");
    coast.drop("drops/job/old.dat", "old");
    coast.folder("drops/picture");
    rest(&coast);
    coast.run("pass");
    assert_eq!(coast.ledger().len(), 2);
    for (name, content) in [
        ("tide/ullin_10.csv", "x\n10\n"),
        ("tide/ullin_9.csv", "x\n9\n"),
        ("tide/garrow_2.csv", "y\n2\n"),
        ("tide/ullin_3.csv", "x\n1\n"),
        ("tide/ullin_4.csv", "x\n9\n"),
        ("tide/ullin_5.csv", "x\n1\n1,2\n"),
        ("tide/ullin_6.csv", "z\n1\n"),
        ("tide/misnamed.csv", "x\n1\n"),
        ("tide/ullin_7.csv", ""),
        ("job/old.dat", "new"),
        ("picture/a.png", "a"),
        ("picture/b.png", "b"),
        ("picture/b.png.ok", ""),
    ] {
        coast.drop(&format!("drops/{name}"), content);
    }
    rest(&coast);
    coast
}

fn rehearsed<'a>(files: &'a Value, path: &str) -> &'a Value {
    let found = files.as_array().unwrap().iter().find(|file| file["path"] == path);
    found.unwrap_or_else(|| panic!("no {path} in {files:#}"))
}

#[test]
fn not_one_byte_time_or_row_changes() {
    let coast = coast();
    let before = snapshot(&coast);
    for line in ["rehearse", "rehearse tide", "rehearse --json"] {
        assert_eq!(coast.run(line).code, 0);
        assert_eq!(snapshot(&coast), before, "{line}");
    }
    // Through a running service too, whose gates are kept from passing.
    for gate in ["tide", "job", "picture"] {
        coast.run(&format!("pause {gate}"));
    }
    let service = coast.serve();
    let before = snapshot(&coast);
    assert_eq!(coast.run("rehearse").code, 0);
    assert_eq!(snapshot(&coast), before);
    drop(service);
}

#[test]
fn it_tells_what_the_pass_then_does() {
    let coast = coast();
    let files = coast.json("rehearse");
    let because = |path: &str| text(rehearsed(&files, path), "because").to_owned();
    let will = |path: &str| text(rehearsed(&files, path), "will").to_owned();
    assert_eq!(will("ullin_9.csv"), "repeat");
    assert_eq!(because("ullin_9.csv"), "a repeat of `ullin_4.csv`, which comes before it");
    assert_eq!(because("ullin_3.csv"), "a repeat of entry 1");
    assert_eq!(because("ullin_5.csv"), "line 3: 2 fields where the header has 1");
    assert!(because("ullin_6.csv").contains("column `z` is not in the output"));
    assert_eq!(because("ullin_7.csv"), "it is empty (0 bytes): nothing to work or to keep");
    assert_eq!(because("a.png"), "it waits for the marker `a.png.ok`");
    assert!(files.as_array().unwrap().iter().all(|file| file["path"] != "misnamed.csv"));
    assert_eq!(rehearsed(&files, "ullin_10.csv")["mode"], "append");
    assert_eq!(rehearsed(&files, "garrow_2.csv")["mode"], "create");
    assert_eq!(rehearsed(&files, "old.dat")["program"], "/bin/true");

    coast.run("pass");
    for file in files.as_array().unwrap() {
        let (path, will) = (text(file, "path"), text(file, "will"));
        let ledger = coast.ledger();
        let entry =
            ledger.iter().find(|entry| entry["path"] == path && entry["id"].as_i64() > Some(2));
        let Some(entry) = entry else {
            assert_eq!(will, "wait", "{path} has no entry");
            continue;
        };
        let state = match will {
            "hold" => "held",
            "work" | "file" | "repeat" => "filed",
            other => panic!("{path}: {other}"),
        };
        assert_eq!(text(entry, "state"), state, "{path}");
        assert_eq!(entry["filed_to"], file["filed_to"], "{path}");
        assert_eq!(entry["repeat_of"].is_null(), will != "repeat", "{path}");
        if will == "hold" {
            assert_eq!(entry["reason"], file["because"], "{path}");
        }
        if let Some(output) = file["output"].as_str() {
            let detail = coast.json(&format!("entry {}", entry["id"]));
            assert_eq!(detail["worked_in"]["outputs"][0]["path"], output, "{path}");
        }
    }
}

#[test]
fn nothing_to_do_is_said() {
    let coast = TestHome::new(GATES);
    for gate in ["tide", "job", "picture"] {
        coast.folder(&format!("drops/{gate}"));
    }
    let ran = coast.run("rehearse");
    assert_eq!((ran.code, ran.out.starts_with("A pass would do nothing")), (0, true));
    assert_eq!(coast.run("rehearse nosuch").code, 2);
}
