//! Promises about outputs: they are known again, and nothing is written over what is not ours.

use std::fs;
use std::io::Write;
use std::os::unix::fs::MetadataExt;

use serde_json::Value;

use crate::faults::Mount;
use crate::passes::{pass, rest};
use crate::promises::{merging, problems};
use crate::support::{TestHome, text};

#[test]
fn a_full_disk_under_a_workbook_ends_no_gate_and_holds_no_source() {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops\"\nsettle = \"20ms\"\nsweep = \"200ms\"\n\
         archive = { into = \"archive\" }\n[gate.tide.merge]\ninto = \"small/all.xlsx\"\n",
    );
    let Some(_mount) = Mount::tmpfs(&coast.folder("small"), "4m") else {
        eprintln!("not tested: a file system cannot be mounted here");
        return;
    };
    let service = coast.serve();
    coast.drop("drops/0.csv", "t,l\n0,0\n");
    coast.wait("the first is filed", |coast| coast.files("archive").len() == 1);
    fs::write(coast.path("small/ballast"), vec![0; 3900 << 10]).unwrap();
    let rows: String = (0..30_000).map(|row| format!("{row},{}\n", row * 7919)).collect();
    coast.drop("drops/1.csv", format!("t,l\n{rows}"));
    coast.wait("the trouble is told", |coast| problems(coast, "tide") != "[]");
    coast.drop("drops/2.csv", "t,l\n2,2\n");
    coast.wait("what comes is still entered", |coast| coast.ledger().len() == 3);
    assert!(
        coast.ledger().iter().all(|entry| text(entry, "state") != "held"),
        "{:?}",
        coast.ledger()
    );
    fs::remove_file(coast.path("small/ballast")).unwrap();
    coast.wait("all are filed", |coast| coast.files("archive").len() == 3);
    drop(service);
    let sample = coast.run("sample small/all.xlsx --json --rows 100000");
    let sample: Value = serde_json::from_str(&sample.out).unwrap();
    assert_eq!(sample["tables"][0]["rows"], 30_002);
}

#[test]
fn a_damaged_output_of_ours_holds_no_source() {
    let coast = merging("", "exists = \"append\"");
    let config = fs::read_to_string(coast.path("vadegate.toml")).unwrap();
    fs::write(coast.path("vadegate.toml"), config.replace("all.csv", "all.xlsx")).unwrap();
    fs::create_dir_all(coast.path("out")).unwrap();
    fs::write(coast.path("out/all.xlsx"), b"PK\x03\x04 no workbook").unwrap();
    coast.drop("drops/a.csv", "t,l\n1,2\n");
    rest(&coast);
    let ran = coast.run("pass --wait");
    assert_eq!(ran.code, 1, "{}", ran.out);
    assert!(ran.out.contains("its files wait"), "{}", ran.out);
    assert_eq!(coast.entry("a.csv")["state"], "ready");
    fs::remove_file(coast.path("out/all.xlsx")).unwrap();
    assert_eq!(coast.run("pass").code, 0);
    assert_eq!(coast.entry("a.csv")["state"], "filed");
}

#[test]
fn bytes_written_behind_an_output_are_told_by_verify_and_by_the_next_append() {
    for ending in ["csv", "jsonl", "xlsx", "parquet", "csv.gz"] {
        let exists = if matches!(ending, "parquet" | "csv.gz") { "replace" } else { "append" };
        let coast = merging("", &format!("exists = \"{exists}\""));
        let config = fs::read_to_string(coast.path("vadegate.toml")).unwrap();
        fs::write(coast.path("vadegate.toml"), config.replace("all.csv", &format!("all.{ending}")))
            .unwrap();
        coast.drop("drops/a.csv", "t,l\n1,2\n");
        assert_eq!(pass(&coast, "tide")["worked"], 1, "{ending}");
        assert_eq!(coast.run("verify --deep").code, 0, "{ending}");
        let output = coast.path(&format!("out/all.{ending}"));
        let line: &[u8] =
            if ending == "jsonl" { b"{\"t\": \"7\", \"l\": \"8\"}\n" } else { b"7,8\n" };
        fs::File::options().append(true).open(&output).unwrap().write_all(line).unwrap();
        for deep in ["verify", "verify --deep"] {
            let ran = coast.run(deep);
            assert_eq!(ran.code, 1, "{ending} {deep}: {}", ran.out);
            assert!(ran.out.contains("behind what was written last"), "{ending}: {}", ran.out);
        }
        if matches!(ending, "csv" | "jsonl") {
            coast.drop("drops/b.csv", "t,l\n3,4\n");
            let report = pass(&coast, "tide");
            assert!(
                report["problems"].to_string().contains("changed by somebody else"),
                "{report}"
            );
            assert_eq!(
                fs::read_to_string(&output).unwrap().lines().count(),
                if ending == "csv" { 4 } else { 3 }
            );
            let ran = coast.run("verify --deep");
            assert!(ran.out.contains("are not ours"), "{}", ran.out);
        }
    }
}

#[test]
fn a_gate_never_takes_its_own_output() {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops\"\nsettle = \"20ms\"\nsweep = \"200ms\"\narchive = { into = \"archive\" }\n\
         [gate.tide.merge]\ninto = \"drops/all.csv\"\naccount = true\n",
    );
    coast.folder("drops");
    let check = coast.run("check");
    assert_eq!(check.code, 2, "{}", check.out);
    assert!(check.out.contains("lies in the gate's own drop folder"), "{}", check.out);
    for number in 0..4 {
        coast.drop(&format!("drops/{number}.csv"), format!("t,l\n{number},2\n"));
        pass(&coast, "tide");
    }
    assert_eq!(coast.read("drops/all.csv").lines().count(), 5);
    assert_eq!(coast.ledger().len(), 4);
    let files = coast.json("files tide");
    let output =
        files.as_array().unwrap().iter().find(|file| text(file, "name") == "all.csv").unwrap();
    assert_eq!(
        (text(output, "verdict"), text(output, "because")),
        ("leave", "it is an output of this gate, and no source")
    );
    assert_eq!(coast.run("verify --deep").code, 0);
    // Also under another name.
    fs::rename(coast.path("drops/all.csv"), coast.path("drops/kept.csv")).unwrap();
    assert_eq!(pass(&coast, "tide")["entered"], 0);
}

#[test]
fn a_file_that_got_the_inode_of_an_earlier_output_is_a_source() {
    // What is staged and removed gives its inode back, and the next file has it.
    let coast = merging("", "exists = \"replace\"");
    let config = fs::read_to_string(coast.path("vadegate.toml")).unwrap();
    fs::write(coast.path("vadegate.toml"), config.replace("out/all.csv", "all.csv")).unwrap();
    let service = coast.serve();
    for number in 0..30 {
        coast.drop(&format!("drops/{number}.csv"), format!("t,l\n{number},2\n"));
        coast.wait("it is filed", |coast| coast.files("archive").len() == number + 1);
        // A consumer takes the output away.
        if number % 3 == 0 {
            coast.wait("the output is there", |coast| coast.path("all.csv").is_file());
            fs::remove_file(coast.path("all.csv")).unwrap();
        }
    }
    drop(service);
}

#[test]
fn a_file_as_old_as_its_inode_is_a_source_when_the_inode_was_an_outputs() {
    let coast = merging("", "exists = \"replace\"");
    let config = fs::read_to_string(coast.path("vadegate.toml")).unwrap();
    fs::write(coast.path("vadegate.toml"), config.replace("out/all.csv", "all.csv")).unwrap();
    coast.drop("drops/0.csv", "t,l\n0,2\n");
    assert_eq!(pass(&coast, "tide")["worked"], 1);
    let output = fs::metadata(coast.path("all.csv")).unwrap();
    fs::remove_file(coast.path("all.csv")).unwrap();
    // Of the same length, with the time that the supplier keeps: older than the output.
    let long_ago = output.modified().unwrap() - std::time::Duration::from_secs(3600);
    let heir = (0..2000).map(|number| coast.path(&format!("heir-{number}"))).find(|path| {
        fs::write(path, "t,l\n1,2\n").unwrap();
        fs::metadata(path).unwrap().ino() == output.ino()
    });
    let Some(heir) = heir else {
        eprintln!("not tested: this file system gives no inode again");
        return;
    };
    fs::File::options().append(true).open(&heir).unwrap().set_modified(long_ago).unwrap();
    fs::rename(heir, coast.path("drops/1.csv")).unwrap();
    rest(&coast);
    assert_eq!(pass(&coast, "tide")["worked"], 1, "{}", coast.run("files tide").out);
}

#[test]
fn a_merge_by_hand_tells_of_outputs_of_earlier_ones_that_it_takes_with_a_folder() {
    let coast = TestHome::new("");
    coast.drop("in/a.csv", "t,l\n1,2\n");
    assert_eq!(coast.run("merge in -o in/all.csv").code, 0);
    let again = coast.run("merge in -o in/all.csv --exists replace");
    assert_eq!(
        coast.read("in/all.csv"),
        "t,l\n1,2\n",
        "its own output is no source: {}",
        again.err
    );
    fs::rename(coast.path("in/all.csv"), coast.path("in/yesterday.csv")).unwrap();
    let other = coast.run("merge in -o in/new.csv");
    let words = "in/yesterday.csv: was made by an earlier merge, so its rows may stand twice";
    assert!(other.code == 0 && other.err.contains(words), "{}", other.err);
    let named = coast.run("merge in/a.csv in/yesterday.csv -o named.csv");
    assert!(!named.err.contains("earlier merge"), "who names it means it: {}", named.err);
}

#[test]
fn an_archive_that_cannot_be_named_is_told_and_leaves_no_file_in_silence() {
    let coast = TestHome::new(
        "[gate.tide]\ndrop = \"drops\"\nsettle = \"20ms\"\ntake = [\"<station>_*.csv\", \"*.csv\"]\narchive = { into = \"archive/<station>\" }\n\
         [gate.tide.merge]\ninto = \"out.csv\"\n",
    );
    coast.drop("drops/plain.csv", "t,l\n1,2\n");
    let ran = coast.run("pass --wait");
    let told = format!("{}{}", ran.out, coast.run("gates").out);
    assert_eq!(ran.code, 1, "{told}");
    assert!(told.contains("station"), "{told}");
    let state = coast.entry("plain.csv")["state"].clone();
    assert!(state == "worked" || state == "held", "{state}");
    assert_eq!(coast.files("drops"), ["drops/plain.csv"]);
    assert_eq!(coast.run("pass").code, 1, "it is told as long as it lasts");
}
